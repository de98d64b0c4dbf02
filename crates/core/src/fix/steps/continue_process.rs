//! Letting a halted process go on.
use super::{Act, Back, Doing};
use crate::fix::WriteError;
use serde::{Deserialize, Serialize};

/// Lets a halted process go on.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Continue {
    /// Process.
    pub pid: u32,
    /// Its start, so that nobody else is meant.
    pub start_ticks: u64,
    /// Its name, for people.
    pub name: String,
}

impl Act for Continue {
    fn spelled(&self) -> String {
        format!("let {} (pid {}) go on", self.name, self.pid)
    }
    fn irreversible(&self) -> Option<String> {
        Some(format!("{} (pid {}) goes on, and undo does not halt it again", self.name, self.pid))
    }
    fn carry_out(&self, doing: &mut Doing) -> Result<(), WriteError> {
        doing.writer.continue_process(self.pid, self.start_ticks)
    }
    fn put_back(&self, back: &mut Back) -> Result<(), WriteError> {
        if back.writer.is_alive(self.pid, self.start_ticks) {
            back.undone
                .left
                .push(format!("{} (pid {}) goes on and is not halted again", self.name, self.pid));
        }
        Ok(())
    }
}
