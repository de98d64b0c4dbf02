//! Listeners that a program which nobody knows seems to want, by its arguments and its environment. Alone
//! they say little: a port that is named may be somebody else's. Beside a log that tells of a listener they
//! name it.
use super::ports;
use crate::case::Case;
use crate::code::Code;
use crate::finding::{Finding, Proof};
use crate::log::Failure;
use crate::snapshot::Snapshot;

/// The port that a line of the log names.
fn names_port(failure: &Failure) -> Option<u16> {
    failure.found.object("port")?.parse().ok()
}

/// What the log said against the last start.
fn failures<'c>(case: &'c Case) -> impl Iterator<Item = &'c Failure> {
    case.telling().into_iter().flat_map(|attempt| &attempt.failures)
}

/// Whoever holds what it listened on when it last ran: no more than a hint beside a log that tells of a
/// listener, because that is a word of its own, or of another day.
fn recalled(snapshot: &Snapshot, case: &Case) -> Vec<Finding> {
    let tells = failures(case).any(|f| matches!(f.code, Code::PortTaken | Code::AlreadyRunning));
    let known = |port: u16| case.guessed.iter().chain(&case.told).any(|g| g.listen.port == port);
    let all = case.recalled.iter().filter(|w| tells && !known(w.listen.port));
    all.flat_map(|want| {
        let found = |holder| ports::taken(snapshot, case, want, holder);
        want.held_by
            .iter()
            .map(move |holder| Finding { proof: Proof::Claimed, fixes: vec![], ..found(holder) })
            .collect::<Vec<_>>()
    })
    .collect()
}

/// Whoever holds what the log of this very start says was not to be had. The kernel bears the line out, so
/// the reason stands as long as that one holds it; that the program wants the port, only its line tells.
fn told(snapshot: &Snapshot, case: &Case) -> Vec<Finding> {
    let known = |port: u16| case.guessed.iter().any(|g| g.listen.port == port);
    let all = case.told.iter().filter(|w| !w.served && !known(w.listen.port));
    all.flat_map(|want| {
        let found = |holder| ports::taken(snapshot, case, want, holder);
        let one = move |holder| Finding { proof: Proof::Echoed, fixes: vec![], ..found(holder) };
        want.held_by.iter().map(one).collect::<Vec<_>>()
    })
    .collect()
}

pub(super) fn check(snapshot: &Snapshot, case: &Case) -> Vec<Finding> {
    let mut all = told(snapshot, case);
    if !case.processes.is_empty() {
        return all;
    }
    all.extend(recalled(snapshot, case));
    if case.guessed.is_empty() {
        return all;
    }
    let failures: Vec<&Failure> = failures(case).collect();
    let tells = |codes: &[Code], port: u16| {
        failures.iter().any(|f| codes.contains(&f.code) && names_port(f).is_none_or(|p| p == port))
    };
    // Of several that are held, a log that names no port means any of them.
    let held = case.guessed.iter().filter(|w| !w.held_by.is_empty()).count();
    for want in &case.guessed {
        // What others decide names nobody who is to be stopped, and nothing that is to be granted.
        let by_root = case.is_roots_word(snapshot, want.place.as_ref());
        let offered = |fixes: Vec<&'static str>| if by_root { fixes } else { vec![] };
        let port = want.listen.port;
        let named = failures.iter().any(|f| names_port(f) == Some(port));
        let taken = tells(&[Code::PortTaken, Code::AlreadyRunning], port) && (held == 1 || named);
        for holder in &want.held_by {
            let found = ports::taken(snapshot, case, want, holder);
            all.push(if taken {
                Finding { proof: Proof::Said, fixes: offered(found.fixes), ..found }
            } else {
                // Whoever holds it may be whom the program talks to.
                Finding { proof: Proof::Claimed, fixes: vec![], ..found }
            });
        }
        // What says nothing but that something is not permitted is about the port, if that one is not.
        let denied = failures.iter().any(|f| {
            f.code == Code::PortPrivileged
                || (f.code == Code::PermissionDenied && f.found.object("path").is_none())
        });
        if denied && let Some(found) = ports::privileged(snapshot, case, want) {
            all.push(Finding { proof: Proof::Said, fixes: offered(found.fixes), ..found });
        }
    }
    all
}
