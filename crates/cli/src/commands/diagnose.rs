use super::when;
use crate::context::{self, Context};
use crate::error::CliError;
use crate::exit::Status;
use crate::pages;
use clap::Args;
use jolly_core::bundle::Earlier;
use jolly_core::case::State;
use jolly_core::chain;
use jolly_core::fix::{left_by, list};
use jolly_core::report;
use jolly_core::snapshot::Snapshot;
use std::path::{Path, PathBuf};

/// Why does it not start, or not answer?
///
/// Without a target: every service that is wanted and not well. The first line is the answer, then the
/// evidence with its origins, then the commands to type next.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  jolly-sentinel diagnose\n  jolly-sentinel diagnose front --format markdown > \
        ticket.md\n  jolly-sentinel diagnose http://front.saltmarsh-ferries.example/book\n\n\
        Exit status: 0 well, 1 a cause was found or a wanted service is down, 2 wrong call, 3 \
        the state could not be seen."
)]
pub(crate) struct Arguments {
    /// Services, or the address of a page; everything that is unwell when none is named
    #[arg(value_name = "TARGET")]
    targets: Vec<String>,

    /// Look at every unit that runs something for good, the plumbing of the system included
    #[arg(long, conflicts_with = "targets")]
    all: bool,

    /// Log in at servers of data as the applications behind a page do; a server may count that against the
    /// account, or lock it
    #[arg(long)]
    try_logins: bool,

    /// Evidence captured earlier: which files hold something else now
    #[arg(long, value_name = "BUNDLE")]
    earlier: Option<PathBuf>,
}

/// What applied changes and a capture know of the files.
fn earlier(context: &Context, capture: Option<&Path>) -> Result<Earlier, CliError> {
    // Captured evidence is of another time or host: this one's journal says nothing of it.
    let records = match context.writer() {
        Ok(writer) if writer.check_journal().is_ok() => list(&writer).0,
        _ => Vec::new(),
    };
    let mut earlier = left_by(&records);
    if let Some(path) = capture {
        let bundle = context::bundle(path)?;
        earlier.add_capture(bundle, &format!("capture {}", path.display()));
    }
    Ok(earlier)
}

pub(crate) fn run(context: &Context, arguments: &Arguments) -> Result<Status, CliError> {
    let snapshot = context.snapshot().with_earlier(earlier(context, arguments.earlier.as_deref())?);
    let all = arguments.targets.is_empty();
    if arguments.targets.iter().any(|t| t.contains("://")) {
        return match arguments.targets.as_slice() {
            [url] => page(context, &snapshot, url, arguments.try_logins),
            _ => Err(CliError::usage("an address is followed by itself: name nothing beside it")),
        };
    }
    if arguments.try_logins {
        return Err(CliError::usage(
            "--try-logins is about the applications behind a page: name its address",
        ));
    }
    let services = if all {
        context.serving(&snapshot, arguments.all)
    } else {
        arguments.targets.iter().map(|n| context.service(&snapshot, n)).collect::<Result<_, _>>()?
    };
    let report = report::diagnose(&snapshot, &services, !all);
    let when = when(context, report.observed_at.as_deref())?;
    let program = context.program();
    let look = look(context, &when, &program, services.len(), None);
    context.emit(&pages::diagnosis::page(&report, &look), &report)?;
    // Where no process can be seen nothing is said to be well.
    let status = match status(&report) {
        Status::Well if !context.host.parts().processes => Status::NotSeen,
        status => status,
    };
    Ok(context.bounded(&snapshot, status))
}

fn look<'a>(
    context: &Context,
    when: &'a pages::when::When,
    program: &'a str,
    looked_at: usize,
    about: Option<&'a str>,
) -> pages::diagnosis::Look<'a> {
    pages::diagnosis::Look {
        when,
        program,
        verbose: context.global.verbose,
        can_apply: context.origin != crate::context::Origin::Bundle,
        looked_at,
        along: "",
        sees_processes: context.host.parts().processes,
        about,
    }
}

/// Follows an address to what answers it.
pub(super) fn page(
    context: &Context,
    snapshot: &Snapshot,
    typed: &str,
    try_logins: bool,
) -> Result<Status, CliError> {
    let url = super::address(typed)?;
    let services = context.serving(snapshot, false);
    let chain = chain::follow_and_log_in(snapshot, &services, &url, try_logins);
    let report = report::diagnose_chain(snapshot, &services, &chain);
    let when = when(context, report.observed_at.as_deref())?;
    let program = context.program();
    let along = if try_logins { " --try-logins" } else { "" };
    let look =
        pages::diagnosis::Look { along, ..look(context, &when, &program, services.len(), Some(&url.shown)) };
    context.emit(&pages::chain::page(&report, &chain, &url, &look), &report)?;
    let status = if chain.is_well() {
        Status::Well
    } else if chain.elsewhere.is_some() {
        Status::NotSeen
    } else if chain.is_broken()
        || !chain.faults.is_empty()
        || chain.answer.is_some()
        || !report.services.is_empty()
    {
        Status::Problem
    } else {
        Status::NotSeen
    };
    Ok(context.bounded(snapshot, status))
}

fn status(report: &report::Diagnosis) -> Status {
    let caused = report.services.iter().any(|s| s.standing().next().is_some() && s.state != State::Unknown);
    let unwell = report.services.iter().any(report::is_unwell);
    let unseen = !report.services.is_empty() && report.services.iter().all(|s| s.state == State::Unknown);
    match (caused || unwell, unseen) {
        (true, _) => Status::Problem,
        (_, true) if report.services.iter().any(|s| s.standing().next().is_some()) => Status::Problem,
        (_, true) => Status::NotSeen,
        _ => Status::Well,
    }
}
