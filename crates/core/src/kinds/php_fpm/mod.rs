//! PHP-FPM: an INI file with a `[global]` group and one group for each pool.
mod grammar;
mod judge;
mod script;

use super::{Instance, Kind, Profile, Stands, VersionMark, glob, known_config, option};
use crate::bounds::step;
use crate::code::Code;
use crate::config::entries::{Book, Entry};
use crate::config::layers::{Assignment, Combine};
use crate::config::lines::{Line, Text};
use crate::config::release::Release;
use crate::config::rows::{Directives, directives};
use crate::config::{About, Configuration, DependsOn, LogSink, NamedPath, Place, Severity};
use crate::log::{Catalogue, Grammar};
use crate::net::Listen;
use crate::path;
use crate::snapshot::Snapshot;
use std::collections::HashMap;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

static GRAMMAR: Grammar = Grammar::new(crate::data!("kinds/php_fpm/log.json"));
static CATALOGUE: Catalogue = Catalogue::new(crate::data!("kinds/php_fpm/failures.json"));
static PROFILE: Profile = Profile {
    programs: &["php-fpm*", "php5-fpm"],
    units: &["php*-fpm.service", "php-fpm.service", "php-fpm*.service"],
    configs: &[
        "/etc/php/*/fpm/php-fpm.conf",
        "/etc/php-fpm.conf",
        "/etc/php/php-fpm.conf",
        "/etc/php*/php-fpm.conf",
        "/usr/local/etc/php-fpm.conf",
    ],
    packages: &["php8.4-fpm", "php8.3-fpm", "php8.2-fpm", "php8.1-fpm", "php7.4-fpm", "php-fpm"],
    version: Some(VersionMark { words: "X-Powered-By: PHP/", stands: Stands::Behind, files: &[] }),
    listens_as_configured: true,
    comment: Some(";"),
    replaces_sockets: true,
    asks: crate::host::ProbeProtocol::FastCgi,
    ports: &[9000],
    ..Profile::plain("php-fpm", &GRAMMAR, &CATALOGUE)
};
const DEPTH: usize = 5;

/// The kind `php-fpm`.
pub(super) struct PhpFpm;

/// What reading the files goes along with.
struct Reading<'r> {
    /// The section that lines belong to; it goes on into included files and out of them again.
    section: String,
    prefix: &'r str,
    release: Option<Release>,
    /// Where each section begins, by its name in small letters.
    heads: HashMap<String, (String, Place)>,
}

/// Reads one file.
fn file(book: &mut Book, name: &str, reading: &mut Reading, depth: usize) {
    let Some(text) = book.text(name) else { return };
    for line in text.lines() {
        if book.stopped {
            return;
        }
        let statements = match grammar::line(line.text) {
            Ok(statements) => statements,
            Err(fault) => {
                let at = if fault.at.trim().is_empty() { line.text.trim() } else { fault.at };
                let place = text.place(&line, at.trim_end());
                // What is secret is proposed to nobody.
                let name = line.text.split('=').next().unwrap_or_default();
                let secret =
                    !crate::secrets::mask_settings(&format!("{name}= tide42ebb")).contains("tide42ebb");
                let quote = fault.quote.filter(|_| !secret);
                let mended = quote.map(|raw| (text.span(&line, raw), format!("\"{raw}\"")));
                let found = book.refuse(&place, "", Code::ConfigSyntax, fault.why);
                if let Some((span, quoted)) = mended {
                    found.meant(span, Some(quoted));
                }
                return;
            }
        };
        for statement in statements {
            match statement {
                grammar::Statement::Section(name) => {
                    begin(reading, name, text.place(&line, line.text.trim()))
                }
                grammar::Statement::Entry { name, key, value } => {
                    entry(book, &text, &line, (name, key.as_deref(), &value), reading, depth);
                }
            }
        }
    }
}

/// A section begins; names are compared whatever their case.
fn begin(reading: &mut Reading, name: String, place: Place) {
    let lower = name.to_ascii_lowercase();
    let first = reading.heads.entry(lower.clone()).or_insert((name, place));
    reading.section = if lower == "global" { lower } else { first.0.clone() };
}

/// The head of a section that is likely that of the global one: what it holds stands there only.
fn misspelt_global((name, place): &(String, Place)) -> Option<(String, Place)> {
    crate::config::nearest(name, std::iter::once("global")).map(|_| (name.clone(), place.clone()))
}

fn entry(
    book: &mut Book,
    text: &Text,
    line: &Line,
    (name, key, value): (&str, Option<&str>, &grammar::Value),
    reading: &mut Reading,
    depth: usize,
) {
    let place = text.place(line, name);
    if name == "include" && key.is_none() {
        include(book, &value.text, &place, reading, depth);
        return;
    }
    let in_global = reading.section == "global";
    if let Some(release) = &reading.release {
        let sort = if in_global { "global" } else { "pool" };
        if let Some(wrong) =
            judge::wrong(sort, name, key, (&value.text, value.open), release, book.is_early())
        {
            let bare = value.raw.trim_matches(['"', '\'']);
            let span = text.span(line, if wrong.code == Code::ConfigBadValue { bare } else { name });
            let head = reading.heads.get(&reading.section.to_ascii_lowercase());
            let global = head.filter(|_| wrong.why.ends_with("in [global] only")).and_then(misspelt_global);
            let found = book.find(&place, name, wrong.code, wrong.why);
            found.meant(span.filter(|s| s.end > s.start), wrong.near);
            if let Some((head, place)) = global {
                found.place = Some(place);
                found.help = Some(format!("did you mean [global] instead of [{head}]?"));
                found.instead = Some((format!("[{head}]"), "[global]".to_owned()));
            }
        }
    }
    // What stands in brackets is a name of somebody else's, and his letters count: `env[DB_HOST]`.
    let lower = name.to_ascii_lowercase();
    let known = key.map_or(lower.clone(), |key| format!("{lower}[{key}]"));
    let section = reading.section.clone();
    // A switch is shown as it is written; words of truth elsewhere are what the daemon gets of them.
    let flag = PhpFpm.directives().is_some_and(|t| t.any_case(name).iter().any(|row| row.from == "flag"));
    let text_of = if flag && !value.open { value.raw.trim_matches(['"', '\'']) } else { &value.text };
    let Some(filled) = book.filled(text_of, "$pool", &section) else { return };
    let inner = value.raw.strip_prefix(['"', '\'']).and_then(|raw| raw.strip_suffix(['"', '\'']));
    let span = text.span(line, inner.unwrap_or(value.raw));
    book.entries.push(Entry::of_file(&section, known, filled, place, span));
}

fn include(book: &mut Book, target: &str, place: &Place, reading: &mut Reading, depth: usize) {
    let target = path::join(reading.prefix, target);
    if depth >= DEPTH {
        book.refuse(place, "include", Code::ConfigConflict, "more than 5 levels of includes");
        return;
    }
    if !path::is_pattern(&target) {
        // A plain file that is not there is only warned of.
        return file(book, &target, reading, depth + 1);
    }
    let folder = path::parent(&target);
    if !path::is_pattern(folder) && book.snapshot.exists(folder) == Some(false) {
        let found = book.refuse(
            place,
            "include",
            Code::ConfigMissingFile,
            format!("directory {folder} does not exist"),
        );
        found.depends_on = DependsOn::Files;
        found.about = Some(About::Directory(folder.to_owned()));
        return;
    }
    for one in glob(book.snapshot, &target) {
        file(book, &one, reading, depth + 1);
    }
}

/// Looks at all pools once everything is read.
fn finish(book: &mut Book, instance: &Instance, reading: &Reading, judged: bool) {
    if book.stopped {
        return;
    }
    // Where an entry was refused, what it would have set is not missing.
    let clean = !book.out.findings.iter().any(|f| f.severity == Severity::Error && f.directive.is_some());
    if judged && clean {
        judge::global(book);
    }
    let names: Vec<String> = pools(book, reading);
    if names.is_empty() {
        judge::none(book, &instance.config);
    }
    for name in names {
        let head = reading
            .heads
            .get(&name.to_ascii_lowercase())
            .map_or_else(Place::nowhere, |(_, place)| place.clone());
        if instance.start_uid == 0 && clean && of(book, &name, "user").is_none() {
            let why = format!("pool {name} has no user, and it is started as root");
            book.find(&head, "user", Code::ConfigBadValue, why);
        }
        if judged && clean && !judge::pool(book, &name, &head) {
            continue;
        }
        pool(book, &name);
    }
    twice(book);
}

fn of(book: &Book, section: &str, name: &str) -> Option<Entry> {
    book.in_section(section, name).map(|(_, last)| last.clone())
}

/// The pools in the order in which they begin.
fn pools(book: &Book, reading: &Reading) -> Vec<String> {
    let mut seen = std::collections::HashSet::new();
    let own = book.entries.iter().map(|e| &e.section).filter(|s| *s != "global");
    let mut all: Vec<String> = own.filter(|s| seen.insert((*s).clone())).cloned().collect();
    // One without any entry is one all the same.
    let heads = reading.heads.iter().filter(|(lower, (name, _))| *lower != "global" && !seen.contains(name));
    let mut bare: Vec<String> = heads.map(|(_, (name, _))| name.clone()).collect();
    bare.sort();
    all.extend(bare);
    all
}

fn pool(book: &mut Book, name: &str) {
    let account = |book: &mut Book, key: &str, group: bool| {
        let Some(entry) = of(book, name, key) else { return };
        let numeric = entry.value.bytes().all(|b| b.is_ascii_digit());
        // A number needs no entry, and nothing at all is no name.
        if !numeric {
            book.needs_account(&entry, group);
        }
    };
    account(book, "user", false);
    account(book, "group", true);
    account(book, "listen.owner", false);
    account(book, "listen.group", true);
    if book.out.model.account.is_none() {
        book.out.model.account = of(book, name, "user").map(|u| (u.value, u.place.known()));
    }
    directories(book, name);
    if let Some(entry) = of(book, name, "listen") {
        listen(book, &entry);
    }
}

/// The directories that a pool lives in: relative ones count from its prefix, or from that of the daemon.
fn directories(book: &mut Book, name: &str) {
    let known = |book: &Book, key: &str| {
        of(book, name, key).filter(|e| !e.value.is_empty() && !e.value.contains('$'))
    };
    let mut base = "/usr".to_owned();
    if let Some(entry) = known(book, "prefix") {
        base = path::join(&base, &entry.value);
        book.must_be_directory(&entry, base.trim_end_matches('/'));
    }
    // Logs are opened before any pool changes its root; that of slow requests only where some are looked for.
    let looks = of(book, name, "request_slowlog_timeout")
        .is_some_and(|e| e.value.contains(|c: char| ('1'..='9').contains(&c)));
    for (key, opened) in [("access.log", true), ("slowlog", looks)] {
        if let Some(entry) = known(book, key).filter(|_| opened) {
            let file = path::join(&base, &entry.value);
            book.must_have_parent(&entry, &file);
        }
    }
    let root = known(book, "chroot").map(|entry| (path::join(&base, &entry.value), entry));
    if let Some((dir, entry)) = &root {
        book.must_be_directory(entry, dir.trim_end_matches('/'));
    }
    if let Some(entry) = known(book, "chdir") {
        let dir = path::join(&base, &entry.value);
        let dir = root.map_or(dir.clone(), |(root, _)| format!("{}{dir}", root.trim_end_matches('/')));
        let dir = dir.trim_end_matches('/');
        book.must_be_directory(&entry, if dir.is_empty() { "/" } else { dir });
    }
}

fn listen(book: &mut Book, entry: &Entry) {
    let value = entry.value.as_str();
    if value.contains('/') {
        let socket = path::join("/usr", value);
        book.must_have_parent(entry, &socket);
        book.listen(Listen::unix(&socket), Some(entry), None, false, true);
        return;
    }
    let (address, number) = value.rsplit_once(':').unwrap_or(("", value));
    let Ok(port) = number.parse::<u16>() else { return };
    let address = match address.trim_matches(['[', ']']) {
        "" => IpAddr::V6(Ipv6Addr::UNSPECIFIED),
        "*" => IpAddr::V4(Ipv4Addr::UNSPECIFIED),
        other => match other.parse() {
            Ok(address) => address,
            Err(_) => return,
        },
    };
    let span = entry.span.clone().map(|mut s| {
        s.start = s.end - number.len();
        s
    });
    book.must_be_here(Some(entry), address, port);
    book.listen(Listen::tcp(address, port, false), Some(entry), span, false, true);
}

impl Kind for PhpFpm {
    fn application_files(
        &self,
        snapshot: &Snapshot,
        _: &Instance,
        _target: &str,
        script: Option<&str>,
    ) -> Vec<String> {
        script.map(|s| crate::application::files::of_script(snapshot, s)).unwrap_or_default()
    }
    fn script_error(&self, line: &str) -> Option<super::ScriptError> {
        script::error(line)
    }
    fn profile(&self) -> &'static Profile {
        &PROFILE
    }
    fn table_release(&self, found: &Release) -> Option<Release> {
        judge::release(found)
    }
    fn directives(&self) -> Option<&'static Directives> {
        Some(directives!("kinds/php_fpm/directives.rs"))
    }
    fn locate(&self, snapshot: &Snapshot, instance: &mut Instance) {
        if !instance.config.is_empty() {
            return;
        }
        let named = option(&instance.command, &["--fpm-config", "-y"]);
        // The version stands in the program's name and in the directory's.
        let version =
            instance.command.first().map_or("", |p| path::name(p)).trim_start_matches("php-fpm").to_owned();
        let by_version = format!("/etc/php/{version}/fpm/php-fpm.conf");
        let own = (!version.is_empty() && snapshot.exists(&by_version) == Some(true)).then_some(by_version);
        instance.config = named.or(own).unwrap_or_else(|| known_config(snapshot, &PROFILE));
    }
    fn read(&self, snapshot: &Snapshot, instance: &Instance) -> Configuration {
        let mut book = Book::new(snapshot, &instance.made_by_manager);
        let release = self.release(snapshot, instance).as_ref().and_then(judge::release);
        let judged = release.is_some();
        let heads = HashMap::new();
        let mut reading = Reading { section: "global".into(), prefix: "/usr", release, heads };
        file(&mut book, &instance.config, &mut reading, 0);
        if !book.out.readable {
            return book.close(|name| self.is_secret(name));
        }
        options(&mut book, instance);
        for (name, is_log) in [("error_log", true), ("pid", false)] {
            let Some(entry) =
                of(&book, "global", name).filter(|e| !e.value.is_empty() && e.value != "syslog")
            else {
                continue;
            };
            let named = Book::named(&entry, "/var");
            book.must_have_parent(&entry, &named.path);
            book.out.model.writes.push(named.clone());
            if is_log {
                book.out.model.error_logs.push(named);
            } else {
                book.out.model.pid_file = Some(named);
            }
        }
        if let Some(entry) = of(&book, "global", "error_log").filter(|e| e.value == "syslog") {
            book.out.model.log_sinks.push((LogSink::Syslog, entry.place.known()));
        }
        if book.out.model.error_logs.is_empty() && of(&book, "global", "error_log").is_none() {
            book.out.model.error_logs.push(NamedPath {
                path: "/var/log/php-fpm.log".into(),
                place: None,
                directive: "error_log".into(),
            });
        }
        let off = of(&book, "global", "daemonize").is_some_and(|e| {
            matches!(
                e.value.to_ascii_lowercase().as_str(),
                "" | "no" | "off" | "0" | "false" | "none" | "null"
            )
        });
        book.out.model.background = Some(!off);
        finish(&mut book, instance, &reading, judged);
        book.close(|name| self.is_secret(name))
    }
    fn combine(&self, one: &Assignment) -> Combine {
        // Values with a name in brackets are put in front of a list and applied from there: the first one of
        // the file is applied last (fpm_conf_set_array).
        if one.name.ends_with(']') { Combine::First } else { Combine::Last }
    }
    fn named_config(&self, arguments: &[String]) -> Option<String> {
        let title = arguments.first()?.split_once("master process (")?.1;
        option(arguments, &["--fpm-config", "-y"]).or_else(|| Some(title.split(')').next()?.to_owned()))
    }
    fn is_main(&self, arguments: &[String]) -> bool {
        !arguments.first().is_some_and(|a| a.starts_with("php-fpm: pool"))
    }
}

/// Options of the command line that are settings of the file, too (`php-fpm --help`).
fn options(book: &mut Book, instance: &Instance) {
    let place = instance.command_place.as_ref();
    if let Some(pid) = option(&instance.command, &["-g", "--pid"]) {
        book.option(place, "global", "pid", &pid);
    }
    for word in instance.command.iter().skip(1) {
        match word.as_str() {
            "-F" | "--nodaemonize" => book.option(place, "global", "daemonize", "no"),
            "-D" | "--daemonize" => book.option(place, "global", "daemonize", "yes"),
            _ => {}
        }
    }
}

/// Two pools on one address: the second one cannot have it.
fn twice(book: &mut Book) {
    let listens = std::mem::take(&mut book.out.model.listens);
    let mut first: HashMap<&Listen, &crate::config::WantedListen> = HashMap::new();
    for one in &listens {
        step(1);
        match first.get(&one.listen) {
            None => drop(first.insert(&one.listen, one)),
            Some(earlier) => {
                if let (Some(earlier), Some(place)) = (&earlier.place, &one.place) {
                    book.find(
                        place,
                        "listen",
                        Code::ConfigConflict,
                        format!("{} is the address of another pool already ({earlier})", one.listen),
                    );
                }
            }
        }
    }
    book.out.model.listens = listens;
}
