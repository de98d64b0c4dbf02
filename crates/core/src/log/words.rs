//! Lines of a daemon's into failures, harmless remarks, and what nobody knows.
use super::{Attempt, Failure, LogOwner, Match};
use crate::code::Code;

/// Where a line stands.
#[derive(Clone, Copy, Debug)]
pub(super) struct At<'l> {
    pub(super) file: &'l str,
    pub(super) line: Option<u32>,
    pub(super) time: Option<i64>,
}

/// How bad a line looks that no rule knows.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Weight {
    /// Its level says that it is an error.
    Error,
    /// It has no level, and its words are those of a failure.
    Words,
}

/// Levels of errors, in the words of the daemons.
const BAD: &[&str] = &["emerg", "alert", "crit", "critical", "error", "fatal", "panic", "severe"];
/// Words of failures in lines without a level.
const FAILING: &[&str] = &[
    "error",
    "fatal",
    "fail",
    "cannot",
    "can't",
    "could not",
    "couldn't",
    "denied",
    "unable",
    "invalid",
    "refused",
    "not found",
    "no such",
    "exception",
    "abort",
    "missing",
    "unknown",
    "undefined",
];

/// How bad a line looks by its level, or, without one, by its words.
pub(super) fn weight(level: Option<&str>, text: &str) -> Option<Weight> {
    let bracketed = || {
        text.strip_prefix('[')?
            .split_once(']')
            .map(|(level, _)| level)
            .filter(|l| l.bytes().all(|b| b.is_ascii_alphabetic()))
    };
    match level.filter(|l| !l.is_empty()).or_else(bracketed) {
        Some(level) => {
            BAD.iter().any(|bad| level.to_ascii_lowercase().ends_with(bad)).then_some(Weight::Error)
        }
        // Lines that are set in belong to the one above them: places of a trace, lines of a source.
        None if text.starts_with([' ', '\t']) => None,
        None => {
            let lower = text.to_ascii_lowercase();
            FAILING.iter().any(|word| lower.contains(word)).then_some(Weight::Words)
        }
    }
}

/// One line of the daemon's: a known failure, harmless, or unexplained and as bad as `weight` says.
pub(super) fn note(
    attempt: &mut Attempt,
    owner: LogOwner,
    text: &str,
    at: At,
    weight: impl FnOnce() -> Option<Weight>,
) {
    let text = text.trim();
    if text.is_empty() {
        return;
    }
    let failure = |code: Code, text: String, found: Match| Failure {
        code,
        file: at.file.into(),
        line: at.line,
        time: at.time,
        text,
        found,
        trusted: false,
    };
    // The reason of a two-line failure stands in the second line; where no rule knows that one, the first
    // one's word holds.
    let open = attempt.failures.pop_if(|f| f.found.continues && f.file == at.file);
    // A described program has no words of its own: what the loader or a runtime says is the more exact.
    let own = || owner.catalogue.recognise(text);
    let general = || super::general().recognise(text);
    let mut told = if owner.programs.is_empty() { general().or_else(own) } else { own().or_else(general) };
    if let Some(head) = open {
        if let Some(more) = told.take_if(|m| m.continues) {
            let (code, mut found) = (more.code.unwrap_or(head.code), more);
            found.objects.extend(head.found.objects);
            attempt.fail(Failure { code, text: format!("{} {text}", head.text), found, ..head });
            return;
        }
        if told.is_none() && of_a_trace(text) {
            attempt.fail(head);
            return;
        }
        let second = told.take_if(|m| m.code.is_some() && !m.aftermath);
        let shown = if told.is_none() { format!("{} {text}", head.text) } else { head.text.clone() };
        let mut found =
            second.unwrap_or_else(|| Match { continues: false, objects: Vec::new(), ..head.found.clone() });
        found.objects.extend(head.found.objects);
        let code = found.code.unwrap_or(head.code);
        attempt.fail(Failure { code, text: shown, found, ..head });
        if told.is_none() {
            return;
        }
    }
    match told {
        Some(found) if found.harmless => attempt.harmless += 1,
        Some(found) => {
            if let Some(code) = found.code {
                attempt.fail(failure(code, text.to_owned(), found));
            }
        }
        None => {
            if let Some(weight) = weight() {
                attempt.wonder(weight, failure(Code::Unknown, text.to_owned(), Match::default()));
            }
        }
    }
}

/// A line of a stack trace, between what failed and why.
fn of_a_trace(text: &str) -> bool {
    let first = text.split([':', ' ']).next().unwrap_or_default();
    text.starts_with("at ")
        || text.starts_with("... ")
        || text.starts_with("Caused by:")
        || first.ends_with("Exception")
        || first.ends_with("Error")
}

#[cfg(test)]
mod tests {
    use super::{Weight, weight};

    #[test]
    fn a_level_decides_and_words_where_there_is_none() {
        for (level, text, expected) in [
            (Some("ERROR"), "the tide table is upside down", Some(Weight::Error)),
            (Some("SEVERE"), "x", Some(Weight::Error)),
            (Some("warning"), "failed to read the gauge", None),
            (Some(""), "failed to read the gauge", Some(Weight::Words)),
            (None, "[ALERT]    (7) : the gauge", Some(Weight::Error)),
            (None, "[WARNING]  (7) : failed to read the gauge", None),
            (None, "Cannot turn the wheel", Some(Weight::Words)),
            (None, "opening the lock", None),
            (None, "    raise TideError(\"failed\")", None),
            (None, "", None),
        ] {
            assert_eq!(weight(level, text), expected, "{level:?} {text}");
        }
    }
}
