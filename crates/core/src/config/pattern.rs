//! Regular expressions of daemons, judged by their brackets and quantifiers alone.

/// Whether the pattern would compile, as far as its brackets tell.
pub fn regex_fault(pattern: &str) -> Option<&'static str> {
    let bytes = pattern.as_bytes();
    let (mut depth, mut i) = (0u32, 0);
    let mut may_repeat = false;
    while i < bytes.len() {
        match bytes[i] {
            b'\\' if i + 1 == bytes.len() => return Some("\\ at end of pattern"),
            b'\\' => {
                i += 1;
                may_repeat = true;
            }
            b'[' => {
                let mut j = i + 1;
                j += usize::from(bytes.get(j) == Some(&b'^'));
                j += usize::from(bytes.get(j) == Some(&b']'));
                loop {
                    match bytes.get(j) {
                        None => return Some("missing terminating ] for character class"),
                        Some(b'\\') => j += 1,
                        Some(b'[') if bytes.get(j + 1) == Some(&b':') => {
                            if let Some(n) = pattern.get(j + 2..).and_then(|r| r.find(":]")) {
                                j += n + 3
                            }
                        }
                        Some(b']') => break,
                        _ => {}
                    }
                    j += 1;
                }
                i = j;
                may_repeat = true;
            }
            b'(' => {
                depth += 1;
                may_repeat = false;
                if bytes.get(i + 1) == Some(&b'?') {
                    i += 1;
                }
            }
            b')' if depth == 0 => return Some("unmatched closing parenthesis"),
            b')' => {
                depth -= 1;
                may_repeat = true;
            }
            b'*' | b'+' | b'?' if !may_repeat => return Some("quantifier does not follow a repeatable item"),
            b'*' | b'+' | b'?' => {
                let suffix = matches!(bytes.get(i + 1), Some(b'?' | b'+'));
                i += usize::from(suffix);
                may_repeat = false;
            }
            b'|' => may_repeat = false,
            b'^' => may_repeat = false,
            _ => may_repeat = true,
        }
        i += 1;
    }
    (depth > 0).then_some("missing closing parenthesis")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn patterns_fail_on_their_brackets() {
        for good in [
            r"\.php$",
            "^/(a|b)/[^/]+$",
            "(?i)x",
            "(?<name>[0-9]{4})",
            "[[:alpha:]]",
            "[]a]",
            "a*?",
            "(?!x)y",
        ] {
            assert_eq!(regex_fault(good), None, "{good}");
        }
        for bad in ["(a", "a)", "[a", "*a", "a\\", "(|*)"] {
            assert!(regex_fault(bad).is_some(), "{bad}");
        }
    }
}
