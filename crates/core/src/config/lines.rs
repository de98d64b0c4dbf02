//! The text of line-based configuration: lines with their places, words with and without quotes.
use super::{Place, Span};
use crate::host::Look;
use crate::snapshot::Snapshot;
use std::sync::Arc;

/// One line of a file, without its end.
#[derive(Clone, Copy, Debug)]
pub struct Line<'t> {
    /// Number, from 1.
    pub number: u32,
    /// Byte offset of its first character.
    pub start: usize,
    /// The text.
    pub text: &'t str,
}

/// A configuration file that was read.
#[derive(Clone, Debug)]
pub struct Text {
    /// Its name.
    pub file: Arc<str>,
    /// Its content; bytes that are no UTF-8 are replaced.
    pub text: String,
    /// Whether offsets in the text are offsets in the file.
    pub faithful: bool,
}

impl Text {
    /// Reads a file.
    pub fn read(snapshot: &Snapshot, file: &str) -> Look<Self> {
        snapshot.read(file).map(|bytes| match std::str::from_utf8(&bytes) {
            Ok(text) => Self { file: file.into(), text: text.to_owned(), faithful: true },
            Err(_) => Self {
                file: file.into(),
                text: String::from_utf8_lossy(&bytes).into_owned(),
                faithful: false,
            },
        })
    }

    /// Its lines.
    pub fn lines(&self) -> impl Iterator<Item = Line<'_>> {
        let mut start = 0;
        (1u32..).zip(self.text.split('\n')).map(move |(number, whole)| {
            let line = Line { number, start, text: whole.trim_end_matches('\r') };
            start += whole.len() + 1;
            line
        })
    }

    /// The place of a piece of a line; `piece` must be a part of `line.text`.
    pub fn place(&self, line: &Line, piece: &str) -> Place {
        let at = offset_in(line.text, piece);
        let column = line.text.get(..at).map_or(0, |t| t.chars().count());
        let width = piece.chars().count();
        let number = |n: usize| u32::try_from(n).unwrap_or(u32::MAX);
        Place {
            file: self.file.clone(),
            line: line.number,
            column: number(column + 1),
            end_column: number(column + 1 + width),
        }
    }

    /// The bytes of a piece of a line.
    pub fn span(&self, line: &Line, piece: &str) -> Option<Span> {
        let start = line.start + offset_in(line.text, piece);
        self.faithful.then(|| Span { file: self.file.clone(), start, end: start + piece.len() })
    }
}

/// Where a slice begins inside the text it was cut from; 0 when it was not.
fn offset_in(whole: &str, piece: &str) -> usize {
    let at = (piece.as_ptr() as usize).wrapping_sub(whole.as_ptr() as usize);
    if at <= whole.len() { at } else { 0 }
}

/// A word of a line with the quotes taken off, and the slice it stands in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Word<'t> {
    /// The value.
    pub value: String,
    /// As written, with quotes.
    pub raw: &'t str,
}

/// How a kind writes words.
#[derive(Clone, Copy, Debug)]
pub struct WordRules {
    /// A backslash outside of quotes takes the next character as it is.
    pub escapes: bool,
    /// A `#` begins a comment anywhere outside of quotes; otherwise it is a letter.
    pub comments: bool,
    /// Quotes may stand inside a word.
    pub inner_quotes: bool,
}

/// Splits a line into words.
///
/// # Errors
/// The slice from the quote on that is never closed, or after which something follows that may not.
pub fn words<'t>(text: &'t str, rules: WordRules) -> Result<Vec<Word<'t>>, &'t str> {
    let mut out = Vec::new();
    let mut rest = text;
    loop {
        rest = rest.trim_start_matches([' ', '\t', '\r']);
        if rest.is_empty() || (rules.comments && rest.starts_with('#')) {
            return Ok(out);
        }
        let (word, length) = word(rest, rules)?;
        out.push(Word { value: word, raw: &rest[..length] });
        rest = &rest[length..];
    }
}

fn word(text: &str, rules: WordRules) -> Result<(String, usize), &str> {
    let mut value = String::new();
    let mut chars = text.char_indices();
    while let Some((at, c)) = chars.next() {
        match c {
            ' ' | '\t' | '\r' => return Ok((value, at)),
            '#' if rules.comments => return Ok((value, at)),
            '\\' if rules.escapes => value.push(chars.next().map_or('\\', |(_, next)| next)),
            '"' | '\'' if at == 0 || rules.inner_quotes => {
                let mut closed = None;
                while let Some((end, inside)) = chars.next() {
                    if inside == c {
                        closed = Some(end);
                        break;
                    }
                    if inside == '\\' && c == '"' {
                        value.push(
                            chars.next().map_or('\\', |(_, next)| if next == 'n' { '\n' } else { next }),
                        );
                    } else {
                        value.push(inside);
                    }
                }
                let Some(end) = closed else { return Err(&text[at..]) };
                let next = text[end + 1..].chars().next();
                if !rules.inner_quotes && next.is_some_and(|n| !n.is_whitespace()) {
                    return Err(&text[at..]);
                }
            }
            other => value.push(other),
        }
    }
    Ok((value, text.len()))
}

#[cfg(test)]
mod tests {
    use super::*;

    const STRICT: WordRules = WordRules { escapes: false, comments: false, inner_quotes: false };
    const LOOSE: WordRules = WordRules { escapes: true, comments: true, inner_quotes: true };

    fn values(text: &str, rules: WordRules) -> Option<Vec<String>> {
        words(text, rules).ok().map(|w| w.into_iter().map(|w| w.value).collect())
    }

    #[test]
    fn words_follow_the_rules_of_their_kind() {
        assert_eq!(values("port 6379 # x", STRICT).unwrap(), ["port", "6379", "#", "x"]);
        assert_eq!(values("port 6379 # x", LOOSE).unwrap(), ["port", "6379"]);
        assert_eq!(values("a\"b c\"d 'e f'", LOOSE).unwrap(), ["ab cd", "e f"]);
        assert_eq!(values("a\\ b \"c\\\"d\"", LOOSE).unwrap(), ["a b", "c\"d"]);
        assert_eq!(values("save \"\"", STRICT).unwrap(), ["save", ""]);
        assert_eq!(values("dir \"open", STRICT), None);
        assert_eq!(values("dir \"a\"b", STRICT), None);
        assert_eq!(values("  ", STRICT).unwrap().len(), 0);
    }

    #[test]
    fn places_count_characters_and_spans_count_bytes() {
        let text = Text { file: "/f".into(), text: "é = 1\r\nport = 3306\n".into(), faithful: true };
        let lines: Vec<Line> = text.lines().collect();
        assert_eq!((lines.len(), lines[1].number, lines[1].text), (3, 2, "port = 3306"));
        let value = &lines[1].text[7..];
        let place = text.place(&lines[1], value);
        assert_eq!((place.line, place.column, place.end_column), (2, 8, 12));
        let span = text.span(&lines[1], value).unwrap();
        assert_eq!(&text.text[span.start..span.end], "3306");
        assert_eq!(text.place(&lines[0], &lines[0].text[3..4]).column, 3);
    }
}
