//! Lines of the sections that hold no proxies (cfgparse.c, resolvers.c, cache.c, fcgi-app.c, sink.c, log.c,
//! mworker-prog.c).
use super::acl::{self, Wrong};
use super::address::{Allows, address};
use super::logs::{self, log};
use super::options::options;
use super::state::{At, Named, Reader};
use super::tables::table;
use super::tokens::Words;
use super::values::{self, Unit};
use crate::code::Code;
use crate::config::regex_fault;
use crate::config::{About, DependsOn};
use std::collections::BTreeSet;

type Read = Result<(), Wrong>;

/// An account or a group that a line names must be there.
fn account(reader: &mut Reader, at: At, word: usize, group: bool) {
    let name = at.words.get(word).map_or("", |w| w.value.as_str()).to_owned();
    let gone = match group {
        true => crate::accounts::group(reader.book.snapshot, &name).is_absent(),
        false => crate::accounts::account(reader.book.snapshot, &name).is_absent(),
    };
    if gone {
        let what = if group { "group" } else { "account" };
        let found = reader.fault(at, word, Code::AccountMissing, &format!("{what} {name} does not exist"));
        found.depends_on = DependsOn::Accounts;
        found.about = Some(if group { About::Group(name) } else { About::Account(name) });
    }
}

/// One line of such a section.
pub(super) fn line(reader: &mut Reader, at: At, negated: bool) -> Read {
    match reader.section {
        "userlist" => users(reader, at),
        "peers" => peers(reader, at),
        "mailers" => named_address(at, "mailer"),
        "resolvers" => resolvers(reader, at),
        "program" => {
            match at.words.first().map_or("", |w| w.value.as_str()) {
                "user" => account(reader, at, 1, false),
                "group" => account(reader, at, 1, true),
                _ => {}
            }
            Ok(())
        }
        "http-errors" => {
            let words = Words(at.words);
            reader.must_be_there(at, 2, words.at(2));
            Ok(())
        }
        "ring" => ring(reader, at),
        "fcgi-app" => application(reader, at, negated),
        "log-forward" => forward(reader, at),
        "global" => global(reader, at, negated),
        _ => Ok(()),
    }
}

/// Users and groups.
fn users(reader: &mut Reader, at: At) -> Read {
    let words = Words(at.words);
    let name = words.at(1).to_owned();
    if name.is_empty() {
        return Err(Wrong::new(0, format!("{} needs a name", words.at(0))));
    }
    let place = at.place(0);
    let list = reader.lists_of_users.entry(reader.named.clone()).or_default();
    let named = |of: &str| -> Vec<Named> {
        of.split(',')
            .filter(|n| !n.is_empty())
            .map(|n| Named { name: n.to_owned(), place: place.clone() })
            .collect()
    };
    if words.at(0) == "group" {
        if let Some(sign) = values::bad_sign(&name) {
            return Err(Wrong::new(1, format!("\"{sign}\" is not allowed in the name of a group")));
        }
        list.groups.insert(name);
        let mut next = 2;
        while next < words.len() {
            if words.at(next) != "users" {
                return Err(Wrong::new(
                    next,
                    format!("{} is not allowed here, expected users", words.at(next)),
                ));
            }
            list.wants_users.extend(named(words.at(next + 1)));
            next += 2;
        }
        return Ok(());
    }
    list.users.insert(name);
    let mut next = 2;
    while next < words.len() {
        match words.at(next) {
            "password" | "insecure-password" => {}
            "groups" => list.wants_groups.extend(named(words.at(next + 1))),
            other => {
                return Err(Wrong::new(
                    next,
                    format!("{other} is not allowed here, expected password or groups"),
                ));
            }
        }
        next += 2;
    }
    Ok(())
}

/// `mailer` and others: a name, an address.
fn named_address(at: At, directive: &str) -> Read {
    let words = Words(at.words);
    if words.at(0) != directive {
        return Ok(());
    }
    if let Some(sign) = values::bad_sign(words.at(1)) {
        return Err(Wrong::new(1, format!("\"{sign}\" is not allowed in a name")));
    }
    let allows = Allows { port: true, port_needed: directive == "mailer", stream: true, ..Allows::default() };
    address(words.at(2), allows).map(drop).map_err(|why| Wrong::new(2, why))
}

fn resolvers(reader: &mut Reader, at: At) -> Read {
    let words = Words(at.words);
    match words.at(0) {
        "nameserver" => {
            if let Some(sign) = values::bad_sign(words.at(1)) {
                return Err(Wrong::new(1, format!("\"{sign}\" is not allowed in a name")));
            }
            let allows =
                Allows { port: true, port_needed: true, stream: true, datagram: true, ..Allows::default() };
            address(words.at(2), allows).map_err(|why| Wrong::new(2, why))?;
            let key = ("nameserver", format!("{} {}", reader.named, words.at(1)));
            if let Some(first) = reader.sections.get(&key) {
                let why = format!("a nameserver named {} was defined at line {}", words.at(1), first.line);
                return Err(Wrong::new(1, why));
            }
            reader.sections.insert(key, at.place(0));
            Ok(())
        }
        "hold" if !matches!(words.at(1), "nx" | "other" | "refused" | "timeout" | "valid" | "obsolete") => {
            Err(Wrong::new(1, format!("\"{}\" is not a kind of answer to hold", words.at(1))))
        }
        "parse-resolv-conf" => {
            reader.must_be_there(at, 0, "/etc/resolv.conf");
            Ok(())
        }
        _ => Ok(()),
    }
}

fn peers(reader: &mut Reader, at: At) -> Read {
    let words = Words(at.words);
    match words.at(0) {
        "peer" | "server" => {
            if let Some(sign) = values::bad_sign(words.at(1)) {
                return Err(Wrong::new(1, format!("\"{sign}\" is not allowed in a name")));
            }
            let bare = words.at(2).is_empty();
            if !bare {
                let allows = Allows::SOCKET;
                address(words.at(2), allows).map_err(|why| Wrong::new(2, why))?;
                options(reader.known(), "server", words, 3)?;
            }
            Ok(())
        }
        "bind" if words.len() == 1 => Ok(()),
        "bind" => {
            let allows = Allows::SOCKET;
            address(words.at(1), allows).map_err(|why| Wrong::new(1, why))?;
            options(reader.known(), "bind", words, 2).map(drop)
        }
        "table" => {
            if words.at(1).is_empty() {
                return Err(Wrong::new(0, "table needs a name"));
            }
            table(words, 2, true)?;
            let key = ("table", format!("{}/{}", reader.named, words.at(1)));
            reader.sections.insert(key, at.place(0));
            Ok(())
        }
        "default-server" => options(reader.known(), "server", words, 1).map(drop),
        "default-bind" => options(reader.known(), "bind", words, 1).map(drop),
        "log" => log(reader, words),
        _ => Ok(()),
    }
}

fn ring(reader: &mut Reader, at: At) -> Read {
    let words = Words(at.words);
    match words.at(0) {
        "size" if values::leading(words.at(1)) <= 0 => {
            Err(Wrong::new(1, "a ring needs a size greater than 0"))
        }
        "format"
            if !matches!(
                words.at(1),
                "local" | "rfc3164" | "rfc5424" | "priority" | "short" | "timed" | "iso" | "raw"
            ) =>
        {
            Err(Wrong::new(1, format!("\"{}\" is not a form of log lines", words.at(1))))
        }
        "server" => {
            if words.at(2).is_empty() {
                return Err(Wrong::new(words.len() - 1, "server needs a name and an address"));
            }
            let allows = Allows::SERVER;
            address(words.at(2), allows).map_err(|why| Wrong::new(2, why))?;
            options(reader.known(), "server", words, 3).map(drop)
        }
        _ => Ok(()),
    }
}

fn application(reader: &mut Reader, at: At, negated: bool) -> Read {
    let words = Words(at.words);
    match words.at(0) {
        "acl" => {
            acl::definition(reader.known(), words)?;
            reader.lists.insert(words.at(1).to_owned());
            Ok(())
        }
        "set-param" | "unset-param" | "pass-header" | "hide-header" => {
            let next = if words.at(0) == "set-param" { 3 } else { 2 };
            match words.at(next) {
                "" => Ok(()),
                "if" | "unless" => acl::condition(reader.known(), &reader.lists, words, next).map(drop),
                other => Err(Wrong::new(next, format!("only if or unless is allowed here, not {other}"))),
            }
        }
        "option" => match words.at(1) {
            "keep-conn" | "get-values" | "mpxs-conns" if words.len() == 2 => Ok(()),
            "max-reqs" if negated => Err(Wrong::new(1, "option max-reqs cannot be taken back")),
            "max-reqs" if values::leading(words.at(2)) > 0 => Ok(()),
            "max-reqs" => Err(Wrong::new(1, "max-reqs needs a number from 1 on")),
            other => Err(Wrong::new(
                1.min(words.len() - 1),
                format!("\"{other}\" is not an option of an application"),
            )),
        },
        "path-info" => match regex_fault(words.at(1)) {
            Some(why) => Err(Wrong::new(1, format!("the pattern is broken: {why}"))),
            None => Ok(()),
        },
        _ => Ok(()),
    }
}

fn forward(reader: &mut Reader, at: At) -> Read {
    let words = Words(at.words);
    match words.at(0) {
        "bind" | "dgram-bind" => {
            let datagram = words.at(0) == "dgram-bind";
            let allows = Allows {
                port: true,
                port_needed: true,
                range: true,
                stream: !datagram,
                datagram,
                descriptor: true,
                ..Allows::default()
            };
            for one in words.at(1).split(',') {
                address(one, allows).map_err(|why| Wrong::new(1, why))?;
            }
            options(reader.known(), "bind", words, 2).map(drop)
        }
        "log" => log(reader, words),
        _ => Ok(()),
    }
}

/// What the whole server says of its sockets, variables, scripts and the like.
fn global(reader: &mut Reader, at: At, negated: bool) -> Read {
    let words = Words(at.words);
    match words.at(0) {
        "log" if negated => Ok(()),
        "log" => logs::global_log(reader, at),
        "stats" => stats(reader, at),
        "setenv" | "presetenv" => {
            let fresh = words.at(0) == "setenv" || !reader.variables.values.contains_key(words.at(1));
            if fresh {
                reader.variables.values.insert(words.at(1).to_owned(), words.at(2).to_owned());
            }
            Ok(())
        }
        "unsetenv" | "resetenv" => {
            for name in at.words.iter().skip(1) {
                reader.variables.values.remove(&name.value);
            }
            Ok(())
        }
        "lua-load" | "lua-load-per-thread" => {
            reader.scripts = true;
            reader.must_be_there(at, 1, words.at(1));
            Ok(())
        }
        "expose-experimental-directives" => {
            reader.experimental = true;
            Ok(())
        }
        "ssl-server-verify" => {
            reader.server_verify = words.at(1) != "none";
            Ok(())
        }
        "ca-base" => {
            words.at(1).clone_into(&mut reader.authorities);
            Ok(())
        }
        "crt-base" => {
            words.at(1).clone_into(&mut reader.certificates);
            Ok(())
        }
        "master-worker" => {
            reader.is_alone = false;
            Ok(())
        }
        "default-path" => {
            reader.base = match words.at(1) {
                "config" => Some(crate::path::parent(&at.text.file).to_owned()),
                "origin" => Some(words.at(2).to_owned()),
                "parent" => Some(crate::path::parent(crate::path::parent(&at.text.file)).to_owned()),
                _ => reader.base.clone(),
            };
            Ok(())
        }
        "h1-case-adjust-file" | "ssl-dh-param-file" => {
            reader.must_be_there(at, 1, words.at(1));
            Ok(())
        }
        "set-var" | "set-var-fmt" => set_variable(reader, words),
        "ssl-load-extra-files" => extra_files(words),
        "ssl-default-bind-options" | "ssl-default-server-options" => tls_options(words),
        "cpu-map" if words.at(1).is_empty() || words.at(2).is_empty() => {
            Err(Wrong::new(0, "cpu-map needs threads and processors"))
        }
        "unix-bind" => unix_bind(words),
        "numa-cpu-mapping" | "busy-polling" | "set-dumpable" => Ok(()),
        _ => Ok(()),
    }
}

/// `set-var NAME SAMPLE` and `set-var-fmt NAME FORMAT` of the whole server.
fn set_variable(reader: &Reader, words: Words) -> Read {
    let name = words.at(1);
    if !name.starts_with("proc.") {
        return Err(Wrong::new(1.min(words.len() - 1), "only variables of the process (proc.) are set here"));
    }
    if words.at(2).is_empty() {
        return Err(Wrong::new(1, format!("{} needs a value", words.at(0))));
    }
    if words.at(0) == "set-var" {
        let mut next = 2;
        let sample = reader.known().expression(words, &mut next).map_err(|why| Wrong::new(2, why))?;
        if sample.places & super::samples::places::CONFIGURATION == 0 {
            return Err(Wrong::new(2, format!("{} cannot be known here", sample.name)));
        }
    }
    Ok(())
}

/// `ssl-load-extra-files KIND…`.
fn extra_files(words: Words) -> Read {
    const KINDS: &[&str] = &["none", "all", "bundle", "sctl", "ocsp", "issuer", "key"];
    match (1..words.len()).find(|n| !KINDS.contains(&words.at(*n))) {
        Some(n) => Err(Wrong::new(n, format!("\"{}\" is not a kind of extra files", words.at(n)))),
        None => Ok(()),
    }
}

fn tls_options(words: Words) -> Read {
    let server = words.at(0).contains("server");
    let mut at = 1;
    while at < words.len() {
        let name = words.at(at);
        let plain = name.strip_prefix("no-").or_else(|| name.strip_prefix("force-"));
        let known = plain.is_some_and(|p| {
            matches!(p, "sslv3" | "tlsv10" | "tlsv11" | "tlsv12" | "tlsv13" | "tls-tickets")
        }) || matches!(name, "prefer-client-ciphers" | "strict-sni") && !server
            || name == "no-alpn";
        match name {
            "ssl-min-ver" | "ssl-max-ver" => {
                if !matches!(words.at(at + 1), "SSLv3" | "TLSv1.0" | "TLSv1.1" | "TLSv1.2" | "TLSv1.3") {
                    return Err(Wrong::new(at, format!("{name} needs a version such as TLSv1.2")));
                }
                at += 2;
            }
            _ if known => at += 1,
            _ => return Err(Wrong::new(at, format!("\"{name}\" is not an option of TLS"))),
        }
    }
    Ok(())
}

fn unix_bind(words: Words) -> Read {
    let mut at = 1;
    while at < words.len() {
        if !matches!(words.at(at), "prefix" | "mode" | "uid" | "gid" | "user" | "group") {
            return Err(Wrong::new(at, format!("{} is not allowed in unix-bind", words.at(at))));
        }
        at += 2;
    }
    Ok(())
}

/// `stats socket|timeout|maxconn|bind-process …` of the whole server.
fn stats(reader: &mut Reader, at: At) -> Read {
    let words = Words(at.words);
    match words.at(1) {
        "socket" => {
            let allows = Allows::SOCKET;
            if words.at(2).is_empty() {
                return Err(Wrong::new(1, "stats socket needs an address"));
            }
            address(words.at(2), allows).map_err(|why| Wrong::new(2, why))?;
            let found = options(reader.known(), "bind", words, 3)?;
            for (name, _, word) in &found.all {
                match *name {
                    "user" => account(reader, at, word + 1, false),
                    "group" => account(reader, at, word + 1, true),
                    _ => {}
                }
            }
            Ok(())
        }
        "timeout" => values::time(words.at(2), Unit::Milliseconds)
            .map_err(|why| Wrong::new(2.min(words.len() - 1), why)),
        "maxconn" if values::leading(words.at(2)) <= 0 => {
            Err(Wrong::new(1, "stats maxconn needs a number from 1 on"))
        }
        "maxconn" | "bind-process" => Ok(()),
        other => Err(Wrong::new(1.min(words.len() - 1), format!("\"{other}\" is not a setting of stats"))),
    }
}

/// Conditions of applications use no lists but their own.
pub(super) fn fresh(reader: &mut Reader) {
    reader.lists = BTreeSet::new();
}
