//! The journal's record of a change: which steps, how far each came, and what its way back needs.
use super::{HostWriter, Identity, Step, UnitLink, UnitNow, WriteError};
use crate::bundle::Earlier;
use crate::fix::steps::{Create, Edit};
use serde::{Deserialize, Serialize};

/// How far a step came, as far as the record knows. The machine itself has the last word.
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
    /// The directory that was made, known before it appeared.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub made: Option<Identity>,
    /// The unit before the call.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unit_before: Option<UnitNow>,
    /// The unit after the call.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unit_after: Option<UnitNow>,
    /// Links of the unit before the call; an entry without a target is a directory of links.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub links_before: Option<Vec<UnitLink>>,
    /// The same after the call.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub links_after: Option<Vec<UnitLink>>,
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

impl From<Step> for RecordedStep {
    fn from(step: Step) -> Self {
        Self { step, stage: Stage::Planned, undo: Undo::default() }
    }
}

/// A run of a service that no manager owns: its process, and when that started.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct RunMark {
    /// Process.
    pub pid: u32,
    /// Its start in clock ticks since boot.
    pub start_ticks: u64,
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
    /// Whether the service ran before; `None` where nothing tells.
    #[serde(default)]
    pub was_running: Option<bool>,
    /// The run that the change started, where no manager owns the service.
    #[serde(default)]
    pub started: Option<RunMark>,
    /// Steps in order.
    pub steps: Vec<RecordedStep>,
}

/// Name of the record in a change's own directory.
pub(super) const RECORD: &str = "record.json";

/// Writes a record.
pub(super) fn save(writer: &mut dyn HostWriter, record: &Record) -> Result<(), WriteError> {
    let text = serde_json::to_vec_pretty(record).map_err(|e| WriteError::Refused(e.to_string()))?;
    writer.store(&record.id, RECORD, &text)
}

/// Reads one record.
pub fn load(writer: &dyn HostWriter, id: &str) -> Option<Record> {
    serde_json::from_slice(&writer.load(id, RECORD)?).ok().filter(|record: &Record| record.id == id)
}

/// All records, oldest first, and the ids of those that cannot be read.
pub fn list(writer: &dyn HostWriter) -> (Vec<Record>, Vec<String>) {
    let (mut records, mut unreadable) = (Vec::new(), Vec::new());
    for id in writer.changes() {
        match load(writer, &id) {
            Some(record) => records.push(record),
            None => unreadable.push(id),
        }
    }
    (records, unreadable)
}

/// What the changes on record left in the files that they wrote. What was undone tells nothing.
pub fn left_by(records: &[Record]) -> Earlier {
    let mut earlier = Earlier::default();
    for record in records.iter().filter(|r| r.outcome == "kept") {
        for recorded in record.steps.iter().filter(|s| s.stage == Stage::Done) {
            if let Step::Edit(Edit { target, after, .. }) | Step::Create(Create { target, after, .. }) =
                &recorded.step
            {
                earlier.add(&target.path, &after.0, &format!("change {}", record.id));
            }
        }
    }
    earlier
}

/// A refusal in words.
pub(super) fn refused<T>(words: String) -> Result<T, WriteError> {
    Err(WriteError::Refused(words))
}

/// What cannot be seen is not taken for stopped: the step stays to be taken back.
pub(super) fn seen_now(writer: &dyn HostWriter, unit: &str) -> Result<UnitNow, WriteError> {
    writer.unit_now(unit).ok_or_else(|| WriteError::Refused(format!("whether {unit} runs could not be seen")))
}
