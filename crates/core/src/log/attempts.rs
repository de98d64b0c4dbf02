//! Start attempts, put together from the manager's record, the journal and the daemon's own log files.
use super::choose::{Chosen, choose};
use super::grammar::{Around, Head};
use super::pieces::{Packing, pieces};
use super::request::{Request, is_ours};
use super::scan::{LogLine, Scan, Taker};
use super::settle::{settle, settle_last};
use super::words::{self, At};
use super::{Afterwards, Attempt, Failure, LogPart, Mark, Match, Outcome, StartedBy, count_lines, record};
use crate::bounds;
use crate::code::Code;
use crate::host::Look;
use crate::snapshot::Snapshot;
use std::cell::Cell;

/// Attempts with what should be known about them.
#[derive(Clone, Debug, Default)]
pub struct Attempts {
    /// Newest first.
    pub list: Vec<Attempt>,
    /// Sentences about the logs themselves: a damaged packing, a clock that runs otherwise.
    pub remarks: Vec<String>,
    /// How many more were found than were asked for.
    pub more: usize,
}

/// Starts, the newest ones, by which two clocks are compared.
const COMPARED: usize = 300;
/// How far into a long file lines are counted, in bytes, unless all are asked for.
const COUNTED: u64 = 16 << 20;
/// Lines of a start that never becomes ready: after so many it is a run.
const START_LINES: u32 = 20_000;

/// Puts the attempts together, newest first.
pub fn attempts(snapshot: &Snapshot, request: &Request) -> Attempts {
    let mut found = Attempts::default();
    let mut list = Vec::new();
    let mut known_from = None;
    if let Some(unit) = request.unit {
        let entries = u32::try_from(request.most.saturating_mul(80).clamp(400, 100_000)).unwrap_or(400);
        if let Look::Seen(mut entries) = snapshot.journal(unit, entries) {
            entries.reverse();
            known_from = entries.first().and_then(|e| i64::try_from(e.time).ok());
            list = record::attempts(&entries, request.owner, request.grammar, unit, request.reports_ready);
        }
    }
    let managed = list.len();
    for (at, file) in request.files.iter().enumerate() {
        // Only beside the manager's record can a clock turn out to run otherwise: then the log is read again.
        let before = if managed > 0 { list.clone() } else { Vec::new() };
        read_log(snapshot, request, file, at == 0, 0, known_from, managed, &mut list, &mut found.remarks);
        if let Some(shift) = clock_difference(&list, managed) {
            list = before;
            read_log(
                snapshot,
                request,
                file,
                at == 0,
                shift,
                known_from,
                managed,
                &mut list,
                &mut found.remarks,
            );
            let hours = shift.abs() as f64 / 3.6e9;
            let way = if shift > 0 { "behind" } else { "ahead of" };
            found.remarks.push(format!(
                "{file}: its stamps are {hours} h {way} the manager's clock; they were moved by that"
            ));
        }
    }
    list.sort_by_key(|a| a.began);
    for attempt in &mut list {
        settle(attempt, request);
    }
    settle_last(&mut list, request);
    list.reverse();
    found.more = list.len().saturating_sub(request.most);
    list.truncate(request.most);
    found.list = list;
    found
}

/// Where starts that only the log tells of would be those of the manager if its clock ran otherwise: by how
/// much. Zones differ by quarters of an hour.
fn clock_difference(list: &[Attempt], managed: usize) -> Option<i64> {
    const QUARTER: i64 = 900_000_000;
    let told: Vec<i64> = list
        .get(managed..)?
        .iter()
        .rev()
        .take(COMPARED)
        .filter(|a| a.outcome == Outcome::Ready || a.saw_begin)
        .map(|a| a.ready.unwrap_or(a.began))
        .collect();
    let known: Vec<i64> = list[..managed]
        .iter()
        .rev()
        .take(COMPARED)
        .filter(|a| a.outcome != Outcome::Refused)
        .flat_map(|a| [Some(a.began), a.ready, a.started])
        .flatten()
        .collect();
    if told.is_empty() || known.is_empty() {
        return None;
    }
    let fits = |shift: i64| {
        told.iter().filter(|t| known.iter().any(|k| (*t + shift - k).abs() <= 3_000_000)).count()
    };
    let mut shifts: Vec<i64> = told
        .iter()
        .flat_map(|t| known.iter().map(move |k| ((k - t) as f64 / QUARTER as f64).round() as i64 * QUARTER))
        .collect();
    shifts.sort_unstable();
    shifts.dedup();
    let best =
        shifts.into_iter().filter(|s| *s != 0 && s.abs() <= 15 * 4 * QUARTER).max_by_key(|s| fits(*s))?;
    // A single start could meet another one by chance.
    let matched = fits(best);
    (matched >= 2 && matched * 10 >= told.len() * 8).then_some(best)
}

/// Reads a log with its predecessors, oldest first, and gives its lines to the attempts they belong to.
#[expect(clippy::too_many_arguments, reason = "one log with all that decides about it")]
fn read_log(
    snapshot: &Snapshot,
    request: &Request,
    log: &str,
    main: bool,
    shift: i64,
    known_from: Option<i64>,
    managed: usize,
    list: &mut Vec<Attempt>,
    remarks: &mut Vec<String>,
) {
    let all = pieces(snapshot, log);
    let Chosen { pieces: chosen, offset, marks } = choose(snapshot, request, all, &list[..managed], shift);
    let grammar = request.grammar;
    let spans: Vec<(i64, i64)> = list[..managed]
        .iter()
        .map(|a| span(a, request))
        .map(|(from, to)| (from - shift, to - shift))
        .collect();
    let mut placer = Placer {
        list,
        managed,
        request,
        main,
        shift,
        known_from,
        path: String::new(),
        packed: false,
        latest: None,
        before: None,
        reloading: false,
        open_lines: 0,
        open_until: None,
        last_at: None,
        last_pid: None,
    };
    // The newest of it counts: what lies further back than the bound is named and left out.
    let left = Cell::new(bounds::LOG);
    let mut plain = 0u64;
    let mut begin = chosen.len();
    let mut skipped = 0;
    for (at, piece) in chosen.iter().enumerate().filter(|(_, p)| p.packing == Packing::Plain) {
        plain += piece.size;
        if plain > bounds::LOG {
            (begin, skipped) = (at + 1, plain - bounds::LOG);
            break;
        }
    }
    let bounded = |what: &str| {
        snapshot.bound(format!("{log}: {what} more than {} GiB are not read", bounds::LOG >> 30))
    };
    if begin < chosen.len() || skipped > 0 {
        bounded("of its files");
    }
    for (at, piece) in chosen.iter().enumerate().take(begin).rev() {
        let oldest = at + 1 == chosen.len();
        let from = if oldest { offset } else { 0 };
        let from = if at + 1 == begin { from.max(skipped.min(piece.size)) } else { from };
        let limit = if request.count_all { u64::MAX } else { COUNTED };
        let number = if piece.packing == Packing::Plain {
            count_lines(snapshot, &piece.path, from, limit)
        } else {
            Some(0)
        };
        placer.path.clone_from(&piece.path);
        placer.packed = piece.packing != Packing::Plain;
        placer.latest = (piece.modified > 0).then_some(piece.modified * 1_000_000);
        let scan = Scan::new(grammar, request.zone, &spans, &mut placer, from, number.map(|n| n + 1));
        if let Err(words) =
            scan.run(snapshot, piece, marks.as_deref().filter(|_| oldest && skipped == 0), &left)
        {
            remarks.push(words);
        }
    }
    if left.get() == 0 {
        bounded("unpacked,");
    }
}

/// The span of time in which lines belong to an attempt of the manager's.
fn span(attempt: &Attempt, request: &Request) -> (i64, i64) {
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
struct Placer<'p, 'r> {
    list: &'p mut Vec<Attempt>,
    /// How many of them the manager told of.
    managed: usize,
    request: &'r Request<'r>,
    main: bool,
    /// What is added to the stamps, in microseconds.
    shift: i64,
    /// The manager's record begins here.
    known_from: Option<i64>,
    path: String,
    packed: bool,
    latest: Option<i64>,
    before: Option<i64>,
    reloading: bool,
    open_lines: u32,
    open_until: Option<i64>,
    /// The attempt of the manager's that the line before belonged to, and the process that wrote it.
    last_at: Option<usize>,
    last_pid: Option<u32>,
}

impl Taker for Placer<'_, '_> {
    fn line(&mut self, line: LogLine) {
        self.open_lines = self.open_lines.saturating_sub(1);
        let text = String::from_utf8_lossy(line.bytes);
        let around = Around { zone: self.request.zone, before: self.before, latest: self.latest };
        let head = self.request.grammar.head(&text, around);
        if let Some(head) = &head {
            self.before = Some(head.time);
        }
        let time = head.as_ref().map(|h| h.time + self.shift);
        if let (Some(time), Some(until)) = (time, self.open_until)
            && time > until
        {
            self.open_lines = 0;
        }
        // What another program wrote, or what came of a client's request, is no word of a start.
        if head.as_ref().is_some_and(|h| !is_ours(self.request, h)) {
            return;
        }
        let body = head.as_ref().map_or(text.as_ref(), |h| {
            h.body.as_deref().unwrap_or_else(|| text.get(h.length..).unwrap_or(&text))
        });
        let mark = head.as_ref().and_then(|_| self.request.grammar.mark(body));
        match mark {
            Some(Mark::Reload) => {
                self.reloading = true;
                return;
            }
            // Some daemons say at a reload what they say at a start.
            Some(Mark::Begin) if self.reloading => return,
            Some(Mark::Ready) if self.reloading => {
                self.reloading = false;
                return;
            }
            Some(_) => self.reloading = false,
            None => {}
        }
        if let Some(at) = self.attempt_of(body, time, head.as_ref(), mark) {
            self.put(at, &line, body, time, head.as_ref());
        }
        self.open(mark, time);
    }

    fn wants_more(&self) -> bool {
        self.open_lines > 0
    }
}

impl Placer<'_, '_> {
    /// After a mark the lines that follow are wanted for a while.
    fn open(&mut self, mark: Option<Mark>, time: Option<i64>) {
        let Some(mark) = mark else { return };
        let after = |micros: i64| time.map(|t| t + micros);
        (self.open_lines, self.open_until) = match mark {
            Mark::Begin => (START_LINES, after(900_000_000)),
            Mark::Ready => (START_LINES, after(self.request.grammar.window())),
            Mark::Fail | Mark::Crash => (400, after(5_000_000)),
            Mark::Stop => (100, after(5_000_000)),
            Mark::Reload => (0, None),
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
        // Attempts that nobody asks for any more make room; those of the manager stay.
        let most = self.request.most.saturating_add(bounds::ATTEMPTS);
        if self.list.len() - self.managed.min(self.list.len())
            >= most.saturating_mul(2).max(2 * bounds::ATTEMPTS)
        {
            let old = most.min(self.list.len() - self.managed);
            self.list.drain(self.managed..self.managed + old);
        }
        self.list.push(attempt);
        self.list.len() - 1
    }

    /// The last attempt that only the logs tell of.
    fn last_told(&self) -> Option<usize> {
        self.list.len().checked_sub(1).filter(|&at| at >= self.managed)
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
        if let Some(at) = time.and_then(|t| self.managed_at(t, body, pid, mark)) {
            self.note_mark(at, mark, time);
            (self.last_at, self.last_pid) = (Some(at), pid.or(self.last_pid));
            return Some(at);
        }
        let Some(time) = time else {
            // A line without a stamp goes with the one before it.
            return self
                .last_told()
                .filter(|&at| matches!(self.list[at].outcome, Outcome::Starting | Outcome::Failed));
        };
        match mark {
            Some(Mark::Begin) => {
                let mut attempt = self.beside(time, Outcome::Starting, pid);
                attempt.saw_begin = true;
                Some(self.push(attempt))
            }
            Some(Mark::Ready) => self.became_ready(time, pid),
            Some(Mark::Stop) => {
                self.stopped(time);
                None
            }
            Some(Mark::Crash) => self.crashed(time),
            _ => self.goes_on(body, time, head, mark),
        }
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
        let starting = self
            .last_told()
            .filter(|&at| self.list[at].outcome == Outcome::Starting && self.list[at].is_open());
        if let Some(at) = starting {
            self.list[at].outcome = Outcome::Ready;
            self.list[at].ready = Some(time);
            return Some(at);
        }
        // A daemon that says it again within one run, such as after it recovered from a worker's crash.
        let told =
            self.last_told().filter(|&at| self.list[at].outcome == Outcome::Ready && self.list[at].is_open());
        if told.is_some_and(|at| pid.is_some() && self.list[at].pid == pid) {
            return None;
        }
        if let Some(at) = self.running_at(time) {
            self.note_mark(at, Some(Mark::Ready), Some(time));
            return None;
        }
        let attempt = self.beside(time, Outcome::Ready, pid);
        Some(self.push(attempt))
    }

    fn stopped(&mut self, time: i64) {
        let Some(at) = self.last_told().filter(|&at| self.list[at].is_open() && self.list[at].began <= time)
        else {
            return;
        };
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

    fn crashed(&mut self, time: i64) -> Option<usize> {
        let at = self.last_told().filter(|&at| self.list[at].is_open() && self.list[at].began <= time)?;
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
        let open = self.last_told().filter(|&at| {
            let last = &self.list[at];
            let other = last.pid.is_some() && pid.is_some() && last.pid != pid;
            match last.outcome {
                Outcome::Starting => last.is_open(),
                Outcome::Failed => !other && last.ended.is_some_and(|e| time - e <= 5_000_000),
                Outcome::Ready => {
                    last.is_open() && last.ready.is_some_and(|r| time - r <= self.request.grammar.window())
                }
                _ => false,
            }
        });
        if open.is_some() {
            return open;
        }
        let fatal =
            head.is_some_and(|h| matches!(h.level.as_str(), "emerg" | "fatal" | "alert" | "critical"));
        if !self.main || !(fatal || mark == Some(Mark::Fail)) {
            return None;
        }
        let found = self.request.owner.catalogue.recognise(body).filter(|m| !m.harmless && !m.aftermath)?;
        let code = found.code?;
        // Beside the manager's record a refused configuration is more likely a check by hand than a start.
        let covered = self.known_from.is_some_and(|from| time >= from);
        if covered && code.facts().stage < crate::code::stage::BIND {
            return None;
        }
        let attempt = self.beside(time, Outcome::Failed, pid);
        Some(self.push(attempt))
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

/// Whether a grammar and a catalogue of a kind are well formed.
#[cfg(test)]
pub(crate) fn data_faults(grammar: &super::Grammar, owner: super::LogOwner) -> Vec<String> {
    let mut faults = owner.catalogue.faults();
    if !grammar.is_sound() {
        faults.push("log.toml is not sound".into());
    }
    faults
}
