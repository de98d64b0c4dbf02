//! Start attempts, put together from the manager's record, the journal and the daemon's own log files.
#[cfg(test)]
use super::Grammar;
use super::{Mark, Match, Tail, count_lines};
use crate::code::Code;
use crate::host::{JournalEntry, Look};
use crate::kinds::Kind;
use crate::snapshot::Snapshot;
use jiff::tz::TimeZone;

/// How a start ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq, serde::Serialize, serde::Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Outcome {
    /// It became ready.
    Ready,
    /// It ended with an error before it was ready.
    Failed,
    /// Somebody killed it before it was ready.
    Killed,
    /// Somebody stopped it before it was ready.
    Stopped,
    /// The manager did not even try.
    Refused,
    /// It is still at it.
    Starting,
    /// Nothing tells.
    Unknown,
}

/// What became of a run that was ready.
#[derive(Clone, Copy, Debug, PartialEq, Eq, serde::Serialize, serde::Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Afterwards {
    /// It runs.
    Running,
    /// It was stopped.
    Stopped,
    /// It was killed.
    Killed,
    /// It died by itself.
    Crashed,
}

/// Who started it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, serde::Serialize, serde::Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum StartedBy {
    /// The service manager.
    Manager,
    /// A person or a script, beside the manager.
    Hand,
    /// Nothing tells.
    Unknown,
}

/// A stretch of a log that belongs to an attempt.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LogPart {
    /// Path, or `journal`.
    pub file: String,
    /// First line, where it was counted.
    pub first_line: Option<u32>,
    /// Last line, where it was counted.
    pub last_line: Option<u32>,
    /// First byte; `None` for the journal.
    pub first_byte: Option<u64>,
    /// Byte behind the last; `None` for the journal.
    pub last_byte: Option<u64>,
}

/// A line that tells of a failure.
#[derive(Clone, Debug, PartialEq)]
pub struct Failure {
    /// The cause.
    pub code: Code,
    /// Path, or `journal`.
    pub file: String,
    /// Line, where it was counted.
    pub line: Option<u32>,
    /// Microseconds since the epoch.
    pub time: Option<i64>,
    /// The text.
    pub text: String,
    /// Objects named in it.
    pub found: Match,
}

/// One start attempt.
#[derive(Clone, Debug)]
pub struct Attempt {
    /// Microseconds since the epoch.
    pub began: i64,
    /// End of the run, or of the attempt where it never became ready.
    pub ended: Option<i64>,
    /// How the start ended.
    pub outcome: Outcome,
    /// When it was ready.
    pub ready: Option<i64>,
    /// What became of the run.
    pub afterwards: Option<Afterwards>,
    /// Who started it.
    pub started_by: StartedBy,
    /// Where it is told.
    pub logs: Vec<LogPart>,
    /// Failures, first cause first.
    pub failures: Vec<Failure>,
    /// Identity in the journal.
    pub invocation: String,
    /// The manager's word for how it ended: `exit-code`, `signal`, `timeout`, `start-limit-hit`, …
    pub result: String,
    /// Exit of the process that failed, as the manager tells it: `exited/1`, `killed/9`.
    pub exit: String,
    /// Every line of the daemon's that no rule knows, of notable severity.
    pub unexplained: Vec<Failure>,
    /// Warnings known to be harmless.
    pub harmless: u32,
}

/// Attempts with what could not be seen.
#[derive(Clone, Debug, Default)]
pub struct Attempts {
    /// Newest first.
    pub list: Vec<Attempt>,
}

mod id {
    pub(super) const STARTING: &str = "7d4958e842da4a758f6c1cdc7b36dcc5";
    pub(super) const STARTED: &str = "39f53479d3a045ac8e11786248231fbf";
    pub(super) const START_FAILED: &str = "be02cf6855d2428ba40df7e9d022f03d";
    pub(super) const STOPPING: &str = "de5b426a63be47a7b6ac3eaac82e2f6f";
    pub(super) const STOPPED: &str = "9d1aaa27d60140bd96365438aad20286";
    pub(super) const EXITED: &str = "98e322203f7a4ed290d09fe03c09fe15";
    pub(super) const DEACTIVATED: &str = "7ad2d189f7e94e70a38c781354912448";
    pub(super) const UNIT_FAILED: &str = "d9b373ed55a64feb8242e02dbe79a49c";
    pub(super) const RELOADING: &str = "d34d037fff1847e6ae669a370e694725";
    pub(super) const RELOADED: &str = "7b05ebc668384222baa8881179cfda54";
    pub(super) const RESTARTING: &str = "5eb03494b6584870a536b337290809b3";
}

/// What to read of a service's history.
pub struct Request<'r> {
    /// Kind.
    pub kind: &'r dyn Kind,
    /// Unit in the journal, if there is one.
    pub unit: Option<&'r str>,
    /// Own log files, the main one first.
    pub files: &'r [String],
    /// Zone of the daemon's stamps.
    pub zone: &'r TimeZone,
    /// How many attempts are wanted at most.
    pub most: usize,
    /// Count lines even in long files.
    pub count_all: bool,
    /// Whether it runs now, and since when (microseconds since the epoch).
    pub running_since: Option<Option<i64>>,
}

/// Puts the attempts together, newest first.
pub fn attempts(snapshot: &Snapshot, request: &Request) -> Attempts {
    let mut list = Vec::new();
    if let Some(unit) = request.unit {
        let entries = u32::try_from(request.most.saturating_mul(80).clamp(400, 100_000)).unwrap_or(400);
        if let Look::Seen(mut entries) = snapshot.journal(unit, entries) {
            entries.reverse();
            list = from_journal(&entries, request.kind);
        }
    }
    for (at, file) in request.files.iter().enumerate() {
        from_file(snapshot, request, file, at == 0, &mut list);
    }
    list.sort_by_key(|a| a.began);
    for attempt in &mut list {
        settle(attempt);
    }
    settle_last(&mut list, request);
    list.reverse();
    list.truncate(request.most);
    Attempts { list }
}

fn new_attempt(began: i64, started_by: StartedBy) -> Attempt {
    Attempt {
        began,
        ended: None,
        outcome: Outcome::Unknown,
        ready: None,
        afterwards: None,
        started_by,
        logs: Vec::new(),
        failures: Vec::new(),
        invocation: String::new(),
        result: String::new(),
        exit: String::new(),
        unexplained: Vec::new(),
        harmless: 0,
    }
}

/// The manager's record and what the daemon said into the journal, oldest first.
fn from_journal(entries: &[JournalEntry], kind: &dyn Kind) -> Vec<Attempt> {
    let mut list: Vec<Attempt> = Vec::new();
    let mut reloading = false;
    let mut stopping = false;
    let mut boot = String::new();
    for entry in entries {
        let time = i64::try_from(entry.time).unwrap_or(0);
        if !boot.is_empty() && boot != entry.boot {
            // The host went down without a word: whatever ran has no known end.
            if let Some(last) = list.last_mut().filter(|a| a.ended.is_none()) {
                last.result = "host-gone".into();
            }
        }
        boot.clone_from(&entry.boot);
        if !entry.from_manager {
            daemon_line(&mut list, entry, time, kind, reloading);
            continue;
        }
        let current = |list: &mut Vec<Attempt>| list.iter().rposition(|a| a.ended.is_none());
        match entry.message_id.as_str() {
            id::STARTING => {
                stopping = false;
                let mut attempt = new_attempt(time, StartedBy::Manager);
                attempt.outcome = Outcome::Starting;
                attempt.invocation.clone_from(&entry.invocation);
                list.push(attempt);
            }
            id::STARTED if entry.message.contains("was skipped") => {
                let mut attempt = new_attempt(time, StartedBy::Manager);
                attempt.outcome = Outcome::Refused;
                attempt.ended = Some(time);
                attempt.result = "condition".into();
                attempt.failures.push(journal_failure(Code::ManagerDisabled, entry, Match::default()));
                list.push(attempt);
            }
            id::STARTED => {
                stopping = false;
                match current(&mut list) {
                    Some(at) if list[at].outcome == Outcome::Starting => {
                        list[at].outcome = Outcome::Ready;
                        list[at].ready = Some(time);
                    }
                    _ => {
                        let mut attempt = new_attempt(time, StartedBy::Manager);
                        attempt.outcome = Outcome::Ready;
                        attempt.ready = Some(time);
                        attempt.invocation.clone_from(&entry.invocation);
                        list.push(attempt);
                    }
                }
            }
            id::START_FAILED => {
                let at = list.iter().rposition(|a| a.outcome == Outcome::Starting || a.invocation == entry.invocation && !entry.invocation.is_empty());
                match at {
                    Some(at) if list[at].outcome != Outcome::Ready && list[at].result != "start-limit-hit" => {
                        list[at].outcome = Outcome::Failed;
                        list[at].ended = Some(time);
                    }
                    _ => {
                        let dependency = entry.result == "dependency" || entry.message.contains("Dependency failed");
                        let mut attempt = new_attempt(time, StartedBy::Manager);
                        attempt.outcome = Outcome::Refused;
                        attempt.ended = Some(time);
                        attempt.result = if dependency { "dependency".into() } else { "start-limit-hit".to_owned() };
                        let code = if dependency { Code::DependencyDown } else { Code::ManagerGaveUp };
                        attempt.failures.push(journal_failure(code, entry, Match::default()));
                        list.push(attempt);
                    }
                }
            }
            id::EXITED => {
                if let Some(at) = current(&mut list) {
                    let main = entry.message.contains("Main process exited");
                    if main || list[at].outcome == Outcome::Starting {
                        list[at].exit.clone_from(&entry.exit);
                        if list[at].outcome == Outcome::Ready && main {
                            list[at].ended = Some(time);
                            list[at].afterwards = Some(if stopping {
                                Afterwards::Stopped
                            } else if entry.exit.starts_with("killed") {
                                Afterwards::Killed
                            } else {
                                Afterwards::Crashed
                            });
                        }
                    }
                }
            }
            id::UNIT_FAILED => {
                if entry.result == "start-limit-hit" || entry.message.contains("start-limit-hit") {
                    if list.last().is_none_or(|a| a.ended.is_some() && a.outcome != Outcome::Failed)
                        || list.last().is_some_and(|a| a.ended.is_some_and(|e| time - e > 60_000_000))
                    {
                        continue;
                    }
                    continue;
                }
                if let Some(last) = list.last_mut() {
                    let word = if entry.result.is_empty() { entry.message.rsplit('\'').nth(1).unwrap_or_default().to_owned() } else { entry.result.clone() };
                    last.result = word;
                    if last.ready.is_some() && last.afterwards.is_none() {
                        last.afterwards = Some(if stopping { Afterwards::Stopped } else { Afterwards::Crashed });
                        last.ended.get_or_insert(time);
                    }
                }
            }
            id::STOPPING => {
                stopping = true;
                if let Some(at) = current(&mut list)
                    && list[at].outcome == Outcome::Starting
                {
                    list[at].outcome = Outcome::Stopped;
                }
            }
            id::STOPPED | id::DEACTIVATED => {
                if let Some(at) = current(&mut list) {
                    list[at].ended = Some(time);
                    match list[at].outcome {
                        Outcome::Ready => {
                            list[at].afterwards.get_or_insert(Afterwards::Stopped);
                        }
                        Outcome::Starting => list[at].outcome = Outcome::Stopped,
                        _ => {}
                    }
                }
            }
            id::RELOADING => reloading = true,
            id::RELOADED => reloading = false,
            id::RESTARTING => {}
            _ => manager_words(&mut list, entry, time),
        }
    }
    list
}

/// Lines of the manager without an identity of their own.
fn manager_words(list: &mut Vec<Attempt>, entry: &JournalEntry, time: i64) {
    let message = entry.message.as_str();
    if message.contains("Start request repeated too quickly") {
        let mut attempt = new_attempt(time, StartedBy::Manager);
        attempt.outcome = Outcome::Refused;
        attempt.ended = Some(time);
        attempt.result = "start-limit-hit".into();
        attempt.failures.push(journal_failure(Code::ManagerGaveUp, entry, Match::default()));
        list.push(attempt);
    } else if message.contains("operation timed out") {
        if let Some(last) = list.last_mut() {
            last.failures.push(journal_failure(Code::StartTimeout, entry, Match::default()));
        }
    } else if let Some(found) = crate::manager::catalogue().recognise(message)
        && let (Some(code), Some(last)) = (found.code, list.last_mut())
    {
        last.failures.push(journal_failure(code, entry, found));
    }
}

fn journal_failure(code: Code, entry: &JournalEntry, found: Match) -> Failure {
    let text = entry.message.trim().to_owned();
    Failure { code, file: "journal".into(), line: None, time: i64::try_from(entry.time).ok(), text, found }
}

fn daemon_line(list: &mut [Attempt], entry: &JournalEntry, time: i64, kind: &dyn Kind, reloading: bool) {
    if reloading {
        return;
    }
    let by_identity = list.iter().rposition(|a| !a.invocation.is_empty() && a.invocation == entry.invocation);
    let Some(at) = by_identity.or(list.len().checked_sub(1)) else { return };
    let attempt = &mut list[at];
    if let Some(ready) = attempt.ready {
        // What a run says long after its start is not about the start.
        if time - ready > 5_000_000 && kind.catalogue().recognise(&entry.message).is_none() {
            return;
        }
    }
    let part = attempt.logs.iter().any(|l| l.file == "journal");
    if !part {
        attempt.logs.push(LogPart { file: "journal".into(), first_line: None, last_line: None, first_byte: None, last_byte: None });
    }
    for line in entry.message.lines() {
        note_line(attempt, kind, line, "journal", None, Some(time), entry.priority <= 4);
    }
}

/// One line of the daemon's: a known failure, harmless, or notable and unexplained.
fn note_line(attempt: &mut Attempt, kind: &dyn Kind, text: &str, file: &str, line: Option<u32>, time: Option<i64>, notable: bool) {
    let text = text.trim();
    if text.is_empty() {
        return;
    }
    // The reason of a two-line failure stands in the second line; where no rule knows that one, the first one's word holds.
    let open = attempt.failures.pop_if(|f| f.found.continues && f.file == file);
    // A described program has no words of its own: what the loader or a runtime says is the more exact.
    let own = || kind.catalogue().recognise(text);
    let general = || super::general().recognise(text);
    let mut told = if kind.profile().programs.is_empty() { general().or_else(own) } else { own().or_else(general) };
    if let Some(head) = open {
        if let Some(more) = told.take_if(|m| m.continues) {
            let (code, mut found) = (more.code.unwrap_or(head.code), more);
            found.objects.extend(head.found.objects);
            attempt.failures.push(Failure { code, text: format!("{} {text}", head.text), found, ..head });
            return;
        }
        if told.is_none() && of_a_trace(text) {
            attempt.failures.push(head);
            return;
        }
        let second = told.take_if(|m| m.code.is_some() && !m.aftermath);
        let shown = if told.is_none() { format!("{} {text}", head.text) } else { head.text.clone() };
        let mut found = second.unwrap_or_else(|| Match { continues: false, objects: Vec::new(), ..head.found.clone() });
        found.objects.extend(head.found.objects);
        let code = found.code.unwrap_or(head.code);
        attempt.failures.push(Failure { code, text: shown, found, ..head });
        if told.is_none() {
            return;
        }
    }
    match told {
        Some(found) if found.harmless => attempt.harmless += 1,
        Some(found) => {
            let Some(code) = found.code else { return };
            attempt.failures.push(Failure { code, file: file.into(), line, time, text: text.to_owned(), found });
        }
        None if notable => {
            attempt.unexplained.push(Failure { code: Code::Unknown, file: file.into(), line, time, text: text.to_owned(), found: Match::default() });
        }
        None => {}
    }
}

/// A line of a stack trace, between what failed and why.
fn of_a_trace(text: &str) -> bool {
    let first = text.split([':', ' ']).next().unwrap_or_default();
    text.starts_with("at ") || text.starts_with("... ") || text.starts_with("Caused by:") || first.ends_with("Exception") || first.ends_with("Error")
}

/// Lines of a file, oldest first, given to the attempts they belong to; runs that no manager started are found here.
fn from_file(snapshot: &Snapshot, request: &Request, path: &str, main: bool, list: &mut Vec<Attempt>) {
    let Look::Seen(status) = snapshot.stat(path) else { return };
    let oldest = list.iter().map(|a| a.began).min();
    let wanted = list.iter().rev().take(request.most.max(1)).map(|a| a.began).min();
    let since = if request.most < 50 { wanted.or(oldest) } else { None };
    let budget: u64 = if request.most < 50 { 32 << 20 } else { u64::MAX };
    let mut lines = Vec::new();
    let mut marks = 0;
    for line in Tail::new(snapshot, path, status.size, budget) {
        let head = request.kind.grammar().head(&line.text, request.zone);
        let time = head.as_ref().map(|h| h.time);
        if let (Some(time), Some(since)) = (time, since)
            && time < since - 2_000_000
        {
            break;
        }
        let mark = head.as_ref().and_then(|_| request.kind.grammar().mark(&line.text));
        lines.push((line, head, mark));
        if list.is_empty() && matches!(mark, Some(Mark::Begin)) {
            marks += 1;
            if marks >= request.most {
                break;
            }
        }
        if lines.len() > 4_000_000 {
            break;
        }
    }
    let Some(first) = lines.last() else { return };
    let limit = if request.count_all { u64::MAX } else { 256 << 20 };
    let mut number = count_lines(snapshot, path, first.0.start, limit);
    let managed = list.len();
    let mut reloading = false;
    for (line, head, mark) in lines.into_iter().rev() {
        if let Some(n) = &mut number {
            *n += 1;
        }
        let time = head.as_ref().map(|h| h.time);
        match mark {
            Some(Mark::Reload) => {
                reloading = true;
                continue;
            }
            // Some daemons say at a reload what they say at a start.
            Some(Mark::Begin) if reloading => continue,
            Some(Mark::Ready) if reloading => {
                reloading = false;
                continue;
            }
            Some(_) => reloading = false,
            None => {}
        }
        place_line(list, managed, request, path, main, &line.text, number, (line.start, line.end), time, head.map(|h| (h.level, h.length)), mark);
    }
}

#[expect(clippy::too_many_arguments, reason = "one line with everything that is known of it")]
fn place_line(
    list: &mut Vec<Attempt>,
    managed: usize,
    request: &Request,
    path: &str,
    main: bool,
    text: &str,
    number: Option<u32>,
    bytes: (u64, u64),
    time: Option<i64>,
    head: Option<(String, usize)>,
    mark: Option<Mark>,
) {
    // Stamps of a second: an attempt's first lines may carry a time up to a second before its begin.
    let fits = |a: &Attempt, t: i64| {
        let until = match a.outcome {
            Outcome::Ready => a.ready.unwrap_or(a.began).max(a.began) + request.kind.grammar().window(),
            _ => a.ended.unwrap_or(i64::MAX - 2_000_000) + 1_000_000,
        };
        t >= a.began - slack(t) && t <= until
    };
    // Where several attempts of one second could have said it, the one of which the journal has the same words did.
    let body = head.as_ref().and_then(|(_, length)| text.get(*length..)).unwrap_or(text).trim();
    let known = time.and_then(|t| {
        let managed = &list[..managed.min(list.len())];
        let same = |a: &Attempt| a.failures.iter().any(|f| f.file == "journal" && f.text.contains(body));
        managed.iter().rposition(|a| fits(a, t) && same(a)).or_else(|| managed.iter().rposition(|a| fits(a, t)))
    });
    let at = match (known, mark, time) {
        (Some(at), ..) => Some(at),
        (None, Some(Mark::Begin), Some(t)) => {
            list.push(hand(t, Outcome::Starting, request));
            Some(list.len() - 1)
        }
        (None, Some(Mark::Ready), Some(t)) => {
            let open = list.len().checked_sub(1).filter(|&at| at >= managed && list[at].outcome == Outcome::Starting);
            let at = open.unwrap_or_else(|| {
                list.push(hand(t, Outcome::Ready, request));
                list.len() - 1
            });
            list[at].outcome = Outcome::Ready;
            list[at].ready = Some(t);
            Some(at)
        }
        (None, Some(Mark::Stop), Some(t)) => {
            if let Some(last) = list.last_mut().filter(|a| a.ended.is_none() && a.began <= t) {
                last.ended = Some(t);
                if last.outcome == Outcome::Ready {
                    last.afterwards.get_or_insert(Afterwards::Stopped);
                } else if last.outcome == Outcome::Starting {
                    // The words of a stop end most failed starts, too.
                    let failed = last.failures.iter().any(|f| !f.found.aftermath);
                    last.outcome = if failed { Outcome::Failed } else { Outcome::Stopped };
                }
            }
            None
        }
        (None, _, Some(t)) => {
            let last = list.len().checked_sub(1).filter(|&at| at >= managed);
            let open = last.filter(|&at| match list[at].outcome {
                Outcome::Starting => true,
                Outcome::Failed => list[at].ended.is_some_and(|e| t - e <= 5_000_000),
                _ => false,
            });
            match open {
                Some(at) => Some(at),
                None => {
                    let fatal = request.kind.catalogue().recognise(text).is_some_and(|m| m.code.is_some() && !m.harmless && !m.aftermath);
                    let starts = fatal
                        && main
                        && request.unit.is_none_or(|_| request.most >= 50)
                        && head.as_ref().is_some_and(|(l, _)| matches!(l.as_str(), "emerg" | "fatal" | "alert" | "critical"));
                    if starts {
                        list.push(hand(t, Outcome::Failed, request));
                        Some(list.len() - 1)
                    } else {
                        None
                    }
                }
            }
        }
        (None, _, None) => list.len().checked_sub(1).filter(|&at| at >= managed && matches!(list[at].outcome, Outcome::Starting | Outcome::Failed)),
    };
    let Some(at) = at else { return };
    let attempt = &mut list[at];
    match attempt.logs.iter_mut().find(|l| l.file == path) {
        Some(part) => {
            part.last_line = number;
            part.last_byte = Some(bytes.1);
        }
        None => attempt.logs.push(LogPart { file: path.into(), first_line: number, last_line: number, first_byte: Some(bytes.0), last_byte: Some(bytes.1) }),
    }
    if attempt.outcome == Outcome::Failed
        && let Some(t) = time
    {
        attempt.ended = Some(attempt.ended.unwrap_or(t).max(t));
    }
    let (level, length) = head.unwrap_or_default();
    let notable = ["emerg", "alert", "crit", "error", "fatal", "panic"].iter().any(|l| level.ends_with(l));
    let body = text.get(length..).unwrap_or(text);
    note_line(attempt, request.kind, if length == 0 { text } else { body }, path, number, time, notable);
}

/// How far before its begin a line of an attempt may be stamped: a stamp of whole seconds was cut, a finer one is right but for
/// the moment between the manager's word and the daemon's.
fn slack(time: i64) -> i64 {
    if time % 1_000_000 == 0 { 1_000_000 } else { 50_000 }
}

fn hand(began: i64, outcome: Outcome, request: &Request) -> Attempt {
    let by = if request.unit.is_some() { StartedBy::Hand } else { StartedBy::Unknown };
    let mut attempt = new_attempt(began, by);
    attempt.outcome = outcome;
    if outcome == Outcome::Ready {
        attempt.ready = Some(began);
    }
    attempt
}

/// First causes before aftermath; doubles of the journal and the file are one.
fn settle(attempt: &mut Attempt) {
    attempt.failures.sort_by_key(|f| (f.found.aftermath, f.time));
    let mut seen: Vec<(Code, String)> = Vec::new();
    attempt.failures.retain(|f| {
        let key = (f.code, f.text.trim_start_matches("nginx: ").trim_start_matches(|c: char| !c.is_alphabetic()).to_owned());
        // The journal keeps the daemon's own stamp before the words; the file's was taken off.
        let new = !seen.iter().any(|(code, text)| *code == key.0 && (text.ends_with(&key.1) || key.1.ends_with(text)));
        if new {
            seen.push(key);
        }
        new
    });
    if attempt.outcome == Outcome::Starting && !attempt.failures.is_empty() && attempt.ended.is_some() {
        attempt.outcome = Outcome::Failed;
    }
    let timed_out = attempt.failures.iter().any(|f| f.code == Code::StartTimeout);
    let killed = attempt.exit.starts_with("killed") || attempt.exit.starts_with("dumped") || matches!(attempt.result.as_str(), "signal" | "core-dump");
    if attempt.outcome == Outcome::Failed && killed && !timed_out {
        let signal = attempt.exit.rsplit('/').next().unwrap_or_default().to_owned();
        let stopped = matches!(signal.as_str(), "TERM" | "15" | "KILL" | "9" | "INT" | "2");
        if stopped {
            attempt.outcome = Outcome::Killed;
        } else if !attempt.failures.iter().any(|f| f.code == Code::Crashed) {
            let text = format!("killed by signal {signal}");
            let mut found = Match::default();
            found.objects.push(("signal".into(), signal));
            attempt.failures.push(Failure { code: Code::Crashed, file: "journal".into(), line: None, time: attempt.ended, text, found });
        }
    }
    if attempt.outcome == Outcome::Failed
        && !attempt.failures.iter().any(|f| !f.found.aftermath)
        && let Some(first) = attempt.unexplained.first().cloned()
    {
        attempt.failures.insert(0, first);
    }
}

/// The newest attempt against what is true now.
fn settle_last(list: &mut [Attempt], request: &Request) {
    let count = list.len();
    for (at, attempt) in list.iter_mut().enumerate() {
        let newest = at + 1 == count;
        if attempt.outcome == Outcome::Ready && attempt.ended.is_none() && newest {
            match request.running_since {
                Some(Some(_)) | Some(None) => attempt.afterwards = Some(Afterwards::Running),
                None => {}
            }
        } else if attempt.outcome == Outcome::Starting && attempt.ended.is_none() {
            let failed = attempt.failures.iter().any(|f| !f.found.aftermath && f.code != Code::Unknown);
            let over = !newest || request.running_since.is_none();
            if over && failed {
                attempt.outcome = Outcome::Failed;
                attempt.ended = attempt.failures.iter().filter_map(|f| f.time).max();
            } else if !newest {
                attempt.outcome = Outcome::Unknown;
            }
        }
    }
}

/// Whether a grammar and a catalogue of a kind are well formed.
#[cfg(test)]
pub(crate) fn data_faults(grammar: &Grammar, kind: &dyn Kind) -> Vec<String> {
    let mut faults = kind.catalogue().faults();
    if !grammar.is_sound() {
        faults.push("log.toml is not sound".into());
    }
    faults
}
