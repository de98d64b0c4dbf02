//! How processes lock each other out.
use super::super::state::Rule;
use super::common::bad_word;

/// Mechanisms, before a colon.
const KNOWN: &[&str] = &[
    "default", "none", "no", "yes", "file", "flock", "fcntl", "posixsem", "sysvsem", "sem", "pthread",
    "mutex",
];

pub(super) static RULE: Rule = Rule {
    names: &["Mutex"],
    check: |r, d, _| {
        let mechanism = d.value(0).split(':').next().unwrap_or_default().to_ascii_lowercase();
        if !KNOWN.contains(&mechanism.as_str()) {
            bad_word(r, d, d.value(0), format!("\"{}\" is not a mechanism of Mutex", d.value(0)));
        }
    },
};
