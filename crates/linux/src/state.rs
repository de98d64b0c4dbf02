//! Files that this program believes: its journal, its lock, services files. They are taken only from
//! directories that nobody but root and the caller can write, every parent included, and opened without
//! following a link of anybody else.
use crate::descent::{descend, directory, trusted, without_links, words};
use crate::files;
use jolly_core::fix::WriteError;
use jolly_core::host::{FileKind, FileStatus};
use jolly_core::trust::{Last, Refusal, writer};
use rustix::fs::{AtFlags, FlockOperation, Mode, OFlags};
use rustix::io::Errno;
use std::fs::File;
use std::io::{Read, Write};
use std::os::fd::{AsFd, OwnedFd};
use std::path::{Path, PathBuf};

/// Where changes are journalled, below the state directory.
const CHANGES: &str = "changes";
/// The lock, which also tells who holds it.
const LOCK: &str = ".lock";
/// The most that is read of one file of the journal, in bytes.
const JOURNAL_FILE: u64 = 256 << 20;
/// The most that is read of a services file, in bytes.
const SERVICES_FILE: u64 = 4 << 20;

pub(crate) fn failed(what: impl Into<String>, why: impl ToString) -> WriteError {
    WriteError::Failed { what: what.into(), why: why.to_string() }
}

fn absolute(path: &Path) -> Result<String, String> {
    let whole = std::path::absolute(path).map_err(|e| format!("{}: {e}", path.display()))?;
    whole.to_str().map(str::to_owned).ok_or_else(|| format!("{}: the path is not text", whole.display()))
}

/// Who besides root and the caller may write to what is here, in words.
fn foreign(path: &str, status: &FileStatus) -> Option<String> {
    let ours = trusted(&[]);
    if !ours.account(status.uid) {
        return Some(words(&Refusal::Replaceable {
            path: path.to_owned(),
            by: jolly_core::trust::Replacer::Account(status.uid),
        }));
    }
    writer(status, &ours).map(|by| words(&Refusal::Replaceable { path: path.to_owned(), by }))
}

/// A directory that belongs to the caller or to root, opened; made with its parents, mode 0700, where it is
/// missing and `make` says so. `None` where it is missing.
fn open_directory(path: &str, make: bool) -> Result<Option<OwnedFd>, WriteError> {
    let root = directory(Path::new("/")).map_err(|e| failed("open /", e))?;
    for _ in 0..64 {
        match descend(&root, path, Last::Followed, &[]) {
            Ok(found) => {
                let Some((node, status)) = found.node else {
                    if !make {
                        return Ok(None);
                    }
                    make_at(&found.parent.0, &found.name, &found.path)?;
                    continue;
                };
                if status.kind != FileKind::Directory {
                    return Err(WriteError::Refused(format!("{} is not a directory", found.path)));
                }
                let open = rustix::fs::openat(
                    &node,
                    c".",
                    OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC,
                    Mode::empty(),
                );
                return open.map(Some).map_err(|e| failed(format!("open {}", found.path), e));
            }
            Err(Refusal::Missing(missing)) if make => {
                let found = descend(&root, &missing, Last::Itself, &[])
                    .map_err(|r| WriteError::Refused(words(&r)))?;
                make_at(&found.parent.0, &found.name, &missing)?;
            }
            Err(Refusal::Missing(_)) => return Ok(None),
            Err(refusal) => return Err(WriteError::Refused(words(&refusal))),
        }
    }
    Err(WriteError::Refused(format!("{path} goes away while it is made")))
}

fn make_at(parent: &OwnedFd, name: &str, path: &str) -> Result<(), WriteError> {
    match rustix::io::retry_on_intr(|| rustix::fs::mkdirat(parent, name, Mode::RWXU)) {
        Ok(()) | Err(Errno::EXIST) => Ok(()),
        Err(errno) => Err(failed(format!("make {path}"), errno)),
    }
}

/// Makes a directory of one's own, mode 0700; one that is there already must be the caller's and nobody
/// else's to write.
///
/// # Errors
/// Who else could write it, or the system's words.
pub fn make_private_directory(path: &Path) -> Result<(), String> {
    let whole = absolute(path)?;
    let opened = open_directory(&whole, true)
        .map_err(|e| e.to_string())?
        .ok_or_else(|| format!("{whole} cannot be made"))?;
    let status = files::status_of(&opened).map_err(|e| e.to_string())?;
    let caller = rustix::process::geteuid().as_raw();
    if status.uid != caller {
        return Err(format!("{whole} belongs to somebody else; name a directory that does not exist yet"));
    }
    foreign(&whole, &status).map_or(Ok(()), Err)
}

/// The text of a file that only root and the caller can write; `None` where it does not exist.
///
/// # Errors
/// Who else could have written it, or the system's words.
pub fn read_trusted(path: &Path) -> Result<Option<String>, String> {
    let whole = absolute(path)?;
    let root = directory(Path::new("/")).map_err(|e| format!("/: {e}"))?;
    let found = match descend(&root, &whole, Last::Followed, &[]) {
        Ok(found) => found,
        Err(Refusal::Missing(_)) => return Ok(None),
        Err(refusal) => return Err(words(&refusal)),
    };
    let Some((node, status)) = found.node else { return Ok(None) };
    if status.kind != FileKind::Regular {
        return Err(format!("{} is not a regular file", found.path));
    }
    if let Some(who) = foreign(&found.path, &status) {
        return Err(who);
    }
    let bytes = bytes_of(&node, SERVICES_FILE).map_err(|e| format!("{}: {e}", found.path))?;
    String::from_utf8(bytes).map(Some).map_err(|_| format!("{} is not text in UTF-8", found.path))
}

/// Bytes of the regular file that a descriptor stands for.
pub(crate) fn bytes_of(node: &impl AsFd, most: u64) -> std::io::Result<Vec<u8>> {
    let file = open_again(node, OFlags::RDONLY)?;
    let mut bytes = Vec::new();
    file.take(most + 1).read_to_end(&mut bytes)?;
    if bytes.len() as u64 > most {
        Err(std::io::Error::other(format!("more than {most} bytes")))
    } else {
        Ok(bytes)
    }
}

/// The file that a descriptor by name alone stands for, opened; only regular files and directories ever are.
pub(crate) fn open_again(node: &impl AsFd, flags: OFlags) -> std::io::Result<File> {
    let status = files::status_of(node)?;
    if !matches!(status.kind, FileKind::Regular | FileKind::Directory) {
        return Err(std::io::Error::other("not a regular file"));
    }
    let path = files::proc_path(node);
    Ok(rustix::io::retry_on_intr(|| {
        rustix::fs::open(&path, flags | OFlags::NONBLOCK | OFlags::NOCTTY | OFlags::CLOEXEC, Mode::empty())
    })?
    .into())
}

/// The journal of changes.
#[derive(Debug)]
pub(crate) struct State {
    path: PathBuf,
    lock: Option<File>,
}

impl State {
    pub(crate) fn new(path: &Path) -> Self {
        Self { path: path.to_path_buf(), lock: None }
    }

    fn changes_path(&self) -> Result<String, WriteError> {
        absolute(&self.path.join(CHANGES)).map_err(WriteError::Refused)
    }

    fn directory(&self, make: bool) -> Result<Option<OwnedFd>, WriteError> {
        let path = self.changes_path()?;
        let Some(open) = open_directory(&path, make)? else { return Ok(None) };
        let status = files::status_of(&open).map_err(|e| failed(format!("look at {path}"), e))?;
        if let Some(who) = foreign(&path, &status) {
            return Err(WriteError::Refused(who));
        }
        if make && status.mode & 0o077 != 0 && status.uid == rustix::process::geteuid().as_raw() {
            rustix::fs::fchmod(&open, Mode::RWXU).map_err(|e| failed(format!("protect {path}"), e))?;
        }
        Ok(Some(open))
    }

    /// The directory of one change.
    pub(crate) fn of(&self, id: &str, make: bool) -> Result<Option<OwnedFd>, WriteError> {
        if !plain(id) {
            return Err(WriteError::Refused(format!("\"{id}\" is not the id of a change")));
        }
        let Some(all) = self.directory(make)? else { return Ok(None) };
        if make {
            make_at(&all, id, id)?;
        }
        let open = rustix::fs::openat(
            &all,
            id,
            OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC,
            Mode::empty(),
        );
        match open {
            Ok(open) => Ok(Some(open)),
            Err(Errno::NOENT) => Ok(None),
            Err(errno) => Err(failed(format!("open the journal of {id}"), errno)),
        }
    }

    /// Makes sure that the journal can be written, and that no other change is going on.
    pub(crate) fn prepare(&mut self) -> Result<(), WriteError> {
        let path = self.changes_path()?;
        let Some(all) = self.directory(true)? else {
            return Err(WriteError::Refused(format!("{path} cannot be made")));
        };
        let flags = OFlags::RDWR | OFlags::CREATE | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
        let lock =
            rustix::io::retry_on_intr(|| rustix::fs::openat(&all, LOCK, flags, Mode::RUSR | Mode::WUSR))
                .map_err(|e| failed(format!("make {path}/{LOCK}"), e))?;
        let mut lock = File::from(lock);
        if rustix::fs::flock(&lock, FlockOperation::NonBlockingLockExclusive).is_err() {
            let mut who = String::new();
            let _ = (&lock).take(200).read_to_string(&mut who);
            let who =
                if who.trim().is_empty() { "another fix or undo".to_owned() } else { who.trim().to_owned() };
            return Err(WriteError::Refused(format!("{who} is going on; wait until it has ended")));
        }
        // Writing who holds it also shows that the journal can be written at all.
        let me = format!(
            "{} (pid {})\n",
            std::env::args().skip(1).find(|a| a == "fix" || a == "undo").unwrap_or_else(|| "a change".into()),
            std::process::id()
        );
        let wrote =
            lock.set_len(0).and_then(|()| lock.write_all(me.as_bytes())).and_then(|()| lock.sync_all());
        wrote.map_err(|e| failed(format!("write into {path}"), e))?;
        self.lock = Some(lock);
        Ok(())
    }

    /// Writes a file of a change and syncs it; it is there whole or as it was before.
    pub(crate) fn store(&self, id: &str, name: &str, bytes: &[u8]) -> Result<(), WriteError> {
        let what = || format!("write the change journal in {}", self.path.display());
        let Some(dir) = self.of(id, true)? else { return Err(failed(what(), "it cannot be made")) };
        let temporary = format!(".{name}.new");
        let write = || -> std::io::Result<()> {
            discard(&dir, &temporary)?;
            let flags = OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
            let mut file = File::from(rustix::io::retry_on_intr(|| {
                rustix::fs::openat(&dir, &*temporary, flags, Mode::RUSR | Mode::WUSR)
            })?);
            file.write_all(bytes)?;
            sync(&file)?;
            rustix::io::retry_on_intr(|| rustix::fs::renameat(&dir, &*temporary, &dir, name))?;
            sync(&dir)
        };
        let outcome = write();
        if outcome.is_err() {
            let _ = discard(&dir, &temporary);
        }
        outcome.map_err(|e| failed(what(), e))
    }

    /// Reads a file of a change.
    pub(crate) fn load(&self, id: &str, name: &str) -> Option<Vec<u8>> {
        let dir = self.of(id, false).ok()??;
        let node =
            rustix::fs::openat(&dir, name, OFlags::PATH | OFlags::NOFOLLOW | OFlags::CLOEXEC, Mode::empty())
                .ok()?;
        let status = files::status_of(&node).ok()?;
        let ours = status.kind == FileKind::Regular && foreign(name, &status).is_none();
        ours.then(|| bytes_of(&node, JOURNAL_FILE).ok()).flatten()
    }

    /// Ids of all changes, oldest first.
    ///
    /// # Errors
    /// Why they cannot be told: the directory is not one to be believed, or cannot be read.
    pub(crate) fn changes(&self) -> Result<Vec<String>, WriteError> {
        let Some(all) = self.directory(false)? else { return Ok(Vec::new()) };
        let entries = rustix::fs::Dir::read_from(&all).map_err(|e| failed("list the journal", e))?;
        let mut ids = Vec::new();
        for entry in entries {
            let entry = entry.map_err(|e| failed("list the journal", e))?;
            let name = entry.file_name().to_string_lossy().into_owned();
            if plain(&name) {
                ids.push(name);
            }
        }
        ids.sort();
        Ok(ids)
    }
}

fn plain(name: &str) -> bool {
    !name.is_empty() && !name.contains('/') && !name.starts_with('.')
}

/// Removes a name of a file, where it is there.
pub(crate) fn discard(dir: &OwnedFd, name: &str) -> std::io::Result<()> {
    match rustix::io::retry_on_intr(|| rustix::fs::unlinkat(dir, name, AtFlags::empty())) {
        Ok(()) | Err(Errno::NOENT) => Ok(()),
        Err(errno) => Err(errno.into()),
    }
}

/// Writes a file or directory through to the disk; one of a few file systems that cannot sync a directory
/// says so.
pub(crate) fn sync(file: &impl AsFd) -> std::io::Result<()> {
    match rustix::io::retry_on_intr(|| rustix::fs::fsync(file)) {
        Ok(()) | Err(Errno::INVAL) => Ok(()),
        Err(errno) => Err(errno.into()),
    }
}

/// Names of devices and of this program's own descriptors. Below other directories of `/dev` anybody may have
/// put something.
fn is_device(path: &str) -> bool {
    let single = |name: &str| !name.is_empty() && !name.contains('/') && !name.starts_with('.');
    ["/dev/", "/dev/fd/", "/dev/pts/", "/proc/self/fd/"]
        .iter()
        .any(|dir| path.strip_prefix(dir).is_some_and(single))
}

/// Writes an answer into a file that the caller named: a new file takes the name at once, so a link that
/// somebody put there is replaced and never followed, and nobody reads a half of it. Devices and what is
/// written to by a descriptor's name are written to as they are.
///
/// # Errors
/// The system's words, or which link on the way is not the caller's.
pub fn write_output(path: &Path, bytes: &[u8], mode: u32) -> Result<(), String> {
    let whole = absolute(path)?;
    let told = |e: &dyn std::fmt::Display| format!("cannot write {}: {e}", path.display());
    if is_device(&whole) {
        return std::fs::OpenOptions::new()
            .write(true)
            .open(&whole)
            .and_then(|mut f| f.write_all(bytes))
            .map_err(|e| told(&e));
    }
    let (parent, name) = whole.rsplit_once('/').unwrap_or(("", &whole));
    if name.is_empty() {
        return Err(told(&"it is a directory"));
    }
    let root = directory(Path::new("/")).map_err(|e| told(&e))?;
    let parent = match descend(&root, if parent.is_empty() { "/" } else { parent }, Last::Followed, &[]) {
        Ok(found) => found.node.map(|(node, _)| node).ok_or_else(|| told(&"the directory does not exist"))?,
        // In somebody else's directory the file is made all the same, but no link on the way is followed.
        Err(Refusal::Replaceable { .. }) => without_links(&root, parent).map_err(|e| told(&e))?,
        Err(Refusal::Missing(missing)) => return Err(told(&format!("{missing} does not exist"))),
        Err(refusal) => return Err(told(&words(&refusal))),
    };
    let temporary = format!(".{}.{}.new", name.chars().take(60).collect::<String>(), std::process::id());
    let write = || -> std::io::Result<()> {
        discard(&parent, &temporary)?;
        let flags = OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let mut file = File::from(rustix::io::retry_on_intr(|| {
            rustix::fs::openat(&parent, &*temporary, flags, Mode::from_raw_mode(mode))
        })?);
        file.write_all(bytes)?;
        rustix::io::retry_on_intr(|| rustix::fs::renameat(&parent, &*temporary, &parent, name))?;
        Ok(())
    };
    write().map_err(|e| {
        let _ = discard(&parent, &temporary);
        told(&e)
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_devices_and_descriptors_are_written_to_as_they_are() {
        for path in ["/dev/null", "/dev/stdout", "/dev/fd/3", "/dev/pts/0", "/proc/self/fd/1"] {
            assert!(is_device(path), "{path}");
        }
        for path in
            ["/dev/shm/report.json", "/dev/../tmp/x", "/dev/mqueue/x", "/proc/1/fd/1", "/dev/fd/", "/tmp/x"]
        {
            assert!(!is_device(path), "{path}");
        }
        // In a directory that all may write, a link that somebody put there is replaced and not followed.
        let dir = tempfile::tempdir_in("/dev/shm").unwrap();
        let (aim, link) = (dir.path().join("aim"), dir.path().join("link"));
        std::fs::write(&aim, "as it was").unwrap();
        std::os::unix::fs::symlink(&aim, &link).unwrap();
        write_output(&link, b"answer", 0o600).unwrap();
        assert_eq!(
            (
                std::fs::read_to_string(&aim).unwrap().as_str(),
                std::fs::read_to_string(&link).unwrap().as_str()
            ),
            ("as it was", "answer")
        );
    }
}
