//! What a front passes a request on to: is it there, may it be reached, and what becomes of the request
//! there.
use super::front::fault;
use super::{Hop, Walker, is_stream, standing, state_of};
use crate::access::{self, Right};
use crate::accounts::Account;
use crate::case::State;
use crate::code::Code;
use crate::config::{Upstream, alike_sockets};
use crate::finding::{Evidence, Source, Subject};
use crate::host::{Look, Protocol, Socket};
use crate::net::Listen;
use crate::route::{Files, Met, Pass, Request, Speaks};

impl Walker<'_, '_> {
    pub(super) fn upstream(
        &mut self,
        at: usize,
        pass: &Pass,
        request: &Request,
        who: Option<&Account>,
        depth: usize,
    ) {
        let front = self.services[at].name.clone();
        let points = Evidence::new(
            Source::Config,
            format!("{front} passes on to {} ({})", pass.to, pass.speaks.spelled()),
        )
        .at(&pass.place);
        let Some(first) = pass.members.iter().find(|m| !m.spare).or(pass.members.first()) else {
            self.link(Hop::Upstream, pass.to.as_str(), None, vec![points]);
            self.snapshot.unseen(format!("where {} leads ({})", pass.to, pass.place));
            return;
        };
        let is_here = |m: &Upstream| match m.listen.address {
            _ if m.listen.protocol == Protocol::Unix => Some(true),
            Some(address) => self.is_here(address),
            None => Some(false),
        };
        if pass.members.iter().any(|m| is_here(m).is_none()) {
            self.link(Hop::Upstream, first.listen.to_string(), None, vec![points]);
            self.snapshot.unseen(format!("whether {} is of this host", first.listen));
            return;
        }
        let ours: Vec<&Upstream> = pass.members.iter().filter(|m| is_here(m) == Some(true)).collect();
        if ours.is_empty() {
            self.link(Hop::Upstream, format!("{}, on another host", first.listen), None, vec![points]);
            self.snapshot.unseen(format!("whether {} answers: it is another host's", first.listen));
            return;
        }
        let Look::Seen(sockets) = self.snapshot.listeners() else {
            self.link(Hop::Upstream, first.listen.to_string(), None, vec![points]);
            return;
        };
        let served = |m: &&Upstream| sockets.iter().find(|s| is_stream(s) && m.is_served_by(s));
        let alive = ours.iter().find_map(|m| served(m).map(|s| (*m, s.clone())));
        match alive {
            Some((member, socket)) => self.reached(at, pass, member, &socket, points, request, who, depth),
            None if ours.len() < pass.members.len() => {
                self.link(Hop::Upstream, format!("{}, partly on other hosts", pass.to), None, vec![points]);
            }
            None => {
                let listen = &ours[0].listen;
                self.silent(at, listen, Hop::Upstream, listen.to_string(), points, &sockets);
            }
        }
    }

    /// Nobody listens where a front passes on to, or where an application looks for its server of data.
    pub(super) fn silent(
        &mut self,
        at: usize,
        listen: &Listen,
        hop: Hop,
        what: String,
        points: Evidence,
        sockets: &[Socket],
    ) {
        let front = self.services[at].name.clone();
        let does = match hop {
            Hop::Upstream => format!("to which {front} passes on"),
            _ => format!("which {front} uses"),
        };
        let mut said = vec![Evidence::new(Source::Socket, format!("nobody listens on {listen}")), points];
        let behind = self.wanting(listen).into_iter().find(|other| *other != at);
        let mut fixes = Vec::new();
        let mut subject = match (&listen.path, listen.address) {
            (Some(path), _) => Subject::path(path),
            (None, address) => Subject::listener(address, listen.port, None, None),
        };
        let title = match behind {
            Some(other) => {
                let name = self.services[other].name.clone();
                subject.unit = self.services[other].unit_name().map(str::to_owned);
                said.push(Evidence::new(Source::Config, format!("{name} is to listen there")));
                format!("{name} does not listen on {listen}, {does}")
            }
            None => {
                let path = listen.path.as_deref().unwrap_or_default();
                let alike = alike_sockets(path, sockets);
                if hop == Hop::Upstream && matches!(alike.as_slice(), [(_, true)]) {
                    fixes.push("point-to-socket");
                }
                for (path, _) in alike {
                    said.push(Evidence::new(Source::Socket, format!("somebody listens on {path}")));
                }
                format!("nobody listens on {listen}, {does}")
            }
        };
        self.link_of(Some(at), hop, what, Some(false), said.clone());
        let mut finding = fault(Code::DependencyDown, subject, title, said);
        finding.fixes.extend(fixes);
        let starts = |other: usize| state_of(self.snapshot, &self.services[other]).state == State::Stopped;
        if finding.subject.unit.is_some() && behind.is_some_and(starts) {
            finding.fixes.push("start-behind");
        }
        self.faults.push((at, finding));
        if let Some(other) = behind.filter(|_| hop == Hop::Upstream) {
            self.through.push(other);
            let snapshot = self.snapshot;
            let services = self.services;
            let (what, ok) = standing(&state_of(snapshot, &services[other]));
            self.link(Hop::Daemon, what, ok, vec![]);
        }
    }

    /// Somebody listens there.
    #[expect(clippy::too_many_arguments, reason = "one hop with all that is known of it")]
    fn reached(
        &mut self,
        at: usize,
        pass: &Pass,
        member: &Upstream,
        socket: &Socket,
        points: Evidence,
        request: &Request,
        who: Option<&Account>,
        depth: usize,
    ) {
        let shown = member.listen.to_string();
        if let Some(path) = &member.listen.path
            && let Some(who) = who
            && let Look::Seen(Some(obstacle)) = access::may(self.snapshot, who, path, Right::Write)
        {
            let verb = if obstacle.path == *path { "connect to" } else { "enter" };
            let mut finding = self.closed(&obstacle, who, verb);
            finding.evidence.push(points);
            self.link(Hop::Upstream, shown, Some(false), finding.evidence.clone());
            self.faults.push((at, finding));
            return;
        }
        self.link(Hop::Upstream, shown.clone(), Some(true), vec![points]);
        let (service, pid) = self.holding(socket);
        let Some(behind) = service else {
            let name = pid.and_then(|pid| self.snapshot.brief(pid)).map_or("a process", |b| b.name.as_str());
            let mut said = Evidence::new(Source::Socket, format!("{name} listens on {shown}"));
            said.pid = pid;
            self.link(Hop::Daemon, name, None, vec![said]);
            return;
        };
        self.through.push(behind);
        let (snapshot, services) = (self.snapshot, self.services);
        let (what, ok) = standing(&state_of(snapshot, &services[behind]));
        self.link(Hop::Daemon, what, ok, vec![]);
        self.asked.extend(pass.target.iter().map(|target| (behind, target.clone())));
        match pass.speaks {
            Speaks::FastCgi => self.script(at, behind, pass),
            Speaks::Http | Speaks::Https if depth < crate::bounds::DAEMONS => {
                let (Some(host), Some(target)) = (&pass.host, &pass.target) else { return };
                let Some(address) = member.listen.address else { return };
                let further = Request {
                    address,
                    port: member.listen.port,
                    client: address,
                    tls: pass.speaks == Speaks::Https,
                    host: host.clone(),
                    target: target.clone(),
                    agent: request.agent.clone(),
                };
                self.pass_through(behind, &further, depth + 1);
            }
            _ => {}
        }
    }

    /// The script that a gateway is asked for, as the pool's account meets it.
    fn script(&mut self, front: usize, pool: usize, pass: &Pass) {
        let Some(script) = pass.script.as_deref().filter(|s| s.starts_with('/')) else { return };
        let account = self.account_of(&self.services[pool]);
        let files = Files::new(self.snapshot, account.as_ref());
        match files.meet(script) {
            Met::File => {
                self.scripts.push((pool, script.to_owned()));
                self.link(Hop::Handler, script, Some(true), vec![]);
            }
            Met::Refused => self.refused(pool, script, account.as_ref()),
            Met::Unseen => self.link(Hop::Handler, script, None, vec![]),
            Met::Nothing | Met::Directory | Met::Other => {
                let said = Evidence::new(Source::File, format!("{script} is not a file")).file(script);
                let points =
                    Evidence::new(Source::Config, format!("{} asks for it", self.services[front].name))
                        .at(&pass.place);
                self.link(Hop::Handler, script, Some(false), vec![said.clone()]);
                let title = format!("the script {script} does not exist");
                let subject = Subject::path(script);
                self.faults.push((front, fault(Code::ConfigMissingFile, subject, title, vec![said, points])));
            }
        }
    }
}
