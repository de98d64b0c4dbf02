//! Single steps of a change. Every step says what it expects to find.
use serde::{Deserialize, Serialize};
use sha2::Digest as _;

/// SHA-256 of a file's bytes, in hexadecimal.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Digest(pub String);

/// The digest of bytes.
pub fn digest(bytes: &[u8]) -> Digest {
    Digest(sha2::Sha256::digest(bytes).iter().map(|b| format!("{b:02x}")).collect())
}

/// One step.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "do")]
pub enum Step {
    /// Replaces a file's content.
    Edit {
        /// The file, links resolved.
        path: String,
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
        path: String,
        /// Its bytes. Kept out of the record.
        #[serde(skip)]
        content: Vec<u8>,
        /// Their digest.
        after: Digest,
    },
    /// Sets permission bits.
    Mode {
        /// Path.
        path: String,
        /// Bits before.
        from: u32,
        /// Bits after.
        to: u32,
    },
    /// Sets owner and group.
    Owner {
        /// Path.
        path: String,
        /// User and group before.
        from: (u32, u32),
        /// User and group after.
        to: (u32, u32),
    },
    /// Makes a directory.
    Directory {
        /// Path.
        path: String,
        /// Mode.
        mode: u32,
        /// Owner and group.
        owner: (u32, u32),
    },
    /// Moves a file aside, or back.
    Rename {
        /// From.
        from: String,
        /// To.
        to: String,
    },
    /// Makes or removes a symbolic link.
    SymbolicLink {
        /// Path of the link.
        path: String,
        /// Target before.
        before: Option<String>,
        /// Target after.
        after: Option<String>,
    },
    /// Tells the manager about a unit file.
    UnitFile {
        /// `enable`, `disable`, `mask`, `unmask`.
        verb: String,
        /// Unit.
        unit: String,
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
        /// Command line.
        command: String,
        /// Environment.
        environment: Vec<(String, String)>,
        /// Account.
        account: Option<String>,
        /// Command that undoes it.
        reverse: Option<String>,
    },
}

impl Step {
    /// In words, as a promise.
    pub fn spelled(&self) -> String {
        match self {
            Self::Edit { path, .. } => format!("edit {path}"),
            Self::Create { path, .. } => format!("make {path}"),
            Self::Mode { path, from, to } => format!("set the mode of {path} from {from:04o} to {to:04o}"),
            Self::Owner { path, from, to } => format!("give {path} from {}:{} to {}:{}", from.0, from.1, to.0, to.1),
            Self::Directory { path, mode, .. } => format!("make the directory {path}, mode {mode:04o}"),
            Self::Rename { from, to } => format!("move {from} aside to {to}"),
            Self::SymbolicLink { path, after: Some(target), .. } => format!("link {path} to {target}"),
            Self::SymbolicLink { path, .. } => format!("remove the link {path}"),
            Self::UnitFile { verb, unit } | Self::Job { verb, unit } => format!("{verb} {unit}"),
            Self::ResetFailed { unit } => format!("clear the manager's record of failures of {unit}"),
            Self::ReloadManager => "make the manager read its unit files anew".into(),
            Self::End { pid, name, .. } => format!("end {name} (pid {pid})"),
            Self::Continue { pid, name, .. } => format!("let {name} (pid {pid}) go on"),
            Self::Run { command, .. } => format!("run: {command}"),
        }
    }
}
