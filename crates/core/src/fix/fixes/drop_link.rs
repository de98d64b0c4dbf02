//! A link that leads nowhere, among files that a line of the configuration reads.
use super::Fix;
use crate::case::Case;
use crate::fix::Step;
use crate::fix::plan::Plan;
use crate::fix::steps::SymbolicLink;
use crate::fix::target::existing;
use crate::host::FileKind;
use crate::rank::Cause;
use crate::snapshot::Snapshot;
use crate::trust::Last;

pub(super) static FIX: Fix = Fix {
    price: |_| "removes the link; undo makes it again".into(),
    ..Fix::plain("drop-link", |ask, plan| drop_link(ask.snapshot, ask.case, ask.cause, plan))
};

/// A link under another name would be read by the same pattern: it goes, and its record keeps where it led.
fn drop_link(snapshot: &Snapshot, case: &Case, cause: &Cause, mut plan: Plan) -> Result<Plan, String> {
    let path = cause.subject.path.as_deref().ok_or("the link is not known")?;
    let (target, status, _) = existing(snapshot, case, path, Last::Itself)?;
    let leads = snapshot.read_link(&target.path).seen();
    if status.kind != FileKind::Link || snapshot.exists(path) != Some(false) {
        return Err(format!("{path} is not a link that leads nowhere"));
    }
    let leads = leads.ok_or_else(|| format!("where {path} leads could not be seen"))?;
    plan.title = format!("remove the link {}, which leads to {leads}", target.path);
    plan.steps.push(Step::SymbolicLink(SymbolicLink { target, before: Some(leads), after: None }));
    Ok(plan)
}
