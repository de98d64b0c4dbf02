//! Moving a file out of the way.
use super::Fix;
use crate::case::Case;
use crate::code::Code;
use crate::fix::Step;
use crate::fix::plan::Plan;
use crate::fix::steps::Rename;
use crate::fix::target::existing;
use crate::host::FileKind;
use crate::path;
use crate::rank::Cause;
use crate::snapshot::Snapshot;
use crate::trust::Last;

pub(super) static FIX: Fix = Fix {
    price: |_| "moves the file aside; nothing is deleted".into(),
    ..Fix::plain("move-aside", |ask, plan| move_aside(ask.snapshot, ask.case, ask.cause, plan))
};

fn move_aside(snapshot: &Snapshot, case: &Case, cause: &Cause, mut plan: Plan) -> Result<Plan, String> {
    let named = cause.subject.named().ok_or("the file is not known")?;
    // What root's links lead to is moved, and not the link.
    let last = if cause.subject.named.is_some() { Last::Followed } else { Last::Itself };
    let (target, status, _) = existing(snapshot, case, named, last)?;
    // An override file stands where pages are sent from.
    let of_pages = cause.code == Code::OverrideBroken && case.serves(snapshot, &target.path);
    if !of_pages && !case.keeps(snapshot, &target.path) {
        return Err(format!(
            "{} is named by nothing but what the service's own account can write",
            target.path
        ));
    }
    if crate::case::is_system(&target.path) {
        return Err(format!("{} is the system's own and is left alone", target.path));
    }
    let stamp = case.now.map_or_else(|| "0".to_owned(), |n| (n / 1_000_000).to_string());
    let to = format!("{}.aside-{stamp}", target.path);
    if snapshot.link_stat(&to).seen().is_some() {
        return Err(format!("{to} exists already"));
    }
    plan.title = format!("move {} aside", target.path);
    let dir = path::parent(&target.path).to_owned();
    let (own, name) = (target.path.clone(), path::name(&target.path).to_owned());
    plan.steps.push(Step::Rename(Rename { target, to }));
    // What lies beside it from the same start goes with it.
    if cause.code == Code::WrongOwner {
        let described = &case.service.described;
        let ours =
            described.runtime_dir.as_deref().is_some_and(|r| path::clean(&snapshot.resolve_links(r)) == dir);
        for entry in snapshot.list(&dir).seen().filter(|_| ours).unwrap_or_default() {
            let other = path::join(&dir, &entry.name);
            if other == own || entry.name == name || entry.name.contains(".aside-") {
                continue;
            }
            let Ok((target, same, _)) = existing(snapshot, case, &other, Last::Itself) else { continue };
            if same.uid == status.uid && matches!(same.kind, FileKind::Socket | FileKind::Regular) {
                plan.steps.push(Step::Rename(Rename { target, to: format!("{other}.aside-{stamp}") }));
            }
        }
    }
    Ok(plan)
}
