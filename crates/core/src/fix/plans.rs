//! For each cause the possible fixes, with what they change and a diff.
use super::plan::{Parameter, Plan, Risk, diff};
use super::target::{existing, free, grantable, holds_key, trusted, words};
use super::{Step, Target, digest, units};
use crate::case::{Case, Holder};
use crate::code::Code;
use crate::config::{Severity, Span};
use crate::host::{FileKind, FileStatus, Look};
use crate::left_behind;
use crate::path;
use crate::rank::Cause;
use crate::report::free_ports;
use crate::service::Service;
use crate::snapshot::Snapshot;
use crate::trust::{self, Last, Paths};
use std::collections::BTreeMap;

/// A file to be edited, as it is now, with the spans that are replaced.
type EditedFile = (Target, FileStatus, Vec<(Span, String)>);

/// The plans for a cause, in the order of its fixes. `given` are the person's own values.
pub fn plans(snapshot: &Snapshot, case: &Case, all: &[Service], cause: &Cause, given: &BTreeMap<String, String>) -> Vec<Result<Plan, String>> {
    cause.fixes.iter().map(|id| plan(snapshot, case, all, cause, id, given)).collect()
}

fn plan(snapshot: &Snapshot, case: &Case, all: &[Service], cause: &Cause, id: &str, given: &BTreeMap<String, String>) -> Result<Plan, String> {
    let empty = Plan {
        id: id.to_owned(),
        title: String::new(),
        cause: cause.code,
        risk: Risk::Low,
        reversible: true,
        parameters: vec![],
        steps: vec![],
        edits: vec![],
        diff: String::new(),
        remarks: vec![],
    };
    let plan = match id {
        "stop-holder" => stop_holder(snapshot, case, cause, empty),
        "move-port" => move_port(snapshot, case, all, cause, given, empty),
        "correct-directive" => correct(snapshot, case, cause, empty),
        "comment-out" => comment_out(snapshot, case, cause, empty),
        "load-module" => load_module(snapshot, case, cause, empty),
        "make-directory" => make_directory(snapshot, case, cause, empty),
        "move-aside" => move_aside(snapshot, case, cause, empty),
        "give-back" => give_back(snapshot, case, cause, empty),
        "grant-access" => grant(snapshot, case, cause, empty),
        "allow-in-sandbox" => units::allow_in_sandbox(snapshot, case, cause, empty),
        "grant-capability" => units::grant_capability(snapshot, case, empty),
        "extend-timeout" => units::extend_timeout(snapshot, case, empty),
        "align-unit" => units::align_unit(snapshot, case, empty),
        "raise-limit" => units::raise_limit(snapshot, case, cause, empty),
        "continue-process" => units::continue_process(snapshot, cause, empty),
        "unmask" | "enable" => unit_file(snapshot, case, id, empty),
        "reset-and-start" => {
            let unit = case.service.unit_name().ok_or("it has no unit")?.to_owned();
            Ok(Plan { title: format!("clear the record of failures of {unit} and start it once more"), steps: vec![Step::ResetFailed { unit }], ..empty })
        }
        "start" => Ok(Plan { title: format!("start {} once more", case.service.name), ..empty }),
        "restart" => Ok(Plan { title: format!("restart {} under the right account", case.service.name), risk: Risk::Medium, ..empty }),
        other => Err(format!("there is no fix {other}")),
    };
    plan.map(|mut plan| {
        let told: Vec<String> = plan.steps.iter().filter_map(Step::irreversible).collect();
        plan.reversible &= told.is_empty();
        plan.remarks.extend(told);
        plan
    })
}

fn holder_of<'c>(case: &'c Case, cause: &Cause) -> Option<&'c Holder> {
    let pid = cause.subject.pid?;
    case.wanted.iter().flat_map(|w| &w.held_by).find(|h| h.process.brief.pid == pid)
}

fn stop_holder(snapshot: &Snapshot, case: &Case, cause: &Cause, plan: Plan) -> Result<Plan, String> {
    let mut plan = plan;
    let mut done: Vec<u32> = Vec::new();
    // Everything that keeps the service from its addresses goes in one transaction.
    let first = holder_of(case, cause);
    let others = case.wanted.iter().flat_map(|w| &w.held_by).filter(|h| Some(h.process.brief.pid) != cause.subject.pid);
    let mut names = Vec::new();
    for holder in first.into_iter().chain(others) {
        let pid = holder.process.brief.pid;
        if done.contains(&pid) {
            continue;
        }
        done.push(pid);
        never_touch(snapshot, pid, &holder.process.brief.name, holder.process.own_root)?;
        match &holder.unit {
            Some(unit) => {
                if names.contains(unit) {
                    continue;
                }
                // What would start it again goes first.
                let triggers = crate::case::triggers(snapshot, unit).into_iter().filter(|t| t.kind != "init-script").map(|t| t.name);
                for source in triggers.chain([unit.clone()]) {
                    plan.steps.push(Step::Job { verb: "stop".into(), unit: source.clone() });
                    if crate::manager::unit(snapshot, &source).seen().is_some_and(|u| u.enabled) {
                        plan.steps.push(unit_file_step(snapshot, "disable", &source));
                    }
                }
                plan.risk = Risk::High;
                names.push(unit.clone());
            }
            None => {
                let gently = crate::kinds::of_program(&holder.process.brief.name).is_some_and(|k| k.profile().keeps_data);
                plan.steps.extend(end(&holder.process.brief.name, pid, holder.process.brief.start_ticks, gently));
                // Children that share the socket keep it alive when their parent goes; those of a database go with it.
                for other in holder.others.iter().filter(|_| !gently) {
                    if let Look::Seen(child) = snapshot.process(*other) {
                        plan.steps.extend(end(&child.brief.name, *other, child.brief.start_ticks, false));
                    }
                }
                plan.reversible = false;
                plan.risk = plan.risk.max(if holder.clients.unwrap_or(0) > 0 { Risk::High } else { Risk::Medium });
                names.push(format!("{} (pid {pid})", holder.process.brief.name));
            }
        }
        if let Some(clients) = holder.clients.filter(|c| *c > 0) {
            plan.remarks.push(format!("{clients} clients are connected to it now and will be cut off"));
        }
    }
    if plan.steps.is_empty() {
        let pid = cause.subject.pid.ok_or("it is not known who holds it")?;
        let Look::Seen(process) = snapshot.process(pid) else { return Err(format!("pid {pid} is gone")) };
        never_touch(snapshot, pid, &process.brief.name, process.own_root)?;
        if let Some(unit) = crate::case::chain(snapshot, &process).1 {
            plan.title = format!("stop {unit}");
            plan.risk = Risk::High;
            plan.steps.push(Step::Job { verb: "stop".into(), unit });
            return Ok(plan);
        }
        let gently = crate::kinds::of_program(&process.brief.name).is_some_and(|k| k.profile().keeps_data);
        plan.steps.extend(end(&process.brief.name, pid, process.brief.start_ticks, gently));
        plan.reversible = false;
        plan.risk = Risk::Medium;
        names.push(format!("{} (pid {pid})", process.brief.name));
    }
    plan.title = format!("stop {}", names.join(" and "));
    if plan.steps.iter().any(|s| matches!(s, Step::UnitFile { .. })) {
        plan.title = format!("{}, so that it does not come back at boot", plan.title);
    }
    Ok(plan)
}

/// A verb of the manager, with the units whose links change along.
fn unit_file_step(snapshot: &Snapshot, verb: &str, unit: &str) -> Step {
    let also = crate::manager::unit(snapshot, unit).seen().map(|u| u.values("Install", "Also").join(" ")).unwrap_or_default();
    Step::UnitFile { verb: verb.to_owned(), unit: unit.to_owned(), also: also.split_whitespace().map(str::to_owned).collect() }
}

fn end(name: &str, pid: u32, start_ticks: u64, gently: bool) -> Option<Step> {
    Some(Step::End { pid, start_ticks, name: name.to_owned(), gently })
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

/// Notes the edits of a plan, with their diff.
fn edits(snapshot: &Snapshot, case: &Case, spans: Vec<(Span, String)>, plan: &mut Plan) -> Result<(), String> {
    plan.diff = edit_steps(snapshot, case, &spans)?.1;
    plan.edits.extend(spans);
    Ok(())
}

/// All steps of several plans: their own, then one edit for each file with everything that they change there.
///
/// # Errors
/// When two plans change the same place, or a file cannot be read.
pub fn combined(snapshot: &Snapshot, case: &Case, plans: &[&Plan]) -> Result<Vec<Step>, String> {
    let mut steps: Vec<Step> = plans.iter().flat_map(|p| p.steps.clone()).collect();
    let spans: Vec<(Span, String)> = plans.iter().flat_map(|p| p.edits.clone()).collect();
    steps.extend(edit_steps(snapshot, case, &spans)?.0);
    Ok(steps)
}

/// Edits of spans, file by file, as one step each, and their diff.
fn edit_steps(snapshot: &Snapshot, case: &Case, spans: &[(Span, String)]) -> Result<(Vec<Step>, String), String> {
    let (mut steps, mut shown) = (Vec::new(), String::new());
    let mut by_file: BTreeMap<String, EditedFile> = BTreeMap::new();
    for (span, text) in spans {
        if !case.may_edit(snapshot, &span.file) {
            return Err(format!("{} is read because a file says so that the service's account can write; edit it by hand", span.file));
        }
        let (target, status, parent) = existing(snapshot, case, &span.file, Last::Followed)?;
        if status.kind != FileKind::Regular {
            return Err(format!("{} is not a regular file", target.path));
        }
        if let Some(who) = others_could_link(snapshot, &status, &parent) {
            return Err(format!("{} has {} names (hard links), and {who} could have made one of them", target.path, status.links));
        }
        by_file.entry(target.path.clone()).or_insert((target, status, Vec::new())).2.push((span.clone(), text.clone()));
    }
    for (file, (target, _, mut spans)) in by_file {
        let Look::Seen(before) = snapshot.read(&file) else { return Err(format!("{file} cannot be read")) };
        spans.sort_by_key(|(s, _)| (s.start, s.end));
        spans.dedup();
        if spans.windows(2).any(|w| w[0].0.end > w[1].0.start) {
            return Err(format!("two changes meet in one place of {file}: carry them out one after another"));
        }
        let mut after = before.to_vec();
        for (span, text) in spans.iter().rev() {
            if span.end > after.len() || span.start > span.end {
                return Err(format!("{file} is shorter than it was"));
            }
            after.splice(span.start..span.end, text.bytes());
        }
        shown.push_str(&diff(Some(case.service.kind), &file, &before, &after));
        steps.push(Step::Edit { target, before: digest(&before), after: digest(&after), content: after });
    }
    Ok((steps, shown))
}

fn move_port(snapshot: &Snapshot, case: &Case, all: &[Service], cause: &Cause, given: &BTreeMap<String, String>, mut plan: Plan) -> Result<Plan, String> {
    let old = cause.subject.port.ok_or("the cause names no port")?;
    let new = match given.get("port") {
        Some(text) => text.parse::<u16>().ok().filter(|p| *p > 0).ok_or_else(|| format!("{text:?} is no port, expected 1 to 65535"))?,
        None => free_ports(snapshot, all, old, 1).first().copied().ok_or("there is no free port")?,
    };
    let model = &case.config.model;
    if new != old && model.listens.iter().any(|l| l.listen.port == new) {
        return Err(format!("{} listens on {new} already", case.service.name));
    }
    let held = snapshot.listeners().seen().unwrap_or_default().iter().any(|s| s.port == new);
    if held {
        return Err(format!("port {new} is held by another program"));
    }
    let mut spans = Vec::new();
    for listen in model.listens.iter().filter(|l| l.listen.port == old) {
        match &listen.port_span {
            Some(span) => spans.push((span.clone(), new.to_string())),
            None => plan.remarks.push(format!(
                "{} listens on {old} without writing the number; it cannot be moved there",
                listen.place.as_ref().map_or_else(|| "by default it".to_owned(), ToString::to_string)
            )),
        }
    }
    if spans.is_empty() {
        return Err(format!("no line that can be changed asks for port {old}"));
    }
    for mention in model.ports.iter().filter(|p| p.port == old) {
        if mention.belongs {
            spans.push((mention.span.clone(), new.to_string()));
        } else {
            plan.remarks.push(format!("{} mentions {old} and was left alone: it points at another program ({})", mention.place, mention.text));
        }
    }
    edits(snapshot, case, spans, &mut plan)?;
    others_that_mention(snapshot, case, all, old, &mut plan);
    plan.title = format!("move {} from port {old} to {new}", case.service.name);
    plan.risk = Risk::Medium;
    plan.remarks.push(format!("clients, links and proxies that use port {old} must follow"));
    plan.parameters.push(Parameter { name: "port".into(), value: new.to_string() });
    Ok(plan)
}

/// Other services' lines that point at the port that moves.
fn others_that_mention(snapshot: &Snapshot, case: &Case, all: &[Service], port: u16, plan: &mut Plan) {
    for other in all.iter().filter(|s| s.name != case.service.name) {
        let model = other.kind.read(snapshot, &other.instance).model;
        for mention in model.ports.iter().filter(|p| p.port == port && !p.belongs) {
            plan.remarks.push(format!("{} of {} points at {port}: {}", mention.place, other.name, mention.text));
        }
    }
}

fn finding_of<'c>(case: &'c Case, cause: &Cause) -> Option<&'c crate::config::ConfigFinding> {
    case.config.findings.iter().filter(|f| f.severity == Severity::Error).find(|f| {
        let place = f.place.as_ref().map(|p| (p.file.to_string(), p.line));
        f.code == cause.code && place == cause.subject.file.clone().zip(cause.subject.line)
    })
}

fn correct(snapshot: &Snapshot, case: &Case, cause: &Cause, mut plan: Plan) -> Result<Plan, String> {
    let finding = finding_of(case, cause).ok_or("the place is not known")?;
    let (span, text) = finding.edit.clone().ok_or("it is not known what was meant")?;
    plan.title = match &finding.directive {
        Some(directive) if !text.is_empty() => format!("write {text} instead of {}", directive.trim_start_matches('<')),
        _ => "take out what does not belong there".into(),
    };
    edits(snapshot, case, vec![(span, text)], &mut plan)?;
    Ok(plan)
}

/// Puts the whole directive behind comment signs, over all its lines, and nothing else: the place is that of our own reading,
/// never one that only a log line suggests.
fn comment_out(snapshot: &Snapshot, case: &Case, cause: &Cause, mut plan: Plan) -> Result<Plan, String> {
    let sign = case.service.kind.profile().comment.ok_or("this kind of file has no comment for a line; edit it by hand")?;
    let finding = finding_of(case, cause).ok_or("our own reading finds no fault at that place; edit it by hand")?;
    let place = finding.place.as_ref().ok_or("the place is not known")?;
    let directive = finding.directive.clone().unwrap_or_default();
    let (file, line) = (place.file.to_string(), place.line);
    let (target, ..) = existing(snapshot, case, &file, Last::Followed)?;
    let Look::Seen(bytes) = snapshot.read(&target.path) else { return Err(format!("{} cannot be read", target.path)) };
    let text = std::str::from_utf8(&bytes).map_err(|_| format!("{file} is not text in UTF-8; edit it by hand"))?;
    let statement =
        case.service.kind.statement(text, line, &directive).ok_or_else(|| format!("{file}:{line} is not a statement of its own; edit it by hand"))?;
    let first = text[..statement.start].rfind('\n').map_or(0, |n| n + 1);
    let last = text[statement.end..].find('\n').map_or(text.len(), |n| statement.end + n);
    let behind = text[statement.end..last].trim();
    if !text[first..statement.start].trim().is_empty() || !(behind.is_empty() || behind.starts_with(sign)) {
        return Err(format!("{file}:{line} holds more than this directive; edit it by hand"));
    }
    let starts = std::iter::once(first).chain(text[first..last].match_indices('\n').map(|(n, _)| first + n + 1));
    let spans = starts.map(|at| (Span { file: place.file.clone(), start: at, end: at }, format!("{sign} "))).collect();
    edits(snapshot, case, spans, &mut plan)?;
    plan.title = format!("put {directive} at {file}:{line} behind a comment sign");
    plan.risk = Risk::Medium;
    plan.remarks.push("what the directive was for is then off".into());
    Ok(plan)
}

/// Who besides root could have made another name for a file in its directory, where it has several.
fn others_could_link(snapshot: &Snapshot, status: &FileStatus, parent: &FileStatus) -> Option<String> {
    let by = trust::replacer(parent, None, &trusted(snapshot, &[])).filter(|_| status.links > 1)?;
    Some(by.spelled(|uid| crate::accounts::user_name(snapshot, uid), |gid| crate::accounts::group_name(snapshot, gid)))
}

/// A name that leads to no other directory.
fn plain_name(name: &str) -> bool {
    !name.is_empty() && name.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '_' | '-'))
}

/// Debian's layout: links from `mods-enabled` to `mods-available`.
fn load_module(snapshot: &Snapshot, case: &Case, cause: &Cause, mut plan: Plan) -> Result<Plan, String> {
    let finding = finding_of(case, cause).ok_or("the place is not known")?;
    let id = finding.object.clone().ok_or("it is not known which module is meant")?;
    let name = id.trim_end_matches("_module");
    if !plain_name(name) {
        return Err(format!("{name} is not the name of a module"));
    }
    let base = path::parent(&case.service.instance.config).to_owned();
    let available = format!("{base}/mods-available");
    if snapshot.exists(&format!("{available}/{name}.load")) != Some(true) {
        return Err(format!("module {name} is not installed here: {available}/{name}.load is not there"));
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
        let needs = text.lines().filter_map(|l| l.strip_prefix("# Depends:")).flat_map(str::split_whitespace).filter(|n| plain_name(n));
        todo.extend(needs.map(str::to_owned));
        for ending in ["load", "conf"] {
            if snapshot.exists(&format!("{available}/{module}.{ending}")) == Some(true) {
                let target = free(snapshot, case, &format!("{base}/mods-enabled/{module}.{ending}"))?;
                plan.steps.push(Step::SymbolicLink { target, before: None, after: Some(format!("../mods-available/{module}.{ending}")) });
            }
        }
        done.push(module);
    }
    plan.title = format!("load {}", done.iter().map(|m| format!("mod_{m}")).collect::<Vec<_>>().join(" and "));
    Ok(plan)
}

fn make_directory(snapshot: &Snapshot, case: &Case, cause: &Cause, mut plan: Plan) -> Result<Plan, String> {
    let dir = cause.subject.path.clone().map(|d| path::clean(&d)).ok_or("the directory is not known")?;
    let who = real_account(snapshot, case)?;
    let mut missing = Vec::new();
    let mut at = dir.clone();
    while snapshot.exists(&at) == Some(false) && missing.len() < 8 {
        missing.push(at.clone());
        at = path::parent(&at).to_owned();
    }
    if snapshot.is_directory(&at) != Some(true) {
        return Err(format!("{at} is not a directory"));
    }
    // The names that are missing hang on a directory that is there, by its real path.
    let keepers = case.accounts(snapshot);
    let base = trust::walk(&Paths(snapshot), &at, Last::Followed, &trusted(snapshot, &keepers)).map_err(|r| words(snapshot, &r))?;
    let real = |d: &String| format!("{}{}", base.path.trim_end_matches('/'), &d[at.trim_end_matches('/').len()..]);
    if let Some(first) = missing.last() {
        free(snapshot, case, &real(first))?;
    }
    if !case.names(snapshot, &dir) {
        return Err(format!("only the log names {dir}"));
    }
    let target = |d: &String| Target { path: real(d), keepers: keepers.clone(), was: None };
    plan.steps = missing.iter().rev().map(|d| Step::Directory { target: target(d), mode: 0o750, owner: who }).collect();
    plan.title = format!("make the directory {} for {}", real(&dir), case.starter.name);
    Ok(plan)
}

/// The service's account with its numbers, when it really exists: nothing is ever given to a number that nobody has.
fn real_account(snapshot: &Snapshot, case: &Case) -> Result<(u32, u32), String> {
    let who = &case.starter;
    let known = crate::accounts::account(snapshot, &who.uid.to_string()).seen().is_some_and(|a| a.uid == who.uid);
    if who.uid == 0 || known { Ok((who.uid, who.gid)) } else { Err(format!("account {} does not exist", who.name)) }
}

fn move_aside(snapshot: &Snapshot, case: &Case, cause: &Cause, mut plan: Plan) -> Result<Plan, String> {
    let named = cause.subject.named().ok_or("the file is not known")?;
    // What root's links lead to is moved, and not the link.
    let last = if cause.subject.named.is_some() { Last::Followed } else { Last::Itself };
    let (target, status, _) = existing(snapshot, case, named, last)?;
    if !case.keeps(snapshot, &target.path) {
        return Err(format!("{} is named by nothing but what the service's own account can write", target.path));
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
    plan.steps.push(Step::Rename { target, to });
    // What lies beside it from the same start goes with it.
    if cause.code == Code::WrongOwner {
        let described = &case.service.described;
        let ours = described.runtime_dir.as_deref().is_some_and(|r| path::clean(&snapshot.resolve_links(r)) == dir);
        for entry in snapshot.list(&dir).seen().filter(|_| ours).unwrap_or_default() {
            let other = path::join(&dir, &entry.name);
            if other == own || entry.name == name || entry.name.contains(".aside-") {
                continue;
            }
            let Ok((target, same, _)) = existing(snapshot, case, &other, Last::Itself) else { continue };
            if same.uid == status.uid && matches!(same.kind, FileKind::Socket | FileKind::Regular) {
                plan.steps.push(Step::Rename { target, to: format!("{other}.aside-{stamp}") });
            }
        }
    }
    Ok(plan)
}

fn give_back(snapshot: &Snapshot, case: &Case, cause: &Cause, mut plan: Plan) -> Result<Plan, String> {
    // Owner and mode are those of what a link of root's leads to.
    let file = cause.subject.named().ok_or("the file is not known")?;
    let (uid, _) = real_account(snapshot, case)?;
    let (target, status) = grantable(snapshot, case, file)?;
    let file = target.path.clone();
    // A start under another account leaves more than one file behind: all that is that account's goes back together.
    let data = case.config.model.data_dir.as_ref().map(|d| path::clean(&snapshot.resolve_links(&d.path))).filter(|d| file.starts_with(&format!("{d}/")));
    let others = data.map(|dir| left_behind::of(snapshot, &dir, |owner| owner == status.uid)).unwrap_or_default();
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
        plan.steps.push(Step::Owner { target, from: (status.uid, status.gid), to: (uid, status.gid) });
    }
    Ok(plan)
}

/// The one missing permission on the one path, to the narrowest class that holds the account.
fn grant(snapshot: &Snapshot, case: &Case, cause: &Cause, mut plan: Plan) -> Result<Plan, String> {
    let file = cause.subject.named().ok_or("the path is not known")?;
    let who = &case.starter;
    real_account(snapshot, case)?;
    let (target, status) = grantable(snapshot, case, file)?;
    let file = target.path.clone();
    if status.kind == FileKind::Regular && status.uid != who.uid && holds_key(snapshot, &file) {
        return Err(format!("{file} is a private key; who may read it is a person's decision"));
    }
    let directory = status.kind == FileKind::Directory;
    let writes = cause.subject.right == Some(crate::access::Right::Write);
    let bits = match (directory, writes) {
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
        plan.steps.push(Step::Owner { target: target.clone(), from: (status.uid, status.gid), to: (status.uid, who.gid) });
        now.gid = who.gid;
        status.mode | bits << 3
    } else {
        status.mode | bits
    };
    if to != status.mode {
        let target = Target { was: Some(super::Identity::of(&now)), ..target };
        plan.steps.push(Step::Mode { target, from: status.mode, to });
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

fn unit_file(snapshot: &Snapshot, case: &Case, verb: &str, mut plan: Plan) -> Result<Plan, String> {
    let unit = case.service.unit.as_ref().ok_or("it has no unit")?;
    plan.steps.push(unit_file_step(snapshot, verb, &unit.name));
    plan.title = format!("{verb} {}", unit.name);
    if verb == "unmask"
        && let Look::Seen(link) = snapshot.link_stat(&unit.fragment)
    {
        let who = crate::accounts::user_name(snapshot, link.uid);
        let when = crate::log::format_time(link.modified * 1_000_000, &case.zone);
        plan.remarks.push(format!("it was masked by {who} at {when}; make sure that was not on purpose"));
    }
    Ok(plan)
}
