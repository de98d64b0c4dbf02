//! `survey`: which server daemons are here, in what state, and which would not come back.
use super::{Listed, Outlook, diagnose_case, schema};
use crate::case::{Case, Depth, State, gather, listening};
use crate::code::Code;
use crate::log::format_time;
use crate::not_seen::NotSeen;
use crate::runtime::shell::{self, Difference};
use crate::service::Service;
use crate::snapshot::Snapshot;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// The document `survey`.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct SurveyReport {
    /// Form.
    pub schema: String,
    /// Name of the host.
    pub host: Option<String>,
    /// When it was looked at.
    pub observed_at: Option<String>,
    /// Services, by name.
    pub services: Vec<SurveyEntry>,
    /// What could not be seen.
    pub not_seen: Vec<NotSeen>,
}

/// One service.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct SurveyEntry {
    /// Name.
    pub service: String,
    /// Kind.
    pub kind: String,
    /// Release, `kind-version`.
    pub release: Option<String>,
    /// State.
    pub state: State,
    /// Meant to run.
    pub wanted: bool,
    /// In this state since.
    pub since: Option<String>,
    /// Unit.
    pub unit: Option<String>,
    /// Main process.
    pub main_pid: Option<u32>,
    /// Account of its workers or its own.
    pub account: Option<String>,
    /// Addresses it holds now.
    pub held: Listed<String>,
    /// Addresses it wants.
    pub listens: Vec<String>,
    /// Main configuration file.
    pub config: Option<String>,
    /// All configuration files.
    pub files: Vec<String>,
    /// Log files.
    pub logs: Vec<String>,
    /// Pid file.
    pub pid_file: Option<String>,
    /// Files that lock what it uses.
    pub locks: Vec<String>,
    /// Directory of its data, where it keeps some.
    pub data_dir: Option<String>,
    /// Words of its start command, secrets masked.
    pub command: Vec<String>,
    /// Variables that a login shell has otherwise than the service; told for a single service.
    pub environment: Vec<Difference>,
    /// Would it come up if restarted?
    pub restart_outlook: Outlook,
    /// Would it come up at boot?
    pub boot_outlook: Outlook,
    /// First cause, when it is unwell.
    pub cause: Option<Code>,
    /// One sentence for it, or for what stands in the way of its next start.
    pub remark: Option<String>,
}

fn differences(snapshot: &Snapshot, service: &Service) -> Vec<Difference> {
    let mut found = shell::differences(snapshot, &service.instance.environment);
    // The name tells whether the value is a secret.
    let masked = crate::secrets::mask_value;
    for one in &mut found {
        one.shell = masked(&one.name, &one.shell);
        one.service = one.service.as_deref().map(|value| masked(&one.name, value));
    }
    found
}

/// What a service holds of what it wants; where nothing says what it wants, all that its processes listen on.
fn held(snapshot: &Snapshot, case: &Case) -> Listed<String> {
    let sees = snapshot.sees_processes();
    if case.wanted.is_empty() && !case.processes.is_empty() {
        let all = listening(snapshot, &case.processes).filter(|_| sees);
        let named = all.iter().flatten().map(ToString::to_string).collect();
        return Listed::when(all.is_some(), named);
    }
    Listed::when(
        sees && !case.wanted.iter().any(|w| w.unseen),
        case.wanted.iter().filter(|w| w.served).map(|w| w.listen.to_string()).collect(),
    )
}

/// Surveys services.
pub fn survey(snapshot: &Snapshot, services: &[Service]) -> SurveyReport {
    let zone = crate::log::host_zone(snapshot);
    let mut entries = Vec::new();
    for service in services {
        let case = gather(snapshot, service, Depth::Diagnosis);
        let (entry, _) = diagnose_case(snapshot, &case);
        let latent = entry.notes.iter().find(|n| n.code == Code::LatentFailure).map(|n| n.title.clone());
        let main = case.processes.first();
        let own = main.map(|p| crate::accounts::user_name(snapshot, p.brief.uid));
        entries.push(SurveyEntry {
            service: service.name.clone(),
            kind: service.kind.name().into(),
            release: service.kind.release(snapshot, &service.instance).map(|r| r.to_string()),
            state: entry.state,
            wanted: entry.wanted,
            since: case.since.map(|t| format_time(t, &zone)),
            unit: service.unit_name().map(str::to_owned),
            main_pid: main.map(|p| p.brief.pid),
            account: case
                .config
                .model
                .account
                .as_ref()
                .map(|(a, _)| a.clone())
                .or_else(|| service.described.account.clone())
                .or(own),
            held: held(snapshot, &case),
            listens: case.wanted.iter().map(|w| w.listen.to_string()).collect(),
            config: (!service.instance.config.is_empty()).then(|| service.instance.config.clone()),
            files: case.config.model.files.clone(),
            logs: crate::case::log_files(snapshot, service, &case.config),
            pid_file: service
                .described
                .pid_file
                .clone()
                .or_else(|| case.config.model.pid_file.as_ref().map(|p| p.path.clone())),
            locks: case.config.model.locks.iter().map(|l| l.path.clone()).collect(),
            data_dir: case.config.model.data_dir.as_ref().map(|d| d.path.clone()),
            command: crate::secrets::mask_arguments(&service.instance.command),
            environment: if services.len() == 1 && service.unit.is_some() {
                differences(snapshot, service)
            } else {
                Vec::new()
            },
            restart_outlook: entry.restart_outlook,
            boot_outlook: entry.boot_outlook,
            cause: entry.standing().next().map(|c| c.code),
            remark: entry.standing().next().map(|c| c.title.clone()).or(latent),
        });
    }
    let clock = snapshot.clock().seen();
    SurveyReport {
        schema: schema("survey"),
        host: clock.as_ref().map(|c| c.host.clone()),
        observed_at: clock.map(|c| format_time(c.now, &zone)),
        services: entries,
        not_seen: snapshot.not_seen(),
    }
}
