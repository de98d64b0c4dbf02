//! The processes against the plan: halted ones, those that wait in the kernel, a main process that is none of
//! the unit's, data that another server uses, locks of other processes.
use crate::case::{Case, chain, started_by};
use crate::code::Code;
use crate::config::Severity;
use crate::finding::{Evidence, Finding, Proof, Source, Subject, stage};
use crate::host::{Look, Process};
use crate::path;
use crate::snapshot::Snapshot;

pub(super) fn check(snapshot: &Snapshot, case: &Case) -> Vec<Finding> {
    let mut found: Vec<Finding> = Vec::new();
    found.extend(halted(case));
    found.extend(waiting(case));
    found.extend(foreign_main(snapshot, case));
    if case.processes.is_empty() {
        found.extend(uncollected(snapshot, case));
        found.extend(data_in_use(snapshot, case));
        found.extend(locks(snapshot, case));
    }
    found
}

fn command(process: &Process) -> String {
    crate::secrets::mask_arguments(&process.arguments).join(" ")
}

/// Stopped by a signal or a debugger: it is there, holds its sockets, and answers nothing.
fn halted(case: &Case) -> Option<Finding> {
    let main = case.processes.first().filter(|p| matches!(p.brief.state, 'T' | 't'))?;
    let how = if main.brief.state == 't' { "a debugger holds it" } else { "a signal stopped it" };
    Some(Finding {
        code: Code::ProcessHalted,
        severity: Severity::Error,
        subject: Subject { pid: Some(main.brief.pid), ..Subject::default() },
        title: format!(
            "{} (pid {}) is halted: {how}, and it answers nothing",
            main.brief.name, main.brief.pid
        ),
        proof: Proof::Inevitable,
        evidence: vec![
            Evidence::new(Source::Process, format!("state {} in the process table", main.brief.state))
                .pid(main.brief.pid),
        ],
        fixes: vec!["continue-process"],
        blocks: true,
        stage: stage::RUN,
    })
}

/// In a wait inside the kernel that no signal ends: for a disk or another machine. Short ones are a part of
/// all work; the host has looked more than once.
fn waiting(case: &Case) -> Option<Finding> {
    let stuck: Vec<&Process> = case.processes.iter().filter(|p| p.brief.state == 'D').collect();
    let first = stuck.first()?;
    let others = if stuck.len() > 1 {
        format!(" and {} more of its processes", stuck.len() - 1)
    } else {
        String::new()
    };
    Some(Finding {
        code: Code::NotAsPlanned,
        severity: Severity::Warning,
        subject: Subject { pid: Some(first.brief.pid), ..Subject::default() },
        title: format!(
            "{} (pid {}){others} waits in the kernel for a disk or a network file system, and no signal \
                reaches it",
            first.brief.name, first.brief.pid
        ),
        proof: Proof::Now,
        evidence: stuck
            .iter()
            .take(3)
            .map(|p| {
                Evidence::new(Source::Process, "state D in the process table, at several looks")
                    .pid(p.brief.pid)
            })
            .collect(),
        fixes: vec![],
        blocks: false,
        stage: stage::RUN,
    })
}

/// The manager's main process stands outside of the unit's control group and is no daemon of this kind.
fn foreign_main(snapshot: &Snapshot, case: &Case) -> Option<Finding> {
    let state = case.manager.as_ref().seen()?;
    let unit = case.service.unit.as_ref()?;
    if state.main_pid == 0 || !case.state.is_up() {
        return None;
    }
    let Look::Seen(main) = snapshot.process(state.main_pid) else { return None };
    let inside = state.control_group.is_empty() || main.cgroup.starts_with(&state.control_group);
    if inside
        || case.service.runs_as(&main)
        || case.processes.iter().any(|p| case.service.runs_as(p) && p.brief.pid != state.main_pid)
    {
        return None;
    }
    Some(Finding {
        code: Code::NotAsPlanned,
        severity: Severity::Warning,
        subject: Subject { pid: Some(state.main_pid), ..Subject::unit(&unit.name) },
        title: format!(
            "the manager takes {} (pid {}) for the main process of {}, but that is another program",
            main.brief.name, state.main_pid, unit.name
        ),
        proof: Proof::Now,
        evidence: vec![
            Evidence::new(Source::Process, command(&main)).pid(state.main_pid),
            Evidence::new(Source::Manager, format!("main process {}", state.main_pid)),
        ],
        fixes: vec![],
        blocks: false,
        stage: stage::RUN,
    })
}

/// A process of the daemon that is dead, and whose parent has not asked for its end.
fn uncollected(snapshot: &Snapshot, case: &Case) -> Option<Finding> {
    let all = snapshot.processes().seen()?;
    let dead = all.iter().find(|p| p.state == 'Z' && p.parent > 1 && case.service.has_name(&p.name))?;
    let parent = snapshot
        .brief(dead.parent)
        .map_or_else(|| dead.parent.to_string(), |p| format!("{} (pid {})", p.name, p.pid));
    Some(Finding {
        code: Code::NotAsPlanned,
        severity: Severity::Hint,
        subject: Subject { pid: Some(dead.pid), ..Subject::default() },
        title: format!(
            "{} (pid {}) is dead, and its parent {parent} has not taken notice",
            dead.name, dead.pid
        ),
        proof: Proof::Now,
        evidence: vec![Evidence::new(Source::Process, "state Z in the process table").pid(dead.pid)],
        fixes: vec![],
        blocks: false,
        stage: stage::RUN,
    })
}

/// Another server works in the same data directory: servers that keep data enter it at their start.
fn data_in_use(snapshot: &Snapshot, case: &Case) -> Option<Finding> {
    if !case.service.kind.profile().keeps_data {
        return None;
    }
    let data = snapshot.resolve_links(&case.config.model.data_dir.as_ref()?.path);
    let kind = case.service.kind;
    let briefs = snapshot.processes().seen()?;
    let user = briefs.iter().filter(|b| b.state != 'Z' && kind.runs(&b.name)).find_map(|b| {
        let process = snapshot.process(b.pid).seen()?;
        let here = process.own_root && process.directory.as_deref().map(path::clean) == Some(data.clone());
        (here && kind.is_main(&process.arguments)).then_some(process)
    })?;
    let (links, unit) = chain(snapshot, &user);
    if unit.as_deref() == case.service.unit_name() && unit.is_some() {
        return None;
    }
    let by = unit.clone().map_or_else(
        || format!("{} (pid {})", user.brief.name, user.brief.pid),
        |u| format!("{} (pid {}) of {u}", user.brief.name, user.brief.pid),
    );
    let started = started_by(&links)
        .map_or_else(|| "its parent process has ended".to_owned(), |by| format!("started by {by}"));
    Some(Finding {
        code: Code::AlreadyRunning,
        severity: Severity::Error,
        subject: Subject { pid: Some(user.brief.pid), ..Subject::path(&data) },
        title: format!("another server uses the data in {data} already: {by}"),
        proof: Proof::Inevitable,
        evidence: vec![
            Evidence::new(Source::Process, format!("it works in {data}: {}", command(&user)))
                .pid(user.brief.pid),
            Evidence::new(Source::Process, started)
                .pid(user.brief.pid)
                .time(user.started.map(|s| s * 1_000_000), &case.zone),
        ],
        fixes: vec!["stop-holder"],
        blocks: true,
        stage: stage::BIND,
    })
}

/// Locks that name a living process of the account's own, and empty ones: both end the start.
fn locks(snapshot: &Snapshot, case: &Case) -> Vec<Finding> {
    let mut found = Vec::new();
    for lock in &case.config.model.locks {
        let Look::Seen(text) = snapshot.small_text(&lock.path) else { continue };
        let finding = |code, pid: Option<u32>, title: String, seen: Evidence| Finding {
            code,
            severity: Severity::Error,
            subject: Subject { pid, ..Subject::path(&lock.path) },
            title,
            proof: Proof::Inevitable,
            evidence: vec![
                Evidence::new(
                    Source::File,
                    if text.trim().is_empty() {
                        "it is empty".to_owned()
                    } else {
                        format!("it begins with {}", text.lines().next().unwrap_or_default())
                    },
                )
                .file(&lock.path),
                seen,
            ],
            fixes: if code == Code::AlreadyRunning { vec!["stop-holder"] } else { vec!["move-aside"] },
            blocks: true,
            stage: stage::FILES,
        };
        let Some(first) = text.lines().next().map(str::trim).filter(|l| !l.is_empty()) else {
            found.push(finding(
                Code::StaleFile,
                None,
                format!("the lock {} is empty, and nobody can tell whose it is", lock.path),
                Evidence::new(Source::File, "a start that was cut off leaves such a file"),
            ));
            continue;
        };
        let Ok(pid) = first.trim_start_matches('-').parse::<u32>() else { continue };
        let Look::Seen(process) = snapshot.process(pid) else { continue };
        // The number of somebody else's process is taken for a dead one: only one's own can be asked.
        if process.brief.uid != case.starter.uid || process.brief.state == 'Z' {
            continue;
        }
        let seen = Evidence::new(Source::Process, command(&process)).pid(pid);
        if case.service.runs_as(&process) {
            found.push(finding(
                Code::AlreadyRunning,
                Some(pid),
                format!("another copy of {} runs already: {} names it", case.service.name, lock.path),
                seen,
            ));
        } else {
            let title = format!(
                "the lock {} names pid {pid}, which is now {} and not {}",
                lock.path, process.brief.name, case.service.name
            );
            found.push(finding(Code::StaleFile, Some(pid), title, seen));
        }
    }
    found
}
