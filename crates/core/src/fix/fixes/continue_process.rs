//! A halted process goes on.
use super::Fix;
use crate::fix::Step;
use crate::fix::plan::Plan;
use crate::fix::steps::Continue;
use crate::path;
use crate::rank::Cause;
use crate::snapshot::Snapshot;

pub(super) static FIX: Fix = Fix {
    price: |_| "lets the process go on".into(),
    ..Fix::plain("continue-process", |ask, plan| continue_process(ask.snapshot, ask.cause, plan))
};

/// The process goes on where it was halted.
fn continue_process(snapshot: &Snapshot, cause: &Cause, mut plan: Plan) -> Result<Plan, String> {
    let pid = cause.subject.pid.ok_or("the process is not known")?;
    let process = snapshot.process(pid).seen().ok_or_else(|| format!("process {pid} has ended"))?;
    let name = path::name(&process.brief.name).to_owned();
    if process.brief.state == 't' {
        return Err(format!("a debugger holds {name} (pid {pid}): let it go there"));
    }
    plan.title = format!("let {name} (pid {pid}) go on");
    plan.steps.push(Step::Continue(Continue { pid, start_ticks: process.brief.start_ticks, name }));
    plan.reversible = false;
    plan.remarks.push("somebody halted it, perhaps on purpose".into());
    Ok(plan)
}
