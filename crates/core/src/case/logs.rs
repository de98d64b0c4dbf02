//! Where a service's log is, and what is odd about it: not there, empty, not writable, sent elsewhere, or
//! another daemon's.
use crate::access::{self, Right};
use crate::accounts::Account;
use crate::config::{Configuration, LogSink, Place};
use crate::host::{FileKind, Look};
use crate::kinds;
use crate::log::Around;
use crate::service::Service;
use crate::snapshot::Snapshot;
use jiff::tz::TimeZone;

/// Files in which a receiver of syslog messages keeps what daemons send it, in the layouts of the families of
/// distributions.
const SYSLOG_FILES: &[&str] =
    &["/var/log/syslog", "/var/log/messages", "/var/log/daemon.log", "/var/log/user.log"];
/// Logs of one service that are looked at: hosts of many sites have one for each.
const LOGS: usize = 16;
/// How much of a log's end tells whose it is, in bytes.
const END: u32 = 16 << 10;

/// Log files of a service: those of the services file first, then those of its configuration, then those of
/// the syslog receiver where the log is sent there.
pub fn log_files(snapshot: &Snapshot, service: &Service, config: &Configuration) -> Vec<String> {
    let mut files = service.described.log.clone();
    let mut add = |file: &str| {
        if !files.iter().any(|f| f == file) {
            files.push(file.to_owned());
        }
    };
    config.model.error_logs.iter().for_each(|log| add(&log.path));
    if config.model.log_sinks.iter().any(|(sink, _)| *sink == LogSink::Syslog) {
        let own = format!("/var/log/{}.log", service.kind.name());
        let there = |file: &&str| {
            snapshot.stat(file).seen().is_some_and(|s| s.kind == FileKind::Regular && s.size > 0)
        };
        std::iter::once(own.as_str()).chain(SYSLOG_FILES.iter().copied()).filter(there).for_each(add);
    }
    files
}

/// One thing to know about a log before it is searched in vain.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LogRemark {
    /// The file, where it is one.
    pub file: Option<String>,
    /// A sentence.
    pub text: String,
    /// The line that sends it there.
    pub place: Option<Place>,
    /// Whether lines are lost because of it.
    pub loses: bool,
}

/// What is odd about the logs of a service that `who` starts.
pub fn log_remarks(
    snapshot: &Snapshot,
    service: &Service,
    config: &Configuration,
    who: &Account,
) -> Vec<LogRemark> {
    let mut found = Vec::new();
    for (sink, place) in &config.model.log_sinks {
        let text = match sink {
            LogSink::Syslog => "the log is sent to the syslog receiver".to_owned(),
            LogSink::StandardError if service.unit.is_some() => {
                "the log is written to the standard error, which the manager keeps in the journal".to_owned()
            }
            LogSink::StandardError => {
                "the log is written to the standard error, and nobody is known to keep that".to_owned()
            }
            LogSink::Program => "the log is handed to another program".to_owned(),
        };
        let at = place.as_ref().map(|p| format!(" ({p})")).unwrap_or_default();
        found.push(LogRemark { file: None, text: text + &at, place: place.clone(), loses: false });
    }
    let named: Vec<(&str, Option<&Place>)> = (service.described.log.iter().map(|f| (f.as_str(), None)))
        .chain(config.model.error_logs.iter().map(|l| (l.path.as_str(), l.place.as_ref())))
        .take(LOGS)
        .collect();
    for (at, (file, place)) in named.iter().enumerate() {
        let remark = |text: String, loses: bool| LogRemark {
            file: Some((*file).to_owned()),
            text,
            place: place.cloned(),
            loses,
        };
        match snapshot.stat(file) {
            // Of the main log that matters; sites may never have had anything to say.
            Look::Absent if at == 0 => {
                found.push(remark(format!("{file} does not exist: nothing was written to it yet"), false))
            }
            Look::Seen(status) if status.kind == FileKind::Regular => {
                if status.size == 0 && at == 0 {
                    let kept = crate::log::predecessor(snapshot, file)
                        .map(|older| format!("; what was written before stands in {older}"))
                        .unwrap_or_default();
                    found.push(remark(format!("{file} is empty{kept}"), false));
                }
                if who.uid != 0
                    && let Look::Seen(Some(obstacle)) = access::may(snapshot, who, file, Right::Write)
                {
                    let owner = crate::accounts::user_name(snapshot, obstacle.status.uid);
                    let why =
                        format!("{} belongs to {owner}, mode {:04o}", obstacle.path, obstacle.status.mode);
                    found.push(remark(format!("{} may not write to {file}: {why}", who.name), true));
                }
                if let Some(other) = of_another_kind(snapshot, service, file) {
                    found.push(remark(format!("{file} looks like a log of {other}"), false));
                }
            }
            _ => {}
        }
    }
    found.extend(left_alone(snapshot, service, &named));
    found
}

/// Another log of the kind's in its usual place, which the configuration does not name: what stands in it is
/// older, or of another service.
fn left_alone(snapshot: &Snapshot, service: &Service, named: &[(&str, Option<&Place>)]) -> Option<LogRemark> {
    let real: Vec<String> = named.iter().map(|(file, _)| snapshot.resolve_links(file)).collect();
    // A log whose place nothing tells is not known to be elsewhere.
    let newest = real.iter().filter_map(|f| snapshot.stat(f).seen()).map(|s| s.modified).max()?;
    let mut usual = service
        .kind
        .profile()
        .logs
        .iter()
        .map(|file| snapshot.resolve_links(file))
        .filter(|file| !real.contains(file));
    let older = |file: &String| {
        snapshot
            .stat(file)
            .seen()
            .is_some_and(|s| s.kind == FileKind::Regular && s.size > 0 && s.modified < newest)
    };
    let file = usual.find(older)?;
    let now = named.first().map(|(file, _)| *file).unwrap_or_default();
    let text =
        format!("{file} lies in the usual place and is not the log of {}: that is {now}", service.name);
    Some(LogRemark {
        file: Some(file),
        text,
        place: named.first().and_then(|(_, place)| place.cloned()),
        loses: false,
    })
}

/// The kind whose log a file looks like, where it does not look like this one's.
fn of_another_kind(snapshot: &Snapshot, service: &Service, file: &str) -> Option<&'static str> {
    let own = service.described.log_format.as_deref().and_then(kinds::kind).unwrap_or(service.kind);
    if own.profile().programs.is_empty() || service.described.log_rules().ok().flatten().is_some() {
        return None;
    }
    let size = snapshot.stat(file).seen()?.size;
    let end = snapshot.read_at(file, size.saturating_sub(u64::from(END)), END).seen()?;
    let text = String::from_utf8_lossy(&end);
    let lines: Vec<&str> = text.lines().skip(usize::from(size > u64::from(END))).collect();
    let universal = TimeZone::UTC;
    let around = Around { latest: Some(i64::MAX / 4), ..Around::zone(&universal) };
    let fits = |kind: &dyn kinds::Kind, line: &&str| kind.grammar().own_head(line, around).is_some();
    if lines.len() < 3 || lines.iter().rev().any(|l| fits(own, l)) {
        return None;
    }
    let fitting = |kind: &dyn kinds::Kind| lines.iter().filter(|l| fits(kind, l)).count();
    let mut others =
        kinds::KINDS.iter().copied().filter(|k| !k.profile().programs.is_empty() && !k.profile().on_java);
    others.find(|k| fitting(*k) * 10 >= lines.len() * 8).map(|k| k.name())
}
