//! What haproxy listens on and passes requests on to.
use super::state::{At, Reader};
use super::tokens::{Word, Words};
use crate::config::entries::{Book, Entry};
use crate::config::{LogSink, Span, Upstream};
use crate::host::Look;
use crate::net::Listen;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// `server NAME ADDRESS …`: where requests go.
pub(super) fn passes(book: &mut Book, entry: &Entry, rest: &[Word]) {
    let has = |word: &str| rest.iter().skip(2).any(|w| w.value == word);
    let Some(address) = rest.get(1).map(|w| w.value.as_str()).filter(|_| !has("disabled")) else { return };
    let bare = address.trim_start_matches("ipv4@").trim_start_matches("ipv6@");
    let socket = bare.strip_prefix("unix@").or_else(|| bare.starts_with('/').then_some(bare));
    let found = match socket {
        Some(path) => Upstream::of(book.snapshot, &format!("unix:{path}"), None, &entry.place),
        None => Upstream::of(book.snapshot, bare, None, &entry.place),
    };
    let group = format!("{} {}", entry.section, entry.scope);
    let spare = has("backup");
    book.out.model.upstreams.extend(found.map(|one| Upstream { group, spare, ..one }));
}

/// `log TARGET …`: where what it says goes.
pub(super) fn sends(book: &mut Book, entry: &Entry) {
    let sink = match entry.value.split_whitespace().next() {
        Some("stdout" | "stderr" | "fd@1" | "fd@2") => LogSink::StandardError,
        Some(target) if target.starts_with('/') => LogSink::Syslog,
        _ => return,
    };
    if !book.out.model.log_sinks.iter().any(|(known, _)| *known == sink) {
        book.out.model.log_sinks.push((sink, Some(entry.place.clone())));
    }
}

/// The listeners of a `bind` line: `[ADDRESS]:PORT[-PORT][,…]`, a path, or an address with a prefix of its
/// family.
pub(super) fn listens(reader: &mut Reader, entry: &Entry, at: At) {
    let words = Words(at.words);
    if words.at(0) != "bind" || !matches!(reader.section, "frontend" | "listen") {
        return;
    }
    let Some(addresses) = at.words.get(1) else { return };
    let options: Vec<&str> = at.words.iter().skip(2).map(|w| w.value.as_str()).collect();
    let tls = options.contains(&"ssl");
    let v6_only = options.contains(&"v6only");
    for one in addresses.value.split(',') {
        if let Some(socket) = one.strip_prefix("unix@").or_else(|| one.starts_with('/').then_some(one)) {
            reader.book.must_have_parent(entry, socket);
            super::only_at_a_start(reader.book, reader.instance);
            reader.book.listen(Listen::unix(socket), Some(entry), None, tls, false);
            continue;
        }
        let elsewhere = ["abns@", "abnsz@", "rhttp@", "fd@", "sockpair@", "udp", "quic"];
        if elsewhere.iter().any(|begin| one.starts_with(begin)) || addresses.open {
            continue;
        }
        let forced_six = one.starts_with("ipv6@") || one.starts_with("tcp6@");
        let bare = one.split_once('@').map_or(one, |(_, rest)| rest);
        let Some((address, ports)) = bare.rsplit_once(':') else { continue };
        let (from, to) = ports.split_once('-').unwrap_or((ports, ports));
        let (Ok(from), Ok(to)) = (from.parse::<u16>(), to.parse::<u16>()) else { continue };
        if from == 0 || to < from {
            continue;
        }
        let address = match address.trim_matches(['[', ']']) {
            "" | "*" if forced_six => IpAddr::V6(Ipv6Addr::UNSPECIFIED),
            "" | "*" => IpAddr::V4(Ipv4Addr::UNSPECIFIED),
            other => match other.parse() {
                Ok(address) => address,
                Err(_) => match crate::names::lookup(reader.book.snapshot, other) {
                    Look::Seen(found) if !found.is_empty() => found[0],
                    _ => continue,
                },
            },
        };
        reader.book.must_be_here(Some(entry), address, from);
        let span = port_span(at, addresses, one, from, to);
        for port in from..=to.min(from.saturating_add(512)) {
            reader.book.listen(Listen::tcp(address, port, v6_only), Some(entry), span.clone(), tls, true);
        }
    }
}

/// The bytes of a single port written plainly.
fn port_span(at: At, word: &Word, one: &str, from: u16, to: u16) -> Option<Span> {
    let number = from.to_string();
    let begin = word.raw.find(one)?;
    (from == to && one.ends_with(&number)).then_some(())?;
    let end = begin + one.len();
    at.text.span(at.line, word.raw.get(end - number.len()..end)?)
}
