//! A directory in place of a machine: a mounted disk, an unpacked image. Only files exist.
use crate::cage::Cage;
use crate::{files, journal_files};
use jolly_core::host::{Answer, Host, Look, Myself, Parts, Question, Unseen};
use std::path::{Path, PathBuf};

/// The host below a directory.
#[derive(Debug)]
pub struct TreeHost {
    /// As it was named; for messages alone.
    #[expect(dead_code, reason = "it tells one tree from another when it is printed")]
    root: PathBuf,
    cage: Cage,
    /// The file that was read last.
    held: files::Held,
}

impl TreeHost {
    /// The tree below `root`.
    ///
    /// # Errors
    /// A sentence when it is not a directory.
    pub fn new(root: &Path) -> Result<Self, String> {
        // Not resolved: what /proc/PID/root leads to has no name of its own in this program's tree.
        let root = std::path::absolute(root).map_err(|e| format!("{}: {e}", root.display()))?;
        let kind = std::fs::metadata(&root).map_err(|e| format!("{}: {e}", root.display()))?;
        if !kind.is_dir() {
            return Err(format!("{} is not a directory", root.display()));
        }
        let cage = Cage::new(&root).map_err(|e| format!("{}: {e}", root.display()))?;
        Ok(Self { root, cage, held: files::Held::default() })
    }

    /// A file of the tree, opened by what its path leads to now.
    fn open(&self, path: &Path) -> Look<std::fs::File> {
        self.cage.look(&path.to_string_lossy(), true, files::opened)
    }
}

impl Host for TreeHost {
    fn ask(&self, question: &Question) -> Look<Answer> {
        match question {
            Question::Stat(p) => self.cage.look(p, true, |p| files::status(p, true)),
            Question::LinkStat(p) => self.cage.look(p, false, |p| files::status(p, true)),
            Question::ReadLink(p) => match self.cage.find(p, false) {
                Ok(node) => files::link_of(&node),
                Err(errno) => files::unseen(errno),
            },
            Question::List(p) => self.cage.look(p, true, files::list),
            Question::Read(p) if p.starts_with("/proc/") || p.starts_with("/sys/") => {
                Look::NotSeen(Unseen::PartMissing)
            }
            Question::Read(p) => self.cage.look(p, true, files::read),
            Question::FindString(p, needle, whole) => {
                self.cage.look(p, true, |p| files::find_string(p, needle, *whole))
            }
            Question::ReadAt(p, offset, length) => {
                self.held.read_at_by(Path::new(p), *offset, *length, |p| self.open(p))
            }
            Question::Journal(unit, most) => journal_files::entries(&self.cage, unit, *most),
            Question::JournalOf(field, most) => journal_files::entries_of(&self.cage, field, *most),
            Question::Myself => Look::Seen(Answer::Myself(Myself {
                uid: rustix::process::geteuid().as_raw(),
                lineage: Vec::new(),
            })),
            _ => Look::NotSeen(Unseen::PartMissing),
        }
    }

    fn read_into(&self, path: &str, offset: u64, room: &mut [u8]) -> Look<usize> {
        self.held.read_into_by(Path::new(path), offset, room, |p| self.open(p))
    }

    fn parts(&self) -> Parts {
        Parts { files: true, ..Parts::default() }
    }
}
