use super::ground::Here;
use crate::context::{Context, Origin};
use crate::error::CliError;
use crate::exit::Status;
use crate::pages;
use clap::Args;
use jolly_core::campaign::{self, Fate, Offer, Orders, Outcome, Patience, Refusal};
use jolly_core::case::{Case, Depth, gather};
use jolly_core::chain;
use jolly_core::fix::{FIXES, Unplanned, Wishes, plannable};
use jolly_core::report::{self, FixReport};
use jolly_core::route::Url;
use jolly_core::snapshot::Snapshot;
use std::collections::BTreeMap;
use std::io::{BufRead, IsTerminal, Write};
use std::time::Duration;

/// What would put it right?
///
/// Shows each way as a diff and changes nothing. --apply carries one out under a journal, checks the
/// configuration, starts the service, proves the recovery, and puts back what it changed when that fails.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  jolly-sentinel fix front\n  jolly-sentinel fix front --pick move-port --set \
        port=8081 --apply\n\nExit status: 0 recovered or nothing to fix, 1 still unwell, 2 wrong call, 3 it \
        could not be seen, 4 refused or put back."
)]
pub(crate) struct Arguments {
    /// Service, or the address of a page that fails
    #[arg(value_name = "TARGET")]
    service: String,
    /// Which fixes; the first one when none is named
    #[arg(long, value_name = "ID", value_delimiter = ',')]
    pick: Vec<String>,
    /// A value for a fix, such as port=8081; of a service that is well, a setting and its new value
    #[arg(long, value_name = "NAME=VALUE")]
    set: Vec<String>,
    /// The section of a setting that is changed, as `settings` prints it
    #[arg(long = "in", value_name = "SECTION", requires = "set")]
    section: Option<String>,
    /// Change what points at a listener that moves along with it
    #[arg(long)]
    with_clients: bool,
    /// Log in at servers of data as the applications behind the page do; a server may count that against the
    /// account, or lock it
    #[arg(long)]
    try_logins: bool,
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
    let (values, settings) = given(&arguments.set)?;
    let section = arguments.section.clone();
    let wishes = Wishes { values, with_clients: arguments.with_clients, settings, section };
    let snapshot = context.snapshot();
    if !arguments.service.contains("://") {
        if arguments.try_logins {
            return Err(CliError::usage(
                "--try-logins is about the applications behind a page: name its address",
            ));
        }
        let service = context.service(&snapshot, &arguments.service)?;
        let case = gather(&snapshot, &service, Depth::Diagnosis);
        return mend(context, arguments, &snapshot, &case, None, &wishes);
    }
    let url = super::address(&arguments.service)?;
    let services = context.serving(&snapshot, false);
    let chain = chain::follow_and_log_in(&snapshot, &services, &url, arguments.try_logins);
    if let Some(elsewhere) = &chain.elsewhere {
        return Err(CliError::not_seen(format!(
            "nothing was sent, and nothing can be mended here: {elsewhere}"
        )));
    }
    let cases = report::chain_cases(&snapshot, &services, &chain);
    match cases.iter().find(|case| !report::standing_causes(&snapshot, case).is_empty()) {
        Some(case) => mend(context, arguments, &snapshot, case, Some(&url), &wishes),
        // The page itself says how it stands.
        None => super::diagnose::page(context, &snapshot, &arguments.service, arguments.try_logins),
    }
}

/// Plans for a service, and carries the chosen ones out; with an address, until the page comes.
fn mend(
    context: &Context,
    arguments: &Arguments,
    snapshot: &Snapshot,
    case: &Case,
    url: Option<&Url>,
    wishes: &Wishes,
) -> Result<Status, CliError> {
    let service = case.service;
    let all = context.all_services(snapshot);
    let mut causes = report::standing_causes(snapshot, case);
    if let Some((name, _)) = wishes.settings.first() {
        planned(snapshot, case, wishes, causes.is_empty() && url.is_none(), name)?;
    }
    if causes.is_empty() && url.is_none() {
        causes = report::wished_causes(snapshot, case, wishes);
    }
    let (entry, _) = report::diagnose_case(snapshot, case);
    let mut report = FixReport::new(&service.name);
    report.url = url.map(|u| u.shown.clone());
    report.cause = causes.first().map(|c| c.title.clone());
    let offers = campaign::offers(snapshot, case, &all, &causes, wishes);
    offers.offers.iter().for_each(|o| report.add(&o.plan));
    report.unavailable.clone_from(&offers.unavailable);
    if report.fixes.is_empty()
        && let Some(cause) = causes.first()
    {
        report.by_hand = report::by_hand(service, cause, &context.program());
    }
    let headline = pages::diagnosis::headline(&entry);
    let unwell = report::is_unwell(&entry) || entry.standing().next().is_some();
    if arguments.apply && causes.is_empty() {
        context.emit(&pages::fix::plans(&report, &headline, &context.program()), &report)?;
        return Ok(if report::is_unwell(&entry) { Status::Problem } else { Status::Well });
    }
    if arguments.with_clients && !offers.offers.iter().any(|o| o.plan.moves) {
        return Err(CliError::usage("--with-clients goes with a fix that moves a listener")
            .hint("none of the fixes that are offered does"));
    }
    let chosen = offers.choose(&arguments.pick).map_err(refused)?;
    if !arguments.apply {
        context.emit(&pages::fix::plans(&report, &headline, &context.program()), &report)?;
        return Ok(if unwell { Status::Problem } else { Status::Well });
    }
    if chosen.is_empty() {
        context.emit(&pages::fix::plans(&report, &headline, &context.program()), &report)?;
        let choice = offers.offers.iter().filter(|o| o.rank == 0);
        let why: Vec<String> = choice
            .map(|o| format!("{}: only where it is picked by its id", o.plan.id))
            .chain(report.unavailable.iter().map(|u| format!("{}: {}", u.id, u.reason)))
            .collect();
        let error = CliError::refused("no fix for the first cause can be carried out; nothing was changed");
        return Err(if why.is_empty() { error } else { error.hint(why.join("; ")) });
    }
    let asks = !arguments.yes
        && context.global.format == crate::options::Format::Text
        && std::io::stdin().is_terminal();
    if asks && !confirmed(context, &chosen, &report, &headline)? {
        return Err(CliError::refused("nothing was changed"));
    }
    let ground = Here::about(context, url.cloned());
    let mut writer = context.writer()?;
    writer.prepare().map_err(|e| {
        CliError::refused(e.to_string()).hint("choose another place for the journal with --state-dir")
    })?;
    let orders = Orders {
        no_start: arguments.no_start,
        patience: Patience { wait: arguments.wait, settle: arguments.settle },
    };
    let outcome =
        campaign::carry_out(&ground, &mut writer, snapshot, case, &chosen, orders).map_err(refused)?;
    tell(context, report, outcome)
}

/// What came of it.
fn tell(context: &Context, mut report: FixReport, outcome: Outcome) -> Result<Status, CliError> {
    report.applied = outcome.applied;
    report.undo_id = Some(outcome.id);
    report.verified = outcome.verified;
    report.verification = outcome.verification;
    report.next_cause = outcome.next_cause;
    report.rolled_back = matches!(outcome.fate, Fate::PutBack { whole: true, .. });
    context.emit(&pages::fix::applied(&report, &context.program()), &report)?;
    Ok(match outcome.fate {
        Fate::Helped => Status::Well,
        Fate::Kept | Fate::Unproven => Status::Problem,
        Fate::PutBack { left, .. } => {
            left.iter().for_each(|l| context.say(&format!("not put back: {l}")));
            Status::Refused
        }
    })
}

fn refused(refusal: Refusal) -> CliError {
    let message = refusal.to_string();
    match refusal {
        Refusal::NoSuchFix { offered, .. } if offered.is_empty() => {
            CliError::usage(message).hint("there is none at all")
        }
        Refusal::NoSuchFix { offered, .. } => {
            CliError::usage(message).hint(format!("offered: {}", offered.join(", ")))
        }
        Refusal::NotPossible { .. } | Refusal::InTheWay(_) => CliError::refused(message),
    }
}

/// Values by the names that some fix takes, and settings with theirs.
type Given = (BTreeMap<String, String>, Vec<(String, String)>);

/// The person's own values.
fn given(set: &[String]) -> Result<Given, CliError> {
    let known: Vec<&str> = FIXES.iter().flat_map(|f| f.parameters).copied().collect();
    let (mut values, mut settings) = (BTreeMap::new(), Vec::new());
    for pair in set {
        match pair.split_once('=') {
            Some(("port" | "tls-port", value)) if !value.parse::<u16>().is_ok_and(|p| p > 0) => {
                return Err(CliError::usage(format!("\"{value}\" is not a port, expected 1 to 65535")));
            }
            Some((name, value)) if known.contains(&name) => {
                values.insert(name.to_owned(), value.to_owned());
            }
            Some((name, value)) if !name.trim().is_empty() => {
                settings.push((name.trim().to_owned(), value.to_owned()));
            }
            _ => return Err(CliError::usage(format!("\"{pair}\" is not NAME=VALUE"))),
        }
    }
    Ok((values, settings))
}

/// Whether settings can be changed as wanted.
fn planned(
    snapshot: &Snapshot,
    case: &Case,
    wishes: &Wishes,
    well: bool,
    first: &str,
) -> Result<(), CliError> {
    if !well {
        return Err(CliError::usage(format!("no fix takes \"{first}\""))
            .hint("a setting is changed on a service that is well: put right first what stands in its way"));
    }
    for (name, _) in &wishes.settings {
        let list = |all: Vec<String>| {
            let shown = |one: &String| if one.is_empty() { "\"\"".to_owned() } else { format!("\"{one}\"") };
            all.iter().map(shown).collect::<Vec<_>>().join(", ")
        };
        plannable(snapshot, case, name, wishes.section.as_deref()).map_err(|why| match why {
            Unplanned::Several(all) => {
                CliError::usage(format!("{name} can stand in several sections: say which with --in SECTION"))
                    .hint(list(all))
            }
            Unplanned::List(all) => CliError::usage(format!(
                "{name} stands there several times, and each of them counts: edit it by hand"
            ))
            .hint(all.join(", ")),
            Unplanned::NoSection(all) => {
                CliError::usage("there is no section of this name".to_owned()).hint(list(all))
            }
            Unplanned::Secret => CliError::usage(format!("{name} holds a secret"))
                .hint("others can see what is typed on a command line: edit it by hand"),
        })?;
    }
    Ok(())
}

fn confirmed(
    context: &Context,
    chosen: &[&Offer],
    report: &FixReport,
    headline: &str,
) -> Result<bool, CliError> {
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
