//! Paths opened one name at a time: what was looked at stays held by its descriptor, so that nobody can put
//! something else in its place afterwards.
use crate::files;
use jolly_core::accounts;
use jolly_core::host::FileStatus;
use jolly_core::trust::{Found, Last, Nodes, Refusal, Trusted, walk};
use rustix::fs::{Mode, OFlags, ResolveFlags};
use rustix::io::Errno;
use std::os::fd::OwnedFd;
use std::path::Path;
use std::sync::OnceLock;

/// Only a name for a file: nothing is opened for reading, no FIFO or device takes notice.
const NAME_ONLY: OFlags = OFlags::PATH.union(OFlags::NOFOLLOW).union(OFlags::CLOEXEC);
/// How often a look is repeated that a rename elsewhere disturbed (openat2(2)).
const RETRIES: usize = 64;

/// A tree of descriptors that begins at a directory.
pub(crate) struct Descent<'r> {
    pub(crate) root: &'r OwnedFd,
}

impl Nodes for Descent<'_> {
    type Node = OwnedFd;
    fn root(&self) -> Result<OwnedFd, String> {
        self.root.try_clone().map_err(|e| e.to_string())
    }
    fn status(&self, node: &OwnedFd) -> Result<FileStatus, String> {
        files::status_of(node).map_err(|e| e.to_string())
    }
    fn child(&self, dir: &OwnedFd, name: &str) -> Result<Option<OwnedFd>, String> {
        match one(dir, name) {
            Ok(node) => Ok(Some(node)),
            Err(Errno::NOENT) => Ok(None),
            Err(errno) => Err(errno.to_string()),
        }
    }
    fn target(&self, link: &OwnedFd) -> Result<String, String> {
        let target = rustix::fs::readlinkat(link, c"", Vec::new()).map_err(|e| e.to_string())?;
        target.into_string().map_err(|_| "the link is not text".into())
    }
}

/// A path resolved by the kernel (`openat2(2)`), repeated a counted number of times where a rename elsewhere
/// disturbed it; `None` where the kernel has no such call, or a sandbox refuses it.
pub(crate) fn resolved(
    dir: &OwnedFd,
    path: &str,
    flags: OFlags,
    how: ResolveFlags,
) -> Option<Result<OwnedFd, Errno>> {
    for _ in 0..RETRIES {
        match rustix::fs::openat2(dir, path, flags, Mode::empty(), how) {
            Err(Errno::AGAIN | Errno::INTR) => {}
            Err(Errno::NOSYS | Errno::PERM) => return None,
            other => return Some(other),
        }
    }
    Some(Err(Errno::AGAIN))
}

/// One name in a directory, links not followed. Where the kernel cannot be asked for that, a single name that
/// is not followed is just as safe.
fn one(dir: &OwnedFd, name: &str) -> Result<OwnedFd, Errno> {
    let how = ResolveFlags::BENEATH | ResolveFlags::NO_SYMLINKS | ResolveFlags::NO_MAGICLINKS;
    resolved(dir, name, NAME_ONLY, how).unwrap_or_else(|| {
        rustix::io::retry_on_intr(|| rustix::fs::openat(dir, name, NAME_ONLY, Mode::empty()))
    })
}

/// A directory below another one, name by name, where no name may be a link.
pub(crate) fn without_links(root: &OwnedFd, path: &str) -> Result<OwnedFd, Errno> {
    let mut at = one(root, ".")?;
    for name in path.split('/').filter(|n| !n.is_empty()) {
        at = one(&at, name)?;
    }
    rustix::io::retry_on_intr(|| rustix::fs::openat(&at, ".", NAME_ONLY | OFlags::DIRECTORY, Mode::empty()))
}

/// A directory by its name alone.
pub(crate) fn directory(path: &Path) -> Result<OwnedFd, Errno> {
    rustix::io::retry_on_intr(|| {
        rustix::fs::open(path, OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty())
    })
}

/// Root, who runs this program, and `keepers`, with the groups of this machine as the first look found them.
pub(crate) fn trusted(keepers: &[u32]) -> Trusted {
    static HERE: OnceLock<Trusted> = OnceLock::new();
    let here = HERE.get_or_init(|| {
        let text = |file: &str| std::fs::read_to_string(file).unwrap_or_default();
        Trusted::new(
            rustix::process::geteuid().as_raw(),
            [],
            &text("/etc/passwd"),
            &text("/etc/group"),
            accounts::only_files(&text("/etc/nsswitch.conf")),
        )
    });
    here.with(keepers)
}

/// A refusal in words, with the names of this machine.
pub(crate) fn words(refusal: &Refusal) -> String {
    let name = |file: &str, number: u32| {
        let text = std::fs::read_to_string(file).unwrap_or_default();
        let found = text.lines().find_map(|line| {
            let mut fields = line.split(':');
            let name = fields.next()?;
            (fields.nth(1)?.parse() == Ok(number)).then(|| name.to_owned())
        });
        found.unwrap_or_else(|| number.to_string())
    };
    refusal.spelled(|uid| name("/etc/passwd", uid), |gid| name("/etc/group", gid))
}

/// Walks to a path below a directory; no name on the way can be replaced by anybody but root, the caller and
/// `keepers`.
pub(crate) fn descend(
    root: &OwnedFd,
    path: &str,
    last: Last,
    keepers: &[u32],
) -> Result<Found<OwnedFd>, Refusal> {
    walk(&Descent { root }, path, last, &trusted(keepers))
}

#[cfg(test)]
mod tests {
    use super::*;
    use jolly_core::host::FileKind;
    use jolly_core::trust::Replacer;
    use std::fs;
    use std::os::unix::fs::{PermissionsExt, chown, symlink};

    fn tree() -> (tempfile::TempDir, OwnedFd) {
        let dir = tempfile::tempdir().unwrap();
        fs::create_dir_all(dir.path().join("srv/edge")).unwrap();
        fs::write(dir.path().join("srv/edge/log"), "x").unwrap();
        fs::write(dir.path().join("secret"), "x").unwrap();
        let root = directory(dir.path()).unwrap();
        (dir, root)
    }

    #[test]
    fn a_way_of_ones_own_is_walked_and_links_of_ones_own_are_followed() {
        let (dir, root) = tree();
        symlink("srv/edge", dir.path().join("short")).unwrap();
        symlink("/srv", dir.path().join("top")).unwrap();
        for path in ["/srv/edge/log", "/short/log", "/top/edge/log", "/srv/./edge/../edge/log"] {
            let found = descend(&root, path, Last::Followed, &[]).unwrap_or_else(|e| panic!("{path}: {e:?}"));
            assert_eq!((found.path.as_str(), found.name.as_str()), ("/srv/edge/log", "log"), "{path}");
            assert_eq!(found.node.unwrap().1.kind, FileKind::Regular);
        }
        let free = descend(&root, "/srv/edge/new", Last::Itself, &[]).unwrap();
        assert!(free.node.is_none() && free.name == "new");
        assert_eq!(
            descend(&root, "/srv/none/new", Last::Itself, &[]).unwrap_err(),
            Refusal::Missing("/srv/none".into())
        );
        assert_eq!(
            descend(&root, "/srv/edge/log/x", Last::Itself, &[]).unwrap_err(),
            Refusal::NotDirectory("/srv/edge/log".into())
        );
        symlink("round", dir.path().join("round")).unwrap();
        assert!(matches!(descend(&root, "/round", Last::Followed, &[]), Err(Refusal::TooLong(_))));
        assert_eq!(
            descend(&root, "/../../srv/edge", Last::Itself, &[]).unwrap().path,
            "/srv/edge",
            "nothing leads out"
        );
    }

    #[test]
    fn what_others_can_replace_is_refused_by_name() {
        let (dir, root) = tree();
        let edge = dir.path().join("srv/edge");
        fs::set_permissions(&edge, fs::Permissions::from_mode(0o777)).unwrap();
        let refused = descend(&root, "/srv/edge/log", Last::Followed, &[]).unwrap_err();
        assert_eq!(refused, Refusal::Replaceable { path: "/srv/edge/log".into(), by: Replacer::Everybody });
        fs::set_permissions(&edge, fs::Permissions::from_mode(0o1777)).unwrap();
        assert!(
            descend(&root, "/srv/edge/log", Last::Followed, &[]).is_ok(),
            "a sticky directory keeps one's own names"
        );
        if !rustix::process::geteuid().is_root() {
            return;
        }
        fs::set_permissions(&edge, fs::Permissions::from_mode(0o755)).unwrap();
        chown(&edge, Some(71), Some(71)).unwrap();
        assert!(matches!(
            descend(&root, "/srv/edge/log", Last::Followed, &[]),
            Err(Refusal::Replaceable { by: Replacer::Account(71), .. })
        ));
        assert!(descend(&root, "/srv/edge/log", Last::Followed, &[71]).is_ok(), "its keeper may");
        fs::remove_file(edge.join("log")).unwrap();
        symlink("/secret", edge.join("log")).unwrap();
        let refused = descend(&root, "/srv/edge/log", Last::Followed, &[71]).unwrap_err();
        assert!(
            matches!(&refused, Refusal::Link { path, target, .. }
                if path == "/srv/edge/log" && target == "/secret"),
            "{refused:?}"
        );
    }
}
