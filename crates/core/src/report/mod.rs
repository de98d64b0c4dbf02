//! What every command answers, as plain data: one type for each document of the machine-readable contract.
mod attempts;
mod diagnosis;
mod lint;
mod ports;
mod settings;
mod survey;

pub use attempts::{AttemptEntry, AttemptsReport, FailureEntry, LogEntry, attempts};
pub use diagnosis::{CauseEntry, Changed, Context, Diagnosis, NoteEntry, Outlook, ServiceEntry, diagnose, diagnose_case, is_unwell};
pub use lint::{LintFinding, LintReport, Verdict, lint_configuration};
pub use ports::{HolderEntry, PortEntry, PortsReport, WantedBy, free_ports, ports};
pub use settings::{SettingEntry, SettingsReport, settings};
pub use survey::{SurveyEntry, SurveyReport, survey};

/// The name of a document's form.
pub fn schema(name: &str) -> String {
    format!("jolly-sentinel/{name}/1")
}
