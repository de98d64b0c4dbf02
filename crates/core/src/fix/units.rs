//! Plans that change how the manager runs the service: each puts a drop-in of its own beside the unit, and leaves the unit's
//! files as they are.
use super::plan::{Plan, Risk, diff};
use super::target::{free, trusted, words};
use super::{Step, Target, digest};
use crate::access::Right;
use crate::case::Case;
use crate::manager::{Barrier, UNLIMITED, Unit};
use crate::path;
use crate::rank::Cause;
use crate::snapshot::Snapshot;
use crate::trust::{self, Last, Paths};

/// Where an administrator's own settings of units stand (systemd.unit(5)).
const PLACE: &str = "/etc/systemd/system";
/// A start gets this much more time at least, in seconds.
const MORE_TIME: u64 = 300;

fn unit_of<'c>(case: &'c Case) -> Result<&'c Unit, String> {
    case.service.unit.as_ref().ok_or_else(|| "it has no unit".to_owned())
}

/// Steps that put lines of `[Service]` into a drop-in, and make the manager read it.
fn drop_in(snapshot: &Snapshot, case: &Case, what: &str, lines: &[String], mut plan: Plan) -> Result<Plan, String> {
    let unit = unit_of(case)?;
    let dir = format!("{PLACE}/{}.d", unit.name);
    // The manager applies drop-ins by name: this one comes after what people usually call theirs.
    let file = format!("{dir}/zz-{what}.conf");
    if snapshot.link_stat(&file).seen().is_some() {
        return Err(format!("{file} exists already"));
    }
    // The manager's directory is root's; only a name in it is taken.
    trust::walk(&Paths(snapshot), &dir, Last::Itself, &trusted(snapshot, &[])).map_err(|r| words(snapshot, &r))?;
    if snapshot.exists(&dir) == Some(false) {
        plan.steps.push(Step::Directory { target: Target::free(&dir), mode: 0o755, owner: (0, 0) });
    } else {
        free(snapshot, case, &file)?;
    }
    let content = format!("# Put here by a fix of {}; undo removes it.\n[Service]\n{}\n", case.service.name, lines.join("\n")).into_bytes();
    plan.diff = diff(None, &file, b"", &content);
    plan.steps.push(Step::Create { target: Target::free(&file), after: digest(&content), content });
    plan.steps.push(Step::ReloadManager);
    Ok(plan)
}

/// Takes the one barrier away, for the one path.
pub(super) fn allow_in_sandbox(snapshot: &Snapshot, case: &Case, cause: &Cause, mut plan: Plan) -> Result<Plan, String> {
    let unit = unit_of(case)?;
    if let (Some(_), Some(address)) = (cause.subject.port, cause.subject.address) {
        let family = if address.is_ipv4() { "AF_INET" } else { "AF_INET6" };
        plan.title = format!("let {} open sockets of {family}", unit.name);
        plan.risk = Risk::Medium;
        return drop_in(snapshot, case, "sockets", &[format!("RestrictAddressFamilies={family}")], plan);
    }
    let file = cause.subject.path.clone().ok_or("the path is not known")?;
    if !case.names(snapshot, &file) {
        return Err(format!("{file} is named by nothing that only root writes"));
    }
    let rights = [Right::Execute, Right::Read, Right::Write];
    let meant = |barrier: &Barrier| cause.subject.directive.as_deref().is_none_or(|d| d == barrier.key);
    let found = rights.into_iter().find_map(|right| Some((right, unit.barrier(&file, right).filter(meant)?)));
    // Executing is refused by the same settings as everything else where a path is hidden as a whole.
    let (right, barrier) = match found {
        Some((Right::Execute, barrier)) if barrier.key != "NoExecPaths" => (Right::Read, barrier),
        Some(found) => found,
        None => return Err(format!("nothing in the unit refuses {file}")),
    };
    if right == Right::Write && !case.owns(snapshot, &file) {
        return Err(format!("{file} does not belong to {}; its sandbox stays closed there", case.service.name));
    }
    let lines = unit.opening(&barrier, &file, right);
    plan.title = format!("let {} {} {file} in spite of {barrier}", unit.name, if right == Right::Read { "read" } else { "use" });
    plan.risk = Risk::Medium;
    plan.remarks.push("the rest of the sandbox stays as it is".into());
    drop_in(snapshot, case, "sandbox", &lines, plan)
}

/// The one capability that binding a privileged port needs.
pub(super) fn grant_capability(snapshot: &Snapshot, case: &Case, mut plan: Plan) -> Result<Plan, String> {
    const CAPABILITY: &str = "CAP_NET_BIND_SERVICE";
    let unit = unit_of(case)?;
    let mut lines = Vec::new();
    if case.starter.uid != 0 {
        lines.push(format!("AmbientCapabilities={CAPABILITY}"));
    }
    if !unit.keeps_capability(CAPABILITY) {
        lines.push(format!("CapabilityBoundingSet={CAPABILITY}"));
    }
    plan.title = format!("let {} bind ports below the limit, and nothing else that is root's", unit.name);
    plan.risk = Risk::Medium;
    drop_in(snapshot, case, "capability", &lines, plan)
}

/// More time for a start that is slow, not stuck.
pub(super) fn extend_timeout(snapshot: &Snapshot, case: &Case, mut plan: Plan) -> Result<Plan, String> {
    let unit = unit_of(case)?;
    let now = unit.start_timeout();
    if now == UNLIMITED {
        return Err("the unit gives it all the time it wants".into());
    }
    let more = now.saturating_mul(4).max(MORE_TIME);
    plan.title = format!("give {} {more} s to become ready in place of {now} s", unit.name);
    plan.remarks.push("it helps where the start is slow; where it is stuck, it only takes longer to fail".into());
    drop_in(snapshot, case, "timeout", &[format!("TimeoutStartSec={more}")], plan)
}

/// Type and pid file as the daemon, started this way, has them.
pub(super) fn align_unit(snapshot: &Snapshot, case: &Case, mut plan: Plan) -> Result<Plan, String> {
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
    if lines.is_empty() || lines.iter().any(|l| l == "Type=forking") {
        lines.extend(model.pid_file.as_ref().map(|p| format!("PIDFile={}", p.path)));
    } else if unit.value("Service", "PIDFile").is_some() {
        lines.push("PIDFile=".to_owned());
    }
    plan.title = format!("make {} wait for what {} really does: {}", unit.name, case.service.name, lines.join(", "));
    drop_in(snapshot, case, "type", &lines, plan)
}

/// The limit of the unit, as high as what is asked for.
pub(super) fn raise_limit(snapshot: &Snapshot, case: &Case, cause: &Cause, mut plan: Plan) -> Result<Plan, String> {
    let unit = unit_of(case)?;
    let directive = cause.subject.directive.as_deref().unwrap_or_default();
    let asked = case.config.model.demands.iter().find(|d| d.directive == directive).map(|d| d.amount);
    let below = |key: &str, amount: u64| unit.hard_limit(key).is_some_and(|l| l < amount);
    let line = match (directive, asked) {
        ("LimitNPROC" | "TasksMax", None) => format!("{directive}={}", unit.hard_limit(directive).unwrap_or(512).saturating_mul(4).max(512)),
        ("LimitNOFILE", None) => format!("LimitNOFILE={}", unit.hard_limit(directive).unwrap_or(1024).saturating_mul(4).max(65_536)),
        // Address space holds more than what is used: libraries, threads and buffers.
        ("LimitAS" | "LimitDATA" | "LimitRSS", None) => format!("{directive}=infinity"),
        ("MemoryMax" | "MemoryLimit", None) => format!("{directive}={}M", (unit.hard_limit(directive).unwrap_or(1 << 30) >> 20).saturating_mul(2).max(256)),
        (_, Some(amount)) => {
            let key = ["LimitAS", "MemoryMax", "MemoryLimit", "LimitNOFILE"].into_iter().find(|k| below(k, amount)).unwrap_or("LimitNOFILE");
            match key {
                // Address space holds more than the one piece that is asked for: its libraries, threads and buffers.
                "LimitAS" => "LimitAS=infinity".to_owned(),
                "LimitNOFILE" => format!("LimitNOFILE={}", amount + 1024),
                memory => format!("{memory}={}M", (amount >> 20) * 3 / 2 + 256),
            }
        }
        _ => return Err("it is not known which limit is meant".into()),
    };
    plan.title = format!("raise the limit of {}: {line}", unit.name);
    plan.risk = Risk::Medium;
    drop_in(snapshot, case, "limit", &[line], plan)
}

/// The process goes on where it was halted.
pub(super) fn continue_process(snapshot: &Snapshot, cause: &Cause, mut plan: Plan) -> Result<Plan, String> {
    let pid = cause.subject.pid.ok_or("the process is not known")?;
    let process = snapshot.process(pid).seen().ok_or_else(|| format!("pid {pid} is gone"))?;
    let name = path::name(&process.brief.name).to_owned();
    if process.brief.state == 't' {
        return Err(format!("a debugger holds {name} (pid {pid}): let it go there"));
    }
    plan.title = format!("let {name} (pid {pid}) go on");
    plan.steps.push(Step::Continue { pid, start_ticks: process.brief.start_ticks, name });
    plan.reversible = false;
    plan.remarks.push("somebody halted it, perhaps on purpose".into());
    Ok(plan)
}
