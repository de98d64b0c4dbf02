//! A change as a transaction: the intent is written and synced first, then every step is announced, backed up and
//! carried out. Killed between any two of these, what is left can be undone.
use super::{HostWriter, Step, WriteError, digest};
use crate::host::Earlier;
use serde::{Deserialize, Serialize};

/// How far a step came.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Stage {
    /// Not begun.
    Planned,
    /// Begun; it may or may not have happened.
    Begun,
    /// Done.
    Done,
    /// Undone.
    Undone,
}

/// What undoing a step needs beyond the step itself.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Undo {
    /// Name of the backup in the journal.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub backup: Option<String>,
    /// Whether the unit was active before.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub was_active: Option<bool>,
    /// Links that the manager changed: (`symlink` or `unlink`, path, target before or after).
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub links: Vec<(String, String, String)>,
}

/// One step in the record.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct RecordedStep {
    /// The step.
    #[serde(flatten)]
    pub step: Step,
    /// How far it came.
    pub stage: Stage,
    /// What undoing it needs.
    #[serde(default)]
    pub undo: Undo,
}

/// The journal's record of one change.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Record {
    /// Form.
    pub schema: String,
    /// Id.
    pub id: String,
    /// Service.
    pub service: String,
    /// Ids of the fixes.
    pub fixes: Vec<String>,
    /// What it was about.
    pub title: String,
    /// When it began, RFC 3339.
    pub began: String,
    /// `begun`, `kept`, `rolled-back`, `undone`.
    pub outcome: String,
    /// Steps in order.
    pub steps: Vec<RecordedStep>,
}

/// What an undo did.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Undone {
    /// In words, in order.
    pub done: Vec<String>,
    /// What cannot be put back, in words.
    pub left: Vec<String>,
}

const RECORD: &str = "record.json";

fn save(writer: &mut dyn HostWriter, record: &Record) -> Result<(), WriteError> {
    let text = serde_json::to_vec_pretty(record).map_err(|e| WriteError::Refused(e.to_string()))?;
    writer.store(&record.id, RECORD, &text)
}

/// Reads one record.
pub fn load(writer: &dyn HostWriter, id: &str) -> Option<Record> {
    serde_json::from_slice(&writer.load(id, RECORD)?).ok()
}

/// All records, oldest first.
pub fn list(writer: &dyn HostWriter) -> Vec<Record> {
    writer.changes().iter().filter_map(|id| load(writer, id)).collect()
}

/// What the changes on record left in the files that they wrote. What was undone tells nothing.
pub fn left_by(records: &[Record]) -> Earlier {
    let mut earlier = Earlier::default();
    for record in records.iter().filter(|r| r.outcome == "kept") {
        for recorded in record.steps.iter().filter(|s| s.stage == Stage::Done) {
            if let Step::Edit { path, after, .. } | Step::Create { path, after, .. } = &recorded.step {
                earlier.add(path, &after.0, &format!("change {}", record.id));
            }
        }
    }
    earlier
}

/// Carries out the steps of a change. When one fails, those before it are undone.
///
/// # Errors
/// The step that failed, in words; the machine is then as it was, or the message says what is not.
pub fn apply(writer: &mut dyn HostWriter, mut record: Record) -> Result<Record, WriteError> {
    save(writer, &record)?;
    for at in 0..record.steps.len() {
        if let Err(error) = carry_out(writer, &mut record, at) {
            let what = record.steps[at].step.spelled();
            let undone = undo(writer, &record.id, "rolled-back");
            let aftermath = match undone {
                Ok(u) if u.left.is_empty() => "everything done before was put back".to_owned(),
                Ok(u) => format!("put back, except: {}", u.left.join("; ")),
                Err(e) => format!("putting back what was done before failed, too: {e}"),
            };
            return Err(WriteError::Failed { what, why: format!("{error}; {aftermath}") });
        }
    }
    record.outcome = "kept".into();
    save(writer, &record)?;
    Ok(record)
}

fn carry_out(writer: &mut dyn HostWriter, record: &mut Record, at: usize) -> Result<(), WriteError> {
    let step = record.steps[at].step.clone();
    let mut info = Undo::default();
    match &step {
        Step::Edit { path, before, .. } => {
            let Some((bytes, _)) = writer.current(path) else { return Err(WriteError::Refused(format!("{path} is gone"))) };
            if digest(&bytes) != *before {
                return Err(WriteError::Refused(format!("{path} changed since the plan was made")));
            }
            let name = format!("{at}.before");
            writer.store(&record.id, &name, &bytes)?;
            info.backup = Some(name);
        }
        Step::Job { unit, .. } | Step::UnitFile { unit, .. } => info.was_active = writer.is_active(unit),
        Step::Mode { path, from, .. } if writer.current(path).is_some_and(|(_, s)| s.mode != *from) => {
            return Err(WriteError::Refused(format!("the mode of {path} changed since the plan was made")));
        }
        Step::Owner { path, from, .. } if writer.current(path).is_some_and(|(_, s)| (s.uid, s.gid) != *from) => {
            return Err(WriteError::Refused(format!("the owner of {path} changed since the plan was made")));
        }
        _ => {}
    }
    record.steps[at].stage = Stage::Begun;
    record.steps[at].undo = info;
    save(writer, record)?;
    match &step {
        Step::Edit { path, before, content, .. } => writer.replace_file(path, before, content)?,
        Step::Create { path, content, .. } => writer.create_file(path, content)?,
        Step::Mode { path, to, .. } => writer.set_mode(path, *to)?,
        Step::Owner { path, to, .. } => writer.set_owner(path, to.0, to.1)?,
        Step::Directory { path, mode, owner } => writer.make_directory(path, *mode, owner.0, owner.1)?,
        Step::Rename { from, to } => writer.rename(from, to)?,
        Step::SymbolicLink { path, before, after } => writer.set_link(path, before.as_deref(), after.as_deref())?,
        Step::UnitFile { verb, unit } => {
            record.steps[at].undo.links = writer.unit_file(verb, unit)?;
            writer.reload_manager()?;
        }
        Step::Job { verb, unit } => writer.job(verb, unit)?,
        Step::ResetFailed { unit } => writer.reset_failed(unit)?,
        Step::ReloadManager => writer.reload_manager()?,
        Step::End { pid, start_ticks, gently, .. } => writer.end_process(*pid, *start_ticks, *gently)?,
        Step::Continue { pid, start_ticks, .. } => writer.continue_process(*pid, *start_ticks)?,
        Step::Run { command, environment, account, .. } => writer.run(command, environment, account.as_deref())?,
    }
    record.steps[at].stage = Stage::Done;
    save(writer, record)
}

/// Puts back what a change did, last step first. Files that were changed by others since are left alone and named.
///
/// # Errors
/// When there is no such change, or it was undone before, or the system refuses.
pub fn undo(writer: &mut dyn HostWriter, id: &str, outcome: &str) -> Result<Undone, WriteError> {
    let Some(mut record) = load(writer, id) else { return Err(WriteError::Refused(format!("there is no change {id}"))) };
    if matches!(record.outcome.as_str(), "undone" | "rolled-back") {
        return Err(WriteError::Refused(format!("{id} was put back already")));
    }
    refuse_if_changed(writer, &record)?;
    let mut undone = Undone::default();
    let mut restart: Vec<(String, String)> = Vec::new();
    for at in (0..record.steps.len()).rev() {
        let one = record.steps[at].clone();
        if !matches!(one.stage, Stage::Begun | Stage::Done) {
            continue;
        }
        put_back(writer, &record.id, &one, &mut undone, &mut restart)?;
        record.steps[at].stage = Stage::Undone;
        save(writer, &record)?;
    }
    // What the manager was told to read anew it shall forget again.
    if record.steps.iter().any(|s| s.stage == Stage::Undone && s.step == Step::ReloadManager) {
        writer.reload_manager()?;
    }
    for (verb, unit) in restart {
        writer.job(&verb, &unit)?;
        undone.done.push(format!("{verb} {unit}"));
    }
    record.outcome = outcome.into();
    save(writer, &record)?;
    Ok(undone)
}

/// Before anything is put back: every edited file must be as the change left it, or as it was before.
fn refuse_if_changed(writer: &dyn HostWriter, record: &Record) -> Result<(), WriteError> {
    let mut later: Vec<&str> = Vec::new();
    for one in record.steps.iter().rev().filter(|s| matches!(s.stage, Stage::Begun | Stage::Done)) {
        if let Step::Edit { path, before, after, .. } = &one.step {
            if later.contains(&path.as_str()) {
                continue;
            }
            later.push(path);
            match writer.current(path) {
                Some((bytes, _)) if digest(&bytes) == *after || digest(&bytes) == *before => {}
                Some(_) => return Err(WriteError::Refused(format!("{path} was changed by somebody since; nothing was put back"))),
                None => return Err(WriteError::Refused(format!("{path} is gone since; nothing was put back"))),
            }
        }
        if let Step::Create { path, after, .. } = &one.step
            && writer.current(path).is_some_and(|(bytes, _)| digest(&bytes) != *after)
        {
            return Err(WriteError::Refused(format!("{path} was changed by somebody since; nothing was put back")));
        }
    }
    Ok(())
}

fn put_back(writer: &mut dyn HostWriter, id: &str, one: &RecordedStep, undone: &mut Undone, restart: &mut Vec<(String, String)>) -> Result<(), WriteError> {
    let sure = one.stage == Stage::Done;
    match &one.step {
        Step::Edit { path, after, .. } => {
            let Some((bytes, _)) = writer.current(path) else { return Ok(()) };
            if digest(&bytes) != *after {
                return Ok(());
            }
            let backup = one.undo.backup.as_deref().and_then(|name| writer.load(id, name));
            let Some(backup) = backup else { return Err(WriteError::Refused(format!("the backup of {path} is missing"))) };
            writer.replace_file(path, after, &backup)?;
            undone.done.push(format!("{path} is as before"));
        }
        Step::Create { path, after, .. } => {
            if writer.current(path).is_some() {
                writer.remove_file(path, after)?;
                undone.done.push(format!("removed {path}"));
            }
        }
        Step::Mode { path, from, to } => {
            if writer.current(path).is_some_and(|(_, s)| s.mode == *to) {
                writer.set_mode(path, *from)?;
                undone.done.push(format!("mode of {path} is {from:04o} again"));
            }
        }
        Step::Owner { path, from, to } => {
            if writer.current(path).is_some_and(|(_, s)| (s.uid, s.gid) == *to) {
                writer.set_owner(path, from.0, from.1)?;
                undone.done.push(format!("{path} belongs to {}:{} again", from.0, from.1));
            }
        }
        Step::Directory { path, .. } => match writer.remove_directory(path) {
            Ok(()) => undone.done.push(format!("removed the directory {path}")),
            Err(_) => undone.left.push(format!("{path} is kept: it is no longer empty")),
        },
        Step::Rename { from, to } => {
            if writer.current(to).is_none() {
                return Ok(());
            }
            if writer.current(from).is_some() {
                undone.left.push(format!("{to} stays aside: there is a new {from}"));
            } else {
                writer.rename(to, from)?;
                undone.done.push(format!("{from} is back"));
            }
        }
        Step::SymbolicLink { path, before, after } => {
            if sure {
                writer.set_link(path, after.as_deref(), before.as_deref())?;
                undone.done.push(format!("link {path} is as before"));
            }
        }
        Step::UnitFile { verb, unit } => {
            let mut links = one.undo.links.clone();
            links.reverse();
            for (kind, path, target) in &links {
                if kind == "symlink" {
                    writer.set_link(path, Some(target), None)?;
                } else {
                    writer.set_link(path, None, Some(target))?;
                }
            }
            writer.reload_manager()?;
            if !links.is_empty() {
                undone.done.push(format!("undid \"{verb} {unit}\""));
            }
        }
        Step::Job { verb, unit } => {
            let active = one.undo.was_active == Some(true);
            match verb.as_str() {
                "start" | "restart" | "reload" if !active => {
                    writer.job("stop", unit)?;
                    undone.done.push(format!("stop {unit}"));
                }
                "restart" | "reload" => restart.push((verb.clone(), unit.clone())),
                "stop" if active => restart.insert(0, ("start".into(), unit.clone())),
                _ => {}
            }
        }
        Step::End { name, pid, .. } => {
            if sure {
                undone.left.push(format!("{name} (pid {pid}) was ended and is not started again"));
            }
        }
        Step::Continue { name, pid, .. } => {
            if sure {
                undone.left.push(format!("{name} (pid {pid}) goes on and is not halted again"));
            }
        }
        Step::Run { reverse: Some(command), environment, account, .. } => {
            writer.run(command, environment, account.as_deref())?;
            undone.done.push(format!("run: {command}"));
        }
        Step::Run { .. } | Step::ResetFailed { .. } | Step::ReloadManager => {}
    }
    Ok(())
}

#[cfg(test)]
#[path = "tests/transaction.rs"]
mod tests;
