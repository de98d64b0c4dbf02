//! Files below a directory that nothing leads out of: the kernel resolves each path with that directory as
//! its root, also while somebody renames inside.
use crate::descent::resolved;
use crate::files;
use jolly_core::host::{Look, Unseen};
use jolly_core::trust::LINKS;
use rustix::fs::{Mode, OFlags, ResolveFlags};
use rustix::io::Errno;
use std::os::fd::OwnedFd;
use std::path::Path;

/// Names on the way to one file, for kernels that do not resolve it themselves.
const NAMES: usize = 4_096;

/// A directory as the root of a tree.
#[derive(Debug)]
pub(crate) struct Cage {
    root: OwnedFd,
}

impl Cage {
    pub(crate) fn new(root: &Path) -> Result<Self, Errno> {
        rustix::io::retry_on_intr(|| {
            rustix::fs::open(root, OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty())
        })
        .map(|root| Self { root })
    }

    /// What a path of the tree leads to, by name alone: nothing is opened for reading.
    pub(crate) fn find(&self, path: &str, follow: bool) -> Result<OwnedFd, Errno> {
        let below = path.trim_start_matches('/');
        let below = if below.is_empty() { "." } else { below };
        let flags = OFlags::PATH | OFlags::CLOEXEC | if follow { OFlags::empty() } else { OFlags::NOFOLLOW };
        let how = ResolveFlags::IN_ROOT | ResolveFlags::NO_MAGICLINKS;
        resolved(&self.root, below, flags, how).unwrap_or_else(|| self.walk(path, follow))
    }

    /// The same name by name, each held open, for kernels without `openat2` and sandboxes that refuse it.
    fn walk(&self, path: &str, follow: bool) -> Result<OwnedFd, Errno> {
        let one = |dir: &OwnedFd, name: &str| {
            let flags = OFlags::PATH | OFlags::NOFOLLOW | OFlags::CLOEXEC;
            rustix::io::retry_on_intr(|| rustix::fs::openat(dir, name, flags, Mode::empty()))
        };
        let split = |text: &str| {
            text.split('/')
                .filter(|n| !n.is_empty() && *n != ".")
                .rev()
                .map(str::to_owned)
                .collect::<Vec<_>>()
        };
        let mut open = vec![one(&self.root, ".")?];
        let mut rest = split(path);
        let (mut links, mut names) = (0, 0);
        while let Some(name) = rest.pop() {
            names += 1;
            if names > NAMES {
                return Err(Errno::NAMETOOLONG);
            }
            if name == ".." {
                if open.len() > 1 {
                    open.pop();
                }
                continue;
            }
            let node = one(open.last().unwrap_or(&self.root), &name)?;
            let link =
                files::status_of(&node).map_err(|_| Errno::IO)?.kind == jolly_core::host::FileKind::Link;
            if link && (follow || !rest.is_empty()) {
                links += 1;
                if links > LINKS {
                    return Err(Errno::LOOP);
                }
                let target = rustix::fs::readlinkat(&node, c"", Vec::new())?.to_string_lossy().into_owned();
                if target.starts_with('/') {
                    open.truncate(1);
                }
                rest.extend(split(&target));
            } else {
                open.push(node);
            }
        }
        open.pop().ok_or(Errno::NOENT)
    }

    /// A look at what a path leads to, by a name that leads to nothing else.
    pub(crate) fn look<T>(&self, path: &str, follow: bool, look: impl FnOnce(&Path) -> Look<T>) -> Look<T> {
        match self.find(path, follow) {
            Ok(node) => look(&files::proc_path(&node)),
            Err(Errno::LOOP) => Look::NotSeen(Unseen::Failed(format!("more than {LINKS} symbolic links"))),
            Err(errno) => files::unseen(errno),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs;
    use std::os::unix::fs::symlink;

    #[test]
    fn both_ways_of_resolving_stay_inside_and_agree() {
        let outer = tempfile::tempdir().unwrap();
        let dir = outer.path().join("tree");
        fs::create_dir_all(dir.join("etc/quay")).unwrap();
        fs::write(dir.join("etc/quay/front.conf"), "inside").unwrap();
        fs::write(outer.path().join("secret"), "outside").unwrap();
        for (link, target) in [
            ("etc/absolute", "/etc/quay"),
            ("etc/up", "../../../../secret"),
            ("etc/out", outer.path().join("secret").to_str().unwrap()),
            ("etc/self", "self"),
            ("etc/deep", "absolute/../quay/front.conf"),
            ("etc/proc", "/proc/self/root/etc/passwd"),
        ] {
            symlink(target, dir.join(link)).unwrap();
        }
        let cage = Cage::new(&dir).unwrap();
        let read = |node: Result<OwnedFd, Errno>| {
            node.and_then(|n| fs::read_to_string(files::proc_path(&n)).map_err(|_| Errno::ISDIR))
        };
        for path in [
            "/etc/quay/front.conf",
            "/etc/absolute/front.conf",
            "/etc/up",
            "/etc/out",
            "/etc/self",
            "/etc/deep",
            "/etc/proc",
            "/none",
            "/",
            "/../../etc/deep",
        ] {
            for follow in [true, false] {
                let (kernel, own) = (read(cage.find(path, follow)), read(cage.walk(path, follow)));
                assert_eq!(kernel, own, "{path} {follow}");
                assert_ne!(kernel.as_deref(), Ok("outside"), "{path}");
            }
        }
        assert_eq!(read(cage.find("/etc/deep", true)).as_deref(), Ok("inside"));
        assert_eq!(read(cage.find("/etc/self", true)), Err(Errno::LOOP));
    }
}
