//! What the way of a request through nginx is found in: its directives, and its sites with their listeners.
use crate::config::Place;
use crate::route::{Grown, Node};
use std::net::IpAddr;

/// An address and port as nginx compares them.
pub(super) type Key = (Option<IpAddr>, u16, Option<String>);

/// A listener of one site.
#[derive(Clone, Debug)]
pub(super) struct Own {
    pub(super) key: Key,
    /// Whether the site is to answer there where no name fits.
    pub(super) default: bool,
    /// Whether a listener of IPv6 takes IPv4, too.
    pub(super) both_families: bool,
}

/// A site, by where it begins, with its listeners.
pub(super) struct Sited {
    pub(super) opened: Option<Place>,
    pub(super) listens: Vec<Own>,
}

/// What is being read.
#[derive(Default)]
pub(super) struct Tree {
    grown: Grown,
    /// Sites with their listeners, in the order in which they end.
    pub(super) sites: Vec<Sited>,
}

impl Tree {
    /// Adds a directive; one that opens a block stays open.
    pub(super) fn add(&mut self, name: &str, words: Vec<String>, place: Place, opens: bool) {
        self.grown.add(Node { name: name.to_owned(), words, place, children: Vec::new() }, opens);
    }

    /// Closes the block that was opened last.
    pub(super) fn close(&mut self) {
        self.grown.close();
    }

    /// What stands in no block.
    pub(super) fn top(&self) -> &[Node] {
        &self.grown.top
    }

    /// The `http` block.
    pub(super) fn http(&self) -> Option<&Node> {
        self.top().iter().find(|node| node.name == "http")
    }
}
