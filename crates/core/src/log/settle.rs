//! How a start ended, once all its lines are with it.
use super::boots::Boots;
use super::request::Request;
use super::{Afterwards, Attempt, Failure, Match, Outcome};
use crate::code::Code;

/// First causes before aftermath; doubles of the journal and the file are one. Then what the exit and the
/// words say of the end.
pub(super) fn settle(attempt: &mut Attempt, request: &Request) {
    // A first line whose second never came is context: beside a whole reason it does not lead, and where
    // another log holds a whole one it is that one's copy.
    attempt.failures.sort_by_key(|f| (f.found.aftermath, f.found.continues, f.time));
    let whole: Vec<String> = attempt
        .failures
        .iter()
        .filter(|f| !f.found.aftermath && !f.found.continues)
        .map(|f| f.file.clone())
        .collect();
    attempt.failures.retain(|f| !f.found.continues || whole.iter().all(|file| *file == f.file));
    let mut seen: Vec<(Code, String)> = Vec::new();
    attempt.failures.retain(|f| {
        // On its standard error a daemon may put its own name before its words.
        let named = request.owner.programs.iter().find_map(|p| f.text.strip_prefix(p)?.strip_prefix(": "));
        let key =
            (f.code, named.unwrap_or(&f.text).trim_start_matches(|c: char| !c.is_alphabetic()).to_owned());
        // The journal keeps the daemon's own stamp before the words; the file's was taken off.
        let new = !seen
            .iter()
            .any(|(code, text)| *code == key.0 && (text.ends_with(&key.1) || key.1.ends_with(text)));
        if new {
            seen.push(key);
        }
        new
    });
    settle_started(attempt, request);
    if attempt.outcome == Outcome::Starting && attempt.is_explained() && attempt.ended.is_some() {
        attempt.outcome = Outcome::Failed;
    }
    if attempt.outcome == Outcome::Starting && attempt.seems_stopped {
        attempt.outcome = Outcome::Stopped;
    }
    let timed_out = attempt.failures.iter().any(|f| f.code == Code::StartTimeout);
    let killed = attempt.exit.starts_with("killed")
        || attempt.exit.starts_with("dumped")
        || matches!(attempt.result.as_str(), "signal" | "core-dump");
    let short = attempt.failures.iter().any(|f| f.code == Code::MemoryShort);
    if attempt.outcome == Outcome::Failed && killed && !timed_out && !short {
        let signal = attempt.exit.rsplit('/').next().unwrap_or_default().to_owned();
        let stopped = matches!(signal.as_str(), "TERM" | "15" | "KILL" | "9" | "INT" | "2");
        if stopped {
            attempt.outcome = Outcome::Killed;
        } else if !attempt.failures.iter().any(|f| f.code == Code::Crashed) {
            let text = format!("killed by signal {signal}");
            let mut found = Match::default();
            found.objects.push(("signal".into(), signal));
            attempt.fail(Failure {
                code: Code::Crashed,
                file: "journal".into(),
                line: None,
                time: attempt.ended,
                text,
                found,
                trusted: !attempt.testimony,
            });
        }
    }
    if attempt.outcome == Outcome::Failed
        && !attempt.failures.iter().any(|f| !f.found.aftermath)
        && let Some((_, first)) = attempt.unexplained.iter().min_by_key(|(weight, _)| *weight)
    {
        attempt.failures.insert(0, first.clone());
    }
}

/// The manager's "started" of a daemon that does not tell it when it is ready: whether it was, is told by its
/// log and by how long it lived.
fn settle_started(attempt: &mut Attempt, request: &Request) {
    let Some(started) = attempt.started.filter(|_| attempt.outcome == Outcome::Starting) else { return };
    let window = request.grammar.window();
    let silent = attempt.saw_begin && request.grammar.is_silent_until_ready();
    match attempt.ended {
        Some(ended) => {
            let ordered =
                attempt.ordered || attempt.afterwards == Some(Afterwards::Stopped) && attempt.exit.is_empty();
            if ordered && silent {
                attempt.outcome = Outcome::Stopped;
                attempt.afterwards = None;
            } else if !ordered && (silent || ended - started <= window.min(10_000_000)) {
                attempt.outcome = Outcome::Failed;
                attempt.afterwards = None;
            } else {
                attempt.outcome = Outcome::Ready;
                attempt.ready = Some(started);
                attempt.afterwards.get_or_insert(Afterwards::Stopped);
            }
        }
        None if silent && attempt.is_explained() => {}
        None => {
            attempt.outcome = if silent { Outcome::Starting } else { Outcome::Ready };
            attempt.ready = (!silent).then_some(started);
        }
    }
}

/// Ends that no line tells: by what came afterwards, by when the host came up, and by what is true now.
/// `boots` are the moments at which the host came up, in microseconds, where they are known.
pub(super) fn settle_last(list: &mut [Attempt], request: &Request, boots: &Boots) {
    let count = list.len();
    let mut ran_later = false;
    for at in (0..count).rev() {
        let newest = at + 1 == count;
        let next = list.get(at + 1).map(|a| a.began);
        let attempt = &mut list[at];
        if attempt.outcome == Outcome::Ready && attempt.is_open() {
            if request.running && !ran_later {
                attempt.afterwards = Some(Afterwards::Running);
            } else if request.grammar.tells_stop()
                && let Some(word) = attempt.vanished.or(if request.live { attempt.ready } else { None })
            {
                // What says a word at a stop and said none was killed, if the host did not go down.
                if boots.none_between(word, if attempt.vanished.is_some() { next } else { None }) {
                    // When is not told: it may have had nothing to say for long.
                    attempt.afterwards = Some(Afterwards::Killed);
                }
            }
        } else if attempt.outcome == Outcome::Starting && attempt.ended.is_none() {
            let failed = attempt.is_explained();
            let over = !newest || !request.running || attempt.lost;
            if over && failed {
                attempt.outcome = Outcome::Failed;
                attempt.ended = attempt.failures.iter().filter_map(|f| f.time).max();
            } else if !newest || attempt.lost {
                attempt.outcome = Outcome::Unknown;
            } else if request.running && !failed && !request.grammar.is_silent_until_ready() {
                attempt.outcome = Outcome::Ready;
                attempt.afterwards = Some(Afterwards::Running);
            }
        }
        ran_later |= attempt.outcome == Outcome::Ready;
    }
}
