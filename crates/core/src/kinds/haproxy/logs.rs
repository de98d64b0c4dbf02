//! Where log lines go, and what they look like (log.c).
use super::acl::Wrong;
use super::address::{Allows, address};
use super::format::format;
use super::rules::LEVELS;
use super::samples::places;
use super::servers::must_resolve;
use super::state::{At, Format, Named, Reader};
use super::tokens::Words;
use super::values;

/// Facilities of log lines (RFC 5424).
const FACILITIES: &[&str] = &[
    "kern", "user", "mail", "daemon", "auth", "syslog", "lpr", "news", "uucp", "cron", "auth2", "ftp", "ntp",
    "audit", "alert", "cron2", "local0", "local1", "local2", "local3", "local4", "local5", "local6",
    "local7",
];
/// Forms of log lines.
const FORMS: &[&str] = &["local", "rfc3164", "rfc5424", "priority", "short", "timed", "iso", "raw"];

type Read = Result<(), Wrong>;

/// `log TARGET [len N] [format F] [sample R:N] FACILITY [LEVEL [LEVEL]]`.
pub(super) fn log(reader: &Reader, words: Words) -> Read {
    if words.len() == 2 && words.at(1) == "global" && reader.section != "global" {
        return Ok(());
    }
    if words.at(1).is_empty() || words.at(2).is_empty() {
        return Err(Wrong::new(0, "log needs an address and a facility"));
    }
    let target = words.at(1);
    let ring = target.starts_with("ring@") || target.starts_with("backend@");
    if !matches!(target, "stdout" | "stderr") && !ring {
        let allows = Allows::LOG;
        address(target, allows).map_err(|why| Wrong::new(1, why))?;
    }
    let mut at = 2;
    loop {
        match words.at(at) {
            "len" if !(80..=65535).contains(&values::leading(words.at(at + 1))) => {
                return Err(Wrong::new(at + 1, "the length of a log line is a number from 80 to 65535"));
            }
            "format" if !FORMS.contains(&words.at(at + 1)) => {
                return Err(Wrong::new(
                    at + 1,
                    format!("\"{}\" is not a form of log lines", words.at(at + 1)),
                ));
            }
            "sample" if !words.at(at + 1).contains(':') => {
                return Err(Wrong::new(at + 1, "a sample of log lines is RANGES:SIZE"));
            }
            "len" | "format" | "sample" | "profile" => at += 2,
            _ => break,
        }
    }
    if !FACILITIES.contains(&words.at(at)) {
        return Err(Wrong::new(at, format!("\"{}\" is not a facility of log lines", words.at(at))));
    }
    for level in [at + 1, at + 2] {
        if !words.at(level).is_empty() && !LEVELS[1..].contains(&words.at(level)) {
            return Err(Wrong::new(level, format!("\"{}\" is not a level of log lines", words.at(level))));
        }
    }
    match words.at(at + 3) {
        "" => Ok(()),
        more => Err(Wrong::new(at + 3, format!("{more} is not allowed here"))),
    }
}

/// The host that log lines are sent to must resolve.
pub(super) fn log_host(reader: &mut Reader, at: At) {
    let target = Words(at.words).at(1);
    let elsewhere = matches!(target, "global" | "stdout" | "stderr") || target.contains('@');
    let allows = Allows::LOG;
    if !elsewhere && let Ok(to) = address(target, allows) {
        must_resolve(reader, at, to);
    }
}

/// Logs of the whole server.
pub(super) fn global_log(reader: &mut Reader, at: At) -> Read {
    log(reader, Words(at.words))?;
    log_host(reader, at);
    let entry = super::entry_of(at, reader);
    super::sends(reader.book, &entry);
    Ok(())
}

/// `email-alert …`.
pub(super) fn email(reader: &mut Reader, at: At) -> Read {
    let words = Words(at.words);
    let value = words.at(2);
    match words.at(1) {
        "from" | "mailers" | "myhostname" | "to" if value.is_empty() => {
            Err(Wrong::new(1, format!("{} needs a value", words.at(1))))
        }
        "level" if !LEVELS[1..].contains(&value) => {
            Err(Wrong::new(2, format!("\"{value}\" is not a level of log lines")))
        }
        "mailers" => {
            let named = Named { name: value.to_owned(), place: at.place(0) };
            if let Some(proxy) = reader.proxy() {
                proxy.mailers = Some(named);
            }
            Ok(())
        }
        "from" | "myhostname" | "to" | "level" => Ok(()),
        other => {
            Err(Wrong::new(1.min(words.len() - 1), format!("\"{other}\" is not a setting of email-alert")))
        }
    }
}

/// The formats of a section, its own and those of its defaults, once everything is read.
pub(super) fn formats(reader: &mut Reader, n: usize) {
    for one in reader.proxies[n].formats.clone() {
        let place = match one.directive {
            "unique-id-format" => places::FRONT_REQUEST,
            _ => places::LOG,
        };
        let wrong = format(reader.known(), &one.text, place).err();
        // Many sections may have taken it over.
        if let Some(why) = wrong.filter(|_| reader.told.insert((one.place.file.clone(), one.place.line))) {
            reader.late(&one.place, one.directive, why);
        }
    }
}

/// Notes a format of a section.
pub(super) fn note(reader: &mut Reader, n: usize, at: At) {
    const ALL: &[&str] = &["log-format", "log-format-sd", "error-log-format", "unique-id-format"];
    let words = Words(at.words);
    if let Some(directive) = ALL.iter().find(|d| **d == words.at(0)) {
        let proxy = &mut reader.proxies[n];
        proxy.formats.retain(|f| f.directive != *directive);
        proxy.formats.push(Format { directive, text: words.at(1).to_owned(), place: at.place(0) });
    }
}
