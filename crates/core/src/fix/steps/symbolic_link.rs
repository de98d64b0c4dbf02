//! Making or removing a symbolic link.
use super::{Act, Back, Doing, Target};
use crate::fix::preview::Laid;
use crate::fix::way_back::{Undo, refused};
use crate::fix::{HostWriter, Slot, WriteError};
use serde::{Deserialize, Serialize};

/// Makes or removes a symbolic link.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct SymbolicLink {
    /// The link.
    pub target: Target,
    /// Where it led before.
    pub before: Option<String>,
    /// Where it leads after.
    pub after: Option<String>,
}

impl Act for SymbolicLink {
    fn spelled(&self) -> String {
        match &self.after {
            Some(after) => format!("link {} to {after}", self.target.path),
            None => format!("remove the link {}", self.target.path),
        }
    }
    fn prepare(&self, writer: &mut dyn HostWriter, _: Slot) -> Result<Undo, WriteError> {
        if writer.link(&self.target)? != self.before {
            return refused(format!("the link {} changed since the plan was made", self.target.path));
        }
        Ok(Undo::default())
    }
    fn carry_out(&self, doing: &mut Doing) -> Result<(), WriteError> {
        doing.writer.set_link(&self.target, self.before.as_deref(), self.after.as_deref())
    }
    fn put_back(&self, back: &mut Back) -> Result<(), WriteError> {
        let Self { target, before, after } = self;
        let now = back.writer.link(target)?;
        if now == *after && after != before {
            back.writer.set_link(target, after.as_deref(), before.as_deref())?;
            back.undone.done.push(format!("link {} is as before", target.path));
        } else if now != *before {
            back.undone.left.push(format!("the link {} now points elsewhere", target.path));
        }
        Ok(())
    }
    fn preview(&self, laid: &mut Laid) {
        laid.links.insert(self.target.path.clone(), self.after.clone());
    }
}
