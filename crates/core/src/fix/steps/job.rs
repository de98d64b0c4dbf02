//! A job of the manager.
use super::{Act, Back, Doing, Due};
use crate::fix::way_back::Way;
use crate::fix::way_back::{Undo, seen_now};
use crate::fix::{HostWriter, Slot, WriteError};
use serde::{Deserialize, Serialize};

/// A job of the manager.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Job {
    /// `start`, `stop`, `restart`, `reload`.
    pub verb: String,
    /// Unit.
    pub unit: String,
}

impl Act for Job {
    fn spelled(&self) -> String {
        format!("{} {}", self.verb, self.unit)
    }
    fn turn(&self) -> Due {
        if self.verb == "start" { Due::Starts } else { Due::AtTheEnd }
    }
    fn prepare(&self, writer: &mut dyn HostWriter, _: Slot) -> Result<Undo, WriteError> {
        Ok(Undo { unit_before: Some(seen_now(writer, &self.unit)?), ..Undo::default() })
    }
    fn carry_out(&self, doing: &mut Doing) -> Result<(), WriteError> {
        doing.writer.job(&self.verb, &self.unit)?;
        doing.undo.unit_after = doing.writer.unit_now(&self.unit);
        Ok(())
    }
    fn put_back(&self, back: &mut Back) -> Result<(), WriteError> {
        match self.turn() {
            Due::AtTheEnd => self.start_again(back),
            _ => self.stop_again(back),
        }
    }
}

impl Job {
    /// A unit that the change started is stopped, unless somebody started it anew since.
    fn stop_again(&self, back: &mut Back) -> Result<(), WriteError> {
        let unit = &self.unit;
        let Some(before) = &back.undo.unit_before else { return Ok(()) };
        let now = seen_now(back.writer, unit)?;
        if before.active || !now.active {
            if before.active && now.active && back.way == Way::Undo {
                back.undone.due.push(format!("{unit} runs, and is left so"));
            }
            return Ok(());
        }
        let ours = back.undo.unit_after.as_ref().is_none_or(|after| after.invocation == now.invocation);
        if !ours && back.way == Way::Undo {
            back.undone.left.push(format!("{unit} was started by somebody since, and is left running"));
            return Ok(());
        }
        back.writer.job("stop", unit)?;
        back.undone.done.push(format!("stopped {unit}, as it was before"));
        Ok(())
    }

    /// What the change stopped, or had read a configuration that is gone again.
    fn start_again(&self, back: &mut Back) -> Result<(), WriteError> {
        let Self { verb, unit } = self;
        let Some(before) = &back.undo.unit_before else { return Ok(()) };
        let now = seen_now(back.writer, unit)?;
        let down_by_us = back.undo.unit_after.as_ref().is_none_or(|after| !after.active);
        match (before.active, now.active, verb.as_str()) {
            (true, false, _) if down_by_us || back.way == Way::RollBack => {
                back.writer.job("start", unit)?;
                back.undone.done.push(format!("started {unit} again"));
            }
            (true, false, _) => {
                back.undone.left.push(format!("{unit} was stopped by somebody since, and is left so"))
            }
            (true, true, "stop") => {}
            (true, true, verb) if back.way == Way::RollBack => {
                back.writer.job(verb, unit)?;
                back.undone.done.push(format!("{verb} {unit}"));
            }
            (true, true, verb) => back.undone.due.push(format!(
                "{unit} runs, and is left so; a {verb} is due, so that it reads what was put back"
            )),
            // It did not run before, and a restart is a start then.
            (false, true, "restart" | "reload") => self.stop_again(back)?,
            (false, ..) => {}
        }
        Ok(())
    }
}
