use super::undo::Present;
use super::verify;
use crate::context::{Context, Origin};
use crate::error::CliError;
use crate::exit::Status;
use crate::pages;
use clap::Args;
use jiff::Timestamp;
use jolly_core::case::{Case, Depth, State, gather};
use jolly_core::code::Code;
use jolly_core::finding::Source;
use jolly_core::fix::{self, CommandLine, Plan, Preview, Purpose, Record, RunMark, Step, Way};
use jolly_core::rank::{Cause, Certainty, Relation};
use jolly_core::report::{self, FixReport, NextCause, Page, Recovery, Unavailable};
use jolly_core::service::Service;
use jolly_core::snapshot::Snapshot;
use std::collections::BTreeMap;
use std::io::{BufRead, IsTerminal, Write};
use std::time::Duration;

/// What would put it right?
///
/// Shows each way as a diff and changes nothing. --apply carries one out under a journal, checks the configuration,
/// starts the service, proves the recovery, and puts back what it changed when that fails.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  jolly-sentinel fix front\n  jolly-sentinel fix front --pick move-port --set port=8081 --apply\n\nExit status: 0 recovered or nothing to fix, 1 still unwell, 2 wrong call, 3 it could not be seen, 4 refused or put back."
)]
pub(crate) struct Arguments {
    /// Service
    #[arg(value_name = "SERVICE")]
    service: String,
    /// Which fixes; the first one when none is named
    #[arg(long, value_name = "ID", value_delimiter = ',')]
    pick: Vec<String>,
    /// A value for a fix, such as port=8081
    #[arg(long, value_name = "NAME=VALUE")]
    set: Vec<String>,
    /// Carry it out and verify
    #[arg(long)]
    apply: bool,
    /// Change files only; start and reload nothing
    #[arg(long, requires = "apply")]
    no_start: bool,
    /// Do not ask
    #[arg(long)]
    yes: bool,
    /// How long a slow start may take
    #[arg(long, value_name = "TIME", default_value = "30s", value_parser = crate::options::parse_time)]
    wait: Duration,
    /// It must still be up after this long
    #[arg(long, value_name = "TIME", default_value = "3s", value_parser = crate::options::parse_time)]
    settle: Duration,
}

pub(crate) fn run(context: &Context, arguments: &Arguments) -> Result<Status, CliError> {
    if arguments.apply && context.origin == Origin::Bundle {
        return Err(CliError::usage("captured evidence cannot be changed: --apply needs the host itself"));
    }
    let given = given(&arguments.set)?;
    let snapshot = context.snapshot();
    let service = context.service(&snapshot, &arguments.service)?;
    let all = context.all_services(&snapshot);
    let case = gather(&snapshot, &service, Depth::Diagnosis);
    let causes = report::standing_causes(&snapshot, &case);
    let (entry, _) = report::diagnose_case(&snapshot, &case);
    let mut report = FixReport::new(&service.name);
    report.cause = causes.first().map(|c| c.title.clone());
    let plans = offered(&snapshot, &case, &all, &causes, &given, &mut report);
    plans.iter().for_each(|p| report.add(&p.plan));
    let headline = pages::diagnosis::headline(&entry);
    if !arguments.apply {
        let unwell = report::is_unwell(&entry) || !entry.causes.is_empty();
        check_picks(&arguments.pick, &plans, &report)?;
        context.emit(&pages::fix::plans(&report, &headline, &context.program()), &report)?;
        return Ok(if unwell { Status::Problem } else { Status::Well });
    }
    if causes.is_empty() {
        context.emit(&pages::fix::plans(&report, &headline, &context.program()), &report)?;
        return Ok(if report::is_unwell(&entry) { Status::Problem } else { Status::Well });
    }
    check_picks(&arguments.pick, &plans, &report)?;
    // Without a pick only what is for the first cause is carried out: the others may follow from it.
    let chosen: Vec<&Offer> = if arguments.pick.is_empty() {
        plans.iter().find(|p| p.rank == 0).into_iter().collect()
    } else {
        arguments.pick.iter().filter_map(|id| plans.iter().find(|p| p.plan.id == *id)).collect()
    };
    if chosen.is_empty() {
        context.emit(&pages::fix::plans(&report, &headline, &context.program()), &report)?;
        let why: Vec<String> = report.unavailable.iter().map(|u| format!("{}: {}", u.id, u.reason)).collect();
        let error = CliError::refused("there is no fix for the first cause that can be carried out; nothing was changed");
        return Err(if why.is_empty() { error } else { error.hint(why.join("; ")) });
    }
    if !arguments.yes
        && context.global.format == crate::options::Format::Text
        && std::io::stdin().is_terminal()
        && !confirmed(context, &chosen, &report, &headline)?
    {
        return Err(CliError::refused("nothing was changed"));
    }
    apply(context, arguments, &snapshot, &case, &chosen, report)
}

/// A plan with the cause it is for.
struct Offer {
    plan: Plan,
    cause: Cause,
    /// Rank of the cause, from 0.
    rank: usize,
}

fn given(set: &[String]) -> Result<BTreeMap<String, String>, CliError> {
    set.iter()
        .map(|pair| match pair.split_once('=') {
            Some(("port", value)) if value.parse::<u16>().is_ok_and(|p| p > 0) => Ok(("port".to_owned(), value.to_owned())),
            Some(("port", value)) => Err(CliError::usage(format!("{value:?} is no port, expected 1 to 65535"))),
            Some((name, _)) => Err(CliError::usage(format!("no fix takes {name:?}")).hint("known: port")),
            None => Err(CliError::usage(format!("{pair:?} is no NAME=VALUE"))),
        })
        .collect()
}

/// Plans for every cause that is sure enough; ids stay unique.
fn offered(snapshot: &Snapshot, case: &Case, all: &[Service], causes: &[Cause], given: &BTreeMap<String, String>, report: &mut FixReport) -> Vec<Offer> {
    let mut offers: Vec<Offer> = Vec::new();
    // What follows from an earlier cause goes with it: nothing is offered for that.
    for (rank, cause) in causes.iter().enumerate().filter(|(_, c)| c.relation != Relation::Consequence) {
        for (at, outcome) in fix::plans(snapshot, case, all, cause, given).into_iter().enumerate() {
            let id = cause.fixes.get(at).copied().unwrap_or_default();
            let unique = if offers.iter().any(|o| o.plan.id == id) { format!("{id}-{}", rank + 1) } else { id.to_owned() };
            match outcome.and_then(|plan| sound(snapshot, case, plan)) {
                Ok(mut plan) => {
                    // One plan can put several causes right; it is offered once.
                    if offers.iter().any(|o| !(plan.steps.is_empty() && plan.edits.is_empty()) && o.plan.steps == plan.steps && o.plan.edits == plan.edits) {
                        continue;
                    }
                    plan.id = unique;
                    offers.push(Offer { plan, cause: cause.clone(), rank });
                }
                Err(reason) => report.unavailable.push(Unavailable { id: unique, reason }),
            }
        }
    }
    offers
}

/// A plan whose edits leave a configuration that can still be read: a section that would be open or closed twice is refused
/// before anything is written.
fn sound(snapshot: &Snapshot, case: &Case, plan: Plan) -> Result<Plan, String> {
    if plan.edits.is_empty() {
        return Ok(plan);
    }
    let steps = fix::combined(snapshot, case, &[&plan])?;
    let preview = Preview::new(snapshot.host(), &steps);
    let (_, read) = report::lint_configuration(&Snapshot::new(&preview), case.service.kind, &case.service.instance);
    let broken = |config: &jolly_core::config::Configuration| config.first_error().filter(|f| f.code == Code::ConfigSyntax).map(|f| f.message.clone());
    match broken(&read) {
        Some(after) if broken(&case.config).is_none_or(|before| before != after) => Err(format!("the configuration could not be read afterwards: {after}")),
        _ if case.config.readable && !read.readable => Err("the configuration could not be read afterwards".into()),
        _ => Ok(plan),
    }
}

fn check_picks(picks: &[String], plans: &[Offer], report: &FixReport) -> Result<(), CliError> {
    for id in picks {
        if let Some(no) = report.unavailable.iter().find(|u| u.id == *id) {
            return Err(CliError::refused(format!("{id} is not possible here: {}", no.reason)));
        }
        if !plans.iter().any(|p| p.plan.id == *id) {
            let known = plans.iter().map(|p| p.plan.id.as_str()).collect::<Vec<_>>().join(", ");
            return Err(CliError::usage(format!("there is no fix {id} for this")).hint(if known.is_empty() {
                "there is none at all".into()
            } else {
                format!("offered: {known}")
            }));
        }
    }
    Ok(())
}

fn confirmed(context: &Context, chosen: &[&Offer], report: &FixReport, headline: &str) -> Result<bool, CliError> {
    let mut shown = report.clone();
    shown.fixes.retain(|f| chosen.iter().any(|c| c.plan.id == f.id));
    context.write(&pages::fix::plans(&shown, headline, &context.program()).to_text(100, false))?;
    let mut err = std::io::stderr();
    err.write_all(b"\nCarry this out now? [y/N] ")?;
    err.flush()?;
    let mut line = String::new();
    std::io::stdin().lock().read_line(&mut line)?;
    Ok(matches!(line.trim(), "y" | "Y" | "yes"))
}

/// The step that brings the service up with what was changed.
fn start_steps(case: &Case, chosen: &[&Offer]) -> Vec<Step> {
    let running = matches!(case.state, State::Running | State::Degraded);
    let restart = chosen.iter().any(|o| o.plan.id.starts_with("restart"));
    let edits = chosen.iter().any(|o| !o.plan.edits.is_empty() || o.plan.steps.iter().any(|s| matches!(s, Step::SymbolicLink { .. })));
    let moved = chosen.iter().any(|o| o.plan.id.starts_with("move-port") || o.plan.id.starts_with("load-module"));
    if let Some(unit) = case.service.unit_name() {
        let unit = unit.to_owned();
        let verb = match (running, restart || moved || case.state == State::Degraded, edits) {
            (false, ..) => "start",
            (true, true, _) => "restart",
            (true, false, true) => "reload",
            (true, false, false) => return vec![],
        };
        let mut steps = Vec::new();
        if !running && case.manager.as_ref().seen().is_some_and(|m| m.active_state == "failed" || m.restarts > 0) {
            steps.push(Step::ResetFailed { unit: unit.clone() });
        }
        steps.push(Step::Job { verb: verb.into(), unit });
        return steps;
    }
    let described = &case.service.described;
    let run = |purpose: Purpose, command: &Option<String>| {
        command.clone().map(|command| Step::Run {
            purpose,
            shown: jolly_core::host::mask_command(&command),
            line: CommandLine { command, environment: described.environment.clone().into_iter().collect(), account: described.account.clone() },
        })
    };
    match running {
        false => run(Purpose::Start, &described.start).into_iter().collect(),
        true if restart || moved => run(Purpose::Stop, &described.stop).into_iter().chain(run(Purpose::Start, &described.start)).collect(),
        true if edits => run(Purpose::Reload, &described.reload).into_iter().collect(),
        true => vec![],
    }
}

fn apply(context: &Context, arguments: &Arguments, snapshot: &Snapshot, case: &Case, chosen: &[&Offer], mut report: FixReport) -> Result<Status, CliError> {
    let service = case.service;
    let picked: Vec<&Plan> = chosen.iter().map(|o| &o.plan).collect();
    let mut steps = fix::combined(snapshot, case, &picked).map_err(CliError::refused)?;
    // Check, then change: the configuration as it would be is read before anything is touched.
    let preview = Preview::new(context.host.as_ref(), &steps);
    let (checked, read) = report::lint_configuration(&Snapshot::new(&preview), service.kind, &service.instance);
    let before = case.config.first_error().map(|f| (f.code, f.place.clone()));
    let after = read.first_error().map(|f| (f.code, f.place.clone(), f.message.clone()));
    if let Some((code, place, message)) = &after {
        let new = before.is_none();
        let same = before.as_ref().is_some_and(|(c, p)| c == code && p == place) && chosen.iter().any(|o| o.cause.code == *code);
        if new || same {
            return Err(CliError::refused(format!("the configuration would be refused afterwards: {message}; nothing was changed")));
        }
    }
    let may_start = after.is_none() && checked.verdict != report::Verdict::Unknown;
    let tree = context.origin == Origin::Tree;
    let start = if arguments.no_start || tree || !may_start { vec![] } else { start_steps(case, chosen) };
    let starts = !start.is_empty();
    steps.extend(start);
    let mut writer = context.writer()?;
    writer.prepare().map_err(|e| CliError::refused(e.to_string()).hint("choose another place for the journal with --state-dir"))?;
    let record = record(snapshot, case, chosen, steps);
    let id = record.id.clone();
    report.applied = chosen.iter().map(|o| o.plan.id.clone()).collect();
    report.undo_id = Some(id.clone());
    let edited: Vec<String> =
        record.steps.iter().filter_map(|s| if let Step::Edit { target, .. } = &s.step { Some(target.path.clone()) } else { None }).collect();
    let commands = Present { context };
    let record = fix::apply(&mut writer, record, &commands).map_err(|e| CliError::refused(e.to_string()))?;
    if !starts && (arguments.no_start || tree) {
        report.verified = if tree { Some(Recovery::Partly) } else { None };
        report.next_cause = after.map(|(code, _, title)| NextCause { code, title });
        context.emit(&pages::fix::applied(&report, &context.program()), &report)?;
        return Ok(Status::Problem);
    }
    let done = Done { record, edited, started: starts, causes: report::standing_causes(snapshot, case) };
    judge(context, arguments, case, chosen, report, &mut writer, done)
}

/// What was carried out, and what stood in the way before.
struct Done {
    record: Record,
    edited: Vec<String>,
    started: bool,
    causes: Vec<Cause>,
}

/// Keep or put back: the cause must be gone, and the service no worse.
fn judge(
    context: &Context,
    arguments: &Arguments,
    case: &Case,
    chosen: &[&Offer],
    mut report: FixReport,
    writer: &mut jolly_linux::LinuxWriter,
    done: Done,
) -> Result<Status, CliError> {
    let fresh = context.snapshot();
    let service = context.service(&fresh, &case.service.name)?;
    let verification = verify::settled(context, &service, &Page::default(), arguments.wait, arguments.settle);
    let snapshot = context.snapshot();
    let now = gather(&snapshot, &service, Depth::Diagnosis);
    // Where nothing was started the logs still speak of the time before: only what the host shows counts.
    let stands = |cause: &Cause| done.started || cause.evidence.iter().any(|e| e.source != Source::Log);
    let left: Vec<Cause> = report::standing_causes(&snapshot, &now).into_iter().filter(stands).collect();
    let persists = chosen.iter().any(|o| left.iter().any(|c| c.code == o.cause.code && same_thing(c, &o.cause)));
    let was_up = matches!(case.state, State::Running | State::Degraded);
    let still_down = verification.verdict == Recovery::NotRecovered;
    let worse = still_down && (was_up || is_worse(case, &now, &left, &done));
    report.verified = Some(verification.verdict);
    report.verification = Some(verification);
    let id = done.record.id.clone();
    if (persists && still_down) || worse {
        let commands = Present { context };
        let undone = fix::undo(writer, &id, Way::RollBack, &commands)
            .map_err(|e| CliError::refused(format!("the fix did not help, and putting it back failed: {e}; see undo {id}")))?;
        report.rolled_back = undone.failed.is_empty();
        context.emit(&pages::fix::applied(&report, &context.program()), &report)?;
        undone.left.iter().chain(&undone.failed).for_each(|l| context.say(&format!("not put back: {l}")));
        return Ok(Status::Refused);
    }
    let main = now.processes.first().filter(|_| service.unit.is_none());
    fix::keep(writer, done.record, main.map(|p| RunMark { pid: p.brief.pid, start_ticks: p.brief.start_ticks }));
    let moved_public = chosen.iter().any(|o| o.plan.id.starts_with("move-port") && o.cause.subject.port.is_some_and(|p| p < 1024));
    if report.verified == Some(Recovery::Recovered) && moved_public {
        report.verified = Some(Recovery::Partly);
    }
    if report.verified != Some(Recovery::Recovered) {
        report.next_cause = left.first().map(|c| NextCause { code: c.code, title: c.title.clone() });
    }
    context.emit(&pages::fix::applied(&report, &context.program()), &report)?;
    let well = report.verified == Some(Recovery::Recovered) || (moved_public && !still_down && report.next_cause.is_none());
    Ok(if well { Status::Well } else { Status::Problem })
}

/// Whether the change made it worse: the configuration cannot be read any more, there is a cause at a file that it just edited,
/// or more stands in the way than before.
fn is_worse(case: &Case, now: &Case, left: &[Cause], done: &Done) -> bool {
    let known = |c: &Cause| done.causes.iter().any(|b| b.code == c.code && same_thing(b, c));
    let sure = |all: &[Cause]| all.iter().filter(|c| c.certainty == Certainty::Certain && c.relation != Relation::Consequence).count();
    let unreadable = case.config.readable && !now.config.readable;
    let broken = left.iter().any(|c| c.code == Code::ConfigSyntax && !known(c));
    let at_edit = left.iter().any(|c| !known(c) && c.subject.file.as_ref().is_some_and(|f| done.edited.contains(f)));
    unreadable || broken || at_edit || sure(left) > sure(&done.causes)
}

/// The same cause about the same thing; a holder that came back counts, too.
fn same_thing(a: &Cause, b: &Cause) -> bool {
    match (a.subject.port, b.subject.port) {
        (Some(x), Some(y)) => x == y,
        _ => a.subject.path == b.subject.path && a.subject.file == b.subject.file && a.subject.line == b.subject.line,
    }
}

fn record(snapshot: &Snapshot, case: &Case, chosen: &[&Offer], steps: Vec<Step>) -> Record {
    let now = snapshot.now().or_else(|| Some(Timestamp::now().as_microsecond())).unwrap_or(0);
    let stamp = Timestamp::from_microsecond(now).unwrap_or(Timestamp::UNIX_EPOCH);
    let name: String = case.service.name.chars().map(|c| if c.is_ascii_alphanumeric() || c == '-' { c } else { '-' }).collect();
    let id = format!("{}-{name}", stamp.strftime("%Y%m%d-%H%M%S-%3f"));
    Record {
        schema: report::schema("change"),
        id,
        service: case.service.name.clone(),
        fixes: chosen.iter().map(|o| o.plan.id.clone()).collect(),
        title: chosen.iter().map(|o| o.plan.title.clone()).collect::<Vec<_>>().join("; "),
        began: jolly_core::log::format_time(now, &case.zone),
        outcome: "begun".into(),
        was_running: match case.state {
            State::Running | State::Degraded => Some(true),
            State::Unknown => None,
            _ => Some(false),
        },
        started: None,
        steps: steps.into_iter().map(Into::into).collect(),
    }
}
