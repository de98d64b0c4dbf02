//! Stopping what holds an address, where it was started.
use super::{Fix, unit_file::unit_file_step};
use crate::case::{Case, Holder, Wanted};
use crate::fix::Step;
use crate::fix::plan::{Plan, Risk};
use crate::fix::steps::{End, Job};
use crate::host::Look;
use crate::rank::Cause;
use crate::snapshot::Snapshot;

pub(super) static FIX: Fix = Fix {
    price: |_| "stops the holder where it was started, then starts the service".into(),
    ..Fix::plain("stop-holder", |ask, plan| stop_holder(ask.snapshot, ask.case, ask.cause, plan))
};

fn holder_of<'c>(case: &'c Case, cause: &Cause) -> Option<&'c Holder> {
    let pid = cause.subject.pid?;
    case.wanted.iter().flat_map(|w| &w.held_by).find(|h| h.process.brief.pid == pid)
}

fn stop_holder(snapshot: &Snapshot, case: &Case, cause: &Cause, plan: Plan) -> Result<Plan, String> {
    let mut plan = plan;
    let mut done: Vec<u32> = Vec::new();
    // Everything that keeps the service from its addresses goes in one transaction.
    let first = holder_of(case, cause);
    let others = case
        .wanted
        .iter()
        .flat_map(|w| &w.held_by)
        .filter(|h| Some(h.process.brief.pid) != cause.subject.pid);
    let mut names = Vec::new();
    for holder in first.into_iter().chain(others) {
        let pid = holder.process.brief.pid;
        if done.contains(&pid) {
            continue;
        }
        done.push(pid);
        // The manager lets go of a listener when its socket unit is stopped; nothing happens to itself.
        if !holder.unit.as_ref().is_some_and(|unit| unit.ends_with(".socket")) {
            never_touch(snapshot, pid, &holder.process.brief.name, holder.process.own_root)?;
            was_not_handed(snapshot, holder, pid, holder.process.brief.uid)?;
        }
        let name = match &holder.unit {
            Some(unit) if names.contains(unit) => continue,
            Some(unit) => stop_unit(snapshot, unit, &mut plan),
            None => end_processes(snapshot, holder, &mut plan)?,
        };
        names.push(name);
        if let Some(clients) = holder.clients.filter(|c| *c > 0) {
            plan.remarks.push(format!("{clients} clients are connected to it now and will be cut off"));
        }
    }
    if plan.steps.is_empty() {
        return stop_process(snapshot, case, cause, plan);
    }
    leave_to_choice(snapshot, case, &mut plan);
    plan.title = format!("stop {}", names.join(" and "));
    if plan.steps.iter().any(|s| matches!(s, Step::UnitFile(_))) {
        plan.title = format!("{}, so that it does not come back at boot", plan.title);
    }
    Ok(plan)
}

/// Stops a unit; what would start it again goes first.
fn stop_unit(snapshot: &Snapshot, unit: &str, plan: &mut Plan) -> String {
    let triggers =
        crate::case::triggers(snapshot, unit).into_iter().filter(|t| t.kind != "init-script").map(|t| t.name);
    for source in triggers.chain([unit.to_owned()]) {
        plan.steps.push(Step::Job(Job { verb: "stop".into(), unit: source.clone() }));
        if crate::manager::unit(snapshot, &source).seen().is_some_and(|u| u.enabled) {
            plan.steps.push(unit_file_step(snapshot, "disable", &source));
        }
    }
    plan.risk = Risk::High;
    unit.to_owned()
}

/// Ends a process that no unit owns, with those that share its socket.
fn end_processes(snapshot: &Snapshot, holder: &Holder, plan: &mut Plan) -> Result<String, String> {
    let brief = &holder.process.brief;
    let gently = crate::kinds::of_program(&brief.name).is_some_and(|k| k.profile().keeps_data);
    plan.steps.extend(end(&brief.name, brief.pid, brief.start_ticks, gently));
    // Children that share the socket keep it alive when their parent goes; those of a database go with it.
    for other in holder.others.iter().filter(|_| !gently) {
        if let Look::Seen(child) = snapshot.process(*other) {
            never_touch(snapshot, *other, &child.brief.name, child.own_root)?;
            was_not_handed(snapshot, holder, *other, child.brief.uid)?;
            plan.steps.extend(end(&child.brief.name, *other, child.brief.start_ticks, false));
        }
    }
    plan.reversible = false;
    plan.risk = plan.risk.max(if holder.clients.unwrap_or(0) > 0 { Risk::High } else { Risk::Medium });
    Ok(format!("{} (pid {})", brief.name, brief.pid))
}

/// Whoever can write the configuration could have asked for anybody's port: then a person chooses.
fn leave_to_choice(snapshot: &Snapshot, case: &Case, plan: &mut Plan) {
    let accounts = case.accounts(snapshot);
    let own = |h: &Holder| accounts.contains(&h.process.brief.uid);
    let believed = |w: &Wanted| match &w.listen.path {
        Some(path) => case.names(snapshot, path),
        None => case.may_have(snapshot, w.listen.port),
    };
    let foreign = |w: &&Wanted| w.held_by.iter().any(|h| !own(h)) && !believed(w);
    if let Some(want) = case.wanted.iter().find(foreign) {
        plan.leave_to_choice(&want.listen.to_string(), case);
    }
}

/// A process that holds a socket of another account's was handed it: whoever did that must not get it ended.
fn was_not_handed(snapshot: &Snapshot, holder: &Holder, pid: u32, uid: u32) -> Result<(), String> {
    let opened = holder.socket.uid;
    if opened == 0 || uid == opened {
        return Ok(());
    }
    let name = |uid: u32| crate::accounts::user_name(snapshot, uid);
    Err(format!(
        "process {pid} of {} holds a socket that {} opened and may have handed to it; it is left alone",
        name(uid),
        name(opened)
    ))
}

/// A process that holds no address of the service's, and is in its way all the same.
fn stop_process(snapshot: &Snapshot, case: &Case, cause: &Cause, mut plan: Plan) -> Result<Plan, String> {
    let pid = cause.subject.pid.ok_or("it is not known who holds it")?;
    let Look::Seen(process) = snapshot.process(pid) else { return Err(format!("process {pid} has ended")) };
    never_touch(snapshot, pid, &process.brief.name, process.own_root)?;
    let own = case.accounts(snapshot).contains(&process.brief.uid);
    if let Some(path) = cause.subject.named().filter(|p| !own && !case.names(snapshot, p)) {
        plan.leave_to_choice(path, case);
    }
    if let Some(unit) = crate::case::chain(snapshot, &process).1 {
        plan.title = format!("stop {unit}");
        plan.risk = Risk::High;
        plan.steps.push(Step::Job(Job { verb: "stop".into(), unit }));
        return Ok(plan);
    }
    let gently = crate::kinds::of_program(&process.brief.name).is_some_and(|k| k.profile().keeps_data);
    plan.steps.extend(end(&process.brief.name, pid, process.brief.start_ticks, gently));
    plan.reversible = false;
    plan.risk = Risk::Medium;
    plan.title = format!("stop {} (pid {pid})", process.brief.name);
    Ok(plan)
}

fn end(name: &str, pid: u32, start_ticks: u64, gently: bool) -> Option<Step> {
    Some(Step::End(End { pid, start_ticks, name: name.to_owned(), gently }))
}

/// What the host needs is never signalled, nor is this program or what it was started from.
fn never_touch(snapshot: &Snapshot, pid: u32, name: &str, own_root: bool) -> Result<(), String> {
    const NEEDED: &[&str] = &[
        "systemd",
        "init",
        "sshd",
        "dbus-daemon",
        "dbus-broker",
        "systemd-logind",
        "systemd-journal",
        "systemd-udevd",
        "systemd-resolve",
        "systemd-network",
        "NetworkManager",
        "containerd",
        "dockerd",
    ];
    let own = snapshot.myself().seen().is_some_and(|m| m.lineage.contains(&pid));
    if pid <= 1 || own || NEEDED.contains(&name) {
        return Err(format!("{name} (pid {pid}) is left alone: the host or this session needs it"));
    }
    if !own_root {
        return Err(format!("{name} (pid {pid}) runs in a container; stop it where it was started"));
    }
    Ok(())
}
