//! `fastcgi_split_path_info`: a pattern with two groups, for the script and for what follows it.
use super::super::state::Rule;
use crate::code::Code;

pub(super) static RULE: Rule = Rule {
    names: &["fastcgi_split_path_info"],
    check: |r, d, _| {
        let found = groups(d.argument(0));
        if found != 2 {
            let message = format!("the pattern has {found} groups in parentheses, expected 2");
            r.find_word(d, 0, Code::ConfigBadValue, message);
        }
    },
};

/// How many groups of a pattern capture.
fn groups(pattern: &str) -> usize {
    let (mut count, mut class, mut rest) = (0, false, pattern.chars());
    while let Some(c) = rest.next() {
        match c {
            '\\' => drop(rest.next()),
            '[' => class = true,
            ']' => class = false,
            '(' if !class => {
                let tail = rest.as_str();
                let named = ["?<", "?P<", "?'"].iter().any(|n| tail.starts_with(n));
                let looks = ["?<=", "?<!"].iter().any(|n| tail.starts_with(n));
                count += usize::from(!tail.starts_with(['?', '*']) || (named && !looks));
            }
            _ => {}
        }
    }
    count
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn groups_that_capture_are_counted() {
        for (pattern, expected) in [
            ("^(.+\\.php)(/.*)$", 2),
            ("tide", 0),
            ("(?:a)(b)", 1),
            ("(?<s>a)(?P<t>b)", 2),
            (r"\(a[(]b(c)", 1),
            ("(?<=a)b(", 1),
        ] {
            assert_eq!(groups(pattern), expected, "{pattern}");
        }
    }
}
