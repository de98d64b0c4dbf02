//! What no row can say: values that hang together, files, listeners. One file each, or one for what belongs together; a rule is
//! one entry of the list below.
mod access;
pub(super) mod accounts;
mod aliases;
mod certificates;
mod common;
mod error_document;
mod expires;
mod expression;
mod files;
mod index_options;
mod limits;
mod listeners;
mod log_level;
mod mutex;
mod names;
mod rewriting;
pub(super) mod sections;

pub(super) use accounts::accounts;
pub(super) use rewriting::regex;
pub(super) use sections::section_ends;

use super::DIRECTIVES;
use super::state::{Around, Check, Directive, Reader, Rule};
use crate::config::rows::Row;
use std::sync::Arc;

/// Every rule. Those about one directive are applied in this order.
static RULES: &[&Rule] = &[
    &access::FROM,
    &access::OPTIONS,
    &access::OVERRIDE,
    &access::REQUIRE,
    &accounts::GROUP,
    &accounts::USER,
    &aliases::RULE,
    &certificates::ENGINE,
    &certificates::FILES,
    &certificates::PROTOCOL,
    &certificates::SESSIONS,
    &error_document::RULE,
    &expires::BY_TYPE,
    &expires::DEFAULT,
    &expression::FOLLOWS,
    &expression::RULE,
    &files::ACCESS_LOG,
    &files::CORE_DUMPS,
    &files::ERROR_LOG,
    &files::PID,
    &files::ROOT,
    &files::TYPES,
    &index_options::RULE,
    &limits::RULE,
    &listeners::HOST,
    &listeners::LISTEN,
    &listeners::NAME,
    &log_level::RULE,
    &mutex::RULE,
    &names::RULE,
    &rewriting::CONDITION,
    &rewriting::HEADER,
    &rewriting::PASS,
    &rewriting::REDIRECT,
    &rewriting::RULE,
    &sections::HEAD,
    &sections::METHODS,
];

/// Applies the rules about a directive that passed its row.
pub(super) fn apply(r: &mut Reader, d: &Directive, row: &'static Row, around: &mut Around) {
    let at = usize::from(row.number);
    if r.rules.is_empty() {
        r.rules = vec![None; DIRECTIVES.all().count()];
    }
    // Looked for once for each directive that a configuration holds.
    let checks: Arc<[Check]> =
        r.rules[at].get_or_insert_with(|| RULES.iter().filter(|rule| rule.names.contains(&row.name)).map(|rule| rule.check).collect()).clone();
    for check in checks.iter() {
        check(r, d, around);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_rule_is_about_directives_that_a_row_knows() {
        for name in RULES.iter().flat_map(|rule| rule.names) {
            assert!(DIRECTIVES.any_case(name).iter().any(|row| row.name == *name), "{name}");
        }
    }
}
