//! Moving a file aside.
use super::{Act, Back, Doing, Identity, Target, as_planned};
use crate::fix::preview::Laid;
use crate::fix::way_back::Undo;
use crate::fix::{HostWriter, Slot, WriteError};
use serde::{Deserialize, Serialize};

/// Moves a file aside, within its directory.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Rename {
    /// The file.
    pub target: Target,
    /// Its new path.
    pub to: String,
}

impl Act for Rename {
    fn spelled(&self) -> String {
        format!("move {} to {}", self.target.path, self.to)
    }
    fn prepare(&self, writer: &mut dyn HostWriter, _: Slot) -> Result<Undo, WriteError> {
        as_planned(writer, &self.target)?;
        as_planned(writer, &Target { path: self.to.clone(), was: None, ..self.target.clone() })
            .map(|()| Undo::default())
    }
    fn carry_out(&self, doing: &mut Doing) -> Result<(), WriteError> {
        doing.writer.rename(&self.target, &self.to)
    }
    fn put_back(&self, back: &mut Back) -> Result<(), WriteError> {
        let Self { target, to } = self;
        let aside = Target { path: to.clone(), ..target.clone() };
        let Some(was) = &target.was else { return Ok(()) };
        let there = back.writer.status(&aside)?.filter(|now| was.is(now));
        let here = back.writer.status(target)?;
        match (there, here) {
            (Some(_), Some(_)) => {
                back.undone.left.push(format!("{to} stays aside: there is a new {}", target.path))
            }
            (Some(now), None) => {
                back.writer.rename(&Target { was: Some(Identity::of(&now)), ..aside }, &target.path)?;
                back.undone.done.push(format!("{} is back", target.path));
            }
            (None, Some(now)) if was.is(&now) => {}
            (None, _) => back
                .undone
                .left
                .push(format!("{to} was removed since, so {} cannot be restored", target.path)),
        }
        Ok(())
    }
    fn preview(&self, laid: &mut Laid) {
        laid.gone.push(self.target.path.clone());
        laid.renamed.insert(self.to.clone(), self.target.path.clone());
    }
}
