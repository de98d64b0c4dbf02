//! Pages that are shown in place of errors.
use super::super::state::Rule;
use super::common::bad;

pub(super) static RULE: Rule = Rule {
    names: &["ErrorDocument"],
    check: |r, d, _| {
        let code: Option<u32> = d.value(0).parse().ok();
        if !code.is_some_and(|c| (400..=599).contains(&c)) && d.values.len() > 1 {
            bad(
                r,
                d,
                format!("\"{}\" is not a status code for an error document, expected 400 to 599", d.value(0)),
            );
        } else if d.values.len() < 2 {
            bad(r, d, "ErrorDocument has 1 value, expected 2 values".into());
        }
    },
};
