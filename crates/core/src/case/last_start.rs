//! What the last start said, as far as it is still worth asking about.
use super::Case;
use crate::log::{Attempt, Failure, Outcome};
use crate::path;
use crate::snapshot::Snapshot;

/// The newest attempt, and the ones before it as long as what is newer says nothing. Of a service that
/// comes up again and again (`flaps`), a run that goes on says nothing either.
pub(super) fn telling(attempts: &[Attempt], flaps: bool) -> Vec<&Attempt> {
    let mut all = Vec::new();
    for attempt in attempts {
        all.push(attempt);
        // A refusal, or a try that goes on just now, says nothing: the one before tells the reason.
        let says_nothing = match attempt.outcome {
            Outcome::Refused => attempt.result != "condition" && attempt.result != "dependency",
            Outcome::Starting | Outcome::Unknown => attempt.failures.is_empty(),
            Outcome::Ready => flaps && attempt.goes_on() && attempt.failures.is_empty(),
            _ => false,
        };
        if !says_nothing {
            break;
        }
    }
    all
}

impl Case<'_> {
    /// The newest attempt; where the manager only refused to try, the one before that tells the reason.
    pub fn telling(&self) -> Vec<&Attempt> {
        telling(&self.attempts, self.state == super::State::Restarting)
    }

    /// The unit that listens for it, while none of its processes runs.
    pub fn waits_by(&self) -> Option<&crate::manager::SocketUnit> {
        self.sockets.iter().find(|socket| socket.is_up() && self.processes.is_empty())
    }

    /// Whether no table or grammar of its own stands behind what is said of it.
    pub fn is_of_no_kind(&self) -> bool {
        self.service.kind.grammar().has_general_words()
    }

    /// The path that a line names, whole: servers that keep data say it from where they keep them.
    pub fn path_of(&self, failure: &Failure) -> Option<String> {
        let named = failure.found.object("path")?;
        let below_data =
            named.starts_with("./") || (!named.contains('/') && self.service.kind.profile().keeps_data);
        Some(match &self.config.model.data_dir {
            Some(data) if below_data => path::join(&data.path, named.trim_start_matches("./")),
            _ => named.to_owned(),
        })
    }

    /// Whether a path is the directory of the data or below it.
    pub fn holds_data(&self, file: &str) -> bool {
        self.config
            .model
            .data_dir
            .as_ref()
            .is_some_and(|d| file == d.path || file.starts_with(&format!("{}/", d.path)))
    }

    /// When a file of the unit changed last, in seconds since the epoch.
    pub fn unit_changed(&self, snapshot: &Snapshot) -> Option<i64> {
        let unit = self.service.unit.as_ref()?;
        std::iter::once(&unit.fragment)
            .chain(&unit.drop_ins)
            .filter_map(|f| snapshot.stat(f).seen())
            .map(|s| s.touched())
            .max()
    }
}
