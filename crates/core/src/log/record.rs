//! The manager's record of a unit, and what the daemon said into the journal, as attempts.
use super::words::{self, At};
use super::{
    Afterwards, Around, Attempt, Failure, Grammar, LogOwner, LogPart, Mark, Match, Outcome, StartedBy, Weight,
};
use crate::code::Code;
use crate::host::{JournalEntry, UnitState};
use jiff::tz::TimeZone;

/// Identities of the manager's messages (systemd's catalogue of messages).
pub(super) mod id {
    pub(in crate::log) const STARTING: &str = "7d4958e842da4a758f6c1cdc7b36dcc5";
    pub(in crate::log) const STARTED: &str = "39f53479d3a045ac8e11786248231fbf";
    pub(in crate::log) const START_FAILED: &str = "be02cf6855d2428ba40df7e9d022f03d";
    pub(in crate::log) const STOPPING: &str = "de5b426a63be47a7b6ac3eaac82e2f6f";
    pub(in crate::log) const STOPPED: &str = "9d1aaa27d60140bd96365438aad20286";
    pub(in crate::log) const EXITED: &str = "98e322203f7a4ed290d09fe03c09fe15";
    pub(in crate::log) const DEACTIVATED: &str = "7ad2d189f7e94e70a38c781354912448";
    pub(in crate::log) const UNIT_FAILED: &str = "d9b373ed55a64feb8242e02dbe79a49c";
    pub(in crate::log) const RELOADING: &str = "d34d037fff1847e6ae669a370e694725";
    pub(in crate::log) const RELOADED: &str = "7b05ebc668384222baa8881179cfda54";
    pub(in crate::log) const RESTARTING: &str = "5eb03494b6584870a536b337290809b3";
}

/// A run's own lines longer after its start than this say nothing of the start, in microseconds.
const OF_THE_START: i64 = 5_000_000;

/// Reads a unit's entries, oldest first.
pub(super) struct ManagerRecord<'k> {
    owner: LogOwner,
    grammar: &'k Grammar,
    unit: &'k str,
    /// Whether the manager's "started" means ready.
    reports_ready: bool,
    list: Vec<Attempt>,
    reloading: bool,
    stopping: bool,
    boot: String,
    /// What the manager said of a start that it has not announced.
    pending: Vec<Failure>,
    pending_result: String,
    /// What a process said before the manager had written down that it started it: the two write at once.
    early: Vec<JournalEntry>,
}

/// The most lines that wait for the manager's word of their start.
const EARLY: usize = 64;

/// The attempts of a unit out of its journal entries, oldest first.
pub(super) fn attempts(
    entries: &[JournalEntry],
    owner: LogOwner,
    grammar: &Grammar,
    unit: &str,
    reports_ready: bool,
) -> Vec<Attempt> {
    let mut record = ManagerRecord {
        owner,
        grammar,
        unit,
        reports_ready,
        list: Vec::new(),
        reloading: false,
        stopping: false,
        boot: String::new(),
        pending: Vec::new(),
        pending_result: String::new(),
        early: Vec::new(),
    };
    for entry in entries {
        record.entry(entry);
    }
    record.list
}

/// The last start as the manager itself remembers it, where the journal has nothing of it.
pub(super) fn of_state(state: &UnitState, reports_ready: bool) -> Option<Attempt> {
    let micros = |time: u64| i64::try_from(time).ok().filter(|t| *t > 0);
    let began = micros(state.left_inactive)?;
    let mut attempt = Attempt::new(began, StartedBy::Manager, Outcome::Starting);
    attempt.invocation.clone_from(&state.invocation);
    let up = micros(state.active_entered).filter(|t| *t >= began);
    if state.active_state == "active" || up.is_some() {
        match up {
            Some(up) if reports_ready => {
                attempt.outcome = Outcome::Ready;
                attempt.ready = Some(up);
            }
            up => attempt.started = up.or(Some(began)),
        }
    }
    let over = matches!(state.active_state.as_str(), "inactive" | "failed");
    if over {
        attempt.ended = micros(state.main_exited).filter(|t| *t >= began).or(micros(state.state_changed));
        // As `waitid` tells it.
        attempt.exit = match state.exec_main_code {
            1 => format!("exited/{}", state.exec_main_status),
            2 => format!("killed/{}", state.exec_main_status),
            3 => format!("dumped/{}", state.exec_main_status),
            _ => String::new(),
        };
        if state.result != "success" {
            attempt.result.clone_from(&state.result);
        }
        if up.is_some() {
            // Somebody may have reset the bad result since: a kill that no stop sends tells itself.
            let how = end_of_run(&attempt.exit, false);
            let polite = matches!(state.exec_main_status, 1 | 2 | 3 | 15) || state.exec_main_code != 2;
            let ordered = state.result == "success" && polite && state.exec_main_code != 3;
            attempt.afterwards = Some(if ordered { Afterwards::Stopped } else { how });
            attempt.ordered = ordered;
        } else {
            // A bad result may have been reset since: then only its own log tells that it failed.
            attempt.seems_stopped = state.result == "success";
            attempt.outcome = if attempt.seems_stopped { Outcome::Starting } else { Outcome::Failed };
        }
    }
    Some(attempt)
}

fn failure(code: Code, entry: &JournalEntry, found: Match) -> Failure {
    let text = entry.message.trim().to_owned();
    Failure {
        code,
        file: "journal".into(),
        line: None,
        time: i64::try_from(entry.time).ok(),
        text,
        found,
        trusted: entry.from_manager,
    }
}

/// What the end of a main process means for a run, by its exit as the manager tells it.
fn end_of_run(exit: &str, ordered: bool) -> Afterwards {
    let (how, what) = exit.split_once('/').unwrap_or((exit, ""));
    match (how, what) {
        _ if ordered => Afterwards::Stopped,
        ("dumped", _)
        | (
            "killed",
            "SEGV" | "11" | "ABRT" | "6" | "BUS" | "7" | "ILL" | "4" | "FPE" | "8" | "SYS" | "31" | "TRAP"
            | "5",
        ) => Afterwards::Crashed,
        ("killed", _) => Afterwards::Killed,
        // A program that handles the signal tells so in its status (128 + 15).
        ("exited", "0" | "143") => Afterwards::Stopped,
        _ => Afterwards::Crashed,
    }
}

impl ManagerRecord<'_> {
    fn current(&mut self) -> Option<&mut Attempt> {
        self.list.iter_mut().rev().find(|a| a.is_open())
    }

    /// The attempt of an entry: by its identity, or the last one that is still coming up.
    fn starting(&mut self, entry: &JournalEntry) -> Option<&mut Attempt> {
        let same = |a: &Attempt| !entry.invocation.is_empty() && a.invocation == entry.invocation;
        let unready = |a: &Attempt| a.outcome == Outcome::Starting && !a.lost;
        let at = self
            .list
            .iter()
            .rposition(|a| same(a) && unready(a))
            .or_else(|| self.list.iter().rposition(|a| unready(a) && a.is_open()))?;
        self.list.get_mut(at)
    }

    fn push(&mut self, entry: &JournalEntry, time: i64, outcome: Outcome) -> &mut Attempt {
        let mut attempt = Attempt::new(time, StartedBy::Manager, outcome);
        attempt.invocation.clone_from(&entry.invocation);
        let at = self.list.len();
        self.list.push(attempt);
        &mut self.list[at]
    }

    fn refused(&mut self, entry: &JournalEntry, time: i64, code: Code, result: &str) {
        let attempt = self.push(entry, time, Outcome::Refused);
        attempt.ended = Some(time);
        result.clone_into(&mut attempt.result);
        attempt.failures.push(failure(code, entry, Match::default()));
    }

    fn entry(&mut self, entry: &JournalEntry) {
        let time = i64::try_from(entry.time).unwrap_or(0);
        if !self.boot.is_empty() && self.boot != entry.boot {
            // The host went down without a word: whatever ran has no known end.
            for attempt in self.list.iter_mut().filter(|a| a.is_open()) {
                attempt.lost = true;
                attempt.result = "host-gone".into();
            }
            self.stopping = false;
            self.reloading = false;
        }
        self.boot.clone_from(&entry.boot);
        if !entry.from_manager {
            // The process that the manager forked speaks for it until it becomes the daemon.
            if entry.message.strip_prefix(self.unit).is_some_and(|rest| rest.starts_with(": ")) {
                self.words(entry, time);
            } else {
                self.daemon(entry, time);
            }
            return;
        }
        match entry.message_id.as_str() {
            id::STARTING => self.begin(entry, time),
            id::STARTED if entry.message.contains("was skipped") => {
                self.refused(entry, time, Code::ManagerDisabled, "condition")
            }
            id::STARTED => self.started(entry, time),
            id::START_FAILED => self.start_failed(entry, time),
            id::EXITED => self.exited(entry, time),
            id::UNIT_FAILED => self.unit_failed(entry, time),
            id::STOPPING => {
                self.stopping = true;
                if let Some(attempt) = self.current() {
                    attempt.ordered = true;
                    if attempt.outcome == Outcome::Starting && attempt.started.is_none() {
                        attempt.outcome = Outcome::Stopped;
                    }
                }
            }
            id::STOPPED | id::DEACTIVATED => self.stopped(time),
            id::RELOADING => {
                self.reloading = true;
                if let Some(attempt) = self.current() {
                    attempt.reload(time);
                }
            }
            id::RELOADED => self.reloading = false,
            id::RESTARTING => self.close_failed(time),
            _ => self.words(entry, time),
        }
        if !self.early.is_empty() && self.list.last().is_some_and(|a| a.invocation == entry.invocation) {
            let early = std::mem::take(&mut self.early);
            let (said, waiting): (Vec<JournalEntry>, Vec<JournalEntry>) =
                early.into_iter().partition(|e| e.invocation == entry.invocation);
            self.early = waiting;
            said.iter().for_each(|line| self.daemon(line, i64::try_from(line.time).unwrap_or(0)));
        }
    }

    /// A start that ended with an error, and of whose end nothing more was said.
    fn close_failed(&mut self, time: i64) {
        if let Some(attempt) = self.current()
            && attempt.outcome == Outcome::Starting
            && attempt.started.is_none()
            && !(attempt.result.is_empty() && attempt.exit.is_empty())
        {
            attempt.outcome = Outcome::Failed;
            attempt.ended = Some(time);
        }
    }

    fn begin(&mut self, entry: &JournalEntry, time: i64) {
        self.close_failed(time);
        self.stopping = false;
        self.pending.clear();
        self.pending_result.clear();
        self.push(entry, time, Outcome::Starting);
    }

    fn started(&mut self, entry: &JournalEntry, time: i64) {
        self.stopping = false;
        let reports = self.reports_ready;
        let attempt = match self.starting(entry) {
            Some(attempt) => attempt,
            None => self.push(entry, time, Outcome::Starting),
        };
        if reports {
            attempt.outcome = Outcome::Ready;
            attempt.ready = Some(time);
        } else {
            attempt.started = Some(time);
        }
    }

    fn start_failed(&mut self, entry: &JournalEntry, time: i64) {
        if entry.result == "dependency" || entry.message.contains("Dependency failed") {
            return self.refused(entry, time, Code::DependencyDown, "dependency");
        }
        if entry.result == "assert" || entry.message.contains("Assertion failed") {
            return self.refused(entry, time, Code::ManagerDisabled, "condition");
        }
        if let Some(attempt) = self.starting(entry) {
            attempt.outcome = Outcome::Failed;
            attempt.ended.get_or_insert(time);
            return;
        }
        // The same start was told of already: refused for its rate, ended, or stopped.
        let told = self.list.last().is_some_and(|a| {
            let same = !entry.invocation.is_empty() && a.invocation == entry.invocation;
            same || a.ended.is_some_and(|e| a.outcome == Outcome::Refused && time - e < 1_000_000)
        });
        if told && self.pending.is_empty() {
            return;
        }
        let (pending, result) = (std::mem::take(&mut self.pending), std::mem::take(&mut self.pending_result));
        let began = pending.first().and_then(|f| f.time).unwrap_or(time);
        let attempt = self.push(entry, began, Outcome::Failed);
        attempt.ended = Some(time);
        attempt.failures = pending;
        attempt.result = result;
    }

    fn exited(&mut self, entry: &JournalEntry, time: i64) {
        let stopping = self.stopping;
        let main = entry.message.contains("Main process exited");
        let Some(attempt) = self.current() else { return };
        if !main && attempt.outcome != Outcome::Starting {
            return;
        }
        attempt.exit.clone_from(&entry.exit);
        if main && (attempt.outcome == Outcome::Ready || attempt.started.is_some()) {
            attempt.ended = Some(time);
            attempt.afterwards = Some(end_of_run(&entry.exit, stopping || attempt.ordered));
        }
    }

    fn unit_failed(&mut self, entry: &JournalEntry, time: i64) {
        let word = if entry.result.is_empty() {
            entry.message.rsplit('\'').nth(1).unwrap_or_default().to_owned()
        } else {
            entry.result.clone()
        };
        if word == "start-limit-hit" {
            return;
        }
        let stopping = self.stopping;
        let same = |a: &Attempt| {
            entry.invocation.is_empty() || a.invocation.is_empty() || a.invocation == entry.invocation
        };
        let just = |a: &Attempt| a.ended.is_none_or(|e| time - e < 2_000_000);
        let Some(attempt) =
            self.list.last_mut().filter(|a| a.outcome != Outcome::Refused && (same(a) || just(a)))
        else {
            self.pending_result = word;
            return;
        };
        attempt.result = word;
        let ran = attempt.outcome == Outcome::Ready || attempt.started.is_some();
        if ran && attempt.afterwards.is_none() {
            // Where nobody saw how it ended, as under a control script, it had no time to say a word: most
            // likely a kill.
            let how = if attempt.exit.is_empty() { Afterwards::Killed } else { Afterwards::Crashed };
            attempt.afterwards = Some(if stopping || attempt.ordered { Afterwards::Stopped } else { how });
            attempt.ended.get_or_insert(time);
        }
    }

    fn stopped(&mut self, time: i64) {
        let stopping = self.stopping;
        if let Some(attempt) = self.current() {
            attempt.ended = Some(time);
            match attempt.outcome {
                Outcome::Ready => {
                    attempt.afterwards.get_or_insert(Afterwards::Stopped);
                }
                // One that tells the manager nothing may have ended by itself, and without an error.
                Outcome::Starting if attempt.started.is_some() && (stopping || attempt.ordered) => {
                    attempt.afterwards.get_or_insert(Afterwards::Stopped);
                }
                Outcome::Starting if attempt.started.is_some() => {}
                Outcome::Starting if attempt.exit.is_empty() && attempt.result.is_empty() => {
                    attempt.outcome = Outcome::Stopped
                }
                Outcome::Starting => attempt.outcome = Outcome::Failed,
                _ => {}
            }
        }
    }

    /// Lines of the manager without an identity of their own.
    fn words(&mut self, entry: &JournalEntry, time: i64) {
        let message = entry.message.as_str();
        if message.contains("Start request repeated too quickly") {
            return self.refused(entry, time, Code::ManagerGaveUp, "start-limit-hit");
        }
        let found = if message.contains("operation timed out") {
            // A stop that takes too long says so, too.
            let of_stop = ["State 'stop", "stop-sigterm", "Stopping timed out", "stop-post"]
                .iter()
                .any(|w| message.contains(w));
            if of_stop {
                return;
            }
            failure(Code::StartTimeout, entry, Match::default())
        } else {
            let Some(found) = super::of_manager().recognise(message) else { return };
            let Some(code) = found.code else { return };
            failure(code, entry, found)
        };
        match self.list.iter_mut().rev().find(|a| a.is_open()) {
            Some(attempt) => attempt.failures.push(found),
            None => match self
                .list
                .last_mut()
                .filter(|a| a.ended.is_some_and(|e| time - e < 100_000) && a.outcome == Outcome::Failed)
            {
                Some(attempt) => attempt.failures.push(found),
                None => self.pending.push(found),
            },
        }
    }

    fn daemon(&mut self, entry: &JournalEntry, time: i64) {
        let by_identity =
            self.list.iter().rposition(|a| !a.invocation.is_empty() && a.invocation == entry.invocation);
        // Of a start that the manager has not told of yet.
        let ahead = !entry.invocation.is_empty()
            && by_identity.is_none()
            && self.list.last().is_none_or(|last| !last.invocation.is_empty() && !last.is_open());
        if ahead {
            if self.early.len() < EARLY {
                self.early.push(entry.clone());
            }
            return;
        }
        // What is said while it stops or reloads is not about a start: both read the configuration, too.
        if self.reloading {
            let owner = self.owner;
            let Some(attempt) = self.current() else { return };
            for line in entry.message.lines() {
                if let Some((code, found)) = owner.catalogue.cause(line) {
                    attempt.refuse(failure(code, entry, found));
                }
            }
            return;
        }
        if self.stopping {
            return;
        }
        let Some(at) = by_identity.or(self.list.len().checked_sub(1)) else { return };
        let attempt = &mut self.list[at];
        for line in entry.message.lines() {
            match self.grammar.mark(line) {
                Some(Mark::Begin) => attempt.saw_begin = true,
                // Where the manager is told, its word counts: some say it in their log before they have done
                // all.
                Some(Mark::Ready) => {
                    if attempt.outcome == Outcome::Starting && !self.reports_ready {
                        attempt.ready = Some(time);
                        attempt.outcome = Outcome::Ready;
                    }
                    if self.grammar.has_general_words() {
                        attempt.listened = attempt.listened.take().or_else(|| words::listener_in(line));
                    }
                }
                _ => {}
            }
        }
        let since = attempt.ready.or(attempt.started);
        if since.is_some_and(|s| time - s > OF_THE_START)
            && self.owner.catalogue.recognise(&entry.message).is_none()
        {
            return;
        }
        if !attempt.logs.iter().any(|l| l.file == "journal") {
            attempt.logs.push(LogPart {
                file: "journal".into(),
                first_line: None,
                last_line: None,
                first_byte: None,
                last_byte: None,
            });
        }
        let at = At { file: "journal", line: None, time: Some(time) };
        for line in entry.message.lines() {
            // The manager gives one level to all that is said on the standard error: the daemon's own counts.
            let weight = || match self.grammar.head(line, Around::zone(&TimeZone::UTC)) {
                Some(head) if !head.level.is_empty() => words::weight(Some(&head.level), line),
                _ => match words::weight(None, line) {
                    Some(Weight::Warning) => Some(Weight::Warning),
                    _ if entry.priority <= 4 => Some(Weight::Error),
                    other => other,
                },
            };
            words::note(attempt, self.owner, line, at, weight);
        }
    }
}
