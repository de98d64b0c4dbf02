//! What the service manager was told: unit files with their drop-ins, read as the manager reads them.
mod exit;
mod init_script;
mod launcher;
mod limits;
mod sandbox;
mod socket_units;
mod unit_file;

pub use exit::{exit_words, script_words};
pub use init_script::{InitScript, names as script_names, script};
pub use launcher::{
    SHELLS, STARTERS, is_interpreter, launched, one_output, outputs, script_of, taken_in,
    without_redirections,
};
pub use limits::{UNLIMITED, seconds, size};
pub use sandbox::{Barrier, on};
pub use socket_units::{SocketUnit, service_of, socket_unit_of, socket_units};
pub use unit_file::{Command, Unit, split_words};

use crate::host::{FileKind, Look};
use crate::path;
use crate::snapshot::Snapshot;

/// Directories that hold units, the one that wins first (systemd.unit(5)).
pub const UNIT_DIRECTORIES: &[&str] = &[
    "/etc/systemd/system",
    "/run/systemd/system",
    "/run/systemd/generator",
    "/usr/local/lib/systemd/system",
    "/usr/lib/systemd/system",
    "/lib/systemd/system",
    "/run/systemd/generator.late",
];

/// Whether the host is managed by systemd at all, judged from its files.
pub fn has_units(snapshot: &Snapshot) -> bool {
    UNIT_DIRECTORIES.iter().any(|d| snapshot.is_directory(d) == Some(true))
}

/// Names of all service units that have a file of their own, instances found through enabled links included.
pub fn service_names(snapshot: &Snapshot) -> Vec<String> {
    let mut names = std::collections::BTreeSet::new();
    for dir in UNIT_DIRECTORIES {
        let Look::Seen(entries) = snapshot.list(dir) else { continue };
        for entry in entries {
            if entry.name.ends_with(".service") {
                names.insert(entry.name);
            } else if entry.kind == FileKind::Directory
                && (entry.name.ends_with(".wants") || entry.name.ends_with(".requires"))
            {
                let inner = snapshot.list(&path::join(dir, &entry.name)).seen().unwrap_or_default();
                names.extend(
                    inner.into_iter().map(|e| e.name).filter(|n| n.ends_with(".service") && n.contains('@')),
                );
            }
        }
    }
    names.into_iter().filter(|n| !n.ends_with("@.service")).collect()
}

/// Names of the services that some target or another unit wants or requires, as links of the file system
/// tell.
pub fn wanted_names(snapshot: &Snapshot) -> std::collections::BTreeSet<String> {
    wanted(snapshot).into_iter().filter(|name| name.ends_with(".service")).collect()
}

/// Names of the socket units that some target or another unit wants or requires.
pub fn wanted_sockets(snapshot: &Snapshot) -> std::collections::BTreeSet<String> {
    wanted(snapshot).into_iter().filter(|name| name.ends_with(".socket")).collect()
}

/// Names of all units that some target or another unit wants or requires.
fn wanted(snapshot: &Snapshot) -> std::collections::BTreeSet<String> {
    let mut names = std::collections::BTreeSet::new();
    for dir in UNIT_DIRECTORIES {
        let Look::Seen(entries) = snapshot.list(dir) else { continue };
        let asks = |name: &str| name.ends_with(".wants") || name.ends_with(".requires");
        for entry in entries.into_iter().filter(|e| e.kind == FileKind::Directory && asks(&e.name)) {
            let inner = snapshot.list(&path::join(dir, &entry.name)).seen().unwrap_or_default();
            names.extend(inner.into_iter().map(|e| e.name));
        }
    }
    names
}

/// Whether a unit's own text or its drop-ins speak of any of these words; a cheap look before the whole unit
/// is read.
pub fn mentions(snapshot: &Snapshot, name: &str, words: &[&str]) -> bool {
    let template = name.split_once('@').map(|(stem, _)| format!("{stem}@.service"));
    let candidates = [Some(name.to_owned()), template];
    for dir in UNIT_DIRECTORIES {
        let Look::Seen(entries) = snapshot.list(dir) else { continue };
        let has = |wanted: &str| entries.binary_search_by(|e| e.name.as_str().cmp(wanted)).is_ok();
        for candidate in candidates.iter().flatten() {
            // A drop-in may start anything: then the whole unit is read.
            if has(&format!("{candidate}.d")) {
                return true;
            }
            if has(candidate) {
                let text = snapshot.read(&path::join(dir, candidate));
                let said =
                    |text: &[u8]| words.iter().any(|w| memchr::memmem::find(text, w.as_bytes()).is_some());
                return !matches!(text, Look::Absent) && text.seen().is_none_or(|t| said(&t));
            }
        }
    }
    false
}

/// Reads a unit with its drop-ins from the files. `Absent` when no file defines it.
pub fn unit(snapshot: &Snapshot, name: &str) -> Look<Unit> {
    let template = name.split_once('@').and_then(|(stem, rest)| {
        let kind = rest.rsplit_once('.')?.1;
        Some(format!("{stem}@.{kind}"))
    });
    let candidates: Vec<&str> = std::iter::once(name).chain(template.as_deref()).collect();
    let mut found = Unit::named(name);
    'files: for candidate in &candidates {
        for dir in UNIT_DIRECTORIES {
            let file = path::join(dir, candidate);
            match snapshot.link_stat(&file) {
                Look::Absent => continue,
                Look::NotSeen(why) => return Look::NotSeen(why),
                Look::Seen(status) => {
                    let target = if status.kind == FileKind::Link {
                        snapshot.resolve_links(&file)
                    } else {
                        file.clone()
                    };
                    if target == "/dev/null" || (status.kind == FileKind::Regular && status.size == 0) {
                        found.masked = true;
                        found.fragment = file;
                        return Look::Seen(found);
                    }
                    found.fragment = file.clone();
                    let real = path::name(&target);
                    if real != *candidate && real.ends_with(".service") && !real.contains('@') {
                        found.aliases.push(name.to_owned());
                        found.name = real.to_owned();
                    }
                    match snapshot.text(&file) {
                        Look::Seen(text) => found.read(&file, &text),
                        Look::Absent => {}
                        Look::NotSeen(why) => return Look::NotSeen(why),
                    }
                    break 'files;
                }
            }
        }
    }
    if found.fragment.is_empty() {
        return Look::Absent;
    }
    for (file, text) in drop_ins(snapshot, &candidates) {
        found.read(&file, &text);
        found.drop_ins.push(file);
    }
    found.enabled = enabled(snapshot, &found.name);
    Look::Seen(found)
}

/// Drop-in files in the order in which the manager applies them: by file name, whatever the directory.
fn drop_ins(snapshot: &Snapshot, names: &[&str]) -> Vec<(String, String)> {
    let mut chosen = std::collections::BTreeMap::new();
    for name in names {
        for dir in UNIT_DIRECTORIES {
            let folder = path::join(dir, &format!("{name}.d"));
            for entry in snapshot.list(&folder).seen().unwrap_or_default() {
                if entry.name.ends_with(".conf") {
                    chosen.entry(entry.name.clone()).or_insert_with(|| path::join(&folder, &entry.name));
                }
            }
        }
    }
    chosen.into_values().filter_map(|file| snapshot.text(&file).seen().map(|text| (file, text))).collect()
}

/// Whether a link in some target's `wants` or `requires` directory starts the unit at boot.
fn enabled(snapshot: &Snapshot, name: &str) -> bool {
    UNIT_DIRECTORIES.iter().any(|dir| {
        snapshot.list(dir).seen().unwrap_or_default().iter().any(|entry| {
            entry.kind == FileKind::Directory
                && (entry.name.ends_with(".wants") || entry.name.ends_with(".requires"))
                && snapshot.link_stat(&path::join(&path::join(dir, &entry.name), name)).seen().is_some()
        })
    })
}

#[cfg(test)]
mod tests;
