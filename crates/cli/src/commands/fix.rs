use super::verify;
use crate::context::{Context, Origin};
use crate::error::CliError;
use crate::exit::Status;
use crate::pages;
use clap::Args;
use jiff::Timestamp;
use jolly_core::case::{Case, Depth, State, gather};
use jolly_core::finding::Source;
use jolly_core::fix::{self, Plan, Preview, Record, RecordedStep, Stage, Step, Undo};
use jolly_core::rank::Cause;
use jolly_core::report::{self, FixReport, NextCause, Page, Recovery, Unavailable};
use jolly_core::service::Service;
use jolly_core::snapshot::Snapshot;
use std::collections::BTreeMap;
use std::io::{BufRead, IsTerminal, Write};
use std::time::Duration;

/// What would put it right?
///
/// Shows each way as a diff and changes nothing. --apply carries one out under a journal, checks the configuration,
/// starts the service, proves the recovery, and puts everything back when that fails.
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
    #[arg(long, value_name = "TIME", default_value = "30s", value_parser = crate::args::parse_time)]
    wait: Duration,
    /// It must still be up after this long
    #[arg(long, value_name = "TIME", default_value = "3s", value_parser = crate::args::parse_time)]
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
    let chosen: Vec<&Offer> = if arguments.pick.is_empty() {
        plans.first().into_iter().collect()
    } else {
        arguments.pick.iter().filter_map(|id| plans.iter().find(|p| p.plan.id == *id)).collect()
    };
    if chosen.is_empty() {
        context.emit(&pages::fix::plans(&report, &headline, &context.program()), &report)?;
        return Err(CliError::refused("there is no fix that can be carried out"));
    }
    if !arguments.yes
        && context.global.format == crate::args::Format::Text
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
    for (rank, cause) in causes.iter().enumerate() {
        for (at, outcome) in fix::plans(snapshot, case, all, cause, given).into_iter().enumerate() {
            let id = cause.fixes.get(at).copied().unwrap_or_default();
            let unique = if offers.iter().any(|o| o.plan.id == id) { format!("{id}-{}", rank + 1) } else { id.to_owned() };
            match outcome {
                Ok(mut plan) => {
                    // One plan can put several causes right; it is offered once.
                    if offers.iter().any(|o| !(plan.steps.is_empty() && plan.edits.is_empty()) && o.plan.steps == plan.steps && o.plan.edits == plan.edits) {
                        continue;
                    }
                    plan.id = unique;
                    offers.push(Offer { plan, cause: cause.clone() });
                }
                Err(reason) => report.unavailable.push(Unavailable { id: unique, reason }),
            }
        }
    }
    offers
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
    let environment: Vec<(String, String)> = described.environment.clone().into_iter().collect();
    let run = |command: &Option<String>, reverse: Option<String>| {
        command.clone().map(|command| Step::Run { command, environment: environment.clone(), account: described.account.clone(), reverse })
    };
    match running {
        false => run(&described.start, described.stop.clone()).into_iter().collect(),
        true if restart || moved => run(&described.stop, None).into_iter().chain(run(&described.start, None)).collect(),
        true if edits => run(&described.reload, None).into_iter().collect(),
        true => vec![],
    }
}

fn apply(context: &Context, arguments: &Arguments, snapshot: &Snapshot, case: &Case, chosen: &[&Offer], mut report: FixReport) -> Result<Status, CliError> {
    let service = case.service;
    let picked: Vec<&Plan> = chosen.iter().map(|o| &o.plan).collect();
    let mut steps = fix::combined(snapshot, &picked).map_err(CliError::refused)?;
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
    if let Err(error) = fix::apply(&mut writer, record) {
        return Err(CliError::refused(error.to_string()));
    }
    if !starts && (arguments.no_start || tree) {
        report.verified = if tree { Some(Recovery::Partly) } else { None };
        report.next_cause = after.map(|(code, _, title)| NextCause { code, title });
        context.emit(&pages::fix::applied(&report, &context.program()), &report)?;
        return Ok(Status::Problem);
    }
    judge(context, arguments, case, chosen, report, &mut writer, &id, starts)
}

/// Keep or put back: the cause must be gone, and the service no worse.
#[expect(clippy::too_many_arguments, reason = "a judgement rests on all that was done")]
fn judge(
    context: &Context,
    arguments: &Arguments,
    case: &Case,
    chosen: &[&Offer],
    mut report: FixReport,
    writer: &mut jolly_linux::LinuxWriter,
    id: &str,
    started: bool,
) -> Result<Status, CliError> {
    let fresh = context.snapshot();
    let service = context.service(&fresh, &case.service.name)?;
    let verification = verify::settled(context, &service, &Page::default(), arguments.wait, arguments.settle);
    let snapshot = context.snapshot();
    let now = gather(&snapshot, &service, Depth::Diagnosis);
    // Where nothing was started the logs still speak of the time before: only what the host shows counts.
    let stands = |cause: &Cause| started || cause.evidence.iter().any(|e| e.source != Source::Log);
    let left: Vec<Cause> = report::standing_causes(&snapshot, &now).into_iter().filter(stands).collect();
    let persists = chosen.iter().any(|o| left.iter().any(|c| c.code == o.cause.code && same_thing(c, &o.cause)));
    let was_up = matches!(case.state, State::Running | State::Degraded);
    let worse = was_up && verification.verdict == Recovery::NotRecovered;
    let still_down = verification.verdict == Recovery::NotRecovered;
    report.verified = Some(verification.verdict);
    report.verification = Some(verification);
    if (persists && still_down) || worse {
        let undone = fix::undo(writer, id, "rolled-back").map_err(|e| CliError::refused(format!("the fix did not help, and putting it back failed: {e}")))?;
        report.rolled_back = true;
        context.emit(&pages::fix::applied(&report, &context.program()), &report)?;
        undone.left.iter().for_each(|l| context.say(&format!("not put back: {l}")));
        return Ok(Status::Refused);
    }
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
        steps: steps.into_iter().map(|step| RecordedStep { step, stage: Stage::Planned, undo: Undo::default() }).collect(),
    }
}
