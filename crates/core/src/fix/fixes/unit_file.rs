//! What the manager is told about a unit file.
use super::Fix;
use crate::case::Case;
use crate::fix::Step;
use crate::fix::plan::Plan;
use crate::fix::steps::UnitFile;
use crate::host::Look;
use crate::snapshot::Snapshot;

pub(super) static UNMASK: Fix = Fix {
    price: |_| "removes the mask".into(),
    ..Fix::plain("unmask", |ask, plan| unit_file(ask.snapshot, ask.case, "unmask", plan))
};

pub(super) static ENABLE: Fix = Fix {
    price: |_| "starts it at boot from now on".into(),
    ..Fix::plain("enable", |ask, plan| unit_file(ask.snapshot, ask.case, "enable", plan))
};

fn unit_file(snapshot: &Snapshot, case: &Case, verb: &str, mut plan: Plan) -> Result<Plan, String> {
    let unit = case.service.unit.as_ref().ok_or("it has no unit")?;
    plan.steps.push(unit_file_step(snapshot, verb, &unit.name));
    plan.title = format!("{verb} {}", unit.name);
    if verb == "unmask"
        && let Look::Seen(link) = snapshot.link_stat(&unit.fragment)
    {
        let who = crate::accounts::user_name(snapshot, link.uid);
        let when = crate::log::format_time(link.modified * 1_000_000, &case.zone);
        plan.remarks.push(format!("it was masked by {who} at {when}; make sure that was not on purpose"));
    }
    Ok(plan)
}

/// A verb of the manager, with the units whose links change along.
pub(super) fn unit_file_step(snapshot: &Snapshot, verb: &str, unit: &str) -> Step {
    let also = crate::manager::unit(snapshot, unit)
        .seen()
        .map(|u| u.values("Install", "Also").join(" "))
        .unwrap_or_default();
    Step::UnitFile(UnitFile {
        verb: verb.to_owned(),
        unit: unit.to_owned(),
        also: also.split_whitespace().map(str::to_owned).collect(),
    })
}
