//! The one place that changes a machine: atomic file changes, verbs of the manager, the end of processes.
//!
//! Files are reached one name at a time (`descent`), and what is changed is the open file that was compared
//! with the plan, never a path that somebody could have turned elsewhere meanwhile. What is put in place is
//! prepared in the journal, which nobody else can see, and changes places with what was there in one call.
use crate::descent::{descend, directory, words};
use crate::files;
use crate::manager::Manager;
use crate::processes::{self, JOB};
use crate::state::{State, bytes_of, discard, failed, open_again, sync};
use jolly_core::fix::{
    CommandLine, Digest, HostWriter, Identity, Slot, Target, UnitLink, UnitNow, WriteError, digest,
};
use jolly_core::host::{Answer, FileKind, FileStatus, Look, READ_LIMIT};
use jolly_core::path;
use jolly_core::trust::{Found, Last, Refusal};
use rustix::fs::{AtFlags, Gid, Mode, OFlags, RenameFlags, Uid};
use rustix::io::{Errno, retry_on_intr};
use std::fs::{self, File};
use std::io::Write;
use std::os::fd::OwnedFd;
use std::path::{Path, PathBuf};

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
    state: State,
    reach: Reach,
    manager: Manager,
    /// How names change places: the system's call; tests put one here that a file system without exchange
    /// would answer.
    rename: Rename,
}

/// What was prepared to be put in place: a name in the journal's directory of the change, or beside the
/// target.
struct Staged {
    dir: OwnedFd,
    name: String,
    beside: bool,
}

impl LinuxWriter {
    /// A writer that keeps its change journal in `state`.
    pub fn new(root: &Path, state: &Path, reach: Reach) -> Self {
        Self {
            root: root.to_path_buf(),
            state: State::new(state),
            reach,
            manager: Manager::default(),
            rename,
        }
    }

    /// Makes sure that the journal can be written, and that no other change is going on.
    ///
    /// # Errors
    /// What stands in the way. Nothing was changed then.
    pub fn prepare(&mut self) -> Result<(), WriteError> {
        self.state.prepare()
    }

    /// Whether the journal can be believed, for a list of what is in it.
    ///
    /// # Errors
    /// Who else could have written it, or the system's words.
    pub fn check_journal(&self) -> Result<(), WriteError> {
        self.state.changes().map(drop)
    }

    fn machine(&self, what: &str) -> Result<(), WriteError> {
        match self.reach {
            Reach::Machine => Ok(()),
            Reach::Tree => {
                Err(WriteError::Refused(format!("{what} needs the running machine, not a directory tree")))
            }
        }
    }

    /// Walks to a target. A directory that is missing on the way leaves the name free as well.
    fn find(&self, target: &Target) -> Result<Option<Found<OwnedFd>>, WriteError> {
        let root = directory(&self.root).map_err(|e| failed(format!("open {}", self.root.display()), e))?;
        match descend(&root, &target.path, Last::Itself, &target.keepers) {
            Ok(found) if found.path == path::clean(&target.path) => Ok(Some(found)),
            Ok(found) => Err(WriteError::Refused(format!("{} now leads to {}", target.path, found.path))),
            Err(Refusal::Missing(_)) => Ok(None),
            Err(refusal) => Err(WriteError::Refused(words(&refusal))),
        }
    }

    /// The same where the directory must be there.
    fn reach(&self, target: &Target) -> Result<Found<OwnedFd>, WriteError> {
        self.find(target)?
            .ok_or_else(|| WriteError::Refused(format!("the directory of {} does not exist", target.path)))
    }

    /// The very file that was planned, with owner and mode as they were then.
    fn planned(&self, target: &Target) -> Result<(Found<OwnedFd>, OwnedFd, FileStatus), WriteError> {
        let mut found = self.reach(target)?;
        let Some((node, status)) = found.node.take() else {
            return Err(WriteError::Refused(format!("{} no longer exists", target.path)));
        };
        match &target.was {
            Some(was) if *was == Identity::of(&status) => Ok((found, node, status)),
            _ => Err(WriteError::Refused(format!(
                "{} is not the file that was planned, or its owner or mode changed; it was left alone",
                target.path
            ))),
        }
    }

    /// Where something is prepared: in the journal, where that lies on the same mount as the target.
    fn slot(&self, parent: &OwnedFd, name: &str, slot: Slot, beside: bool) -> Result<Staged, WriteError> {
        let Some(journal) = self.state.of(slot.id, true)? else {
            return Err(WriteError::Refused("the journal cannot be made".into()));
        };
        if !beside && mount(&journal).is_some_and(|m| Some(m) == mount(parent)) {
            return Ok(Staged { dir: journal, name: format!("{}.new", slot.step), beside: false });
        }
        let dir = open_again(parent, OFlags::RDONLY | OFlags::DIRECTORY)
            .map_err(|e| failed(format!("open the directory of {name}"), e))?;
        Ok(Staged { dir: dir.into(), name: beside_name(name, slot), beside: true })
    }

    /// Renames onto a free name; a file system that cannot promise that it is free is asked first.
    fn rename_free(&self, from: &OwnedFd, name: &str, to: &OwnedFd, new: &str) -> Result<(), Errno> {
        match (self.rename)(from, name, to, new, RenameFlags::NOREPLACE) {
            Err(Errno::INVAL | Errno::NOSYS | Errno::NOTSUP) => {
                match rustix::fs::statat(to, new, AtFlags::SYMLINK_NOFOLLOW) {
                    Ok(_) => Err(Errno::EXIST),
                    Err(Errno::NOENT) => (self.rename)(from, name, to, new, RenameFlags::empty()),
                    Err(errno) => Err(errno),
                }
            }
            other => other,
        }
    }

    /// Puts what was prepared over the target where the file system cannot exchange two names: the last look
    /// and the rename are two calls (SECURITY.md says what remains).
    fn rename_over(
        &self,
        staged: &Staged,
        found: &Found<OwnedFd>,
        target: &Target,
        expect: &Digest,
    ) -> Result<(), WriteError> {
        let what = format!("write {}", target.path);
        let changed = || WriteError::Refused(format!("{} changed meanwhile; it was left alone", target.path));
        let (parent, name) = (&found.parent.0, found.name.as_str());
        let Some((node, _)) = &found.node else { return Err(changed()) };
        if digest_at(parent, name).as_ref() != Some(expect) {
            return Err(changed());
        }
        (self.rename)(&staged.dir, &staged.name, parent, name, RenameFlags::empty())
            .map_err(|e| failed(&*what, e))?;
        // The file that stood there is still open: what somebody wrote into it meanwhile takes its place
        // again.
        let old = bytes_of(node, READ_LIMIT).map_err(|e| failed(&*what, e))?;
        if digest(&old) == *expect {
            return Ok(());
        }
        stage_file(staged, &old, Some(node))?;
        (self.rename)(&staged.dir, &staged.name, parent, name, RenameFlags::empty())
            .map_err(|e| failed(format!("put back {}", target.path), e))
            .and(Err(changed()))
    }
}

/// A new file in a slot, with the owner, mode, access list and attributes of another one. In the journal it
/// takes its name only when it is whole: what stands there under that name can be used again.
fn stage_file(staged: &Staged, content: &[u8], like: Option<&OwnedFd>) -> Result<(), WriteError> {
    let name = if staged.beside { staged.name.clone() } else { format!("{}.part", staged.name) };
    let write = || -> std::io::Result<()> {
        discard(&staged.dir, &name)?;
        let flags = OFlags::WRONLY | OFlags::CREATE | OFlags::EXCL | OFlags::NOFOLLOW | OFlags::CLOEXEC;
        let mut file = File::from(retry_on_intr(|| {
            rustix::fs::openat(&staged.dir, &*name, flags, Mode::RUSR | Mode::WUSR)
        })?);
        file.write_all(content)?;
        match like {
            Some(like) => copy_attributes(like, &file)?,
            None => rustix::fs::fchmod(&file, Mode::from_raw_mode(0o644))?,
        }
        sync(&file)?;
        if !staged.beside {
            retry_on_intr(|| rustix::fs::renameat(&staged.dir, &*name, &staged.dir, &*staged.name))?;
        }
        Ok(())
    };
    write().map_err(|error| {
        let _ = discard(&staged.dir, &name);
        failed("prepare the new file", error)
    })
}

/// A name beside a target that belongs to one step of one change alone.
fn beside_name(name: &str, slot: Slot) -> String {
    let short: String = name.chars().take(60).collect();
    format!(".{short}.jolly-{}-{}", slot.id, slot.step)
}

/// Device and mount of what a descriptor stands for: only within one mount does a file change its directory.
fn mount(dir: &OwnedFd) -> Option<(u32, u32, u64)> {
    let told = rustix::fs::statx(dir, c"", AtFlags::EMPTY_PATH, rustix::fs::StatxFlags::MNT_ID).ok()?;
    Some((told.stx_dev_major, told.stx_dev_minor, told.stx_mnt_id))
}

/// Copies owner, mode and every extended attribute, access lists among them.
fn copy_attributes(from: &OwnedFd, to: &File) -> std::io::Result<()> {
    let status = files::status_of(from)?;
    let from = files::proc_path(from);
    rustix::fs::fchown(to, Some(Uid::from_raw(status.uid)), Some(Gid::from_raw(status.gid)))?;
    rustix::fs::fchmod(to, Mode::from_raw_mode(status.mode))?;
    let mut names = vec![0u8; 64 << 10];
    let length = match rustix::fs::listxattr(&from, &mut names[..]) {
        Ok(length) => length,
        Err(Errno::NOTSUP) => return Ok(()),
        Err(errno) => return Err(errno.into()),
    };
    for name in names.get(..length).unwrap_or_default().split(|b| *b == 0).filter(|n| !n.is_empty()) {
        let mut value = vec![0u8; 64 << 10];
        let size = rustix::fs::getxattr(&from, name, &mut value[..])?;
        rustix::fs::fsetxattr(
            to,
            name,
            value.get(..size).unwrap_or_default(),
            rustix::fs::XattrFlags::empty(),
        )?;
    }
    Ok(())
}

/// A rename, as `renameat2(2)` takes it.
type Rename = fn(&OwnedFd, &str, &OwnedFd, &str, RenameFlags) -> Result<(), Errno>;

fn rename(from: &OwnedFd, name: &str, to: &OwnedFd, new: &str, flags: RenameFlags) -> Result<(), Errno> {
    retry_on_intr(|| match flags {
        // The older call: a kernel or sandbox without the newer one has it.
        none if none.is_empty() => rustix::fs::renameat(from, name, to, new),
        flags => rustix::fs::renameat_with(from, name, to, new, flags),
    })
}

fn status_at(dir: &OwnedFd, name: &str) -> Option<FileStatus> {
    let node =
        rustix::fs::openat(dir, name, OFlags::PATH | OFlags::NOFOLLOW | OFlags::CLOEXEC, Mode::empty())
            .ok()?;
    files::status_of(&node).ok()
}

fn digest_at(dir: &OwnedFd, name: &str) -> Option<Digest> {
    let node =
        rustix::fs::openat(dir, name, OFlags::PATH | OFlags::NOFOLLOW | OFlags::CLOEXEC, Mode::empty())
            .ok()?;
    bytes_of(&node, READ_LIMIT).ok().map(|bytes| digest(&bytes))
}

/// Syncs a directory that is held by name alone.
fn sync_names(dir: &OwnedFd) -> std::io::Result<()> {
    sync(&open_again(dir, OFlags::RDONLY | OFlags::DIRECTORY)?)
}

impl HostWriter for LinuxWriter {
    fn store(&mut self, id: &str, name: &str, bytes: &[u8]) -> Result<(), WriteError> {
        self.state.store(id, name, bytes)
    }

    fn load(&self, id: &str, name: &str) -> Option<Vec<u8>> {
        self.state.load(id, name)
    }

    fn changes(&self) -> Vec<String> {
        self.state.changes().unwrap_or_default()
    }

    fn status(&self, target: &Target) -> Result<Option<FileStatus>, WriteError> {
        Ok(self.find(target)?.and_then(|found| found.node).map(|(_, status)| status))
    }

    fn content(&self, target: &Target) -> Result<Option<Vec<u8>>, WriteError> {
        let Some((node, _)) = self.find(target)?.and_then(|found| found.node) else { return Ok(None) };
        bytes_of(&node, READ_LIMIT).map(Some).map_err(|e| failed(format!("read {}", target.path), e))
    }

    fn replace_file(
        &mut self,
        target: &Target,
        expect: &Digest,
        content: &[u8],
        slot: Slot,
    ) -> Result<(), WriteError> {
        let what = format!("write {}", target.path);
        let changed = || WriteError::Refused(format!("{} changed meanwhile; it was left alone", target.path));
        let found = self.reach(target)?;
        let (parent, name) = (&found.parent.0, found.name.as_str());
        let Some((node, status)) = &found.node else {
            return Err(WriteError::Refused(format!("{} no longer exists", target.path)));
        };
        if target.was.as_ref().is_some_and(|was| *was != Identity::of(status)) {
            return Err(changed());
        }
        if digest(&bytes_of(node, READ_LIMIT).map_err(|e| failed(&*what, e))?) != *expect {
            return Err(changed());
        }
        let mut beside = false;
        loop {
            let staged = self.slot(parent, name, slot, beside)?;
            // The way back finds the very file that was there before, when the journal could keep it.
            let kept = !staged.beside
                && status_at(&staged.dir, &staged.name).is_some_and(|s| s.kind == FileKind::Regular);
            if !kept || digest_at(&staged.dir, &staged.name).as_ref() != Some(&digest(content)) {
                stage_file(&staged, content, Some(node))?;
            }
            let outcome = match (self.rename)(&staged.dir, &staged.name, parent, name, RenameFlags::EXCHANGE)
            {
                // What came out must be what was planned; an edit of the last moment goes back.
                Ok(()) if digest_at(&staged.dir, &staged.name).as_ref() == Some(expect) => Ok(()),
                Ok(()) => {
                    let back = (self.rename)(&staged.dir, &staged.name, parent, name, RenameFlags::EXCHANGE);
                    back.map_err(|e| failed(format!("put back {}", target.path), e)).and(Err(changed()))
                }
                Err(Errno::XDEV) if !staged.beside => {
                    discard(&staged.dir, &staged.name).map_err(|e| failed(&*what, e))?;
                    beside = true;
                    continue;
                }
                Err(Errno::INVAL | Errno::NOSYS | Errno::NOTSUP) => {
                    self.rename_over(&staged, &found, target, expect)
                }
                Err(errno) => Err(failed(&*what, errno)),
            };
            // Beside the target nothing stays: the journal has the bytes.
            if outcome.is_err() || staged.beside {
                let _ = discard(&staged.dir, &staged.name);
            }
            outcome?;
            return sync_names(parent).and_then(|()| sync(&staged.dir)).map_err(|e| failed(what, e));
        }
    }

    fn create_file(&mut self, target: &Target, content: &[u8], slot: Slot) -> Result<(), WriteError> {
        let what = format!("make {}", target.path);
        let found = self.reach(target)?;
        let parent = &found.parent.0;
        let mut beside = false;
        loop {
            let staged = self.slot(parent, &found.name, slot, beside)?;
            stage_file(&staged, content, None)?;
            match self.rename_free(&staged.dir, &staged.name, parent, &found.name) {
                Ok(()) => return sync_names(parent).map_err(|e| failed(what, e)),
                Err(errno) => {
                    discard(&staged.dir, &staged.name).map_err(|e| failed(&*what, e))?;
                    if errno != Errno::XDEV || beside {
                        return Err(failed(what, errno));
                    }
                    beside = true;
                }
            }
        }
    }

    fn remove_file(&mut self, target: &Target, expect: &Digest, _slot: Slot) -> Result<(), WriteError> {
        let what = format!("remove {}", target.path);
        let found = self.reach(target)?;
        let Some((node, _)) = &found.node else { return Ok(()) };
        if digest(&bytes_of(node, READ_LIMIT).map_err(|e| failed(&*what, e))?) != *expect {
            return Err(WriteError::Refused(format!("{} changed meanwhile; it was left alone", target.path)));
        }
        discard(&found.parent.0, &found.name)
            .and_then(|()| sync_names(&found.parent.0))
            .map_err(|e| failed(what, e))
    }

    fn set_mode(&mut self, target: &Target, mode: u32) -> Result<(), WriteError> {
        let (_, node, _) = self.planned(target)?;
        // The name in /proc leads to this very file; a descriptor by name alone takes no mode itself.
        retry_on_intr(|| rustix::fs::chmod(files::proc_path(&node), Mode::from_raw_mode(mode)))
            .map_err(|e| failed(format!("set the mode of {}", target.path), e))
    }

    fn set_owner(&mut self, target: &Target, uid: u32, gid: u32) -> Result<(), WriteError> {
        let (_, node, _) = self.planned(target)?;
        // Set-id bits are cleared by the kernel, and stay so: what was somebody's shall not run with
        // another's rights.
        retry_on_intr(|| {
            rustix::fs::chownat(
                &node,
                c"",
                Some(Uid::from_raw(uid)),
                Some(Gid::from_raw(gid)),
                AtFlags::EMPTY_PATH,
            )
        })
        .map_err(|e| failed(format!("set the owner of {}", target.path), e))
    }

    fn prepare_directory(
        &mut self,
        target: &Target,
        mode: u32,
        uid: u32,
        gid: u32,
        slot: Slot,
    ) -> Result<Identity, WriteError> {
        let found = self.reach(target)?;
        if found.node.is_some() {
            return Err(WriteError::Refused(format!("{} exists now", target.path)));
        }
        let staged = self.slot(&found.parent.0, &found.name, slot, false)?;
        let make = || -> std::io::Result<Identity> {
            remove_empty(&staged.dir, &staged.name)?;
            retry_on_intr(|| rustix::fs::mkdirat(&staged.dir, &*staged.name, Mode::RWXU))?;
            let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::NOFOLLOW | OFlags::CLOEXEC;
            let made =
                retry_on_intr(|| rustix::fs::openat(&staged.dir, &*staged.name, flags, Mode::empty()))?;
            // Beside the target its keeper may have renamed another directory to this name since: what is
            // given away is ours and holds nothing.
            if files::status_of(&made)?.uid != rustix::process::geteuid().as_raw() || !is_empty(&made)? {
                return Err(std::io::Error::other("somebody put another directory in its place"));
            }
            if rustix::process::geteuid().is_root() {
                retry_on_intr(|| {
                    rustix::fs::fchown(&made, Some(Uid::from_raw(uid)), Some(Gid::from_raw(gid)))
                })?;
            }
            retry_on_intr(|| rustix::fs::fchmod(&made, Mode::from_raw_mode(mode)))?;
            sync(&staged.dir)?;
            files::status_of(&made).map(|status| Identity::of(&status))
        };
        make().map_err(|e| {
            let _ = remove_empty(&staged.dir, &staged.name);
            failed(format!("make the directory {}", target.path), e)
        })
    }

    fn place_directory(&mut self, target: &Target, slot: Slot) -> Result<(), WriteError> {
        let what = format!("make the directory {}", target.path);
        let found = self.reach(target)?;
        let staged = self.slot(&found.parent.0, &found.name, slot, false)?;
        self.rename_free(&staged.dir, &staged.name, &found.parent.0, &found.name)
            .map_err(|e| failed(&*what, e))?;
        sync_names(&found.parent.0).map_err(|e| failed(what, e))
    }

    fn remove_directory(&mut self, target: &Target, _slot: Slot) -> Result<bool, WriteError> {
        let what = format!("remove the directory {}", target.path);
        let found = self.reach(target)?;
        let Some((_, status)) = &found.node else { return Ok(true) };
        if !target.was.as_ref().is_some_and(|was| was.is(status)) {
            return Err(WriteError::Refused(format!(
                "{} is now another directory; it was left alone",
                target.path
            )));
        }
        match retry_on_intr(|| rustix::fs::unlinkat(&found.parent.0, &*found.name, AtFlags::REMOVEDIR)) {
            Ok(()) => sync_names(&found.parent.0).map(|()| true).map_err(|e| failed(what, e)),
            Err(Errno::NOTEMPTY | Errno::EXIST) => Ok(false),
            Err(errno) => Err(failed(what, errno)),
        }
    }

    fn rename(&mut self, target: &Target, to: &str) -> Result<(), WriteError> {
        let what = format!("rename {} to {to}", target.path);
        if path::parent(to) != path::parent(&target.path) {
            return Err(WriteError::Refused(format!("{to} is not beside {}", target.path)));
        }
        let (found, _, status) = self.planned(target)?;
        let (parent, new) = (&found.parent.0, path::name(to));
        self.rename_free(parent, &found.name, parent, new).map_err(|e| failed(&*what, e))?;
        let same = |now: &FileStatus| (now.device, now.inode) == (status.device, status.inode);
        if !status_at(parent, new).as_ref().is_some_and(same) {
            // Somebody put something else there between the look and the call.
            self.rename_free(parent, new, parent, &found.name)
                .map_err(|e| failed(format!("put back {}", target.path), e))?;
            return Err(WriteError::Refused(format!(
                "{} is now another file; it was left alone",
                target.path
            )));
        }
        sync_names(parent).map_err(|e| failed(what, e))
    }

    fn link(&self, target: &Target) -> Result<Option<String>, WriteError> {
        let Some((node, status)) = self.find(target)?.and_then(|found| found.node) else { return Ok(None) };
        if status.kind != FileKind::Link {
            return Err(WriteError::Refused(format!("{} is not a symbolic link", target.path)));
        }
        let leads = rustix::fs::readlinkat(&node, c"", Vec::new())
            .map_err(|e| failed(format!("read the link {}", target.path), e))?;
        Ok(Some(leads.to_string_lossy().into_owned()))
    }

    fn set_link(
        &mut self,
        target: &Target,
        before: Option<&str>,
        after: Option<&str>,
    ) -> Result<(), WriteError> {
        let what = format!("change the link {}", target.path);
        let now = self.link(target)?;
        if now.as_deref() == after {
            return Ok(());
        }
        if now.as_deref() != before {
            return Err(WriteError::Refused(format!(
                "{} now points elsewhere; it was left alone",
                target.path
            )));
        }
        let found = self.reach(target)?;
        let parent = &found.parent.0;
        if before.is_some() {
            discard(parent, &found.name).map_err(|e| failed(&*what, e))?;
        }
        if let Some(leads) = after {
            retry_on_intr(|| rustix::fs::symlinkat(leads, parent, &*found.name))
                .map_err(|e| failed(&*what, e))?;
        }
        sync_names(parent).map_err(|e| failed(what, e))
    }

    fn clear(&mut self, target: Option<&Target>, slot: Slot) -> Result<(), WriteError> {
        let what = "remove what was prepared";
        if let Some(journal) = self.state.of(slot.id, false)? {
            for name in [format!("{}.new", slot.step), format!("{}.new.part", slot.step)] {
                remove_any(&journal, &name).map_err(|e| failed(what, e))?;
            }
        }
        if let Some(found) = target.map(|t| self.find(t)).transpose()?.flatten() {
            remove_any(&found.parent.0, &beside_name(&found.name, slot)).map_err(|e| failed(what, e))?;
        }
        Ok(())
    }

    fn unit_links(&self, units: &[String]) -> Vec<UnitLink> {
        if self.reach == Reach::Machine { links(units) } else { Vec::new() }
    }

    fn unit_file(&mut self, verb: &str, unit: &str) -> Result<(), WriteError> {
        self.machine(verb)?;
        self.manager.unit_file(verb, unit).map_err(|e| failed(format!("{verb} {unit}"), e))
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
        processes::end(pid, start_ticks, gently)
    }

    fn continue_process(&mut self, pid: u32, start_ticks: u64) -> Result<(), WriteError> {
        self.machine("letting a process go on")?;
        processes::let_go_on(pid, start_ticks)
    }

    fn is_alive(&self, pid: u32, start_ticks: u64) -> bool {
        processes::start_of(pid) == Some(start_ticks)
    }

    fn run(&mut self, line: &CommandLine) -> Result<(), WriteError> {
        self.machine("running a command")?;
        processes::run(line)
    }

    fn unit_now(&self, unit: &str) -> Option<UnitNow> {
        match self.manager.unit(unit) {
            Look::Seen(Answer::Unit(state)) => Some(UnitNow {
                active: matches!(state.active_state.as_str(), "active" | "reloading" | "activating"),
                invocation: state.invocation,
            }),
            Look::Absent => Some(UnitNow::default()),
            _ => None,
        }
    }
}

/// Whether an open directory holds nothing.
fn is_empty(dir: &OwnedFd) -> std::io::Result<bool> {
    for entry in rustix::fs::Dir::read_from(dir)? {
        if !matches!(entry?.file_name().to_bytes(), b"." | b"..") {
            return Ok(false);
        }
    }
    Ok(true)
}

/// Removes an empty directory, where it is there.
fn remove_empty(dir: &OwnedFd, name: &str) -> std::io::Result<()> {
    match retry_on_intr(|| rustix::fs::unlinkat(dir, name, AtFlags::REMOVEDIR)) {
        Ok(()) | Err(Errno::NOENT) => Ok(()),
        Err(errno) => Err(errno.into()),
    }
}

/// Removes a file, link or empty directory, where it is there.
fn remove_any(dir: &OwnedFd, name: &str) -> std::io::Result<()> {
    match status_at(dir, name) {
        None => Ok(()),
        Some(status) if status.kind == FileKind::Directory => remove_empty(dir, name),
        Some(_) => discard(dir, name),
    }
}

/// Links that enable, alias or mask units, with their targets, and the directories that hold such links
/// (without a target).
fn links(units: &[String]) -> Vec<UnitLink> {
    let mut found = Vec::new();
    for base in ["/etc/systemd/system", "/run/systemd/system"] {
        let mut dirs = vec![PathBuf::from(base)];
        for dir in fs::read_dir(base).into_iter().flatten().flatten() {
            let path = dir.path();
            let holds_links =
                path.extension().is_some_and(|e| e == "wants" || e == "requires" || e == "upholds");
            if holds_links && dir.file_type().is_ok_and(|t| t.is_dir()) {
                found.push((path.to_string_lossy().into_owned(), String::new()));
                dirs.push(path);
            }
        }
        for dir in dirs {
            for entry in fs::read_dir(&dir).into_iter().flatten().flatten() {
                let path = entry.path();
                let Ok(target) = fs::read_link(&path) else { continue };
                let named = |p: &Path| {
                    p.file_name().and_then(|n| n.to_str()).is_some_and(|n| units.iter().any(|u| u == n))
                };
                if named(&path) || named(&target) {
                    found.push((path.to_string_lossy().into_owned(), target.to_string_lossy().into_owned()));
                }
            }
        }
    }
    found.sort();
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A tree with one file, and a writer on a file system that cannot exchange names.
    fn without_exchange(rename: Rename) -> (tempfile::TempDir, LinuxWriter, Target) {
        let dir = tempfile::tempdir().unwrap();
        fs::create_dir(dir.path().join("etc")).unwrap();
        fs::write(dir.path().join("etc/front.conf"), "Listen 80\n").unwrap();
        let mut writer = LinuxWriter::new(dir.path(), &dir.path().join("state"), Reach::Tree);
        writer.prepare().unwrap();
        writer.rename = rename;
        let free = Target::free("/etc/front.conf");
        let was = writer.status(&free).unwrap().map(|s| Identity::of(&s));
        (dir, writer, Target { was, ..free })
    }

    const SLOT: Slot = Slot { id: "20310402-061011-120-front", step: 0 };

    fn plain(from: &OwnedFd, name: &str, to: &OwnedFd, new: &str, flags: RenameFlags) -> Result<(), Errno> {
        if flags.is_empty() { rename(from, name, to, new, flags) } else { Err(Errno::INVAL) }
    }

    fn edited_meanwhile(
        from: &OwnedFd,
        name: &str,
        to: &OwnedFd,
        new: &str,
        flags: RenameFlags,
    ) -> Result<(), Errno> {
        // Somebody writes into the file exactly between the last comparison and the first rename over it.
        let path = files::proc_path(to).join(new);
        if flags.is_empty() && fs::read(&path).is_ok_and(|b| b == b"Listen 80\n") {
            fs::write(path, "Listen 443\n").unwrap();
        }
        plain(from, name, to, new, flags)
    }

    fn full(_: &OwnedFd, _: &str, _: &OwnedFd, _: &str, flags: RenameFlags) -> Result<(), Errno> {
        Err(if flags.is_empty() { Errno::NOSPC } else { Errno::INVAL })
    }

    #[test]
    fn without_exchange_a_file_is_replaced_an_edit_of_the_last_moment_kept_and_nothing_left_beside() {
        let replace = |how: Rename, beside: bool| {
            let (dir, mut writer, target) = without_exchange(how);
            // A journal on another mount: what is prepared lies beside the target.
            if beside {
                writer.state = State::new(&Path::new("/dev/shm").join(format!(
                    "jolly-{}-{}",
                    std::process::id(),
                    how as usize
                )));
                writer.prepare().unwrap();
            }
            let outcome = writer.replace_file(&target, &digest(b"Listen 80\n"), b"Listen 8080\n", SLOT);
            let text = fs::read_to_string(dir.path().join("etc/front.conf")).unwrap();
            let names = fs::read_dir(dir.path().join("etc")).unwrap().count();
            if beside {
                let _ = fs::remove_dir_all(Path::new("/dev/shm").join(format!(
                    "jolly-{}-{}",
                    std::process::id(),
                    how as usize
                )));
            }
            (outcome.map_err(|e| e.to_string()), text, names)
        };
        for beside in [false, true] {
            assert_eq!(replace(plain, beside), (Ok(()), "Listen 8080\n".into(), 1), "{beside}");
            let (outcome, text, names) = replace(edited_meanwhile, beside);
            assert_eq!((text.as_str(), names), ("Listen 443\n", 1), "{beside}");
            assert!(outcome.unwrap_err().contains("changed meanwhile"));
            let (outcome, text, names) = replace(full, beside);
            assert_eq!((text.as_str(), names), ("Listen 80\n", 1), "{beside}");
            assert!(outcome.unwrap_err().contains("No space left"));
        }
    }

    #[test]
    fn without_exchange_a_name_that_is_taken_is_not_written_over() {
        let (dir, mut writer, _) = without_exchange(plain);
        let free = Target::free("/etc/new.conf");
        writer.create_file(&free, b"x", SLOT).unwrap();
        let taken = writer.create_file(&free, b"y", SLOT).unwrap_err();
        assert!(taken.to_string().contains("exists"), "{taken}");
        assert_eq!(fs::read(dir.path().join("etc/new.conf")).unwrap(), b"x");
    }

    #[test]
    fn a_process_that_became_another_is_not_signalled() {
        let mut child = std::process::Command::new("sleep").arg("60").spawn().unwrap();
        let dir = tempfile::tempdir().unwrap();
        let mut writer = LinuxWriter::new(Path::new("/"), dir.path(), Reach::Machine);
        let start = processes::start_of(child.id()).unwrap();
        let refused = writer.end_process(child.id(), start + 1, false).unwrap_err();
        assert!(refused.to_string().contains("another process"), "{refused}");
        assert!(child.try_wait().unwrap().is_none(), "it still runs");
        assert!(writer.is_alive(child.id(), start) && !writer.is_alive(child.id(), start + 1));
        writer.end_process(child.id(), start, true).unwrap();
        child.wait().unwrap();
        assert!(!writer.is_alive(child.id(), start));
    }
}
