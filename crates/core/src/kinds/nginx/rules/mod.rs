//! What no row can say: rules between directives, names, files and addresses. One file each, or one for what
//! belongs together; a rule is one entry of the list below.
mod balancing;
pub(super) mod blocks;
pub(super) mod buffers;
pub(super) mod certificates;
mod common;
mod error_page;
mod expires;
mod file_cache;
mod logs;
mod modules;
mod process;
mod real_ip;
mod resolver;
mod returns;
mod rewrite;
mod roots;
mod server_name;
mod split_path;
mod temp_paths;
mod try_files;
mod upstreams;
mod user;
mod variables;
mod zones;

pub(super) use common::{check_regex, named, uses_variables};

use super::listen;
use super::state::{Directive, Reader, Rule};
use crate::config::rows::Row;

/// Every rule. Those about one directive are applied in this order.
static RULES: &[&Rule] = &[
    &balancing::RULE,
    &buffers::RULE,
    &certificates::BESIDE,
    &certificates::ON,
    &certificates::PAIR,
    &certificates::SESSIONS,
    &error_page::RULE,
    &expires::RULE,
    &file_cache::RULE,
    &listen::RULE,
    &logs::ACCESS_LOG,
    &logs::ERROR_LOG,
    &logs::FORMAT,
    &modules::RULE,
    &process::DAEMON,
    &process::PID,
    &real_ip::RULE,
    &resolver::RULE,
    &returns::RULE,
    &rewrite::RULE,
    &roots::RULE,
    &server_name::RULE,
    &split_path::RULE,
    &temp_paths::RULE,
    &upstreams::PASS,
    &upstreams::SERVER,
    &try_files::RULE,
    &user::RULE,
    &variables::AUTH_REQUEST_SET,
    &variables::SET,
    &zones::CACHE,
    &zones::CONNECTIONS,
    &zones::DECLARED,
    &zones::REQUESTS,
    &zones::USED,
    &zones::VALID,
];

/// Applies the rules about a directive that passed its row.
pub(super) fn apply(r: &mut Reader, d: &Directive, row: &'static Row) {
    let mut nth = 0;
    while let Some(place) = r.rules.nth(row, nth, RULES) {
        (RULES[place].check)(r, d, row);
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
            assert!(!DIRECTIVES.exact(name).is_empty(), "{name}");
        }
    }
}
