//! Fixes: dry plans first, then reversible steps under a journal.
mod plan;
mod plans;
mod preview;
mod steps;
mod transaction;
mod units;

pub use plan::{Parameter, Plan, Risk};
pub use plans::{combined, plans};
pub use preview::Preview;
pub use steps::{Digest, Step, digest};
pub use transaction::{Record, RecordedStep, Stage, Undo, Undone, apply, left_by, list, load, undo};

use crate::host::FileStatus;

/// Why a change was not made.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum WriteError {
    /// Something is not as the plan expects it; nothing was changed by this step.
    #[error("{0}")]
    Refused(String),
    /// The system refused.
    #[error("{what}: {why}")]
    Failed {
        /// What was tried.
        what: String,
        /// The system's words.
        why: String,
    },
}

/// The one way to change a machine. Only `fix` and `undo` ever hold one.
pub trait HostWriter {
    /// Writes a file of the change journal and syncs it.
    fn store(&mut self, id: &str, name: &str, bytes: &[u8]) -> Result<(), WriteError>;
    /// Reads a file of the change journal.
    fn load(&self, id: &str, name: &str) -> Option<Vec<u8>>;
    /// Ids of all journalled changes, oldest first.
    fn changes(&self) -> Vec<String>;
    /// A file's bytes and status as they are now, links not followed; `None` when it is not there.
    fn current(&self, path: &str) -> Option<(Vec<u8>, FileStatus)>;
    /// Replaces a file's content at once, keeping owner, mode, access list and extended attributes. The bytes before
    /// must have the expected digest.
    fn replace_file(&mut self, path: &str, expect: &Digest, content: &[u8]) -> Result<(), WriteError>;
    /// Makes a file that was not there, mode 0644; never over an existing name.
    fn create_file(&mut self, path: &str, content: &[u8]) -> Result<(), WriteError>;
    /// Removes a file that holds what the digest says, and no other.
    fn remove_file(&mut self, path: &str, expect: &Digest) -> Result<(), WriteError>;
    /// Sets permission bits.
    fn set_mode(&mut self, path: &str, mode: u32) -> Result<(), WriteError>;
    /// Sets owner and group.
    fn set_owner(&mut self, path: &str, uid: u32, gid: u32) -> Result<(), WriteError>;
    /// Makes a directory.
    fn make_directory(&mut self, path: &str, mode: u32, uid: u32, gid: u32) -> Result<(), WriteError>;
    /// Removes an empty directory.
    fn remove_directory(&mut self, path: &str) -> Result<(), WriteError>;
    /// Renames; never over an existing name.
    fn rename(&mut self, from: &str, to: &str) -> Result<(), WriteError>;
    /// Makes a symbolic link, or removes one that leads to `before`.
    fn set_link(&mut self, path: &str, before: Option<&str>, after: Option<&str>) -> Result<(), WriteError>;
    /// `enable`, `disable`, `mask`, `unmask`; the links that changed come back as (`symlink` or `unlink`, path, target).
    fn unit_file(&mut self, verb: &str, unit: &str) -> Result<Vec<(String, String, String)>, WriteError>;
    /// `start`, `stop`, `restart`, `reload`; waits for the job.
    fn job(&mut self, verb: &str, unit: &str) -> Result<(), WriteError>;
    /// Clears the manager's record of failures.
    fn reset_failed(&mut self, unit: &str) -> Result<(), WriteError>;
    /// Makes the manager read its unit files anew.
    fn reload_manager(&mut self) -> Result<(), WriteError>;
    /// Ends a process, known by its start time as well as its number, and waits until it is gone. `gently`
    /// means that it is never killed hard, however long it takes to end.
    fn end_process(&mut self, pid: u32, start_ticks: u64, gently: bool) -> Result<(), WriteError>;
    /// Lets a halted process go on, known by its start time as well as its number.
    fn continue_process(&mut self, pid: u32, start_ticks: u64) -> Result<(), WriteError>;
    /// Runs a command of the services file and waits for its end.
    fn run(&mut self, command: &str, environment: &[(String, String)], account: Option<&str>) -> Result<(), WriteError>;
    /// Whether a unit is active now.
    fn is_active(&self, unit: &str) -> Option<bool>;
}

#[cfg(test)]
mod tests;
