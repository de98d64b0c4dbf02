//! May this account read, write, enter or execute this path? Decided as the kernel does, from facts.
use crate::accounts::Account;
use crate::host::{FileKind, FileStatus, Look, Mount};
use crate::path;
use crate::snapshot::Snapshot;

/// A right on a path.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Right {
    /// Read a file or list a directory.
    Read,
    /// Write a file, or make and remove names in a directory (which needs entering it, too).
    Write,
    /// Execute a file or enter a directory.
    Execute,
}

impl Right {
    fn bit(self) -> u32 {
        match self {
            Self::Read => 4,
            Self::Write => 2,
            Self::Execute => 1,
        }
    }
    /// The verb for sentences: "may not … it".
    pub fn verb(self) -> &'static str {
        match self {
            Self::Read => "read",
            Self::Write => "write to",
            Self::Execute => "enter",
        }
    }
}

/// The first obstacle on the way to a path.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Obstacle {
    /// The directory or file that refuses.
    pub path: String,
    /// The right that is missing there.
    pub right: Right,
    /// What stands there.
    pub status: FileStatus,
    /// What refuses.
    pub by: Refusal,
}

/// What refuses a right.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Refusal {
    /// Owner, mode and access list.
    Mode,
    /// The file system holds it against changes (chattr +i), to root, too.
    Immutable,
    /// Its mount allows no execution.
    NoExec,
}

/// Whether the account has the right; the first obstacle when not; not seen when a step could not be judged.
pub fn may(snapshot: &Snapshot, who: &Account, target: &str, right: Right) -> Look<Option<Obstacle>> {
    let real = snapshot.resolve_links(target);
    for dir in path::ancestors(&real) {
        let status = match snapshot.stat(&dir) {
            Look::Seen(status) => status,
            Look::Absent => return Look::Absent,
            Look::NotSeen(why) => return Look::NotSeen(why),
        };
        if !allowed(&status, who, Right::Execute) {
            return Look::Seen(Some(Obstacle {
                path: dir,
                right: Right::Execute,
                status,
                by: Refusal::Mode,
            }));
        }
    }
    let status = match snapshot.stat(&real) {
        Look::Seen(status) => status,
        Look::Absent => return Look::Absent,
        Look::NotSeen(why) => return Look::NotSeen(why),
    };
    let mut needed = vec![right];
    if right == Right::Write && status.kind == FileKind::Directory {
        needed.push(Right::Execute);
    }
    for right in needed {
        if !allowed(&status, who, right) {
            return Look::Seen(Some(Obstacle { path: real, right, status, by: Refusal::Mode }));
        }
    }
    if right == Right::Write && status.immutable {
        return Look::Seen(Some(Obstacle { path: real, right, status, by: Refusal::Immutable }));
    }
    if right == Right::Execute
        && status.kind == FileKind::Regular
        && mount_of(snapshot, &real).is_some_and(|m| m.no_exec)
    {
        return Look::Seen(Some(Obstacle { path: real, right, status, by: Refusal::NoExec }));
    }
    Look::Seen(None)
}

/// The mount that a path lies on: the deepest one that contains it, of several in one place the last.
pub fn mount_of(snapshot: &Snapshot, path: &str) -> Option<Mount> {
    let below = |m: &Mount| {
        m.path == "/"
            || path == m.path
            || path.strip_prefix(m.path.as_str()).is_some_and(|rest| rest.starts_with('/'))
    };
    snapshot
        .mounts()
        .seen()?
        .into_iter()
        .filter(below)
        .enumerate()
        .max_by_key(|(at, m)| (m.path.len(), *at))
        .map(|(_, m)| m)
}

/// One step of the walk: owner, then ACL, then group, then others; who overrides modes passes all but
/// execution of a file that nobody may execute.
pub fn allowed(status: &FileStatus, who: &Account, right: Right) -> bool {
    let directory = status.kind == FileKind::Directory;
    if who.powers.overrides && (right != Right::Execute || directory || status.mode & 0o111 != 0) {
        return true;
    }
    if who.powers.reads_all && (right == Right::Read || (right == Right::Execute && directory)) {
        return true;
    }
    let bit = right.bit();
    if status.uid == who.uid {
        return status.mode >> 6 & bit != 0;
    }
    let mask = status.acl.iter().find(|e| e.tag == 0x10).map_or(7, |e| u32::from(e.permissions));
    if let Some(entry) = status.acl.iter().find(|e| e.tag == 0x02 && e.id == who.uid) {
        return u32::from(entry.permissions) & mask & bit != 0;
    }
    let mut in_group = false;
    // With an ACL the group bits of the mode are its mask; the owning group's own entry is tag 0x04.
    let group_bits =
        status.acl.iter().find(|e| e.tag == 0x04).map_or(status.mode >> 3, |e| u32::from(e.permissions));
    if who.gid == status.gid || who.groups.contains(&status.gid) {
        in_group = true;
        if group_bits & mask & bit != 0 {
            return true;
        }
    }
    for entry in
        status.acl.iter().filter(|e| e.tag == 0x08 && (who.gid == e.id || who.groups.contains(&e.id)))
    {
        in_group = true;
        if u32::from(entry.permissions) & mask & bit != 0 {
            return true;
        }
    }
    !in_group && status.mode & bit != 0
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::host::AclEntry;

    fn status(mode: u32, uid: u32, gid: u32) -> FileStatus {
        FileStatus::plain(FileKind::Regular, mode, uid, gid, 0)
    }
    fn tide() -> Account {
        Account {
            name: "tide".into(),
            uid: 71,
            gid: 72,
            groups: vec![72, 80],
            powers: crate::accounts::Powers::default(),
        }
    }

    #[test]
    fn the_first_matching_class_decides() {
        assert!(!allowed(&status(0o077, 71, 72), &tide(), Right::Read), "an owner without rights is refused");
        assert!(allowed(&status(0o040, 1, 80), &tide(), Right::Read), "a further group counts");
        assert!(
            !allowed(&status(0o704, 1, 80), &tide(), Right::Read),
            "a group member does not fall back to others"
        );
        assert!(allowed(&status(0o704, 1, 1), &tide(), Right::Read));
    }

    #[test]
    fn access_lists_are_masked() {
        let mut file = status(0o670, 1, 1);
        file.acl = vec![
            AclEntry { tag: 0x02, permissions: 6, id: 71 },
            AclEntry { tag: 0x10, permissions: 4, id: 0 },
        ];
        assert!(allowed(&file, &tide(), Right::Read));
        assert!(!allowed(&file, &tide(), Right::Write));
    }

    #[test]
    fn root_may_enter_but_not_run_what_nobody_may_run() {
        let root = crate::accounts::root();
        assert!(allowed(&status(0, 1, 1), &root, Right::Write));
        assert!(!allowed(&status(0o644, 1, 1), &root, Right::Execute));
    }
}
