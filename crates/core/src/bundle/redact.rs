//! Recorded answers with their secrets masked.
use crate::host::{Answer, Look, Question, Unseen};
use crate::kinds::{Kind, behind_marks, behind_open_quotes};
use crate::secrets::{
    Text, apart, mask_arguments, mask_settings, mask_text, masked, meets, spans, spans_outside,
};
use std::borrow::Cow;
use std::collections::BTreeMap;
use std::sync::Arc;

/// Files that hold keys in a form that is not text.
const KEY_STORES: &[&str] = &[".jks", ".keystore", ".p12", ".pfx", ".der", ".kdbx", ".ppk"];

/// What is known of the files that a recorder wrote down.
#[derive(Default)]
pub struct Known<'k> {
    /// Configuration files, with the kind whose grammar they have.
    pub configuration: BTreeMap<String, &'k dyn Kind>,
}

/// A recorded answer, masked, and what was masked only because nothing is known of it.
pub struct Redacted {
    /// The answers that take the place of one: facts about a masked file stand beside it.
    pub answers: Vec<(Question, Look<Answer>)>,
    /// A sentence for what could not be told from a secret.
    pub unknown: Option<String>,
}

/// One recorded answer with its secrets masked.
pub fn redact(known: &Known, question: Question, answer: Look<Answer>) -> Redacted {
    let mut unknown = None;
    let mut beside = Vec::new();
    let answer = match answer {
        Look::Seen(Answer::Bytes(bytes)) => {
            let path = match &question {
                Question::Read(path) | Question::ReadAt(path, ..) => path.clone(),
                _ => String::new(),
            };
            let whole = matches!(question, Question::Read(_));
            if whole && KEY_STORES.iter().any(|e| path.to_ascii_lowercase().ends_with(e)) {
                Look::NotSeen(Unseen::Failed("a store of keys, which is not recorded".into()))
            } else {
                let (masked, some_unknown) = file(known.configuration.get(&path).copied(), &path, &bytes);
                if some_unknown {
                    unknown = Some(format!(
                        "{path}: values of directives that this program does not know are masked"
                    ));
                }
                if whole && crate::keys::holds_key(&bytes) {
                    beside.push((Question::Key(path), Look::Seen(Answer::Key(crate::keys::facts(&bytes)))));
                }
                Look::Seen(Answer::Bytes(masked))
            }
        }
        other => other.map(|answer| match answer {
            Answer::Process(mut process) => {
                process.arguments = mask_arguments(&process.arguments);
                Answer::Process(process)
            }
            Answer::Journal(mut entries) => {
                entries.iter_mut().for_each(|e| e.message = mask_text(&e.message));
                Answer::Journal(entries)
            }
            Answer::Unit(mut unit) => {
                unit.more.values_mut().for_each(|v| *v = mask_settings(v));
                Answer::Unit(unit)
            }
            Answer::Probe(mut probe) => {
                probe.body = mask_text(&probe.body);
                probe.location = probe.location.map(|l| mask_text(&l));
                Answer::Probe(probe)
            }
            Answer::Login(mut login) => {
                login.words = login.words.map(|w| mask_text(&w));
                // Rows hold hashes of passwords.
                for cell in login.rows.iter_mut().flatten().flatten().flatten().flatten() {
                    *cell = mask_text(cell);
                }
                Answer::Login(login)
            }
            Answer::Found(found) => Answer::Found(found.map(|f| mask_text(&f))),
            other => other,
        }),
    };
    beside.insert(0, (question, answer));
    Redacted { answers: beside, unknown }
}

/// A file's bytes with its secrets masked, and whether values were masked because their directives are not
/// known.
fn file(kind: Option<&dyn Kind>, path: &str, bytes: &Arc<[u8]>) -> (Arc<[u8]>, bool) {
    // A letter of another encoding makes no other file of it: each byte stands for one letter then, and goes
    // back as it came.
    let text = std::str::from_utf8(bytes)
        .map_or_else(|_| Cow::Owned(bytes.iter().map(|&b| char::from(b)).collect()), Cow::Borrowed);
    let one_byte = matches!(text, Cow::Owned(_));
    let text = &*text;
    let with_key = crate::keys::holds_key(bytes);
    let text = &*if with_key { crate::keys::concealed(text).into() } else { Cow::Borrowed(text) };
    let (mut found, mut unknown) = (Vec::new(), false);
    if let Some(concealed) = kind.and_then(|k| k.conceal(text, path)) {
        unknown = !concealed.unknown.is_empty();
        found.extend(concealed.secret.into_iter().chain(concealed.unknown));
        // What stands outside of statements, comments above all, is looked at by the net.
        let statements = apart(concealed.statements);
        found.extend(
            spans_outside(text, Text::Settings, &statements).into_iter().filter(|s| !meets(&statements, s)),
        );
        found.extend(kind.map(|k| behind_marks(k, text)).unwrap_or_default());
    } else {
        // Control data of a server are no settings either.
        let log =
            text.contains('\0') || path.contains("/log/") || path.ends_with(".log") || path.ends_with(".err");
        found.extend(spans(text, if log { Text::Prose } else { Text::Settings }));
    }
    if found.is_empty() && !with_key {
        return (bytes.clone(), false);
    }
    let found = apart(found);
    let found = if kind.is_some() { behind_open_quotes(text, found) } else { found };
    let shown = masked(text, &found);
    let shown: Vec<u8> = if one_byte {
        shown.chars().map(|c| u8::try_from(u32::from(c)).unwrap_or(b'?')).collect()
    } else {
        shown.into_bytes()
    };
    (shown.into(), unknown)
}

#[cfg(test)]
#[path = "tests.rs"]
mod tests;
