//! What of a configuration of nginx is not for other eyes: values beside the names of secrets, and of
//! directives that no table knows.
use super::DIRECTIVES;
use super::tokens::{End, Tokens};
use crate::secrets::{Concealed, MASK, conceal_words, is_secret, is_secret_parameter};

/// Whether a directive's whole value is a secret.
pub(super) fn is_whole(name: &str) -> bool {
    DIRECTIVES.exact(name).iter().any(|row| row.has_secret())
}

/// The secrets of a file.
pub(super) fn conceal(text: &str) -> Concealed {
    let mut found = Concealed::default();
    let mut tokens = Tokens::new(text);
    let mut words = Vec::new();
    // Blocks whose entries are no directives: whether they are about a secret.
    let mut free: Vec<Option<bool>> = Vec::new();
    while let Ok(end) = tokens.next(&mut words) {
        match end {
            End::File => break,
            End::Close => {
                free.pop();
                continue;
            }
            _ => {}
        }
        let Some(first) = words.first() else { continue };
        found.statements.push(first.start..tokens.position());
        let spelled: Vec<(&str, std::ops::Range<usize>)> =
            words.iter().map(|w| (w.value.as_ref(), w.start..w.end)).collect();
        let name = spelled[0].0;
        if let Some(Some(secret)) = free.last() {
            // The entry of a map: what is compared with, or what comes of it, is the secret.
            if *secret && !matches!(name, "default" | "hostnames" | "volatile" | "include") {
                found.secret.extend(spelled.iter().map(|(_, span)| span.clone()));
            } else if *secret {
                found.secret.extend(spelled.iter().skip(1).map(|(_, span)| span.clone()));
            }
        } else if DIRECTIVES.exact(name).is_empty() {
            found.unknown.extend(spelled.iter().skip(1).map(|(_, span)| span.clone()));
        } else if is_whole(name) {
            found.secret.extend(spelled.iter().skip(1).map(|(_, span)| span.clone()));
        } else {
            conceal_words(&spelled, &mut found);
            compared(name, &spelled, &mut found);
            no_variables(text, &spelled, &mut found);
        }
        if end == End::Open {
            let entries = matches!(name, "map" | "geo" | "split_clients" | "match" | "types" | "charset_map");
            free.push(
                entries.then(|| spelled.iter().skip(1).any(|(w, _)| is_secret(w.trim_start_matches('$')))),
            );
        }
    }
    found
}

/// A secret that begins with a dollar: beside its name stands a variable that nobody defines.
fn no_variables(text: &str, words: &[(&str, std::ops::Range<usize>)], found: &mut Concealed) {
    for pair in words.windows(2) {
        let (name, (word, span)) = (pair[0].0.trim_start_matches('$'), &pair[1]);
        let Some(variable) = word.strip_prefix('$').filter(|_| crate::secrets::is_likely_secret(name)) else {
            continue;
        };
        let bare = variable.trim_matches(['{', '}']);
        if !super::variables::built_in(bare) && text.matches(&format!("${bare}")).nth(1).is_none() {
            found.secret.push(span.clone());
        }
    }
}

/// Whether a block of entries is about a secret: what is compared with, or what comes of it.
pub(super) fn about_secret(block: &str) -> bool {
    let mut words = block.split(' ');
    words.next().is_some_and(|n| matches!(n, "map" | "geo"))
        && words.any(|w| is_secret(w.trim_start_matches('$')))
}

/// The head of a block as it may be shown.
pub(super) fn head(label: &str) -> String {
    let words: Vec<&str> = label.split(' ').collect();
    let name = words.first().copied().unwrap_or_default();
    format!("{name} {}", shown(&words, "")).trim_end().to_owned()
}

/// The arguments of a statement as they may be shown. `block` is the head of the block that it stands in.
pub(super) fn shown(words: &[&str], block: &str) -> String {
    let secret_block = about_secret(block);
    let mut at = 0;
    let spelled: Vec<(&str, std::ops::Range<usize>)> = words
        .iter()
        .map(|w| {
            let span = at..at + w.len();
            at = span.end + 1;
            (*w, span)
        })
        .collect();
    let Some((name, _)) = spelled.first() else { return String::new() };
    let mut found = Concealed::default();
    conceal_words(&spelled, &mut found);
    compared(name, &spelled, &mut found);
    let hidden = |span: &std::ops::Range<usize>| (secret_block || is_whole(name)) && !span.is_empty();
    let one = |(word, span): &(&str, std::ops::Range<usize>)| {
        let touched = found.secret.iter().find(|s| s.start < span.end && span.start < s.end);
        match touched {
            _ if hidden(span) => MASK.to_owned(),
            Some(part) if part.start > span.start => {
                format!("{}{MASK}", word.get(..part.start - span.start).unwrap_or_default())
            }
            Some(_) => MASK.to_owned(),
            None => (*word).to_owned(),
        }
    };
    spelled.iter().skip(1).map(one).collect::<Vec<_>>().join(" ")
}

/// `if ($http_x_token = "value")`: what the variable of a secret is compared with.
fn compared(name: &str, words: &[(&str, std::ops::Range<usize>)], found: &mut Concealed) {
    let about = |w: &str| {
        let variable = w.trim_start_matches(['(', '$', '!']);
        is_secret(variable) || variable.strip_prefix("arg_").is_some_and(is_secret_parameter)
    };
    if name == "if" && words.iter().skip(1).any(|(w, _)| about(w)) {
        let values = words.iter().skip(1).filter(|(w, _)| {
            !w.trim_start_matches('(').starts_with('$')
                && !matches!(*w, "=" | "!=" | "~" | "~*" | "!~" | "!~*" | "(" | ")")
        });
        found.secret.extend(values.map(|(w, span)| {
            span.start..span.end - (w.len() - w.trim_end_matches(')').len()).min(span.len())
        }));
    }
}
