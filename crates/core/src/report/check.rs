//! One check of a recovery, and how it ended.
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// How a check ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum CheckOutcome {
    /// As it should be.
    Pass,
    /// Not as it should be.
    Fail,
    /// Could not be looked at, or does not apply.
    Skip,
}

/// One check of a recovery.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct CheckEntry {
    /// `process`, `account`, `stable`, `ports`, `let-go`, `protocol`, `page`, `way`, `log`, `boot`.
    pub name: String,
    /// How it ended.
    pub outcome: CheckOutcome,
    /// What was seen.
    pub detail: String,
    /// Milliseconds it took, where a server was asked.
    pub took_ms: Option<u64>,
}

pub(super) fn check(name: &str, outcome: CheckOutcome, detail: impl Into<String>) -> CheckEntry {
    CheckEntry { name: name.into(), outcome, detail: detail.into(), took_ms: None }
}
