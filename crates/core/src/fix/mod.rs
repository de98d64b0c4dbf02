//! Fixes: dry plans first, then reversible steps under a journal.
mod clients;
mod command;
mod drop_in;
mod edits;
mod fixes;
mod object;
mod plan;
mod preview;
mod record;
pub mod steps;
mod target;
mod transaction;
mod undo;
mod way_back;

pub use clients::Client;
pub(crate) use clients::client_reload;
pub use command::{CommandLine, Purpose, RunMark};
pub use edits::combined;
pub use fixes::{FIXES, Fix, Needs, Unplanned, Wishes, plannable, plans};
pub use object::{Digest, Identity, Target, digest};
pub use plan::{Parameter, Plan, Risk};
pub use preview::Preview;
pub use record::{Record, RecordedStep, left_by, list, load};
pub use steps::Step;
pub use transaction::{apply, keep};
pub use undo::undo;
pub use way_back::{Commands, NoCommands, Stage, Undo, Undone, Way};

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

/// A link of a unit in the manager's directories: its path and where it leads.
pub type UnitLink = (String, String);

/// A unit as it is at this moment.
#[derive(Clone, Debug, Default, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct UnitNow {
    /// Up, or on its way.
    pub active: bool,
    /// Identity of its run; empty where it does not run.
    pub invocation: String,
}

/// Where the writer prepares what a step puts in place: a name in the journal, or, where that lies on another
/// file system, one beside the target.
#[derive(Clone, Copy, Debug)]
pub struct Slot<'a> {
    /// The change.
    pub id: &'a str,
    /// The step.
    pub step: usize,
}

/// The one way to change a machine. Only `fix` and `undo` ever hold one.
///
/// Everything on files goes through the walk of [`crate::trust`]: what an account other than root or the
/// target's keepers could replace is refused, and so is a file that is not the one that was planned.
pub trait HostWriter {
    /// Writes a file of the change journal and syncs it.
    ///
    /// # Errors
    /// The system's words.
    fn store(&mut self, id: &str, name: &str, bytes: &[u8]) -> Result<(), WriteError>;
    /// Reads a file of the change journal; one that another account could have written counts as absent.
    fn load(&self, id: &str, name: &str) -> Option<Vec<u8>>;
    /// Ids of all journalled changes, oldest first.
    fn changes(&self) -> Vec<String>;
    /// Status of what is there now, a link itself; `None` where the name is free or a directory on the way is
    /// gone.
    ///
    /// # Errors
    /// Who could replace it, or the system's words.
    fn status(&self, target: &Target) -> Result<Option<FileStatus>, WriteError>;
    /// Bytes of a regular file; `None` where the name is free.
    ///
    /// # Errors
    /// The same, and where it is not a regular file.
    fn content(&self, target: &Target) -> Result<Option<Vec<u8>>, WriteError>;
    /// Replaces a file's content at once, keeping owner, mode, access list and extended attributes. The bytes
    /// before must have the expected digest; somebody else's edit of the last moment is put back and refused.
    ///
    /// # Errors
    /// What stood in the way; the file is as it was then.
    fn replace_file(
        &mut self,
        target: &Target,
        expect: &Digest,
        content: &[u8],
        slot: Slot,
    ) -> Result<(), WriteError>;
    /// Makes a file that was not there, mode 0644, whole or not at all; never over an existing name.
    ///
    /// # Errors
    /// What stood in the way; nothing is there then.
    fn create_file(&mut self, target: &Target, content: &[u8], slot: Slot) -> Result<(), WriteError>;
    /// Removes a file that holds what the digest says, and no other.
    ///
    /// # Errors
    /// What stood in the way.
    fn remove_file(&mut self, target: &Target, expect: &Digest, slot: Slot) -> Result<(), WriteError>;
    /// Sets permission bits of the very file that was planned.
    ///
    /// # Errors
    /// What stood in the way.
    fn set_mode(&mut self, target: &Target, mode: u32) -> Result<(), WriteError>;
    /// Sets owner and group of the very file that was planned.
    ///
    /// # Errors
    /// What stood in the way.
    fn set_owner(&mut self, target: &Target, uid: u32, gid: u32) -> Result<(), WriteError>;
    /// Makes a directory in a slot, with its owner and mode; nobody sees it there yet.
    ///
    /// # Errors
    /// The system's words.
    fn prepare_directory(
        &mut self,
        target: &Target,
        mode: u32,
        uid: u32,
        gid: u32,
        slot: Slot,
    ) -> Result<Identity, WriteError>;
    /// Puts a prepared directory in its place; never over an existing name.
    ///
    /// # Errors
    /// What stood in the way.
    fn place_directory(&mut self, target: &Target, slot: Slot) -> Result<(), WriteError>;
    /// Removes an empty directory, the very one that `target.was` tells of; `false` where it is not empty.
    ///
    /// # Errors
    /// What stood in the way.
    fn remove_directory(&mut self, target: &Target, slot: Slot) -> Result<bool, WriteError>;
    /// Renames the very file that was planned within its directory; never over an existing name.
    ///
    /// # Errors
    /// What stood in the way.
    fn rename(&mut self, target: &Target, to: &str) -> Result<(), WriteError>;
    /// Where a symbolic link leads; `None` where the name is free.
    ///
    /// # Errors
    /// Who could replace it, or that it is not a link.
    fn link(&self, target: &Target) -> Result<Option<String>, WriteError>;
    /// Makes a symbolic link, or removes one that leads to `before`.
    ///
    /// # Errors
    /// What stood in the way.
    fn set_link(
        &mut self,
        target: &Target,
        before: Option<&str>,
        after: Option<&str>,
    ) -> Result<(), WriteError>;
    /// Removes what a step that was cut short left in its slot.
    ///
    /// # Errors
    /// The system's words.
    fn clear(&mut self, target: Option<&Target>, slot: Slot) -> Result<(), WriteError>;
    /// All links that enable, alias or mask these units.
    fn unit_links(&self, units: &[String]) -> Vec<UnitLink>;
    /// `enable`, `disable`, `mask`, `unmask`.
    ///
    /// # Errors
    /// The manager's words.
    fn unit_file(&mut self, verb: &str, unit: &str) -> Result<(), WriteError>;
    /// `start`, `stop`, `restart`, `reload`; waits for the job.
    ///
    /// # Errors
    /// The manager's words.
    fn job(&mut self, verb: &str, unit: &str) -> Result<(), WriteError>;
    /// Clears the manager's record of failures.
    ///
    /// # Errors
    /// The manager's words.
    fn reset_failed(&mut self, unit: &str) -> Result<(), WriteError>;
    /// Makes the manager read its unit files anew.
    ///
    /// # Errors
    /// The manager's words.
    fn reload_manager(&mut self) -> Result<(), WriteError>;
    /// Ends a process, known by its start time as well as its number, and waits until it is gone. `gently`
    /// means that it is never killed hard, however long it takes to end.
    ///
    /// # Errors
    /// What stood in the way.
    fn end_process(&mut self, pid: u32, start_ticks: u64, gently: bool) -> Result<(), WriteError>;
    /// Lets a halted process go on, known by its start time as well as its number.
    ///
    /// # Errors
    /// What stood in the way.
    fn continue_process(&mut self, pid: u32, start_ticks: u64) -> Result<(), WriteError>;
    /// Whether a process is still there, known by its start time as well as its number.
    fn is_alive(&self, pid: u32, start_ticks: u64) -> bool;
    /// Runs a command of the services file and waits for its end, or ends it with its group at a time limit.
    ///
    /// # Errors
    /// How it ended.
    fn run(&mut self, line: &CommandLine) -> Result<(), WriteError>;
    /// A unit as it is now; `None` where nothing tells.
    fn unit_now(&self, unit: &str) -> Option<UnitNow>;
}

#[cfg(test)]
mod tests;
