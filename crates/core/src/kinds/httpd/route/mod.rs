//! The way of a request through httpd.
mod access;
mod content;
mod folders;
mod rewriting;
mod sites;
mod walk;

use super::state::Directive;
use crate::route::{End, Files, Grown, Node, Request, Route, Step, StepKind, uri};
use walk::Walk;

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
    pub(super) fn add(&mut self, d: &Directive, opens: bool) {
        let node = Node {
            name: d.lower().trim_start_matches('<').to_owned(),
            words: d.values.iter().map(|v| v.to_string()).collect(),
            place: d.item.place(),
            children: Vec::new(),
        };
        self.grown.add(node, opens);
    }

    /// Closes the section that was opened last.
    pub(super) fn close(&mut self) {
        self.grown.close();
    }

    fn top(&self) -> &[Node] {
        &self.grown.top
    }

    /// Whether the module of a row is there.
    fn has_source(&self, from: &str) -> bool {
        matches!(from, "core" | "mpm" | "http") || self.has(&format!("{from}_module"))
    }

    fn has(&self, module: &str) -> bool {
        super::STATIC_MODULES.contains(&module) || self.modules.iter().any(|m| m == module)
    }
}

/// An answer that could not be found out, and what it hangs on.
struct Unknown(String);

/// The way of a request.
pub(super) fn route(tree: &Tree, files: &Files, request: &Request) -> Option<Route> {
    let chosen = sites::choose(tree.top(), files.snapshot, request);
    let (what, place) = match chosen.host {
        Some(host) => {
            let name = host.one("servername").map_or("", |n| n.word(0));
            let shown = crate::secrets::mask_text(name);
            let what = match (chosen.by_name, shown.is_empty()) {
                (true, _) => format!("site {shown}"),
                (false, true) => "the first site of this address".to_owned(),
                (false, false) => format!("site {shown}, by default: no site has this name"),
            };
            (what, Some(host.place.clone()))
        }
        None => ("the main server".to_owned(), None),
    };
    let site = Step { kind: StepKind::Site, what, place: place.clone() };
    let (path, query) = uri::split(&request.target);
    let mut walk = Walk::new(tree, files, request, chosen.host, query);
    walk.steps.push(site);
    let end = match uri::decode(path).and_then(|p| uri::normal(&p, true)) {
        Some(path) => {
            walk.uri = path;
            walk.go()
        }
        None => {
            walk.status = Some(400);
            End::Undecided { what: "a path that is none".to_owned(), place: None }
        }
    };
    let (error_logs, access_logs) = walk.logs();
    Some(Route {
        place: walk.place.or(place),
        steps: walk.steps,
        end,
        status: walk.status,
        because: walk.because,
        error_logs,
        access_logs,
    })
}
