//! What a start of PostgreSQL wants of several settings together, and of the host (postmaster.c, xlog.c).
use super::judge::directories;
use crate::code::Code;
use crate::config::entries::{Book, Entry};
use crate::config::release::Release;
use crate::config::rows::{Amount, Type, truth};
use crate::kinds::Kind;
use crate::path;

/// The number that is in force, by the line or by its default; `None` where it is not a good one.
fn number(book: &Book, name: &str, release: &Release) -> Option<f64> {
    let row = super::Postgresql.directives()?.known(name, Some(release))?;
    let Some(Type::Amount(amount)) = row.first() else { return None };
    let value = |word: &str| Type::Amount(amount).holds(word).then(|| amount.value(word)).flatten();
    match book.value(name) {
        Some(word) => value(&word),
        None => value(row.default?),
    }
}

/// The value of a setting where nobody sets it.
fn default_of(name: &str, release: &Release) -> Option<&'static str> {
    super::Postgresql.directives()?.known(name, Some(release))?.default
}

fn word(book: &Book, name: &str, default: &str) -> String {
    book.value(name).unwrap_or_else(|| default.to_owned()).to_ascii_lowercase()
}

/// The line that is last among some settings: the one that brought the conflict.
fn line(book: &Book, names: &[&str]) -> Option<Entry> {
    let at =
        |entry: &Entry| book.entries.iter().rposition(|e| e.name == entry.name && e.place == entry.place);
    names.iter().filter_map(|name| book.last(name)).max_by_key(|entry| at(entry))
}

fn tell(book: &mut Book, names: &[&str], why: impl Into<String>) {
    tell_near(book, names, why, |_| None);
}

/// `near` tells which value of that line would go with the others.
fn tell_near(
    book: &mut Book,
    names: &[&str],
    why: impl Into<String>,
    near: impl FnOnce(&str) -> Option<String>,
) {
    let Some(entry) = line(book, names) else { return };
    let near = near(&entry.name);
    let span = entry.span.clone().filter(|span| span.end > span.start);
    book.find(&entry.place, &entry.name, Code::ConfigConflict, why).meant(span, near);
}

pub(super) fn all(book: &mut Book, release: &Release, unit: Option<&str>) {
    statistics(book);
    recovery(book);
    connections(book, release);
    log(book, release);
    stack(book, release, unit);
    lists(book);
    libraries(book, release);
    group(book);
}

fn statistics(book: &mut Book) {
    let on = |name: &str| book.value(name).and_then(|v| truth(&v)) == Some(true);
    let parts = ["log_parser_stats", "log_planner_stats", "log_executor_stats"];
    if on("log_statement_stats")
        && let Some(part) = parts.into_iter().find(|part| on(part))
    {
        let why = format!("log_statement_stats and {part} cannot both be on");
        tell_near(book, &["log_statement_stats", part], why, |_| Some("off".to_owned()));
    }
}

fn recovery(book: &mut Book) {
    let all = ["", "_lsn", "_name", "_time", "_xid"].map(|end| format!("recovery_target{end}"));
    let set: Vec<&str> = all
        .iter()
        .map(String::as_str)
        .filter(|name| book.value(name).is_some_and(|value| !value.is_empty()))
        .collect();
    if let [first, .., last] = set[..] {
        tell(book, &set, format!("{first} and {last} are two targets of one recovery"));
    }
}

fn connections(book: &mut Book, release: &Release) {
    let of = |name: &str| number(book, name, release).unwrap_or(0.0);
    let own = if release.version.major() >= 16 { of("reserved_connections") } else { 0.0 };
    let (reserved, most) = (of("superuser_reserved_connections") + own, of("max_connections"));
    let names = ["superuser_reserved_connections", "reserved_connections", "max_connections"];
    if most > 0.0 && reserved >= most {
        let why =
            format!("{reserved} connections are reserved, and max_connections is {most}: it must be more");
        tell_near(book, &names, why, |name| match name {
            "max_connections" => Some((reserved + 1.0).to_string()),
            _ => Some(default_of(name, release)?.to_owned())
                .filter(|d| d.parse::<f64>().is_ok_and(|d| d < most)),
        });
        return;
    }
    // What a server may have of processes (MAX_BACKENDS): since 18 it counts the places of workers, and
    // keeps two.
    let slots =
        if release.version.major() >= 18 { "autovacuum_worker_slots" } else { "autovacuum_max_workers" };
    let most_of_all = if release.version.major() >= 18 { 262_141.0 } else { 262_142.0 };
    let workers = of(slots) + of("max_worker_processes") + of("max_wal_senders");
    if most + workers > most_of_all {
        let names = [slots, "max_worker_processes", "max_wal_senders", "max_connections"];
        tell(book, &names, "connections, workers and senders are more than 262143 together");
    }
}

fn log(book: &mut Book, release: &Release) {
    let level = word(book, "wal_level", "replica");
    if level == "minimal" {
        if !matches!(word(book, "archive_mode", "off").as_str(), "off" | "false" | "no" | "0") {
            let why = "nothing can be archived where wal_level is minimal";
            tell_near(book, &["wal_level", "archive_mode"], why, |name| {
                Some(if name == "wal_level" { "replica" } else { "off" }.to_owned())
            });
        } else if number(book, "max_wal_senders", release).is_some_and(|n| n > 0.0) {
            let why = "max_wal_senders must be 0 where wal_level is minimal, or wal_level replica or logical";
            tell_near(book, &["wal_level", "max_wal_senders"], why, |name| {
                Some(if name == "wal_level" { "replica" } else { "0" }.to_owned())
            });
        } else if release.version.major() >= 17
            && book.value("summarize_wal").and_then(|v| truth(&v)) == Some(true)
        {
            tell(
                book,
                &["wal_level", "summarize_wal"],
                "summarize_wal cannot be on where wal_level is minimal",
            );
        }
    }
}

/// The stack that the system gives it, less what the server keeps free (`check_max_stack_depth`): 8 MiB where
/// nobody set a limit.
fn stack(book: &mut Book, release: &Release, unit: Option<&str>) {
    const MOST: f64 = 7680.0;
    let files = super::glob(book.snapshot, "/etc/systemd/system/*postgres*.d/*.conf");
    let manager = ["/etc/systemd/system.conf"].into_iter().chain(unit).map(str::to_owned);
    let says = |file: &String| book.snapshot.text(file).seen().is_some_and(|t| t.contains("LimitSTACK"));
    // Where somebody set a limit, the manager knows which one counts.
    if book.last("max_stack_depth").is_none() || files.into_iter().chain(manager).any(|f| says(&f)) {
        return;
    }
    if number(book, "max_stack_depth", release).is_some_and(|n| n > MOST) {
        let why = "max_stack_depth is more than the stack of a process, 8MB less 512kB";
        tell_near(book, &["max_stack_depth"], why, |_| Some("7680kB".to_owned()));
    }
}

fn lists(book: &mut Book) {
    for name in ["listen_addresses", "unix_socket_directories"] {
        let Some(entry) = book.last(name) else { continue };
        let split = if name == "listen_addresses" {
            super::judge::identifiers(&entry.value)
        } else {
            directories(&entry.value)
        };
        if split.is_none() {
            let why = format!("{name} is \"{}\", which is not a list", entry.value);
            book.find(&entry.place, name, Code::ConfigBadValue, why);
        }
    }
}

/// Libraries that are loaded at a start must be there.
fn libraries(book: &mut Book, release: &Release) {
    let Some(entry) = book.last("shared_preload_libraries") else { return };
    let dir = format!("/usr/lib/postgresql/{}/lib", release.version.major());
    let own_path = book.value("dynamic_library_path").is_some_and(|p| p != "$libdir");
    if book.snapshot.is_directory(&dir) != Some(true) || own_path {
        return;
    }
    for name in directories(&entry.value).unwrap_or_default() {
        let bare = name.strip_prefix("$libdir/").unwrap_or(&name);
        let file = path::join(&dir, bare);
        let there = |file: &str| book.snapshot.exists(file) != Some(false);
        if !there(&file) && !there(&format!("{file}.so")) {
            book.missing(&entry, &format!("{file}.so"));
        }
    }
}

fn group(book: &mut Book) {
    let Some(entry) = book.last("unix_socket_group").filter(|e| !e.value.is_empty()) else { return };
    if !entry.value.bytes().all(|b| b.is_ascii_digit()) {
        book.needs_account(&entry, true);
    }
}

/// Whether the sizes of the log fit its segments, of which the control file tells the size.
pub(super) fn segments(book: &mut Book, segment: u64) {
    const MB: Amount = Amount { unit: "MB", whole: true, least: "2", most: "2147483647" };
    for (name, default) in [("min_wal_size", "80MB"), ("max_wal_size", "1GB")] {
        let size = MB.value(&book.value(name).unwrap_or_else(|| default.into()));
        #[expect(clippy::cast_precision_loss, reason = "a segment is at most 1 GiB")]
        let least = (segment >> 20) as f64 * 2.0;
        if size.is_some_and(|size| size < least) && book.last(name).is_some() {
            let why = format!("{name} must be at least twice the size of a segment, {least}MB");
            tell_near(book, &[name], why, |_| Some(format!("{least}MB")));
        }
    }
}
