//! Setting permission bits.
use super::{Act, Back, Doing, Target, as_planned};
use crate::fix::preview::Laid;
use crate::fix::way_back::Undo;
use crate::fix::{HostWriter, Slot, WriteError};
use serde::{Deserialize, Serialize};

/// Sets permission bits.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Mode {
    /// The file.
    pub target: Target,
    /// Bits before.
    pub from: u32,
    /// Bits after.
    pub to: u32,
}

impl Act for Mode {
    fn spelled(&self) -> String {
        format!("set the mode of {} from {:04o} to {:04o}", self.target.path, self.from, self.to)
    }
    fn preview(&self, laid: &mut Laid) {
        laid.modes.insert(self.target.path.clone(), self.to);
    }
    fn prepare(&self, writer: &mut dyn HostWriter, _: Slot) -> Result<Undo, WriteError> {
        as_planned(writer, &self.target).map(|()| Undo::default())
    }
    fn carry_out(&self, doing: &mut Doing) -> Result<(), WriteError> {
        doing.writer.set_mode(&self.target, self.to)
    }
    fn put_back(&self, back: &mut Back) -> Result<(), WriteError> {
        let Self { target, from, to } = self;
        match back.same(target)? {
            Some(now) if now.mode == *to => {
                back.writer.set_mode(&Target { was: Some(now), ..target.clone() }, *from)?;
                back.undone.done.push(format!("mode of {} is {from:04o} again", target.path));
            }
            Some(now) if now.mode == *from => {}
            Some(now) => back.undone.left.push(format!(
                "the mode of {} is now {:04o}: somebody changed it since",
                target.path, now.mode
            )),
            None => {}
        }
        Ok(())
    }
}
