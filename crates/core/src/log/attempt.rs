//! A start attempt: when it began, how it ended, what became of the run, and where all that is told.
use super::{Match, Weight};
use crate::code::Code;
use crate::net::Listen;

/// Lines against a reload that are kept.
const REFUSALS: usize = 4;

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
    /// First byte; `None` for the journal and for compressed files.
    pub first_byte: Option<u64>,
    /// Byte behind the last; `None` for the journal and for compressed files.
    pub last_byte: Option<u64>,
}

/// A line that tells of a failure.
#[derive(Clone, Debug, PartialEq)]
pub struct Failure {
    /// The cause.
    pub code: Code,
    /// Path, or `journal`.
    pub file: String,
    /// LogLine, where it was counted.
    pub line: Option<u32>,
    /// Microseconds since the epoch.
    pub time: Option<i64>,
    /// The text.
    pub text: String,
    /// Objects named in it.
    pub found: Match,
    /// Whether the manager or the kernel wrote it, as the journal's trusted fields tell. Whatever else there
    /// is the service's account could have written, too: that is testimony, and no proof.
    pub trusted: bool,
}

impl Failure {
    /// Whether it can be the cause: no mere consequence, and understood.
    pub fn is_cause(&self) -> bool {
        !self.found.aftermath && self.code != Code::Unknown
    }
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
    /// Lines of the daemon's that no rule knows and that look bad.
    pub unexplained: Vec<(Weight, Failure)>,
    /// Warnings known to be harmless.
    pub harmless: u32,
    /// Failures and unexplained lines beyond those that are kept.
    pub more: u32,
    /// Process that wrote of it, where the lines tell.
    pub pid: Option<u32>,
    /// When its run was last told to read its configuration anew.
    pub reloaded: Option<i64>,
    /// What was said against that: it goes on with what it had.
    pub refused: Vec<Failure>,
    /// The last line that it said before it was up, however harmless it looks.
    pub last_words: Option<Failure>,
    /// Where its own lines say that it listened; only a program that nobody knows is asked so.
    pub listened: Option<Listen>,
    /// When the manager said "started" of a daemon that does not tell it when it is ready.
    pub(super) started: Option<i64>,
    /// Whether its log says that the start began.
    pub(super) saw_begin: bool,
    /// Whether somebody ordered its end.
    pub(super) ordered: bool,
    /// The manager counts it as stopped, which it does, too, where somebody reset that it failed.
    pub(super) seems_stopped: bool,
    /// The host went down without a word while it ran.
    pub(super) lost: bool,
    /// When it was last heard of, where another run began without a word of its end.
    pub(super) vanished: Option<i64>,
    /// Whether its record stands where anybody could have written it.
    pub(super) testimony: bool,
    /// Whether it said that it gives up.
    pub(super) over: bool,
    /// Process that said it was ready, where its log tells.
    pub(super) told_pid: Option<u32>,
}

impl Attempt {
    pub(super) fn new(began: i64, started_by: StartedBy, outcome: Outcome) -> Self {
        Self {
            began,
            ended: None,
            outcome,
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
            more: 0,
            pid: None,
            reloaded: None,
            refused: Vec::new(),
            started: None,
            last_words: None,
            listened: None,
            saw_begin: false,
            ordered: false,
            seems_stopped: false,
            lost: false,
            vanished: None,
            testimony: false,
            over: false,
            told_pid: None,
        }
    }

    /// It was told to read its configuration anew.
    pub(super) fn reload(&mut self, time: i64) {
        self.reloaded = Some(time);
        self.refused.clear();
    }

    /// What was said against a reload, as far as it is known.
    pub(super) fn refuse(&mut self, failure: Failure) {
        if self.refused.len() < REFUSALS && !self.refused.iter().any(|f| f.text == failure.text) {
            self.refused.push(failure);
        }
    }

    /// Keeps a failure, or counts it where there are many already.
    pub(super) fn fail(&mut self, mut failure: Failure) {
        if self.failures.len() >= crate::bounds::FAILURES {
            self.more = self.more.saturating_add(1);
            return;
        }
        if failure.text.len() > crate::bounds::LOG_TEXT {
            failure.text = crate::bounds::cut(&failure.text, crate::bounds::LOG_TEXT);
        }
        self.failures.push(failure);
    }

    /// Keeps a line that no rule knows, or counts it.
    pub(super) fn wonder(&mut self, weight: Weight, mut failure: Failure) {
        if self.unexplained.len() >= crate::bounds::FAILURES {
            self.more = self.more.saturating_add(1);
            return;
        }
        failure.text = crate::bounds::cut(&failure.text, crate::bounds::LOG_TEXT);
        self.unexplained.push((weight, failure));
    }

    /// What was taken for the journal's stands in a file, where anybody could have written it.
    pub(super) fn told_in(&mut self, file: &str) {
        self.testimony = true;
        self.logs.iter_mut().for_each(|log| file.clone_into(&mut log.file));
        let unexplained = self.unexplained.iter_mut().map(|(_, failure)| failure);
        for failure in self.failures.iter_mut().chain(&mut self.refused).chain(unexplained) {
            file.clone_into(&mut failure.file);
            failure.trusted = false;
        }
    }

    /// Takes over what another log tells of the same start.
    pub(super) fn join(&mut self, other: Self) {
        if matches!(self.outcome, Outcome::Starting | Outcome::Unknown) {
            self.outcome = other.outcome;
        }
        self.began = self.began.min(other.began);
        self.ready = self.ready.or(other.ready);
        self.ended = self.ended.or(other.ended);
        self.afterwards = self.afterwards.or(other.afterwards);
        self.pid = self.pid.or(other.pid);
        if other.reloaded > self.reloaded {
            (self.reloaded, self.refused) = (other.reloaded, other.refused);
        }
        self.vanished = self.vanished.or(other.vanished);
        self.last_words = self.last_words.take().or(other.last_words);
        self.listened = self.listened.take().or(other.listened);
        self.saw_begin |= other.saw_begin;
        self.logs.extend(other.logs);
        self.failures.extend(other.failures);
        self.unexplained.extend(other.unexplained);
        self.harmless = self.harmless.max(other.harmless);
        self.more = self.more.saturating_add(other.more);
    }

    /// Whether it, or its run, is not over as far as is known.
    pub(super) fn is_open(&self) -> bool {
        self.ended.is_none() && !self.lost
    }

    /// Whether its run goes on as far as is known.
    pub fn goes_on(&self) -> bool {
        self.outcome == Outcome::Ready
            && self.ended.is_none()
            && self.afterwards.is_none_or(|what| what == Afterwards::Running)
    }

    /// Whether a failure that can be the cause was told.
    pub(super) fn is_explained(&self) -> bool {
        self.failures.iter().any(Failure::is_cause)
    }
}
