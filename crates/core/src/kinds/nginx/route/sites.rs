//! Which `server` answers: by the address that a request came in on, then by its name.
use super::super::tree::{Key, Sited, Tree};
use crate::config::Place;
use crate::route::{Files, Groups, Node, Request};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// Why a site was chosen.
pub(super) enum Because {
    /// It has the name.
    Name(String),
    /// A pattern of it fits.
    Pattern {
        /// As it stands there.
        written: String,
        /// What its groups took.
        groups: Groups,
    },
    /// No name fits, and it is the default of the listener.
    Default,
}

/// The site that answers.
pub(super) struct Chosen<'a> {
    pub(super) node: &'a Node,
    pub(super) because: Because,
}

/// A pattern could not be tried.
pub(super) struct Untried(pub(super) String, pub(super) Place);

/// Chooses; `None` where no site listens there.
pub(super) fn choose<'a>(
    tree: &'a Tree,
    http: &'a Node,
    files: &Files,
    request: &Request,
) -> Result<Option<Chosen<'a>>, Untried> {
    let here = listening(&tree.sites, request);
    let nodes: Vec<(&Node, bool)> = (http.all("server"))
        .filter_map(|node| {
            let (_, first) = here.iter().find(|(s, _)| s.opened.as_ref() == Some(&node.place))?;
            Some((node, *first))
        })
        .collect();
    let name = request.host_name();
    if let Some(found) = by_name(&nodes, files, &name)? {
        return Ok(Some(found));
    }
    let default = nodes.iter().find(|(_, default)| *default).or(nodes.first());
    Ok(default.map(|(node, _)| Chosen { node, because: Because::Default }))
}

/// Sites that share the listener which takes the request, each with whether it is its default: the exact
/// address goes before the wildcard of the same port.
fn listening<'s>(sites: &'s [Sited], request: &Request) -> Vec<(&'s Sited, bool)> {
    let of = |key: &Key| -> Vec<(&'s Sited, bool)> {
        let own =
            |site: &'s Sited| site.listens.iter().find(|own| own.key == *key).map(|own| (site, own.default));
        sites.iter().filter_map(own).collect()
    };
    let wild = |six: bool| -> IpAddr {
        if six { Ipv6Addr::UNSPECIFIED.into() } else { Ipv4Addr::UNSPECIFIED.into() }
    };
    let address = crate::net::normal(request.address);
    let exact = of(&(Some(address), request.port, None));
    if !exact.is_empty() {
        return exact;
    }
    let same = of(&(Some(wild(address.is_ipv6())), request.port, None));
    // A listener of IPv6 takes connections of IPv4, too, where it is told to.
    if same.is_empty() && address.is_ipv4() {
        let wide = of(&(Some(wild(true)), request.port, None));
        let key = (Some(wild(true)), request.port, None);
        let both = sites.iter().flat_map(|s| &s.listens).any(|own| own.key == key && own.both_families);
        return if both { wide } else { Vec::new() };
    }
    same
}

fn names(node: &Node) -> impl Iterator<Item = (&str, &Place)> {
    node.all("server_name").flat_map(|line| line.words.iter().map(move |w| (w.as_str(), &line.place)))
}

/// Exact names, then the longest wildcard in front, then the longest at the end, then patterns in order
/// (nginx documentation, "Server names").
fn by_name<'a>(nodes: &[(&'a Node, bool)], files: &Files, name: &str) -> Result<Option<Chosen<'a>>, Untried> {
    let all: Vec<(&'a Node, &'a str, String, &'a Place)> = nodes
        .iter()
        .flat_map(|(node, _)| names(node).map(|(n, place)| (*node, n, n.to_ascii_lowercase(), place)))
        .collect();
    // The longest of those that fit; of equal ones the first.
    let longest = |fits: &dyn Fn(&str) -> Option<usize>| {
        let mut best: Option<(usize, &'a Node, &'a str)> = None;
        for (node, written, lower, _) in &all {
            if let Some(length) = fits(lower).filter(|l| best.is_none_or(|(known, ..)| *l > known)) {
                best = Some((length, node, written));
            }
        }
        best.map(|(_, node, written)| Chosen { node, because: Because::Name(written.to_owned()) })
    };
    let exact = |n: &str| (n == name || n.strip_prefix('.') == Some(name)).then_some(1);
    let front = |n: &str| {
        let tail = n.strip_prefix('*').filter(|t| t.starts_with('.')).or(n.starts_with('.').then_some(n))?;
        (name.len() > tail.len() && name.ends_with(tail)).then_some(tail.len())
    };
    let behind = |n: &str| {
        let head = n.strip_suffix('*').filter(|h| h.ends_with('.') && !h.starts_with('~'))?;
        (name.len() > head.len() && name.starts_with(head)).then_some(head.len())
    };
    if let Some(found) = longest(&exact).or_else(|| longest(&front)).or_else(|| longest(&behind)) {
        return Ok(Some(found));
    }
    for (node, written, _, place) in &all {
        let Some(pattern) = written.strip_prefix('~') else { continue };
        // A capital letter in it makes it indifferent to them.
        let caseless = pattern.bytes().any(|b| b.is_ascii_uppercase());
        let untried = || Untried((*written).to_owned(), (*place).clone());
        let mut groups = Groups::default();
        let fits = files.fits(pattern, caseless, name, &mut groups);
        if fits.ok_or_else(untried)? {
            let because = Because::Pattern { written: (*written).to_owned(), groups };
            return Ok(Some(Chosen { node, because }));
        }
    }
    Ok(None)
}
