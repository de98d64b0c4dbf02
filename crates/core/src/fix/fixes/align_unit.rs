//! The unit as the daemon really starts.
use super::Fix;
use crate::case::Case;
use crate::fix::drop_in::{drop_in, unit_of};
use crate::fix::plan::Plan;
use crate::snapshot::Snapshot;

pub(super) static FIX: Fix = Fix {
    price: |_| "makes the unit wait for what the daemon does".into(),
    ..Fix::plain("align-unit", |ask, plan| align_unit(ask.snapshot, ask.case, plan))
};

/// Type and pid file as the daemon, started this way, has them.
fn align_unit(snapshot: &Snapshot, case: &Case, mut plan: Plan) -> Result<Plan, String> {
    let unit = unit_of(case)?;
    let model = &case.config.model;
    let mut lines = Vec::new();
    match (unit.start_type().as_str(), model.background) {
        ("forking", Some(false)) if model.notifies == Some(true) => lines.push("Type=notify".to_owned()),
        ("forking", Some(false)) => lines.push("Type=exec".to_owned()),
        ("notify", Some(false)) => lines.push("Type=exec".to_owned()),
        ("forking", _) => {}
        (_, Some(true)) => lines.push("Type=forking".to_owned()),
        _ => return Err("it is not known how it starts".into()),
    }
    if let Some(file) = model.pid_file.as_ref().filter(|p| !case.keeps(snapshot, &p.path)) {
        return Err(format!("{} is named by nothing that only root writes", file.path));
    }
    if lines.is_empty() || lines.iter().any(|l| l == "Type=forking") {
        lines.extend(model.pid_file.as_ref().map(|p| format!("PIDFile={}", p.path)));
    } else if unit.value("Service", "PIDFile").is_some() {
        lines.push("PIDFile=".to_owned());
    }
    plan.title =
        format!("make {} wait for what {} really does: {}", unit.name, case.service.name, lines.join(", "));
    drop_in(snapshot, case, "type", &lines, plan)
}
