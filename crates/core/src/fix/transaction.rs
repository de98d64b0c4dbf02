//! A change as a transaction: before every call the intent is on disk with all that the way back needs, and
//! whether a step happened is judged from the machine alone (done, not done, half), never from how far the
//! record came. So a change, and its way back, can be cut short between any two calls and taken up again
//! until what is said is true.
use super::command::RunMark;
use super::record::{RECORD, Record, save};
use super::steps::Doing;
use super::undo::put_all_back;
use super::way_back::{Commands, Stage, Undo, Way};
use super::{HostWriter, Slot, WriteError};

/// Carries out the steps of a change. When one fails, those before it are undone.
///
/// # Errors The step that failed, in words; the machine is then as it was, or the message says what is not,
/// with the id for `undo`.
pub fn apply(
    writer: &mut dyn HostWriter,
    mut record: Record,
    commands: &dyn Commands,
) -> Result<Record, WriteError> {
    // A record that already exists is another change's.
    if writer.load(&record.id, RECORD).is_some() {
        return Err(WriteError::Refused(format!("there is a change {} already", record.id)));
    }
    save(writer, &record)?;
    for at in 0..record.steps.len() {
        if let Err(error) = carry_out(writer, &mut record, at) {
            let what = record.steps[at].step.spelled();
            let undone = put_all_back(writer, &mut record, Way::RollBack, commands);
            let again = if undone.failed.is_empty() {
                String::new()
            } else {
                format!(" (undo {} takes it up again)", record.id)
            };
            return Err(WriteError::Failed { what, why: format!("{error}; {}{again}", undone.spelled()) });
        }
    }
    record.outcome = "kept".into();
    // The change stands whether or not this last word of it can be written: every step is on record with its
    // way back.
    let _ = save(writer, &record);
    Ok(record)
}

/// Adds to the record of a kept change what came of it; only the way back of a service without a manager
/// needs it.
pub fn keep(writer: &mut dyn HostWriter, mut record: Record, started: Option<RunMark>) {
    if started.is_some() {
        record.started = started;
        let _ = save(writer, &record);
    }
}

fn carry_out(writer: &mut dyn HostWriter, record: &mut Record, at: usize) -> Result<(), WriteError> {
    let step = record.steps[at].step.clone();
    let id = record.id.clone();
    let slot = Slot { id: &id, step: at };
    let undo = step.act().prepare(writer, slot)?;
    record.steps[at].undo = undo.clone();
    record.steps[at].stage = Stage::Begun;
    save(writer, record)?;
    let mut keep = |writer: &mut dyn HostWriter, undo: &Undo| {
        record.steps[at].undo = undo.clone();
        save(writer, record)
    };
    let mut doing = Doing { writer, slot, undo, keep: &mut keep };
    let outcome = step.act().carry_out(&mut doing);
    // What is known by now counts for the way back even of a step that failed.
    record.steps[at].undo = doing.undo;
    outcome?;
    // Written with the next step's intent: that it is done can be seen from the machine.
    record.steps[at].stage = Stage::Done;
    Ok(())
}

#[cfg(test)]
#[path = "tests/transaction.rs"]
mod tests;
