//! Redis and its fork: one directive a line, words in quotes, the first bad line ends it.
mod data;
mod judge;

use super::{DataFault, Instance, Kind, Profile, glob, known_config};
use crate::code::Code;
use crate::config::entries::{Book, Entry};
use crate::config::layers::{Assignment, Combine, Layer};
use crate::config::lines::{Line, Text, WordRules, words};
use crate::config::release::Release;
use crate::config::rows::{Directives, directives};
use crate::config::{About, Configuration, DependsOn, LogSink, NamedPath, Place};
use crate::log::{Catalogue, Grammar};
use crate::net::Listen;
use crate::path;
use crate::snapshot::Snapshot;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

static GRAMMAR: Grammar = Grammar::new(crate::data!("kinds/redis/log.json"));
static CATALOGUE: Catalogue = Catalogue::new(crate::data!("kinds/redis/failures.json"));
static PROFILE: Profile = Profile {
    programs: &["redis-server", "valkey-server", "redis-check-rdb", "valkey-check-rdb", "redis-check-aof"],
    units: &[
        "redis.service",
        "redis-server.service",
        "redis@*.service",
        "redis-server@*.service",
        "valkey.service",
        "valkey-server.service",
        "valkey@*.service",
    ],
    configs: &[
        "/etc/redis/redis.conf",
        "/etc/redis.conf",
        "/etc/valkey/valkey.conf",
        "/etc/redis/default.conf",
        "/usr/local/etc/redis.conf",
    ],
    packages: &["redis-server", "redis", "valkey-server", "valkey"],
    flavours: &["valkey"],
    logs: &[
        "/var/log/redis/redis-server.log",
        "/var/log/redis/redis.log",
        "/var/log/redis.log",
        "/var/log/valkey/valkey-server.log",
    ],
    listens_as_configured: true,
    comment: Some("#"),
    keeps_data: true,
    replaces_sockets: true,
    asks: crate::host::ProbeProtocol::Redis,
    ports: &[6379],
    ..Profile::plain("redis", &GRAMMAR, &CATALOGUE)
};

const RULES: WordRules = WordRules { escapes: false, comments: false, inner_quotes: false };
const DEPTH: usize = 16;

/// The kind `redis`.
pub(super) struct Redis;

fn file(book: &mut Book, file: &str, release: Option<&Release>, depth: usize) {
    let Some(text) = book.text(file) else { return };
    for line in text.lines() {
        let trimmed = line.text.trim();
        if book.stopped {
            return;
        }
        if !trimmed.is_empty() && !trimmed.starts_with('#') {
            directive(book, &text, &line, release, depth);
        }
    }
}

fn directive(book: &mut Book, text: &Text, line: &Line, release: Option<&Release>, depth: usize) {
    let split = match words(line.text, RULES) {
        Ok(split) => split,
        Err(open) => {
            book.refuse(
                &text.place(line, open),
                "",
                Code::ConfigSyntax,
                "a quote is not closed, or something follows it",
            );
            return;
        }
    };
    let Some((first, rest)) = split.split_first() else { return };
    let name = first.value.to_ascii_lowercase();
    let place = text.place(line, first.raw);
    if !judge::line(book, text, line, &split, release) {
        return;
    }
    if name == "include" && depth < DEPTH {
        rest.iter().for_each(|target| include(book, &target.value, &place, release, depth));
        return;
    }
    let span = if let [one] = rest { text.span(line, one.raw) } else { None };
    let value = rest.iter().map(|w| w.value.as_str()).collect::<Vec<_>>().join(" ");
    book.entries.push(Entry::of_file("", name, value, place, span));
}

/// Relative names count from the working directory of the start, which the manager makes the root.
fn include(book: &mut Book, target: &str, place: &Place, release: Option<&Release>, depth: usize) {
    let target = path::join("/", target);
    let files = if path::is_pattern(&target) { glob(book.snapshot, &target) } else { vec![target] };
    for one in files {
        if book.snapshot.exists(&one) == Some(false) {
            let found =
                book.refuse(place, "include", Code::ConfigMissingFile, format!("{one} does not exist"));
            found.depends_on = DependsOn::Files;
            found.about = Some(About::File(one));
            return;
        }
        file(book, &one, release, depth + 1);
    }
}

/// `--name value …` of the command line comes after the file and wins.
fn options(book: &mut Book, instance: &Instance) {
    let command = &instance.command;
    let mut at = 1;
    while at < command.len() {
        let name = command[at].strip_prefix("--").filter(|n| !n.is_empty());
        let values: Vec<&str> =
            command[at + 1..].iter().take_while(|w| !w.starts_with("--")).map(String::as_str).collect();
        at += 1 + if name.is_some() { values.len() } else { 0 };
        if let Some(name) = name {
            // It has no form with a sign; what stands behind one is no part of a name all the same.
            let (name, own) = name.split_once('=').map_or((name, None), |(n, v)| (n, Some(v)));
            let value = own.into_iter().chain(values).collect::<Vec<_>>().join(" ");
            book.option(instance.command_place.as_ref(), "", &name.to_ascii_lowercase(), &value);
        }
    }
}

/// A port; anything but 0 to 65535 is refused.
fn port(book: &mut Book, name: &str, default: u16) -> (u16, Option<Entry>) {
    let Some(entry) = book.last(name) else { return (default, None) };
    let number = entry.value.parse::<u16>();
    if number.is_err() {
        let message = format!("{name} is \"{}\", expected a number from 0 to 65535", entry.value);
        book.refuse(&entry.place, name, Code::ConfigBadValue, message);
    }
    (number.unwrap_or(0), Some(entry))
}

fn listens(book: &mut Book) {
    let bind = book.last("bind");
    let addresses = bind.as_ref().map_or("* -::*", |b| b.value.as_str()).to_owned();
    for (name, default, tls) in [("port", 6379, false), ("tls-port", 0, true)] {
        let (port, entry) = port(book, name, default);
        for word in addresses.split_whitespace().filter(|_| port != 0) {
            let optional = word.starts_with('-');
            let address = match word.trim_start_matches('-') {
                "*" => Some(IpAddr::V4(Ipv4Addr::UNSPECIFIED)),
                "::*" => Some(IpAddr::V6(Ipv6Addr::UNSPECIFIED)),
                other => other.parse().ok(),
            };
            let Some(address) = address else { continue };
            if !optional {
                book.must_be_here(bind.as_ref(), address, port);
            }
            // Each family is bound by itself; an address that may be missing is not insisted on.
            let span = entry.as_ref().and_then(|e| e.span.clone());
            book.listen(
                Listen::tcp(address, port, true),
                entry.as_ref().or(bind.as_ref()),
                span,
                tls,
                !optional,
            );
        }
    }
    if let Some(socket) = book.last("unixsocket").filter(|s| s.value.starts_with('/')) {
        // What lies in memory is made by whoever starts it.
        if !socket.value.starts_with("/run/") && !socket.value.starts_with("/var/run/") {
            book.must_have_parent(&socket, &socket.value);
        }
        book.listen(Listen::unix(&socket.value), Some(&socket), None, false, true);
    }
}

fn in_force(book: &Book, name: &str) -> Option<String> {
    book.value(name).map(|v| v.to_ascii_lowercase())
}

fn paths(book: &mut Book) {
    let directory = book.last("dir");
    let dir = path::join("/", directory.as_ref().map_or("/", |d| d.value.as_str()));
    if let Some(entry) = &directory {
        book.must_be_directory(entry, &dir);
        book.out.model.data_dir = Some(Book::named(entry, "/"));
    }
    // It enters its directory first and opens the log from there.
    if let Some(log) = book.last("logfile").filter(|l| !l.value.is_empty()) {
        let named = Book::named(&log, &dir);
        book.must_have_parent(&log, &named.path);
        book.out.model.error_logs.push(named.clone());
        book.out.model.writes.push(named);
    } else {
        book.out
            .model
            .log_sinks
            .push((LogSink::StandardError, book.last("logfile").and_then(|log| log.place.known())));
    }
    if let Some(entry) = book.last("syslog-enabled").filter(|e| e.value.eq_ignore_ascii_case("yes")) {
        book.out.model.log_sinks.push((LogSink::Syslog, entry.place.known()));
    }
    book.out.model.notifies =
        Some(in_force(book, "supervised").is_some_and(|v| matches!(v.as_str(), "systemd" | "auto")));
    book.out.model.background = Some(in_force(book, "daemonize").is_some_and(|v| v == "yes"));
    book.out.model.pid_file =
        book.last("pidfile").filter(|p| !p.value.is_empty()).map(|p| Book::named(&p, "/"));
    let dump = path::join(&dir, &book.value("dbfilename").unwrap_or_else(|| "dump.rdb".into()));
    if book.snapshot.exists(&dump) == Some(true) {
        let place = directory.and_then(|d| d.place.known());
        book.out.model.reads.push(NamedPath { path: dump, place, directive: "dbfilename".into() });
    }
    let tls = book.value("tls-port").is_some_and(|p| p != "0");
    for name in ["aclfile", "tls-cert-file", "tls-key-file", "tls-ca-cert-file"] {
        if let Some(entry) = book.last(name).filter(|e| !e.value.is_empty()) {
            let named = Book::named(&entry, "/");
            // Relative ones are opened in the directory of the data (asked of 7.0).
            let opened = name == "aclfile" || tls;
            if opened && entry.value.starts_with('/') && book.snapshot.exists(&named.path) == Some(false) {
                book.missing(&entry, &named.path);
            }
            book.out.model.reads.push(named);
        }
    }
    // A module is a path and its arguments; a bare name is looked for by the loader.
    for entry in book.entries.iter().filter(|e| e.name == "loadmodule").cloned().collect::<Vec<_>>() {
        let module = entry.value.split_whitespace().next().unwrap_or_default();
        if module.starts_with('/') && book.snapshot.exists(module) == Some(false) {
            book.missing(&entry, module);
        }
    }
    if tls {
        let named =
            |book: &Book, name: &str| book.out.model.reads.iter().find(|r| r.directive == name).cloned();
        let (certificate, key) = (named(book, "tls-cert-file"), named(book, "tls-key-file"));
        book.must_fit(certificate.as_ref(), key.as_ref());
    }
}

impl Kind for Redis {
    fn profile(&self) -> &'static Profile {
        &PROFILE
    }
    fn setting_identity(&self, one: &Assignment) -> String {
        let name = self.setting_key(&one.name);
        // Each class of clients has limits of its own.
        let class =
            (name == "client-output-buffer-limit").then(|| one.value.first_word().to_ascii_lowercase());
        class.map_or(name.clone(), |c| format!("{name} {c}"))
    }
    fn combine(&self, one: &Assignment) -> Combine {
        let many = matches!(
            self.setting_key(&one.name).as_str(),
            "save" | "user" | "rename-command" | "loadmodule" | "sentinel"
        );
        if many && one.layer == Layer::File { Combine::List } else { Combine::Last }
    }
    fn table_release(&self, found: &Release) -> Option<Release> {
        Some(found.clone()).filter(judge::is_known)
    }
    fn directives(&self) -> Option<&'static Directives> {
        Some(directives!("kinds/redis/directives.rs"))
    }
    fn locate(&self, snapshot: &Snapshot, instance: &mut Instance) {
        if !instance.config.is_empty() {
            return;
        }
        let named = instance.command.get(1).filter(|w| !w.starts_with('-') && w.contains('/'));
        // Started with options alone, or with nothing, it reads no file at all. A process that runs wears a
        // title of its own, which tells nothing of that.
        let titled =
            instance.by_process.is_some() || instance.command.first().is_some_and(|w| w.contains(' '));
        let bare = match instance.command.get(1) {
            Some(word) => word.starts_with("--"),
            None => instance.command.len() == 1 && !titled,
        };
        if bare {
            return;
        }
        instance.config = named.cloned().unwrap_or_else(|| known_config(snapshot, &PROFILE));
    }
    fn read(&self, snapshot: &Snapshot, instance: &Instance) -> Configuration {
        let mut book = Book::new(snapshot, &instance.made_by_manager);
        if instance.config.is_empty() {
            book.out.readable = true;
        } else {
            let release = self.release(snapshot, instance).filter(judge::is_known);
            file(&mut book, &instance.config, release.as_ref(), 0);
        }
        if book.out.readable {
            options(&mut book, instance);
            listens(&mut book);
            paths(&mut book);
        }
        book.close(|name| self.is_secret(name))
    }
    fn writes_data(&self) -> &'static [&'static str] {
        &["*.rdb", "*.aof", "appendonlydir", "nodes.conf"]
    }
    fn data_faults(&self, snapshot: &Snapshot, instance: &Instance, dir: &str) -> Vec<DataFault> {
        let mut book = Book::new(snapshot, &instance.made_by_manager);
        file(&mut book, &instance.config, None, 0);
        let name = book.value("dbfilename").unwrap_or_else(|| "dump.rdb".into());
        let release = self.release(snapshot, instance);
        data::faults(snapshot, release.as_ref(), &path::join(dir, &name))
    }
    fn named_config(&self, arguments: &[String]) -> Option<String> {
        arguments.get(1).filter(|w| w.starts_with('/')).cloned()
    }
    fn is_main(&self, arguments: &[String]) -> bool {
        // A child that saves names itself after what it does.
        !arguments
            .first()
            .is_some_and(|a| a.starts_with("redis-rdb-bgsave") || a.starts_with("redis-aof-rewrite"))
    }
}
