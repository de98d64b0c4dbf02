//! Replacing a file's content.
use super::{Act, Back, Doing, Target, as_planned};
use crate::fix::object::{Digest, digest};
use crate::fix::preview::Laid;
use crate::fix::way_back::{Undo, refused};
use crate::fix::{HostWriter, Slot, WriteError};
use serde::{Deserialize, Serialize};

/// Replaces a file's content.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Edit {
    /// The file.
    pub target: Target,
    /// Digest of the bytes that the plan was made from.
    pub before: Digest,
    /// The new bytes. Kept out of the record: they are stored beside it.
    #[serde(skip)]
    pub content: Vec<u8>,
    /// Digest of the new bytes.
    pub after: Digest,
}

impl Act for Edit {
    fn spelled(&self) -> String {
        format!("edit {}", self.target.path)
    }
    fn prepares(&self) -> Option<&Target> {
        Some(&self.target)
    }
    fn prepare(&self, writer: &mut dyn HostWriter, slot: Slot) -> Result<Undo, WriteError> {
        as_planned(writer, &self.target)?;
        let Some(bytes) = writer.content(&self.target)? else {
            return refused(format!("{} no longer exists", self.target.path));
        };
        if digest(&bytes) != self.before {
            return refused(format!("{} changed since the plan was made", self.target.path));
        }
        let name = format!("{}.before", slot.step);
        writer.store(slot.id, &name, &bytes)?;
        Ok(Undo { backup: Some(name), ..Undo::default() })
    }
    fn carry_out(&self, doing: &mut Doing) -> Result<(), WriteError> {
        doing.writer.replace_file(&self.target, &self.before, &self.content, doing.slot)
    }
    fn check_back<'s>(&'s self, writer: &dyn HostWriter, seen: &mut Vec<&'s str>) -> Result<(), WriteError> {
        let path = self.target.path.as_str();
        // Of several edits of one file the last one tells what it left.
        if seen.contains(&path) {
            return Ok(());
        }
        seen.push(path);
        match writer.content(&self.target)?.map(|bytes| digest(&bytes)) {
            Some(now) if now == self.after || now == self.before => Ok(()),
            Some(_) => refused(format!("{path} was changed by somebody since; nothing was put back")),
            None => refused(format!("{path} was removed since; nothing was put back")),
        }
    }
    fn put_back(&self, back: &mut Back) -> Result<(), WriteError> {
        let path = &self.target.path;
        match back.writer.content(&self.target)?.map(|bytes| digest(&bytes)) {
            Some(now) if now == self.after => {
                let backup =
                    back.undo.backup.as_deref().and_then(|name| back.writer.load(back.slot.id, name));
                let Some(backup) = backup.filter(|b| digest(b) == self.before) else {
                    return refused(format!("the backup of {path} is missing"));
                };
                // What stands there now is the change's own file, known by its content.
                back.writer.replace_file(
                    &Target { was: None, ..self.target.clone() },
                    &self.after,
                    &backup,
                    back.slot,
                )?;
                back.undone.done.push(format!("{path} is as before"));
                Ok(())
            }
            Some(now) if now == self.before => Ok(()),
            Some(_) => refused(format!("{path} was changed by somebody since")),
            None => refused(format!("{path} was removed since")),
        }
    }
    fn preview(&self, laid: &mut Laid) {
        laid.files.insert(self.target.path.clone(), self.content.clone());
    }
}
