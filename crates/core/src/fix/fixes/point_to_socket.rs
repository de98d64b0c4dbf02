//! A front that passes on to a socket which is not there: pointed at the one that is.
use super::Fix;
use crate::case::Case;
use crate::config::{Span, alike_sockets};
use crate::fix::edits::edits;
use crate::fix::plan::{Plan, Risk};
use crate::host::Look;
use crate::rank::Cause;
use crate::snapshot::Snapshot;

pub(super) static FIX: Fix = Fix {
    price: |_| "points it at the socket that is there".into(),
    ..Fix::plain("point-to-socket", |ask, plan| point(ask.snapshot, ask.case, ask.cause, plan))
};

/// Every place of the service's own configuration that names the dead socket.
fn point(snapshot: &Snapshot, case: &Case, cause: &Cause, mut plan: Plan) -> Result<Plan, String> {
    let dead = cause.subject.path.as_deref().ok_or("the socket is not known")?;
    let Look::Seen(sockets) = snapshot.listeners() else { return Err("sockets cannot be seen".into()) };
    let living = match alike_sockets(dead, &sockets).as_slice() {
        [(one, true)] => one.clone(),
        [] | [(_, false), ..] => {
            return Err(format!("no socket that is there has the sort of name of {dead}"));
        }
        _ => {
            return Err(format!(
                "several sockets have the sort of name of {dead}: write the right one by hand"
            ));
        }
    };
    let mut spans: Vec<(Span, String)> = Vec::new();
    let mut files: Vec<&str> = case
        .config
        .model
        .upstreams
        .iter()
        .filter(|u| u.listen.path.as_deref() == Some(dead))
        .map(|u| &*u.place.file)
        .collect();
    files.sort_unstable();
    files.dedup();
    for file in files {
        let Look::Seen(bytes) = snapshot.read(file) else { return Err(format!("{file} cannot be read")) };
        let text = std::str::from_utf8(&bytes)
            .map_err(|_| format!("{file} is not text in UTF-8; edit it by hand"))?;
        let mut start = 0;
        for (at, line) in text.split_inclusive('\n').enumerate() {
            let number = u32::try_from(at + 1).unwrap_or(u32::MAX);
            let named = |u: &&crate::config::Upstream| {
                u.listen.path.as_deref() == Some(dead) && &*u.place.file == file && u.place.line == number
            };
            if case.config.model.upstreams.iter().any(|u| named(&u)) {
                // A longer name that begins the same is another socket.
                let ends = |end: usize| {
                    line[end..]
                        .chars()
                        .next()
                        .is_none_or(|c| !(c.is_alphanumeric() || matches!(c, '.' | '_' | '-' | '/')))
                };
                spans.extend(line.match_indices(dead).filter(|(n, _)| ends(n + dead.len())).map(|(n, _)| {
                    let span = Span { file: file.into(), start: start + n, end: start + n + dead.len() };
                    (span, living.clone())
                }));
            }
            start += line.len();
        }
    }
    if spans.is_empty() {
        return Err(format!("where {dead} is written is not known; edit it by hand"));
    }
    plan.title = format!("point {} at {living} in place of {dead}", case.service.name);
    plan.risk = Risk::Medium;
    plan.remarks.push("what answers there may be another release of what answered before".into());
    edits(snapshot, case, spans, &mut plan)?;
    Ok(plan)
}
