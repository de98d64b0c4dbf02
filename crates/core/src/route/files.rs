//! Files as a daemon's account meets them.
use super::pattern::{Groups, Pattern};
use crate::access::{self, Right};
use crate::accounts::Account;
use crate::bounds::TRIES;
use crate::host::{FileKind, Look};
use crate::snapshot::Snapshot;
use std::cell::Cell;

/// What an account meets at a path.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Met {
    /// A regular file that it may read.
    File,
    /// A directory that it may enter.
    Directory,
    /// Neither file nor directory.
    Other,
    /// Nothing.
    Nothing,
    /// Something that it may not read, or a directory on the way that it may not enter.
    Refused,
    /// It could not be looked at.
    Unseen,
}

/// The files of a host, as one account may see them.
pub struct Files<'a, 'h> {
    /// The host.
    pub snapshot: &'a Snapshot<'h>,
    account: Option<&'a Account>,
    /// Patterns that were tried.
    tries: Cell<usize>,
}

impl<'a, 'h> Files<'a, 'h> {
    /// The files of a host; `account` is `None` where nobody knows it: then nothing is refused.
    pub fn new(snapshot: &'a Snapshot<'h>, account: Option<&'a Account>) -> Self {
        Self { snapshot, account, tries: Cell::new(0) }
    }

    /// Tries a pattern on a text, and keeps what its groups took where it fits; `None` where our library does
    /// not understand it, or trying was given up.
    pub fn fits(&self, pattern: &str, caseless: bool, on: &str, groups: &mut Groups) -> Option<bool> {
        self.tries.set(self.tries.get() + 1);
        if self.tries.get() > TRIES {
            return None;
        }
        Pattern::new(pattern, caseless)?.try_on(on, groups)
    }

    /// What stands at a path.
    pub fn meet(&self, path: &str) -> Met {
        let status = match self.snapshot.stat(path) {
            Look::Seen(status) => status,
            // What lies behind a closed directory is refused, not missing.
            Look::Absent => return if self.is_closed(path) { Met::Refused } else { Met::Nothing },
            Look::NotSeen(_) => return Met::Unseen,
        };
        let (met, right) = match status.kind {
            FileKind::Regular => (Met::File, Right::Read),
            FileKind::Directory => (Met::Directory, Right::Read),
            _ => return Met::Other,
        };
        match self.account.map(|who| access::may(self.snapshot, who, path, right)) {
            None | Some(Look::Seen(None)) => met,
            Some(Look::Seen(Some(obstacle))) => {
                // A directory that is not listed may still be entered.
                if met == Met::Directory && obstacle.path == self.snapshot.resolve_links(path) {
                    met
                } else {
                    Met::Refused
                }
            }
            Some(Look::Absent) => Met::Nothing,
            Some(Look::NotSeen(_)) => Met::Unseen,
        }
    }

    /// What stands at a path for somebody who does not open it: the file itself need not be readable.
    pub fn stat(&self, path: &str) -> Met {
        let met = self.meet(path);
        if met != Met::Refused {
            return met;
        }
        let status = match self.snapshot.stat(path) {
            Look::Seen(status) => status,
            _ => return Met::Refused,
        };
        let outside = crate::path::parent(path);
        let entered = self.account.is_none_or(|who| {
            matches!(access::may(self.snapshot, who, outside, Right::Execute), Look::Seen(None))
        });
        match status.kind {
            _ if !entered => Met::Refused,
            FileKind::Regular => Met::File,
            FileKind::Directory => Met::Directory,
            _ => Met::Other,
        }
    }

    /// Whether a directory may be entered.
    pub fn enters(&self, dir: &str) -> bool {
        self.account.is_none_or(|who| {
            !matches!(access::may(self.snapshot, who, dir, Right::Execute), Look::Seen(Some(_)))
        })
    }

    /// Whether a directory on the way to a path that is not there may not be entered.
    fn is_closed(&self, path: &str) -> bool {
        let Some(who) = self.account else { return false };
        let there =
            crate::path::ancestors(path).into_iter().filter(|dir| self.snapshot.exists(dir) == Some(true));
        there.last().filter(|dir| self.snapshot.is_directory(dir) == Some(true)).is_some_and(|deepest| {
            matches!(access::may(self.snapshot, who, &deepest, Right::Execute), Look::Seen(Some(_)))
        })
    }
}
