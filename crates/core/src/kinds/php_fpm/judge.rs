//! What PHP-FPM says of an entry and of a pool (fpm_conf.c of its own source): entries one by one as they are
//! read, then each pool with its numbers. Where no release is known that the table stands for, names are not
//! judged.
use super::PhpFpm;
use super::grammar::leading;
use crate::code::Code;
use crate::config::entries::{Book, Entry};
use crate::config::nearest;
use crate::config::release::{Release, Version};
use crate::config::rows::{Fate, Row, Type, near_value};
use crate::config::{About, Place};
use crate::kinds::Kind;

/// The release by which the table is read, if it stands for it.
pub(super) fn release(found: &Release) -> Option<Release> {
    let (major, minor) = found.version.series();
    let version = Version::parse(&format!("{major}.{minor}"))?;
    let release = Release { flavour: found.flavour.clone(), version };
    let rows = PhpFpm.directives()?;
    ((major, minor) >= (7, 4) && !rows.is_beyond(Some(&release))).then_some(release)
}

/// What is wrong with an entry.
pub(super) struct Wrong {
    pub(super) code: Code,
    pub(super) why: String,
    pub(super) near: Option<String>,
}

fn bad(why: String) -> Option<Wrong> {
    Some(Wrong { code: Code::ConfigBadValue, why, near: None })
}

/// Judges `name = value` or `name[key] = value`; the value says whether it is not known here. `early`:
/// what the name was likely meant to be is looked for.
pub(super) fn wrong(
    place: &'static str,
    name: &str,
    key: Option<&str>,
    value: (&str, bool),
    release: &Release,
    early: bool,
) -> Option<Wrong> {
    let rows = PhpFpm.directives()?;
    let sort = if key.is_some() { "array" } else { place };
    let all = if key.is_some() { rows.exact(name) } else { rows.any_case(name) };
    let own = |row: &&Row| row.places & rows.place(sort) != 0;
    let Some(row) = all.iter().find(|row| own(row) && rows.fate(row, Some(release)) != Fate::Gone) else {
        return Some(unknown(place, name, key, release, early));
    };
    if rows.fate(row, Some(release)) == Fate::Unsure {
        return None;
    }
    if let Some(key) = key {
        let bare = name == "access.suppress_path";
        if place == "global" {
            return bad(format!("{name}[] stands in a pool only"));
        }
        if bare != key.is_empty() {
            let why = if bare { "takes no key" } else { "needs a key in its brackets" };
            return bad(format!("{name}[] {why}"));
        }
    }
    let (value, open) = value;
    if open || value.contains(crate::secrets::MASK) {
        return None;
    }
    if place == "global" && row.from == "str" && value.contains("$pool") {
        return bad(format!("{name} is \"{value}\", and [global] is not a pool"));
    }
    match name {
        "env" if value.is_empty() => return bad("a variable of the environment needs a value".into()),
        "access.suppress_path" if !value.starts_with('/') => {
            return bad(format!("{name}[] is \"{value}\", expected a path that begins with /"));
        }
        _ => {}
    }
    // The key may be the name of a secret.
    let shown = crate::secrets::mask_value(key.unwrap_or(name), value);
    let why = format!("{name} is \"{shown}\", expected {}", held(row, value, release)?);
    let near = if early { near_value(row, value) } else { None };
    Some(Wrong { code: Code::ConfigBadValue, why, near })
}

fn unknown(place: &str, name: &str, key: Option<&str>, release: &Release, early: bool) -> Wrong {
    let rows = PhpFpm.directives();
    let there = |row: &&Row| rows.is_some_and(|r| r.fate(row, Some(release)) != Fate::Gone);
    let fits = |row: &&Row| {
        let sort = if key.is_some() { "array" } else { place };
        rows.is_some_and(|r| row.places & r.place(sort) != 0)
    };
    let all = rows.iter().filter(|_| early).flat_map(|r| r.all());
    let near = nearest(name, all.filter(there).filter(fits).map(|row| row.name)).map(str::to_owned);
    let elsewhere = rows.iter().flat_map(|r| r.any_case(name)).find(|row| there(row));
    let why = match elsewhere {
        Some(row) if rows.is_some_and(|r| row.places & r.place("array") != 0) && key.is_none() => {
            format!("{name} needs a key in brackets behind it")
        }
        Some(row) if rows.is_some_and(|r| row.places & r.place("global") != 0) => {
            format!("{name} stands in [global] only")
        }
        Some(_) => format!("{name} stands in a pool only"),
        None => format!("{name} is not a directive of PHP-FPM"),
    };
    Wrong { code: Code::ConfigUnknownDirective, why, near: near.filter(|_| elsewhere.is_none()) }
}

/// What was expected where a value is not of its kind.
fn held(row: &Row, value: &str, release: &Release) -> Option<String> {
    let number = |text: &str| text.strip_prefix('-').unwrap_or(text).bytes().all(|b| b.is_ascii_digit());
    match row.from {
        "int" => (!number(value)).then(|| "a whole number".to_owned()),
        "core" => {
            let fits = value.eq_ignore_ascii_case("unlimited") || number(value) && !value.starts_with('-');
            (!fits).then(|| "a whole number or unlimited".to_owned())
        }
        "time" => {
            let fits = value.ends_with(|c: char| c.is_ascii_digit() || "smhd".contains(c));
            (!fits).then(|| "a number with s, m, h or d behind it or nothing".to_owned())
        }
        "flag" => {
            // Words in quotes are no words of truth before 8.2; when within 8 that came is not known.
            let words: &[&str] = &["1", "yes", "true", "on", "", "0", "no", "none", "false", "off"];
            let old = release.version < Version::parse("8.0")?;
            let fits = if old { matches!(value, "1" | "") } else { words.contains(&value) };
            (!fits).then(|| "yes or no".to_owned())
        }
        "enum" => match row.first() {
            Some(Type::Enum(all)) if !all.iter().any(|w| w.eq_ignore_ascii_case(value)) => {
                Some(all.join(", "))
            }
            _ => None,
        },
        _ => None,
    }
}

/// An entry whose value is known: what was masked when it was recorded nobody here knows.
fn of(book: &Book, section: &str, name: &str) -> Option<Entry> {
    super::of(book, section, name).filter(|e| !e.value.contains(crate::secrets::MASK))
}

/// The number of an entry.
fn number(book: &Book, section: &str, name: &str) -> Option<i64> {
    of(book, section, name).map(|entry| leading(&entry.value))
}

fn seconds(book: &Book, section: &str, name: &str) -> Option<i64> {
    let unit = match of(book, section, name)?.value.chars().last() {
        Some('m') => 60,
        Some('h') => 3600,
        Some('d') => 86400,
        _ => 1,
    };
    number(book, section, name).map(|n| n.saturating_mul(unit))
}

/// Says what is wrong at an entry, or where the pool begins when it has none.
fn tell(book: &mut Book, pool: &str, name: &str, head: &Place, code: Code, why: String) {
    let place = of(book, pool, name).map_or_else(|| head.clone(), |e| e.place);
    book.find(&place, name, code, why);
}

/// Says that an entry does not go with others, and which value would.
fn conflict(book: &mut Book, pool: &str, name: &str, near: i64, why: String) {
    if let Some(entry) = of(book, pool, name) {
        let span = entry.span.filter(|span| span.end > span.start);
        book.find(&entry.place, name, Code::ConfigBadValue, why).meant(span, Some(near.to_string()));
    }
}

/// What is wrong in `[global]`.
pub(super) fn global(book: &mut Book) {
    let head = Place::nowhere();
    if number(book, "global", "log_limit").is_some_and(|n| n < 512) {
        let why = "log_limit must be at least 512".into();
        tell(book, "global", "log_limit", &head, Code::ConfigBadValue, why);
    }
    if number(book, "global", "process.max").is_some_and(|n| n < 0) {
        let why = "process.max must not be negative".into();
        tell(book, "global", "process.max", &head, Code::ConfigBadValue, why);
    }
    priority(book, "global", &head);
    if let Some(entry) = of(book, "global", "error_log").filter(|e| e.value.is_empty()) {
        let why = "error_log is empty, expected a file or syslog";
        book.find(&entry.place, "error_log", Code::ConfigBadValue, why);
    }
    if let Some(entry) = of(book, "global", "events.mechanism").filter(|e| !e.value.is_empty()) {
        let known = ["epoll", "poll", "select"].iter().any(|m| m.eq_ignore_ascii_case(&entry.value));
        if !known {
            let why = format!("events.mechanism is \"{}\", expected epoll, poll or select", entry.value);
            book.find(&entry.place, "events.mechanism", Code::ConfigBadValue, why);
        }
    }
}

fn priority(book: &mut Book, section: &str, head: &Place) {
    if number(book, section, "process.priority").is_some_and(|n| n != 64 && !(-19..=20).contains(&n)) {
        let why = "process.priority must be from -19 to 20".into();
        tell(book, section, "process.priority", head, Code::ConfigBadValue, why);
    }
}

/// What is wrong in a pool, in the daemon's order; one fault ends it. Whether it is well.
pub(super) fn pool(book: &mut Book, name: &str, head: &Place) -> bool {
    let before = book.out.findings.len();
    let is_well = |book: &Book| book.out.findings.len() == before;
    if of(book, name, "listen").is_none_or(|e| e.value.is_empty()) {
        let why = format!("pool {name} has no address to listen on");
        tell(book, name, "listen", head, Code::ConfigBadValue, why);
        return false;
    }
    priority(book, name, head);
    let Some(manager) = of(book, name, "pm").map(|e| e.value.to_ascii_lowercase()) else {
        let why = format!("pool {name} has no pm: static, dynamic or ondemand");
        tell(book, name, "pm", head, Code::ConfigBadValue, why);
        return false;
    };
    children(book, name, &manager, head);
    if is_well(book) {
        paths(book, name, head);
        slow(book, name, head);
        access_format(book, name);
    }
    is_well(book)
}

fn children(book: &mut Book, pool: &str, manager: &str, head: &Place) {
    let of = |book: &Book, name: &str| number(book, pool, name);
    let most = of(book, "pm.max_children").unwrap_or(0);
    if most < 1 {
        let why = format!("pm.max_children of pool {pool} must be more than 0");
        return tell(book, pool, "pm.max_children", head, Code::ConfigBadValue, why);
    }
    if manager == "ondemand" && seconds(book, pool, "pm.process_idle_timeout").is_some_and(|n| n < 1) {
        let why = "pm.process_idle_timeout must be more than 0".into();
        return tell(book, pool, "pm.process_idle_timeout", head, Code::ConfigBadValue, why);
    }
    if manager != "dynamic" {
        return;
    }
    let (min, max) =
        (of(book, "pm.min_spare_servers").unwrap_or(0), of(book, "pm.max_spare_servers").unwrap_or(0));
    for (name, number) in [("pm.min_spare_servers", min), ("pm.max_spare_servers", max)] {
        if number <= 0 {
            let why = format!("{name} of pool {pool} must be more than 0");
            return tell(book, pool, name, head, Code::ConfigBadValue, why);
        }
    }
    if max > most || min > most {
        let (name, number) =
            if max > most { ("pm.max_spare_servers", max) } else { ("pm.min_spare_servers", min) };
        let why = format!("{name} is {number}, more than pm.max_children, {most}");
        return conflict(book, pool, name, most, why);
    }
    if max < min {
        let why = format!("pm.max_spare_servers is {max}, less than pm.min_spare_servers, {min}");
        return conflict(book, pool, "pm.max_spare_servers", min, why);
    }
    let start = of(book, "pm.start_servers").unwrap_or(0);
    if start > 0 && !(min..=max).contains(&start) {
        let why = format!("pm.start_servers is {start}, expected from {min} to {max}, the spare servers");
        return conflict(book, pool, "pm.start_servers", start.clamp(min, max), why);
    }
    if of(book, "pm.max_spawn_rate").is_some_and(|n| n < 1) {
        let why = "pm.max_spawn_rate must be more than 0".into();
        tell(book, pool, "pm.max_spawn_rate", head, Code::ConfigBadValue, why);
    }
}

fn paths(book: &mut Book, pool: &str, head: &Place) {
    let has_own = of(book, pool, "pm.status_listen").is_some();
    for name in ["pm.status_path", "ping.path"] {
        let Some(entry) = of(book, pool, name).filter(|e| !e.value.is_empty()) else { continue };
        let value = entry.value.as_str();
        let odd = value.chars().find(|c| !c.is_ascii_alphanumeric() && !"/-_.~".contains(*c));
        let short = value.len() < 2 && !(has_own && name == "pm.status_path");
        let why = match odd {
            _ if !value.starts_with('/') => format!("{name} is \"{value}\", expected a path from / on"),
            _ if short => format!("{name} is \"{value}\", expected more than one sign"),
            Some(odd) => format!("{name} holds \"{odd}\", expected letters, digits and / - _ . ~"),
            None => continue,
        };
        book.find(&entry.place, name, Code::ConfigBadValue, why);
    }
    let pings = of(book, pool, "ping.path").is_some_and(|e| !e.value.is_empty());
    if pings && of(book, pool, "ping.response").is_some_and(|e| e.value.is_empty()) {
        let why = "ping.response must not be empty".into();
        tell(book, pool, "ping.response", head, Code::ConfigBadValue, why);
    }
}

fn slow(book: &mut Book, pool: &str, head: &Place) {
    let log = of(book, pool, "slowlog").is_some_and(|e| !e.value.is_empty());
    let slow = seconds(book, pool, "request_slowlog_timeout").unwrap_or(0);
    let depth = number(book, pool, "request_slowlog_trace_depth");
    let most = seconds(book, pool, "request_terminate_timeout").unwrap_or(0);
    let (name, why) = if slow != 0 && !log {
        ("request_slowlog_timeout", "request_slowlog_timeout needs a slowlog".to_owned())
    } else if slow != 0 && most != 0 && slow > most {
        let why = "request_slowlog_timeout must not be more than request_terminate_timeout";
        ("request_slowlog_timeout", why.to_owned())
    } else if depth.is_some_and(|d| d != 0) && !log {
        ("request_slowlog_trace_depth", "request_slowlog_trace_depth needs a slowlog".to_owned())
    } else if depth.is_some_and(|d| d < 0) {
        ("request_slowlog_trace_depth", "request_slowlog_trace_depth must be more than 0".to_owned())
    } else {
        return;
    };
    tell(book, pool, name, head, Code::ConfigConflict, why);
}

/// The form of a line of the access log (fpm_log.c); it is looked at where there is such a log.
fn access_format(book: &mut Book, pool: &str) {
    let Some(log) = of(book, pool, "access.log") else { return };
    if log.value.is_empty() {
        book.find(&log.place, "access.log", Code::ConfigBadValue, "access.log is empty, expected a file");
        return;
    }
    let Some(entry) = of(book, pool, "access.format") else { return };
    if let Some(why) = wrong_format(&entry.value) {
        book.find(&entry.place, "access.format", Code::ConfigBadValue, format!("access.format: {why}"));
    }
}

fn wrong_format(format: &str) -> Option<String> {
    let mut rest = format;
    while let Some(at) = rest.find('%') {
        rest = &rest[at + 1..];
        let mut modifier = String::new();
        if let Some(inner) = rest.strip_prefix('{') {
            let Some(end) = inner.find('}') else { return Some("a curly bracket is not closed".into()) };
            inner[..end].clone_into(&mut modifier);
            rest = &inner[end + 1..];
        }
        let sign = rest.chars().next()?;
        rest = &rest[sign.len_utf8()..];
        let allowed: &[&str] = match sign {
            'C' => &["total", "user", "system"],
            'd' => &["seconds", "milli", "milliseconds", "mili", "miliseconds", "micro", "microseconds"],
            'M' => &["bytes", "kilo", "kilobytes", "mega", "megabytes"],
            'e' | 'o' if modifier.is_empty() => {
                return Some(format!("%{sign} needs a name: %{{NAME}}{sign}"));
            }
            'e' | 'o' | 't' | 'T' => continue,
            '%' | 'f' | 'l' | 'm' | 'n' | 'p' | 'P' | 'q' | 'Q' | 'r' | 'R' | 's' | 'u'
                if modifier.is_empty() =>
            {
                continue;
            }
            '%' | 'f' | 'l' | 'm' | 'n' | 'p' | 'P' | 'q' | 'Q' | 'r' | 'R' | 's' | 'u' => {
                return Some(format!("%{sign} takes nothing in curly brackets"));
            }
            _ => return Some(format!("%{sign} stands for nothing")),
        };
        if !modifier.is_empty() && !allowed.iter().any(|a| a.eq_ignore_ascii_case(&modifier)) {
            return Some(format!("%{{{modifier}}}{sign}: expected {}", allowed.join(", ")));
        }
    }
    None
}

/// A pool that nobody can start: what it is about is its file.
pub(super) fn none(book: &mut Book, file: &str) {
    book.out.add(crate::config::ConfigFinding {
        about: Some(About::File(file.to_owned())),
        ..crate::config::ConfigFinding::error(Code::ConfigSyntax, "no pool is defined")
    });
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(place: &'static str, entry: &str, version: &str) -> Option<Code> {
        let release = Release { flavour: "php-fpm".into(), version: Version::parse(version).unwrap() };
        let (name, value) = entry.split_once('=').unwrap();
        let (name, key) = match name.split_once('[') {
            Some((name, key)) => (name, Some(key.trim_end_matches(']'))),
            None => (name, None),
        };
        wrong(place, name, key, (value, false), &release, true).map(|w| w.code)
    }

    /// Every expectation was asked of PHP-FPM 8.2 and 7.4.
    #[test]
    fn entries_are_judged_as_the_daemon_does() {
        for (place, entry) in [
            ("global", "log_level=WARNING"),
            ("global", "process.max=-1"),
            ("global", "emergency_restart_interval=5x3"),
            ("pool", "PM=Dynamic"),
            ("pool", "pm.max_children="),
            ("pool", "listen.mode=tide"),
            ("pool", "rlimit_core=Unlimited"),
            ("pool", "php_flag[a]=on"),
            ("pool", "pm.process_idle_timeout=10s"),
            ("pool", "access.suppress_path[]=/ping"),
        ] {
            assert_eq!(of(place, entry, "8.2"), None, "{entry}");
        }
        for (place, entry, code) in [
            ("global", "pm=static", Code::ConfigUnknownDirective),
            ("pool", "daemonize=yes", Code::ConfigUnknownDirective),
            ("pool", "pm.max_childrn=5", Code::ConfigUnknownDirective),
            ("pool", "env=x", Code::ConfigUnknownDirective),
            ("pool", "php_valu[a]=x", Code::ConfigUnknownDirective),
            ("pool", "Env[a]=x", Code::ConfigUnknownDirective),
            ("pool", "env[]=x", Code::ConfigBadValue),
            ("pool", "env[a]=", Code::ConfigBadValue),
            ("global", "env[a]=x", Code::ConfigBadValue),
            ("pool", "pm=tide", Code::ConfigBadValue),
            ("pool", "pm.max_children=5k", Code::ConfigBadValue),
            ("pool", "request_terminate_timeout=5x", Code::ConfigBadValue),
            ("pool", "clear_env=maybe", Code::ConfigBadValue),
            ("global", "log_level=loud", Code::ConfigBadValue),
        ] {
            assert_eq!(of(place, entry, "8.2"), Some(code), "{entry}");
        }
        assert_eq!(of("pool", "pm.status_listen=9001", "7.4"), Some(Code::ConfigUnknownDirective));
        assert_eq!(of("pool", "clear_env=yes", "7.4"), Some(Code::ConfigBadValue), "only as a bare word");
    }

    #[test]
    fn forms_of_the_access_log_are_judged() {
        for good in ["%R - %u %t \"%m %r%Q%q\" %s", "%{mega}M %{user}C%%", "%{%d/%b}t %{REMOTE_ADDR}e"] {
            assert_eq!(wrong_format(good), None, "{good}");
        }
        for bad in ["%x", "%e", "%{tide}M", "%{a", "%{a}R"] {
            assert!(wrong_format(bad).is_some(), "{bad}");
        }
    }
}
