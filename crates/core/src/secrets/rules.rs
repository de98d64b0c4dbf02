//! Words that servers have of their own for what lets in: rules of accounts, new names of hidden commands.
use super::net::Text;
use crate::bounds::step;
use std::cell::LazyCell;
use std::ops::Range;

/// A name that was likely meant to be that of the directive that hides commands.
fn near_rename(word: &str) -> bool {
    (12..=16).contains(&word.len())
        && crate::config::nearest(word, std::iter::once("rename-command")).is_some()
}

fn is_hexadecimal(word: &str) -> bool {
    word.trim_end_matches(['"', '\'', ';']).bytes().all(|b| b.is_ascii_hexdigit())
}

/// The passwords and hashes among the rules of an account.
fn secret_rules(line: &str, rules: &[Range<usize>], found: &mut Vec<Range<usize>>) {
    for rule in rules {
        step(1);
        let text = &line[rule.clone()];
        let bare = text.trim_start_matches(['"', '\'']);
        if bare.starts_with(['>', '<', '#', '!']) && bare.len() > 1 {
            let from = rule.start + (text.len() - bare.len()) + 1;
            found.push(from..rule.start + text.trim_end_matches(['"', '\'', ';']).len());
        }
    }
}

/// Words that a database's own way of writing accounts makes secrets: `user NAME … >password #hash`,
/// `rename-command OLD NEW`.
pub(super) fn words(line: &str, sort: Text, found: &mut Vec<Range<usize>>) {
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
    let is_rule = |t: &str| {
        matches!(t, "on" | "off" | "nopass" | "resetpass" | "reset" | "allkeys" | "allcommands")
            || t.starts_with(['~', '&', '+'])
    };
    // A statement may be commented out.
    let begin = tokens.iter().position(|t| !matches!(&lower[t.clone()], "#" | ";" | "//")).unwrap_or(0);
    let last_rule = LazyCell::new(|| tokens.iter().rposition(|t| is_rule(&word(t))));
    let mut ruled = false;
    for (at, token) in tokens.iter().enumerate() {
        match word(token).as_str() {
            // Its rules are those to the end of the line, whatever stands there again.
            "user" | "setuser" if !ruled && last_rule.is_some_and(|last| last >= at + 2) => {
                ruled = true;
                secret_rules(line, &tokens[at + 2..], found);
            }
            // `AuthBasicFake ACCOUNT SECRET`, `sentinel auth-pass MASTER SECRET`
            "authbasicfake" | "mdexternalaccountbinding" => found.extend(tokens.get(at + 2).cloned()),
            "auth-pass" if at > 0 => found.extend(tokens.get(at + 2).cloned()),
            first if at == begin && (first == "rename-command" || near_rename(first)) => {
                if let Some(new) =
                    tokens.get(at + 2).filter(|n| !matches!(&line[(*n).clone()], "\"\"" | "''"))
                {
                    found.push(new.clone());
                }
            }
            // An account's rules, whatever their line begins with: `usre NAME on >SECRET`.
            _ if at == begin && sort == Text::Settings && last_rule.is_some_and(|last| last >= at + 2) => {
                for rule in tokens.iter().skip(at + 2) {
                    let text = line[rule.clone()].trim_start_matches(['"', '\'']);
                    // What else begins so are comments and tags.
                    let hash = text.strip_prefix('#').is_some_and(|h| h.len() > 31 && is_hexadecimal(h));
                    let password =
                        text.strip_prefix('>').is_some_and(|p| !p.is_empty() && !p.starts_with('='));
                    if hash || password {
                        secret_rules(line, std::slice::from_ref(rule), found);
                    }
                }
            }
            _ => {}
        }
    }
}
