//! The way through one daemon: site, location, and what is there or denied.
use super::{Hop, Walker};
use crate::access::{self, Obstacle, Right};
use crate::accounts::{self, Account};
use crate::code::Code;
use crate::config::{Fault, Place};
use crate::finding::{Evidence, Finding, Source, Subject, stage};
use crate::host::{Look, Protocol};
use crate::net::Listen;
use crate::route::{End, Files, Request, Route, StepKind};
use crate::service::Service;

/// How many bytes of an override file are looked at before it is set aside.
const OVERRIDE: u32 = 256 << 10;

/// A finding about a request: it is true now, and keeps the page from being answered.
pub(super) fn fault(code: Code, subject: Subject, title: String, evidence: Vec<Evidence>) -> Finding {
    Finding::inevitable(code, stage::REQUEST, subject, title, evidence)
}

/// A line of a configuration as what a finding is about; `directive` is empty where none is known.
fn line_of(place: &Place, directive: &str) -> Subject {
    Subject {
        file: Some(place.file.to_string()),
        line: Some(place.line),
        directive: Some(directive.to_owned()).filter(|d| !d.is_empty()),
        ..Subject::default()
    }
}

impl Walker<'_, '_> {
    /// The account that a service's workers run as.
    pub(super) fn account_of(&self, service: &Service) -> Option<Account> {
        let config = service.configuration(self.snapshot);
        let starter = crate::case::starter(self.snapshot, service);
        match &config.model.account {
            // Only root can take another account.
            Some((name, _)) if starter.uid == 0 => accounts::account(self.snapshot, name).seen(),
            _ if starter.uid == 0 && service.kind.profile().http && !service.kind.profile().on_java => None,
            _ => Some(starter),
        }
    }

    /// Follows a request through a service.
    pub(super) fn pass_through(&mut self, at: usize, request: &Request, depth: usize) {
        let services = self.services;
        let service = &services[at];
        let account = self.account_of(service);
        let files = Files::new(self.snapshot, account.as_ref());
        let Some(route) = service.kind.route(&service.instance, &files, request) else { return };
        self.routed.push(at);
        self.logs.extend(route.error_logs.iter().chain(&route.access_logs).map(|log| (at, log.clone())));
        self.steps(&route);
        self.ends(at, request, &route, account.as_ref(), depth);
    }

    fn steps(&mut self, route: &Route) {
        let mut led: Vec<Evidence> = Vec::new();
        for step in &route.steps {
            // An address that a line leads to may carry a secret.
            let what = crate::secrets::mask_text(&step.what);
            let mut said = Evidence::new(Source::Config, what.clone());
            if let Some(place) = &step.place {
                said = said.at(place);
            }
            match step.kind {
                StepKind::Site => self.link(Hop::Site, what, Some(true), vec![said]),
                StepKind::Location => {
                    let mut all = std::mem::take(&mut led);
                    all.push(said);
                    self.link(Hop::Location, what, Some(true), all);
                }
                StepKind::Led => led.push(said),
            }
        }
        if let Some(last) = self.links.last_mut() {
            last.evidence.extend(led);
        }
    }

    /// How the way through a service ends. A failure that led on to another page is the one that counts.
    fn ends(&mut self, at: usize, request: &Request, route: &Route, account: Option<&Account>, depth: usize) {
        let (status, end) = match &route.because {
            Some((status, end)) => (Some(*status), &**end),
            None => (route.status, &route.end),
        };
        let name = self.services[at].name.clone();
        let who = account.map_or("its account", |a| a.name.as_str());
        match end {
            End::File { path } => self.link(Hop::File, path.as_str(), Some(true), vec![]),
            End::Listing { path } => self.link(Hop::File, format!("the list of {path}"), Some(true), vec![]),
            End::Missing { path } => self.missing(at, path),
            End::Unreadable { path } => self.refused(at, path, account),
            End::NoIndex { path, tried } => {
                let said = Evidence::new(Source::File, format!("{path} holds none of {}", tried.join(", ")));
                self.link(Hop::File, format!("no index in {path}"), Some(false), vec![said.clone()]);
                let title = format!("{path} has no index file, and {name} may not list it");
                self.faults
                    .push((at, fault(Code::ConfigMissingFile, Subject::path(path), title, vec![said])));
            }
            End::Pass(pass) => self.upstream(at, pass, request, account, depth),
            End::Answer { location: Some(to), .. } => {
                let ok = status.map(|s| s < 400);
                self.link(Hop::Handler, format!("sends to {}", crate::secrets::mask_text(to)), ok, vec![]);
            }
            End::Answer { location: None, directive, place } => {
                let ok = status.map(|s| s < 400 && s > 0);
                let said = at_place(format!("{name} answers {}", status.unwrap_or(0)), place.as_ref());
                self.link(Hop::Handler, "the configuration answers", ok, vec![said.clone()]);
                if ok == Some(false)
                    && let Some(place) = place
                {
                    let title = format!("{name} is told to answer {} here ({place})", status.unwrap_or(0));
                    let subject = line_of(place, directive);
                    self.faults.push((at, fault(Code::PolicyDenied, subject, title, vec![said])));
                }
            }
            End::Denied { rule, directive, place } => {
                let said = at_place(rule.clone(), place.as_ref());
                self.link(Hop::Location, format!("denied: {rule}"), Some(false), vec![said.clone()]);
                let title = match status {
                    Some(401) => format!("{name} wants a name and a password here: {rule}"),
                    _ => format!("a rule of {name} denies it: {rule}"),
                };
                let subject = place.as_ref().map_or_else(Subject::default, |p| line_of(p, directive));
                self.faults.push((at, fault(Code::PolicyDenied, subject, title, vec![said])));
            }
            End::Override { why, place } => {
                let why = crate::secrets::mask_text(why);
                let said = at_place(why.clone(), Some(place));
                self.link(
                    Hop::Location,
                    format!("the override file {}", place.file),
                    Some(false),
                    vec![said.clone()],
                );
                let title =
                    format!("the override file {} is refused in line {}: {why}", place.file, place.line);
                let directive = why.split(' ').next().unwrap_or_default();
                let subject = Subject { path: Some(place.file.to_string()), ..line_of(place, directive) };
                let subject = Subject { fault: Some(self.fault_of(place, directive)), ..subject };
                let mut finding = fault(Code::OverrideBroken, subject, title, vec![said]);
                finding.fixes.extend(self.without_override(at, place, directive));
                self.faults.push((at, finding));
            }
            End::Handler { name, place } => {
                let said = at_place(name.clone(), place.as_ref());
                self.link(Hop::Handler, name.as_str(), Some(true), vec![said]);
            }
            End::Circle => {
                let said = Evidence::new(Source::Config, "the request is led on more than ten times");
                self.link(Hop::Location, "a circle", Some(false), vec![said.clone()]);
                let subject = route.place.as_ref().map_or_else(Subject::default, |p| line_of(p, ""));
                let title = format!("{name} leads the request in a circle");
                self.faults.push((at, fault(Code::ConfigConflict, subject, title, vec![said])));
            }
            End::Undecided { what, place } => {
                let said = at_place(format!("not decided: {what}"), place.as_ref());
                self.link(Hop::Location, "not decided from here", None, vec![said]);
                self.snapshot.unseen(format!("which place of {name} answers: {what} ({who})"));
            }
        }
    }

    fn fault_of(&self, place: &Place, directive: &str) -> Box<Fault> {
        Box::new(Fault {
            place: Some(place.clone()),
            directive: Some(directive.to_owned()),
            about: None,
            edit: None,
        })
    }

    /// What may be done about a broken override file: the line taken out, or the whole file set aside. What
    /// keeps others out is never switched off, nor is a line that may be meant to.
    fn without_override(&self, at: usize, place: &Place, directive: &str) -> Vec<&'static str> {
        let kind = self.services[at].kind;
        let Look::Seen(bytes) = self.snapshot.read_at(&place.file, 0, OVERRIDE) else { return vec![] };
        let text = String::from_utf8_lossy(&bytes);
        let whole = u32::try_from(bytes.len()).is_ok_and(|length| length < OVERRIDE);
        let mut fixes = Vec::new();
        if !kind.keeps_out(directive) {
            fixes.push("comment-out");
        }
        if whole && !text.lines().any(|line| kind.keeps_out(line)) {
            fixes.push("move-aside");
        }
        fixes
    }

    fn missing(&mut self, at: usize, path: &str) {
        let name = self.services[at].name.clone();
        let deepest = crate::path::ancestors(path)
            .into_iter()
            .find(|dir| self.snapshot.exists(dir) == Some(false))
            .unwrap_or_else(|| path.to_owned());
        let mut said = vec![Evidence::new(Source::File, format!("{deepest} does not exist")).file(&deepest)];
        if let Some(near) = crate::config::nearest_file(self.snapshot, &deepest) {
            said.push(Evidence::new(Source::File, format!("{near} is there")).file(&near));
        }
        self.link(Hop::File, path, Some(false), said.clone());
        let title = format!("{path}, which {name} would send, does not exist");
        self.faults.push((at, fault(Code::ConfigMissingFile, Subject::path(&deepest), title, said)));
    }

    pub(super) fn refused(&mut self, at: usize, path: &str, account: Option<&Account>) {
        let Some(who) = account else {
            self.link(Hop::File, path, None, vec![]);
            return;
        };
        // A file that is not there behind a closed directory is refused at that directory.
        let target = crate::path::ancestors(path)
            .into_iter()
            .chain([path.to_owned()])
            .find(|p| {
                let right = if p == path { Right::Read } else { Right::Execute };
                matches!(access::may(self.snapshot, who, p, right), Look::Seen(Some(_)))
            })
            .unwrap_or_else(|| path.to_owned());
        let right = if target == path { Right::Read } else { Right::Execute };
        let Look::Seen(Some(obstacle)) = access::may(self.snapshot, who, &target, right) else {
            self.link(Hop::File, path, None, vec![]);
            return;
        };
        let finding = self.closed(&obstacle, who, obstacle.right.verb());
        self.link(Hop::File, path, Some(false), finding.evidence.clone());
        self.faults.push((at, finding));
    }

    /// An account may not go where the request leads; `verb` is what it may not do there.
    pub(super) fn closed(&self, obstacle: &Obstacle, who: &Account, verb: &str) -> Finding {
        let status = &obstacle.status;
        let owner = accounts::user_name(self.snapshot, status.uid);
        let group = accounts::group_name(self.snapshot, status.gid);
        let said = Evidence::new(
            Source::File,
            format!("{} belongs to {owner}:{group}, mode {:03o}", obstacle.path, status.mode & 0o7777),
        )
        .file(&obstacle.path);
        let title = format!("{} may not {verb} {}", who.name, obstacle.path);
        let subject = Subject::obstacle(obstacle, &who.name, None);
        let mut finding = fault(Code::PermissionDenied, subject, title, vec![said]);
        if obstacle.by == access::Refusal::Mode {
            finding.fixes.push("grant-access");
        }
        finding
    }

    /// A service that has the name listens elsewhere.
    pub(super) fn unreachable(&mut self, at: usize, wanted: &Listen) {
        let service = &self.services[at];
        let config = service.configuration(self.snapshot);
        let own: Vec<_> =
            config.model.listens.iter().filter(|l| l.listen.protocol == Protocol::Tcp).collect();
        let Some(first) = own.iter().find(|l| l.listen.port == wanted.port).or(own.first()) else { return };
        let name = &service.name;
        let mut said = Evidence::new(Source::Config, format!("{name} listens on {}", first.listen));
        if let Some(place) = &first.place {
            said = said.at(place);
        }
        let loops = first.listen.port == wanted.port && first.listen.address.is_some_and(|a| a.is_loopback());
        let title = if loops {
            format!("{name} listens on {} alone, which only this host itself reaches", first.listen)
        } else {
            format!("{name} has the site, but listens on {} and not on {wanted}", first.listen)
        };
        let subject = Subject::listener(first.listen.address, first.listen.port, None, None);
        self.faults.push((at, fault(Code::Unreachable, subject, title, vec![said])));
    }
}

fn at_place(what: String, place: Option<&Place>) -> Evidence {
    let said = Evidence::new(Source::Config, what);
    match place {
        Some(place) => said.at(place),
        None => said,
    }
}
