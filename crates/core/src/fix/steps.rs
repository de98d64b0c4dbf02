//! Single steps of a change. Every step says what it expects to find.
use crate::host::{FileKind, FileStatus};
use serde::{Deserialize, Serialize};
use sha2::Digest as _;

/// SHA-256 of a file's bytes, in hexadecimal.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Digest(pub String);

/// The digest of bytes.
pub fn digest(bytes: &[u8]) -> Digest {
    Digest(sha2::Sha256::digest(bytes).iter().map(|b| format!("{b:02x}")).collect())
}

/// What tells one file from another that has its name later.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Identity {
    /// Device number.
    pub device: u64,
    /// Inode number.
    pub inode: u64,
    /// Sort of file.
    pub kind: FileKind,
    /// Owner.
    pub uid: u32,
    /// Group.
    pub gid: u32,
    /// Permission bits.
    pub mode: u32,
}

impl Identity {
    /// That of a file as it was seen.
    pub fn of(status: &FileStatus) -> Self {
        Self { device: status.device, inode: status.inode, kind: status.kind, uid: status.uid, gid: status.gid, mode: status.mode }
    }
    /// Whether a file is the very one, whatever became of its owner and mode since.
    pub fn is(&self, status: &FileStatus) -> bool {
        (self.device, self.inode, self.kind) == (status.device, status.inode, status.kind)
    }
}

/// The object of a step on files: a real path, and what stood there when the change was planned.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Target {
    /// The path, links resolved.
    pub path: String,
    /// Accounts besides root that may own directories on the way: those of the service.
    #[serde(default)]
    pub keepers: Vec<u32>,
    /// What is there; `None` where the name is free.
    #[serde(default)]
    pub was: Option<Identity>,
}

impl Target {
    /// A free name that only root's directories lead to.
    pub fn free(path: &str) -> Self {
        Self { path: path.to_owned(), keepers: Vec::new(), was: None }
    }
}

/// What a command of the services file is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Purpose {
    /// It starts the service.
    Start,
    /// It stops the service.
    Stop,
    /// It makes the service read its configuration anew.
    Reload,
}

/// A command of the services file, ready to be run.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct CommandLine {
    /// Command line.
    pub command: String,
    /// Environment.
    pub environment: Vec<(String, String)>,
    /// Account; the caller's where there is none.
    pub account: Option<String>,
}

/// One step.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "do")]
pub enum Step {
    /// Replaces a file's content.
    Edit {
        /// The file.
        target: Target,
        /// Digest of the bytes that the plan was made from.
        before: Digest,
        /// The new bytes. Kept out of the record: they are stored beside it.
        #[serde(skip)]
        content: Vec<u8>,
        /// Digest of the new bytes.
        after: Digest,
    },
    /// Makes a file that was not there, readable by all, of root.
    Create {
        /// The file.
        target: Target,
        /// Its bytes. Kept out of the record.
        #[serde(skip)]
        content: Vec<u8>,
        /// Their digest.
        after: Digest,
    },
    /// Sets permission bits.
    Mode {
        /// The file.
        target: Target,
        /// Bits before.
        from: u32,
        /// Bits after.
        to: u32,
    },
    /// Sets owner and group.
    Owner {
        /// The file.
        target: Target,
        /// User and group before.
        from: (u32, u32),
        /// User and group after.
        to: (u32, u32),
    },
    /// Makes a directory.
    Directory {
        /// The directory.
        target: Target,
        /// Mode.
        mode: u32,
        /// Owner and group.
        owner: (u32, u32),
    },
    /// Moves a file aside, within its directory.
    Rename {
        /// The file.
        target: Target,
        /// Its new path.
        to: String,
    },
    /// Makes or removes a symbolic link.
    SymbolicLink {
        /// The link.
        target: Target,
        /// Where it led before.
        before: Option<String>,
        /// Where it leads after.
        after: Option<String>,
    },
    /// Tells the manager about a unit file.
    UnitFile {
        /// `enable`, `disable`, `mask`, `unmask`.
        verb: String,
        /// Unit.
        unit: String,
        /// Units that its `Also=` names: their links change along with its own.
        #[serde(default)]
        also: Vec<String>,
    },
    /// A job of the manager.
    Job {
        /// `start`, `stop`, `restart`, `reload`.
        verb: String,
        /// Unit.
        unit: String,
    },
    /// Clears the manager's record of failures.
    ResetFailed {
        /// Unit.
        unit: String,
    },
    /// Makes the manager read its files anew.
    ReloadManager,
    /// Ends a process.
    End {
        /// Process.
        pid: u32,
        /// Its start, so that nobody else is hit.
        start_ticks: u64,
        /// Its name, for people.
        name: String,
        /// It keeps data: it is asked to end and waited for, and never killed hard.
        #[serde(default)]
        gently: bool,
    },
    /// Lets a halted process go on.
    Continue {
        /// Process.
        pid: u32,
        /// Its start, so that nobody else is meant.
        start_ticks: u64,
        /// Its name, for people.
        name: String,
    },
    /// Runs a command of the services file.
    Run {
        /// What it is for. The way back takes the command of the services file that is valid then, and never one out of a
        /// record.
        purpose: Purpose,
        /// The command as it is shown, secrets masked.
        shown: String,
        /// The command. Kept out of the record.
        #[serde(skip)]
        line: CommandLine,
    },
}

impl Step {
    /// In words, as a promise.
    pub fn spelled(&self) -> String {
        match self {
            Self::Edit { target, .. } => format!("edit {}", target.path),
            Self::Create { target, .. } => format!("make {}", target.path),
            Self::Mode { target, from, to } => format!("set the mode of {} from {from:04o} to {to:04o}", target.path),
            Self::Owner { target, from, to } => format!("give {} from {}:{} to {}:{}", target.path, from.0, from.1, to.0, to.1),
            Self::Directory { target, mode, .. } => format!("make the directory {}, mode {mode:04o}", target.path),
            Self::Rename { target, to } => format!("move {} aside to {to}", target.path),
            Self::SymbolicLink { target, after: Some(after), .. } => format!("link {} to {after}", target.path),
            Self::SymbolicLink { target, .. } => format!("remove the link {}", target.path),
            Self::UnitFile { verb, unit, .. } | Self::Job { verb, unit } => format!("{verb} {unit}"),
            Self::ResetFailed { unit } => format!("clear the manager's record of failures of {unit}"),
            Self::ReloadManager => "make the manager read its unit files anew".into(),
            Self::End { pid, name, .. } => format!("end {name} (pid {pid})"),
            Self::Continue { pid, name, .. } => format!("let {name} (pid {pid}) go on"),
            Self::Run { shown, .. } => format!("run: {shown}"),
        }
    }

    /// What cannot be taken back of it, as a person should know before.
    pub fn irreversible(&self) -> Option<String> {
        match self {
            Self::End { pid, name, .. } => Some(format!("ending {name} (pid {pid}) cannot be undone: nothing starts it again")),
            Self::Continue { pid, name, .. } => Some(format!("{name} (pid {pid}) goes on, and undo does not halt it again")),
            _ => None,
        }
    }
}
