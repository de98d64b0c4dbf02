//! Which names stand for secrets: of settings, variables, attributes, headers, options.

/// How surely a name stands for a secret.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Strength {
    /// It does not.
    No,
    /// Only where a value is plainly assigned to it.
    Weak,
    /// Wherever a value stands beside it.
    Strong,
}

/// Words that make a name a secret's.
const SECRET: &[&str] = &[
    "authcode",
    "authpass",
    "authtoken",
    "apikey",
    "apitoken",
    "bindpass",
    "bindpasswd",
    "bindpw",
    "clientsecret",
    "cred",
    "credential",
    "credentials",
    "creds",
    "dbpass",
    "dbpw",
    "filekey",
    "keypass",
    "keystorepass",
    "masterauth",
    "mdp",
    "passcode",
    "passphrase",
    "passwd",
    "password",
    "passwort",
    "pgpass",
    "primaryauth",
    "pwd",
    "requirepass",
    "secret",
    "secrets",
    "storepass",
    "truststorepass",
    "userpw",
    "webhook",
];
/// Endings of words that are glued together: `keystorePassword`, `mysecret`, `dbpasswd`.
const GLUED: &[&str] =
    &["apikey", "passphrase", "password", "passwd", "secret", "passcode", "authtoken", "secrets"];
/// Last words of names that are about secrets without being one.
const ABOUT: &[&str] = &[
    "age",
    "algorithm",
    "attempts",
    "attribute",
    "authentication",
    "callback",
    "check",
    "class",
    "column",
    "cost",
    "count",
    "days",
    "dialog",
    "dictionary",
    "dir",
    "directory",
    "disabled",
    "enabled",
    "encryption",
    "expire",
    "expired",
    "expires",
    "expiry",
    "field",
    "file",
    "files",
    "filter",
    "format",
    "hashing",
    "header",
    "helper",
    "history",
    "id",
    "interval",
    "iterations",
    "length",
    "level",
    "lifetime",
    "lock",
    "log",
    "max",
    "method",
    "min",
    "mode",
    "name",
    "path",
    "plugin",
    "policy",
    "prompt",
    "provider",
    "query",
    "read",
    "reload",
    "required",
    "reset",
    "retries",
    "rounds",
    "size",
    "storage",
    "store",
    "time",
    "timeout",
    "ttl",
    "type",
    "url",
    "usage",
    "uri",
    "validation",
    "version",
];
/// Names that look like a secret's and are none: directives of the daemons that pass requests, and the like.
const NONE: &[&str] = &[
    "proxy_pass",
    "fastcgi_pass",
    "uwsgi_pass",
    "scgi_pass",
    "grpc_pass",
    "memcached_pass",
    "passenv",
    "server_tokens",
    "servertokens",
    "bypass",
    "compass",
    "js_pass",
    "old_passwords",
    "add_pass",
    "proxy-pass",
    "tokens",
    "one-pass",
    "multi-pass",
];
/// What stands before `key` in names of keys that let in or hide something.
const GUARDING: &[&str] = &[
    "access",
    "account",
    "admin",
    "api",
    "app",
    "auth",
    "client",
    "cookie",
    "crypt",
    "crypto",
    "dynamic",
    "encryption",
    "enc",
    "hmac",
    "jwt",
    "license",
    "master",
    "object",
    "private",
    "secret",
    "service",
    "session",
    "shared",
    "signing",
    "sign",
    "write",
];
/// Headers whose value is a secret whatever it holds.
const HEADERS: &[&str] = &[
    "authorization",
    "proxy-authorization",
    "cookie",
    "set-cookie",
    "set-cookie2",
    "x-csrf-token",
    "x-xsrf-token",
    "www-authenticate-token",
    "sec-websocket-protocol",
];

/// Whether a header's whole value is a secret, or that of a cookie as a variable (`$cookie_NAME`).
pub(super) fn is_header(name: &str) -> bool {
    let lower = name.to_ascii_lowercase();
    if lower
        .strip_prefix("cookie_")
        .is_some_and(|cookie| !ABOUT.contains(&cookie) && cookie != "domain" && cookie != "flags")
    {
        return true;
    }
    let plain = lower.strip_prefix("http_").map_or(lower.clone(), |n| n.replace('_', "-"));
    HEADERS.contains(&plain.as_str())
}

/// The words of a name: between signs, and where small letters turn into large ones.
fn words(name: &str) -> Vec<String> {
    let mut all: Vec<String> = Vec::new();
    let mut word = String::new();
    let mut small = false;
    for c in name.chars() {
        if !c.is_ascii_alphanumeric() {
            all.extend((!word.is_empty()).then(|| std::mem::take(&mut word)));
            small = false;
            continue;
        }
        if c.is_ascii_uppercase() && small {
            all.extend((!word.is_empty()).then(|| std::mem::take(&mut word)));
        }
        small = c.is_ascii_lowercase() || c.is_ascii_digit();
        word.push(c.to_ascii_lowercase());
    }
    all.extend((!word.is_empty()).then_some(word));
    all
}

/// How surely a name stands for a secret.
pub(super) fn strength(name: &str) -> Strength {
    // A value, not a name: `/new?api_key=…` says itself what is secret in it.
    if name.contains(['?', '=']) {
        return Strength::No;
    }
    let bare = name.trim_start_matches(['-', '$', '.', '_']).trim_end_matches(['.', '-', '_']);
    let lower = bare.to_ascii_lowercase();
    if (bare.len() < 3 && lower != "pw") || NONE.contains(&lower.as_str()) {
        return Strength::No;
    }
    let words = words(bare);
    let Some(last) = words.last() else { return Strength::No };
    // A number behind it tells one of several: DB_PASSWORD_2, secret1.
    let numbered = last.bytes().all(|b| b.is_ascii_digit()) && words.len() > 1;
    let last = if numbered { &words[words.len() - 2] } else { last };
    let last = last.trim_end_matches(|c: char| c.is_ascii_digit());
    // The half of a pair that lets a machine in, whatever its name says.
    if lower.ends_with("secret_id") || lower.ends_with("secret-id") {
        return Strength::Strong;
    }
    // What a browser shows to be known again: `PHPSESSID=…`, `session_id=…`.
    if ["session_id", "session-id", "sessionid", "sessid"].iter().any(|s| lower.ends_with(s)) {
        return Strength::Weak;
    }
    if ABOUT.contains(&last) {
        return Strength::No;
    }
    let several = words.len() > 1 + usize::from(numbered);
    let glued = |w: &str| GLUED.iter().any(|g| w.len() > g.len() && w.ends_with(g));
    // `passPhrase`, `pass_word`: one word that its writer took for two.
    let joined = |pair: &[String]| GLUED.contains(&pair.concat().as_str());
    if words.windows(2).any(joined) {
        return Strength::Strong;
    }
    if words.iter().any(|w| SECRET.contains(&w.trim_end_matches(|c: char| c.is_ascii_digit())) || glued(w)) {
        return Strength::Strong;
    }
    let shouted =
        bare.chars().any(|c| c.is_ascii_uppercase()) && !bare.chars().any(|c| c.is_ascii_lowercase());
    match last {
        "token" | "pass" | "pw" if several => Strength::Strong,
        "private" | "sk" | "hook" | "signing" | "pat" if several && shouted => Strength::Strong,
        // `openai.key`: a setting of an extension.
        "key" if lower.ends_with(".key") => Strength::Strong,
        "key" | "keys" if several => {
            let before = words
                [words.iter().rposition(|w| w.starts_with("key")).unwrap_or(1).saturating_sub(1)]
            .as_str();
            // A header that somebody made up: X-Partner-Key.
            let own = (words[0] == "x" || lower.starts_with("http_x_")) && before != "cache";
            // A variable of somebody's own that ends so, unless it is what something is looked up by.
            let looked_up = ["cache", "hash", "sort", "zone", "limit", "route", "primary", "foreign", "map"];
            let own = own || (name.starts_with('$') && last == "key" && !looked_up.contains(&before));
            if GUARDING.contains(&before) || (shouted && last == "key") || own {
                Strength::Strong
            } else {
                Strength::No
            }
        }
        "jwt" if !several || words[0] == "x" || lower.ends_with(".jwt") => Strength::Strong,
        "signature" if words[0] == "x" || lower.starts_with("http_x_") => Strength::Strong,
        "signature" if several => Strength::Weak,
        "salt" | "pin" | "otp" | "seed" if several => Strength::Strong,
        "assertion" | "samlresponse" | "hmac" | "cvv" | "pin" => Strength::Weak,
        "verifier" if words[0] == "code" => Strength::Weak,
        "auth" if words[0] == "x" || lower.starts_with("http_x_") => Strength::Strong,
        "license" if lower.ends_with(".license") => Strength::Strong,
        "auth" if several || shouted => Strength::Weak,
        "otp" | "token" | "pass" | "pw" | "auth" | "key" => Strength::Weak,
        w if w.len() > 5 && w.ends_with("token") => Strength::Strong,
        w if w.len() > 5 && w.ends_with("pass") && !w.ends_with("bypass") && !w.ends_with("compass") => {
            Strength::Strong
        }
        _ => Strength::No,
    }
}

/// Words that are likely meant in the name of a secret, though a letter of them is missing, too many, or has
/// changed places with the next one.
const MEANT: &[&str] = &[
    "access",
    "apikey",
    "authorization",
    "credential",
    "credentials",
    "encryption",
    "masterauth",
    "passphrase",
    "passwd",
    "password",
    "primaryauth",
    "private",
    "requirepass",
    "secret",
    "session",
    "token",
];

/// How surely a name stands for a secret in a line of settings, where nobody spells it right for sure.
pub(super) fn likely(name: &str) -> Strength {
    let told = strength(name);
    if told != Strength::No || name.len() < 5 || name.contains(['?', '=']) {
        return told;
    }
    let all = words(name);
    let meant = |word: &String| {
        let near = |right: &&&str| is_slip(word.as_bytes(), right.as_bytes());
        MEANT.iter().find(near).map_or_else(|| word.clone(), |right| (*right).to_owned())
    };
    let right: Vec<String> = all.iter().map(meant).collect();
    if right == all {
        return Strength::No;
    }
    let right = right.join("_");
    if is_header(&right) || is_header(&right.replace('_', "-")) { Strength::Strong } else { strength(&right) }
}

/// Whether a word is another one but for a letter that is missing, too many, or changed with its neighbour.
/// One letter in another's place counts in long words only: `passed` is no `passwd`.
fn is_slip(word: &[u8], right: &[u8]) -> bool {
    if word.len().abs_diff(right.len()) > 1 || word == right || word.len() < 4 {
        return false;
    }
    let head = word.iter().zip(right).take_while(|(a, b)| a == b).count();
    let tail = word.iter().rev().zip(right.iter().rev()).take_while(|(a, b)| a == b).count();
    let (shorter, longer) = (word.len().min(right.len()), word.len().max(right.len()));
    if shorter < longer {
        // A plural is a word of its own.
        return head + tail >= shorter
            && !(word.len() > right.len() && word.ends_with(b"s") && head == shorter);
    }
    let middle = longer.saturating_sub(head + tail);
    (middle == 1 && longer >= 8)
        || (middle == 2 && word.get(head) == right.get(head + 1) && word.get(head + 1) == right.get(head))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_with_a_slip_is_likely_that_of_a_secret() {
        for name in "DB_PASWORD pssword s3_seret_key s3-acces-key loose-vault-otken cron.passwod \
                     basic_archive.credentilas http_authorizaiton arg_otken passwodr \
                     secrets_tokn api_tken passwbord \
                     keystorePasword PASSWORDX requirepas"
            .split_whitespace()
        {
            assert_eq!(likely(name), Strength::Strong, "{name}");
        }
        for name in
            "passed server_tokens tokens password_file pasword_file taken sector private session_store \
                     passwords key_buffer_size worker_processes sessions accept access_log acces_log broken"
                .split_whitespace()
        {
            assert!(likely(name) != Strength::Strong, "{name} {:?}", likely(name));
        }
    }

    #[test]
    fn names_of_secrets_are_told_from_names_about_them() {
        for name in "DB_PASS DB_PASSWORD db-password requirepass masterauth keystorePass \
            certificateKeystorePassword \
                     connectionPassword API_KEY X-Api-Key AWS_SECRET_ACCESS_KEY SOME_KEY auth_token \
                     GITHUB_TOKEN \
                     MYSQL_PWD PGPASSWORD http_x_auth_token tls-key-file-pass insecure-password \
                     ldapbindpasswd SECRET_2 \
                     wsrep_sst_password AuthLDAPBindPassword SessionCryptoPassphrase dynamic-cookie-key \
                     mysqli.default_pw \
                     CREDS DB_CREDS JWT_SIGNING STRIPE_SK CHAT_HOOK ENCRYPTION_KEYS openai.key jwt \
                     X-JWT file_key_management_filekey requiredSecret truststorePass DJANGO_SECRET_KEY \
                     clientSecret accessToken userpassword APP_SALT \
                     X-Internal-Auth http_x_internal_auth newrelic.license \
                     passPhrase X-Partner-Key http_x_partner_key GIT_PAT X-Signature X-Hub-Signature-256"
            .split_whitespace()
        {
            assert_eq!(strength(name), Strength::Strong, "{name}");
        }
        for name in "proxy_pass fastcgi_pass server_tokens ServerTokens ssl_certificate_key proxy_cache_key \
                     SSLCertificateKeyFile auth_basic_user_file password_file ssl_password_file \
                     password_encryption \
                     validate_password_length validate_password.policy SSLPassPhraseDialog PassEnv \
                     key_buffer_size \
                     primary_key user bypass tls-key-file passive keepalive tokenizer AuthType AuthUserFile \
                     default_password_lifetime monkey hash_key KeepAlive old_passwords \
                     ssl_passphrase_command_supports_reload pm.max_children X-Cache-Key auth_jwt \
                     auth_jwt_key_file credit sacred AUTHORIZED_KEYS private signing"
            .split_whitespace()
        {
            assert!(strength(name) != Strength::Strong, "{name} {:?}", strength(name));
        }
        assert!(
            is_header("Authorization")
                && is_header("Set-Cookie")
                && is_header("http_cookie")
                && is_header("cookie_sid")
                && !is_header("cookie_path")
                && !is_header("Host")
        );
    }
}
