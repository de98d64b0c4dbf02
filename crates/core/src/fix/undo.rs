//! The way back of a change, step by step, last step first. Whether a step is to be put back is judged from the machine, never
//! from how far the record came, so that a way back that was cut short can be taken up again.
use super::record::{Record, RecordedStep, RunMark, Stage, about, load, refused, save, seen_now};
use super::{CommandLine, HostWriter, Identity, Purpose, Slot, Step, Target, WriteError, digest};
use crate::host::FileKind;
use serde::{Deserialize, Serialize};

/// Why something is put back.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Way {
    /// The change did not help, or failed half-way: services run again as they did before it.
    RollBack,
    /// A person asks: files go back, and a service is left as it is found unless the change itself started or stopped it.
    Undo,
}

impl Way {
    fn outcome(self) -> &'static str {
        match self {
            Self::RollBack => "rolled-back",
            Self::Undo => "undone",
        }
    }
}

/// What the present services file says of a service that no manager owns.
pub trait Commands {
    /// Its run now: `None` where nothing tells, `Some(None)` where it does not run.
    fn running(&self, service: &str) -> Option<Option<RunMark>>;
    /// Its command for a purpose.
    fn line(&self, service: &str, purpose: Purpose) -> Option<CommandLine>;
}

/// No services file: a host whose services are all the manager's, or a directory tree.
#[derive(Clone, Copy, Debug)]
pub struct NoCommands;

impl Commands for NoCommands {
    fn running(&self, _: &str) -> Option<Option<RunMark>> {
        None
    }
    fn line(&self, _: &str, _: Purpose) -> Option<CommandLine> {
        None
    }
}

/// What an undo did.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Undone {
    /// In words, in order.
    pub done: Vec<String>,
    /// What cannot be put back, or was left alone, in words.
    pub left: Vec<String>,
    /// What runs and which restart is due, in words.
    pub due: Vec<String>,
    /// What could not be put back this time, with the reason; undoing again takes it up.
    pub failed: Vec<String>,
}

impl Undone {
    /// In one sentence, for a message.
    pub fn spelled(&self) -> String {
        let mut parts = Vec::new();
        if !self.failed.is_empty() {
            parts.push(format!("not everything could be put back: {}", self.failed.join("; ")));
        }
        if !self.left.is_empty() {
            parts.push(format!("left as it is: {}", self.left.join("; ")));
        }
        match (parts.is_empty(), self.done.is_empty()) {
            (true, true) => "nothing had been changed".into(),
            (true, false) => "everything that it had changed was put back".into(),
            (false, true) => parts.join("; "),
            (false, false) => format!("the rest was put back; {}", parts.join("; ")),
        }
    }
}

/// Puts back what a change did, last step first. Files that were changed by others since are left alone and named. It can be
/// repeated: what is back already is seen.
///
/// # Errors
/// When there is no such change, it was undone before, or somebody edited one of its files since; nothing was changed then.
pub fn undo(writer: &mut dyn HostWriter, id: &str, way: Way, commands: &dyn Commands) -> Result<Undone, WriteError> {
    let Some(mut record) = load(writer, id) else { return refused(format!("there is no change {id}")) };
    if matches!(record.outcome.as_str(), "undone" | "rolled-back") {
        return refused(format!("{id} was put back already"));
    }
    refuse_if_changed(writer, &record)?;
    Ok(put_all_back(writer, &mut record, way, commands))
}

/// Before anything is put back: every edited file must be as the change left it, or as it was before.
fn refuse_if_changed(writer: &dyn HostWriter, record: &Record) -> Result<(), WriteError> {
    let mut later: Vec<&str> = Vec::new();
    for one in record.steps.iter().rev().filter(|s| s.stage != Stage::Planned) {
        match &one.step {
            Step::Edit { target, before, after, .. } if !later.contains(&target.path.as_str()) => {
                later.push(&target.path);
                match writer.content(target)?.map(|bytes| digest(&bytes)) {
                    Some(now) if now == *after || now == *before => {}
                    Some(_) => return refused(format!("{} was changed by somebody since; nothing was put back", target.path)),
                    None => return refused(format!("{} is gone since; nothing was put back", target.path)),
                }
            }
            Step::Create { target, after, .. } if writer.content(target)?.is_some_and(|bytes| digest(&bytes) != *after) => {
                return refused(format!("{} was changed by somebody since; nothing was put back", target.path));
            }
            _ => {}
        }
    }
    Ok(())
}

/// Puts back every step that was begun, and says what came of it.
pub(super) fn put_all_back(writer: &mut dyn HostWriter, record: &mut Record, way: Way, commands: &dyn Commands) -> Undone {
    let mut undone = Undone::default();
    let id = record.id.clone();
    for at in (0..record.steps.len()).rev() {
        let one = record.steps[at].clone();
        if matches!(one.stage, Stage::Planned | Stage::Undone) || waits(&one.step) {
            continue;
        }
        let slot = Slot { id: &id, step: at };
        let outcome = put_back(writer, record, &one, way, slot, commands, &mut undone).and_then(|()| writer.clear(target_of(&one.step), slot));
        match outcome {
            Ok(()) => record.steps[at].stage = Stage::Undone,
            Err(error) => undone.failed.push(format!("{}: {error}", one.step.spelled())),
        }
        // Only how far it came: the next undo sees from the machine what is left, whether or not this could be written.
        let _ = save(writer, record);
    }
    // What the manager was told to read anew it shall forget again.
    let told = |s: &RecordedStep| s.stage != Stage::Planned && matches!(s.step, Step::ReloadManager | Step::UnitFile { .. });
    if record.steps.iter().any(told)
        && let Err(error) = writer.reload_manager()
    {
        undone.failed.push(format!("make the manager read its unit files anew: {error}"));
    }
    // What the change had stopped comes up again when all files are back, and what it had started is out of the way.
    let runs_on = record.steps.iter().any(|s| !matches!(s.stage, Stage::Planned | Stage::Undone) && starts(&s.step));
    let postponed = runs_on || (way == Way::Undo && !undone.failed.is_empty());
    for at in (0..record.steps.len()).rev() {
        let one = record.steps[at].clone();
        if matches!(one.stage, Stage::Planned | Stage::Undone) || !waits(&one.step) {
            continue;
        }
        if postponed {
            undone.failed.push(format!("start again what \"{}\" had stopped: the rest must be back first", one.step.spelled()));
            continue;
        }
        match start_again(writer, record, &one, way, commands, &mut undone) {
            Ok(()) => record.steps[at].stage = Stage::Undone,
            Err(error) => undone.failed.push(format!("start again what \"{}\" had stopped: {error}", one.step.spelled())),
        }
        let _ = save(writer, record);
    }
    if undone.failed.is_empty() {
        record.outcome = way.outcome().into();
    }
    if let Err(error) = save(writer, record) {
        undone.due.push(format!("the record of {id} could not be brought up to date ({error}); undoing it again does no harm"));
    }
    undone
}

/// Steps that start something.
fn starts(step: &Step) -> bool {
    match step {
        Step::Job { verb, .. } => verb == "start",
        Step::Run { purpose, .. } => *purpose == Purpose::Start,
        _ => false,
    }
}

/// Steps that are taken back only when the files are back.
fn waits(step: &Step) -> bool {
    match step {
        Step::Job { verb, .. } => verb != "start",
        Step::Run { purpose, .. } => *purpose != Purpose::Start,
        _ => false,
    }
}

fn target_of(step: &Step) -> Option<&Target> {
    match step {
        Step::Edit { target, .. } | Step::Create { target, .. } | Step::Directory { target, .. } => Some(target),
        _ => None,
    }
}

fn put_back(
    writer: &mut dyn HostWriter,
    record: &Record,
    one: &RecordedStep,
    way: Way,
    slot: Slot,
    commands: &dyn Commands,
    undone: &mut Undone,
) -> Result<(), WriteError> {
    match &one.step {
        Step::Edit { target, before, after, .. } => {
            let path = &target.path;
            match writer.content(target)?.map(|bytes| digest(&bytes)) {
                Some(now) if now == *after => {
                    let backup = one.undo.backup.as_deref().and_then(|name| writer.load(&record.id, name));
                    let Some(backup) = backup.filter(|b| digest(b) == *before) else { return refused(format!("the backup of {path} is missing")) };
                    // What stands there now is the change's own file, known by its content.
                    writer.replace_file(&Target { was: None, ..target.clone() }, after, &backup, slot)?;
                    undone.done.push(format!("{path} is as before"));
                }
                Some(now) if now == *before => {}
                Some(_) => return refused(format!("{path} was changed by somebody since")),
                None => return refused(format!("{path} is gone since")),
            }
        }
        Step::Create { target, after, .. } => {
            if writer.status(target)?.is_some() {
                writer.remove_file(target, after, slot)?;
                undone.done.push(format!("removed {}", target.path));
            }
        }
        Step::Mode { target, from, to } => match changed(writer, target, undone)? {
            Some(now) if now.mode == *to => {
                let there = Target { was: Some(now), ..target.clone() };
                writer.set_mode(&there, *from)?;
                undone.done.push(format!("mode of {} is {from:04o} again", target.path));
            }
            Some(now) if now.mode == *from => {}
            Some(now) => undone.left.push(format!("the mode of {} is {:04o} by now, set by somebody since", target.path, now.mode)),
            None => {}
        },
        Step::Owner { target, from, to } => match changed(writer, target, undone)? {
            Some(now) if (now.uid, now.gid) == *to => {
                let there = Target { was: Some(now), ..target.clone() };
                writer.set_owner(&there, from.0, from.1)?;
                undone.done.push(format!("{} belongs to {}:{} again", target.path, from.0, from.1));
            }
            Some(now) if (now.uid, now.gid) == *from => {}
            Some(now) => undone.left.push(format!("{} belongs to {}:{} by now, given by somebody since", target.path, now.uid, now.gid)),
            None => {}
        },
        Step::Directory { target, .. } => unmake(writer, one, target, slot, undone)?,
        Step::Rename { target, to } => move_back(writer, target, to, undone)?,
        Step::SymbolicLink { target, before, after } => {
            let now = writer.link(target)?;
            if now == *after && after != before {
                writer.set_link(target, after.as_deref(), before.as_deref())?;
                undone.done.push(format!("link {} is as before", target.path));
            } else if now != *before {
                undone.left.push(format!("the link {} leads elsewhere by now", target.path));
            }
        }
        Step::UnitFile { verb, unit, also } => {
            if relink(writer, one, &about(unit, also), slot, undone)? {
                undone.done.push(format!("undid \"{verb} {unit}\""));
            }
        }
        Step::Job { unit, .. } => stop_again(writer, one, unit, way, undone)?,
        Step::End { name, pid, start_ticks, .. } => {
            if !writer.is_alive(*pid, *start_ticks) {
                undone.left.push(format!("{name} (pid {pid}) was ended and is not started again"));
            }
        }
        Step::Continue { name, pid, start_ticks } => {
            if writer.is_alive(*pid, *start_ticks) {
                undone.left.push(format!("{name} (pid {pid}) goes on and is not halted again"));
            }
        }
        Step::Run { .. } => stop_described(writer, record, way, commands, undone)?,
        Step::ResetFailed { .. } | Step::ReloadManager => {}
    }
    Ok(())
}

/// The file of a step as it is now, when it is still the same one; otherwise a word about it.
fn changed(writer: &dyn HostWriter, target: &Target, undone: &mut Undone) -> Result<Option<Identity>, WriteError> {
    Ok(match (&target.was, writer.status(target)?) {
        (Some(was), Some(now)) if was.is(&now) => Some(Identity::of(&now)),
        (_, Some(_)) => {
            undone.left.push(format!("{} is another file by now and was left alone", target.path));
            None
        }
        (_, None) => {
            undone.left.push(format!("{} is gone since", target.path));
            None
        }
    })
}

fn unmake(writer: &mut dyn HostWriter, one: &RecordedStep, target: &Target, slot: Slot, undone: &mut Undone) -> Result<(), WriteError> {
    let path = &target.path;
    let Some(made) = one.undo.made else { return Ok(()) };
    match writer.status(target)? {
        Some(now) if made.is(&now) => {
            if writer.remove_directory(&Target { was: Some(made), ..target.clone() }, slot)? {
                undone.done.push(format!("removed the directory {path}"));
            } else if !undone.failed.is_empty() {
                // What could not be put back this time may be what is in it.
                return refused(format!("{path} is not empty yet"));
            } else {
                undone.left.push(format!("the directory {path} is kept: it is no longer empty"));
            }
        }
        Some(_) => undone.left.push(format!("{path} was made by somebody else since, and is kept")),
        None if one.stage == Stage::Done => undone.left.push(format!("the directory {path} is gone already")),
        None => {}
    }
    Ok(())
}

fn move_back(writer: &mut dyn HostWriter, target: &Target, to: &str, undone: &mut Undone) -> Result<(), WriteError> {
    let aside = Target { path: to.to_owned(), ..target.clone() };
    let Some(was) = &target.was else { return Ok(()) };
    let there = writer.status(&aside)?.filter(|now| was.is(now));
    let here = writer.status(target)?;
    match (there, here) {
        (Some(_), Some(_)) => undone.left.push(format!("{to} stays aside: there is a new {}", target.path)),
        (Some(now), None) => {
            writer.rename(&Target { was: Some(Identity::of(&now)), ..aside }, &target.path)?;
            undone.done.push(format!("{} is back", target.path));
        }
        (None, Some(now)) if was.is(&now) => {}
        (None, _) => undone.left.push(format!("{to} is gone since, so {} cannot come back", target.path)),
    }
    Ok(())
}

/// Links and directories of links as they were before a verb of the manager. Whether anything had to be changed.
fn relink(writer: &mut dyn HostWriter, one: &RecordedStep, units: &[String], slot: Slot, undone: &mut Undone) -> Result<bool, WriteError> {
    let Some(before) = &one.undo.links_before else { return Ok(false) };
    let now = writer.unit_links(units);
    let after = one.undo.links_after.as_ref().unwrap_or(&now);
    let (made, gone): (Vec<_>, Vec<_>) = (after.iter().filter(|l| !before.contains(l)).collect(), before.iter().filter(|l| !after.contains(l)).collect());
    let mut any = false;
    // Directories come first when they are made, and last when they are removed.
    for (path, target) in made.iter().filter(|(_, target)| !target.is_empty()) {
        if now.contains(&(path.clone(), target.clone())) {
            writer.set_link(&Target::free(path), Some(target), None)?;
            any = true;
        }
    }
    for (path, _) in made.iter().filter(|(_, target)| target.is_empty()) {
        if let Some(status) = writer.status(&Target::free(path))?.filter(|s| s.kind == FileKind::Directory) {
            let there = Target { was: Some(Identity::of(&status)), ..Target::free(path) };
            writer.remove_directory(&there, slot)?;
        }
    }
    for (path, target) in gone.iter().filter(|(_, target)| target.is_empty()).chain(gone.iter().filter(|(_, target)| !target.is_empty())) {
        if target.is_empty() {
            if writer.status(&Target::free(path))?.is_none() {
                writer.prepare_directory(&Target::free(path), 0o755, 0, 0, slot)?;
                writer.place_directory(&Target::free(path), slot)?;
            }
            continue;
        }
        match writer.link(&Target::free(path))? {
            None => {
                writer.set_link(&Target::free(path), None, Some(target))?;
                any = true;
            }
            Some(now) if now == *target => {}
            Some(_) => undone.left.push(format!("the link {path} leads elsewhere by now")),
        }
    }
    Ok(any)
}

/// A unit that the change started is stopped, unless somebody started it anew since.
fn stop_again(writer: &mut dyn HostWriter, one: &RecordedStep, unit: &str, way: Way, undone: &mut Undone) -> Result<(), WriteError> {
    let Some(before) = &one.undo.unit_before else { return Ok(()) };
    let now = seen_now(writer, unit)?;
    if before.active || !now.active {
        if before.active && now.active && way == Way::Undo {
            undone.due.push(format!("{unit} runs, and is left so"));
        }
        return Ok(());
    }
    let ours = one.undo.unit_after.as_ref().is_none_or(|after| after.invocation == now.invocation);
    if !ours && way == Way::Undo {
        undone.left.push(format!("{unit} was started by somebody since, and is left running"));
        return Ok(());
    }
    writer.job("stop", unit)?;
    undone.done.push(format!("stopped {unit}, as it was before"));
    Ok(())
}

fn stop_described(writer: &mut dyn HostWriter, record: &Record, way: Way, commands: &dyn Commands, undone: &mut Undone) -> Result<(), WriteError> {
    let service = &record.service;
    if record.was_running != Some(false) {
        if let Some(Some(_)) = commands.running(service) {
            undone.due.push(format!("{service} runs, and is left so; it read its configuration before this was put back"));
        }
        return Ok(());
    }
    let Some(now) = commands.running(service) else {
        undone.left.push(format!("whether {service} runs could not be seen; it is left as it is"));
        return Ok(());
    };
    let Some(run) = now else { return Ok(()) };
    if way == Way::Undo && record.started.is_some_and(|mark| mark != run) {
        undone.left.push(format!("{service} was started by somebody since (pid {}), and is left running", run.pid));
        return Ok(());
    }
    match commands.line(service, Purpose::Stop) {
        Some(line) => {
            writer.run(&line)?;
            undone.done.push(format!("stopped {service}, as it was before"));
        }
        None => undone.left.push(format!("{service} is left running (pid {}): the services file has no command that stops it", run.pid)),
    }
    Ok(())
}

/// What the change stopped, or had read a configuration that is gone again.
fn start_again(
    writer: &mut dyn HostWriter,
    record: &Record,
    one: &RecordedStep,
    way: Way,
    commands: &dyn Commands,
    undone: &mut Undone,
) -> Result<(), WriteError> {
    match &one.step {
        Step::Job { verb, unit } => {
            let Some(before) = &one.undo.unit_before else { return Ok(()) };
            let now = seen_now(writer, unit)?;
            let down_by_us = one.undo.unit_after.as_ref().is_none_or(|after| !after.active);
            match (before.active, now.active, verb.as_str()) {
                (true, false, _) if down_by_us || way == Way::RollBack => {
                    writer.job("start", unit)?;
                    undone.done.push(format!("started {unit} again"));
                }
                (true, false, _) => undone.left.push(format!("{unit} was stopped by somebody since, and is left so")),
                (true, true, "stop") => {}
                (true, true, verb) if way == Way::RollBack => {
                    writer.job(verb, unit)?;
                    undone.done.push(format!("{verb} {unit}"));
                }
                (true, true, verb) => undone.due.push(format!("{unit} runs, and is left so; a {verb} is due, so that it reads what was put back")),
                // It did not run before, and a restart is a start then.
                (false, true, "restart" | "reload") => stop_again(writer, one, unit, way, undone)?,
                (false, ..) => {}
            }
        }
        Step::Run { purpose, .. } if record.was_running == Some(true) => {
            let running = commands.running(&record.service).flatten().is_some();
            let wanted = if running { Purpose::Reload } else { Purpose::Start };
            if running && (way == Way::Undo || *purpose != Purpose::Reload) {
                return Ok(());
            }
            match commands.line(&record.service, wanted) {
                Some(line) => {
                    writer.run(&line)?;
                    undone.done.push(if running { format!("reloaded {}", record.service) } else { format!("started {} again", record.service) });
                }
                None => undone.left.push(format!("{} is left as it is: the services file has no command for it", record.service)),
            }
        }
        _ => {}
    }
    Ok(())
}
