//! PHP-FPM: an INI file with a `[global]` group and one group for each pool.
mod script;

use super::{Instance, Kind, Profile, Stands, VersionMark, glob, known_config, option};
use crate::bounds::step;
use crate::code::Code;
use crate::config::entries::{Book, Entry};
use crate::config::layers::{Assignment, Combine};
use crate::config::lines::{Line, Text};
use crate::config::rows::{Directives, directives};
use crate::config::{About, Configuration, DependsOn, LogSink, NamedPath};
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

/// Reads one file; the section goes on into included files and out of them again, as the daemon has it.
fn file(book: &mut Book, name: &str, section: &mut String, prefix: &str, depth: usize) {
    let Some(text) = book.text(name) else { return };
    for line in text.lines() {
        if book.stopped {
            return;
        }
        let trimmed = line.text.trim_start_matches('\u{feff}').trim();
        if !trimmed.is_empty() && !trimmed.starts_with(';') {
            one(book, &text, &line, trimmed, section, prefix, depth);
        }
    }
}

fn one(
    book: &mut Book,
    text: &Text,
    line: &Line,
    trimmed: &str,
    section: &mut String,
    prefix: &str,
    depth: usize,
) {
    let place = text.place(line, trimmed);
    if let Some(rest) = trimmed.strip_prefix('[') {
        match rest.split_once(']') {
            Some((name, _)) => {
                *section =
                    if name.eq_ignore_ascii_case("global") { "global".into() } else { name.to_owned() };
            }
            None => {
                let _ =
                    book.refuse(&place, "", Code::ConfigSyntax, "a section's name needs a closing bracket");
            }
        }
        return;
    }
    let Some((name, value)) = trimmed.split_once('=') else {
        book.refuse(
            &place,
            "",
            Code::ConfigSyntax,
            format!("\"{trimmed}\" is not an entry, expected NAME = VALUE"),
        );
        return;
    };
    let name = name.trim();
    let value = plain(value);
    if name.eq_ignore_ascii_case("include") {
        let before = section.clone();
        include(book, value, &place, section, prefix, depth);
        if section.is_empty() {
            *section = before;
        }
        return;
    }
    // What stands in brackets is a name of somebody else's, and his letters count: `env[DB_HOST]`.
    let bare = name.find('[').unwrap_or(name.len());
    let known = format!("{}{}", name[..bare].to_ascii_lowercase(), &name[bare..]);
    let Some(filled) = book.filled(value, "$pool", section) else { return };
    let entry = Entry::of_file(section, known, filled, text.place(line, name), text.span(line, value));
    book.entries.push(entry);
}

/// A value without quotes and without the comment behind it.
fn plain(value: &str) -> &str {
    let value = value.trim();
    for quote in ['"', '\''] {
        if let Some(inner) = value.strip_prefix(quote) {
            return inner.split(quote).next().unwrap_or_default();
        }
    }
    value.split(';').next().unwrap_or_default().trim()
}

fn include(
    book: &mut Book,
    target: &str,
    place: &crate::config::Place,
    section: &mut String,
    prefix: &str,
    depth: usize,
) {
    let target = path::join(prefix, target);
    if depth >= DEPTH {
        book.refuse(place, "include", Code::ConfigConflict, "more than 5 levels of includes");
        return;
    }
    if !path::is_pattern(&target) {
        // A plain file that is not there is only warned of.
        return file(book, &target, section, prefix, depth + 1);
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
        file(book, &one, section, prefix, depth + 1);
    }
}

fn of(book: &Book, section: &str, name: &str) -> Option<Entry> {
    book.in_section(section, name).map(|(_, last)| last.clone())
}

fn pools(book: &Book) -> Vec<String> {
    let mut seen = std::collections::HashSet::new();
    let own = book.entries.iter().map(|e| &e.section).filter(|s| *s != "global" && !s.is_empty());
    own.filter(|s| seen.insert((*s).clone())).cloned().collect()
}

fn pool(book: &mut Book, name: &str, root: bool, firsts: &HashMap<String, usize>) {
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
    if root && of(book, name, "user").is_none() {
        let place = firsts.get(name).and_then(|at| book.entries.get(*at)).map(|e| e.place.clone());
        if let Some(place) = place {
            book.find(
                &place,
                "user",
                Code::ConfigBadValue,
                format!("pool {name} has no user, and it is started as root"),
            );
        }
    }
    if book.out.model.account.is_none() {
        book.out.model.account = of(book, name, "user").map(|u| (u.value, u.place.known()));
    }
    for key in ["access.log", "slowlog", "chdir", "chroot"] {
        let Some(entry) = of(book, name, key).filter(|e| e.value.starts_with('/')) else { continue };
        if key.ends_with("log") {
            book.must_have_parent(&entry, &entry.value.clone());
        } else {
            book.must_be_directory(&entry, entry.value.trim_end_matches('/').to_owned().as_str());
        }
    }
    if let Some(entry) = of(book, name, "listen") {
        listen(book, &entry);
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
        let mut section = String::from("global");
        file(&mut book, &instance.config, &mut section, "/usr", 0);
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
        let off = of(&book, "global", "daemonize")
            .is_some_and(|e| matches!(e.value.to_ascii_lowercase().as_str(), "no" | "off" | "0" | "false"));
        book.out.model.background = Some(!off);
        let names = pools(&book);
        let mut firsts = HashMap::new();
        for (at, entry) in book.entries.iter().enumerate() {
            firsts.entry(entry.section.clone()).or_insert(at);
        }
        if names.is_empty() && !book.stopped {
            let message = "no pool is defined";
            book.out.add(crate::config::ConfigFinding::error(Code::ConfigSyntax, message));
        }
        for name in names {
            pool(&mut book, &name, instance.start_uid == 0, &firsts);
        }
        twice(&mut book);
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
