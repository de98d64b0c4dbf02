//! Addresses that the service wants: held by others, privileged, or left-over sockets.
use crate::case::{Case, Holder, Returns, Wanted, started_by};
use crate::code::Code;
use crate::config::Severity;
use crate::finding::{Evidence, Finding, Proof, Source, Subject, stage};
use crate::host::{FileKind, Process, Protocol, Socket};
use crate::path;
use crate::service::Service;
use crate::snapshot::Snapshot;
use std::net::IpAddr;

/// The capability to bind privileged ports (capabilities(7)).
const CAP_NET_BIND_SERVICE: &str = "CAP_NET_BIND_SERVICE";

pub(super) fn check(snapshot: &Snapshot, case: &Case) -> Vec<Finding> {
    let mut found = Vec::new();
    for want in case.wanted.iter().filter(|w| w.bound && !w.served) {
        found.extend(want.held_by.iter().map(|holder| taken(snapshot, case, want, holder)));
        found.extend(
            want.held_unseen
                .first()
                .filter(|_| want.held_by.is_empty())
                .map(|socket| out_of_sight(snapshot, case, want, socket)),
        );
        found.extend(left_over(snapshot, case, want));
        found.extend(privileged(snapshot, case, want));
    }
    found.extend(second_copy(snapshot, case, &found));
    found.extend(case.wanted.iter().filter_map(|want| out_of_reach(snapshot, case, want)));
    found
}

/// Some bind addresses that are not there (IP_FREEBIND, ip(7)): the socket exists, and nobody can reach it.
fn out_of_reach(snapshot: &Snapshot, case: &Case, want: &Wanted) -> Option<Finding> {
    let address = want
        .listen
        .address
        .filter(|a| want.bound && want.served && !a.is_unspecified() && !a.is_loopback())?;
    let own = snapshot.addresses().seen()?;
    // Where the kernel lets everybody do so, the address comes and goes on purpose: between the hosts of a
    // pair, for instance.
    if own.contains(&address) || own.is_empty() || crate::names::may_bind_foreign(snapshot, address) {
        return None;
    }
    // A wildcard that covers it would be reached otherwise.
    let itself =
        |s: &Socket| s.port == want.listen.port && s.address.map(crate::net::normal) == Some(address);
    if !snapshot.listeners().seen()?.iter().any(itself) {
        return None;
    }
    let mut evidence = vec![
        Evidence::new(Source::Socket, format!("{} has a listener", want.listen)),
        Evidence::new(Source::Socket, format!("no interface has {address}")),
    ];
    evidence.extend(want.place.as_ref().map(|p| {
        Evidence::new(Source::Config, format!("{} wants {}", case.service.name, want.listen)).at(p)
    }));
    Some(Finding {
        code: Code::AddressNotHere,
        severity: Severity::Error,
        subject: Subject::listener(Some(address), want.listen.port, None, None),
        title: format!(
            "{} runs, but nobody reaches it: it listens on {address}, which no interface of this host has",
            case.service.name
        ),
        proof: Proof::Inevitable,
        evidence,
        fixes: vec![],
        blocks: true,
        stage: stage::RUN,
    })
}

pub(super) fn taken(snapshot: &Snapshot, case: &Case, want: &Wanted, holder: &Holder) -> Finding {
    let pid = holder.process.brief.pid;
    let same = same_daemon(case.service, &holder.process) && holder.unit.is_none();
    let code = if same { Code::AlreadyRunning } else { Code::PortTaken };
    let name = &holder.process.brief.name;
    let what =
        want.listen.address.map_or_else(|| want.listen.to_string(), |_| format!("port {}", want.listen.port));
    let by = holder
        .unit
        .as_deref()
        .map_or_else(|| format!("{name} (pid {pid})"), |unit| format!("{name} (pid {pid}) of {unit}"));
    let title = if same {
        format!("another copy of {} runs already: {name} (pid {pid}) holds {what}", case.service.name)
    } else {
        format!("{what} is held by {by}")
    };
    let mut evidence = vec![socket_evidence(holder)];
    if let Some(place) = &want.place {
        evidence.push(
            Evidence::new(Source::Config, format!("{} wants {}", case.service.name, want.listen)).at(place),
        );
    }
    evidence.push(origin(case, holder));
    let fixes = fixes(snapshot, case, holder, want, same);
    Finding {
        code,
        severity: Severity::Error,
        subject: Subject::listener(
            want.listen.address,
            want.listen.port,
            want.listen.path.as_deref(),
            Some(pid),
        ),
        title,
        proof: Proof::Inevitable,
        evidence,
        fixes,
        blocks: true,
        stage: stage::BIND,
    }
}

/// Something holds it, and no process that can be seen does: the kernel itself, another namespace, or
/// somebody else's process.
fn out_of_sight(snapshot: &Snapshot, case: &Case, want: &Wanted, socket: &Socket) -> Finding {
    let root = snapshot.myself().seen().is_some_and(|m| m.uid == 0);
    let user = crate::accounts::user_name(snapshot, socket.uid);
    let who = if root {
        "the kernel itself or a process in another namespace".to_owned()
    } else {
        format!("a process of {user} that cannot be seen from this account")
    };
    let bound = socket
        .address
        .map_or_else(|| socket.path.clone().unwrap_or_default(), |a| crate::net::endpoint(a, socket.port));
    let mut evidence =
        vec![Evidence::new(Source::Socket, format!("{user} is listening on {bound}; no process shows it"))];
    if let Some(place) = &want.place {
        evidence.push(
            Evidence::new(Source::Config, format!("{} wants {}", case.service.name, want.listen)).at(place),
        );
    }
    let movable = want.place.is_some() && want.listen.protocol != Protocol::Unix;
    Finding {
        code: Code::PortTaken,
        severity: Severity::Error,
        subject: Subject::listener(want.listen.address, want.listen.port, want.listen.path.as_deref(), None),
        title: format!("{} is held by {who}", want.listen),
        proof: Proof::Inevitable,
        evidence,
        fixes: if movable { vec!["move-port"] } else { vec![] },
        blocks: true,
        stage: stage::BIND,
    }
}

fn socket_evidence(holder: &Holder) -> Evidence {
    let bound = holder.socket.address.map_or_else(
        || holder.socket.path.clone().unwrap_or_default(),
        |a| crate::net::endpoint(a, holder.socket.port),
    );
    let family = match holder.socket.address {
        Some(IpAddr::V6(six)) if six.is_unspecified() && !holder.socket.v6_only => " (both address families)",
        _ => "",
    };
    Evidence::new(Source::Socket, format!("{} is listening on {bound}{family}", holder.process.brief.name))
        .pid(holder.process.brief.pid)
}

fn origin(case: &Case, holder: &Holder) -> Evidence {
    let user = &holder.user;
    let started = started_by(&holder.chain).map_or_else(
        || format!("started by hand as {user} (its parent process has ended)"),
        |by| format!("started by {by} as {user}"),
    );
    let returns = match holder.returns {
        Returns::Boot => ", starts again at boot",
        Returns::Itself => ", will restart by itself",
        Returns::No => ", will not restart by itself",
        Returns::Unknown => "",
    };
    let command = crate::secrets::mask_arguments(&holder.process.arguments).join(" ");
    let shown = if command.is_empty() { holder.process.brief.name.clone() } else { command };
    let detail = format!("{started}{returns}: {shown}");
    Evidence::new(Source::Process, detail)
        .pid(holder.process.brief.pid)
        .time(holder.process.started.map(|s| s * 1_000_000), &case.zone)
}

/// Least dangerous first: a stray is stopped, a managed holder or one with clients is a person's decision.
fn fixes(snapshot: &Snapshot, case: &Case, holder: &Holder, want: &Wanted, same: bool) -> Vec<&'static str> {
    let movable = want.place.is_some()
        && want.listen.protocol != Protocol::Unix
        && !case.service.kind.profile().programs.is_empty();
    let decision = (want.listen.path.is_none() && !case.may_have(snapshot, want.listen.port))
        || holder.unit.is_some()
        || holder.clients.unwrap_or(0) > 0
        || holder.returns == Returns::Unknown;
    match (same, decision && !same, movable) {
        (true, ..) => vec!["stop-holder"],
        (_, true, true) => vec!["move-port", "stop-holder"],
        (_, false, true) => vec!["stop-holder", "move-port"],
        (.., false) => vec!["stop-holder"],
    }
}

/// The same executable with the same main configuration.
fn same_daemon(service: &Service, process: &Process) -> bool {
    if !service.runs_as(process) {
        return false;
    }
    let other = service.kind.named_config(&process.arguments);
    other.is_none_or(|file| {
        path::clean(&file) == path::clean(&service.instance.config) || !file.starts_with('/')
    })
}

/// A socket file that nobody listens on any more.
fn left_over(snapshot: &Snapshot, case: &Case, want: &Wanted) -> Option<Finding> {
    let file =
        want.listen.path.as_deref().filter(|_| want.held_by.is_empty() && want.held_unseen.is_empty())?;
    let status = snapshot.link_stat(file).seen().filter(|s| s.kind == FileKind::Socket)?;
    snapshot.host().parts().processes.then_some(())?;
    let may_replace = || {
        crate::access::may(snapshot, &case.starter, path::parent(file), crate::access::Right::Write)
            == crate::host::Look::Seen(None)
    };
    if case.service.kind.profile().replaces_sockets && may_replace() {
        return None;
    }
    let owner = crate::accounts::user_name(snapshot, status.uid);
    let foreign =
        status.uid != case.starter.uid && status.uid != 0 || case.starter.uid != 0 && status.uid == 0;
    let (code, title) = if foreign {
        (
            Code::WrongOwner,
            format!(
                "{file} belongs to {owner}, left by a start under another account than {}",
                case.starter.name
            ),
        )
    } else {
        (Code::StaleFile, format!("{file} was left by a process that has ended"))
    };
    let evidence = vec![
        Evidence::new(Source::File, format!("a socket of {owner}, mode {:04o}", status.mode))
            .file(file)
            .time(Some(status.modified * 1_000_000), &case.zone),
        Evidence::new(Source::Socket, format!("no process listens on {file}")),
    ];
    Some(Finding {
        code,
        severity: Severity::Error,
        subject: Subject::path(file),
        title,
        proof: Proof::Now,
        evidence,
        fixes: vec!["move-aside"],
        blocks: true,
        stage: stage::FILES,
    })
}

pub(super) fn privileged(snapshot: &Snapshot, case: &Case, want: &Wanted) -> Option<Finding> {
    let port = want.listen.port;
    let unit = case.service.unit.as_ref();
    let taken_away = unit.is_some_and(|u| !u.keeps_capability(CAP_NET_BIND_SERVICE));
    if (case.starter.uid == 0 && !taken_away) || port == 0 || want.listen.protocol == Protocol::Unix {
        return None;
    }
    let limit = snapshot
        .text("/proc/sys/net/ipv4/ip_unprivileged_port_start")
        .seen()
        .and_then(|t| t.trim().parse().ok())
        .unwrap_or(1024u16);
    let ambient = unit.is_some_and(|u| {
        let values = u.values("Service", "AmbientCapabilities").join(" ");
        values.contains(CAP_NET_BIND_SERVICE) || values.starts_with('~')
    });
    // The program itself may carry the capability (setcap), unless its unit forbids new privileges.
    let no_new =
        unit.is_some_and(|u| u.value("Service", "NoNewPrivileges").is_some_and(|v| crate::manager::on(&v)));
    let carried = case
        .service
        .program()
        .map(|p| case.service.kind.executable(p))
        .and_then(|p| snapshot.stat(&p).seen())
        .is_some_and(|s| s.capabilities >> 10 & 1 == 1);
    let granted = (ambient || (carried && !no_new)) && !taken_away;
    if port >= limit || granted {
        return None;
    }
    let mut evidence =
        vec![Evidence::new(Source::Config, format!("{} wants {}", case.service.name, want.listen))];
    if let Some(place) = &want.place {
        evidence = evidence.into_iter().map(|e| e.at(place)).collect();
    }
    evidence.push(Evidence::new(
        Source::Manager,
        format!("it is started as {}, and ports below {limit} are for root", case.starter.name),
    ));
    Some(Finding {
        code: Code::PortPrivileged,
        severity: Severity::Error,
        subject: Subject::listener(want.listen.address, port, None, None),
        title: format!("port {port} may not be bound by {}", case.starter.name),
        proof: Proof::Inevitable,
        evidence,
        fixes: unit
            .map(|_| "grant-capability")
            .into_iter()
            .chain(want.place.as_ref().map(|_| "move-port"))
            .collect(),
        blocks: true,
        stage: stage::BIND,
    })
}

/// A copy started by hand that holds no wanted port, but the same pid file or data.
fn second_copy(snapshot: &Snapshot, case: &Case, found: &[Finding]) -> Option<Finding> {
    let down = case.processes.is_empty();
    let known = found.iter().any(|f| f.code == Code::AlreadyRunning);
    let stray = case.strays.iter().find(|p| same_daemon(case.service, p))?;
    if !down || known || crate::case::chain(snapshot, stray).1.is_some() {
        return None;
    }
    let pid = stray.brief.pid;
    Some(Finding {
        code: Code::AlreadyRunning,
        severity: Severity::Error,
        subject: Subject { pid: Some(pid), ..Subject::default() },
        title: format!(
            "another copy of {} runs already: {} (pid {pid})",
            case.service.name, stray.brief.name
        ),
        proof: Proof::Now,
        evidence: vec![
            Evidence::new(Source::Process, crate::secrets::mask_arguments(&stray.arguments).join(" "))
                .pid(pid),
        ],
        fixes: vec!["stop-holder"],
        blocks: true,
        stage: stage::BIND,
    })
}
