//! What may be recorded of the configuration of a program that nobody knows: the names of settings, and
//! values that are plainly a number, a switch, an address or a path. Every other word could be a secret.
use crate::net::parse_listen;
use crate::secrets::Concealed;
use std::ops::Range;

/// Words that say yes, no or nothing.
const SWITCHES: &[&str] = &["true", "false", "yes", "no", "on", "off", "null", "none", "localhost"];

/// Signs between words.
fn parts(c: char) -> bool {
    c.is_whitespace() || matches!(c, '"' | '\'' | ',' | ';' | '{' | '}' | '(' | ')' | '=')
}

/// Whether a word tells nothing that is worth hiding.
pub(crate) fn is_plain(word: &str) -> bool {
    let bare = word.trim_matches(['[', ']']);
    let number = bare.len() <= 6 && bare.bytes().all(|b| b.is_ascii_digit());
    let sign = word.chars().all(|c| !c.is_alphanumeric());
    let path = word.starts_with('/') && !word.contains(['@', '?', '=']);
    // A letter alone, or a whole name: what is glued to a letter could be its value.
    let option = match word.as_bytes() {
        [b'-', letter] => letter.is_ascii_alphabetic(),
        [b'-', b'-', name @ ..] => {
            !name.is_empty() && name.iter().all(|b| b.is_ascii_lowercase() || *b == b'-')
        }
        _ => false,
    };
    number
        || option
        || sign
        || path
        || SWITCHES.contains(&word.to_ascii_lowercase().as_str())
        || bare.parse::<std::net::IpAddr>().is_ok()
        || parse_listen(word).is_ok()
}

/// Whether a word is the name of a setting or of a section: what stands behind it says so.
fn is_name(word: &str, behind: &str) -> bool {
    let of_name = |c: char| c.is_ascii_alphanumeric() || matches!(c, '_' | '-' | '.');
    let bare = word.trim_end_matches(':');
    if bare.is_empty() || !bare.chars().all(of_name) {
        return false;
    }
    let behind = behind.trim_start_matches(['"', '\'', ' ', '\t']);
    bare.len() < word.len()
        || behind.starts_with('=')
        || (behind.starts_with(':') && !behind.starts_with("://"))
}

/// Whether a word is a listener's port in tags: `<port>7400</port>`.
fn is_tagged(word: &str) -> bool {
    let inner = word.strip_prefix('<').and_then(|rest| rest.split_once('>'));
    inner.is_some_and(|(name, rest)| {
        let value = rest.strip_suffix(&format!("</{name}>"));
        super::named::is_of_listener(name) && value.is_some_and(is_plain)
    })
}

/// Everything that is not plain, as values that nobody knows.
pub(super) fn conceal(text: &str) -> Concealed {
    let mut unknown: Vec<Range<usize>> = Vec::new();
    let mut at = 0;
    for line in text.split_inclusive('\n') {
        let begin = at;
        at += line.len();
        let inner = line.trim();
        let is_section = inner.starts_with('[') && inner.ends_with(']') && !inner.contains([',', '"', '\'']);
        if is_section {
            continue;
        }
        let mut from = 0;
        // Behind the name of a setting its value follows, up to the next entry of the line.
        let mut named = false;
        while let Some(start) = line[from..].find(|c| !parts(c)).map(|n| from + n) {
            let end = line[start..].find(parts).map_or(line.len(), |n| start + n);
            let word = &line[start..end];
            named &= !line[from..start].contains(['{', ',', ';']);
            // What a line begins with is a name without a sign behind it, too, where more words follow: what
            // runs over several lines is set in.
            let letters = word.bytes().all(|b| b.is_ascii_alphabetic() || matches!(b, b'_' | b'-'));
            let followed = line[end..].starts_with([' ', '\t']) && !line[end..].trim().is_empty();
            let first = start == 0 && !named && letters && !word.starts_with('-') && followed;
            if !named && (first || is_name(word, &line[end..])) {
                named = true;
            } else if !is_plain(word) && !is_tagged(word) {
                unknown.push(begin + start..begin + end);
            }
            from = end;
        }
    }
    Concealed { secret: Vec::new(), unknown, statements: std::iter::once(0..text.len()).collect() }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::secrets::masked;

    #[test]
    fn only_what_is_plain_is_left() {
        for (text, expected) in [
            ("[relay]\nport = 7400\nkey = ebb-71\n", "[relay]\nport = 7400\nkey = MASKED\n"),
            ("host: 127.0.0.1:7400\nlog: /var/log/a.log\n", "host: 127.0.0.1:7400\nlog: /var/log/a.log\n"),
            ("signing: |\n  ebbtide\n  flood\n", "signing: |\n  MASKED\n  MASKED\n"),
            ("tokens:\n  - ebb71\n", "tokens:\n  - MASKED\n"),
            ("url = redis://:ebb@127.0.0.1/0\n", "url = MASKED\n"),
            (
                "{\"jwt\": {\"key\": \"ebb\"}, \"port\": 7400}",
                "{\"jwt\": {\"key\": \"MASKED\"}, \"port\": 7400}",
            ),
            ("x = Server=a;Pwd=ebb;\n", "x = MASKED=MASKED;Pwd=MASKED;\n"),
            ("# my password is ebb\n", "# MASKED MASKED MASKED MASKED\n"),
            ("on = true\nfile = /srv/a?token=ebb\n", "on = true\nfile = MASKED=MASKED\n"),
            ("pass = ebb: flood\n", "pass = MASKED MASKED\n"),
            ("-p 7400\n-Pebb71\n--user ebb\n", "-p 7400\nMASKED\n--user MASKED\n"),
            (
                "Port 7400\nPassword ebb\n  port 7\nebbtide\nebb71 on\n",
                "Port 7400\nPassword MASKED\n  MASKED 7\nMASKED\nMASKED on\n",
            ),
            ("<port>7400</port>\n<key>71</key>\n", "<port>7400</port>\nMASKED\n"),
        ] {
            assert_eq!(masked(text, &conceal(text).unknown), expected, "{text}");
        }
    }
}
