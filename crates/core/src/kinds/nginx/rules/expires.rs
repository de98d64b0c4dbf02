//! How long an answer may be kept.
use super::super::state::{Directive, Reader, Rule};
use super::common::uses_variables;
use crate::code::Code;
use crate::config::rows::{Time, Type};

pub(super) static RULE: Rule = Rule { names: &["expires"], check: |r, d, _| expires(r, d) };

fn expires(r: &mut Reader, d: &Directive) {
    let first = d.argument(0).to_owned();
    if first.contains('$') {
        return uses_variables(r, d, &first);
    }
    let time = d.words.last().map_or("", |w| w.value.as_ref());
    let fine = ["off", "epoch", "max"].contains(&time)
        || Type::Time(Time::Seconds).holds(time.trim_start_matches(['@', '-', '+']))
        || time.starts_with('@');
    if !fine {
        r.find_of(
            d,
            &first,
            Code::ConfigBadValue,
            format!("\"{first}\" is not a valid value for \"{}\"", d.name()),
        );
    }
}
