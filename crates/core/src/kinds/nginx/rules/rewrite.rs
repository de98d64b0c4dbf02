//! `rewrite`: a pattern, what takes its place, and a flag.
use super::super::state::{Directive, Reader, Rule};
use super::common::{check_regex, uses_variables};
use crate::code::Code;

pub(super) static RULE: Rule = Rule { names: &["rewrite"], check: |r, d, _| rewrite(r, d) };

fn rewrite(r: &mut Reader, d: &Directive) {
    let pattern = d.argument(0).to_owned();
    check_regex(r, d, &pattern);
    let to = d.argument(1).to_owned();
    uses_variables(r, d, &to);
    let flag = d.argument(2).to_owned();
    if d.words.len() > 3 && !["last", "break", "redirect", "permanent"].contains(&flag.as_str()) {
        r.find_of(
            d,
            &flag,
            Code::ConfigBadValue,
            format!("\"{flag}\" is not a flag of rewrite, expected last, break, redirect or permanent"),
        );
    }
}
