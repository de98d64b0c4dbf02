//! The access rules of PostgreSQL (`pg_hba.conf`), row by row as the server reads them (`parse_hba_line`
//! of its
//! hba.c). A row that is wrong ends the start; all of them are told.
use crate::bounds::step;
use crate::code::Code;
use crate::config::entries::Book;
use crate::config::lines::{Line, Text};
use crate::config::nearest;
use crate::config::release::Release;
use crate::path;
use std::net::IpAddr;

const DEPTH: usize = 10;
const TYPES: &[&str] = &["local", "host", "hostssl", "hostnossl", "hostgssenc", "hostnogssenc"];
const METHODS: &[&str] = &[
    "trust",
    "reject",
    "scram-sha-256",
    "md5",
    "password",
    "gss",
    "ident",
    "peer",
    "ldap",
    "radius",
    "cert",
    "pam",
];
/// Options that one method brings, by their name.
const OPTIONS: &[(&str, &str)] = &[
    ("pamservice", "pam"),
    ("pam_use_hostname", "pam"),
    ("ldapurl", "ldap"),
    ("ldaptls", "ldap"),
    ("ldapscheme", "ldap"),
    ("ldapserver", "ldap"),
    ("ldapport", "ldap"),
    ("ldapbinddn", "ldap"),
    ("ldapbindpasswd", "ldap"),
    ("ldapsearchattribute", "ldap"),
    ("ldapsearchfilter", "ldap"),
    ("ldapbasedn", "ldap"),
    ("ldapprefix", "ldap"),
    ("ldapsuffix", "ldap"),
    ("radiusservers", "radius"),
    ("radiusports", "radius"),
    ("radiussecrets", "radius"),
    ("radiusidentifiers", "radius"),
    ("krb_realm", "gss"),
    ("include_realm", "gss"),
    ("map", "ident peer gss cert"),
    ("compat_realm", "sspi"),
    ("upn_username", "sspi"),
];

/// A word of a row: several, with commas between them, are one field.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Token {
    text: String,
    quoted: bool,
}

type Field = Vec<Token>;

/// What is wrong with a row, and the word that is.
struct Wrong {
    at: String,
    why: String,
    better: Option<&'static str>,
}

fn wrong(at: &str, why: impl Into<String>) -> Wrong {
    Wrong { at: at.to_owned(), why: why.into(), better: None }
}

/// Reads the file and says what is wrong in it.
pub(super) fn judge(book: &mut Book, file: &str, release: &Release) {
    let mut rows = 0;
    let whole = rows_of(book, file, release, 0, &mut rows);
    if rows == 0 && whole {
        let found = crate::config::ConfigFinding {
            about: Some(crate::config::About::File(file.to_owned())),
            ..crate::config::ConfigFinding::error(
                Code::ConfigSyntax,
                format!("{file} holds no access rule: nobody could log in, and the server does not start"),
            )
        };
        book.out.add(found);
    }
}

/// What is secret in a file of rules: the passwords by which the server itself logs in elsewhere. The rest is
/// left to the net.
pub(super) fn conceal(text: &str) -> crate::secrets::Concealed {
    let mut found = crate::secrets::Concealed::default();
    for name in ["ldapbindpasswd", "radiussecrets"] {
        for (at, _) in text.match_indices(name) {
            step(1);
            let rest = &text[at + name.len()..];
            let blank = |c: char| matches!(c, ' ' | '\t' | '=' | '"');
            let begin = at + name.len() + (rest.len() - rest.trim_start_matches(blank).len());
            let quoted = text[..begin].ends_with('"') || text[..at].ends_with('"');
            let ends = |c: char| c == '\n' || c == '"' || (!quoted && matches!(c, ' ' | '\t'));
            let end = text[begin..].find(ends).map_or(text.len(), |len| begin + len);
            found.secret.push(begin..end);
        }
    }
    found
}

/// Whether all of it was read.
fn rows_of(book: &mut Book, file: &str, release: &Release, depth: usize, rows: &mut usize) -> bool {
    let Some(text) = book.text(file) else { return false };
    let mut lines = text.lines();
    let mut whole = true;
    while let Some(line) = lines.next() {
        step(1);
        let mut joined = line.text.to_owned();
        // A backslash at the end goes on in the next line, since release 14.
        while release.version.major() >= 14 && joined.ends_with('\\') {
            joined.pop();
            let Some(next) = lines.next() else { break };
            joined.push_str(next.text);
        }
        let fields = fields(&joined);
        let Some(first) = fields.first().and_then(|f| f.first()) else { continue };
        if release.version.major() >= 16 && first.text.starts_with("include") && !first.quoted {
            *rows += 1;
            whole &= included(book, &text, &line, file, release, depth, &fields, rows);
            continue;
        }
        *rows += 1;
        let lost = lost_list(book, file, &fields);
        // What was masked when it was recorded nobody here knows: only the value of an option can be done
        // without.
        let hidden = |token: &Token| {
            let rest = token.text.split_once('=').map_or(token.text.as_str(), |(name, _)| name);
            token.text.contains(crate::secrets::MASK)
                && (rest.contains(crate::secrets::MASK) || !token.text.contains('='))
        };
        if fields.iter().flatten().any(hidden) {
            continue;
        }
        match lost.map_or_else(|| row(&fields, release), Err) {
            Err(found) if !found.at.contains(crate::secrets::MASK) => refuse(book, &text, &line, &found),
            _ => {}
        }
    }
    whole
}

/// A list of names in a file of its own (`@NAME`) that is not there.
fn lost_list(book: &Book, file: &str, fields: &[Field]) -> Option<Wrong> {
    let named = fields.iter().flatten().filter(|token| !token.quoted && token.text.len() > 1);
    let mut names = named.filter_map(|token| token.text.strip_prefix('@'));
    names.find_map(|name| {
        let target = path::join(path::parent(file), name);
        let gone = book.snapshot.exists(&target) == Some(false);
        gone.then(|| wrong(name, format!("{target} does not exist")))
    })
}

/// An address as the C library reads it, older forms such as `10.0.1` included (`inet_aton`).
fn numeric(text: &str) -> Option<IpAddr> {
    if let Ok(address) = text.split('%').next().unwrap_or_default().parse() {
        return Some(address);
    }
    let number = |part: &str| {
        let (digits, base) = match part.as_bytes() {
            [b'0', b'x' | b'X', ..] => (&part[2..], 16),
            [b'0', _, ..] => (&part[1..], 8),
            _ => (part, 10),
        };
        u32::from_str_radix(digits, base).ok().filter(|_| digits.bytes().all(|b| b.is_ascii_hexdigit()))
    };
    let parts: Vec<u32> = text.split('.').map(number).collect::<Option<_>>()?;
    let (last, bytes) = parts.split_last().filter(|(_, bytes)| bytes.len() < 4)?;
    let fits = bytes.iter().all(|b| *b < 256) && u64::from(*last) < 1 << (8 * (4 - bytes.len()));
    let high = bytes.iter().enumerate().fold(0u32, |sum, (at, byte)| sum | byte << (24 - 8 * at));
    fits.then(|| IpAddr::from((high | last).to_be_bytes()))
}

fn refuse(book: &mut Book, text: &Text, line: &Line, wrong: &Wrong) {
    let span = text.span(line, part(line.text, &wrong.at)).filter(|_| wrong.better.is_some());
    let place = text.place(line, part(line.text, &wrong.at));
    let found = book.find(&place, "", Code::ConfigSyntax, wrong.why.clone());
    found.depends_on = crate::config::DependsOn::Text;
    found.meant(span, wrong.better.map(str::to_owned));
}

/// The part of a line that a word stands in; all of it where it is not found.
fn part<'t>(line: &'t str, word: &str) -> &'t str {
    let at = line.find(word).filter(|_| !word.is_empty());
    at.and_then(|at| line.get(at..at + word.len())).unwrap_or_else(|| line.trim())
}

#[expect(clippy::too_many_arguments, reason = "the reading of one file hands on all of its state")]
fn included(
    book: &mut Book,
    text: &Text,
    line: &Line,
    file: &str,
    release: &Release,
    depth: usize,
    fields: &[Field],
    rows: &mut usize,
) -> bool {
    let how = fields[0][0].text.clone();
    let target = match fields.get(1).map(Vec::as_slice) {
        Some([one]) if fields.len() == 2 => path::join(path::parent(file), &one.text),
        _ => {
            refuse(book, text, line, &wrong(&how, format!("{how} takes one name")));
            return true;
        }
    };
    if depth >= DEPTH {
        refuse(book, text, line, &wrong(&how, "files include each other without end"));
        return true;
    }
    let there = book.snapshot.exists(&target);
    match how.as_str() {
        "include_if_exists" if there == Some(false) => true,
        "include" | "include_if_exists" | "include_dir" if there == Some(false) => {
            let found = book.find(
                &text.place(line, part(line.text, &how)),
                "",
                Code::ConfigMissingFile,
                format!("{target} does not exist"),
            );
            found.depends_on = crate::config::DependsOn::Files;
            found.about = Some(crate::config::About::File(target));
            true
        }
        "include_dir" => {
            let names = book.snapshot.list(&target).seen().unwrap_or_default();
            let mut whole = true;
            for entry in names.iter().filter(|e| e.name.ends_with(".conf") && !e.name.starts_with('.')) {
                whole &= rows_of(book, &path::join(&target, &entry.name), release, depth + 1, rows);
            }
            whole
        }
        "include" | "include_if_exists" => rows_of(book, &target, release, depth + 1, rows),
        other => {
            refuse(book, text, line, &wrong(other, format!("\"{other}\" is not a type of connection")));
            true
        }
    }
}

/// The fields of a line (`next_token`): blanks part them, commas part their words, quotes hold both.
fn fields(line: &str) -> Vec<Field> {
    let mut all: Vec<Field> = Vec::new();
    let mut chars = line.chars().peekable();
    let mut goes_on = false;
    loop {
        while chars.next_if(|c| matches!(c, ' ' | '\t' | '\r' | ',')).is_some() {}
        let (mut text, mut quote, mut was_quote, mut saw_quote, mut initial) =
            (String::new(), false, false, false, false);
        let mut comma = false;
        while let Some(c) = chars.next_if(|c| quote || !matches!(c, ' ' | '\t' | '\r')) {
            if c == '#' && !quote {
                chars.by_ref().for_each(drop);
                break;
            }
            if c == ',' && !quote {
                comma = true;
                break;
            }
            if c != '"' || was_quote {
                text.push(c);
            }
            was_quote = quote && c == '"' && !was_quote;
            if c == '"' {
                quote = !quote;
                saw_quote = true;
                initial |= text.is_empty();
            }
        }
        if !saw_quote && text.is_empty() {
            return all;
        }
        let token = Token { text, quoted: initial };
        match all.last_mut() {
            Some(last) if goes_on => last.push(token),
            _ => all.push(vec![token]),
        }
        goes_on = comma;
    }
}

fn single<'f>(field: Option<&'f Field>, what: &str, last: &str) -> Result<&'f Token, Wrong> {
    match field.map(Vec::as_slice) {
        None | Some([]) => Err(wrong(last, format!("the row ends before {what}"))),
        Some([one]) => Ok(one),
        Some([first, ..]) => Err(wrong(&first.text, format!("{what} is several words, expected one"))),
    }
}

fn row(fields: &[Field], release: &Release) -> Result<(), Wrong> {
    let mut rest = fields.iter();
    let kind = single(rest.next(), "the type of connection", "")?;
    if !TYPES.contains(&kind.text.as_str()) {
        return Err(Wrong {
            better: nearest(&kind.text, TYPES.iter().copied()),
            ..wrong(
                &kind.text,
                format!("\"{}\" is not a type of connection, expected {}", kind.text, TYPES.join(", ")),
            )
        });
    }
    for what in ["the database", "the role"] {
        if rest.next().is_none() {
            return Err(wrong(&kind.text, format!("the row ends before {what}")));
        }
    }
    if kind.text != "local" {
        let address = single(rest.next(), "the address", &kind.text)?;
        if needs_mask(address)? {
            let mask = single(rest.next(), "the mask of the address", &address.text)?;
            let own = numeric(&address.text).map(|a| a.is_ipv4());
            match (own, numeric(&mask.text)) {
                (Some(v4), Some(mask)) if v4 == mask.is_ipv4() => {}
                (_, Some(_)) => return Err(wrong(&mask.text, "address and mask are of different families")),
                (_, None) => {
                    return Err(wrong(
                        &mask.text,
                        format!("\"{}\" is not a mask; an address takes one, or /BITS", mask.text),
                    ));
                }
            }
        }
    }
    let method = single(rest.next(), "the method", &kind.text)?;
    method_fits(&kind.text, &method.text, release)?;
    let method = method.text.as_str();
    let mut given: Vec<(&str, &str)> = Vec::new();
    for token in rest.flatten() {
        let Some((name, value)) = token.text.split_once('=') else {
            return Err(wrong(&token.text, format!("\"{}\" is not an option NAME=VALUE", token.text)));
        };
        option(&kind.text, method, name, value)?;
        given.push((name, value));
    }
    all_given(method, &given)
}

/// Whether a mask must stand behind an address.
fn needs_mask(address: &Token) -> Result<bool, Wrong> {
    let text = address.text.as_str();
    if !address.quoted && matches!(text, "all" | "samehost" | "samenet") {
        return Ok(false);
    }
    let (own, bits) = text.split_once('/').map_or((text, None), |(own, bits)| (own, Some(bits)));
    match (numeric(own), bits) {
        (None, Some(_)) => {
            Err(wrong(text, format!("\"{text}\" is a name with a mask, and only addresses have one")))
        }
        // What is no address is a name.
        (None, None) => Ok(false),
        (Some(_), None) => Ok(true),
        (Some(address), Some(bits)) => {
            let most = if address.is_ipv4() { 32 } else { 128 };
            let fits = bits.parse::<i64>().is_ok_and(|n| (0..=most).contains(&n));
            if fits {
                Ok(false)
            } else {
                Err(wrong(text, format!("\"{bits}\" is not a number of bits from 0 to {most}")))
            }
        }
    }
}

fn method_fits(kind: &str, method: &str, release: &Release) -> Result<(), Wrong> {
    if matches!(method, "sspi" | "bsd") {
        return Err(wrong(method, format!("the method {method} is not part of a server on Linux")));
    }
    if method == "oauth" && release.version.major() >= 18 {
        return Ok(());
    }
    if !METHODS.contains(&method) {
        return Err(Wrong {
            better: nearest(method, METHODS.iter().copied()),
            ..wrong(method, format!("\"{method}\" is not a method, expected {}", METHODS.join(", ")))
        });
    }
    let why = match (kind, method) {
        ("local", "gss") => "gss does not work over a local socket",
        ("local", "peer") => return Ok(()),
        (_, "peer") => "peer works over a local socket only",
        ("hostssl", "cert") => return Ok(()),
        (_, "cert") => "cert works in hostssl rows only",
        _ => return Ok(()),
    };
    Err(wrong(method, why))
}

fn option(kind: &str, method: &str, name: &str, value: &str) -> Result<(), Wrong> {
    if matches!(name, "clientcert" | "clientname") {
        if kind != "hostssl" {
            return Err(wrong(name, format!("{name} works in hostssl rows only")));
        }
        let known: &[&str] = match (name, method) {
            ("clientname", _) => &["CN", "DN"],
            (_, "cert") => &["verify-full"],
            _ => &["verify-ca", "verify-full"],
        };
        return if known.contains(&value) {
            Ok(())
        } else {
            Err(wrong(value, format!("{name} is \"{value}\", expected {}", known.join(" or "))))
        };
    }
    if method == "oauth" {
        return Ok(());
    }
    let Some((_, by)) = OPTIONS.iter().find(|(own, _)| *own == name) else {
        let names = OPTIONS.iter().map(|(own, _)| *own);
        return Err(Wrong {
            better: nearest(name, names),
            ..wrong(name, format!("\"{name}\" is not an option of a row"))
        });
    };
    // Over a local socket, ident stands for peer.
    if !by.split(' ').any(|m| m == method) {
        return Err(wrong(
            name,
            format!("{name} is an option of {}, not of {method}", by.replace(' ', ", ")),
        ));
    }
    let number = |text: &str| {
        let digits = text.trim_start().strip_prefix(['-', '+']).unwrap_or(text.trim_start());
        digits.starts_with(|c: char| c.is_ascii_digit()) && !digits.trim_start_matches('0').is_empty()
    };
    match name {
        "ldapport" if !number(value) => Err(wrong(value, format!("{name} is \"{value}\", expected a port"))),
        "radiusports" if value.split(',').any(|p| !number(p)) => {
            Err(wrong(value, format!("{name} is \"{value}\", expected ports")))
        }
        "ldapurl" if !value.starts_with("ldap://") && !value.starts_with("ldaps://") => {
            Err(wrong(value, format!("{name} does not begin with ldap:// or ldaps://")))
        }
        _ => Ok(()),
    }
}

/// What a method cannot do without.
fn all_given(method: &str, given: &[(&str, &str)]) -> Result<(), Wrong> {
    let has = |name: &str| given.iter().any(|(own, _)| *own == name);
    match method {
        "ldap" => {
            let parts =
                ["ldapbasedn", "ldapbinddn", "ldapbindpasswd", "ldapsearchattribute", "ldapsearchfilter"];
            let direct = has("ldapprefix") || has("ldapsuffix");
            if direct && parts.iter().any(|p| has(p)) {
                return Err(wrong(method, "ldapprefix and ldapsuffix do not go with a search"));
            }
            if !direct && !has("ldapbasedn") && !has("ldapurl") {
                return Err(wrong(method, "ldap needs ldapbasedn, ldapprefix or ldapsuffix"));
            }
            if has("ldapsearchattribute") && has("ldapsearchfilter") {
                return Err(wrong(method, "ldapsearchattribute does not go with ldapsearchfilter"));
            }
            Ok(())
        }
        "radius" => ["radiusservers", "radiussecrets"]
            .iter()
            .find(|name| !has(name))
            .map_or(Ok(()), |name| Err(wrong(method, format!("radius needs {name}")))),
        _ => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::config::release::Version;

    /// The word that is wrong in a row.
    fn at(line: &str, version: &str) -> Option<String> {
        let release = Release { flavour: "postgresql".into(), version: Version::parse(version).unwrap() };
        row(&fields(line), &release).err().map(|w| w.at)
    }

    /// Every expectation was asked of PostgreSQL 15.
    #[test]
    fn rows_are_judged_as_the_server_does() {
        for line in [
            "local all all peer",
            "local all all ident map=quay",
            "host all all 127.0.0.1/32 scram-sha-256",
            "host all all 10.0.0.0 255.0.0.0 md5",
            "host all all ::1/128 trust",
            "host tide,\"ebb flood\" all quay2.example md5 # here",
            "hostssl all all all cert clientcert=verify-full map=m",
            "hostnossl all all samenet reject",
            "host all all all ldap ldapserver=dir ldapprefix=\"cn=\"",
            "host all all .example.org password",
            "hostgssenc all all 0.0.0.0/0 gss include_realm=1",
        ] {
            assert_eq!(at(line, "15"), None, "{line}");
        }
        for (line, word) in [
            ("locl all all peer", "locl"),
            ("local all peer", "local"),
            ("local all", "local"),
            ("host all all 127.0.0.1 md5", "md5"),
            ("host all all 10.0.1 md5", "md5"),
            ("host all all 127.0.0.1/33 md5", "127.0.0.1/33"),
            ("host all all quay2/8 md5", "quay2/8"),
            ("host all all 127.0.0.1/32 sha", "sha"),
            ("host all all 127.0.0.1/32 peer", "peer"),
            ("local all all gss", "gss"),
            ("host all all all cert", "cert"),
            ("local all all peer quay", "quay"),
            ("local all all peer quay=1", "quay"),
            ("local all all md5 map=x", "map"),
            ("host all all all,samenet md5", "all"),
            ("host all all all ldap", "ldap"),
            ("host all all all radius radiusservers=10.0.0.5", "radius"),
            ("host all all 10.0.0.0 ffff:: md5", "ffff::"),
            ("host all all all oauth", "oauth"),
            ("host all all all sspi", "sspi"),
        ] {
            assert_eq!(at(line, "15").as_deref(), Some(word), "{line}");
        }
        assert_eq!(at("host all all all oauth issuer=x scope=y", "18"), None);
    }

    #[test]
    fn passwords_of_the_servers_own_are_secrets() {
        let text = "host all all all ldap ldapbindpasswd=ebb ldapbasedn=x\n\
            host all all all radius radiussecrets=\"ebb flood\"\nx \"ldapbindpasswd=a b\" y\n";
        let found = conceal(text);
        let all: Vec<&str> = found.secret.iter().map(|span| &text[span.clone()]).collect();
        assert_eq!(all, ["ebb", "a b", "ebb flood"]);
        let masked = "host all all all ldap ldapbindpasswd=MASKED ldapbasedn=x";
        assert_eq!(at(masked, "15"), None);
    }

    #[test]
    fn fields_hold_words_with_commas_between() {
        let of = |line: &str| {
            fields(line)
                .into_iter()
                .map(|f| f.into_iter().map(|t| t.text).collect::<Vec<_>>())
                .collect::<Vec<_>>()
        };
        assert_eq!(of("a b, c\t\"d \"\"e\" # f"), [vec!["a"], vec!["b", "c"], vec!["d \"e"]]);
        assert_eq!(of(" # only"), Vec::<Vec<String>>::new());
        assert!(fields("\"all\"")[0][0].quoted);
    }
}
