//! Listeners, virtual hosts and their names.
use super::super::state::Facts;
use super::super::state::{Directive, Reader, Rule, Scope, report};
use super::common::{bad, bad_word};
use crate::code::Code;
use crate::config::{About, DependsOn, PortMention, Speaks, WantedListen};
use crate::host::Look;
use crate::net::Listen;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

pub(super) static LISTEN: Rule =
    Rule { names: &["Listen"], check: |r, d, around| listen(r, d, around.facts) };
pub(super) static HOST: Rule =
    Rule { names: &["<VirtualHost"], check: |r, d, around| virtual_host(r, d, around.facts) };
pub(super) static NAME: Rule = Rule {
    names: &["ServerName"],
    check: |r, d, around| {
        around.facts.has_server_name |= around.scope.host == 0;
        server_name(r, d, around.scope);
    },
};

/// An address and port as `Listen` and `<VirtualHost>` write them; the port may be `*`.
pub(in super::super) fn address_port(text: &str) -> Option<(Option<String>, Option<u16>)> {
    let (host, port) = if let Some(rest) = text.strip_prefix('[') {
        let (host, tail) = rest.split_once(']')?;
        (Some(host.to_owned()), tail.strip_prefix(':'))
    } else {
        match text.rsplit_once(':') {
            Some((host, port)) => (Some(host.to_owned()), Some(port)),
            None if text.bytes().all(|b| b.is_ascii_digit()) => (None, Some(text)),
            None => (Some(text.to_owned()), None),
        }
    };
    let port = match port {
        None | Some("*") => None,
        Some(digits) if !digits.is_empty() && digits.bytes().all(|b| b.is_ascii_digit()) => {
            Some(digits.parse::<u16>().ok().filter(|p| *p > 0)?)
        }
        Some(_) => return None,
    };
    Some((host, port))
}

fn listen(r: &mut Reader, d: &Directive, facts: &mut Facts) {
    if d.values.is_empty() || d.values.len() > 3 {
        return bad(r, d, format!("Listen has {} values, expected 1 to 3", d.values.len()));
    }
    let value = d.value(0).to_owned();
    let Some((host, port)) = address_port(&value) else {
        return bad_word(
            r,
            d,
            &value,
            format!("\"{value}\" is not an address and port, expected such as 80 or 192.0.2.1:80"),
        );
    };
    let Some(port) = port else {
        return bad_word(r, d, &value, format!("\"{value}\" names no port"));
    };
    let tls = d.value(1).eq_ignore_ascii_case("https") || (d.values.len() == 1 && port == 443);
    let place = d.item.value_place(0);
    let address = match host.as_deref() {
        None | Some("*") => None,
        Some("0.0.0.0") => Some(IpAddr::V4(Ipv4Addr::UNSPECIFIED)),
        Some(name) => match crate::names::lookup(r.snapshot, name) {
            Look::Seen(found) => found.first().copied(),
            Look::Absent => {
                let name = name.to_owned();
                let found =
                    report(r, d, Code::NameUnresolved, format!("\"{name}\" in \"{value}\" does not resolve"));
                found.depends_on = DependsOn::Names;
                found.about = Some(About::Host(name));
                return;
            }
            Look::NotSeen(_) => {
                r.out.not_seen.push(format!("whether {name} resolves ({place})").into());
                return;
            }
        },
    };
    crate::bounds::step(1);
    let known = facts.listening.get(&(address, port)).and_then(|at| facts.listens.get(*at));
    if let Some((.., first)) = known {
        let message = format!("port {port} has a listener already at {first}");
        let found = report(r, d, Code::ConfigConflict, message);
        found.about = Some(About::Port(port));
        found.place = Some(place);
        return;
    }
    facts.listening.insert((address, port), facts.listens.len());
    facts.listens.push((address, port, place.clone()));
    // Without an address the daemon opens one socket for both families where the host has IPv6.
    let bound = address.unwrap_or(IpAddr::V6(Ipv6Addr::UNSPECIFIED));
    let offset = d.item.text().rfind(&port.to_string()).filter(|_| d.values.len() == 1);
    let offset =
        offset.or_else(|| d.item.text().find(&*value).map(|at| at + value.len() - port.to_string().len()));
    let port_span = offset.and_then(|at| d.item.span(at, port.to_string().len()));
    r.out.model.listens.push(WantedListen {
        listen: Listen::tcp(bound, port, false),
        place: Some(place),
        port_span,
        tls,
        speaks: Speaks::default(),
        bound: true,
    });
}

fn virtual_host(r: &mut Reader, d: &Directive, facts: &mut Facts) {
    facts.first_host.get_or_insert_with(|| d.item.place());
    if !d.item.text().contains('>') {
        report(r, d, Code::ConfigSyntax, "<VirtualHost> is missing its closing >");
        return;
    }
    if d.values.is_empty() {
        report(r, d, Code::ConfigSyntax, "<VirtualHost> names no address");
        return;
    }
    for value in d.values.clone() {
        if value.bytes().all(|b| b.is_ascii_digit()) {
            return bad_word(
                r,
                d,
                &value,
                format!("<VirtualHost {value}> has a number where an address belongs; write *:{value}"),
            );
        }
        let (host, tail) = value.rsplit_once(':').unwrap_or((&value, ""));
        if !tail.is_empty() && tail.bytes().all(|b| b.is_ascii_digit()) && !host.ends_with(':') {
            match tail.parse::<u16>() {
                Ok(port) => {
                    let at = d.item.text().find(&*value).map(|at| at + value.len() - tail.len());
                    if let Some(span) = at.and_then(|at| d.item.span(at, tail.len())) {
                        let text = d.item.text().to_string();
                        r.out.model.ports.push(PortMention {
                            port,
                            place: d.item.place(),
                            span,
                            belongs: true,
                            text,
                        });
                    }
                }
                Err(_) => {
                    return bad_word(
                        r,
                        d,
                        tail,
                        format!("\"{tail}\" in \"{value}\" is not a port, expected 1 to 65535"),
                    );
                }
            }
        }
    }
}

fn server_name(r: &mut Reader, d: &Directive, scope: &Scope) {
    let value = d.value(0).to_owned();
    let bare = value.split_once("://").map_or(value.as_str(), |(_, rest)| rest);
    let (name, port) = bare.rsplit_once(':').filter(|(n, _)| !n.contains(':')).unwrap_or((bare, ""));
    r.out.model.site_names.push((name.to_ascii_lowercase(), port.parse().unwrap_or(0)));
    if let Ok(port) = port.parse::<u16>() {
        let at = d.item.text().rfind(&port.to_string());
        if let Some(span) = at.and_then(|at| d.item.span(at, port.to_string().len())) {
            let text = d.item.text().to_string();
            r.out.model.ports.push(PortMention { port, place: d.item.place(), span, belongs: true, text });
        }
    }
    let _ = scope;
}
