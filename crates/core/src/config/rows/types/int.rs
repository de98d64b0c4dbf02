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

    /// The same of a daemon that reads digits until something else comes, and takes 0 where a word has none
    /// (`atoi`, in 32 bits).
    pub(super) fn holds_leading(self, word: &str) -> bool {
        if word.is_empty() {
            return false;
        }
        let text = word.trim_start();
        let (negative, text) = match text.strip_prefix('-') {
            Some(rest) => (true, rest),
            None => (false, text.strip_prefix('+').unwrap_or(text)),
        };
        let digits = text.bytes().take_while(u8::is_ascii_digit);
        let most = i64::from(i32::MAX);
        let number = digits.fold(0i64, |n, d| n.saturating_mul(10).saturating_add(i64::from(d - b'0')));
        // Beyond 32 bits every daemon makes something else of it.
        if number > most {
            return true;
        }
        let number = if negative { -number } else { number };
        self.least.is_none_or(|l| l <= number) && self.most.is_none_or(|m| number <= m)
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
    fn leading_digits_count_where_a_daemon_reads_no_further() {
        let some = Int { least: Some(1), most: Some(9) };
        for word in ["4", "4x", "+4", " 9k", "007", "4294967296"] {
            assert!(some.holds_leading(word), "{word}");
        }
        for word in ["", "x", "0", "-1", "10", "0x4"] {
            assert!(!some.holds_leading(word), "{word}");
        }
    }

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
