//! What an application behind a page depends on: the servers of data that its configuration names. Is
//! somebody there, is it the right sort of server, is it ready, and may the application's account in.
use super::front::fault;
use super::{Hop, Walker};
use crate::access::{self, Right};
use crate::application::sources::{self, DataSource};
use crate::application::{Form, Variables};
use crate::bounds::{APPLICATION, APPLICATION_FILES, SOURCES};
use crate::case::starter;
use crate::code::Code;
use crate::finding::{Evidence, Proof, Source, Subject};
use crate::host::{
    Engine, LoginAnswer, LoginOutcome, LoginRequest, Look, ProbeProtocol, ProbeRequest, Protocol, Refusal,
    Socket,
};
use crate::logins::{self, Said, Wish};
use crate::net::Listen;
use crate::route::Url;
use std::net::IpAddr;

/// An application's use of a server of data at which somebody listens.
struct Use<'s> {
    /// The service of the application.
    at: usize,
    source: &'s DataSource,
    engine: Engine,
    listen: Listen,
    /// The service that listens there.
    service: Option<usize>,
}

impl Walker<'_, '_> {
    /// Looks at the servers of data of the applications that the request goes through.
    pub(super) fn dependencies(&mut self, url: &Url, status: Option<u16>) {
        let mut seen = Vec::new();
        for at in self.through.clone() {
            if seen.contains(&at) {
                continue;
            }
            seen.push(at);
            let mut told: Vec<DataSource> = Vec::new();
            for one in self.sources_of(at, url) {
                let same = |o: &DataSource| {
                    let value = |s: &Option<sources::Said>| s.as_ref().map(|s| s.value.clone());
                    (&o.host, o.port, &o.socket, value(&o.account), value(&o.database))
                        == (&one.host, one.port, &one.socket, value(&one.account), value(&one.database))
                };
                if told.iter().any(same) {
                    continue;
                }
                if told.len() == SOURCES {
                    let name = &self.services[at].name;
                    self.snapshot.unseen(format!("more than {SOURCES} servers of data of {name}"));
                    break;
                }
                told.push(one);
            }
            let faults = self.faults.len();
            let well = told.iter().filter(|source| self.dependency(at, source)).count();
            // A file may name servers that nothing uses: of several, one that does not answer need not be the
            // reason, and least of all where another one does.
            let fails = status.is_none_or(|s| s >= 500);
            for (_, finding) in &mut self.faults[faults..] {
                finding.proof = match (told.len(), well > 0) {
                    (1, _) if fails => finding.proof,
                    (_, false) => Proof::Said,
                    (_, true) => Proof::Claimed,
                };
            }
        }
    }

    /// The servers of data that the configuration of an application names.
    fn sources_of(&mut self, at: usize, url: &Url) -> Vec<DataSource> {
        let service = &self.services[at];
        let script = self.scripts.iter().find(|(pool, _)| *pool == at).map(|(_, script)| script.as_str());
        let files =
            service.kind.application_files(self.snapshot, &service.instance, self.target_of(at, url), script);
        let account = self.account_of(service);
        let mut read = Vec::new();
        if files.len() > APPLICATION_FILES {
            self.snapshot.unseen(format!("more than {APPLICATION_FILES} files of {}", service.name));
        }
        for file in files.into_iter().take(APPLICATION_FILES) {
            let Some(form) = Form::of(&file) else { continue };
            // What the application itself may not read says nothing of it, and is not for its owner to have
            // read: whoever owns a directory can put a link there.
            match account.as_ref().map(|who| access::may(self.snapshot, who, &file, Right::Read)) {
                None | Some(Look::Seen(None)) => {}
                Some(Look::NotSeen(_)) => {
                    self.snapshot.unseen(format!("whether {} may read {file}", service.name));
                    continue;
                }
                Some(_) => continue,
            }
            let Some(bytes) = self.snapshot.read_at(&file, 0, APPLICATION).seen() else { continue };
            let text = String::from_utf8_lossy(&bytes).into_owned();
            self.read.push(file.clone());
            match crate::application::read(form, &text) {
                Ok(entries) => read.push((file, form, entries)),
                Err(broken) => {
                    self.snapshot.unseen(format!("{file}, line {}: {}", broken.line, broken.why));
                }
            }
        }
        let mut variables = Variables::of_environment(&service.instance.environment);
        for (_, form, entries) in &read {
            if matches!(form, Form::Environment | Form::Properties | Form::Yaml) {
                variables.add(entries);
            }
        }
        let find =
            |(file, form, entries): &(String, Form, Vec<_>)| sources::find(file, *form, entries, &variables);
        read.iter().flat_map(find).collect()
    }

    /// The family of a source: as it says, or the one of the services that listen where it leads.
    fn engine_of(&self, source: &DataSource) -> Option<Engine> {
        let of_kind = |name: &str| {
            [Engine::Mysql, Engine::Postgresql, Engine::Redis].into_iter().find(|e| e.kind() == name)
        };
        source.engine.or_else(|| {
            let mut found: Vec<Engine> = Vec::new();
            for engine in self.services.iter().filter_map(|s| of_kind(s.kind.name())) {
                let fits = source.port.is_none_or(|port| port == engine.port());
                if engine != Engine::Redis && fits && !found.contains(&engine) {
                    found.push(engine);
                }
            }
            match found.as_slice() {
                [one] => Some(*one),
                _ => None,
            }
        })
    }

    /// Where a source leads to; `None` where that is another host, or not known.
    fn leads_to(&self, source: &DataSource, engine: Engine) -> Option<Listen> {
        if let Some(path) = &source.socket {
            // A directory stands for the socket that the server makes in it.
            let directory = engine == Engine::Postgresql && !path.contains(".s.PGSQL.");
            let port = source.port.unwrap_or(engine.port());
            let path =
                if directory { crate::path::join(path, &format!(".s.PGSQL.{port}")) } else { path.clone() };
            return Some(Listen::unix(&path));
        }
        if source.local_is_socket && engine == Engine::Mysql && source.host == "localhost" {
            let sockets = self.services.iter().filter(|s| s.kind.name() == "mysql").flat_map(|s| {
                s.configuration(self.snapshot)
                    .model
                    .listens
                    .iter()
                    .map(|l| l.listen.clone())
                    .collect::<Vec<_>>()
            });
            return sockets.into_iter().find(|l| l.protocol == Protocol::Unix);
        }
        let port = source.port.unwrap_or(engine.port());
        let all: Vec<IpAddr> = match source.host.trim_matches(['[', ']']).parse::<IpAddr>() {
            Ok(address) => vec![address],
            Err(_) => crate::names::resolve(self.snapshot, &source.host).seen()?,
        };
        let here: Vec<IpAddr> = all.into_iter().filter(|a| self.is_here(*a) == Some(true)).collect();
        let sockets = self.snapshot.listeners().seen().unwrap_or_default();
        let served = |a: &&IpAddr| {
            let listen = Listen::tcp(**a, port, false);
            sockets.iter().any(|s| listen.served_by(s))
        };
        let address = here.iter().find(served).or(here.iter().find(|a| a.is_ipv4())).or(here.first())?;
        Some(Listen::tcp(*address, port, false))
    }

    /// Looks at one; whether somebody answers there, and nothing is seen to be wrong.
    fn dependency(&mut self, at: usize, source: &DataSource) -> bool {
        let name = self.services[at].name.clone();
        let account = source.account.as_ref().map_or_else(String::new, |a| format!(" as {}", a.value));
        let database = source.database.as_ref().map_or_else(String::new, |d| format!("{} at ", d.value));
        let Some(engine) = self.engine_of(source) else {
            self.snapshot.unseen(format!("which sort of server is meant at {}", source.place));
            return false;
        };
        let points = Evidence::new(
            Source::Config,
            format!("{name} uses {database}{} of {}{account}", place_of(source, engine), engine.spelled()),
        )
        .at(&source.place);
        let Some(listen) = self.leads_to(source, engine) else {
            let what = format!("{database}{}{account}", place_of(source, engine));
            self.link_of(Some(at), Hop::Dependency, what, None, vec![points]);
            self.snapshot
                .unseen(format!("whether {} answers: it is not known to be of this host", source.host));
            return false;
        };
        let what = format!("{} {database}{listen}{account}", engine.spelled());
        let Look::Seen(sockets) = self.snapshot.listeners() else {
            self.link_of(Some(at), Hop::Dependency, what, None, vec![points]);
            return false;
        };
        let Some(socket) = sockets.iter().find(|s| listen.served_by(s)).cloned() else {
            self.silent(at, &listen, Hop::Dependency, what, points, &sockets);
            return false;
        };
        let (service, _) = self.holding(&socket);
        let used = Use { at, source, engine, listen, service };
        // Whoever writes the application's files names the socket: what his account may not connect to is not
        // connected to with root's rights, and is not what the application talks to.
        if let Some(path) = &used.listen.path {
            let account = self.account_of(&self.services[at]);
            let may = account.as_ref().map(|who| (access::may(self.snapshot, who, path, Right::Write), who));
            match may {
                Some((Look::Seen(None), _)) => {}
                Some((Look::Seen(Some(obstacle)), who)) => {
                    let verb = if obstacle.path == *path { "connect to" } else { "enter" };
                    let mut finding = self.closed(&obstacle, who, verb);
                    finding.evidence.push(points);
                    self.link_of(Some(at), Hop::Dependency, what, Some(false), finding.evidence.clone());
                    self.faults.push((at, finding));
                    return false;
                }
                _ => {
                    self.link_of(Some(at), Hop::Dependency, what, None, vec![points]);
                    self.snapshot.unseen(format!("whether {name} may connect to {path}"));
                    return false;
                }
            }
        }
        if let Some(other) = service
            && is_data(self.services[other].kind.name())
            && self.services[other].kind.name() != engine.kind()
        {
            let said = Evidence::new(
                Source::Socket,
                format!("{} listens on {}", self.services[other].name, used.listen),
            );
            self.link_of(Some(at), Hop::Dependency, what, Some(false), vec![points.clone(), said.clone()]);
            let title = format!(
                "{name} looks for {} at {}, where {} listens",
                engine.spelled(),
                used.listen,
                self.services[other].name
            );
            let subject = self.subject(&used, None);
            let mut finding = fault(Code::ApplicationConfig, subject, title, vec![points, said]);
            finding.proof = Proof::Said;
            self.faults.push((at, finding));
            return false;
        }
        self.asked(&used, what, points)
    }

    /// Somebody is there: is it ready, and may the application in?
    fn asked(&mut self, used: &Use, what: String, points: Evidence) -> bool {
        if let Some((reason, said)) = self.greeted(used) {
            self.refuses(used, what, vec![points, said], reason);
            return false;
        }
        let (tried, mut evidence) = self.logged_in(used);
        evidence.insert(0, points);
        let by_rows = match tried {
            Some(Ok(())) => None,
            _ => self.by_rows(used),
        };
        match (tried, by_rows) {
            // The rows know better why than the server tells.
            (_, Some(Err((reason, said)))) => {
                evidence.push(said);
                self.refuses(used, what, evidence, reason);
                return false;
            }
            (Some(Err(reason)), _) => {
                self.refuses(used, what, evidence, reason);
                return false;
            }
            (Some(Ok(())), _) | (None, Some(Ok(()))) => {
                self.link_of(Some(used.at), Hop::Dependency, what, Some(true), evidence);
            }
            (None, None) => {
                if let Some(account) = &used.source.account {
                    let (to, who) = (&used.listen, &account.value);
                    self.snapshot.unseen(format!("whether {to} lets {who} in: --try-logins tries it"));
                }
                self.link_of(Some(used.at), Hop::Dependency, what, None, evidence);
            }
        }
        true
    }

    /// What a server says of itself that keeps everybody out.
    fn greeted(&self, used: &Use) -> Option<(Refusal, Evidence)> {
        if !self.snapshot.host().parts().probes {
            return None;
        }
        let (address, port, socket) = ends(&used.listen);
        let protocol = match used.engine {
            Engine::Mysql => ProbeProtocol::Mysql,
            Engine::Postgresql => ProbeProtocol::Postgresql,
            Engine::Redis => ProbeProtocol::Redis,
        };
        let asks_peer = socket.is_some() && used.engine == Engine::Postgresql;
        let request = ProbeRequest {
            address,
            port,
            tls: false,
            host: String::new(),
            path: String::new(),
            protocol,
            socket,
            peer: self.administrator(used).filter(|_| asks_peer),
        };
        let greeting = self.snapshot.probe(&request).seen()?.greeting?;
        let (reason, words) = match (greeting.starting, greeting.refusing) {
            (Some(words), _) => (Refusal::WarmingUp, words),
            (None, Some(words)) => (Refusal::TooManyConnections, words),
            (None, None) => return None,
        };
        let words = crate::bounds::clip(&crate::secrets::mask_text(&words));
        Some((reason, Evidence::new(Source::Probe, format!("the server says: {words}"))))
    }

    /// Logs in as the application does, if that is asked for. A cache without a password is asked whether it
    /// wants one: that is no login.
    fn logged_in(&self, used: &Use) -> (Option<Result<(), Refusal>>, Vec<Evidence>) {
        let Use { at, source, engine, .. } = *used;
        let open = engine == Engine::Redis && source.secret.is_none();
        let masked =
            source.secret.as_ref().is_some_and(|(s, _)| s.is_masked()) && !self.snapshot.host().is_record();
        if masked || !(self.try_logins || open) || !self.snapshot.host().parts().probes {
            return (None, Vec::new());
        }
        let (address, port, socket) = ends(&used.listen);
        let request = LoginRequest {
            engine,
            address,
            port,
            socket,
            account: source.account.as_ref().map_or_else(String::new, |a| a.value.clone()),
            secret: source.secret.as_ref().map(|(secret, _)| secret.clone()),
            database: source.database.as_ref().map(|d| d.value.clone()),
            peer: self.peer_of(at).filter(|_| used.listen.path.is_some()),
            questions: Vec::new(),
        };
        let Some(answer) = self.snapshot.login(&request).seen() else { return (None, Vec::new()) };
        let words = answer.words.as_deref().map(|w| crate::bounds::clip(&crate::secrets::mask_text(w)));
        match answer.outcome {
            LoginOutcome::Accepted => {
                (Some(Ok(())), vec![Evidence::new(Source::Probe, "the server lets this account in")])
            }
            LoginOutcome::Refused(reason) => {
                let said = format!("the server refuses it: {}", words.as_deref().unwrap_or(reason.spelled()));
                (Some(Err(reason)), vec![Evidence::new(Source::Probe, said)])
            }
            LoginOutcome::NotTried(why) | LoginOutcome::NotSpoken(why) | LoginOutcome::Unreachable(why) => {
                self.snapshot.unseen(format!("whether {} lets the account in: {why}", used.listen));
                (None, Vec::new())
            }
        }
    }

    /// The account of the host as which a service connects, where root can take it on.
    fn peer_of(&self, at: usize) -> Option<u32> {
        self.snapshot.myself().seen().filter(|me| me.uid == 0)?;
        self.account_of(&self.services[at]).map(|who| who.uid).filter(|uid| *uid != 0)
    }

    /// The account of the host by which a server knows its administrator, where root can take it on.
    fn administrator(&self, used: &Use) -> Option<u32> {
        self.snapshot.myself().seen().filter(|me| me.uid == 0)?;
        let service = &self.services[used.service?];
        match used.engine {
            Engine::Postgresql => Some(starter(self.snapshot, service).uid).filter(|uid| *uid != 0),
            Engine::Mysql => Some(0),
            Engine::Redis => None,
        }
    }

    /// What the server's own rows say, read by its administrator over its own socket.
    fn by_rows(&self, used: &Use) -> Option<Result<(), (Refusal, Evidence)>> {
        let Use { source, engine, .. } = *used;
        let account = source.account.as_ref()?;
        let uid = self.administrator(used)?;
        let wish = Wish {
            account: &account.value,
            secret: source.secret.as_ref().map(|(secret, _)| secret),
            database: source.database.as_ref().map(|d| d.value.as_str()),
            from: used.listen.address,
        };
        let answer = self.as_administrator(engine, used.service?, uid, &wish)?;
        match logins::judge(engine, &wish, &answer) {
            Said::Refused(reason, said) => {
                let said = format!("the server's own rows, read as its administrator, say: {said}");
                Some(Err((reason, Evidence::new(Source::Probe, said))))
            }
            Said::Well => Some(Ok(())),
            Said::Unknown => None,
        }
    }

    /// Asks a server as its administrator, over a socket that the service itself holds.
    fn as_administrator(&self, engine: Engine, service: usize, uid: u32, wish: &Wish) -> Option<LoginAnswer> {
        let questions = logins::questions(engine, wish)?;
        let sockets = self.snapshot.listeners().seen()?;
        let own = |s: &&Socket| s.path.is_some() && is_of(engine, s) && self.holding(s).0 == Some(service);
        let socket = sockets.iter().find(own)?.path.clone();
        let request = LoginRequest {
            engine,
            address: std::net::Ipv4Addr::LOCALHOST.into(),
            port: 0,
            socket,
            account: if engine == Engine::Postgresql { "postgres" } else { "root" }.to_owned(),
            secret: None,
            database: (engine == Engine::Postgresql).then(|| "postgres".to_owned()),
            peer: Some(uid),
            questions,
        };
        let answer = self.snapshot.login(&request).seen()?;
        (answer.outcome == LoginOutcome::Accepted).then_some(answer)
    }

    fn refuses(&mut self, used: &Use, what: String, evidence: Vec<Evidence>, reason: Refusal) {
        let Use { at, source, .. } = *used;
        self.link_of(Some(at), Hop::Dependency, what, Some(false), evidence.clone());
        let name = &self.services[at].name;
        let server =
            used.service.map_or_else(|| used.listen.to_string(), |other| self.services[other].name.clone());
        let account = source.account.as_ref().map_or("it", |a| a.value.as_str());
        let title = match reason {
            Refusal::WarmingUp => format!("{server}, which {name} uses, is still starting"),
            Refusal::TooManyConnections => format!("{server}, which {name} uses, takes no more connections"),
            Refusal::NoDatabase => {
                let database = source.database.as_ref().map_or("the database", |d| d.value.as_str());
                format!("{server} has no database {database}, which {name} uses")
            }
            other => format!("{server} refuses {account}, the account that {name} uses: {}", other.spelled()),
        };
        let subject = self.subject(used, Some(reason));
        self.faults.push((at, fault(Code::DependencyRefuses, subject, title, evidence)));
    }

    fn subject(&self, used: &Use, reason: Option<Refusal>) -> Subject {
        let source = used.source;
        let place = match reason {
            Some(Refusal::NoDatabase) => source.database.as_ref().map(|d| &d.place),
            Some(Refusal::WrongPassword | Refusal::PasswordExpired) => source.secret.as_ref().map(|(_, p)| p),
            _ => source.account.as_ref().map(|a| &a.place),
        };
        let place = place.unwrap_or(&source.place);
        Subject {
            unit: used.service.and_then(|s| self.services[s].unit_name()).map(str::to_owned),
            account: source.account.as_ref().map(|a| a.value.clone()),
            database: source.database.as_ref().map(|d| d.value.clone()),
            file: Some(place.file.to_string()),
            line: Some(place.line),
            reason,
            engine: Some(used.engine),
            ..match &used.listen.path {
                Some(path) => Subject::path(path),
                None => Subject::listener(used.listen.address, used.listen.port, None, None),
            }
        }
    }
}

/// Where a source leads, as its configuration spells it.
fn place_of(source: &DataSource, engine: Engine) -> String {
    match (&source.socket, source.port) {
        (Some(path), _) => path.clone(),
        (None, port) => format!("{}:{}", source.host, port.unwrap_or(engine.port())),
    }
}

/// Address, port and socket of a listener.
fn ends(listen: &Listen) -> (IpAddr, u16, Option<String>) {
    (listen.address.unwrap_or(std::net::Ipv4Addr::LOCALHOST.into()), listen.port, listen.path.clone())
}

fn is_data(kind: &str) -> bool {
    matches!(kind, "mysql" | "postgresql" | "redis")
}

/// Whether a Unix socket is one by which clients come.
fn is_of(engine: Engine, socket: &Socket) -> bool {
    let path = socket.path.as_deref().unwrap_or_default();
    match engine {
        Engine::Postgresql => path.contains(".s.PGSQL."),
        // The second protocol of MySQL listens on one of its own.
        Engine::Mysql => !path.contains("mysqlx"),
        Engine::Redis => true,
    }
}
