//! A request on its way through httpd, and what is known of it meanwhile.
use super::super::tree::Tree;
use crate::config::Place;
use crate::route::{End, Files, Groups, Node, Request, Step};
use std::sync::Arc;

/// An answer that could not be found out, and what it hangs on.
pub(super) struct Unknown(pub(super) String);

/// A request on its way.
pub(super) struct Walk<'a, 'h> {
    pub(super) tree: &'a Tree,
    pub(super) files: &'a Files<'a, 'h>,
    pub(super) request: &'a Request,
    pub(super) host: Option<&'a Node>,
    pub(super) uri: String,
    pub(super) args: String,
    /// A question mark was sent, whatever stands behind it.
    pub(super) has_query: bool,
    /// The file that the path stands for, once that is known.
    pub(super) filename: Option<String>,
    pub(super) groups: Groups,
    pub(super) steps: Vec<Step>,
    pub(super) because: Option<(u16, Box<End>)>,
    pub(super) status: Option<u16>,
    pub(super) place: Option<Place>,
    /// An override file that may not be read.
    pub(super) closed_override: Option<String>,
    /// A line of an override file that the daemon refuses.
    pub(super) broken_override: Option<(Place, String)>,
    /// The directory that the page before lay in, with the sections that were found for it.
    pub(super) walked: Option<(String, Vec<Block>)>,
    /// No rule of a folder is asked any more.
    pub(super) rewrite_ended: bool,
    /// A rule of the server passes it on.
    pub(super) passed: Option<Box<crate::route::Pass>>,
    pub(super) in_error: bool,
    /// The place where the first failure was.
    pub(super) failed_at: Option<Place>,
}

impl<'a, 'h> Walk<'a, 'h> {
    pub(super) fn new(
        tree: &'a Tree,
        files: &'a Files<'a, 'h>,
        request: &'a Request,
        host: Option<&'a Node>,
        query: &str,
    ) -> Self {
        Self {
            tree,
            files,
            request,
            host,
            uri: String::new(),
            args: query.to_owned(),
            has_query: request.target.contains('?'),
            filename: None,
            groups: Groups::default(),
            steps: Vec::new(),
            because: None,
            status: None,
            place: None,
            closed_override: None,
            broken_override: None,
            walked: None,
            rewrite_ended: false,
            passed: None,
            in_error: false,
            failed_at: None,
        }
    }

    pub(super) fn query(&self) -> String {
        if self.has_query || !self.args.is_empty() { format!("?{}", self.args) } else { String::new() }
    }
}

/// One section that is in force.
#[derive(Clone)]
pub(super) struct Block {
    pub(super) children: Arc<Vec<Node>>,
    /// As a person would call it.
    pub(super) shown: String,
    pub(super) place: Option<Place>,
    /// The directory that it stands for, where it does.
    pub(super) dir: Option<String>,
    /// Whether an override file holds it.
    pub(super) is_override: bool,
}

impl Block {
    pub(super) fn of(node: &Node, dir: Option<&str>) -> Self {
        Self {
            children: Arc::new(node.children.clone()),
            shown: format!("<{} {}>", node.name, crate::secrets::mask_text(&node.words.join(" "))),
            place: Some(node.place.clone()),
            dir: dir.map(str::to_owned),
            is_override: false,
        }
    }
}

/// A directive as a person would call it.
pub(super) fn shown(node: &Node) -> String {
    crate::secrets::mask_text(&format!("{} {}", node.name, node.words.join(" ")))
}
