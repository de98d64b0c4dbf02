//! Words out of a list.

/// Whether a word is one of these, in letters of any case.
pub(super) fn is_one(all: &[&str], word: &str) -> bool {
    all.iter().any(|one| one.eq_ignore_ascii_case(word))
}

/// `a, b or c`.
pub(super) fn listed(all: &[&str], last: &str) -> String {
    match all.split_last() {
        Some((end, begin)) if !begin.is_empty() => format!("{} {last} {end}", begin.join(", ")),
        _ => all.concat(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_are_listed_as_people_do() {
        assert_eq!(
            (listed(&[], "or"), listed(&["a"], "or"), listed(&["a", "b", "c"], "or")),
            (String::new(), "a".into(), "a, b or c".into())
        );
        assert!(is_one(&["On"], "oN") && !is_one(&[], ""));
    }
}
