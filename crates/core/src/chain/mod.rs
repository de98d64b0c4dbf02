//! From the address of a page to what answers it: name, address, listener, site, location, file or upstream,
//! and the daemon behind, each looked at in turn. The page is asked for once; what a hop says counts only
//! where the page really fails.
mod behind;
mod dependency;
mod front;
mod traces;

use crate::bounds::REDIRECTS;
use crate::case::{self, Case, Depth, State, gather};
use crate::code::Code;
use crate::finding::{Evidence, Finding, Source, Subject};
use crate::host::{Look, ProbeAnswer, ProbeProtocol, ProbeRequest, Protocol, Socket};
use crate::net::{Listen, endpoint};
use crate::route::{Request, Url};
use crate::service::Service;
use crate::snapshot::Snapshot;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// What a hop is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Hop {
    /// The name of the host.
    Name,
    /// The address that it leads to.
    Address,
    /// What listens there.
    Listener,
    /// The site, chosen by name.
    Site,
    /// The location, or the folder rules.
    Location,
    /// The file that is sent.
    File,
    /// The daemon's own code, or a script.
    Handler,
    /// What it is passed on to.
    Upstream,
    /// The daemon behind.
    Daemon,
    /// What that one depends on.
    Dependency,
}

impl Hop {
    /// Its name in sentences.
    pub fn word(self) -> &'static str {
        match self {
            Self::Name => "name",
            Self::Address => "address",
            Self::Listener => "listener",
            Self::Site => "site",
            Self::Location => "location",
            Self::File => "file",
            Self::Handler => "handler",
            Self::Upstream => "upstream",
            Self::Daemon => "daemon",
            Self::Dependency => "dependency",
        }
    }
}

/// One hop of a chain.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Link {
    /// Which.
    pub hop: Hop,
    /// In a few words.
    pub what: String,
    /// Whether it is well; `null` where that could not be seen.
    pub ok: Option<bool>,
    /// The service that it belongs to.
    pub service: Option<String>,
    /// How it is known.
    pub evidence: Vec<Evidence>,
}

/// What came of following an address.
pub struct Chain {
    /// The hops, in order.
    pub links: Vec<Link>,
    /// What the server answered; `None` where nobody was asked.
    pub answer: Option<ProbeAnswer>,
    /// What is wrong, with the index of the service where it is, the one furthest behind first.
    pub faults: Vec<(usize, Finding)>,
    /// Services that the request goes through, in order.
    pub through: Vec<usize>,
    /// Those of them whose own choice of site and location is known.
    pub routed: Vec<usize>,
    /// The address leads to another host: nothing was sent.
    pub elsewhere: Option<String>,
    /// Files of applications that were looked into.
    pub read: Vec<String>,
}

impl Chain {
    /// The page is only a way to another one.
    fn go_on(&mut self, url: &Url, further: Chain) {
        let ok = if further.elsewhere.is_some() { None } else { Some(true) };
        let evidence: Vec<Evidence> =
            further.elsewhere.iter().map(|why| Evidence::new(Source::NameLookup, why.clone())).collect();
        let service = self.through.first().and(self.links.last()).and_then(|l| l.service.clone());
        let what = format!("sends to {}", url.shown);
        if self.links.last().is_some_and(|l| l.hop == Hop::Handler && l.what.starts_with("sends to ")) {
            self.links.pop();
        }
        self.links.push(Link { hop: Hop::Handler, what, ok, service, evidence });
        if further.elsewhere.is_some() {
            // Another host's page: nothing is sent there, and this one did its work.
            if let Some(answer) = &mut self.answer {
                answer.location = None;
            }
            return;
        }
        self.links.extend(further.links);
        self.through.extend(further.through);
        self.routed.extend(further.routed);
        self.read.extend(further.read);
        self.faults = further.faults;
        self.answer = further.answer;
    }

    /// Its redirects never come to a page.
    fn ends_in(&mut self, what: &str, title: &str, said: &str) {
        let evidence = vec![Evidence::new(Source::Probe, said)];
        let service = self.links.last().and_then(|l| l.service.clone());
        self.links.push(Link {
            hop: Hop::Handler,
            what: what.to_owned(),
            ok: Some(false),
            service,
            evidence: evidence.clone(),
        });
        if let Some(at) = self.through.last() {
            let finding = front::fault(Code::ConfigConflict, Subject::default(), title.to_owned(), evidence);
            self.faults.push((*at, finding));
        }
        if let Some(answer) = &mut self.answer {
            answer.location = None;
        }
    }

    /// Whether a hop is seen to be broken.
    pub fn is_broken(&self) -> bool {
        self.links.iter().any(|l| l.ok == Some(false) && l.hop != Hop::Name)
    }
    /// Whether the page was asked for and came.
    pub fn is_well(&self) -> bool {
        self.answer.as_ref().and_then(|a| a.status).is_some_and(|status| status < 400) && !self.is_broken()
    }
}

/// A walk along a chain.
struct Walker<'a, 'h> {
    snapshot: &'a Snapshot<'h>,
    services: &'a [Service],
    links: Vec<Link>,
    faults: Vec<(usize, Finding)>,
    through: Vec<usize>,
    routed: Vec<usize>,
    /// Logs that may hold lines about the request.
    logs: Vec<(usize, String)>,
    /// Scripts that are run, with the service that runs them.
    scripts: Vec<(usize, String)>,
    /// What a front asks of the daemon behind it, with that daemon: it may change the address.
    asked: Vec<(usize, String)>,
    /// Whether to log in as the applications do.
    try_logins: bool,
    /// Files of applications that were looked into.
    read: Vec<String>,
}

const OWN_UNSEEN: &str = "and which addresses this host has could not be seen";
const SENT_BACK: &str = "the page sends back to an address that was asked before";

/// Follows an address through this host, and to where it sends on this host.
pub fn follow(snapshot: &Snapshot, services: &[Service], url: &Url) -> Chain {
    follow_and_log_in(snapshot, services, url, false)
}

/// The same; with `try_logins` the accounts of applications are logged in with at their servers of data,
/// which may be counted against an account.
pub fn follow_and_log_in(snapshot: &Snapshot, services: &[Service], url: &Url, try_logins: bool) -> Chain {
    let mut seen = vec![url.to_string()];
    let mut whole = once(snapshot, services, url, try_logins);
    while let Some(to) = sent_to(&whole, &seen) {
        let next = match to.and_then(|to| Url::parse(&to).ok()) {
            Some(next) if seen.contains(&next.to_string()) => {
                whole.ends_in("a circle of redirects", "its redirects lead in a circle", SENT_BACK);
                return whole;
            }
            Some(next) if seen.len() <= REDIRECTS => next,
            Some(_) => {
                let said = format!("more than {REDIRECTS} redirects one after another");
                whole.ends_in(&said, "its redirects lead on and on", &said);
                return whole;
            }
            // A scheme that is not followed, or no address at all.
            None => return whole,
        };
        seen.push(next.to_string());
        let further = once(snapshot, services, &next, try_logins);
        whole.go_on(&next, further);
    }
    whole
}

/// Where a chain sends its client, if it does; `None` inside where that is no address.
fn sent_to(chain: &Chain, seen: &[String]) -> Option<Option<String>> {
    let answer = chain.answer.as_ref().filter(|_| chain.elsewhere.is_none())?;
    let to =
        answer.location.as_ref().filter(|_| matches!(answer.status, Some(301 | 302 | 303 | 307 | 308)))?;
    let base = seen.last().map_or("", String::as_str);
    Some(absolute(base, to))
}

/// A reference as an address of its own (RFC 3986, 5.2, as far as servers send them).
fn absolute(base: &str, to: &str) -> Option<String> {
    if to.contains("://") {
        return Some(to.to_owned());
    }
    let (scheme, rest) = base.split_once("://")?;
    let end = rest.find(['/', '?']).unwrap_or(rest.len());
    let (authority, path) = rest.split_at(end);
    if let Some(authority) = to.strip_prefix("//") {
        return Some(format!("{scheme}://{authority}"));
    }
    if to.starts_with('/') {
        return Some(format!("{scheme}://{authority}{to}"));
    }
    let path = path.split(['?', '#']).next().unwrap_or_default();
    let dir = path.rfind('/').map_or("/", |at| &path[..=at]);
    Some(format!("{scheme}://{authority}{dir}{to}"))
}

/// Follows one address.
fn once(snapshot: &Snapshot, services: &[Service], url: &Url, try_logins: bool) -> Chain {
    let mut walker = Walker {
        snapshot,
        services,
        links: Vec::new(),
        faults: Vec::new(),
        through: Vec::new(),
        routed: Vec::new(),
        logs: Vec::new(),
        scripts: Vec::new(),
        asked: Vec::new(),
        try_logins,
        read: Vec::new(),
    };
    let address = match walker.address(url) {
        Ok(address) => address,
        Err(elsewhere) => return walker.end(None, Some(elsewhere)),
    };
    let first = walker.listener(address, url);
    if let Some(service) = first.service {
        walker.through.push(service);
        let request = Request {
            address,
            port: url.port,
            client: if address.is_loopback() { address } else { loopback(address) },
            tls: url.tls,
            host: url.host_header(),
            target: url.target.clone(),
            agent: "jolly-sentinel".to_owned(),
        };
        if first.heard || !snapshot.host().parts().processes {
            walker.pass_through(service, &request, 0);
        }
    }
    // What is written from here on may be about this very request.
    let logs = walker.log_ends();
    let answer = first.heard.then(|| walker.ask(address, url)).flatten();
    // A page that comes has all that it needs.
    let status = answer.as_ref().and_then(|a| a.status);
    if status.is_none_or(|s| s >= 400) {
        walker.dependencies(url, status);
    }
    walker.judge(url, answer.as_ref(), &logs);
    walker.stopped(&first);
    walker.end(answer, None)
}

fn loopback(like: IpAddr) -> IpAddr {
    if like.is_ipv4() { Ipv4Addr::LOCALHOST.into() } else { Ipv6Addr::LOCALHOST.into() }
}

/// What was found where a request arrives.
struct Arrival {
    service: Option<usize>,
    /// Somebody listens.
    heard: bool,
}

impl<'a> Walker<'a, '_> {
    fn end(self, answer: Option<ProbeAnswer>, elsewhere: Option<String>) -> Chain {
        let Self { links, faults, through, routed, read, .. } = self;
        Chain { links, answer, faults, through, routed, elsewhere, read }
    }

    fn link(&mut self, hop: Hop, what: impl Into<String>, ok: Option<bool>, evidence: Vec<Evidence>) {
        self.link_of(self.through.last().copied(), hop, what, ok, evidence);
    }

    fn link_of(
        &mut self,
        service: Option<usize>,
        hop: Hop,
        what: impl Into<String>,
        ok: Option<bool>,
        evidence: Vec<Evidence>,
    ) {
        let service = service.map(|at| self.services[at].name.clone());
        let what = crate::bounds::clip(&what.into());
        self.links.push(Link { hop, what, ok, service, evidence });
    }

    /// Whether an address is one of this host's; `None` where those could not be seen.
    fn is_here(&self, address: IpAddr) -> Option<bool> {
        let address = crate::net::normal(address);
        if address.is_loopback() || address.is_unspecified() {
            return Some(true);
        }
        self.snapshot.addresses().seen().map(|own| own.contains(&address))
    }

    /// The service whose configuration has a site of this name, with an address of this host to reach it by.
    fn site_of(&self, name: &str) -> Option<usize> {
        let has = |service: &Service| {
            service.configuration(self.snapshot).model.site_names.iter().any(|(n, _)| fits(n, name))
        };
        self.services.iter().position(has)
    }

    /// Name and address; the sentence that it leads elsewhere otherwise.
    fn address(&mut self, url: &Url) -> Result<IpAddr, String> {
        let name = &url.host;
        if let Ok(address) = name.parse::<IpAddr>() {
            return match self.is_here(address) {
                Some(true) => {
                    self.link(Hop::Address, address.to_string(), Some(true), vec![]);
                    Ok(address)
                }
                Some(false) => Err(format!("{address} is not an address of this host")),
                None => Err(format!("{address}: {OWN_UNSEEN}")),
            };
        }
        let found = crate::names::resolve(self.snapshot, name);
        let site = self.site_of(name);
        let by_site = |walker: &mut Self| {
            let address = walker.own_address(site, url.port);
            let service = site.map_or("", |at| walker.services[at].name.as_str()).to_owned();
            let evidence = vec![Evidence::new(Source::Config, format!("a site of {service} has this name"))];
            walker.link(Hop::Address, address.to_string(), None, evidence);
            address
        };
        let evidence = |what: String| vec![Evidence::new(Source::NameLookup, what)];
        match found {
            Look::Seen(all) => {
                let listed = all.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
                if let Some(here) = all.iter().find(|a| self.is_here(**a) == Some(true)) {
                    self.link(Hop::Name, name.as_str(), Some(true), evidence(format!("{name} is {listed}")));
                    self.link(Hop::Address, here.to_string(), Some(true), vec![]);
                    return Ok(*here);
                }
                let unseen = all.iter().any(|a| self.is_here(*a).is_none());
                let why = if unseen { OWN_UNSEEN } else { "which is not an address of this host" };
                let said = format!("{name} is {listed}, {why}");
                if site.is_none() {
                    return Err(said);
                }
                self.link(Hop::Name, name.as_str(), None, evidence(said));
                Ok(by_site(self))
            }
            Look::Absent if site.is_some() => {
                let said = evidence(format!("{name} does not resolve on this host"));
                self.link(Hop::Name, name.as_str(), Some(false), said);
                Ok(by_site(self))
            }
            Look::NotSeen(_) if site.is_some() => {
                self.link(Hop::Name, name.as_str(), None, vec![]);
                Ok(by_site(self))
            }
            Look::Absent => Err(format!("{name} does not resolve, and no site of this host has this name")),
            Look::NotSeen(_) => {
                Err(format!("where {name} leads could not be seen, and no site of this host has this name"))
            }
        }
    }

    /// An address of this host on which a service listens at a port.
    fn own_address(&self, service: Option<usize>, port: u16) -> IpAddr {
        let config = service.map(|at| self.services[at].configuration(self.snapshot));
        let listens = config.iter().flat_map(|c| &c.model.listens).filter(|l| l.listen.port == port);
        let own: Vec<IpAddr> = listens.filter_map(|l| l.listen.address).collect();
        let any = own.iter().find(|a| a.is_ipv4()).or(own.first()).copied();
        match any {
            Some(address) if address.is_unspecified() => loopback(address),
            Some(address) => address,
            None => Ipv4Addr::LOCALHOST.into(),
        }
    }

    /// The services whose configuration is to listen on an address.
    fn wanting(&self, listen: &Listen) -> Vec<usize> {
        let wants = |service: &Service| {
            let config = service.configuration(self.snapshot);
            let described = service.described.listen.iter().filter_map(|l| crate::net::parse_listen(l).ok());
            let model = config.model.listens.iter().chain(&config.model.guesses);
            let mut own = model.map(|l| l.listen.clone()).chain(described);
            own.any(|l| l.conflicts_with(&as_socket(listen)))
        };
        self.services.iter().enumerate().filter(|(_, s)| wants(s)).map(|(at, _)| at).collect()
    }

    /// The service whose process holds a socket, and the process.
    fn holding(&self, socket: &Socket) -> (Option<usize>, Option<u32>) {
        let pids: Vec<u32> = self
            .snapshot
            .owners(&[socket.inode])
            .seen()
            .unwrap_or_default()
            .into_iter()
            .map(|(_, pid)| pid)
            .collect();
        for pid in &pids {
            let Some(process) = self.snapshot.process(*pid).seen() else { continue };
            let unit = case::owner_of(self.snapshot, &process.cgroup);
            let by_unit =
                self.services.iter().position(|s| unit.is_some() && s.unit_name() == unit.as_deref());
            let by_program = || self.services.iter().position(|s| s.unit.is_none() && s.started(&process));
            if let Some(at) = by_unit.or_else(by_program) {
                return (Some(at), Some(*pid));
            }
        }
        (None, pids.first().copied())
    }

    /// A service that was stopped on purpose has no cause of its own; for the page that is one.
    fn stopped(&mut self, first: &Arrival) {
        let Some(at) = first.service.filter(|_| !first.heard && self.faults.is_empty()) else { return };
        let service = &self.services[at];
        let case = state_of(self.snapshot, service);
        if case.state != State::Stopped || service.unit.as_ref().is_some_and(|u| u.masked) {
            return;
        }
        let said = Evidence::new(Source::Manager, standing(&case).0).time(case.since, &case.zone);
        let subject = Subject { unit: service.unit_name().map(str::to_owned), ..Subject::default() };
        let title = format!("{} is stopped", service.name);
        let mut finding = front::fault(Code::ManagerDisabled, subject, title, vec![said]);
        finding.fixes.push("start");
        self.faults.push((at, finding));
    }

    /// Who listens where the request arrives.
    fn listener(&mut self, address: IpAddr, url: &Url) -> Arrival {
        let listen = Listen::tcp(address, url.port, false);
        let place = endpoint(address, url.port);
        let sockets = match self.snapshot.listeners() {
            Look::Seen(sockets) => sockets,
            _ => {
                // Only files: what is to listen there.
                let service = self.wanting(&listen).first().copied();
                let what = match service {
                    Some(at) => format!("{} is to listen on {place}", self.services[at].name),
                    None => format!("nothing is to listen on {place}"),
                };
                self.link_of(service, Hop::Listener, what, None, vec![]);
                return Arrival { service, heard: false };
            }
        };
        let mut serving: Vec<&Socket> = sockets.iter().filter(|s| listen.served_by(s)).collect();
        serving.sort_by_key(|s| s.address.is_some_and(|a| a.is_unspecified()));
        let Some(socket) = serving.first() else { return self.nobody(&listen, url) };
        let (service, pid) = self.holding(socket);
        let name = pid.and_then(|pid| self.snapshot.brief(pid)).map_or("a process", |b| b.name.as_str());
        let said = match pid {
            Some(pid) => vec![Evidence::new(Source::Socket, format!("{name} listens on {place}")).pid(pid)],
            None => vec![Evidence::new(Source::Socket, format!("somebody listens on {place}"))],
        };
        // Somebody else's program in the place of the service that is to listen there.
        let meant = self.wanting(&listen).first().copied();
        let stranger = service.is_none() && pid.is_some() && meant.is_some();
        let what = match service {
            Some(at) => format!("{} on {place}", self.services[at].name),
            None => format!("{name} on {place}"),
        };
        self.link_of(service.or(meant), Hop::Listener, what, Some(!stranger), said);
        if stranger {
            self.through.extend(meant);
            return Arrival { service: None, heard: true };
        }
        Arrival { service, heard: true }
    }

    /// Nobody listens where the request arrives.
    fn nobody(&mut self, listen: &Listen, url: &Url) -> Arrival {
        let said = vec![Evidence::new(Source::Socket, format!("nobody listens on {listen}"))];
        if let Some(at) = self.wanting(listen).first().copied() {
            let what = format!("{} is to listen on {listen}, and does not", self.services[at].name);
            self.link_of(Some(at), Hop::Listener, what, Some(false), said);
            return Arrival { service: Some(at), heard: false };
        }
        self.link(Hop::Listener, format!("nobody listens on {listen}"), Some(false), said);
        if let Some(at) = self.site_of(&url.host) {
            self.unreachable(at, listen);
            self.through.push(at);
        }
        Arrival { service: None, heard: false }
    }

    /// Asks for the page, once.
    fn ask(&self, address: IpAddr, url: &Url) -> Option<ProbeAnswer> {
        if !self.snapshot.host().parts().probes {
            return None;
        }
        let request = ProbeRequest {
            address,
            port: url.port,
            tls: url.tls,
            host: url.host.clone(),
            path: url.target.clone(),
            protocol: ProbeProtocol::Http,
            socket: None,
            peer: None,
        };
        self.snapshot.probe(&request).seen()
    }
}

/// A listener as if it were there, to compare others with.
fn as_socket(listen: &Listen) -> Socket {
    Socket {
        protocol: listen.protocol,
        address: listen.address,
        port: listen.port,
        path: listen.path.clone(),
        inode: 0,
        uid: 0,
        v6_only: listen.v6_only,
    }
}

/// Whether the name of a site, which may hold a wildcard at one end, is for a host.
fn fits(site: &str, host: &str) -> bool {
    let site = site.to_ascii_lowercase();
    if site == host {
        return !site.is_empty();
    }
    let bare = site.strip_prefix('.').is_some_and(|name| name == host);
    let tail = site.strip_prefix('*').unwrap_or(&site);
    let front = tail.starts_with('.') && host.len() > tail.len() && host.ends_with(tail);
    let behind = site.strip_suffix(".*").and_then(|head| host.strip_prefix(head));
    bare || front || behind.is_some_and(|rest| rest.starts_with('.'))
}

/// How a service stands, in a few words, and whether that is well.
fn standing(case: &Case) -> (String, Option<bool>) {
    let ok = match case.state {
        State::Running => Some(true),
        State::Unknown => None,
        State::Stopped if case.waits_by().is_some() => Some(true),
        _ => Some(false),
    };
    (format!("{} is {}", case.service.name, case.state.word()), ok)
}

/// The state of a service alone.
fn state_of<'s>(snapshot: &Snapshot, service: &'s Service) -> Case<'s> {
    gather(snapshot, service, Depth::State)
}

/// Whether a listener is of a stream.
fn is_stream(socket: &Socket) -> bool {
    socket.protocol != Protocol::Udp
}

#[cfg(test)]
mod tests;
