//! Patterns of daemons (PCRE), tried on names and paths.
use crate::bounds::{BACKTRACKS, PATTERN};
use std::collections::BTreeMap;

/// A compiled pattern.
#[derive(Debug)]
pub(super) struct Pattern(fancy_regex::Regex);

/// What the groups of a pattern took.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Groups {
    /// By number; the first is the whole.
    pub numbered: Vec<String>,
    /// By name; names of earlier patterns stay.
    pub named: BTreeMap<String, String>,
}

impl Pattern {
    /// Compiles; `None` for what our library does not understand.
    pub(super) fn new(text: &str, caseless: bool) -> Option<Self> {
        let mut builder = fancy_regex::RegexBuilder::new(text);
        builder.case_insensitive(caseless).backtrack_limit(BACKTRACKS).delegate_size_limit(PATTERN);
        builder.build().ok().map(Self)
    }

    /// Whether it fits, and what its groups took then; `None` where trying it was given up.
    pub(super) fn try_on(&self, text: &str, groups: &mut Groups) -> Option<bool> {
        let Some(found) = self.0.captures(text).ok()? else { return Some(false) };
        let taken = |m: Option<fancy_regex::Match>| m.map_or(String::new(), |m| m.as_str().to_owned());
        groups.numbered = found.iter().map(taken).collect();
        for name in self.0.capture_names().flatten() {
            groups.named.insert(name.to_owned(), taken(found.name(name)));
        }
        Some(true)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn patterns_fit_as_the_daemons_library_has_it() {
        for (text, caseless, on, expected) in [
            (r"\.php$", false, "/a.php", Some(true)),
            (r"\.php$", false, "/a.PHP", Some(false)),
            (r"\.php$", true, "/a.PHP", Some(true)),
            ("^/(?!a)", false, "/b", Some(true)),
            ("^/(?!a)", false, "/a", Some(false)),
            (r"(.)\1", false, "/aa", Some(true)),
            ("^(a|a)*(b|b)*(a+)+$", false, "aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaac", Some(false)),
        ] {
            let compiled = Pattern::new(text, caseless).unwrap();
            assert_eq!(compiled.try_on(on, &mut Groups::default()), expected, "{text} on {on}");
        }
        assert!(Pattern::new("(", false).is_none());
    }

    #[test]
    fn groups_are_kept_by_number_and_name() {
        let mut groups = Groups::default();
        let compiled = Pattern::new("^/(?<ferry>[a-z]+)/(.*)$", false).unwrap();
        assert_eq!(compiled.try_on("/tern/x", &mut groups), Some(true));
        assert_eq!(groups.numbered, ["/tern/x", "tern", "x"]);
        assert_eq!(groups.named["ferry"], "tern");
        assert_eq!(compiled.try_on("/", &mut groups), Some(false));
        assert_eq!(groups.numbered.len(), 3, "what does not fit changes nothing");
    }

    #[test]
    fn a_pattern_that_goes_back_without_end_is_given_up() {
        let compiled = Pattern::new(r"^(a+)+\1$", false).unwrap();
        assert_eq!(compiled.try_on(&format!("{}b", "a".repeat(64)), &mut Groups::default()), None);
    }
}
