//! The way back of a change, step by step, last step first. Whether a step is to be put back is judged from
//! the machine, never from how far the record came, so that a way back that was cut short can be taken up
//! again.
use super::record::{Record, load, save};
use super::steps::{Back, Due};
use super::way_back::{Commands, Stage, Undone, Way, refused};
use super::{HostWriter, Slot, WriteError};

/// Puts back what a change did, last step first. Files that were changed by others since are left alone and
/// named. It can be repeated: what is back already is seen.
///
/// # Errors When there is no such change, it was undone before, or somebody edited one of its files since;
/// nothing was changed then.
pub fn undo(
    writer: &mut dyn HostWriter,
    id: &str,
    way: Way,
    commands: &dyn Commands,
) -> Result<Undone, WriteError> {
    let Some(mut record) = load(writer, id) else { return refused(format!("change {id} does not exist")) };
    if matches!(record.outcome.as_str(), "undone" | "rolled-back") {
        return refused(format!("{id} was put back already"));
    }
    refuse_if_changed(writer, &record)?;
    Ok(put_all_back(writer, &mut record, way, commands))
}

/// Before anything is put back: every edited file must be as the change left it, or as it was before.
fn refuse_if_changed(writer: &dyn HostWriter, record: &Record) -> Result<(), WriteError> {
    let mut seen = Vec::new();
    record
        .steps
        .iter()
        .rev()
        .filter(|s| s.stage != Stage::Planned)
        .try_for_each(|one| one.step.act().check_back(writer, &mut seen))
}

/// Puts back every step that was begun, and says what came of it.
pub(super) fn put_all_back(
    writer: &mut dyn HostWriter,
    record: &mut Record,
    way: Way,
    commands: &dyn Commands,
) -> Undone {
    let mut undone = Undone::default();
    let id = record.id.clone();
    for at in (0..record.steps.len()).rev() {
        let one = record.steps[at].clone();
        if matches!(one.stage, Stage::Planned | Stage::Undone) || one.step.act().turn() == Due::AtTheEnd {
            continue;
        }
        let slot = Slot { id: &id, step: at };
        let outcome = put_back(writer, record, at, way, commands, &mut undone)
            .and_then(|()| writer.clear(one.step.act().prepares(), slot));
        match outcome {
            Ok(()) => record.steps[at].stage = Stage::Undone,
            Err(error) => undone.failed.push(format!("{}: {error}", one.step.spelled())),
        }
        // Only how far it came: the next undo sees from the machine what is left, whether or not this could
        // be written.
        let _ = save(writer, record);
    }
    // What the manager was told to read anew it shall forget again.
    if record.steps.iter().any(|s| s.stage != Stage::Planned && s.step.act().reloads())
        && let Err(error) = writer.reload_manager()
    {
        undone.failed.push(format!("make the manager read its unit files anew: {error}"));
    }
    // What the change had stopped comes up again when all files are back, and what it had started is out of
    // the way.
    let runs_on = record
        .steps
        .iter()
        .any(|s| !matches!(s.stage, Stage::Planned | Stage::Undone) && s.step.act().turn() == Due::Starts);
    let postponed = runs_on || (way == Way::Undo && !undone.failed.is_empty());
    for at in (0..record.steps.len()).rev() {
        let one = record.steps[at].clone();
        if matches!(one.stage, Stage::Planned | Stage::Undone) || one.step.act().turn() != Due::AtTheEnd {
            continue;
        }
        if postponed {
            undone.failed.push(format!(
                "start again what \"{}\" had stopped: the rest must be back first",
                one.step.spelled()
            ));
            continue;
        }
        match put_back(writer, record, at, way, commands, &mut undone) {
            Ok(()) => record.steps[at].stage = Stage::Undone,
            Err(error) => undone
                .failed
                .push(format!("start again what \"{}\" had stopped: {error}", one.step.spelled())),
        }
        let _ = save(writer, record);
    }
    if undone.failed.is_empty() {
        record.outcome = way.outcome().into();
    }
    if let Err(error) = save(writer, record) {
        undone.due.push(format!(
            "the record of {id} could not be brought up to date ({error}); undoing it again does no harm"
        ));
    }
    undone
}

/// Puts back one step.
fn put_back(
    writer: &mut dyn HostWriter,
    record: &Record,
    at: usize,
    way: Way,
    commands: &dyn Commands,
    undone: &mut Undone,
) -> Result<(), WriteError> {
    let one = &record.steps[at];
    one.step.act().put_back(&mut Back {
        writer,
        way,
        slot: Slot { id: &record.id, step: at },
        stage: one.stage,
        undo: &one.undo,
        service: &record.service,
        was_running: record.was_running,
        started: record.started,
        commands,
        undone,
    })
}
