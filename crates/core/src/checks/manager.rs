//! What the service manager was told: masked, disabled, conditions, broken units, the start limit.
use crate::access::Right;
use crate::case::{Case, State};
use crate::code::Code;
use crate::config::{Fault, Place, Severity, edit_at, may_stand_in, nearest_file};
use crate::finding::{Evidence, Finding, Proof, Source, Subject, stage};
use crate::host::{FileKind, UnitState};
use crate::log::Outcome;
use crate::manager::Unit;
use crate::path;
use crate::snapshot::Snapshot;
use crate::trust::{Last, Paths, trusted, walk};

/// The message by which the manager tells of a setting that it does not take
/// (`SD_MESSAGE_INVALID_CONFIGURATION`, systemd.journal-fields(7)).
const INVALID: &str = "c772d24e9a884cbeb9ea12625c306c01";
/// How many of the newest entries of a unit may hold what the manager says against its file.
const SAID: u32 = 40;

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
            found.push(broken(snapshot, case, unit, &state.load_state));
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

/// A unit file that the manager does not take: what it says against it, and where.
fn broken(snapshot: &Snapshot, case: &Case, unit: &Unit, load_state: &str) -> Finding {
    let name = unit.name.as_str();
    let loaded = Evidence::new(Source::Manager, format!("load state {load_state}")).file(&unit.fragment);
    // Its words stand below the unit, as `FILE:LINE: words` where it is about a line.
    let said = snapshot.journal(name, SAID).seen().unwrap_or_default().into_iter().find_map(|entry| {
        let refusal = entry.message_id == INVALID || entry.message.ends_with("Refusing.");
        let (time, words) = (i64::try_from(entry.time).ok(), entry.message);
        let place = std::iter::once(&unit.fragment).chain(&unit.drop_ins).find_map(|file| {
            let (line, said) = words.strip_prefix(file.as_str())?.strip_prefix(':')?.split_once(": ")?;
            Some((file.clone(), line.parse::<u32>().ok()?, said.to_owned()))
        });
        (entry.from_manager && refusal).then_some((time, words, place))
    });
    let mut one = finding(
        Code::ManagerDisabled,
        name,
        format!("the unit file of {name} is broken"),
        vec![loaded],
        vec![],
        stage::MANAGER,
    );
    if let Some((time, words, place)) = said {
        let mut told =
            Evidence::new(Source::Manager, crate::secrets::mask_text(&words)).time(time, &case.zone);
        let about = match place {
            Some((file, line, said)) => {
                (told.file, told.line) = (Some(file.clone()), Some(line));
                (one.subject.file, one.subject.line) = (Some(file), Some(line));
                crate::secrets::mask_text(&said)
            }
            None => {
                told = told.file("journal");
                let about = words.split_once(": ").map_or(words.as_str(), |(_, rest)| rest);
                crate::secrets::mask_text(about)
            }
        };
        one.title = format!("{}: {}", one.title, crate::bounds::clip(&about));
        one.evidence.insert(0, told);
    }
    one
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

/// The executables of the unit, and the accounts it names.
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
        let of_program = |code: Code, title: String| {
            let mut one = finding(code, &unit.name, title, vec![evidence()], vec![], stage::EXECUTE);
            one.subject.path = Some(program.clone());
            one
        };
        match snapshot.stat(program).seen() {
            None if snapshot.exists(program) == Some(false) => {
                let mut one = of_program(Code::ProgramMissing, format!("{program} does not exist"));
                if let Some(near) = nearest_file(snapshot, program) {
                    let place = Place::line(&command.file, command.line);
                    meant_in_unit(snapshot, &mut one, "ExecStart", &place, program, &near);
                }
                found.push(one);
            }
            Some(status) if status.kind == FileKind::Directory => {
                let title = format!("{program} is a directory, not a program");
                found.push(of_program(Code::ProgramMissing, title));
            }
            Some(status) if status.mode & 0o111 == 0 => {
                let title = format!("{program} may not be executed by anybody");
                let mut one = of_program(Code::PermissionDenied, title);
                // What is offered for it is a command for root: not where somebody else could put another
                // file in its place.
                let walked = walk(&Paths(snapshot), program, Last::Followed, &trusted(snapshot, &[]));
                one.subject.right = walked.is_ok().then_some(Right::Execute);
                one.fixes.extend(walked.is_ok().then_some("make-executable"));
                found.push(one);
            }
            Some(_) if no_exec(snapshot, program) => {
                let title = format!("{program} lies on a mount that allows no execution");
                let mut one = of_program(Code::PermissionDenied, title);
                one.evidence.push(Evidence::new(Source::File, "mounted with noexec").file(program));
                found.push(one);
            }
            Some(_) => found.extend(interpreter(snapshot, case, program)),
            None => {}
        }
    }
    found.extend(accounts(snapshot, unit));
    found
}

/// Adds to a finding about a line of a unit what was likely meant there.
pub(super) fn meant_in_unit(
    snapshot: &Snapshot,
    one: &mut Finding,
    key: &str,
    place: &Place,
    wrong: &str,
    near: &str,
) {
    one.evidence.push(Evidence::new(Source::File, format!("did you mean {near}?")));
    if near.starts_with('/') && !may_stand_in(snapshot, wrong, near, 0) {
        return;
    }
    if let Some(edit) = edit_at(snapshot, &place.file, place.line, wrong, near) {
        let (place, directive) = (Some(place.clone()), Some(key.to_owned()));
        one.subject.fault = Some(Box::new(Fault { place, directive, about: None, edit: Some(edit) }));
        one.fixes.push("correct-unit");
    }
}

/// Accounts and groups that the unit names.
fn accounts(snapshot: &Snapshot, unit: &Unit) -> Vec<Finding> {
    let mut found = Vec::new();
    let more = unit.values("Service", "SupplementaryGroups");
    let more =
        more.iter().flat_map(|list| list.split_whitespace()).map(|g| ("SupplementaryGroups", g.to_owned()));
    let own = ["User", "Group"].into_iter().filter_map(|key| Some((key, unit.value("Service", key)?)));
    for (key, who) in own.chain(more) {
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
            let file = if key == "User" { "/etc/passwd" } else { "/etc/group" };
            if let Some((place, near)) =
                unit.place("Service", key).zip(crate::config::nearest_of(snapshot, file, &who))
            {
                meant_in_unit(snapshot, &mut one, key, &Place::line(&place.0, place.1), &who, &near);
            }
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
    let unit = case.service.unit_name().unwrap_or_default();
    // The kernel takes the sign for a part of the interpreter's name, or for what it is to run.
    if line.ends_with('\r') {
        let words = "its first line ends with a carriage return";
        let told = Evidence { line: Some(1), ..Evidence::new(Source::File, words).file(program) };
        let title = format!("{} was saved with the line ends of another system", path::name(program));
        let mut one = finding(Code::ProgramMissing, unit, title, vec![told], vec![], stage::EXECUTE);
        (one.subject.file, one.subject.line) = (Some(program.to_owned()), Some(1));
        return Some(one);
    }
    if snapshot.exists(name) != Some(false) {
        return None;
    }
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
    if let Some(near) = nearest_file(snapshot, name) {
        one.evidence.push(Evidence::new(Source::File, format!("did you mean {near}?")));
        if let Some(edit) = edit_at(snapshot, program, 1, name, &near)
            && may_stand_in(snapshot, name, &near, 0)
        {
            let (place, directive) = (Some(Place::line(program, 1)), Some("#!".to_owned()));
            one.subject.fault = Some(Box::new(Fault { place, directive, about: None, edit: Some(edit) }));
            one.fixes.push("correct-directive");
        }
    }
    Some(one)
}
