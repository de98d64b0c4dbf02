//! MySQL and MariaDB: option files with groups, of which the server reads its own; later values win.
mod data;
mod judge;

use super::{DataFault, Instance, Kind, Profile, Stands, VersionMark, option};
use crate::code::Code;
use crate::config::entries::{Book, Entry};
use crate::config::layers::{Assignment, Combine};
use crate::config::lines::{Line, Text};
use crate::config::release::Release;
use crate::config::rows::{Directives, directives};
use crate::config::{About, Configuration, Demand, DependsOn, LogSink, NamedPath, Place, Resource, Span};
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
        "mariadb-server-core",
        "mariadb-server-core-10.5",
        "mysql-server-core-8.0",
        "mysql-server-core",
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

/// Files that are read when none is named, in this order.
const DEFAULTS: &[&str] = &["/etc/my.cnf", "/etc/mysql/my.cnf"];
const DEPTH: usize = 10;

/// The kind `mysql`.
pub(super) struct Mysql;

/// Which groups of a file the server reads.
#[derive(Clone, Debug, Default)]
struct Groups {
    release: Option<Release>,
    /// The release by which the table is read, where it stands for it.
    table: Option<Release>,
    /// What was asked to stand behind each name as well (`--defaults-group-suffix`).
    suffix: Option<String>,
}

impl Groups {
    fn of(release: Option<Release>, instance: &Instance) -> Self {
        let by_option = option(&instance.command, &["--defaults-group-suffix"]);
        let suffix = by_option.or_else(|| instance.environment.get("MYSQL_GROUP_SUFFIX").cloned());
        let table = release.as_ref().and_then(judge::release);
        Self { release, table, suffix: suffix.filter(|s| !s.is_empty()) }
    }

    fn has(&self, group: &str) -> bool {
        let lower = group.to_ascii_lowercase();
        let bare = self.suffix.as_ref().and_then(|suffix| lower.strip_suffix(&suffix.to_ascii_lowercase()));
        reads_group(&lower, self.release.as_ref())
            || bare.is_some_and(|g| reads_group(g, self.release.as_ref()))
    }
}

/// Whether a server reads a group, as its help lists them; where the release is not known, any family's.
fn reads_group(lower: &str, release: Option<&Release>) -> bool {
    const BOTH: &[&str] = &["mysqld", "server"];
    const MARIADB: &[&str] = &["mariadb", "mariadbd", "client-server", "galera"];
    let (stem, version) = match lower.split_once('-') {
        Some((stem, rest)) if rest.starts_with(|c: char| c.is_ascii_digit()) => (stem, Some(rest)),
        _ => (lower, None),
    };
    let mariadb = release.is_none_or(|r| r.flavour != "mysql");
    let mysql = release.is_none_or(|r| r.flavour == "mysql");
    match version {
        Some(version) => {
            let named = stem == "mysqld" || mariadb && matches!(stem, "mariadb" | "mariadbd");
            let own = release.map(|r| format!("{}.{}", r.version.series().0, r.version.series().1));
            named && own.is_none_or(|own| own == version)
        }
        None => {
            BOTH.contains(&stem) || mariadb && MARIADB.contains(&stem) || mysql && stem == "mysql_cluster"
        }
    }
}

/// Reads one option file. A fault ends the start in a file that was named or is looked for; in an included
/// one it
/// only ends the reading of that file.
fn file(book: &mut Book, name: &str, groups: &Groups, depth: usize) {
    // Anybody could have written it: such a file is ignored.
    if book.snapshot.stat(name).seen().is_some_and(|s| s.mode & 0o002 != 0) {
        book.out
            .not_seen
            .push(format!("{name}: ignored by the daemon, because everybody may write it").into());
        return;
    }
    let Some(text) = book.text(name) else { return };
    let mut group: Option<bool> = None;
    let mut title = String::new();
    for line in text.lines() {
        let trimmed = line.text.trim();
        if trimmed.is_empty() || trimmed.starts_with(['#', ';']) || book.stopped {
            continue;
        }
        if let Some(directive) = trimmed.strip_prefix('!') {
            if !included(book, &text, &line, directive.trim_start(), groups, depth) {
                return;
            }
            continue;
        }
        let fault = if let Some(rest) = trimmed.strip_prefix('[') {
            match rest.split_once(']') {
                Some((name, _)) => {
                    name.trim_end().clone_into(&mut title);
                    group = Some(groups.has(&title));
                    continue;
                }
                None => "a group's name needs a closing bracket",
            }
        } else {
            match group {
                Some(true) => {
                    entry(book, &text, &line, trimmed, &title, groups);
                    continue;
                }
                Some(false) => continue,
                None => "an option stands before the first group",
            }
        };
        if depth == 0 {
            let begin =
                text.faithful.then(|| Span { file: text.file.clone(), start: line.start, end: line.start });
            let orphan = group.is_none();
            let found = book.refuse(&text.place(&line, trimmed), "", Code::ConfigSyntax, fault);
            if let Some(span) = begin.filter(|_| orphan && fault.starts_with("an option stands")) {
                found.edit = Some((span, "[mysqld]\n".into()));
                found.help = Some("did you mean it for the group [mysqld]?".into());
            }
        }
        return;
    }
}

/// Reads what a line includes; whether the file is read on. Other words behind the sign are not looked at.
fn included(
    book: &mut Book,
    text: &Text,
    line: &Line,
    directive: &str,
    groups: &Groups,
    depth: usize,
) -> bool {
    let behind = |word: &str| {
        let rest = directive.strip_prefix(word)?;
        (rest.is_empty() || rest.starts_with([' ', '\t'])).then(|| rest.trim())
    };
    if depth >= DEPTH {
        return true;
    }
    // In a file that is included itself it only ends the reading of that.
    let place = text.place(line, line.text.trim());
    let unnamed = |book: &mut Book, what: &str| {
        if depth == 0 {
            book.refuse(&place, "", Code::ConfigSyntax, format!("{what} names nothing"));
        }
        false
    };
    if let Some(dir) = behind("includedir") {
        if dir.is_empty() {
            return unnamed(book, "!includedir");
        }
        let Some(entries) = book.snapshot.list(dir).seen() else {
            if book.snapshot.exists(dir) != Some(false) {
                return true;
            }
            if depth == 0 {
                let why = format!("directory {dir} does not exist");
                let found = book.refuse(&place, "", Code::ConfigMissingFile, why);
                found.depends_on = DependsOn::Files;
                found.about = Some(About::Directory(dir.to_owned()));
            }
            return false;
        };
        for one in entries.iter().filter(|e| e.name.ends_with(".cnf")) {
            file(book, &path::join(dir, &one.name), groups, depth + 1);
        }
    } else if let Some(target) = behind("include") {
        if target.is_empty() {
            return unnamed(book, "!include");
        }
        file(book, target, groups, depth + 1);
    }
    true
}

/// One option of a group that is read.
fn entry(book: &mut Book, text: &Text, line: &Line, trimmed: &str, group: &str, groups: &Groups) {
    let whole = without_comment(trimmed);
    let (name, given) = match whole.split_once('=') {
        Some((name, value)) => (name.trim_end(), Some(value.trim())),
        None => (whole.trim_end(), None),
    };
    let plain = unquoted(given.unwrap_or_default());
    let value = given.map(|_| unescaped(plain));
    let (known, forced) = judged(book, &text.place(line, name), name, value.as_deref(), groups, |of_value| {
        text.span(line, if of_value { plain } else { name })
    });
    let span = text.span(line, plain).filter(|_| forced.is_none());
    let value = forced.map(str::to_owned).or(value).unwrap_or_default();
    book.entries.push(Entry::of_file(group, known, value, text.place(line, name), span));
}

/// Tells what is wrong with an option; the name that counts, and the value that the words before it give it.
fn judged(
    book: &mut Book,
    place: &Place,
    name: &str,
    value: Option<&str>,
    groups: &Groups,
    span: impl FnOnce(bool) -> Option<Span>,
) -> (String, Option<&'static str>) {
    // Behind a blank stands what was meant for a value, and may be a secret.
    let first = name.split([' ', '\t']).next().unwrap_or_default();
    let Some(release) = &groups.table else { return (spelt(first), None) };
    let (wrong, meant) = judge::judged(name, value, release, book.is_early());
    if let Some(wrong) = wrong {
        let span = span(wrong.code == Code::ConfigBadValue).filter(|span| span.end > span.start);
        book.find(place, &spelt(first), wrong.code, wrong.why).meant(span, wrong.near);
    }
    meant.unwrap_or_else(|| (spelt(first), None))
}

/// A `#` outside of quotes begins a comment.
fn without_comment(line: &str) -> &str {
    let (mut quote, mut escape) = (None, false);
    for (at, c) in line.char_indices() {
        match (quote, c) {
            (None, '"' | '\'') if !escape => quote = Some(c),
            (Some(q), c) if c == q && !escape => quote = None,
            (None, '#') => return &line[..at],
            _ => {}
        }
        escape = quote.is_some() && c == '\\' && !escape;
    }
    line
}

fn unquoted(value: &str) -> &str {
    let same = |q: char| value.len() >= 2 && value.starts_with(q) && value.ends_with(q);
    if same('"') || same('\'') { &value[1..value.len() - 1] } else { value }
}

/// A value with its signs put in: `\n`, `\t`, `\r`, `\b`, `\s` for a blank, quotes and the sign itself.
fn unescaped(value: &str) -> String {
    if !value.contains('\\') {
        return value.to_owned();
    }
    let mut out = String::with_capacity(value.len());
    let mut chars = value.chars().peekable();
    while let Some(c) = chars.next() {
        let put = match (c, chars.peek()) {
            ('\\', Some('n')) => Some('\n'),
            ('\\', Some('t')) => Some('\t'),
            ('\\', Some('r')) => Some('\r'),
            ('\\', Some('b')) => Some('\u{8}'),
            ('\\', Some('s')) => Some(' '),
            ('\\', Some(sign @ ('"' | '\'' | '\\'))) => Some(*sign),
            _ => None,
        };
        if put.is_some() {
            chars.next();
        }
        out.push(put.unwrap_or(c));
    }
    out
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
fn options(book: &mut Book, instance: &Instance, groups: &Groups) {
    let place = instance.command_place.as_ref();
    // A script around it takes words of its own.
    let server = instance.command.first().is_some_and(|p| matches!(path::name(p), "mariadbd" | "mysqld"));
    let mut words = instance.command.iter().skip(1).peekable();
    while let Some(word) = words.next() {
        let (name, given) = if let Some(option) = word.strip_prefix("--").filter(|o| !o.is_empty()) {
            let (name, value) =
                option.split_once('=').map_or((option, None), |(n, v)| (n, Some(v.to_owned())));
            (name.to_owned(), value)
        } else if let Some((letter, rest)) =
            word.strip_prefix('-').and_then(|w| Some((w.chars().next()?, w.get(1..)?)))
        {
            let Some((_, name)) = LETTERS.iter().find(|(l, _)| *l == letter) else { continue };
            ((*name).to_owned(), (!rest.is_empty()).then(|| rest.to_owned()))
        } else {
            continue;
        };
        let value = given.or_else(|| words.next_if(|w| !w.starts_with(['-', '$'])).cloned());
        // Where it looks for its files is no setting of the server.
        let about_files = spelt(&name).starts_with("defaults_");
        if about_files || matches!(name.as_str(), "no-defaults" | "print-defaults") {
            continue;
        }
        let whole = !name.contains('$') && value.as_ref().is_none_or(|v| !v.contains('$'));
        let (known, forced) = if server && whole {
            let stands = place.cloned().unwrap_or_else(Place::nowhere);
            judged(book, &stands, &name, value.as_deref(), groups, |_| None)
        } else {
            (spelt(&name), None)
        };
        book.option(place, "", &known, &forced.map(str::to_owned).or(value).unwrap_or_default());
    }
    for (variable, name) in [("MYSQL_TCP_PORT", "port"), ("MYSQL_UNIX_PORT", "socket")] {
        if let Some(value) = instance.environment.get(variable).filter(|v| !v.is_empty()) {
            book.variable("", name, value);
        }
    }
}

/// A collation must be one of the character set.
fn letters(book: &mut Book, release: &Release) {
    let Some(collation) = book.last("collation_server") else { return };
    let set = book.last("character_set_server");
    let told = set.as_ref().map_or(judge::default_set(release), |e| e.value.as_str()).to_owned();
    let bad = |e: &Entry| book.out.findings.iter().any(|f| f.place == e.place.known());
    let known = |text: &str| !text.is_empty() && !text.contains(',') && !text.contains(crate::secrets::MASK);
    if !known(&told) || !known(&collation.value) || bad(&collation) || set.as_ref().is_some_and(bad) {
        return;
    }
    if !judge::collates(&told, &collation.value) {
        let why = format!("{} is not a collation of the character set {told}", collation.value);
        book.find(&collation.place, "collation_server", Code::ConfigConflict, why);
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

/// Files of TLS, without which this family does not start as soon as one is named (`init_ssl` of 10.5 and
/// 10.11; asked of 10.11).
fn certificates(book: &mut Book) {
    let off =
        book.value("ssl").is_some_and(|v| matches!(v.to_ascii_lowercase().as_str(), "0" | "off" | "false"));
    if off || book.last("skip_ssl").is_some() {
        return;
    }
    let data = data_dir(book);
    for name in ["ssl_ca", "ssl_cert", "ssl_key", "ssl_crl"] {
        let Some(entry) = book.last(name).filter(|e| !e.value.is_empty()) else { continue };
        let named = Book::named(&entry, &data);
        if book.snapshot.exists(&named.path) == Some(false) {
            book.missing(&entry, &named.path);
        }
        book.out.model.reads.push(named);
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
    fn table_release(&self, found: &Release) -> Option<Release> {
        judge::release(found)
    }
    fn directives(&self) -> Option<&'static Directives> {
        Some(directives!("kinds/mysql/directives.rs"))
    }
    fn setting_key(&self, name: &str) -> String {
        spelt(name)
    }
    fn scope_is_server(&self, section: &str) -> bool {
        // All groups that the server reads set the same settings.
        section.is_empty() || reads_group(&section.to_ascii_lowercase(), None)
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
        let groups = Groups::of(self.release(snapshot, instance), instance);
        let named = option(&instance.command, &["--defaults-file"]).is_some()
            || !DEFAULTS.contains(&instance.config.as_str());
        let files: Vec<&str> = if named { vec![instance.config.as_str()] } else { DEFAULTS.to_vec() };
        let none = instance.command.get(1).is_some_and(|w| w == "--no-defaults");
        for one in files.into_iter().filter(|_| !none) {
            // A link to a file that was read already is read again by the daemon, with the same outcome.
            file(&mut book, one, &groups, 0);
        }
        if let Some(extra) = option(&instance.command, &["--defaults-extra-file"]) {
            file(&mut book, &extra, &groups, 0);
        }
        // Without any file it runs with its defaults.
        book.out.readable = true;
        options(&mut book, instance, &groups);
        if let Some(release) = &groups.table {
            letters(&mut book, release);
        }
        listens(&mut book);
        paths(&mut book);
        if groups.release.as_ref().is_some_and(|r| r.flavour == "mariadb" && r.version.series() >= (10, 5)) {
            certificates(&mut book);
        }
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
