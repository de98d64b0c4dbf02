//! Lines and words of httpd's configuration files.
use std::borrow::Cow;

/// A logical line: backslash continuation joined, blanks at both ends gone.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct LogicalLine<'a> {
    pub(super) text: Cow<'a, str>,
    /// Number of its last physical line: what the daemon blames.
    pub(super) number: u32,
    /// Byte of its first letter in the file.
    pub(super) start: usize,
    /// Column of its first letter; 0 for a joined line.
    pub(super) column: u32,
}

/// The logical lines of a file.
pub(super) struct Lines<'a> {
    text: &'a str,
    at: usize,
    number: u32,
}

impl<'a> Lines<'a> {
    pub(super) fn new(text: &'a str) -> Self {
        Self { text, at: 0, number: 0 }
    }

    /// The bytes of the logical line that ends on a line and begins with a name; `None` where it opens or
    /// closes a section.
    pub(super) fn statement(text: &'a str, number: u32, name: &str) -> Option<std::ops::Range<usize>> {
        let mut lines = Self::new(text);
        let line = lines.by_ref().find(|l| l.number >= number).filter(|l| l.number == number)?;
        let same =
            word(&line.text).0.eq_ignore_ascii_case(name) && !line.text.starts_with('<') && !name.is_empty();
        let end = lines.at.saturating_sub(1).min(text.len());
        same.then(|| line.start..text[line.start..end].trim_end().len() + line.start)
    }

    fn physical(&mut self) -> Option<(usize, &'a str)> {
        let rest = self.text.get(self.at..).filter(|r| !r.is_empty())?;
        let start = self.at;
        let length = memchr::memchr(b'\n', rest.as_bytes()).unwrap_or(rest.len());
        self.at += length + 1;
        self.number += 1;
        let line = &rest[..length];
        Some((start, line.strip_suffix('\r').unwrap_or(line)))
    }
}

impl<'a> Iterator for Lines<'a> {
    type Item = LogicalLine<'a>;

    fn next(&mut self) -> Option<LogicalLine<'a>> {
        let (start, first) = self.physical()?;
        let blank = first.len() - first.trim_start_matches([' ', '\t', '\u{b}', '\u{c}', '\r']).len();
        if !first.ends_with('\\') {
            let text = first[blank..].trim_end_matches([' ', '\t', '\u{b}', '\u{c}', '\r']);
            let column = u32::try_from(first[..blank].chars().count() + 1).unwrap_or(0);
            return Some(LogicalLine {
                text: Cow::Borrowed(text),
                number: self.number,
                start: start + blank,
                column,
            });
        }
        let mut joined = first[..first.len() - 1].to_owned();
        while let Some((_, next)) = self.physical() {
            match next.strip_suffix('\\') {
                Some(stem) => joined.push_str(stem),
                None => {
                    joined.push_str(next);
                    break;
                }
            }
        }
        Some(LogicalLine {
            text: Cow::Owned(joined.trim().to_owned()),
            number: self.number,
            start: start + blank,
            column: 0,
        })
    }
}

/// Splits off the first word, as the daemon does: quotes only around a whole word, a backslash keeps the
/// quote character, an unclosed quote runs to the end.
pub(super) fn word(text: &str) -> (Cow<'_, str>, &str) {
    let text = without_blanks(text);
    let Some(&first) = text.as_bytes().first() else { return (Cow::Borrowed(""), "") };
    if first == b'"' || first == b'\'' {
        let mut escaped = false;
        for (at, c) in text.bytes().enumerate().skip(1) {
            if c == first && !escaped {
                return (unescape(&text[1..at], char::from(first)), without_blanks(&text[at + 1..]));
            }
            escaped = c == b'\\' && !escaped;
        }
        return (unescape(&text[1..], char::from(first)), "");
    }
    let end = text.bytes().position(is_blank).unwrap_or(text.len());
    (Cow::Borrowed(&text[..end]), without_blanks(&text[end..]))
}

/// What `isspace(3)` takes for a blank in the C locale.
fn is_blank(byte: u8) -> bool {
    byte.is_ascii_whitespace() || byte == 0x0b
}

fn without_blanks(text: &str) -> &str {
    &text[text.bytes().position(|b| !is_blank(b)).unwrap_or(text.len())..]
}

fn unescape(text: &str, quote: char) -> Cow<'_, str> {
    if !text.contains('\\') {
        return Cow::Borrowed(text);
    }
    let mut out = String::with_capacity(text.len());
    let mut rest = text.chars().peekable();
    while let Some(c) = rest.next() {
        match rest.peek() {
            Some(&next) if c == '\\' && (next == '\\' || next == quote) => {
                out.push(next);
                rest.next();
            }
            _ => out.push(c),
        }
    }
    Cow::Owned(out)
}

/// All words.
pub(super) fn words(mut text: &str) -> Vec<Cow<'_, str>> {
    let mut all = Vec::new();
    while !text.is_empty() {
        let (next, rest) = word(text);
        all.push(next);
        text = rest;
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_join_only_behind_a_last_backslash() {
        let text = "a b\\\n c\r\nd \\ \n# note\\\nhidden\n  e";
        let lines: Vec<_> = Lines::new(text).map(|l| (l.text.into_owned(), l.number, l.column)).collect();
        assert_eq!(
            lines,
            [
                ("a b c".into(), 2, 0),
                ("d \\".into(), 3, 1),
                ("# notehidden".into(), 5, 0),
                ("e".into(), 6, 3)
            ]
        );
    }

    #[test]
    fn quotes_open_only_at_the_start_of_a_word() {
        assert_eq!(words(r#"Name "a b" 'c' "x\"y" a"b"#), ["Name", "a b", "c", "x\"y", "a\"b"]);
        assert_eq!(words(r#""a"b"#), ["a", "b"]);
        assert_eq!(words("\"open to the end"), ["open to the end"]);
    }
}
