//! A path that the manager wants to be there before it starts a program: from then on it does without.
use super::{Fix, Needs};
use crate::case::Case;
use crate::fix::drop_in::{drop_in, unit_of};
use crate::fix::plan::{Plan, Risk};
use crate::rank::Cause;
use crate::snapshot::Snapshot;

pub(super) static FIX: Fix = Fix {
    price: |_| "lets the manager do without the path".into(),
    needs: Needs::Restart,
    ..Fix::plain("do-without", |ask, plan| do_without(ask.snapshot, ask.case, ask.cause, plan))
};

/// The same list in a drop-in, with the sign in front of the path by which it may be missing
/// (systemd.exec(5)).
fn do_without(snapshot: &Snapshot, case: &Case, cause: &Cause, mut plan: Plan) -> Result<Plan, String> {
    let unit = unit_of(case)?;
    let path = cause.subject.path.as_deref().ok_or("the path is not known")?;
    let fault = cause.subject.fault.as_deref().ok_or("the setting is not known")?;
    let key = fault.directive.as_deref().ok_or("the setting is not known")?;
    let optional = |word: &str| {
        let bare = word.trim_start_matches('+');
        if bare.split(':').next() == Some(path) {
            format!("{}-{bare}", &word[..word.len() - bare.len()])
        } else {
            word.to_owned()
        }
    };
    let values = unit.values("Service", key);
    let of_value = |value: &String| {
        let words: Vec<String> = value.split_whitespace().map(optional).collect();
        format!("{key}={}", words.join(" "))
    };
    let lines: Vec<String> = std::iter::once(format!("{key}=")).chain(values.iter().map(of_value)).collect();
    plan.title = format!("let {} start without {path}", unit.name);
    plan.risk = Risk::Medium;
    plan.remarks.push(if key == "EnvironmentFile" {
        "what the file would set is not set then".into()
    } else {
        "what it allowed or forbade there is off then".into()
    });
    drop_in(snapshot, case, "without", &lines, plan)
}
