//! What a server of the MySQL family says of an option: is there such a one, may it have a value or do
//! without,
//! and is the value of its kind (my_getopt.c of its own source). A number out of range is adjusted with a
//! warning, and so is an odd word of truth: neither ends the start. Where no release is known that the table
//! stands for, nothing is said.
use super::Mysql;
use crate::bounds::step;
use crate::code::Code;
use crate::config::nearest;
use crate::config::release::{Release, Version};
use crate::config::rows::{Fate, Row, Type, near_value};
use crate::kinds::Kind;

/// Words before a name that say what is meant by it.
const PREFIXES: &[&str] = &["skip", "disable", "enable", "maximum", "loose", "autoset"];

/// Beginnings of the names that plug-ins of MariaDB bring, which a server may have loaded before.
const MARIADB_PLUGINS: &[&str] = &[
    "aws_key_management",
    "columnstore",
    "connect_",
    "cracklib",
    "disks",
    "federated",
    "file_key_management",
    "gssapi_",
    "handlersocket",
    "hashicorp_",
    "locales",
    "metadata_lock_info",
    "mroonga_",
    "oqgraph",
    "password_reuse_check",
    "query_response_time",
    "rocksdb",
    "s3_",
    "server_audit",
    "simple_password_check",
    "sphinx_",
    "spider",
    "sql_errlog",
    "sql_error_log",
    "tokudb",
    "type_",
    "wsrep_provider_",
];
/// Those of MySQL.
const MYSQL_PLUGINS: &[&str] = &[
    "audit_log",
    "authentication_",
    "clone_",
    "component_",
    "connection_control",
    "federated",
    "group_replication",
    "keyring_",
    "rewriter_",
    "rpl_semi_sync",
    "telemetry",
    "thread_pool_",
    "validate_password",
    "version_tokens",
];
/// Switches that take no value at all; others that stand alone take a word of truth.
const BARE: &[&str] = &["ansi", "bootstrap", "safe_mode", "skip_host_cache", "standalone"];

/// The release by which the table is read, if it stands for it: between the first and the last series that it
/// was made from, for names of others are not known to it.
pub(super) fn release(found: &Release) -> Option<Release> {
    let (major, minor) = found.version.series();
    let version = Version::parse(&format!("{major}.{minor}"))?;
    let rows = Mysql.directives()?;
    let ends = match found.flavour.as_str() {
        "mariadb" => [(10, 5), (11, 8)],
        "mysql" => [(9, 7), (9, 7)],
        _ => return None,
    };
    let release = Release { flavour: found.flavour.clone(), version };
    let within = (ends[0]..=ends[1]).contains(&(major, minor)) && !rows.is_beyond(Some(&release));
    within.then_some(release)
}

/// What is wrong with an option: its name, or else its value.
#[derive(Debug, PartialEq, Eq)]
pub(super) struct Wrong {
    pub(super) code: Code,
    pub(super) why: String,
    /// The name, or the value, that was likely meant.
    pub(super) near: Option<String>,
}

/// A name as the server compares it: MariaDB whatever its case, MySQL as it is written.
fn spelt(name: &str, release: &Release) -> String {
    let plain = name.replace('-', "_");
    if release.flavour == "mysql" { plain } else { plain.to_ascii_lowercase() }
}

/// What is wrong with an option as it stands in a file or on the command line, `None` for nothing; and the
/// option that is meant by a name with words before it, or by its beginning, with the value that those words
/// give it.
///
/// `early`: what the name was likely meant to be is looked for.
pub(super) fn judged(
    name: &str,
    value: Option<&str>,
    release: &Release,
    early: bool,
) -> (Option<Wrong>, Option<(String, Option<&'static str>)>) {
    let asked = spelt(name, release);
    // Of `cache.name` only the name counts.
    let asked = asked.get(1..).and_then(|rest| rest.find('.')).map_or(asked.as_str(), |at| &asked[at + 2..]);
    let found = search(asked, release);
    let meant = match &found {
        Search::Found(found) => {
            // A switch that stands alone is on.
            let alone = (value.is_none() && found.row.from == "bool").then_some("ON");
            Some((found.row.name.to_ascii_lowercase(), found.forced(value).or(alone)))
        }
        _ => None,
    };
    (wrong(name, asked, value, release, early, found), meant)
}

fn wrong(
    name: &str,
    asked: &str,
    value: Option<&str>,
    release: &Release,
    early: bool,
    found: Search,
) -> Option<Wrong> {
    let bad = |why: String| Some(Wrong { code: Code::ConfigBadValue, why, near: None });
    let found = match found {
        Search::Found(found) => found,
        Search::Unsure => return None,
        Search::Many(all) => {
            let why =
                format!("{name} begins {all}: the server takes a beginning only where it is one option's");
            return Some(Wrong { code: Code::ConfigUnknownDirective, why, near: None });
        }
        Search::None { loose: true } => return None,
        Search::None { .. } => return Some(unknown(name, asked, release, early)),
    };
    let row = found.row;
    // A plug-in that does not understand its options is left out, and the server starts.
    if row.name.starts_with("feedback") || matches!(row.name, "max_relay_log_size" | "exit_info") {
        return None;
    }
    let first = row.takes.first().and_then(|form| form.first());
    let forced = found.forced(value);
    let value = forced.or(value);
    let needs = first.is_some_and(|slot| slot.least > 0);
    match (value, first) {
        (Some(_), None) if BARE.contains(&row.name) => bad(format!("{name} takes no value")),
        (_, None) => None,
        (None, Some(_)) if needs => {
            let why = format!("{name} needs a value: {name}=…");
            Some(Wrong { code: Code::ConfigBadValue, why, near: None })
        }
        (None, Some(_)) => None,
        (Some(_), _) if found.loose => None,
        (Some(value), Some(_)) if value.contains(crate::secrets::MASK) => None,
        (Some(value), Some(slot)) => {
            let why = held(row.from, slot.takes, value, release)
                .map(|expected| format!("{name} is \"{value}\", expected {expected}"))
                .or_else(|| by_hand(&row.name.to_ascii_lowercase(), value))?;
            let near = if early { near_value(row, value) } else { None };
            Some(Wrong { code: Code::ConfigBadValue, why, near: near.or_else(|| near_set(row.name, value)) })
        }
    }
}

/// A row that an option names, and what the words before it say.
struct Found {
    row: &'static Row,
    /// `skip` and `disable` set it to 0, `enable` to 1.
    turns: Option<bool>,
    loose: bool,
}

impl Found {
    fn forced(&self, value: Option<&str>) -> Option<&'static str> {
        let on = self.turns? != (value == Some("0"));
        let words = if self.row.from == "bool" { ("ON", "OFF") } else { ("1", "0") };
        Some(if on { words.0 } else { words.1 })
    }
}

enum Search {
    Found(Found),
    /// A name of several.
    Many(String),
    /// Another release of the series may have it.
    Unsure,
    None {
        loose: bool,
    },
}

/// Looks for a name as the server does: as it stands, as the beginning of one only, then without the words
/// that may stand before it.
fn search(asked: &str, release: &Release) -> Search {
    let (mut rest, mut turns, mut loose, mut unsure) = (asked, None, false, false);
    loop {
        match named(rest, release) {
            One::Row(row) => return Search::Found(Found { row, turns, loose }),
            One::Many(all) => return Search::Many(all),
            One::Unsure => unsure = true,
            One::None => {}
        }
        // Each plug-in has a switch, with this word before its name or without.
        if let Some(plugin) = rest.strip_prefix("plugin_") {
            let row = Mysql.directives().and_then(|rows| rows.known(plugin, Some(release)));
            return row.map_or(Search::Unsure, |row| Search::Found(Found { row, turns, loose }));
        }
        let cut = PREFIXES.iter().find_map(|prefix| {
            let behind = rest.strip_prefix(prefix)?.strip_prefix('_')?;
            Some((*prefix, behind))
        });
        let Some((prefix, behind)) = cut.filter(|(_, behind)| !behind.is_empty()) else {
            let plugins = if release.flavour == "mysql" { MYSQL_PLUGINS } else { MARIADB_PLUGINS };
            let plugin = plugins.iter().any(|p| rest.starts_with(p) || rest == p.trim_end_matches('_'));
            return if unsure || plugin { Search::Unsure } else { Search::None { loose } };
        };
        rest = behind;
        match prefix {
            "skip" | "disable" => turns = Some(false),
            "enable" => turns = Some(true),
            // What may be set so is not listed.
            "maximum" | "autoset" => {
                return if unsure { Search::Unsure } else { beyond(rest, release, loose) };
            }
            _ => loose = true,
        }
    }
}

/// What is known of a name behind a word that only some options take.
fn beyond(rest: &str, release: &Release, loose: bool) -> Search {
    match named(rest, release) {
        One::None => Search::None { loose },
        _ => Search::Unsure,
    }
}

enum One {
    Row(&'static Row),
    Many(String),
    Unsure,
    None,
}

fn named(name: &str, release: &Release) -> One {
    let Some(rows) = Mysql.directives() else { return One::Unsure };
    let fate = |row: &&Row| rows.fate(row, Some(release));
    let own = if release.flavour == "mysql" { rows.exact(name) } else { rows.any_case(name) };
    let known = |row: &&Row| !matches!(fate(row), Fate::Gone | Fate::Unsure);
    // What does something comes before what is only taken.
    let found = own.iter().filter(known).min_by_key(|row| row.from == "idle");
    if let Some(row) = found {
        return if row.from == "plugin" { One::Unsure } else { One::Row(row) };
    }
    if own.iter().any(|row| fate(&row) == Fate::Unsure) {
        return One::Unsure;
    }
    let mut begins: Vec<&'static Row> = Vec::new();
    for row in rows.beginning(name).filter(|row| row.from != "plugin") {
        step(1);
        match rows.fate(row, Some(release)) {
            Fate::Gone => {}
            Fate::Unsure => return One::Unsure,
            _ if begins.last().is_some_and(|last| last.name == row.name) => {}
            _ => begins.push(row),
        }
    }
    match begins[..] {
        [] => One::None,
        // MySQL wants whole names; MariaDB takes a beginning that is one option's only.
        [_] if release.flavour == "mysql" => One::None,
        [one] => One::Row(one),
        // Each part of the engine has a list of its own.
        [_, ..] if name.starts_with("innodb") => One::Unsure,
        [first, second, ..] if release.flavour != "mysql" => {
            One::Many(format!("{} and {}", first.name, second.name))
        }
        _ => One::None,
    }
}

fn unknown(name: &str, asked: &str, release: &Release, early: bool) -> Wrong {
    let rows = Mysql.directives();
    let known = |row: &&Row| {
        row.from != "plugin" && rows.is_some_and(|rows| rows.fate(row, Some(release)) != Fate::Gone)
    };
    let title = if release.flavour == "mysql" { "MySQL" } else { "MariaDB" };
    // Without a sign of equality, what follows a blank is part of the name, and may be a secret.
    if let Some((first, rest)) = name.split_once([' ', '\t']) {
        let row = match named(&spelt(first, release), release) {
            One::Row(row) if !Mysql.is_secret(&row.name.to_ascii_lowercase()) => Some(row),
            _ => None,
        };
        let near = row.map(|_| format!("{first} = {}", rest.trim()));
        let why = format!("{first} is followed by a blank, and an option and its value by =");
        return Wrong { code: Code::ConfigUnknownDirective, why, near };
    }
    let names = rows.iter().filter(|_| early).flat_map(|rows| rows.all()).filter(known).map(|row| row.name);
    let near = nearest(asked, names)
        .map(|near| if name.contains('-') { near.replace('_', "-") } else { near.to_owned() });
    let elsewhere = rows.is_some_and(|rows| !rows.any_case(asked).is_empty());
    let why = if elsewhere {
        format!("{name} is not an option of {title} {}", release.version)
    } else {
        format!("{name} is not an option of {title}")
    };
    Wrong { code: Code::ConfigUnknownDirective, why, near }
}

/// What was expected where a value is not of its kind.
fn held(reads: &str, takes: Type, value: &str, release: &Release) -> Option<String> {
    let words = match takes {
        Type::Enum(all) => all,
        _ => &[],
    };
    let empty = value.is_empty() && release.flavour == "mysql";
    if empty && matches!(reads, "signed" | "unsigned" | "number" | "words" | "enum" | "double") {
        return Some("a value that is not empty".to_owned());
    }
    match reads {
        "signed" | "unsigned" | "number" => number(value, reads == "unsigned", release),
        "double" => {
            let plain = value.is_empty() || value.trim().parse::<f64>().is_ok_and(f64::is_finite);
            (!plain).then(|| "a number".to_owned())
        }
        "enum" => {
            let index = value.parse::<usize>().is_ok_and(|n| n < words.len());
            (!index && !is_one(words, value)).then(|| words.join(", "))
        }
        "set" => {
            let bits = value.parse::<u64>().is_ok_and(|n| words.len() >= 64 || n >> words.len() == 0);
            let all = value.eq_ignore_ascii_case("all") || value.is_empty();
            let fits = bits || all || value.split(',').all(|word| is_one(words, word));
            (!fits).then(|| format!("some of {}", words.join(",")))
        }
        "flags" => flags(words, value),
        _ => None,
    }
}

/// Whether a word is one of these, or the beginning of one only, whatever its case (`find_type`).
fn is_one(words: &[&str], word: &str) -> bool {
    if words.iter().any(|known| known.eq_ignore_ascii_case(word)) {
        return true;
    }
    let begins =
        |known: &&&str| known.get(..word.len()).is_some_and(|begin| begin.eq_ignore_ascii_case(word));
    words.iter().filter(begins).count() == 1
}

fn flags(words: &[&str], value: &str) -> Option<String> {
    let one = |part: &str| match part.split_once('=') {
        Some((name, state)) => is_one(words, name) && is_one(&["off", "on", "default"], state),
        None => is_one(&["default"], part),
    };
    let fits = value.is_empty() || value.parse::<u64>().is_ok() || value.split(',').all(|p| one(p.trim()));
    (!fits).then(|| format!("NAME=on or NAME=off for some of {}", words.join(", ")))
}

/// A whole number with one letter for a power of 1024; what follows the letter is not looked at.
fn number(value: &str, unsigned: bool, release: &Release) -> Option<String> {
    let text = value.trim_start();
    let digits = text.strip_prefix(['-', '+']).unwrap_or(text);
    let negative = value.starts_with('-');
    if unsigned && negative {
        return refuses_negative(release).then(|| "a number that is not negative".to_owned());
    }
    let end = digits.find(|c: char| !c.is_ascii_digit()).unwrap_or(digits.len());
    let large = match (end, unsigned) {
        (0, _) => false,
        (_, true) => digits[..end].parse::<u64>().is_err(),
        (_, false) => digits[..end].parse::<u64>().is_err(),
    };
    // Where no digit stands, the text itself is looked at for a letter.
    let rest = if end == 0 { value } else { &digits[end..] };
    let suffix = rest.chars().next().is_none_or(|c| "kKmMgGtTpPeE".contains(c));
    (large || !suffix).then(|| "a whole number, with K, M, G, T, P or E behind it or nothing".to_owned())
}

/// Whether a negative number is refused where none may be; others take 0 or the least in its place.
fn refuses_negative(release: &Release) -> bool {
    release.flavour == "mariadb"
        && release.version >= Version::parse("10.11").unwrap_or_else(|| release.version.clone())
}

/// Whether a collation belongs to a character set.
pub(super) fn collates(set: &str, collation: &str) -> bool {
    let own = |text: &str| match text.to_ascii_lowercase() {
        text if text == "utf8" || text.starts_with("utf8_") => text.replacen("utf8", "utf8mb3", 1),
        text => text,
    };
    let (set, collation) = (own(set), own(collation));
    collation == set || collation.starts_with(&format!("{set}_"))
}

/// The character set of a server that is told none.
pub(super) fn default_set(release: &Release) -> &'static str {
    let old = release.flavour == "mariadb" && release.version.series() < (11, 6);
    if old { "latin1" } else { "utf8mb4" }
}

/// The character set that was likely meant.
fn near_set(name: &str, value: &str) -> Option<String> {
    let plain = value.to_ascii_lowercase().replace('-', "");
    // Whoever writes it so means all of it, not its older half.
    let plain = if plain == "utf8" { "utf8mb4".to_owned() } else { plain };
    let known = name.starts_with("character_set") && CHARACTER_SETS.contains(&plain.as_str());
    known.then_some(plain)
}

/// Character sets of both families.
const CHARACTER_SETS: &[&str] = &[
    "armscii8", "ascii", "big5", "binary", "cp1250", "cp1251", "cp1256", "cp1257", "cp850", "cp852", "cp866",
    "cp932", "dec8", "eucjpms", "euckr", "gb2312", "gb18030", "gbk", "geostd8", "greek", "hebrew", "hp8",
    "keybcs2", "koi8r", "koi8u", "latin1", "latin2", "latin5", "latin7", "macce", "macroman", "sjis", "swe7",
    "tis620", "ucs2", "ujis", "utf16", "utf16le", "utf32", "utf8", "utf8mb3", "utf8mb4",
];
/// Storage engines that are part of a server, and those that a package brings.
const ENGINES: &[&str] = &[
    "aria",
    "archive",
    "blackhole",
    "columnstore",
    "connect",
    "csv",
    "example",
    "federated",
    "federatedx",
    "heap",
    "innodb",
    "memory",
    "merge",
    "mrg_myisam",
    "mroonga",
    "myisam",
    "ndb",
    "ndbcluster",
    "oqgraph",
    "performance_schema",
    "rocksdb",
    "s3",
    "sequence",
    "sphinx",
    "spider",
    "tokudb",
];

/// What the server's own functions check at a start.
fn by_hand(name: &str, value: &str) -> Option<String> {
    let lower = value.to_ascii_lowercase();
    match name {
        // Of several with commas between, the first that there is counts.
        "character_set_server" | "character_set_filesystem" if value.contains(',') => None,
        "character_set_server" | "character_set_filesystem" => {
            (!CHARACTER_SETS.contains(&lower.as_str())).then(|| format!("{value} is not a character set"))
        }
        "collation_server" => {
            let known = |set: &str| {
                lower.strip_prefix(set).is_some_and(|rest| rest.is_empty() || rest.starts_with('_'))
            };
            let fits = CHARACTER_SETS.iter().any(|set| known(set));
            (!fits).then(|| format!("{value} is not a collation"))
        }
        "default_storage_engine" | "default_tmp_storage_engine" => {
            let known = ENGINES.contains(&lower.as_str()) || value.is_empty();
            (!known).then(|| format!("{value} is not a storage engine"))
        }
        "transaction_isolation" => {
            let levels = ["READ-UNCOMMITTED", "READ-COMMITTED", "REPEATABLE-READ", "SERIALIZABLE"];
            let index = value.parse::<usize>().is_ok_and(|n| n < levels.len());
            (!index && !is_one(&levels, value))
                .then(|| format!("{name} is \"{value}\", expected {}", levels.join(", ")))
        }
        "ft_boolean_syntax" => {
            (value.chars().count() != 14).then(|| format!("{name} is \"{value}\", expected its 14 signs"))
        }
        "replicate_do_table"
        | "replicate_ignore_table"
        | "replicate_wild_do_table"
        | "replicate_wild_ignore_table" => {
            (!value.contains('.')).then(|| format!("{name} is \"{value}\", expected DATABASE.TABLE"))
        }
        "lc_messages" | "lc_time_names" => {
            let mut parts = lower.splitn(2, '_');
            let is_code = |p: Option<&str>| {
                p.is_some_and(|p| {
                    (2..=9).contains(&p.len()) && p.bytes().next().is_some_and(|b| b.is_ascii_alphabetic())
                })
            };
            let fits = is_code(parts.next()) && is_code(parts.next());
            (!fits).then(|| format!("{value} is not a locale, expected one such as en_US"))
        }
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(line: &str, flavour: &str, version: &str) -> Option<Code> {
        let release = Release { flavour: flavour.into(), version: Version::parse(version).unwrap() };
        let (name, value) = line.split_once('=').map_or((line, None), |(name, value)| (name, Some(value)));
        judged(name, value, &release, true).0.map(|w| w.code)
    }

    /// Every expectation was asked of MariaDB 10.11.
    #[test]
    fn options_are_judged_as_the_server_does() {
        for line in [
            "port=3306",
            "port=",
            "Port=3306",
            "innodb_log_checksums=1",
            "plugin-innodb-trx=on",
            "enable-plugin-innodb-cmp",
            "autoset-host-cache-size",
            "s3=on",
            "port=3306k",
            "port=99999999",
            "max-connections=100",
            "max_connections=100",
            "skip-networking",
            "skip-networking=tide",
            "loose-tide-gauge=1",
            "innodb_buffer_pool_siz=1G",
            "slow-query-log",
            "slow_query_log=maybe",
            "binlog_format=row",
            "binlog_format=2",
            "binlog_format=mix",
            "sql_mode=",
            "sql_mode=STRICT_TRANS_TABLES,NO_ZERO_DATE",
            "optimizer_switch=mrr=on,index_merge=off",
            "skip-innodb-doublewrite",
            "server_audit_logging=on",
            "wsrep_OSU_method=RSU",
            "hot_cache.key_buffer_size=1M",
        ] {
            assert_eq!(of(line, "mariadb", "10.11"), None, "{line}");
        }
        for (line, code) in [
            ("prt=1", Code::ConfigUnknownDirective),
            ("port 3306", Code::ConfigUnknownDirective),
            ("max_conn=5", Code::ConfigUnknownDirective),
            ("mysqlx_port=33060", Code::ConfigUnknownDirective),
            ("port", Code::ConfigBadValue),
            ("port=x", Code::ConfigBadValue),
            ("port=-1", Code::ConfigBadValue),
            ("max_connections=99999999999999999999", Code::ConfigBadValue),
            ("binlog_format=tide", Code::ConfigBadValue),
            ("binlog_format=9", Code::ConfigBadValue),
            ("sql_mode=TIDE", Code::ConfigBadValue),
            ("optimizer_switch=tide=on", Code::ConfigBadValue),
            ("character_set_server=tide", Code::ConfigBadValue),
            ("collation_server=tide_ci", Code::ConfigBadValue),
            ("default_storage_engine=tide", Code::ConfigBadValue),
            ("long_query_time=x", Code::ConfigBadValue),
        ] {
            assert_eq!(of(line, "mariadb", "10.11"), Some(code), "{line}");
        }
        assert_eq!(of("mysqlx_port=33060", "mysql", "9.7"), None);
        assert_eq!(of("aria_block_size=8192", "mysql", "9.7"), Some(Code::ConfigUnknownDirective));
    }

    #[test]
    fn collations_belong_to_a_character_set() {
        for (set, collation, fits) in [
            ("utf8mb4", "utf8mb4_general_ci", true),
            ("utf8", "utf8mb3_bin", true),
            ("UTF8MB3", "utf8_bin", true),
            ("binary", "binary", true),
            ("utf8mb4", "utf8_bin", false),
            ("latin1", "utf8mb4_bin", false),
        ] {
            assert_eq!(collates(set, collation), fits, "{set} {collation}");
        }
    }

    #[test]
    fn releases_without_a_table_are_not_judged() {
        let of = |flavour: &str, version: &str| {
            release(&Release { flavour: flavour.into(), version: Version::parse(version).unwrap() })
        };
        for (flavour, version, known) in [
            ("mariadb", "10.11.6", true),
            ("mariadb", "10.6.1", true),
            ("mariadb", "10.3.39", false),
            ("mariadb", "12.0", false),
            ("mysql", "8.0.36", false),
            ("mysql", "9.7.4", true),
        ] {
            assert_eq!(of(flavour, version).is_some(), known, "{flavour} {version}");
        }
    }
}
