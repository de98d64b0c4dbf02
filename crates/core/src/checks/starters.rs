//! What starts a service in the manager's stead, or for it: init scripts that start nothing, and socket units
//! that do not listen.
use crate::case::{Case, State};
use crate::code::Code;
use crate::config::Severity;
use crate::finding::{Evidence, Finding, Proof, Source, Subject, stage};
use crate::manager::{InitScript, SocketUnit};
use crate::service::script_behind;
use crate::snapshot::Snapshot;

pub(super) fn check(snapshot: &Snapshot, case: &Case) -> Vec<Finding> {
    if case.state.is_up() || case.state == State::Starting {
        return Vec::new();
    }
    let mut found: Vec<Finding> = case.sockets.iter().filter_map(|socket| gave_up(case, socket)).collect();
    let behind = || script_behind(snapshot, case.service.unit.as_ref()?);
    if let Some(script) = case.service.script.clone().or_else(behind) {
        found.extend(of_script(snapshot, case, &script));
    }
    found
}

/// A socket unit that failed, and no longer listens for the service. Who holds its address is told like the
/// holder of any listener; what made the service itself fail so often is that one's own cause.
fn gave_up(case: &Case, socket: &SocketUnit) -> Option<Finding> {
    let result = socket.state.as_ref().filter(|_| socket.has_failed()).map(|s| s.result.clone())?;
    let told = format!("{} has failed ({result}): it listens for nobody", socket.name);
    let name = &case.service.name;
    Some(Finding {
        code: Code::ManagerGaveUp,
        severity: Severity::Error,
        subject: Subject::unit(&socket.name),
        title: format!("{}, which listens for {name}, has failed and was not started again", socket.name),
        proof: Proof::Now,
        evidence: vec![Evidence::new(Source::Manager, told).file(&socket.file)],
        fixes: vec![],
        blocks: true,
        stage: stage::OUTCOME,
    })
}

fn of_script(snapshot: &Snapshot, case: &Case, script: &InitScript) -> Option<Finding> {
    let name = &case.service.name;
    if !script.executable {
        let title = format!("{} may not be executed by anybody: nothing starts {name}", script.file);
        let told = Evidence::new(Source::File, "no right to execute").file(&script.file);
        let subject = Subject::path(&script.file);
        return Some(Finding::inevitable(Code::PermissionDenied, stage::MANAGER, subject, title, vec![told]));
    }
    if let Some((file, line, text)) = &script.turned_off {
        let text = crate::secrets::mask_text(text);
        let told = Evidence {
            line: Some(*line),
            ..Evidence::new(Source::Config, format!("{text}, which {} asks for", script.file)).file(file)
        };
        let subject = Subject { file: Some(file.clone()), line: Some(*line), ..Subject::path(&script.file) };
        let title = format!("{file} says {text}: the init script of {name} starts nothing");
        let one = Finding::inevitable(Code::ManagerDisabled, stage::MANAGER, subject, title, vec![told]);
        return Some(Finding { proof: Proof::Now, ..one });
    }
    // Most scripts end well without a word where what they start is not there.
    if let Some(program) = script.command.first().filter(|p| snapshot.exists(p) == Some(false)) {
        let told =
            Evidence::new(Source::File, format!("{} starts {program}", script.file)).file(&script.file);
        let title = format!("{program} does not exist");
        let subject = Subject::path(program);
        let one = Finding::inevitable(Code::ProgramMissing, stage::EXECUTE, subject, title, vec![told]);
        return Some(Finding { proof: Proof::Now, ..one });
    }
    // The manager counts on what the script answered.
    let state = case.manager.as_ref().seen()?;
    let reasons = case.telling().into_iter().any(|attempt| !attempt.failures.is_empty());
    if case.state != State::Failed || state.active_state != "active" || reasons {
        return None;
    }
    let counted = "active (exited): its init script ended well, and no process of it runs";
    let mut evidence = vec![Evidence::new(Source::Manager, counted).file(&script.file)];
    if let (Some(file), Some(pid)) = (script.pid_file.as_deref(), script.pid(snapshot)) {
        let told = format!("names pid {pid}, which does not run");
        evidence.push(Evidence::new(Source::File, told).file(file));
    }
    let title = format!("no process of {name} runs: what its init script started is gone");
    let subject = Subject::unit(case.service.unit_name().unwrap_or_default());
    let one = Finding::inevitable(Code::Unknown, stage::OUTCOME, subject, title, evidence);
    Some(Finding { proof: Proof::Now, ..one })
}
