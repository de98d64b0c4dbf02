//! Which virtual host answers: by the address that a request came in on, then by its name (httpd
//! documentation, "An In-Depth Discussion of Virtual Host Matching").
use super::super::rules::address_port;
use super::state::Unknown;
use crate::host::Look;
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

fn fits(host: &Node, snapshot: &Snapshot, request: &Request) -> Result<Fits, Unknown> {
    let one = |written: &String| {
        let Some((name, port)) = address_port(written) else { return Ok(Fits::Not) };
        if port.is_some_and(|p| p != request.port) {
            return Ok(Fits::Not);
        }
        Ok(match name.as_deref() {
            None | Some("*" | "_default_" | "") if port.is_some() => Fits::ByPort,
            None | Some("*" | "_default_" | "") => Fits::Widely,
            Some(name) => {
                let found: Vec<IpAddr> = match crate::names::lookup(snapshot, name) {
                    Look::Seen(found) => found,
                    Look::Absent => Vec::new(),
                    Look::NotSeen(_) => return Err(Unknown(format!("where {name} of <VirtualHost> leads"))),
                };
                match found.contains(&crate::net::normal(request.address)) {
                    true if port.is_some() => Fits::Exactly,
                    true => Fits::ByAddress,
                    false => Fits::Not,
                }
            }
        })
    };
    host.words.iter().map(one).try_fold(Fits::Not, |best, fits| Ok(best.max(fits?)))
}

pub(super) fn choose<'a>(
    top: &'a [Node],
    snapshot: &Snapshot,
    request: &Request,
) -> Result<Chosen<'a>, Unknown> {
    let fitting: Result<Vec<(&Node, Fits)>, Unknown> = top
        .iter()
        .filter(|n| n.name == "virtualhost")
        .map(|host| Ok((host, fits(host, snapshot, request)?)))
        .collect();
    let all: Vec<(&Node, Fits)> = fitting?.into_iter().filter(|(_, fits)| *fits != Fits::Not).collect();
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
            .any(|alias| crate::path::matches(&alias.to_ascii_lowercase(), &name, false))
    };
    Ok(match here.iter().find(has) {
        Some(host) => Chosen { host: Some(host), by_name: true },
        None => Chosen { host: here.first().copied(), by_name: false },
    })
}

/// The name of a `ServerName`, without scheme and port.
fn bare(written: &str) -> String {
    let name = written.split_once("://").map_or(written, |(_, rest)| rest);
    let name = if name.starts_with('[') { name } else { name.split(':').next().unwrap_or_default() };
    name.to_ascii_lowercase()
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
            assert_eq!(crate::path::matches(pattern, text, false), expected, "{pattern} {text}");
        }
        assert_eq!(bare("https://Front.example:8443"), "front.example");
    }
}
