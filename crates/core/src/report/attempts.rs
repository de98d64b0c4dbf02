//! `attempts`: when it was started, stopped, refused, killed, and what it said.
use super::{Listed, schema};
use crate::case::{history, is_running, log_files, log_remarks, starter};
use crate::code::Code;
use crate::log::{Afterwards, Attempt, Outcome, StartedBy, format_time};
use crate::not_seen::NotSeen;
use crate::secrets::mask_text;
use crate::service::Service;
use crate::snapshot::Snapshot;
use jiff::tz::TimeZone;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// The document `attempts`.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct AttemptsReport {
    /// Form.
    pub schema: String,
    /// Service.
    pub service: String,
    /// Attempts, newest first.
    pub attempts: Listed<AttemptEntry>,
    /// Whether there are earlier ones that are not listed.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub more: bool,
    /// Sentences about the logs themselves: where they are, a clock that runs otherwise, a damaged packing.
    pub remarks: Vec<String>,
    /// What could not be seen.
    pub not_seen: Vec<NotSeen>,
    /// Whether any source could be read, so that an empty list means something.
    #[serde(skip)]
    pub could_list: bool,
}

/// One attempt.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct AttemptEntry {
    /// Begin.
    pub began: String,
    /// End of the run, or of the attempt where it never became ready.
    pub ended: Option<String>,
    /// How the start ended.
    pub outcome: Outcome,
    /// Milliseconds until it was ready.
    pub ready_after_ms: Option<i64>,
    /// What became of a run that was ready.
    pub afterwards: Option<Afterwards>,
    /// Who started it.
    pub started_by: StartedBy,
    /// Where it is told.
    pub logs: Vec<LogEntry>,
    /// Failures, first cause first.
    pub failures: Vec<FailureEntry>,
}

/// A stretch of a log.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct LogEntry {
    /// `file` or `journal`.
    pub source: String,
    /// Path, or `journal`.
    pub file: String,
    /// First line.
    pub first_line: Option<u32>,
    /// Last line.
    pub last_line: Option<u32>,
    /// First byte.
    pub first_byte: Option<u64>,
    /// Byte behind the last.
    pub last_byte: Option<u64>,
}

/// A line that tells of a failure.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct FailureEntry {
    /// Cause.
    pub code: Code,
    /// Path, or `journal`.
    pub file: String,
    /// Line.
    pub line: Option<u32>,
    /// Time.
    pub time: Option<String>,
    /// Text, secrets masked.
    pub text: String,
}

/// So many attempts are listed where nobody says how many.
const LISTED: usize = 1000;

/// The attempts of a service: the `last` ones, none that began before `since` (microseconds since the epoch).
pub fn attempts(
    snapshot: &Snapshot,
    service: &Service,
    last: Option<usize>,
    since: Option<i64>,
    failed_only: bool,
) -> AttemptsReport {
    // Sockets and accounts do not matter here: only whether it runs, and what its configuration says of logs.
    let config = service.configuration(snapshot);
    config.not_seen.iter().for_each(|line| snapshot.unseen(line.clone()));
    let zone = crate::log::host_zone(snapshot);
    let files = log_files(snapshot, service, &config);
    // Whoever asks for a number knows that there are more; else one more tells.
    let most = last.unwrap_or(LISTED);
    let wanted =
        if failed_only { most.max(LISTED) } else { most }.saturating_add(usize::from(last.is_none()));
    let found = history(snapshot, service, &config, is_running(snapshot, service), wanted, most >= 50);
    let mut list = found.list;
    let more = last.is_none() && list.len() > most;
    if last.is_none() {
        list.truncate(most);
    }
    // None of those that are left out can matter where a listed one began before the time that was asked for.
    let reaches = since.is_none_or(|s| list.last().is_none_or(|oldest| oldest.began >= s));
    let more = more && reaches;
    list.retain(|a| {
        since.is_none_or(|s| a.began >= s)
            && (!failed_only
                || matches!(a.outcome, Outcome::Failed | Outcome::Refused | Outcome::Killed)
                || a.afterwards == Some(Afterwards::Crashed))
    });
    list.truncate(most);
    let readable =
        |f: &String| snapshot.stat(f).seen().is_some_and(|s| s.kind == crate::host::FileKind::Regular);
    let mut remarks = found.remarks;
    remarks.extend(
        log_remarks(snapshot, service, &config, &starter(snapshot, service)).into_iter().map(|r| r.text),
    );
    let not_seen = snapshot.not_seen();
    let journal =
        service.unit_name().is_some() && snapshot.host().parts().manager && !snapshot.misses_a_journal();
    let denied = |f: &String| not_seen.iter().any(|l| l.denies(f));
    // A start may stand in the very log that could not be read.
    let could_list = (journal || files.iter().any(|f| readable(f) && !denied(f)))
        && !(list.is_empty()
            && (files.iter().any(denied)
                || crate::log::RECEIVER_FILES.iter().any(|f| !journal && denied(&(*f).to_owned()))));
    AttemptsReport {
        could_list,
        schema: schema("attempts"),
        service: service.name.clone(),
        more,
        remarks,
        attempts: Listed::when(could_list, list.iter().map(|a| entry(a, &zone)).collect()),
        not_seen,
    }
}

fn entry(attempt: &Attempt, zone: &TimeZone) -> AttemptEntry {
    AttemptEntry {
        began: format_time(attempt.began, zone),
        ended: attempt.ended.map(|t| format_time(t, zone)),
        outcome: attempt.outcome,
        ready_after_ms: attempt.ready.map(|r| (r - attempt.began).max(0) / 1000),
        afterwards: attempt.afterwards,
        started_by: attempt.started_by,
        logs: attempt
            .logs
            .iter()
            .map(|l| LogEntry {
                source: if l.file == "journal" { "journal" } else { "file" }.into(),
                file: l.file.clone(),
                first_line: l.first_line,
                last_line: l.last_line,
                first_byte: l.first_byte,
                last_byte: l.last_byte,
            })
            .collect(),
        failures: attempt
            .failures
            .iter()
            .map(|f| FailureEntry {
                code: f.code,
                file: f.file.clone(),
                line: f.line,
                time: f.time.map(|t| format_time(t, zone)),
                text: crate::bounds::clip(&mask_text(&f.text)),
            })
            .collect(),
    }
}
