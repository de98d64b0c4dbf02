//! Lines of `defaults`, `frontend`, `listen` and `backend` (cfgparse-listen.c).
use super::acl::{self, Wrong};
use super::rules::{self, Stage};
use super::state::{At, Named, Reader, Role};
use super::tokens::Words;
use super::values::{self, Unit};
use super::{checks, logs, servers, settings, tables};
use crate::code::Code;
use crate::config::Severity;

type Read = Result<(), Wrong>;

/// `stats …` of a section.
fn stats(reader: &mut Reader, at: At) -> Read {
    let words = Words(at.words);
    let defaults = reader.context().is_some_and(|c| c.front && c.back)
        && reader.current.is_some_and(|n| reader.proxies[n].role == Role::Defaults);
    match words.at(1) {
        "admin" | "http-request" if defaults => {
            Err(Wrong::new(1, format!("stats {} is not allowed in defaults", words.at(1))))
        }
        "admin" => {
            if !words.is_condition(2) {
                return Err(Wrong::new(1, "stats admin needs a condition"));
            }
            condition(reader, at, 2)
        }
        "http-request" => rule(reader, at, Stage::Request, 2),
        name @ ("uri" | "realm" | "auth" | "scope") if words.at(2).is_empty() => {
            Err(Wrong::new(1, format!("stats {name} needs a value")))
        }
        "refresh" => values::time(words.at(2), Unit::Seconds).map_err(|why| Wrong::new(2, why)),
        "uri" | "realm" | "auth" | "scope" | "enable" | "hide-version" | "show-legends" | "show-modules"
        | "show-node" | "show-desc" => Ok(()),
        other => Err(Wrong::new(1.min(words.len() - 1), format!("\"{other}\" is not a setting of stats"))),
    }
}

/// A condition of the present section.
pub(super) fn condition(reader: &mut Reader, at: At, from: usize) -> Read {
    let Some(context) = reader.context() else { return Ok(()) };
    let refers = acl::condition(context.known, context.lists, Words(at.words), from)?;
    reader.note(at, refers);
    Ok(())
}

/// A rule of the present section.
fn rule(reader: &mut Reader, at: At, stage: Stage, from: usize) -> Read {
    let Some(context) = reader.context() else { return Ok(()) };
    let refers = rules::rule(context, stage, Words(at.words), from)?;
    reader.note(at, refers);
    Ok(())
}

/// `use_backend`, `use-server` and others: a name, then a condition.
fn chosen(reader: &mut Reader, at: At, needed: bool) -> Read {
    let words = Words(at.words);
    if words.at(1).is_empty() {
        return Err(Wrong::new(0, format!("{} needs a name", words.at(0))));
    }
    if words.is_condition(2) {
        condition(reader, at, 2)?;
    } else if needed || !words.at(2).is_empty() {
        return Err(Wrong::new(2.min(words.len() - 1), "only if or unless with a condition is allowed here"));
    }
    let named = Named { name: words.at(1).to_owned(), place: at.place(0) };
    if let Some(proxy) = reader.proxy() {
        if needed { proxy.use_servers.push(named) } else { proxy.uses.push(named) }
    }
    Ok(())
}

/// `tcp-request` and `tcp-response`.
fn tcp(reader: &mut Reader, at: At, response: bool) -> Read {
    let words = Words(at.words);
    let Some(proxy) = reader.current.map(|n| &reader.proxies[n]) else { return Ok(()) };
    let (role, anonymous) = (proxy.role, proxy.role == Role::Defaults && proxy.name.is_empty());
    if words.at(1).is_empty() {
        return Err(Wrong::new(0, format!("{} needs more words", words.at(0))));
    }
    let closed = anonymous || response && role == Role::Frontend;
    let stage = match (words.at(1), response) {
        ("inspect-delay", _) => {
            if closed {
                return Err(Wrong::new(0, format!("{} is not allowed in this section", words.at(0))));
            }
            return values::time(words.at(2), Unit::Milliseconds)
                .map_err(|why| Wrong::new(2.min(words.len() - 1), why));
        }
        ("content", false) => Stage::Content,
        ("content", true) => Stage::ResponseContent,
        ("connection", false) => Stage::Connection,
        ("session", false) => Stage::Session,
        (other, _) => return Err(Wrong::new(1, format!("\"{other}\" is not a stage of {}", words.at(0)))),
    };
    if closed || matches!(stage, Stage::Connection | Stage::Session) && !role.front() {
        return Err(Wrong::new(0, format!("{} {} is not allowed in this section", words.at(0), words.at(1))));
    }
    rule(reader, at, stage, 2)?;
    if let Some(proxy) = reader.proxy() {
        proxy.rules = true;
        proxy.connection_rules |= matches!(stage, Stage::Connection | Stage::Session);
        proxy.response_rules |= response;
    }
    Ok(())
}

fn rules_of(reader: &mut Reader, at: At, stage: Stage) -> Read {
    rule(reader, at, stage, 1)?;
    let words = Words(at.words);
    let cache = matches!(words.at(1), "cache-use" | "cache-store");
    let named = Named { name: words.at(2).to_owned(), place: at.place(0) };
    if let Some(proxy) = reader.proxy() {
        proxy.rules = true;
        if cache {
            proxy.caches.push(named);
        }
    }
    Ok(())
}

/// One line of a section of proxies.
pub(super) fn line(reader: &mut Reader, at: At, negated: bool) -> Read {
    let words = Words(at.words);
    let Some(n) = reader.current else { return Ok(()) };
    match words.at(0) {
        "bind" => servers::bind(reader, at),
        "server" | "server-template" | "default-server" => {
            if words.at(0) != "default-server" {
                let entry = super::entry_of(at, reader);
                super::passes(reader.book, &entry, at.words.get(1..).unwrap_or_default());
            }
            servers::server(reader, at)
        }
        "stick-table" => tables::own(reader, n, at),
        "stick" => tables::stick(reader, at),
        "stats" => stats(reader, at),
        "option" => settings::option(reader, words, negated),
        "filter" => settings::filter(words),
        "http-check" | "tcp-check" => {
            reader.proxies[n].check_ports |= words.at(1) == "connect";
            checks::check(words)
        }
        "email-alert" => logs::email(reader, at),
        "log" if negated => Ok(()),
        "log" => {
            logs::log(reader, words)?;
            logs::log_host(reader, at);
            Ok(())
        }
        _ => {
            settings::line(words)?;
            kept(reader, n, at)?;
            ruled(reader, n, at)
        }
    }
}

/// What later lines and the end ask for.
fn kept(reader: &mut Reader, n: usize, at: At) -> Read {
    let words = Words(at.words);
    let proxy = &mut reader.proxies[n];
    match words.at(0) {
        "mode" => proxy.http = Some(words.at(1) == "http"),
        "disabled" | "enabled" => proxy.disabled = words.at(0) == "disabled",
        "capture" => proxy.captures = true,
        "default_backend" => {
            proxy.default_backend = Some(Named { name: words.at(1).to_owned(), place: at.place(0) });
        }
        "errorfile" => reader.must_be_there(at, 2, words.at(2)),
        "id" => {
            let id = values::leading(words.at(1));
            if let Some(first) = reader.ids.insert(id, at.place(0).line) {
                return Err(Wrong::new(1, format!("another section has id {id} (line {first})")));
            }
        }
        _ => logs::note(reader, n, at),
    }
    Ok(())
}

/// Lists, rules and conditions.
fn ruled(reader: &mut Reader, n: usize, at: At) -> Read {
    let words = Words(at.words);
    let named = |from: usize, needs: &str| match words.is_condition(from) {
        true => Ok(()),
        false => Err(Wrong::new((from - 1).min(words.len() - 1), needs)),
    };
    let anonymous = reader.proxies[n].role == Role::Defaults && reader.proxies[n].name.is_empty();
    match words.at(0) {
        "acl" | "http-request" | "http-response" | "http-after-response" if anonymous => {
            let why = format!("{} is not allowed in defaults without a name", words.at(0));
            reader.fault(at, 0, Code::ConfigMisplacedDirective, &why);
            Ok(())
        }
        "acl" => {
            let refers = acl::definition(reader.known(), words)?;
            reader.note(at, refers);
            reader.proxies[n].lists.insert(words.at(1).to_owned());
            Ok(())
        }
        "http-request" => rules_of(reader, at, Stage::Request),
        "http-response" => rules_of(reader, at, Stage::Response),
        "http-after-response" => rules_of(reader, at, Stage::AfterResponse),
        "tcp-request" => tcp(reader, at, false),
        "tcp-response" => tcp(reader, at, true),
        "redirect" => {
            let Some(context) = reader.context() else { return Ok(()) };
            let refers = rules::redirect(context, words, 1)?;
            reader.note(at, refers);
            Ok(())
        }
        "use_backend" => chosen(reader, at, false),
        "use-server" => chosen(reader, at, true),
        "force-persist" | "ignore-persist" => {
            named(1, "a condition must follow")?;
            condition(reader, at, 1)
        }
        "monitor" => {
            if words.at(1) != "fail" {
                return Err(Wrong::new(1.min(words.len() - 1), "monitor takes fail and a condition"));
            }
            named(2, "monitor takes fail and a condition")?;
            condition(reader, at, 2)
        }
        _ => Ok(()),
    }
}

/// A directive that does nothing in its section is only warned of.
pub(super) fn idle(reader: &mut Reader, at: At, why: &str) {
    reader.fault(at, 0, Code::ConfigWarning, why).severity = Severity::Warning;
}
