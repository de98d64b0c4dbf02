//! Logs of a program that nobody knows: those that it writes now, those that its command, its environment or
//! its configuration names, and those of the usual names.
use crate::host::FileKind;
use crate::kinds;
use crate::manager::{is_interpreter, outputs, script_of};
use crate::path;
use crate::service::Service;
use crate::snapshot::Snapshot;
use std::sync::Arc;

/// Descriptors of a process that are looked at.
const DESCRIPTORS: usize = 128;
/// How many bytes of a script are looked at.
const SCRIPT: u32 = 64 << 10;
/// How many logs are read at most.
const LOGS: usize = 8;
/// Ends of names by which a file of a directory of logs is one.
const ENDS: &[&str] = &[".log", ".err", ".out"];

/// The files, likeliest first; each is a regular file that holds something. They are looked for once a
/// snapshot.
pub(super) fn find(snapshot: &Snapshot, service: &Service) -> Arc<Vec<String>> {
    snapshot.derived(&format!("logs of the program {}", service.name), || look(snapshot, service))
}

fn look(snapshot: &Snapshot, service: &Service) -> Vec<String> {
    let mut all = named(snapshot, service);
    all.extend(open(snapshot, service));
    // Nobody says that those of the usual names exist: that one could not be seen is not missed.
    let usual: Vec<String> = snapshot.aside(|| {
        let files = |name: &String| {
            let alone = format!("/var/log/{name}.log");
            let there = snapshot.exists(&alone) == Some(true);
            let below = in_directory(snapshot, &format!("/var/log/{name}"));
            there.then_some(alone).into_iter().chain(below).collect::<Vec<_>>()
        };
        names(service).iter().flat_map(files).collect()
    });
    all.extend(usual);
    let own = service.unit.as_ref().and_then(|u| u.value("Service", "LogsDirectory")).unwrap_or_default();
    let own = own.split_whitespace().map(|dir| format!("/var/log/{}", dir.split(':').next().unwrap_or(dir)));
    all.extend(own.flat_map(|dir| in_directory(snapshot, &dir)));
    let mut found: Vec<String> = Vec::new();
    for file in all {
        let is_log =
            || snapshot.stat(&file).seen().is_some_and(|s| s.kind == FileKind::Regular && s.size > 0);
        if found.len() < LOGS && !found.contains(&file) && is_log() {
            found.push(file);
        }
    }
    found
}

/// Names that its logs may have: the unit's, with and without what makes it an instance, and the program's.
fn names(service: &Service) -> Vec<String> {
    let unit = service.unit_name().unwrap_or(&service.name).trim_end_matches(".service");
    let command = &service.instance.command;
    let program = match service.program() {
        Some(_) if service.kind.profile().on_java => kinds::java_program(command),
        Some(program) if is_interpreter(program) => script_of(command),
        program => program.map(str::to_owned),
    };
    let program = program.map(|p| path::name(&p).split('.').next().unwrap_or_default().to_owned());
    let mut all = vec![unit.to_owned()];
    all.extend(unit.split_once('@').map(|(stem, _)| stem.to_owned()));
    all.extend(program);
    // What an interpreter is told on its command line is no name of a file.
    let is_name =
        |name: &str| name.chars().all(|c| c.is_alphanumeric() || matches!(c, '-' | '_' | '.' | '@'));
    let says_nothing = |name: &str| name.starts_with('-') || matches!(name, "" | "main" | "app" | "server");
    all.retain(|name| is_name(name) && !says_nothing(name));
    all.dedup();
    all
}

fn in_directory(snapshot: &Snapshot, dir: &str) -> Vec<String> {
    let entries = snapshot.list(dir).seen().unwrap_or_default();
    let is_log = |name: &str| ENDS.iter().any(|end| name.ends_with(end));
    entries.iter().filter(|e| is_log(&e.name)).take(LOGS).map(|e| path::join(dir, &e.name)).collect()
}

/// Files that options, variables and settings with `log` in their names name.
fn named(snapshot: &Snapshot, service: &Service) -> Vec<String> {
    let instance = &service.instance;
    let of_log = |name: &str| name.to_ascii_lowercase().contains("log");
    let mut found = Vec::new();
    let mut before = "";
    for word in instance.command.iter().skip(1) {
        let (name, value) = word.split_once('=').unwrap_or((before, word));
        if value.starts_with('/') && (of_log(name) && name.starts_with('-') || value.ends_with(".log")) {
            found.push(value.to_owned());
        }
        before = word;
    }
    let variables =
        instance.environment.iter().filter(|(name, value)| of_log(name) && value.starts_with('/'));
    found.extend(variables.map(|(_, value)| value.clone()));
    found.extend(kinds::logs_of_a_program(snapshot, instance));
    // What a shell or a script that starts it leads its outputs to.
    let commands = service.unit.as_ref().map(|u| u.commands("ExecStart")).unwrap_or_default();
    found.extend(commands.iter().flat_map(|c| &c.words).flat_map(|word| outputs(word)));
    for script in &instance.variables {
        let head = snapshot.read_at(script, 0, SCRIPT).seen().filter(|head| head.starts_with(b"#!"));
        found.extend(outputs(&String::from_utf8_lossy(&head.unwrap_or_default())));
    }
    let is_dir = |file: &String| snapshot.is_directory(file) == Some(true);
    let (dirs, mut files): (Vec<String>, Vec<String>) = found.into_iter().partition(is_dir);
    files.extend(dirs.iter().flat_map(|dir| in_directory(snapshot, dir)));
    files
}

/// Logs that its main process has open for writing.
fn open(snapshot: &Snapshot, service: &Service) -> Vec<String> {
    let unit = service.unit_name().and_then(|name| snapshot.unit(name).seen());
    let Some(pid) = unit.map(|u| u.main_pid).filter(|pid| *pid > 0) else { return Vec::new() };
    let links = snapshot.aside(|| snapshot.list(&format!("/proc/{pid}/fd")).seen()).unwrap_or_default();
    let mut found = Vec::new();
    for number in links.into_iter().map(|e| e.name).take(DESCRIPTORS) {
        let target = snapshot.aside(|| snapshot.read_link(&format!("/proc/{pid}/fd/{number}")).seen());
        let Some(file) = target else { continue };
        let is_log = file.starts_with("/var/log/") && !file.starts_with("/var/log/journal/")
            || ENDS.iter().any(|end| file.ends_with(end));
        // A file that it only reads is not a log of its own.
        let writes = || {
            let about = snapshot.aside(|| snapshot.text(&format!("/proc/{pid}/fdinfo/{number}")).seen())?;
            let flags = about.lines().find_map(|l| l.strip_prefix("flags:"))?.trim();
            Some(matches!(u64::from_str_radix(flags, 8).ok()? & 3, 1 | 2))
        };
        if file.starts_with('/') && is_log && writes() == Some(true) {
            found.push(file);
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::service::named as service_named;
    use crate::services_file::ServicesFile;
    use crate::tests::TextHost;

    #[test]
    fn logs_are_found_by_what_names_them_and_by_usual_names() {
        let unit = "[Service]\nEnvironment=RELAY_LOG=/srv/relay/a.log\nLogsDirectory=tide/relay\n\
            ExecStart=/opt/tide/gauge --config /etc/relay.ini --log-file /srv/relay/b.log\n";
        let mut host = TextHost::new()
            .file("/etc/systemd/system/tide-relay.service", unit)
            .file("/etc/relay.ini", "[logging]\nfile_log = /srv/relay/c.log\nlevel = 3\n")
            .program("/opt/tide/gauge");
        let all = [
            "/srv/relay/b.log",
            "/srv/relay/a.log",
            "/srv/relay/c.log",
            "/var/log/tide-relay.log",
            "/var/log/gauge/gauge.err",
            "/var/log/tide/relay/x.log",
        ];
        for file in all.iter().chain(&["/var/log/other.log", "/var/log/gauge/readme"]) {
            host = host.file(file, "2031-04-02 06:10:11 INFO ready\n");
        }
        let snapshot = Snapshot::new(&host);
        let service = service_named(&snapshot, &ServicesFile::default(), "tide-relay").unwrap();
        assert_eq!(*find(&snapshot, &service), all);
    }
}
