//! Numbers of bytes, with a letter for a unit (`ngx_parse_size` and `ngx_parse_offset` of nginx).

/// A number of bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Size {
    /// Letters of the units that may stand behind it, in letters of any case.
    pub units: &'static str,
    /// The least, in bytes.
    pub least: Option<i64>,
}

impl Size {
    /// How many bytes a word stands for.
    pub fn bytes(self, word: &str) -> Option<i64> {
        let last = word.chars().last()?;
        let unit = self.units.chars().find(|u| u.eq_ignore_ascii_case(&last));
        let shift = match unit {
            Some('k') => 10,
            Some('m') => 20,
            Some('g') => 30,
            _ => 0,
        };
        let digits = if unit.is_some() { &word[..word.len() - 1] } else { word };
        let plain = !digits.is_empty() && digits.bytes().all(|b| b.is_ascii_digit());
        plain.then(|| digits.parse::<i64>().ok()?.checked_mul(1 << shift)).flatten()
    }

    pub(super) fn holds(self, word: &str) -> bool {
        self.bytes(word).is_some_and(|n| self.least.is_none_or(|l| l <= n))
    }

    pub(super) fn expected(self) -> String {
        let such = if self.units.contains('g') { "8k, 1m or 1g" } else { "8k or 1m" };
        match self.least {
            Some(least) if least > 1 => format!("a size of at least {least} bytes, such as {such}"),
            _ => format!("a size such as {such}"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes_are_digits_with_a_letter() {
        let size = Size { units: "km", least: None };
        for (word, bytes) in [
            ("8k", Some(8192)),
            ("8K", Some(8192)),
            ("1m", Some(1 << 20)),
            ("512", Some(512)),
            ("0", Some(0)),
        ] {
            assert_eq!(size.bytes(word), bytes, "{word}");
        }
        for word in ["1g", "8kb", "", "k", "-1", "1.5k", "9999999999999999999", "9223372036854775807m", "8é"]
        {
            assert_eq!(size.bytes(word), None, "{word}");
        }
        assert_eq!(Size { units: "kmg", least: None }.bytes("1g"), Some(1 << 30));
        assert!(!Size { units: "km", least: Some(1) }.holds("0"));
    }
}
