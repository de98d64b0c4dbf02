use super::when;
use crate::context::Context;
use crate::error::CliError;
use crate::exit::Status;
use crate::options::parse_time;
use crate::pages;
use clap::Args;
use jiff::Timestamp;
use jolly_core::report;

/// When was it started, stopped, refused, killed? What did the last start attempt say?
///
/// Put together from the service manager's record, the journal and the daemon's own log.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  jolly-sentinel attempts front --last 1\n  jolly-sentinel attempts front \
        --since 2h --failed\n  jolly-sentinel attempts front --follow\n\n\
        Exit status: 0 listed, or the followed start is ready; 1 the followed start failed or is stuck, 2 \
        wrong call, 3 no log could be read."
)]
pub(crate) struct Arguments {
    /// Service
    #[arg(value_name = "SERVICE")]
    service: String,
    /// At most this many, newest first
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..))]
    last: Option<u32>,
    /// None that began earlier: a duration such as 2h, or a time such as 2031-04-02T06:00:00Z
    #[arg(long, value_name = "TIME")]
    since: Option<String>,
    /// Only those that failed, or whose run ended badly
    #[arg(long)]
    failed: bool,
    /// Show a start as it happens, line by line, until it is ready, failed or stuck
    #[arg(long, conflicts_with_all = ["last", "since", "failed"])]
    follow: bool,
}

pub(crate) fn run(context: &Context, arguments: &Arguments) -> Result<Status, CliError> {
    let snapshot = context.snapshot();
    let service = context.service(&snapshot, &arguments.service)?;
    if arguments.follow {
        return super::follow::run(context, service);
    }
    let since = arguments.since.as_deref().map(|s| since(&snapshot, s)).transpose()?;
    let last = arguments.last.map(|n| usize::try_from(n).unwrap_or(1));
    let report = report::attempts(&snapshot, &service, last, since, arguments.failed);
    let when = when(context, None)?;
    context.emit(&pages::attempts::page(&report, &when, &context.program()), &report)?;
    let unread = report.attempts.is_empty() && !report.could_list;
    Ok(context.bounded(&snapshot, if unread { Status::NotSeen } else { Status::Well }))
}

/// Microseconds since the epoch.
fn since(snapshot: &jolly_core::snapshot::Snapshot, text: &str) -> Result<i64, CliError> {
    if let Ok(stamp) = text.parse::<Timestamp>() {
        return Ok(stamp.as_microsecond());
    }
    let back = parse_time(text).map_err(|_| {
        CliError::usage(format!(
            "\"{text}\" is not a time; expected, for example, 2h or 2031-04-02T06:00:00Z"
        ))
    })?;
    let now =
        snapshot.now().ok_or_else(|| CliError::usage("without a clock only a full time can be given"))?;
    Ok(now - i64::try_from(back.as_micros()).unwrap_or(0))
}
