//! What a person or a cluster manager decided: told with who and when, before anything is offered.
use crate::case::{Case, State};
use crate::code::Code;
use crate::config::Severity;
use crate::finding::{Evidence, Finding, Proof, Source, Subject, stage};
use crate::path;
use crate::snapshot::Snapshot;

pub(super) fn check(snapshot: &Snapshot, case: &Case) -> Vec<Finding> {
    let mut found = Vec::new();
    if let Some(unit) = &case.service.unit {
        if case.state == State::Stopped
            && !case.meant_to_run
            && let Some(evidence) = order(snapshot, case, &unit.name, "stop")
        {
            found.push(note(
                &unit.name,
                format!("{} was stopped on purpose", case.service.name),
                vec![evidence],
            ));
        }
        if let Some(drop_in) = unit.drop_ins.iter().find(|d| path::name(d).contains("pacemaker")) {
            let evidence =
                Evidence::new(Source::Manager, "a cluster manager put this file there").file(drop_in);
            found.push(note(
                &unit.name,
                format!("a cluster manager decides when {} runs: start and stop it there", case.service.name),
                vec![evidence],
            ));
        }
    }
    if let Some(data) = &case.config.model.data_dir
        && let Some((file, words)) = case.service.kind.standby(snapshot, &data.path)
    {
        let name = case.service.unit_name().unwrap_or(&case.service.name);
        found.push(note(
            name,
            format!("{} {words}: nothing may be changed here without the others", case.service.name),
            vec![Evidence::new(Source::File, "the file exists").file(&file)],
        ));
    }
    found
}

fn note(unit: &str, title: String, evidence: Vec<Evidence>) -> Finding {
    Finding {
        code: Code::HandsOff,
        severity: Severity::Warning,
        subject: Subject::unit(unit),
        title,
        proof: Proof::Now,
        evidence,
        fixes: vec![],
        blocks: false,
        stage: stage::MANAGER,
    }
}

/// Who told the manager to do this, as far as the record of commands run for root tells; the newest such
/// order.
///
/// What counts is a record that the program itself wrote, as the receiver saw it: anybody may call a process
/// that. It begins with the terminal or the directory where the command was allowed; before that it says why
/// it was not. Both directory and arguments are the caller's own words, so a record that seems to hold two
/// commands tells nothing.
pub(super) fn order(snapshot: &Snapshot, case: &Case, unit: &str, verb: &str) -> Option<Evidence> {
    let stem = unit.trim_end_matches(".service");
    let entries = snapshot.journal_of("_EXE=/usr/bin/sudo", 400).seen()?;
    entries.iter().find_map(|entry| {
        let (who, rest) = entry.message.trim_start().split_once(" : ")?;
        let (where_from, command) = rest.split_once("COMMAND=").filter(|(_, c)| !c.contains("COMMAND="))?;
        let mut fields = where_from.split(';').map(str::trim);
        let allowed = fields.next().is_some_and(|f| f.starts_with("TTY=") || f.starts_with("PWD="));
        if !allowed || !fields.any(|f| f == "USER=root") {
            return None;
        }
        let words: Vec<&str> = command.split_whitespace().collect();
        let manager = words.first().is_some_and(|w| matches!(path::name(w), "systemctl" | "service"));
        let about = words.iter().any(|w| w.trim_end_matches(".service") == stem) && words.contains(&verb);
        (manager && about).then(|| {
            let detail = format!("{} ran: {}", who.trim(), crate::secrets::mask_text(command));
            Evidence::new(Source::Log, detail)
                .file("journal")
                .time(i64::try_from(entry.time).ok(), &case.zone)
        })
    })
}
