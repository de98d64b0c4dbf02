//! Lines of a section whose words tell everything (cfgparse-listen.c, proxy.c, backend.c).
use super::DIRECTIVES;
use super::acl::Wrong;
use super::address::{Allows, address};
use super::state::Reader;
use super::tokens::Words;
use super::values::{self, Unit};
use crate::config::rows::{Fault, Row, fault};

/// Statuses that haproxy answers by itself.
const ANSWERS: &[i64] =
    &[200, 400, 401, 403, 404, 405, 407, 408, 410, 413, 421, 422, 425, 429, 500, 501, 502, 503, 504];

type Read = Result<(), Wrong>;

/// A line that is judged by its words alone.
pub(super) fn line(words: Words) -> Read {
    let last = words.len() - 1;
    let wrong = |at: usize, why: &str| Err(Wrong::new(at.min(last), why));
    match words.at(0) {
        "timeout" => timeout(words),
        "cookie" => cookie(words),
        "balance" => balance(words),
        "hash-type" => hash_type(words),
        "compression" => compression(words),
        "capture" => capture(words),
        "errorfile" | "errorloc" | "errorloc302" | "errorloc303" => error_answer(words),
        "http-error" => http_error(words),
        "retry-on" => retry_on(words),
        "source" => source(words),
        "dispatch" => {
            let allows = Allows { port: true, port_needed: true, stream: true, ..Allows::default() };
            address(words.at(1), allows).map(drop).map_err(|why| Wrong::new(1, why))
        }
        "declare" => {
            let capture = words.at(1) == "capture" && matches!(words.at(2), "request" | "response");
            match capture && words.at(3) == "len" && values::leading(words.at(4)) > 0 {
                true => Ok(()),
                false => wrong(0, "declare takes capture request|response len LENGTH"),
            }
        }
        "rate-limit" if words.at(1) != "sessions" || !values::is_number(words.at(2)) => {
            wrong(1, "rate-limit takes sessions and a number")
        }
        "persist" if !words.at(1).starts_with("rdp-cookie") => wrong(1, "persist takes rdp-cookie"),
        "max-keep-alive-queue" if !values::is_number(words.at(1)) => wrong(1, "a number is required here"),
        "hash-balance-factor" if (1..=100).contains(&values::leading(words.at(1))) => {
            wrong(1, "the factor is 0 or greater than 100")
        }
        "external-check"
            if !matches!(words.at(1), "command" | "path") || words.at(2).is_empty() || words.len() > 3 =>
        {
            wrong(1, "external-check takes command or path, and a value")
        }
        _ => Ok(()),
    }
}

/// `cookie NAME …`.
fn cookie(words: Words) -> Read {
    if words.at(1).is_empty() {
        return Err(Wrong::new(0, "cookie needs a name"));
    }
    let (mut modes, mut indirect, mut preserve, mut rewrite) = (0, false, false, false);
    let mut at = 2;
    while at < words.len() {
        let value = words.at(at + 1);
        match words.at(at) {
            "rewrite" => (modes, rewrite) = (modes + 1, true),
            "insert" | "prefix" => modes += 1,
            "indirect" => indirect = true,
            "preserve" => preserve = true,
            "nocache" | "postonly" | "httponly" | "secure" | "dynamic" => {}
            name @ ("domain" | "attr" | "maxidle" | "maxlife") => {
                if value.is_empty() {
                    return Err(Wrong::new(at, format!("{name} needs a value")));
                }
                if name.starts_with("max") {
                    values::time(value, Unit::Seconds).map_err(|why| Wrong::new(at + 1, why))?;
                }
                at += 1;
            }
            other => return Err(Wrong::new(at, format!("{other} is not an option of cookie"))),
        }
        at += 1;
    }
    if rewrite && indirect {
        return Err(Wrong::new(0, "a cookie cannot be rewritten and indirect"));
    }
    if modes > 1 {
        return Err(Wrong::new(0, "a cookie has one of rewrite, insert and prefix"));
    }
    if preserve && !indirect && !(0..words.len()).any(|n| words.at(n) == "insert") {
        return Err(Wrong::new(0, "preserve needs insert or indirect"));
    }
    Ok(())
}

/// `balance ALGORITHM …`.
fn balance(words: Words) -> Read {
    let name = words.at(1);
    let wrong = |at: usize, why: String| Err(Wrong::new(at, why));
    match name.split('(').next().unwrap_or("") {
        "roundrobin" | "static-rr" | "first" | "leastconn" | "source" | "log-hash" | "sticky" => Ok(()),
        "random" => match name.strip_prefix("random").unwrap_or("") {
            "" => Ok(()),
            rest if rest.starts_with('(') && rest.ends_with(')') && values::leading(&rest[1..]) >= 1 => {
                Ok(())
            }
            _ => wrong(1, format!("{name} must be random or random(DRAWS)")),
        },
        "uri" => {
            let mut at = 2;
            while at < words.len() {
                match words.at(at) {
                    "len" | "depth" if values::leading(words.at(at + 1)) > 0 => at += 2,
                    "whole" | "path-only" => at += 1,
                    other => return wrong(at, format!("{other} is not allowed after uri")),
                }
            }
            Ok(())
        }
        "url_param" if words.at(2).is_empty() => {
            wrong(1, "url_param needs the name of a parameter".to_owned())
        }
        "url_param" if !matches!(words.at(3), "" | "check_post") => {
            wrong(3, format!("{} is not allowed here, expected check_post", words.at(3)))
        }
        "url_param" => Ok(()),
        "hash" if words.at(2).is_empty() => wrong(1, "hash needs a sample".to_owned()),
        "hash" if !words.at(3).is_empty() => wrong(3, "only one sample is allowed after hash".to_owned()),
        "hash" => Ok(()),
        "hdr" => match name.strip_prefix("hdr(").and_then(|r| r.strip_suffix(')')) {
            Some(inner) if !inner.is_empty() => match words.at(2) {
                "" | "use_domain_only" => Ok(()),
                other => wrong(2, format!("{other} is not allowed here, expected use_domain_only")),
            },
            _ => wrong(1, "hdr needs the name of a header in brackets".to_owned()),
        },
        "rdp-cookie" => Ok(()),
        _ if name.is_empty() => Ok(()),
        _ => wrong(1, format!("\"{name}\" is not a balancing algorithm")),
    }
}

/// `timeout NAME TIME`.
fn timeout(words: Words) -> Read {
    const NAMES: &[&str] = &[
        "client",
        "tarpit",
        "http-keep-alive",
        "http-request",
        "server",
        "connect",
        "check",
        "queue",
        "tunnel",
        "client-fin",
        "server-fin",
        "client-hs",
    ];
    let name = words.at(1);
    if !NAMES.contains(&name) {
        let near = crate::config::nearest(name, NAMES.iter().copied());
        let why = format!("\"{name}\" is not a time limit");
        return Err(Wrong::new(1.min(words.len() - 1), why).meant(near));
    }
    if words.at(2).is_empty() {
        return Err(Wrong::new(1, format!("timeout {name} needs a time")));
    }
    values::time(words.at(2), Unit::Milliseconds).map_err(|why| Wrong::new(2, why))?;
    match words.at(3) {
        "" => Ok(()),
        more => Err(Wrong::new(3, format!("{more} is not allowed after the time"))),
    }
}

/// `capture cookie NAME len N`, `capture request|response header NAME len N`.
fn capture(words: Words) -> Read {
    let (named, len) = match (words.at(1), words.at(2)) {
        ("cookie", _) => (2, 3),
        ("request" | "response", "header") => (3, 4),
        _ => return Err(Wrong::new(1, "capture takes cookie, request header or response header")),
    };
    if words.at(named).is_empty() || words.at(len) != "len" || words.at(len + 1).is_empty() {
        return Err(Wrong::new(0, "capture needs a name, then len and a length"));
    }
    match words.at(len + 2) {
        "" => Ok(()),
        more => Err(Wrong::new(len + 2, format!("{more} is not allowed here"))),
    }
}

/// `errorfile STATUS FILE` and its like.
fn error_answer(words: Words) -> Read {
    let name = words.at(0);
    if words.at(1).is_empty() || words.at(2).is_empty() {
        return Err(Wrong::new(0, format!("{name} needs a status and a target")));
    }
    if !ANSWERS.contains(&values::leading(words.at(1))) {
        return Err(Wrong::new(1, format!("haproxy answers no request with {} by itself", words.at(1))));
    }
    Ok(())
}

/// `hash-type METHOD [FUNCTION [avalanche]]`.
fn hash_type(words: Words) -> Read {
    let of = |at: usize, all: &[&str]| match words.at(at) {
        "" if at > 1 => Ok(()),
        word if all.contains(&word) => Ok(()),
        word => Err(Wrong::new(at, format!("\"{word}\" is not allowed here, expected {}", all.join(" or ")))),
    };
    of(1, &["consistent", "map-based"])?;
    of(2, &["sdbm", "djb2", "wt6", "crc32", "none"])?;
    of(3, &["avalanche"])
}

/// `compression algo|type|offload|direction …`.
fn compression(words: Words) -> Read {
    let wrong = |at: usize, why: &str| Err(Wrong::new(at, why.to_owned()));
    match words.at(1) {
        "algo" | "algo-req" | "algo-res" => {
            if words.at(2).is_empty() {
                return wrong(1, "an algorithm must be named");
            }
            let bad = (2..words.len())
                .find(|at| !matches!(words.at(*at), "identity" | "deflate" | "raw-deflate" | "gzip"));
            match bad {
                Some(at) => {
                    Err(Wrong::new(at, format!("\"{}\" is not an algorithm of compression", words.at(at))))
                }
                None => Ok(()),
            }
        }
        "offload" | "direction" | "minsize-req" | "minsize-res" => Ok(()),
        "type" | "type-req" | "type-res" if words.at(2).is_empty() => wrong(1, "a type must be named"),
        "type" | "type-req" | "type-res" => Ok(()),
        _ => wrong(1, "compression takes algo, type or offload"),
    }
}

/// `retry-on REASON…`.
fn retry_on(words: Words) -> Read {
    const REASONS: &[&str] = &[
        "conn-failure",
        "empty-response",
        "response-timeout",
        "401",
        "403",
        "404",
        "408",
        "421",
        "425",
        "429",
        "500",
        "501",
        "502",
        "503",
        "504",
        "0rtt-rejected",
        "junk-response",
        "all-retryable-errors",
        "none",
    ];
    if words.len() < 2 {
        return Err(Wrong::new(0, "retry-on needs a reason"));
    }
    match (1..words.len()).find(|at| !REASONS.contains(&words.at(*at))) {
        Some(at) => Err(Wrong::new(at, format!("\"{}\" is not a reason to retry", words.at(at)))),
        None => Ok(()),
    }
}

/// `source ADDRESS [usesrc …] [interface …]`.
fn source(words: Words) -> Read {
    let allows = Allows { port: true, stream: true, ..Allows::default() };
    address(words.at(1), allows).map_err(|why| Wrong::new(1, why))?;
    let mut at = 2;
    while at < words.len() {
        match words.at(at) {
            "usesrc" | "interface" if !words.at(at + 1).is_empty() => at += 2,
            other => {
                return Err(Wrong::new(
                    at,
                    format!("{other} is not allowed here, expected usesrc or interface with a value"),
                ));
            }
        }
    }
    Ok(())
}

fn http_error(words: Words) -> Read {
    let status = (1..words.len()).find(|at| words.at(*at) == "status");
    let Some(status) = status else { return Err(Wrong::new(0, "http-error needs a status")) };
    match ANSWERS.contains(&values::leading(words.at(status + 1))) {
        true => Ok(()),
        false => Err(Wrong::new(
            status,
            format!("haproxy answers no request with {} by itself", words.at(status + 1)),
        )),
    }
}

/// `option NAME …`, in front of which `no` or `default` may have stood.
pub(super) fn option(reader: &Reader, words: Words, negated: bool) -> Read {
    let name = words.at(1);
    if name.is_empty() {
        return Err(Wrong::new(0, "option needs a name"));
    }
    let bits = DIRECTIVES.bits(&["option", "option-front", "option-back"]);
    let gone = matches!(name, "forceclose" | "http-tunnel" | "http_proxy");
    let rows = DIRECTIVES.exact(name).iter().filter(|row| row.places & bits != 0);
    let known = |row: &&Row| reader.release.has(row);
    let Some(row) = rows.clone().find(known).filter(|_| !gone) else {
        let all = DIRECTIVES.all().filter(|row| row.places & bits != 0).map(|row| row.name);
        let near = crate::config::nearest(name, all);
        return Err(Wrong::new(1, format!("\"{name}\" is not an option")).meant(near));
    };
    let by_hand = row.places & DIRECTIVES.place("option") != 0;
    let switches = [
        "httpclose",
        "forwarded",
        "http-server-close",
        "http-keep-alive",
        "http-buffer-request",
        "http-no-delay",
        "independent-streams",
        "nolinger",
        "splice-auto",
        "splice-request",
        "splice-response",
    ];
    if negated && by_hand && !switches.contains(&name) {
        return Err(Wrong::new(1, format!("option {name} cannot be taken back")));
    }
    let count = words.len() - 2;
    if let Some(fault) = fault(row, count, |n| words.at(2 + n)) {
        let why = match fault {
            Fault::Word { at, expected } => {
                return Err(Wrong::new(
                    2 + at,
                    format!("\"{}\" is not allowed here, expected {expected}", words.at(2 + at)),
                ));
            }
            Fault::Count { expected, .. } => {
                format!("option {name} takes {expected} values")
            }
        };
        return Err(Wrong::new(if count > 0 { 2 } else { 1 }, why));
    }
    match name {
        "mysql-check" => match (words.at(2), words.at(3), words.at(4)) {
            ("", ..) => Ok(()),
            ("user", name, "" | "post-41" | "pre-41") if !name.is_empty() => Ok(()),
            _ => Err(Wrong::new(2, "mysql-check takes user, a name, and post-41 or pre-41")),
        },
        "forwardfor" | "originalto" => forwarded(words, name == "forwardfor"),
        _ => Ok(()),
    }
}

fn forwarded(words: Words, conditional: bool) -> Read {
    let mut at = 2;
    while at < words.len() {
        match words.at(at) {
            "except" => {
                let good = values::pattern("ip", words.at(at + 1), false).is_none_or(|r| r.is_ok());
                if words.at(at + 1).is_empty() || !good {
                    return Err(Wrong::new(at, "except needs an address or network"));
                }
                at += 2;
            }
            "header" if words.at(at + 1).is_empty() => return Err(Wrong::new(at, "header needs a name")),
            "header" => at += 2,
            "if-none" if conditional => at += 1,
            other => return Err(Wrong::new(at, format!("{other} is not allowed here"))),
        }
    }
    Ok(())
}

/// `filter NAME …`.
pub(super) fn filter(words: Words) -> Read {
    const FILTERS: &[&str] =
        &["cache", "compression", "fcgi-app", "spoe", "trace", "opentracing", "bwlim-in", "bwlim-out"];
    let name = words.at(1);
    if name.is_empty() {
        return Err(Wrong::new(0, "filter needs a name"));
    }
    if !FILTERS.contains(&name) && !name.starts_with("lua.") {
        return Err(Wrong::new(1, format!("no filter is named \"{name}\"")));
    }
    Ok(())
}
