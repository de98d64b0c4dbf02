//! What a receiver of syslog messages kept of a unit: where no journal is there, its files are the only
//! record of what the manager said, and of what the daemon said before its own log was open. Whoever may
//! send a message may send any: all of it is testimony.
use super::grammar::{Around, Grammar};
use super::pieces::{Packing, Sink, feed, pieces};
use super::record::id;
use crate::bounds;
use crate::host::{JournalEntry, Look};
use crate::not_seen::NotSeen;
use crate::snapshot::Snapshot;
use jiff::tz::TimeZone;
use memchr::{memchr, memmem, memrchr};
use std::cell::Cell;
use std::collections::VecDeque;

/// Files in which receivers keep what the manager and daemons send them, in the layouts of the families of
/// distributions.
pub const FILES: &[&str] =
    &["/var/log/syslog", "/var/log/messages", "/var/log/daemon.log", "/var/log/user.log"];
/// Longest line that is looked at, in bytes.
const LINE: usize = 4 << 10;
/// How much of its lines is kept, in bytes.
const KEPT: usize = 8 << 20;
/// How much of a receiver's files is searched for the last starts; for the whole history all of it, in bytes.
const NEWEST: u64 = 64 << 20;

/// Whose lines are looked for.
pub(super) struct Whose<'w> {
    /// The unit.
    pub(super) unit: &'w str,
    /// What it says of itself; older managers name it by that.
    pub(super) description: Option<&'w str>,
    /// Names of its programs; they may hold `*`.
    pub(super) programs: &'w [&'w str],
    /// The zone of the host, for stamps without one.
    pub(super) zone: &'w TimeZone,
    /// How the daemon's own lines begin.
    pub(super) grammar: &'w Grammar,
    /// Whether the whole history is wanted, however long the files are.
    pub(super) all: bool,
}

/// The file that was read, and the newest entries, oldest first; `None` where no receiver kept any.
pub(super) fn entries(
    snapshot: &Snapshot,
    whose: &Whose,
    most: usize,
) -> Option<(String, Vec<JournalEntry>)> {
    FILES.iter().find_map(|file| {
        let mut lines: VecDeque<(String, Option<i64>)> = VecDeque::new();
        let left = Cell::new(if whose.all { bounds::LOG } else { NEWEST });
        let mut room = KEPT;
        for piece in pieces(snapshot, file) {
            if let Look::NotSeen(why) = snapshot.read_at(&piece.path, 0, 1) {
                // A start may stand in the very file that could not be read.
                snapshot.unseen(NotSeen::file(&piece.path, &why));
                continue;
            }
            let latest = (piece.modified > 0).then_some(piece.modified * 1_000_000);
            let mut kept = Lines {
                words: [whose.unit, whose.description.unwrap_or(whose.unit)].map(memmem::Finder::new),
                whose,
                carry: Vec::new(),
                lines: VecDeque::new(),
                most: most - lines.len(),
                room,
            };
            // The newest of it counts.
            let from =
                if piece.packing == Packing::Plain { piece.size.saturating_sub(left.get()) } else { 0 };
            // What is damaged is told where the log is read as a log.
            let _ = feed(snapshot, &piece, from, &mut kept, &left);
            kept.finish();
            room = kept.room;
            for line in kept.lines.into_iter().rev() {
                lines.push_front((line, latest));
            }
            if piece.packing == Packing::Plain {
                left.set(left.get().saturating_sub(piece.size - from));
            }
            if left.get() == 0 {
                let searched = (if whose.all { bounds::LOG } else { NEWEST }) >> 20;
                snapshot.unseen(format!(
                    "{file}: only the newest {searched} MiB were searched for {}",
                    whose.unit
                ));
            }
            if lines.len() >= most || room < LINE || left.get() == 0 {
                break;
            }
        }
        let mut before = None;
        let found: Vec<JournalEntry> = lines
            .into_iter()
            .filter_map(|(line, latest)| {
                let around = Around { zone: whose.zone, before, latest };
                let entry = entry(&line, whose, around)?;
                before = i64::try_from(entry.time).ok();
                Some(entry)
            })
            .collect();
        (!found.is_empty()).then(|| ((*file).to_owned(), found))
    })
}

/// Keeps the newest lines that may be about the unit.
struct Lines<'l> {
    words: [memmem::Finder<'l>; 2],
    whose: &'l Whose<'l>,
    carry: Vec<u8>,
    lines: VecDeque<String>,
    most: usize,
    /// Bytes that may still be kept; older lines give way.
    room: usize,
}

impl Lines<'_> {
    fn line(&mut self, line: &[u8]) {
        let head = &line[..line.len().min(LINE)];
        // A name of a program stands before its process or a colon; nearly every other line ends here.
        let program = || {
            let end = memmem::find(head, b"]: ").or_else(|| memmem::find(head, b": "))?;
            let before = &head[..end];
            let begin = memrchr(b' ', before).map_or(0, |n| n + 1);
            let name = before[begin..].split(|b| *b == b'[').next()?;
            let name = crate::path::name(std::str::from_utf8(name).ok()?);
            Some(self.whose.programs.iter().any(|p| crate::path::matches(p, name, false)))
        };
        if !(self.words.iter().any(|w| w.find(head).is_some()) || program() == Some(true)) {
            return;
        }
        let line = String::from_utf8_lossy(head).into_owned();
        while self.lines.len() >= self.most || self.room < line.len() {
            let Some(oldest) = self.lines.pop_front() else { return };
            self.room += oldest.len();
        }
        self.room -= line.len();
        self.lines.push_back(line);
    }

    fn finish(&mut self) {
        let rest = std::mem::take(&mut self.carry);
        if !rest.is_empty() {
            self.line(&rest);
        }
    }
}

impl Sink for Lines<'_> {
    fn take(&mut self, block: &[u8]) -> bool {
        let mut rest = block;
        while let Some(end) = memchr(b'\n', rest) {
            if self.carry.is_empty() {
                self.line(&rest[..end]);
            } else {
                let room = LINE.saturating_sub(self.carry.len()).min(end);
                self.carry.extend_from_slice(&rest[..room]);
                let whole = std::mem::take(&mut self.carry);
                self.line(&whole);
            }
            rest = &rest[end + 1..];
        }
        let room = LINE.saturating_sub(self.carry.len()).min(rest.len());
        self.carry.extend_from_slice(&rest[..room]);
        true
    }
}

/// One line as the journal would tell it.
fn entry(line: &str, whose: &Whose, around: Around) -> Option<JournalEntry> {
    let head = super::grammar::general_head(line, around)?;
    // The level is the daemon's own word where it stands in brackets behind the head.
    let message = super::grammar::after_program(line, head.length)?;
    let program = head.program.clone()?;
    let entry = JournalEntry {
        time: u64::try_from(head.time).ok()?,
        message: message.trim_end().to_owned(),
        pid: head.pid.unwrap_or(0),
        identifier: program.clone(),
        ..JournalEntry::default()
    };
    if program == "systemd" && head.pid.is_none_or(|p| p == 1) {
        return of_manager(entry, whose);
    }
    // What a client or another instance of the program says has the program's name, too.
    let client = whose.grammar.own_head(&entry.message, around).is_some_and(|h| h.of_client);
    let own = whose.programs.iter().any(|p| crate::path::matches(p, &program, false));
    (own && !client).then_some(entry)
}

/// A line of the manager's, where it is about the unit.
fn of_manager(entry: JournalEntry, whose: &Whose) -> Option<JournalEntry> {
    let message = entry.message.as_str();
    let about = |rest: &str| {
        [Some(whose.unit), whose.description].into_iter().flatten().any(|name| {
            rest.strip_prefix(name).is_some_and(|rest| {
                rest.is_empty() || rest.starts_with([' ', '.', ',']) || rest.starts_with("...")
            })
        })
    };
    let of_job = [
        ("Starting ", id::STARTING),
        ("Started ", id::STARTED),
        ("Failed to start ", id::START_FAILED),
        ("Dependency failed for ", id::START_FAILED),
        ("Stopping ", id::STOPPING),
        ("Stopped ", id::STOPPED),
        ("Reloading ", id::RELOADING),
        ("Reloaded ", id::RELOADED),
    ]
    .into_iter()
    .find(|(words, _)| message.strip_prefix(words).is_some_and(about));
    let (message_id, result, exit) = match of_job {
        Some((_, job)) => (job, String::new(), String::new()),
        None => {
            let skipped =
                message.strip_suffix(" being skipped.").and_then(|m| m.rsplit_once(" resulted in "));
            let words = match skipped {
                Some((_, unit)) if about(unit) => "was skipped",
                Some(_) => return None,
                None => message.strip_prefix(whose.unit)?.strip_prefix([':', ' '])?.trim_start(),
            };
            let quoted = |words: &str| words.split('\'').nth(1).unwrap_or_default().to_owned();
            match words {
                w if w.starts_with("was skipped") => (id::STARTED, String::new(), String::new()),
                w if w.starts_with("Main process exited") || w.starts_with("Control process exited") => {
                    (id::EXITED, String::new(), exit_of(w))
                }
                w if w.starts_with("Failed with result") => (id::UNIT_FAILED, quoted(w), String::new()),
                w if w.starts_with("Deactivated successfully") || w.starts_with("Succeeded") => {
                    (id::DEACTIVATED, String::new(), String::new())
                }
                w if w.starts_with("Scheduled restart job") || w.contains("scheduling restart") => {
                    (id::RESTARTING, String::new(), String::new())
                }
                _ => ("", String::new(), String::new()),
            }
        }
    };
    Some(JournalEntry { message_id: message_id.to_owned(), result, exit, from_manager: true, ..entry })
}

/// `code=exited, status=1/FAILURE` as the journal's fields tell it.
fn exit_of(words: &str) -> String {
    let of = |name: &str| {
        let rest = words.split_once(name)?.1;
        Some(rest[..rest.find([',', ' ']).unwrap_or(rest.len())].to_owned())
    };
    let code = of("code=").unwrap_or_default();
    let status = of("status=").unwrap_or_default();
    // A signal is told by its name, an exit by its number.
    let (number, name) = status.split_once('/').unwrap_or((&status, ""));
    format!("{code}/{}", if code == "exited" || name.is_empty() { number } else { name })
}
