//! `return`: a status, an address or a text.
use super::super::state::{Directive, Reader, Rule};
use super::common::uses_variables;
use crate::code::Code;
use crate::config::rows::{Int, Type};

pub(super) static RULE: Rule = Rule {
    names: &["return"],
    check: |r, d, row| {
        if row.from == "ngx_http_rewrite_module" {
            returns(r, d);
        }
    },
};

/// Statuses that may be returned.
const STATUS: Type = Type::Int(Int { least: Some(0), most: Some(999) });

fn returns(r: &mut Reader, d: &Directive) {
    let code = d.argument(0).to_owned();
    let text = d.argument(1).to_owned();
    if d.words.len() == 2
        && (code.starts_with("http://") || code.starts_with("https://") || code.starts_with("$scheme"))
    {
        return uses_variables(r, d, &code);
    }
    if STATUS.holds(&code) {
        uses_variables(r, d, &text);
    } else {
        r.find_of(
            d,
            &code,
            Code::ConfigBadValue,
            format!("\"{code}\" is not a status code, expected 0 to 999"),
        );
    }
}
