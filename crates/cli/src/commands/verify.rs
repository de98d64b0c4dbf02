use crate::context::Context;
use crate::error::CliError;
use crate::exit::Status;
use crate::options::parse_time;
use crate::pages;
use clap::Args;
use jolly_core::case::State;
use jolly_core::report::{self, Page, Recovery, VerifyReport};
use jolly_core::service::Service;
use std::time::{Duration, Instant};

/// Has it really recovered?
///
/// Process, account, ports, the answer in its protocol, the page that was complained about, the log since this start,
/// and whether it is still the same process some seconds later.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  jolly-sentinel verify front --wait 60s\n  jolly-sentinel verify front --url http://front.saltmarsh-ferries.example/ --expect Timetable\n\nExit status: 0 recovered, 1 not or only partly recovered, 2 wrong call, 3 it could not be seen."
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
    let page = Page { url: arguments.url.clone(), status: arguments.status, expect: arguments.expect.clone() };
    loop {
        let report = settled(context, &service, &page, arguments.wait, arguments.settle);
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

/// Looks until it is well or the patience is used up, then once more after it had time to fall over.
pub(crate) fn settled(context: &Context, service: &Service, page: &Page, wait: Duration, settle: Duration) -> VerifyReport {
    let began = Instant::now();
    let mut told = false;
    let first = loop {
        let look = report::verify(&context.snapshot(), service, page, None);
        let hopeless = look.state == State::Failed || (look.state == State::Stopped && began.elapsed() > Duration::from_secs(2));
        let up = look.verdict != Recovery::NotRecovered && !(look.verdict == Recovery::Partly && began.elapsed() < wait);
        if up || hopeless || began.elapsed() >= wait {
            break look;
        }
        if !told && began.elapsed() > Duration::from_secs(1) {
            told = true;
            context.say(&format!("waiting up to {} s for {} (interrupt with Ctrl-C)", wait.as_secs(), service.name));
        }
        std::thread::sleep(Duration::from_millis(150));
    };
    let Some(pid) =
        first.main_pid.filter(|_| first.verdict != Recovery::NotRecovered && !settle.is_zero() && context.host.parts().clock && context.host.parts().processes)
    else {
        return first;
    };
    if context.origin != crate::context::Origin::Live {
        return first;
    }
    std::thread::sleep(settle);
    report::verify(&context.snapshot(), service, page, Some(pid))
}
