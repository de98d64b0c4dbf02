use super::when;
use crate::context::Context;
use crate::error::CliError;
use crate::exit::Status;
use crate::pages;
use clap::Args;
use jolly_core::case::State;
use jolly_core::report;

/// Which server daemons are on this host, in what state, and which would not come back?
///
/// With service names: everything known about them – files, log, account, addresses, unit, release.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  jolly-sentinel survey\n  jolly-sentinel survey front edge --format json\n\n\
        Exit status: 0 well, 1 a wanted service is in trouble, 2 wrong call, 3 nothing could be seen."
)]
pub(crate) struct Arguments {
    /// Services; everything that serves when none is named
    #[arg(value_name = "SERVICE")]
    names: Vec<String>,

    /// Every unit that runs something for good, the plumbing of the system included
    #[arg(long, conflicts_with = "names")]
    all: bool,
}

pub(crate) fn run(context: &Context, arguments: &Arguments) -> Result<Status, CliError> {
    let snapshot = context.snapshot();
    let services = if arguments.names.is_empty() {
        context.serving(&snapshot, arguments.all)
    } else {
        arguments.names.iter().map(|n| context.service(&snapshot, n)).collect::<Result<_, _>>()?
    };
    let report = report::survey(&snapshot, &services);
    let when = when(context, report.observed_at.as_deref())?;
    let single = !arguments.names.is_empty() || context.global.verbose;
    context.emit(&pages::survey::page(&report, &when, &context.program(), single), &report)?;
    let troubled = report.services.iter().any(|s| {
        s.wanted
            && (matches!(s.state, State::Failed | State::Degraded | State::Restarting | State::Stopped)
                || s.cause.is_some())
    });
    // Of a tree or a bundle without processes nothing is said to be well.
    let unseen = !report.services.is_empty() && report.services.iter().all(|s| s.state == State::Unknown);
    let status = if troubled {
        Status::Problem
    } else if unseen {
        Status::NotSeen
    } else {
        Status::Well
    };
    Ok(context.bounded(&snapshot, status))
}
