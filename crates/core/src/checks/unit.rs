//! The unit against the host and the daemon: its conditions, what it requires, and whether its type fits what
//! it starts.
use crate::case::{Case, State};
use crate::code::Code;
use crate::config::{Fault, Place, nearest_file};
use crate::finding::{Evidence, Finding, Proof, Source, Subject, stage};
use crate::host::{FileKind, Look};
use crate::manager::{self, UNLIMITED, Unit};
use crate::path;
use crate::snapshot::Snapshot;

pub(super) fn check(snapshot: &Snapshot, case: &Case) -> Vec<Finding> {
    let Some(unit) = case.service.unit.as_ref().filter(|u| !u.masked) else { return vec![] };
    if matches!(case.state, State::Running | State::Starting | State::Degraded) {
        return vec![];
    }
    let mut found: Vec<Finding> = Vec::new();
    found.extend(conditions(snapshot, case, unit));
    found.extend(required(snapshot, case, unit));
    found.extend(paths(snapshot, case, unit));
    found.extend(wrong_type(case, unit));
    found
}

fn finding(
    code: Code,
    subject: Subject,
    title: String,
    evidence: Vec<Evidence>,
    fixes: Vec<&'static str>,
) -> Finding {
    Finding { fixes, ..Finding::inevitable(code, stage::MANAGER, subject, title, evidence) }
}

fn at_setting(unit: &Unit, section: &str, key: &str, words: String) -> Evidence {
    let mut evidence = Evidence::new(Source::Manager, words).file(&unit.fragment);
    if let Some((file, line)) = unit.place(section, key) {
        evidence.file = Some(file);
        evidence.line = Some(line);
    }
    evidence
}

/// Conditions that can be judged from files, accounts and the host's name (systemd.unit(5)).
const KINDS: &[&str] = &[
    "PathExists",
    "PathExistsGlob",
    "PathIsDirectory",
    "PathIsSymbolicLink",
    "PathIsReadWrite",
    "DirectoryNotEmpty",
    "FileNotEmpty",
    "FileIsExecutable",
    "User",
    "Host",
    "KernelCommandLine",
];

/// A condition or assertion that is not met now: key, value, what was seen.
fn unmet(snapshot: &Snapshot, unit: &Unit, prefix: &str) -> Option<(String, String, String)> {
    let mut triggers: Vec<(bool, (String, String, String))> = Vec::new();
    for kind in KINDS {
        let key = format!("{prefix}{kind}");
        for value in unit.values("Unit", &key) {
            let bare = value.trim_start_matches(['|', '!']).to_owned();
            let negated = value.trim_start_matches('|').starts_with('!');
            let Some((holds, seen)) = judge(snapshot, kind, &bare) else { continue };
            let met = holds != negated;
            let told = (key.clone(), value.clone(), seen);
            if value.starts_with('|') {
                triggers.push((met, told));
            } else if !met {
                return Some(told);
            }
        }
    }
    // Of those that trigger one is enough.
    if triggers.iter().any(|(met, _)| *met) {
        None
    } else {
        triggers.into_iter().map(|(_, told)| told).next()
    }
}

fn judge(snapshot: &Snapshot, kind: &str, value: &str) -> Option<(bool, String)> {
    let there = |file: &str| snapshot.exists(file);
    let word = |yes: bool, file: &str| format!("{file} {}", if yes { "exists" } else { "does not exist" });
    match kind {
        "PathExists" => there(value).map(|yes| (yes, word(yes, value))),
        "PathExistsGlob" => {
            let yes = !crate::kinds::glob(snapshot, value).is_empty();
            Some((
                yes,
                format!("{} {value}", if yes { "there are names that match" } else { "no name matches" }),
            ))
        }
        "PathIsDirectory" => snapshot
            .is_directory(value)
            .map(|yes| (yes, format!("{value} is {} directory", if yes { "a" } else { "not a" }))),
        "PathIsSymbolicLink" => {
            let yes = snapshot.link_stat(value).seen().is_some_and(|s| s.kind == FileKind::Link);
            Some((yes, format!("{value} is {} symbolic link", if yes { "a" } else { "not a" })))
        }
        "PathIsReadWrite" => {
            let writable = snapshot.space(value).seen().map(|s| !s.read_only)?;
            Some((
                writable,
                format!("{value} is mounted {}", if writable { "writable" } else { "read-only" }),
            ))
        }
        "DirectoryNotEmpty" => {
            let yes = snapshot.list(value).seen().is_some_and(|l| !l.is_empty());
            Some((yes, format!("{value} {}", if yes { "holds files" } else { "is empty or does not exist" })))
        }
        "FileNotEmpty" => {
            let yes = snapshot.stat(value).seen().is_some_and(|s| s.kind == FileKind::Regular && s.size > 0);
            Some((yes, format!("{value} {}", if yes { "has content" } else { "is empty or does not exist" })))
        }
        "FileIsExecutable" => {
            let yes = snapshot
                .stat(value)
                .seen()
                .is_some_and(|s| s.kind == FileKind::Regular && s.mode & 0o111 != 0);
            Some((
                yes,
                format!("{value} {} be executed", if yes { "may" } else { "does not exist or may not" }),
            ))
        }
        "User" => {
            Some((matches!(value, "root" | "0" | "@system"), "the manager of the host runs as root".into()))
        }
        "Host" => {
            let own =
                snapshot.clock().seen().map(|c| c.host).or_else(|| snapshot.text("/etc/hostname").seen())?;
            Some((
                path::matches(&value.to_lowercase(), &own.trim().to_lowercase(), false),
                format!("this host is {}", own.trim()),
            ))
        }
        "KernelCommandLine" => {
            let line = snapshot.text("/proc/cmdline").seen()?;
            let yes = line
                .split_whitespace()
                .any(|w| w == value || w.split_once('=').is_some_and(|(k, _)| k == value));
            Some((yes, format!("the kernel was started {} {value}", if yes { "with" } else { "without" })))
        }
        _ => None,
    }
}

/// Whether a unit has conditions of which only the manager knows how they stand.
fn has_others(unit: &Unit, prefix: &str) -> bool {
    [
        "Virtualization",
        "Architecture",
        "Security",
        "Capability",
        "ACPower",
        "NeedsUpdate",
        "FirstBoot",
        "Memory",
        "CPUs",
        "ControlGroupController",
        "PathIsMountPoint",
        "Group",
        "Environment",
    ]
    .iter()
    .any(|k| !unit.values("Unit", &format!("{prefix}{k}")).is_empty())
}

fn conditions(snapshot: &Snapshot, case: &Case, unit: &Unit) -> Option<Finding> {
    let name = &unit.name;
    for prefix in ["Condition", "Assert"] {
        if let Some((key, value, seen)) = unmet(snapshot, unit, prefix) {
            // What only a running host has tells nothing of a tree.
            let path = value.trim_start_matches(['|', '!']);
            let of_runtime =
                ["/run/", "/proc/", "/sys/", "/dev/", "/tmp/"].iter().any(|d| path.starts_with(d))
                    && !snapshot.host().parts().processes;
            if of_runtime {
                continue;
            }
            let evidence = at_setting(unit, "Unit", &key, seen);
            let verb = if prefix == "Assert" { "refused: its assertion" } else { "skipped: its condition" };
            let title = format!("{name} is {verb} {key}={value} is not met");
            return Some(finding(Code::ManagerDisabled, Subject::unit(name), title, vec![evidence], vec![]));
        }
    }
    let state = case.manager.as_ref().seen()?;
    if state.condition_checked == 0 || state.condition_met || state.active_state != "inactive" {
        return None;
    }
    let said = Evidence::new(Source::Manager, "the last check of its conditions failed")
        .file(&unit.fragment)
        .time(i64::try_from(state.condition_checked).ok(), &case.zone);
    if has_others(unit, "Condition") {
        return Some(finding(
            Code::ManagerDisabled,
            Subject::unit(name),
            format!("{name} is skipped: a condition of its unit is not met"),
            vec![said],
            vec![],
        ));
    }
    let title =
        format!("{name} was skipped because a condition of its unit was not met; now all of them are");
    Some(Finding {
        proof: Proof::Said,
        ..finding(Code::ManagerDisabled, Subject::unit(name), title, vec![said], vec!["start"])
    })
}

/// Files and directories that the manager itself opens before the program runs.
fn paths(snapshot: &Snapshot, case: &Case, unit: &Unit) -> Vec<Finding> {
    let environment = unit
        .environment_files()
        .into_iter()
        .filter(|(_, optional)| !optional)
        .map(|(file, _)| ("EnvironmentFile", file));
    let directory = ["WorkingDirectory", "RootDirectory"]
        .into_iter()
        .filter_map(|key| Some((key, unit.value("Service", key)?)));
    let mut found = Vec::new();
    for (key, path) in environment.chain(directory).chain(of_sandbox(unit)).chain(streams(unit)) {
        let made = case.service.instance.made_by_manager.iter().any(|d| crate::path::is_within(&path, d));
        let there = if path::is_pattern(&path) {
            Some(!crate::kinds::glob(snapshot, &path).is_empty())
        } else {
            snapshot.exists(&path)
        };
        if !path.starts_with('/') || path.starts_with("/run/") || made || there != Some(false) {
            continue;
        }
        let evidence = vec![
            at_setting(unit, "Service", key, format!("{key}={path} in {}", unit.name)),
            Evidence::new(Source::File, "does not exist").file(&path),
        ];
        let title = format!("{path}, which {} names as {key}=, does not exist", unit.name);
        let mut subject = Subject::path(&path);
        let directive = Some(key.to_owned());
        subject.fault = Some(Box::new(Fault { place: None, directive, about: None, edit: None }));
        let mut one = Finding {
            stage: stage::EXECUTE,
            ..finding(Code::ConfigMissingFile, subject, title, evidence, vec![])
        };
        let placed = unit.placed("Service", key).into_iter().find(|(value, ..)| value.contains(&path));
        if let Some(((_, file, line), near)) = placed.zip(nearest_file(snapshot, &path)) {
            let place = Place::line(&file, line);
            super::manager::meant_in_unit(snapshot, &mut one, key, &place, &path, &near);
        }
        match key {
            "WorkingDirectory" => one.fixes.push("make-directory"),
            "EnvironmentFile" => one.fixes.push("do-without"),
            list if list.ends_with("Paths") => one.fixes.push("do-without"),
            _ => {}
        }
        found.push(one);
    }
    found
}

/// Paths that must exist so that the file system of the sandbox can be put together (systemd.exec(5)): those
/// without a `-`, as long as nothing that runs before with more rights could make them.
fn of_sandbox(unit: &Unit) -> Vec<(&'static str, String)> {
    let is_set = |key: &str| unit.value("Service", key).is_some_and(|v| !v.is_empty());
    let outside = |line: &String| line.trim_start_matches(['-', '@', ':']).starts_with(['+', '!']);
    if is_set("RootDirectory")
        || is_set("RootImage")
        || unit.values("Service", "ExecStartPre").iter().any(outside)
    {
        return Vec::new();
    }
    let mut all = Vec::new();
    let lists = ["ReadWritePaths", "ReadOnlyPaths", "InaccessiblePaths", "ExecPaths", "NoExecPaths"];
    for key in lists.into_iter().chain(["BindPaths", "BindReadOnlyPaths"]) {
        for value in unit.values("Service", key) {
            let bound = key.starts_with("Bind");
            let paths = value.split_whitespace().map(|word| word.trim_start_matches('+'));
            let source = |word: &str| {
                if bound { word.split(':').next().unwrap_or(word).to_owned() } else { word.to_owned() }
            };
            all.extend(
                paths
                    .map(source)
                    .filter(|p| p.len() > 1 && p.starts_with('/') && !p.contains('%'))
                    .map(|p| (key, p)),
            );
        }
    }
    all
}

/// What the manager opens as standard input, and the directories in which it opens the other two.
fn streams(unit: &Unit) -> Vec<(&'static str, String)> {
    let mut all = Vec::new();
    for key in ["StandardInput", "StandardOutput", "StandardError"] {
        let value = unit.value("Service", key).unwrap_or_default();
        let file = ["file:", "append:", "truncate:"].iter().find_map(|how| value.strip_prefix(how));
        let Some(file) = file.filter(|f| f.starts_with('/') && !f.contains('%')) else { continue };
        all.push((key, if key == "StandardInput" { file.to_owned() } else { path::parent(file).to_owned() }));
    }
    all
}

/// Units without which the manager does not start this one.
fn required(snapshot: &Snapshot, case: &Case, unit: &Unit) -> Vec<Finding> {
    let mut found: Vec<Finding> = Vec::new();
    let mut seen: Vec<String> = Vec::new();
    let mut names: Vec<(&str, String)> = Vec::new();
    for key in ["Requires", "BindsTo", "Requisite"] {
        names.extend(
            unit.values("Unit", key).iter().flat_map(|v| v.split_whitespace()).map(|n| (key, n.to_owned())),
        );
    }
    // The manager adds mounts and sockets that the files do not name.
    if let Some(state) = case.manager.as_ref().seen() {
        let implied = state.more.get("Requires").map(String::as_str).unwrap_or_default();
        names.extend(implied.split_whitespace().map(|n| ("Requires", n.to_owned())));
    }
    for (key, name) in names {
        if seen.contains(&name) || name == unit.name {
            continue;
        }
        seen.push(name.clone());
        if let Some((how, proof)) = broken(snapshot, key, &name) {
            let evidence = vec![
                at_setting(unit, "Unit", key, format!("{key}={name} in {}", unit.name)),
                Evidence::new(Source::Manager, format!("{name} {how}")),
            ];
            let title = format!("{} needs {name}, which {how}", unit.name);
            found.push(Finding {
                proof,
                stage: stage::EXECUTE,
                ..finding(Code::DependencyDown, Subject::unit(&name), title, evidence, vec![])
            });
        }
    }
    found
}

fn broken(snapshot: &Snapshot, key: &str, name: &str) -> Option<(String, Proof)> {
    match snapshot.unit(name) {
        Look::Seen(state) => match (state.load_state.as_str(), state.active_state.as_str()) {
            ("masked", _) => Some(("is masked".into(), Proof::Inevitable)),
            ("not-found", "inactive" | "failed") => Some(("does not exist".into(), Proof::Inevitable)),
            ("bad-setting" | "error", _) => Some(("has a broken unit file".into(), Proof::Inevitable)),
            (_, "failed") => Some(("has failed".into(), Proof::Now)),
            (_, "inactive") if key == "Requisite" => Some(("is not running".into(), Proof::Inevitable)),
            _ => None,
        },
        Look::Absent => Some(("does not exist".into(), Proof::Inevitable)),
        // Without a manager only files tell; mounts and the like come from generators that have not run.
        Look::NotSeen(_) => {
            let plain = name.ends_with(".service") || name.ends_with(".socket");
            match manager::unit(snapshot, name) {
                Look::Absent if plain && manager::has_units(snapshot) => {
                    Some(("does not exist".into(), Proof::Inevitable))
                }
                Look::Seen(unit) if unit.masked => Some(("is masked".into(), Proof::Inevitable)),
                _ => None,
            }
        }
    }
}

/// The manager waits for a sign that this daemon, started this way, never gives.
fn wrong_type(case: &Case, unit: &Unit) -> Option<Finding> {
    let model = &case.config.model;
    if !case.config.readable || case.config.first_error().is_some() {
        return None;
    }
    // Where the last start says why it failed, that is the reason.
    if case
        .attempts
        .first()
        .is_some_and(|a| a.failures.iter().any(|f| !f.found.aftermath && !f.code.facts().is_outcome))
    {
        return None;
    }
    let kind = unit.start_type();
    let bounded = unit.start_timeout() != UNLIMITED;
    let told = |code, title: String, why: &str, key: &str| {
        let set = unit.value("Service", key).unwrap_or_else(|| format!("{kind}, by default"));
        let evidence = vec![
            at_setting(unit, "Service", key, format!("{key}={set}")),
            Evidence::new(Source::Config, why),
        ];
        Some(Finding {
            stage: stage::RUN,
            ..finding(code, Subject::unit(&unit.name), title, evidence, vec!["align-unit"])
        })
    };
    let keeps = unit.value("Service", "RemainAfterExit").is_some_and(|v| manager::on(&v))
        || matches!(unit.value("Service", "KillMode").as_deref(), Some("none" | "process"))
        || unit.value("Service", "PIDFile").is_some();
    match (kind.as_str(), model.background) {
        ("simple" | "exec" | "notify", Some(true)) if !keeps => told(
            Code::ManagerDisabled,
            format!(
                "{} has the wrong Type=: {} goes to the background, and the manager takes that for its end",
                unit.name, case.service.name
            ),
            "what it starts leaves the daemon in the background and ends",
            "Type",
        ),
        ("forking", Some(false)) if bounded => told(
            Code::StartTimeout,
            format!(
                "{} has the wrong Type=: {} stays in the foreground, and the manager waits for it to go to \
                    the background",
                unit.name, case.service.name
            ),
            "what it starts is the daemon itself and does not end",
            "Type",
        ),
        ("notify", _) if bounded && model.notifies == Some(false) => told(
            Code::StartTimeout,
            format!(
                "{} has the wrong Type=: {} never tells the manager that it is ready",
                unit.name, case.service.name
            ),
            "started this way it sends no word to the manager",
            "Type",
        ),
        ("forking", _) if bounded => {
            let waited_for = unit.value("Service", "PIDFile")?;
            let written = &model.pid_file.as_ref()?.path;
            let waited_for =
                if waited_for.starts_with('/') { waited_for } else { path::join("/run", &waited_for) };
            if path::runtime(&path::clean(&waited_for)) == path::runtime(&path::clean(written)) {
                return None;
            }
            told(
                Code::StartTimeout,
                format!("{} waits for {waited_for}, but {} writes {written}", unit.name, case.service.name),
                &format!("its pid file is {written}"),
                "PIDFile",
            )
        }
        _ => None,
    }
}
