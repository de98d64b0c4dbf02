//! The net over text whose grammar is not known: logs, messages, command lines, files of no kind. It finds
//! what stands beside the name of a secret, in addresses, in headers, in statements of SQL, and behind the
//! options of well-known clients.
use super::forms::{
    ADDRESS_ASKED, BARE_ACCOUNT, BARE_TOKEN, BESIDE_IN_LOG, CALLED, CIPHERED, CLIENTS, COMPARED, DRIVER,
    ELEMENT, ENCODED, Form, HASHES, HELD, IN_ADDRESS, IN_COMPARISON, IN_QUERY, IN_URL, INLINE_KEY, INSERTED,
    KEY_IN_URL, NAMED, NOTED, OPTIONS, PAIRS, PIPED, QUERY, RULED, SCHEMES, SET_COOKIE, SHUTDOWN, SIGNED,
    SQL, TOLD, TOLD_CACHE, TOLD_IN_LOG, TOLD_MAIL, TOLD_OTHER, TOLD_QUOTED,
};
use super::names::{Strength, is_header, likely, strength};
use super::rules::words;
use crate::bounds::step;
use std::ops::Range;
use std::sync::LazyLock;

/// What sort of text it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Text {
    /// Lines of settings: a value may stand behind a name with nothing but a blank between.
    Settings,
    /// Sentences and log lines.
    Prose,
}

/// Forms whose first part is the secret, whatever the text is.
const ALONE: [&Form; 21] = [
    &SCHEMES,
    &IN_ADDRESS,
    &PAIRS,
    &HASHES,
    &IN_QUERY,
    &TOLD_CACHE,
    &DRIVER,
    &SIGNED,
    &INLINE_KEY,
    &BARE_TOKEN,
    &BARE_ACCOUNT,
    &KEY_IN_URL,
    &ENCODED,
    &SET_COOKIE,
    &TOLD_OTHER,
    &TOLD_IN_LOG,
    &TOLD_QUOTED,
    &TOLD_MAIL,
    &PIPED,
    &CIPHERED,
    &CALLED,
];

/// Words that stand beside the name of a secret without being one.
const HARMLESS: &[&str] = &[
    "\"\"",
    "''",
    "yes",
    "no",
    "on",
    "off",
    "true",
    "false",
    "none",
    "null",
    "nil",
    "required",
    "optional",
    "denied",
    "failed",
    "mismatch",
    "error",
    "incorrect",
    "invalid",
    "wrong",
    "missing",
    "expired",
    "changed",
    "set",
    "empty",
    "for",
    "is",
    "of",
    "in",
    "to",
    "was",
    "and",
    "or",
    "not",
    "authentication",
    "builtin",
    "file",
    "supplied",
    "provided",
    "given",
    "check",
    "must",
    "cannot",
    "does",
    "has",
    "[type",
    "(using",
];

/// Settings beside which nothing but a secret stands, wherever they are named.
const DISTINCT: &[&str] = &[
    "requirepass",
    "masterauth",
    "primaryauth",
    "auth-pass",
    "tls-key-file-pass",
    "tls-client-key-file-pass",
];

fn is_name(b: u8) -> bool {
    b.is_ascii_alphanumeric() || matches!(b, b'_' | b'-' | b'.')
}

/// Whether a text can hold a secret at all: most lines are let through by this alone.
static HINTS: LazyLock<Option<aho_corasick::AhoCorasick>> = LazyLock::new(|| {
    let words = [
        "pass",
        "pwd",
        "pw",
        "secret",
        "token",
        "key",
        "auth",
        "cred",
        "cook",
        "connect",
        "login",
        "bind",
        "construct",
        "co=",
        "insert",
        "replace",
        "sess",
        "_pat",
        "signature",
        "urlp",
        "$args",
        "$request",
        "query",
        "-protocol",
        "url_param",
        "body_param",
        "jwt",
        "eyj",
        "hook",
        "private",
        "_sk",
        "signing",
        "gh",
        "glpat-",
        "xox",
        "k_live_",
        "k_test_",
        "npm_",
        "hvs.",
        "rabbitmqctl",
        "curl",
        "@",
        " >",
        "'>",
        "\">",
        "#",
        "identified",
        "bearer",
        "basic",
        "mdp",
        "salt",
        "pin",
        "otp",
        "seed",
        "webhook",
        "shutdown",
        "?",
        "pass ",
        "assertion",
        "samlresponse",
        "verifier",
        "cvv",
        "hmac",
        "crypt",
        "sha1(",
        "sha2(",
        "md5(",
        "snmp",
        "smbclient",
        "openssl",
        "vault",
        "<<<",
        "| ",
        "-p",
        "-a",
        "-w",
        "-u",
        "rename-command",
        "$1$",
        "$2",
        "$5$",
        "$6$",
        "$7$",
        "$y$",
        "$gy$",
        "$apr1$",
        "$argon2",
        "$sha1$",
        "$scrypt$",
        "$pbkdf2",
        "{sha",
        "{ssha",
        "{crypt}",
        "{md5}",
        "{smd5}",
        "{pbkdf2",
        "scram-sha",
        "jwt_verify(",
        "aes_",
    ];
    let kind = Some(aho_corasick::AhoCorasickKind::NoncontiguousNFA);
    aho_corasick::AhoCorasick::builder().kind(kind).ascii_case_insensitive(true).build(words).ok()
});

/// The bytes of every secret in a text, in order and apart.
pub(crate) fn spans(text: &str, sort: Text) -> Vec<Range<usize>> {
    spans_outside(text, sort, &[])
}

/// The same without lines that stand wholly in one of some stretches, which are in order and apart.
pub(crate) fn spans_outside(text: &str, sort: Text, known: &[Range<usize>]) -> Vec<Range<usize>> {
    let mut found = Vec::new();
    let hinted = HINTS.as_ref().is_none_or(|h| h.is_match(text));
    if !hinted && sort == Text::Prose {
        return found;
    }
    // The attributes of an element may stand on several lines.
    let secret = |c: &regex::Captures| c.name("name").is_some_and(|n| strength(n.as_str()) != Strength::No);
    for element in NAMED
        .iter()
        .chain([&HELD, &ELEMENT])
        .filter(|_| text.contains('<'))
        .flat_map(|form| form.all_in(text))
        .filter(secret)
    {
        found.extend(element.name("a").or(element.name("b")).map(|m| m.range()).filter(|r| !r.is_empty()));
    }
    let mut start = 0;
    let mut next = 0;
    for line in text.split('\n') {
        let from = start + (line.len() - line.trim_start().len());
        while known.get(next).is_some_and(|k| k.end <= from) {
            next += 1;
        }
        let inside =
            known.get(next).is_some_and(|k| k.start <= from && k.end >= start + line.trim_end().len());
        let mut here = Vec::new();
        match (inside, hinted) {
            (true, _) => {}
            (false, true) => here = of_line(line, sort),
            // What holds no hint may hold a name that is spelled wrong.
            (false, false) => {
                pairs(line, sort, &mut here);
                words(line, sort, &mut here);
            }
        }
        found.extend(here.into_iter().filter(|r| !r.is_empty()).map(|r| start + r.start..start + r.end));
        start += line.len() + 1;
    }
    apart(found)
}

/// The bytes of the secrets in one line.
fn of_line(line: &str, sort: Text) -> Vec<Range<usize>> {
    let mut here = Vec::new();
    pairs(line, sort, &mut here);
    words(line, sort, &mut here);
    keyed(line, &mut here);
    for (program, option) in CLIENTS.iter() {
        for rest in program.all_in(line).filter_map(|c| c.get(1)) {
            here.extend(
                option
                    .all_in(rest.as_str())
                    .filter_map(|c| c.get(1))
                    .map(|m| rest.start() + m.start()..rest.start() + m.end()),
            );
        }
    }
    for form in SQL.iter().chain(OPTIONS.iter()).chain(ALONE.iter().copied()) {
        here.extend(form.all_in(line).filter_map(|c| c.iter().skip(1).flatten().next()).map(|m| m.range()));
    }
    for row in INSERTED.all_in(line) {
        let columns = row.name("columns").map_or("", |m| m.as_str());
        if columns.split(',').any(|c| strength(c.trim().trim_matches(['"', '`', '[', ']'])) != Strength::No) {
            here.extend(row.name("values").map(|m| m.start() + 1..m.end()));
        }
    }
    here.extend(in_addresses(line));
    if sort == Text::Settings {
        of_setting(line, &mut here);
    }
    if sort == Text::Prose {
        for form in [&QUERY, &BESIDE_IN_LOG] {
            here.extend(form.all_in(line).filter_map(|c| c.get(1)).map(|m| m.range()));
        }
    }
    here
}

/// The secrets that stand between account and host in addresses.
pub(crate) fn in_addresses(text: &str) -> impl Iterator<Item = Range<usize>> {
    // A number and a path behind it are a port, whatever comes later.
    let port = |t: &str| t.split_once('/').is_some_and(|(n, _)| n.bytes().all(|b| b.is_ascii_digit()));
    IN_URL.all_in(text).filter_map(|c| c.get(1)).filter(move |m| !port(m.as_str())).map(|m| m.range())
}

/// Whether a statement compares what a request asks for.
pub(crate) fn asks_for_address(statement: &str) -> bool {
    ADDRESS_ASKED.is_in(statement)
}

/// The secrets in what the address of a request is compared with.
pub(crate) fn in_comparison(text: &str) -> impl Iterator<Item = Range<usize>> {
    IN_COMPARISON.all_in(text).filter_map(|c| c.get(1)).map(|m| m.range())
}

/// What only lines of settings and their comments tell.
fn of_setting(line: &str, here: &mut Vec<Range<usize>>) {
    for compared in COMPARED.all_in(line).chain(RULED.all_in(line)) {
        let name = compared.name("name").map_or("", |m| m.as_str());
        let is_cookie = compared.name("parameter").is_none() && !line.contains("ARGS");
        if is_cookie || super::is_secret_parameter(name) || is_header(name) || strength(name) != Strength::No
        {
            here.extend(compared.name("value").map(|m| m.start()..m.start() + m.as_str().trim_end().len()));
        }
    }
    if asks_for_address(line) {
        here.extend(in_comparison(line));
    }
    let told = TOLD.all_in(line).filter_map(|c| c.get(1));
    here.extend(told.filter(|m| plausible(line, m.range()).is_some()).map(|m| m.range()));
    for form in [&NOTED, &SHUTDOWN] {
        here.extend(form.all_in(line).filter_map(|c| c.get(1)).map(|m| m.range()));
    }
}

/// In order, and those that meet put together.
pub(crate) fn apart(mut spans: Vec<Range<usize>>) -> Vec<Range<usize>> {
    spans.sort_by_key(|s| (s.start, std::cmp::Reverse(s.end)));
    let mut out: Vec<Range<usize>> = Vec::with_capacity(spans.len());
    for span in spans {
        match out.last_mut() {
            Some(last) if span.start < last.end => last.end = last.end.max(span.end),
            _ => out.push(span),
        }
    }
    out
}

/// Whether one of some stretches, which are in order and apart, meets another one.
pub(crate) fn meets(stretches: &[Range<usize>], other: &Range<usize>) -> bool {
    let next = stretches.partition_point(|s| s.end <= other.start);
    stretches.get(next).is_some_and(|s| s.start < other.end)
}

/// Names with what is assigned to them.
fn pairs(line: &str, sort: Text, found: &mut Vec<Range<usize>>) {
    let bytes = line.as_bytes();
    let mut at = 0;
    let mut first = true;
    while at < bytes.len() {
        if !is_name(bytes[at]) {
            at += 1;
            continue;
        }
        let start = at;
        while at < bytes.len() && is_name(bytes[at]) {
            at += 1;
        }
        // The letter of an escape is no part of the name: `\r\nAuthorization:`.
        let escaped = start > 0 && bytes[start - 1] == b'\\' && matches!(bytes[start], b'n' | b'r' | b't');
        let start = if escaped && at - start > 1 { start + 1 } else { start };
        let name = &line[start..at];
        let strength = match sort {
            _ if is_header(name) => Strength::Strong,
            Text::Settings => likely(name),
            Text::Prose => strength(name),
        };
        let begins = std::mem::replace(&mut first, false);
        if strength == Strength::No {
            continue;
        }
        if let Some(value) = value(line, start..at, name, strength, sort, begins) {
            at = value.end.max(at);
            found.push(value);
        }
    }
}

/// What stands between a name and its value.
struct Behind {
    /// Where blanks may follow, behind what closes the name.
    gap: usize,
    /// Where a sign may follow.
    sign: usize,
    /// Where it ends.
    after: usize,
    /// Where the value begins.
    at: usize,
}

fn behind(bytes: &[u8], name_end: usize, quoted_name: bool) -> Behind {
    let blanks = |from: usize| {
        let count =
            bytes.get(from..).unwrap_or_default().iter().take_while(|b| matches!(b, b' ' | b'\t')).count();
        from + count
    };
    let mut gap = name_end;
    while gap < bytes.len() && matches!(bytes[gap], b'"' | b'\'' | b']' | b'}' | b')') && gap - name_end < 3 {
        gap += 1;
    }
    let sign = blanks(gap);
    let arrow = bytes.get(sign..).is_some_and(|rest| rest.starts_with(b"-> "));
    let mut after = if arrow { sign + 2 } else { sign };
    while after < bytes.len()
        && (matches!(bytes[after], b'=' | b':' | b'>' | b'!' | b'~') || (bytes[after] == b',' && quoted_name))
        && after - sign < 3
    {
        after += 1;
    }
    Behind { gap, sign, after, at: blanks(after) }
}

/// The value that stands beside a name.
fn value(
    line: &str,
    name: Range<usize>,
    word: &str,
    strength: Strength,
    sort: Text,
    begins: bool,
) -> Option<Range<usize>> {
    let bytes = line.as_bytes();
    let before = name.start.checked_sub(1).and_then(|b| bytes.get(b)).copied();
    let mut at = name.end;
    // An element: its content is the value.
    if before == Some(b'<') && bytes.get(at) == Some(&b'>') {
        let end = line[at + 1..].find('<').map_or(line.len(), |n| at + 1 + n);
        return Some(at + 1..end);
    }
    // Inside of a text in quotes its own quotes are escaped.
    at += escapes(bytes, at).min(3);
    let quoted_name =
        matches!((before, bytes.get(at)), (Some(b'"'), Some(b'"')) | (Some(b'\''), Some(b'\'')));
    let name = Range { end: if quoted_name { at } else { name.end }, ..name };
    // The name is itself a value: `name="password" value="…"`.
    if quoted_name && line[..name.start - 1].ends_with('=') {
        return None;
    }
    let Behind { gap, sign, after, at } = behind(bytes, name.end, quoted_name);
    let assigned = after > sign && bytes[sign] != b'>' && (bytes[sign] != b'!' || after - sign > 1);
    // The end of a text in quotes that names something: what follows is not beside the name.
    if !assigned && !quoted_name && matches!(bytes.get(name.end), Some(b'"' | b'\'')) {
        return None;
    }
    let colon = assigned && bytes[sign] == b':';
    let header = is_header(word);
    let option = word.starts_with("--");
    let distinct = DISTINCT.contains(&word.to_ascii_lowercase().as_str());
    let beside = match (assigned, strength) {
        // `unexpected token: x` and the like are about words, not secrets.
        (true, Strength::Weak) => {
            let said = |word: &str| line[..name.start].trim_end().ends_with(word);
            let quoted = matches!(bytes.get(at), Some(b'"' | b'\''))
                && !["unexpected", "unknown", "invalid", "bad"].into_iter().any(said);
            sort == Text::Settings || !colon || after == at || quoted_name || quoted
        }
        (true, _) => true,
        (false, Strength::Weak) => at > gap && option && sign == after,
        (false, Strength::Strong) => {
            at > gap
                && (option
                    || distinct
                    || (sort == Text::Settings && sign == after)
                    || (quoted_name && is_no_word(&line[at..])))
        }
        (false, _) => false,
    };
    if !beside || at >= bytes.len() {
        return None;
    }
    // `req.hdr(X-Auth-Token) -m str VALUE …`: what the header is compared with stands behind flags.
    if !assigned && bytes.get(name.end) == Some(&b')') && bytes[at] == b'-' {
        return compared(line, at);
    }
    // `%{HTTP:X-Auth-Token} -in { 'VALUE', … }`: the same behind a word of httpd's.
    if !assigned && bytes.get(name.end) == Some(&b'}') && bytes[at] == b'-' {
        return listed(line, at);
    }
    if let Some(inner) = inside_escaped_quotes(line, at) {
        return plausible(line, inner);
    }
    // A quote that was opened before the name closes the value: "NAME=value with blanks".
    if let Some(quote) = before.filter(|q| assigned && !quoted_name && matches!(q, b'"' | b'\'')) {
        let end = line[at..].bytes().position(|b| b == quote).map_or(line.len(), |n| at + n);
        return plausible(line, at..end);
    }
    if matches!(bytes[at], b'"' | b'\'') {
        return plausible(line, inside_quotes(line, at));
    }
    let whole =
        (sort == Text::Settings && begins && assigned) || (header && (assigned || sort == Text::Settings));
    plausible(line, at..end_of(line, at, whole))
}

/// Whether what stands next is no word of a sentence: letters and digits mixed, and no place.
fn is_no_word(rest: &str) -> bool {
    let word = rest.split([' ', '\t', ',', ';']).next().unwrap_or_default();
    let has = |of: fn(&u8) -> bool| word.bytes().any(|b| of(&b));
    word.len() >= 6
        && has(u8::is_ascii_digit)
        && has(u8::is_ascii_alphabetic)
        && !word.contains(['/', ':', '.', '(', '='])
}

/// Where a value without quotes ends: with the line, or at the next blank, less the signs that close what
/// stands around it.
fn end_of(line: &str, at: usize, whole: bool) -> usize {
    let rest = &line[at..];
    step(rest.find([' ', '\t']).unwrap_or(rest.len()));
    let value = match rest.find([' ', '\t', '"', '\'']) {
        _ if whole => rest.trim_end(),
        Some(end) => &rest[..end],
        None => rest,
    };
    let closing: &[char] =
        if value.starts_with("${") { &[';', '\r'] } else { &[';', ',', ')', '}', ']', '>', '\r'] };
    at + value.trim_end_matches(closing).len()
}

/// What a fetched value is compared with: it stands behind flags, up to the end of the condition.
fn compared(line: &str, at: usize) -> Option<Range<usize>> {
    const METHODS: &[&str] =
        &["str", "beg", "end", "sub", "reg", "dir", "dom", "len", "found", "bin", "int", "ip"];
    let mut rest = at;
    let mut file = false;
    for token in line[at..].split_inclusive(' ') {
        // What stands in a file (`-f`) is no secret of this line, nor is its name.
        let flag = file || token.starts_with('-') || METHODS.contains(&token.trim());
        file = token.trim() == "-f";
        if !flag {
            break;
        }
        rest += token.len();
    }
    let end = line[rest..].find(" }").map_or(line.trim_end().len(), |n| rest + n);
    (end > rest).then_some(rest..end)
}

/// What a word behind an operator is compared with: all of a list in braces, else the rest of the line.
fn listed(line: &str, operator: usize) -> Option<Range<usize>> {
    let behind = line[operator..].find([' ', '\t']).map_or(line.len(), |n| operator + n);
    let rest = line[behind..].trim_start();
    let from = line.len() - rest.len();
    let end = if rest.starts_with('{') { rest.find('}').unwrap_or(rest.len()) } else { rest.len() };
    (end > 0).then_some(from..from + end)
}

/// How many signs of escape stand from a byte on.
fn escapes(bytes: &[u8], at: usize) -> usize {
    bytes.iter().skip(at).take_while(|b| **b == b'\\').count()
}

/// What stands between escaped quotes, where such open at a byte.
fn inside_escaped_quotes(line: &str, at: usize) -> Option<Range<usize>> {
    let bytes = line.as_bytes();
    let open = at + escapes(bytes, at);
    (open > at && matches!(bytes.get(open), Some(b'"' | b'\''))).then_some(())?;
    let end = line[open + 1..].find(['\\', '"', '\'']).map_or(line.len(), |n| open + 1 + n);
    Some(open + 1..end)
}

/// What stands between quotes that open at a byte, escapes and doubled quotes included.
fn inside_quotes(line: &str, open: usize) -> Range<usize> {
    let bytes = line.as_bytes();
    let quote = bytes[open];
    let mut at = open + 1;
    while at < bytes.len() {
        match bytes[at] {
            b'\\' => at += 1,
            b if b == quote && bytes.get(at + 1) == Some(&quote) => at += 1,
            b if b == quote => break,
            _ => {}
        }
        at += 1;
    }
    open + 1..at.min(line.len())
}

/// No path is longer (`PATH_MAX`), in bytes.
const LONGEST_NAME: usize = 4096;

/// A value that can be a secret: no word of a sentence, no variable, no file that holds one.
fn plausible(line: &str, span: Range<usize>) -> Option<Range<usize>> {
    let value = line.get(span.clone())?;
    // No file and no variable has so long a name.
    if value.len() > LONGEST_NAME {
        return Some(span);
    }
    let lower = value.to_ascii_lowercase();
    let variable = (value.starts_with("${") && value.ends_with('}'))
        || value.starts_with("%{")
        || (value.starts_with('$') && value[1..].bytes().all(is_name) && value.len() > 1);
    let key_file = value.starts_with('/')
        && [".key", ".pem", ".crt", ".cer", ".der", ".p12", ".jks", ".pub"]
            .iter()
            .any(|e| lower.ends_with(e));
    let pattern =
        value == super::MASK || HARMLESS.contains(&lower.trim_end_matches(['.', ',', ';', ')', ':']));
    (!value.is_empty() && !variable && !key_file && !pattern).then_some(span)
}

/// All that stands behind a name with the key of a secret in brackets, with a sign of equality or without:
/// `php_value[db.password] = SECRET`.
fn keyed(line: &str, found: &mut Vec<Range<usize>>) {
    let start = line.len() - line.trim_start().len();
    let Some(close) = line[start..].find(']').map(|at| start + at) else { return };
    let Some(open) = line[start..close].find('[').map(|at| start + at) else { return };
    let bare = line[start..open].bytes().all(|b| b.is_ascii_alphanumeric() || b"_-.".contains(&b));
    let rest = line[close + 1..].trim_start().trim_start_matches('=').trim_start();
    let text = rest.trim_end();
    let secret = bare && open > start && strength(&line[open + 1..close]) != Strength::No;
    // One word alone is looked at as every other value is.
    if secret && (text.contains([' ', '\t']) || !line[close + 1..].trim_start().starts_with('=')) {
        let from = line.len() - rest.len();
        found.push(from..from + text.len());
    }
}
