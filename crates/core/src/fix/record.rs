//! The journal's record of a change: which steps, how far each came, and what its way back needs.
use super::command::RunMark;
use super::steps::{Create, Edit, Step};
use super::way_back::{Stage, Undo};
use super::{HostWriter, WriteError};
use crate::bundle::Earlier;
use serde::{Deserialize, Serialize};

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
