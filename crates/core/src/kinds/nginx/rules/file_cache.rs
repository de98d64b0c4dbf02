//! A cache of open files.
use super::super::state::Rule;
use crate::code::Code;

pub(super) static RULE: Rule = Rule {
    names: &["open_file_cache"],
    check: |r, d, _| {
        if d.argument(0) != "off" && !d.arguments().any(|a| a.starts_with("max=")) {
            r.find(d, Code::ConfigBadValue, "\"open_file_cache\" must have the \"max\" parameter");
        }
    },
};
