//! The shell file beside the main file that sets the daemon's variables: plain assignments, defaults, and the
//! few conditions that distributions write there.
use crate::bounds;
use crate::snapshot::Snapshot;
use std::collections::BTreeMap;

/// Reads the file's assignments on top of `environment`.
pub(super) fn read(text: &str, snapshot: &Snapshot, environment: &mut BTreeMap<String, String>) {
    // For each open `if`: whether its current branch is taken, and whether one was.
    let mut branches: Vec<(bool, bool)> = Vec::new();
    let mut left = bounds::ENVIRONMENT.saturating_sub(environment.values().map(String::len).sum());
    for raw in text.lines() {
        let line = raw.trim();
        let first = line.split([' ', '\t', ';']).next().unwrap_or_default();
        let live = branches.iter().all(|b| b.0);
        match first {
            "if" => {
                let holds = live && condition(line, snapshot, environment);
                branches.push((holds, holds));
                if line.ends_with("fi") {
                    branches.pop();
                }
            }
            "elif" => {
                if let Some((_, done)) = branches.pop() {
                    let holds = !done && condition(line, snapshot, environment);
                    branches.push((holds, done || holds));
                }
            }
            "else" => {
                if let Some(last) = branches.last_mut() {
                    *last = (!last.1, true);
                }
            }
            "fi" => drop(branches.pop()),
            _ if !live || line.starts_with('#') => {}
            "unset" => line.split_whitespace().skip(1).for_each(|n| drop(environment.remove(n))),
            ":" => default(line, environment, &mut left),
            _ => assign(line.strip_prefix("export ").unwrap_or(line), environment, &mut left),
        }
    }
}

/// `: ${NAME:=value}`.
fn default(line: &str, environment: &mut BTreeMap<String, String>, left: &mut usize) {
    let Some(inner) = line.split_once("${").and_then(|(_, r)| r.rsplit_once('}')).map(|(i, _)| i) else {
        return;
    };
    if let Some((name, value)) = inner.split_once(":=").or_else(|| inner.split_once('='))
        && environment.get(name).is_none_or(String::is_empty)
    {
        set(name, value, environment, left);
    }
}

fn assign(line: &str, environment: &mut BTreeMap<String, String>, left: &mut usize) {
    let Some((name, value)) = line.split_once('=') else { return };
    let plain = !name.is_empty() && name.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'_');
    if plain {
        set(name, value.trim(), environment, left);
    }
}

/// Sets a variable. Of more than a program could be given nothing is known, the value before least of all.
fn set(name: &str, value: &str, environment: &mut BTreeMap<String, String>, left: &mut usize) {
    match expand(value, environment).filter(|value| value.len() <= *left) {
        Some(value) => {
            *left -= value.len();
            environment.insert(name.to_owned(), value);
        }
        None => drop(environment.remove(name)),
    }
}

/// Quotes removed, `$X`, `${X}`, `${X:-y}` and `${X##y}` put in; a comment behind the value ends it. `None`
/// where it becomes longer than a program can be given.
fn expand(value: &str, environment: &BTreeMap<String, String>) -> Option<String> {
    let mut out = String::new();
    let (mut quote, mut rest) = (None, value);
    while let Some(c) = rest.chars().next() {
        if out.len() > bounds::VALUE {
            return None;
        }
        rest = &rest[c.len_utf8()..];
        match c {
            '"' | '\'' if quote.is_none() => quote = Some(c),
            c if quote == Some(c) => quote = None,
            ' ' | '\t' | ';' if quote.is_none() => break,
            '$' if quote != Some('\'') => {
                if let Some((inner, tail)) = rest.strip_prefix('{').and_then(|r| r.split_once('}')) {
                    out.push_str(&parameter(inner, environment));
                    rest = tail;
                } else {
                    let length = rest.bytes().take_while(|b| b.is_ascii_alphanumeric() || *b == b'_').count();
                    out.push_str(environment.get(&rest[..length]).map_or("", String::as_str));
                    rest = &rest[length..];
                }
            }
            '\\' if quote != Some('\'') => {
                out.extend(rest.chars().next());
                rest = rest.get(1..).unwrap_or_default();
            }
            c => out.push(c),
        }
    }
    (out.len() <= bounds::VALUE).then_some(out)
}

fn parameter(inner: &str, environment: &BTreeMap<String, String>) -> String {
    let length = inner.bytes().take_while(|b| b.is_ascii_alphanumeric() || *b == b'_').count();
    let (name, operation) = inner.split_at(length);
    let value = environment.get(name).cloned().unwrap_or_default();
    if let Some(other) = operation.strip_prefix(":-").or(operation.strip_prefix(":=")) {
        return if value.is_empty() { other.to_owned() } else { value };
    }
    if let Some(prefix) = operation.strip_prefix("##").or(operation.strip_prefix('#')) {
        return value.strip_prefix(prefix).unwrap_or(&value).to_owned();
    }
    value
}

fn condition(line: &str, snapshot: &Snapshot, environment: &BTreeMap<String, String>) -> bool {
    let inner = line
        .split_once('[')
        .and_then(|(_, r)| r.split_once(']'))
        .map_or("", |(i, _)| i)
        .trim_matches(['[', ' ']);
    // No condition that is understood has more words.
    let words: Option<Vec<String>> =
        inner.split_whitespace().take(8).map(|w| expand(w, environment)).collect();
    let words = words.unwrap_or_default();
    let words: Vec<&str> = words.iter().map(String::as_str).collect();
    match words.as_slice() {
        ["-z", rest @ ..] => rest.iter().all(|w| w.is_empty()),
        ["-n", rest @ ..] => rest.iter().any(|w| !w.is_empty()),
        ["-f" | "-r" | "-e" | "-d", path] => snapshot.exists(path) == Some(true),
        [a, "=" | "==", b] => a == b,
        [a, "!=", b] => a != b,
        _ => false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::host::{Answer, Host, Look, Parts, Question};

    struct Nothing;
    impl Host for Nothing {
        fn ask(&self, _: &Question) -> Look<Answer> {
            Look::Absent
        }
        fn parts(&self) -> Parts {
            Parts { files: true, ..Parts::default() }
        }
    }

    #[test]
    fn reads_what_distributions_write() {
        let text = "unset HOME\nif [ \"${CONFDIR##/etc/front-}\" != \"${CONFDIR}\" ] ; \
            then\n\tSUFFIX=\"-x\"\nelse\n\tSUFFIX=\nfi\nexport RUN_DIR=/run/front$SUFFIX # dir\n\
            LOG='/var/log/front'\n: ${USER_NAME:=www-data}\n";
        let mut found = BTreeMap::from([
            ("CONFDIR".to_owned(), "/etc/front".to_owned()),
            ("HOME".to_owned(), "/".to_owned()),
        ]);
        read(text, &Snapshot::new(&Nothing), &mut found);
        assert_eq!(found["RUN_DIR"], "/run/front");
        assert_eq!(found["LOG"], "/var/log/front");
        assert_eq!(found["USER_NAME"], "www-data");
        assert!(!found.contains_key("HOME"));
    }
}
