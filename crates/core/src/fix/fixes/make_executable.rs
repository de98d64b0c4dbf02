//! A program that nobody may execute.
use super::Fix;
use crate::access::Right;
use crate::case::Case;
use crate::finding::stage;
use crate::fix::Step;
use crate::fix::plan::{Plan, Risk};
use crate::fix::steps::Mode;
use crate::fix::target::existing;
use crate::host::FileKind;
use crate::rank::Cause;
use crate::snapshot::Snapshot;
use crate::trust::Last;

pub(super) static FIX: Fix = Fix {
    price: |_| "lets it be executed".into(),
    ..Fix::plain("make-executable", |ask, plan| make_executable(ask.snapshot, ask.case, ask.cause, plan))
};

/// Whoever may read it may execute it then: nobody can change it who could not before.
fn make_executable(snapshot: &Snapshot, case: &Case, cause: &Cause, mut plan: Plan) -> Result<Plan, String> {
    if cause.stage != stage::EXECUTE || cause.subject.right != Some(Right::Execute) {
        return Err("somebody else could put another file in its place".into());
    }
    let program = cause.subject.path.as_deref().ok_or("the program is not known")?;
    let (target, status, _) = existing(snapshot, case, program, Last::Followed)?;
    if status.kind != FileKind::Regular || status.uid != 0 || status.mode & 0o6000 != 0 {
        return Err(format!("{program} is not a plain file of root's; let it be executed by hand"));
    }
    let to = status.mode | (status.mode & 0o444) >> 2;
    plan.title = format!("make {} executable", target.path);
    plan.risk = Risk::Medium;
    plan.remarks.push("it runs from then on: make sure that it is what shall run".into());
    plan.steps.push(Step::Mode(Mode { target, from: status.mode, to }));
    Ok(plan)
}
