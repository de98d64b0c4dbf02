//! How long an answer may be kept.
use super::super::state::{Directive, Reader, Rule};
use super::common::bad_word;

pub(super) static DEFAULT: Rule = Rule { names: &["ExpiresDefault"], check: |r, d, _| expires(r, d, 0) };
pub(super) static BY_TYPE: Rule = Rule { names: &["ExpiresByType"], check: |r, d, _| expires(r, d, 1) };

/// `A3600`, or words such as "access plus 1 month 2 days".
fn expires(r: &mut Reader, d: &Directive, index: usize) {
    let value = d.value(index).to_ascii_lowercase();
    let code = value
        .strip_prefix(['a', 'm'])
        .is_some_and(|n| !n.is_empty() && n.bytes().all(|b| b.is_ascii_digit()));
    let mut words = value.split_whitespace();
    let base = matches!(words.next(), Some("access" | "now" | "modification"));
    let mut rest: Vec<&str> = words.collect();
    if rest.first() == Some(&"plus") {
        rest.remove(0);
    }
    let units = ["year", "month", "week", "day", "hour", "minute", "second"];
    let pairs = rest.len().is_multiple_of(2)
        && rest.chunks(2).all(|p| {
            p[0].parse::<i64>().is_ok() && units.iter().any(|u| p[1].trim_end_matches('s').starts_with(u))
        });
    let fine = code || (base && pairs);
    if !fine {
        bad_word(
            r,
            d,
            &value,
            format!("\"{value}\" is not an expiry, expected such as \"access plus 1 month\""),
        );
    }
}
