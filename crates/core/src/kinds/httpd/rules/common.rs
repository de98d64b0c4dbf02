//! What several rules need: findings about a value.
use super::super::state::{Directive, Reader, report};
use crate::code::Code;
use crate::config::Severity;

pub(super) fn bad(r: &mut Reader, d: &Directive, message: String) {
    // A mask of a recorded configuration stands for what nobody here knows.
    if d.values.iter().any(|value| value == crate::secrets::MASK) {
        return;
    }
    report(r, d, Code::ConfigBadValue, message);
}

/// The same about the value that is a word, or holds it.
pub(super) fn bad_word(r: &mut Reader, d: &Directive, word: &str, message: String) {
    let values = || d.values.iter().map(AsRef::<str>::as_ref);
    let at = values().position(|v| v == word).or_else(|| values().position(|v| v.contains(word)));
    if d.values.iter().any(|value| value == crate::secrets::MASK) {
        return;
    }
    let found = report(r, d, Code::ConfigBadValue, message);
    if let Some(at) = at {
        found.place = Some(d.item.value_place(at));
    }
}

pub(super) fn warn(r: &mut Reader, d: &Directive, message: &str) {
    report(r, d, Code::ConfigWarning, message).severity = Severity::Warning;
}
