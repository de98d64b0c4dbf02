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

use super::command::{CommandLine, Purpose, RunMark};
use super::object::{Identity, Target};
use super::preview::Laid;
use super::way_back::{Commands, Stage, Undo, Undone, Way, refused};
use super::{HostWriter, Slot, WriteError};
use crate::service::Service;
use serde::{Deserialize, Serialize};

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

/// Writes down what the way back of a step needs.
pub(super) type Keep<'a> = dyn FnMut(&mut dyn HostWriter, &Undo) -> Result<(), WriteError> + 'a;

/// A step that is being carried out. The record tells of it before and after every call.
pub(super) struct Doing<'a> {
    pub(super) writer: &'a mut dyn HostWriter,
    pub(super) slot: Slot<'a>,
    /// What the way back of this step needs.
    pub(super) undo: Undo,
    pub(super) keep: &'a mut Keep<'a>,
}

impl Doing<'_> {
    /// Writes down what the way back needs as it is known now.
    fn save(&mut self) -> Result<(), WriteError> {
        (self.keep)(self.writer, &self.undo)
    }
}

/// A step that is being put back.
pub(super) struct Back<'a> {
    pub(super) writer: &'a mut dyn HostWriter,
    pub(super) way: Way,
    pub(super) slot: Slot<'a>,
    /// How far it came, as far as the record knows.
    pub(super) stage: Stage,
    pub(super) undo: &'a Undo,
    pub(super) service: &'a str,
    /// Whether the service ran before the change; `None` where nothing tells.
    pub(super) was_running: Option<bool>,
    /// The run that the change started, where no manager owns the service.
    pub(super) started: Option<RunMark>,
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
