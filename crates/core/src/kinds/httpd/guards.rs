//! Directives that keep somebody out of a folder.

/// Beginnings of names of directives by which access is granted, denied or asked for, in small letters.
const GUARDS: &[&str] = &[
    "allow",
    "anonymous",
    "auth",
    "deny",
    "<files",
    "<limit",
    "header",
    "options",
    "order",
    "php_",
    "removehandler",
    "require",
    "<require",
    "satisfy",
    "sec",
    "session",
    "sslrequire",
    "sslverify",
    "sslcipher",
];

/// Whether a line is such a directive, or something like one: a misspelt one is meant to keep out as well.
pub(super) fn keeps_out(line: &str) -> bool {
    let line = line.trim().to_ascii_lowercase();
    let word = line.split(|c: char| c.is_whitespace()).next().unwrap_or_default();
    if word.is_empty() || word.starts_with('#') || word.starts_with("</") {
        return false;
    }
    let conditional = matches!(word, "<if" | "<elseif" | "<else" | "<else>");
    if conditional || GUARDS.iter().any(|guard| word.starts_with(guard)) {
        return true;
    }
    // A rule that ends in a refusal, or that a condition leads to one.
    if word.starts_with("rewrite") {
        let refuses = |flag: &str| {
            let flag = flag.split('=').next().unwrap_or(flag).trim();
            matches!(flag, "f" | "forbidden" | "g" | "gone" | "r" | "redirect")
        };
        let flags = line.rsplit_once('[').map_or("", |(_, flags)| flags.trim_end_matches(']'));
        return word != "rewriteengine" && (word != "rewriterule" || flags.split(',').any(refuses));
    }
    let plain = word.trim_start_matches('<');
    let known = [
        "allow",
        "authname",
        "authtype",
        "authuserfile",
        "deny",
        "order",
        "require",
        "satisfy",
        "requireall",
        "requireany",
        "files",
        "limit",
    ];
    known.iter().any(|guard| strsim::damerau_levenshtein(guard, plain) <= 2)
}

#[cfg(test)]
mod tests {
    use super::keeps_out;

    #[test]
    fn what_keeps_out_is_told_from_what_does_not() {
        for line in [
            "Require valid-user",
            "  require all denied",
            "Requre valid-user",
            "Reqiure ip 192.0.2.7",
            "AuthType Basic",
            "AuthUserFil /x",
            "Deny from all",
            "Oder deny,allow",
            "<Files .secret>",
            "<FilesMatch x>",
            "RewriteRule ^x - [F,L]",
            "RewriteRule ^x - [R=403]",
            "RewriteCond %{HTTPS} off",
            "SSLRequireSSL",
            "Options -Indexes",
        ] {
            assert!(keeps_out(line), "{line}");
        }
        for line in [
            "",
            "# Require",
            "</Files>",
            "DirectoryIndex index.php",
            "TideGauge On",
            "RewriteEngine on",
            "RewriteRule ^a$ b [L]",
            "AddType x y",
            "<IfModule mod_env.c>",
            "ErrorDocument 404 /x",
            "ExpiresActive on",
        ] {
            assert!(!keeps_out(line), "{line}");
        }
    }
}
