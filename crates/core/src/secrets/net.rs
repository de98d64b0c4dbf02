//! The net over text whose grammar is not known: logs, messages, command lines, files of no kind. It finds
//! what stands beside the name of a secret, in addresses, in headers, in statements of SQL, and behind the
//! options of well-known clients.
use super::names::{Strength, is_header, strength};
use regex::Regex;
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

fn pattern(text: &str) -> Option<Regex> {
    Regex::new(&plain_letters(text)).ok()
}

/// A pattern whose letters, digits and edges of words are those of ASCII: names of secrets are, and to build it
/// takes a tenth of the time, which every start pays that shows anything.
fn plain_letters(text: &str) -> String {
    let mut out = String::with_capacity(text.len() * 2);
    let mut inside = false;
    let mut rest = text.chars();
    while let Some(c) = rest.next() {
        match c {
            '\\' => match (rest.next(), inside) {
                (Some('w'), true) => out.push_str("0-9A-Za-z_"),
                (Some('w'), false) => out.push_str("[0-9A-Za-z_]"),
                (Some('d'), true) => out.push_str("0-9"),
                (Some('d'), false) => out.push_str("[0-9]"),
                (Some('b'), false) => out.push_str(r"(?-u:\b)"),
                (Some(other), _) => out.extend(['\\', other]),
                (None, _) => out.push('\\'),
            },
            '[' => {
                inside = true;
                out.push(c);
            }
            ']' => {
                inside = false;
                out.push(c);
            }
            other => out.push(other),
        }
    }
    out
}

/// Statements of SQL that set a password (both flavours of the MySQL family, PostgreSQL).
static SQL: LazyLock<Vec<Regex>> = LazyLock::new(|| {
    let head = r"(?i)(?:identified\s+(?:by|with\s+\S+\s+(?:by|as|using))\s+(?:password\s+)?|\bpassword\s*\(\s*|\bpassword\s+|\bset\s+password\b[^=;\n]*=\s*(?:password\s*\(\s*)?|\bmaster_password\s*=\s*|\bsource_password\s*=\s*|\bpragma\s+(?:re)?key\s*=\s*)";
    [format!(r"{head}'((?:\\.|''|[^'\\\n])*)'"), format!(r#"{head}"((?:\\.|""|[^"\\\n])*)""#)]
        .iter()
        .filter_map(|p| pattern(p))
        .collect()
});
/// Well-known clients, each with the option by which it takes a secret without its name, as often as it
/// stands there.
static CLIENTS: LazyLock<Vec<(Regex, Regex)>> = LazyLock::new(|| {
    [
        (r"(?:mysql|mariadb)[\w.-]*", r#"\s["']?-p([^\s"']+)"#),
        ("sshpass", r#"\s-p\s*["']?([^\s"']+)"#),
        ("(?:redis|valkey)-cli", r#"\s(?:-a|--pass)\s+["']?([^\s"']+)"#),
        (r"ldap\w+", r#"\s-w\s*["']?([^\s"']+)"#),
        (r"mongo\w*", r#"\s-p\s*["']?([^\s"']+)"#),
        (r"(?:ipmitool|(?:un)?zip|mosquitto_\w+)", r#"\s-P\s*["']?([^\s"']+)"#),
        (r"(?:docker|podman)\s+login", r#"\s-p\s*["']?([^\s"']+)"#),
        ("rabbitmqctl", r#"\s(?:add_user|change_password|authenticate_user)\s+\S+\s+["']?([^\s"']+)"#),
        ("lftp", r#"\s-u\s*["']?[^\s,"']+,([^\s"']+)"#),
        ("curl", r#"\s(?:-b|--cookie)\s*["']?[^\s"'=]+=([^"'\n]*)"#),
        ("htpasswd", r#"\s-\w*b\w*\s+\S+\s+\S+\s+["']?([^\s"']+)"#),
    ]
    .iter()
    .filter_map(|(program, option)| {
        Some((pattern(&format!(r#"(?:^|[\s"'/(=]){program}(\s[^|;&\n]*)"#))?, pattern(option)?))
    })
    .collect()
});
/// Options of many clients that take a secret without its name.
static OPTIONS: LazyLock<Vec<Regex>> = LazyLock::new(|| {
    [
        r#"(?:^|\s)(?:-u|-U|--user|--userpwd|--proxy-user|--auth|--basic-auth|--basic|--http-user)(?:=|\s+)["']?[^\s:"']+[:%]([^\s"']+)"#,
        r#"(?:^|\s)-pass(?:in|out|wd)?\s+pass:([^\s"']+)"#,
        r#"(?:^|\s)-setcookie\s+["']?([^\s"']+)"#,
    ]
    .iter()
    .filter_map(|p| pattern(p))
    .collect()
});
static IN_ADDRESS: LazyLock<Option<Regex>> =
    LazyLock::new(|| pattern(r#"(?:^|[\s"'=(,<>])[^\s:@/"'<>()]+:([^\s@"'<>/:]+)@[\w.\[(-]"#));
static IN_URL: LazyLock<Option<Regex>> = LazyLock::new(|| pattern(r#"://[^\s/@"'<>:]*:([^\s"'<>]*)@"#));
/// A web address with nothing but one word for an account: that is a key (`https://KEY@host`).
static KEY_IN_URL: LazyLock<Option<Regex>> = LazyLock::new(|| pattern(r#"(?i)\bhttps?://([^\s/@"'<>:$]+)@"#));
/// Its name and its sign of equality as an address carries them: `password%3D…`.
static ENCODED: LazyLock<Option<Regex>> = LazyLock::new(|| {
    pattern(
        r#"(?i)(?:passw(?:or)?d|passphrase|pwd|token|secret|api[_-]?key)(?:%3D|%22%3A(?:%20)?%22)([^&\s"'%]+)"#,
    )
});
/// A cookie that a rewriting rule sets: `[CO=NAME:VALUE:…]` (configuration of httpd).
static SET_COOKIE: LazyLock<Option<Regex>> =
    LazyLock::new(|| pattern(r#"(?i)[\[,](?:co|cookie)=(?:;[^;\],]+;|[^:;\],]+:)([^:;\],]+)"#));
/// What a cache is told to let it in at another one.
static TOLD_OTHER: LazyLock<Option<Regex>> =
    LazyLock::new(|| pattern(r#"(?:\bAUTH2\s+\S+|\bMIGRATE\b[^\n]*\bAUTH)\s+["']?([^\s"']+)"#));
/// A row that is put into a table: its columns, and what is put there.
static INSERTED: LazyLock<Option<Regex>> = LazyLock::new(|| {
    pattern(
        r#"(?i)\b(?:insert|replace)\b[^()\n]*\binto\s+[^()\n]+\((?<columns>[^()\n]*)\)\s*values\s*(?<values>\([^\n]*)"#,
    )
});
/// A sentence of a log that repeats a password: no word of the language, so that `with password
/// authentication` stays.
static TOLD_IN_LOG: LazyLock<Option<Regex>> = LazyLock::new(|| {
    pattern(
        r#"(?i)\b(?:(?:with|using|and|bad|wrong|invalid)\s+(?:password|passphrase|token|secret)|(?:password|passphrase|token|secret)\s+(?:is|was))\s+["'`]?([^\s"'`,;()]*[0-9!@#$%^&*+=~][^\s"'`,;()]*)"#,
    )
});
static SCHEMES: LazyLock<Option<Regex>> =
    LazyLock::new(|| pattern(r"(?i)\b(?:basic|bearer|digest|negotiate)\s+([A-Za-z0-9._~+/=-]{6,})"));
static QUERY: LazyLock<Option<Regex>> = LazyLock::new(|| pattern(r#"[\w/.%~+-]\?([^\s"'<>?]*=[^\s"'<>]*)"#));
/// Accounts with their credentials: `stats auth NAME:PASSWORD` (haproxy), `ProxyPass … auth NAME:PASSWORD`.
static PAIRS: LazyLock<Option<Regex>> =
    LazyLock::new(|| pattern(r#"(?i)(?:\bauth|\bcredentials?)\s+["']?[^\s:"']+:([^\s"']+)"#));

/// Hashes of passwords in their modular form (crypt(5)), by scheme in braces (RFC 2307), and as databases
/// keep them.
static HASHES: LazyLock<Option<Regex>> = LazyLock::new(|| {
    pattern(
        r"(?i)(\$(?:[1567]|2[abxy]?|g?y|apr1|sha1|argon2\w*|scrypt|pbkdf2[\w-]*)\$[./a-z0-9$=,+-]{8,}|\{(?:s?sha\d*|s?md5|crypt|pbkdf2[\w-]*)\}[a-z0-9+/=.$]{8,}|scram-sha-\d+\$\d+:[a-z0-9+/=$:]{8,}|\*[0-9a-f]{40}\b)",
    )
});

/// What a request carries in its address beside a name that is too short to stand for a secret elsewhere.
static IN_QUERY: LazyLock<Option<Regex>> = LazyLock::new(|| {
    pattern(
        r#"(?i)[?&;](?:key|sig|signature|sid|code|auth|hash|ticket|session|pw|pin)(?:\[\w*\]|%5b\w*%5d)?=([^&;\s"'<>$]+)"#,
    )
});
/// `AUTH secret` and `AUTH account secret`, as a cache is told, where nothing else follows.
static TOLD_CACHE: LazyLock<Option<Regex>> = LazyLock::new(|| {
    pattern(r#"(?:^|[\s"'])AUTH\\?\s+([^\s"'\\]+(?:\\?\s+[^\s"'\\]+)?)(?:\\r|\\n|["']|\s*$)"#)
});
/// A key that stands in the configuration itself (`ssl_certificate_key data:…` of nginx); a variable is none.
static INLINE_KEY: LazyLock<Option<Regex>> =
    LazyLock::new(|| pattern(r#"(?i)certificate_key\s+["']?data:([^$\s"';][^\s"';]*)"#));
/// What a parameter of a request, or a cookie, is compared with (configuration of haproxy): flags stand
/// between.
static COMPARED: LazyLock<Option<Regex>> = LazyLock::new(|| {
    pattern(
        r#"\b(?:(?P<parameter>url_param|urlp|body_param|urlp_val)|(?:[a-z]+\.)?s?cook(?:_val|ie)?)\((?P<name>[^),]+)[^)]*\)(?:,[\w().,]+)?(?:\s+-\S+(?:\s+(?:str|beg|end|sub|reg|dir|dom|len|found|bin|int|ip)\b)?)*\s+(?P<value>[^\s{}|-][^{}]*)"#,
    )
});
/// An address whose account alone lets in.
static BARE_ACCOUNT: LazyLock<Option<Regex>> = LazyLock::new(|| pattern("://([A-Za-z0-9_-]{16,})@"));
/// Tokens that are known by their own form: signed ones (RFC 7519), and those that carry their issuer's mark.
static BARE_TOKEN: LazyLock<Option<Regex>> = LazyLock::new(|| {
    pattern(
        r#"(\beyJ[\w-]{6,}\.[\w-]+\.[\w-]*|\b(?:gh[opusr]_|github_pat_|glpat-|xox[abeprs]-|[rs]k_(?:live|test)_|npm_|dckr_pat_|hvs\.)[\w-]{12,})"#,
    )
});
/// An address of a database driver: `jdbc:oracle:thin:account/secret@host`.
static DRIVER: LazyLock<Option<Regex>> =
    LazyLock::new(|| pattern(r#"(?i)\bjdbc:oracle:\w+:[^\s/"'@]*/([^\s"'@]+)@"#));
/// Converters that take a key (configuration of haproxy).
static SIGNED: LazyLock<Option<Regex>> = LazyLock::new(|| {
    pattern(
        r#"\b(?:hmac\([^,()]*,\s*["']?([^"',()\s]+)|jwt_verify\([^,()]*,\s*["']?([^"',()\s]+)|aes_\w+\([^,()]*,([^()]*)\))"#,
    )
});
/// An element that names what its value is: `name="…" … value="…"`, in either order.
static NAMED: LazyLock<Vec<Regex>> = LazyLock::new(|| {
    let (name, value) = (
        r#"\b(?:name|key)\s*=\s*["'](?<name>[^"'<>]*)["']"#,
        r#"\bvalue\s*=\s*(?:"(?<a>[^"<]*)"|'(?<b>[^'<]*)')"#,
    );
    [format!("(?i){name}[^<>]*?{value}"), format!("(?i){value}[^<>]*?{name}")]
        .iter()
        .filter_map(|p| pattern(p))
        .collect()
});

/// A sentence in a comment that gives a secret away.
static TOLD: LazyLock<Option<Regex>> = LazyLock::new(|| {
    pattern(
        r#"(?i)\b(?:password|passwd|passphrase|secret|token|(?:api|access)[ -]key)\s+(?:is|was|now|for \S+ is)\s*:?\s+["']?([^\s"',;]+)"#,
    )
});
/// The word that ends a server by its shutdown port.
static SHUTDOWN: LazyLock<Option<Regex>> =
    LazyLock::new(|| pattern(r#"<Server\b[^>]*\bshutdown\s*=\s*["']([^"']*)["']"#));

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
        "cookie",
        "cook(",
        "co=",
        "insert",
        "replace",
        "sess",
        "_pat",
        "signature",
        "urlp",
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
        "hmac(",
        "jwt_verify(",
        "aes_",
    ];
    let kind = Some(aho_corasick::AhoCorasickKind::NoncontiguousNFA);
    aho_corasick::AhoCorasick::builder().kind(kind).ascii_case_insensitive(true).build(words).ok()
});

/// The bytes of every secret in a text, in order and apart.
pub(crate) fn spans(text: &str, sort: Text) -> Vec<Range<usize>> {
    if !HINTS.as_ref().is_none_or(|h| h.is_match(text)) {
        return Vec::new();
    }
    let mut found = Vec::new();
    // The attributes of an element may stand on several lines.
    let secret = |c: &regex::Captures| c.name("name").is_some_and(|n| strength(n.as_str()) != Strength::No);
    for element in
        NAMED.iter().filter(|_| text.contains('<')).flat_map(|p| p.captures_iter(text)).filter(secret)
    {
        found.extend(element.name("a").or(element.name("b")).map(|m| m.range()).filter(|r| !r.is_empty()));
    }
    let mut start = 0;
    for line in text.split('\n') {
        let here = of_line(line, sort);
        found.extend(here.into_iter().filter(|r| !r.is_empty()).map(|r| start + r.start..start + r.end));
        start += line.len() + 1;
    }
    apart(found)
}

/// The bytes of the secrets in one line.
fn of_line(line: &str, sort: Text) -> Vec<Range<usize>> {
    let mut here = Vec::new();
    pairs(line, sort, &mut here);
    words(line, &mut here);
    for (program, option) in CLIENTS.iter() {
        for rest in program.captures_iter(line).filter_map(|c| c.get(1)) {
            here.extend(
                option
                    .captures_iter(rest.as_str())
                    .filter_map(|c| c.get(1))
                    .map(|m| rest.start() + m.start()..rest.start() + m.end()),
            );
        }
    }
    for pattern in SQL.iter().chain(OPTIONS.iter()).chain(
        [
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
        ]
        .into_iter()
        .chain([&KEY_IN_URL, &ENCODED, &SET_COOKIE, &TOLD_OTHER, &TOLD_IN_LOG])
        .filter_map(|p| p.as_ref()),
    ) {
        here.extend(
            pattern.captures_iter(line).filter_map(|c| c.iter().skip(1).flatten().next()).map(|m| m.range()),
        );
    }
    for row in INSERTED.as_ref().into_iter().flat_map(|p| p.captures_iter(line)) {
        let columns = row.name("columns").map_or("", |m| m.as_str());
        if columns.split(',').any(|c| strength(c.trim().trim_matches(['"', '`', '[', ']'])) != Strength::No) {
            here.extend(row.name("values").map(|m| m.start() + 1..m.end()));
        }
    }
    if let Some(url) = IN_URL.as_ref() {
        // A number and a path behind it are a port, whatever comes later.
        let port = |t: &str| t.split_once('/').is_some_and(|(n, _)| n.bytes().all(|b| b.is_ascii_digit()));
        here.extend(
            url.captures_iter(line).filter_map(|c| c.get(1)).filter(|m| !port(m.as_str())).map(|m| m.range()),
        );
    }
    if sort == Text::Settings {
        of_setting(line, &mut here);
    }
    if sort == Text::Prose
        && let Some(query) = QUERY.as_ref()
    {
        here.extend(query.captures_iter(line).filter_map(|c| c.get(1)).map(|m| m.range()));
    }
    here
}

/// What only lines of settings and their comments tell.
fn of_setting(line: &str, here: &mut Vec<Range<usize>>) {
    for compared in
        COMPARED.as_ref().filter(|_| line.contains('(')).into_iter().flat_map(|p| p.captures_iter(line))
    {
        let name = compared.name("name").map_or("", |m| m.as_str());
        let short = ["key", "sig", "signature", "sid", "code", "hash", "ticket", "session", "pin"]
            .contains(&name.to_ascii_lowercase().as_str());
        if compared.name("parameter").is_none() || short || strength(name) != Strength::No {
            here.extend(compared.name("value").map(|m| m.start()..m.start() + m.as_str().trim_end().len()));
        }
    }
    let told = TOLD.as_ref().into_iter().flat_map(|p| p.captures_iter(line)).filter_map(|c| c.get(1));
    here.extend(told.filter(|m| plausible(line, m.range()).is_some()).map(|m| m.range()));
    here.extend(
        SHUTDOWN
            .as_ref()
            .into_iter()
            .flat_map(|p| p.captures_iter(line))
            .filter_map(|c| c.get(1))
            .map(|m| m.range()),
    );
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
        let name = &line[start..at];
        let strength = if is_header(name) { Strength::Strong } else { strength(name) };
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
    let quoted_name =
        matches!((before, bytes.get(at)), (Some(b'"'), Some(b'"')) | (Some(b'\''), Some(b'\'')));
    while at < bytes.len() && matches!(bytes[at], b'"' | b'\'' | b']' | b'}' | b')') && at - name.end < 3 {
        at += 1;
    }
    let gap = at;
    while matches!(bytes.get(at), Some(b' ' | b'\t')) {
        at += 1;
    }
    // The name is itself a value: `name="password" value="…"`.
    if quoted_name && line[..name.start - 1].ends_with('=') {
        return None;
    }
    let sign = at;
    while at < bytes.len()
        && (matches!(bytes[at], b'=' | b':' | b'>' | b'!' | b'~') || (bytes[at] == b',' && quoted_name))
        && at - sign < 3
    {
        at += 1;
    }
    let assigned = at > sign && bytes[sign] != b'>' && (bytes[sign] != b'!' || at - sign > 1);
    let colon = assigned && bytes[sign] == b':';
    let after = at;
    while matches!(bytes.get(at), Some(b' ' | b'\t')) {
        at += 1;
    }
    let header = is_header(word);
    let option = word.starts_with("--");
    let distinct = DISTINCT.contains(&word.to_ascii_lowercase().as_str());
    let beside = match (assigned, strength) {
        // `unexpected token: x` and the like are about words, not secrets.
        (true, Strength::Weak) => sort == Text::Settings || !colon || after == at || quoted_name,
        (true, _) => true,
        (false, Strength::Weak) => at > gap && option && sign == after,
        (false, Strength::Strong) => {
            at > gap && (option || distinct || (sort == Text::Settings && sign == after))
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
    let end = if whole {
        line.trim_end().len()
    } else {
        line[at..].find([' ', '\t', '"', '\'']).map_or(line.len(), |n| at + n)
    };
    let whole = line.get(at..end)?;
    let end = at
        + if whole.starts_with("${") {
            whole.trim_end_matches([';', '\r'])
        } else {
            whole.trim_end_matches([';', ',', ')', '}', ']', '>', '\r'])
        }
        .len();
    plausible(line, at..end)
}

/// What a fetched value is compared with: it stands behind flags, up to the end of the condition.
fn compared(line: &str, at: usize) -> Option<Range<usize>> {
    let mut rest = at;
    for token in line[at..].split_inclusive(' ') {
        let flag = token.starts_with('-')
            || matches!(
                token.trim(),
                "str"
                    | "beg"
                    | "end"
                    | "sub"
                    | "reg"
                    | "dir"
                    | "dom"
                    | "len"
                    | "found"
                    | "bin"
                    | "int"
                    | "ip"
            );
        if !flag {
            break;
        }
        rest += token.len();
    }
    let end = line[rest..].find(" }").map_or(line.trim_end().len(), |n| rest + n);
    (end > rest).then_some(rest..end)
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

/// A value that can be a secret: no word of a sentence, no variable, no file that holds one.
fn plausible(line: &str, span: Range<usize>) -> Option<Range<usize>> {
    let value = line.get(span.clone())?;
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

/// Words that a database's own way of writing accounts makes secrets: `user NAME … >password #hash`,
/// `rename-command OLD NEW`.
fn words(line: &str, found: &mut Vec<Range<usize>>) {
    let lower = line.to_ascii_lowercase();
    let tokens: Vec<Range<usize>> = {
        let mut all = Vec::new();
        let mut at = 0;
        for token in line.split([' ', '\t', '\r']) {
            if !token.is_empty() {
                all.push(at..at + token.len());
            }
            at += token.len() + 1;
        }
        all
    };
    let word = |r: &Range<usize>| lower[r.clone()].trim_matches(['\'', '"', '>', '`']).to_owned();
    for (at, token) in tokens.iter().enumerate() {
        match word(token).as_str() {
            "user" | "setuser" => {
                let rules: Vec<&Range<usize>> = tokens.iter().skip(at + 2).collect();
                let is_rule = |t: &str| {
                    matches!(t, "on" | "off" | "nopass" | "resetpass" | "reset" | "allkeys" | "allcommands")
                        || t.starts_with(['~', '&', '+'])
                };
                if !rules.iter().any(|r| is_rule(&word(r))) {
                    continue;
                }
                for rule in rules {
                    let text = &line[(*rule).clone()];
                    let bare = text.trim_start_matches(['"', '\'']);
                    if bare.starts_with(['>', '<', '#', '!']) && bare.len() > 1 {
                        let from = rule.start + (text.len() - bare.len()) + 1;
                        found.push(from..rule.start + text.trim_end_matches(['"', '\'', ';']).len());
                    }
                }
            }
            // `AuthBasicFake ACCOUNT SECRET`, `sentinel auth-pass MASTER SECRET`
            "authbasicfake" | "mdexternalaccountbinding" => found.extend(tokens.get(at + 2).cloned()),
            "auth-pass" if at > 0 => found.extend(tokens.get(at + 2).cloned()),
            "rename-command" => {
                if let Some(new) =
                    tokens.get(at + 2).filter(|n| !matches!(&line[(*n).clone()], "\"\"" | "''"))
                {
                    found.push(new.clone());
                }
            }
            _ => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_pattern_of_plain_letters_means_what_it_says() {
        assert_eq!(plain_letters(r"\bapi[\w-]+\d\s\["), r"(?-u:\b)api[0-9A-Za-z_-]+[0-9]\s\[");
        for text in [r"(?i)[?&;](?:key)(?:\[\w*\])?=([^&;\s]+)", r"\\x:\w+"] {
            assert!(pattern(text).is_some(), "{text}");
        }
    }
}
