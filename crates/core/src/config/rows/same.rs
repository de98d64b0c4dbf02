//! Whether two spellings of a value are the same: `128MB` and `16384` of 8kB, `on` and `yes`, `1K` and
//! `1024`.
use super::{Row, Type};

/// Whether two values of a directive mean the same.
pub fn is_same(row: &Row, one: &str, other: &str) -> bool {
    if one == other {
        return true;
    }
    if let (Some(one), Some(other)) = (truth(one), truth(other))
        && is_truth(row)
    {
        return one == other;
    }
    match row.first() {
        Some(Type::Amount(amount)) => match (amount.value(one), amount.value(other)) {
            (Some(one), Some(other)) => one == other,
            _ => false,
        },
        Some(Type::Int(_)) => match (number(one), number(other)) {
            (Some(one), Some(other)) => one == other,
            _ => false,
        },
        Some(Type::Memory(_)) => match (super::types::bytes(one), super::types::bytes(other)) {
            (Some(one), Some(other)) => one == other,
            _ => false,
        },
        Some(Type::Enum(_)) => one.eq_ignore_ascii_case(other),
        // Where only the kind knows how a value is read.
        Some(Type::Str) if matches!(row.from, "int" | "time" | "double") => {
            matches!((span(one), span(other)), (Some(one), Some(other)) if one == other)
        }
        _ => false,
    }
}

fn is_truth(row: &Row) -> bool {
    let words = match row.first() {
        Some(Type::Truth | Type::Flag) => return true,
        Some(Type::Enum(words)) => words,
        _ => return matches!(row.from, "flag" | "bool"),
    };
    ["on", "off", "yes", "no"].iter().any(|w| words.iter().any(|known| known.eq_ignore_ascii_case(w)))
}

/// Whether a word of truth, or what begins one alone, is yes; `None` where it is not one.
pub fn truth(word: &str) -> Option<bool> {
    if word.is_empty() || word.eq_ignore_ascii_case("none") {
        return Some(false);
    }
    let lower = word.to_ascii_lowercase();
    Type::Truth.holds(word).then(|| lower == "1" || lower == "on" || lower.starts_with(['t', 'y']))
}

/// A number with a letter for a power of 1024.
fn number(text: &str) -> Option<i128> {
    let digits = text.find(|c: char| !c.is_ascii_digit() && c != '-').unwrap_or(text.len());
    let number: i128 = text[..digits].parse().ok()?;
    let power = match text[digits..].chars().next().map(|c| c.to_ascii_lowercase()) {
        None => 0,
        Some('k') => 1,
        Some('m') => 2,
        Some('g') => 3,
        Some('t') => 4,
        _ => return None,
    };
    number.checked_mul(1 << (10 * power))
}

/// A number, or one of seconds, minutes, hours or days.
fn span(text: &str) -> Option<f64> {
    let unit = match text.chars().last()? {
        's' => 1.0,
        'm' => 60.0,
        'h' => 3600.0,
        'd' => 86_400.0,
        _ => return text.parse().ok(),
    };
    text[..text.len() - 1].parse::<f64>().ok().map(|n| n * unit)
}

#[cfg(test)]
mod tests {
    use super::super::{Amount, Int, Slot};
    use super::*;

    #[test]
    fn spellings_of_one_value_are_one() {
        static PAGES: &[&[Slot]] = &[&[Slot {
            takes: Type::Amount(Amount { unit: "8kB", whole: true, least: "", most: "" }),
            least: 1,
            most: 1,
        }]];
        static TRUTH: &[&[Slot]] = &[&[Slot { takes: Type::Truth, least: 1, most: 1 }]];
        static INT: &[&[Slot]] =
            &[&[Slot { takes: Type::Int(Int { least: None, most: None }), least: 1, most: 1 }]];
        static STR: &[&[Slot]] = &[&[Slot { takes: Type::Str, least: 1, most: 1 }]];
        static BYTES: &[&[Slot]] =
            &[&[Slot { takes: Type::Memory(Int { least: None, most: None }), least: 1, most: 1 }]];
        static WORDS: &[&[Slot]] = &[&[Slot { takes: Type::Enum(&["ebb", "flood"]), least: 1, most: 1 }]];
        for (row, one, other, same) in [
            (Row::sample(PAGES, ""), "128MB", "16384", true),
            (Row::sample(PAGES, ""), "128MB", "16385", false),
            (Row::sample(TRUTH, ""), "yes", "on", true),
            (Row::sample(TRUTH, ""), "yes", "off", false),
            (Row::sample(INT, "unsigned"), "1K", "1024", true),
            (Row::sample(INT, "unsigned"), "1", "on", false),
            (Row::sample(STR, "time"), "1m", "60", true),
            (Row::sample(STR, "flag"), "yes", "1", true),
            (Row::sample(STR, "str"), "yes", "1", false),
            (Row::sample(BYTES, ""), "1kb", "1024", true),
            (Row::sample(BYTES, ""), "1k", "1024", false),
            (Row::sample(WORDS, "enum"), "EBB", "ebb", true),
            (Row::sample(WORDS, "enum"), "ebb", "flood", false),
        ] {
            assert_eq!(is_same(&row, one, other), same, "{one} {other}");
        }
    }
}
