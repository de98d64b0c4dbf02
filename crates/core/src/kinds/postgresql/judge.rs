//! What PostgreSQL says of its settings: is there such a one, is its value of its kind, and do they go
//! together
//! at a start (guc.c, variable.c, postmaster.c and the check hooks of its own source). Where no release is
//! known that the table stands for, nothing is said.
use super::Postgresql;
use super::{glob, relations};
use crate::bounds::step;
use crate::code::Code;
use crate::config::entries::{Book, Entry};
use crate::config::nearest;
use crate::config::release::{Release, Version};
use crate::config::rows::{Amount, Fate, Fault, Row, Type, fault, near_value};
use crate::kinds::Kind;
use crate::path;
use std::collections::{HashMap, HashSet};

/// Names that are still read for others (`map_old_guc_names`).
const FORMER: &[(&str, &str)] = &[("sort_mem", "work_mem"), ("vacuum_mem", "maintenance_work_mem")];

/// The release by which the table is read, if it stands for it: all of a series are one, for what an update
/// within it adds is known to all of it here.
pub(super) fn release(found: &Release) -> Option<Release> {
    let version = Version::parse(&found.version.major().to_string())?;
    let release = Release { flavour: found.flavour.clone(), version };
    let beyond = Postgresql.directives().is_none_or(|rows| rows.is_beyond(Some(&release)));
    (release.version.major() >= 13 && !beyond).then_some(release)
}

/// The name that is meant by one that may be an old one.
fn present(name: &str) -> &str {
    FORMER.iter().find(|(old, _)| *old == name).map_or(name, |(_, new)| new)
}

/// The row of a name in a release, and whether a name without one may be known to it after all.
fn row_of(name: &str, release: &Release) -> (Option<&'static Row>, bool) {
    let Some(rows) = Postgresql.directives() else { return (None, true) };
    let all = rows.any_case(present(name));
    let unsure = all.iter().any(|row| rows.fate(row, Some(release)) == Fate::Unsure);
    (rows.known(present(name), Some(release)), unsure)
}

/// Judges all that was read: names first, since nothing is applied where one of them is unknown; then the
/// last value of each; then what a start wants of several together.
pub(super) fn all(book: &mut Book, release: &Release, unit: Option<&str>) {
    let entries: Vec<Entry> = book.entries.clone();
    let mut known: HashMap<&str, (Option<&'static Row>, bool)> = HashMap::new();
    for entry in &entries {
        step(1);
        let (row, unsure) = *known.entry(&entry.name).or_insert_with(|| row_of(&entry.name, release));
        // What an extension reads is not known before it is loaded.
        if row.is_none() && !unsure && !entry.name.contains('.') {
            unknown(book, entry, release);
        }
    }
    let mut seen = HashSet::new();
    let mut last: Vec<&Entry> = entries.iter().rev().filter(|e| seen.insert(present(&e.name))).collect();
    last.reverse();
    for entry in &last {
        if entry.value.contains(crate::secrets::MASK) {
            continue;
        }
        let row = row_of(&entry.name, release).0;
        let is_fixed =
            |row: &Row| Postgresql.directives().is_some_and(|rows| row.places & rows.place("fixed") != 0);
        let why = match row {
            Some(row) if is_fixed(row) => Some(format!("{} cannot be set: the server makes it", entry.name)),
            Some(row) => typed(row, entry).or_else(|| by_hand(book, &entry.name, &entry.value)),
            None => None,
        };
        if let Some(why) = why {
            let near = row.filter(|_| book.is_early()).and_then(|row| near_value(row, &entry.value));
            book.find(&entry.place, &entry.name, Code::ConfigBadValue, why).meant(entry.span.clone(), near);
        }
    }
    relations::all(book, release, unit);
}

fn unknown(book: &mut Book, entry: &Entry, release: &Release) {
    let Some(rows) = Postgresql.directives() else { return };
    let message = if rows.has_name(&entry.name) {
        format!("{} is not a setting of PostgreSQL {}", entry.name, release.version.major())
    } else {
        format!("{} is not a setting of PostgreSQL", entry.name)
    };
    let (mut near, mut span) = (None, None);
    // The name stands on its line: its bytes are looked for there.
    if book.is_early() {
        let known = rows.all().filter(|row| rows.fate(row, Some(release)) != Fate::Gone);
        near = nearest(&entry.name, known.map(|row| row.name)).map(str::to_owned);
        span = crate::config::entries::name_span(book.snapshot, entry);
    }
    book.find(&entry.place, &entry.name, Code::ConfigUnknownDirective, message).meant(span, near);
}

fn typed(row: &Row, entry: &Entry) -> Option<String> {
    match fault(row, 1, |_| entry.value.as_str())? {
        Fault::Word { expected, .. } => {
            Some(format!("{} is \"{}\", expected {expected}", entry.name, entry.value))
        }
        Fault::Count { .. } => None,
    }
}

/// Elements of a list of names (`SplitIdentifierString`): `None` where it is not a list. Empty text is an
/// empty list.
pub(super) fn identifiers(text: &str) -> Option<Vec<String>> {
    list(text, |c| c != ',' && !is_space(c))
}

/// Elements of a list of directories (`SplitDirectoriesString`): they may hold blanks.
pub(super) fn directories(text: &str) -> Option<Vec<String>> {
    list(text, |c| c != ',')
}

fn is_space(c: char) -> bool {
    matches!(c, ' ' | '\t' | '\n' | '\r' | '\u{b}' | '\u{c}')
}

fn list(text: &str, plain: impl Fn(char) -> bool) -> Option<Vec<String>> {
    let mut all = Vec::new();
    let mut rest = text.trim_start_matches(is_space);
    if rest.is_empty() {
        return Some(all);
    }
    loop {
        let element;
        if let Some(inner) = rest.strip_prefix('"') {
            let mut out = String::new();
            let mut chars = inner.char_indices().peekable();
            let end = loop {
                match chars.next()? {
                    (_, '"') if chars.peek().is_some_and(|(_, c)| *c == '"') => {
                        chars.next();
                        out.push('"');
                    }
                    (at, '"') => break at,
                    (_, c) => out.push(c),
                }
            };
            rest = &inner[end + 1..];
            element = out;
        } else {
            let end = rest.find(|c| !plain(c)).unwrap_or(rest.len());
            if end == 0 {
                return None;
            }
            element = rest[..end].trim_end_matches(is_space).to_owned();
            rest = &rest[end..];
        }
        all.push(element);
        rest = rest.trim_start_matches(is_space);
        match rest.strip_prefix(',') {
            Some(more) => rest = more.trim_start_matches(is_space),
            None if rest.is_empty() => return Some(all),
            None => return None,
        }
    }
}

/// Settings that are lists of names.
const LISTS: &[&str] = &[
    "datestyle",
    "log_destination",
    "search_path",
    "temp_tablespaces",
    "wal_consistency_checking",
    "debug_io_direct",
    "restrict_nonsystem_relation_kind",
    "createrole_self_grant",
    "synchronized_standby_slots",
];

/// What the server's own functions check.
fn by_hand(book: &Book, name: &str, value: &str) -> Option<String> {
    let no_list = || format!("{name} is \"{value}\", which is not a list of names");
    if LISTS.contains(&name) && identifiers(value).is_none() {
        return Some(no_list());
    }
    let words = || identifiers(value).unwrap_or_default();
    let expected =
        |word: &str, all: &[&str]| Some(format!("{name} has \"{word}\", expected {}", all.join(", ")));
    let each = |all: &[&str]| {
        let odd = words().into_iter().find(|w| !all.iter().any(|known| known.eq_ignore_ascii_case(w)))?;
        expected(&odd, all)
    };
    match name {
        "datestyle" => date_style(&words()),
        "log_destination" => each(&["stderr", "csvlog", "jsonlog", "syslog"]),
        "createrole_self_grant" => each(&["set", "inherit"]),
        "debug_io_direct" => each(&["data", "wal", "wal_init"]),
        "restrict_nonsystem_relation_kind" => each(&["view", "foreign-table"]),
        "client_encoding" => {
            (!is_encoding(value)).then(|| format!("{name} is \"{value}\", which is not an encoding"))
        }
        "timezone" | "log_timezone" => zone(book, name, value),
        "timezone_abbreviations" => {
            let plain = !value.is_empty() && value.bytes().all(|b| b.is_ascii_alphabetic());
            let sets = glob(book.snapshot, "/usr/share/postgresql/*/timezonesets/*");
            let there = sets.is_empty() || sets.iter().any(|set| path::name(set) == value);
            (!plain || !there)
                .then(|| format!("{name} is \"{value}\", expected the name of a set of the server's"))
        }
        "recovery_target" => {
            (!matches!(value, "" | "immediate")).then(|| format!("{name} is \"{value}\", expected immediate"))
        }
        "recovery_target_name" => (value.len() >= 64).then(|| format!("{name} is longer than 63 characters")),
        "recovery_target_lsn" => (!value.is_empty() && !is_place_in_log(value))
            .then(|| format!("{name} is \"{value}\", expected a place in the log such as 0/16B3748")),
        "recovery_target_time" => (!value.is_empty() && !may_be_time(value))
            .then(|| format!("{name} is \"{value}\", expected a time such as 2031-04-02 06:10:00+00")),
        "primary_slot_name" => (!value.is_empty() && !is_slot(value)).then(|| {
            format!("{name} is \"{value}\", expected at most 63 small letters, digits and underscores")
        }),
        "backtrace_functions" => {
            let odd = value.chars().find(|c| !(c.is_ascii_alphanumeric() || "_, \n\t".contains(*c)))?;
            Some(format!("{name} holds \"{odd}\", expected names of functions"))
        }
        "lc_messages" | "lc_monetary" | "lc_numeric" | "lc_time" => locale(book, name, value),
        "synchronous_standby_names" => (!is_standbys(value))
            .then(|| format!("{name} is \"{value}\", expected names, or FIRST or ANY NUMBER (names)")),
        "synchronized_standby_slots" => {
            let odd = words().into_iter().find(|word| !is_slot(word))?;
            Some(format!("{name} has \"{odd}\", expected small letters, digits and underscores"))
        }
        "wal_consistency_checking" => {
            // A library that is loaded may bring more of them.
            let bare = book.value("shared_preload_libraries").is_none_or(|v| v.is_empty());
            if bare { each(MANAGERS) } else { None }
        }
        "log_connections" if Type::Truth.holds(value) => None,
        "log_connections" if value.is_empty() => None,
        "log_connections" => {
            let parts = ["receipt", "authentication", "authorization", "setup_durations", "all", "on"];
            if identifiers(value).is_none() { Some(no_list()) } else { each(&parts) }
        }
        "default_table_access_method" if value.is_empty() => Some(format!("{name} must not be empty")),
        "default_with_oids" => {
            let off = ["off", "false", "no", "0", "f", "n"].iter().any(|w| w.eq_ignore_ascii_case(value));
            (!off).then(|| format!("{name} can only be off"))
        }
        "role" if value != "none" => Some(format!("{name} cannot be set in a file")),
        "session_authorization" => Some(format!("{name} cannot be set in a file")),
        _ => of_numbers(name, value),
    }
}

/// What its functions check of numbers beside their range.
fn of_numbers(name: &str, value: &str) -> Option<String> {
    match name {
        "vacuum_buffer_usage_limit" => {
            let fits = of_unit("kB", value).is_none_or(|n| n == 0.0 || n >= 128.0);
            (!fits).then(|| format!("{name} is \"{value}\", expected 0 or at least 128kB"))
        }
        "io_max_concurrency" => {
            (of_unit("", value) == Some(0.0)).then(|| format!("{name} is 0, expected -1 or more than 0"))
        }
        "commit_timestamp_buffers"
        | "multixact_member_buffers"
        | "multixact_offset_buffers"
        | "notify_buffers"
        | "serializable_buffers"
        | "subtransaction_buffers"
        | "transaction_buffers" => {
            let whole = of_unit("8kB", value).is_none_or(|n| n % 16.0 == 0.0);
            (!whole).then(|| format!("{name} is \"{value}\", expected a multiple of 16 (of 128kB)"))
        }
        _ => None,
    }
}

/// Resource managers whose pages can be compared (rmgrlist.h).
const MANAGERS: &[&str] =
    &["all", "heap2", "heap", "btree", "hash", "gin", "gist", "sequence", "spgist", "brin", "generic"];

fn of_unit(unit: &'static str, value: &str) -> Option<f64> {
    Amount { unit, whole: true, least: "", most: "" }.value(value)
}

fn date_style(words: &[String]) -> Option<String> {
    let (mut style, mut order) = (None, None);
    for word in words {
        let lower = word.to_ascii_lowercase();
        let (place, value) = match lower.as_str() {
            "iso" => (&mut style, "iso"),
            "sql" => (&mut style, "sql"),
            "german" => (&mut style, "german"),
            w if w.starts_with("postgres") => (&mut style, "postgres"),
            "ymd" => (&mut order, "ymd"),
            "dmy" => (&mut order, "dmy"),
            w if w.starts_with("euro") => (&mut order, "dmy"),
            "mdy" | "us" => (&mut order, "mdy"),
            w if w.starts_with("noneuro") => (&mut order, "mdy"),
            "default" => continue,
            _ => {
                return Some(format!(
                    "datestyle has \"{word}\", expected ISO, SQL, POSTGRES, GERMAN, YMD, DMY or MDY"
                ));
            }
        };
        if place.is_some_and(|before| before != value) {
            return Some(format!("datestyle names two that contradict, the second is \"{word}\""));
        }
        *place = Some(value);
    }
    None
}

/// Names of encodings without their signs (encnames.c).
const ENCODINGS: &str = " abc alt big5 euccn eucjis2004 eucjp euckr euctw gb18030 gbk iso88591 iso885910 \
    iso885913 iso885914 iso885915 iso885916 iso88592 iso88593 iso88594 iso88595 iso88596 iso88597 iso88598 \
    iso88599 johab koi8 koi8r koi8u latin1 latin10 latin2 latin3 latin4 latin5 latin6 latin7 latin8 \
    latin9 mskanji muleinternal shiftjis shiftjis2004 sjis sqlascii tcvn tcvn5712 uhc unicode utf8 \
    vscii win win1250 win1251 win1252 win1253 win1254 win1255 win1256 win1257 win1258 win866 win874 \
    win932 win936 win949 win950 windows1250 windows1251 windows1252 windows1253 windows1254 \
    windows1255 windows1256 windows1257 windows1258 windows866 windows874 windows932 windows936 \
    windows949 windows950 ";

fn is_encoding(value: &str) -> bool {
    let plain: String =
        value.chars().filter(char::is_ascii_alphanumeric).map(|c| c.to_ascii_lowercase()).collect();
    !plain.is_empty() && ENCODINGS.contains(&format!(" {plain} "))
}

/// A time zone: a name of the host's own, an offset, or a rule of the POSIX form.
fn zone(book: &Book, name: &str, value: &str) -> Option<String> {
    const ZONES: &str = "/usr/share/zoneinfo";
    if value.trim().parse::<f64>().is_ok() {
        return (name == "log_timezone")
            .then(|| format!("{name} is \"{value}\", expected the name of a zone"));
    }
    if is_zone_rule(value) || value.to_ascii_lowercase().starts_with("interval") {
        return None;
    }
    if ["", "gmt", "utc", "localtime"].iter().any(|w| w.eq_ignore_ascii_case(value)) {
        return value.is_empty().then(|| format!("{name} is empty, expected a time zone"));
    }
    // Names are compared whatever their case, one directory after another.
    let mut dir = ZONES.to_owned();
    for part in value.split('/') {
        let entries = book.snapshot.list(&dir).seen()?;
        let Some(entry) = entries.iter().find(|e| e.name.eq_ignore_ascii_case(part)) else {
            return Some(format!("{name} is \"{value}\", which is not a time zone of this host"));
        };
        dir = path::join(&dir, &entry.name);
    }
    (book.snapshot.is_directory(&dir) == Some(true))
        .then(|| format!("{name} is \"{value}\", which is a group of zones"))
}

/// A zone of the POSIX form: a name of three letters or one in brackets, and an offset.
fn is_zone_rule(value: &str) -> bool {
    let rest = match value.strip_prefix('<') {
        Some(inner) => inner.split_once('>').map(|(_, rest)| rest),
        None => {
            let letters = value.bytes().take_while(u8::is_ascii_alphabetic).count();
            (letters >= 3).then(|| &value[letters..])
        }
    };
    rest.is_some_and(|r| r.strip_prefix(['+', '-']).unwrap_or(r).starts_with(|c: char| c.is_ascii_digit()))
}

/// Whether a word may be a time: at least a date in digits.
fn may_be_time(value: &str) -> bool {
    let digits = value.bytes().filter(u8::is_ascii_digit).count();
    let parted = value.contains(['-', '/', '.', ' ']);
    digits > 0 && (parted || (6..=14).contains(&digits) && value.starts_with(|c: char| c.is_ascii_digit()))
}

fn locale(book: &Book, name: &str, value: &str) -> Option<String> {
    const LOCALES: &str = "/usr/lib/locale";
    if value.is_empty() {
        return None;
    }
    let plain = |text: &str| text.to_ascii_lowercase().replace('-', "");
    let own = plain(value);
    if matches!(own.as_str(), "c" | "posix") || own.starts_with("c.") {
        return None;
    }
    // An archive holds more of them, and nobody here reads it.
    let entries = book.snapshot.list(LOCALES).seen()?;
    let there = entries.iter().any(|e| e.name == "locale-archive" || plain(&e.name) == own);
    (!there).then(|| format!("{name} is \"{value}\", which is not a locale of this host"))
}

fn is_place_in_log(value: &str) -> bool {
    let hex = |t: &str| (1..=8).contains(&t.len()) && t.bytes().all(|b| b.is_ascii_hexdigit());
    value.split_once('/').is_some_and(|(high, low)| hex(high) && hex(low))
}

fn is_slot(value: &str) -> bool {
    value.len() < 64 && value.bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'_')
}

/// The grammar of `synchronous_standby_names` (syncrep_gram.y): names, or a number of them.
fn is_standbys(value: &str) -> bool {
    let text = value.trim_matches(is_space);
    if text.is_empty() {
        return true;
    }
    let bare = ["first", "any"].iter().find_map(|w| {
        let begin = text.get(..w.len())?;
        let rest = text.get(w.len()..)?;
        (begin.eq_ignore_ascii_case(w) && rest.starts_with(|c: char| is_space(c)))
            .then(|| rest.trim_start_matches(is_space))
    });
    let numbered = bare.unwrap_or(text);
    let digits = numbered.find(|c: char| !c.is_ascii_digit()).unwrap_or(numbered.len());
    let list = numbered[digits..].trim_start_matches(is_space);
    if let Some(inner) = list.strip_prefix('(').filter(|_| digits > 0) {
        let number = numbered[..digits].parse::<i32>();
        return number.is_ok_and(|n| n > 0) && inner.strip_suffix(')').is_some_and(is_standby_list);
    }
    bare.is_none() && is_standby_list(text)
}

fn is_standby_list(text: &str) -> bool {
    let name = |word: &str| {
        word == "*"
            || (!word.is_empty()
                && word.chars().all(|c| c.is_ascii_alphanumeric() || c == '_' || c == '$' || !c.is_ascii()))
    };
    if text.contains('"') {
        return identifiers(text).is_some_and(|all| !all.is_empty());
    }
    text.split(',').all(|word| name(word.trim_matches(is_space)))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Every expectation was asked of PostgreSQL 15.
    #[test]
    fn lists_and_names_are_read_as_the_server_does() {
        assert_eq!(identifiers(" a , \"b \"\"c\" ").unwrap(), ["a", "b \"c"]);
        assert_eq!(directories("/a b,/c").unwrap(), ["/a b", "/c"]);
        assert_eq!(identifiers("").unwrap(), Vec::<String>::new());
        for bad in [",", "a,", "a b", "\"a", "a,,b"] {
            assert_eq!(identifiers(bad), None, "{bad}");
        }
        for (words, good) in
            [("iso, dmy", true), ("ISO, SQL", false), ("tide", false), ("german, european", true)]
        {
            assert_eq!(date_style(&identifiers(words).unwrap()).is_none(), good, "{words}");
        }
        for good in ["", "*", "a, b", "FIRST 2 (a, b)", "any 1 (*)", "2 (a)", "\"a b\"", "first"] {
            assert!(is_standbys(good), "{good}");
        }
        for bad in ["0 (a)", "2 (", "a b", "a-b", "any (a)", "1 ()"] {
            assert!(!is_standbys(bad), "{bad}");
        }
        assert!(is_encoding("UTF-8") && is_encoding("latin 1") && !is_encoding("tide") && !is_encoding("-"));
        assert!(is_place_in_log("0/16B3748") && !is_place_in_log("16B3748") && !is_place_in_log("0/"));
        assert!(is_slot("quay_1") && !is_slot("Quay") && !is_slot("a-b"));
    }
}
