//! The forms by which a secret is known without its name being told: in addresses, statements, command lines,
//! requests, and as what it is.
use regex::{Captures, Regex};
use std::sync::OnceLock;

/// A form by which a secret is known: a pattern, and words without which nothing of it can be there. The
/// pattern is built for the first text that holds them; most texts hold the words of a form or two.
pub(super) struct Form {
    /// Of each group one word stands, in letters of either case, in whatever fits.
    needs: &'static [&'static [&'static str]],
    text: &'static str,
    built: OnceLock<Option<Regex>>,
}

impl Form {
    const fn new(needs: &'static [&'static [&'static str]], text: &'static str) -> Self {
        Self { needs, text, built: OnceLock::new() }
    }

    fn pattern(&self) -> Option<&Regex> {
        self.built.get_or_init(|| Regex::new(&plain_letters(self.text)).ok()).as_ref()
    }

    fn may_fit(&self, text: &str) -> bool {
        self.needs.iter().all(|group| group.iter().any(|word| holds(text, word)))
    }

    /// Every place of a text that has this form.
    pub(super) fn all_in<'f, 't>(
        &'f self,
        text: &'t str,
    ) -> impl Iterator<Item = Captures<'t>> + use<'f, 't> {
        let pattern = if self.may_fit(text) { self.pattern() } else { None };
        pattern.into_iter().flat_map(move |p| p.captures_iter(text))
    }

    /// Whether a text has it anywhere.
    pub(super) fn is_in(&self, text: &str) -> bool {
        self.may_fit(text) && self.pattern().is_some_and(|p| p.is_match(text))
    }
}

/// Whether a text holds a word of ASCII, in letters of either case.
fn holds(text: &str, word: &str) -> bool {
    let (text, word) = (text.as_bytes(), word.as_bytes());
    let Some(first) = word.first() else { return true };
    memchr::memchr2_iter(first.to_ascii_lowercase(), first.to_ascii_uppercase(), text)
        .any(|at| text.get(at..at + word.len()).is_some_and(|found| found.eq_ignore_ascii_case(word)))
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

/// One of these stands where a sentence tells a secret.
const SPOKEN: &[&str] = &["password", "passwd", "passphrase", "token", "secret", "key"];

macro_rules! sets_a_password {
    () => {
        concat!(
            r"(?i)(?:identified\s+(?:by|with\s+\S+\s+(?:by|as|using))\s+(?:password\s+)?",
            r"|\bpassword\s*\(\s*|\bpassword\s+",
            r"|\bset\s+password\b[^=;\n]*=\s*(?:password\s*\(\s*)?|\bmaster_password\s*=\s*",
            r"|\bsource_password\s*=\s*|\bpragma\s+(?:re)?key\s*=\s*)",
        )
    };
}

/// Statements of SQL that set a password (both flavours of the MySQL family, PostgreSQL).
pub(super) static SQL: [Form; 2] = [
    Form::new(
        &[&["identified", "password", "pragma"], &["'"]],
        concat!(sets_a_password!(), r"(?:e|n|x)?'((?:\\.|''|[^'\\\n])*)'"),
    ),
    Form::new(
        &[&["identified", "password", "pragma"], &["\""]],
        concat!(sets_a_password!(), r#""((?:\\.|""|[^"\\\n])*)""#),
    ),
];
macro_rules! client {
    ($names:expr, $program:literal, $option:literal) => {
        (
            Form::new(&[$names], concat!(r#"(?:^|[\s"'/(=])"#, $program, r"(\s[^|;&\n]*)")),
            Form::new(&[], $option),
        )
    };
}

/// Well-known clients, each with the option by which it takes a secret without its name, as often as it
/// stands there.
pub(super) static CLIENTS: [(Form, Form); 18] = [
    client!(&["mysql", "mariadb"], r"(?:mysql|mariadb)[\w.-]*", r#"\s["']?-p["']?([^\s"']+)"#),
    client!(&["openssl"], "openssl", r#"\s-(?:k|K|pass(?:in|out)?)\s+["']?(?:pass:)?([^\s"']+)"#),
    client!(
        &["useradd", "usermod", "ncftp", "msmtp"],
        r"(?:user(?:add|mod)|ncftp\w*|msmtp)",
        r#"\s-p\s*["']?([^\s"']+)"#
    ),
    client!(&["smbclient"], "smbclient", r#"\s//\S+\s+["']?([^\s"'-][^\s"']*)"#),
    client!(&["snmp"], r"snmp\w+", r#"\s-[cAX]\s*["']?([^\s"']+)"#),
    client!(&["login"], r"\w+\s+login", r#"\s(?:-p\s*|--password[= ])["']?([^\s"']+)"#),
    client!(&["login"], "vault\\s+login", r#"\s["']?([^\s"'=-][^\s"'=]*)["']?\s*$"#),
    client!(
        &["configure"],
        r"\w+\s+configure\s+set",
        r#"\s\S*(?:secret|token|password|access_key)\S*\s+["']?([^\s"']+)"#
    ),
    client!(&["sshpass"], "sshpass", r#"\s-p\s*["']?([^\s"']+)"#),
    client!(&["-cli"], "(?:redis|valkey)-cli", r#"\s(?:-a|--pass)\s+["']?([^\s"']+)"#),
    client!(&["ldap"], r"ldap\w+", r#"\s-w\s*["']?([^\s"']+)"#),
    client!(&["mongo"], r"mongo\w*", r#"\s-p\s*["']?([^\s"']+)"#),
    client!(
        &["ipmitool", "zip", "mosquitto_", "sqlcmd", "isql", "tsql", "bcp", "sqsh"],
        r"(?:ipmitool|(?:un)?zip|mosquitto_\w+|sqlcmd|isql|tsql|bcp|sqsh)",
        r#"\s-P\s*["']?([^\s"']+)"#
    ),
    client!(
        &["sqlplus", "sqlldr", "rman", "exp", "imp"],
        r"(?:sqlplus|sqlldr|rman|(?:exp|imp)(?:dp)?)",
        r#"\s["']?[^\s/@"']+/([^\s@"']+)@"#
    ),
    client!(
        &["rabbitmqctl"],
        "rabbitmqctl",
        r#"\s(?:add_user|change_password|authenticate_user)\s+\S+\s+["']?([^\s"']+)"#
    ),
    client!(&["lftp"], "lftp", r#"\s-u\s*["']?[^\s,"']+,([^\s"']+)"#),
    client!(&["curl"], "curl", r#"\s(?:-b|--cookie)\s*["']?[^\s"'=]+=([^"'\n]*)"#),
    client!(&["htpasswd"], "htpasswd", r#"\s-\w*b\w*\s+\S+\s+\S+\s+["']?([^\s"']+)"#),
];
/// Options of many clients that take a secret without its name.
pub(super) static OPTIONS: [Form; 3] = [
    Form::new(
        &[&["-u", "--proxy-user", "--auth", "--basic", "--http-user"], &[":", "%"]],
        concat!(
            r#"(?:^|\s)(?:-u|-U|--user|--userpwd|--proxy-user|--auth|--basic-auth|--basic"#,
            r#"|--http-user)(?:=|\s+)["']?[^\s:"']+[:%]([^\s"']+)"#,
        ),
    ),
    Form::new(&[&["-pass"], &["pass:"]], r#"(?:^|\s)-pass(?:in|out|wd)?\s+pass:([^\s"']+)"#),
    Form::new(&[&["-setcookie"]], r#"(?:^|\s)-setcookie\s+["']?([^\s"']+)"#),
];
pub(super) static IN_ADDRESS: Form =
    Form::new(&[&[":"], &["@"]], r#"(?:^|[\s"'=(,<>])[^\s:@/"'<>()]+:([^\s@"'<>/:]+)@[\w.\[(-]"#);
pub(super) static IN_URL: Form = Form::new(&[&["://"], &["@"]], r#"://[^\s/@"'<>:]*:([^\s"'<>]*)@"#);
/// A web address with nothing but one word for an account: that is a key (`https://KEY@host`).
pub(super) static KEY_IN_URL: Form = Form::new(&[&["://"], &["@"]], r#"(?i)\bhttps?://([^\s/@"'<>:$]+)@"#);
/// The name of a secret with its value, as an address carries them: `password%3D…`.
pub(super) static ENCODED: Form = Form::new(
    &[&["%3D", "%22%3A"]],
    concat!(
        r#"(?i)(?:passw(?:or)?d|passphrase|pwd|token|secret|api[_-]?key)(?:%3D"#,
        r#"|%22%3A(?:%20)?%22)([^&\s"'%]+)"#,
    ),
);
/// A cookie that a rewriting rule sets: `[CO=NAME:VALUE:…]` (configuration of httpd).
pub(super) static SET_COOKIE: Form =
    Form::new(&[&["co=", "cookie="]], r#"(?i)[\[,](?:co|cookie)=(?:;[^;\],]+;|[^:;\],]+:)([^:;\],]+)"#);
/// What a cache is told to let it in at another one.
pub(super) static TOLD_OTHER: Form =
    Form::new(&[&["AUTH"]], r#"(?:\bAUTH2\s+\S+|\bMIGRATE\b[^\n]*\bAUTH)\s+["']?([^\s"']+)"#);
/// The same in quotes, as a protocol's own form or a monitor shows it: `"AUTH" "account" "secret"`.
pub(super) static TOLD_QUOTED: Form =
    Form::new(&[&["\"AUTH\""]], r#"(?i)"AUTH"\s+(?:"[^"\n]*"\s+)?"((?:\\.|[^"\\\n])*)""#);
/// `PASS secret`, as servers of mail and files are told (RFC 959, 1939), where nothing else follows.
pub(super) static TOLD_MAIL: Form = Form::new(&[&["PASS"]], r"\bPASS\s+([^\s=]+)\s*$");
/// What a shell hands to a program that asks for a secret.
pub(super) static PIPED: Form = Form::new(
    &[&["|", "<<<"], &["sudo", "passwd", "kinit", "login", "su", "ssh", "gpg", "openssl", "cryptsetup"]],
    concat!(
        r#"\b(?:echo|printf)\s+(?:-\w+\s+)*["']?([^\s"'|]+)["']?\s*\|[^|]*"#,
        r#"\b(?:sudo|ch?passwd|kinit|login|su|ssh\w*|gpg2?|openssl|cryptsetup)\b"#,
        r#"|\b(?:sudo|ch?passwd|kinit|login|su|ssh\w*|gpg2?|openssl|cryptsetup)\b.*<<<\s*["']?([^\s"']+)"#,
    ),
);
/// Functions of SQL that make a hash or a cipher of what they are given.
pub(super) static CIPHERED: Form = Form::new(
    &[&["crypt", "sha", "md5", "hmac", "digest"], &["("], &["'", "\""]],
    concat!(
        r#"(?i)\b(?:crypt|(?:en|de)crypt(?:_iv)?|pgp_sym_(?:en|de)crypt|(?:aes|des)_(?:en|de)crypt"#,
        r#"|sha[12]?|sha\d{3}|md5|hmac|digest)\(\s*([^()\n]*["'][^()\n]*)"#,
    ),
);
/// What a function is given that connects or lets in, and what any function is given in a line of a stack
/// (`#0 FILE(LINE): FUNCTION(…)`).
pub(super) static CALLED: Form = Form::new(
    &[&["("], &["'", "\""]],
    concat!(
        r#"(?i)(?:#\d+\s[^\n]*?\(\d+\):\s[\w\\:>-]+|\b\w*(?:connect|connection|login|bind|__construct))"#,
        r#"\(([^()\n]*["'][^()\n]*)\)"#,
    ),
);
/// An element that holds the value of what it is named for: `<entry key="…">VALUE<`.
pub(super) static HELD: Form = Form::new(
    &[&["name", "key"], &["<"]],
    concat!(
        r#"(?i)<[\w:.-]+\s[^<>]*?\b(?:name|key)\s*=\s*["'](?<name>[^"'<>]*)["'][^<>]*>\s*"#,
        r#"(?:<value>)?(?<a>[^<>\s][^<>]*)<"#,
    ),
);
/// An element whose own name says what its value is: `<token value="…"/>`.
pub(super) static ELEMENT: Form = Form::new(
    &[&["value"], &["<"]],
    r#"(?i)<(?<name>[\w:.-]+)\s[^<>]*?\bvalue\s*=\s*["'](?<a>[^"'<>]*)["']"#,
);
/// A row that is put into a table: its columns, and what is put there.
pub(super) static INSERTED: Form = Form::new(
    &[&["insert", "replace"], &["into"], &["values"]],
    concat!(
        r#"(?i)\b(?:insert|replace)\b[^()\n]*\binto\s+[^()\n]+\((?<columns>[^()\n]*)"#,
        r#"\)\s*values\s*(?<values>\([^\n]*)"#,
    ),
);
/// A sentence of a log that repeats a password: no word of the language, so that `with password
/// authentication` stays.
pub(super) static TOLD_IN_LOG: Form = Form::new(
    &[SPOKEN],
    concat!(
        r#"(?i)\b(?:(?:with|using|and|bad|wrong|invalid)\s+(?:password|passphrase|token"#,
        r#"|secret)|(?:password|passphrase|token|secret|(?:secret|api|access|private|encryption)[ _-]key)"#,
        r#"\s+(?:is|was))\s+["'`]?([^\s"'`,;()]*[0-9!@#$%^&*+=~][^\s"'`,;()]*)"#,
    ),
);
/// A word behind that of a secret which no language has: letters and digits together.
pub(super) static BESIDE_IN_LOG: Form = Form::new(
    &[SPOKEN],
    concat!(
        r#"(?i)\b(?:password|passphrase|token|secret|(?:secret|api|access|private)[ _-]key)\s+"#,
        r#"["'`]?((?:[a-z]+[0-9]|[0-9]+[a-z])[a-z0-9._~+/=-]{5,})"#,
    ),
);
pub(super) static SCHEMES: Form = Form::new(
    &[&["basic", "bearer", "digest", "negotiate"]],
    r"(?i)\b(?:basic|bearer|digest|negotiate)\\?\s+([A-Za-z0-9._~+/=-]{6,})",
);
pub(super) static QUERY: Form = Form::new(&[&["?"], &["="]], r#"[\w/.%~+-]\?([^\s"'<>?]*=[^\s"'<>]*)"#);
/// Accounts with their credentials: `stats auth NAME:PASSWORD` (haproxy), `ProxyPass … auth NAME:PASSWORD`.
pub(super) static PAIRS: Form = Form::new(
    &[&["auth", "credential"], &[":"]],
    r#"(?i)(?:\bauth|\bcredentials?):?\s+["']?[^\s:"'/]+:([^\s"']+)"#,
);

/// Hashes of passwords in their modular form (crypt(5)), by scheme in braces (RFC 2307), and as databases
/// keep them.
pub(super) static HASHES: Form = Form::new(
    &[&["$", "{", "scram-sha", "*"]],
    concat!(
        r"(?i)(\$(?:[1567]|2[abxy]?|g?y|apr1|sha1|argon2\w*|scrypt|pbkdf2[\w-]*)",
        r"\$[./a-z0-9$=,+-]{8,}|\{(?:s?sha\d*|s?md5|crypt|pbkdf2[\w-]*)\}[a-z0-9+/=.$]{8,}",
        r"|scram-sha-\d+\$\d+:[a-z0-9+/=$:]{8,}|\*[0-9a-f]{40}\b)",
    ),
);

/// What a request carries in its address beside a name that is too short to stand for a secret elsewhere.
pub(super) static IN_QUERY: Form = Form::new(
    &[&["?", "&", ";"], &["="]],
    concat!(
        r#"(?i)[?&;](?:key|sig|signature|sid|code|auth|hash|ticket|session|pw|pin)"#,
        r#"(?:\[\w*\]|%5b\w*%5d)?=([^&;\s"'<>$]+)"#,
    ),
);
/// The same where what a request asks for is compared: there nothing need stand before the name.
pub(super) static IN_COMPARISON: Form = Form::new(
    &[&["="]],
    concat!(
        r#"(?i)(?:^|[?&;/^(\s"'\\])(?:key|sig|signature|sid|code|auth|hash|ticket|session|pw|pin|token)"#,
        r#"=([^&;\s"'<>$/)\\]+)"#,
    ),
);
/// What stands for the address of a request in comparisons of servers and proxies.
pub(super) static ADDRESS_ASKED: Form = Form::new(
    &[&["$args", "$query_string", "$request", "%{", "query", "url", "path"]],
    concat!(
        r#"(?i)(?:\$(?:args|query_string|request_uri|request)\b"#,
        r#"|%\{(?:QUERY_STRING|REQUEST_URI|THE_REQUEST)\}"#,
        r#"|\b(?:query|url|pathq|path)(?:_(?:sub|beg|end|reg|str|dir|dom|len))?\s)"#,
    ),
);
/// `AUTH secret` and `AUTH account secret`, as a cache is told, where nothing else follows.
pub(super) static TOLD_CACHE: Form = Form::new(
    &[&["AUTH"]],
    r#"(?:^|[\s"'])AUTH\\?\s+([^\s"'\\]+(?:\\?\s+[^\s"'\\]+)?)(?:\\r|\\n|["']|\s*$)"#,
);
/// A key that stands in the configuration itself (`ssl_certificate_key data:…` of nginx); a variable is none.
pub(super) static INLINE_KEY: Form =
    Form::new(&[&["certificate_key"], &["data:"]], r#"(?i)certificate_key\s+["']?data:([^$\s"';][^\s"';]*)"#);
/// What a parameter of a request, or a cookie, is compared with (configuration of haproxy): flags stand
/// between.
pub(super) static COMPARED: Form = Form::new(
    &[&["url_param", "urlp", "body_param", "cook", "hdr"], &["("]],
    concat!(
        r#"\b(?:(?P<parameter>url_param|urlp|body_param|urlp_val|(?:[a-z]+\.)?f?s?hdr(?:_[a-z]+)?)"#,
        r#"|(?:[a-z]+\.)?s?cook(?:_val|ie)?)\((?P<name>[^),]+)"#,
        r#"[^)]*\)(?:,\w+(?:\([^)]*\))?)*(?:\s+-f\s+\S+|\s+-\S+(?:\s+(?:str|beg|end|sub|reg"#,
        r#"|dir|dom|len|found"#,
        r#"|bin|int|ip)\b)?)*\s+(?P<value>[^\s{}|-][^{}]*)"#,
    ),
);
/// A rule that compares a parameter of a request: `ARGS:NAME "!@streq VALUE"`.
pub(super) static RULED: Form = Form::new(
    &[&["ARGS"], &["@"]],
    r#"\b(?P<parameter>ARGS\w*):["']?(?P<name>[\w-]+)["']?\s+["']?!?@\w+\s+(?P<value>[^"'\n]+)"#,
);
/// An address whose account alone lets in.
pub(super) static BARE_ACCOUNT: Form =
    Form::new(&[&["://"], &["@"]], r"://(?:([A-Za-z0-9_-]{16,})@|([^\s/:@]+):x-oauth-basic@)");
/// Tokens that are known by their own form: signed ones (RFC 7519), and those that carry their issuer's mark.
pub(super) static BARE_TOKEN: Form = Form::new(
    &[&["eyJ", "gh", "github_pat_", "glpat-", "xox", "k_live_", "k_test_", "npm_", "dckr_pat_", "hvs."]],
    concat!(
        r#"(\beyJ[\w-]{6,}\.[\w-]+\.[\w-]*|\b(?:gh[opusr]_|github_pat_|glpat-|xox[abeprs]-"#,
        r#"|[rs]k_(?:live|test)_|npm_|dckr_pat_|hvs\.)[\w-]{12,})"#,
    ),
);
/// An address of a database driver: `jdbc:oracle:thin:account/secret@host`, and the same as a connect string.
pub(super) static DRIVER: Form = Form::new(
    &[&["jdbc:oracle:", "connectstring"], &["@"]],
    r#"(?i)\b(?:jdbc:oracle:\w+:|connectstring(?:\s*=\s*|\s+)["']?)[^\s/"'@]*/([^\s"'@]+)@"#,
);
/// Converters that take a key (configuration of haproxy).
pub(super) static SIGNED: Form = Form::new(
    &[&["hmac(", "jwt_verify(", "aes_"]],
    concat!(
        r#"\b(?:hmac\([^,()]*,\s*["']?([^"',()\s]+)"#,
        r#"|jwt_verify\([^,()]*,\s*["']?([^"',()\s]+)|aes_\w+\([^,()]*,([^()]*)\))"#,
    ),
);
/// An element that names what its value is: `name="…" … value="…"`, in either order.
pub(super) static NAMED: [Form; 2] = [
    Form::new(
        &[&["value", "content"], &["name", "key"]],
        concat!(
            r#"(?i)\b(?:name|key)\s*=\s*["'](?<name>[^"'<>]*)["'][^<>]*?"#,
            r#"\b(?:value|content)\s*=\s*(?:"(?<a>[^"<]*)"|'(?<b>[^'<]*)')"#,
        ),
    ),
    Form::new(
        &[&["value", "content"], &["name", "key"]],
        concat!(
            r#"(?i)\b(?:value|content)\s*=\s*(?:"(?<a>[^"<]*)"|'(?<b>[^'<]*)')[^<>]*?"#,
            r#"\b(?:name|key)\s*=\s*["'](?<name>[^"'<>]*)["']"#,
        ),
    ),
];

/// A sentence in a comment that gives a secret away.
pub(super) static TOLD: Form = Form::new(
    &[SPOKEN],
    concat!(
        r#"(?i)\b(?:password|passwd|passphrase|secret|token|(?:api|access)[ -]key)\s+(?:is"#,
        r#"|was|now|for \S+ is)\s*:?\s+["']?([^\s"',;]+)"#,
    ),
);
/// A note in a comment beside a name that is too short to stand for a secret elsewhere.
pub(super) static NOTED: Form = Form::new(
    &[&["#", ";", "//", "<!--"], &["key", "pw", "pin"]],
    r#"(?i)^\s*(?:#|;|//|<!--)[^\n]*?\b(?:key|pw|pin)\s*[:=]\s*["']?([^\s"',;]*[0-9][^\s"',;]{3,})"#,
);
/// The word that ends a server by its shutdown port.
pub(super) static SHUTDOWN: Form =
    Form::new(&[&["<Server"], &["shutdown"]], r#"<Server\b[^>]*\bshutdown\s*=\s*["']([^"']*)["']"#);

#[cfg(test)]
mod tests {
    use super::*;
    use regex_syntax::hir::{Class, Hir, HirKind};

    #[test]
    fn a_pattern_of_plain_letters_means_what_it_says() {
        assert_eq!(plain_letters(r"\bapi[\w-]+\d\s\["), r"(?-u:\b)api[0-9A-Za-z_-]+[0-9]\s\[");
        for text in [r"(?i)[?&;](?:key)(?:\[\w*\])?=([^&;\s]+)", r"\\x:\w+"] {
            assert!(Form::new(&[], text).pattern().is_some(), "{text}");
        }
    }

    /// Numbers by chance.
    struct Dice(u64);

    impl Dice {
        fn throw(&mut self, sides: usize) -> usize {
            self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            usize::try_from(self.0 >> 33).unwrap() % sides.max(1)
        }
    }

    /// Writes a text of ASCII that has the form of a pattern, what stands around it left out.
    fn write(hir: &Hir, dice: &mut Dice, out: &mut String) {
        let mut one_of = |ranges: Vec<(u32, u32)>, out: &mut String| {
            let ascii: Vec<(u32, u32)> = ranges
                .into_iter()
                .filter(|(from, _)| *from < 127)
                .map(|(from, to)| (from, to.min(126)))
                .collect();
            let (from, to) = ascii[dice.throw(ascii.len())];
            out.extend(char::from_u32(from + u32::try_from(dice.throw((to - from + 1) as usize)).unwrap()));
        };
        match hir.kind() {
            HirKind::Empty | HirKind::Look(_) => {}
            HirKind::Literal(text) => out.push_str(std::str::from_utf8(&text.0).unwrap()),
            HirKind::Class(Class::Unicode(class)) => {
                one_of(class.iter().map(|r| (r.start().into(), r.end().into())).collect(), out);
            }
            HirKind::Class(Class::Bytes(class)) => {
                one_of(class.iter().map(|r| (r.start().into(), r.end().into())).collect(), out);
            }
            HirKind::Repetition(part) => {
                for _ in
                    0..part.min as usize + dice.throw(part.max.map_or(4, |max| (max - part.min + 1) as usize))
                {
                    write(&part.sub, dice, out);
                }
            }
            HirKind::Capture(part) => write(&part.sub, dice, out),
            HirKind::Concat(parts) => parts.iter().for_each(|part| write(part, dice, out)),
            HirKind::Alternation(parts) => write(&parts[dice.throw(parts.len())], dice, out),
        }
    }

    #[test]
    fn whatever_has_a_form_holds_the_words_of_that_form() {
        let single = [
            &IN_ADDRESS,
            &IN_URL,
            &KEY_IN_URL,
            &ENCODED,
            &SET_COOKIE,
            &TOLD_OTHER,
            &INSERTED,
            &TOLD_IN_LOG,
            &BESIDE_IN_LOG,
            &SCHEMES,
            &QUERY,
            &PAIRS,
            &HASHES,
            &IN_QUERY,
            &IN_COMPARISON,
            &ADDRESS_ASKED,
            &TOLD_CACHE,
            &INLINE_KEY,
            &COMPARED,
            &BARE_ACCOUNT,
            &BARE_TOKEN,
            &DRIVER,
            &SIGNED,
            &TOLD,
            &NOTED,
            &SHUTDOWN,
            &TOLD_QUOTED,
            &TOLD_MAIL,
            &CIPHERED,
            &CALLED,
            &HELD,
            &RULED,
            &ELEMENT,
        ];
        let clients = CLIENTS.iter().map(|(program, _)| program);
        let mut dice = Dice(7);
        for form in
            single.into_iter().chain(SQL.iter()).chain(OPTIONS.iter()).chain(NAMED.iter()).chain(clients)
        {
            let hir = regex_syntax::parse(&plain_letters(form.text)).unwrap();
            let pattern = form.pattern().unwrap();
            let mut fits = 0;
            for _ in 0..2_000 {
                let mut text = String::new();
                write(&hir, &mut dice, &mut text);
                if pattern.is_match(&text) {
                    fits += 1;
                    assert!(form.may_fit(&text), "{text:?} has the form {} without its words", form.text);
                }
            }
            assert!(fits > 200, "{fits} of {}", form.text);
        }
    }
}
