//! What others may do with a path of the service, taken from them.
use super::Fix;
use crate::case::Case;
use crate::fix::Step;
use crate::fix::plan::Plan;
use crate::fix::steps::Mode;
use crate::fix::target::{existing, holds_key};
use crate::host::FileKind;
use crate::rank::Cause;
use crate::snapshot::Snapshot;
use crate::trust::Last;

pub(super) static FIX: Fix = Fix {
    price: |_| "takes from others what only its owner needs".into(),
    ..Fix::plain("narrow-access", |ask, plan| narrow(ask.snapshot, ask.case, ask.cause, plan))
};

/// Leaves of the mode what the owner has: only less than before, so nobody gains by it.
fn narrow(snapshot: &Snapshot, case: &Case, cause: &Cause, mut plan: Plan) -> Result<Plan, String> {
    let path = cause.subject.named().ok_or("the path is not known")?;
    let (target, status, _) = existing(snapshot, case, path, Last::Followed)?;
    // Whoever writes a configuration could name any file of the host in it.
    let place = cause.subject.fault.as_deref().and_then(|fault| fault.place.as_ref());
    let own = status.uid == case.starter.uid && status.uid != 0;
    let named = case.is_roots_word(snapshot, place) && holds_key(snapshot, &target.path);
    if !own && !named && !case.owns(snapshot, &target.path) {
        return Err(format!("{path} does not belong to {}", case.service.name));
    }
    if !matches!(status.kind, FileKind::Regular | FileKind::Directory) {
        return Err(format!("{path} is neither a file nor a directory"));
    }
    // A key of root's may stay readable for the group that servers are in.
    let kept = if status.kind == FileKind::Regular && status.uid == 0 { 0o740 } else { 0o700 };
    let to = status.mode & !0o777 | status.mode & kept;
    if to == status.mode {
        return Err(format!("others may do nothing with {path} as it is"));
    }
    plan.title = format!("close {} to others", target.path);
    plan.steps.push(Step::Mode(Mode { target, from: status.mode, to }));
    Ok(plan)
}
