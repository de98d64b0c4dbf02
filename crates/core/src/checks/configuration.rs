//! What our own reader of the configuration refuses, and what it warns of.
use crate::case::Case;
use crate::code::Code;
use crate::config::{About, ConfigFinding, DependsOn, Severity};
use crate::finding::{Evidence, Finding, Proof, Source, Subject, stage};
use crate::kinds::Told;
use crate::log::Outcome;
use crate::snapshot::Snapshot;

pub(super) fn check(snapshot: &Snapshot, case: &Case) -> Vec<Finding> {
    let mut found: Vec<Finding> = Vec::new();
    let contradicted = contradicted(snapshot, case);
    let mut told = Told::new(snapshot, case.service.kind);
    // The daemon stops at its first error; the others are seen after that one is put right.
    let mut first = true;
    for finding in case.config.findings.iter().filter(|f| f.severity == Severity::Error) {
        let mut one = convert(finding, &mut told);
        // Whoever writes a configuration could name any file of the host in it.
        let named = finding.place.as_ref();
        let path = one.subject.path.as_deref().unwrap_or_default();
        if !case.is_roots_word(snapshot, named) && !case.may_edit(snapshot, path) {
            one.fixes.retain(|id| !matches!(*id, "put-back" | "drop-link"));
        }
        if contradicted && finding.depends_on == DependsOn::Text {
            one.proof = Proof::Said;
            one.severity = Severity::Warning;
            one.blocks = false;
            one.evidence.push(Evidence::new(
                Source::Log,
                "the daemon itself read this configuration without complaint",
            ));
        } else if !first {
            one.title = format!("{} (after the first fault)", one.title);
        }
        first = false;
        found.push(one);
    }
    for finding in case.config.findings.iter().filter(|f| f.severity != Severity::Error) {
        let mut one = convert(finding, &mut told);
        one.blocks = false;
        one.proof = Proof::Now;
        found.push(one);
    }
    if case.config.model.named == Some(false) {
        found.push(Finding {
            code: Code::NameUnset,
            severity: Severity::Hint,
            subject: Subject::path(&case.service.instance.config),
            title: "the server has no name of its own and guesses one; this is harmless".into(),
            proof: Proof::Now,
            evidence: vec![
                Evidence::new(Source::Config, "no ServerName outside of virtual hosts")
                    .file(&case.service.instance.config),
            ],
            fixes: vec!["set-name"],
            blocks: false,
            stage: stage::CONFIG,
        });
    }
    found.extend(not_reloaded(snapshot, case));
    if let Some(refused) = super::attempt::refused_reload(snapshot, case) {
        // What our own reading found is the more exact; the daemon's line is its witness.
        match found.iter_mut().find(|f| f.blocks && f.severity == Severity::Error) {
            Some(own) => own.evidence.extend(refused.evidence),
            None => found.push(refused),
        }
    }
    found
}

fn convert(finding: &ConfigFinding, told: &mut Told) -> Finding {
    let message = told.message(finding);
    let mut subject = Subject {
        directive: finding.directive.clone(),
        fault: Some(Box::new(finding.fault())),
        ..Subject::default()
    };
    if let Some(place) = &finding.place {
        subject.file = Some(place.file.to_string());
        subject.line = Some(place.line);
    }
    match finding.about.clone() {
        Some(About::File(path) | About::Directory(path) | About::Tree(path)) => subject.path = Some(path),
        Some(About::Key { key, .. }) => subject.path = Some(key),
        Some(About::Account(name) | About::Group(name)) => subject.account = Some(name),
        Some(About::Host(name)) => subject.host = Some(name),
        Some(About::Listener(address, port)) => (subject.address, subject.port) = (Some(address), Some(port)),
        Some(About::Port(_) | About::Module(_) | About::Name(_)) | None => {}
    }
    let mut evidence = Evidence::new(Source::Config, message.clone());
    if let Some(place) = &finding.place {
        evidence = evidence.at(place);
    }
    let mut all = vec![evidence];
    if let Some(help) = &finding.help {
        all.push(Evidence::new(Source::Config, help.clone()));
    }
    Finding {
        code: finding.code,
        severity: finding.severity,
        title: message,
        proof: Proof::Inevitable,
        evidence: all,
        fixes: fixes(finding),
        blocks: true,
        stage: finding.code.facts().stage,
        subject,
    }
}

/// The fixes that may put a fault right, the likeliest first.
pub(crate) fn fixes(finding: &ConfigFinding) -> Vec<&'static str> {
    let mut fixes = Vec::new();
    if finding.edit.is_some() {
        fixes.push("correct-directive");
    }
    if finding.code == Code::ConfigMissingModule {
        fixes.push("load-module");
    }
    let section = finding.directive.as_deref().is_some_and(|d| {
        d.starts_with('<') || matches!(d, "server" | "http" | "events" | "location" | "upstream")
    });
    match finding.code {
        Code::PermissionDenied if finding.about.is_some() => fixes.push("narrow-access"),
        Code::ConfigMissingFile if finding.about.is_some() => {
            if finding.copy.is_some() {
                fixes.push("put-back");
            }
            // The line may read many files, of which one alone is gone.
            if finding.dead_link {
                return vec!["drop-link"];
            }
            if matches!(finding.about, Some(About::Directory(_))) {
                fixes.push("make-directory");
            }
            if finding.place.is_some() && !section {
                fixes.push("comment-out");
            }
        }
        Code::ConfigUnknownDirective
        | Code::ConfigMisplacedDirective
        | Code::ConfigConflict
        | Code::ConfigMissingModule
        | Code::ConfigBadValue
            if finding.place.is_some() && !section =>
        {
            fixes.push("comment-out");
        }
        _ => {}
    }
    fixes
}

/// Whether the daemon read this very configuration: its last start got past reading, and no file changed
/// since.
fn contradicted(snapshot: &Snapshot, case: &Case) -> bool {
    let Some(last) = case.attempts.first() else { return false };
    let past = match last.outcome {
        Outcome::Ready => true,
        Outcome::Failed => last.failures.first().is_some_and(|f| {
            f.code.facts().stage > stage::CONFIG && f.code != Code::Crashed && !f.code.facts().is_outcome
        }),
        _ => false,
    };
    // A second is the resolution of file times here.
    past && case
        .config
        .model
        .files
        .iter()
        .all(|f| snapshot.stat(f).seen().is_some_and(|s| (s.touched() + 1) * 1_000_000 < last.began))
}

fn not_reloaded(snapshot: &Snapshot, case: &Case) -> Option<Finding> {
    if !case.state.is_up() {
        return None;
    }
    let started = case.processes.first()?.started?;
    // What it read anew since then is what it has.
    let run = case.attempts.iter().find(|a| a.goes_on());
    let reloaded = run.filter(|a| a.refused.is_empty()).and_then(|a| a.reloaded);
    let started = started.max(reloaded.map_or(i64::MIN, |t| t.div_euclid(1_000_000)));
    let changed: Vec<String> = case
        .config
        .model
        .files
        .iter()
        .filter(|f| snapshot.stat(f).seen().is_some_and(|s| s.modified > started + 1))
        .cloned()
        .collect();
    let first = changed.first()?;
    Some(Finding {
        code: Code::NotReloaded,
        severity: Severity::Hint,
        subject: Subject::path(first),
        title: format!(
            "{} changed after {} started; a reload may be due",
            if changed.len() == 1 { first.clone() } else { format!("{} files", changed.len()) },
            case.service.name
        ),
        proof: Proof::Now,
        evidence: changed
            .iter()
            .map(|f| Evidence::new(Source::File, "modified after the start").file(f))
            .collect(),
        fixes: vec![],
        blocks: false,
        stage: stage::CONFIG,
    })
}
