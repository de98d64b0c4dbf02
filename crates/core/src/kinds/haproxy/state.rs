//! What is being read: sections with what they define, and names that are looked for at the end.
use super::acl::Wrong;
use super::rules::Context;
use super::samples::{Installed, Known, Reference};
use super::tokens::{Variables, Word};
use crate::code::Code;
use crate::config::entries::Book;
use crate::config::lines::{Line, Text};
use crate::config::{About, ConfigFinding, DependsOn, Place, Span};
use crate::kinds::Instance;
use crate::path;
use crate::route::Grown;
use std::collections::{BTreeMap, BTreeSet};

/// What a section of proxies does.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Role {
    Defaults,
    Frontend,
    Backend,
    Listen,
}

impl Role {
    pub(super) fn of(name: &str) -> Option<Self> {
        Some(match name {
            "defaults" => Self::Defaults,
            "frontend" => Self::Frontend,
            "backend" => Self::Backend,
            "listen" => Self::Listen,
            _ => return None,
        })
    }
    /// Whether it takes requests.
    pub(super) fn front(self) -> bool {
        self != Self::Backend
    }
    /// Whether it passes requests on.
    pub(super) fn back(self) -> bool {
        self != Self::Frontend
    }
}

/// A format that is judged once everything is read.
#[derive(Clone, Debug)]
pub(super) struct Format {
    pub(super) directive: &'static str,
    pub(super) text: String,
    pub(super) place: Place,
}

/// A backend that is named, and where.
#[derive(Clone, Debug)]
pub(super) struct Named {
    pub(super) name: String,
    pub(super) place: Place,
}

/// Where a listener or a server has its certificates.
#[derive(Clone, Debug)]
pub(super) struct Tls {
    pub(super) place: Place,
    pub(super) shown: String,
    pub(super) certificate: bool,
    pub(super) verify: Option<String>,
    pub(super) authority: bool,
}

/// A section of proxies.
#[derive(Clone, Debug)]
pub(super) struct Proxy {
    pub(super) role: Role,
    pub(super) name: String,
    pub(super) place: Place,
    /// The section of defaults that it begins with.
    pub(super) defaults: Option<usize>,
    pub(super) http: Option<bool>,
    pub(super) disabled: bool,
    pub(super) lists: BTreeSet<String>,
    pub(super) servers: BTreeMap<String, Place>,
    pub(super) default_backend: Option<Named>,
    pub(super) uses: Vec<Named>,
    pub(super) use_servers: Vec<Named>,
    pub(super) formats: Vec<Format>,
    pub(super) table: bool,
    /// Protocols that listeners and servers insist on.
    pub(super) protocols: Vec<Named>,
    pub(super) peers: Option<Named>,
    pub(super) mailers: Option<Named>,
    pub(super) resolvers: Vec<Named>,
    pub(super) tracks: Vec<Named>,
    pub(super) binds: Vec<Tls>,
    pub(super) tls_servers: Vec<Tls>,
    pub(super) caches: Vec<Named>,
    /// What default-server says, its own and that of its defaults.
    pub(super) server_defaults: BTreeMap<&'static str, String>,
    /// Some of its servers have names that are made.
    pub(super) templates: bool,
    /// It holds rules that sections of both kinds cannot take over.
    pub(super) rules: bool,
    /// It holds rules on connections or sessions, on responses, and captures.
    pub(super) connection_rules: bool,
    pub(super) response_rules: bool,
    pub(super) captures: bool,
    /// Kinds of sections that took it over, where it holds rules.
    pub(super) taken_by: Option<bool>,
    pub(super) refers: Vec<(Reference, Place)>,
    /// Servers that are checked, by name; those of them that have no port; a check that has one of its own.
    pub(super) checked: BTreeSet<String>,
    pub(super) portless: Vec<Named>,
    pub(super) check_ports: bool,
    /// Hosts of servers that are looked up at the start.
    pub(super) hosts: Vec<Named>,
}

impl Proxy {
    /// Takes over what its defaults say.
    pub(super) fn inherit(&mut self, from: &Self) {
        self.http = from.http;
        self.check_ports = from.check_ports;
        self.formats.clone_from(&from.formats);
        self.server_defaults.clone_from(&from.server_defaults);
        if self.role.front() {
            self.default_backend.clone_from(&from.default_backend);
        }
    }

    pub(super) fn new(role: Role, name: &str, place: Place) -> Self {
        Self {
            role,
            name: name.to_owned(),
            place,
            defaults: None,
            http: None,
            disabled: false,
            lists: BTreeSet::new(),
            servers: BTreeMap::new(),
            default_backend: None,
            uses: Vec::new(),
            use_servers: Vec::new(),
            formats: Vec::new(),
            table: false,
            protocols: Vec::new(),
            peers: None,
            mailers: None,
            resolvers: Vec::new(),
            tracks: Vec::new(),
            binds: Vec::new(),
            tls_servers: Vec::new(),
            caches: Vec::new(),
            server_defaults: BTreeMap::new(),
            templates: false,
            rules: false,
            connection_rules: false,
            response_rules: false,
            captures: false,
            taken_by: None,
            refers: Vec::new(),
            checked: BTreeSet::new(),
            portless: Vec::new(),
            check_ports: false,
            hosts: Vec::new(),
        }
    }
}

/// A line with its words.
#[derive(Clone, Copy)]
pub(super) struct At<'l, 't> {
    pub(super) text: &'t Text,
    pub(super) line: &'l Line<'t>,
    pub(super) words: &'l [Word<'t>],
}

impl At<'_, '_> {
    /// The place of a word; of the first one where there is none.
    pub(super) fn place(&self, at: usize) -> Place {
        let word = self.words.get(at).or_else(|| self.words.last());
        word.map_or_else(|| self.text.place(self.line, self.line.text), |w| self.text.place(self.line, w.raw))
    }
}

impl At<'_, '_> {
    /// The bytes of a word, if it is written as it is read.
    pub(super) fn span(&self, at: usize) -> Option<Span> {
        let word = self.words.get(at).filter(|w| w.raw == w.value)?;
        self.text.span(self.line, word.raw)
    }
}

/// Names of sections beside those of proxies, and where they were opened.
pub(super) type Sections = BTreeMap<(&'static str, String), Place>;

/// The reader.
pub(super) struct Reader<'b, 'r, 'h> {
    pub(super) book: &'b mut Book<'r, 'h>,
    pub(super) instance: &'b Instance,
    pub(super) release: Installed<'b>,
    pub(super) variables: Variables,
    /// The word that opened the section, and its name.
    pub(super) section: &'static str,
    pub(super) named: String,
    pub(super) scope: u32,
    pub(super) proxies: Vec<Proxy>,
    pub(super) current: Option<usize>,
    pub(super) last_defaults: Option<usize>,
    pub(super) sections: Sections,
    /// Users and groups of the list that is being read, for its end.
    pub(super) lists_of_users: BTreeMap<String, Users>,
    /// Lists of conditions of applications.
    pub(super) lists: BTreeSet<String>,
    pub(super) scripts: bool,
    pub(super) experimental: bool,
    pub(super) server_verify: bool,
    /// Directories that relative certificates and authorities are looked for in.
    pub(super) certificates: String,
    pub(super) authorities: String,
    /// The file that is being read.
    pub(super) file: String,
    /// The daemon runs on its own, as far as the command and the files say.
    pub(super) is_alone: bool,
    /// The directory that relative files are looked for in; `None` where that is not known.
    pub(super) base: Option<String>,
    /// A section that was not opened: whether it takes requests, its head, and why. Where nothing follows,
    /// nothing is amiss.
    pub(super) unopened: Option<(bool, Place, String)>,
    /// A condition could not be read.
    pub(super) unparsed: bool,
    /// Reading ended for good.
    pub(super) aborted: bool,
    pub(super) tree: Option<Grown>,
    pub(super) once: BTreeSet<&'static str>,
    /// Sections by name: those that take requests, those that pass them on, and defaults.
    pub(super) fronts: BTreeMap<String, usize>,
    pub(super) backs: BTreeMap<String, usize>,
    pub(super) defaults: BTreeMap<String, Vec<usize>>,
    /// Lines of tables, by the name of their section, and of ids.
    pub(super) tables: BTreeMap<String, u32>,
    pub(super) ids: BTreeMap<i64, u32>,
    /// Lines of which all is said.
    pub(super) told: BTreeSet<(std::sync::Arc<str>, u32)>,
}

/// Users and groups of one list.
#[derive(Debug, Default)]
pub(super) struct Users {
    pub(super) users: BTreeSet<String>,
    pub(super) groups: BTreeSet<String>,
    /// Groups that users name, and users that groups name.
    pub(super) wants_groups: Vec<Named>,
    pub(super) wants_users: Vec<Named>,
}

impl Reader<'_, '_, '_> {
    pub(super) fn known(&self) -> Known<'_> {
        Known { release: &self.release, scripts: self.scripts }
    }

    /// What rules of the present section are judged by.
    pub(super) fn context(&self) -> Option<Context<'_>> {
        let proxy = self.proxies.get(self.current?)?;
        Some(Context {
            known: self.known(),
            lists: &proxy.lists,
            front: proxy.role.front(),
            back: proxy.role.back(),
            experimental: self.experimental,
        })
    }

    pub(super) fn proxy(&mut self) -> Option<&mut Proxy> {
        self.current.and_then(|at| self.proxies.get_mut(at))
    }

    /// An error at a word of a line.
    pub(super) fn wrong(&mut self, at: At, wrong: &Wrong) {
        // Nobody here knows what stood where a mask stands.
        if at.words.get(wrong.at).is_some_and(|w| w.masked) {
            return;
        }
        let code = if wrong.twice { Code::ConfigConflict } else { Code::ConfigBadValue };
        let span = at.span(wrong.at);
        self.fault(at, wrong.at, code, &wrong.why).meant(span, wrong.near.clone());
    }

    /// An error of a kind at a word of a line.
    pub(super) fn fault(&mut self, at: At, word: usize, code: Code, why: &str) -> &mut ConfigFinding {
        let name = at.words.first().map_or("", |w| w.value.as_str());
        let (name, place) = (name.to_owned(), at.place(word));
        self.book.find(&place, &name, code, why)
    }

    /// An error that only shows when everything is read.
    pub(super) fn late(&mut self, place: &Place, directive: &str, why: String) {
        self.book.find(place, directive, Code::ConfigBadValue, why);
    }

    /// Notes what a rule of the present section names.
    pub(super) fn note(&mut self, at: At, refers: Vec<Reference>) {
        let place = at.place(0);
        if let Some(proxy) = self.proxy() {
            proxy.refers.extend(refers.into_iter().map(|r| (r, place.clone())));
        }
    }

    /// Paths that a file which a line names can have: one, or where it is not known from which directory the
    /// daemon is started, the likely ones.
    pub(super) fn paths(&self, name: &str) -> Vec<String> {
        if name.starts_with('/') {
            return vec![name.to_owned()];
        }
        match &self.base {
            Some(base) => vec![path::join(base, name)],
            None => ["/", path::parent(&self.file)].iter().map(|base| path::join(base, name)).collect(),
        }
    }

    /// A file that is read must be there.
    pub(super) fn must_be_there(&mut self, at: At, word: usize, file: &str) {
        self.file_must_be_there(&at.place(word), at.words.first().map_or("", |w| &w.value), file);
    }

    /// The same of a place.
    pub(super) fn file_must_be_there(&mut self, place: &Place, directive: &str, file: &str) {
        let paths = self.paths(file);
        if file.is_empty() || paths.iter().any(|path| self.book.snapshot.exists(path) != Some(false)) {
            return;
        }
        let Some(path) = paths.last() else { return };
        let why = format!("{path} does not exist");
        let found = self.book.find(place, directive, Code::ConfigMissingFile, why);
        found.depends_on = DependsOn::Files;
        found.about = Some(About::File(path.clone()));
    }
}
