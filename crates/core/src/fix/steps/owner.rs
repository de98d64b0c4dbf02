//! Setting owner and group.
use super::{Act, Back, Doing, Target, as_planned};
use crate::fix::preview::Laid;
use crate::fix::way_back::Undo;
use crate::fix::{HostWriter, Slot, WriteError};
use serde::{Deserialize, Serialize};

/// Sets owner and group.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Owner {
    /// The file.
    pub target: Target,
    /// User and group before.
    pub from: (u32, u32),
    /// User and group after.
    pub to: (u32, u32),
}

impl Act for Owner {
    fn spelled(&self) -> String {
        let Self { target, from, to } = self;
        format!("give {} from {}:{} to {}:{}", target.path, from.0, from.1, to.0, to.1)
    }
    fn preview(&self, laid: &mut Laid) {
        laid.owners.insert(self.target.path.clone(), self.to);
    }
    fn prepare(&self, writer: &mut dyn HostWriter, _: Slot) -> Result<Undo, WriteError> {
        as_planned(writer, &self.target).map(|()| Undo::default())
    }
    fn carry_out(&self, doing: &mut Doing) -> Result<(), WriteError> {
        doing.writer.set_owner(&self.target, self.to.0, self.to.1)
    }
    fn put_back(&self, back: &mut Back) -> Result<(), WriteError> {
        let Self { target, from, to } = self;
        match back.same(target)? {
            Some(now) if (now.uid, now.gid) == *to => {
                back.writer.set_owner(&Target { was: Some(now), ..target.clone() }, from.0, from.1)?;
                back.undone.done.push(format!("{} belongs to {}:{} again", target.path, from.0, from.1));
            }
            Some(now) if (now.uid, now.gid) == *from => {}
            Some(now) => back.undone.left.push(format!(
                "{} now belongs to {}:{}: somebody changed it since",
                target.path, now.uid, now.gid
            )),
            None => {}
        }
        Ok(())
    }
}
