//! Addresses that stand for other places.
use super::super::state::Rule;
use super::common::bad;
use crate::config::NamedPath;
use crate::path;

pub(super) static RULE: Rule = Rule {
    names: &["Alias", "ScriptAlias"],
    check: |r, d, around| {
        if d.values.len() == 1 && !around.scope.in_directory() {
            bad(r, d, format!("{} has 1 value, expected 2 outside of <Location>", d.name));
        }
        if d.values.len() == 2 {
            let path = path::join(&r.server_root, d.value(1));
            let directive = d.name.clone().into_owned();
            r.out.model.serves.push(NamedPath { path, place: Some(d.item.place()), directive });
        }
    },
};
