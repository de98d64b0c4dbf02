//! The one place that changes a machine: atomic file changes, verbs of the manager, the end of processes.
use crate::files;
use crate::manager::Manager;
use jolly_core::fix::{Digest, HostWriter, WriteError, digest};
use jolly_core::host::{Answer, FileStatus, Look};
use rustix::fs::{AtFlags, Mode, OFlags};
use std::fs::{self, File};
use std::io::Write;
use std::os::unix::fs::{MetadataExt, OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

/// How long a job of the manager may take.
const JOB: Duration = Duration::from_secs(120);
/// How long a process may take to end after it was asked to.
const END: Duration = Duration::from_secs(10);
/// The same for what keeps data: it may have much to write.
const GENTLE_END: Duration = Duration::from_secs(120);

/// What a writer may touch.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Reach {
    /// The live machine: files, manager, processes.
    Machine,
    /// Files below a directory alone.
    Tree,
}

/// Changes a Linux machine, or a tree of files.
#[derive(Debug)]
pub struct LinuxWriter {
    root: PathBuf,
    state: PathBuf,
    reach: Reach,
    manager: Manager,
    lock: Option<File>,
}

fn failed(what: impl Into<String>, why: impl ToString) -> WriteError {
    WriteError::Failed { what: what.into(), why: why.to_string() }
}

impl LinuxWriter {
    /// A writer that keeps its change journal in `state`.
    pub fn new(root: &Path, state: &Path, reach: Reach) -> Self {
        Self { root: root.to_path_buf(), state: state.to_path_buf(), reach, manager: Manager::default(), lock: None }
    }

    /// Makes sure that the journal can be written, and that no other change is going on.
    ///
    /// # Errors
    /// What stands in the way. Nothing was changed then.
    pub fn prepare(&mut self) -> Result<(), WriteError> {
        let dir = self.state.join("changes");
        fs::create_dir_all(&dir).map_err(|e| failed(format!("make {}", dir.display()), e))?;
        fs::set_permissions(&dir, fs::Permissions::from_mode(0o700)).map_err(|e| failed(format!("protect {}", dir.display()), e))?;
        let probe = dir.join(".probe");
        write_synced(&probe, b"probe").and_then(|()| fs::remove_file(&probe)).map_err(|e| failed(format!("write into {}", dir.display()), e))?;
        let lock = File::create(self.state.join("lock")).map_err(|e| failed("make the lock file", e))?;
        rustix::fs::flock(&lock, rustix::fs::FlockOperation::NonBlockingLockExclusive)
            .map_err(|_| WriteError::Refused("another fix or undo is going on".into()))?;
        self.lock = Some(lock);
        Ok(())
    }

    fn path(&self, path: &str) -> PathBuf {
        files::below(&self.root, path, false)
    }

    fn machine(&self, what: &str) -> Result<(), WriteError> {
        match self.reach {
            Reach::Machine => Ok(()),
            Reach::Tree => Err(WriteError::Refused(format!("{what} needs the running machine, not a tree of files"))),
        }
    }
}

/// Writes a new file and syncs it and its directory.
fn write_synced(path: &Path, bytes: &[u8]) -> std::io::Result<()> {
    let mut file = fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(path)?;
    file.write_all(bytes)?;
    file.sync_all()?;
    sync_directory(path)
}

fn sync_directory(path: &Path) -> std::io::Result<()> {
    let parent = path.parent().unwrap_or(Path::new("/"));
    File::open(parent)?.sync_all()
}

/// Copies owner, mode and every extended attribute, access lists among them.
fn copy_attributes(from: &Path, to: &File) -> std::io::Result<()> {
    let meta = fs::symlink_metadata(from)?;
    rustix::fs::fchown(to, Some(rustix::fs::Uid::from_raw(meta.uid())), Some(rustix::fs::Gid::from_raw(meta.gid())))?;
    rustix::fs::fchmod(to, Mode::from_raw_mode(meta.mode() & 0o7777))?;
    let mut names = vec![0u8; 64 << 10];
    let length = match rustix::fs::llistxattr(from, &mut names[..]) {
        Ok(length) => length,
        Err(rustix::io::Errno::NOTSUP) => return Ok(()),
        Err(errno) => return Err(errno.into()),
    };
    for name in names.get(..length).unwrap_or_default().split(|b| *b == 0).filter(|n| !n.is_empty()) {
        let mut value = vec![0u8; 64 << 10];
        let size = rustix::fs::lgetxattr(from, name, &mut value[..])?;
        rustix::fs::fsetxattr(to, name, value.get(..size).unwrap_or_default(), rustix::fs::XattrFlags::empty())?;
    }
    Ok(())
}

impl HostWriter for LinuxWriter {
    fn store(&mut self, id: &str, name: &str, bytes: &[u8]) -> Result<(), WriteError> {
        let dir = self.state.join("changes").join(id);
        let write = || -> std::io::Result<()> {
            fs::create_dir_all(&dir)?;
            fs::set_permissions(&dir, fs::Permissions::from_mode(0o700))?;
            let temporary = dir.join(format!(".{name}.new"));
            write_synced(&temporary, bytes)?;
            fs::rename(&temporary, dir.join(name))?;
            sync_directory(&dir.join(name))?;
            sync_directory(&dir)
        };
        write().map_err(|e| failed(format!("write the change journal in {}", dir.display()), e))
    }

    fn load(&self, id: &str, name: &str) -> Option<Vec<u8>> {
        let plain = |t: &str| !t.is_empty() && !t.contains('/') && !t.starts_with('.');
        (plain(id) && plain(name)).then(|| fs::read(self.state.join("changes").join(id).join(name)).ok()).flatten()
    }

    fn changes(&self) -> Vec<String> {
        let entries = fs::read_dir(self.state.join("changes")).into_iter().flatten().flatten();
        let mut names: Vec<String> = entries.filter_map(|e| e.file_name().into_string().ok()).filter(|n| !n.starts_with('.')).collect();
        names.sort();
        names
    }

    fn current(&self, path: &str) -> Option<(Vec<u8>, FileStatus)> {
        let real = self.path(path);
        let Look::Seen(Answer::Status(status)) = files::status(&real, false) else { return None };
        let bytes = match files::read(&real) {
            Look::Seen(Answer::Bytes(bytes)) => bytes.to_vec(),
            _ => Vec::new(),
        };
        Some((bytes, status))
    }

    fn replace_file(&mut self, path: &str, expect: &Digest, content: &[u8]) -> Result<(), WriteError> {
        let real = self.path(path);
        let what = format!("replace {path}");
        let meta = fs::symlink_metadata(&real).map_err(|e| failed(&*what, e))?;
        if !meta.is_file() {
            return Err(WriteError::Refused(format!("{path} is no regular file")));
        }
        let parent = real.parent().unwrap_or(Path::new("/")).to_path_buf();
        let name = real.file_name().unwrap_or_default().to_string_lossy().into_owned();
        let temporary = parent.join(format!(".{name}.jolly-new"));
        let write = || -> std::io::Result<File> {
            let _ = fs::remove_file(&temporary);
            let mut file = fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(&temporary)?;
            file.write_all(content)?;
            copy_attributes(&real, &file)?;
            file.sync_all()?;
            Ok(file)
        };
        let outcome = write().map_err(|e| failed(&*what, e)).and_then(|_| {
            let now = fs::read(&real).map_err(|e| failed(&*what, e))?;
            if digest(&now) != *expect {
                return Err(WriteError::Refused(format!("{path} changed meanwhile; it was left alone")));
            }
            fs::rename(&temporary, &real).and_then(|()| sync_directory(&real)).map_err(|e| failed(&*what, e))
        });
        if outcome.is_err() {
            let _ = fs::remove_file(&temporary);
        }
        outcome
    }

    fn create_file(&mut self, path: &str, content: &[u8]) -> Result<(), WriteError> {
        let real = self.path(path);
        let write = || -> std::io::Result<()> {
            let mut file = fs::OpenOptions::new().write(true).create_new(true).mode(0o644).open(&real)?;
            file.set_permissions(fs::Permissions::from_mode(0o644))?;
            file.write_all(content)?;
            file.sync_all()?;
            sync_directory(&real)
        };
        write().map_err(|e| failed(format!("make {path}"), e))
    }

    fn remove_file(&mut self, path: &str, expect: &Digest) -> Result<(), WriteError> {
        let real = self.path(path);
        let what = format!("remove {path}");
        let now = fs::read(&real).map_err(|e| failed(&*what, e))?;
        if digest(&now) != *expect {
            return Err(WriteError::Refused(format!("{path} changed meanwhile; it was left alone")));
        }
        fs::remove_file(&real).and_then(|()| sync_directory(&real)).map_err(|e| failed(&*what, e))
    }

    fn set_mode(&mut self, path: &str, mode: u32) -> Result<(), WriteError> {
        let real = self.path(path);
        let open = rustix::fs::open(&real, OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC, Mode::empty());
        let done = match open {
            Ok(file) => rustix::fs::fchmod(&file, Mode::from_raw_mode(mode)),
            Err(errno) => Err(errno),
        };
        done.map_err(|e| failed(format!("set the mode of {path}"), e))
    }

    fn set_owner(&mut self, path: &str, uid: u32, gid: u32) -> Result<(), WriteError> {
        let real = self.path(path);
        let mode = fs::symlink_metadata(&real).map(|m| m.mode() & 0o7777).ok();
        rustix::fs::chownat(rustix::fs::CWD, &real, Some(rustix::fs::Uid::from_raw(uid)), Some(rustix::fs::Gid::from_raw(gid)), AtFlags::SYMLINK_NOFOLLOW)
            .map_err(|e| failed(format!("set the owner of {path}"), e))?;
        // The kernel clears set-id bits on a change of owner; they belong to what was there.
        match mode {
            Some(mode) if mode & 0o6000 != 0 => self.set_mode(path, mode),
            _ => Ok(()),
        }
    }

    fn make_directory(&mut self, path: &str, mode: u32, uid: u32, gid: u32) -> Result<(), WriteError> {
        let real = self.path(path);
        fs::create_dir(&real).map_err(|e| failed(format!("make the directory {path}"), e))?;
        if rustix::process::geteuid().as_raw() == 0 {
            self.set_owner(path, uid, gid)?;
        }
        self.set_mode(path, mode)
    }

    fn remove_directory(&mut self, path: &str) -> Result<(), WriteError> {
        fs::remove_dir(self.path(path)).map_err(|e| failed(format!("remove the directory {path}"), e))
    }

    fn rename(&mut self, from: &str, to: &str) -> Result<(), WriteError> {
        let (source, target) = (self.path(from), self.path(to));
        rustix::fs::renameat_with(rustix::fs::CWD, &source, rustix::fs::CWD, &target, rustix::fs::RenameFlags::NOREPLACE)
            .map_err(|e| failed(format!("rename {from} to {to}"), e))?;
        sync_directory(&target).map_err(|e| failed(format!("sync the directory of {to}"), e))
    }

    fn set_link(&mut self, path: &str, before: Option<&str>, after: Option<&str>) -> Result<(), WriteError> {
        let real = self.path(path);
        let what = format!("change the link {path}");
        let now = fs::read_link(&real).ok().map(|t| t.to_string_lossy().into_owned());
        if now.as_deref() == after {
            return Ok(());
        }
        if now.as_deref() != before {
            return Err(WriteError::Refused(format!("{path} leads elsewhere by now; it was left alone")));
        }
        if before.is_some() {
            fs::remove_file(&real).map_err(|e| failed(&*what, e))?;
        }
        if let Some(target) = after {
            std::os::unix::fs::symlink(target, &real).map_err(|e| failed(&*what, e))?;
        }
        sync_directory(&real).map_err(|e| failed(&*what, e))
    }

    fn unit_file(&mut self, verb: &str, unit: &str) -> Result<Vec<(String, String, String)>, WriteError> {
        self.machine(verb)?;
        // What is removed is told without its target, so the targets are read before.
        let before = links(unit);
        let changes = self.manager.unit_file(verb, unit).map_err(|e| failed(format!("{verb} {unit}"), e))?;
        Ok(changes
            .into_iter()
            .filter_map(|(kind, path, target)| match kind.as_str() {
                "symlink" => Some((kind, path, target)),
                "unlink" => before.iter().find(|(p, _)| *p == path).map(|(p, t)| (kind, p.clone(), t.clone())),
                _ => None,
            })
            .collect())
    }

    fn job(&mut self, verb: &str, unit: &str) -> Result<(), WriteError> {
        self.machine(verb)?;
        self.manager.job(verb, unit, JOB).map(drop).map_err(|e| failed(format!("{verb} {unit}"), e))
    }

    fn reset_failed(&mut self, unit: &str) -> Result<(), WriteError> {
        self.machine("clearing the record of failures")?;
        self.manager.reset_failed(unit).map_err(|e| failed(format!("clear the failures of {unit}"), e))
    }

    fn reload_manager(&mut self) -> Result<(), WriteError> {
        match self.reach {
            Reach::Machine => self.manager.reload_manager().map_err(|e| failed("reload the manager", e)),
            Reach::Tree => Ok(()),
        }
    }

    fn end_process(&mut self, pid: u32, start_ticks: u64, gently: bool) -> Result<(), WriteError> {
        self.machine("ending a process")?;
        let what = format!("end pid {pid}");
        let Some(handle) = handle(pid, start_ticks, &what)? else { return Ok(()) };
        // What keeps data gets the time to write them, and is left running rather than killed.
        let signals: &[rustix::process::Signal] =
            if gently { &[rustix::process::Signal::TERM] } else { &[rustix::process::Signal::TERM, rustix::process::Signal::KILL] };
        let patience = if gently { GENTLE_END } else { END };
        for &signal in signals {
            match rustix::process::pidfd_send_signal(&handle, signal) {
                Ok(()) => {}
                Err(rustix::io::Errno::SRCH) => return Ok(()),
                Err(errno) => return Err(failed(what, errno)),
            }
            let began = Instant::now();
            while began.elapsed() < patience {
                let mut wait = [rustix::event::PollFd::new(&handle, rustix::event::PollFlags::IN)];
                let slice = rustix::event::Timespec { tv_sec: 0, tv_nsec: 100_000_000 };
                match rustix::event::poll(&mut wait, Some(&slice)) {
                    Ok(n) if n > 0 => return Ok(()),
                    _ => {}
                }
            }
        }
        Err(failed(what, "it does not end"))
    }

    fn continue_process(&mut self, pid: u32, start_ticks: u64) -> Result<(), WriteError> {
        self.machine("letting a process go on")?;
        let what = format!("continue pid {pid}");
        let Some(handle) = handle(pid, start_ticks, &what)? else { return Err(WriteError::Refused(format!("pid {pid} is gone"))) };
        rustix::process::pidfd_send_signal(&handle, rustix::process::Signal::CONT).map_err(|e| failed(what, e))
    }

    fn run(&mut self, command: &str, environment: &[(String, String)], account: Option<&str>) -> Result<(), WriteError> {
        self.machine("running a command")?;
        let words = jolly_core::manager::split_words(command);
        let Some((program, arguments)) = words.split_first() else { return Err(WriteError::Refused("the command is empty".into())) };
        let mut child = std::process::Command::new(program);
        child.args(arguments).envs(environment.iter().map(|(k, v)| (k, v)));
        child.stdin(std::process::Stdio::null()).stdout(std::process::Stdio::null()).stderr(std::process::Stdio::null());
        if let Some(account) = account.filter(|_| rustix::process::geteuid().as_raw() == 0) {
            let (uid, gid) = account_numbers(account).ok_or_else(|| WriteError::Refused(format!("account {account} does not exist")))?;
            std::os::unix::process::CommandExt::uid(&mut child, uid);
            std::os::unix::process::CommandExt::gid(&mut child, gid);
        }
        let status = child.status().map_err(|e| failed(format!("run {command}"), e))?;
        if status.success() {
            return Ok(());
        }
        let words = status.code().filter(|_| program.starts_with("/etc/init.d/")).and_then(jolly_core::manager::script_words);
        Err(failed(format!("run {command}"), words.map_or_else(|| status.to_string(), |w| format!("{status}: {w}"))))
    }

    fn is_active(&self, unit: &str) -> Option<bool> {
        match self.manager.unit(unit) {
            Look::Seen(Answer::Unit(state)) => Some(matches!(state.active_state.as_str(), "active" | "reloading" | "activating")),
            Look::Absent => Some(false),
            _ => None,
        }
    }
}

/// A handle of a process, known by its number and its start; `None` when it is gone. While the handle is held the number
/// cannot become somebody else's.
fn handle(pid: u32, start_ticks: u64, what: &str) -> Result<Option<std::os::fd::OwnedFd>, WriteError> {
    let number = i32::try_from(pid).ok().and_then(rustix::process::Pid::from_raw).ok_or_else(|| WriteError::Refused(format!("{pid} is no process number")))?;
    let handle = match rustix::process::pidfd_open(number, rustix::process::PidfdFlags::empty()) {
        Ok(handle) => handle,
        Err(rustix::io::Errno::SRCH) => return Ok(None),
        Err(errno) => return Err(failed(what, errno)),
    };
    if start_of(pid) != Some(start_ticks) {
        return Err(WriteError::Refused(format!("pid {pid} is another process by now; it was left alone")));
    }
    Ok(Some(handle))
}

/// Links that enable or mask a unit, with their targets.
fn links(unit: &str) -> Vec<(String, String)> {
    let mut found = Vec::new();
    for base in ["/etc/systemd/system", "/run/systemd/system"] {
        let mut dirs = vec![PathBuf::from(base)];
        dirs.extend(fs::read_dir(base).into_iter().flatten().flatten().map(|e| e.path()).filter(|p| p.is_dir()));
        for dir in dirs {
            for entry in fs::read_dir(&dir).into_iter().flatten().flatten() {
                let path = entry.path();
                let Ok(target) = fs::read_link(&path) else { continue };
                let about = path.file_name().is_some_and(|n| n == unit) || target.file_name().is_some_and(|n| n == unit);
                if about {
                    found.push((path.to_string_lossy().into_owned(), target.to_string_lossy().into_owned()));
                }
            }
        }
    }
    found
}

fn start_of(pid: u32) -> Option<u64> {
    let stat = fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
    stat.rsplit(')').next()?.split_whitespace().nth(19)?.parse().ok()
}

fn account_numbers(name: &str) -> Option<(u32, u32)> {
    let text = fs::read_to_string("/etc/passwd").ok()?;
    text.lines().find_map(|line| {
        let mut fields = line.split(':');
        (fields.next() == Some(name)).then_some(())?;
        Some((fields.nth(1)?.parse().ok()?, fields.next()?.parse().ok()?))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_replaced_file_keeps_its_mode_and_refuses_foreign_bytes() {
        let dir = tempfile::tempdir().unwrap();
        let file = dir.path().join("front.conf");
        fs::write(&file, "Listen 80\n").unwrap();
        fs::set_permissions(&file, fs::Permissions::from_mode(0o640)).unwrap();
        let mut writer = LinuxWriter::new(dir.path(), &dir.path().join("state"), Reach::Tree);
        writer.prepare().unwrap();
        writer.replace_file("/front.conf", &digest(b"Listen 80\n"), b"Listen 81\n").unwrap();
        assert_eq!(fs::read(&file).unwrap(), b"Listen 81\n");
        assert_eq!(fs::metadata(&file).unwrap().mode() & 0o777, 0o640);
        let refused = writer.replace_file("/front.conf", &digest(b"Listen 80\n"), b"x").unwrap_err();
        assert!(refused.to_string().contains("changed meanwhile"), "{refused}");
        assert_eq!(fs::read(&file).unwrap(), b"Listen 81\n");
        let names: Vec<_> = fs::read_dir(dir.path()).unwrap().flatten().map(|e| e.file_name()).collect();
        assert_eq!(names.len(), 2, "nothing is left beside it: {names:?}");
    }

    #[test]
    fn two_changes_at_a_time_are_refused() {
        let dir = tempfile::tempdir().unwrap();
        let mut first = LinuxWriter::new(dir.path(), dir.path(), Reach::Tree);
        first.prepare().unwrap();
        let mut second = LinuxWriter::new(dir.path(), dir.path(), Reach::Tree);
        assert!(second.prepare().is_err());
        drop(first);
        second.prepare().unwrap();
    }

    #[test]
    fn a_process_that_became_another_is_not_signalled() {
        let mut child = std::process::Command::new("sleep").arg("60").spawn().unwrap();
        let dir = tempfile::tempdir().unwrap();
        let mut writer = LinuxWriter::new(Path::new("/"), dir.path(), Reach::Machine);
        let start = start_of(child.id()).unwrap();
        let refused = writer.end_process(child.id(), start + 1, false).unwrap_err();
        assert!(refused.to_string().contains("another process"), "{refused}");
        assert!(child.try_wait().unwrap().is_none(), "it still runs");
        writer.end_process(child.id(), start, true).unwrap();
        child.wait().unwrap();
    }

    #[test]
    fn a_rename_never_overwrites() {
        let dir = tempfile::tempdir().unwrap();
        fs::write(dir.path().join("a"), "1").unwrap();
        fs::write(dir.path().join("b"), "2").unwrap();
        let mut writer = LinuxWriter::new(dir.path(), dir.path(), Reach::Tree);
        assert!(writer.rename("/a", "/b").is_err());
        assert_eq!(fs::read(dir.path().join("b")).unwrap(), b"2");
    }
}
