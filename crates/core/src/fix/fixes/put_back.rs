//! A file that is not there, and of which a copy lies beside its place.
use super::Fix;
use crate::case::Case;
use crate::config::copy_of;
use crate::fix::Step;
use crate::fix::plan::{Plan, Risk};
use crate::fix::steps::Rename;
use crate::fix::target::{existing, free};
use crate::rank::Cause;
use crate::snapshot::Snapshot;
use crate::trust::Last;

pub(super) static FIX: Fix = Fix {
    price: |_| "gives the copy beside it its name back".into(),
    ..Fix::plain("put-back", |ask, plan| put_back(ask.snapshot, ask.case, ask.cause, plan))
};

/// The copy as it is, with its owner and mode.
fn put_back(snapshot: &Snapshot, case: &Case, cause: &Cause, mut plan: Plan) -> Result<Plan, String> {
    let missing = cause.subject.path.as_deref().ok_or("the file is not known")?;
    let copy = copy_of(snapshot, missing).ok_or("no copy, or more than one, lies beside it")?;
    let place = free(snapshot, case, missing)?;
    let (target, status, _) = existing(snapshot, case, &copy, Last::Itself)?;
    if status.uid != 0 && !case.owns(snapshot, &target.path) {
        return Err(format!("{copy} belongs to somebody else"));
    }
    plan.title = format!("rename {} to {}", target.path, place.path);
    plan.risk = Risk::Medium;
    plan.remarks.push("what the copy says may be older than what is missing".into());
    plan.steps.push(Step::Rename(Rename { target, to: place.path }));
    Ok(plan)
}
