//! A request on its way through nginx, and what is known of it meanwhile.
use super::super::{Options, conceal};
use crate::route::{End, Files, Groups, Node, Request, Step};
use std::collections::BTreeMap;

/// How often a path may change before the daemon gives up.
const CHANGES: u8 = 10;

/// A request on its way.
pub(super) struct Walk<'a, 'h> {
    pub(super) options: &'a Options,
    pub(super) files: &'a Files<'a, 'h>,
    pub(super) top: &'a [Node],
    pub(super) http: &'a Node,
    pub(super) server: &'a Node,
    pub(super) request: &'a Request,
    pub(super) uri: String,
    pub(super) args: String,
    /// The path is still the one that the client sent.
    pub(super) as_sent: bool,
    pub(super) groups: Groups,
    pub(super) set: BTreeMap<String, String>,
    /// Blocks whose settings are in force, the outermost first.
    pub(super) chain: Vec<&'a Node>,
    /// What answers, and the location that names it.
    pub(super) handler: Option<(&'a Node, &'a Node)>,
    /// The path was found by a pattern with `alias`, and counts behind it.
    pub(super) behind_alias: bool,
    pub(super) steps: Vec<Step>,
    pub(super) because: Option<(u16, Box<End>)>,
    pub(super) status: Option<u16>,
    /// The daemon itself led here.
    pub(super) internal: bool,
    pub(super) changes: u8,
    pub(super) in_error: bool,
}

impl<'a, 'h> Walk<'a, 'h> {
    pub(super) fn new(
        options: &'a Options,
        files: &'a Files<'a, 'h>,
        top: &'a [Node],
        (http, server): (&'a Node, &'a Node),
        request: &'a Request,
        (uri, args): (String, &str),
    ) -> Self {
        Self {
            options,
            files,
            top,
            http,
            server,
            request,
            uri,
            args: args.to_owned(),
            as_sent: true,
            groups: Groups::default(),
            set: BTreeMap::new(),
            chain: vec![http, server],
            handler: None,
            behind_alias: false,
            steps: Vec::new(),
            because: None,
            status: None,
            internal: false,
            changes: CHANGES + 1,
            in_error: false,
        }
    }
}

/// A value that could not be found out: the variable it hangs on.
pub(super) struct Unknown(pub(super) String);

/// A block as a person would call it.
pub(super) fn shown(node: &Node) -> String {
    let words: Vec<&str> =
        std::iter::once(node.name.as_str()).chain(node.words.iter().map(String::as_str)).collect();
    conceal::head(&words.join(" "))
}
