//! What several rules need: findings about a value.
use super::super::state::{Directive, Reader, report};
use crate::code::Code;
use crate::config::Severity;

pub(super) fn bad(r: &mut Reader, d: &Directive, message: String) {
    bad_word(r, d, "", message);
}

/// The same about the value that is a word, or holds it; about the directive where there is no such word.
pub(super) fn bad_word(r: &mut Reader, d: &Directive, word: &str, message: String) {
    // A mask of a recorded configuration stands for what nobody here knows.
    if d.values.iter().any(|value| value == crate::secrets::MASK) {
        return;
    }
    let values = || d.values.iter().map(AsRef::<str>::as_ref).filter(|_| !word.is_empty());
    let at = values().position(|v| v == word).or_else(|| values().position(|v| v.contains(word)));
    let found = report(r, d, Code::ConfigBadValue, message);
    if let Some(at) = at {
        found.place = Some(d.item.value_place(at));
    }
}

/// The same with the words that are taken there, one of which was likely meant.
pub(super) fn bad_word_of(r: &mut Reader, d: &Directive, word: &str, message: String, known: &[&str]) {
    let before = r.out.findings.len();
    bad_word(r, d, word, message);
    let near = crate::config::nearest(word, known.iter().copied());
    if let (Some(near), Some(found)) = (near, r.out.findings.get_mut(before)) {
        found.instead = Some((word.to_owned(), near.to_owned()));
    }
}

pub(super) fn warn(r: &mut Reader, d: &Directive, message: &str) {
    report(r, d, Code::ConfigWarning, message).severity = Severity::Warning;
}
