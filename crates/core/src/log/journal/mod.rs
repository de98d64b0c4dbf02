//! The manager's journal, read from its files by their published format: data objects are found by hash,
//! their entry arrays are followed from the newest end, and nothing else of the file is touched.
use crate::host::JournalEntry;
use std::cell::RefCell;
use std::collections::HashMap;
use std::hash::Hasher;
use std::io::Read as _;
use std::sync::Arc;

/// Bytes of a file: offset and length in, what is there out (shorter at the end), `None` on failure.
pub type ReadAt<'f> = Box<dyn Fn(u64, u32) -> Option<Vec<u8>> + 'f>;

const BLOCK: u64 = 32 << 10;
const KEYED: u32 = 4;
const COMPACT: u32 = 16;
/// Longest field that is looked at, in bytes.
const FIELD_LIMIT: u64 = 64 << 10;

/// One journal file.
struct File<'f> {
    read: ReadAt<'f>,
    blocks: RefCell<HashMap<u64, Arc<[u8]>>>,
    keyed: bool,
    compact: bool,
    id: [u8; 16],
    table: u64,
    slots: u64,
}

/// The newest entries of a unit out of several files, newest first: those the unit's processes wrote and
/// those the manager wrote about it.
pub fn newest<'f>(files: Vec<ReadAt<'f>>, unit: &str, most: usize) -> Vec<JournalEntry> {
    newest_with(
        files,
        &["_SYSTEMD_UNIT", "UNIT", "OBJECT_SYSTEMD_UNIT"].map(|field| format!("{field}={unit}")),
        most,
    )
}

/// The newest entries that have one of these fields, each written `FIELD=value`, newest first. Anybody may
/// write a field whose name does not begin with `_`; so lines with `UNIT=` count from the manager alone, and
/// from a process of root's of which the journal knows no unit; with `OBJECT_SYSTEMD_UNIT=` from root
/// (systemd.journal-fields(7)).
pub fn newest_with<'f>(files: Vec<ReadAt<'f>>, fields: &[String], most: usize) -> Vec<JournalEntry> {
    let about: Vec<&str> = fields
        .iter()
        .filter_map(|f| f.strip_prefix("OBJECT_SYSTEMD_UNIT=").or_else(|| f.strip_prefix("UNIT=")))
        .collect();
    let mut found: Vec<Timed> = Vec::new();
    for read in files {
        let Some(file) = File::open(read) else { continue };
        let mut offsets: Vec<u64> = Vec::new();
        for field in fields {
            offsets.extend(file.entries_with(field, most));
        }
        offsets.sort_unstable();
        offsets.dedup();
        // From the newest on: what others wrote about a unit must not push out its own lines.
        let mut valid: Vec<Timed> =
            offsets.into_iter().rev().filter_map(|o| file.entry(o, &about)).take(most).collect();
        valid.reverse();
        found.extend(valid);
    }
    // Lines written at once carry one time: the later one in the file is the newer one.
    found.reverse();
    order(&mut found);
    let mut found: Vec<JournalEntry> = found.into_iter().map(|timed| timed.entry).collect();
    found.dedup_by(|a, b| a.time == b.time && a.message == b.message && a.pid == b.pid);
    found.truncate(most);
    found
}

/// An entry with its two clocks, in microseconds.
struct Timed {
    entry: JournalEntry,
    /// When it was received, by the host's clock.
    received: i64,
    /// The same by the clock that nobody sets, since the host came up.
    steady: i64,
}

/// A difference between the two clocks that is no drift, in microseconds.
const SET: i64 = 2_000_000;

/// The newest first. Where the host's clock was set while it ran, the order is that of the other one.
fn order(found: &mut [Timed]) {
    let mut newest: HashMap<String, (i64, i64)> = HashMap::new();
    for timed in found.iter() {
        let ahead = timed.received - timed.steady;
        let last = newest.entry(timed.entry.boot.clone()).or_insert((timed.steady, ahead));
        if timed.steady > last.0 {
            *last = (timed.steady, ahead);
        }
    }
    let was_set: std::collections::HashSet<String> = found
        .iter()
        .filter(|t| newest.get(&t.entry.boot).is_some_and(|n| (t.received - t.steady - n.1).abs() > SET))
        .map(|t| t.entry.boot.clone())
        .collect();
    found.sort_by_cached_key(|timed| {
        let time = i64::try_from(timed.entry.time).unwrap_or(i64::MAX);
        let meant = match newest.get(&timed.entry.boot) {
            Some((_, ahead)) if was_set.contains(&timed.entry.boot) => {
                timed.steady + ahead + (time - timed.received)
            }
            _ => time,
        };
        std::cmp::Reverse(meant)
    });
}

impl<'f> File<'f> {
    fn open(read: ReadAt<'f>) -> Option<Self> {
        let head = read(0, 208)?;
        if head.get(..8)? != b"LPKSHHRH" {
            return None;
        }
        let flags = u32_at(&head, 12)?;
        let mut file = Self {
            read,
            blocks: RefCell::default(),
            keyed: flags & KEYED != 0,
            compact: flags & COMPACT != 0,
            id: head.get(24..40)?.try_into().ok()?,
            table: u64_at(&head, 104)?,
            slots: u64_at(&head, 112)? / 16,
        };
        // Flags beyond the known ones may change the layout: better nothing than nonsense.
        if flags & !31 != 0 || file.slots == 0 {
            return None;
        }
        file.slots = file.slots.max(1);
        Some(file)
    }

    fn bytes(&self, offset: u64, length: u64) -> Option<Vec<u8>> {
        let mut out = Vec::with_capacity(usize::try_from(length).ok()?);
        let end = offset.checked_add(length)?;
        let mut at = offset;
        while at < end {
            let start = at / BLOCK * BLOCK;
            let block = self.block(start)?;
            let from = usize::try_from(at - start).ok()?;
            let to = usize::try_from((end - start).min(BLOCK)).ok()?.min(block.len());
            if from >= to {
                return None;
            }
            out.extend_from_slice(&block[from..to]);
            at = start + to as u64;
        }
        Some(out)
    }

    fn block(&self, start: u64) -> Option<Arc<[u8]>> {
        if let Some(block) = self.blocks.borrow().get(&start) {
            return Some(block.clone());
        }
        let block: Arc<[u8]> = (self.read)(start, u32::try_from(BLOCK).ok()?)?.into();
        let mut blocks = self.blocks.borrow_mut();
        if blocks.len() > 256 {
            blocks.clear();
        }
        blocks.insert(start, block.clone());
        Some(block)
    }

    fn number(&self, offset: u64) -> Option<u64> {
        u64_at(&self.bytes(offset, 8)?, 0)
    }

    fn hash(&self, data: &[u8]) -> u64 {
        if self.keyed {
            let key = |range: std::ops::Range<usize>| {
                self.id.get(range).and_then(|k| k.try_into().ok()).map_or(0, u64::from_le_bytes)
            };
            let mut hasher = siphasher::sip::SipHasher24::new_with_keys(key(0..8), key(8..16));
            hasher.write(data);
            hasher.finish()
        } else {
            jenkins(data)
        }
    }

    /// Offsets of the newest entries that carry this field, oldest first, at most `most`.
    fn entries_with(&self, data: &str, most: usize) -> Vec<u64> {
        self.data_object(data.as_bytes())
            .and_then(|object| self.entry_offsets(object, most))
            .unwrap_or_default()
    }

    fn data_object(&self, data: &[u8]) -> Option<u64> {
        let hash = self.hash(data);
        let mut at = self.number(self.table + hash % self.slots * 16)?;
        for _ in 0..100_000 {
            if at == 0 {
                return None;
            }
            let head = self.bytes(at, 64)?;
            if u64_at(&head, 16)? == hash && self.payload(at)? == data {
                return Some(at);
            }
            at = u64_at(&head, 24)?;
        }
        None
    }

    /// A data object's content, decompressed.
    fn payload(&self, at: u64) -> Option<Vec<u8>> {
        let head = self.bytes(at, 16)?;
        let offset = if self.compact { 72 } else { 64 };
        let size = u64_at(&head, 8)?.checked_sub(offset)?;
        if *head.first()? != 1 {
            return None;
        }
        let raw = self.bytes(at + offset, size.min(FIELD_LIMIT))?;
        match head.get(1)? & 7 {
            0 => Some(raw),
            1 => {
                let mut out = Vec::new();
                std::io::Read::take(
                    lzma_rust2::XzReader::new_mem_limit(raw.as_slice(), false, 16 << 10),
                    8 << 20,
                )
                .read_to_end(&mut out)
                .ok()?;
                Some(out)
            }
            2 => {
                let size = usize::try_from(u64_at(&raw, 0)?).ok()?.min(8 << 20);
                lz4_flex::block::decompress(raw.get(8..)?, size).ok()
            }
            4 => zstd::bulk::decompress(&raw, 8 << 20).ok(),
            _ => None,
        }
    }

    fn entry_offsets(&self, object: u64, most: usize) -> Option<Vec<u64>> {
        let head = self.bytes(object, 64)?;
        let mut left = u64_at(&head, 56)?;
        let mut found = Vec::new();
        let first = u64_at(&head, 40)?;
        if first != 0 {
            found.push(first);
            left = left.saturating_sub(1);
        }
        // Arrays only point forward, so the chain is walked once; each array but the tail is skipped by its
        // size.
        let width: u64 = if self.compact { 4 } else { 8 };
        let mut arrays = Vec::new();
        let mut at = u64_at(&head, 48)?;
        while at != 0 && left > 0 && arrays.len() < 100_000 {
            let head = self.bytes(at, 24)?;
            if *head.first()? != 6 {
                break;
            }
            let room = u64_at(&head, 8)?.checked_sub(24)? / width;
            let used = room.min(left);
            arrays.push((at + 24, used));
            left -= used;
            at = u64_at(&head, 16)?;
        }
        let mut newest = Vec::new();
        for (start, used) in arrays.into_iter().rev() {
            let take = used.min(most.saturating_sub(newest.len()) as u64);
            let raw = self.bytes(start + (used - take) * width, take * width)?;
            let size = usize::try_from(width).ok()?;
            for item in raw.chunks_exact(size).rev() {
                let offset = if self.compact { u64::from(u32_at(item, 0)?) } else { u64_at(item, 0)? };
                if offset != 0 {
                    newest.push(offset);
                }
            }
            if newest.len() >= most {
                break;
            }
        }
        newest.reverse();
        if newest.len() < most {
            found.extend(newest);
            Some(found)
        } else {
            Some(newest)
        }
    }

    fn entry(&self, at: u64, about: &[&str]) -> Option<Timed> {
        let head = self.bytes(at, 64)?;
        if *head.first()? != 3 {
            return None;
        }
        let size = u64_at(&head, 8)?.checked_sub(64)?;
        let items = self.bytes(at + 64, size.min(64 << 10))?;
        let width = if self.compact { 4 } else { 16 };
        let boot: String = head.get(40..56)?.iter().map(|b| format!("{b:02x}")).collect();
        let mut entry =
            JournalEntry { time: u64_at(&head, 24)?, boot, priority: 6, ..JournalEntry::default() };
        let mut source = None;
        let (mut uid, mut own, mut by_manager, mut by_root, mut told) =
            (None, false, false, false, String::new());
        let mut placed = false;
        for item in items.chunks_exact(width) {
            let offset = if self.compact { u64::from(u32_at(item, 0)?) } else { u64_at(item, 0)? };
            let Some(data) = self.payload(offset) else { continue };
            let Some(equals) = memchr::memchr(b'=', &data) else { continue };
            let value = String::from_utf8_lossy(&data[equals + 1..]);
            match &data[..equals] {
                b"MESSAGE" => entry.message = value.into_owned(),
                b"MESSAGE_ID" => entry.message_id = value.into_owned(),
                b"_SYSTEMD_INVOCATION_ID" if value.len() == 32 => entry.invocation = value.into_owned(),
                b"INVOCATION_ID" if value.len() == 32 => told = value.into_owned(),
                b"_UID" => uid = value.parse::<u32>().ok(),
                b"_SYSTEMD_UNIT" => (own, placed) = (about.contains(&value.as_ref()), true),
                b"UNIT" => by_manager |= about.contains(&value.as_ref()),
                b"OBJECT_SYSTEMD_UNIT" => by_root |= about.contains(&value.as_ref()),
                b"_PID" => entry.pid = value.parse().unwrap_or(0),
                b"PRIORITY" => entry.priority = value.parse().unwrap_or(6),
                b"SYSLOG_IDENTIFIER" => entry.identifier = value.into_owned(),
                b"_COMM" if entry.identifier.is_empty() => entry.identifier = value.into_owned(),
                b"JOB_RESULT" | b"UNIT_RESULT" => entry.result = value.into_owned(),
                b"EXIT_CODE" => entry.exit = format!("{value}{}", entry.exit),
                b"EXIT_STATUS" => entry.exit = format!("{}/{value}", entry.exit.trim_end_matches('/')),
                b"_SOURCE_REALTIME_TIMESTAMP" => source = value.parse().ok(),
                _ => {}
            }
        }
        entry.from_manager = entry.pid == 1;
        let root = uid == Some(0);
        // What the manager's child says that could not become the program: it is gone before the journal can
        // find out whose it was, and only who it was is known.
        let lost = by_manager && root && !placed;
        // As the manager's line about the unit, or as root's about its process.
        let told_by_manager = entry.from_manager || lost || (by_root && root);
        let counts = if by_manager { told_by_manager } else { !by_root || root };
        if !own && !counts {
            return None;
        }
        // Whose run it speaks of is the manager's to say; of its own lines the journal itself knows.
        if (entry.from_manager || lost) && !told.is_empty() {
            entry.invocation = told;
        }
        let received = i64::try_from(entry.time).ok()?;
        let steady = i64::try_from(u64_at(&head, 32)?).ok()?;
        entry.time = source.unwrap_or(entry.time);
        Some(Timed { entry, received, steady })
    }
}

fn u64_at(bytes: &[u8], at: usize) -> Option<u64> {
    Some(u64::from_le_bytes(bytes.get(at..at + 8)?.try_into().ok()?))
}

fn u32_at(bytes: &[u8], at: usize) -> Option<u32> {
    Some(u32::from_le_bytes(bytes.get(at..at + 4)?.try_into().ok()?))
}

/// Bob Jenkins' lookup3 in its two-word form, as journals without keyed hashes use it (public domain).
fn jenkins(data: &[u8]) -> u64 {
    let start = 0xdead_beef_u32.wrapping_add(u32::try_from(data.len()).unwrap_or(u32::MAX));
    let (mut a, mut b, mut c) = (start, start, start);
    let word = |chunk: &[u8], at: usize| -> u32 {
        (0..4)
            .map(|i| u32::from(chunk.get(at + i).copied().unwrap_or(0)) << (8 * i))
            .fold(0, |sum, part| sum | part)
    };
    let mut rest = data;
    while rest.len() > 12 {
        a = a.wrapping_add(word(rest, 0));
        b = b.wrapping_add(word(rest, 4));
        c = c.wrapping_add(word(rest, 8));
        a = a.wrapping_sub(c) ^ c.rotate_left(4);
        c = c.wrapping_add(b);
        b = b.wrapping_sub(a) ^ a.rotate_left(6);
        a = a.wrapping_add(c);
        c = c.wrapping_sub(b) ^ b.rotate_left(8);
        b = b.wrapping_add(a);
        a = a.wrapping_sub(c) ^ c.rotate_left(16);
        c = c.wrapping_add(b);
        b = b.wrapping_sub(a) ^ a.rotate_left(19);
        a = a.wrapping_add(c);
        c = c.wrapping_sub(b) ^ b.rotate_left(4);
        b = b.wrapping_add(a);
        rest = &rest[12..];
    }
    if !rest.is_empty() {
        a = a.wrapping_add(word(rest, 0));
        b = b.wrapping_add(word(rest, 4));
        c = c.wrapping_add(word(rest, 8));
        c = (c ^ b).wrapping_sub(b.rotate_left(14));
        a = (a ^ c).wrapping_sub(c.rotate_left(11));
        b = (b ^ a).wrapping_sub(a.rotate_left(25));
        c = (c ^ b).wrapping_sub(b.rotate_left(16));
        a = (a ^ c).wrapping_sub(c.rotate_left(4));
        b = (b ^ a).wrapping_sub(a.rotate_left(14));
        c = (c ^ b).wrapping_sub(b.rotate_left(24));
    }
    u64::from(c) << 32 | u64::from(b)
}

#[cfg(test)]
mod tests;
