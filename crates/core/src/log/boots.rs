//! When the host came up, as far as it is on record: a run that the host's going down ended was killed by
//! nobody.
use crate::host::{FileKind, Look};
use crate::snapshot::Snapshot;

/// Records of logins and of the host's coming up (utmp(5)).
const RECORD: &str = "/var/log/wtmp";
/// Bytes of an entry of the record.
const ENTRY: usize = 384;
/// Entries, the newest ones, that are read.
const ENTRIES: usize = 4096;
/// Type of an entry that says that the host came up.
const BOOT_TIME: i16 = 2;

/// Moments at which the host came up.
pub(super) struct Boots {
    /// Microseconds since the epoch, in order.
    times: Vec<i64>,
    /// From here on every one is known; `None` where none is.
    known_from: Option<i64>,
}

impl Boots {
    /// Whether it is known that the host did not come up anew after a moment and before another, or before
    /// now.
    pub(super) fn none_between(&self, after: i64, before: Option<i64>) -> bool {
        let before = before.unwrap_or(i64::MAX);
        self.known_from.is_some_and(|from| from <= after)
            && !self.times.iter().any(|t| *t > after && *t <= before)
    }
}

/// When the host came up: the kernel's word for the last time, the record for those before.
pub(super) fn boots(snapshot: &Snapshot) -> Boots {
    let mut times = Vec::new();
    let mut known_from = None;
    if let Look::Seen(status) = snapshot.stat(RECORD)
        && status.kind == FileKind::Regular
    {
        let entries = (status.size / ENTRY as u64).min(ENTRIES as u64);
        let from = (status.size / ENTRY as u64 - entries) * ENTRY as u64;
        let length = u32::try_from(entries * ENTRY as u64).unwrap_or(0);
        for entry in snapshot.read_at(RECORD, from, length).seen().unwrap_or_default().chunks_exact(ENTRY) {
            let kind = i16::from_le_bytes([entry[0], entry[1]]);
            let seconds = i32::from_le_bytes([entry[340], entry[341], entry[342], entry[343]]);
            let time = i64::from(seconds) * 1_000_000;
            if kind == BOOT_TIME {
                times.push(time);
                known_from.get_or_insert(time);
            }
        }
    }
    if let Some(booted) = snapshot.clock().seen().and_then(|c| c.booted) {
        times.push(booted);
        known_from.get_or_insert(booted);
    }
    times.sort_unstable();
    Boots { times, known_from }
}
