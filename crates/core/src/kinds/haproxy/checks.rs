//! Checks of servers, step by step (tcpcheck.c).
use super::acl::Wrong;
use super::tokens::Words;

type Read = Result<(), Wrong>;

/// `http-check` and `tcp-check`.
pub(super) fn check(words: Words) -> Read {
    let http = words.at(0) == "http-check";
    let all: &[&str] = match http {
        true => &["comment", "connect", "disable-on-404", "expect", "send", "send-state"],
        false => &["comment", "connect", "expect", "send", "send-binary", "send-lf", "send-binary-lf"],
    };
    let name = words.at(1);
    let variable = ["set-var(", "set-var-fmt(", "unset-var("].iter().any(|b| name.starts_with(b));
    if !all.contains(&name) && !variable {
        let why = format!("\"{name}\" is not a step of a check");
        return Err(Wrong::new(1.min(words.len() - 1), why));
    }
    match name {
        "expect" => expect(words, http),
        "comment" | "send-binary" | "send-lf" | "send-binary-lf" if words.at(2).is_empty() => {
            Err(Wrong::new(1, format!("{name} needs a value")))
        }
        "send" if !http && words.at(2).is_empty() => Err(Wrong::new(1, "send needs a value")),
        "send" if http => send(words),
        "disable-on-404" | "send-state" if words.len() > 2 => {
            Err(Wrong::new(2, format!("{name} takes no value")))
        }
        "connect" => connect(words),
        _ => Ok(()),
    }
}

fn send(words: Words) -> Read {
    let mut at = 2;
    while at < words.len() {
        let count = match words.at(at) {
            "meth" | "uri" | "uri-lf" | "ver" | "body" | "body-lf" | "comment" => 1,
            "hdr" => 2,
            other => return Err(Wrong::new(at, format!("{other} is not allowed in send"))),
        };
        if words.at(at + count).is_empty() && words.len() <= at + count {
            return Err(Wrong::new(at, format!("{} needs a value", words.at(at))));
        }
        at += 1 + count;
    }
    Ok(())
}

fn connect(words: Words) -> Read {
    let mut at = 2;
    while at < words.len() {
        let count = match words.at(at) {
            "default" | "send-proxy" | "via-socks4" | "linger" | "ssl" => 0,
            "addr" | "port" | "proto" | "comment" | "sni" | "alpn" => 1,
            other => return Err(Wrong::new(at, format!("{other} is not allowed in connect"))),
        };
        if count == 1 && words.at(at + 1).is_empty() {
            return Err(Wrong::new(at, format!("{} needs a value", words.at(at))));
        }
        at += 1 + count;
    }
    Ok(())
}

fn expect(words: Words, http: bool) -> Read {
    let mut at = 2;
    let mut pattern = false;
    while at < words.len() {
        let name = words.at(at).trim_start_matches('!');
        match name {
            "" => {
                at += 1;
                continue;
            }
            "string" | "rstring" | "binary" | "rbinary" | "string-lf" | "binary-lf" | "status"
            | "rstatus" => {
                if pattern {
                    return Err(Wrong::new(at, "only one pattern is expected"));
                }
                if (name.contains("status")) != http && name.contains("status") {
                    return Err(Wrong::new(at, format!("{name} is for http-check alone")));
                }
                pattern = true;
            }
            "hdr" | "fhdr" if http => {
                // What follows has words of its own.
                return Ok(());
            }
            "custom" => {
                pattern = true;
                at += 1;
                continue;
            }
            "comment" | "on-success" | "on-error" | "ok-status" | "error-status" | "status-code"
            | "tout-status" | "min-recv" => {}
            other => return Err(Wrong::new(at, format!("{other} is not allowed in expect"))),
        }
        if at + 1 >= words.len() {
            return Err(Wrong::new(at, format!("{name} needs a value")));
        }
        at += 2;
    }
    match pattern {
        true => Ok(()),
        false => Err(Wrong::new(1, "expect needs a pattern")),
    }
}
