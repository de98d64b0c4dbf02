//! Who could put something else in the place of a path, and the walk that finds out.
//!
//! The program runs as root beside accounts that own directories. What such an account can rename or replace
//! must not steer a change: a path is walked one name at a time, a symbolic link is followed only where root
//! made it and only root could change it, and any name that a foreign account could replace is refused. The
//! same walk serves the plan (over a [`Snapshot`]) and the writer (over open descriptors, which nobody can
//! swap afterwards).
use crate::accounts;
use crate::host::{FileKind, FileStatus, Look};
use crate::path;
use crate::snapshot::Snapshot;
use std::collections::BTreeSet;
use std::sync::Arc;

pub use crate::bounds::LINKS;
/// Names on the way to one file.
const NAMES: usize = 4_096;

/// The sticky bit: only its owner removes a name from such a directory (inode(7)).
const STICKY: u32 = 0o1000;
/// Tags of access lists on disk (acl(5)): a named user, the owning group, a named group, the mask.
const USER: u16 = 0x02;
const GROUP_OWNER: u16 = 0x04;
const GROUP: u16 = 0x08;
const MASK: u16 = 0x10;

/// Who could put something else in the place of a name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Replacer {
    /// An account, by its number.
    Account(u32),
    /// Members of a group, by its number.
    Group(u32),
    /// Everybody.
    Everybody,
}

impl Replacer {
    /// In words, with the host's names.
    pub fn spelled(&self, user: impl Fn(u32) -> String, group: impl Fn(u32) -> String) -> String {
        match self {
            Self::Account(uid) => format!("account {}", user(*uid)),
            Self::Group(gid) => format!("group {}", group(*gid)),
            Self::Everybody => "everybody".into(),
        }
    }
}

/// Accounts whose doing is no danger: root, who runs this program, and the rightful owners of what is looked
/// at.
#[derive(Clone, Debug, Default)]
pub struct Trusted {
    accounts: BTreeSet<u32>,
    /// Who runs this program, where that is not root.
    caller: Option<u32>,
    /// Group number and account number of every membership, primary ones included; `None` where accounts also
    /// come from elsewhere, so that nobody can list a group's members.
    members: Option<Arc<[(u32, u32)]>>,
}

impl Trusted {
    /// Root, `caller` and these accounts; the texts are those of `/etc/passwd` and `/etc/group`. `complete`
    /// tells that no other source adds members.
    pub fn new(
        caller: u32,
        accounts: impl IntoIterator<Item = u32>,
        passwd: &str,
        group: &str,
        complete: bool,
    ) -> Self {
        let mut all: BTreeSet<u32> = accounts.into_iter().collect();
        all.extend([0, caller]);
        Self {
            accounts: all,
            caller: (caller != 0).then_some(caller),
            members: complete.then(|| accounts::memberships(passwd, group).into()),
        }
    }
    /// These and more accounts.
    #[must_use]
    pub fn with(&self, more: &[u32]) -> Self {
        let mut all = self.clone();
        all.accounts.extend(more);
        all
    }
    /// Whether an account is one of them.
    pub fn account(&self, uid: u32) -> bool {
        self.accounts.contains(&uid)
    }
    /// Whether every member of a group is one of them.
    pub fn group(&self, gid: u32) -> bool {
        match &self.members {
            Some(members) => members.iter().filter(|(g, _)| *g == gid).all(|(_, uid)| self.account(*uid)),
            None => gid == 0,
        }
    }
}

/// Root, who runs this program, and `keepers`.
pub fn trusted(snapshot: &Snapshot, keepers: &[u32]) -> Trusted {
    let text = |file: &str| snapshot.text(file).seen().unwrap_or_default();
    let caller = snapshot.myself().seen().map_or(0, |m| m.uid);
    Trusted::new(
        caller,
        keepers.iter().copied(),
        &text("/etc/passwd"),
        &text("/etc/group"),
        accounts::only_files(&text("/etc/nsswitch.conf")),
    )
}

/// Who, besides those trusted, could put something else in the place of a name in a directory. Without an
/// entry: who could decide what a name that is free now stands for, given that it is only ever taken while it
/// is free.
pub fn replacer(dir: &FileStatus, entry: Option<&FileStatus>, trusted: &Trusted) -> Option<Replacer> {
    // Its owner can always give himself the right.
    if !trusted.account(dir.uid) {
        return Some(Replacer::Account(dir.uid));
    }
    if dir.mode & STICKY != 0 {
        return entry.filter(|e| !trusted.account(e.uid)).map(|e| Replacer::Account(e.uid));
    }
    writer(dir, trusted)
}

/// Who, besides those trusted and the owner, may write to a file or directory.
pub fn writer(file: &FileStatus, trusted: &Trusted) -> Option<Replacer> {
    let mask = file.acl.iter().find(|e| e.tag == MASK).map_or(7, |e| e.permissions);
    let listed = |tag: u16| file.acl.iter().filter(move |e| e.tag == tag && e.permissions & mask & 2 != 0);
    if file.mode & 0o002 != 0 {
        return Some(Replacer::Everybody);
    }
    if let Some(entry) = listed(USER).find(|e| !trusted.account(e.id)) {
        return Some(Replacer::Account(entry.id));
    }
    // With an access list the group bits of the mode are its mask; the owning group has an entry of its own.
    let own = file
        .acl
        .iter()
        .find(|e| e.tag == GROUP_OWNER)
        .map_or(file.mode >> 3, |e| u32::from(e.permissions & mask));
    if own & 2 != 0 && !trusted.group(file.gid) {
        return Some(Replacer::Group(file.gid));
    }
    listed(GROUP).find(|e| !trusted.group(e.id)).map(|e| Replacer::Group(e.id))
}

/// Why a path is not used.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Refusal {
    /// A symbolic link that root did not make, or that others could change.
    Link {
        /// The link.
        path: String,
        /// Where it leads, as written.
        target: String,
        /// Its owner.
        owner: u32,
    },
    /// A name that others could replace.
    Replaceable {
        /// The name, with its directory.
        path: String,
        /// By whom.
        by: Replacer,
    },
    /// A directory on the way does not exist.
    Missing(String),
    /// Something on the way is not a directory.
    NotDirectory(String),
    /// More links, or names, than are followed.
    TooLong(String),
    /// It could not be looked at: path and reason.
    Unseen(String, String),
}

impl Refusal {
    /// In one sentence, with the host's names.
    pub fn spelled(&self, user: impl Fn(u32) -> String, group: impl Fn(u32) -> String) -> String {
        match self {
            Self::Link { path, target, owner } => {
                format!(
                    "{path} is a symbolic link of account {} (to {target}), which is not followed",
                    user(*owner)
                )
            }
            Self::Replaceable { path, by } => {
                format!("{} could replace {path}, so nothing is changed there", by.spelled(user, group))
            }
            Self::Missing(path) => format!("{path} does not exist"),
            Self::NotDirectory(path) => format!("{path} is not a directory"),
            Self::TooLong(path) => {
                format!("{path} leads through more than {LINKS} symbolic links or {NAMES} names")
            }
            Self::Unseen(path, why) => format!("{path}: {why}"),
        }
    }
}

/// A tree of names to walk in.
pub trait Nodes {
    /// A file or directory on the way, links not followed.
    type Node;
    /// Where it begins.
    ///
    /// # Errors
    /// The reason why it cannot be looked at.
    fn root(&self) -> Result<Self::Node, String>;
    /// Status of a node itself.
    ///
    /// # Errors
    /// The reason why it cannot be looked at.
    fn status(&self, node: &Self::Node) -> Result<FileStatus, String>;
    /// The node of a name in a directory; `None` where there is none.
    ///
    /// # Errors
    /// The reason why it cannot be looked at.
    fn child(&self, dir: &Self::Node, name: &str) -> Result<Option<Self::Node>, String>;
    /// Where a symbolic link leads, as written.
    ///
    /// # Errors
    /// The reason why it cannot be read.
    fn target(&self, link: &Self::Node) -> Result<String, String>;
}

/// What stands at the end of a walk.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Last {
    /// A link there is followed, where it may be.
    Followed,
    /// A link there is what is meant.
    Itself,
}

/// Where a walk ended.
#[derive(Debug)]
pub struct Found<N> {
    /// The real path, without any link.
    pub path: String,
    /// The last name; empty for the root itself.
    pub name: String,
    /// The directory that holds it, with its status.
    pub parent: (N, FileStatus),
    /// What is there; `None` where the name is free.
    pub node: Option<(N, FileStatus)>,
}

/// A directory on the way that is open: its name, its node, its status.
type Opened<N> = (String, N, FileStatus);

/// The path of the last directory that is open.
fn here<N>(open: &[Opened<N>]) -> String {
    open.iter().skip(1).map(|(n, ..)| format!("/{n}")).collect()
}

/// The names of a path, the last one first.
fn names_of(path: &str) -> Vec<String> {
    path.split('/').filter(|n| !n.is_empty() && *n != ".").rev().map(str::to_owned).collect()
}

/// Walks to a path one name at a time.
///
/// # Errors
/// The first name that may not be used, and why.
pub fn walk<T: Nodes>(
    tree: &T,
    target: &str,
    last: Last,
    trusted: &Trusted,
) -> Result<Found<T::Node>, Refusal> {
    let unseen = |path: &str| {
        let path = path.to_owned();
        move |why: String| Refusal::Unseen(path, why)
    };
    let root = || tree.root().and_then(|node| tree.status(&node).map(|status| (node, status)));
    let mut open: Vec<Opened<T::Node>> = Vec::new();
    let (node, status) = root().map_err(unseen("/"))?;
    open.push((String::new(), node, status));
    let mut rest = names_of(target);
    let (mut links, mut names) = (0, 0);
    let lost = || Refusal::TooLong(target.to_owned());
    loop {
        names += 1;
        if names > NAMES || links > LINKS {
            return Err(lost());
        }
        let Some(name) = rest.pop() else {
            // The way ended on a directory that is open already.
            let path = here(&open);
            let (name, node, status) = open.pop().ok_or_else(lost)?;
            let parent = match open.pop() {
                Some((_, parent, status)) => (parent, status),
                None => root().map_err(unseen("/"))?,
            };
            return Ok(Found {
                path: if path.is_empty() { "/".into() } else { path },
                name,
                parent,
                node: Some((node, status)),
            });
        };
        if name == ".." {
            if open.len() > 1 {
                open.pop();
            }
            continue;
        }
        let path = format!("{}/{name}", here(&open));
        let (_, dir, dir_status) = open.last().ok_or_else(lost)?;
        if dir_status.kind != FileKind::Directory {
            return Err(Refusal::NotDirectory(here(&open)));
        }
        let child = tree.child(dir, &name).map_err(unseen(&path))?;
        let status = child.as_ref().map(|node| tree.status(node)).transpose().map_err(unseen(&path))?;
        if let Some(by) = replacer(dir_status, status.as_ref(), trusted) {
            let link = status.as_ref().filter(|s| s.kind == FileKind::Link).zip(child.as_ref());
            return Err(match link {
                Some((link, node)) => {
                    Refusal::Link { path, target: tree.target(node).unwrap_or_default(), owner: link.uid }
                }
                None => Refusal::Replaceable { path, by },
            });
        }
        let end = rest.is_empty();
        match (child, status) {
            (Some(node), Some(status)) if status.kind == FileKind::Link && !(end && last == Last::Itself) => {
                let leads = tree.target(&node).map_err(unseen(&path))?;
                // Root's own link in a directory that only root can change: /var/run, enabled sites,
                // alternatives.
                if !root_only(&status, dir_status, trusted) {
                    return Err(Refusal::Link { path, target: leads, owner: status.uid });
                }
                links += 1;
                if leads.starts_with('/') {
                    open.truncate(1);
                }
                rest.extend(names_of(&leads));
            }
            (child, status) if end => {
                let (_, parent, parent_status) = open.pop().ok_or_else(lost)?;
                return Ok(Found { path, name, parent: (parent, parent_status), node: child.zip(status) });
            }
            (Some(node), Some(status)) => open.push((name, node, status)),
            _ => return Err(Refusal::Missing(path)),
        }
    }
}

/// Whether a link and its directory belong to root (or to who runs this program without being root), and
/// nobody else can change the directory.
fn root_only(link: &FileStatus, dir: &FileStatus, trusted: &Trusted) -> bool {
    let mine = |uid: u32| uid == 0 || (trusted.caller.is_some_and(|c| c == uid));
    mine(link.uid)
        && mine(dir.uid)
        && writer(
            dir,
            &Trusted { accounts: [0].into_iter().chain(trusted.caller).collect(), ..trusted.clone() },
        )
        .is_none()
}

/// The walk over what a snapshot tells.
pub struct Paths<'s, 'h>(pub &'s Snapshot<'h>);

impl Nodes for Paths<'_, '_> {
    type Node = String;
    fn root(&self) -> Result<String, String> {
        Ok("/".into())
    }
    fn status(&self, node: &String) -> Result<FileStatus, String> {
        match self.0.link_stat(node) {
            Look::Seen(status) => Ok(status),
            Look::Absent => Err("it went away while being looked at".into()),
            Look::NotSeen(why) => Err(why.to_string()),
        }
    }
    fn child(&self, dir: &String, name: &str) -> Result<Option<String>, String> {
        let path = path::join(dir, name);
        match self.0.link_stat(&path) {
            Look::Seen(_) => Ok(Some(path)),
            Look::Absent => Ok(None),
            Look::NotSeen(why) => Err(why.to_string()),
        }
    }
    fn target(&self, link: &String) -> Result<String, String> {
        self.0.read_link(link).seen().ok_or_else(|| "the link cannot be read".into())
    }
}
