//! Where journal files lie, and their newest entries for a unit.
use crate::files;
use jolly_core::host::{Answer, Look, Unseen};
use jolly_core::log::journal::{ReadAt, newest, newest_with};
use std::fs::{self, File};
use std::path::{Path, PathBuf};

/// Most journal files that are looked into.
const FILES: usize = 400;

/// Entries of a unit.
pub(crate) fn entries(root: &Path, unit: &str, most: u32) -> Look<Answer> {
    readers(root).map(|readers| Answer::Journal(newest(readers, unit, most as usize)))
}

/// Entries with a field of a value.
pub(crate) fn entries_of(root: &Path, field: &str, most: u32) -> Look<Answer> {
    readers(root).map(|readers| Answer::Journal(newest_with(readers, &[field.to_owned()], most as usize)))
}

fn readers(root: &Path) -> Look<Vec<ReadAt<'static>>> {
    let mut found: Vec<PathBuf> = Vec::new();
    let mut denied = false;
    for base in ["var/log/journal", "run/log/journal"] {
        for machine in fs::read_dir(root.join(base)).into_iter().flatten().flatten() {
            match fs::read_dir(machine.path()) {
                Ok(files) => found.extend(files.flatten().map(|f| f.path()).filter(|p| is_journal(p))),
                Err(_) => denied = true,
            }
        }
    }
    found.sort();
    found.truncate(FILES);
    let mut readers: Vec<ReadAt> = Vec::new();
    for path in &found {
        match File::open(path) {
            Ok(file) => readers.push(Box::new(move |offset, length| files::bytes_at(&file, offset, length).ok())),
            Err(_) => denied = true,
        }
    }
    if readers.is_empty() {
        return if denied { Look::NotSeen(Unseen::Denied) } else { Look::Absent };
    }
    Look::Seen(readers)
}

fn is_journal(path: &Path) -> bool {
    let name = path.file_name().and_then(|n| n.to_str()).unwrap_or_default();
    (name.ends_with(".journal") || name.ends_with(".journal~")) && !name.starts_with("user-") && files::reachable(path)
}
