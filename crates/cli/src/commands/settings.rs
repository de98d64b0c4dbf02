use crate::context::Context;
use crate::error::CliError;
use crate::exit::Status;
use crate::pages;
use clap::Args;
use jolly_core::report;

/// Which value is in force, which file and line set it, what did it override?
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  jolly-sentinel settings front Listen ServerName\n  jolly-sentinel settings \
        edge --format json\n\nExit status: 0 listed, 2 wrong call, 3 the configuration could not be read."
)]
pub(crate) struct Arguments {
    /// Service
    #[arg(value_name = "SERVICE")]
    service: String,
    /// Directives; all when none is named
    #[arg(value_name = "NAME")]
    names: Vec<String>,
}

pub(crate) fn run(context: &Context, arguments: &Arguments) -> Result<Status, CliError> {
    let snapshot = context.snapshot();
    let service = context.service(&snapshot, &arguments.service)?;
    let report = report::settings(&snapshot, &service, &arguments.names);
    context.emit(&pages::settings::page(&report), &report)?;
    let unread = report.settings.is_empty() && !report.not_seen.is_empty();
    let unread = unread || (!arguments.names.is_empty() && !report.unset.is_seen());
    Ok(context.bounded(&snapshot, if unread { Status::NotSeen } else { Status::Well }))
}
