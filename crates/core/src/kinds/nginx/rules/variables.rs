//! Variables that a directive sets.
use super::super::state::{Directive, Reader, Rule};
use super::common::{defines, uses_variables};
use crate::code::Code;

pub(super) static SET: Rule = Rule { names: &["set"], check: |r, d, _| set(r, d) };

pub(super) static AUTH_REQUEST_SET: Rule = Rule {
    names: &["auth_request_set"],
    check: |r, d, _| {
        let name = d.argument(0).trim_start_matches('$').to_owned();
        defines(r, d, &name);
    },
};

fn set(r: &mut Reader, d: &Directive) {
    let value = d.argument(0);
    match value.strip_prefix('$').filter(|n| !n.is_empty()) {
        Some(name) => {
            let name = name.to_owned();
            defines(r, d, &name);
            let set_to = d.argument(1).to_owned();
            uses_variables(r, d, &set_to);
        }
        None => drop(r.find_of(
            d,
            value,
            Code::ConfigBadValue,
            format!("\"{value}\" is not the name of a variable: it must begin with $"),
        )),
    }
}
