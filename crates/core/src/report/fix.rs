//! `fix` and `undo`: plans, what was carried out, and what came of it.
use super::listed::Listed;
use super::{HandStep, Recovery, VerifyReport, schema};
use crate::code::Code;
use crate::fix::{Parameter, Plan, Record, Risk, Stage, Step, Undone};
use crate::not_seen::NotSeen;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// The document `fix`.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct FixReport {
    /// Form.
    pub schema: String,
    /// Service.
    pub service: String,
    /// The page that fails, where the fixes are for that.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub url: Option<String>,
    /// The cause that the fixes are for, in one sentence.
    pub cause: Option<String>,
    /// Fixes, least dangerous first.
    pub fixes: Vec<FixEntry>,
    /// Fixes that do not apply here, with the reason.
    pub unavailable: Vec<Unavailable>,
    /// What a person does, where no fix applies.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub by_hand: Vec<HandStep>,
    /// Ids that were carried out.
    pub applied: Vec<String>,
    /// What came of it.
    pub verified: Option<Recovery>,
    /// The checks behind that.
    pub verification: Option<VerifyReport>,
    /// Whether it was put back.
    pub rolled_back: bool,
    /// Id for `undo`.
    pub undo_id: Option<String>,
    /// The next cause, where one is left.
    pub next_cause: Option<NextCause>,
}

/// What is left after a fix.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct NextCause {
    /// What.
    pub code: Code,
    /// One sentence.
    pub title: String,
}

/// A fix that does not apply.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct Unavailable {
    /// Id.
    pub id: String,
    /// Why.
    pub reason: String,
}

/// One fix.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct FixEntry {
    /// Id, as for `--pick`.
    pub id: String,
    /// One sentence.
    pub title: String,
    /// The cause it is for.
    pub cause: Code,
    /// What can go wrong.
    pub risk: Risk,
    /// Whether `undo` puts everything back.
    pub reversible: bool,
    /// Values it takes.
    pub parameters: Vec<Parameter>,
    /// Steps, in words.
    pub steps: Vec<String>,
    /// Those of the steps that the diff does not show; for people.
    #[serde(skip)]
    pub beside_the_diff: Vec<String>,
    /// Diff of the files it edits.
    pub diff: String,
    /// What a person should know.
    pub remarks: Vec<String>,
}

impl FixReport {
    /// An empty report.
    pub fn new(service: &str) -> Self {
        Self {
            schema: schema("fix"),
            service: service.to_owned(),
            url: None,
            cause: None,
            fixes: vec![],
            unavailable: vec![],
            by_hand: vec![],
            applied: vec![],
            verified: None,
            verification: None,
            rolled_back: false,
            undo_id: None,
            next_cause: None,
        }
    }
    /// Adds a plan.
    pub fn add(&mut self, plan: &Plan) {
        self.fixes.push(FixEntry {
            id: plan.id.clone(),
            title: plan.title.clone(),
            cause: plan.cause,
            risk: plan.risk,
            reversible: plan.reversible,
            parameters: plan.parameters.clone(),
            steps: plan.steps.iter().map(Step::spelled).collect(),
            beside_the_diff: plan
                .steps
                .iter()
                .filter(|s| !matches!(s, Step::Edit(_)))
                .map(Step::spelled)
                .collect(),
            diff: plan.diff.clone(),
            remarks: plan.remarks.clone(),
        });
    }
}

/// The document `undo`.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct UndoReport {
    /// Form.
    pub schema: String,
    /// Changes on record, newest first; empty when one was undone.
    pub changes: Listed<ChangeEntry>,
    /// The change that was undone.
    pub undone: Option<String>,
    /// What was put back, in words.
    pub done: Vec<String>,
    /// What cannot be put back, or was left alone.
    pub left: Vec<String>,
    /// What runs now, and which restart is due.
    pub due: Vec<String>,
    /// What could not be put back this time; the same undo takes it up again.
    pub failed: Vec<String>,
    /// Changes whose record cannot be read.
    pub not_seen: Vec<NotSeen>,
}

/// One change on record.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct ChangeEntry {
    /// Id.
    pub id: String,
    /// Service.
    pub service: String,
    /// What it was about.
    pub title: String,
    /// When.
    pub began: String,
    /// `begun` (cut short), `kept`, `rolled-back`, `undone`.
    pub outcome: String,
    /// Steps that were carried out, in words.
    pub steps: Vec<String>,
}

impl UndoReport {
    /// The list of changes.
    ///
    /// `hidden` says which changes could not be looked at.
    pub fn list(records: &[Record], unreadable: &[String], hidden: Option<NotSeen>) -> Self {
        let entry = |r: &Record| ChangeEntry {
            id: r.id.clone(),
            service: r.service.clone(),
            title: r.title.clone(),
            began: r.began.clone(),
            outcome: r.outcome.clone(),
            steps: r.steps.iter().filter(|s| s.stage != Stage::Planned).map(|s| s.step.spelled()).collect(),
        };
        let not_seen: Vec<NotSeen> = unreadable
            .iter()
            .map(|id| format!("the record of change {id} cannot be read").into())
            .chain(hidden)
            .collect();
        Self {
            changes: Listed::when(not_seen.is_empty(), records.iter().rev().map(entry).collect()),
            not_seen,
            ..Self::empty()
        }
    }
    /// One change undone.
    pub fn undone(id: &str, undone: Undone) -> Self {
        Self {
            undone: Some(id.to_owned()),
            done: undone.done,
            left: undone.left,
            due: undone.due,
            failed: undone.failed,
            ..Self::empty()
        }
    }
    fn empty() -> Self {
        Self {
            schema: schema("undo"),
            changes: Listed::when(true, vec![]),
            undone: None,
            done: vec![],
            left: vec![],
            due: vec![],
            failed: vec![],
            not_seen: vec![],
        }
    }
}
