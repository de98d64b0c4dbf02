//! Files and directories that directives name.
use super::super::read::Reader;
use super::super::walk::{Directive, Scope, report};
use super::bad;
use crate::code::Code;
use crate::config::{DependsOn, NamedPath, Severity};
use crate::path;

pub(super) fn log_path(r: &Reader, value: &str) -> String {
    path::join(&r.server_root, value)
}

pub(super) fn document_root(r: &mut Reader, d: &Directive, scope: &Scope) {
    let dir = path::join(&r.server_root, d.value(0));
    if r.snapshot.is_directory(&dir) != Some(false) {
        return;
    }
    let main = scope.host == 0;
    let message = format!("DocumentRoot {dir} is no directory");
    let found = report(r, d, if main { Code::ConfigMissingFile } else { Code::ConfigWarning }, message);
    found.depends_on = DependsOn::Files;
    found.object = Some(dir);
    if !main {
        found.severity = Severity::Warning;
    }
}

pub(super) fn error_log(r: &mut Reader, d: &Directive, scope: &Scope) {
    let value = d.value(0).to_owned();
    if value.starts_with('|') {
        return piped(r, d, &value);
    }
    if value == "syslog" || value.starts_with("syslog:") {
        return;
    }
    // A virtual host's error log is blamed on the host's first line.
    let place = scope.host_place.clone().unwrap_or_else(|| d.item.place());
    let entry = NamedPath { path: log_path(r, &value), place: Some(place), directive: d.name.clone() };
    if scope.host == 0 {
        r.out.model.error_logs.insert(0, entry.clone());
    } else {
        r.out.model.error_logs.push(entry.clone());
    }
    r.out.model.writes.push(entry);
}

pub(super) fn custom_log(r: &mut Reader, d: &Directive) {
    let value = d.value(0).to_owned();
    if value.starts_with('|') {
        return piped(r, d, &value);
    }
    if d.lower() == "customlog" && d.values.len() == 3 {
        let condition = d.value(2);
        if !condition.starts_with("env=") && !condition.starts_with("expr=") {
            return bad(r, d, format!("{condition:?} is no condition, expected env= or expr="));
        }
    }
    let entry = NamedPath { path: log_path(r, &value), place: Some(d.item.place()), directive: d.name.clone() };
    let dir = path::parent(&entry.path).to_owned();
    if r.snapshot.is_directory(&dir) == Some(false) {
        let found = report(r, d, Code::ConfigMissingFile, format!("directory {dir} for {} is not there", entry.path));
        found.depends_on = DependsOn::Files;
        found.object = Some(dir);
    }
    r.out.model.access_logs.push(entry.clone());
    r.out.model.writes.push(entry);
}

pub(super) fn piped(r: &mut Reader, d: &Directive, value: &str) {
    let command = value.trim_start_matches(['|', '$']).trim();
    let program = command.split_whitespace().next().unwrap_or_default().to_owned();
    if program.starts_with('/') && r.snapshot.exists(&program) == Some(false) {
        let found = report(r, d, Code::ConfigMissingFile, format!("the program {program} of a piped log is not there"));
        found.depends_on = DependsOn::Files;
        found.object = Some(program);
    }
}
