//! What every command answers, as plain data: one type for each document of the machine-readable contract.
mod asking;
mod attempts;
mod by_hand;
mod check;
mod diagnosis;
mod fix;
mod follow;
mod lint;
mod listed;
mod order;
mod ports;
mod settings;
mod survey;
mod verify;

pub use asking::Complaint;
pub use attempts::{AttemptEntry, AttemptsReport, FailureEntry, LogEntry, attempts};
pub use by_hand::{HandStep, by_hand};
pub use check::{CheckEntry, CheckOutcome};
pub use diagnosis::{
    CauseEntry, Changed, Context, Diagnosis, NoteEntry, Outlook, ServiceEntry, chain_cases, diagnose,
    diagnose_case, diagnose_chain, is_unwell, standing_causes, wished_causes,
};
pub use fix::{ChangeEntry, FixEntry, FixReport, NextCause, Unavailable, UndoReport};
pub use follow::{FollowEnd, FollowedLine, Follower};
pub use lint::{
    Correction, LintFinding, LintOverview, LintReport, LintedService, Verdict, correction, lint_all,
    lint_configuration,
};
pub use listed::Listed;
pub use ports::{HolderEntry, PortEntry, PortsReport, PortsRequest, WantedBy, ports};
pub use settings::{
    Difference, Mention, Overridden, SettingEntry, SettingsReport, compare, mentions, only_changed, settings,
};
pub use survey::{SurveyEntry, SurveyReport, survey};
pub use verify::{Recovery, VerifyReport, verify};

/// The name of a document's form.
pub fn schema(name: &str) -> String {
    format!("jolly-sentinel/{name}/1")
}

#[cfg(test)]
mod tests;
