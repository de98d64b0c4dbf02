//! Making a directory that is missing.
use super::{Fix, real_account};
use crate::case::Case;
use crate::fix::plan::Plan;
use crate::fix::steps::Directory;
use crate::fix::target::{free, words};
use crate::fix::{Step, Target};
use crate::path;
use crate::rank::Cause;
use crate::snapshot::Snapshot;
use crate::trust::trusted;
use crate::trust::{self, Last, Paths};

pub(super) static FIX: Fix = Fix {
    price: |_| "makes the missing directory".into(),
    ..Fix::plain("make-directory", |ask, plan| make_directory(ask.snapshot, ask.case, ask.cause, plan))
};

fn make_directory(snapshot: &Snapshot, case: &Case, cause: &Cause, mut plan: Plan) -> Result<Plan, String> {
    let dir = cause.subject.path.clone().map(|d| path::clean(&d)).ok_or("the directory is not known")?;
    let who = real_account(snapshot, case)?;
    let mut missing = Vec::new();
    let mut at = dir.clone();
    while snapshot.exists(&at) == Some(false) && missing.len() < 8 {
        missing.push(at.clone());
        at = path::parent(&at).to_owned();
    }
    if snapshot.is_directory(&at) != Some(true) {
        return Err(format!("{at} is not a directory"));
    }
    // The names that are missing hang on a directory that is there, by its real path.
    let keepers = case.accounts(snapshot);
    let base = trust::walk(&Paths(snapshot), &at, Last::Followed, &trusted(snapshot, &keepers))
        .map_err(|r| words(snapshot, &r))?;
    let real =
        |d: &String| format!("{}{}", base.path.trim_end_matches('/'), &d[at.trim_end_matches('/').len()..]);
    if let Some(first) = missing.last() {
        free(snapshot, case, &real(first))?;
    }
    if !case.names(snapshot, &dir) {
        return Err(format!("only the log names {dir}"));
    }
    let target = |d: &String| Target { path: real(d), keepers: keepers.clone(), was: None };
    plan.steps = missing
        .iter()
        .rev()
        .map(|d| Step::Directory(Directory { target: target(d), mode: 0o750, owner: who }))
        .collect();
    plan.title = format!("make the directory {} for {}", real(&dir), case.starter.name);
    Ok(plan)
}
