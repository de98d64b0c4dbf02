//! The sandbox of the unit: paths and families of sockets that it takes away although file modes would allow
//! them.
use crate::access::Right;
use crate::case::Case;
use crate::code::Code;
use crate::config::Severity;
use crate::finding::{Evidence, Finding, Proof, Source, Subject, stage};
use crate::host::Protocol;
use crate::manager::{Barrier, Unit};
use crate::path;
use crate::snapshot::Snapshot;

/// What a service does with a path.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Use {
    Write,
    Read,
    /// Its data lie there.
    Keep,
    Execute,
}

impl Use {
    fn words(self) -> &'static str {
        match self {
            Self::Write => "write",
            Self::Read => "read",
            Self::Keep => "keep its data in",
            Self::Execute => "execute",
        }
    }
}

pub(super) fn check(snapshot: &Snapshot, case: &Case) -> Vec<Finding> {
    let Some(unit) = &case.service.unit else { return vec![] };
    let mut found: Vec<Finding> = Vec::new();
    let mut add = |subject: String, does: Use, file: &str, barrier: &Barrier| {
        if found.iter().all(|f| f.subject.path.as_deref() != Some(subject.as_str())) {
            let title = format!("the sandbox of {} does not let it {} {file}", unit.name, does.words());
            let shut = does == Use::Execute && !matches!(barrier.key, "NoExecPaths" | "ProtectHome");
            // A home is opened for reading alone, and data are there to be written.
            let fixes = if shut || (does == Use::Keep && barrier.key == "ProtectHome") {
                vec![]
            } else {
                vec!["allow-in-sandbox"]
            };
            // The setting tells the fix which of several is meant.
            let subject = Subject { directive: Some(barrier.key.into()), ..Subject::path(&subject) };
            found.push(Finding { fixes, ..finding(unit, subject, title, barrier) });
        }
    };
    for entry in &case.config.model.writes {
        let file = snapshot.resolve_links(&entry.path);
        if let Some(barrier) = refused(unit, &entry.path, &file, Right::Write) {
            add(path::parent(&file).to_owned(), Use::Write, &file, &barrier);
        }
    }
    let read = case.config.model.reads.iter().map(|r| &r.path).chain(&case.config.model.files);
    for entry in read {
        let file = snapshot.resolve_links(entry);
        if let Some(barrier) =
            refused(unit, entry, &file, Right::Read).filter(|_| snapshot.exists(&file) == Some(true))
        {
            add(file.clone(), Use::Read, &file, &barrier);
        }
    }
    if let Some(data) = &case.config.model.data_dir {
        let file = snapshot.resolve_links(&data.path);
        if let Some(barrier) =
            refused(unit, &data.path, &file, Right::Write).filter(|_| snapshot.exists(&file) == Some(true))
        {
            add(file.clone(), Use::Keep, &file, &barrier);
        }
    }
    for command in unit.commands("ExecStartPre").into_iter().chain(unit.commands("ExecStart")) {
        let Some(program) = command.words.first().filter(|p| p.starts_with('/') && !command.may_fail) else {
            continue;
        };
        let file = snapshot.resolve_links(program);
        if let Some(barrier) = refused(unit, program, &file, Right::Execute) {
            add(file.clone(), Use::Execute, &file, &barrier);
        }
    }
    found.extend(families(case, unit));
    found
}

/// The manager resolves links in its lists of paths: what is open under one of its names is open.
fn refused(unit: &Unit, named: &str, real: &str, right: Right) -> Option<Barrier> {
    unit.barrier(real, right).filter(|_| named == real || unit.barrier(named, right).is_some())
}

fn finding(unit: &Unit, subject: Subject, title: String, barrier: &Barrier) -> Finding {
    let mut evidence = Evidence::new(Source::Manager, format!("{barrier} in {}", unit.name));
    if let Some((file, line)) = unit.place("Service", barrier.key) {
        evidence.file = Some(file);
        evidence.line = Some(line);
    }
    Finding {
        code: Code::PolicyDenied,
        severity: Severity::Error,
        subject,
        title,
        proof: Proof::Inevitable,
        evidence: vec![evidence],
        fixes: vec![],
        blocks: true,
        stage: stage::FILES,
    }
}

/// A listener of a family of sockets that the unit may not open.
fn families(case: &Case, unit: &Unit) -> Option<Finding> {
    case.wanted.iter().filter(|w| w.bound && !w.served).find_map(|want| {
        let family = match (want.listen.protocol, want.listen.address) {
            (Protocol::Unix, _) => "AF_UNIX",
            (_, Some(std::net::IpAddr::V4(_))) => "AF_INET",
            _ => "AF_INET6",
        };
        let barrier = unit.barrier_of_family(family)?;
        let subject =
            Subject::listener(want.listen.address, want.listen.port, want.listen.path.as_deref(), None);
        let title = format!(
            "the sandbox of {} does not let it open sockets of {family}, so it cannot listen on {}",
            unit.name, want.listen
        );
        Some(Finding {
            stage: stage::BIND,
            fixes: vec!["allow-in-sandbox"],
            ..finding(unit, subject, title, &barrier)
        })
    })
}
