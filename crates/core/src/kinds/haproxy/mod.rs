//! HAProxy: sections of keyword lines; it reads on after an error, and the first one with a place is the
//! earliest.
use super::{Instance, Kind, Profile, known_config};
use crate::code::Code;
use crate::config::entries::{Book, Entry};
use crate::config::layers::{Assignment, Combine, Layer};
use crate::config::lines::{Line, Text, Word, WordRules, words};
use crate::config::rows::{Directives, directives};
use crate::config::{Configuration, Demand, LogSink, Resource, Span, Upstream};
use crate::host::Look;
use crate::log::{Catalogue, Grammar};
use crate::net::Listen;
use crate::path;
use crate::snapshot::Snapshot;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

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

const RULES: WordRules = WordRules { escapes: true, comments: true, inner_quotes: true };
/// Words that open a section.
const SECTIONS: &[&str] = &[
    "global",
    "defaults",
    "frontend",
    "backend",
    "listen",
    "userlist",
    "peers",
    "mailers",
    "resolvers",
    "cache",
    "program",
    "http-errors",
    "ring",
    "fcgi-app",
    "log-forward",
    "crt-list",
    "crt-store",
    "traces",
    "acme",
    "log-profile",
];

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

fn file(book: &mut Book, name: &str) {
    let Some(text) = book.text(name) else { return };
    let mut section = String::new();
    let mut scope = 0;
    for line in text.lines() {
        let split = match words(line.text, RULES) {
            Ok(split) => split,
            Err(open) => {
                book.find(&text.place(&line, open), "", Code::ConfigSyntax, "a quote is not closed");
                continue;
            }
        };
        let Some((first, rest)) = split.split_first() else { continue };
        let place = text.place(&line, first.raw);
        if first.value.starts_with('.') {
            continue;
        }
        if SECTIONS.contains(&first.value.as_str()) {
            // All `global` sections are one; others of one name are several.
            let number = u32::try_from(book.entries.len() + 1).unwrap_or(u32::MAX);
            scope = if first.value == "global" { 0 } else { number };
            section = std::iter::once(first)
                .chain(rest.first())
                .map(|w| w.value.as_str())
                .collect::<Vec<_>>()
                .join(" ");
            let named = matches!(first.value.as_str(), "frontend" | "backend" | "listen");
            if named && rest.is_empty() {
                book.find(
                    &place,
                    &first.value,
                    Code::ConfigBadValue,
                    format!("{} needs a name", first.value),
                );
            }
            continue;
        }
        if section.is_empty() {
            book.find(
                &place,
                &first.value,
                Code::ConfigSyntax,
                format!("{} stands before the first section", first.value),
            );
            continue;
        }
        let refused = match section.split(' ').next() {
            Some("frontend") => first.value == "server",
            Some("defaults") => matches!(first.value.as_str(), "server" | "bind" | "acl" | "use_backend"),
            _ => false,
        };
        if refused {
            book.find(
                &place,
                &first.value,
                Code::ConfigMisplacedDirective,
                format!("{} is not allowed in this section", first.value),
            );
        }
        let value = rest.iter().map(|w| w.value.as_str()).collect::<Vec<_>>().join(" ");
        let entry = Entry { scope, ..Entry::of_file(&section, first.value.clone(), value, place, None) };
        if first.value == "bind" && (section.starts_with("frontend") || section.starts_with("listen")) {
            bind(book, &text, &line, &entry, rest);
        }
        if first.value == "server" && (section.starts_with("backend") || section.starts_with("listen")) {
            passes(book, &entry, rest);
        }
        if first.value == "log" && section.starts_with("global") {
            sends(book, &entry);
        }
        book.entries.push(entry);
    }
    if !text.text.is_empty() && !text.text.ends_with('\n') {
        let last = u32::try_from(text.text.lines().count()).unwrap_or(1);
        let place = crate::config::Place { file: text.file.clone(), line: last, column: 0, end_column: 0 };
        book.find(&place, "", Code::ConfigSyntax, "the last line has no line end");
    }
}

/// `server NAME ADDRESS …`: where requests go.
fn passes(book: &mut Book, entry: &Entry, rest: &[Word]) {
    let has = |word: &str| rest.iter().skip(2).any(|w| w.value == word);
    let Some(address) = rest.get(1).map(|w| w.value.as_str()).filter(|_| !has("disabled")) else { return };
    let bare = address.trim_start_matches("ipv4@").trim_start_matches("ipv6@");
    let socket = bare.strip_prefix("unix@").or_else(|| bare.starts_with('/').then_some(bare));
    let found = match socket {
        Some(path) => Upstream::of(book.snapshot, &format!("unix:{path}"), None, &entry.place),
        None => Upstream::of(book.snapshot, bare, None, &entry.place),
    };
    let group = format!("{} {}", entry.section, entry.scope);
    let spare = has("backup");
    book.out.model.upstreams.extend(found.map(|one| Upstream { group, spare, ..one }));
}

/// `log TARGET …`: where what it says goes.
fn sends(book: &mut Book, entry: &Entry) {
    let sink = match entry.value.split_whitespace().next() {
        Some("stdout" | "stderr" | "fd@1" | "fd@2") => LogSink::StandardError,
        Some(target) if target.starts_with('/') => LogSink::Syslog,
        _ => return,
    };
    if !book.out.model.log_sinks.iter().any(|(known, _)| *known == sink) {
        book.out.model.log_sinks.push((sink, Some(entry.place.clone())));
    }
}

/// `bind [ADDRESS]:PORT[-PORT][,…] [option …]`, a path, or an address with a prefix of its family.
fn bind(book: &mut Book, text: &Text, line: &Line, entry: &Entry, rest: &[Word]) {
    let Some(addresses) = rest.first() else {
        book.find(&entry.place, "bind", Code::ConfigBadValue, "bind needs an address and a port");
        return;
    };
    let options: Vec<&str> = rest.iter().skip(1).map(|w| w.value.as_str()).collect();
    let tls = options.contains(&"ssl");
    let v6_only = options.contains(&"v6only");
    let spot = text.place(line, addresses.raw);
    for one in addresses.value.split(',') {
        if let Some(socket) = one.strip_prefix("unix@").or_else(|| one.starts_with('/').then_some(one)) {
            let listen = Listen::unix(socket);
            book.must_have_parent(entry, socket);
            book.listen(listen, Some(entry), None, tls, false);
            continue;
        }
        if one.starts_with("abns@")
            || one.starts_with("fd@")
            || one.starts_with("sockpair@")
            || one.contains('$')
        {
            continue;
        }
        let forced_six = one.starts_with("ipv6@");
        let bare = one.trim_start_matches("ipv4@").trim_start_matches("ipv6@");
        let Some((address, ports)) = bare.rsplit_once(':') else {
            book.find(&spot, "bind", Code::ConfigBadValue, format!("\"{one}\" has no port"));
            continue;
        };
        let (from, to) = ports.split_once('-').unwrap_or((ports, ports));
        let (Ok(from), Ok(to)) = (from.parse::<u16>(), to.parse::<u16>()) else {
            book.find(&spot, "bind", Code::ConfigBadValue, format!("\"{ports}\" is not a port"));
            continue;
        };
        if from == 0 || to < from {
            book.find(&spot, "bind", Code::ConfigBadValue, format!("\"{ports}\" is not a port"));
            continue;
        }
        let address = match address.trim_matches(['[', ']']) {
            "" | "*" if forced_six => IpAddr::V6(Ipv6Addr::UNSPECIFIED),
            "" | "*" => IpAddr::V4(Ipv4Addr::UNSPECIFIED),
            other => match other.parse() {
                Ok(address) => address,
                Err(_) => match crate::names::lookup(book.snapshot, other) {
                    Look::Seen(found) if !found.is_empty() => found[0],
                    _ => continue,
                },
            },
        };
        book.must_be_here(Some(entry), address, from);
        let span = port_span(text, line, addresses, one, from, to);
        for port in from..=to.min(from.saturating_add(512)) {
            book.listen(Listen::tcp(address, port, v6_only), Some(entry), span.clone(), tls, true);
        }
    }
}

/// The bytes of a single port written plainly.
fn port_span(text: &Text, line: &Line, word: &Word, one: &str, from: u16, to: u16) -> Option<Span> {
    let number = from.to_string();
    let at = word.raw.find(one)?;
    (from == to && one.ends_with(&number)).then_some(())?;
    let end = at + one.len();
    text.span(line, word.raw.get(end - number.len()..end)?)
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
        Some(directives!("kinds/haproxy/directives.rs"))
    }
    fn locate(&self, snapshot: &Snapshot, instance: &mut Instance) {
        if instance.config.is_empty() {
            let named = instance.command.windows(2).find(|w| w[0] == "-f").map(|w| w[1].clone());
            instance.config = named.unwrap_or_else(|| known_config(snapshot, &PROFILE));
        }
    }
    fn read(&self, snapshot: &Snapshot, instance: &Instance) -> Configuration {
        let mut book = Book::new(snapshot, &instance.made_by_manager);
        for one in files(snapshot, instance) {
            file(&mut book, &one);
        }
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
            let master = instance.command.iter().any(|w| matches!(w.as_str(), "-W" | "-Ws" | "-S"));
            if !master && !book.entries.iter().any(listens) {
                book.out.add(crate::config::ConfigFinding::error(
                    Code::ConfigSyntax,
                    "no listener is defined at all",
                ));
            }
        }
        book.close(|name| self.is_secret(name))
    }
    fn named_config(&self, arguments: &[String]) -> Option<String> {
        arguments.windows(2).find(|w| w[0] == "-f").map(|w| w[1].clone())
    }
    fn is_main(&self, arguments: &[String]) -> bool {
        !arguments.iter().any(|a| a == "-c" || a == "-v" || a == "-vv")
    }
}
