//! Variables that a directive sets.
use super::super::state::{Directive, Reader, Rule};
use super::common::uses_variables;
use crate::code::Code;

pub(super) static SET: Rule = Rule { names: &["set"], check: |r, d, _| set(r, d) };

pub(super) static AUTH_REQUEST_SET: Rule = Rule {
    names: &["auth_request_set"],
    check: |r, d, _| {
        let name = r.known_here(d.argument(0).trim_start_matches('$'));
        r.facts.variables.insert(name);
    },
};

fn set(r: &mut Reader, d: &Directive) {
    let value = d.argument(0);
    match value.strip_prefix('$').filter(|n| !n.is_empty()) {
        Some(name) => {
            let name = r.known_here(name);
            r.facts.variables.insert(name);
            let set_to = d.argument(1).to_owned();
            uses_variables(r, d, &set_to);
        }
        None => drop(r.find(
            d,
            Code::ConfigBadValue,
            format!("\"{value}\" is not the name of a variable: it must begin with $"),
        )),
    }
}
