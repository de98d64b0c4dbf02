//! Conditions on the version of httpd.

/// Whether `>= 2.4.10` and its kin hold for a version.
pub(super) fn holds(version: &str, condition: &str) -> bool {
    let condition = condition.trim_start_matches('!').trim();
    let operator: String = condition.chars().take_while(|c| matches!(c, '<' | '>' | '=' | '~')).collect();
    let wanted = condition[operator.len()..].trim();
    let parts = |t: &str| -> Vec<u32> { t.split('.').map(|p| p.parse().unwrap_or(0)).chain([0, 0]).take(3).collect() };
    let (mine, asked) = (parts(version), parts(wanted));
    match operator.as_str() {
        "" | "=" | "==" => mine == asked,
        ">" => mine > asked,
        ">=" => mine >= asked,
        "<" => mine < asked,
        "<=" => mine <= asked,
        _ => false,
    }
}

#[cfg(test)]
mod tests {
    #[test]
    fn compares_numbers_not_letters() {
        for (condition, expected) in [(">= 2.4", true), ("< 2.4.9", false), ("> 2.4.68", false), ("2.4.68", true), ("<= 2.5", true)] {
            assert_eq!(super::holds("2.4.68", condition), expected, "{condition}");
        }
    }
}
