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

pub(super) fn warn(r: &mut Reader, d: &Directive, message: &str) {
    report(r, d, Code::ConfigWarning, message).severity = Severity::Warning;
}
