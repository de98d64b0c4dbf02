//! Making a file.
use super::{Act, Back, Doing, Target, as_planned};
use crate::fix::object::{Digest, digest};
use crate::fix::preview::Laid;
use crate::fix::way_back::{Undo, refused};
use crate::fix::{HostWriter, Slot, WriteError};
use serde::{Deserialize, Serialize};

/// Makes a file that was not there, readable by all, of root.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Create {
    /// The file.
    pub target: Target,
    /// Its bytes. Kept out of the record.
    #[serde(skip)]
    pub content: Vec<u8>,
    /// Their digest.
    pub after: Digest,
}

impl Act for Create {
    fn spelled(&self) -> String {
        format!("make {}", self.target.path)
    }
    fn prepares(&self) -> Option<&Target> {
        Some(&self.target)
    }
    fn prepare(&self, writer: &mut dyn HostWriter, _: Slot) -> Result<Undo, WriteError> {
        as_planned(writer, &self.target).map(|()| Undo::default())
    }
    fn carry_out(&self, doing: &mut Doing) -> Result<(), WriteError> {
        doing.writer.create_file(&self.target, &self.content, doing.slot)
    }
    fn check_back<'s>(&'s self, writer: &dyn HostWriter, _: &mut Vec<&'s str>) -> Result<(), WriteError> {
        if writer.content(&self.target)?.is_some_and(|bytes| digest(&bytes) != self.after) {
            return refused(format!(
                "{} was changed by somebody since; nothing was put back",
                self.target.path
            ));
        }
        Ok(())
    }
    fn put_back(&self, back: &mut Back) -> Result<(), WriteError> {
        if back.writer.status(&self.target)?.is_some() {
            back.writer.remove_file(&self.target, &self.after, back.slot)?;
            back.undone.done.push(format!("removed {}", self.target.path));
        }
        Ok(())
    }
    fn preview(&self, laid: &mut Laid) {
        laid.files.insert(self.target.path.clone(), self.content.clone());
    }
}
