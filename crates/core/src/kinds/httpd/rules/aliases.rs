//! Addresses that stand for other places.
use super::super::state::Rule;
use super::common::bad;

pub(super) static RULE: Rule = Rule {
    names: &["Alias", "ScriptAlias"],
    check: |r, d, around| {
        if d.values.len() == 1 && !around.scope.in_directory() {
            bad(r, d, format!("{} has 1 value, expected 2 outside of <Location>", d.name));
        }
    },
};
