//! A directory in place of a machine: a mounted disk, an unpacked image. Only files exist.
use crate::{files, journal_files};
use jolly_core::host::{Answer, Host, Look, Myself, Parts, Question, Unseen};
use std::path::{Path, PathBuf};

/// The host below a directory.
#[derive(Debug)]
pub struct TreeHost {
    root: PathBuf,
    /// The file that was read last.
    held: files::Held,
}

impl TreeHost {
    /// The tree below `root`.
    ///
    /// # Errors
    /// A sentence when it is no directory.
    pub fn new(root: &Path) -> Result<Self, String> {
        // Not resolved: what /proc/PID/root leads to has no name of its own in this program's tree.
        let root = std::path::absolute(root).map_err(|e| format!("{}: {e}", root.display()))?;
        let kind = std::fs::metadata(&root).map_err(|e| format!("{}: {e}", root.display()))?;
        if !kind.is_dir() {
            return Err(format!("{} is no directory", root.display()));
        }
        Ok(Self { root, held: files::Held::default() })
    }
}

impl Host for TreeHost {
    fn ask(&self, question: &Question) -> Look<Answer> {
        let path = |p: &str| files::below(&self.root, p, true);
        match question {
            Question::Stat(p) => files::status(&path(p), true),
            Question::LinkStat(p) => files::status(&files::below(&self.root, p, false), false),
            Question::ReadLink(p) => files::link(&files::below(&self.root, p, false)),
            Question::List(p) => files::list(&path(p)),
            Question::Read(p) if p.starts_with("/proc/") || p.starts_with("/sys/") => Look::NotSeen(Unseen::PartMissing),
            Question::Read(p) => files::read(&path(p)),
            Question::FindString(p, needle, whole) => files::find_string(&path(p), needle, *whole),
            Question::ReadAt(p, offset, length) => self.held.read_at(&path(p), *offset, *length),
            Question::Journal(unit, most) => journal_files::entries(&self.root, unit, *most),
            Question::JournalOf(field, most) => journal_files::entries_of(&self.root, field, *most),
            Question::Myself => Look::Seen(Answer::Myself(Myself { uid: rustix::process::geteuid().as_raw(), lineage: Vec::new() })),
            _ => Look::NotSeen(Unseen::PartMissing),
        }
    }
    fn read_into(&self, path: &str, offset: u64, room: &mut [u8]) -> Look<usize> {
        self.held.read_into(&files::below(&self.root, path, true), offset, room)
    }
    fn parts(&self) -> Parts {
        Parts { files: true, processes: false, manager: false, interfaces: false, clock: false, probes: false }
    }
}
