//! `cargo xtask harvest haproxy VERSION=DUMP…`: what haproxy lists of itself (`haproxy -dKall -q -c -f
//! /dev/null`) of several releases becomes the table of samples, converters and names of lists.
use regex::Regex;
use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::fs;

const TARGET: &str = "crates/core/src/kinds/haproxy/samples.tsv";
const HEAD: &str = "\
# Names that samples are taken by (f), turned by (c) and compared by (a), sorted: what they take, what comes
# of it, where they may be used (bits in the order of the daemon's own list of places), and in which releases
# they are. Written by `cargo xtask harvest haproxy VERSION=DUMP…` from what the daemon lists of itself
# (`haproxy -dKall`).
";

/// What a name takes, what comes of it, and where it may be used.
type Entry = [String; 3];
/// By what it is and its name.
type Names = BTreeMap<(char, String), Entry>;

/// Arguments as the table spells them.
fn takes(signature: &str) -> String {
    let inner = signature.trim_start_matches('(').trim_end_matches(')');
    let short =
        [("integer", "int"), ("string", "str"), ("IPv4 mask", "mask4"), ("IPv6 mask", "mask6"), (" ", "_")];
    let spelt = short.iter().fold(inner.to_owned(), |text, (long, short)| text.replace(long, short));
    if spelt.is_empty() { "-".to_owned() } else { spelt }
}

/// The names of one dump.
fn names(dump: &str) -> Result<Names, String> {
    let pattern = |text: &str| Regex::new(text).map_err(|e| e.to_string());
    let list = pattern(r"^(\S+) = (\S+) -m (\S+)$")?;
    let converter = pattern(r"^([^(:]+)(\(.*\))?: (\S+) => (\S+)$")?;
    let sample = pattern(r"^\[ ((?:[Y.] )+)\] ([^(:]+)(\(.*\))?: (\S+)$")?;
    let mut found = Names::new();
    let mut part = "";
    for line in dump.lines() {
        if let Some(title) = line.strip_prefix("# List of registered ") {
            part = title.trim_end_matches(':');
            continue;
        }
        let group = |c: &regex::Captures, n: usize| c.get(n).map_or(String::new(), |m| m.as_str().to_owned());
        match part {
            "ACL keywords" => {
                if let Some(c) = list.captures(line) {
                    found.insert(('a', group(&c, 1)), [group(&c, 2), group(&c, 3), "-".to_owned()]);
                }
            }
            "sample converter functions" => {
                if let Some(c) = converter.captures(line) {
                    let turns = format!("{}>{}", group(&c, 4), group(&c, 3));
                    found.insert(('c', group(&c, 1)), [takes(&group(&c, 2)), turns, "-".to_owned()]);
                }
            }
            "sample fetch functions" => {
                if let Some(c) = sample.captures(line) {
                    let bits = group(&c, 1);
                    let yes = bits.split_whitespace().enumerate().filter(|(_, sign)| *sign == "Y");
                    let mask = yes.fold(0u32, |sum, (at, _)| sum | 1 << at);
                    found.insert(
                        ('f', group(&c, 2)),
                        [takes(&group(&c, 3)), group(&c, 4), format!("{mask:x}")],
                    );
                }
            }
            _ => {}
        }
    }
    if found.len() < 100 { Err("that is not a list of a daemon's keywords".to_owned()) } else { Ok(found) }
}

/// Writes the table; the dumps are given from the oldest release to the newest.
pub(crate) fn run(dumps: &[&str]) -> Result<(), String> {
    let mut all: Vec<(&str, Names)> = Vec::new();
    for dump in dumps {
        let (version, file) = dump.split_once('=').ok_or("each dump is VERSION=FILE")?;
        let text = fs::read_to_string(file).map_err(|e| format!("{file}: {e}"))?;
        all.push((version, names(&text).map_err(|e| format!("{file}: {e}"))?));
    }
    let text = table(&all);
    fs::write(TARGET, text).map_err(|e| format!("{TARGET}: {e}"))
}

fn table(all: &[(&str, Names)]) -> String {
    let mut newest = Names::new();
    for (_, names) in all {
        newest.extend(names.iter().map(|(key, entry)| (key.clone(), entry.clone())));
    }
    let mut out = HEAD.to_owned();
    for (key, [takes, gives, places]) in newest {
        let has = |(_, names): &&(&str, Names)| names.contains_key(&key);
        let first = all.iter().position(|one| has(&one)).unwrap_or(0);
        let gone = all.iter().skip(first).find(|one| !has(one)).map_or("", |(version, _)| version);
        let releases = match (first, gone) {
            (0, "") => "*".to_owned(),
            (at, to) => format!("haproxy:{}-{to}", all[at].0),
        };
        let _ = writeln!(out, "{}\t{}\t{takes}\t{gives}\t{places}\t{releases}", key.0, key.1);
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_told_apart_by_release() {
        let entry = |gives: &str| ["-".to_owned(), gives.to_owned(), "ff".to_owned()];
        let of = |names: &[&str]| -> Names {
            names.iter().map(|n| (('f', (*n).to_owned()), entry("str"))).collect()
        };
        let text = table(&[("2.6", of(&["ebb", "neap"])), ("3.0", of(&["ebb", "flood"]))]);
        let lines: Vec<&str> = text.lines().filter(|l| !l.starts_with('#')).collect();
        assert_eq!(
            lines,
            [
                "f\tebb\t-\tstr\tff\t*",
                "f\tflood\t-\tstr\tff\thaproxy:3.0-",
                "f\tneap\t-\tstr\tff\thaproxy:2.6-3.0"
            ]
        );
        assert_eq!((takes("(integer[,IPv4 mask])"), takes("")), ("int[,mask4]".to_owned(), "-".to_owned()));
        assert!(names("nothing").is_err());
    }
}
