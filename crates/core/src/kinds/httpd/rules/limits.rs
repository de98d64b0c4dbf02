//! Limits of a request.
use super::super::state::Rule;
use super::common::bad_word;

pub(super) static RULE: Rule = Rule {
    names: &["LimitRequestFields", "LimitRequestFieldsize", "LimitRequestLine", "LimitXMLRequestBody"],
    // These take the digits that a value begins with, and none for nothing.
    check: |r, d, _| {
        if d.value(0).starts_with('-') {
            bad_word(
                r,
                d,
                d.value(0),
                format!("{} is \"{}\", expected no negative number", d.name, d.value(0)),
            );
        }
    },
};
