//! Shapes of values in nginx: sizes, times, counts.

/// Bytes of `10m`; `None` when the text is no size. Offsets may also end in `g`.
pub(super) fn size(text: &str, giga: bool) -> Option<u64> {
    let (digits, factor) = match text.as_bytes().last()? {
        b'k' | b'K' => (&text[..text.len() - 1], 1 << 10),
        b'm' | b'M' => (&text[..text.len() - 1], 1 << 20),
        b'g' | b'G' if giga => (&text[..text.len() - 1], 1 << 30),
        _ => (text, 1),
    };
    count(digits)?.checked_mul(factor).filter(|&n| n <= i64::MAX as u64)
}

/// A plain count: digits and nothing else.
pub(super) fn count(text: &str) -> Option<u64> {
    let plain = !text.is_empty() && text.bytes().all(|b| b.is_ascii_digit());
    if plain { text.parse().ok().filter(|&n: &u64| n <= i64::MAX as u64) } else { None }
}

/// Whether the text is a time: units in falling order, a last number without unit is seconds. Months are no
/// unit where milliseconds are kept.
pub(super) fn is_time(text: &str, seconds_only: bool) -> bool {
    const ORDER: &[&str] = &["y", "M", "w", "d", "h", "m", "s", "ms"];
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
            return last <= 6;
        }
        if unit.bytes().all(|b| b.is_ascii_digit()) {
            return false;
        }
        let Some(step) = ORDER.iter().position(|u| *u == unit) else { return false };
        if step < last || (!seconds_only && matches!(unit, "y" | "M")) || (seconds_only && unit == "ms") {
            return false;
        }
        last = step + 1;
        rest = rest[unit.len()..].trim_start_matches(' ');
    }
    true
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes_and_times_as_the_daemon_takes_them() {
        for (text, expected) in [("8k", true), ("8K", true), ("1m", true), ("1g", false), ("8kb", false), ("", false), ("k", false), ("-1", false)] {
            assert_eq!(size(text, false).is_some(), expected, "{text}");
        }
        assert_eq!(size("1g", true), Some(1 << 30));
        for (text, expected) in
            [("60", true), ("1m30s", true), ("1h30", true), ("30s1m", false), ("5min", false), ("1M", false), ("500ms", true), ("x", false), ("1.5s", false)]
        {
            assert_eq!(is_time(text, false), expected, "{text}");
        }
        assert!(is_time("1M", true));
    }
}
