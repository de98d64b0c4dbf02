//! What several rules need: findings about a value.
use super::super::state::{Directive, Reader, report};
use crate::code::Code;
use crate::config::Severity;

pub(super) fn bad(r: &mut Reader, d: &Directive, message: String) {
    report(r, d, Code::ConfigBadValue, message);
}

pub(super) fn warn(r: &mut Reader, d: &Directive, message: &str) {
    report(r, d, Code::ConfigWarning, message).severity = Severity::Warning;
}
