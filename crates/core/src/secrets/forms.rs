//! The forms by which a secret is known without its name being told: in addresses, statements, command lines,
//! requests, and as what it is.
use regex::Regex;
use std::sync::LazyLock;

fn pattern(text: &str) -> Option<Regex> {
    Regex::new(&plain_letters(text)).ok()
}

/// A pattern whose letters, digits and edges of words are those of ASCII: names of secrets are, and it
/// costs less to build, which every start pays that shows anything.
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
pub(super) static SQL: LazyLock<Vec<Regex>> = LazyLock::new(|| {
    let head = concat!(
        r"(?i)(?:identified\s+(?:by|with\s+\S+\s+(?:by|as|using))\s+(?:password\s+)?",
        r"|\bpassword\s*\(\s*|\bpassword\s+",
        r"|\bset\s+password\b[^=;\n]*=\s*(?:password\s*\(\s*)?|\bmaster_password\s*=\s*",
        r"|\bsource_password\s*=\s*|\bpragma\s+(?:re)?key\s*=\s*)",
    );
    [format!(r"{head}'((?:\\.|''|[^'\\\n])*)'"), format!(r#"{head}"((?:\\.|""|[^"\\\n])*)""#)]
        .iter()
        .filter_map(|p| pattern(p))
        .collect()
});
/// Well-known clients, each with the option by which it takes a secret without its name, as often as it
/// stands there.
pub(super) static CLIENTS: LazyLock<Vec<(Regex, Regex)>> = LazyLock::new(|| {
    [
        (r"(?:mysql|mariadb)[\w.-]*", r#"\s["']?-p([^\s"']+)"#),
        ("sshpass", r#"\s-p\s*["']?([^\s"']+)"#),
        ("(?:redis|valkey)-cli", r#"\s(?:-a|--pass)\s+["']?([^\s"']+)"#),
        (r"ldap\w+", r#"\s-w\s*["']?([^\s"']+)"#),
        (r"mongo\w*", r#"\s-p\s*["']?([^\s"']+)"#),
        (r"(?:ipmitool|(?:un)?zip|mosquitto_\w+|sqlcmd|isql|tsql|bcp|sqsh)", r#"\s-P\s*["']?([^\s"']+)"#),
        (r"(?:sqlplus|sqlldr|rman|(?:exp|imp)(?:dp)?)", r#"\s["']?[^\s/@"']+/([^\s@"']+)@"#),
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
pub(super) static OPTIONS: LazyLock<Vec<Regex>> = LazyLock::new(|| {
    [
        concat!(
            r#"(?:^|\s)(?:-u|-U|--user|--userpwd|--proxy-user|--auth|--basic-auth|--basic"#,
            r#"|--http-user)(?:=|\s+)["']?[^\s:"']+[:%]([^\s"']+)"#,
        ),
        r#"(?:^|\s)-pass(?:in|out|wd)?\s+pass:([^\s"']+)"#,
        r#"(?:^|\s)-setcookie\s+["']?([^\s"']+)"#,
    ]
    .iter()
    .filter_map(|p| pattern(p))
    .collect()
});
pub(super) static IN_ADDRESS: LazyLock<Option<Regex>> =
    LazyLock::new(|| pattern(r#"(?:^|[\s"'=(,<>])[^\s:@/"'<>()]+:([^\s@"'<>/:]+)@[\w.\[(-]"#));
pub(super) static IN_URL: LazyLock<Option<Regex>> =
    LazyLock::new(|| pattern(r#"://[^\s/@"'<>:]*:([^\s"'<>]*)@"#));
/// A web address with nothing but one word for an account: that is a key (`https://KEY@host`).
pub(super) static KEY_IN_URL: LazyLock<Option<Regex>> =
    LazyLock::new(|| pattern(r#"(?i)\bhttps?://([^\s/@"'<>:$]+)@"#));
/// The name of a secret with its value, as an address carries them: `password%3D…`.
pub(super) static ENCODED: LazyLock<Option<Regex>> = LazyLock::new(|| {
    pattern(concat!(
        r#"(?i)(?:passw(?:or)?d|passphrase|pwd|token|secret|api[_-]?key)(?:%3D"#,
        r#"|%22%3A(?:%20)?%22)([^&\s"'%]+)"#,
    ))
});
/// A cookie that a rewriting rule sets: `[CO=NAME:VALUE:…]` (configuration of httpd).
pub(super) static SET_COOKIE: LazyLock<Option<Regex>> =
    LazyLock::new(|| pattern(r#"(?i)[\[,](?:co|cookie)=(?:;[^;\],]+;|[^:;\],]+:)([^:;\],]+)"#));
/// What a cache is told to let it in at another one.
pub(super) static TOLD_OTHER: LazyLock<Option<Regex>> =
    LazyLock::new(|| pattern(r#"(?:\bAUTH2\s+\S+|\bMIGRATE\b[^\n]*\bAUTH)\s+["']?([^\s"']+)"#));
/// A row that is put into a table: its columns, and what is put there.
pub(super) static INSERTED: LazyLock<Option<Regex>> = LazyLock::new(|| {
    pattern(concat!(
        r#"(?i)\b(?:insert|replace)\b[^()\n]*\binto\s+[^()\n]+\((?<columns>[^()\n]*)"#,
        r#"\)\s*values\s*(?<values>\([^\n]*)"#,
    ))
});
/// A sentence of a log that repeats a password: no word of the language, so that `with password
/// authentication` stays.
pub(super) static TOLD_IN_LOG: LazyLock<Option<Regex>> = LazyLock::new(|| {
    pattern(concat!(
        r#"(?i)\b(?:(?:with|using|and|bad|wrong|invalid)\s+(?:password|passphrase|token"#,
        r#"|secret)|(?:password|passphrase|token|secret|(?:secret|api|access|private)[ _-]key)"#,
        r#"\s+(?:is|was))\s+["'`]?([^\s"'`,;()]*[0-9!@#$%^&*+=~][^\s"'`,;()]*)"#,
    ))
});
/// A word behind that of a secret which no language has: letters and digits together.
pub(super) static BESIDE_IN_LOG: LazyLock<Option<Regex>> = LazyLock::new(|| {
    pattern(concat!(
        r#"(?i)\b(?:password|passphrase|token|secret|(?:secret|api|access|private)[ _-]key)\s+"#,
        r#"["'`]?((?:[a-z]+[0-9]|[0-9]+[a-z])[a-z0-9._~+/=-]{5,})"#,
    ))
});
pub(super) static SCHEMES: LazyLock<Option<Regex>> =
    LazyLock::new(|| pattern(r"(?i)\b(?:basic|bearer|digest|negotiate)\s+([A-Za-z0-9._~+/=-]{6,})"));
pub(super) static QUERY: LazyLock<Option<Regex>> =
    LazyLock::new(|| pattern(r#"[\w/.%~+-]\?([^\s"'<>?]*=[^\s"'<>]*)"#));
/// Accounts with their credentials: `stats auth NAME:PASSWORD` (haproxy), `ProxyPass … auth NAME:PASSWORD`.
pub(super) static PAIRS: LazyLock<Option<Regex>> =
    LazyLock::new(|| pattern(r#"(?i)(?:\bauth|\bcredentials?)\s+["']?[^\s:"']+:([^\s"']+)"#));

/// Hashes of passwords in their modular form (crypt(5)), by scheme in braces (RFC 2307), and as databases
/// keep them.
pub(super) static HASHES: LazyLock<Option<Regex>> = LazyLock::new(|| {
    pattern(concat!(
        r"(?i)(\$(?:[1567]|2[abxy]?|g?y|apr1|sha1|argon2\w*|scrypt|pbkdf2[\w-]*)",
        r"\$[./a-z0-9$=,+-]{8,}|\{(?:s?sha\d*|s?md5|crypt|pbkdf2[\w-]*)\}[a-z0-9+/=.$]{8,}",
        r"|scram-sha-\d+\$\d+:[a-z0-9+/=$:]{8,}|\*[0-9a-f]{40}\b)",
    ))
});

/// What a request carries in its address beside a name that is too short to stand for a secret elsewhere.
pub(super) static IN_QUERY: LazyLock<Option<Regex>> = LazyLock::new(|| {
    pattern(concat!(
        r#"(?i)[?&;](?:key|sig|signature|sid|code|auth|hash|ticket|session|pw|pin)"#,
        r#"(?:\[\w*\]|%5b\w*%5d)?=([^&;\s"'<>$]+)"#,
    ))
});
/// The same where what a request asks for is compared: there nothing need stand before the name.
pub(super) static IN_COMPARISON: LazyLock<Option<Regex>> = LazyLock::new(|| {
    pattern(concat!(
        r#"(?i)(?:^|[?&;/^(\s"'\\])(?:key|sig|signature|sid|code|auth|hash|ticket|session|pw|pin|token)"#,
        r#"=([^&;\s"'<>$/)\\]+)"#,
    ))
});
/// What stands for the address of a request in comparisons of servers and proxies.
pub(super) static ADDRESS_ASKED: LazyLock<Option<Regex>> = LazyLock::new(|| {
    pattern(concat!(
        r#"(?i)(?:\$(?:args|query_string|request_uri|request)\b"#,
        r#"|%\{(?:QUERY_STRING|REQUEST_URI|THE_REQUEST)\}"#,
        r#"|\b(?:query|url|pathq|path)(?:_(?:sub|beg|end|reg|str|dir|dom|len))?\s)"#,
    ))
});
/// `AUTH secret` and `AUTH account secret`, as a cache is told, where nothing else follows.
pub(super) static TOLD_CACHE: LazyLock<Option<Regex>> = LazyLock::new(|| {
    pattern(r#"(?:^|[\s"'])AUTH\\?\s+([^\s"'\\]+(?:\\?\s+[^\s"'\\]+)?)(?:\\r|\\n|["']|\s*$)"#)
});
/// A key that stands in the configuration itself (`ssl_certificate_key data:…` of nginx); a variable is none.
pub(super) static INLINE_KEY: LazyLock<Option<Regex>> =
    LazyLock::new(|| pattern(r#"(?i)certificate_key\s+["']?data:([^$\s"';][^\s"';]*)"#));
/// What a parameter of a request, or a cookie, is compared with (configuration of haproxy): flags stand
/// between.
pub(super) static COMPARED: LazyLock<Option<Regex>> = LazyLock::new(|| {
    pattern(concat!(
        r#"\b(?:(?P<parameter>url_param|urlp|body_param|urlp_val)"#,
        r#"|(?:[a-z]+\.)?s?cook(?:_val|ie)?)\((?P<name>[^),]+)"#,
        r#"[^)]*\)(?:,[\w().,]+)?(?:\s+-\S+(?:\s+(?:str|beg|end|sub|reg|dir|dom|len|found"#,
        r#"|bin|int|ip)\b)?)*\s+(?P<value>[^\s{}|-][^{}]*)"#,
    ))
});
/// An address whose account alone lets in.
pub(super) static BARE_ACCOUNT: LazyLock<Option<Regex>> =
    LazyLock::new(|| pattern("://([A-Za-z0-9_-]{16,})@"));
/// Tokens that are known by their own form: signed ones (RFC 7519), and those that carry their issuer's mark.
pub(super) static BARE_TOKEN: LazyLock<Option<Regex>> = LazyLock::new(|| {
    pattern(concat!(
        r#"(\beyJ[\w-]{6,}\.[\w-]+\.[\w-]*|\b(?:gh[opusr]_|github_pat_|glpat-|xox[abeprs]-"#,
        r#"|[rs]k_(?:live|test)_|npm_|dckr_pat_|hvs\.)[\w-]{12,})"#,
    ))
});
/// An address of a database driver: `jdbc:oracle:thin:account/secret@host`.
pub(super) static DRIVER: LazyLock<Option<Regex>> =
    LazyLock::new(|| pattern(r#"(?i)\bjdbc:oracle:\w+:[^\s/"'@]*/([^\s"'@]+)@"#));
/// Converters that take a key (configuration of haproxy).
pub(super) static SIGNED: LazyLock<Option<Regex>> = LazyLock::new(|| {
    pattern(concat!(
        r#"\b(?:hmac\([^,()]*,\s*["']?([^"',()\s]+)"#,
        r#"|jwt_verify\([^,()]*,\s*["']?([^"',()\s]+)|aes_\w+\([^,()]*,([^()]*)\))"#,
    ))
});
/// An element that names what its value is: `name="…" … value="…"`, in either order.
pub(super) static NAMED: LazyLock<Vec<Regex>> = LazyLock::new(|| {
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
pub(super) static TOLD: LazyLock<Option<Regex>> = LazyLock::new(|| {
    pattern(concat!(
        r#"(?i)\b(?:password|passwd|passphrase|secret|token|(?:api|access)[ -]key)\s+(?:is"#,
        r#"|was|now|for \S+ is)\s*:?\s+["']?([^\s"',;]+)"#,
    ))
});
/// The word that ends a server by its shutdown port.
pub(super) static SHUTDOWN: LazyLock<Option<Regex>> =
    LazyLock::new(|| pattern(r#"<Server\b[^>]*\bshutdown\s*=\s*["']([^"']*)["']"#));

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
