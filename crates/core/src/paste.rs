//! Commands that a person pastes into a shell.

/// A word as a shell takes it whole, whatever stands in it.
pub fn quoted(word: &str) -> String {
    let plain =
        !word.is_empty() && word.bytes().all(|b| b.is_ascii_alphanumeric() || b"/._-+=:@,%".contains(&b));
    if plain { word.to_owned() } else { format!("'{}'", word.replace('\'', "'\\''")) }
}

#[cfg(test)]
mod tests {
    use super::quoted;

    #[test]
    fn what_a_shell_would_take_apart_stands_in_quotes() {
        assert_eq!(quoted("edge@1.service"), "edge@1.service");
        for (word, expected) in [("a b", "'a b'"), ("$(x)", "'$(x)'"), ("it's", "'it'\\''s'"), ("", "''")] {
            assert_eq!(quoted(word), expected);
        }
    }
}
