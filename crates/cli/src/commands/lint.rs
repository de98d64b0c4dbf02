use crate::context::{Context, Origin, json};
use crate::error::CliError;
use crate::exit::Status;
use crate::options::Format;
use crate::pages;
use crate::pages::lint::Correct;
use clap::Args;
use jolly_core::kinds::{self, Instance};
use jolly_core::report::{self, Verdict};
use jolly_core::snapshot::Snapshot;
use jolly_core::trust::{Last, Paths, trusted, walk};
use std::path::Path;

/// Would the daemon accept this configuration, and if not, which line and what instead?
///
/// Judged by our own reading: directives, places, values, files, accounts and names, as the daemon reads
/// them. Nothing is started, and the daemon is not asked.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  jolly-sentinel lint front\n  jolly-sentinel lint --kind nginx --config \
        /etc/nginx/nginx.conf --format sarif\n\n\
        Exit status: 0 accepted (warnings included), 1 it would be refused, 2 wrong call, 3 it could not be \
        judged."
)]
pub(crate) struct Arguments {
    /// Service whose configuration is read; every known service when nothing is named
    #[arg(value_name = "SERVICE", conflicts_with_all = ["kind", "config"])]
    service: Option<String>,
    /// Kind of daemon of a file that belongs to no service
    #[arg(long, value_name = "KIND", requires = "config")]
    kind: Option<String>,
    /// Main configuration file
    #[arg(long, value_name = "FILE", requires = "kind")]
    config: Option<String>,
    /// Judge for another release
    #[arg(long, value_name = "RELEASE")]
    against: Option<String>,
}

pub(crate) fn run(context: &Context, arguments: &Arguments) -> Result<Status, CliError> {
    if let Some(release) = &arguments.against {
        return Err(CliError::usage(format!(
            "a table for {release} does not exist yet; only the installed release is checked"
        )));
    }
    let snapshot = context.snapshot();
    let (kind, instance) = match (&arguments.service, &arguments.kind, &arguments.config) {
        (Some(name), ..) => {
            let service = context.service(&snapshot, name)?;
            (service.kind, service.instance)
        }
        (None, Some(kind), Some(config)) => {
            let known = kinds::KINDS.iter().map(|k| k.name()).collect::<Vec<_>>().join(", ");
            let found = kinds::kind(kind).ok_or_else(|| {
                CliError::usage(format!("kind {kind} does not exist")).hint(format!("known: {known}"))
            })?;
            let config = absolute(context, config)?;
            if snapshot.link_stat(&config).is_absent() {
                return Err(CliError::usage(format!("{config} does not exist")));
            }
            (found, Instance { config, ..Instance::default() })
        }
        _ => return all(context, &snapshot),
    };
    let (report, read) = report::lint_configuration(&snapshot, kind, &instance);
    let mut report = report;
    report
        .not_seen
        .extend(snapshot.not_seen().into_iter().filter(|n| !read.not_seen.contains(n) && n.is_of_file()));
    if context.global.format == Format::Sarif {
        context.write(&json(&pages::lint::sarif(&report))?)?;
    } else {
        let mut page = pages::lint::page(&report, &snapshot, context.global.verbose);
        let live = context.origin != Origin::Bundle;
        let (program, root) = (context.program(), context.global.root.as_deref().unwrap_or(Path::new("")));
        let correct = match &arguments.service {
            Some(service) => Some(Correct::Fix { program: &program, service, apply: live }),
            None if live => Some(Correct::File { root: &root.to_string_lossy() }),
            None => None,
        };
        if let Some(correct) = correct.filter(|_| report.verdict == Verdict::Rejected) {
            let mut correction = report::correction(&snapshot, kind, &read);
            // A command for root names the real file, and none that somebody else could put in its place.
            if let (Correct::File { .. }, Some(found)) = (&correct, &mut correction) {
                let walked = walk(&Paths(&snapshot), found.file(), Last::Followed, &trusted(&snapshot, &[]));
                match walked {
                    Ok(real) => found.file_mut().clone_from(&real.path),
                    Err(_) => correction = None,
                }
            }
            pages::lint::what_to_do(&mut page, correction.as_ref(), &correct);
        }
        context.emit(&page, &report)?;
    }
    Ok(match report.verdict {
        Verdict::Accepted => Status::Well,
        Verdict::Rejected => Status::Problem,
        Verdict::Unknown => Status::NotSeen,
    })
}

/// Every known service.
fn all(context: &Context, snapshot: &Snapshot) -> Result<Status, CliError> {
    let services = context.all_services(snapshot);
    if services.is_empty() {
        return Err(CliError::usage("no server daemon was found on this host")
            .hint("name a unit, describe a service in a services file, or give --kind and --config"));
    }
    let overview = report::lint_all(snapshot, &services);
    if context.global.format == Format::Sarif {
        context.write(&json(&pages::lint::sarif_of_all(&overview))?)?;
    } else {
        let page = pages::lint::overview(&overview, snapshot, context.global.verbose, &context.program());
        context.emit(&page, &overview)?;
    }
    let any = |verdict| overview.services.iter().any(|s| s.lint.verdict == verdict);
    let status = match (any(Verdict::Rejected), any(Verdict::Unknown)) {
        (true, _) => Status::Problem,
        (false, true) => Status::NotSeen,
        (false, false) => Status::Well,
    };
    Ok(context.bounded(snapshot, status))
}

/// Relative paths count from the working directory on a live host, from the root of a tree.
fn absolute(context: &Context, path: &str) -> Result<String, CliError> {
    if path.starts_with('/') || context.origin != crate::context::Origin::Live {
        return Ok(if path.starts_with('/') { path.to_owned() } else { format!("/{path}") });
    }
    let here = std::env::current_dir()?;
    Ok(here.join(path).to_string_lossy().into_owned())
}
