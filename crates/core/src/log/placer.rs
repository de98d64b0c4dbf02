//! Gives the lines of a log to the attempts they belong to: those of the manager's record, or else those that
//! only the log tells of.
use super::grammar::{Around, Head};
use super::request::{Request, is_ours};
use super::scan::{LogLine, Taker};
use super::words::{self, At};
use super::zones::{Seen, Shifts, Spot};
use super::{Afterwards, Attempt, Failure, LogPart, Mark, Match, Outcome, StartedBy};
use crate::bounds;
use crate::code::Code;
use memchr::memrchr;

/// Lines of a start that never becomes ready: after so many it is a run.
const START_LINES: u32 = 20_000;
/// Attempts, the last ones, among which one that still runs is looked for: more than so many starts do not
/// fail beside a run.
const LATE: usize = 64;
/// For so long after a daemon says that it is ready every line is looked at, in microseconds.
const RIGHT_AFTER: i64 = 3_000_000;
/// Lines without a stamp that are looked at once it is ready.
const READY_LINES: u32 = 1000;
/// How much of what belongs to no attempt is remembered, in bytes.
const REMEMBERED: usize = 8 << 10;
/// How long after its first word a start that fails goes on talking, in microseconds.
const FAILING: i64 = 5_000_000;

/// The span of time in which lines belong to an attempt of the manager's.
pub(super) fn span(attempt: &Attempt, request: &Request) -> (i64, i64) {
    let window = request.grammar.window();
    let until = match (attempt.outcome, attempt.ready.or(attempt.started)) {
        (_, Some(up)) => {
            (up.max(attempt.began) + window).min(attempt.ended.map_or(i64::MAX, |e| e + 1_000_000))
        }
        _ => attempt.ended.unwrap_or(attempt.began + 900_000_000) + 1_000_000,
    };
    (attempt.began - 1_000_000, until)
}

/// Gives lines to attempts.
pub(super) struct Placer<'p, 'r> {
    pub(super) list: &'p mut Vec<Attempt>,
    /// How many of them the manager told of.
    pub(super) managed: usize,
    /// Where those begin that this log tells of.
    pub(super) first: usize,
    pub(super) request: &'r Request<'r>,
    /// Whether it is a log of the whole service, and not of one site.
    pub(super) main: bool,
    /// What is added to the stamps, and from where on.
    pub(super) shifts: &'r Shifts,
    /// The manager's record begins here.
    pub(super) known_from: Option<i64>,
    pub(super) path: String,
    /// Number of the piece, the oldest one is 0.
    pub(super) piece: usize,
    pub(super) packed: bool,
    pub(super) latest: Option<i64>,
    /// The stamp before, as it was written.
    pub(super) before: Option<i64>,
    pub(super) reloading: bool,
    pub(super) open_lines: u32,
    pub(super) open_until: Option<i64>,
    /// The attempt of the manager's that the line before belonged to, and the process that wrote it.
    pub(super) last_at: Option<usize>,
    pub(super) last_pid: Option<u32>,
    /// The attempt of the manager's that the lines without a stamp go with, such as a stack trace.
    pub(super) trace_of: Option<usize>,
    /// What was passed over before the line, and where it begins.
    pub(super) passed: Vec<u8>,
    pub(super) passed_at: u64,
    /// Whether its first line is whole.
    pub(super) passed_whole: bool,
    /// The attempt whose run was last told to read its configuration anew.
    pub(super) reload_of: Option<usize>,
    /// Where the line stands.
    pub(super) here: Spot,
    /// When the line before was written.
    pub(super) stamp_before: Option<i64>,
    /// When the line before the last begin was.
    pub(super) word_before: Option<i64>,
    /// What the stamps say of the clock.
    pub(super) seen: Seen,
}

impl Taker for Placer<'_, '_> {
    fn passed(&mut self, bytes: &[u8], start: u64) {
        self.trace_of = None;
        self.passed.clear();
        self.passed.extend_from_slice(bytes);
        self.passed_at = start;
        self.passed_whole = start == 0;
        let last = bytes.strip_suffix(b"\n").unwrap_or(bytes);
        let begin = memrchr(b'\n', last).map_or(0, |n| n + 1);
        let around = Around { zone: self.request.zone, before: self.before, latest: self.latest };
        if let Some(head) = self.request.grammar.head_of_bytes(&last[begin..], around) {
            self.here = (self.piece, start + begin as u64);
            self.note_stamp(head.time, false);
        }
    }

    fn line(&mut self, line: LogLine) {
        self.open_lines = self.open_lines.saturating_sub(1);
        let text = crate::host::text(line.bytes);
        let around = Around { zone: self.request.zone, before: self.before, latest: self.latest };
        let head = self.request.grammar.head(&text, around);
        let body = head.as_ref().map_or(text.as_ref(), |h| {
            h.body.as_deref().unwrap_or_else(|| text.get(h.length..).unwrap_or(&text))
        });
        // The level, which tells some failures, is a part of the head.
        let grammar = self.request.grammar;
        let mark = match &head {
            Some(_) => grammar.mark(body).or_else(|| grammar.mark(&text).filter(|m| *m == Mark::Fail)),
            // The report of a crash has a head of its own.
            None => grammar.mark(&text).filter(|m| *m == Mark::Crash),
        };
        let mut time = None;
        if let Some(head) = &head {
            self.trace_of = None;
            self.here = (self.piece, line.start);
            let shift = self.shifts.at(self.piece, line.start);
            let stamp = self.meant(head.time, around, shift);
            self.stamp_before = self.before.map(|b| b + shift);
            let begins = matches!(mark, Some(Mark::Begin | Mark::Fail | Mark::Ready));
            self.note_stamp(stamp, begins);
            time = Some(stamp + shift);
        }
        if let (Some(time), Some(until)) = (time, self.open_until)
            && time > until
        {
            self.open_lines = 0;
        }
        // What another program wrote, or what came of a client's request, is no word of a start.
        if head.as_ref().is_some_and(|h| !is_ours(self.request, h)) {
            return;
        }
        match mark {
            Some(Mark::Reload) => {
                self.reloading = true;
                let pid = head.as_ref().and_then(|h| h.pid);
                self.reload_of = time.and_then(|t| self.running_at(t).or_else(|| self.ending(pid, t)));
                if let (Some(at), Some(time)) = (self.reload_of, time) {
                    self.list[at].reload(time);
                }
                return;
            }
            Some(Mark::Fail) if self.reloading && self.refuses_reload(&line, body, time) => return,
            // Some daemons say at a reload what they say at a start.
            Some(Mark::Begin) if self.reloading => return,
            Some(Mark::Ready) if self.reloading => {
                self.reloading = false;
                return;
            }
            Some(_) => self.reloading = false,
            None => {}
        }
        if let (Some(Mark::Begin | Mark::Ready), Some(head)) = (mark, &head) {
            if mark == Some(Mark::Begin) {
                self.word_before = self.stamp_before;
            }
            self.seen.start(self.here, self.before.unwrap_or(head.time));
        }
        if let Some(at) = self.attempt_of(body, time, head.as_ref(), mark) {
            self.put(at, &line, body, time, head.as_ref());
            if mark == Some(Mark::Ready) && grammar.has_general_words() {
                let listened = &mut self.list[at].listened;
                *listened = listened.take().or_else(|| super::words::listener_in(body));
            }
            if self.request.grammar.gives_up(body) && at >= self.first {
                self.list[at].over = true;
            }
        } else {
            self.remember(&line);
        }
        self.open(mark, time);
    }

    fn wants_more(&self) -> bool {
        self.open_lines > 0
    }
}

impl Placer<'_, '_> {
    fn note_stamp(&mut self, time: i64, begins: bool) {
        self.seen.stamp(self.here, self.before, time, begins);
        self.before = Some(time);
    }

    /// Of two moments that a stamp can mean where the clock was put back, the one at which the manager knows
    /// of a start, where only one of them is.
    fn meant(&self, time: i64, around: Around, shift: i64) -> i64 {
        if self.managed == 0 {
            return time;
        }
        let Some((earlier, later)) = super::zone::twice(time, around.zone) else { return time };
        let known = |time: i64| {
            self.list[..self.managed]
                .iter()
                .any(|a| a.outcome != Outcome::Refused && self.fits(a, time + shift))
        };
        match (known(earlier), known(later)) {
            (true, false) if around.before.is_none_or(|b| b <= earlier + 1_000_000) => earlier,
            (false, true) => later,
            _ => time,
        }
    }

    /// After a mark the lines that follow are wanted for a while.
    fn open(&mut self, mark: Option<Mark>, time: Option<i64>) {
        let Some(mark) = mark else { return };
        let after = |micros: i64| time.map(|t| t + micros);
        (self.open_lines, self.open_until) = match mark {
            Mark::Begin => (START_LINES, after(900_000_000)),
            Mark::Ready => (READY_LINES, after(self.request.grammar.window().min(RIGHT_AFTER))),
            Mark::Fail | Mark::Crash => (400, after(5_000_000)),
            Mark::Stop | Mark::Reload => (0, None),
        };
    }

    fn fits(&self, attempt: &Attempt, time: i64) -> bool {
        let (_, until) = span(attempt, self.request);
        time >= attempt.began - slack(time) && time <= until
    }

    /// A start beside the manager's, or one of before its record begins.
    fn beside(&self, began: i64, outcome: Outcome, pid: Option<u32>) -> Attempt {
        let covered = self.known_from.is_some_and(|from| began >= from);
        let by = if self.request.unit.is_some() && covered { StartedBy::Hand } else { StartedBy::Unknown };
        let mut attempt = Attempt::new(began, by, outcome);
        attempt.pid = pid;
        if outcome == Outcome::Ready {
            attempt.ready = Some(began);
        }
        attempt
    }

    fn push(&mut self, attempt: Attempt) -> usize {
        // Attempts that nobody asks for any more make room; those of the manager and of other logs stay.
        let most = self.request.most.saturating_add(bounds::ATTEMPTS);
        let own = self.list.len() - self.first.min(self.list.len());
        if own >= most.saturating_mul(2).max(2 * bounds::ATTEMPTS) {
            let old = most.min(own);
            self.list.drain(self.first..self.first + old);
        }
        self.list.push(attempt);
        self.list.len() - 1
    }

    /// The last attempt that only this log tells of.
    fn last_told(&self) -> Option<usize> {
        self.list.len().checked_sub(1).filter(|&at| at >= self.first)
    }

    /// The last attempts of this log's: whatever still runs is among them.
    fn late(&self) -> std::ops::Range<usize> {
        self.first.max(self.list.len().saturating_sub(LATE)).min(self.list.len())..self.list.len()
    }

    /// The attempt of this log's whose end a line tells: that of the same process, or the last one where the
    /// lines tell no process.
    fn ending(&self, pid: Option<u32>, time: i64) -> Option<usize> {
        let open = |a: &Attempt| a.is_open() && a.began <= time;
        let Some(pid) = pid else { return self.last_told().filter(|&at| open(&self.list[at])) };
        match self.late().rev().find(|&at| self.list[at].pid == Some(pid)) {
            Some(at) => Some(at).filter(|&at| open(&self.list[at])),
            None => self.last_told().filter(|&at| open(&self.list[at]) && self.list[at].told_pid.is_none()),
        }
    }

    /// An attempt of the manager's whose run goes on at that moment.
    fn running_at(&self, time: i64) -> Option<usize> {
        let runs = |a: &Attempt| {
            a.outcome != Outcome::Refused
                && a.began - slack(time) <= time
                && a.ended.is_none_or(|e| time <= e + 1_000_000)
                && !a.lost
        };
        self.list[..self.managed].iter().rposition(runs)
    }

    fn attempt_of(
        &mut self,
        body: &str,
        time: Option<i64>,
        head: Option<&Head>,
        mark: Option<Mark>,
    ) -> Option<usize> {
        let pid = head.and_then(|h| h.pid);
        let of_the_one_before = |at: &usize| {
            // The second in which one run ends may be that in which the next one begins.
            let attempt = &self.list[*at];
            let silent = !attempt.logs.iter().any(|l| l.file == self.path);
            let early = time.is_some_and(|t| t < attempt.began && self.ending(pid, t).is_some());
            silent && early && matches!(mark, None | Some(Mark::Stop | Mark::Crash))
        };
        if let Some(at) =
            time.and_then(|t| self.managed_at(t, body, pid, mark)).filter(|at| !of_the_one_before(at))
        {
            self.note_mark(at, mark, time);
            (self.last_at, self.last_pid, self.trace_of) = (Some(at), pid.or(self.last_pid), Some(at));
            return Some(at);
        }
        if time.is_none() && mark.is_none() && self.trace_of.is_some() {
            return self.trace_of;
        }
        let told_before = self.stamp_before.filter(|_| mark == Some(Mark::Crash));
        let Some(time) = time.or(told_before) else {
            // A line without a stamp goes with the one before it.
            return self
                .last_told()
                .filter(|&at| matches!(self.list[at].outcome, Outcome::Starting | Outcome::Failed));
        };
        match mark {
            Some(Mark::Begin) => {
                let pid = pid.or_else(|| self.request.grammar.named_process(body));
                // One that runs already says it at a reload.
                if pid.is_some() && self.told_running(pid).is_some() {
                    return None;
                }
                let mut attempt = self.beside(time, Outcome::Starting, pid);
                attempt.saw_begin = true;
                Some(self.push(attempt))
            }
            Some(Mark::Ready) => self.became_ready(time, pid),
            Some(Mark::Stop) => {
                self.stopped(time, pid);
                None
            }
            Some(Mark::Crash) => self.crashed(time, pid),
            _ => self.goes_on(body, time, head, mark),
        }
    }

    /// The run of this log's that a process is of.
    fn told_running(&self, pid: Option<u32>) -> Option<usize> {
        let runs = |a: &Attempt| a.outcome == Outcome::Ready && a.is_open() && a.pid == pid;
        self.late().rev().find(|&at| runs(&self.list[at]))
    }

    /// The attempt of the manager's that a line belongs to. Stamps of whole seconds leave several open where
    /// starts follow each other closely: then the same words in the journal, the begin of the next one,
    /// another process, and the order of the lines decide, one after another.
    fn managed_at(&self, time: i64, body: &str, pid: Option<u32>, mark: Option<Mark>) -> Option<usize> {
        let managed = &self.list[..self.managed.min(self.list.len())];
        let whole_second = if time % 1_000_000 == 0 { 1_000_000 } else { 0 };
        let near = |a: &Attempt| {
            let (_, until) = span(a, self.request);
            let until = a.ended.map_or(until, |e| until.min(e + 50_000));
            a.outcome != Outcome::Refused && a.began - 50_000 < time + whole_second.max(1) && time <= until
        };
        let candidates: Vec<usize> =
            managed.iter().enumerate().filter(|(_, a)| near(a)).map(|(at, _)| at).collect();
        match candidates.as_slice() {
            [] => return managed.iter().rposition(|a| self.fits(a, time) && a.outcome != Outcome::Refused),
            [only] => return Some(*only),
            _ => {}
        }
        let words = body.trim();
        let same_words = |at: &&usize| {
            managed[**at].failures.iter().any(|f| f.file == "journal" && f.text.contains(words))
        };
        if let Some(at) = candidates.iter().rev().find(same_words) {
            return Some(*at);
        }
        let after = |at: usize| candidates.iter().copied().find(|c| *c > at);
        let unbegun = || candidates.iter().copied().find(|c| !managed[*c].saw_begin);
        let last = self.last_at.filter(|at| candidates.contains(at));
        Some(match (last, mark) {
            (Some(at), Some(Mark::Begin)) if managed[at].saw_begin => after(at).unwrap_or(at),
            (Some(at), Some(Mark::Fail))
                if pid.is_some() && self.last_pid.is_some() && pid != self.last_pid =>
            {
                after(at).unwrap_or(at)
            }
            (Some(at), _) => at,
            (None, Some(Mark::Begin)) => unbegun().unwrap_or(candidates[0]),
            (None, _) => candidates[0],
        })
    }

    /// A mark of an attempt that the manager told of.
    fn note_mark(&mut self, at: usize, mark: Option<Mark>, time: Option<i64>) {
        let reports = self.request.reports_ready;
        let attempt = &mut self.list[at];
        match mark {
            Some(Mark::Begin) => attempt.saw_begin = true,
            Some(Mark::Ready) if attempt.outcome == Outcome::Starting && !reports => {
                attempt.ready = time.map(|t| t.max(attempt.began));
                attempt.outcome = Outcome::Ready;
            }
            _ => {}
        }
    }

    fn became_ready(&mut self, time: i64, pid: Option<u32>) -> Option<usize> {
        // A daemon that says it again within one run, such as after it recovered from a worker's crash.
        if pid.is_some() && self.told_running(pid).is_some() {
            return None;
        }
        let starting = self
            .last_told()
            .filter(|&at| self.list[at].outcome == Outcome::Starting && self.list[at].is_open());
        if starting.is_none()
            && let Some(at) = self.running_at(time)
        {
            self.note_mark(at, Some(Mark::Ready), Some(time));
            return None;
        }
        // Whatever ran before has ended without a word.
        let before = if starting.is_some() { self.word_before } else { self.stamp_before };
        for at in self.late() {
            let earlier = &mut self.list[at];
            if earlier.outcome == Outcome::Ready && earlier.is_open() && earlier.vanished.is_none() {
                earlier.vanished = Some(before.map_or(earlier.began, |w| w.max(earlier.began)));
            }
        }
        let at = match starting {
            Some(at) => at,
            None => {
                let attempt = self.beside(time, Outcome::Ready, pid);
                self.push(attempt)
            }
        };
        let attempt = &mut self.list[at];
        attempt.outcome = Outcome::Ready;
        attempt.ready = Some(time);
        attempt.told_pid = pid;
        // Some begin in a process that the daemon then leaves.
        attempt.pid = pid.or(attempt.pid);
        Some(at)
    }

    fn stopped(&mut self, time: i64, pid: Option<u32>) {
        let Some(at) = self.ending(pid, time) else { return };
        let last = &mut self.list[at];
        last.ended = Some(time);
        match last.outcome {
            Outcome::Ready => {
                last.afterwards.get_or_insert(Afterwards::Stopped);
            }
            // The words of a stop end most failed starts, too.
            Outcome::Starting => {
                last.outcome = if last.is_explained() { Outcome::Failed } else { Outcome::Stopped }
            }
            _ => {}
        }
    }

    fn crashed(&mut self, time: i64, pid: Option<u32>) -> Option<usize> {
        let at = self.ending(pid, time)?;
        let last = &mut self.list[at];
        last.ended = Some(time);
        if last.outcome == Outcome::Ready {
            last.afterwards = Some(Afterwards::Crashed);
        } else {
            last.outcome = Outcome::Failed;
            let text = "it died by itself".to_owned();
            last.fail(Failure {
                code: Code::Crashed,
                file: self.path.clone(),
                line: None,
                time: Some(time),
                text,
                found: Match::default(),
                trusted: false,
            });
        }
        Some(at)
    }

    /// A line without a mark: of a start that goes on, of a failure that just happened, or the first word of
    /// one.
    fn goes_on(&mut self, body: &str, time: i64, head: Option<&Head>, mark: Option<Mark>) -> Option<usize> {
        let pid = head.and_then(|h| h.pid);
        let fails = mark == Some(Mark::Fail);
        let open = self.last_told().filter(|&at| {
            let last = &self.list[at];
            let other = last.pid.is_some() && pid.is_some() && last.pid != pid;
            match last.outcome {
                Outcome::Starting => last.is_open() && !(other && fails && last.told_pid.is_some()),
                Outcome::Failed => {
                    !other && !last.over && last.ended.is_some_and(|e| time - e <= FAILING && time >= e)
                }
                // Where lines tell no process, the words of a start that fails are those of another one.
                Outcome::Ready => {
                    last.is_open()
                        && !(fails && (other || pid.is_none()))
                        && last.ready.is_some_and(|r| time - r <= self.request.grammar.window())
                }
                _ => false,
            }
        });
        if open.is_some() {
            return open;
        }
        // What a run says later is not about a start.
        if pid.is_some() && self.told_running(pid).is_some() {
            return None;
        }
        let fatal =
            head.is_some_and(|h| matches!(h.level.as_str(), "emerg" | "fatal" | "alert" | "critical"));
        if !self.main || !(fatal || fails) {
            return None;
        }
        let code = self.request.owner.catalogue.cause(body).map(|(code, _)| code);
        let gives_up = self.request.grammar.gives_up(body);
        if code.is_none() && !gives_up {
            return None;
        }
        // Beside the manager's record a refused configuration is more likely a check by hand than a start.
        let covered = self.known_from.is_some_and(|from| time >= from);
        if covered && code.is_none_or(|c| c.facts().stage < crate::code::stage::BIND) {
            return None;
        }
        let mut attempt = self.beside(time, Outcome::Failed, pid);
        attempt.ended = Some(time);
        let at = self.push(attempt);
        self.said_before(at, time, pid);
        Some(at)
    }

    /// A line that belongs to no attempt so far.
    fn remember(&mut self, line: &LogLine) {
        let follows = self.passed_at + self.passed.len() as u64 == line.start;
        if !follows || self.passed.len() > REMEMBERED {
            self.passed.clear();
            (self.passed_at, self.passed_whole) = (line.start, true);
        }
        // What was cut off of an endless line leaves nothing that could follow.
        self.passed.extend_from_slice(line.bytes);
        self.passed.push(b'\n');
    }

    /// Whether a line says something against a reload that was just ordered.
    fn refuses_reload(&mut self, line: &LogLine, body: &str, time: Option<i64>) -> bool {
        let (Some(at), Some(time)) = (self.reload_of, time) else { return false };
        let just = self.list.get(at).and_then(|a| a.reloaded).is_some_and(|r| time - r <= FAILING);
        let cause = if just { self.request.owner.catalogue.cause(body) } else { None };
        let Some((code, found)) = cause else { return false };
        let failure = Failure {
            code,
            file: self.path.clone(),
            line: line.number,
            time: Some(time),
            text: bounds::cut(body.trim(), bounds::LOG_TEXT),
            found,
            trusted: false,
        };
        self.list[at].refuse(failure);
        true
    }

    /// What the process that gives up said just before, without a word of its beginning.
    fn said_before(&mut self, at: usize, time: i64, pid: Option<u32>) {
        let (bytes, mut start) = (std::mem::take(&mut self.passed), self.passed_at);
        let mut lines = bytes.split_inclusive(|b| *b == b'\n');
        if !self.passed_whole {
            start += lines.next().map_or(0, <[u8]>::len) as u64;
        }
        let shift = self.shifts.at(self.piece, start);
        for bytes in lines {
            let line = LogLine { bytes, start, end: start + bytes.len() as u64, number: None };
            start = line.end;
            let text = String::from_utf8_lossy(bytes);
            let around = Around { zone: self.request.zone, before: self.before, latest: self.latest };
            let Some(head) = self.request.grammar.head(text.trim_end(), around) else { continue };
            let said = head.time + shift;
            let body =
                head.body.as_deref().or_else(|| text.get(head.length..)).unwrap_or_default().trim_end();
            let same = pid.is_some() && head.pid == pid && is_ours(self.request, &head);
            if same && time - said <= FAILING && self.request.owner.catalogue.cause(body).is_some() {
                self.list[at].began = self.list[at].began.min(said);
                self.put(at, &line, body, Some(said), Some(&head));
            }
        }
        self.passed = bytes;
    }

    fn put(&mut self, at: usize, line: &LogLine, body: &str, time: Option<i64>, head: Option<&Head>) {
        let bytes = (!self.packed).then_some((line.start, line.end));
        let attempt = &mut self.list[at];
        match attempt.logs.iter_mut().find(|l| l.file == self.path) {
            Some(part) => {
                part.last_line = line.number;
                part.last_byte = bytes.map(|b| b.1);
            }
            None => attempt.logs.push(LogPart {
                file: self.path.clone(),
                first_line: line.number,
                last_line: line.number,
                first_byte: bytes.map(|b| b.0),
                last_byte: bytes.map(|b| b.1),
            }),
        }
        if attempt.outcome == Outcome::Failed
            && let Some(t) = time
        {
            attempt.ended = Some(attempt.ended.unwrap_or(t).max(t));
        }
        let weight = || words::weight(head.map(|h| h.level.as_str()), body);
        words::note(
            attempt,
            self.request.owner,
            body,
            At { file: &self.path, line: line.number, time },
            weight,
        );
    }
}

/// How far before its begin a line of an attempt may be stamped: a stamp of whole seconds was cut, a finer
/// one is right but for the moment between the manager's word and the daemon's.
fn slack(time: i64) -> i64 {
    if time % 1_000_000 == 0 { 1_000_000 } else { 50_000 }
}
