//! Where files of a location lie.
use super::super::state::{Directive, Reader, Rule};
use super::common::uses_variables;
use crate::code::Code;
use crate::config::NamedPath;
use crate::path;

pub(super) static RULE: Rule = Rule { names: &["root", "alias"], check: |r, d, _| root_or_alias(r, d) };

fn root_or_alias(r: &mut Reader, d: &Directive) {
    let value = d.argument(0);
    uses_variables(r, d, value);
    if !value.contains('$') && !value.is_empty() {
        let path = path::join(&r.options.prefix, value);
        r.out.model.serves.push(NamedPath {
            path,
            place: Some(d.place.clone()),
            directive: d.name().to_owned(),
        });
    }
    let other = if d.name() == "root" { "alias" } else { "root" };
    let mine = d.name().to_owned();
    if r.context() == "location" {
        let seen = &mut r.block().roots;
        let (own, others) = if mine == "root" { (&mut seen.0, seen.1) } else { (&mut seen.1, seen.0) };
        *own = true;
        if others {
            r.find_of(
                d,
                &mine,
                Code::ConfigConflict,
                format!("\"{mine}\" stands beside \"{other}\" in one location"),
            );
        }
    }
}
