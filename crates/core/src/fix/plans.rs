//! For each cause the possible fixes, with what they change and a diff.
use super::plan::{Parameter, Plan, Risk, diff};
use super::{Step, digest, units};
use crate::case::{Case, Holder};
use crate::code::Code;
use crate::config::{Severity, Span};
use crate::host::{FileKind, Look};
use crate::left_behind;
use crate::path;
use crate::rank::Cause;
use crate::report::free_ports;
use crate::service::Service;
use crate::snapshot::Snapshot;
use std::collections::BTreeMap;

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
    match id {
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
    }
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
                        plan.steps.push(Step::UnitFile { verb: "disable".into(), unit: source });
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
fn edits(snapshot: &Snapshot, spans: Vec<(Span, String)>, plan: &mut Plan) -> Result<(), String> {
    plan.diff = edit_steps(snapshot, &spans)?.1;
    plan.edits.extend(spans);
    Ok(())
}

/// All steps of several plans: their own, then one edit for each file with everything that they change there.
///
/// # Errors
/// When two plans change the same place, or a file cannot be read.
pub fn combined(snapshot: &Snapshot, plans: &[&Plan]) -> Result<Vec<Step>, String> {
    let mut steps: Vec<Step> = plans.iter().flat_map(|p| p.steps.clone()).collect();
    let spans: Vec<(Span, String)> = plans.iter().flat_map(|p| p.edits.clone()).collect();
    steps.extend(edit_steps(snapshot, &spans)?.0);
    Ok(steps)
}

/// Edits of spans, file by file, as one step each, and their diff.
fn edit_steps(snapshot: &Snapshot, spans: &[(Span, String)]) -> Result<(Vec<Step>, String), String> {
    let (mut steps, mut shown) = (Vec::new(), String::new());
    let mut by_file: BTreeMap<String, Vec<(Span, String)>> = BTreeMap::new();
    for (span, text) in spans {
        by_file.entry(snapshot.resolve_links(&span.file)).or_default().push((span.clone(), text.clone()));
    }
    for (file, mut spans) in by_file {
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
        shown.push_str(&diff(&file, &before, &after));
        steps.push(Step::Edit { path: file, before: digest(&before), after: digest(&after), content: after });
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
    edits(snapshot, spans, &mut plan)?;
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
    edits(snapshot, vec![(span, text)], &mut plan)?;
    Ok(plan)
}

/// Puts the whole directive behind comment signs, over all its lines.
fn comment_out(snapshot: &Snapshot, case: &Case, cause: &Cause, mut plan: Plan) -> Result<Plan, String> {
    let sign = case.service.kind.profile().comment.ok_or("this kind of file has no comment for a line; edit it by hand")?;
    let (file, line) = cause.subject.file.clone().zip(cause.subject.line).ok_or("the place is not known")?;
    let real = snapshot.resolve_links(&file);
    let Look::Seen(bytes) = snapshot.read(&real) else { return Err(format!("{real} cannot be read")) };
    let starts: Vec<usize> = std::iter::once(0).chain(memchr::memchr_iter(b'\n', &bytes).map(|n| n + 1)).collect();
    let last = usize::try_from(line).unwrap_or(1).saturating_sub(1);
    let mut first = last;
    let directive = cause.subject.directive.clone().unwrap_or_default();
    let text_of = |at: usize| -> String {
        let from = starts.get(at).copied().unwrap_or(bytes.len());
        let to = starts.get(at + 1).copied().unwrap_or(bytes.len());
        String::from_utf8_lossy(&bytes[from..to]).into_owned()
    };
    // The place is that of the terminator; the directive may begin some lines higher.
    while first > 0 && !text_of(first).trim_start().to_ascii_lowercase().starts_with(&directive.to_ascii_lowercase()) && last - first < 20 {
        first -= 1;
    }
    let begins = text_of(first).trim_start().to_ascii_lowercase().starts_with(&directive.to_ascii_lowercase());
    if directive.is_empty() || !begins {
        return Err(format!("{file}:{line} does not begin with the directive; edit it by hand"));
    }
    if text_of(last).contains('{') || text_of(last).trim_start().matches(';').count() > 1 {
        return Err(format!("{file}:{line} holds more than this directive; edit it by hand"));
    }
    let name: std::sync::Arc<str> = real.as_str().into();
    let spans = (first..=last).filter_map(|at| starts.get(at)).map(|at| (Span { file: name.clone(), start: *at, end: *at }, format!("{sign} "))).collect();
    edits(snapshot, spans, &mut plan)?;
    plan.title = format!("put {directive} at {file}:{line} behind a comment sign");
    plan.risk = Risk::Medium;
    plan.remarks.push("what the directive was for is then off".into());
    Ok(plan)
}

/// Debian's layout: links from `mods-enabled` to `mods-available`.
fn load_module(snapshot: &Snapshot, case: &Case, cause: &Cause, mut plan: Plan) -> Result<Plan, String> {
    let finding = finding_of(case, cause).ok_or("the place is not known")?;
    let id = finding.object.clone().ok_or("it is not known which module is meant")?;
    let name = id.trim_end_matches("_module");
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
        let needs = text.lines().filter_map(|l| l.strip_prefix("# Depends:")).flat_map(str::split_whitespace).map(str::to_owned);
        todo.extend(needs);
        for ending in ["load", "conf"] {
            if snapshot.exists(&format!("{available}/{module}.{ending}")) == Some(true) {
                plan.steps.push(Step::SymbolicLink {
                    path: format!("{base}/mods-enabled/{module}.{ending}"),
                    before: None,
                    after: Some(format!("../mods-available/{module}.{ending}")),
                });
            }
        }
        done.push(module);
    }
    plan.title = format!("load {}", done.iter().map(|m| format!("mod_{m}")).collect::<Vec<_>>().join(" and "));
    Ok(plan)
}

fn make_directory(snapshot: &Snapshot, case: &Case, cause: &Cause, mut plan: Plan) -> Result<Plan, String> {
    let dir = cause.subject.path.clone().ok_or("the directory is not known")?;
    let mut missing = Vec::new();
    let mut at = dir.clone();
    while snapshot.exists(&at) == Some(false) && missing.len() < 8 {
        missing.push(at.clone());
        at = path::parent(&at).to_owned();
    }
    if snapshot.is_directory(&at) != Some(true) {
        return Err(format!("{at} is no directory"));
    }
    let who = &case.starter;
    plan.steps = missing.iter().rev().map(|d| Step::Directory { path: d.clone(), mode: 0o750, owner: (who.uid, who.gid) }).collect();
    plan.title = format!("make the directory {dir} for {}", who.name);
    Ok(plan)
}

fn move_aside(snapshot: &Snapshot, case: &Case, cause: &Cause, mut plan: Plan) -> Result<Plan, String> {
    let file = cause.subject.path.clone().ok_or("the file is not known")?;
    let stamp = case.now.map_or_else(|| "0".to_owned(), |n| (n / 1_000_000).to_string());
    let to = format!("{file}.aside-{stamp}");
    if snapshot.link_stat(&to).seen().is_some() {
        return Err(format!("{to} is there already"));
    }
    plan.title = format!("move {file} aside");
    plan.steps.push(Step::Rename { from: file.clone(), to });
    // What lies beside it from the same start goes with it.
    let owner = snapshot.link_stat(&file).seen().map(|s| s.uid);
    if cause.code == Code::WrongOwner {
        let dir = path::parent(&file).to_owned();
        let described = &case.service.described;
        for entry in snapshot.list(&dir).seen().unwrap_or_default() {
            let other = path::join(&dir, &entry.name);
            let status = snapshot.link_stat(&other).seen();
            let ours = described.runtime_dir.as_deref().is_some_and(|r| path::clean(r) == path::clean(&dir));
            let same = status.as_ref().is_some_and(|s| Some(s.uid) == owner && matches!(s.kind, FileKind::Socket | FileKind::Regular));
            if ours && same && other != file && !entry.name.contains(".aside-") {
                plan.steps.push(Step::Rename { to: format!("{other}.aside-{stamp}"), from: other });
            }
        }
    }
    Ok(plan)
}

fn give_back(snapshot: &Snapshot, case: &Case, cause: &Cause, mut plan: Plan) -> Result<Plan, String> {
    // Owner and mode are those of what a link leads to.
    let file = cause.subject.path.as_deref().map(|p| snapshot.resolve_links(p)).ok_or("the file is not known")?;
    let Look::Seen(status) = snapshot.stat(&file) else { return Err(format!("{file} cannot be seen")) };
    let who = &case.starter;
    // A start under another account leaves more than one file behind: all that is that account's goes back together.
    let data = case.config.model.data_dir.as_ref().map(|d| d.path.as_str()).filter(|d| file.starts_with(&format!("{d}/")));
    let others = data.map(|dir| left_behind::of(snapshot, dir, |uid| uid == status.uid)).unwrap_or_default();
    let others: Vec<_> = others.into_iter().filter(|(path, _)| *path != file).collect();
    let more = match others.len() {
        0 => String::new(),
        count => format!(" and {count} more of the files around it"),
    };
    plan.title = format!("give {file}{more} back to {}", who.name);
    let step = |path: String, from: (u32, u32)| Step::Owner { path, from, to: (who.uid, from.1) };
    plan.steps.push(step(file, (status.uid, status.gid)));
    plan.steps.extend(others.into_iter().map(|(path, status)| step(path, (status.uid, status.gid))));
    Ok(plan)
}

/// The one missing permission on the one path, to the narrowest class that holds the account.
fn grant(snapshot: &Snapshot, case: &Case, cause: &Cause, mut plan: Plan) -> Result<Plan, String> {
    let file = cause.subject.path.as_deref().map(|p| snapshot.resolve_links(p)).ok_or("the path is not known")?;
    let Look::Seen(status) = snapshot.stat(&file) else { return Err(format!("{file} cannot be seen")) };
    let who = &case.starter;
    let directory = status.kind == FileKind::Directory;
    let writes = cause.title.contains("may not write");
    let bits = match (directory, writes) {
        (true, true) => 0o3,
        (true, false) => 0o1,
        (false, true) => 0o6,
        (false, false) => 0o4,
    };
    let to = if status.uid == who.uid {
        status.mode | bits << 6
    } else if who.groups.contains(&status.gid) || who.gid == status.gid {
        status.mode | bits << 3
    } else if writes {
        // Nobody else shall write there: the group becomes that of the account.
        plan.steps.push(Step::Owner { path: file.clone(), from: (status.uid, status.gid), to: (status.uid, who.gid) });
        status.mode | bits << 3
    } else if directory {
        status.mode | bits
    } else {
        plan.steps.push(Step::Owner { path: file.clone(), from: (status.uid, status.gid), to: (status.uid, who.gid) });
        status.mode | bits << 3
    };
    if to != status.mode {
        plan.steps.push(Step::Mode { path: file.clone(), from: status.mode, to });
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
    plan.steps.push(Step::UnitFile { verb: verb.to_owned(), unit: unit.name.clone() });
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
