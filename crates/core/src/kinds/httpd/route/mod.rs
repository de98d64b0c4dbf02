//! The way of a request through httpd.
mod access;
mod content;
mod folders;
mod rewriting;
mod sites;
mod state;
mod walk;

use super::tree::Tree;
use crate::route::{End, Files, Request, Route, Step, StepKind, uri};
use state::{Unknown, Walk};

/// The way of a request.
pub(super) fn route(tree: &Tree, files: &Files, request: &Request) -> Option<Route> {
    let chosen = match sites::choose(tree.top(), files.snapshot, request) {
        Ok(chosen) => chosen,
        Err(Unknown(what)) => return Some(Route::undecided(what, None)),
    };
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
            End::Undecided { what: "the path, which is malformed".to_owned(), place: None }
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
