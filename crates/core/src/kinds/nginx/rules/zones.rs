//! Shared memory zones and caches.
use super::super::state::{Directive, Reader};
use super::super::values;
use super::common::{named, uses_variables};
use crate::code::Code;

pub(super) fn declare_zone(r: &mut Reader, d: &Directive) {
    let key = d.argument(0).to_owned();
    uses_variables(r, d, &key);
    let Some(zone) = d.arguments().find_map(|a| a.strip_prefix("zone=")).map(str::to_owned) else {
        r.find(d, Code::ConfigBadValue, format!("\"{}\" must have a \"zone\" parameter", d.name()));
        return;
    };
    let (name, size) = zone.split_once(':').unwrap_or((&zone, ""));
    if name.is_empty() || values::size(size, false).is_none_or(|n| n < 32 << 10) {
        r.find(d, Code::ConfigBadValue, format!("zone \"{zone}\" needs a name and a size of at least 32k, such as seats:10m"));
        return;
    }
    if let Some(rate) = d.arguments().find_map(|a| a.strip_prefix("rate=")) {
        let ok = values::count(rate.strip_suffix("r/s").or(rate.strip_suffix("r/m")).unwrap_or(rate)).is_some_and(|n| n > 0);
        if !ok {
            let rate = rate.to_owned();
            r.find(d, Code::ConfigBadValue, format!("rate \"{rate}\" is none, expected such as 5r/s or 30r/m"));
            return;
        }
    }
    let place = d.place.clone();
    if let Some(first) = r.facts.zones.insert(name.to_owned(), place) {
        r.find(d, Code::ConfigConflict, format!("zone \"{name}\" is already declared in {first}"));
    }
}

pub(super) fn cache_path(r: &mut Reader, d: &Directive) {
    let entry = named(r, d, d.argument(0));
    let Some(zone) = d.arguments().find_map(|a| a.strip_prefix("keys_zone=")).map(str::to_owned) else {
        r.find(d, Code::ConfigBadValue, format!("\"{}\" must have a \"keys_zone\" parameter", d.name()));
        return;
    };
    let (name, size) = zone.split_once(':').unwrap_or((&zone, ""));
    if values::size(size, false).is_none_or(|n| n < 8192) {
        r.find(d, Code::ConfigBadValue, format!("keys zone \"{zone}\" needs a name and a size, such as pages:10m"));
        return;
    }
    let place = d.place.clone();
    r.facts.zones.insert(name.to_owned(), place);
    r.facts.variables.insert(format!("\0cache {}", entry.path));
    r.out.model.writes.push(entry);
}

pub(super) fn use_zone(r: &mut Reader, d: &Directive, name: Option<String>) {
    match name {
        Some(name) => r.facts.zone_uses.push((name, d.place.clone(), d.name().to_owned())),
        None => drop(r.find(d, Code::ConfigBadValue, format!("\"{}\" must have a \"zone\" parameter", d.name()))),
    }
}

pub(super) fn cache_valid(r: &mut Reader, d: &Directive) {
    let all: Vec<String> = d.arguments().map(str::to_owned).collect();
    let Some((time, codes)) = all.split_last() else { return };
    if !values::is_time(time, true) {
        r.find(d, Code::ConfigBadValue, format!("\"{time}\" is no time"));
        return;
    }
    let wrong = codes.iter().find(|c| *c != "any" && !matches!(values::count(c), Some(100..=599)));
    if let Some(wrong) = wrong {
        r.find(d, Code::ConfigBadValue, format!("\"{wrong}\" is no status code, expected 100 to 599 or any"));
    }
}
