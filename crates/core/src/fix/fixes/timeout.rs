//! More time for a start.
use super::Fix;
use crate::case::Case;
use crate::fix::drop_in::{drop_in, unit_of};
use crate::fix::plan::Plan;
use crate::manager::UNLIMITED;
use crate::snapshot::Snapshot;

/// A start gets this much more time at least, in seconds.
const MORE_TIME: u64 = 300;

pub(super) static FIX: Fix = Fix {
    price: |_| "gives it more time to become ready".into(),
    ..Fix::plain("extend-timeout", |ask, plan| extend_timeout(ask.snapshot, ask.case, plan))
};

/// More time for a start that is slow, not stuck.
fn extend_timeout(snapshot: &Snapshot, case: &Case, mut plan: Plan) -> Result<Plan, String> {
    let unit = unit_of(case)?;
    let now = unit.start_timeout();
    if now == UNLIMITED {
        return Err("the unit gives it all the time it wants".into());
    }
    let more = now.saturating_mul(4).max(MORE_TIME);
    plan.title = format!("give {} {more} s to become ready in place of {now} s", unit.name);
    plan.remarks
        .push("it helps where the start is slow; where it is stuck, it only takes longer to fail".into());
    drop_in(snapshot, case, "timeout", &[format!("TimeoutStartSec={more}")], plan)
}
