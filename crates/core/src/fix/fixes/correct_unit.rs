//! One word of a unit: corrected where an administrator wrote it, else in a drop-in beside the packaged file.
use super::{Fix, Needs};
use crate::case::Case;
use crate::fix::Step;
use crate::fix::drop_in::{drop_in, unit_of};
use crate::fix::edits::edits;
use crate::fix::plan::Plan;
use crate::fix::steps::ReloadManager;
use crate::rank::Cause;
use crate::snapshot::Snapshot;

pub(super) static FIX: Fix = Fix {
    price: |_| "corrects the one word of the unit".into(),
    needs: Needs::Restart,
    ..Fix::plain("correct-unit", |ask, plan| correct(ask.snapshot, ask.case, ask.cause, plan))
};

/// Where administrators keep their own units and drop-ins (systemd.unit(5)).
const OWN: &str = "/etc/systemd/system/";

fn correct(snapshot: &Snapshot, case: &Case, cause: &Cause, mut plan: Plan) -> Result<Plan, String> {
    let unit = unit_of(case)?;
    let fault = cause.subject.fault.as_deref().ok_or("the place is not known")?;
    let (span, new) = fault.edit.clone().ok_or("it is not known what was meant")?;
    let key = fault.directive.clone().ok_or("the setting is not known")?;
    plan.title = format!("write {new} in {key}= of {}", unit.name);
    if span.file.starts_with(OWN) {
        edits(snapshot, case, vec![(span, new)], &mut plan)?;
        plan.steps.push(Step::ReloadManager(ReloadManager {}));
        return Ok(plan);
    }
    // The packaged file stays as it is: the next version would write over it.
    let text = snapshot.text(&span.file).seen().ok_or_else(|| format!("{} cannot be read", span.file))?;
    let begin = text.get(..span.start).ok_or("the place is gone")?.rfind('\n').map_or(0, |at| at + 1);
    let end = text[span.end..].find('\n').map_or(text.len(), |n| span.end + n);
    let line = format!("{}{new}{}", &text[begin..span.start], &text[span.end..end]);
    let value = line
        .trim()
        .strip_prefix(key.as_str())
        .and_then(|rest| rest.trim_start().strip_prefix('='))
        .filter(|_| !line.trim_end().ends_with('\\'))
        .ok_or_else(|| format!("{} has it on several lines; edit it by hand", span.file))?
        .trim();
    let list = key.starts_with("Exec") || key == "SupplementaryGroups";
    let lines: Vec<String> =
        list.then(|| format!("{key}=")).into_iter().chain([format!("{key}={value}")]).collect();
    drop_in(snapshot, case, "corrected", &lines, plan)
}
