//! Lines that matter out of long logs: those with marks, those around them, and those of known spans of time.
//! Everything else is passed over at the speed of a search for a few words.
use super::grammar::{Around, Grammar};
use super::index::{Block, Hit, MOST, Search};
use super::pieces::{BLOCK, Packing, Piece, Sink, feed};
use crate::host::{Host, Look};
use crate::snapshot::Snapshot;
use jiff::tz::TimeZone;
use memchr::{memchr, memchr_iter, memrchr};
use std::cell::Cell;

/// Longest line that is kept whole, in bytes.
const LINE_LIMIT: usize = 64 << 10;

/// One line with its place.
#[derive(Clone, Copy, Debug)]
pub(super) struct LogLine<'b> {
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
    fn line(&mut self, line: LogLine);
    /// The end of what was passed over, before the line that is given next; it begins in the midst of a line
    /// where it does not begin at 0. The second number is where it begins.
    fn passed(&mut self, _bytes: &[u8], _start: u64) {}
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
    /// Where it begins.
    open: u64,
    /// Whether the rest of that line is dropped.
    cut: bool,
    /// How much of it was.
    dropped: u64,
    /// Where the next block begins, unpacked.
    at: u64,
    /// Number of the line that begins or goes on there, from 1.
    number: Option<u32>,
}

impl<'s, T: Taker> Scan<'s, T> {
    /// A scan that begins at an offset, on a line of that number.
    pub(super) fn new(
        grammar: &'s Grammar,
        zone: &'s TimeZone,
        spans: &'s [(i64, i64)],
        taker: &'s mut T,
        at: u64,
        number: Option<u32>,
    ) -> Self {
        Self {
            grammar,
            zone,
            latest: None,
            spans,
            taker,
            carry: Vec::new(),
            open: at,
            cut: false,
            dropped: 0,
            at,
            number,
        }
    }

    /// Reads a piece to its end. `marks` are all marks from where the scan begins on, where they are known;
    /// their lines are counted from there.
    ///
    /// # Errors
    /// A sentence where its packing is damaged. `left` is what may still be unpacked.
    pub(super) fn run(
        mut self,
        snapshot: &Snapshot,
        piece: &Piece,
        marks: Option<&[Hit]>,
        left: &Cell<u64>,
    ) -> Result<(), String> {
        self.latest = (piece.modified > 0).then_some(piece.modified * 1_000_000);
        let from = if piece.packing == Packing::Plain { self.at } else { 0 };
        let outcome = if piece.packing == Packing::Plain && piece.size.saturating_sub(from) > u64::from(BLOCK)
        {
            self.pick(snapshot.host(), piece, marks);
            Ok(())
        } else {
            feed(snapshot, piece, from, &mut self, left)
        };
        self.finish();
        outcome
    }

    /// Reads of a long plain piece what matters.
    fn pick(&mut self, host: &dyn Host, piece: &Piece, marks: Option<&[Hit]>) {
        let (from, to) = (self.at, piece.size);
        let times = (!self.spans.is_empty()).then_some((self.zone, self.latest));
        let search = Search {
            host,
            path: &piece.path,
            from,
            to,
            grammar: self.grammar,
            counted: self.number.is_some(),
            times,
            most: MOST,
        };
        let mut picker =
            Picker { number: self.number, scan: self, host, path: &piece.path, last: None, room: Vec::new() };
        if let (Some(marks), None) = (marks, times) {
            let hits = marks.to_vec();
            picker.block(&Block { start: from, end: to, hits, ..Block::default() }, false);
        } else {
            // How late the lines of a block are is told by the block behind it.
            let mut held: Option<Block> = None;
            search.each(|block| {
                let go_on = held.as_ref().is_none_or(|held| picker.timed(held, block.stamp));
                held = Some(block);
                go_on
            });
            if let Some(block) = held {
                picker.timed(&block, None);
            }
        }
    }

    /// Goes on at the begin of another line.
    fn jump(&mut self, at: u64, number: Option<u32>) {
        self.carry.clear();
        (self.cut, self.dropped) = (false, 0);
        (self.open, self.at, self.number) = (at, at, number);
    }

    /// Where the line begins that is not whole yet.
    fn open(&self) -> u64 {
        if self.carry.is_empty() && !self.cut { self.at } else { self.open }
    }

    /// Keeps what is new of the line that is not whole yet.
    fn keep(&mut self, bytes: &[u8]) {
        let kept = bytes.len().min(LINE_LIMIT.saturating_sub(self.carry.len()));
        self.carry.extend_from_slice(&bytes[..kept]);
        self.dropped += (bytes.len() - kept) as u64;
        self.cut = self.dropped > 0;
    }

    pub(super) fn finish(&mut self) {
        if !self.carry.is_empty() {
            let whole = std::mem::take(&mut self.carry);
            self.region(&whole, self.open);
        }
    }

    fn time(&self, line: &[u8]) -> Option<i64> {
        self.grammar
            .head_of_bytes(line, Around { zone: self.zone, before: None, latest: self.latest })
            .map(|h| h.time)
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
        // Where the clock was put back the lines are not in the order of their stamps.
        if let Some(fold) = super::zone::put_back(low, high, self.zone) {
            let touched = |(from, to): &(i64, i64)| *to >= low - fold && *from <= high + fold;
            return if self.spans.iter().any(touched) { vec![(0, region.len())] } else { Vec::new() };
        }
        let touched = self.spans.iter().filter(|(from, to)| *to >= low && *from <= high);
        touched
            .map(|(from, to)| (self.offset_of(region, *from), self.offset_of(region, to.saturating_add(1))))
            .filter(|(a, b)| a < b)
            .collect()
    }

    fn last_stamp(&self, region: &[u8]) -> Option<i64> {
        let mut end = region.len();
        for _ in 0..64 {
            let body =
                &region[..end.saturating_sub(usize::from(region.get(end.wrapping_sub(1)) == Some(&b'\n')))];
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
            *number =
                number.saturating_add(u32::try_from(memchr_iter(b'\n', bytes).count()).unwrap_or(u32::MAX));
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
                    if line > at {
                        let from = at.max(line.saturating_sub(NEAR_LINES));
                        // At the begin of a line nothing of it is missing.
                        let whole = from == at && from > 0;
                        let from = from - usize::from(whole);
                        self.taker.passed(&region[from..line], base + from as u64);
                    }
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
        self.taker.line(LogLine {
            bytes,
            start: base + at as u64,
            end: base + behind as u64 + self.dropped,
            number: self.number,
        });
        self.skip(&region[at..behind]);
        behind
    }
}

impl<T: Taker> Sink for Scan<'_, T> {
    fn take(&mut self, block: &[u8]) -> bool {
        let mut rest = block;
        if !self.carry.is_empty() || self.cut {
            let Some(end) = memchr(b'\n', rest) else {
                self.keep(rest);
                self.at += rest.len() as u64;
                return true;
            };
            let (last, behind) = rest.split_at(end + 1);
            self.keep(&last[..end]);
            let mut whole = std::mem::take(&mut self.carry);
            whole.push(b'\n');
            self.region(&whole, self.open);
            (self.cut, self.dropped) = (false, 0);
            self.at += last.len() as u64;
            rest = behind;
        }
        let lines = memrchr(b'\n', rest).map_or(0, |n| n + 1);
        let (whole, open) = rest.split_at(lines);
        self.region(whole, self.at);
        self.at += whole.len() as u64;
        self.open = self.at;
        self.keep(open);
        self.at += open.len() as u64;
        true
    }
}

/// Words that stand no further behind what was read are read on to: that is quicker than a jump.
const NEAR: u64 = 16 << 10;
/// How much of what stands before a mark is looked at, in bytes.
const NEAR_LINES: usize = 2 << 10;
/// The first stretch that is read behind a mark, in bytes; each further one is twice as long.
const FIRST: u64 = 4 << 10;

/// Takes a scan from mark to mark.
struct Picker<'p, 's, T: Taker> {
    scan: &'p mut Scan<'s, T>,
    host: &'p dyn Host,
    path: &'p str,
    /// Number of the line in which the block begins that comes next.
    number: Option<u32>,
    /// The last words of a mark so far.
    last: Option<u64>,
    room: Vec<u8>,
}

impl<T: Taker> Picker<'_, '_, T> {
    /// A block whose lines are no later than those of the next one, where its time is known.
    fn timed(&mut self, block: &Block, next: Option<i64>) -> bool {
        let touched = match block.stamp {
            Some(first) => {
                let next = next.unwrap_or(i64::MAX);
                self.scan.spans.iter().any(|(from, to)| *to >= first.min(next) && *from <= first.max(next))
            }
            None => !self.scan.spans.is_empty(),
        };
        self.block(block, touched)
    }

    /// Reads what matters of a block; `false` where it cannot be read.
    fn block(&mut self, block: &Block, whole: bool) -> bool {
        let base = self.number;
        self.number = base.map(|n| n.saturating_add(block.newlines));
        // A line that began in the block before, or those behind a mark there.
        if self.scan.at == block.start && !self.read_on(block.end) {
            return false;
        }
        if whole || block.dense {
            if self.scan.at < block.start {
                match self.line_start(block.start) {
                    Some(start) => self.scan.jump(start, base),
                    // In the midst of an endless line.
                    None => self.scan.jump(block.start, base),
                }
            }
            self.last = block.hits.last().map_or(self.last, |hit| Some(hit.at));
            while self.scan.at < block.end {
                if !self.read(block.end, u64::from(BLOCK)) {
                    return false;
                }
            }
            return true;
        }
        for hit in &block.hits {
            self.last = Some(hit.at);
            if hit.at >= self.scan.at + NEAR {
                let Some(start) = self.line_start(hit.at) else { continue };
                if start > self.scan.at {
                    self.lines_before(start);
                    self.scan.jump(start, base.map(|n| n.saturating_add(hit.newlines)));
                }
            }
            if !self.read_on(block.end) {
                return false;
            }
        }
        true
    }

    /// Reads until the line of the last mark is whole and nothing more is wanted, but not over the end.
    fn read_on(&mut self, end: u64) -> bool {
        let mut length = FIRST;
        while self.scan.at < end
            && (self.scan.taker.wants_more() || self.last.is_some_and(|last| last >= self.scan.open()))
        {
            if !self.read(end, length) {
                return false;
            }
            length = (length * 2).min(u64::from(BLOCK));
        }
        true
    }

    /// Reads on.
    fn read(&mut self, end: u64, length: u64) -> bool {
        let length = usize::try_from(length.min(end - self.scan.at)).unwrap_or(0);
        self.room.resize(self.room.len().max(length), 0);
        match self.host.read_into(self.path, self.scan.at, &mut self.room[..length]) {
            Look::Seen(read) if read > 0 => self.scan.take(&self.room[..read]),
            _ => false,
        }
    }

    /// Gives on the lines before one, as far as they are near.
    fn lines_before(&mut self, start: u64) {
        let from = start.saturating_sub(NEAR_LINES as u64);
        let Ok(length) = usize::try_from(start - from) else { return };
        self.room.resize(self.room.len().max(length), 0);
        if let Look::Seen(read) = self.host.read_into(self.path, from, &mut self.room[..length])
            && read == length
        {
            self.scan.taker.passed(&self.room[..length], from);
        }
    }

    /// Where the line begins that a byte is in; `None` where that is too far away.
    fn line_start(&mut self, at: u64) -> Option<u64> {
        for back in [512, LINE_LIMIT] {
            let from = at.saturating_sub(back as u64);
            let length = usize::try_from(at - from).ok()?;
            self.room.resize(self.room.len().max(length), 0);
            let Look::Seen(read) = self.host.read_into(self.path, from, &mut self.room[..length]) else {
                return None;
            };
            if read < length {
                return None;
            }
            if let Some(newline) = memrchr(b'\n', &self.room[..length]) {
                return Some(from + newline as u64 + 1);
            }
            if from == 0 {
                return Some(0);
            }
        }
        None
    }
}

/// Where to begin in a plain piece so that the last attempts are in it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Start {
    /// At this offset; these are the marks from there on. Where lines are counted, they are from there.
    At(u64, Vec<Hit>),
    /// The whole piece is needed, and this many attempts are still wanted from before it; its marks, where
    /// all were looked for.
    Before(usize, Option<Vec<Hit>>),
}

/// Looks for the beginnings of the last attempts, from the end of a plain piece backwards and not further
/// than `floor`. Lines are counted where that is asked for.
pub(super) fn last_begins(
    host: &dyn Host,
    piece: &Piece,
    grammar: &Grammar,
    begins: impl Fn(&str, Option<&str>) -> bool,
    mut wanted: usize,
    (floor, counted): (u64, bool),
) -> Start {
    let search = Search {
        host,
        path: &piece.path,
        from: floor,
        to: piece.size,
        grammar,
        counted,
        times: None,
        most: usize::MAX,
    };
    // The line of the mark before the one that is looked at: where a reload says what a start says, it tells
    // which it is.
    let mut later: Option<(u64, String)> = None;
    let mut marks: Vec<Hit> = Vec::new();
    let mut found = None;
    let mut whole = floor == 0;
    // Ends of lines between what a mark is counted from and the end of what was looked at.
    let mut behind = 0u32;
    search.each_backwards(|block| {
        behind = behind.wrapping_add(block.newlines);
        for hit in block.hits.iter().rev() {
            let Some((start, line)) = line_around(host, &piece.path, hit.at, piece.size) else { continue };
            if later.as_ref().is_some_and(|(behind, _)| *behind == start) {
                // The border between two blocks goes through this line.
                continue;
            }
            if let Some((at, line_behind)) = later.take()
                && begins(&line_behind, Some(&line))
            {
                wanted -= 1;
                if wanted == 0 {
                    found = Some(at);
                    return false;
                }
            }
            // Where nearly every line has a mark, reading from the begin is no slower.
            if marks.len() >= crate::bounds::MARKS {
                (later, whole) = (None, false);
                return false;
            }
            // From the end, which is all that is known yet.
            marks.push(Hit { at: hit.at, newlines: hit.newlines.wrapping_sub(behind) });
            later = Some((start, line));
        }
        true
    });
    if let (None, Some((at, line))) = (found, later)
        && begins(&line, None)
    {
        wanted -= 1;
        if wanted == 0 {
            found = Some(at);
        }
    }
    marks.reverse();
    // Where a start is the first of its marks, lines are counted from it, else from the begin of the search.
    let from =
        if found.is_some() { marks.first().map_or(0, |first| first.newlines) } else { behind.wrapping_neg() };
    for mark in &mut marks {
        mark.newlines = mark.newlines.wrapping_sub(from);
    }
    match found {
        Some(at) => Start::At(at, marks),
        None => Start::Before(wanted, whole.then_some(marks)),
    }
}

/// The line that a byte is in, with its begin.
fn line_around(host: &dyn Host, path: &str, at: u64, size: u64) -> Option<(u64, String)> {
    let mut room = vec![0; 2 << 10];
    loop {
        let half = room.len() as u64 / 2;
        let (from, to) = (at.saturating_sub(half), (at + half).min(size));
        let length = usize::try_from(to - from).ok()?;
        let Look::Seen(read) = host.read_into(path, from, &mut room[..length]) else { return None };
        let middle = usize::try_from(at - from).ok()?.min(read);
        let start = memrchr(b'\n', &room[..middle]).map(|n| n + 1).or((from == 0).then_some(0));
        let end = memchr(b'\n', &room[middle..read]).map(|n| middle + n).or((to == size).then_some(read));
        match (start, end) {
            (Some(start), Some(end)) => {
                return Some((from + start as u64, String::from_utf8_lossy(&room[start..end]).into_owned()));
            }
            _ if room.len() >= 2 * LINE_LIMIT => {
                let (start, end) = (start?, end.unwrap_or(read));
                return Some((from + start as u64, String::from_utf8_lossy(&room[start..end]).into_owned()));
            }
            _ => room.resize(room.len() * 8, 0),
        }
    }
}

/// The stamp of the last line before an offset of a plain piece. Where the clock shows it twice, the lines
/// before it decide which is meant.
pub(super) fn before(
    snapshot: &Snapshot,
    piece: &Piece,
    grammar: &Grammar,
    zone: &TimeZone,
    offset: u64,
) -> Option<i64> {
    if piece.packing != Packing::Plain {
        return None;
    }
    let latest = (piece.modified > 0).then_some(piece.modified * 1_000_000);
    let mut length = 8u64 << 10;
    loop {
        let from = offset.saturating_sub(length);
        let block = snapshot.read_at(&piece.path, from, u32::try_from(offset - from).ok()?).seen()?;
        let mut last = None;
        let mut sure = from == 0;
        for line in block.split(|b| *b == b'\n').skip(usize::from(from > 0)) {
            let around = Around { zone, before: last, latest };
            if let Some(head) = grammar.head_of_bytes(line, around) {
                sure |= super::zone::twice(head.time, zone).is_none();
                last = Some(head.time);
            }
        }
        if (sure && last.is_some()) || from == 0 || length >= LOOKED_BACK {
            return last;
        }
        length *= 8;
    }
}

/// How far back it is looked for which of two hours is meant, in bytes.
const LOOKED_BACK: u64 = 4 << 20;

/// Where the first line stands that is not earlier than a moment, in a plain piece, by halving; 0 where
/// nothing tells.
pub(super) fn offset_of_time(
    snapshot: &Snapshot,
    piece: &Piece,
    grammar: &Grammar,
    zone: &TimeZone,
    moment: i64,
) -> u64 {
    const LOOK: u32 = 8 << 10;
    let latest = (piece.modified > 0).then_some(piece.modified * 1_000_000);
    let stamp = |at: u64| -> Option<i64> {
        let block = snapshot.read_at(&piece.path, at, LOOK).seen()?;
        let mut lines = block.split(|b| *b == b'\n');
        if at > 0 {
            lines.next();
        }
        lines.find_map(|l| {
            grammar.head(&String::from_utf8_lossy(l), Around { zone, before: None, latest }).map(|h| h.time)
        })
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
