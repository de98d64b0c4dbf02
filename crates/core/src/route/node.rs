//! A configuration as a tree: kept only where the way of a request is asked for.
use crate::config::Place;

/// A directive, with what stands inside it.
#[derive(Clone, Debug)]
pub struct Node {
    /// Its name; what the kind takes for the same is spelt the same.
    pub name: String,
    /// Its words.
    pub words: Vec<String>,
    /// Where it stands.
    pub place: Place,
    /// What stands inside.
    pub children: Vec<Node>,
}

impl Node {
    /// A word; empty where there is none.
    pub fn word(&self, at: usize) -> &str {
        self.words.get(at).map_or("", String::as_str)
    }
    /// The last word.
    pub fn last_word(&self) -> &str {
        self.words.last().map_or("", String::as_str)
    }
    /// The directives of a name that stand directly inside.
    pub fn all<'a>(&'a self, name: &'a str) -> impl Iterator<Item = &'a Self> {
        self.children.iter().filter(move |node| node.name == name)
    }
    /// The first directive of a name that stands directly inside.
    pub fn one(&self, name: &str) -> Option<&Self> {
        self.children.iter().find(|node| node.name == name)
    }
}

/// A tree that grows line by line.
#[derive(Debug, Default)]
pub struct Grown {
    /// Blocks that are open, the outermost first.
    open: Vec<Node>,
    /// What stands in no block.
    pub top: Vec<Node>,
}

impl Grown {
    /// Adds a directive; one that opens a block stays open.
    pub fn add(&mut self, node: Node, opens: bool) {
        if opens { self.open.push(node) } else { self.put(node) }
    }
    /// Closes the block that was opened last.
    pub fn close(&mut self) {
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
}
