//! The `http` block as a tree: kept only where the way of a request is asked for.
use super::super::state::{Directive, Site};
use crate::config::Place;

/// A directive, with what stands inside it.
#[derive(Clone, Debug)]
pub(in super::super) struct Node {
    pub(super) name: String,
    pub(super) words: Vec<String>,
    pub(super) place: Place,
    pub(super) children: Vec<Node>,
}

impl Node {
    pub(super) fn word(&self, at: usize) -> &str {
        self.words.get(at).map_or("", String::as_str)
    }

    pub(super) fn last_word(&self) -> &str {
        self.words.last().map_or("", String::as_str)
    }

    /// The directives of a name that stand directly inside.
    pub(super) fn all<'a>(&'a self, name: &'a str) -> impl Iterator<Item = &'a Self> {
        self.children.iter().filter(move |node| node.name == name)
    }

    pub(super) fn one(&self, name: &str) -> Option<&Self> {
        self.children.iter().find(|node| node.name == name)
    }
}

/// What is being read.
#[derive(Default)]
pub(in super::super) struct Tree {
    /// Blocks that are open, the outermost first.
    open: Vec<Node>,
    /// What stands in no block.
    pub(super) top: Vec<Node>,
    /// Sites with their listeners, in the order in which they end.
    pub(in super::super) sites: Vec<Site>,
}

impl Tree {
    /// Adds a directive; one that opens a block stays open.
    pub(in super::super) fn add(&mut self, d: &Directive) {
        let node = Node {
            name: d.name().to_owned(),
            words: d.arguments().map(str::to_owned).collect(),
            place: d.place.clone(),
            children: Vec::new(),
        };
        if d.opens { self.open.push(node) } else { self.put(node) }
    }

    /// Closes the block that was opened last.
    pub(in super::super) fn close(&mut self) {
        if let Some(node) = self.open.pop() {
            self.put(node);
        }
    }

    fn put(&mut self, node: Node) {
        match self.open.last_mut() {
            Some(outer) => outer.children.push(node),
            None => self.top.push(node),
        }
    }

    /// The `http` block.
    pub(super) fn http(&self) -> Option<&Node> {
        self.top.iter().find(|node| node.name == "http")
    }
}
