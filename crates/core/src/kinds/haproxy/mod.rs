//! HAProxy: sections of keyword lines; it reads on after an error, and the first one with a place is the
//! earliest.
mod acl;
mod address;
mod checks;
mod conceal;
mod finish;
mod format;
mod logs;
mod model;
mod options;
mod proxies;
mod read;
mod route;
mod rules;
mod samples;
mod sections;
mod servers;
mod settings;
mod state;
mod tables;
mod tokens;
mod values;

use super::{Instance, Kind, Profile, known_config};
use crate::code::Code;
use crate::config::entries::{Book, Entry};
use crate::config::layers::{Assignment, Combine, Layer};
use crate::config::rows::{Directives, directives};
use crate::config::{About, Configuration, Demand, Resource, Severity};
use crate::host::Look;
use crate::log::{Catalogue, Grammar};
use crate::net::Listen;
use crate::path;
use crate::route::{Files, Grown, Request, Route};
use crate::snapshot::Snapshot;
use model::{passes, sends};
use samples::Installed;
use state::{At, Reader, Sections};
use std::collections::{BTreeMap, BTreeSet};
use tokens::Variables;

static GRAMMAR: Grammar = Grammar::new(crate::data!("kinds/haproxy/log.json"));
static CATALOGUE: Catalogue = Catalogue::new(crate::data!("kinds/haproxy/failures.json"));
static PROFILE: Profile = Profile {
    programs: &["haproxy", "haproxy-systemd-wrapper"],
    units: &["haproxy.service", "haproxy@*.service"],
    configs: &["/etc/haproxy/haproxy.cfg", "/usr/local/etc/haproxy/haproxy.cfg", "/etc/haproxy.cfg"],
    packages: &["haproxy"],
    logs: &["/var/log/haproxy.log"],
    listens_as_configured: true,
    comment: Some("#"),
    replaces_sockets: true,
    ports: &[80, 443],
    ..Profile::plain("haproxy", &GRAMMAR, &CATALOGUE)
};

/// Keywords of all sections, of listeners, servers and rules.
static DIRECTIVES: &Directives = directives!("kinds/haproxy/directives.rs");

/// The kind `haproxy`.
pub(super) struct Haproxy;

/// Configuration files of the command: every `-f`, and the files of a directory in the order of their names.
fn files(snapshot: &Snapshot, instance: &Instance) -> Vec<String> {
    let words = &instance.command;
    let mut all = Vec::new();
    let named: Vec<&String> = words.windows(2).filter(|w| w[0] == "-f").map(|w| &w[1]).collect();
    let fallback = [&instance.config];
    for one in if named.is_empty() { &fallback[..] } else { &named[..] } {
        let one = one.trim_end_matches('/');
        match snapshot.list(one) {
            Look::Seen(entries) => all.extend(
                entries
                    .iter()
                    .filter(|e| e.name.ends_with(".cfg") && !e.name.starts_with('.'))
                    .map(|e| path::join(one, &e.name)),
            ),
            _ => all.push(one.to_owned()),
        }
    }
    all
}

/// A line as a setting.
fn entry_of(at: At, reader: &Reader) -> Entry {
    let first = at.words.first().map_or(String::new(), |w| w.value.clone());
    let value = at.words.iter().skip(1).map(|w| w.value.as_str()).collect::<Vec<_>>().join(" ");
    let section = match reader.named.is_empty() {
        true => reader.section.to_owned(),
        false => format!("{} {}", reader.section, reader.named),
    };
    Entry { scope: reader.scope, ..Entry::of_file(&section, first, value, at.place(0), None) }
}

/// Whether the command makes a master that starts workers.
fn is_master(instance: &Instance) -> bool {
    instance.command.iter().any(|w| matches!(w.as_str(), "-W" | "-Ws" | "-S"))
}

/// Reads every file, and judges what shows at the end.
fn read_into(book: &mut Book, instance: &Instance, tree: Option<Grown>) -> Option<Grown> {
    let snapshot = book.snapshot;
    let service = !instance.command.is_empty();
    let mut reader = Reader {
        instance,
        release: Installed::of(snapshot, instance),
        variables: Variables {
            values: instance.environment.iter().map(|(n, v)| (n.clone(), v.clone())).collect(),
            // A file of variables that cannot be read leaves all names open.
            complete: service
                && instance.by_process.is_none()
                && instance.variables.iter().all(|file| !matches!(snapshot.text(file), Look::NotSeen(_))),
        },
        section: "",
        named: String::new(),
        scope: 0,
        proxies: Vec::new(),
        current: None,
        last_defaults: None,
        sections: Sections::new(),
        lists_of_users: BTreeMap::new(),
        lists: BTreeSet::new(),
        scripts: false,
        experimental: false,
        server_verify: true,
        certificates: String::new(),
        authorities: String::new(),
        file: String::new(),
        is_alone: !is_master(instance),
        base: service.then(|| "/".to_owned()),
        unopened: None,
        unparsed: false,
        aborted: false,
        tree,
        once: BTreeSet::new(),
        fronts: BTreeMap::new(),
        backs: BTreeMap::new(),
        defaults: BTreeMap::new(),
        tables: BTreeMap::new(),
        ids: BTreeMap::new(),
        told: BTreeSet::new(),
        book,
    };
    for one in files(snapshot, instance) {
        read::file(&mut reader, &one);
        if reader.aborted {
            break;
        }
    }
    if !reader.aborted && !reader.book.stopped {
        finish::finish(&mut reader);
    }
    if let Some(tree) = &mut reader.tree {
        tree.close();
    }
    reader.tree
}

/// Options of the command line that are settings of `global`, too (haproxy(1)).
fn options(book: &mut Book, instance: &Instance) {
    for (letter, name) in [("-p", "pidfile"), ("-n", "maxconn")] {
        if let Some(pair) = instance.command.windows(2).rev().find(|w| w[0] == letter) {
            book.option(instance.command_place.as_ref(), "global", name, &pair[1]);
        }
    }
}

/// Settings of `global` of which the first value stays (the daemon's own "already specified. Continuing.",
/// 2.6).
const FIRST: &[&str] = &[
    "maxconn",
    "ulimit-n",
    "maxconnrate",
    "maxsessrate",
    "maxsslrate",
    "maxcomprate",
    "maxsslconn",
    "maxpipes",
    "uid",
    "gid",
    "user",
    "group",
    "chroot",
    "pidfile",
    "spread-checks",
    "server-state-base",
    "server-state-file",
    "ca-base",
    "crt-base",
    "log-send-hostname",
    "cluster-secret",
    "tune.maxaccept",
    "tune.maxpollevents",
    "tune.runqueue-depth",
    "tune.rcvbuf.client",
    "tune.rcvbuf.server",
    "tune.sndbuf.client",
    "tune.sndbuf.server",
];
/// Settings of `global` that may stand any number of times and all count.
const GLOBAL_LISTS: &[&str] = &[
    "log",
    "stats",
    "setenv",
    "presetenv",
    "unsetenv",
    "resetenv",
    "lua-load",
    "lua-load-per-thread",
    "set-var",
    "cpu-map",
];
/// Settings of the other sections of which the last value counts; all others add up.
const LAST: &[&str] = &[
    "mode",
    "balance",
    "maxconn",
    "fullconn",
    "retries",
    "backlog",
    "cookie",
    "default_backend",
    "description",
    "dispatch",
    "hash-type",
    "id",
    "log-format",
    "log-format-sd",
    "log-tag",
    "monitor-uri",
    "source",
    "timeout",
    "unique-id-format",
    "unique-id-header",
];
/// Names of which the first word of the value is a part.
const TWO_WORDS: &[&str] = &[
    "timeout",
    "option",
    "no",
    "rate-limit",
    "errorfile",
    "errorloc",
    "errorloc302",
    "errorloc303",
    "compression",
];

/// Directories that only a start needs are a warning where nobody knows what starts it: its service may make
/// them.
fn only_at_a_start(book: &mut Book, instance: &Instance) {
    let told = book.out.findings.last_mut().filter(|f| matches!(f.about, Some(About::Directory(_))));
    if let Some(last) = told.filter(|_| instance.command.is_empty()) {
        last.severity = Severity::Warning;
    }
}

fn global(book: &mut Book, instance: &Instance) {
    let of = |book: &Book, name: &str| {
        let mut own = book.entries.iter().filter(|e| e.section == "global" && e.name == name);
        // The first one of the files counts, unless the command line has one.
        own.clone().find(|e| e.layer == Layer::CommandLine).or_else(|| own.next()).cloned()
    };
    for (name, group) in [("user", false), ("group", true)] {
        let Some(entry) = of(book, name) else { continue };
        book.needs_account(&entry, group);
        if group {
            book.out.model.group = Some(entry.value);
        } else {
            book.out.model.account = Some((entry.value, entry.place.known()));
        }
    }
    if let Some(entry) = of(book, "chroot") {
        book.must_be_directory(&entry, entry.value.clone().trim_end_matches('/'));
        only_at_a_start(book, instance);
    }
    let sockets: Vec<Entry> = book
        .entries
        .iter()
        .filter(|e| e.section == "global" && e.name == "stats" && e.value.starts_with("socket /"))
        .cloned()
        .collect();
    for entry in sockets {
        let Some(socket) = entry.value.split_whitespace().nth(1).map(str::to_owned) else { continue };
        if !instance.made_by_manager.iter().any(|d| path::parent(&socket) == d) {
            book.must_have_parent(&entry, &socket);
            only_at_a_start(book, instance);
        }
        // It binds another name and renames that: the kernel does not know this one.
        book.listen(Listen::unix(&socket), Some(&entry), None, false, false);
    }
    let flag = |flags: &[&str]| instance.command.iter().skip(1).any(|w| flags.contains(&w.as_str()));
    book.out.model.notifies = Some(flag(&["-Ws"]));
    book.out.model.background =
        Some((flag(&["-D"]) || of(book, "daemon").is_some()) && !flag(&["-db", "-d", "-Ws"]));
    // Two descriptors for each connection: one to the client, one to the server.
    let files = of(book, "ulimit-n").map(|e| (e, 1)).or_else(|| of(book, "maxconn").map(|e| (e, 2)));
    if let Some((entry, each)) = files
        && let Ok(number) = entry.value.parse::<u64>()
    {
        book.out.model.demands.push(Demand {
            resource: Resource::Files,
            amount: number * each,
            directive: entry.name.clone(),
            place: entry.place.known(),
        });
    }
    book.out.model.pid_file = of(book, "pidfile").map(|e| Book::named(&e, "/"));
}

impl Kind for Haproxy {
    fn profile(&self) -> &'static Profile {
        &PROFILE
    }
    fn setting_key(&self, name: &str) -> String {
        name.to_owned()
    }
    fn conceal(&self, text: &str, _path: &str) -> Option<crate::secrets::Concealed> {
        Some(conceal::conceal(text))
    }
    fn setting_identity(&self, one: &Assignment) -> String {
        match Some(one.value.first_word()).filter(|_| TWO_WORDS.contains(&one.name.as_str())) {
            Some(first) => format!("{} {first}", one.name),
            None => one.name.clone(),
        }
    }
    fn combine(&self, one: &Assignment) -> Combine {
        let name = one.name.as_str();
        match one.section == "global" {
            true if FIRST.contains(&name) => Combine::First,
            true if GLOBAL_LISTS.contains(&name) => Combine::List,
            true => Combine::Last,
            false if LAST.contains(&name) || TWO_WORDS.contains(&name) => Combine::Last,
            false => Combine::List,
        }
    }
    fn directives(&self) -> Option<&'static Directives> {
        Some(DIRECTIVES)
    }
    fn locate(&self, snapshot: &Snapshot, instance: &mut Instance) {
        if instance.config.is_empty() {
            let named = instance.command.windows(2).find(|w| w[0] == "-f").map(|w| w[1].clone());
            instance.config = named.unwrap_or_else(|| known_config(snapshot, &PROFILE));
        }
    }
    fn read(&self, snapshot: &Snapshot, instance: &Instance) -> Configuration {
        let mut book = Book::new(snapshot, &instance.made_by_manager);
        read_into(&mut book, instance, None);
        if book.out.readable {
            options(&mut book, instance);
            global(&mut book, instance);
            // The control socket is a listener like others.
            let listens = |e: &Entry| {
                let control = e.section == "global"
                    && e.name == "stats"
                    && e.value.split_whitespace().next() == Some("socket");
                control || e.section.starts_with("peers") || matches!(e.name.as_str(), "bind" | "dgram-bind")
            };
            // A master waits for its workers' listeners without end, even where there are none.
            if !is_master(instance) && !book.entries.iter().any(listens) {
                book.out.add(crate::config::ConfigFinding::error(
                    Code::ConfigSyntax,
                    "no listener is defined at all",
                ));
            }
        }
        book.close(|name| self.is_secret(name))
    }
    fn route(&self, instance: &Instance, files: &Files, request: &Request) -> Option<Route> {
        let mut book = Book::new(files.snapshot, &instance.made_by_manager);
        let tree = read_into(&mut book, instance, Some(Grown::default()))?;
        let configuration = book.close(|name| self.is_secret(name));
        route::route(&tree.top, &configuration, files, request)
    }
    fn named_config(&self, arguments: &[String]) -> Option<String> {
        arguments.windows(2).find(|w| w[0] == "-f").map(|w| w[1].clone())
    }
    fn is_main(&self, arguments: &[String]) -> bool {
        !arguments.iter().any(|a| a == "-c" || a == "-v" || a == "-vv")
    }
}
