//! Where applications keep their configuration, by the customs of their runtimes.
use super::Form;
use crate::path;
use crate::snapshot::Snapshot;

/// Words in the names of files that hold settings.
const SETTINGS: &[&str] = &["conf", "settings", "database", "db", "local", "parameters", "env", "connect"];
/// Directories of settings beside scripts.
const DIRS: &[&str] =
    &["", "config", "conf", "etc", "inc", "includes", "include", "app/config", "app/etc", "admin"];
/// Directories that belong to no application: whoever looks for settings goes no higher.
const SHARED: &[&str] = &[
    "/",
    "/var",
    "/var/www",
    "/var/lib",
    "/srv",
    "/srv/www",
    "/srv/http",
    "/opt",
    "/usr",
    "/usr/share",
    "/usr/local",
    "/home",
    "/tmp",
];
/// How high above a script settings are looked for.
const HIGH: usize = 4;
/// How many names of a directory are looked at.
const NAMES: usize = 2_000;

/// Files of settings for a script: itself, and those beside it and above it.
pub(crate) fn of_script(snapshot: &Snapshot, script: &str) -> Vec<String> {
    let mut found = vec![script.to_owned()];
    let mut dir = path::parent(script).to_owned();
    for _ in 0..HIGH {
        if SHARED.contains(&dir.as_str()) {
            break;
        }
        for below in DIRS {
            let here = if below.is_empty() { dir.clone() } else { path::join(&dir, below) };
            found.extend(of_directory(snapshot, &here, !below.is_empty() && below.contains("conf")));
        }
        dir = path::parent(&dir).to_owned();
    }
    found
}

/// Files of a directory that hold settings by their names; in one of settings all that have a form do.
pub(crate) fn of_directory(snapshot: &Snapshot, dir: &str, all: bool) -> Vec<String> {
    // Most of them are not there: that one could not be seen is not missed.
    let names = snapshot.aside(|| snapshot.list(dir).seen()).unwrap_or_default();
    let holds = |name: &str| {
        let lower = name.to_ascii_lowercase();
        let sample =
            ["sample", "example", "dist", "default", ".bak", "test"].iter().any(|w| lower.contains(w));
        Form::of(name).is_some() && !sample && (all || SETTINGS.iter().any(|word| lower.contains(word)))
    };
    let mut found: Vec<String> = names
        .iter()
        .take(NAMES)
        .map(|entry| entry.name.clone())
        .filter(|name| holds(name))
        .map(|name| path::join(dir, &name))
        .collect();
    // What an environment says counts in the others.
    found.sort_by_key(|f| (Form::of(f) != Some(Form::Environment), f.clone()));
    found
}
