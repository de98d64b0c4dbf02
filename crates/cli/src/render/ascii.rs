//! Text for a terminal that shows nothing but ASCII.

/// Whether a locale names a character set that is not Unicode. Of `LC_ALL`, `LC_CTYPE` and `LANG` the first
/// that is set counts (locale(7)); where none is, nobody asked for less.
pub(crate) fn is_asked(variable: impl Fn(&str) -> Option<String>) -> bool {
    let set = ["LC_ALL", "LC_CTYPE", "LANG"].iter().find_map(|n| variable(n).filter(|v| !v.is_empty()));
    set.is_some_and(|locale| {
        let lower = locale.to_ascii_lowercase();
        !lower.contains("utf-8") && !lower.contains("utf8")
    })
}

/// The same text in ASCII.
pub(crate) fn ascii(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            c if c.is_ascii() => out.push(c),
            '–' | '—' | '‐' | '−' | '·' => out.push('-'),
            '…' => out.push_str("..."),
            '→' => out.push_str("->"),
            '“' | '”' | '„' => out.push('"'),
            '‘' | '’' => out.push('\''),
            '×' => out.push('x'),
            '≥' => out.push_str(">="),
            '≤' => out.push_str("<="),
            '│' => out.push('|'),
            '─' => out.push('-'),
            '●' | '•' => out.push('*'),
            _ => out.push('?'),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_locale_without_unicode_asks_for_ascii() {
        let asked = |set: &[(&str, &str)]| {
            is_asked(|name| set.iter().find(|(n, _)| *n == name).map(|(_, v)| (*v).to_owned()))
        };
        assert!(asked(&[("LC_ALL", "C")]) && asked(&[("LANG", "de_DE.ISO-8859-1")]));
        assert!(asked(&[("LC_ALL", "POSIX"), ("LANG", "en_GB.UTF-8")]));
        assert!(
            !asked(&[]) && !asked(&[("LC_ALL", ""), ("LANG", "C.UTF-8")]) && !asked(&[("LANG", "en.utf8")])
        );
    }

    #[test]
    fn signs_have_their_likeness() {
        assert_eq!(ascii("a – b · c → d … é"), "a - b - c -> d ... ?");
    }
}
