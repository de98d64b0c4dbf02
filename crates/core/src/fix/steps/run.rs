//! A command of the services file.
use super::{Act, Back, CommandLine, Doing, Due, Purpose};
use crate::fix::WriteError;
use crate::fix::way_back::Way;
use serde::{Deserialize, Serialize};

/// Runs a command of the services file.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Run {
    /// What it is for. The way back takes the command of the services file that is valid then, and never one
    /// out of a record.
    pub purpose: Purpose,
    /// The command as it is shown, secrets masked.
    pub shown: String,
    /// The command. Kept out of the record.
    #[serde(skip)]
    pub line: CommandLine,
}

impl Act for Run {
    fn spelled(&self) -> String {
        format!("run: {}", self.shown)
    }
    fn turn(&self) -> Due {
        if self.purpose == Purpose::Start { Due::Starts } else { Due::AtTheEnd }
    }
    fn carry_out(&self, doing: &mut Doing) -> Result<(), WriteError> {
        doing.writer.run(&self.line)
    }
    fn put_back(&self, back: &mut Back) -> Result<(), WriteError> {
        match self.turn() {
            Due::AtTheEnd => self.start_again(back),
            _ => stop_again(back),
        }
    }
}

/// Stops what the change started, unless somebody started it anew since.
fn stop_again(back: &mut Back) -> Result<(), WriteError> {
    let service = back.service;
    if back.was_running != Some(false) {
        if let Some(Some(_)) = back.commands.running(service) {
            back.undone.due.push(format!(
                "{service} runs, and is left so; it read its configuration before this was put back"
            ));
        }
        return Ok(());
    }
    let Some(now) = back.commands.running(service) else {
        back.undone.left.push(format!("whether {service} runs could not be seen; it is left as it is"));
        return Ok(());
    };
    let Some(run) = now else { return Ok(()) };
    if back.way == Way::Undo && back.started.is_some_and(|mark| mark != run) {
        back.undone
            .left
            .push(format!("{service} was started by somebody since (pid {}), and is left running", run.pid));
        return Ok(());
    }
    match back.commands.line(service, Purpose::Stop) {
        Some(line) => {
            back.writer.run(&line)?;
            back.undone.done.push(format!("stopped {service}, as it was before"));
        }
        None => back.undone.left.push(format!(
            "{service} is left running (pid {}): the services file has no command that stops it",
            run.pid
        )),
    }
    Ok(())
}

impl Run {
    /// Starts what the change stopped, or has it read its configuration again.
    fn start_again(&self, back: &mut Back) -> Result<(), WriteError> {
        if back.was_running != Some(true) {
            return Ok(());
        }
        let service = back.service;
        let running = back.commands.running(service).flatten().is_some();
        if running && (back.way == Way::Undo || self.purpose != Purpose::Reload) {
            return Ok(());
        }
        match back.commands.line(service, if running { Purpose::Reload } else { Purpose::Start }) {
            Some(line) => {
                back.writer.run(&line)?;
                back.undone.done.push(if running {
                    format!("reloaded {service}")
                } else {
                    format!("started {service} again")
                });
            }
            None => back
                .undone
                .left
                .push(format!("{service} is left as it is: the services file has no command for it")),
        }
        Ok(())
    }
}
