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

pub(super) fn check(snapshot: &Snapshot, case: &Case) -> Vec<Finding> {
    if !case.processes.is_empty() || case.guessed.is_empty() {
        return Vec::new();
    }
    let failures: &[Failure] = case.attempts.first().map_or(&[], |last| &last.failures);
    let told = |codes: &[Code], port: u16| {
        failures.iter().any(|f| codes.contains(&f.code) && names_port(f).is_none_or(|p| p == port))
    };
    // What others decide names nobody who is to be stopped, and nothing that is to be granted.
    let steered = case.is_steered(snapshot);
    let offered = |fixes: Vec<&'static str>| if steered { vec![] } else { fixes };
    let mut all = Vec::new();
    for want in &case.guessed {
        let port = want.listen.port;
        let taken = told(&[Code::PortTaken, Code::AlreadyRunning], port);
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
