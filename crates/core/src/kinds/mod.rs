//! The daemon kinds: one folder each. Teaching the program a new daemon means one folder and one line here.
mod httpd;
mod nginx;
mod program;

use crate::config::Configuration;
use crate::log::{Catalogue, Grammar};
use crate::snapshot::Snapshot;
use std::collections::BTreeMap;

/// What a kind needs to know to read the configuration of one service.
#[derive(Clone, Debug, Default)]
pub struct Instance {
    /// Main configuration file; empty where a kind has none.
    pub config: String,
    /// Words of the start command, the program first.
    pub command: Vec<String>,
    /// Environment of the service.
    pub environment: BTreeMap<String, String>,
    /// Account number that runs the start command.
    pub start_uid: u32,
    /// Directories that the manager makes before the start.
    pub made_by_manager: Vec<String>,
    /// Keep every directive, for `settings`.
    pub keep_all: bool,
}

/// One kind of daemon.
pub trait Kind: Sync {
    /// Name in the interface.
    fn name(&self) -> &'static str;
    /// Names of executables and control scripts that start it.
    fn programs(&self) -> &'static [&'static str];
    /// Names of units that belong to it whatever they start.
    fn units(&self) -> &'static [&'static str];
    /// Main configuration files of the known layouts, likeliest first.
    fn configs(&self) -> &'static [&'static str];
    /// Packages whose version is the daemon's, in the order of preference.
    fn packages(&self) -> &'static [&'static str];
    /// Fills in the main configuration file from the command and the layouts.
    fn locate(&self, snapshot: &Snapshot, instance: &mut Instance);
    /// Reads the configuration as the daemon would.
    fn read(&self, snapshot: &Snapshot, instance: &Instance) -> Configuration;
    /// How lines of its log begin, and which mark a start.
    fn grammar(&self) -> &'static Grammar;
    /// What its failures look like.
    fn catalogue(&self) -> &'static Catalogue;
    /// Whether a process of this command line is the daemon itself, not a helper that shares its program.
    fn is_main(&self, arguments: &[String]) -> bool;
    /// Whether it answers HTTP.
    fn speaks_http(&self) -> bool;
}

/// All kinds.
pub static KINDS: &[&dyn Kind] = &[&httpd::Httpd, &nginx::Nginx, &program::Program];

/// A kind by its name.
pub fn kind(name: &str) -> Option<&'static dyn Kind> {
    KINDS.iter().find(|k| k.name() == name).copied()
}

/// The kind that a program belongs to, by the last part of its path.
pub fn of_program(program: &str) -> Option<&'static dyn Kind> {
    let name = crate::path::name(program);
    KINDS.iter().find(|k| k.programs().contains(&name)).copied()
}

/// Version of the first installed package of a list, from the package data base, without epoch and revision.
pub fn installed_version(snapshot: &Snapshot, packages: &[&str]) -> Option<String> {
    for package in packages {
        let version = snapshot.remember(&format!("version {package}"), || package_version(snapshot, package).unwrap_or_default());
        if !version.is_empty() {
            return Some(version);
        }
    }
    None
}

fn package_version(snapshot: &Snapshot, package: &str) -> Option<String> {
    let status = snapshot.read("/var/lib/dpkg/status").seen()?;
    let head = format!("Package: {package}\n");
    let mut from = 0;
    let at = loop {
        let at = from + memchr::memmem::find(&status[from..], head.as_bytes())?;
        if at == 0 || status[at - 1] == b'\n' {
            break at;
        }
        from = at + 1;
    };
    let rest = &status[at..];
    let end = memchr::memmem::find(rest, b"\n\n").unwrap_or(rest.len());
    let entry = String::from_utf8_lossy(&rest[..end]);
    entry.contains("\nStatus: install ok installed").then_some(())?;
    let full = entry.lines().find_map(|l| l.strip_prefix("Version: "))?;
    let version = full.split_once(':').map_or(full, |(_, v)| v);
    Some(version.rsplit_once('-').map_or(version, |(v, _)| v).to_owned())
}

/// Whether any of these files holds the name as a string of its own.
pub(crate) fn strings_hold(snapshot: &Snapshot, files: &[String], name: &str) -> bool {
    files.iter().any(|f| snapshot.find_string(f, name, true).seen().is_some_and(|found| found.is_some()))
}

/// Names that a path pattern matches, in the order in which daemons read them; patterns may stand in any part.
pub(crate) fn glob(snapshot: &Snapshot, pattern: &str) -> Vec<String> {
    let mut found = vec![String::new()];
    for part in pattern.split('/').filter(|p| !p.is_empty()) {
        let mut next = Vec::new();
        for base in found {
            if crate::path::is_pattern(part) {
                let folder = if base.is_empty() { "/" } else { &base };
                for entry in snapshot.list(folder).seen().unwrap_or_default() {
                    if crate::path::matches(part, &entry.name, true) {
                        next.push(format!("{base}/{}", entry.name));
                    }
                }
            } else {
                next.push(format!("{base}/{part}"));
            }
        }
        found = next;
    }
    found.retain(|f| snapshot.link_stat(f).seen().is_some());
    found
}

#[cfg(test)]
mod tests;
