//! What of a configuration of haproxy is not for other eyes: values beside the names of secrets, and of
//! keywords that no table knows. A mask takes the place of a word or of a part of one, never of several: so
//! the line keeps its form.
use super::DIRECTIVES;
use super::tokens::{Around, Variables, cut};
use crate::secrets::{Concealed, Text, spans};
use std::ops::Range;

/// The secrets of a file.
pub(super) fn conceal(text: &str) -> Concealed {
    let mut found = Concealed::default();
    let (nothing, around) = (Variables::default(), Around { file: "", line: 0, section: "" });
    let mut start = 0;
    for line in text.split('\n') {
        let begin = start;
        start += line.len() + 1;
        // A line that cannot be cut is left to the net.
        let Ok(words) = cut(line, &nothing, around) else { continue };
        let places: Vec<Range<usize>> = words.iter().filter_map(|w| within(line, w.raw)).collect();
        let (Some(name), Some(first), Some(last)) = (words.first(), places.first(), places.last()) else {
            continue;
        };
        found.statements.push(begin + first.start..begin + last.end);
        let here = |s: &Range<usize>| begin + s.start..begin + s.end;
        if !is_known(&name.value) {
            found.unknown.extend(places.iter().skip(1).map(here));
            continue;
        }
        for (at, word) in words.iter().enumerate().skip(1) {
            let whole = DIRECTIVES.exact(&words[at - 1].value).iter().any(|row| row.has_secret());
            found.secret.extend(places.get(at).filter(|_| whole && !word.value.is_empty()).map(here));
        }
        for secret in spans(&line[..last.end], Text::Settings) {
            // What begins with a word takes all of it: quotes inside may have ended it too soon.
            let met =
                places.iter().skip(1).filter(|w| w.start < secret.end && secret.start < w.end).map(|w| {
                    let whole = secret.start <= w.start;
                    w.start.max(secret.start)..if whole { w.end } else { w.end.min(secret.end) }
                });
            found.secret.extend(met.map(|s| here(&s)));
        }
    }
    found
}

/// The bytes of a word in its line.
fn within(line: &str, word: &str) -> Option<Range<usize>> {
    let start = (word.as_ptr() as usize).checked_sub(line.as_ptr() as usize)?;
    (start + word.len() <= line.len()).then_some(start..start + word.len())
}

/// Whether a line may begin so: a keyword, a section, a condition.
fn is_known(name: &str) -> bool {
    name.starts_with('.')
        || name == "no"
        || !DIRECTIVES.exact(name).is_empty()
        || super::read::SECTIONS.contains(&name)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_mask_stands_for_one_word() {
        let text = "global\n  lua-load /x.lua --token quay\n  setenv DB_PASSWORD \"a b\"\n\
            \x20 http-request set-header Authorization \"Basic ZGVzazpx\"\n  tide-word a b # c\n";
        let found = conceal(text);
        let told = |all: &[Range<usize>]| all.iter().map(|s| text[s.clone()].to_owned()).collect::<Vec<_>>();
        let secret = told(&found.secret).concat();
        assert!(secret.contains("quay") && secret.contains("a b") && secret.contains("ZGVzazpx"), "{secret}");
        assert!(!secret.contains("--token") && !secret.contains("x.lua"), "{secret}");
        assert_eq!(told(&found.unknown), ["a", "b"]);
    }
}
