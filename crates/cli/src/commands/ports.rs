use super::when;
use crate::context::Context;
use crate::error::CliError;
use crate::exit::Status;
use crate::options::Format;
use crate::pages;
use clap::Args;
use jolly_core::report::{self, PortsRequest};

/// Who holds this port, who wants it, what started the holder?
///
/// Without a port: all listeners of the host, and what its configurations want.
#[derive(Args, Debug)]
#[command(after_help = "Examples:\n  jolly-sentinel ports 80\n  jolly-sentinel ports --free-near 8088\n\n\
        Exit status: 0 no conflict, 1 somebody wants a port that another program holds, 2 wrong call, 3 \
        sockets could not be seen.")]
pub(crate) struct Arguments {
    /// Ports; all when none is named
    #[arg(value_name = "PORT", value_parser = clap::value_parser!(u16).range(1..))]
    ports: Vec<u16>,
    /// Propose ports near this one that nobody holds or wants
    #[arg(long, value_name = "PORT", value_parser = clap::value_parser!(u16).range(1..))]
    free_near: Option<u16>,
}

pub(crate) fn run(context: &Context, arguments: &Arguments) -> Result<Status, CliError> {
    let snapshot = context.snapshot();
    let services = context.all_services(&snapshot);
    let only_free = arguments.free_near.filter(|_| arguments.ports.is_empty());
    let asked: Vec<u16> = only_free.map_or_else(|| arguments.ports.clone(), |p| vec![p]);
    // The table of all listeners has no room for the number of their connections.
    let count_clients = !asked.is_empty() || context.global.format == Format::Json;
    let request = PortsRequest { only: &asked, free_near: arguments.free_near, count_clients };
    let report = report::ports(&snapshot, &services, &request);
    let when = when(context, None)?;
    context.emit(&pages::ports::page(&report, &asked, &when, &context.program()), &report)?;
    let seen = context.host.parts().processes || context.origin == crate::context::Origin::Bundle;
    let status = match (report.ports.iter().any(|p| p.conflict == Some(true)), seen) {
        (true, _) => Status::Problem,
        (_, false) => Status::NotSeen,
        _ => Status::Well,
    };
    Ok(context.bounded(&snapshot, status))
}
