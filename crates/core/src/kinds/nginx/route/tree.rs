//! What the way of a request through nginx is found in: its directives, and its sites with their listeners.
use super::super::state::{Directive, Site};
pub(super) use crate::route::Node;
use crate::route::{Grown, Node as Statement};

/// What is being read.
#[derive(Default)]
pub(in super::super) struct Tree {
    grown: Grown,
    /// Sites with their listeners, in the order in which they end.
    pub(in super::super) sites: Vec<Site>,
}

impl Tree {
    /// Adds a directive; one that opens a block stays open.
    pub(in super::super) fn add(&mut self, d: &Directive) {
        let node = Statement {
            name: d.name().to_owned(),
            words: d.arguments().map(str::to_owned).collect(),
            place: d.place.clone(),
            children: Vec::new(),
        };
        self.grown.add(node, d.opens);
    }

    /// Closes the block that was opened last.
    pub(in super::super) fn close(&mut self) {
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
