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

fn truth(word: &str) -> Option<bool> {
    let is = |all: &[&str]| all.iter().any(|w| w.eq_ignore_ascii_case(word));
    if is(&["on", "true", "yes", "1", "t", "y"]) {
        return Some(true);
    }
    is(&["off", "false", "no", "0", "none", "f", "n", ""]).then_some(false)
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
    use super::super::{Amount, Int, Marks, Slot};
    use super::*;

    const fn row(takes: &'static [&'static [Slot]], from: &'static str) -> Row {
        Row {
            number: 0,
            name: "x",
            places: 0,
            refused: 0,
            takes,
            from,
            releases: &[],
            marks: Marks(0),
            default: None,
        }
    }

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
            (row(PAGES, ""), "128MB", "16384", true),
            (row(PAGES, ""), "128MB", "16385", false),
            (row(TRUTH, ""), "yes", "on", true),
            (row(TRUTH, ""), "yes", "off", false),
            (row(INT, "unsigned"), "1K", "1024", true),
            (row(INT, "unsigned"), "1", "on", false),
            (row(STR, "time"), "1m", "60", true),
            (row(STR, "flag"), "yes", "1", true),
            (row(STR, "str"), "yes", "1", false),
            (row(BYTES, ""), "1kb", "1024", true),
            (row(BYTES, ""), "1k", "1024", false),
            (row(WORDS, "enum"), "EBB", "ebb", true),
            (row(WORDS, "enum"), "ebb", "flood", false),
        ] {
            assert_eq!(is_same(&row, one, other), same, "{one} {other}");
        }
    }
}
