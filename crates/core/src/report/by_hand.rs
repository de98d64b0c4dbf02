//! What a person does about a cause that no fix of ours is for: where to look, what to write there, how to
//! check it, and how to start.
use crate::access::Right;
use crate::code::Code;
use crate::finding::stage;
use crate::paste::quoted;
use crate::rank::Cause;
use crate::service::Service;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// One step that a person takes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct HandStep {
    /// What to do, in one sentence.
    pub what: String,
    /// The command for it, where there is one.
    pub command: Option<String>,
}

impl HandStep {
    fn new(what: impl Into<String>, command: Option<String>) -> Self {
        Self { what: what.into(), command }
    }
}

/// The steps for a cause, in order; `program` is how this program is called here, with the options that led
/// here.
pub fn by_hand(service: &Service, cause: &Cause, program: &str) -> Vec<HandStep> {
    let mut all = Vec::new();
    let name = quoted(&service.name);
    let unit = service.unit_name();
    let place = place(cause);
    let remedy = match (cause.code, &cause.subject.right) {
        // No right is missing that could be granted: a mount, a policy, an attribute.
        (Code::PermissionDenied, None) => "Change what stands in the way.".to_owned(),
        (Code::PermissionDenied, Some(Right::Execute)) if cause.stage == stage::EXECUTE => {
            "Let it be executed, if it is what shall run.".to_owned()
        }
        _ => cause.code.facts().remedy.to_owned(),
    };
    let shown = place.map(|(file, line)| match line {
        Some(line) => format!("{file}, line {line}"),
        None => file.to_owned(),
    });
    all.push(match (&shown, what_to_write(cause)) {
        (Some(place), Some(what)) => HandStep::new(format!("Edit {place}: {what}."), None),
        (Some(place), None) => HandStep::new(format!("{remedy} It is about {place}."), None),
        (None, _) => HandStep::new(remedy, None),
    });
    if let (Some(Right::Execute), Some(path)) = (&cause.subject.right, &cause.subject.path)
        && cause.stage == stage::EXECUTE
        && cause.fixes.is_empty()
        && let Some(step) = all.last_mut()
    {
        step.command = Some(format!("chmod a+x {}", quoted(path)));
    }
    if cause.code == Code::AccountMissing
        && let Some(account) = cause.subject.account.as_deref().filter(|name| is_account_name(name))
    {
        all.push(HandStep::new(
            "Where the name is right, create it; if files of the service belong to a number without a name, \
             give it that number with --uid.",
            Some(format!("useradd --system --shell /usr/sbin/nologin {}", quoted(account))),
        ));
    }
    if let Some(step) = crate::logins::remedy(&cause.subject) {
        all.push(HandStep::new(step.0, Some(step.1)));
    }
    let runs = cause.subject.reason.is_some();
    if let Some(other) = cause.subject.unit.as_deref().filter(|u| Some(*u) != unit && !runs) {
        let other = other.trim_end_matches(".service");
        all.push(HandStep::new(
            format!("Find out why {other} does not run."),
            Some(format!("{program} diagnose {}", quoted(other))),
        ));
    }
    if let Some(host) = &cause.subject.host {
        all.push(HandStep::new(
            format!("See what {host} stands for on this host."),
            Some(format!("getent ahosts {}", quoted(host))),
        ));
    }
    let of_unit = |file: &str| {
        service.unit.as_ref().is_some_and(|u| u.fragment == file || u.drop_ins.iter().any(|d| d == file))
    };
    if place.is_some_and(|(file, _)| of_unit(file)) {
        all.push(HandStep::new(
            "Have the manager read changed unit files.",
            Some("systemctl daemon-reload".into()),
        ));
    }
    if cause.stage == stage::CONFIG && service.kind.directives().is_some() {
        all.push(HandStep::new(
            "Check the configuration before anything is started.",
            Some(format!("{program} lint {name}")),
        ));
    }
    if let Some(unit) = unit.filter(|_| !runs) {
        all.push(HandStep::new("Start it.", Some(format!("systemctl restart {}", quoted(unit)))));
    }
    all.push(HandStep::new("See that it is well.", Some(format!("{program} verify {name}"))));
    all
}

/// Whether a name may be that of an account (useradd(8)).
fn is_account_name(name: &str) -> bool {
    name.starts_with(|c: char| c.is_ascii_lowercase() || c == '_')
        && name.len() <= 32
        && name.bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || matches!(b, b'_' | b'-'))
}

/// Where to look first: the line of the configuration or the unit, else the file that the cause is about.
fn place(cause: &Cause) -> Option<(&str, Option<u32>)> {
    let subject = &cause.subject;
    if let Some(file) = &subject.file {
        return Some((file, subject.line));
    }
    let itself = subject.path.as_deref().map(|path| (path, None));
    // What is refused or missing on the disk is the place itself; a line that only names it is not wrong.
    if cause.stage != stage::CONFIG && cause.code != Code::ConfigMissingFile && itself.is_some() {
        return itself;
    }
    let told = cause
        .evidence
        .iter()
        .find(|e| e.source != crate::finding::Source::Log && e.file.is_some() && e.line.is_some());
    told.and_then(|e| Some((e.file.as_deref()?, e.line))).or(itself)
}

/// What belongs there, where the cause says so.
fn what_to_write(cause: &Cause) -> Option<String> {
    let subject = &cause.subject;
    let directive = subject.directive.as_deref().unwrap_or("the line");
    match cause.code {
        Code::NameUnresolved => {
            subject.host.as_ref().map(|host| format!("correct the name {host}, or add it to /etc/hosts"))
        }
        Code::ConfigUnknownDirective => Some(format!("correct or remove {directive}")),
        Code::ConfigBadValue => Some(format!("give {directive} a value that is accepted: {}", cause.title)),
        Code::ConfigConflict => Some(format!("keep one of the two: {}", cause.title)),
        Code::ConfigMisplacedDirective => Some(format!("move {directive} to where it belongs")),
        Code::ConfigSyntax => Some(format!("correct what is written there: {}", cause.title)),
        Code::ConfigMissingFile => subject
            .path
            .as_ref()
            .map(|path| format!("name a file that exists in place of {path}, or make that one")),
        Code::ManagerDisabled if subject.line.is_some() => {
            Some(format!("correct what is written there: {}", cause.title))
        }
        Code::ProgramMissing if subject.line.is_some() => {
            Some("take the carriage returns out of the whole file".into())
        }
        Code::AddressNotHere => Some("write an address that this host has".into()),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::case::{Depth, gather};
    use crate::snapshot::Snapshot;
    use crate::tests::{EDGE_CONFIG, described, edge_host};

    fn steps(config: &str) -> Vec<HandStep> {
        let host = edge_host(config).unit("edge.service", "failed", |_| {});
        let snapshot = Snapshot::new(&host);
        let service = described(&host, "edge", "");
        let case = gather(&snapshot, &service, Depth::Diagnosis);
        by_hand(&service, &crate::report::standing_causes(&snapshot, &case)[0], "jolly-sentinel")
    }

    #[test]
    fn it_says_where_to_write_what_and_how_to_go_on() {
        let all = steps(&EDGE_CONFIG.replace("listen 8088", "listen 80880"));
        assert!(all[0].what.contains("/etc/nginx/nginx.conf, line 7"), "{all:?}");
        let commands: Vec<&str> = all.iter().filter_map(|s| s.command.as_deref()).collect();
        assert_eq!(
            commands,
            ["jolly-sentinel lint edge", "systemctl restart edge.service", "jolly-sentinel verify edge"]
        );
    }
}
