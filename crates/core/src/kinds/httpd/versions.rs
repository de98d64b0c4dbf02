//! Conditions on the version of httpd (`mod_version`).
use crate::config::release::Version;

/// Whether `>= 2.4.10` and its kin hold for a version: a comparison, or a regular expression behind `~` or
/// between slashes.
pub(super) fn holds(version: &Version, condition: &str) -> bool {
    let (negated, condition) = condition.strip_prefix('!').map_or((false, condition), |c| (true, c));
    let condition = condition.trim();
    let operator: String = condition.chars().take_while(|c| matches!(c, '<' | '>' | '=' | '~')).collect();
    let wanted = condition[operator.len()..].trim();
    let pattern = wanted.strip_prefix('/').and_then(|w| w.strip_suffix('/'));
    let matches = |pattern: &str| regex::Regex::new(pattern).is_ok_and(|r| r.is_match(&version.to_string()));
    let compared = || Version::parse(wanted).map(|asked| version.cmp(&asked));
    let found = match (operator.as_str(), pattern) {
        ("~", pattern) => matches(pattern.unwrap_or(wanted)),
        ("" | "=" | "==", Some(pattern)) => matches(pattern),
        ("" | "=" | "==", None) => compared().is_some_and(|o| o.is_eq()),
        (">", None) => compared().is_some_and(|o| o.is_gt()),
        (">=", None) => compared().is_some_and(|o| o.is_ge()),
        ("<", None) => compared().is_some_and(|o| o.is_lt()),
        ("<=", None) => compared().is_some_and(|o| o.is_le()),
        _ => false,
    };
    found != negated
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn compares_numbers_not_letters() {
        let version = Version::parse("2.4.68").unwrap();
        for (condition, expected) in [
            (">= 2.4", true),
            ("< 2.4.9", false),
            ("> 2.4.68", false),
            ("2.4.68", true),
            ("<= 2.5", true),
            ("!< 2.4", true),
            ("!>= 2.4", false),
            ("~ ^2\\.4\\.", true),
            ("= /^2\\.2/", false),
            ("!= /^2\\.2/", true),
        ] {
            assert_eq!(holds(&version, condition), expected, "{condition}");
        }
    }
}
