//! A limit of the unit, as high as what is asked for.
use super::Fix;
use crate::case::Case;
use crate::fix::drop_in::{drop_in, unit_of};
use crate::fix::plan::{Plan, Risk};
use crate::rank::Cause;
use crate::snapshot::Snapshot;

pub(super) static FIX: Fix = Fix {
    price: |_| "raises the limit of the unit".into(),
    ..Fix::plain("raise-limit", |ask, plan| raise_limit(ask.snapshot, ask.case, ask.cause, plan))
};

/// The limit of the unit, as high as what is asked for.
fn raise_limit(snapshot: &Snapshot, case: &Case, cause: &Cause, mut plan: Plan) -> Result<Plan, String> {
    let unit = unit_of(case)?;
    let directive = cause.subject.directive.as_deref().unwrap_or_default();
    let demand = case.config.model.demands.iter().find(|d| d.directive == directive);
    let asked = demand.map(|d| d.amount);
    let below = |key: &str, amount: u64| unit.hard_limit(key).is_some_and(|l| l < amount);
    let line = match (directive, asked) {
        ("LimitNPROC" | "TasksMax", None) => {
            format!("{directive}={}", unit.hard_limit(directive).unwrap_or(512).saturating_mul(4).max(512))
        }
        ("LimitNOFILE", None) => format!(
            "LimitNOFILE={}",
            unit.hard_limit(directive).unwrap_or(1024).saturating_mul(4).max(65_536)
        ),
        // Address space holds more than what is used: libraries, threads and buffers.
        ("LimitAS" | "LimitDATA" | "LimitRSS", None) => format!("{directive}=infinity"),
        ("MemoryMax" | "MemoryLimit", None) => format!(
            "{directive}={}M",
            (unit.hard_limit(directive).unwrap_or(1 << 30) >> 20).saturating_mul(2).max(256)
        ),
        (_, Some(amount)) => {
            let key = ["LimitAS", "MemoryMax", "MemoryLimit", "LimitNOFILE"]
                .into_iter()
                .find(|k| below(k, amount))
                .unwrap_or("LimitNOFILE");
            match key {
                // Address space holds more than the one piece that is asked for: its libraries, threads and
                // buffers.
                "LimitAS" => "LimitAS=infinity".to_owned(),
                "LimitNOFILE" => format!("LimitNOFILE={}", amount.saturating_add(1024)),
                memory => format!("{memory}={}M", (amount >> 20) * 3 / 2 + 256),
            }
        }
        _ => return Err("it is not known which limit is meant".into()),
    };
    plan.title = format!("raise the limit of {}: {line}", unit.name);
    plan.risk = Risk::Medium;
    if demand.is_some_and(|d| !case.is_roots_word(snapshot, d.place.as_ref())) {
        plan.leave_to_choice(directive, case);
    }
    drop_in(snapshot, case, "limit", &[line], plan)
}
