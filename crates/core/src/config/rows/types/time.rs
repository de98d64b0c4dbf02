//! Spans of time as nginx writes them (`ngx_parse_time`): units in falling order, a last number without one
//! is seconds.

/// A span of time, by what it is counted in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Time {
    /// Milliseconds: months and years are no units.
    Milliseconds,
    /// Seconds: milliseconds are no unit.
    Seconds,
    /// Digits, then `s`, `ms`, `mi`, `h` or nothing (`ap_timeout_parameter_parse`).
    Timeout,
    /// The same with `d`, and not without digits.
    Duration,
    /// Digits, then at most one of `us`, `ms`, `s`, `m`, `h` and `d`; what follows it is only warned of
    /// (`parse_time_err` of haproxy).
    OneUnit,
}

impl Time {
    pub(super) fn holds(self, text: &str) -> bool {
        if let Self::Timeout | Self::Duration = self {
            return self.is_timeout(text);
        }
        if self == Self::OneUnit {
            let digits = text.bytes().take_while(u8::is_ascii_digit).count();
            let unit = &text[digits..];
            return digits > 0
                && (unit.is_empty() || unit.starts_with("us") || unit.starts_with(['m', 's', 'h', 'd']));
        }
        const ORDER: &[&str] = &["y", "M", "w", "d", "h", "m", "s", "ms"];
        let seconds = self == Self::Seconds;
        let mut rest = text;
        let mut last = 0;
        if rest.is_empty() {
            return false;
        }
        while !rest.is_empty() {
            let digits = rest.bytes().take_while(u8::is_ascii_digit).count();
            if digits == 0 || digits > 18 {
                return false;
            }
            rest = rest[digits..].trim_start_matches(' ');
            let unit = if rest.starts_with("ms") { "ms" } else { rest.get(..1).unwrap_or("") };
            if unit.is_empty() {
                return rest.is_empty() && last <= 6;
            }
            let Some(step) = ORDER.iter().position(|u| *u == unit) else { return false };
            if step < last || (!seconds && matches!(unit, "y" | "M")) || (seconds && unit == "ms") {
                return false;
            }
            last = step + 1;
            rest = rest[unit.len()..].trim_start_matches(' ');
        }
        true
    }

    fn is_timeout(self, text: &str) -> bool {
        let signed = text.trim_start_matches(['-', '+']);
        let digits = signed.bytes().take_while(u8::is_ascii_digit).count();
        let unit = signed[digits..].to_ascii_lowercase();
        let known = ["s", "ms", "mi", "h"].iter().any(|u| unit.starts_with(u));
        let days = self == Self::Duration && unit.starts_with('d');
        (unit.is_empty() || known || days) && !text.is_empty() && (digits > 0 || self == Self::Timeout)
    }

    pub(super) fn expected(self) -> &'static str {
        match self {
            Self::Timeout | Self::Duration => "a time such as 30, 30s or 500ms",
            Self::Milliseconds => "a time such as 30s or 5m",
            Self::OneUnit => "a time such as 30s or 500ms",
            Self::Seconds => "a time such as 30s or 1d",
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn timeouts_have_one_unit() {
        for word in ["30", "30s", "5min", "500ms", "1h", "+4", "-1"] {
            assert!(Time::Timeout.holds(word) && Time::Duration.holds(word), "{word}");
        }
        for word in ["", "1m", "4.5", "tide", "1k"] {
            assert!(!Time::Timeout.holds(word) && !Time::Duration.holds(word), "{word}");
        }
        assert!(Time::Duration.holds("1d") && !Time::Timeout.holds("1d") && !Time::Duration.holds("hours"));
    }

    #[test]
    fn one_unit_stands_behind_the_digits() {
        for (word, good) in
            [("30", true), ("30s", true), ("5min", true), ("9us", true), ("9u", false), ("x", false)]
        {
            assert_eq!(Time::OneUnit.holds(word), good, "{word}");
        }
    }

    #[test]
    fn units_stand_in_falling_order() {
        for word in ["60", "1m30s", "1h30", "500ms", "1h 30m", "1w2d"] {
            assert!(Time::Milliseconds.holds(word), "{word}");
        }
        for word in ["30s1m", "5min", "1M", "1y", "x", "1.5s", "", "-1", "1é", "5ms3"] {
            assert!(!Time::Milliseconds.holds(word), "{word}");
        }
        assert!(Time::Seconds.holds("1M") && Time::Seconds.holds("1y") && !Time::Seconds.holds("500ms"));
    }
}
