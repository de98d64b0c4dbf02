//! Making a directory.
use super::{Act, Back, Doing, Target, as_planned};
use crate::fix::preview::Laid;
use crate::fix::way_back::{Stage, Undo, refused};
use crate::fix::{HostWriter, Slot, WriteError};
use serde::{Deserialize, Serialize};

/// Makes a directory.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Directory {
    /// The directory.
    pub target: Target,
    /// Mode.
    pub mode: u32,
    /// Owner and group.
    pub owner: (u32, u32),
}

impl Act for Directory {
    fn spelled(&self) -> String {
        format!("make the directory {}, mode {:04o}", self.target.path, self.mode)
    }
    fn prepares(&self) -> Option<&Target> {
        Some(&self.target)
    }
    fn prepare(&self, writer: &mut dyn HostWriter, _: Slot) -> Result<Undo, WriteError> {
        as_planned(writer, &self.target).map(|()| Undo::default())
    }
    fn carry_out(&self, doing: &mut Doing) -> Result<(), WriteError> {
        let slot = doing.slot;
        let made =
            doing.writer.prepare_directory(&self.target, self.mode, self.owner.0, self.owner.1, slot)?;
        doing.undo.made = Some(made);
        doing.save()?;
        doing.writer.place_directory(&self.target, slot)
    }
    fn put_back(&self, back: &mut Back) -> Result<(), WriteError> {
        let path = &self.target.path;
        let Some(made) = back.undo.made else { return Ok(()) };
        match back.writer.status(&self.target)? {
            Some(now) if made.is(&now) => {
                if back
                    .writer
                    .remove_directory(&Target { was: Some(made), ..self.target.clone() }, back.slot)?
                {
                    back.undone.done.push(format!("removed the directory {path}"));
                } else if !back.undone.failed.is_empty() {
                    // What could not be put back this time may be what is in it.
                    return refused(format!("{path} is not empty yet"));
                } else {
                    back.undone
                        .left
                        .push(format!("the directory {path} is kept, because it is not empty any more"));
                }
            }
            Some(_) => back.undone.left.push(format!("{path} was made by somebody else since, and is kept")),
            None if back.stage == Stage::Done => {
                back.undone.left.push(format!("the directory {path} was already removed"))
            }
            None => {}
        }
        Ok(())
    }
    fn preview(&self, laid: &mut Laid) {
        laid.directories.push(self.target.path.clone());
    }
}
