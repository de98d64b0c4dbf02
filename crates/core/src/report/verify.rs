//! `verify`: has it really recovered?
use super::schema;
use crate::case::{Case, Depth, State, Wanted, gather};
use crate::code::Code;
use crate::config::Speaks;
use crate::host::{Look, ProbeAnswer, ProbeProtocol, ProbeRequest, Protocol};
use crate::log::{Afterwards, Attempt, Outcome};
use crate::net::endpoint;
use crate::service::Service;
use crate::snapshot::Snapshot;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// The verdict on a recovery.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Recovery {
    /// Every check passed.
    Recovered,
    /// It does not run, or does not hold its ports.
    NotRecovered,
    /// It runs, but something is still missing, or could not be looked at.
    Partly,
}

/// How a check ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum CheckOutcome {
    /// As it should be.
    Pass,
    /// Not as it should be.
    Fail,
    /// Could not be looked at, or does not apply.
    Skip,
}

/// One check of a recovery.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct CheckEntry {
    /// `process`, `account`, `stable`, `ports`, `let-go`, `protocol`, `page`, `log`, `boot`.
    pub name: String,
    /// How it ended.
    pub outcome: CheckOutcome,
    /// What was seen.
    pub detail: String,
    /// Milliseconds it took, where a server was asked.
    pub took_ms: Option<u64>,
}

/// The document `verify`.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct VerifyReport {
    /// Form.
    pub schema: String,
    /// Service.
    pub service: String,
    /// State.
    pub state: State,
    /// Verdict.
    pub verdict: Recovery,
    /// Checks, in the order in which they matter.
    pub checks: Vec<CheckEntry>,
    /// What could not be seen.
    pub not_seen: Vec<String>,
    /// Main process, to see whether it stays the same.
    pub main_pid: Option<u32>,
    /// Whether one of its last starts or runs ended badly: only then there is something to recover from.
    #[serde(skip)]
    pub ended_badly: bool,
}

impl VerifyReport {
    /// Whether nothing failed, and yet too little could be seen for a verdict.
    pub fn is_unseen(&self) -> bool {
        self.verdict != Recovery::Recovered && !self.checks.iter().any(|c| c.outcome == CheckOutcome::Fail)
    }
}

/// The page that was complained about.
#[derive(Clone, Debug, Default)]
pub struct Complaint {
    /// Its address.
    pub url: Option<String>,
    /// Status it should answer with.
    pub status: Option<u16>,
    /// Text it should hold.
    pub expect: Option<String>,
}

fn check(name: &str, outcome: CheckOutcome, detail: impl Into<String>) -> CheckEntry {
    CheckEntry { name: name.into(), outcome, detail: detail.into(), took_ms: None }
}

/// One look. `before` is the main process of an earlier look, to see whether it stayed up.
pub fn verify(snapshot: &Snapshot, service: &Service, page: &Complaint, before: Option<u32>) -> VerifyReport {
    let case = gather(snapshot, service, Depth::Diagnosis);
    let mut checks = vec![process(snapshot, &case)];
    checks.extend(account(snapshot, &case));
    let main = case.processes.first().map(|p| p.brief.pid);
    if let Some(before) = before {
        checks.push(match main {
            Some(now) if now == before => check("stable", CheckOutcome::Pass, format!("still pid {now}")),
            Some(now) => check(
                "stable",
                CheckOutcome::Fail,
                format!("pid {before} became pid {now}: it was started again meanwhile"),
            ),
            None => check("stable", CheckOutcome::Fail, format!("process {before} has ended again")),
        });
    }
    checks.extend(ports(&case));
    checks.extend(let_go(snapshot, &case));
    let asked = protocol(snapshot, &case);
    let mute = asked.iter().any(|(_, mute)| *mute);
    checks.extend(asked.into_iter().map(|(entry, _)| entry));
    checks.extend(page_check(snapshot, &case, page));
    checks.push(log(snapshot, &case));
    checks.extend(boot(&case));
    let failed = |names: &[&str]| {
        checks.iter().any(|c| c.outcome == CheckOutcome::Fail && names.contains(&c.name.as_str()))
    };
    let verdict = if mute || failed(&["process", "stable", "ports"]) {
        Recovery::NotRecovered
    } else if checks.iter().any(|c| c.outcome == CheckOutcome::Fail)
        || checks
            .iter()
            .any(|c| c.outcome == CheckOutcome::Skip && matches!(c.name.as_str(), "process" | "ports"))
    {
        Recovery::Partly
    } else {
        Recovery::Recovered
    };
    let ended_badly = case.attempts.iter().any(badly);
    VerifyReport {
        schema: schema("verify"),
        service: service.name.clone(),
        // What fails its checks while it runs is no better off than a diagnosis calls it.
        state: match case.state {
            State::Running if checks.iter().any(|c| c.outcome == CheckOutcome::Fail) => State::Degraded,
            state => state,
        },
        verdict,
        checks,
        not_seen: snapshot.not_seen(),
        main_pid: main,
        ended_badly,
    }
}

/// Whether a start failed, or its run did not end as somebody wanted it.
fn badly(attempt: &Attempt) -> bool {
    matches!(attempt.outcome, Outcome::Failed | Outcome::Killed | Outcome::Refused)
        || matches!(attempt.afterwards, Some(Afterwards::Killed | Afterwards::Crashed))
}

fn process(snapshot: &Snapshot, case: &Case) -> CheckEntry {
    if !snapshot.host().parts().processes {
        return check("process", CheckOutcome::Skip, "a directory tree has no processes");
    }
    let frozen = case.manager.as_ref().seen().is_some_and(|m| {
        m.more.get("FreezerState").is_some_and(|f| f.starts_with("frozen") || f == "freezing")
    });
    match (case.processes.first(), case.state) {
        (Some(main), _) if matches!(main.brief.state, 'T' | 't') || frozen => check(
            "process",
            CheckOutcome::Fail,
            format!("{} (pid {}) is halted and answers nothing", main.brief.name, main.brief.pid),
        ),
        (Some(main), State::Running | State::Degraded) => {
            check("process", CheckOutcome::Pass, format!("{} runs, pid {}", main.brief.name, main.brief.pid))
        }
        (_, State::Starting | State::Restarting) => {
            check("process", CheckOutcome::Fail, "it is still starting")
        }
        (Some(main), state) => check(
            "process",
            CheckOutcome::Fail,
            format!("pid {} is there, but the state is {state:?}", main.brief.pid).to_lowercase(),
        ),
        (None, _) if !snapshot.sees_processes() => {
            check("process", CheckOutcome::Skip, "processes of other accounts cannot be seen")
        }
        (None, _) => check("process", CheckOutcome::Fail, "no process of it runs"),
    }
}

fn account(snapshot: &Snapshot, case: &Case) -> Option<CheckEntry> {
    let main = case.processes.first()?;
    let wanted = case
        .service
        .unit
        .as_ref()
        .and_then(|u| u.value("Service", "User"))
        .or_else(|| case.service.described.account.clone());
    let workers = case.config.model.account.as_ref().map(|(a, _)| a.clone());
    let name = |uid| crate::accounts::user_name(snapshot, uid);
    if let Some(wanted) = wanted {
        let actual = name(main.brief.uid);
        let outcome = if actual == wanted { CheckOutcome::Pass } else { CheckOutcome::Fail };
        return Some(check("account", outcome, format!("runs as {actual}, should run as {wanted}")));
    }
    let workers = workers?;
    let own: Vec<String> = case.processes.iter().skip(1).map(|p| name(p.brief.uid)).collect();
    if main.brief.uid != 0 || own.is_empty() {
        return None;
    }
    let right = own.contains(&workers);
    let outcome = if right { CheckOutcome::Pass } else { CheckOutcome::Fail };
    Some(check(
        "account",
        outcome,
        if right { format!("workers run as {workers}") } else { format!("no worker runs as {workers}") },
    ))
}

fn ports(case: &Case) -> Vec<CheckEntry> {
    let wanted: Vec<_> = case.wanted.iter().filter(|w| w.bound).collect();
    let missing: Vec<String> = wanted.iter().filter(|w| !w.served).map(|w| w.listen.to_string()).collect();
    let held: Vec<String> = wanted.iter().filter(|w| w.served).map(|w| w.listen.to_string()).collect();
    // What is not there at all is missing; what has a holder out of sight may be its.
    let hidden: Vec<String> =
        wanted.iter().filter(|w| !w.served && w.unseen).map(|w| w.listen.to_string()).collect();
    match (wanted.is_empty(), missing.is_empty()) {
        (true, _) => vec![],
        _ if !hidden.is_empty() && hidden.len() == missing.len() => {
            vec![check(
                "ports",
                CheckOutcome::Skip,
                format!("who holds {} cannot be seen", hidden.join(", ")),
            )]
        }
        (_, true) => vec![check("ports", CheckOutcome::Pass, format!("holds {}", held.join(", ")))],
        _ => vec![check("ports", CheckOutcome::Fail, format!("does not hold {}", missing.join(", ")))],
    }
}

/// A port that its configuration no longer asks for must be let go. Judged for daemons that open no listeners
/// but those.
fn let_go(snapshot: &Snapshot, case: &Case) -> Option<CheckEntry> {
    if !case.service.kind.profile().listens_as_configured
        || !case.config.readable
        || case.config.first_error().is_some()
        || case.processes.is_empty()
    {
        return None;
    }
    let sockets = snapshot.listeners().seen()?;
    let extra: Vec<_> = sockets
        .iter()
        .filter(|s| {
            s.protocol == Protocol::Tcp
                && s.address.is_some()
                && !case.wanted.iter().any(|w| w.listen.conflicts_with(s))
        })
        .collect();
    let inodes: Vec<u64> = extra.iter().map(|s| s.inode).collect();
    let owners = if inodes.is_empty() { Vec::new() } else { snapshot.owners(&inodes).seen()? };
    let ours = |inode: u64| {
        owners.iter().any(|(i, pid)| *i == inode && case.processes.iter().any(|p| p.brief.pid == *pid))
    };
    let kept: Vec<String> =
        extra.iter().filter(|s| ours(s.inode)).filter_map(|s| Some(endpoint(s.address?, s.port))).collect();
    Some(if kept.is_empty() {
        check("let-go", CheckOutcome::Pass, "holds no port beyond those")
    } else {
        check(
            "let-go",
            CheckOutcome::Fail,
            format!(
                "still holds {}, which its configuration does not ask for: it needs a restart",
                kept.join(", ")
            ),
        )
    })
}

/// An address to try for a listener.
fn reachable(address: IpAddr) -> IpAddr {
    match address {
        IpAddr::V4(four) if four.is_unspecified() => Ipv4Addr::LOCALHOST.into(),
        IpAddr::V6(six) if six.is_unspecified() => Ipv6Addr::LOCALHOST.into(),
        other => other,
    }
}

/// Asks the listeners, and says of each what came of it and whether it stayed without an answer.
fn protocol(snapshot: &Snapshot, case: &Case) -> Vec<(CheckEntry, bool)> {
    if !snapshot.host().parts().probes {
        return vec![];
    }
    let mut found = Vec::new();
    for want in case
        .wanted
        .iter()
        .filter(|w| {
            w.served && !w.activates && w.listen.protocol != Protocol::Udp && w.speaks != Speaks::Orders
        })
        .take(8)
    {
        let Some((request, shown)) = question(case, want) else { continue };
        let Look::Seen(answer) = snapshot.probe(&request) else { continue };
        let (mut entry, mute) = judged(&shown, &answer);
        entry.took_ms = Some(answer.took_ms);
        found.push((entry, mute));
    }
    found
}

/// What to ask a listener, and how that is called; `None` where nothing can be asked.
fn question(case: &Case, want: &Wanted) -> Option<(ProbeRequest, String)> {
    let profile = case.service.kind.profile();
    let as_its_kind = want.speaks == Speaks::AsItsKind;
    let protocol = match (profile.http && as_its_kind, want.tls) {
        (true, _) => ProbeProtocol::Http,
        // Under TLS nothing but the handshake could be asked.
        (false, false) if as_its_kind => profile.asks,
        _ => ProbeProtocol::Tcp,
    };
    let socket = want.listen.path.clone();
    let spoken = matches!(
        protocol,
        ProbeProtocol::Greeting | ProbeProtocol::Postgresql | ProbeProtocol::Redis | ProbeProtocol::FastCgi
    );
    let target = match (want.listen.address, &socket) {
        // A socket for both families answers on the IPv4 loopback, too; that one is always there.
        (Some(address), _) if address == IpAddr::V6(Ipv6Addr::UNSPECIFIED) && !want.listen.v6_only => {
            Ipv4Addr::LOCALHOST.into()
        }
        (Some(address), _) => reachable(address),
        (None, Some(_)) if spoken => Ipv4Addr::LOCALHOST.into(),
        _ => return None,
    };
    let host = case
        .config
        .model
        .site_names
        .iter()
        .map(|(n, _)| n.as_str())
        .find(|n| !n.is_empty() && !n.contains(['*', '~', '_']))
        .unwrap_or("localhost");
    let place = socket.clone().unwrap_or_else(|| endpoint(target, want.listen.port));
    let request = ProbeRequest {
        address: target,
        port: want.listen.port,
        tls: want.tls,
        host: host.to_owned(),
        path: "/".into(),
        protocol,
        socket,
    };
    let shown = format!(
        "{} on {place}",
        if protocol == ProbeProtocol::Http && want.tls { "HTTPS" } else { protocol.spelled() }
    );
    Some((request, shown))
}

/// What an answer says of a listener, and whether it is mute.
fn judged(shown: &str, answer: &ProbeAnswer) -> (CheckEntry, bool) {
    let why = answer.error.clone().unwrap_or_default();
    match (answer.status, answer.connected, &answer.error) {
        (Some(status), ..) => {
            let server = answer.server.as_deref().map(|s| format!(" from {s}")).unwrap_or_default();
            let outcome = if status >= 500 { CheckOutcome::Fail } else { CheckOutcome::Pass };
            (check("protocol", outcome, format!("{shown} answers {status}{server}")), false)
        }
        (None, true, None) if answer.spoke => {
            (check("protocol", CheckOutcome::Pass, format!("{shown} answers")), false)
        }
        // The kernel accepts whoever is behind it: that is no proof, and no fault.
        (None, true, None) => (
            check(
                "protocol",
                CheckOutcome::Skip,
                format!("{shown} accepts connections; whether it answers was not asked"),
            ),
            false,
        ),
        // Something was said, or the connection closed on purpose: it lives, and what it means is not
        // known.
        (None, true, Some(_)) if answer.spoke || answer.hung_up => {
            (check("protocol", CheckOutcome::Skip, format!("{shown} could not be asked: {why}")), false)
        }
        (None, true, _) => (
            check(
                "protocol",
                CheckOutcome::Fail,
                format!("{shown} accepts connections, but did not answer: {why}"),
            ),
            true,
        ),
        (None, false, _) => {
            (check("protocol", CheckOutcome::Fail, format!("{shown} does not answer: {why}")), true)
        }
    }
}

/// Parts of an `http:` or `https:` address: tls, host, port, path with query.
fn split_url(url: &str) -> Option<(bool, String, u16, String)> {
    let uri: http::Uri = url.split('#').next()?.parse().ok()?;
    let tls = match uri.scheme_str()? {
        "http" => false,
        "https" => true,
        _ => return None,
    };
    let host = uri.host()?.trim_start_matches('[').trim_end_matches(']');
    // A port that is written and is not one makes it no address at all.
    let written = uri
        .authority()?
        .as_str()
        .rsplit('@')
        .next()?
        .rsplit_once(':')
        .is_some_and(|(_, port)| !port.is_empty() && !port.contains(']'));
    let port = if written {
        uri.port_u16()?
    } else if tls {
        443
    } else {
        80
    };
    let path = uri.path_and_query().map_or("/", |p| p.as_str());
    (!host.is_empty())
        .then(|| (tls, host.to_owned(), port, if path.is_empty() { "/".to_owned() } else { path.to_owned() }))
}

fn page_check(snapshot: &Snapshot, case: &Case, page: &Complaint) -> Option<CheckEntry> {
    let url = page.url.clone().or_else(|| case.service.described.url.clone())?;
    let parts = split_url(&url);
    // Credentials and the query of an address are nobody's to read.
    let url = crate::secrets::mask_text(&url);
    let Some((tls, host, port, path)) = parts else {
        return Some(check(
            "page",
            CheckOutcome::Fail,
            format!("{url} is not an address that can be asked: expected http:// or https://"),
        ));
    };
    let address = match crate::names::lookup(snapshot, &host) {
        Look::Seen(found) => found.first().copied(),
        // A name that only DNS knows is asked of this host itself: its sites are chosen by name.
        Look::NotSeen(_) => Some(Ipv4Addr::LOCALHOST.into()),
        Look::Absent => None,
    };
    let Some(address) = address else {
        return Some(check("page", CheckOutcome::Fail, format!("{host} does not resolve")));
    };
    let request =
        ProbeRequest { address, port, tls, host, path, protocol: ProbeProtocol::Http, socket: None };
    let Look::Seen(answer) = snapshot.probe(&request) else {
        return Some(check("page", CheckOutcome::Skip, "a directory tree has no running servers"));
    };
    let mut entry = match answer.status {
        None => check(
            "page",
            CheckOutcome::Fail,
            format!("{url} does not answer: {}", answer.error.unwrap_or_default()),
        ),
        Some(status) => {
            let right = page.status.map_or(status < 400, |wanted| wanted == status);
            let holds = page.expect.as_ref().is_none_or(|text| answer.body.contains(text.as_str()));
            let outcome = if right && holds { CheckOutcome::Pass } else { CheckOutcome::Fail };
            let wanted =
                page.status.filter(|_| !right).map(|s| format!(", expected {s}")).unwrap_or_default();
            let text = if holds {
                String::new()
            } else {
                format!(", without the text {:?}", page.expect.clone().unwrap_or_default())
            };
            check("page", outcome, format!("{url} answers {status}{wanted}{text}"))
        }
    };
    entry.took_ms = Some(answer.took_ms);
    Some(entry)
}

fn log(snapshot: &Snapshot, case: &Case) -> CheckEntry {
    // What was said of earlier starts says nothing of a host whose a directory tree has no processes.
    if !snapshot.host().parts().processes {
        return check("log", CheckOutcome::Skip, "a directory tree does not tell whether it runs now");
    }
    let Some(last) = case.attempts.first() else {
        let denied = snapshot
            .not_seen()
            .iter()
            .any(|l| l.contains("permission denied") || l.starts_with("journal of "));
        return check(
            "log",
            CheckOutcome::Skip,
            if denied { "its starts could not be seen" } else { "no start is on record" },
        );
    };
    let failure = last.failures.iter().find(|f| !f.found.aftermath && f.code != Code::Unknown);
    match (last.outcome, failure) {
        (Outcome::Ready, None) => {
            check("log", CheckOutcome::Pass, "ready since this start, without complaint")
        }
        (Outcome::Ready, Some(f)) => check(
            "log",
            CheckOutcome::Fail,
            format!(
                "it runs, but the log says: {}",
                crate::bounds::clip(&crate::secrets::mask_text(&f.text))
            ),
        ),
        (_, Some(f)) => {
            check("log", CheckOutcome::Fail, crate::bounds::clip(&crate::secrets::mask_text(&f.text)))
        }
        // A copy that somebody else started leaves no record of its own.
        (outcome, None) if case.processes.is_empty() => check(
            "log",
            CheckOutcome::Fail,
            format!("the last start on record ended as {outcome:?}").to_lowercase(),
        ),
        _ => check("log", CheckOutcome::Skip, "the log does not tell of this start"),
    }
}

fn boot(case: &Case) -> Option<CheckEntry> {
    let boots = case.service.boots()?;
    let state = case.manager.as_ref().seen().map(|s| s.unit_file_state.clone()).unwrap_or_default();
    let enabled = boots || state.starts_with("enabled") || matches!(state.as_str(), "static" | "generated");
    let outcome = if enabled { CheckOutcome::Pass } else { CheckOutcome::Skip };
    Some(check("boot", outcome, if enabled { "is started at boot" } else { "is not started at boot" }))
}
