//! What no row can say: values that hang together, files, listeners. One file each, or one for what belongs
//! together; a rule is one entry of the list below.
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
pub(super) use listeners::address_port;
pub(super) use rewriting::regex;
pub(super) use sections::section_ends;

use super::state::{Around, Directive, Reader, Rule};
use crate::config::rows::Row;

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
    &certificates::NEEDED,
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
    &rewriting::HANDLER,
    &rewriting::HEADER,
    &rewriting::MEMBER,
    &rewriting::PASS,
    &rewriting::REDIRECT,
    &rewriting::RULE,
    &sections::HEAD,
    &sections::METHODS,
];

/// Applies the rules about a directive that passed its row.
pub(super) fn apply(r: &mut Reader, d: &Directive, row: &'static Row, around: &mut Around) {
    let mut nth = 0;
    while let Some(place) = r.rules.nth(row, nth, RULES) {
        (RULES[place].check)(r, d, around);
        nth += 1;
    }
}

#[cfg(test)]
mod tests {
    use super::super::DIRECTIVES;
    use super::*;

    #[test]
    fn every_rule_is_about_directives_that_a_row_knows() {
        assert!(RULES.len() < 256, "their places are bytes");
        for name in RULES.iter().flat_map(|rule| rule.names) {
            assert!(DIRECTIVES.any_case(name).iter().any(|row| row.name == *name), "{name}");
        }
    }
}
