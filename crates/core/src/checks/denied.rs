//! What the log says was refused, compared with what the service's account may do now: a path that the
//! configuration does not name can stand in its way, too.
use super::files::{kind_word, owned};
use crate::access::{self, Obstacle, Right};
use crate::accounts;
use crate::case::Case;
use crate::code::Code;
use crate::config::Severity;
use crate::finding::{Finding, Proof, Subject, stage};
use crate::host::{FileKind, Look};
use crate::log::Failure;
use crate::path;
use crate::snapshot::Snapshot;

pub(super) fn check(snapshot: &Snapshot, case: &Case) -> Vec<Finding> {
    // Of who starts as root and gives its powers up later the modes of files tell nothing.
    if !case.processes.is_empty() || case.starter.uid == 0 {
        return vec![];
    }
    let refused =
        |f: &&Failure| !f.found.aftermath && matches!(f.code, Code::PermissionDenied | Code::WrongOwner);
    let failures = case.telling().into_iter().flat_map(|a| &a.failures).filter(refused);
    failures.filter_map(|failure| still_refused(snapshot, case, failure)).collect()
}

fn still_refused(snapshot: &Snapshot, case: &Case, failure: &Failure) -> Option<Finding> {
    let who = &case.starter;
    // Whoever can write the log can name any path in it.
    let file = case
        .path_of(failure)
        .filter(|p| p.starts_with('/') && (failure.trusted || case.names(snapshot, p)))?;
    let target = if snapshot.exists(&file)? { file } else { path::parent(&file).to_owned() };
    if let Some(finding) = foreign_socket(snapshot, case, &target) {
        return Some(finding);
    }
    let obstacle = obstacle(snapshot, case, &target)?;
    let owner = accounts::user_name(snapshot, obstacle.status.uid);
    let foreign = obstacle.status.uid != who.uid
        && (case.holds_data(&obstacle.path) || may_replace(snapshot, case, &obstacle.path));
    let (code, title, fixes) = if foreign && obstacle.by == access::Refusal::Mode {
        (
            Code::WrongOwner,
            format!("{} belongs to {owner}, but {} runs as {}", obstacle.path, case.service.name, who.name),
            vec!["give-back"],
        )
    } else {
        let fixes = if obstacle.by == access::Refusal::Mode { vec!["grant-access"] } else { vec![] };
        (
            Code::PermissionDenied,
            format!("{} may not {} {}", who.name, obstacle.right.verb(), obstacle.path),
            fixes,
        )
    };
    Some(Finding {
        code,
        severity: Severity::Error,
        subject: Subject::obstacle(
            &obstacle,
            &who.name,
            (obstacle.path == snapshot.resolve_links(&target)).then_some(target.as_str()),
        ),
        title,
        proof: Proof::Inevitable,
        evidence: vec![owned(
            snapshot,
            case,
            kind_word(obstacle.status.kind),
            &obstacle.path,
            &obstacle.status,
        )],
        fixes,
        blocks: true,
        stage: stage::FILES,
    })
}

/// A socket file of another account's: it cannot be replaced, whatever its mode.
fn foreign_socket(snapshot: &Snapshot, case: &Case, file: &str) -> Option<Finding> {
    let who = &case.starter;
    let status =
        snapshot.link_stat(file).seen().filter(|s| s.kind == FileKind::Socket && s.uid != who.uid)?;
    let owner = accounts::user_name(snapshot, status.uid);
    Some(Finding {
        code: Code::WrongOwner,
        severity: Severity::Error,
        subject: Subject { account: Some(who.name.clone()), ..Subject::path(file) },
        title: format!("{file} is a socket of {owner}'s, which {} may not replace", who.name),
        proof: Proof::Inevitable,
        evidence: vec![owned(snapshot, case, kind_word(status.kind), file, &status)],
        fixes: vec!["move-aside"],
        blocks: true,
        stage: stage::BIND,
    })
}

/// What refuses it: reading, and, of what the service itself keeps, writing.
fn obstacle(snapshot: &Snapshot, case: &Case, target: &str) -> Option<Obstacle> {
    let look = |right| match access::may(snapshot, &case.starter, target, right) {
        Look::Seen(obstacle) => obstacle,
        _ => None,
    };
    let written = case.holds_data(target)
        || case.config.model.writes.iter().any(|w| w.path == target || path::parent(&w.path) == target);
    look(Right::Read).or_else(|| look(Right::Write).filter(|_| written))
}

/// Whether the directory around a file is the account's own: then the file is, too, or should be.
fn may_replace(snapshot: &Snapshot, case: &Case, file: &str) -> bool {
    snapshot.stat(path::parent(file)).seen().is_some_and(|dir| dir.uid == case.starter.uid)
}
