//! What the service manager was told: masked, disabled, conditions, broken units, the start limit.
use crate::case::{Case, State};
use crate::code::Code;
use crate::config::{Severity, nearest_file};
use crate::finding::{Evidence, Finding, Proof, Source, Subject, stage};
use crate::host::UnitState;
use crate::log::Outcome;
use crate::manager::Unit;
use crate::path;
use crate::snapshot::Snapshot;

fn finding(
    code: Code,
    unit: &str,
    title: String,
    evidence: Vec<Evidence>,
    fixes: Vec<&'static str>,
    stage: u8,
) -> Finding {
    Finding {
        code,
        severity: Severity::Error,
        subject: Subject::unit(unit),
        title,
        proof: Proof::Inevitable,
        evidence,
        fixes,
        blocks: true,
        stage,
    }
}

pub(super) fn check(snapshot: &Snapshot, case: &Case) -> Vec<Finding> {
    let Some(unit) = &case.service.unit else { return vec![] };
    let name = unit.name.as_str();
    let state = case.manager.as_ref().seen().map(AsRef::as_ref);
    let mut found = Vec::new();
    if unit.masked || state.is_some_and(|s| s.load_state == "masked") {
        return vec![masked(snapshot, case, unit)];
    }
    if let Some(state) = state {
        if matches!(state.load_state.as_str(), "bad-setting" | "error") {
            let evidence = vec![
                Evidence::new(Source::Manager, format!("load state {}", state.load_state))
                    .file(&unit.fragment),
            ];
            found.push(finding(
                Code::ManagerDisabled,
                name,
                format!("the unit file of {name} is broken"),
                evidence,
                vec![],
                stage::MANAGER,
            ));
        }
        if state.needs_reload {
            found.push(Finding {
                code: Code::NotReloaded,
                severity: Severity::Warning,
                subject: Subject::unit(name),
                title: format!("the files of {name} changed after the manager read them"),
                proof: Proof::Now,
                evidence: vec![
                    Evidence::new(Source::Manager, "a reload of the manager is due").file(&unit.fragment),
                ],
                fixes: vec![],
                blocks: false,
                stage: stage::MANAGER,
            });
        }
    }
    found.extend(disabled(snapshot, case, unit, state));
    found.extend(program(snapshot, case));
    found
}

/// A masked unit: the manager refuses to start it.
fn masked(snapshot: &Snapshot, case: &Case, unit: &Unit) -> Finding {
    let name = unit.name.as_str();
    let since = snapshot.link_stat(&unit.fragment).seen().map(|s| s.modified * 1_000_000);
    let owner = snapshot
        .link_stat(&unit.fragment)
        .seen()
        .map_or_else(String::new, |s| format!(", by {}", crate::accounts::user_name(snapshot, s.uid)));
    let told =
        Evidence::new(Source::Manager, format!("{} leads nowhere: the unit is masked{owner}", unit.fragment));
    let mut evidence = vec![told.file(&unit.fragment).time(since, &case.zone)];
    evidence.extend(super::operators::order(snapshot, case, name, "mask"));
    finding(
        Code::ManagerDisabled,
        name,
        format!("{name} is masked: the service manager refuses to start it"),
        evidence,
        vec!["unmask"],
        stage::MANAGER,
    )
}

/// A unit that nothing starts at boot.
fn disabled(snapshot: &Snapshot, case: &Case, unit: &Unit, state: Option<&UnitState>) -> Option<Finding> {
    let name = unit.name.as_str();
    let enabled = unit.enabled || state.is_some_and(|s| s.unit_file_state.starts_with("enabled"));
    let failing =
        case.attempts.first().is_some_and(|a| matches!(a.outcome, Outcome::Failed | Outcome::Refused));
    let installable = !unit.values("Install", "WantedBy").is_empty();
    if enabled || !installable || state.is_some_and(|s| s.unit_file_state == "static") {
        return None;
    }
    let mut evidence = vec![Evidence::new(Source::Manager, "nothing starts it at boot").file(&unit.fragment)];
    evidence.extend(super::operators::order(snapshot, case, name, "disable"));
    if case.state == State::Stopped && !failing {
        return Some(finding(
            Code::ManagerDisabled,
            name,
            format!("{name} is disabled: nothing starts it at boot, and nobody started it"),
            evidence,
            vec!["enable"],
            stage::MANAGER,
        ));
    }
    if case.state == State::Running {
        let mut note = finding(
            Code::NotEnabled,
            name,
            format!("{name} runs, but nothing starts it at boot"),
            evidence,
            vec!["enable"],
            stage::MANAGER,
        );
        note.blocks = false;
        note.severity = Severity::Hint;
        note.proof = Proof::Now;
        return Some(note);
    }
    None
}

/// The executable of the unit and the account it names.
fn program(snapshot: &Snapshot, case: &Case) -> Vec<Finding> {
    let Some(unit) = &case.service.unit else { return vec![] };
    let mut found = Vec::new();
    for command in unit.commands("ExecStartPre").into_iter().chain(unit.commands("ExecStart")) {
        let Some(program) = command.words.first().filter(|p| p.starts_with('/') && !command.may_fail) else {
            continue;
        };
        let evidence = || Evidence {
            line: Some(command.line),
            ..Evidence::new(Source::Manager, format!("{} starts {program}", unit.name)).file(&command.file)
        };
        match snapshot.stat(program).seen() {
            None if snapshot.exists(program) == Some(false) => {
                let mut one = finding(
                    Code::ProgramMissing,
                    &unit.name,
                    format!("{program} does not exist"),
                    vec![evidence()],
                    vec![],
                    stage::EXECUTE,
                );
                let near = nearest_file(snapshot, program);
                one.evidence.extend(near.map(|n| Evidence::new(Source::File, format!("did you mean {n}?"))));
                one.subject.path = Some(program.clone());
                found.push(one);
            }
            Some(status) if status.mode & 0o111 == 0 => {
                let mut one = finding(
                    Code::PermissionDenied,
                    &unit.name,
                    format!("{program} may not be executed by anybody"),
                    vec![evidence()],
                    vec![],
                    stage::EXECUTE,
                );
                one.subject.path = Some(program.clone());
                found.push(one);
            }
            Some(_) if no_exec(snapshot, program) => {
                let mut one = finding(
                    Code::PermissionDenied,
                    &unit.name,
                    format!("{program} lies on a mount that allows no execution"),
                    vec![evidence(), Evidence::new(Source::File, "mounted with noexec").file(program)],
                    vec![],
                    stage::EXECUTE,
                );
                one.subject.path = Some(program.clone());
                found.push(one);
            }
            Some(_) => found.extend(interpreter(snapshot, case, program)),
            None => {}
        }
    }
    for key in ["User", "Group"] {
        let Some(who) = unit.value("Service", key) else { continue };
        let missing = if key == "User" {
            crate::accounts::account(snapshot, &who).is_absent()
        } else {
            crate::accounts::group(snapshot, &who).is_absent()
        };
        if missing && unit.value("Service", "DynamicUser").is_none() {
            let place = unit.place("Service", key);
            let mut evidence = Evidence::new(Source::Manager, format!("{key}={who}"));
            if let Some((file, line)) = place {
                evidence.file = Some(file);
                evidence.line = Some(line);
            }
            let mut one = finding(
                Code::AccountMissing,
                &unit.name,
                format!("{who}, which {} runs as, does not exist on this host", unit.name),
                vec![evidence],
                vec![],
                stage::EXECUTE,
            );
            one.subject.account = Some(who);
            found.push(one);
        }
    }
    found
}

fn no_exec(snapshot: &Snapshot, program: &str) -> bool {
    crate::access::mount_of(snapshot, &snapshot.resolve_links(program)).is_some_and(|m| m.no_exec)
}

/// The interpreter that the first line of a script names.
fn interpreter(snapshot: &Snapshot, case: &Case, program: &str) -> Option<Finding> {
    let head = snapshot.read_at(program, 0, 256).seen()?;
    let line = head.strip_prefix(b"#!")?.split(|&b| b == b'\n').next()?;
    let line = String::from_utf8_lossy(line);
    let name = line.split_whitespace().next()?;
    if snapshot.exists(name) != Some(false) {
        return None;
    }
    let unit = case.service.unit_name().unwrap_or_default();
    let evidence = Evidence {
        line: Some(1),
        ..Evidence::new(Source::File, format!("its first line names {name}")).file(program)
    };
    let mut one = finding(
        Code::ProgramMissing,
        unit,
        format!("{name}, the interpreter of {}, does not exist", path::name(program)),
        vec![evidence],
        vec![],
        stage::EXECUTE,
    );
    one.subject.path = Some(name.to_owned());
    Some(one)
}
