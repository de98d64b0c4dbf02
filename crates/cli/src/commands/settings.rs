use crate::context::Context;
use crate::error::CliError;
use crate::exit::Status;
use crate::options::Global;
use crate::pages;
use clap::Args;
use jolly_core::report;
use std::path::PathBuf;

/// Which value is in force, which file and line set it, what did it override?
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  jolly-sentinel settings front Listen ServerName\n  jolly-sentinel settings \
        store --changed\n  jolly-sentinel settings store --where port\n  jolly-sentinel settings store \
        --compare other-host.json\n\nExit status: 0 listed, 2 wrong call, 3 the configuration could not be \
        read."
)]
pub(crate) struct Arguments {
    /// Service
    #[arg(value_name = "SERVICE")]
    service: String,
    /// Directives; all when none is named
    #[arg(value_name = "NAME")]
    names: Vec<String>,
    /// Only what is another value than the built-in one; where that is not known, what is set
    #[arg(long)]
    changed: bool,
    /// Every line that names this setting, in reading order, whether it counts or not
    #[arg(long = "where", value_name = "NAME", conflicts_with_all = ["names", "changed", "compare"])]
    place: Option<String>,
    /// What is not the same on another host, by evidence that was captured there
    #[arg(long, value_name = "BUNDLE", conflicts_with = "changed")]
    compare: Option<PathBuf>,
}

pub(crate) fn run(context: &Context, arguments: &Arguments) -> Result<Status, CliError> {
    let snapshot = context.snapshot();
    let service = context.service(&snapshot, &arguments.service)?;
    let mut report = match &arguments.place {
        Some(name) => report::mentions(&snapshot, &service, name),
        None => report::settings(&snapshot, &service, &arguments.names),
    };
    if let Some(bundle) = &arguments.compare {
        let global = Global { root: None, from: Some(bundle.clone()), ..context.global.clone() };
        let other = Context::new(&global)?;
        let there = other.snapshot();
        // The same name there, or else the only service of its kind.
        let named = other.service(&there, &service.name);
        let found = named.or_else(|_| other.service(&there, service.kind.name()))?;
        if found.kind.name() != service.kind.name() {
            let why =
                format!("{} is {} there, and {} here", found.name, found.kind.name(), service.kind.name());
            return Err(CliError::usage(why));
        }
        let theirs = report::settings(&there, &found, &arguments.names);
        report::compare(&mut report, &theirs, service.kind);
        let unseen = theirs.not_seen.into_iter();
        report.not_seen.extend(unseen.map(|one| format!("there: {}", one.text()).into()));
    }
    if arguments.changed {
        report::only_changed(&mut report);
    }
    context.emit(&pages::settings::page(&report), &report)?;
    let unread = report.settings.is_empty() && !report.not_seen.is_empty();
    let asked = !arguments.names.is_empty() || arguments.place.is_some() || arguments.compare.is_some();
    let unread = unread || asked && !report.unset.is_seen();
    Ok(context.bounded(&snapshot, if unread { Status::NotSeen } else { Status::Well }))
}
