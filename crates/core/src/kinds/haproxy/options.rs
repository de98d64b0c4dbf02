//! Options of a line, in any order: of listeners and of servers (listener.c, server.c, check.c,
//! cfgparse-ssl.c).
use super::DIRECTIVES;
use super::acl::Wrong;
use super::address::{Allows, address};
use super::samples::{Known, Reference, places};
use super::tokens::Words;
use super::values;
use crate::config::rows::{Row, Type, fault};

/// Options that a line has.
#[derive(Debug, Default)]
pub(super) struct Options {
    /// Each with its first value, and the word that it is.
    pub(super) all: Vec<(&'static str, String, usize)>,
    /// What samples in them name.
    pub(super) refers: Vec<Reference>,
}

impl Options {
    /// Whether it is there.
    pub(super) fn has(&self, name: &str) -> bool {
        self.all.iter().any(|(n, ..)| *n == name)
    }
    /// The value of the last one of a name.
    pub(super) fn value(&self, name: &str) -> Option<&str> {
        self.all.iter().rev().find(|(n, ..)| *n == name).map(|(_, value, _)| value.as_str())
    }
}

/// The row of an option that the release knows.
fn row(known: Known, place: &str, name: &str) -> Option<&'static Row> {
    let bit = DIRECTIVES.place(place);
    DIRECTIVES.exact(name).iter().find(|row| row.places & bit != 0 && known.release.has(row))
}

/// How many words an option takes, where that is a number.
fn words_of(row: &Row) -> Option<usize> {
    let form = row.takes.first()?;
    if form.iter().any(|slot| slot.takes == Type::Raw) {
        return None;
    }
    Some(form.iter().map(|slot| usize::from(slot.most)).sum())
}

/// Reads the options from a word on.
pub(super) fn options(known: Known, place: &str, words: Words, from: usize) -> Result<Options, Wrong> {
    let mut found = Options::default();
    let mut at = from;
    while at < words.len() {
        let name = words.at(at).split('(').next().unwrap_or("");
        let Some(row) = row(known, place, name) else {
            let what = if place == "bind" { "a listener" } else { "a server" };
            let why = format!("\"{name}\" is not an option of {what}");
            return Err(Wrong::new(at, why).meant(nearest(place, name)));
        };
        let value_at = at + 1;
        match words_of(row) {
            Some(count) => {
                let behind = words.len().saturating_sub(value_at).min(count);
                // These read a number where nothing stands, too.
                let lenient =
                    matches!(name, "maxconn" | "minconn" | "maxqueue" | "weight") && place == "server";
                if behind < count && lenient {
                    break;
                }
                if behind < count {
                    return Err(Wrong::new(at, format!("{name} needs a value")));
                }
                if let Some(fault) = fault(row, count, |n| words.at(value_at + n)) {
                    let expected = match fault {
                        crate::config::rows::Fault::Word { expected, .. }
                        | crate::config::rows::Fault::Count { expected, .. } => expected,
                    };
                    let why =
                        format!("\"{}\" is not a value of {name}, expected {expected}", words.at(value_at));
                    return Err(Wrong::new(value_at, why));
                }
                by_hand(known, name, words, value_at, &mut found)?;
                found.all.push((row.name, words.at(value_at).to_owned(), at));
                at = value_at + count;
            }
            None => {
                at = source(name, words, value_at)?;
                found.all.push((row.name, words.at(value_at).to_owned(), value_at - 1));
            }
        }
    }
    Ok(found)
}

/// `source ADDRESS [usesrc X] [interface NAME]`; of another one only its first value is known.
fn source(name: &str, words: Words, from: usize) -> Result<usize, Wrong> {
    if words.at(from).is_empty() {
        return Err(Wrong::new(from - 1, format!("{name} needs a value")));
    }
    if name != "source" {
        return Ok(from + 1);
    }
    let allows = Allows { port: true, range: true, stream: true, later: true, ..Allows::default() };
    address(words.at(from), allows).map_err(|why| Wrong::new(from, why))?;
    let mut at = from + 1;
    while matches!(words.at(at), "usesrc" | "interface") {
        if words.at(at + 1).is_empty() {
            return Err(Wrong::new(at, format!("{} needs a value", words.at(at))));
        }
        at += 2;
    }
    Ok(at)
}

/// What no row says of a value.
fn by_hand(known: Known, name: &str, words: Words, at: usize, found: &mut Options) -> Result<(), Wrong> {
    let value = words.at(at);
    let wrong = |why: String| Err(Wrong::new(at, why));
    match name {
        "sni" => {
            let mut end = 0;
            let one = Words(&words.0[at..=at]);
            let sample = known.expression(one, &mut end).map_err(|why| Wrong::new(at, why))?;
            if sample.places & places::SERVER_CONNECTION == 0 {
                return wrong(format!("{} cannot be known here", sample.name));
            }
            found.refers.extend(sample.refers);
        }
        "init-addr" => {
            let known = |part: &str| {
                matches!(part, "libc" | "last" | "none") || part.parse::<std::net::IpAddr>().is_ok()
            };
            if let Some(part) = value.split(',').find(|part| !known(part)) {
                return wrong(format!(
                    "\"{part}\" is not a method of init-addr, expected libc, last or none"
                ));
            }
        }
        "proto" | "check-proto" if !matches!(value, "h1" | "h2" | "fcgi" | "none" | "quic" | "spop") => {
            return wrong(format!("\"{value}\" is not a protocol, expected h1, h2 or fcgi"));
        }
        "mode" if value.is_empty() || !value.bytes().all(|b| (b'0'..=b'7').contains(&b)) => {
            return wrong(format!("\"{value}\" is not a mode in octal digits"));
        }
        "proxy-v2-options" => {
            let known =
                ["ssl", "cert-cn", "cert-key", "cert-sig", "ssl-cipher", "authority", "crc32c", "unique-id"];
            if let Some(part) = value.split(',').find(|part| !known.contains(part)) {
                return wrong(format!("\"{part}\" is not an option of the second proxy protocol"));
            }
        }
        "resolve-opts" => {
            let known = ["allow-dup-ip", "ignore-weight", "prevent-dup-ip"];
            if let Some(part) = value.split(',').find(|part| !known.contains(part)) {
                return wrong(format!("\"{part}\" is not an option of resolving"));
            }
        }
        "socks4" => {
            let allows =
                Allows { port: true, port_needed: true, stream: true, later: true, ..Allows::default() };
            address(value, allows).map_err(|why| Wrong::new(at, why))?;
        }
        "mss" if values::leading(value) == 0 => return wrong("a segment has 1 to 65535 bytes".to_owned()),
        "shards"
            if value != "by-thread" && value != "by-group" && !(1..=64).contains(&values::leading(value)) =>
        {
            return wrong(format!("\"{value}\" is not a number of shards, expected 1 to 64 or by-thread"));
        }
        _ => {}
    }
    Ok(())
}

/// The name of an option that is spelt nearly like this one.
fn nearest(place: &str, name: &str) -> Option<&'static str> {
    let bit = DIRECTIVES.place(place);
    let all = DIRECTIVES.all().filter(|row| row.places & bit != 0).map(|row| row.name);
    crate::config::nearest(name, all)
}

#[cfg(test)]
mod tests {
    use super::super::samples::Installed;
    use super::super::tokens::Word;
    use super::*;

    fn of(place: &str, line: &str) -> Result<Options, usize> {
        let words: Vec<Word> = line
            .split_whitespace()
            .map(|raw| Word { value: raw.to_owned(), raw, open: false, masked: false })
            .collect();
        options(Known { release: &Installed::default(), scripts: false }, place, Words(&words), 0)
            .map_err(|w| w.at)
    }

    #[test]
    fn options_stand_in_any_order_with_their_values() {
        let server = of(
            "server",
            "check inter 2s fall 3 ssl verify none weight 10 source 0.0.0.0 usesrc client backup",
        );
        let server = server.unwrap();
        assert!(server.has("backup") && server.has("ssl") && !server.has("disabled"));
        assert_eq!((server.value("inter"), server.value("verify")), (Some("2s"), Some("none")));
        assert!(of("bind", "ssl crt /a.pem alpn h2,http/1.1 mode 0660 nice -5").is_ok());
        for (place, line, at) in [
            ("server", "chek", 0),
            ("server", "check inter", 1),
            ("server", "inter 2x", 1),
            ("server", "weight 300", 1),
            ("server", "check verify maybe", 2),
            ("server", "init-addr tide", 1),
            ("server", "sni tide", 1),
            ("server", "observe layer5", 1),
            ("bind", "mode 99", 1),
            ("bind", "check", 0),
            ("bind", "verify", 0),
            ("bind", "ssl-min-ver TLSv1.4", 1),
        ] {
            assert_eq!(of(place, line).map(|_| ()), Err(at), "{place} {line}");
        }
    }
}
