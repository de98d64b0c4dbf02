//! A configuration as the way of a request is found in it.
use super::STATIC_MODULES;
use crate::config::Place;
use crate::route::{Grown, Node};

/// What the way is found in.
#[derive(Default)]
pub(super) struct Tree {
    grown: Grown,
    /// Modules that are loaded.
    pub(super) modules: Vec<String>,
    /// Their files, which hold names that no table has.
    pub(super) module_files: Vec<String>,
    /// What relative paths count from.
    pub(super) server_root: String,
}

impl Tree {
    /// Adds a directive of the second pass; a section stays open.
    pub(super) fn add(&mut self, name: &str, words: Vec<String>, place: Place, opens: bool) {
        let name = name.trim_start_matches('<').to_owned();
        self.grown.add(Node { name, words, place, children: Vec::new() }, opens);
    }

    /// Closes the section that was opened last.
    pub(super) fn close(&mut self) {
        self.grown.close();
    }

    pub(super) fn top(&self) -> &[Node] {
        &self.grown.top
    }

    /// Whether the module of a row is there.
    pub(super) fn has_source(&self, from: &str) -> bool {
        matches!(from, "core" | "mpm" | "http") || self.has(&format!("{from}_module"))
    }

    pub(super) fn has(&self, module: &str) -> bool {
        STATIC_MODULES.contains(&module) || self.modules.iter().any(|m| m == module)
    }
}
