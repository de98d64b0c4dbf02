//! Lines that matter out of long logs: those with marks, those around them, and those of known spans of time. Everything
//! else is passed over at the speed of a search for a few words.
use super::grammar::{Around, Grammar};
use super::pieces::{Packing, Piece, Sink, feed};
use crate::snapshot::Snapshot;
use jiff::tz::TimeZone;
use memchr::{memchr, memchr_iter, memrchr};

/// Longest line that is kept whole, in bytes.
const LINE_LIMIT: usize = 64 << 10;

/// One line with its place.
#[derive(Clone, Copy, Debug)]
pub(super) struct Line<'b> {
    /// Without its end.
    pub(super) bytes: &'b [u8],
    /// First byte in the file, unpacked.
    pub(super) start: u64,
    /// The byte behind it, its end included.
    pub(super) end: u64,
    /// Its number, from 1, where they are counted.
    pub(super) number: Option<u32>,
}

/// Takes the lines that matter.
pub(super) trait Taker {
    /// One line.
    fn line(&mut self, line: Line);
    /// Whether the lines that follow are wanted, too, whatever they hold.
    fn wants_more(&self) -> bool;
}

/// Passes over a piece.
pub(super) struct Scan<'s, T: Taker> {
    grammar: &'s Grammar,
    zone: &'s TimeZone,
    latest: Option<i64>,
    /// Spans of time of which every line is wanted, in order, microseconds since the epoch.
    spans: &'s [(i64, i64)],
    taker: &'s mut T,
    /// The beginning of a line whose end has not come yet.
    carry: Vec<u8>,
    /// Whether the rest of that line is dropped.
    cut: bool,
    /// Where the next block begins, unpacked.
    at: u64,
    /// Number of the line that begins or goes on there, from 1.
    number: Option<u32>,
}

impl<'s, T: Taker> Scan<'s, T> {
    /// A scan that begins at an offset, on a line of that number.
    pub(super) fn new(grammar: &'s Grammar, zone: &'s TimeZone, spans: &'s [(i64, i64)], taker: &'s mut T, at: u64, number: Option<u32>) -> Self {
        Self { grammar, zone, latest: None, spans, taker, carry: Vec::new(), cut: false, at, number }
    }

    /// Reads a piece to its end.
    ///
    /// # Errors
    /// A sentence where its packing is damaged.
    pub(super) fn run(mut self, snapshot: &Snapshot, piece: &Piece) -> Result<(), String> {
        self.latest = (piece.modified > 0).then_some(piece.modified * 1_000_000);
        let from = if piece.packing == Packing::Plain { self.at } else { 0 };
        let outcome = feed(snapshot, piece, from, &mut self);
        self.finish();
        outcome
    }

    fn finish(&mut self) {
        if !self.carry.is_empty() {
            let whole = std::mem::take(&mut self.carry);
            let start = self.at - whole.len() as u64;
            self.region(&whole, start);
        }
    }

    fn time(&self, line: &[u8]) -> Option<i64> {
        let head = line.get(..line.len().min(256))?;
        let text = String::from_utf8_lossy(head);
        let whole = String::from_utf8_lossy(line);
        let text = if text.starts_with('{') { whole } else { text };
        self.grammar.head(&text, Around { zone: self.zone, before: None, latest: self.latest }).map(|h| h.time)
    }

    /// The stamp of the first line at or after an offset that has one, with the offset of that line.
    fn stamp_from(&self, region: &[u8], mut at: usize) -> Option<(usize, i64)> {
        for _ in 0..64 {
            let line = region.get(at..).filter(|l| !l.is_empty())?;
            let end = memchr(b'\n', line).unwrap_or(line.len());
            if let Some(time) = self.time(&line[..end]) {
                return Some((at, time));
            }
            at += end + 1;
        }
        None
    }

    /// Stretches of a region whose lines fall into the spans, found by halving.
    fn wanted(&self, region: &[u8]) -> Vec<(usize, usize)> {
        if self.spans.is_empty() {
            return Vec::new();
        }
        let Some((_, first)) = self.stamp_from(region, 0) else { return Vec::new() };
        let last = self.last_stamp(region).unwrap_or(first);
        let (low, high) = (first.min(last), first.max(last));
        let touched = self.spans.iter().filter(|(from, to)| *to >= low && *from <= high);
        touched.map(|(from, to)| (self.offset_of(region, *from), self.offset_of(region, to.saturating_add(1)))).filter(|(a, b)| a < b).collect()
    }

    fn last_stamp(&self, region: &[u8]) -> Option<i64> {
        let mut end = region.len();
        for _ in 0..64 {
            let body = &region[..end.saturating_sub(usize::from(region.get(end.wrapping_sub(1)) == Some(&b'\n')))];
            let start = memrchr(b'\n', body).map_or(0, |n| n + 1);
            if let Some(time) = self.time(&body[start..]) {
                return Some(time);
            }
            if start == 0 {
                return None;
            }
            end = start;
        }
        None
    }

    /// Where the first line stands that is not earlier than a moment.
    fn offset_of(&self, region: &[u8], moment: i64) -> usize {
        let (mut low, mut high) = (0, region.len());
        while high - low > 512 {
            let middle = low + (high - low) / 2;
            let line = memchr(b'\n', &region[middle..high]).map_or(high, |n| middle + n + 1);
            match self.stamp_from(&region[..high], line) {
                Some((_, time)) if time < moment => low = line,
                _ => high = middle,
            }
        }
        let mut at = memrchr(b'\n', &region[..low]).map_or(0, |n| n + 1);
        while let Some((line, time)) = self.stamp_from(region, at) {
            if time >= moment {
                return line;
            }
            at = memchr(b'\n', &region[line..]).map_or(region.len(), |n| line + n + 1);
        }
        region.len()
    }

    fn skip(&mut self, bytes: &[u8]) {
        if let Some(number) = &mut self.number {
            *number = number.saturating_add(u32::try_from(memchr_iter(b'\n', bytes).count()).unwrap_or(u32::MAX));
        }
    }

    /// Whole lines.
    fn region(&mut self, region: &[u8], base: u64) {
        let wanted = self.wanted(region);
        let mut next = 0;
        let mut at = 0;
        while at < region.len() {
            while wanted.get(next).is_some_and(|(_, to)| *to <= at) {
                next += 1;
            }
            let inside = wanted.get(next).is_some_and(|(from, _)| *from <= at);
            if inside || self.taker.wants_more() {
                at = self.deliver(region, at, base);
                continue;
            }
            let limit = wanted.get(next).map_or(region.len(), |(from, _)| *from);
            match self.grammar.find_mark(&region[at..limit]) {
                Some(hit) => {
                    let line = memrchr(b'\n', &region[at..at + hit]).map_or(at, |n| at + n + 1);
                    self.skip(&region[at..line]);
                    at = self.deliver(region, line, base);
                }
                None => {
                    self.skip(&region[at..limit]);
                    at = limit;
                }
            }
        }
    }

    fn deliver(&mut self, region: &[u8], at: usize, base: u64) -> usize {
        let end = memchr(b'\n', &region[at..]).map_or(region.len(), |n| at + n);
        let behind = (end + 1).min(region.len());
        let bytes = region[at..end].strip_suffix(b"\r").unwrap_or(&region[at..end]);
        let bytes = &bytes[..bytes.len().min(LINE_LIMIT)];
        self.taker.line(Line { bytes, start: base + at as u64, end: base + behind as u64, number: self.number });
        self.skip(&region[at..behind]);
        behind
    }
}

impl<T: Taker> Sink for Scan<'_, T> {
    fn take(&mut self, block: &[u8]) -> bool {
        let mut rest = block;
        if !self.carry.is_empty() || self.cut {
            let Some(end) = memchr(b'\n', rest) else {
                let room = LINE_LIMIT.saturating_sub(self.carry.len());
                if self.cut || rest.len() > room {
                    self.cut = true;
                    self.carry.extend_from_slice(&rest[..rest.len().min(room)]);
                } else {
                    self.carry.extend_from_slice(rest);
                }
                self.at += rest.len() as u64;
                return true;
            };
            let (last, behind) = rest.split_at(end + 1);
            let mut whole = std::mem::take(&mut self.carry);
            let start = self.at - if self.cut { 0 } else { whole.len() as u64 };
            if self.cut {
                whole.push(b'\n');
            } else {
                whole.extend_from_slice(last);
            }
            self.cut = false;
            self.region(&whole, start);
            self.at += last.len() as u64;
            rest = behind;
        }
        let lines = memrchr(b'\n', rest).map_or(0, |n| n + 1);
        let (whole, open) = rest.split_at(lines);
        self.region(whole, self.at);
        self.at += whole.len() as u64;
        self.cut = open.len() > LINE_LIMIT;
        self.carry.extend_from_slice(&open[..open.len().min(LINE_LIMIT)]);
        self.at += open.len() as u64;
        true
    }
}

/// Where to begin in a plain piece so that the last attempts are in it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Start {
    /// At this offset.
    At(u64),
    /// The whole piece is needed, and this many attempts are still wanted from before it.
    Before(usize),
}

/// Looks for the beginnings of the last attempts, from the end of a plain piece backwards.
pub(super) fn last_begins(snapshot: &Snapshot, piece: &Piece, grammar: &Grammar, begins: impl Fn(&str, Option<&str>) -> bool, mut wanted: usize) -> Start {
    let overlap = grammar.longest_mark() as u64 + LINE_LIMIT as u64 / 16;
    let mut end = piece.size;
    // The line of the mark before the one that is looked at: where a reload says what a start says, it tells which it is.
    let mut later: Option<(u64, String)> = None;
    while end > 0 {
        let start = end.saturating_sub(u64::from(super::pieces::BLOCK));
        let until = (end + overlap).min(piece.size);
        let Some(block) = snapshot.read_at(&piece.path, start, u32::try_from(until - start).unwrap_or(u32::MAX)).seen() else { break };
        let mut hits: Vec<(u64, String)> = Vec::new();
        let mut at = 0;
        while let Some(hit) = grammar.find_mark(&block[at.min(block.len())..]) {
            let hit = at + hit;
            let line = memrchr(b'\n', &block[..hit]).map_or(0, |n| n + 1);
            let line_end = memchr(b'\n', &block[hit..]).map_or(block.len(), |n| hit + n);
            at = line_end + 1;
            // A hit behind the block's own part was found by the block after it.
            if start + hit as u64 >= end {
                break;
            }
            hits.push((start + line as u64, String::from_utf8_lossy(&block[line..line_end]).into_owned()));
            if at >= block.len() {
                break;
            }
        }
        for (offset, text) in hits.into_iter().rev() {
            if let Some((at, line)) = later.take()
                && begins(&line, Some(&text))
            {
                wanted -= 1;
                if wanted == 0 {
                    return Start::At(at);
                }
            }
            later = Some((offset, text));
        }
        end = start;
    }
    if let Some((at, line)) = later
        && begins(&line, None)
    {
        wanted -= 1;
        if wanted == 0 {
            return Start::At(at);
        }
    }
    Start::Before(wanted)
}

/// Where the first line stands that is not earlier than a moment, in a plain piece, by halving; 0 where nothing tells.
pub(super) fn offset_of_time(snapshot: &Snapshot, piece: &Piece, grammar: &Grammar, zone: &TimeZone, moment: i64) -> u64 {
    const LOOK: u32 = 8 << 10;
    let latest = (piece.modified > 0).then_some(piece.modified * 1_000_000);
    let stamp = |at: u64| -> Option<i64> {
        let block = snapshot.read_at(&piece.path, at, LOOK).seen()?;
        let mut lines = block.split(|b| *b == b'\n');
        if at > 0 {
            lines.next();
        }
        lines.find_map(|l| grammar.head(&String::from_utf8_lossy(l), Around { zone, before: None, latest }).map(|h| h.time))
    };
    let (mut low, mut high) = (0, piece.size);
    while high - low > u64::from(LOOK) {
        let middle = low + (high - low) / 2;
        match stamp(middle) {
            Some(time) if time < moment => low = middle,
            Some(_) => high = middle,
            // Nothing there has a stamp: what comes before it is looked at, so that nothing is lost.
            None => high = middle,
        }
    }
    if low == 0 {
        return 0;
    }
    let block = snapshot.read_at(&piece.path, low, LOOK).seen();
    block.and_then(|b| memchr(b'\n', &b)).map_or(low, |n| low + n as u64 + 1)
}
