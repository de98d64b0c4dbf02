//! What of a configuration of nginx is not for other eyes: values beside the names of secrets, and of directives that no table
//! knows.
use super::DIRECTIVES;
use super::tokens::{End, Tokens};
use crate::host::{Concealed, conceal_words, is_secret};

/// Directives whose value is a secret although neither its name nor its words say so.
const WHOLE: &[&str] = &["secure_link_md5", "secure_link_secret", "auth_jwt_key_request", "zone_sync_ssl_password_file"];

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
        let spelled: Vec<(&str, std::ops::Range<usize>)> = words.iter().map(|w| (w.value.as_ref(), w.start..w.end)).collect();
        let name = spelled[0].0;
        if let Some(Some(secret)) = free.last() {
            // The entry of a map: what is compared with, or what comes of it, is the secret.
            if *secret && !matches!(name, "default" | "hostnames" | "volatile" | "include") {
                found.secret.extend(spelled.iter().map(|(_, span)| span.clone()));
            } else if *secret {
                found.secret.extend(spelled.iter().skip(1).map(|(_, span)| span.clone()));
            }
        } else if DIRECTIVES.rows(name).next().is_none() {
            found.unknown.extend(spelled.iter().skip(1).map(|(_, span)| span.clone()));
        } else if WHOLE.contains(&name) {
            found.secret.extend(spelled.iter().skip(1).map(|(_, span)| span.clone()));
        } else {
            conceal_words(&spelled, &mut found);
            compared(name, &spelled, &mut found);
        }
        if end == End::Open {
            let entries = matches!(name, "map" | "geo" | "split_clients" | "match" | "types" | "charset_map");
            free.push(entries.then(|| spelled.iter().skip(1).any(|(w, _)| is_secret(w.trim_start_matches('$')))));
        }
    }
    found
}

/// `if ($http_x_token = "value")`: what the variable of a secret is compared with.
fn compared(name: &str, words: &[(&str, std::ops::Range<usize>)], found: &mut Concealed) {
    let about = |w: &str| is_secret(w.trim_start_matches(['(', '$', '!']));
    if name == "if" && words.iter().skip(1).any(|(w, _)| about(w)) {
        let values = words.iter().skip(1).filter(|(w, _)| !w.contains('$') && !matches!(*w, "=" | "!=" | "~" | "~*" | "!~" | "!~*" | "(" | ")"));
        found.secret.extend(values.map(|(w, span)| span.start..span.end - (w.len() - w.trim_end_matches(')').len()).min(span.len())));
    }
}
