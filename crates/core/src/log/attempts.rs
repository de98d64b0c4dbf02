//! Start attempts, put together from the manager's record, the journal and the daemon's own log files.
use super::choose::{Chosen, choose};
use super::pieces::{Packing, Piece, pieces};
use super::placer::{Placer, span};
use super::receiver::{self, Whose};
use super::request::Request;
use super::scan::{Scan, before};
use super::settle::{settle, settle_last};
use super::zone::first_meaning;
use super::zones::{Seen, Shifts};
use super::{Attempt, count_lines, record};
use crate::bounds;
use crate::host::JournalEntry;
use crate::snapshot::Snapshot;
use std::cell::Cell;

/// Attempts with what should be known about them.
#[derive(Clone, Debug, Default)]
pub struct Attempts {
    /// Newest first.
    pub list: Vec<Attempt>,
    /// Sentences about the logs themselves: a damaged packing, a clock that runs otherwise.
    pub remarks: Vec<String>,
}

/// How far into a long file lines are counted, in bytes, unless all are asked for.
const COUNTED: u64 = 16 << 20;
/// How far apart two logs of one daemon stamp one event, in microseconds: one of them may write whole
/// seconds.
const SAME: i64 = 1_200_000;

/// Puts the attempts together, newest first.
pub fn attempts(snapshot: &Snapshot, request: &Request) -> Attempts {
    let mut found = Attempts::default();
    let mut list = Vec::new();
    let mut known_from = None;
    if let Some(unit) = request.unit {
        (list, known_from) = recorded(snapshot, request, unit);
    }
    let managed = list.len();
    for (at, file) in request.files.iter().enumerate() {
        let log = Log { snapshot, request, path: file, main: at < request.mains, known_from, managed };
        let first = list.len();
        // A log whose clock turns out to run otherwise is read again.
        let before = list[..managed].to_vec();
        let read = log.read(&Shifts::default(), &mut list, &mut found.remarks);
        if let Some(shifts) = read.shifts(&before, request.zone_set) {
            list.truncate(first);
            list.splice(..managed, before);
            found.remarks.push(format!("{file}: {}", moved(&shifts, managed > 0)));
            log.read(&shifts, &mut list, &mut found.remarks);
        }
        join(&mut list, managed, first);
    }
    let mut list = in_order(list, managed);
    for attempt in &mut list {
        settle(attempt, request);
    }
    for attempt in list.iter_mut().filter(|a| a.testimony) {
        // How it ended is told; as the manager's own word it is not passed on.
        attempt.result.clear();
        attempt.exit.clear();
    }
    settle_last(&mut list, request, &snapshot.aside(|| super::boots::boots(snapshot)));
    list.reverse();
    list.truncate(request.most);
    found.list = list;
    found
}

/// The manager's record of a unit, oldest first, and from when on it is known: out of the journal, else out
/// of what a receiver of syslog messages kept; and the last start as the manager remembers it.
fn recorded(snapshot: &Snapshot, request: &Request, unit: &str) -> (Vec<Attempt>, Option<i64>) {
    let most = request.most.saturating_mul(80).clamp(400, 100_000);
    let read = |entries: &[JournalEntry]| {
        record::attempts(entries, request.owner, request.grammar, unit, request.reports_ready)
    };
    let first = |entries: &[JournalEntry]| entries.first().and_then(|e| i64::try_from(e.time).ok());
    let mut entries = snapshot.journal(unit, u32::try_from(most).unwrap_or(400)).seen().unwrap_or_default();
    entries.reverse();
    let mut known_from = first(&entries);
    let mut list = read(&entries);
    // Where a journal is there, a unit without a word in it was not started since it begins.
    let journal = || snapshot.journal_of("_PID=1", 1).seen().is_some_and(|entries| !entries.is_empty());
    if list.is_empty() && (request.count_all || !snapshot.aside(journal)) {
        let whose = Whose {
            unit,
            description: request.description,
            programs: request.names,
            zone: request.host_zone,
            grammar: request.grammar,
            all: request.count_all,
        };
        if let Some((file, entries)) = snapshot.aside(|| receiver::entries(snapshot, &whose, most)) {
            list = read(&entries);
            known_from = first(&entries);
            list.iter_mut().for_each(|a| a.told_in(&file));
        }
    }
    // The journal may not reach to the last start, or tell nothing at all.
    let state = snapshot.unit(unit).seen();
    if let Some(last) = state.and_then(|s| record::of_state(&s, request.reports_ready))
        && list.last().is_none_or(|known| last.began > known.ended.unwrap_or(known.began) + SAME)
        && list.last().is_none_or(|known| last.began > known.began + SAME)
    {
        known_from.get_or_insert(last.began);
        list.push(last);
    }
    (list, known_from)
}

/// What is done to the stamps of a log, in words.
fn moved(shifts: &Shifts, recorded: bool) -> String {
    let by: Vec<String> = (shifts.all().iter())
        .map(|shift| {
            let hours = shift.abs() as f64 / 3.6e9;
            match shift.signum() {
                0 => "right".to_owned(),
                1 => format!("{hours} h behind"),
                _ => format!("{hours} h ahead of"),
            }
        })
        .collect();
    let than = if recorded { "the manager's clock" } else { "the time at which it was written" };
    match by.as_slice() {
        [one] => format!("its stamps are {one} {than}; they were moved by that"),
        many => {
            format!(
                "its zone has changed: its stamps are {} {than}; they were moved by that",
                many.join(", then ")
            )
        }
    }
}

/// The manager's attempts in the order of its record, those of the logs between them in the order of their
/// log: a clock that was set does not change what came first.
fn in_order(mut list: Vec<Attempt>, managed: usize) -> Vec<Attempt> {
    let told = list.split_off(managed.min(list.len()));
    if list.windows(2).all(|w| w[0].began <= w[1].began) && told.windows(2).all(|w| w[0].began <= w[1].began)
    {
        list.extend(told);
        list.sort_by_key(|a| a.began);
        return list;
    }
    let file = |a: &Attempt| a.logs.first().map(|l| l.file.clone());
    let mut all = list;
    let mut last: Option<(Option<String>, usize)> = None;
    for attempt in told {
        let of = file(&attempt);
        let from = last.as_ref().filter(|(f, _)| *f == of).map_or(0, |(_, at)| at + 1);
        let at = all[from..].iter().position(|a| a.began > attempt.began).map_or(all.len(), |n| from + n);
        all.insert(at, attempt);
        last = Some((of, at));
    }
    all
}

/// Attempts that another log of the daemon tells of, too, are one with those.
fn join(list: &mut Vec<Attempt>, managed: usize, first: usize) {
    let told = list.split_off(first.min(list.len()));
    for attempt in told {
        let near =
            |a: Option<i64>, b: Option<i64>| matches!((a, b), (Some(a), Some(b)) if (a - b).abs() <= SAME);
        let same = |other: &Attempt| {
            let pids = other.pid.is_none() || attempt.pid.is_none() || other.pid == attempt.pid;
            let elsewhere = |file: &str| !other.logs.iter().any(|l| l.file == file);
            pids && attempt.logs.iter().all(|l| elsewhere(&l.file))
                && (near(other.ready, attempt.ready) || near(Some(other.began), Some(attempt.began)))
        };
        match list[managed..].iter_mut().rev().find(|other| same(other)) {
            Some(other) => other.join(attempt),
            None => list.push(attempt),
        }
    }
}

/// One log with all that decides about its reading.
struct Log<'l, 'h> {
    snapshot: &'l Snapshot<'h>,
    request: &'l Request<'l>,
    path: &'l str,
    /// Whether it is a log of the whole service, and not of one site.
    main: bool,
    /// The manager's record begins here.
    known_from: Option<i64>,
    /// How many attempts the manager told of.
    managed: usize,
}

/// What was read of a log.
struct ReadLog {
    seen: Seen,
    /// When each piece was last written, the oldest first, in microseconds.
    written: Vec<Option<i64>>,
}

impl ReadLog {
    fn shifts(&self, record: &[Attempt], set: &[i64]) -> Option<Shifts> {
        let written = |piece: usize| self.written.get(piece).copied().flatten();
        let by_files = || self.seen.over_files(self.seen.is_confirmed(record), written, set);
        self.seen.over_record(record).or_else(by_files)
    }
}

impl Log<'_, '_> {
    /// Reads it with its predecessors, oldest first, and gives its lines to the attempts they belong to.
    fn read(&self, shifts: &Shifts, list: &mut Vec<Attempt>, remarks: &mut Vec<String>) -> ReadLog {
        let (snapshot, request) = (self.snapshot, self.request);
        let all = pieces(snapshot, self.path);
        let widest = shifts.all();
        let Chosen { pieces: chosen, offset, marks } =
            choose(snapshot, request, all, &list[..self.managed], widest.iter().copied().max().unwrap_or(0));
        let spans = self.spans(&list[..self.managed], &widest);
        let first = list.len();
        let mut placer = Placer {
            list,
            managed: self.managed,
            first,
            request,
            main: self.main,
            shifts,
            known_from: self.known_from,
            path: String::new(),
            piece: 0,
            packed: false,
            latest: None,
            before: None,
            reloading: false,
            open_lines: 0,
            open_until: None,
            last_at: None,
            last_pid: None,
            trace_of: None,
            passed: Vec::new(),
            passed_at: 0,
            passed_whole: true,
            reload_of: None,
            here: (0, 0),
            stamp_before: None,
            word_before: None,
            seen: Seen::default(),
        };
        // The newest of it counts: what lies further back than the bound is named and left out.
        let left = Cell::new(bounds::LOG);
        let (begin, skipped) = within_bound(&chosen);
        let bounded = |what: &str| {
            snapshot.bound(format!("{}: {what} more than {} GiB are not read", self.path, bounds::LOG >> 30))
        };
        if begin < chosen.len() || skipped > 0 {
            bounded("of its files");
        }
        let mut written = Vec::new();
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
            placer.piece = written.len();
            placer.packed = piece.packing != Packing::Plain;
            placer.latest = (piece.modified > 0).then_some(piece.modified * 1_000_000);
            written.push(placer.latest);
            if from > 0 && placer.before.is_none() {
                placer.before = before(snapshot, piece, request.grammar, request.zone, from);
            }
            let scan =
                Scan::new(request.grammar, request.zone, &spans, &mut placer, from, number.map(|n| n + 1));
            if let Err(words) =
                scan.run(snapshot, piece, marks.as_deref().filter(|_| oldest && skipped == 0), &left)
            {
                remarks.push(words);
            }
        }
        if left.get() == 0 {
            bounded("unpacked,");
        }
        ReadLog { seen: placer.seen, written }
    }

    /// Spans of time, as the stamps of this log write it, of which every line is wanted.
    fn spans(&self, record: &[Attempt], shifts: &[i64]) -> Vec<(i64, i64)> {
        let mut spans = Vec::new();
        for attempt in record {
            let (from, to) = span(attempt, self.request);
            for shift in shifts {
                let (from, to) = (from - shift, to - shift);
                spans.push((from, to));
                // What a clock shows twice is read as the earlier one where nothing stands before it.
                let early = first_meaning(from, self.request.zone);
                let ends = first_meaning(to, self.request.zone);
                if early != from || ends != to {
                    spans.push((early, early + (to - from)));
                    spans.push((ends - (to - from), ends));
                }
            }
        }
        spans.sort_unstable();
        spans
    }
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

/// How many of these pieces, newest first, are within what is read of a log, and how much of the oldest of
/// them is left out.
fn within_bound(pieces: &[Piece]) -> (usize, u64) {
    let mut plain = 0u64;
    for (at, piece) in pieces.iter().enumerate().filter(|(_, p)| p.packing == Packing::Plain) {
        plain = plain.saturating_add(piece.size);
        if plain > bounds::LOG {
            return (at + 1, plain - bounds::LOG);
        }
    }
    (pieces.len(), 0)
}
