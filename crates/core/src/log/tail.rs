//! A log file from its end, line by line backwards, in blocks.
use crate::host::Look;
use crate::snapshot::Snapshot;
use std::num::NonZero;

/// Size of a block, in bytes.
const BLOCK: u32 = 64 << 10;
/// Longest line that is kept whole, in bytes.
const LINE_LIMIT: usize = 64 << 10;

/// One line.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct TailLine {
    /// Its text without the line end; bytes that are no UTF-8 are replaced.
    pub text: String,
    /// Its first byte in the file.
    pub start: u64,
    /// The byte behind it.
    pub end: u64,
}

/// Lines of a file from the last to the first.
pub struct Tail<'s, 'h> {
    snapshot: &'s Snapshot<'h>,
    path: String,
    /// Where the part that was not read yet ends.
    at: u64,
    /// Bytes that are read and not yet handed out.
    pending: Vec<u8>,
    budget: u64,
}

impl<'s, 'h> Tail<'s, 'h> {
    /// Reads at most `budget` bytes of the file.
    pub fn new(snapshot: &'s Snapshot<'h>, path: &str, size: u64, budget: u64) -> Self {
        Self { snapshot, path: path.to_owned(), at: size, pending: Vec::new(), budget }
    }

    fn more(&mut self) -> bool {
        let length = u64::from(BLOCK).min(self.at).min(self.budget);
        if length == 0 {
            return false;
        }
        let start = self.at - length;
        let Some(bytes) =
            self.snapshot.read_at(&self.path, start, u32::try_from(length).unwrap_or(BLOCK)).seen()
        else {
            return false;
        };
        if bytes.is_empty() {
            return false;
        }
        let mut joined = bytes.to_vec();
        joined.append(&mut self.pending);
        self.pending = joined;
        self.at = start;
        self.budget -= length;
        true
    }
}

impl Iterator for Tail<'_, '_> {
    type Item = TailLine;

    fn next(&mut self) -> Option<TailLine> {
        loop {
            let body = self.pending.strip_suffix(b"\n").unwrap_or(&self.pending);
            let newline = memchr::memrchr(b'\n', body);
            let whole = newline.is_some() || self.at == 0 || self.pending.len() > LINE_LIMIT;
            if !whole && self.more() {
                continue;
            }
            if self.pending.is_empty() {
                return None;
            }
            let body = self.pending.strip_suffix(b"\n").unwrap_or(&self.pending);
            let from = newline.map_or(0, |n| n + 1);
            let text = body.get(from..).unwrap_or_default();
            let text = text.strip_suffix(b"\r").unwrap_or(text);
            let line = TailLine {
                text: String::from_utf8_lossy(text).into_owned(),
                start: self.at + from as u64,
                end: self.at + self.pending.len() as u64,
            };
            self.pending.truncate(from);
            return Some(line);
        }
    }
}

/// Number of line ends before `offset`; `None` when more than `limit` bytes would have to be read.
pub fn count_lines(snapshot: &Snapshot, path: &str, offset: u64, limit: u64) -> Option<u32> {
    if offset > limit {
        return None;
    }
    // A quarter of a mebibyte stays in the processor's own memory; what is long is shared among processors.
    let threads = if offset < 16 << 20 {
        1
    } else {
        std::thread::available_parallelism().map_or(1, NonZero::get).min(4) as u64
    };
    let part = offset.div_ceil(threads).max(1);
    let host = snapshot.host();
    let count = |from: u64, to: u64| -> Option<usize> {
        let mut room = vec![0; usize::try_from((to - from).min(256 << 10)).ok()?];
        let (mut at, mut lines) = (from, 0);
        while at < to {
            let length = usize::try_from(to - at).map_or(room.len(), |left| left.min(room.len()));
            let Look::Seen(read @ 1..) = host.read_into(path, at, &mut room[..length]) else { return None };
            lines += memchr::memchr_iter(b'\n', &room[..read]).count();
            at += read as u64;
        }
        Some(lines)
    };
    let lines = std::thread::scope(|scope| {
        let others: Vec<_> = (1..threads)
            .map(|n| {
                let (from, to) = ((n * part).min(offset), ((n + 1) * part).min(offset));
                let other = std::thread::Builder::new().spawn_scoped(scope, move || count(from, to));
                // Without another thread the work is done all the same.
                (other.ok(), from, to)
            })
            .collect();
        let first = count(0, part.min(offset));
        let rest = others
            .into_iter()
            .map(|(other, from, to)| other.map_or_else(|| count(from, to), |other| other.join().ok()?));
        rest.chain([first]).sum::<Option<usize>>()
    });
    u32::try_from(lines?).ok()
}
