//! Files and directories that directives name.
use super::super::state::{Directive, Reader, Rule, Scope, report};
use super::common::bad_word;
use crate::code::Code;
use crate::config::{About, DependsOn, LogSink, NamedPath, Severity};
use crate::host::FileKind;
use crate::manager::split_words;
use crate::path;
use crate::snapshot::Snapshot;

pub(super) static ROOT: Rule =
    Rule { names: &["DocumentRoot"], check: |r, d, around| document_root(r, d, around.scope) };
pub(super) static ERROR_LOG: Rule = Rule {
    names: &["ErrorLog"],
    check: |r, d, around| {
        around.facts.has_error_log |= around.scope.host == 0;
        error_log(r, d, around.scope);
    },
};
pub(super) static ACCESS_LOG: Rule =
    Rule { names: &["CustomLog", "TransferLog", "GlobalLog"], check: |r, d, _| custom_log(r, d) };
pub(super) static PID: Rule = Rule {
    names: &["PidFile"],
    check: |r, d, _| {
        let path = log_path(r, d.value(0));
        r.out.model.pid_file =
            Some(NamedPath { path, place: Some(d.item.place()), directive: d.name.to_string() });
    },
};
pub(super) static TYPES: Rule = Rule {
    names: &["TypesConfig"],
    check: |r, d, around| {
        around.facts.has_types_config = true;
        let file = path::join(&r.server_root, d.value(0));
        if r.snapshot.exists(&file) == Some(false) {
            let found = report(r, d, Code::ConfigMissingFile, format!("{file} does not exist"));
            found.depends_on = DependsOn::Files;
            found.about = Some(About::File(file));
        }
    },
};
pub(super) static CORE_DUMPS: Rule = Rule {
    names: &["CoreDumpDirectory"],
    check: |r, d, _| {
        let dir = path::join(&r.server_root, d.value(0));
        if r.snapshot.is_directory(&dir) == Some(false) {
            let found =
                report(r, d, Code::ConfigMissingFile, format!("CoreDumpDirectory {dir} is not a directory"));
            found.depends_on = DependsOn::Files;
            found.about = Some(About::Directory(dir));
        }
    },
};

fn log_path(r: &Reader, value: &str) -> String {
    path::join(&r.server_root, value)
}

fn document_root(r: &mut Reader, d: &Directive, scope: &Scope) {
    let dir = path::join(&r.server_root, d.value(0));
    r.out.model.serves.push(NamedPath {
        path: dir.clone(),
        place: Some(d.item.place()),
        directive: "DocumentRoot".into(),
    });
    if r.snapshot.is_directory(&dir) != Some(false) {
        return;
    }
    let main = scope.host == 0;
    let message = format!("DocumentRoot {dir} is not a directory");
    let found = report(r, d, if main { Code::ConfigMissingFile } else { Code::ConfigWarning }, message);
    found.depends_on = DependsOn::Files;
    found.about = Some(About::Tree(dir));
    if !main {
        found.severity = Severity::Warning;
    }
}

fn error_log(r: &mut Reader, d: &Directive, scope: &Scope) {
    let value = d.value(0).to_owned();
    let sink = |sink| (sink, Some(d.item.place()));
    if value.starts_with('|') {
        piped(r, d, &value);
        r.out.model.log_sinks.push(sink(LogSink::Program));
        let entry = file_of_pipe(r.snapshot, &r.server_root, &value).map(|path| NamedPath {
            path,
            place: Some(d.item.place()),
            directive: d.name.to_string(),
        });
        return r.out.model.error_logs.extend(entry);
    }
    if value == "syslog" || value.starts_with("syslog:") {
        r.out.model.log_sinks.push(sink(LogSink::Syslog));
        return;
    }
    // A virtual host's error log is blamed on the host's first line.
    let place = scope.host_place.clone().unwrap_or_else(|| d.item.place());
    let entry = NamedPath { path: log_path(r, &value), place: Some(place), directive: d.name.to_string() };
    if scope.host == 0 {
        r.out.model.error_logs.insert(0, entry.clone());
    } else {
        r.out.model.error_logs.push(entry.clone());
    }
    r.out.model.writes.push(entry);
}

fn custom_log(r: &mut Reader, d: &Directive) {
    let value = d.value(0).to_owned();
    if value.starts_with('|') {
        return piped(r, d, &value);
    }
    if d.lower() == "customlog" && d.values.len() == 3 {
        let condition = d.value(2);
        if !condition.starts_with("env=") && !condition.starts_with("expr=") {
            return bad_word(
                r,
                d,
                condition,
                format!("\"{condition}\" is not a condition, expected env= or expr="),
            );
        }
    }
    let entry =
        NamedPath { path: log_path(r, &value), place: Some(d.item.place()), directive: d.name.to_string() };
    let dir = path::parent(&entry.path).to_owned();
    if r.snapshot.is_directory(&dir) == Some(false) {
        let found = report(
            r,
            d,
            Code::ConfigMissingFile,
            format!("directory {dir} for {} does not exist", entry.path),
        );
        found.depends_on = DependsOn::Files;
        found.about = Some(About::Directory(dir));
    }
    r.out.model.access_logs.push(entry.clone());
    r.out.model.writes.push(entry);
}

/// The file that the program of a piped log writes: the newest one. Programs that split logs by time take the
/// file's name as their last path: with marks of `strftime` in it, or they put a number behind it.
fn file_of_pipe(snapshot: &Snapshot, root: &str, value: &str) -> Option<String> {
    let words = split_words(value.trim_start_matches(['|', '$']).trim());
    let file = words.iter().skip(1).rev().find(|w| w.contains('/') && !w.starts_with('-'))?;
    let file = path::join(root, file);
    let (dir, name) = (path::parent(&file), path::name(&file));
    let parts: Vec<&str> = name.split('%').collect();
    let is_one = |entry: &str| match parts.as_slice() {
        [whole] => entry.strip_prefix(whole).is_some_and(|rest| {
            rest.is_empty() || rest.strip_prefix('.').is_some_and(|n| n.bytes().all(|b| b.is_ascii_digit()))
        }),
        // What stands between the marks, each of which is one letter long, stands in the name in that order.
        [first, marked @ ..] => {
            let mut rest = entry.strip_prefix(first);
            for part in marked {
                let fixed = part.get(1..).unwrap_or_default();
                rest = rest.and_then(|r| {
                    if fixed.is_empty() { Some(r) } else { r.find(fixed).map(|at| &r[at + fixed.len()..]) }
                });
            }
            rest.is_some()
        }
        [] => false,
    };
    let entries = snapshot.list(dir).seen().unwrap_or_default();
    let found: Option<(i64, String)> = entries
        .iter()
        .filter(|e| is_one(&e.name))
        .map(|e| path::join(dir, &e.name))
        .filter_map(|f| Some((snapshot.stat(&f).seen().filter(|s| s.kind == FileKind::Regular)?.modified, f)))
        .max();
    found.map(|(_, file)| file)
}

pub(super) fn piped(r: &mut Reader, d: &Directive, value: &str) {
    let command = value.trim_start_matches(['|', '$']).trim();
    let program = command.split_whitespace().next().unwrap_or_default().to_owned();
    if program.starts_with('/') && r.snapshot.exists(&program) == Some(false) {
        let found = report(
            r,
            d,
            Code::ConfigMissingFile,
            format!("the program {program} of a piped log does not exist"),
        );
        found.depends_on = DependsOn::Files;
        found.about = Some(About::File(program));
    }
}
