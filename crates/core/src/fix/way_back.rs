//! The way back of a change: its terms, what it needs to know of each step, and what came of it.
use super::command::{CommandLine, Purpose, RunMark};
use super::object::Identity;
use super::{HostWriter, UnitLink, UnitNow, WriteError};
use serde::{Deserialize, Serialize};

/// How far a step came, as far as the record knows. The machine itself has the last word.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Stage {
    /// Not begun.
    Planned,
    /// Begun; it may or may not have happened.
    Begun,
    /// Done.
    Done,
    /// Undone.
    Undone,
}

/// What undoing a step needs beyond the step itself.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Undo {
    /// Name of the backup in the journal.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub backup: Option<String>,
    /// The directory that was made, known before it appeared.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub made: Option<Identity>,
    /// The unit before the call.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unit_before: Option<UnitNow>,
    /// The unit after the call.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unit_after: Option<UnitNow>,
    /// Links of the unit before the call; an entry without a target is a directory of links.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub links_before: Option<Vec<UnitLink>>,
    /// The same after the call.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub links_after: Option<Vec<UnitLink>>,
}

/// Why something is put back.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Way {
    /// The change did not help, or failed half-way: services run again as they did before it.
    RollBack,
    /// A person asks: files go back, and a service is left as it is found unless the change itself started or
    /// stopped it.
    Undo,
}

impl Way {
    pub(super) fn outcome(self) -> &'static str {
        match self {
            Self::RollBack => "rolled-back",
            Self::Undo => "undone",
        }
    }
}

/// What the present services file says of a service that no manager owns.
pub trait Commands {
    /// Its run now: `None` where nothing tells, `Some(None)` where it does not run.
    fn running(&self, service: &str) -> Option<Option<RunMark>>;
    /// Its command for a purpose.
    fn line(&self, service: &str, purpose: Purpose) -> Option<CommandLine>;
}

/// No services file: a host whose services are all the manager's, or a directory tree.
#[derive(Clone, Copy, Debug)]
pub struct NoCommands;

impl Commands for NoCommands {
    fn running(&self, _: &str) -> Option<Option<RunMark>> {
        None
    }
    fn line(&self, _: &str, _: Purpose) -> Option<CommandLine> {
        None
    }
}

/// What an undo did.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Undone {
    /// In words, in order.
    pub done: Vec<String>,
    /// What cannot be put back, or was left alone, in words.
    pub left: Vec<String>,
    /// What runs and which restart is due, in words.
    pub due: Vec<String>,
    /// What could not be put back this time, with the reason; undoing again takes it up.
    pub failed: Vec<String>,
}

impl Undone {
    /// In one sentence, for a message.
    pub fn spelled(&self) -> String {
        let mut parts = Vec::new();
        if !self.failed.is_empty() {
            parts.push(format!("not everything could be put back: {}", self.failed.join("; ")));
        }
        if !self.left.is_empty() {
            parts.push(format!("left as it is: {}", self.left.join("; ")));
        }
        match (parts.is_empty(), self.done.is_empty()) {
            (true, true) => "nothing had been changed".into(),
            (true, false) => "everything that it had changed was put back".into(),
            (false, true) => parts.join("; "),
            (false, false) => format!("the rest was put back; {}", parts.join("; ")),
        }
    }
}

/// A refusal in words.
pub(super) fn refused<T>(words: String) -> Result<T, WriteError> {
    Err(WriteError::Refused(words))
}

/// What cannot be seen is not taken for stopped: the step stays to be taken back.
pub(super) fn seen_now(writer: &dyn HostWriter, unit: &str) -> Result<UnitNow, WriteError> {
    writer.unit_now(unit).ok_or_else(|| WriteError::Refused(format!("whether {unit} runs could not be seen")))
}
