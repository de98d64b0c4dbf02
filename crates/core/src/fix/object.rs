//! What steps are about: files, with what tells one from another that has its name later.
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
        Self {
            device: status.device,
            inode: status.inode,
            kind: status.kind,
            uid: status.uid,
            gid: status.gid,
            mode: status.mode,
        }
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
