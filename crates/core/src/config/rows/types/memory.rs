//! Numbers of bytes as caches take them (`memtoull` of Redis): digits, and a unit of one or two letters.
use super::Int;

/// Units, in small letters, and how many bytes each is.
const UNITS: &[(&str, i128)] = &[
    ("", 1),
    ("b", 1),
    ("k", 1_000),
    ("kb", 1 << 10),
    ("m", 1_000_000),
    ("mb", 1 << 20),
    ("g", 1_000_000_000),
    ("gb", 1 << 30),
];

/// Whether a word is such a number within bounds.
pub(super) fn holds(bounds: Int, word: &str) -> bool {
    bytes(word).is_some_and(|bytes| {
        bounds.least.is_none_or(|least| i128::from(least) <= bytes)
            && bounds.most.is_none_or(|most| bytes <= i128::from(most))
            // What is longer than any number of bytes counts as the most there is.
            || bytes == i128::MAX
    })
}

/// The bytes that a word stands for; no digits at all are none of them.
pub(in crate::config::rows) fn bytes(word: &str) -> Option<i128> {
    let end = word.find(|c: char| !c.is_ascii_digit()).unwrap_or(word.len());
    let (digits, unit) = word.split_at(end);
    let (_, times) = UNITS.iter().find(|(name, _)| unit.eq_ignore_ascii_case(name))?;
    let number = if digits.is_empty() { 0 } else { digits.parse::<i128>().unwrap_or(i128::MAX) };
    Some(number.saturating_mul(*times))
}

pub(super) fn expected(bounds: Int) -> String {
    match bounds.least {
        Some(least) if least > 0 => format!("a number of bytes such as 64mb, at least {least}"),
        _ => "a number of bytes such as 64mb".into(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn units_are_of_one_letter_or_two() {
        let any = Int { least: Some(0), most: None };
        for word in ["", "0", "64", "64b", "64K", "64kb", "1gb", "2G", "5MB"] {
            assert!(holds(any, word), "{word}");
        }
        for word in ["-1", "x", "64x", "64 mb", "1.5gb", "64kib", "0x10"] {
            assert!(!holds(any, word), "{word}");
        }
        let some = Int { least: Some(1 << 20), most: None };
        assert!(holds(some, "1mb") && !holds(some, "1m") && !holds(some, "1023kb"));
    }
}
