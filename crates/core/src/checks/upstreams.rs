//! What a service that runs passes on to, here on this host: the service that is to listen there must run.
//! Only the kernel's tables are asked; nothing is connected to. What stands on another host is not judged,
//! nor is an address of which nobody knows whose it is: it may point nowhere on purpose, or not yet.
use crate::case::{Case, State};
use crate::code::Code;
use crate::config::Upstream;
use crate::finding::{Evidence, Finding, Source, Subject, stage};
use crate::host::{Look, Protocol};
use crate::service::Service;
use crate::services_file::ServicesFile;
use crate::serving;
use crate::snapshot::Snapshot;
use std::collections::BTreeMap;
use std::net::IpAddr;

pub(super) fn check(snapshot: &Snapshot, case: &Case) -> Vec<Finding> {
    let all = &case.config.model.upstreams;
    if all.is_empty() || case.state != State::Running || case.processes.is_empty() || is_apart(case) {
        return Vec::new();
    }
    let Look::Seen(sockets) = snapshot.listeners() else { return Vec::new() };
    let own = snapshot.addresses().seen().unwrap_or_default();
    let is_here = |u: &Upstream| {
        let loops = |a: IpAddr| a.is_loopback() || own.contains(&a);
        u.listen.protocol == Protocol::Unix || u.listen.address.is_some_and(loops)
    };
    let answers = |u: &Upstream| sockets.iter().any(|s| u.is_served_by(s));
    // Of several that do the same work, one is enough.
    let mut groups: BTreeMap<(&str, u32, &str), Vec<&Upstream>> = BTreeMap::new();
    for one in all {
        let line = if one.group.is_empty() { one.place.line } else { 0 };
        let file: &str = if one.group.is_empty() { &one.place.file } else { "" };
        groups.entry((file, line, &one.group)).or_default().push(one);
    }
    let mut found: Vec<Finding> = Vec::new();
    let mut services: Option<Vec<Service>> = None;
    for members in groups.values() {
        if members.iter().any(|u| !is_here(u) || answers(u)) {
            continue;
        }
        let Some(dead) = members.iter().find(|u| !u.spare).or(members.first()) else { continue };
        // Many places may point at one listener.
        let same = |f: &&mut Finding| {
            f.subject.port == Some(dead.listen.port).filter(|p| *p > 0) && f.subject.path == dead.listen.path
        };
        if let Some(known) = found.iter_mut().find(same) {
            known.evidence.push(points(case, dead));
            continue;
        }
        let services = services.get_or_insert_with(|| {
            serving::serving(snapshot, &ServicesFile::default(), serving::Extent::Serving)
        });
        found.extend(finding(snapshot, case, dead, services));
    }
    found
}

/// Whether the service lives in a network of its own, where the host's listeners say nothing.
fn is_apart(case: &Case) -> bool {
    let unit = case.service.unit.as_ref();
    let set = |key: &str| unit.and_then(|u| u.value("Service", key));
    set("PrivateNetwork").is_some_and(|v| crate::manager::on(&v))
        || set("NetworkNamespacePath").is_some()
        || set("RootDirectory").is_some()
        || case.processes.iter().any(|p| !p.own_root)
}

fn points(case: &Case, dead: &Upstream) -> Evidence {
    Evidence::new(Source::Config, format!("{} passes on to {}", case.service.name, dead.listen))
        .at(&dead.place)
}

fn finding(snapshot: &Snapshot, case: &Case, dead: &Upstream, services: &[Service]) -> Option<Finding> {
    let wants = |s: &&Service| {
        let config = s.configuration(snapshot);
        let own = config.model.listens.iter().chain(&config.model.guesses);
        s.name != case.service.name && own.map(|l| &l.listen).any(|l| dead.leads_to(l))
    };
    let behind = services.iter().find(wants).filter(|s| !crate::case::is_running(snapshot, s))?;
    let evidence = vec![
        Evidence::new(Source::Socket, format!("nobody listens on {}", dead.listen)),
        points(case, dead),
        Evidence::new(Source::Config, format!("{} is to listen there", behind.name)),
    ];
    let title =
        format!("{} does not run, to which {} passes on at {}", behind.name, case.service.name, dead.listen);
    let mut subject = match (&dead.listen.path, dead.listen.address) {
        (Some(path), _) => Subject::path(path),
        (None, address) => Subject::listener(address, dead.listen.port, None, None),
    };
    subject.unit = behind.unit_name().map(str::to_owned);
    let mut found = Finding::inevitable(Code::DependencyDown, stage::RUN, subject, title, evidence);
    // What fails or is masked has a cause of its own.
    let stopped = crate::case::gather(snapshot, behind, crate::case::Depth::State).state == State::Stopped;
    if stopped && found.subject.unit.is_some() && behind.unit.as_ref().is_some_and(|u| !u.masked) {
        found.fixes.push("start-behind");
    }
    Some(found)
}
