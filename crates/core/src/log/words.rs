//! Lines of a daemon's into failures, harmless remarks, and what nobody knows.
use super::{Attempt, Failure, LogOwner, Match, Outcome};
use crate::code::Code;
use crate::net::{Listen, parse_listen};

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
    /// Its words are those of a failure, and it calls itself a warning.
    Warning,
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
    "unrecogni",
    "illegal",
    "bungled",
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
        None => weighed(text),
    }
}

/// How bad a line without a level looks.
fn weighed(text: &str) -> Option<Weight> {
    // Lines that are set in belong to the one above them: places of a trace, lines of a source.
    if text.starts_with([' ', '\t']) {
        return None;
    }
    let lower = text.to_ascii_lowercase();
    if !FAILING.iter().any(|word| lower.contains(word)) {
        return None;
    }
    let words = || lower.split(|c: char| !c.is_ascii_alphabetic()).filter(|w| !w.is_empty());
    // A level alone only says that something follows.
    let says_more = words().any(|w| !BAD.contains(&w));
    let warns = words().any(|w| w == "warning" || w == "warn");
    says_more.then_some(if warns { Weight::Warning } else { Weight::Words })
}

/// Words before which a general word says that something is not so, or not yet.
const DENYING: &[&str] =
    &["not ", "n't ", "never ", "until ", "wait", "before ", "unless ", "if ", "when ", "once ", "will be "];

/// What the system says where it refuses something, as far as no word of [`FAILING`] is in it.
const REFUSALS: &[&str] = &["in use", "o space left", "ead-only file", "not permitted", "imed out"];

/// Whether a line says a general word of a mark: as a word of its own (`already` is not `ready`), not denied,
/// and in a line that neither tells of a failure nor belongs to the one above it.
pub(super) fn says(line: &str, word: &str) -> bool {
    let of_word = |c: char| c.is_alphanumeric() || c == '_';
    let stands = |at: &usize| {
        let (before, behind) = (&line[..*at], &line[at + word.len()..]);
        let grows_before = before.ends_with(of_word) && word.starts_with(of_word);
        let grows_behind = behind.starts_with(of_word) && word.ends_with(of_word);
        !grows_before && !grows_behind
    };
    let Some(at) = line.match_indices(word).map(|(at, _)| at).find(stands) else { return false };
    let before = line[..at].to_ascii_lowercase();
    !line.starts_with([' ', '\t'])
        && !DENYING.iter().any(|deny| before.contains(deny))
        && weight(None, line).is_none()
        && !REFUSALS.iter().any(|word| line.contains(word))
}

/// Words behind which a line names the address that a program listens on.
const LISTENING: &[&str] =
    &["listen", "running on", "serving http on", "started on", "accepting connections"];

/// The address and port that a line names which says that a program listens: `listening on 127.0.0.1:7400`,
/// `started on port(s): 7400`, `running on http://[::]:7400/`.
pub(super) fn listener_in(line: &str) -> Option<Listen> {
    let lower = line.to_ascii_lowercase();
    let from = LISTENING.iter().find_map(|word| Some(lower.find(word)? + word.len()))?;
    let parts = |c: char| c.is_whitespace() || matches!(c, ',' | ';' | '"' | '\'' | '(' | ')' | '=');
    let words: Vec<&str> = lower[from..].split(parts).filter(|w| !w.is_empty() && *w != ":").collect();
    let named = |at: usize| {
        let word = words[at].split_once("://").map_or(words[at], |(_, rest)| rest);
        let word = word.split('/').next().unwrap_or(word).trim_end_matches(['.', ':']);
        // A number alone is a port where the line says so, or says nothing else.
        let of_port = words[..at].iter().any(|w| w.starts_with("port")) || at + 1 == words.len();
        let alone = word.bytes().all(|b| b.is_ascii_digit());
        (!alone || of_port).then(|| parse_listen(&word.replace("localhost", "127.0.0.1")).ok())?
    };
    (0..words.len()).find_map(named)
}

/// One line of the daemon's: a known failure, harmless, or unexplained and as bad as `weight` says.
pub(super) fn note(
    attempt: &mut Attempt,
    owner: LogOwner,
    text: &str,
    at: At,
    weight: impl FnOnce() -> Option<Weight>,
) {
    let inner = text.starts_with([' ', '\t']);
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
    let mut told = if owner.programs.is_empty() {
        general().or_else(own)
    } else {
        own().or_else(general).or_else(|| owner.catalogue.beside()?.recognise(text))
    };
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
            // A program that nobody knows and that calls it a warning may have gone on all the same.
            let mild = owner.programs.is_empty() && weighed(text) == Some(Weight::Warning);
            match found.code {
                Some(code) if mild => {
                    attempt.wonder(Weight::Warning, failure(code, text.to_owned(), found));
                }
                Some(code) => attempt.fail(failure(code, text.to_owned(), found)),
                None => {}
            }
        }
        None => {
            if let Some(weight) = weight() {
                attempt.wonder(weight, failure(Code::Unknown, text.to_owned(), Match::default()));
            } else if attempt.outcome == Outcome::Starting && !inner {
                let text = crate::bounds::cut(text, crate::bounds::LOG_TEXT);
                attempt.last_words = Some(failure(Code::Unknown, text, Match::default()));
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
    use super::{Weight, listener_in, says, weight};

    #[test]
    fn a_line_about_a_listener_names_it() {
        for (line, expected) in [
            ("relay: listening on port 7400", Some("0.0.0.0:7400")),
            ("Listening on http://localhost:7400 (press CTRL+C)", Some("127.0.0.1:7400")),
            ("now listening at: [::1]:7400.", Some("[::1]:7400")),
            ("listening on *:7400, 4 workers", Some("0.0.0.0:7400")),
            ("listening on 4711 tides", None),
            ("Tomcat started on port(s): 8080 (http) with context path ''", Some("0.0.0.0:8080")),
            ("Serving HTTP on 0.0.0.0 port 8000 (http://0.0.0.0:8000/) ...", Some("0.0.0.0:8000")),
            ("INFO:     gauge running on http://127.0.0.1:8000", Some("127.0.0.1:8000")),
            ("ready on 7400", None),
            ("listening on /run/relay.sock", None),
        ] {
            assert_eq!(listener_in(line).map(|l| l.to_string()).as_deref(), expected, "{line}");
        }
    }

    #[test]
    fn a_general_word_counts_where_it_is_meant() {
        for (line, word, expected) in [
            ("relay: ready", "ready", true),
            ("gauge is ready, 3 tides read", "ready", true),
            ("OSError: [Errno 98] Address already in use", "ready", false),
            ("the gauge is not ready yet", "ready", false),
            ("waiting until the gauge is ready", "ready", false),
            ("is_ready = true", "ready", false),
            ("listening on port 9310", "listening on", true),
            ("error listening on port 9310", "listening on", false),
            ("listening on port 9310: bind: address already in use", "listening on", false),
            ("    print('listening on', port)", "listening on", false),
            ("restarting the gauge", "starting", false),
            ("failed starting the gauge", "starting", false),
            ("Started tide in 3 s", "Started ", true),
            ("already ready", "ready", true),
        ] {
            assert_eq!(says(line, word), expected, "{line}");
        }
    }

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
