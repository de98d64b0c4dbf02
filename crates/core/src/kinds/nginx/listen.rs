//! `listen` of nginx: its parameters, what it binds, and which two of them contradict each other.
use super::state::{Directive, Key, Own, Reader, Rule, Site};
use crate::code::Code;
use crate::config::rows::{Int, Size, Type};
use crate::config::{About, ConfigFinding, DependsOn, NameMap, NameSet, Severity, Speaks, WantedListen};
use crate::host::{Look, Protocol};
use crate::net::Listen;
use std::collections::hash_map::Entry;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

pub(super) static RULE: Rule = Rule {
    names: &["listen"],
    check: |r, d, row| match row.from {
        "ngx_http_core_module" => listen(r, d),
        "ngx_stream_core_module" => other_listen(r, d, STREAM),
        _ => other_listen(r, d, MAIL),
    },
};

/// A whole number, and one of at least one.
const COUNT: Type = Type::Int(Int { least: None, most: None });
const POSITIVE: Type = Type::Int(Int { least: Some(1), most: None });

/// What else may stand behind the address of a server that is no site; a word that ends in `=` begins a
/// value.
const STREAM: &[&str] = &[
    "backlog=",
    "bind",
    "fastopen=",
    "ipv6only=",
    "proxy_protocol",
    "rcvbuf=",
    "reuseport",
    "so_keepalive=",
    "sndbuf=",
    "ssl",
    "udp",
];
const MAIL: &[&str] =
    &["backlog=", "bind", "ipv6only=", "proxy_protocol", "rcvbuf=", "so_keepalive=", "sndbuf=", "ssl"];

/// One `listen` line of a stream or of mail: no two servers share an address.
fn other_listen(r: &mut Reader, d: &Directive, known: &[&str]) {
    r.block().deaf = None;
    let fits = |w: &str, k: &&str| w == *k || (k.ends_with('=') && w.starts_with(k));
    let wrong = d.arguments().enumerate().skip(1).find(|(_, w)| !known.iter().any(|k| fits(w, k)));
    if let Some((at, wrong)) = wrong {
        let message = format!("\"{wrong}\" is not a parameter of listen here");
        r.find_word(d, at, Code::ConfigBadValue, message);
        return;
    }
    let has = |word: &str| d.arguments().skip(1).any(|w| w == word);
    let udp = has("udp");
    let of_tcp = ["ssl", "proxy_protocol", "so_keepalive=", "backlog=", "fastopen="];
    if let Some(wrong) =
        d.arguments().skip(1).find(|w| udp && of_tcp.iter().any(|k| fits(w, k))).map(str::to_owned)
    {
        r.find_of(d, &wrong, Code::ConfigBadValue, format!("\"{wrong}\" does not go with \"udp\""));
        return;
    }
    let value = d.argument(0);
    // An address without a port is taken, and listens nowhere that anybody could name.
    let plain = value.starts_with("unix:")
        || value.bytes().all(|b| b.is_ascii_digit())
        || value.rsplit(']').next().is_some_and(|tail| tail.contains(':'));
    if value.contains('/') && !value.starts_with("unix:") {
        r.find_word(d, 0, Code::ConfigBadValue, format!("\"{value}\" is not an address"));
        return;
    }
    let keys = resolve(r, d, value);
    for key in keys.unwrap_or_default().into_iter().filter(|_| plain) {
        other_note(r, d, key, udp, has("ssl"), !has("ipv6only=off"));
    }
}

fn other_note(r: &mut Reader, d: &Directive, key: Key, udp: bool, tls: bool, v6_only: bool) {
    let protocol = if udp { Protocol::Udp } else { Protocol::Tcp };
    let first = r.facts.others.insert((protocol, key.clone()), r.place_at(d, d.argument(0)));
    let six = matches!(key.0, Some(IpAddr::V6(_)));
    let listen = match &key {
        (Some(address), port, _) => Listen { protocol, ..Listen::tcp(*address, *port, six && v6_only) },
        (_, _, path) => Listen::unix(path.as_deref().unwrap_or_default()),
    };
    if let Some(first) = first {
        r.find_word(d, 0, Code::ConfigConflict, format!("{listen} has a server already, in {first}"));
        return;
    }
    let port_span = port_span(r, d, key.1);
    r.facts.listens.keys.push((key, r.out.model.listens.len()));
    r.out.model.listens.push(WantedListen {
        listen,
        place: Some(r.place_at(d, d.argument(0))),
        port_span,
        tls,
        speaks: Speaks::Other,
        bound: true,
    });
}

/// One `listen` line.
fn listen(r: &mut Reader, d: &Directive) {
    let value = d.argument(0);
    let mut tls = false;
    let (mut default, mut options, mut v6_only) = (false, false, true);
    for (at, word) in d.arguments().map(str::to_owned).enumerate().skip(1).collect::<Vec<_>>() {
        let number = |prefix: &str| word.strip_prefix(prefix).map(|n| n.trim_start_matches('-'));
        match word.as_str() {
            "ssl" => tls = true,
            "default_server" | "default" => default = true,
            "bind" | "reuseport" | "deferred" => options = true,
            "http2" | "proxy_protocol" => {}
            "spdy" => drop(r.warn(d, "\"spdy\" is not supported any more and is ignored")),
            "ipv6only=on" | "ipv6only=off" => {
                v6_only = word.ends_with("on");
                options = true;
            }
            _ => {
                let fine = if let Some(n) = number("backlog=").or(number("fastopen=")) {
                    options = true;
                    POSITIVE.holds(n) || (COUNT.holds(n) && word.starts_with("fastopen="))
                } else if let Some(n) = number("rcvbuf=").or(number("sndbuf=")) {
                    options = true;
                    Size { units: "km", least: None }.bytes(n).is_some()
                } else if let Some(v) = word.strip_prefix("so_keepalive=") {
                    options = true;
                    !v.is_empty() && (v == "on" || v == "off" || v.contains(':'))
                } else {
                    word.starts_with("setfib=") || word.starts_with("accept_filter=")
                };
                if !fine {
                    let message = format!("\"{word}\" is not a parameter of listen");
                    r.find_word(d, at, Code::ConfigBadValue, message);
                    return;
                }
            }
        }
    }
    let keys = match resolve(r, d, value) {
        Some(keys) => keys,
        None => return,
    };
    for key in keys {
        note(r, d, key, tls, default, options, v6_only);
    }
    if tls {
        let place = d.place.clone();
        if let Some(site) = &mut r.block().site {
            site.ssl_listen = Some(place);
        }
    }
}

fn bad(r: &mut Reader, d: &Directive, message: String) -> Option<Vec<Key>> {
    r.find_word(d, 0, Code::ConfigBadValue, message);
    None
}

fn resolve(r: &mut Reader, d: &Directive, value: &str) -> Option<Vec<Key>> {
    if let Some(path) = value.strip_prefix("unix:") {
        if path.is_empty() {
            return bad(r, d, "\"unix:\" names no socket".into());
        }
        return Some(vec![(None, 0, Some(path.to_owned()))]);
    }
    let (host, port) = if let Some(rest) = value.strip_prefix('[') {
        let Some((host, tail)) = rest.split_once(']') else {
            return bad(r, d, format!("the bracket of \"{value}\" is not closed"));
        };
        (host.to_owned(), tail.strip_prefix(':').map(str::to_owned))
    } else if let Some((host, port)) = value.split_once(':') {
        (host.to_owned(), Some(port.to_owned()))
    } else if value.bytes().all(|b| b.is_ascii_digit()) {
        (String::new(), Some(value.to_owned()))
    } else {
        (value.to_owned(), None)
    };
    let port = match port.as_deref() {
        None => 80,
        Some(text) => match text.split_once('-') {
            Some((low, high)) => match (low.parse::<u16>(), high.parse::<u16>()) {
                (Ok(low), Ok(high)) if low > 0 && low <= high => {
                    let address = address_of(&host);
                    return Some((low..=high).map(|p| (address, p, None)).collect());
                }
                _ => return bad(r, d, format!("\"{text}\" is not a range of ports")),
            },
            None => match text.parse::<u32>() {
                Ok(port @ 1..=65535) => u16::try_from(port).unwrap_or(0),
                _ => return bad(r, d, format!("\"{text}\" is not a port, expected 1 to 65535")),
            },
        },
    };
    if let Some(address) = address_of(&host) {
        return Some(vec![(Some(address), port, None)]);
    }
    if value.starts_with('[') {
        return bad(r, d, format!("\"{host}\" is not an IPv6 address"));
    }
    match crate::names::lookup(r.snapshot, &host) {
        Look::Seen(addresses) => Some(addresses.into_iter().map(|a| (Some(a), port, None)).collect()),
        Look::Absent => {
            let found = r.find_of(
                d,
                &host,
                Code::NameUnresolved,
                format!("\"{host}\" in \"{value}\" does not resolve"),
            );
            found.depends_on = crate::config::DependsOn::Names;
            found.about = Some(About::Host(host));
            None
        }
        Look::NotSeen(_) => {
            r.out.not_seen.push(format!("whether {host} resolves ({})", d.place).into());
            None
        }
    }
}

fn address_of(host: &str) -> Option<IpAddr> {
    match host {
        "" | "*" => Some(IpAddr::V4(Ipv4Addr::UNSPECIFIED)),
        "::" => Some(IpAddr::V6(Ipv6Addr::UNSPECIFIED)),
        other => other.parse().ok(),
    }
}

fn note(r: &mut Reader, d: &Directive, key: Key, tls: bool, default: bool, options: bool, v6_only: bool) {
    let twice = r.block().site.as_ref().is_some_and(|s| s.listens.iter().any(|o| o.key == key));
    let shown = match &key {
        (Some(address), port, _) => crate::net::endpoint(*address, *port),
        (_, _, path) => path.clone().unwrap_or_default(),
    };
    if twice {
        r.find_word(d, 0, Code::ConfigConflict, format!("\"listen {shown}\" stands twice in one server"));
        return;
    }
    let place = r.place_at(d, d.argument(0));
    if default && let Some(first) = r.facts.listens.defaults.insert(key.clone(), place.clone()) {
        r.find_of(
            d,
            "default",
            Code::ConfigConflict,
            format!("{shown} has a default server already, in {first}"),
        );
    }
    if options && let Some(first) = r.facts.listens.options.insert(key.clone(), place.clone()) {
        r.find_word(
            d,
            0,
            Code::ConfigConflict,
            format!("options of the socket {shown} are already given in {first}"),
        );
    }
    let six = matches!(key.0, Some(IpAddr::V6(_)));
    let listen = match &key {
        (Some(address), port, _) => Listen::tcp(*address, *port, six && v6_only),
        (_, _, path) => Listen::unix(path.as_deref().unwrap_or_default()),
    };
    let span = port_span(r, d, key.1);
    let at = r.out.model.listens.len();
    let speaks = if r.inside("http") { Speaks::AsItsKind } else { Speaks::Other };
    r.facts.listens.keys.push((key.clone(), at));
    r.out.model.listens.push(WantedListen {
        listen,
        place: Some(place),
        port_span: span,
        tls,
        speaks,
        bound: true,
    });
    if let Some(site) = &mut r.block().site {
        site.listens.push(Own { key, default, both_families: !v6_only });
    }
}

/// Where the port number stands in the first argument.
fn port_span(r: &Reader, d: &Directive, port: u16) -> Option<crate::config::Span> {
    let word = d.words.get(1)?;
    let digits = port.to_string();
    let at = word.value.ends_with(&digits).then(|| word.value.len() - digits.len())?;
    let boundary = at == 0 || word.value.as_bytes().get(at - 1) == Some(&b':');
    boundary.then(|| r.span(word.start + at, word.start + at + digits.len()))
}

/// A site's block ended: default listener, certificates, conflicting names.
pub(super) fn site_ends(r: &mut Reader, mut site: Site) {
    if site.listens.is_empty() {
        let key = (Some(IpAddr::V4(Ipv4Addr::UNSPECIFIED)), 80, None);
        if let Some(place) = site.opened.clone() {
            let listen = Listen::tcp(IpAddr::V4(Ipv4Addr::UNSPECIFIED), 80, false);
            r.facts.listens.keys.push((key.clone(), r.out.model.listens.len()));
            r.out.model.listens.push(WantedListen {
                listen,
                place: Some(place),
                port_span: None,
                tls: false,
                speaks: Speaks::default(),
                bound: true,
            });
        }
        site.listens.push(Own { key, default: false, both_families: false });
    }
    if site.names.is_empty() {
        site.names.push(String::new());
    }
    for own in &site.listens {
        for name in &site.names {
            let port = own.key.1;
            r.out.model.site_names.push((name.clone(), port));
            let Some(place) = &site.opened else { continue };
            let names = match r.facts.listens.names.get_mut(&own.key) {
                Some(names) => names,
                None => r.facts.listens.names.entry(own.key.clone()).or_default(),
            };
            let before = match names.entry(name.clone()) {
                Entry::Occupied(before) => Some(before.get().clone()),
                Entry::Vacant(free) => {
                    free.insert(place.clone());
                    None
                }
            };
            if let Some(first) = before {
                let message = format!(
                    "name \"{name}\" on port {port} belongs to an earlier server already ({first}); this one \
                        is ignored"
                );
                r.out.add(ConfigFinding {
                    severity: Severity::Warning,
                    place: Some(place.clone()),
                    directive: Some("server_name".into()),
                    about: Some(About::Name(name.clone())),
                    ..ConfigFinding::error(Code::ConfigWarning, message)
                });
            }
        }
    }
    if let Some(tree) = &mut r.tree {
        tree.sites.push(super::tree::Sited { opened: site.opened.clone(), listens: site.listens.clone() });
    }
    r.facts.sites.push(site);
}

/// Names with a misplaced wildcard are refused where the daemon has to choose between servers by name.
fn odd_names(r: &mut Reader) {
    for (name, place) in std::mem::take(&mut r.facts.odd_names) {
        let lower = name.to_ascii_lowercase();
        let several =
            |names: &NameMap<String, crate::config::Place>| names.values().collect::<NameSet<_>>().len() > 1;
        let shared = r.facts.listens.names.values().any(|names| names.contains_key(&lower) && several(names));
        if shared {
            let message = format!(
                "\"{name}\" is not a server name or wildcard: a * stands only at an end, beside a dot"
            );
            r.out.add(ConfigFinding {
                place: Some(place),
                directive: Some("server_name".into()),
                about: Some(About::Name(name)),
                ..ConfigFinding::error(Code::ConfigBadValue, message)
            });
        }
    }
}

/// A wildcard takes in the addresses of its port: those are not bound by themselves.
pub(super) fn finish(r: &mut Reader) {
    odd_names(r);
    let keys = std::mem::take(&mut r.facts.listens.keys);
    let options = std::mem::take(&mut r.facts.listens.options);
    let addresses = r.snapshot.addresses();
    let wild: NameSet<(u16, bool)> = keys
        .iter()
        .filter_map(|(k, _)| k.0.filter(IpAddr::is_unspecified).map(|a| (k.1, a.is_ipv4())))
        .collect();
    for (key, at) in &keys {
        let Some(address) = key.0 else { continue };
        let covered = !address.is_unspecified()
            && wild.contains(&(key.1, address.is_ipv4()))
            && !options.contains_key(key);
        r.out.model.listens[*at].bound = !covered;
        let place = r.out.model.listens[*at].place.clone();
        if covered || address.is_unspecified() || address.is_loopback() {
            continue;
        }
        if let Look::Seen(own) = &addresses
            && !own.contains(&address)
            && !crate::names::may_bind_foreign(r.snapshot, address)
        {
            let shown = crate::net::endpoint(address, key.1);
            let message = format!("no interface of this host has the address of {shown}");
            r.out.add(ConfigFinding {
                place,
                directive: Some("listen".into()),
                depends_on: DependsOn::Interfaces,
                about: Some(About::Listener(address, key.1)),
                ..ConfigFinding::error(Code::AddressNotHere, message)
            });
        }
    }
}
