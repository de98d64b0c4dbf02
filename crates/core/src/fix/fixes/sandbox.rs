//! Opening the unit's sandbox for one thing.
use super::Fix;
use crate::access::Right;
use crate::case::Case;
use crate::fix::drop_in::{drop_in, unit_of};
use crate::fix::plan::{Plan, Risk};
use crate::manager::Barrier;
use crate::rank::Cause;
use crate::snapshot::Snapshot;

pub(super) static FIX: Fix = Fix {
    price: |_| "opens the unit's sandbox for that alone".into(),
    ..Fix::plain("allow-in-sandbox", |ask, plan| allow_in_sandbox(ask.snapshot, ask.case, ask.cause, plan))
};

/// Takes the one barrier away, for the one path.
fn allow_in_sandbox(snapshot: &Snapshot, case: &Case, cause: &Cause, mut plan: Plan) -> Result<Plan, String> {
    let unit = unit_of(case)?;
    if let (Some(_), Some(address)) = (cause.subject.port, cause.subject.address) {
        let family = if address.is_ipv4() { "AF_INET" } else { "AF_INET6" };
        plan.title = format!("let {} open sockets of {family}", unit.name);
        plan.risk = Risk::Medium;
        if let Some(port) = cause.subject.port.filter(|p| !case.may_have(snapshot, *p)) {
            plan.leave_to_choice(&format!("port {port}"), case);
        }
        return drop_in(snapshot, case, "sockets", &[format!("RestrictAddressFamilies={family}")], plan);
    }
    let file = cause.subject.path.clone().ok_or("the path is not known")?;
    if !case.names(snapshot, &file) {
        return Err(format!("{file} is named by nothing that only root writes"));
    }
    let rights = [Right::Execute, Right::Read, Right::Write];
    let meant = |barrier: &Barrier| cause.subject.directive.as_deref().is_none_or(|d| d == barrier.key);
    let found = rights.into_iter().find_map(|right| Some((right, unit.barrier(&file, right).filter(meant)?)));
    // Executing is refused by the same settings as everything else where a path is hidden as a whole.
    let (right, barrier) = match found {
        Some((Right::Execute, barrier)) if barrier.key != "NoExecPaths" => (Right::Read, barrier),
        Some(found) => found,
        None => return Err(format!("nothing in the unit refuses {file}")),
    };
    if right == Right::Write && !case.owns(snapshot, &file) {
        return Err(format!(
            "{file} does not belong to {}; its sandbox stays closed there",
            case.service.name
        ));
    }
    let lines = unit.opening(&barrier, &file, right);
    plan.title = format!(
        "let {} {} {file} in spite of {barrier}",
        unit.name,
        if right == Right::Read { "read" } else { "use" }
    );
    plan.risk = Risk::Medium;
    plan.remarks.push("the rest of the sandbox stays as it is".into());
    drop_in(snapshot, case, "sandbox", &lines, plan)
}
