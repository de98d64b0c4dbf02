//! Single steps of a change, one file each: what a step expects to find, how it is carried out, how it is put
//! back, and what a preview shows of it.
mod continue_process;
mod create;
mod directory;
mod edit;
mod end;
mod job;
mod mode;
mod owner;
mod reload_manager;
mod rename;
mod reset_failed;
mod run;
mod symbolic_link;
mod unit_file;

pub use continue_process::Continue;
pub use create::Create;
pub use directory::Directory;
pub use edit::Edit;
pub use end::End;
pub use job::Job;
pub use mode::Mode;
pub use owner::Owner;
pub use reload_manager::ReloadManager;
pub use rename::Rename;
pub use reset_failed::ResetFailed;
pub use run::Run;
pub use symbolic_link::SymbolicLink;
pub use unit_file::UnitFile;

use super::preview::Laid;
use super::record::{Record, RecordedStep, Undo, refused, save};
use super::undo::{Commands, Undone, Way};
use super::{HostWriter, Slot, WriteError};
use crate::host::{FileKind, FileStatus};
use crate::service::Service;
use crate::services_file::Described;
use serde::{Deserialize, Serialize};
use sha2::Digest as _;

/// SHA-256 of a file's bytes, in hexadecimal.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Digest(pub String);

/// The digest of bytes.
pub fn digest(bytes: &[u8]) -> Digest {
    Digest(sha2::Sha256::digest(bytes).iter().map(|b| format!("{b:02x}")).collect())
}

/// What tells one file from another that has its name later.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Identity {
    /// Device number.
    pub device: u64,
    /// Inode number.
    pub inode: u64,
    /// Sort of file.
    pub kind: FileKind,
    /// Owner.
    pub uid: u32,
    /// Group.
    pub gid: u32,
    /// Permission bits.
    pub mode: u32,
}

impl Identity {
    /// That of a file as it was seen.
    pub fn of(status: &FileStatus) -> Self {
        Self {
            device: status.device,
            inode: status.inode,
            kind: status.kind,
            uid: status.uid,
            gid: status.gid,
            mode: status.mode,
        }
    }
    /// Whether a file is the very one, whatever became of its owner and mode since.
    pub fn is(&self, status: &FileStatus) -> bool {
        (self.device, self.inode, self.kind) == (status.device, status.inode, status.kind)
    }
}

/// The object of a step on files: a real path, and what stood there when the change was planned.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Target {
    /// The path, links resolved.
    pub path: String,
    /// Accounts besides root that may own directories on the way: those of the service.
    #[serde(default)]
    pub keepers: Vec<u32>,
    /// What is there; `None` where the name is free.
    #[serde(default)]
    pub was: Option<Identity>,
}

impl Target {
    /// A free name that only root's directories lead to.
    pub fn free(path: &str) -> Self {
        Self { path: path.to_owned(), keepers: Vec::new(), was: None }
    }
}

/// What a command of the services file is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Purpose {
    /// It starts the service.
    Start,
    /// It stops the service.
    Stop,
    /// It makes the service read its configuration anew.
    Reload,
}

/// A command of the services file, ready to be run.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct CommandLine {
    /// Command line.
    pub command: String,
    /// Environment.
    pub environment: Vec<(String, String)>,
    /// Account; the caller's where there is none.
    pub account: Option<String>,
}

/// One step.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "do")]
pub enum Step {
    /// Replaces a file's content.
    Edit(Edit),
    /// Makes a file that was not there.
    Create(Create),
    /// Sets permission bits.
    Mode(Mode),
    /// Sets owner and group.
    Owner(Owner),
    /// Makes a directory.
    Directory(Directory),
    /// Moves a file aside.
    Rename(Rename),
    /// Makes or removes a symbolic link.
    SymbolicLink(SymbolicLink),
    /// Tells the manager about a unit file.
    UnitFile(UnitFile),
    /// A job of the manager.
    Job(Job),
    /// Clears the manager's record of failures.
    ResetFailed(ResetFailed),
    /// Makes the manager read its files anew.
    ReloadManager(ReloadManager),
    /// Ends a process.
    End(End),
    /// Lets a halted process go on.
    Continue(Continue),
    /// Runs a command of the services file.
    Run(Run),
}

/// A step that is being carried out: its place in the record, which tells of it before and after every call.
pub(super) struct Doing<'a> {
    pub(super) writer: &'a mut dyn HostWriter,
    pub(super) record: &'a mut Record,
    pub(super) at: usize,
}

impl Doing<'_> {
    /// What the way back of this step needs.
    fn undo(&mut self) -> &mut Undo {
        &mut self.record.steps[self.at].undo
    }
    /// Writes the record as it is now.
    fn save(&mut self) -> Result<(), WriteError> {
        save(self.writer, self.record)
    }
    /// A copy of the change's id, for a slot.
    fn id(&self) -> String {
        self.record.id.clone()
    }
}

/// A step that is being put back.
pub(super) struct Back<'a> {
    pub(super) writer: &'a mut dyn HostWriter,
    pub(super) record: &'a Record,
    /// The step in the record.
    pub(super) one: &'a RecordedStep,
    pub(super) way: Way,
    pub(super) slot: Slot<'a>,
    pub(super) commands: &'a dyn Commands,
    pub(super) undone: &'a mut Undone,
}

impl Back<'_> {
    /// The file of a step as it is now, when it is still the same one; otherwise a word about it.
    fn same(&mut self, target: &Target) -> Result<Option<Identity>, WriteError> {
        Ok(match (&target.was, self.writer.status(target)?) {
            (Some(was), Some(now)) if was.is(&now) => Some(Identity::of(&now)),
            (_, Some(_)) => {
                self.undone.left.push(format!("{} is now another file and was left alone", target.path));
                None
            }
            (_, None) => {
                self.undone.left.push(format!("{} was removed since", target.path));
                None
            }
        })
    }
}

/// When a step is put back.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Due {
    /// With the files, last step first.
    InOrder,
    /// It started something, which must be out of the way before anything starts again.
    Starts,
    /// When all files are back: it stopped something, or had it read a configuration that is gone again.
    AtTheEnd,
}

/// What a sort of step does. A new one is a file with this and a line in [`Step`].
pub(super) trait Act {
    /// In words, as a promise.
    fn spelled(&self) -> String;
    /// What cannot be taken back of it, as a person should know before.
    fn irreversible(&self) -> Option<String> {
        None
    }
    /// The file that is prepared in a slot.
    fn prepares(&self) -> Option<&Target> {
        None
    }
    /// When it is put back.
    fn turn(&self) -> Due {
        Due::InOrder
    }
    /// Whether the manager read its files anew because of it, and must do so again when it is put back.
    fn reloads(&self) -> bool {
        false
    }
    /// Before the call: whether everything is as planned, and what the way back needs.
    fn prepare(&self, _writer: &mut dyn HostWriter, _slot: Slot) -> Result<Undo, WriteError> {
        Ok(Undo::default())
    }
    /// The call.
    fn carry_out(&self, doing: &mut Doing) -> Result<(), WriteError>;
    /// Whether it can be put back at all, before anything is; `seen` holds the files that later steps told
    /// of.
    fn check_back<'s>(
        &'s self,
        _writer: &dyn HostWriter,
        _seen: &mut Vec<&'s str>,
    ) -> Result<(), WriteError> {
        Ok(())
    }
    /// The way back, or nothing where it did not happen.
    fn put_back(&self, back: &mut Back) -> Result<(), WriteError>;
    /// What a preview shows of it.
    fn preview(&self, _laid: &mut Laid) {}
}

impl CommandLine {
    /// The command that the services file names for a purpose; `None` where it names none.
    pub fn of(described: &Described, purpose: Purpose) -> Option<Self> {
        let command = match purpose {
            Purpose::Start => &described.start,
            Purpose::Stop => &described.stop,
            Purpose::Reload => &described.reload,
        };
        Some(Self {
            command: command.clone()?,
            environment: described.environment.clone().into_iter().collect(),
            account: described.account.clone(),
        })
    }
}

impl Step {
    /// The command that a described service names for a purpose; `None` where it names none.
    pub(crate) fn described(service: &Service, purpose: Purpose) -> Option<Self> {
        let line = CommandLine::of(&service.described, purpose)?;
        Some(Self::Run(Run { purpose, shown: crate::secrets::mask_command(&line.command), line }))
    }

    /// What its sort does.
    pub(super) fn act(&self) -> &dyn Act {
        match self {
            Self::Edit(step) => step,
            Self::Create(step) => step,
            Self::Mode(step) => step,
            Self::Owner(step) => step,
            Self::Directory(step) => step,
            Self::Rename(step) => step,
            Self::SymbolicLink(step) => step,
            Self::UnitFile(step) => step,
            Self::Job(step) => step,
            Self::ResetFailed(step) => step,
            Self::ReloadManager(step) => step,
            Self::End(step) => step,
            Self::Continue(step) => step,
            Self::Run(step) => step,
        }
    }

    /// In words, as a promise.
    pub fn spelled(&self) -> String {
        self.act().spelled()
    }

    /// What cannot be taken back of it, as a person should know before.
    pub fn irreversible(&self) -> Option<String> {
        self.act().irreversible()
    }
}

/// Whether what a step is about is still what was planned.
fn as_planned(writer: &dyn HostWriter, target: &Target) -> Result<(), WriteError> {
    let path = &target.path;
    match (&target.was, writer.status(target)?) {
        (Some(was), Some(now)) if *was == Identity::of(&now) => Ok(()),
        (Some(was), Some(now)) if was.is(&now) => {
            refused(format!("owner or mode of {path} changed since the plan was made"))
        }
        (Some(_), Some(_)) => refused(format!("{path} is another file than the one that was planned")),
        (Some(_), None) => refused(format!("{path} no longer exists")),
        (None, None) => Ok(()),
        (None, Some(_)) => refused(format!("{path} exists now")),
    }
}
