//! Loading a module that is installed.
use super::{Fix, Needs};
use crate::case::Case;
use crate::config::{About, Fault};
use crate::fix::Step;
use crate::fix::plan::Plan;
use crate::fix::steps::SymbolicLink;
use crate::fix::target::free;
use crate::path;
use crate::rank::Cause;
use crate::snapshot::Snapshot;

pub(super) static FIX: Fix = Fix {
    price: |_| "loads the module".into(),
    needs: Needs::Restart,
    ..Fix::plain("load-module", |ask, plan| load_module(ask.snapshot, ask.case, ask.cause, plan))
};

/// A name that leads to no other directory.
fn plain_name(name: &str) -> bool {
    !name.is_empty() && name.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '_' | '-'))
}

/// Debian's layout: links from `mods-enabled` to `mods-available`.
fn load_module(snapshot: &Snapshot, case: &Case, cause: &Cause, mut plan: Plan) -> Result<Plan, String> {
    let Some(Fault { about: Some(About::Module(id)), .. }) = cause.subject.fault.as_deref() else {
        return Err("it is not known which module is meant".into());
    };
    let name = id.trim_end_matches("_module");
    if !plain_name(name) {
        return Err(format!("{name} is not the name of a module"));
    }
    let base = path::parent(&case.service.instance.config).to_owned();
    let available = format!("{base}/mods-available");
    if snapshot.exists(&format!("{available}/{name}.load")) != Some(true) {
        return Err(format!("module {name} is not installed here: {available}/{name}.load does not exist"));
    }
    let mut todo = vec![name.to_owned()];
    let mut done: Vec<String> = Vec::new();
    while let Some(module) = todo.pop() {
        let loaded = snapshot.link_stat(&format!("{base}/mods-enabled/{module}.load")).seen().is_some();
        if loaded || done.contains(&module) {
            continue;
        }
        let text = snapshot.text(&format!("{available}/{module}.load")).seen().unwrap_or_default();
        // The packages write what a module needs into its load file.
        let needs = text
            .lines()
            .filter_map(|l| l.strip_prefix("# Depends:"))
            .flat_map(str::split_whitespace)
            .filter(|n| plain_name(n));
        todo.extend(needs.map(str::to_owned));
        for ending in ["load", "conf"] {
            if snapshot.exists(&format!("{available}/{module}.{ending}")) == Some(true) {
                let target = free(snapshot, case, &format!("{base}/mods-enabled/{module}.{ending}"))?;
                plan.steps.push(Step::SymbolicLink(SymbolicLink {
                    target,
                    before: None,
                    after: Some(format!("../mods-available/{module}.{ending}")),
                }));
            }
        }
        done.push(module);
    }
    let place = cause.subject.fault.as_deref().and_then(|f| f.place.as_ref());
    if !case.is_roots_word(snapshot, place) {
        plan.leave_to_choice("the module", case);
    }
    plan.title =
        format!("load {}", done.iter().map(|m| format!("mod_{m}")).collect::<Vec<_>>().join(" and "));
    Ok(plan)
}
