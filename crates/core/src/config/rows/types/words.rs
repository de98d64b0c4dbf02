//! Words out of a list.

/// Whether a word is one of these, in letters of any case.
pub(super) fn is_one(all: &[&str], word: &str) -> bool {
    all.iter().any(|one| one.eq_ignore_ascii_case(word))
}

/// Whether a word says yes or no, or begins a word that does and no other (`parse_bool` of PostgreSQL).
pub(super) fn is_truth(word: &str) -> bool {
    let begins = |whole: &str, least: usize| {
        word.len() >= least && whole.get(..word.len()).is_some_and(|begin| begin.eq_ignore_ascii_case(word))
    };
    let words = [("true", 1), ("false", 1), ("yes", 1), ("no", 1), ("on", 2), ("off", 2)];
    matches!(word, "1" | "0") || words.iter().any(|(whole, least)| begins(whole, *least))
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
