//! Redirects, rewriting, headers and what is passed on.
use super::super::state::{Directive, Reader, Rule, Scope};
use super::common::{bad, bad_word};
use crate::config::{Place, PortMention, Upstream};
use crate::snapshot::Snapshot;

pub(super) static REDIRECT: Rule = Rule {
    names: &["Redirect", "RedirectMatch", "RedirectPermanent", "RedirectTemp"],
    check: |r, d, around| redirect(r, d, around.scope),
};
pub(super) static RULE: Rule = Rule { names: &["RewriteRule"], check: |r, d, _| rewrite_rule(r, d) };
pub(super) static CONDITION: Rule = Rule { names: &["RewriteCond"], check: |r, d, _| rewrite_cond(r, d) };
pub(super) static HEADER: Rule = Rule { names: &["Header", "RequestHeader"], check: |r, d, _| header(r, d) };
pub(super) static PASS: Rule =
    Rule { names: &["ProxyPass"], check: |r, d, around| proxy_pass(r, d, around.scope) };

pub(super) static HANDLER: Rule = Rule { names: &["SetHandler"], check: |r, d, _| handler(r, d) };
pub(super) static MEMBER: Rule =
    Rule { names: &["BalancerMember"], check: |r, d, around| member(r, d, around.scope) };

fn redirect(r: &mut Reader, d: &Directive, scope: &Scope) {
    const WORDS: &[&str] = &["permanent", "temp", "seeother", "gone"];
    let first = d.value(0).to_owned();
    // The other two have their status in their name.
    let takes_status = matches!(d.lower().as_str(), "redirect" | "redirectmatch");
    let status = takes_status
        && (WORDS.iter().any(|w| w.eq_ignore_ascii_case(&first)) || first.parse::<u16>().is_ok());
    if let Some(code) = first.parse::<u16>().ok().filter(|_| takes_status) {
        let redirecting = (300..400).contains(&code);
        if !(300..=599).contains(&code) && !redirecting {
            return bad_word(r, d, &code.to_string(), format!("{code} is not a status code of a redirect"));
        }
    }
    let in_location =
        scope.sections.iter().any(|s| s.starts_with("location") || s.starts_with("directory") || s == "if");
    let least = 1 + usize::from(!in_location);
    let gone = first.eq_ignore_ascii_case("gone") || matches!(first.parse::<u16>(), Ok(400..));
    let count = d.values.len() - usize::from(status);
    if count < least && !gone {
        return bad(r, d, format!("{} names no target", d.name));
    }
    // Where it leads: an address, or a path of this site.
    let target = d.values.get(usize::from(status) + usize::from(!in_location)).map(|v| v.to_string());
    if let Some(target) = target.filter(|_| !gone && !in_location && count == 2)
        && !is_address(&target)
        && d.lower() != "redirectmatch"
    {
        return bad_word(
            r,
            d,
            &target,
            format!("\"{target}\" is neither an address nor a path that begins with /"),
        );
    }
    if d.lower() == "redirectmatch" {
        regex(r, d, usize::from(status));
    }
}

/// Whether a text begins like an address, with a scheme, or like a path (`ap_is_url`).
fn is_address(text: &str) -> bool {
    let scheme = text.split_once(':').map(|(scheme, _)| scheme);
    let plain =
        |s: &str| !s.is_empty() && s.bytes().all(|b| b.is_ascii_alphanumeric() || b"+-.".contains(&b));
    text.starts_with('/') || text.contains(['%', '$']) || scheme.is_some_and(plain)
}

pub(in super::super) fn regex(r: &mut Reader, d: &Directive, index: usize) {
    let pattern = d.value(index).to_owned();
    if let Some(fault) = crate::config::regex_fault(&pattern) {
        bad_word(r, d, &pattern, format!("the pattern \"{pattern}\" does not compile: {fault}"));
    }
}

fn rewrite_rule(r: &mut Reader, d: &Directive) {
    if !(2..=3).contains(&d.values.len()) {
        return bad(r, d, format!("RewriteRule has {} values, expected 2 or 3", d.values.len()));
    }
    let pattern = d.value(0).trim_start_matches('!').to_owned();
    if let Some(fault) = crate::config::regex_fault(&pattern) {
        return bad_word(r, d, &pattern, format!("the pattern \"{pattern}\" does not compile: {fault}"));
    }
    if d.values.len() == 3 {
        let flags = d.value(2).to_owned();
        let Some(inner) = flags.strip_prefix('[').and_then(|f| f.strip_suffix(']')) else {
            return bad_word(r, d, &flags, format!("the flags \"{flags}\" do not stand in brackets"));
        };
        const KNOWN: &[&str] = &[
            "b",
            "backrefnoplus",
            "bnp",
            "bctls",
            "bne",
            "c",
            "chain",
            "co",
            "cookie",
            "dpi",
            "discardpath",
            "e",
            "env",
            "end",
            "f",
            "forbidden",
            "g",
            "gone",
            "h",
            "handler",
            "l",
            "last",
            "n",
            "next",
            "nc",
            "nocase",
            "ne",
            "noescape",
            "ns",
            "nosubreq",
            "p",
            "proxy",
            "pt",
            "passthrough",
            "qsa",
            "qsappend",
            "qsd",
            "qsdiscard",
            "qslast",
            "qsl",
            "r",
            "redirect",
            "s",
            "skip",
            "t",
            "type",
            "unsafeallow3f",
            "unsafeprefixstat",
            "unc",
        ];
        let wrong = inner
            .split(',')
            .map(|f| f.trim().split('=').next().unwrap_or_default().to_ascii_lowercase())
            .find(|f| !f.is_empty() && !KNOWN.contains(&f.as_str()));
        if let Some(wrong) = wrong {
            bad_word(r, d, &wrong, format!("\"{wrong}\" is not a flag of RewriteRule"));
        }
    }
}

fn rewrite_cond(r: &mut Reader, d: &Directive) {
    if !(2..=3).contains(&d.values.len()) {
        return bad(r, d, format!("RewriteCond has {} values, expected 2 or 3", d.values.len()));
    }
    let pattern = d.value(1).trim_start_matches('!').to_owned();
    let test = pattern.starts_with(['-', '<', '>', '=']) || d.value(0).eq_ignore_ascii_case("expr");
    if !test && let Some(fault) = crate::config::regex_fault(&pattern) {
        return bad_word(r, d, &pattern, format!("the pattern \"{pattern}\" does not compile: {fault}"));
    }
    if d.values.len() == 3 {
        let flags = d.value(2).to_owned();
        let inner = flags.strip_prefix('[').and_then(|f| f.strip_suffix(']'));
        let fine = inner.is_some_and(|i| {
            i.split(',').all(|f| {
                matches!(
                    f.trim().to_ascii_lowercase().as_str(),
                    "nc" | "nocase" | "or" | "ornext" | "nv" | "novary" | ""
                )
            })
        });
        if !fine {
            bad_word(r, d, &flags, format!("\"{flags}\" are not flags of RewriteCond"));
        }
    }
}

fn header(r: &mut Reader, d: &Directive) {
    let mut values = d.values.iter();
    let mut action = values.next().map(|v| v.to_ascii_lowercase()).unwrap_or_default();
    if matches!(action.as_str(), "onsuccess" | "always") && d.lower() == "header" {
        action = values.next().map(|v| v.to_ascii_lowercase()).unwrap_or_default();
    }
    let known = ["set", "setifempty", "add", "append", "merge", "unset", "echo", "edit", "edit*", "note"];
    if !known.contains(&action.as_str()) {
        return bad_word(
            r,
            d,
            &action,
            format!("\"{action}\" is not an action of {}, expected one of {}", d.name, known.join(", ")),
        );
    }
    let rest = values.count();
    let needed = match action.as_str() {
        "unset" | "echo" => 1,
        "edit" | "edit*" => 3,
        _ => 2,
    };
    if rest < needed {
        bad_word(r, d, &action, format!("{} {action} has {rest} values, expected {needed}", d.name));
    }
}

/// Where a target of the proxy leads, if that can be told: `SCHEME://HOST:PORT/…`, or a socket in front of
/// it.
fn passes_to(snapshot: &Snapshot, target: &str, place: &Place) -> Option<Upstream> {
    if target == "!" || target.contains(['$', '%']) {
        return None;
    }
    if target.starts_with("unix:") {
        // What follows is how the server behind it is spoken to.
        return Upstream::of(snapshot, target.split('|').next()?, None, place);
    }
    let (scheme, rest) = target.split_once("://")?;
    let usual = match scheme.to_ascii_lowercase().as_str() {
        "http" | "ws" | "h2c" => 80,
        "https" | "wss" | "h2" => 443,
        "fcgi" => 8000,
        "ajp" => 8009,
        "scgi" => 4000,
        _ => return None,
    };
    Upstream::of(snapshot, rest.split(['/', '?']).next()?, Some(usual), place)
}

/// `SetHandler "proxy:…"`.
fn handler(r: &mut Reader, d: &Directive) {
    if let Some(target) = d.value(0).strip_prefix("proxy:") {
        r.out.model.upstreams.extend(passes_to(r.snapshot, target, &d.item.place()));
    }
}

/// A member of a balancer: `BalancerMember URL`, in the section of its balancer.
fn member(r: &mut Reader, d: &Directive, scope: &Scope) {
    let has = |word: &str| d.values.iter().any(|v| v.to_ascii_lowercase() == word);
    let at = usize::from(d.value(0).starts_with("balancer://"));
    let group = if at == 1 { d.value(0).to_owned() } else { format!("balancer {}", scope.sections.len()) };
    if !has("status=+d") {
        let one = passes_to(r.snapshot, d.value(at), &d.item.place());
        let spare = has("status=+h");
        r.out.model.upstreams.extend(one.map(|one| Upstream { group, spare, ..one }));
    }
}

fn proxy_pass(r: &mut Reader, d: &Directive, scope: &Scope) {
    let in_location = scope.sections.iter().any(|s| s.starts_with("location") || s == "if");
    let target = if in_location { d.value(0) } else { d.value(1) }.to_owned();
    if target.is_empty() {
        return bad(
            r,
            d,
            "ProxyPass names no target, or no path where it stands outside of <Location>".into(),
        );
    }
    r.out.model.upstreams.extend(passes_to(r.snapshot, &target, &d.item.place()));
    let digits: String =
        target.rsplit(':').next().unwrap_or_default().chars().take_while(char::is_ascii_digit).collect();
    if let Ok(port) = digits.parse::<u16>() {
        let at =
            d.item.text().find(&target).and_then(|t| target.rfind(&format!(":{digits}")).map(|n| t + n + 1));
        if let Some(span) = at.and_then(|at| d.item.span(at, digits.len())) {
            let text = d.item.text().to_string();
            r.out.model.ports.push(PortMention { port, place: d.item.place(), span, belongs: false, text });
        }
    }
    const KNOWN: &[&str] = &[
        "min",
        "max",
        "smax",
        "acquire",
        "connectiontimeout",
        "disablereuse",
        "enablereuse",
        "flushpackets",
        "flushwait",
        "iobuffersize",
        "responsefieldsize",
        "keepalive",
        "lbset",
        "ping",
        "receivebuffersize",
        "redirect",
        "retry",
        "route",
        "status",
        "timeout",
        "ttl",
        "flusher",
        "secret",
        "upgrade",
        "mapping",
        "loadfactor",
        "failonstatus",
        "failontimeout",
        "forcerecovery",
        "growth",
        "lbmethod",
        "maxattempts",
        "nofailover",
        "nonce",
        "stickysession",
        "stickysessionsep",
        "scolonpathdelim",
        "nocanon",
        "interpolate",
        "noquery",
        "addressttl",
        "hcmethod",
        "hcpasses",
        "hcfails",
        "hcinterval",
        "hcuri",
        "hctemplate",
        "hcexpr",
    ];
    let skip = 1 + usize::from(!in_location);
    let wrong = d
        .values
        .iter()
        .skip(skip)
        .map(|p| p.split('=').next().unwrap_or_default().to_ascii_lowercase())
        .find(|p| !KNOWN.contains(&p.as_str()));
    if let Some(wrong) = wrong {
        bad_word(r, d, &wrong, format!("\"{wrong}\" is not a parameter of ProxyPass"));
    }
}
