//! A change as a transaction: before every call the intent is on disk with all that the way back needs, and whether a step
//! happened is judged from the machine alone (done, not done, half), never from how far the record came. So a change, and its
//! way back, can be cut short between any two calls and taken up again until what is said is true.
use super::record::{RECORD, Record, RunMark, Stage, Undo, about, refused, save, seen_now};
use super::undo::{Commands, Way, put_all_back};
use super::{HostWriter, Identity, Slot, Step, Target, WriteError, digest};

/// Carries out the steps of a change. When one fails, those before it are undone.
///
/// # Errors
/// The step that failed, in words; the machine is then as it was, or the message says what is not, with the id for `undo`.
pub fn apply(writer: &mut dyn HostWriter, mut record: Record, commands: &dyn Commands) -> Result<Record, WriteError> {
    // A record that already exists is another change's.
    if writer.load(&record.id, RECORD).is_some() {
        return Err(WriteError::Refused(format!("there is a change {} already", record.id)));
    }
    save(writer, &record)?;
    for at in 0..record.steps.len() {
        if let Err(error) = carry_out(writer, &mut record, at) {
            let what = record.steps[at].step.spelled();
            let undone = put_all_back(writer, &mut record, Way::RollBack, commands);
            let again = if undone.failed.is_empty() { String::new() } else { format!(" (undo {} takes it up again)", record.id) };
            return Err(WriteError::Failed { what, why: format!("{error}; {}{again}", undone.spelled()) });
        }
    }
    record.outcome = "kept".into();
    // The change stands whether or not this last word of it can be written: every step is on record with its way back.
    let _ = save(writer, &record);
    Ok(record)
}

/// Adds to the record of a kept change what came of it; only the way back of a service without a manager needs it.
pub fn keep(writer: &mut dyn HostWriter, mut record: Record, started: Option<RunMark>) {
    if started.is_some() {
        record.started = started;
        let _ = save(writer, &record);
    }
}

/// The status of what a step is about, when it is still what was planned.
fn as_planned(writer: &dyn HostWriter, target: &Target) -> Result<(), WriteError> {
    let path = &target.path;
    match (&target.was, writer.status(target)?) {
        (Some(was), Some(now)) if *was == Identity::of(&now) => Ok(()),
        (Some(was), Some(now)) if was.is(&now) => refused(format!("owner or mode of {path} changed since the plan was made")),
        (Some(_), Some(_)) => refused(format!("{path} is another file than the one that was planned")),
        (Some(_), None) => refused(format!("{path} is gone")),
        (None, None) => Ok(()),
        (None, Some(_)) => refused(format!("{path} exists by now")),
    }
}

/// What the way back needs and can be known before the call.
fn prepare(writer: &mut dyn HostWriter, id: &str, step: &Step, at: usize) -> Result<Undo, WriteError> {
    let mut info = Undo::default();
    match step {
        Step::Edit { target, before, .. } => {
            as_planned(writer, target)?;
            let Some(bytes) = writer.content(target)? else { return refused(format!("{} is gone", target.path)) };
            if digest(&bytes) != *before {
                return refused(format!("{} changed since the plan was made", target.path));
            }
            let name = format!("{at}.before");
            writer.store(id, &name, &bytes)?;
            info.backup = Some(name);
        }
        Step::Mode { target, .. } | Step::Owner { target, .. } | Step::Create { target, .. } | Step::Directory { target, .. } => as_planned(writer, target)?,
        Step::Rename { target, to } => {
            as_planned(writer, target)?;
            as_planned(writer, &Target { path: to.clone(), was: None, ..target.clone() })?;
        }
        Step::SymbolicLink { target, before, .. } => {
            let now = writer.link(target)?;
            if now != *before {
                return refused(format!("the link {} changed since the plan was made", target.path));
            }
        }
        Step::Job { unit, .. } => info.unit_before = Some(seen_now(writer, unit)?),
        Step::UnitFile { unit, also, .. } => info.links_before = Some(writer.unit_links(&about(unit, also))),
        _ => {}
    }
    Ok(info)
}

fn carry_out(writer: &mut dyn HostWriter, record: &mut Record, at: usize) -> Result<(), WriteError> {
    let (id, step) = (record.id.clone(), record.steps[at].step.clone());
    let slot = Slot { id: &id, step: at };
    record.steps[at].undo = prepare(writer, &id, &step, at)?;
    record.steps[at].stage = Stage::Begun;
    save(writer, record)?;
    match &step {
        Step::Edit { target, before, content, .. } => writer.replace_file(target, before, content, slot)?,
        Step::Create { target, content, .. } => writer.create_file(target, content, slot)?,
        Step::Mode { target, to, .. } => writer.set_mode(target, *to)?,
        Step::Owner { target, to, .. } => writer.set_owner(target, to.0, to.1)?,
        Step::Directory { target, mode, owner } => {
            let made = writer.prepare_directory(target, *mode, owner.0, owner.1, slot)?;
            record.steps[at].undo.made = Some(made);
            save(writer, record)?;
            writer.place_directory(target, slot)?;
        }
        Step::Rename { target, to } => writer.rename(target, to)?,
        Step::SymbolicLink { target, before, after } => writer.set_link(target, before.as_deref(), after.as_deref())?,
        Step::UnitFile { verb, unit, also } => {
            writer.unit_file(verb, unit)?;
            record.steps[at].undo.links_after = Some(writer.unit_links(&about(unit, also)));
            writer.reload_manager()?;
        }
        Step::Job { verb, unit } => {
            writer.job(verb, unit)?;
            record.steps[at].undo.unit_after = writer.unit_now(unit);
        }
        Step::ResetFailed { unit } => writer.reset_failed(unit)?,
        Step::ReloadManager => writer.reload_manager()?,
        Step::End { pid, start_ticks, gently, .. } => writer.end_process(*pid, *start_ticks, *gently)?,
        Step::Continue { pid, start_ticks, .. } => writer.continue_process(*pid, *start_ticks)?,
        Step::Run { line, .. } => writer.run(line)?,
    }
    // Written with the next step's intent: that it is done can be seen from the machine.
    record.steps[at].stage = Stage::Done;
    Ok(())
}

#[cfg(test)]
#[path = "tests/transaction.rs"]
mod tests;
