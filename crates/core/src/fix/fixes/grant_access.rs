//! The one missing permission on the one path.
use super::{Fix, real_account};
use crate::case::Case;
use crate::finding::stage;
use crate::fix::plan::Plan;
use crate::fix::steps::{Mode, Owner};
use crate::fix::target::{grantable, holds_key, readable};
use crate::fix::{Identity, Step, Target};
use crate::host::FileKind;
use crate::rank::Cause;
use crate::snapshot::Snapshot;

pub(super) static FIX: Fix = Fix {
    price: |_| "grants the one missing permission".into(),
    ..Fix::plain("grant-access", |ask, plan| grant(ask.snapshot, ask.case, ask.cause, plan))
};

/// The one missing permission on the one path, to the narrowest class that holds the account.
fn grant(snapshot: &Snapshot, case: &Case, cause: &Cause, mut plan: Plan) -> Result<Plan, String> {
    let file = cause.subject.named().ok_or("the path is not known")?;
    // Workers may run under another account than the start command.
    let named = cause.subject.account.as_deref().filter(|name| *name != case.starter.name);
    let worker = named.and_then(|name| crate::accounts::account(snapshot, name).seen());
    let who = match (named, &worker) {
        (Some(name), None) => return Err(format!("account {name} does not exist")),
        (_, Some(worker)) => worker,
        (None, None) => {
            real_account(snapshot, case)?;
            &case.starter
        }
    };
    let only_reads =
        cause.stage == stage::REQUEST && cause.subject.right != Some(crate::access::Right::Write);
    let (target, status) =
        if only_reads { readable(snapshot, case, file)? } else { grantable(snapshot, case, file)? };
    let file = target.path.clone();
    if status.kind == FileKind::Regular && status.uid != who.uid && holds_key(snapshot, &file) {
        return Err(format!("{file} is a private key; who may read it is a person's decision"));
    }
    let directory = status.kind == FileKind::Directory;
    // A server writes all that is its own among its data.
    let own_data = status.uid == who.uid
        && case.config.model.data_dir.as_ref().is_some_and(|dir| {
            crate::path::is_within(&file, &crate::path::clean(&snapshot.resolve_links(&dir.path)))
        });
    let writes = own_data || cause.subject.right == Some(crate::access::Right::Write);
    let bits = match (directory, writes) {
        (true, true) if own_data => 0o7,
        (true, true) => 0o3,
        (true, false) => 0o1,
        (false, true) => 0o6,
        (false, false) => 0o4,
    };
    let mut now = status.clone();
    let to = if status.uid == who.uid {
        status.mode | bits << 6
    } else if who.groups.contains(&status.gid) || who.gid == status.gid {
        status.mode | bits << 3
    } else if writes || !directory {
        // Nobody else shall have it: the group becomes that of the account.
        plan.steps.push(Step::Owner(Owner {
            target: target.clone(),
            from: (status.uid, status.gid),
            to: (status.uid, who.gid),
        }));
        now.gid = who.gid;
        status.mode | bits << 3
    } else {
        status.mode | bits
    };
    if to != status.mode {
        let target = Target { was: Some(Identity::of(&now)), ..target };
        plan.steps.push(Step::Mode(Mode { target, from: status.mode, to }));
    }
    plan.title = format!(
        "let {} {} {file}",
        who.name,
        if writes {
            "write to"
        } else if directory {
            "enter"
        } else {
            "read"
        }
    );
    Ok(plan)
}
