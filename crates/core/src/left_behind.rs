//! Files below a directory that belong to another account than their server's: what a start under that
//! account leaves behind.
use crate::host::{FileKind, FileStatus};
use crate::path;
use crate::snapshot::Snapshot;

/// Directories below the first one that are looked into.
const DEPTH: usize = 2;
/// Names that are looked at; a server with more tables is not looked through to its end.
const MOST: usize = 4_000;

/// Files and directories below `dir` whose owner is such, in the order of their names. Links are left alone.
pub fn of(snapshot: &Snapshot, dir: &str, owner: impl Fn(u32) -> bool) -> Vec<(String, FileStatus)> {
    let mut found = Vec::new();
    let mut open = vec![(dir.to_owned(), 0)];
    let mut looked = 0;
    while let Some((dir, depth)) = open.pop() {
        for entry in snapshot.list(&dir).seen().unwrap_or_default() {
            looked += 1;
            if looked > MOST {
                return found;
            }
            let file = path::join(&dir, &entry.name);
            let Some(status) = snapshot.link_stat(&file).seen() else { continue };
            if status.kind == FileKind::Directory && depth < DEPTH {
                open.push((file.clone(), depth + 1));
            }
            if matches!(status.kind, FileKind::Regular | FileKind::Directory) && owner(status.uid) {
                found.push((file, status));
            }
        }
    }
    found.sort_by(|(a, _), (b, _)| a.cmp(b));
    found
}
