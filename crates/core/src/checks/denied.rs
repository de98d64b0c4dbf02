//! What the log says was refused, compared with what the service's account may do now: a path that the configuration does not
//! name can stand in its way, too.
use crate::access::{self, Obstacle, Right};
use crate::accounts;
use crate::case::Case;
use crate::code::Code;
use crate::config::Severity;
use crate::finding::{Evidence, Finding, Proof, Source, Subject, stage};
use crate::host::{FileKind, Look};
use crate::log::Failure;
use crate::path;
use crate::snapshot::Snapshot;

pub(super) fn check(snapshot: &Snapshot, case: &Case) -> Vec<Finding> {
    // Of who starts as root and gives its powers up later the modes of files tell nothing.
    if !case.processes.is_empty() || case.starter.uid == 0 {
        return vec![];
    }
    let refused = |f: &&Failure| !f.found.aftermath && matches!(f.code, Code::PermissionDenied | Code::WrongOwner);
    let failures = case.telling().into_iter().flat_map(|a| &a.failures).filter(refused);
    failures.filter_map(|failure| still_refused(snapshot, case, failure)).collect()
}

fn still_refused(snapshot: &Snapshot, case: &Case, failure: &Failure) -> Option<Finding> {
    let who = &case.starter;
    let file = case.path_of(failure).filter(|p| p.starts_with('/'))?;
    let target = if snapshot.exists(&file)? { file } else { path::parent(&file).to_owned() };
    if let Some(finding) = foreign_socket(snapshot, case, &target) {
        return Some(finding);
    }
    let obstacle = obstacle(snapshot, case, &target)?;
    let owner = accounts::user_name(snapshot, obstacle.status.uid);
    let foreign = obstacle.status.uid != who.uid && (is_data(case, &obstacle.path) || may_replace(snapshot, case, &obstacle.path));
    let (code, title, fixes) = if foreign && obstacle.by == access::Refusal::Mode {
        (Code::WrongOwner, format!("{} belongs to {owner}, but {} runs as {}", obstacle.path, case.service.name, who.name), vec!["give-back"])
    } else {
        let fixes = if obstacle.by == access::Refusal::Mode { vec!["grant-access"] } else { vec![] };
        (Code::PermissionDenied, format!("{} may not {} {}", who.name, obstacle.right.verb(), obstacle.path), fixes)
    };
    let kind = if obstacle.status.kind == FileKind::Directory { "a directory" } else { "a file" };
    let seen = Evidence::new(Source::File, format!("{kind} of {owner}, mode {:04o}", obstacle.status.mode));
    Some(Finding {
        code,
        severity: Severity::Error,
        subject: Subject { account: Some(who.name.clone()), ..Subject::path(&obstacle.path) },
        title,
        proof: Proof::Inevitable,
        evidence: vec![seen.file(&obstacle.path).time(Some(obstacle.status.touched() * 1_000_000), &case.zone)],
        fixes,
        blocks: true,
        stage: stage::FILES,
    })
}

/// A socket file of another account's: it cannot be replaced, whatever its mode.
fn foreign_socket(snapshot: &Snapshot, case: &Case, file: &str) -> Option<Finding> {
    let who = &case.starter;
    let status = snapshot.link_stat(file).seen().filter(|s| s.kind == FileKind::Socket && s.uid != who.uid)?;
    let owner = accounts::user_name(snapshot, status.uid);
    Some(Finding {
        code: Code::WrongOwner,
        severity: Severity::Error,
        subject: Subject { account: Some(who.name.clone()), ..Subject::path(file) },
        title: format!("{file} is a socket of {owner}'s, which {} may not replace", who.name),
        proof: Proof::Inevitable,
        evidence: vec![
            Evidence::new(Source::File, format!("a socket of {owner}, mode {:04o}", status.mode))
                .file(file)
                .time(Some(status.touched() * 1_000_000), &case.zone),
        ],
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
    let written = is_data(case, target) || case.config.model.writes.iter().any(|w| w.path == target || path::parent(&w.path) == target);
    look(Right::Read).or_else(|| look(Right::Write).filter(|_| written))
}

fn is_data(case: &Case, file: &str) -> bool {
    case.config.model.data_dir.as_ref().is_some_and(|d| file == d.path || file.starts_with(&format!("{}/", d.path)))
}

/// Whether the directory around a file is the account's own: then the file is, too, or should be.
fn may_replace(snapshot: &Snapshot, case: &Case, file: &str) -> bool {
    snapshot.stat(path::parent(file)).seen().is_some_and(|dir| dir.uid == case.starter.uid)
}
