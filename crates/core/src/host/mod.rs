//! The only way to look at a machine: questions with typed answers.
//!
//! A host is made of parts that can each be there or not. One question type and one answer type keep
//! the recorder and the replayer trivial: a bundle is the list of what was asked and answered.
mod answer;
mod login;

pub use answer::*;
pub use login::*;

use serde::{Deserialize, Serialize};

/// What is known of files from an earlier time.
pub trait Remembered {
    /// Whether nothing is known of any file.
    fn is_empty(&self) -> bool;
    /// Whether anything is known of a file.
    fn knows(&self, path: &str) -> bool;
    /// The host as it was recorded then, where it was.
    fn host(&self) -> Option<&dyn Host>;
    /// Whether a file still holds what it held, and who says so; `None` where that is not known.
    fn is_same(&self, path: &str, now: &std::sync::Arc<[u8]>) -> Option<(bool, &str)>;
}

/// What came of a look. "Absent" is knowledge, "not seen" is the lack of it; they never mix.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Look<T> {
    /// The answer.
    Seen(T),
    /// It is known not to be there.
    Absent,
    /// It could not be looked at.
    NotSeen(Unseen),
}

/// Why something could not be looked at.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Unseen {
    /// The system refused.
    Denied,
    /// It went away while being looked at.
    Gone,
    /// This host has no such part (a tree has no processes).
    PartMissing,
    /// The record does not hold this answer.
    NotRecorded,
    /// It did not answer in time.
    TimedOut,
    /// It is larger than what is read, in bytes.
    TooLarge(u64),
    /// A FIFO, device or socket where a regular file was expected.
    NotRegular,
    /// Anything else, in the system's words.
    Failed(String),
}

impl std::fmt::Display for Unseen {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Denied => f.write_str("permission denied"),
            Self::Gone => f.write_str("it went away while being looked at"),
            Self::PartMissing => f.write_str("not in this directory tree"),
            Self::NotRecorded => f.write_str("not recorded"),
            Self::TimedOut => f.write_str("no answer in time"),
            Self::TooLarge(bytes) => write!(f, "{bytes} bytes are more than is read"),
            Self::NotRegular => f.write_str("not a regular file"),
            Self::Failed(words) => f.write_str(words),
        }
    }
}

impl<T> Look<T> {
    /// The answer, if there is one.
    pub fn seen(self) -> Option<T> {
        match self {
            Self::Seen(value) => Some(value),
            _ => None,
        }
    }
    /// Borrowed form.
    pub fn as_ref(&self) -> Look<&T> {
        match self {
            Self::Seen(value) => Look::Seen(value),
            Self::Absent => Look::Absent,
            Self::NotSeen(why) => Look::NotSeen(why.clone()),
        }
    }
    /// Changes the answer, keeps the rest.
    pub fn map<U>(self, change: impl FnOnce(T) -> U) -> Look<U> {
        match self {
            Self::Seen(value) => Look::Seen(change(value)),
            Self::Absent => Look::Absent,
            Self::NotSeen(why) => Look::NotSeen(why),
        }
    }
    /// Whether it is known not to be there.
    pub fn is_absent(&self) -> bool {
        matches!(self, Self::Absent)
    }
}

/// One thing that can be asked of a host. Paths are absolute, as the host sees them.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Question {
    /// Status of a file; symbolic links are followed.
    Stat(String),
    /// Status of a file itself, a link included.
    LinkStat(String),
    /// Target of a symbolic link, as written.
    ReadLink(String),
    /// Names in a directory, sorted.
    List(String),
    /// A regular file's content, bounded by [`READ_LIMIT`].
    Read(String),
    /// The first string of a binary (letters between two NUL bytes) that holds a text, or, with `true`, that
    /// is it.
    FindString(String, String, bool),
    /// Bytes of a regular file: path, offset, length.
    ReadAt(String, u64, u32),
    /// Space on the file system that holds a path.
    Space(String),
    /// The mount table.
    Mounts,
    /// All processes, in brief.
    Processes,
    /// One process in full.
    Process(u32),
    /// All listening sockets.
    Listeners,
    /// Which processes hold these socket inodes.
    SocketOwners(Vec<u64>),
    /// Established connections on a local TCP port.
    Clients(u16),
    /// A unit as the service manager has it.
    Unit(String),
    /// The newest journal entries of a unit, at most this many.
    Journal(String, u32),
    /// The newest journal entries that have a field of a value, written `FIELD=value`, at most this many.
    JournalOf(String, u32),
    /// Addresses of a name, as the host's own look-up of names finds them.
    Resolve(String),
    /// Addresses of all interfaces.
    Addresses,
    /// Time now and time of boot.
    Clock,
    /// Who this program is on that host.
    Myself,
    /// Facts about a private key, which captured evidence holds in its place.
    Key(String),
    /// A server asked in its protocol.
    Probe(ProbeRequest),
    /// A server of data asked to let an account in.
    Login(LoginRequest),
}

/// The most that is read of one configuration file, in bytes.
pub const READ_LIMIT: u64 = crate::bounds::CONFIGURATION;

/// A machine, or what is known of one.
///
/// Several threads may ask at once: long files are searched on all processors.
pub trait Host: Sync {
    /// Answers one question. Never blocks longer than its deadline.
    fn ask(&self, question: &Question) -> Look<Answer>;
    /// The bytes of a file at an offset, into a room that is there already; the answer is how many. The same
    /// as [`Question::ReadAt`] for who reads much and keeps little.
    fn read_into(&self, path: &str, offset: u64, room: &mut [u8]) -> Look<usize> {
        let length = u32::try_from(room.len()).unwrap_or(u32::MAX);
        match self.ask(&Question::ReadAt(path.to_owned(), offset, length)) {
            Look::Seen(Answer::Bytes(bytes)) => {
                let length = bytes.len().min(room.len());
                room[..length].copy_from_slice(&bytes[..length]);
                Look::Seen(length)
            }
            Look::Seen(_) => Look::NotSeen(Unseen::Failed("an answer to another question".into())),
            Look::Absent => Look::Absent,
            Look::NotSeen(why) => Look::NotSeen(why),
        }
    }
    /// Whether it is a record of another one, with secrets masked.
    fn is_record(&self) -> bool {
        false
    }
    /// The parts this host has.
    fn parts(&self) -> Parts;
}

/// Bytes of a log or of the kernel as text. They nearly always are: that is found out quicker than it is
/// mended.
pub fn text(bytes: &[u8]) -> std::borrow::Cow<'_, str> {
    std::str::from_utf8(bytes).map_or_else(|_| String::from_utf8_lossy(bytes), std::borrow::Cow::Borrowed)
}
