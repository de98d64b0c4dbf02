use super::ground::Here;
use crate::context::Context;
use crate::error::CliError;
use crate::exit::Status;
use crate::options::parse_time;
use crate::pages;
use clap::Args;
use jolly_core::campaign::{Patience, settled};
use jolly_core::case::State;
use jolly_core::report::{Complaint, Recovery, VerifyReport};
use std::time::Duration;

/// Has it really recovered?
///
/// Process, account, ports, the answer in its protocol, the page that was complained about, the log since
/// this start, and whether it is still the same process some seconds later.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  jolly-sentinel verify front --wait 60s\n  jolly-sentinel verify front --url \
        http://front.saltmarsh-ferries.example/ --expect Timetable\n\n\
        Exit status: 0 recovered, 1 not or only partly recovered, 2 wrong call, 3 it could not be seen."
)]
pub(crate) struct Arguments {
    /// Service
    #[arg(value_name = "SERVICE")]
    service: String,
    /// Wait this long for a slow start
    #[arg(long, value_name = "TIME", default_value = "0s", value_parser = parse_time)]
    wait: Duration,
    /// It must still be up after this long
    #[arg(long, value_name = "TIME", default_value = "3s", value_parser = parse_time)]
    settle: Duration,
    /// Look again and again until interrupted
    #[arg(long)]
    watch: bool,
    /// The address that was complained about
    #[arg(long, value_name = "URL")]
    url: Option<String>,
    /// The status it should answer with
    #[arg(long, value_name = "STATUS", value_parser = clap::value_parser!(u16).range(100..600))]
    status: Option<u16>,
    /// Text that the page should hold
    #[arg(long, value_name = "TEXT")]
    expect: Option<String>,
}

pub(crate) fn run(context: &Context, arguments: &Arguments) -> Result<Status, CliError> {
    let service = context.service(&context.snapshot(), &arguments.service)?;
    let page =
        Complaint { url: arguments.url.clone(), status: arguments.status, expect: arguments.expect.clone() };
    let ground = Here::new(context);
    let patience = Patience { wait: arguments.wait, settle: arguments.settle };
    loop {
        let report = settled(&ground, &service, &page, patience);
        context.emit(&pages::verify::page(&report, &context.program()), &report)?;
        if !arguments.watch {
            return Ok(status(&report));
        }
        std::thread::sleep(Duration::from_secs(2));
    }
}

fn status(report: &VerifyReport) -> Status {
    match (report.verdict, report.state) {
        (Recovery::Recovered, _) => Status::Well,
        (_, State::Unknown) => Status::NotSeen,
        _ if report.is_unseen() => Status::NotSeen,
        _ => Status::Problem,
    }
}
