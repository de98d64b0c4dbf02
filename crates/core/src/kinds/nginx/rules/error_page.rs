//! Pages that are shown in place of errors.
use super::super::state::{Directive, Reader, Rule};
use super::common::uses_variables;
use crate::code::Code;
use crate::config::rows::{Int, Type};

pub(super) static RULE: Rule = Rule { names: &["error_page"], check: |r, d, _| error_page(r, d) };

/// Statuses that may have a page.
const STATUS: Type = Type::Int(Int { least: Some(300), most: Some(599) });

fn error_page(r: &mut Reader, d: &Directive) {
    let all: Vec<String> = d.arguments().map(str::to_owned).collect();
    let Some((uri, rest)) = all.split_last() else { return };
    let codes = if rest.last().is_some_and(|l| l.starts_with('=')) { &rest[..rest.len() - 1] } else { rest };
    for code in codes {
        if !STATUS.holds(code) || code == "499" {
            r.find_of(
                d,
                code,
                Code::ConfigBadValue,
                format!("\"{code}\" is not a status code for an error page, expected 300 to 599"),
            );
            return;
        }
    }
    uses_variables(r, d, uri);
}
