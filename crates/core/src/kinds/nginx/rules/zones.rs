//! Shared memory zones and caches.
use super::super::state::{Directive, Reader, Rule};
use super::common::{named, uses_variables};
use crate::code::Code;
use crate::config::rows::{Int, Size, Time, Type};

pub(super) static DECLARED: Rule =
    Rule { names: &["limit_req_zone", "limit_conn_zone"], check: |r, d, _| declare_zone(r, d) };
pub(super) static CACHE: Rule = Rule {
    names: &["proxy_cache_path", "fastcgi_cache_path", "uwsgi_cache_path", "scgi_cache_path"],
    check: |r, d, _| cache_path(r, d),
};
pub(super) static VALID: Rule = Rule {
    names: &["proxy_cache_valid", "fastcgi_cache_valid", "uwsgi_cache_valid", "scgi_cache_valid"],
    check: |r, d, _| cache_valid(r, d),
};
pub(super) static REQUESTS: Rule = Rule {
    names: &["limit_req"],
    check: |r, d, _| {
        let zone = d.arguments().find_map(|a| a.strip_prefix("zone=")).map(str::to_owned);
        use_zone(r, d, zone);
    },
};
pub(super) static CONNECTIONS: Rule = Rule {
    names: &["limit_conn"],
    check: |r, d, _| {
        if !POSITIVE.holds(d.argument(1)) {
            let message = format!("\"{}\" is not a number of connections", d.argument(1));
            r.find_word(d, 1, Code::ConfigBadValue, message);
        }
        use_zone(r, d, Some(d.argument(0).to_owned()));
    },
};
pub(super) static USED: Rule = Rule {
    names: &["proxy_cache", "fastcgi_cache", "uwsgi_cache", "scgi_cache"],
    check: |r, d, _| {
        let name = d.argument(0);
        if name != "off" && !name.contains('$') {
            use_zone(r, d, Some(name.to_owned()));
        }
    },
};

/// A number of at least one.
const POSITIVE: Type = Type::Int(Int { least: Some(1), most: None });
/// Statuses of answers.
const STATUS: Type = Type::Int(Int { least: Some(100), most: Some(599) });
/// Sizes of memory.
const SIZE: Size = Size { units: "km", least: None };

fn declare_zone(r: &mut Reader, d: &Directive) {
    let key = d.argument(0).to_owned();
    uses_variables(r, d, &key);
    let Some(zone) = d.arguments().find_map(|a| a.strip_prefix("zone=")).map(str::to_owned) else {
        r.find(d, Code::ConfigBadValue, format!("\"{}\" must have a \"zone\" parameter", d.name()));
        return;
    };
    let (name, size) = zone.split_once(':').unwrap_or((&zone, ""));
    if name.is_empty() || SIZE.bytes(size).is_none_or(|n| n < 32 << 10) {
        r.find_of(
            d,
            &zone,
            Code::ConfigBadValue,
            format!("zone \"{zone}\" needs a name and a size of at least 32k, such as seats:10m"),
        );
        return;
    }
    if let Some(rate) = d.arguments().find_map(|a| a.strip_prefix("rate=")) {
        let ok = POSITIVE.holds(rate.strip_suffix("r/s").or(rate.strip_suffix("r/m")).unwrap_or(rate));
        if !ok {
            let rate = rate.to_owned();
            r.find_of(
                d,
                &rate,
                Code::ConfigBadValue,
                format!("rate \"{rate}\" is none, expected such as 5r/s or 30r/m"),
            );
            return;
        }
    }
    let (place, known) = (r.place_at(d, name), r.known_here(name));
    if let Some(first) = r.facts.zones.insert(known, place) {
        r.find_of(d, name, Code::ConfigConflict, format!("zone \"{name}\" is already declared in {first}"));
    }
}

fn cache_path(r: &mut Reader, d: &Directive) {
    let entry = named(r, d, d.argument(0));
    let Some(zone) = d.arguments().find_map(|a| a.strip_prefix("keys_zone=")).map(str::to_owned) else {
        r.find(d, Code::ConfigBadValue, format!("\"{}\" must have a \"keys_zone\" parameter", d.name()));
        return;
    };
    let (name, size) = zone.split_once(':').unwrap_or((&zone, ""));
    if SIZE.bytes(size).is_none_or(|n| n < 8192) {
        r.find_of(
            d,
            &zone,
            Code::ConfigBadValue,
            format!("keys zone \"{zone}\" needs a name and a size, such as pages:10m"),
        );
        return;
    }
    let place = r.place_at(d, name);
    let known = r.known_here(name);
    r.facts.zones.insert(known, place);
    r.out.model.writes.push(entry);
}

fn use_zone(r: &mut Reader, d: &Directive, name: Option<String>) {
    match name {
        Some(name) => {
            let place = r.place_at(d, &name);
            r.facts.zone_uses.push((r.known_here(&name), place, d.name().to_owned()));
        }
        None => {
            let _ =
                r.find(d, Code::ConfigBadValue, format!("\"{}\" must have a \"zone\" parameter", d.name()));
        }
    }
}

fn cache_valid(r: &mut Reader, d: &Directive) {
    let all: Vec<String> = d.arguments().map(str::to_owned).collect();
    let Some((time, codes)) = all.split_last() else { return };
    if !Type::Time(Time::Seconds).holds(time) {
        r.find_of(d, time, Code::ConfigBadValue, format!("\"{time}\" is not a time"));
        return;
    }
    let wrong = codes.iter().find(|c| *c != "any" && !STATUS.holds(c));
    if let Some(wrong) = wrong {
        r.find_of(
            d,
            wrong,
            Code::ConfigBadValue,
            format!("\"{wrong}\" is not a status code, expected 100 to 599 or any"),
        );
    }
}
