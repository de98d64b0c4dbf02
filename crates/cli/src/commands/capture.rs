use crate::context::{Context, json, recorder};
use crate::error::CliError;
use crate::exit::Status;
use crate::options::Format;
use clap::Args;
use jolly_core::bounds::PLANNED;
use jolly_core::case::{Depth, gather};
use jolly_core::chain;
use jolly_core::fix::{Wishes, plans};
use jolly_core::host::Host;
use jolly_core::report;
use jolly_core::route::Url;
use jolly_core::service::Service;
use jolly_core::snapshot::Snapshot;

/// Take the evidence away: everything a diagnosis reads, secrets redacted.
///
/// The bundle answers the same questions elsewhere: give it to any command with --from.
#[derive(Args, Debug)]
#[command(
    after_help = "Examples:\n  jolly-sentinel capture front --output front.json\n  jolly-sentinel diagnose \
        front --from front.json\n  jolly-sentinel capture \
        http://front.saltmarsh-ferries.example/book --output book.json\n\n\
        Exit status: 0 written, 2 wrong call, 3 it could not be written."
)]
pub(crate) struct Arguments {
    /// Services, or addresses of pages; all services when nothing is named
    #[arg(value_name = "TARGET")]
    targets: Vec<String>,
}

pub(crate) fn run(context: &Context, arguments: &Arguments) -> Result<Status, CliError> {
    let pages: Vec<Url> = arguments
        .targets
        .iter()
        .filter(|t| t.contains("://"))
        .map(|t| super::address(t))
        .collect::<Result<_, _>>()?;
    let names: Vec<&String> = arguments.targets.iter().filter(|t| !t.contains("://")).collect();
    if !names.is_empty() {
        let snapshot = context.snapshot();
        for name in &names {
            context.service(&snapshot, name)?;
        }
    }
    // The bundle is JSON: another form is a wrong call, told before anything is looked at.
    if !matches!(context.global.format, Format::Text | Format::Json) {
        return Err(CliError::usage("a capture is JSON: --format is text or json here"));
    }
    let recorder = recorder(context);
    let mut configuration = std::collections::BTreeMap::new();
    {
        let host: &dyn Host = &recorder;
        let snapshot = Snapshot::new(host);
        let _ = snapshot.text("/etc/jolly-sentinel/services.toml");
        let services = context.serving(&snapshot, false);
        let mut applications: Vec<String> = Vec::new();
        let mut chosen: Vec<_> = if arguments.targets.is_empty() {
            services.clone()
        } else {
            names.iter().map(|n| context.service(&snapshot, n)).collect::<Result<_, _>>()?
        };
        // The way to a page, with all that is looked at on it.
        for url in &pages {
            let chain = chain::follow(&snapshot, &services, url);
            let _ = report::diagnose_chain(&snapshot, &services, &chain);
            for at in chain.through.iter().chain(chain.faults.iter().map(|(at, _)| at)) {
                if !chosen.iter().any(|s| s.name == services[*at].name) {
                    chosen.push(services[*at].clone());
                }
            }
            applications.extend(chain.read.iter().cloned());
        }
        // Everything that the commands ask is asked once, so that each of them can be answered from the
        // bundle.
        let mut testified = Vec::new();
        for service in &chosen {
            let (files, lines) = everything(&snapshot, &services, service);
            configuration.extend(files.into_iter().map(|f| (f, service.kind)));
            testified.extend(lines);
        }
        for service in &chosen {
            let fresh = Snapshot::new(host);
            let _ = jolly_core::service::named(&fresh, &context.services, &service.name);
            let _ = report::diagnose(&fresh, std::slice::from_ref(service), true);
        }
        // What was read on the way of services that were not asked for is masked as its kind reads it, too;
        // and what was asked for may be none of those that serve.
        for service in services.iter().chain(&chosen) {
            for file in &service.configuration(&snapshot).model.files {
                configuration.entry(file.clone()).or_insert(service.kind);
            }
            if service.kind.grammar().has_general_words() {
                for (file, kind) in jolly_core::kinds::files_of_a_program(&snapshot, &service.instance) {
                    configuration.entry(file).or_insert(kind);
                }
            }
        }
        // Where a kind reads such a file, its rules have it already.
        if let Some(program) = jolly_core::kinds::kind("program") {
            testified
                .into_iter()
                .chain(applications)
                .for_each(|file| _ = configuration.entry(file).or_insert(program));
        }
        let _ = report::survey(&snapshot, &services);
        let _ = report::ports(
            &Snapshot::new(host),
            &services,
            &report::PortsRequest { count_clients: true, ..Default::default() },
        );
    }
    let bundle = recorder.into_bundle(configuration, &context.services);
    context.write_private(&json(&bundle)?)?;
    Ok(Status::Well)
}

/// Asks all that the commands ask of a service; the files of its configuration, and those that only lines of
/// its log name.
fn everything(snapshot: &Snapshot, services: &[Service], service: &Service) -> (Vec<String>, Vec<String>) {
    let case = gather(snapshot, service, Depth::Diagnosis);
    let mut testified = Vec::new();
    // A file that only a line of the log names is looked into, too.
    if case.is_of_no_kind() {
        let lines = case.attempts.iter().flat_map(|attempt| &attempt.failures);
        testified.extend(lines.filter_map(|line| line.found.object("file")).map(str::to_owned));
    }
    let (_, causes) = report::diagnose_case(snapshot, &case);
    // Whether a fix could be steered by somebody is asked of every name on the way: the answers go along.
    let standing = report::standing_causes(snapshot, &case);
    for cause in [&causes, &standing].into_iter().flat_map(|all| all.iter().take(PLANNED)) {
        let _ = plans(snapshot, &case, services, cause, &Wishes::default());
    }
    let _ = report::attempts(snapshot, service, Some(20), None, false);
    let _ = report::verify(snapshot, service, &report::Complaint::default(), None);
    (case.config.model.files.clone(), testified)
}
