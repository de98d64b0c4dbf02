//! The one capability that a port below the limit needs.
use super::Fix;
use crate::case::Case;
use crate::fix::drop_in::{drop_in, unit_of};
use crate::fix::plan::{Plan, Risk};
use crate::rank::Cause;
use crate::snapshot::Snapshot;

pub(super) static FIX: Fix = Fix {
    price: |_| "lets the unit bind such ports, and nothing more".into(),
    ..Fix::plain("grant-capability", |ask, plan| grant_capability(ask.snapshot, ask.case, ask.cause, plan))
};

/// The one capability that binding a privileged port needs.
fn grant_capability(snapshot: &Snapshot, case: &Case, cause: &Cause, mut plan: Plan) -> Result<Plan, String> {
    const CAPABILITY: &str = "CAP_NET_BIND_SERVICE";
    let unit = unit_of(case)?;
    let mut lines = Vec::new();
    if case.starter.uid != 0 {
        lines.push(format!("AmbientCapabilities={CAPABILITY}"));
    }
    if !unit.keeps_capability(CAPABILITY) {
        lines.push(format!("CapabilityBoundingSet={CAPABILITY}"));
    }
    plan.title = format!("let {} bind ports below the limit, and nothing else that is root's", unit.name);
    plan.risk = Risk::Medium;
    if let Some(port) = cause.subject.port.filter(|p| !case.may_have(snapshot, *p)) {
        plan.leave_to_choice(&format!("port {port}"), case);
    }
    drop_in(snapshot, case, "capability", &lines, plan)
}
