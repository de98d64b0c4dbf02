//! Spans of time as nginx writes them (`ngx_parse_time`): units in falling order, a last number without one
//! is seconds.

/// A span of time, by what it is counted in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Time {
    /// Milliseconds: months and years are no units.
    Milliseconds,
    /// Seconds: milliseconds are no unit.
    Seconds,
}

impl Time {
    pub(super) fn holds(self, text: &str) -> bool {
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

    pub(super) fn expected(self) -> &'static str {
        match self {
            Self::Milliseconds => "a time such as 30s or 5m",
            Self::Seconds => "a time such as 30s or 1d",
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

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
