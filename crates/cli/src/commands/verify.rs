use super::ground::Here;
use crate::context::Context;
use crate::error::CliError;
use crate::exit::Status;
use crate::options::parse_time;
use crate::pages;
use clap::Args;
use jolly_core::campaign::{Patience, settled};
use jolly_core::case::State;
use jolly_core::chain;
use jolly_core::report::{self, CheckOutcome, Complaint, Recovery, VerifyReport};
use jolly_core::route::Url;
use std::time::Duration;

/// Has it really recovered?
///
/// Process, account, ports, the answer in its protocol, the page that was complained about, the log since
/// this start, and whether it is still the same process some seconds later.
#[derive(Args, Debug)]
#[command(after_help = "Examples:\n  jolly-sentinel verify front --wait 60s\n  jolly-sentinel verify \
        http://front.saltmarsh-ferries.example/ --expect Timetable\n\n\
        Exit status: 0 recovered, 1 not or only partly recovered, 2 wrong call, 3 it could not be seen.")]
pub(crate) struct Arguments {
    /// Service, or the address of a page that must answer again
    #[arg(value_name = "TARGET")]
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
    let snapshot = context.snapshot();
    let by_url = arguments.service.contains("://");
    let (service, url) = if by_url {
        if arguments.url.is_some() {
            return Err(CliError::usage("the address is given twice: leave --url out"));
        }
        let url = super::address(&arguments.service)?;
        let services = context.serving(&snapshot, false);
        let chain = chain::follow(&snapshot, &services, &url);
        if let Some(elsewhere) = &chain.elsewhere {
            return Err(CliError::not_seen(format!("nothing was sent: {elsewhere}")));
        }
        // Whoever is asked first answers for the page; where nobody is, the way itself says how it stands.
        match chain.through.first().or(chain.faults.first().map(|(at, _)| at)) {
            Some(at) => (services[*at].clone(), Some(url)),
            None => return super::diagnose::page(context, &snapshot, &arguments.service, false),
        }
    } else {
        (context.service(&snapshot, &arguments.service)?, None)
    };
    let asked = url.as_ref().map(Url::to_string).or_else(|| arguments.url.clone());
    let page = Complaint { url: asked, status: arguments.status, expect: arguments.expect.clone() };
    let ground = Here::about(context, url.clone());
    let patience = Patience { wait: arguments.wait, settle: arguments.settle };
    loop {
        let mut report = settled(&ground, &service, &page, patience);
        let failed = report.checks.iter().any(|c| c.name == "page" && c.outcome == CheckOutcome::Fail);
        if let Some(url) = url.as_ref().filter(|_| failed) {
            let snapshot = context.snapshot();
            let services = context.serving(&snapshot, false);
            let chain = chain::follow(&snapshot, &services, url);
            let links = report::diagnose_chain(&snapshot, &services, &chain).chain;
            report.add_way(&links.unwrap_or_default());
        }
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
