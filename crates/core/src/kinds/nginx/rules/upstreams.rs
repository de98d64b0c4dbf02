//! Servers that a front passes to.
use super::super::state::{Directive, HostUse, MayBe, Reader, Rule};
use super::common::uses_variables;
use crate::code::Code;
use crate::config::rows::{Int, Time, Type};
use crate::config::{About, DependsOn, PortMention, Upstream};
use crate::host::Look;

pub(super) static SERVER: Rule = Rule {
    names: &["server"],
    check: |r, d, _| {
        if matches!(r.context(), "upstream" | "stream-upstream") {
            upstream_server(r, d);
        }
    },
};
pub(super) static PASS: Rule = Rule {
    names: &["proxy_pass", "fastcgi_pass", "uwsgi_pass", "scgi_pass", "grpc_pass", "memcached_pass"],
    check: |r, d, _| pass(r, d),
};

/// A count, and one of at least one.
const COUNT: Type = Type::Int(Int { least: None, most: None });
const POSITIVE: Type = Type::Int(Int { least: Some(1), most: None });

fn upstream_server(r: &mut Reader, d: &Directive) {
    r.block().members += 1;
    let wrong = d.arguments().skip(1).find(|a| {
        let number = |prefix: &str| a.strip_prefix(prefix).map(|n| COUNT.holds(n));
        let weight = a.strip_prefix("weight=").map(|n| POSITIVE.holds(n));
        let time = a.strip_prefix("fail_timeout=").map(|t| Type::Time(Time::Seconds).holds(t));
        let ok = weight.or(number("max_fails=")).or(number("max_conns=")).or(time);
        !ok.unwrap_or(matches!(*a, "backup" | "down"))
    });
    if let Some(wrong) = wrong {
        let wrong = wrong.to_owned();
        r.find_of(
            d,
            &wrong,
            Code::ConfigBadValue,
            format!("\"{wrong}\" is not a parameter of an upstream server"),
        );
        return;
    }
    if let Some(method) = r.block().prefix.clone().filter(|_| d.arguments().any(|a| a == "backup")) {
        r.find_of(
            d,
            &method,
            Code::ConfigBadValue,
            format!("\"backup\" is not for the balancing method \"{method}\""),
        );
        return;
    }
    let address = d.argument(0).to_owned();
    let has = |word: &str| d.arguments().skip(1).any(|w| w == word);
    if !has("down") {
        let group = r.block().label.clone();
        let spare = has("backup");
        r.facts.members.extend(Upstream::of(r.snapshot, &address, Some(80), &d.place).map(|one| Upstream {
            group,
            spare,
            ..one
        }));
    }
    if !address.starts_with("unix:") {
        reaches(r, d, &address, false);
    }
}

/// An address that is looked up at start; names wait until all upstreams are known.
fn reaches(r: &mut Reader, d: &Directive, address: &str, may_be_upstream: bool) {
    if address.contains('@') {
        // A password may stand there: it is not repeated in the message.
        r.find_word(
            d,
            0,
            Code::ConfigBadValue,
            "the address holds an @, which nginx takes for a part of the port",
        );
        return;
    }
    let (host, port) = split_host(address);
    if let Some(port) = port {
        match port.parse::<u32>() {
            Ok(1..=65535) => {}
            _ => {
                r.find_of(
                    d,
                    port,
                    Code::ConfigBadValue,
                    format!("\"{port}\" in \"{address}\" is not a port, expected 1 to 65535"),
                );
                return;
            }
        }
    }
    if host.is_empty() {
        r.find_of(d, address, Code::ConfigBadValue, format!("\"{address}\" names no host"));
        return;
    }
    if host.parse::<std::net::IpAddr>().is_ok() {
        if let Some(number) = port.and_then(|p| p.parse().ok()) {
            mention(r, d, number, address);
        }
        return;
    }
    if may_be_upstream {
        use_host(r, d, host, MayBe::Either);
        return;
    }
    // A member of an upstream is looked up while it is read.
    let host = host.to_owned();
    match crate::names::lookup(r.snapshot, &host) {
        Look::Seen(_) => {}
        Look::Absent => {
            let found = r.find_of(
                d,
                &host,
                Code::NameUnresolved,
                format!("host \"{host}\" of \"{}\" does not resolve", d.name()),
            );
            found.depends_on = DependsOn::Names;
            found.about = Some(About::Host(host));
        }
        Look::NotSeen(_) => {
            let line = format!("whether {host} resolves ({})", d.place);
            r.out.not_seen.push(line.into());
        }
    }
}

/// Remembers a name that is looked up when everything is read.
pub(super) fn use_host(r: &mut Reader, d: &Directive, host: &str, may_be: MayBe) {
    let used = HostUse {
        host: host.to_ascii_lowercase(),
        upstream: r.known_here(&host.to_ascii_lowercase()),
        may_be,
        place: d.place.clone(),
        directive: d.name().to_owned(),
    };
    r.facts.host_uses.push(used);
}

/// Remembers where a port number stands that is not this server's own listener.
fn mention(r: &mut Reader, d: &Directive, port: u16, text: &str) {
    let digits = port.to_string();
    let Some(word) = d.words.iter().skip(1).find(|w| w.value.contains(text)) else { return };
    let Some(at) = word.value.find(text).and_then(|t| word.value[t..].rfind(&digits).map(|n| t + n)) else {
        return;
    };
    let span = r.span(word.start + at, word.start + at + digits.len());
    let text = d.words.iter().map(|w| w.value.as_ref()).collect::<Vec<_>>().join(" ");
    r.out.model.ports.push(PortMention { port, place: d.place.clone(), span, belongs: false, text });
}

pub(super) fn split_host(address: &str) -> (&str, Option<&str>) {
    if let Some(rest) = address.strip_prefix('[') {
        let (host, tail) = rest.split_once(']').unwrap_or((rest, ""));
        return (host, tail.strip_prefix(':'));
    }
    address.split_once(':').map_or((address, None), |(h, p)| (h, Some(p)))
}

fn pass(r: &mut Reader, d: &Directive) {
    let value = d.argument(0);
    if value.contains('$') {
        return uses_variables(r, d, value);
    }
    let mut address = value;
    let (mut implied, mut bare) = (false, false);
    if matches!(d.name(), "proxy_pass" | "grpc_pass") && r.context() != "stream-server" {
        let schemes: &[&str] =
            if d.name() == "proxy_pass" { &["http://", "https://"] } else { &["grpc://", "grpcs://"] };
        match schemes.iter().find_map(|s| {
            value.get(..s.len()).filter(|v| v.eq_ignore_ascii_case(s)).map(|_| &value[s.len()..])
        }) {
            Some(rest) => address = rest,
            // Without a scheme there is no usual port either.
            None if d.name() == "grpc_pass" => bare = true,
            None => {
                r.find_of(
                    d,
                    value,
                    Code::ConfigBadValue,
                    format!("\"{value}\" has no scheme, expected http:// or https:// in front"),
                );
                return;
            }
        }
        implied = !bare;
    }
    if address.starts_with("unix:") {
        // Behind the socket's path may stand the one that is asked for.
        let path = address.splitn(3, ':').take(2).collect::<Vec<_>>().join(":");
        r.out.model.upstreams.extend(Upstream::of(r.snapshot, &path, None, &d.place));
        return;
    }
    let (authority, uri) = address.find('/').map_or((address, ""), |at| address.split_at(at));
    if implied && d.name() == "proxy_pass" && !uri.is_empty() && r.block().no_uri {
        r.find(
            d,
            Code::ConfigBadValue,
            "\"proxy_pass\" cannot have a URI part in a regex or named location, \
            in \"if\" or in \"limit_except\"",
        )
        .help = Some(format!("leave out \"{uri}\""));
        return;
    }
    let (host, port) = split_host(authority);
    if !implied && port.is_none() {
        // Without a port only the name of an upstream will do.
        use_host(r, d, host, MayBe::Upstream);
        return;
    }
    let authority = authority.to_owned();
    let usual = if value.starts_with("https") { 443 } else { 80 };
    if let Some(one) = Upstream::of(r.snapshot, &authority, Some(usual).filter(|_| implied), &d.place) {
        r.facts.passes.push((r.known_here(&split_host(&authority).0.to_ascii_lowercase()), one));
    }
    reaches(r, d, &authority, true);
}
