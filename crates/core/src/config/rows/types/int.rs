//! Whole numbers.

/// A whole number within bounds.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Int {
    /// The least.
    pub least: Option<i64>,
    /// The most.
    pub most: Option<i64>,
}

impl Int {
    /// Digits, with a minus where the bounds hold a number below zero.
    pub(super) fn holds(self, word: &str) -> bool {
        let signed = self.least.is_some_and(|n| n < 0);
        let digits = if signed { word.strip_prefix('-').unwrap_or(word) } else { word };
        let plain = !digits.is_empty() && digits.bytes().all(|b| b.is_ascii_digit());
        plain
            && word
                .parse::<i64>()
                .is_ok_and(|n| self.least.is_none_or(|l| l <= n) && self.most.is_none_or(|m| n <= m))
    }

    pub(super) fn expected(self) -> String {
        match (self.least, self.most) {
            (None, None) => "a number".into(),
            (Some(least), None) => format!("a number of at least {least}"),
            (None, Some(most)) => format!("a number of at most {most}"),
            (Some(least), Some(most)) => format!("a number from {least} to {most}"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_lie_within_their_bounds() {
        let any = Int { least: None, most: None };
        let some = Int { least: Some(-1), most: Some(9) };
        for word in ["0", "007", "9223372036854775807"] {
            assert!(any.holds(word), "{word}");
        }
        for word in ["", "-1", "+1", "1k", "1.0", "9223372036854775808", " 1"] {
            assert!(!any.holds(word), "{word}");
        }
        assert!(
            some.holds("-1") && some.holds("9") && !some.holds("10") && !some.holds("-2") && !some.holds("-")
        );
        assert_eq!(
            (any.expected().as_str(), some.expected().as_str()),
            ("a number", "a number from -1 to 9")
        );
    }
}
