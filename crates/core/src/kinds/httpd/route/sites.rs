//! Which virtual host answers: by the address that a request came in on, then by its name (httpd
//! documentation, "An In-Depth Discussion of Virtual Host Matching").
use super::super::rules::address_port;
use crate::route::{Node, Request};
use crate::snapshot::Snapshot;
use std::net::IpAddr;

/// The virtual host that answers; `None` for the main server.
pub(super) struct Chosen<'a> {
    pub(super) host: Option<&'a Node>,
    /// Whether it has the name; otherwise it is the first one of its address.
    pub(super) by_name: bool,
}

/// How a virtual host stands to an address: those of one sort share their names.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Fits {
    Not,
    /// By wildcards of address and port.
    Widely,
    /// By a wildcard of the address.
    ByPort,
    /// By the very address, at any port.
    ByAddress,
    /// By the very address and port.
    Exactly,
}

fn fits(host: &Node, snapshot: &Snapshot, request: &Request) -> Fits {
    let one = |written: &String| {
        let Some((name, port)) = address_port(written) else { return Fits::Not };
        if port.is_some_and(|p| p != request.port) {
            return Fits::Not;
        }
        match name.as_deref() {
            None | Some("*" | "_default_" | "") if port.is_some() => Fits::ByPort,
            None | Some("*" | "_default_" | "") => Fits::Widely,
            Some(name) => {
                let found: Vec<IpAddr> = crate::names::lookup(snapshot, name).seen().unwrap_or_default();
                match found.contains(&crate::net::normal(request.address)) {
                    true if port.is_some() => Fits::Exactly,
                    true => Fits::ByAddress,
                    false => Fits::Not,
                }
            }
        }
    };
    host.words.iter().map(one).max().unwrap_or(Fits::Not)
}

pub(super) fn choose<'a>(top: &'a [Node], snapshot: &Snapshot, request: &Request) -> Chosen<'a> {
    let all: Vec<(&Node, Fits)> = top
        .iter()
        .filter(|n| n.name == "virtualhost")
        .map(|host| (host, fits(host, snapshot, request)))
        .filter(|(_, fits)| *fits != Fits::Not)
        .collect();
    // The very address goes before every wildcard, and a port before every one of those.
    let best = all.iter().map(|(_, fits)| *fits).max().unwrap_or(Fits::Not);
    let here: Vec<&Node> = all.iter().filter(|(_, fits)| *fits == best).map(|(host, _)| *host).collect();
    let name = request.host_name();
    let main = top.iter().rev().find(|n| n.name == "servername").map(|n| bare(n.word(0)));
    let has = |host: &&&Node| {
        let own = host.children.iter().rev().find(|n| n.name == "servername").map(|n| bare(n.word(0)));
        let is = own.or(main.clone()).is_some_and(|own| own == name);
        is || host
            .all("serveralias")
            .flat_map(|n| &n.words)
            .any(|alias| like(&alias.to_ascii_lowercase(), &name))
    };
    match here.iter().find(has) {
        Some(host) => Chosen { host: Some(host), by_name: true },
        None => Chosen { host: here.first().copied(), by_name: false },
    }
}

/// The name of a `ServerName`, without scheme and port.
fn bare(written: &str) -> String {
    let name = written.split_once("://").map_or(written, |(_, rest)| rest);
    let name = if name.starts_with('[') { name } else { name.split(':').next().unwrap_or_default() };
    name.to_ascii_lowercase()
}

/// Whether a pattern of `*` and `?` fits.
pub(super) fn like(pattern: &str, text: &str) -> bool {
    let (pattern, text): (Vec<char>, Vec<char>) = (pattern.chars().collect(), text.chars().collect());
    let (mut p, mut t, mut back) = (0, 0, None);
    while t < text.len() {
        crate::bounds::step(1);
        match pattern.get(p) {
            Some('*') => {
                back = Some((p, t));
                p += 1;
            }
            Some(c) if *c == '?' || *c == text[t] => {
                p += 1;
                t += 1;
            }
            _ => match back {
                Some((star, from)) => {
                    back = Some((star, from + 1));
                    p = star + 1;
                    t = from + 1;
                }
                None => return false,
            },
        }
    }
    pattern[p..].iter().all(|c| *c == '*')
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn aliases_hold_stars_and_question_marks() {
        for (pattern, text, expected) in [
            ("*.front.example", "a.front.example", true),
            ("front.example", "front.example", true),
            ("fr?nt.example", "front.example", true),
            ("*", "", true),
            ("a*b*c", "axxbyyc", true),
            ("a*b*c", "axxbyy", false),
            ("*.front.example", "front.example", false),
        ] {
            assert_eq!(like(pattern, text), expected, "{pattern} {text}");
        }
        assert_eq!(bare("https://Front.example:8443"), "front.example");
    }
}
