//! What Redis says of a line of its configuration (`loadServerConfigFromString` of its config.c): is there
//! such a directive, has it as many words as it takes, and is each of its kind. Where no release is known
//! that the table stands for, nothing is said.
use super::Redis;
use crate::code::Code;
use crate::config::entries::Book;
use crate::config::lines::{Line, Text, Word, WordRules, words};
use crate::config::nearest;
use crate::config::release::Release;
use crate::config::rows::{Fate, Fault, Int, Row, Type, fault, near_value};
use crate::kinds::Kind;

/// Names that are written with an underscore; all others have dashes.
const UNDERSCORED: &[&str] = &["server_cpulist", "bio_cpulist", "aof_rewrite_cpulist", "bgsave_cpulist"];
/// Directives that take several words, which may stand in quotes as one.
const SEVERAL: &[&str] = &[
    "save",
    "client-output-buffer-limit",
    "oom-score-adj-values",
    "bind",
    "replicaof",
    "slaveof",
    "latency-tracking-info-percentiles",
    "shutdown-on-sigint",
    "shutdown-on-sigterm",
];

/// Whether the table stands for a release: its fork has words of its own, and a newer one may have.
pub(super) fn is_known(release: &Release) -> bool {
    let beyond = Redis.directives().is_none_or(|rows| rows.is_beyond(Some(release)));
    release.flavour == "redis" && release.version.major() >= 6 && !beyond
}

/// What is wrong with a line, at which word, counted from 0.
struct Wrong(usize, Code, String);

/// Judges a line; whether it may be read on. `release` is the one that is known to stand behind the table.
pub(super) fn line(
    book: &mut Book,
    text: &Text,
    line: &Line,
    split: &[Word],
    release: Option<&Release>,
) -> bool {
    let all: Vec<&str> = split.iter().map(|w| w.value.as_str()).collect();
    let Some(Wrong(at, code, why)) = release.and_then(|release| wrong(&all, release)) else { return true };
    // What was masked when it was recorded nobody here knows.
    if all.iter().skip(1).any(|w| w.contains(crate::secrets::MASK)) && code != Code::ConfigUnknownDirective {
        return true;
    }
    let raw = split.get(at).or(split.last()).map_or(line.text, |w| w.raw);
    let place = text.place(line, raw);
    let near = match (code, all.get(at)) {
        _ if !book.is_early() => None,
        (Code::ConfigUnknownDirective, _) => near(all[0], release),
        (_, Some(value)) if at == 1 && all.len() == 2 => near_value_of(all[0], value, release),
        _ => None,
    };
    let span = text.span(line, raw);
    book.refuse(&place, all[0], code, why).meant(span, near);
    false
}

/// The value that was likely meant.
fn near_value_of(name: &str, value: &str, release: Option<&Release>) -> Option<String> {
    let rows = Redis.directives()?;
    near_value(rows.known(&name.replace('-', "_"), release)?, value)
}

/// The directive that was likely meant.
fn near(name: &str, release: Option<&Release>) -> Option<String> {
    let rows = Redis.directives()?;
    let known = rows.all().filter(|row| rows.fate(row, release) != Fate::Gone);
    let names: Vec<String> = known.map(|row| row.name.replace('_', "-")).collect();
    nearest(&name.to_ascii_lowercase(), names.iter().map(String::as_str)).map(str::to_owned)
}

fn wrong(all: &[&str], release: &Release) -> Option<Wrong> {
    let name = all[0].to_ascii_lowercase();
    let values = &all[1..];
    let rows = Redis.directives()?;
    let known = |row: &&Row| rows.fate(row, Some(release)) != Fate::Gone;
    let spelled = !name.contains('_') || UNDERSCORED.contains(&name.as_str());
    let row = rows.any_case(&name.replace('-', "_")).iter().filter(|_| spelled).find(known);
    // What a module reads is not known before it is loaded.
    if row.is_none() && name.contains('.') {
        return values.is_empty().then(|| Wrong(0, Code::ConfigBadValue, format!("{name} takes a value")));
    }
    let Some(row) = row else {
        let why = format!("{name} is not a directive of Redis");
        return Some(Wrong(0, Code::ConfigUnknownDirective, why));
    };
    // Several words in one pair of quotes are several words, since 7.0.
    let inner;
    let mut own: Vec<&str> = values.to_vec();
    if let [one] = values
        && SEVERAL.contains(&name.as_str())
        && !one.is_empty()
        && release.version.major() >= 7
    {
        let rules = WordRules { escapes: false, comments: false, inner_quotes: false };
        inner = words(one, rules).unwrap_or_default();
        own = inner.iter().map(|w| w.value.as_str()).collect();
    }
    if let Some(fault) = fault(row, own.len(), |at| own[at]) {
        return Some(match fault {
            Fault::Count { found, expected } => {
                let code = Code::ConfigBadValue;
                Wrong(values.len().min(1), code, format!("{name} takes {expected} values, not {found}"))
            }
            Fault::Word { at, expected } => {
                let why = format!("{name} is \"{}\", expected {expected}", own[at]);
                Wrong(at + 1, Code::ConfigBadValue, why)
            }
        });
    }
    // A number has no zeros before it (`string2ll`).
    if let (Some(Type::Int(_)), [one]) = (row.first(), own.as_slice())
        && one.trim_start_matches('-').starts_with('0')
        && one.trim_start_matches('-').len() > 1
    {
        return Some(Wrong(1, Code::ConfigBadValue, format!("{name} is \"{one}\", expected a plain number")));
    }
    by_hand(&name, &own).map(|(at, why)| Wrong(at + 1, Code::ConfigBadValue, why))
}

/// What its own functions check, with the word that is wrong.
fn by_hand(name: &str, own: &[&str]) -> Option<(usize, String)> {
    let number = |word: &str| {
        let text = word.trim_start();
        let digits = text.strip_prefix(['-', '+']).unwrap_or(text);
        let plain = !digits.is_empty() && digits.bytes().all(|b| b.is_ascii_digit());
        plain.then(|| text.parse::<i128>().unwrap_or(i128::MAX))
    };
    match name {
        "save" if own == [""] => None,
        "save" if own.len() % 2 == 1 => Some((0, "save takes pairs of seconds and changes".into())),
        "save" => own.iter().enumerate().find_map(|(at, word)| {
            let least = if at % 2 == 0 { 1 } else { 0 };
            let fits = number(word).is_some_and(|n| n >= least);
            (!fits).then(|| (at, format!("save has \"{word}\", expected a number of at least {least}")))
        }),
        "client-output-buffer-limit" if !own.len().is_multiple_of(4) => {
            Some((0, "client-output-buffer-limit takes a class, two limits and seconds".into()))
        }
        "client-output-buffer-limit" => own.chunks(4).enumerate().find_map(|(chunk, four)| {
            let class =
                ["normal", "slave", "replica", "pubsub"].iter().any(|c| c.eq_ignore_ascii_case(four[0]));
            let seconds = number(four[3]).is_some_and(|n| (0..=i128::from(i64::MAX)).contains(&n));
            match (class, seconds) {
                (false, _) => Some((chunk * 4, format!("\"{}\" is not a class of clients", four[0]))),
                (true, false) => Some((chunk * 4 + 3, format!("\"{}\" is not a number of seconds", four[3]))),
                _ => None,
            }
        }),
        "notify-keyspace-events" => {
            let wrong = own.first()?.chars().find(|c| !"KEg$lshzxetdmAn".contains(*c))?;
            Some((0, format!("\"{wrong}\" is not a class of events")))
        }
        "dbfilename" | "appendfilename" | "appenddirname" if own.first()?.contains(['/', '\\']) => {
            Some((0, format!("{name} is a name without a directory")))
        }
        "replicaof" | "slaveof" if own.len() == 2 => {
            let none = own[0].eq_ignore_ascii_case("no") && own[1].eq_ignore_ascii_case("one");
            let port = number(own[1]).is_some_and(|n| (0..=65535).contains(&n));
            (!none && !port).then(|| (1, format!("\"{}\" is not a port", own[1])))
        }
        "oom-score-adj-values" if own.len() != 3 => {
            Some((0, format!("{name} takes 3 values, not {}", own.len())))
        }
        "oom-score-adj-values" => own.iter().enumerate().find_map(|(at, word)| {
            let fits = number(word).is_some_and(|n| (-2000..=2000).contains(&n));
            (!fits).then(|| (at, format!("\"{word}\" is not a number from -2000 to 2000")))
        }),
        "latency-tracking-info-percentiles" if own != [""] => {
            own.iter().enumerate().find_map(|(at, word)| {
                let share = word.trim_start().parse::<f64>().is_ok_and(|n| (0.0..=100.0).contains(&n));
                (!share).then(|| (at, format!("\"{word}\" is not a number from 0 to 100")))
            })
        }
        "maxmemory-clients" => {
            let one = *own.first()?;
            let share = one.strip_suffix('%').and_then(&number).is_some_and(|n| (0..=100).contains(&n));
            let memory = Type::Memory(Int { least: Some(0), most: None }).holds(one);
            (!share && !memory).then(|| (0, format!("\"{one}\" is neither a number of bytes nor a share")))
        }
        "unixsocketperm" => {
            let one = *own.first()?;
            let mode = u32::from_str_radix(one, 8).is_ok_and(|n| n <= 0o777);
            (!mode).then(|| (0, format!("\"{one}\" is not a mode in octal digits")))
        }
        "bind" if own.len() > 16 => Some((16, "at most 16 addresses are bound".into())),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::config::release::Version;

    fn release(version: &str) -> Release {
        Release { flavour: "redis".into(), version: Version::parse(version).unwrap() }
    }

    /// The word that is wrong in a line; every expectation was asked of the daemon (7.0.15).
    fn at(line: &str, version: &str) -> Option<usize> {
        let rules = WordRules { escapes: false, comments: false, inner_quotes: false };
        let split = words(line, rules).unwrap();
        let all: Vec<&str> = split.iter().map(|w| w.value.as_str()).collect();
        wrong(&all, &release(version)).map(|w| w.0)
    }

    #[test]
    fn lines_that_the_daemon_takes_are_taken() {
        for line in [
            "timeout 0",
            "TIMEOUT 5",
            "daemonize YES",
            "maxmemory 64mb",
            "maxmemory \"\"",
            "save \"\"",
            "save 900 1 300 10",
            "save \"900 1\"",
            "client-output-buffer-limit replica 256mb 64mb 60",
            "bind abc",
            "bind",
            "replicaof no one",
            "replicaof quay2 6379",
            "notify-keyspace-events KEA",
            "notify-keyspace-events \"\"",
            "maxmemory-clients 5%",
            "slave-read-only yes",
            "list-max-ziplist-size -2",
            "tide.gauge on",
            "unixsocketperm 700",
            "latency-tracking-info-percentiles 50 99.9",
            "shutdown-on-sigterm \"save now\"",
            "appendfsync Always",
        ] {
            assert_eq!(at(line, "7.0.15"), None, "{line}");
        }
    }

    #[test]
    fn lines_that_it_refuses_are_refused_at_their_word() {
        for (line, wanted) in [
            ("tide-gauge on", 0),
            ("time_out 5", 0),
            ("timeout", 0),
            ("timeout 1 2", 1),
            ("timeout yes", 1),
            ("timeout 007", 1),
            ("timeout -1", 1),
            ("timeout 2147483648", 1),
            ("daemonize on", 1),
            ("maxmemory 5x", 1),
            ("appendfsync sometimes", 1),
            ("save 900", 1),
            ("save 0 1", 1),
            ("client-output-buffer-limit replica 1 2", 1),
            ("client-output-buffer-limit gull 1 2 3", 1),
            ("notify-keyspace-events Kq", 1),
            ("replicaof quay2 70000", 2),
            ("dbfilename a/b", 1),
            ("tide.gauge", 0),
            ("oom-score-adj-values 1 2", 1),
            ("unixsocketperm 999", 1),
            ("latency-tracking-info-percentiles 50 101", 2),
        ] {
            assert_eq!(at(line, "7.0.15"), Some(wanted), "{line}");
        }
        // What came or went with a release.
        assert!(
            at("latency-tracking yes", "6.0.16").is_some() && at("latency-tracking yes", "8.0.2").is_none()
        );
        assert!(at("gopher-enabled yes", "6.0.16").is_none() && at("gopher-enabled yes", "7.0.15").is_some());
        assert_eq!(near("timeuot", Some(&release("7.0.15"))).as_deref(), Some("timeout"));
        assert!(is_known(&release("7.0.15")) && !is_known(&release("9.1.0")) && !is_known(&release("5.0.3")));
    }
}
