//! Files, read without ever blocking on one that is not regular.
use jolly_core::host::{
    AclEntry, Answer, DirectoryEntry, FileKind, FileStatus, Look, READ_LIMIT, Space, Unseen,
};
use jolly_core::trust::LINKS;
use rustix::fs::{AtFlags, Mode, OFlags, ResolveFlags, StatxAttributes, StatxFlags};
use rustix::io::{Errno, retry_on_intr};
use std::ffi::OsString;
use std::fs::{self, File};
use std::io::Read;
use std::os::fd::{AsFd, AsRawFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{FileExt, MetadataExt};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

/// Most names of a directory that are listed; of a larger one nothing is told but that.
const NAMES: usize = 200_000;

pub(crate) fn unseen<T>(errno: Errno) -> Look<T> {
    match errno {
        Errno::NOENT | Errno::NOTDIR => Look::Absent,
        Errno::ACCESS | Errno::PERM => Look::NotSeen(Unseen::Denied),
        Errno::SRCH => Look::NotSeen(Unseen::Gone),
        other => Look::NotSeen(Unseen::Failed(other.to_string())),
    }
}

pub(crate) fn unseen_io<T>(error: &std::io::Error) -> Look<T> {
    match error.raw_os_error() {
        Some(code) => unseen(Errno::from_raw_os_error(code)),
        None => Look::NotSeen(Unseen::Failed(error.to_string())),
    }
}

fn kind(mode: u32) -> FileKind {
    match mode & 0o170_000 {
        0o100_000 => FileKind::Regular,
        0o040_000 => FileKind::Directory,
        0o120_000 => FileKind::Link,
        0o140_000 => FileKind::Socket,
        _ => FileKind::Other,
    }
}

/// The status of what a path leads to, or of a link itself.
pub(crate) fn status(path: &Path, follow: bool) -> Look<Answer> {
    let flags = if follow { AtFlags::empty() } else { AtFlags::SYMLINK_NOFOLLOW };
    match asked(rustix::fs::CWD, path, flags) {
        Ok(found) => Look::Seen(Answer::Status(whole(found, path))),
        Err(errno) => unseen(errno),
    }
}

/// The status of what a descriptor stands for, opened by path alone (`O_PATH`).
pub(crate) fn status_of(file: &impl AsFd) -> std::io::Result<FileStatus> {
    Ok(whole(asked(file, "", AtFlags::EMPTY_PATH)?, &proc_path(file)))
}

/// What one call tells of a file. Kernels and sandboxes without `statx(2)` are asked the older way, which
/// knows no flags of the file system.
fn asked(dir: impl AsFd, path: impl rustix::path::Arg + Copy, flags: AtFlags) -> Result<FileStatus, Errno> {
    match rustix::fs::statx(&dir, path, flags, StatxFlags::BASIC_STATS) {
        Ok(found) => Ok(FileStatus {
            kind: kind(found.stx_mode.into()),
            mode: u32::from(found.stx_mode) & 0o7777,
            uid: found.stx_uid,
            gid: found.stx_gid,
            size: found.stx_size,
            modified: found.stx_mtime.tv_sec,
            changed: found.stx_ctime.tv_sec,
            device: rustix::fs::makedev(found.stx_dev_major, found.stx_dev_minor),
            inode: found.stx_ino,
            links: found.stx_nlink.into(),
            immutable: (found.stx_attributes & found.stx_attributes_mask)
                .contains(StatxAttributes::IMMUTABLE),
            acl: Vec::new(),
            capabilities: 0,
        }),
        Err(Errno::NOSYS | Errno::PERM) => asked_before(dir, path, flags),
        Err(errno) => Err(errno),
    }
}

/// The older way.
fn asked_before(dir: impl AsFd, path: impl rustix::path::Arg, flags: AtFlags) -> Result<FileStatus, Errno> {
    rustix::fs::statat(dir, path, flags).map(|found| FileStatus {
        kind: kind(found.st_mode),
        mode: found.st_mode & 0o7777,
        uid: found.st_uid,
        gid: found.st_gid,
        size: u64::try_from(found.st_size).unwrap_or_default(),
        modified: found.st_mtime,
        changed: found.st_ctime,
        device: found.st_dev,
        inode: found.st_ino,
        links: found.st_nlink,
        immutable: false,
        acl: Vec::new(),
        capabilities: 0,
    })
}

/// The same with what is asked by `path`, which must lead to the same file.
fn whole(found: FileStatus, path: &Path) -> FileStatus {
    if found.kind == FileKind::Link {
        return FileStatus { immutable: false, ..found };
    }
    let runs = found.kind == FileKind::Regular && found.mode & 0o111 != 0;
    FileStatus {
        acl: access_list(path),
        capabilities: if runs { file_capabilities(path) } else { 0 },
        ..found
    }
}

/// A name that leads to what a descriptor stands for and to nothing else (proc_pid_fd(5)).
pub(crate) fn proc_path(file: &impl AsFd) -> PathBuf {
    PathBuf::from(format!("/proc/self/fd/{}", file.as_fd().as_raw_fd()))
}

/// Capabilities that a file grants, in their on-disk form (linux/capability.h): a word with revision and the
/// flag that makes them effective, then permitted and inheritable sets, low halves first.
fn file_capabilities(path: &Path) -> u64 {
    let mut raw = [0u8; 24];
    let Ok(length) = rustix::fs::getxattr(path, "security.capability", &mut raw[..]) else { return 0 };
    let word = |at: usize| {
        raw.get(at..at + 4)
            .filter(|_| at + 4 <= length)
            .and_then(|b| b.try_into().ok())
            .map_or(0, u32::from_le_bytes)
    };
    if word(0) & 1 == 0 { 0 } else { u64::from(word(4)) | u64::from(word(12)) << 32 }
}

/// The POSIX access list in its on-disk form: a version word, then tag, permissions and id of each entry.
fn access_list(path: &Path) -> Vec<AclEntry> {
    let mut room = [0u8; 1024];
    let mut large = Vec::new();
    let raw: &[u8] = match rustix::fs::getxattr(path, "system.posix_acl_access", &mut room[..]) {
        Ok(length) => &room[..length],
        // A list that is longer than most must not look like none. No attribute is larger than this
        // (xattr(7)).
        Err(Errno::RANGE) => {
            large.resize(65_536, 0u8);
            let length = rustix::fs::getxattr(path, "system.posix_acl_access", &mut large[..]).unwrap_or(0);
            &large[..length]
        }
        Err(_) => return Vec::new(),
    };
    let body = raw.get(4..).unwrap_or_default();
    body.chunks_exact(8)
        .filter_map(|e| {
            Some(AclEntry {
                tag: u16::from_le_bytes(e.get(..2)?.try_into().ok()?),
                permissions: u16::from_le_bytes(e.get(2..4)?.try_into().ok()?),
                id: u32::from_le_bytes(e.get(4..8)?.try_into().ok()?),
            })
        })
        .filter(|e| matches!(e.tag, 0x02 | 0x04 | 0x08 | 0x10))
        .collect()
}

pub(crate) fn link(path: &Path) -> Look<Answer> {
    match fs::read_link(path) {
        Ok(target) => Look::Seen(Answer::Target(target.to_string_lossy().into_owned())),
        Err(error) if error.raw_os_error() == Some(22) => Look::Absent,
        Err(error) => unseen_io(&error),
    }
}

/// Where the link leads that a descriptor stands for.
pub(crate) fn link_of(node: &impl AsFd) -> Look<Answer> {
    match rustix::fs::readlinkat(node, c"", Vec::new()) {
        Ok(target) => Look::Seen(Answer::Target(target.to_string_lossy().into_owned())),
        Err(Errno::INVAL | Errno::NOENT) => Look::Absent,
        Err(errno) => unseen(errno),
    }
}

/// The names in a directory, which is reached as every file is.
pub(crate) fn list(path: &Path) -> Look<Answer> {
    let (node, stat) = match found(path) {
        Look::Seen(found) => found,
        Look::Absent => return Look::Absent,
        Look::NotSeen(why) => return Look::NotSeen(why),
    };
    if kind(stat.st_mode) != FileKind::Directory {
        return Look::Absent;
    }
    let entries = match fs::read_dir(proc_path(&node)) {
        Ok(entries) => entries,
        Err(error) => return unseen_io(&error),
    };
    let mut names: Vec<DirectoryEntry> = entries
        .flatten()
        .take(NAMES + 1)
        .map(|entry| {
            let kind = match entry.file_type() {
                Ok(t) if t.is_file() => FileKind::Regular,
                Ok(t) if t.is_dir() => FileKind::Directory,
                Ok(t) if t.is_symlink() => FileKind::Link,
                _ => FileKind::Other,
            };
            DirectoryEntry { name: entry.file_name().to_string_lossy().into_owned(), kind }
        })
        .collect();
    if names.len() > NAMES {
        return Look::NotSeen(Unseen::Failed(format!("a directory of more than {NAMES} names")));
    }
    names.sort_by(|a, b| a.name.cmp(&b.name));
    Look::Seen(Answer::Names(names))
}

/// File systems whose files the kernel makes up when they are read (magic.h): environments and memory of
/// processes, messages that are gone once they were read, registers of devices.
const MADE_UP: &[i64] = &[
    0x9fa0,      // proc
    0x6265_6572, // sysfs
    0x6462_6720, // debugfs
    0x7472_6163, // tracefs
    0x7363_6673, // securityfs
    0x0027_e0eb, // cgroup
    0x6367_7270, // cgroup2
    0xcafe_4a11, // bpf
    0x6165_676c, // pstore
    0xde5e_81e4, // efivarfs
    0x6265_6570, // configfs
    0xf97c_ff8c, // selinuxfs
    0x4249_4e4d, // binfmt_misc
    0x1980_0202, // mqueue
    0x6e73_6673, // nsfs
    0x5a3c_69f0, // apparmorfs
];

/// Files of the kernel's that are asked for by us, and tell nobody's secrets. Whatever else configuration or
/// logs name in /proc and /sys is not read.
fn may_be_made_up(path: &Path) -> bool {
    let plain = path
        .components()
        .all(|c| matches!(c, std::path::Component::RootDir | std::path::Component::Normal(_)));
    plain
        && (path.starts_with("/proc/sys")
            || ["/proc/cmdline", "/proc/meminfo"].iter().any(|p| path == Path::new(p)))
}

/// How often a look is repeated that a rename elsewhere disturbed (openat2(2)).
const RETRIES: usize = 32;

/// What a name stands for, opened by name alone, and its status.
type Named = (OwnedFd, rustix::fs::Stat);

fn named(node: OwnedFd) -> Look<Named> {
    match rustix::fs::fstat(&node) {
        Ok(stat) => Look::Seen((node, stat)),
        Err(errno) => unseen(errno),
    }
}

/// What a path leads to, where no link stands anywhere on it; `None` where the kernel does not tell.
fn straight(path: &Path) -> Option<Result<OwnedFd, Errno>> {
    for _ in 0..RETRIES {
        let flags = OFlags::PATH | OFlags::CLOEXEC;
        match rustix::fs::openat2(rustix::fs::CWD, path, flags, Mode::empty(), ResolveFlags::NO_SYMLINKS) {
            Err(Errno::AGAIN | Errno::INTR) => {}
            Err(Errno::NOSYS | Errno::PERM) => return None,
            other => return Some(other),
        }
    }
    Some(Err(Errno::AGAIN))
}

/// A path without its links.
struct Led {
    path: PathBuf,
    /// Who made a link on the way, root left out.
    makers: Vec<u32>,
    /// Directories on it that not everybody may pass through, by their owners.
    closed: Vec<u32>,
}

fn led(path: &Path) -> std::io::Result<Led> {
    let names = |path: &Path| path.components().rev().map(|c| c.as_os_str().to_owned()).collect::<Vec<_>>();
    let mut rest: Vec<OsString> = names(path);
    let mut found = Led { path: PathBuf::from("/"), makers: Vec::new(), closed: Vec::new() };
    let mut links = 0;
    while let Some(name) = rest.pop() {
        match name.as_bytes() {
            b"/" => {
                found.path = PathBuf::from("/");
                continue;
            }
            b"." => continue,
            b".." => {
                found.path.pop();
                continue;
            }
            _ => {}
        }
        let next = found.path.join(&name);
        let meta = fs::symlink_metadata(&next)?;
        if meta.is_symlink() {
            links += 1;
            if links > LINKS {
                return Err(Errno::LOOP.into());
            }
            found.makers.extend(Some(meta.uid()).filter(|uid| *uid != 0));
            rest.extend(names(&fs::read_link(&next)?));
            continue;
        }
        if meta.is_dir() && meta.mode() & 0o001 == 0 {
            found.closed.push(meta.uid());
        }
        found.path = next;
    }
    Ok(found)
}

/// What links lead to. A link that an account made leads root only to what that account could read by itself:
/// its own files, and those that everybody may read. The kernel holds links in shared directories likewise
/// (protected_symlinks, proc_sys_fs(5)).
fn by_links(path: &Path) -> Look<Named> {
    let led = match led(path) {
        Ok(led) => led,
        Err(error) if error.raw_os_error() == Some(Errno::LOOP.raw_os_error()) => {
            return Look::NotSeen(Unseen::Failed("too many symbolic links".into()));
        }
        Err(error) => return unseen_io(&error),
    };
    // What was looked at is what is opened: a link that came meanwhile is not followed.
    let (node, stat) = match straight(&led.path) {
        Some(Ok(node)) => match named(node) {
            Look::Seen(found) => found,
            other => return other,
        },
        Some(Err(Errno::LOOP)) => {
            return Look::NotSeen(Unseen::Failed("it changed while it was looked at".into()));
        }
        Some(Err(errno)) => return unseen(errno),
        None => return Look::NotSeen(Unseen::Failed("the kernel follows no links safely".into())),
    };
    let reads = |uid: u32| {
        let passes = led.closed.iter().all(|owner| *owner == uid);
        passes && (stat.st_uid == uid || stat.st_mode & 0o004 != 0)
    };
    match led.makers.iter().find(|maker| !reads(**maker)) {
        Some(maker) => Look::NotSeen(Unseen::Failed(format!(
            "a symbolic link of account {maker} to a file of account {}, which is not followed",
            stat.st_uid
        ))),
        None => Look::Seen((node, stat)),
    }
}

/// What a path leads to, by name alone: nothing is opened for reading.
fn found(path: &Path) -> Look<Named> {
    // What the kernel itself keeps open is led to by links of its own.
    let ordinary = path.is_absolute() && !path.starts_with("/proc");
    if ordinary && rustix::process::geteuid().is_root() {
        match straight(path) {
            Some(Ok(node)) => return named(node),
            Some(Err(Errno::LOOP)) => return by_links(path),
            Some(Err(errno)) => return unseen(errno),
            None => {}
        }
    }
    let by_name = |flags| {
        retry_on_intr(|| rustix::fs::open(path, OFlags::PATH | OFlags::CLOEXEC | flags, Mode::empty()))
    };
    let (node, stat) = match by_name(OFlags::NOFOLLOW).map(named) {
        Ok(Look::Seen(found)) => found,
        Ok(other) => return other,
        Err(errno) => return unseen(errno),
    };
    if kind(stat.st_mode) != FileKind::Link {
        return Look::Seen((node, stat));
    }
    // Where the kernel does not tell more, the last name at least leads to what is its maker's own.
    let made_by = stat.st_uid;
    let (node, stat) = match by_name(OFlags::empty()).map(named) {
        Ok(Look::Seen(found)) => found,
        Ok(other) => return other,
        Err(Errno::LOOP) => return Look::NotSeen(Unseen::Failed("too many symbolic links".into())),
        Err(errno) => return unseen(errno),
    };
    if made_by != 0 && stat.st_uid != made_by && rustix::process::geteuid().is_root() {
        return Look::NotSeen(Unseen::Failed(format!(
            "a symbolic link of account {made_by} to a file of account {}, which is not followed",
            stat.st_uid
        )));
    }
    Look::Seen((node, stat))
}

/// Opens a regular file and nothing else. What stands there is looked at by name before anything is opened:
/// no FIFO, device or socket takes notice.
fn open(path: &Path) -> Look<(File, u64)> {
    let (node, stat) = match found(path) {
        Look::Seen(found) => found,
        Look::Absent => return Look::Absent,
        Look::NotSeen(why) => return Look::NotSeen(why),
    };
    if kind(stat.st_mode) != FileKind::Regular {
        return Look::NotSeen(Unseen::NotRegular);
    }
    #[expect(clippy::useless_conversion, reason = "the width of the number differs between architectures")]
    let made_up = rustix::fs::fstatfs(&node)
        .is_ok_and(|f| i64::try_from(f.f_type).is_ok_and(|t| MADE_UP.contains(&(t & 0xffff_ffff))));
    if made_up && !may_be_made_up(path) {
        return Look::NotSeen(Unseen::Failed("a file that the kernel makes up, which is not read".into()));
    }
    let flags = OFlags::RDONLY | OFlags::NONBLOCK | OFlags::CLOEXEC | OFlags::NOCTTY;
    match retry_on_intr(|| rustix::fs::open(proc_path(&node), flags, Mode::empty())) {
        Ok(file) => Look::Seen((File::from(file), u64::try_from(stat.st_size).unwrap_or(0))),
        Err(errno) => unseen(errno),
    }
}

/// A journal file, opened as every other file.
pub(crate) fn opened(path: &Path) -> Look<File> {
    open(path).map(|(file, _)| file)
}

pub(crate) fn read(path: &Path) -> Look<Answer> {
    let (file, size) = match open(path) {
        Look::Seen(found) => found,
        Look::Absent => return Look::Absent,
        Look::NotSeen(why) => return Look::NotSeen(why),
    };
    if size > READ_LIMIT {
        return Look::NotSeen(Unseen::TooLarge(size));
    }
    let mut bytes = Vec::with_capacity(usize::try_from(size).unwrap_or(0) + 1);
    match file.take(READ_LIMIT + 1).read_to_end(&mut bytes) {
        Ok(read) if read as u64 > READ_LIMIT => Look::NotSeen(Unseen::TooLarge(read as u64)),
        Ok(_) => Look::Seen(Answer::Bytes(bytes.into())),
        Err(error) => unseen_io(&error),
    }
}

/// Bytes that are searched at once.
const STRETCH: usize = 1 << 20;
/// Longest string that is told whole.
const STRING: usize = 4 << 10;
/// The most that is searched of one binary, in bytes.
const SEARCHED: u64 = 1 << 30;

/// The first string of a binary that holds a text, or is it. It is searched in stretches: some servers are
/// larger than what is read of a configuration.
pub(crate) fn find_string(path: &Path, needle: &str, whole: bool) -> Look<Answer> {
    let mut file = match open(path) {
        Look::Seen((file, _)) => file.take(SEARCHED),
        Look::Absent => return Look::Absent,
        Look::NotSeen(why) => return Look::NotSeen(why),
    };
    // What was read, and how much of it was searched: a string that begins near the end may not be whole yet.
    let (mut held, mut searched) = (Vec::new(), 0);
    loop {
        let last = match file.by_ref().take(STRETCH as u64).read_to_end(&mut held) {
            Ok(read) => read == 0,
            Err(error) => return unseen_io(&error),
        };
        let until = if last { held.len() } else { held.len().saturating_sub(STRING).max(searched) };
        let found = memchr::memmem::find_iter(&held[searched..], needle.as_bytes())
            .map(|at| searched + at)
            .take_while(|at| *at < until)
            .find_map(|at| {
                let start =
                    memchr::memrchr(0, &held[..at]).map_or(0, |n| n + 1).max(at.saturating_sub(STRING));
                let end = memchr::memchr(0, &held[at..]).map_or(held.len(), |n| at + n).min(at + STRING);
                (!whole || end - start == needle.len())
                    .then(|| String::from_utf8_lossy(&held[start..end]).into_owned())
            });
        if found.is_some() || last {
            return Look::Seen(Answer::Found(found));
        }
        // Behind what was searched the begin of a string must still be seen.
        let kept = until.saturating_sub(STRING);
        held.drain(..kept);
        searched = until - kept;
    }
}

/// The file that was read last, held open for the next stretch of it: a long log is read in many small ones,
/// by several threads at once.
#[derive(Debug, Default)]
pub(crate) struct Held(Mutex<Option<(PathBuf, Arc<File>, std::time::Instant)>>);

/// How long a file stays the same one without being opened anew.
const HELD: std::time::Duration = std::time::Duration::from_millis(300);

impl Held {
    fn file(&self, path: &Path, open: impl FnOnce(&Path) -> Look<File>) -> Look<Arc<File>> {
        let mut held = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((_, file, when)) = held.as_mut().filter(|(p, _, when)| p == path && when.elapsed() < HELD)
        {
            *when = std::time::Instant::now();
            return Look::Seen(file.clone());
        }
        open(path).map(|file| {
            let file = Arc::new(file);
            *held = Some((path.to_path_buf(), file.clone(), std::time::Instant::now()));
            file
        })
    }

    /// A stretch of a regular file.
    pub(crate) fn read_at(&self, path: &Path, offset: u64, length: u32) -> Look<Answer> {
        self.read_at_by(path, offset, length, opened)
    }

    /// The same with a way of opening of one's own; `path` is the name under which the file is held.
    pub(crate) fn read_at_by(
        &self,
        path: &Path,
        offset: u64,
        length: u32,
        open: impl FnOnce(&Path) -> Look<File>,
    ) -> Look<Answer> {
        match self.file(path, open) {
            Look::Seen(file) => shared_at(&file, offset, length),
            Look::Absent => Look::Absent,
            Look::NotSeen(why) => Look::NotSeen(why),
        }
    }

    /// The same, into a room that is there already: how many bytes it was.
    pub(crate) fn read_into(&self, path: &Path, offset: u64, room: &mut [u8]) -> Look<usize> {
        self.read_into_by(path, offset, room, opened)
    }

    /// The same with a way of opening of one's own.
    pub(crate) fn read_into_by(
        &self,
        path: &Path,
        offset: u64,
        room: &mut [u8],
        open: impl FnOnce(&Path) -> Look<File>,
    ) -> Look<usize> {
        match self.file(path, open) {
            Look::Seen(file) => fill(&file, offset, room).map_or_else(|error| unseen_io(&error), Look::Seen),
            Look::Absent => Look::Absent,
            Look::NotSeen(why) => Look::NotSeen(why),
        }
    }
}

/// Bytes at an offset, read right where they are shared from.
fn shared_at(file: &File, offset: u64, length: u32) -> Look<Answer> {
    let mut shared: Arc<[u8]> = std::iter::repeat_n(0u8, length as usize).collect();
    let Some(room) = Arc::get_mut(&mut shared) else { return Look::NotSeen(Unseen::Gone) };
    match fill(file, offset, room) {
        Ok(filled) if filled == room.len() => Look::Seen(Answer::Bytes(shared)),
        Ok(filled) => Look::Seen(Answer::Bytes(shared[..filled].into())),
        Err(error) => unseen_io(&error),
    }
}

fn fill(file: &File, offset: u64, room: &mut [u8]) -> std::io::Result<usize> {
    let mut filled = 0;
    while filled < room.len() {
        match file.read_at(&mut room[filled..], offset + filled as u64)? {
            0 => break,
            n => filled += n,
        }
    }
    Ok(filled)
}

pub(crate) fn bytes_at(file: &File, offset: u64, length: u32) -> std::io::Result<Vec<u8>> {
    let mut bytes = vec![0; length as usize];
    let filled = fill(file, offset, &mut bytes)?;
    bytes.truncate(filled);
    Ok(bytes)
}

pub(crate) fn space(path: &Path) -> Look<Answer> {
    match rustix::fs::statvfs(path) {
        Ok(s) => Look::Seen(Answer::Space(Space {
            free_bytes: s.f_bavail.saturating_mul(s.f_frsize),
            free_inodes: (s.f_files > 0).then_some(s.f_favail),
            read_only: s.f_flag.contains(rustix::fs::StatVfsMountFlags::RDONLY),
        })),
        Err(errno) => unseen(errno),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::{PermissionsExt, chown, lchown, symlink};

    #[test]
    fn both_ways_of_asking_for_a_status_tell_the_same() {
        let dir = tempfile::tempdir().unwrap();
        let (file, link) = (dir.path().join("edge.log"), dir.path().join("link"));
        fs::write(&file, "tide").unwrap();
        fs::set_permissions(&file, fs::Permissions::from_mode(0o2640)).unwrap();
        fs::hard_link(&file, dir.path().join("second")).unwrap();
        symlink("edge.log", &link).unwrap();
        for (path, flags) in [
            (file.as_path(), AtFlags::empty()),
            (link.as_path(), AtFlags::empty()),
            (link.as_path(), AtFlags::SYMLINK_NOFOLLOW),
            (dir.path(), AtFlags::empty()),
            (Path::new("/dev/null"), AtFlags::empty()),
        ] {
            let (new, old) =
                (asked(rustix::fs::CWD, path, flags), asked_before(rustix::fs::CWD, path, flags));
            assert_eq!(new, old, "{}", path.display());
        }
        let open = fs::File::open(&file).unwrap();
        let (new, old) =
            (asked(&open, "", AtFlags::EMPTY_PATH), asked_before(&open, "", AtFlags::EMPTY_PATH));
        assert_eq!(new, old);
        let status = new.unwrap();
        assert_eq!((status.mode, status.links, status.size, status.kind), (0o2640, 2, 4, FileKind::Regular));
        let none = dir.path().join("none");
        assert_eq!(asked(rustix::fs::CWD, &*none, AtFlags::empty()), Err(Errno::NOENT));
    }

    #[test]
    fn a_link_of_an_account_leads_root_only_to_what_that_account_reads_itself() {
        if !rustix::process::geteuid().is_root() {
            return;
        }
        const ACCOUNT: u32 = 4071;
        let dir = tempfile::tempdir().unwrap();
        let at = |name: &str| dir.path().join(name);
        let made = |name: &str, folder: u32, file: u32, owner: u32| {
            fs::create_dir(at(name)).unwrap();
            fs::write(at(name).join("log"), "line\n").unwrap();
            fs::set_permissions(at(name).join("log"), fs::Permissions::from_mode(file)).unwrap();
            fs::set_permissions(at(name), fs::Permissions::from_mode(folder)).unwrap();
            chown(at(name).join("log"), Some(owner), None).unwrap();
        };
        // The folder of the test itself is its owner's alone.
        fs::set_permissions(dir.path(), fs::Permissions::from_mode(0o755)).unwrap();
        made("open", 0o755, 0o644, 0);
        made("private", 0o755, 0o600, 0);
        made("closed", 0o700, 0o644, 0);
        made("own", 0o755, 0o600, ACCOUNT);
        let reads = |link: &str, to: &str, maker: u32, below: &str| {
            let link = at(link);
            symlink(to, &link).unwrap();
            lchown(&link, Some(maker), None).unwrap();
            matches!(read(&link.join(below)), Look::Seen(_))
        };
        // Through a directory, and by the last name.
        assert!(reads("a", "open", ACCOUNT, "log") && reads("b", "own", ACCOUNT, "log"));
        assert!(!reads("c", "private", ACCOUNT, "log") && !reads("d", "closed", ACCOUNT, "log"));
        assert!(!reads("e", "private/log", ACCOUNT, "") && reads("f", "own/log", ACCOUNT, ""));
        // Root's links lead anywhere; a link behind a link is still the account's.
        assert!(reads("g", "private", 0, "log") && reads("h", "closed/log", 0, ""));
        assert!(!reads("i", "c", 0, "log"), "root's link to the account's link");
        // What a directory holds is told by the same rule.
        let lists =
            |name: &str| matches!(list(&at(name)), Look::Seen(Answer::Names(names)) if names.len() == 1);
        fs::create_dir(at("hidden")).unwrap();
        fs::set_permissions(at("hidden"), fs::Permissions::from_mode(0o711)).unwrap();
        fs::write(at("hidden/x"), "").unwrap();
        symlink("hidden", at("j")).unwrap();
        lchown(at("j"), Some(ACCOUNT), None).unwrap();
        assert!(lists("a") && lists("b") && lists("hidden"));
        assert!(!lists("d") && !lists("j") && !lists("open/log"));
    }
}
