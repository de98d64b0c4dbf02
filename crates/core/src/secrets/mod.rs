//! Which words are secrets, by their names, their places and their forms, and the mask that takes their
//! place. One mask of one length stands for every value, so that its length tells nothing. Lines stay where
//! they are; columns behind a mask do not.
mod forms;
mod names;
mod net;
mod rules;

use names::{Strength, strength};
pub(crate) use net::{Text, apart, meets, spans, spans_outside};
use std::ops::Range;

/// What stands in the place of a secret: a plain word, so that it is one value in every grammar, a regular
/// expression included.
pub const MASK: &str = "MASKED";

/// Whether a setting, variable, attribute or option of this name holds a secret.
pub fn is_secret(name: &str) -> bool {
    names::is_header(name) || strength(name) == Strength::Strong
}

/// The same for a name that somebody may have spelled wrong.
pub(crate) fn is_likely_secret(name: &str) -> bool {
    names::is_header(name) || names::likely(name) == Strength::Strong
}

/// Whether a name may stand for a secret, surely or not.
pub(crate) fn may_be_secret(name: &str) -> bool {
    names::is_header(name) || names::likely(name) != Strength::No
}

/// A text with spans of it masked.
pub(crate) fn masked(text: &str, spans: &[Range<usize>]) -> String {
    let mut out = String::with_capacity(text.len());
    let mut at = 0;
    for span in spans {
        if span.start >= at {
            out.push_str(&text[at..span.start]);
            out.push_str(MASK);
            at = span.end;
        }
    }
    out.push_str(&text[at..]);
    out
}

/// Masks secrets in a sentence, a log line or a message.
pub fn mask_text(text: &str) -> String {
    match spans(text, Text::Prose) {
        none if none.is_empty() => text.to_owned(),
        found => masked(text, &found),
    }
}

/// Masks what lets an account in, in the addresses of a text and nowhere else: for words that the caller
/// typed.
pub fn mask_addresses(text: &str) -> String {
    masked(text, &apart(net::in_addresses(text).filter(|span| !span.is_empty()).collect()))
}

/// Masks secrets in lines of settings: diffs, quoted source lines, statements.
pub fn mask_settings(text: &str) -> String {
    match spans(text, Text::Settings) {
        none if none.is_empty() => text.to_owned(),
        found => masked(text, &found),
    }
}

/// A message about a directive: where that holds a secret, what the message quotes of it is masked.
pub fn mask_message(directive: Option<&str>, message: &str) -> String {
    let shown = mask_text(message);
    let Some(name) = directive.filter(|d| is_secret(d)) else { return shown };
    let mut out = String::with_capacity(shown.len());
    for (at, part) in shown.split('"').enumerate() {
        if at > 0 {
            out.push('"');
        }
        out.push_str(if at % 2 == 1 && part != name { MASK } else { part });
    }
    out
}

/// Whether a parameter of a request stands for a secret, though its name would not elsewhere.
pub(crate) fn is_secret_parameter(name: &str) -> bool {
    let short = ["key", "sig", "signature", "sid", "code", "hash", "ticket", "session", "pin", "auth"];
    short.contains(&name.to_ascii_lowercase().as_str()) || is_secret(name)
}

/// A setting's value as it may be shown: its name decides, and what else the value holds.
pub fn mask_value(name: &str, value: &str) -> String {
    if value.is_empty() {
        return String::new();
    }
    let last = name.rsplit(' ').next().unwrap_or(name);
    if is_likely_secret(last) {
        return MASK.into();
    }
    // A variable of the environment: all that stands behind its name is its value.
    if let Some((variable, _)) = value.split_once(' ')
        && (last.to_ascii_lowercase().ends_with("setenv") || last.starts_with("set-var"))
        && is_likely_secret(variable)
    {
        return format!("{variable} {MASK}");
    }
    // A variable or an interpreter's setting takes one value; a directive may take several words.
    let sign = if name.ends_with(']') { " = " } else { " " };
    let whole = mask_settings(&format!("{name}{sign}{value}"));
    whole.get(name.len() + sign.len()..).map_or_else(|| MASK.into(), str::to_owned)
}

/// Arguments with the value of every secret option masked.
pub fn mask_arguments(arguments: &[String]) -> Vec<String> {
    let program = arguments.first().map(|a| crate::path::name(a).to_owned()).unwrap_or_default();
    let client = ["mysql", "mariadb"].iter().any(|c| program.starts_with(c));
    let mut out: Vec<String> = Vec::with_capacity(arguments.len());
    for (at, argument) in arguments.iter().enumerate() {
        let before = at.checked_sub(1).and_then(|b| arguments.get(b)).map_or("", String::as_str);
        let named = (before.starts_with("--") && strength(before) >= Strength::Weak)
            || (before.starts_with('-') && strength(before) == Strength::Strong);
        let named = named && !before.contains('=');
        let short = match (program.as_str(), before) {
            ("sshpass", "-p") | ("redis-cli" | "valkey-cli", "-a") => true,
            (p, "-w") => p.starts_with("ldap"),
            _ => false,
        };
        let account = matches!(
            before,
            "-u" | "-U"
                | "--user"
                | "--userpwd"
                | "--proxy-user"
                | "--auth"
                | "--basic-auth"
                | "--credentials"
                | "--http-user"
        );
        let shown = if at > 0 && ((named && !argument.starts_with('-')) || short) {
            MASK.to_owned()
        } else if client && argument.len() > 2 && argument.starts_with("-p") {
            format!("-p{MASK}")
        } else if let Some((name, _)) =
            argument.split_once([':', '%']).filter(|(n, v)| account && !n.is_empty() && !v.is_empty())
        {
            format!("{name}:{MASK}")
        } else if let Some((name, value)) =
            argument.split_once('=').filter(|(n, v)| !v.is_empty() && assigns(n))
        {
            format!("{name}={}", if value.starts_with('$') { value } else { MASK })
        } else {
            // One argument may be a whole command line or statement.
            mask_settings(argument)
        };
        out.push(shown);
    }
    // What only the line as a whole tells: the program stands before its options.
    let whole = out.join("\u{0}");
    let spaced = whole.replace('\u{0}', " ");
    let found: Vec<Range<usize>> = spans(&spaced, Text::Prose);
    if found.is_empty() {
        return out;
    }
    let mut bytes = String::with_capacity(whole.len());
    let mut at = 0;
    for span in net::apart(found) {
        bytes.push_str(&whole[at..span.start]);
        bytes.push_str(MASK);
        at = span.end;
    }
    bytes.push_str(&whole[at..]);
    bytes.split('\u{0}').map(str::to_owned).collect()
}

/// Whether the left side of `NAME=value` names a secret: `DB_PASS`, `--password`,
/// `-Djavax.net.ssl.keyStorePassword`.
fn assigns(name: &str) -> bool {
    let bare = name.rsplit([' ', '\t', ';', '"', '\'']).next().unwrap_or(name);
    strength(bare.strip_prefix("-D").unwrap_or(bare)) >= Strength::Weak
}

/// A command line with its secrets masked.
pub fn mask_command(line: &str) -> String {
    mask_arguments(&line.split(' ').map(str::to_owned).collect::<Vec<_>>()).join(" ")
}

/// What a kind finds in one of its files: bytes of secrets, of values that it does not know, and of the
/// statements that it read.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Concealed {
    /// Values of secrets.
    pub secret: Vec<Range<usize>>,
    /// Values of directives that the kind does not know.
    pub unknown: Vec<Range<usize>>,
    /// Statements, so that only what lies outside of them is left to the net.
    pub statements: Vec<Range<usize>>,
}

/// Words that stand behind the value of a variable or a header without being part of it.
const BEHIND_VALUES: [&str; 4] = ["always", "early", "if_not_empty", "if"];

/// What is secret among the words of one statement, its name first: beside the name of a secret, or inside a
/// word.
pub fn conceal_words(words: &[(&str, Range<usize>)], found: &mut Concealed) {
    let asked = words.iter().any(|(word, _)| net::asks_for_address(word));
    // A value of several words that somebody forgot to quote: `set $db_password two words`.
    let mut goes_on = false;
    for (at, (word, span)) in words.iter().enumerate() {
        if goes_on
            && !word.starts_with(['[', '$', '%'])
            && !word.contains('=')
            && !BEHIND_VALUES.contains(word)
        {
            found.secret.push(span.clone());
            continue;
        }
        goes_on = false;
        let before = at.checked_sub(1).and_then(|b| words.get(b)).map_or("", |(w, _)| *w);
        let named = !before.starts_with('(') && !before.contains(['=', '?', '/']);
        // `$http_cookie`, `%{HTTP_COOKIE}`, `%{HTTP:X-Auth-Token}`: what a variable is compared with.
        let own = at == 2 && words.len() == 3 && before.starts_with('$') && words[0].0.len() < 5;
        let name =
            if own { before } else { before.trim_start_matches(['$', '%', '{']).trim_end_matches('}') };
        let name = name.strip_prefix("HTTP:").unwrap_or(name);
        if at > 0
            && named
            && is_likely_secret(name)
            && !word.is_empty()
            && !(word.starts_with('$') && word.len() > 1)
        {
            found.secret.push(span.clone());
            goes_on = word.len() == span.len() && at > 1;
            // A header that is edited: a pattern, and what takes the place of what it finds.
            if at > 1 && words[at - 2].0.starts_with("edit") {
                found.secret.extend(words.get(at + 1).map(|(_, next)| next.clone()));
            }
            continue;
        }
        // The same with what compares between them: `%{HTTP:X-Token} == VALUE`.
        let compared = at.checked_sub(2).and_then(|b| words.get(b)).map_or("", |(w, _)| *w);
        if is_comparison(before)
            && let Some(header) = compared.strip_prefix("%{HTTP:").and_then(|h| h.strip_suffix('}'))
            && (is_secret(header) || strength(header) != Strength::No)
            && !word.is_empty()
        {
            found.secret.push(span.clone());
            continue;
        }
        // A key that stands in the configuration itself.
        if at > 0
            && words[0].0.ends_with("certificate_key")
            && word.strip_prefix("data:").is_some_and(|key| !key.starts_with('$'))
        {
            found.secret.push(span.clone());
            continue;
        }
        // An account and what lets it in, under a name that says no more than that: `set $auth
        // "NAME:SECRET"`.
        let pair = || {
            word.split_once(':')
                .filter(|(account, rest)| !account.is_empty() && !rest.is_empty() && !rest.starts_with('/'))
        };
        // A variable of an environment whose name ends so holds more than how.
        let shouted = name.contains('_') && !name.bytes().any(|b| b.is_ascii_lowercase());
        let weak = at > 0 && named && strength(name) == Strength::Weak;
        if weak && (pair().is_some() || (shouted && word.contains(' '))) {
            found.secret.push(span.clone());
            continue;
        }
        if at > 0 {
            let mut inner = spans(word, Text::Settings);
            inner.extend(net::in_comparison(word).filter(|_| asked));
            let inner = apart(inner);
            // Escapes make a value another text than its bytes: then all of it goes.
            if !inner.is_empty() {
                if word.len() == span.len() {
                    found.secret.extend(inner.into_iter().map(|s| span.start + s.start..span.start + s.end));
                } else {
                    found.secret.push(span.clone());
                }
            }
        }
    }
}

/// Whether a word compares what stands before it with what stands behind (expressions of httpd).
fn is_comparison(word: &str) -> bool {
    matches!(word, "=" | "==" | "!=" | "=~" | "!~" | "<" | "<=" | ">" | ">=" | "in") || word.starts_with('-')
}

/// Lines of `name value`, whatever their grammar: the value of every name that a kind does not know is
/// concealed.
pub fn conceal_lines(
    text: &str,
    comment: &[char],
    names: &dyn Fn(&str) -> bool,
    secret: &dyn Fn(&str) -> bool,
) -> Concealed {
    let mut found = Concealed::default();
    let mut start = 0;
    for line in text.split('\n') {
        let begin = start;
        start += line.len() + 1;
        let inner = line.trim();
        if inner.is_empty() || inner.starts_with(comment) || inner.starts_with(['[', '!', '<', '@']) {
            continue;
        }
        let at = begin + (line.len() - line.trim_start().len());
        let name_length = inner.find([' ', '\t', '=', ':']).unwrap_or(inner.len());
        let name = &inner[..name_length];
        let rest = inner[name_length..].trim_start_matches([' ', '\t', '=', ':']);
        let value = at + inner.len() - rest.len()..at + inner.len();
        if rest.is_empty() {
            continue;
        }
        found.statements.push(at..at + inner.len());
        if secret(name) || is_likely_secret(name) {
            found.secret.push(value);
        } else if names(name) {
            found.secret.extend(spans(inner, Text::Settings).into_iter().map(|s| at + s.start..at + s.end));
        } else {
            found.unknown.push(value);
        }
    }
    found
}

/// Whether a line of a recorded text holds a mask before a column: then the column is not that of the file
/// itself.
pub fn column_moved(line: &str, column: u32) -> bool {
    let end = line
        .char_indices()
        .nth(usize::try_from(column.saturating_sub(1)).unwrap_or(usize::MAX))
        .map_or(line.len(), |(at, _)| at);
    line.find(MASK).is_some_and(|at| at < end)
}
