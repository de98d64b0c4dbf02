//! How a start ended, in words.
use jolly_core::log::{Afterwards, Outcome};
use jolly_core::report::AttemptEntry;

pub(super) fn outcome(a: &AttemptEntry) -> String {
    match (a.outcome, a.afterwards) {
        (Outcome::Ready, Some(Afterwards::Running)) => "ready, runs".into(),
        (Outcome::Ready, Some(Afterwards::Stopped)) => "ready, then stopped".into(),
        (Outcome::Ready, Some(Afterwards::Killed)) => "ready, then killed".into(),
        (Outcome::Ready, Some(Afterwards::Crashed)) => "ready, then died".into(),
        (Outcome::Ready, None) => "ready".into(),
        (Outcome::Failed, _) => match a.failures.first() {
            Some(f) => format!("failed: {}", f.code),
            None => "failed".into(),
        },
        (Outcome::Killed, _) => "killed while starting".into(),
        (Outcome::Stopped, _) => "stopped while starting".into(),
        (Outcome::Refused, _) => "refused by the manager".into(),
        (Outcome::Starting, _) => "is starting".into(),
        (Outcome::Unknown, _) => "end not known".into(),
    }
}

pub(super) fn bad(a: &AttemptEntry) -> bool {
    matches!(a.outcome, Outcome::Failed | Outcome::Refused | Outcome::Killed)
        || matches!(a.afterwards, Some(Afterwards::Crashed | Afterwards::Killed))
}
