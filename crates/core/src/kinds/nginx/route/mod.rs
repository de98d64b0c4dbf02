//! The way of a request through nginx.
mod content;
mod locations;
mod sites;
mod state;
mod values;
mod walk;

use super::Options;
use super::tree::Tree;
use crate::route::{Files, Request, Route, Step, StepKind, uri};
use sites::{Because, Untried};
use state::Walk;

/// The way of a request; `None` where no site listens on its address.
pub(super) fn route(options: &Options, tree: &Tree, files: &Files, request: &Request) -> Option<Route> {
    let http = tree.http()?;
    let chosen = match sites::choose(tree, http, files, request) {
        Ok(chosen) => chosen?,
        Err(Untried(pattern, place)) => {
            let what = format!("whether {} fits the name", crate::secrets::mask_text(&pattern));
            return Some(Route::undecided(what, Some(place)));
        }
    };
    let server = chosen.node;
    let first = server.all("server_name").next().map_or("", |line| line.word(0));
    let shown = crate::secrets::mask_text(first);
    let what = match &chosen.because {
        Because::Name(name) => format!("server {}", crate::secrets::mask_text(name)),
        Because::Pattern { written, .. } => format!("server {}", crate::secrets::mask_text(written)),
        Because::Default if shown.is_empty() => "the default server, which has no name".to_owned(),
        Because::Default => format!("server {shown}, by default: no site has this name"),
    };
    let site = Step { kind: StepKind::Site, what, place: Some(server.place.clone()) };
    let (path, query) = uri::split(&request.target);
    let merges =
        [server, http].iter().find_map(|n| n.one("merge_slashes")).is_none_or(|n| n.word(0) != "off");
    let Some(path) = uri::decode(path).and_then(|p| uri::normal(&p, merges)) else {
        let mut route = Route::undecided("the path, which is malformed".to_owned(), None);
        (route.steps, route.status) = (vec![site], Some(400));
        return Some(route);
    };
    let mut walk = Walk::new(options, files, tree.top(), (http, server), request, (path, query));
    if let Because::Pattern { groups, .. } = chosen.because {
        walk.groups = groups;
    }
    walk.steps.push(site);
    let end = walk.go();
    let (error_logs, access_logs) = walk.logs();
    let last = walk.chain.iter().rev().find(|n| matches!(n.name.as_str(), "server" | "location"));
    Some(Route {
        place: last.map(|n| n.place.clone()),
        steps: walk.steps,
        end,
        status: walk.status,
        because: walk.because,
        error_logs,
        access_logs,
    })
}
