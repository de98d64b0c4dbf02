//! The nearest value that a directive takes, for one that it does not: the word that was likely meant, the
//! unit
//! with its letters right, the border of a range.
use super::{Row, Type};
use crate::config::nearest;

/// What was likely meant by a value; `None` where nothing is near.
pub fn near_value(row: &Row, value: &str) -> Option<String> {
    let word = |words: &[&'static str]| {
        let known = words.iter().copied().filter(|w| !w.is_empty());
        nearest(value, known).map(str::to_owned).filter(|near| near != value)
    };
    match row.first()? {
        Type::Enum(words) | Type::Exact(words) => word(words),
        Type::Truth => word(&["on", "off", "true", "false", "yes"]),
        Type::Flag => word(&["on", "off"]),
        Type::Amount(amount) => amount.near(value),
        Type::Int(int) => {
            let number: i128 = value.parse().ok()?;
            // A digit too many or too few in what it is set to as a rule.
            let near = |usual: &&str| nearest(value, std::iter::once(*usual)).is_some();
            let usual = row.default.filter(|d| d.len() > 2 && d.parse::<i64>().is_ok());
            if let Some(usual) = usual.filter(near) {
                return Some(usual.to_owned());
            }
            let border = |end: Option<i64>, beyond: bool| end.filter(|_| beyond).map(|end| end.to_string());
            let least = border(int.least, int.least.is_some_and(|l| number < i128::from(l)));
            least.or_else(|| border(int.most, int.most.is_some_and(|m| number > i128::from(m))))
        }
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::super::{Amount, Int, Slot};
    use super::*;

    #[test]
    fn what_was_meant_is_found() {
        static MEMORY: &[&[Slot]] = &[&[Slot {
            takes: Type::Amount(Amount { unit: "kB", whole: true, least: "64", most: "2147483647" }),
            least: 1,
            most: 1,
        }]];
        static WORDS: &[&[Slot]] =
            &[&[Slot { takes: Type::Enum(&["minimal", "replica", "logical"]), least: 1, most: 1 }]];
        static INT: &[&[Slot]] =
            &[&[Slot { takes: Type::Int(Int { least: Some(1), most: Some(500) }), least: 1, most: 1 }]];
        for (takes, value, near) in [
            (MEMORY, "64mb", Some("64MB")),
            (MEMORY, "64 Kb", Some("64kB")),
            (MEMORY, "64M", Some("64MB")),
            (MEMORY, "1", Some("64")),
            (MEMORY, "1s", None),
            (MEMORY, "tide", None),
            (WORDS, "replicaa", Some("replica")),
            (WORDS, "tide", None),
            (INT, "0", Some("1")),
            (INT, "99999999999999999999", Some("500")),
            (INT, "x", None),
        ] {
            assert_eq!(near_value(&Row::sample(takes, ""), value).as_deref(), near, "{value}");
        }
    }
}
