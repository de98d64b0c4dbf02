//! From a path to the object of a step: the walk that no account can steer, and what may be given to a
//! service's account.
use super::object::{Identity, Target};
use crate::accounts;
use crate::case::{Case, is_system};
use crate::host::{FileKind, FileStatus, Look};
use crate::path;
use crate::snapshot::Snapshot;
use crate::trust::{self, Last, Paths, Refusal, Replacer, trusted};

/// The mark of a private key in PEM (RFC 7468).
const KEY: &[u8] = b"PRIVATE KEY-----";

/// A refusal in words, with the host's names.
pub(super) fn words(snapshot: &Snapshot, refusal: &Refusal) -> String {
    refusal.spelled(|uid| accounts::user_name(snapshot, uid), |gid| accounts::group_name(snapshot, gid))
}

/// An object with its status.
pub(super) struct Object {
    pub(super) target: Target,
    /// `None` where the name is free.
    pub(super) status: Option<FileStatus>,
    /// The directory that holds it.
    pub(super) parent: FileStatus,
}

/// The object behind a path, for a service whose accounts may own directories on the way.
///
/// # Errors
/// The name that somebody else could replace, and who.
pub(super) fn object(snapshot: &Snapshot, case: &Case, file: &str, last: Last) -> Result<Object, String> {
    let keepers = case.accounts(snapshot);
    let found = trust::walk(&Paths(snapshot), file, last, &trusted(snapshot, &keepers))
        .map_err(|r| words(snapshot, &r))?;
    let status = found.node.map(|(_, status)| status);
    let was = status.as_ref().map(Identity::of);
    Ok(Object { target: Target { path: found.path, keepers, was }, status, parent: found.parent.1 })
}

/// The same where something must be there.
pub(super) fn existing(
    snapshot: &Snapshot,
    case: &Case,
    file: &str,
    last: Last,
) -> Result<(Target, FileStatus, FileStatus), String> {
    let object = object(snapshot, case, file, last)?;
    let status = object.status.ok_or_else(|| format!("{} does not exist", object.target.path))?;
    Ok((object.target, status, object.parent))
}

/// A free name for a directory, whose parents may still be missing.
pub(super) fn free(snapshot: &Snapshot, case: &Case, file: &str) -> Result<Target, String> {
    let object = object(snapshot, case, file, Last::Itself)?;
    if object.status.is_some() {
        return Err(format!("{} exists already", object.target.path));
    }
    Ok(object.target)
}

/// An object whose owner or mode may change in favour of the service's account.
///
/// # Errors Why not: it does not belong to the service, somebody else could have put it there, or it grants
/// powers of its own.
pub(super) fn grantable(
    snapshot: &Snapshot,
    case: &Case,
    file: &str,
) -> Result<(Target, FileStatus), String> {
    let (target, status, parent) = existing(snapshot, case, file, Last::Followed)?;
    may_be_given(snapshot, case, &target.path, &status, &parent)?;
    Ok((target, status))
}

/// An object that the service's account may be let read or enter: what it serves pages out of, too.
///
/// # Errors
/// As for [`grantable`].
pub(super) fn readable(snapshot: &Snapshot, case: &Case, file: &str) -> Result<(Target, FileStatus), String> {
    let (target, status, parent) = existing(snapshot, case, file, Last::Followed)?;
    if !case.serves(snapshot, &target.path) {
        may_belong(snapshot, case, &target.path)?;
    }
    may_change(snapshot, &target.path, &status, &parent)?;
    Ok((target, status))
}

pub(super) fn may_be_given(
    snapshot: &Snapshot,
    case: &Case,
    file: &str,
    status: &FileStatus,
    parent: &FileStatus,
) -> Result<(), String> {
    may_belong(snapshot, case, file)?;
    may_change(snapshot, file, status, parent)
}

/// What belongs to the service by more than a log's word.
fn may_belong(snapshot: &Snapshot, case: &Case, file: &str) -> Result<(), String> {
    if is_system(file) || !case.owns(snapshot, file) {
        return Err(format!(
            "{file} does not belong to {} by its unit, its package or a configuration that only root writes; \
                nobody is given rights there",
            case.service.name
        ));
    }
    Ok(())
}

/// What grants no powers of its own, and is nobody else's by another name.
fn may_change(
    snapshot: &Snapshot,
    file: &str,
    status: &FileStatus,
    parent: &FileStatus,
) -> Result<(), String> {
    if !matches!(status.kind, FileKind::Regular | FileKind::Directory | FileKind::Socket) {
        return Err(format!("{file} is not a file, directory or socket"));
    }
    if status.kind == FileKind::Regular && (status.mode & 0o6000 != 0 || status.capabilities != 0) {
        return Err(format!(
            "{file} runs with the rights of its owner or with capabilities; its owner and mode are left alone"
        ));
    }
    // Whoever can make names in the directory can make one for a file that is not his.
    let sticky = || (parent.mode & 0o1002 == 0o1002).then_some(Replacer::Everybody);
    let by = trust::replacer(parent, None, &trusted(snapshot, &[])).or_else(sticky);
    if let Some(by) = by.filter(|_| status.kind == FileKind::Regular && status.links > 1) {
        let who =
            by.spelled(|uid| accounts::user_name(snapshot, uid), |gid| accounts::group_name(snapshot, gid));
        return Err(format!(
            "{file} has {} names (hard links), and {who} could have made one of them",
            status.links
        ));
    }
    Ok(())
}

/// A private key is never opened to more accounts.
pub(super) fn holds_key(snapshot: &Snapshot, file: &str) -> bool {
    let named = path::name(file)
        .rsplit_once('.')
        .is_some_and(|(_, ending)| matches!(ending, "key" | "jks" | "p12" | "pfx" | "keystore"));
    named || matches!(snapshot.read(file), Look::Seen(bytes) if memchr::memmem::find(&bytes, KEY).is_some())
}
