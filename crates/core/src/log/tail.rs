//! A log file from its end, line by line backwards, in blocks.
use crate::snapshot::Snapshot;

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
    let mut lines = 0usize;
    let mut at = 0;
    while at < offset {
        let length = (offset - at).min(1 << 20);
        let bytes = snapshot.read_at(path, at, u32::try_from(length).ok()?).seen()?;
        if bytes.is_empty() {
            return None;
        }
        lines += memchr::memchr_iter(b'\n', &bytes).count();
        at += bytes.len() as u64;
    }
    u32::try_from(lines).ok()
}
