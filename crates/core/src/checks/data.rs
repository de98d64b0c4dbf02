//! The data that a server keeps: whose they are, whether they were ever made, by which version, and whether
//! their control structures are whole. What these structures look like stands with the kind.
use super::files::owned;
use crate::access::{self, Right};
use crate::accounts;
use crate::case::Case;
use crate::code::Code;
use crate::config::Severity;
use crate::finding::{Evidence, Finding, Proof, Source, Subject, stage};
use crate::host::Look;
use crate::path;
use crate::snapshot::Snapshot;

pub(super) fn check(snapshot: &Snapshot, case: &Case) -> Vec<Finding> {
    let mut found = at_rest(snapshot, case);
    if !found.iter().any(|f| f.code == Code::WrongOwner) {
        found.extend(left_behind(snapshot, case));
    }
    found
}

/// Files of the server's own that belong to another account and are no hindrance yet: somebody started it
/// under that account.
fn left_behind(snapshot: &Snapshot, case: &Case) -> Option<Finding> {
    let who = &case.starter;
    let dir = &case.config.model.data_dir.as_ref()?.path;
    if who.uid == 0 {
        return None;
    }
    let own = case.service.kind.writes_data();
    let foreign: Vec<_> = own
        .iter()
        .flat_map(|name| {
            if name.contains('*') {
                crate::kinds::glob(snapshot, &path::join(dir, name))
            } else {
                vec![path::join(dir, name)]
            }
        })
        .filter_map(|file| Some((snapshot.stat(&file).seen()?, file)))
        .filter(|(status, _)| status.uid != who.uid)
        .collect();
    let (first, file) = foreign.iter().min_by_key(|(status, _)| status.touched())?;
    let owner = accounts::user_name(snapshot, first.uid);
    let more = if foreign.len() > 1 {
        format!(" and {} more files of its data belong", foreign.len() - 1)
    } else {
        " belongs".to_owned()
    };
    let title = format!(
        "{file}{more} to {owner}, but {} runs as {}: somebody started it under the other account",
        case.service.name, who.name
    );
    let evidence =
        foreign.iter().take(4).map(|(status, file)| owned(snapshot, case, "", file, status)).collect();
    Some(Finding {
        severity: Severity::Warning,
        proof: Proof::Now,
        blocks: false,
        ..of_another(case, file, title, evidence)
    })
}

/// A file of the data that belongs to another account than the server's.
fn of_another(case: &Case, file: &str, title: String, evidence: Vec<Evidence>) -> Finding {
    Finding {
        code: Code::WrongOwner,
        severity: Severity::Error,
        subject: Subject { account: Some(case.starter.name.clone()), ..Subject::path(file) },
        title,
        proof: Proof::Inevitable,
        evidence,
        fixes: vec!["give-back"],
        blocks: true,
        stage: stage::FILES,
    }
}

fn at_rest(snapshot: &Snapshot, case: &Case) -> Vec<Finding> {
    // While it runs it holds its data open: then they are its own affair.
    if !case.processes.is_empty() || case.config.first_error().is_some() {
        return vec![];
    }
    let Some(data) = case.config.model.data_dir.clone() else { return vec![] };
    if snapshot.is_directory(&data.path) != Some(true) {
        return vec![];
    }
    let mut found: Vec<Finding> = Vec::new();
    let files = case.service.kind.data_files();
    for file in std::iter::once(data.path.clone()).chain(files.iter().map(|f| path::join(&data.path, f))) {
        if found.is_empty() {
            found.extend(foreign(snapshot, case, &file));
        }
    }
    for fault in case.service.kind.data_faults(snapshot, &case.service.instance, &data.path) {
        let mut evidence = vec![Evidence::new(Source::File, fault.seen).file(&fault.path)];
        if let Some(place) = &data.place {
            evidence.push(
                Evidence::new(
                    Source::Config,
                    format!("{} keeps its data in {}", case.service.name, data.path),
                )
                .at(place),
            );
        }
        let fixes = if fault.code == Code::PermissionDenied { vec!["narrow-access"] } else { vec![] };
        found.push(Finding {
            code: fault.code,
            severity: Severity::Error,
            subject: Subject::path(&fault.path),
            title: fault.message,
            proof: Proof::Inevitable,
            evidence,
            fixes,
            blocks: true,
            stage: stage::FILES,
        });
    }
    found
}

/// Something of the data belongs to another account, and ours may not write it.
fn foreign(snapshot: &Snapshot, case: &Case, file: &str) -> Option<Finding> {
    let who = &case.starter;
    let status = snapshot.stat(file).seen()?;
    if who.uid == 0 || status.uid == who.uid {
        return None;
    }
    let Look::Seen(Some(obstacle)) = access::may(snapshot, who, file, Right::Write) else { return None };
    // A closed directory on the way is told by the check of files.
    if obstacle.path != file {
        return None;
    }
    let owner = accounts::user_name(snapshot, status.uid);
    let title = format!("{file} belongs to {owner}, but {} runs as {}", case.service.name, who.name);
    Some(of_another(case, file, title, vec![owned(snapshot, case, "", file, &status)]))
}
