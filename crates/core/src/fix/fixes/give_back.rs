//! Giving files back to the service's account.
use super::{Fix, real_account};
use crate::case::Case;
use crate::fix::Step;
use crate::fix::plan::Plan;
use crate::fix::steps::Owner;
use crate::fix::target::grantable;
use crate::left_behind;
use crate::path;
use crate::rank::Cause;
use crate::snapshot::Snapshot;

pub(super) static FIX: Fix = Fix {
    price: |_| "gives the file back to its account".into(),
    ..Fix::plain("give-back", |ask, plan| give_back(ask.snapshot, ask.case, ask.cause, plan))
};

fn give_back(snapshot: &Snapshot, case: &Case, cause: &Cause, mut plan: Plan) -> Result<Plan, String> {
    // Owner and mode are those of what a link of root's leads to.
    let file = cause.subject.named().ok_or("the file is not known")?;
    let (uid, _) = real_account(snapshot, case)?;
    let (target, status) = grantable(snapshot, case, file)?;
    let file = target.path.clone();
    // A start under another account leaves more than one file behind: all that is that account's goes back
    // together.
    let data = case
        .config
        .model
        .data_dir
        .as_ref()
        .map(|d| path::clean(&snapshot.resolve_links(&d.path)))
        .filter(|d| file.starts_with(&format!("{d}/")));
    let others =
        data.map(|dir| left_behind::of(snapshot, &dir, |owner| owner == status.uid)).unwrap_or_default();
    let mut more = Vec::new();
    for (other, _) in others.into_iter().filter(|(other, _)| *other != file) {
        match grantable(snapshot, case, &other) {
            Ok(found) => more.push(found),
            Err(why) => plan.remarks.push(why),
        }
    }
    let and_more = match more.len() {
        0 => String::new(),
        count => format!(" and {count} more of the files around it"),
    };
    plan.title = format!("give {file}{and_more} back to {}", case.starter.name);
    for (target, status) in std::iter::once((target, status)).chain(more) {
        plan.steps.push(Step::Owner(Owner { target, from: (status.uid, status.gid), to: (uid, status.gid) }));
    }
    Ok(plan)
}
