//! Ending a process.
use super::{Act, Back, Doing};
use crate::fix::WriteError;
use serde::{Deserialize, Serialize};

/// Ends a process.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct End {
    /// Process.
    pub pid: u32,
    /// Its start, so that nobody else is hit.
    pub start_ticks: u64,
    /// Its name, for people.
    pub name: String,
    /// It keeps data: it is asked to end and waited for, and never killed hard.
    #[serde(default)]
    pub gently: bool,
}

impl Act for End {
    fn spelled(&self) -> String {
        format!("end {} (pid {})", self.name, self.pid)
    }
    fn irreversible(&self) -> Option<String> {
        Some(format!("ending {} (pid {}) cannot be undone: nothing starts it again", self.name, self.pid))
    }
    fn carry_out(&self, doing: &mut Doing) -> Result<(), WriteError> {
        doing.writer.end_process(self.pid, self.start_ticks, self.gently)
    }
    fn put_back(&self, back: &mut Back) -> Result<(), WriteError> {
        if !back.writer.is_alive(self.pid, self.start_ticks) {
            back.undone
                .left
                .push(format!("{} (pid {}) was ended and is not started again", self.name, self.pid));
        }
        Ok(())
    }
}
