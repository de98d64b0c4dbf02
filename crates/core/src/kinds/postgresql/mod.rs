//! PostgreSQL: `name = value` lines; every syntax error of every file is collected, then only the last value
//! of a name counts.
mod access;
mod data;
mod grammar;
mod judge;
mod relations;

use super::{DataFault, Instance, Kind, Profile, Stands, VersionMark, glob, option};
use crate::code::Code;
use crate::config::Span;
use crate::config::entries::{Book, Entry};
use crate::config::layers::{Assignment, Combine, Layer};
use crate::config::release::{Release, Version};
use crate::config::rows::{Amount, Directives, directives};
use crate::config::{
    About, ConfigFinding, Configuration, Demand, DependsOn, LogSink, NamedPath, Place, Resource,
};
use crate::host::FileKind;
use crate::log::{Catalogue, Grammar};
use crate::net::Listen;
use crate::path;
use crate::snapshot::Snapshot;
use std::net::IpAddr;

static GRAMMAR: Grammar = Grammar::new(crate::data!("kinds/postgresql/log.json"));
static CATALOGUE: Catalogue = Catalogue::new(crate::data!("kinds/postgresql/failures.json"));
static PROFILE: Profile = Profile {
    programs: &["postgres", "postmaster", "pg_ctlcluster", "pg_ctl", "postgresql-setup"],
    units: &["postgresql@*.service", "postgresql-*.service"],
    configs: &[
        "/etc/postgresql/*/*/postgresql.conf",
        "/var/lib/pgsql/data/postgresql.conf",
        "/var/lib/pgsql/*/data/postgresql.conf",
        "/var/lib/postgres/data/postgresql.conf",
        "/var/lib/postgresql/*/data/postgresql.conf",
        "/usr/local/pgsql/data/postgresql.conf",
    ],
    packages: &[
        "postgresql-18",
        "postgresql-17",
        "postgresql-16",
        "postgresql-15",
        "postgresql-14",
        "postgresql-13",
        "postgresql-server",
        "postgresql",
    ],
    version: Some(VersionMark { words: ", compiled by ", stands: Stands::First, files: &["postgres"] }),
    listens_as_configured: true,
    data_logs: &["log/*", "pg_log/*"],
    comment: Some("#"),
    keeps_data: true,
    replaces_sockets: true,
    asks: crate::host::ProbeProtocol::Postgresql,
    ports: &[5432],
    ..Profile::plain("postgresql", &GRAMMAR, &CATALOGUE)
};
const DEPTH: usize = 10;
/// Where the clusters' control script keeps their configuration, and the logs it starts them with.
const CLUSTERS: &str = "/etc/postgresql";

/// The kind `postgresql`.
pub(super) struct Postgresql;

/// Version and name of the cluster that a control script is told to start: `15-main`, or `15 main`.
fn cluster(command: &[String]) -> Option<(String, String)> {
    command.first().filter(|p| path::name(p) == "pg_ctlcluster")?;
    let words: Vec<&String> = command.iter().skip(1).filter(|w| !w.starts_with('-')).collect();
    let first = words.first()?;
    if let Some((version, name)) = first.split_once('-') {
        return Some((version.to_owned(), name.to_owned()));
    }
    Some(((*first).clone(), (*words.get(1)?).clone()))
}

/// Major version of the server: that of its cluster, or of the directory that its program stands in.
fn server_version(instance: &Instance) -> Option<String> {
    let by_directory = || {
        let parts = instance.command.first()?.split('/').collect::<Vec<_>>();
        let found = parts.iter().find_map(|p| {
            p.strip_prefix("pgsql-")
                .or(Some(p))
                .filter(|v| !v.is_empty() && v.bytes().all(|b| b.is_ascii_digit()))
        })?;
        Some((*found).to_owned())
    };
    cluster(&instance.command).map(|(version, _)| version).or_else(by_directory)
}

/// The full version of a major release's own package.
fn own(snapshot: &Snapshot, wanted: &Version) -> Option<Version> {
    let package =
        PROFILE.packages.iter().position(|p| p.strip_prefix("postgresql-") == Some(&wanted.to_string()))?;
    let alone = Profile {
        packages: PROFILE.packages.get(package..=package)?,
        ..Profile::plain("postgresql", &GRAMMAR, &CATALOGUE)
    };
    super::release::of_packages(snapshot, &alone).and_then(|(_, version)| Version::parse(&version))
}

fn file(book: &mut Book, name: &str, layer: Layer, depth: usize) {
    let Some(text) = book.text(name) else { return };
    for line in text.lines() {
        match grammar::line(line.text) {
            grammar::Parsed::Nothing => {}
            grammar::Parsed::Fault(rest) => {
                let quote = grammar::missing_quote(line.text).filter(|_| text.faithful).map(|at| {
                    let at = line.start + at;
                    Span { file: text.file.clone(), start: at, end: at }
                });
                let found = book.find(
                    &text.place(&line, rest),
                    "",
                    Code::ConfigSyntax,
                    // What stands there may be a secret: the place says where it is.
                    "what stands here is not understood: a setting is NAME = VALUE, and a value with signs \
                     or blanks stands in single quotes",
                );
                found.edit = quote.map(|span| (span, "'".to_owned()));
            }
            grammar::Parsed::Setting { name: key, value, raw } => {
                let place = text.place(&line, key);
                let lower = key.to_ascii_lowercase();
                match lower.as_str() {
                    "include" | "include_if_exists" => {
                        include(book, name, &value, &place, &lower, layer, depth)
                    }
                    "include_dir" => include_dir(book, name, &value, &place, layer, depth),
                    _ => {
                        let inner = raw.strip_prefix('\'').and_then(|r| r.strip_suffix('\'')).unwrap_or(raw);
                        let span = text.span(&line, inner);
                        book.entries.push(Entry { layer, ..Entry::of_file("", lower, value, place, span) });
                    }
                }
            }
        }
    }
}

fn include(book: &mut Book, from: &str, target: &str, place: &Place, how: &str, layer: Layer, depth: usize) {
    let target = path::join(path::parent(from), target);
    if depth >= DEPTH {
        book.find(place, how, Code::ConfigConflict, "files include each other without end");
        return;
    }
    if book.snapshot.exists(&target) == Some(false) {
        if how == "include" {
            let found = book.find(place, how, Code::ConfigMissingFile, format!("{target} does not exist"));
            found.depends_on = DependsOn::Files;
            found.about = Some(About::File(target));
        }
        return;
    }
    file(book, &target, layer, depth + 1);
}

fn include_dir(book: &mut Book, from: &str, target: &str, place: &Place, layer: Layer, depth: usize) {
    let dir = path::join(path::parent(from), target);
    let Some(entries) = book.snapshot.list(&dir).seen() else {
        if book.snapshot.exists(&dir) == Some(false) {
            let found = book.find(
                place,
                "include_dir",
                Code::ConfigMissingFile,
                format!("directory {dir} does not exist"),
            );
            found.depends_on = DependsOn::Files;
            found.about = Some(About::Directory(dir));
        }
        return;
    };
    for entry in
        entries.iter().filter(|e| e.name.ends_with(".conf") && !e.name.starts_with('.') && depth < DEPTH)
    {
        file(book, &path::join(&dir, &entry.name), layer, depth + 1);
    }
}

/// Options of one letter that take a value, and flags with what they mean (postgres(1)).
const LETTERS: &[(char, &str)] = &[
    ('p', "port"),
    ('k', "unix_socket_directories"),
    ('h', "listen_addresses"),
    ('N', "max_connections"),
    ('B', "shared_buffers"),
    ('S', "work_mem"),
];
const FLAGS: &[(char, &str, &str)] =
    &[('i', "listen_addresses", "*"), ('F', "fsync", "off"), ('l', "ssl", "on")];

/// Values of the command line win over every file: `-c name=value`, `--name=value`, and letters. The control
/// program hands on what stands in its own `-o`.
fn options(book: &mut Book, instance: &Instance) {
    let place = instance.command_place.as_ref();
    let program = instance.command.first().map_or("", |p| path::name(p));
    let own: Vec<String> = match program {
        "postgres" | "postmaster" => instance.command.iter().skip(1).cloned().collect(),
        _ => super::option(&instance.command, &["-o", "--options"])
            .map(|o| crate::manager::split_words(&o))
            .unwrap_or_default(),
    };
    let mut words = own.iter().peekable();
    while let Some(word) = words.next() {
        if let Some((name, value)) = word.strip_prefix("--").and_then(|w| w.split_once('=')) {
            book.option(place, "", &spelt(name), value);
            continue;
        }
        let Some((letter, rest)) =
            word.strip_prefix('-').and_then(|w| Some((w.chars().next()?, w.get(1..)?)))
        else {
            continue;
        };
        if let Some((_, name, value)) = FLAGS.iter().find(|(l, ..)| *l == letter && rest.is_empty()) {
            book.option(place, "", name, value);
            continue;
        }
        let named = LETTERS.iter().find(|(l, _)| *l == letter).map(|(_, n)| *n);
        if named.is_none() && !matches!(letter, 'c' | 'D' | 'd' | 'f' | 't' | 'r' | 'W') {
            continue;
        }
        let value = if rest.is_empty() { words.next().cloned().unwrap_or_default() } else { rest.to_owned() };
        match (named, value.split_once('=')) {
            (Some(name), _) => book.option(place, "", name, &value),
            (None, Some((name, value))) if letter == 'c' => book.option(place, "", &spelt(name), value),
            _ => {}
        }
    }
    if let Some(port) = instance.environment.get("PGPORT").filter(|p| !p.is_empty()) {
        book.variable("", "port", port);
    }
}

/// A name as the server compares it; on the command line `-` stands for `_`.
fn spelt(name: &str) -> String {
    name.replace('-', "_").to_ascii_lowercase()
}

fn listens(book: &mut Book, judged: bool) {
    let entry = book.last("port");
    let port = match book.value("port").map(|v| port(&v)) {
        None => 5432,
        Some(Some(port)) => port,
        Some(None) => {
            if let Some(entry) = entry.as_ref().filter(|_| !judged) {
                let message = format!("port is \"{}\", expected a number from 1 to 65535", entry.value);
                book.find(&entry.place, "port", Code::ConfigBadValue, message);
            }
            return;
        }
    };
    let span = entry.as_ref().and_then(|e| e.span.clone());
    let listen_entry = book.last("listen_addresses");
    let by = entry.as_ref().or(listen_entry.as_ref()).cloned();
    let text = book.value("listen_addresses").unwrap_or_else(|| "localhost".into());
    let mut addresses: Vec<IpAddr> = Vec::new();
    for word in text.split(',').map(str::trim).filter(|w| !w.is_empty()) {
        match word {
            "*" => addresses.extend([IpAddr::from([0, 0, 0, 0]), IpAddr::from([0u16; 8])]),
            "localhost" => {
                addresses.extend([IpAddr::from([127, 0, 0, 1]), IpAddr::from([0, 0, 0, 0, 0, 0, 0, 1u16])])
            }
            other => addresses.extend(
                other
                    .parse::<IpAddr>()
                    .ok()
                    .or_else(|| crate::names::lookup(book.snapshot, other).seen()?.first().copied()),
            ),
        }
    }
    // One address that works is enough: the others are only warned of. So what is bound is what the host has.
    let own = book.snapshot.addresses().seen();
    let here =
        |a: &IpAddr| own.as_ref().is_none_or(|o| a.is_unspecified() || a.is_loopback() || o.contains(a));
    let some_here = addresses.iter().any(here);
    for address in &addresses {
        if !some_here {
            book.must_be_here(listen_entry.as_ref(), *address, port);
        }
        book.listen(
            Listen::tcp(*address, port, true),
            by.as_ref(),
            span.clone(),
            false,
            here(address) && addresses.len() == 1,
        );
    }
    // A first address stands for all: at least one of them must be had.
    if let Some(first) = book.out.model.listens.iter_mut().find(|l| here_of(&l.listen, own.as_deref())) {
        first.bound = true;
    }
    let sockets = book.last("unix_socket_directories");
    let default = if book.snapshot.exists("/etc/debian_version") == Some(true) {
        "/var/run/postgresql"
    } else {
        "/run/postgresql"
    };
    // What lies in memory is made anew with each boot, the package's own directory by its start script.
    let of_disk = |dir: &str| !dir.starts_with("/var/run/") && !dir.starts_with("/run/");
    let directories = book.value("unix_socket_directories").unwrap_or_else(|| default.into());
    for dir in directories.split(',').map(|d| d.trim().trim_matches('"')).filter(|d| d.starts_with('/')) {
        if let Some(entry) = &sockets
            && (of_disk(dir) || is_gone(book.snapshot, dir))
        {
            book.must_be_directory(entry, dir);
        }
        let path = path::join(dir, &format!(".s.PGSQL.{port}"));
        book.listen(Listen::unix(&path), sockets.as_ref(), None, false, true);
    }
}

/// Whether a directory in memory is missing on a host that runs; the package's own is made by its script.
fn is_gone(snapshot: &Snapshot, dir: &str) -> bool {
    snapshot.sees_processes()
        && !dir.ends_with("/run/postgresql")
        && snapshot.aside(|| snapshot.is_directory(dir)) == Some(false)
}

/// A port as the server reads it.
fn port(value: &str) -> Option<u16> {
    let amount = Amount { unit: "", whole: true, least: "1", most: "65535" };
    let number = amount.value(value).filter(|n| (1.0..=65535.0).contains(n))?;
    (1..=u16::MAX).find(|port| f64::from(*port) == number)
}

fn here_of(listen: &Listen, own: Option<&[IpAddr]>) -> bool {
    listen
        .address
        .is_some_and(|a| own.is_none_or(|o| a.is_unspecified() || a.is_loopback() || o.contains(&a)))
}

fn paths(book: &mut Book, instance: &Instance, data: &str, data_entry: Option<Entry>) {
    if let Some(entry) = &data_entry {
        book.must_be_directory(entry, data);
    }
    book.out.model.data_dir = Some(NamedPath {
        path: data.to_owned(),
        place: data_entry.and_then(|e| e.place.known()),
        directive: "data_directory".into(),
    });
    for (name, default) in [("hba_file", "pg_hba.conf"), ("ident_file", "pg_ident.conf")] {
        let Some(entry) = book.last(name) else {
            // Without a line of their own they lie beside the data.
            let file = path::join(data, default);
            if book.snapshot.exists(&file) == Some(true) {
                book.out.model.reads.push(NamedPath { path: file, place: None, directive: name.into() });
            }
            continue;
        };
        // What is wrong with the second one is only logged.
        let required = name == "hba_file";
        let named = Book::named(&entry, data);
        match book.snapshot.exists(&named.path) {
            Some(false) if required => book.missing(&entry, &named.path),
            Some(true) => book.out.model.reads.push(named),
            _ => {}
        }
    }
    let on = |book: &Book, name: &str| {
        book.value(name).is_some_and(|v| {
            matches!(v.to_ascii_lowercase().as_str(), "on" | "true" | "yes" | "1" | "t" | "y")
        })
    };
    if on(book, "ssl") {
        for name in ["ssl_cert_file", "ssl_key_file"] {
            let Some(entry) = book.last(name) else { continue };
            let named = Book::named(&entry, data);
            if book.snapshot.exists(&named.path) == Some(false) {
                book.missing(&entry, &named.path);
            }
            book.out.model.reads.push(named);
        }
        let named =
            |book: &Book, name: &str| book.out.model.reads.iter().find(|r| r.directive == name).cloned();
        let (certificate, key) = (named(book, "ssl_cert_file"), named(book, "ssl_key_file"));
        closed(book, key.as_ref());
        book.must_fit(certificate.as_ref(), key.as_ref());
    }
    if let Some(zone) = book.value("log_timezone") {
        book.out.model.log_zone = Some(zone);
    }
    if let Some(entry) = book.last("external_pid_file") {
        book.out.model.pid_file = Some(Book::named(&entry, data));
    }
    let named = |path: String, directive: &str| NamedPath { path, place: None, directive: directive.into() };
    if on(book, "logging_collector") {
        let dir = path::join(data, &book.value("log_directory").unwrap_or_else(|| "log".into()));
        let newest = newest_log(book.snapshot, &dir);
        book.out.model.error_logs.extend(newest.map(|f| named(f, "log_directory")));
    }
    if let Some(entry) = book
        .last("log_destination")
        .filter(|e| e.value.split(',').any(|d| d.trim().eq_ignore_ascii_case("syslog")))
    {
        book.out.model.log_sinks.push((LogSink::Syslog, entry.place.known()));
    }
    if let Some((version, name)) = cluster(&instance.command) {
        // The control script sends what the server says to this file, and the server opens it as its own
        // account.
        let log = named(format!("/var/log/postgresql/postgresql-{version}-{name}.log"), "the control script");
        book.out.model.error_logs.push(log);
    }
}

/// The built-in size of the shared buffers, in bytes; numbers without a unit count blocks.
const SHARED_BUFFERS: u64 = 128 << 20;
const BLOCK: u64 = 8192;

/// An amount of memory: a number of blocks, or one with a unit.
fn memory(text: &str) -> Option<u64> {
    let text = text.trim();
    let digits = text.find(|c: char| !c.is_ascii_digit()).unwrap_or(text.len());
    let number: u64 = text[..digits].parse().ok()?;
    let unit = match text[digits..].trim() {
        "" => BLOCK,
        "B" => 1,
        "kB" => 1 << 10,
        "MB" => 1 << 20,
        "GB" => 1 << 30,
        "TB" => 1 << 40,
        _ => return None,
    };
    number.checked_mul(unit)
}

fn demands(book: &mut Book, instance: &Instance) {
    let entry = book.last("shared_buffers");
    let amount = book.value("shared_buffers").and_then(|v| memory(&v)).unwrap_or(SHARED_BUFFERS);
    let huge = book.value("huge_pages").is_some_and(|v| crate::manager::on(&v.to_ascii_lowercase()));
    let old_form = book.value("shared_memory_type").is_some_and(|v| v.eq_ignore_ascii_case("sysv"));
    let resource = match (huge, old_form) {
        (true, _) => Resource::HugePages,
        (_, true) => Resource::SharedMemory,
        _ => Resource::Memory,
    };
    book.out.model.demands.push(Demand {
        resource,
        amount,
        directive: "shared_buffers".into(),
        place: entry.and_then(|e| e.place.known()),
    });
    let starter = instance.command.first().map_or("", |p| path::name(p));
    book.out.model.background = match starter {
        "postgres" | "postmaster" => Some(false),
        "pg_ctl" | "pg_ctlcluster" => Some(!instance.command.iter().any(|w| w == "--foreground")),
        _ => None,
    };
}

/// Its locks: one for the data, one beside each socket. The control script looks after the first one by
/// itself.
fn locks(book: &mut Book, instance: &Instance, data: &str) {
    let named = |path: String| NamedPath { path, place: None, directive: "lock".into() };
    if cluster(&instance.command).is_none() {
        book.out.model.locks.push(named(path::join(data, "postmaster.pid")));
    }
    let sockets: Vec<String> = book.out.model.listens.iter().filter_map(|l| l.listen.path.clone()).collect();
    book.out.model.locks.extend(sockets.into_iter().map(|s| named(format!("{s}.lock"))));
}

/// The log that the collector wrote last.
fn newest_log(snapshot: &Snapshot, dir: &str) -> Option<String> {
    let entries = snapshot.list(dir).seen()?;
    let logs = entries.iter().filter(|e| e.name.ends_with(".log")).map(|e| path::join(dir, &e.name));
    logs.max_by_key(|f| snapshot.stat(f).seen().map_or(0, |s| s.modified))
}

/// Others may do nothing with the key; one of root's may be readable for its group (be-secure-common.c).
fn closed(book: &mut Book, key: Option<&NamedPath>) {
    let Some((key, status)) = key.and_then(|k| Some((k.clone(), book.snapshot.stat(&k.path).seen()?))) else {
        return;
    };
    let refused = if status.uid == 0 { 0o037 } else { 0o077 };
    if status.kind != FileKind::Regular || status.mode & refused == 0 {
        return;
    }
    let message = format!(
        "{} may be used by others (mode {:04o}), and the server refuses that",
        key.path,
        status.mode & 0o7777
    );
    book.out.add(ConfigFinding {
        place: key.place.clone(),
        directive: Some(key.directive.clone()),
        depends_on: DependsOn::Files,
        about: Some(About::File(key.path)),
        ..ConfigFinding::error(Code::PermissionDenied, message)
    });
}

impl Kind for Postgresql {
    fn profile(&self) -> &'static Profile {
        &PROFILE
    }
    fn release(&self, snapshot: &Snapshot, instance: &Instance) -> Option<Release> {
        // Several releases stand side by side; the program's directory, or the cluster, says which one is
        // meant.
        let found = super::release(snapshot, &PROFILE, instance);
        let Some(wanted) = server_version(instance).and_then(|v| Version::parse(&v)) else { return found };
        let same = |r: &Release| r.version.major() == wanted.major();
        found.filter(same).or_else(|| {
            Some(Release { flavour: PROFILE.name.into(), version: own(snapshot, &wanted).unwrap_or(wanted) })
        })
    }
    fn megabytes(&self, count: u64) -> String {
        format!("{count}MB")
    }
    fn conceal(&self, text: &str, file: &str) -> Option<crate::secrets::Concealed> {
        if path::name(file).contains("hba") {
            return Some(access::conceal(text));
        }
        super::conceal_settings(self, text)
    }
    fn setting_key(&self, name: &str) -> String {
        spelt(name)
    }
    fn combine(&self, _: &Assignment) -> Combine {
        Combine::Last
    }
    fn table_release(&self, found: &Release) -> Option<Release> {
        judge::release(found)
    }
    fn directives(&self) -> Option<&'static Directives> {
        Some(directives!("kinds/postgresql/directives.rs"))
    }
    fn locate(&self, snapshot: &Snapshot, instance: &mut Instance) {
        let words = &instance.command;
        if instance.config.is_empty() {
            let by_option = words.windows(2).find_map(|w| {
                if w[0] == "-c" { w[1].strip_prefix("config_file=").map(str::to_owned) } else { None }
            });
            let by_option = by_option.or_else(|| option(words, &["--config-file", "--config_file"]));
            let data = option(words, &["-D"]).or_else(|| instance.environment.get("PGDATA").cloned());
            let by_cluster =
                cluster(words).map(|(version, name)| format!("{CLUSTERS}/{version}/{name}/postgresql.conf"));
            let by_data = data.map(|d| path::join(&d, "postgresql.conf"));
            instance.config = by_option
                .or(by_cluster)
                .or(by_data)
                .unwrap_or_else(|| super::known_config(snapshot, &PROFILE));
        }
        // It refuses to run as root: a control script started by root becomes the owner of the configuration.
        if instance.start_uid == 0 {
            let owner = snapshot.stat(&instance.config).seen().map(|s| s.uid).filter(|u| *u != 0);
            let account = || crate::accounts::account(snapshot, "postgres").seen().map(|a| a.uid);
            instance.start_uid = owner.or_else(account).unwrap_or(0);
        }
    }
    fn read(&self, snapshot: &Snapshot, instance: &Instance) -> Configuration {
        let mut book = Book::new(snapshot, &instance.made_by_manager);
        if snapshot.exists(&instance.config) == Some(false) {
            let finding = crate::config::ConfigFinding {
                depends_on: DependsOn::Files,
                about: Some(About::File(instance.config.clone())),
                ..crate::config::ConfigFinding::error(
                    Code::ConfigMissingFile,
                    format!("{} does not exist", instance.config),
                )
            };
            book.out.add(finding);
            return book.close(|name| self.is_secret(name));
        }
        file(&mut book, &instance.config, Layer::File, 0);
        if !book.out.readable {
            return book.close(|name| self.is_secret(name));
        }
        options(&mut book, instance);
        let entry = book.last("data_directory");
        let by_option =
            option(&instance.command, &["-D"]).or_else(|| instance.environment.get("PGDATA").cloned());
        let data = book
            .value("data_directory")
            .or(by_option)
            .unwrap_or_else(|| path::parent(&instance.config).to_owned());
        let data = data.trim_end_matches('/').to_owned();
        // What the server itself was told to keep is read last.
        file(&mut book, &path::join(&data, "postgresql.auto.conf"), Layer::Kept, 0);
        book.entries.sort_by_key(|e| e.layer);
        let release = self.release(snapshot, instance).as_ref().and_then(judge::release);
        if let Some(release) = &release {
            let unit = instance.command_place.as_ref().map(|place| &*place.file);
            judge::all(&mut book, release, unit);
            if let Some(segment) = data::segment(snapshot, &data) {
                relations::segments(&mut book, segment);
            }
        }
        listens(&mut book, release.is_some());
        paths(&mut book, instance, &data, entry);
        demands(&mut book, instance);
        locks(&mut book, instance, &data);
        if let Some(release) = &release {
            let file = book.value("hba_file").unwrap_or_else(|| "pg_hba.conf".into());
            access::judge(&mut book, &path::join(&data, &file), release);
        }
        book.close(|name| self.is_secret(name))
    }
    fn data_files(&self) -> &'static [&'static str] {
        &["PG_VERSION", "global", "global/pg_control", "pg_wal", "base"]
    }
    fn writes_data(&self) -> &'static [&'static str] {
        &["postmaster.opts", "postmaster.pid", "global/pg_control", "pg_wal", "pg_stat", "pg_xact", "log"]
    }
    fn data_faults(&self, snapshot: &Snapshot, instance: &Instance, dir: &str) -> Vec<DataFault> {
        data::faults(snapshot, server_version(instance).as_deref(), dir)
    }
    fn standby(&self, snapshot: &Snapshot, dir: &str) -> Option<(String, &'static str)> {
        let signals = [
            ("standby.signal", "is a standby of another server"),
            ("recovery.signal", "is being recovered from an archive"),
            ("recovery.conf", "is a standby or being recovered"),
        ];
        signals
            .iter()
            .map(|(file, words)| (path::join(dir, file), *words))
            .find(|(file, _)| snapshot.exists(file) == Some(true))
    }
    fn named_config(&self, arguments: &[String]) -> Option<String> {
        let by_option = arguments.windows(2).find_map(|w| {
            if w[0] == "-c" { w[1].strip_prefix("config_file=").map(str::to_owned) } else { None }
        });
        by_option.or_else(|| option(arguments, &["-D"]).map(|d| path::join(&d, "postgresql.conf")))
    }
    fn is_main(&self, arguments: &[String]) -> bool {
        // Children name themselves `postgres: what they do`.
        !arguments.first().is_some_and(|a| a.starts_with("postgres: "))
    }
    fn instances(&self, snapshot: &Snapshot) -> Vec<(String, bool)> {
        let mut found = Vec::new();
        for config in glob(snapshot, &format!("{CLUSTERS}/*/*/postgresql.conf")) {
            let dir = path::parent(&config);
            let start = snapshot.text(&path::join(dir, "start.conf")).seen().unwrap_or_else(|| "auto".into());
            let auto = start.lines().map(str::trim).any(|l| l == "auto");
            found.push((
                format!("postgresql@{}-{}.service", path::name(path::parent(dir)), path::name(dir)),
                auto,
            ));
        }
        found
    }
}
