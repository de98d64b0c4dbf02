//! MySQL and MariaDB: option files with groups, of which the server reads its own; later values win.
mod data;

use super::{DataFault, Instance, Kind, Profile, Stands, VersionMark, option};
use crate::code::Code;
use crate::config::entries::{Book, Entry};
use crate::config::layers::{Assignment, Combine};
use crate::config::lines::{Line, Text};
use crate::config::rows::{Directives, directives};
use crate::config::{About, Configuration, Demand, DependsOn, LogSink, NamedPath, Resource};
use crate::log::{Catalogue, Grammar};
use crate::net::Listen;
use crate::path;
use crate::snapshot::Snapshot;
use std::net::{IpAddr, Ipv6Addr};

static GRAMMAR: Grammar = Grammar::new(crate::data!("kinds/mysql/log.json"));
static CATALOGUE: Catalogue = Catalogue::new(crate::data!("kinds/mysql/failures.json"));
static PROFILE: Profile = Profile {
    programs: &["mariadbd", "mysqld", "mysqld_safe", "mariadbd-safe", "mysqld-debug"],
    units: &[
        "mariadb.service",
        "mysql.service",
        "mysqld.service",
        "mariadb@*.service",
        "mysqld@*.service",
        "mysql@*.service",
    ],
    configs: &[
        "/etc/mysql/my.cnf",
        "/etc/my.cnf",
        "/etc/mysql/mariadb.cnf",
        "/usr/local/mysql/my.cnf",
        "/usr/local/etc/my.cnf",
    ],
    packages: &[
        "mariadb-server",
        "mariadb-server-10.5",
        "mariadb-server-10.6",
        "mysql-server-8.0",
        "mysql-server",
        "mysql-community-server",
    ],
    version: Some(VersionMark { words: "-MariaDB", stands: Stands::Before, files: &["mariadbd", "mysqld"] }),
    flavours: &["mariadb"],
    logs: &[
        "/var/log/mysql/error.log",
        "/var/log/mariadb/mariadb.log",
        "/var/log/mysqld.log",
        "/var/log/mysql/mysqld.log",
    ],
    data_logs: &["*.err"],
    comment: Some("#"),
    keeps_data: true,
    replaces_sockets: true,
    asks: crate::host::ProbeProtocol::Mysql,
    ports: &[3306, 33060],
    ..Profile::plain("mysql", &GRAMMAR, &CATALOGUE)
};

/// Groups that the server reads, beside those with a version behind them.
const GROUPS: &[&str] = &["mysqld", "server", "mariadb", "mariadbd", "client-server", "galera"];
/// Files that are read when none is named, in this order.
const DEFAULTS: &[&str] = &["/etc/my.cnf", "/etc/mysql/my.cnf"];
const DEPTH: usize = 10;

/// The kind `mysql`.
pub(super) struct Mysql;

fn reads_group(name: &str) -> bool {
    let lower = name.to_ascii_lowercase();
    let stem = lower
        .split_once('-')
        .filter(|(_, rest)| rest.starts_with(|c: char| c.is_ascii_digit()))
        .map_or(lower.as_str(), |(stem, _)| stem);
    GROUPS.contains(&lower.as_str()) || (matches!(stem, "mysqld" | "mariadb" | "mariadbd") && stem != lower)
}

/// Reads one option file. A fault ends the start in the main file; in a file of a directory it only ends that
/// file.
fn file(book: &mut Book, name: &str, depth: usize, from_directory: bool) {
    // Anybody could have written it: such a file is ignored.
    if book.snapshot.stat(name).seen().is_some_and(|s| s.mode & 0o002 != 0) {
        book.out
            .not_seen
            .push(format!("{name}: ignored by the daemon, because everybody may write it").into());
        return;
    }
    let Some(text) = book.text(name) else { return };
    let mut group: Option<String> = None;
    for line in text.lines() {
        let trimmed = line.text.trim();
        if trimmed.is_empty() || trimmed.starts_with(['#', ';']) || book.stopped {
            continue;
        }
        if let Err(message) = one(book, &text, &line, trimmed, &mut group, depth) {
            if !from_directory {
                book.refuse(&text.place(&line, trimmed), "", Code::ConfigSyntax, message);
            }
            return;
        }
    }
}

fn one(
    book: &mut Book,
    text: &Text,
    line: &Line,
    trimmed: &str,
    group: &mut Option<String>,
    depth: usize,
) -> Result<(), &'static str> {
    if let Some(target) = trimmed.strip_prefix("!includedir") {
        let dir = target.trim();
        let Some(entries) = book.snapshot.list(dir).seen() else {
            if book.snapshot.exists(dir) == Some(false) {
                let found = book.refuse(
                    &text.place(line, trimmed),
                    "!includedir",
                    Code::ConfigMissingFile,
                    format!("directory {dir} does not exist"),
                );
                found.depends_on = DependsOn::Files;
                found.about = Some(About::Directory(dir.to_owned()));
            }
            return Ok(());
        };
        for entry in entries.iter().filter(|e| e.name.ends_with(".cnf") && depth < DEPTH) {
            file(book, &path::join(dir, &entry.name), depth + 1, true);
        }
        return Ok(());
    }
    if let Some(target) = trimmed.strip_prefix("!include") {
        if depth < DEPTH {
            file(book, target.trim(), depth + 1, false);
        }
        return Ok(());
    }
    if let Some(rest) = trimmed.strip_prefix('[') {
        let name =
            rest.split_once(']').map(|(name, _)| name).ok_or("a group's name needs a closing bracket")?;
        *group = Some(name.to_owned());
        return Ok(());
    }
    let Some(group) = group else { return Err("an option stands before the first group") };
    if !reads_group(group) {
        return Ok(());
    }
    let (name, value) = trimmed.split_once('=').map_or((trimmed, ""), |(n, v)| (n.trim(), v.trim()));
    let name = name.split([' ', '\t']).next().unwrap_or_default();
    let value = without_comment(value);
    let plain = unquoted(value);
    let entry =
        Entry::of_file(group, spelt(name), plain.to_owned(), text.place(line, name), text.span(line, plain));
    book.entries.push(entry);
    Ok(())
}

/// A `#` after a blank begins a comment.
fn without_comment(value: &str) -> &str {
    let mut quote = None;
    for (at, c) in value.char_indices() {
        match (quote, c) {
            (None, '"' | '\'') => quote = Some(c),
            (Some(q), c) if c == q => quote = None,
            (None, '#') if at == 0 || value[..at].ends_with([' ', '\t']) => return value[..at].trim_end(),
            _ => {}
        }
    }
    value
}

fn unquoted(value: &str) -> &str {
    let same = |q: char| value.len() >= 2 && value.starts_with(q) && value.ends_with(q);
    if same('"') || same('\'') { &value[1..value.len() - 1] } else { value }
}

/// A name as the server compares it: `-` and `_` are one, and `loose-` only says what becomes of an unknown
/// one.
fn spelt(name: &str) -> String {
    let plain = name.replace('-', "_").to_ascii_lowercase();
    plain.strip_prefix("loose_").map_or(plain.clone(), str::to_owned)
}

/// Options of one letter that take a value (`mysqld --help`).
const LETTERS: &[(char, &str)] = &[
    ('P', "port"),
    ('u', "user"),
    ('h', "datadir"),
    ('b', "basedir"),
    ('t', "tmpdir"),
    ('C', "character_set_server"),
    ('r', "chroot"),
];

/// Options of the command line come last: `--name=value`, `--name value`, and some letters. What stands alone
/// is a value, for the server takes no other words.
fn options(book: &mut Book, instance: &Instance) {
    let place = instance.command_place.as_ref();
    let mut words = instance.command.iter().skip(1).peekable();
    while let Some(word) = words.next() {
        let (name, given) = if let Some(option) = word.strip_prefix("--").filter(|o| !o.is_empty()) {
            let (name, value) =
                option.split_once('=').map_or((option, None), |(n, v)| (n, Some(v.to_owned())));
            (spelt(name), value)
        } else if let Some((letter, rest)) =
            word.strip_prefix('-').and_then(|w| Some((w.chars().next()?, w.get(1..)?)))
        {
            let Some((_, name)) = LETTERS.iter().find(|(l, _)| *l == letter) else { continue };
            ((*name).to_owned(), (!rest.is_empty()).then(|| rest.to_owned()))
        } else {
            continue;
        };
        let value = given.or_else(|| words.next_if(|w| !w.starts_with('-')).cloned()).unwrap_or_default();
        // Where it looks for its files is no setting of the server.
        if !name.starts_with("defaults_") && !matches!(name.as_str(), "no_defaults" | "print_defaults") {
            book.option(place, "", &name, &value);
        }
    }
    for (variable, name) in [("MYSQL_TCP_PORT", "port"), ("MYSQL_UNIX_PORT", "socket")] {
        if let Some(value) = instance.environment.get(variable).filter(|v| !v.is_empty()) {
            book.variable("", name, value);
        }
    }
}

fn listens(book: &mut Book) {
    let off = book
        .value("skip_networking")
        .is_some_and(|v| !matches!(v.to_ascii_lowercase().as_str(), "0" | "off" | "false" | "no"));
    let entry = book.last("port");
    // A number out of range is adjusted, not refused.
    let port = book
        .value("port")
        .map_or(Some(3306), |p| p.parse::<u32>().ok())
        .and_then(|p| u16::try_from(p).ok())
        .unwrap_or(u16::MAX);
    let bind = book.last("bind_address");
    let addresses = book.value("bind_address").unwrap_or_else(|| "*".into());
    for word in addresses.split(',').map(str::trim).filter(|_| !off && port != 0) {
        let (address, v6_only) = match word {
            "*" | "::" => (IpAddr::V6(Ipv6Addr::UNSPECIFIED), false),
            "0.0.0.0" | "" => (IpAddr::from([0, 0, 0, 0]), false),
            "localhost" => (IpAddr::from([127, 0, 0, 1]), false),
            other => match other.parse() {
                Ok(address) => (address, true),
                Err(_) => continue,
            },
        };
        // It binds addresses that the host does not have, too: those are no fault here.
        let span = entry.as_ref().and_then(|e| e.span.clone()).filter(|s| s.end > s.start);
        book.listen(Listen::tcp(address, port, v6_only), entry.as_ref().or(bind.as_ref()), span, false, true);
    }
    let data = data_dir(book);
    let socket = book.value("socket").unwrap_or_else(|| default_socket(book.snapshot, &data));
    let entry = book.last("socket");
    let socket = path::join(&data, &socket);
    if let Some(entry) = &entry {
        book.must_have_parent(entry, &socket);
    }
    book.listen(Listen::unix(&socket), entry.as_ref(), None, false, true);
}

/// The built-in place of the socket differs between the distributions.
fn default_socket(snapshot: &Snapshot, data: &str) -> String {
    if snapshot.exists("/etc/debian_version") == Some(true) {
        "/run/mysqld/mysqld.sock".into()
    } else {
        path::join(data, "mysql.sock")
    }
}

fn data_dir(book: &Book) -> String {
    book.value("datadir").unwrap_or_else(|| "/var/lib/mysql".into()).trim_end_matches('/').to_owned()
}

fn paths(book: &mut Book) {
    let data = data_dir(book);
    let entry = book.last("datadir");
    if let Some(entry) = &entry {
        book.must_be_directory(entry, &data);
    }
    book.out.model.data_dir = Some(NamedPath {
        path: data.clone(),
        place: entry.and_then(|e| e.place.known()),
        directive: "datadir".into(),
    });
    for name in ["pid_file", "log_bin"] {
        let Some(entry) = book.last(name).filter(|e| !e.value.is_empty()) else { continue };
        let named = Book::named(&entry, &data);
        book.must_have_parent(&entry, &named.path);
        if name == "pid_file" {
            book.out.model.pid_file = Some(named.clone());
            book.out.model.writes.push(named);
        }
    }
    for name in ["tmpdir", "innodb_data_home_dir", "secure_file_priv"] {
        if let Some(entry) = book.last(name).filter(|e| e.value.starts_with('/')) {
            let value = entry.value.trim_end_matches('/').to_owned();
            book.must_be_directory(&entry, &value);
        }
    }
    if let Some(entry) = book.last("init_file").filter(|e| !e.value.is_empty()) {
        let named = Book::named(&entry, &data);
        if book.snapshot.exists(&named.path) == Some(false) {
            book.missing(&entry, &named.path);
        }
    }
    // Without a value it is named after the pid file, or after the host in the data directory.
    if let Some(entry) = book.last("log_error") {
        let default = match &book.out.model.pid_file {
            Some(pid) => format!("{}.err", pid.path.trim_end_matches(".pid")),
            None => path::join(&data, &format!("{}.err", host_name(book.snapshot))),
        };
        let path = if entry.value.is_empty() { default } else { path::join(&data, &entry.value) };
        let path = if path::name(&path).contains('.') { path } else { format!("{path}.err") };
        book.out.model.error_logs.push(NamedPath {
            path,
            place: entry.place.known(),
            directive: "log_error".into(),
        });
    } else {
        book.out.model.log_sinks.push((LogSink::StandardError, None));
    }
    if let Some(user) = book.last("user") {
        book.out.model.account = Some((user.value, user.place.known()));
    }
}

/// The built-in size of the buffer pool, in bytes (the same in both families).
const BUFFER_POOL: u64 = 128 << 20;

fn demands(book: &mut Book, command: &[String]) {
    let entry = book.last("innodb_buffer_pool_size");
    let given = book.value("innodb_buffer_pool_size").and_then(|v| crate::manager::size(&v));
    let amount = given.unwrap_or(BUFFER_POOL);
    let place = entry.and_then(|e| e.place.known());
    book.out.model.demands.push(Demand {
        resource: Resource::Memory,
        amount,
        directive: "innodb_buffer_pool_size".into(),
        place,
    });
    book.out.model.background = Some(
        command.iter().any(|w| w == "--daemonize")
            || book.last("daemonize").is_some_and(|e| crate::manager::on(&e.value.to_ascii_lowercase())),
    );
}

fn host_name(snapshot: &Snapshot) -> String {
    let own = snapshot.clock().seen().map(|c| c.host).or_else(|| snapshot.text("/etc/hostname").seen());
    own.unwrap_or_default().trim().to_owned()
}

impl Kind for Mysql {
    fn profile(&self) -> &'static Profile {
        &PROFILE
    }
    fn spells(&self, line: &str, name: &str) -> bool {
        let first = line.split(['=', ' ', '\t']).next().unwrap_or_default();
        first.replace('-', "_").eq_ignore_ascii_case(name)
    }
    fn directives(&self) -> Option<&'static Directives> {
        Some(directives!("kinds/mysql/directives.rs"))
    }
    fn setting_key(&self, name: &str) -> String {
        spelt(name)
    }
    fn scope_is_server(&self, section: &str) -> bool {
        // All groups that the server reads set the same settings.
        section.is_empty() || reads_group(section)
    }
    fn combine(&self, one: &Assignment) -> Combine {
        match spelt(&one.name).as_str() {
            "plugin_load_add" | "early_plugin_load" | "binlog_do_db" | "binlog_ignore_db"
            | "ignore_db_dirs" | "ignore_db_dir" => Combine::List,
            name if name.starts_with("replicate_") && (name.ends_with("_db") || name.ends_with("_table")) => {
                Combine::List
            }
            "replicate_rewrite_db" => Combine::List,
            _ => Combine::Last,
        }
    }
    fn locate(&self, snapshot: &Snapshot, instance: &mut Instance) {
        if instance.config.is_empty() {
            let named = option(&instance.command, &["--defaults-file"]);
            instance.config = named.unwrap_or_else(|| super::known_config(snapshot, &PROFILE));
        }
    }
    fn read(&self, snapshot: &Snapshot, instance: &Instance) -> Configuration {
        let mut book = Book::new(snapshot, &instance.made_by_manager);
        let named = option(&instance.command, &["--defaults-file"]).is_some()
            || !DEFAULTS.contains(&instance.config.as_str());
        let files: Vec<&str> = if named { vec![instance.config.as_str()] } else { DEFAULTS.to_vec() };
        let none = instance.command.get(1).is_some_and(|w| w == "--no-defaults");
        for one in files.into_iter().filter(|_| !none) {
            // A link to a file that was read already is read again by the daemon, with the same outcome.
            file(&mut book, one, 0, false);
        }
        if let Some(extra) = option(&instance.command, &["--defaults-extra-file"]) {
            file(&mut book, &extra, 0, false);
        }
        // Without any file it runs with its defaults.
        book.out.readable = true;
        options(&mut book, instance);
        listens(&mut book);
        paths(&mut book);
        demands(&mut book, &instance.command);
        book.close(|name| self.is_secret(name))
    }
    fn data_files(&self) -> &'static [&'static str] {
        &["aria_log_control", "ibdata1", "ib_logfile0", "mysql"]
    }
    fn writes_data(&self) -> &'static [&'static str] {
        &[
            "aria_log_control",
            "aria_log.*",
            "ib_buffer_pool",
            "ib_logfile*",
            "ibdata*",
            "ibtmp1",
            "multi-master.info",
            "ddl_recovery*.log",
            "undo*",
        ]
    }
    fn data_faults(&self, snapshot: &Snapshot, _: &Instance, dir: &str) -> Vec<DataFault> {
        data::faults(snapshot, dir)
    }
    fn named_config(&self, arguments: &[String]) -> Option<String> {
        option(arguments, &["--defaults-file"])
    }
    fn is_main(&self, arguments: &[String]) -> bool {
        !arguments
            .iter()
            .take(2)
            .any(|a| path::name(a).ends_with("_safe") || path::name(a).ends_with("-safe"))
    }
}
