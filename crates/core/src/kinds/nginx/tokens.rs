//! nginx's words: the same states as the daemon's own reader, so that faults fall on the same line.
use std::borrow::Cow;

/// A word of a directive.
#[derive(Clone, Debug)]
pub(super) struct Word<'a> {
    /// Value without quotes and escapes.
    pub(super) value: Cow<'a, str>,
    /// First byte of the value.
    pub(super) start: usize,
    /// Byte after it.
    pub(super) end: usize,
    /// Line where it began.
    pub(super) line: u32,
}

/// What ended a directive.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum End {
    Semicolon,
    Open,
    Close,
    File,
}

/// A text that does not split into words.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Fault {
    pub(super) line: u32,
    pub(super) message: String,
}

/// Splits a file into directives.
pub(super) struct Tokens<'a> {
    text: &'a str,
    at: usize,
    /// Line of the last byte that was read: what the daemon blames.
    pub(super) line: u32,
}

/// A word that has begun.
#[derive(Clone, Copy)]
struct Begun {
    start: usize,
    line: u32,
    /// The quote that it stands in, or 0.
    quote: u8,
    /// A `$` was just read.
    variable: bool,
}

/// What comes after a word.
enum Between {
    End(End),
    Word(Begun),
}

/// Bytes at which a word may end or change.
const SPECIAL: [bool; 256] = {
    let mut table = [false; 256];
    let all = b" \t\r\n;{\"'\\$";
    let mut at = 0;
    while at < all.len() {
        table[all[at] as usize] = true;
        at += 1;
    }
    table
};

/// The end of a directive that a byte is, if any.
fn end_of(c: u8) -> Option<End> {
    match c {
        b';' => Some(End::Semicolon),
        b'{' => Some(End::Open),
        _ => None,
    }
}

fn blank(c: u8) -> bool {
    matches!(c, b' ' | b'\t' | b'\r' | b'\n')
}

impl<'a> Tokens<'a> {
    pub(super) fn new(text: &'a str) -> Self {
        Self { text, at: 0, line: 1 }
    }

    /// The byte behind what was read.
    pub(super) fn position(&self) -> usize {
        self.at
    }

    /// The bytes of the statement that is closed by `;` on a line and begins with a name; `None` where a
    /// block is meant.
    pub(super) fn statement(text: &'a str, line: u32, name: &str) -> Option<std::ops::Range<usize>> {
        let mut tokens = Self::new(text);
        let mut words = Vec::new();
        loop {
            let end = tokens.next(&mut words).ok()?;
            let first = words.first().filter(|w| w.value == name && tokens.line == line);
            match (end, first) {
                (End::File, _) => return None,
                (End::Semicolon, Some(first))
                    if text.as_bytes().get(first.start) == name.as_bytes().first() =>
                {
                    return Some(first.start..tokens.at);
                }
                _ => {}
            }
        }
    }

    fn fault<T>(&self, message: impl Into<String>) -> Result<T, Fault> {
        Err(Fault { line: self.line, message: message.into() })
    }

    /// Reads the next directive's words into `words`.
    pub(super) fn next(&mut self, words: &mut Vec<Word<'a>>) -> Result<End, Fault> {
        words.clear();
        loop {
            let begun = match self.between(words.is_empty())? {
                Between::End(end) => return Ok(end),
                Between::Word(begun) => begun,
            };
            if let Some(end) = self.word(begun, words)? {
                return Ok(end);
            }
        }
    }

    /// The next byte, with its line counted.
    fn byte(&mut self) -> Option<u8> {
        let c = *self.text.as_bytes().get(self.at)?;
        self.at += 1;
        self.line += u32::from(c == b'\n');
        Some(c)
    }

    fn ended<T>(&self) -> Result<T, Fault> {
        self.fault("unexpected end of file, expecting \";\" or \"}\"")
    }

    /// What stands between words: blanks, comments, and what ends a directive.
    fn between(&mut self, first: bool) -> Result<Between, Fault> {
        loop {
            let Some(c) = self.byte() else {
                return if first { Ok(Between::End(End::File)) } else { self.ended() };
            };
            let begun = Begun { start: self.at - 1, line: self.line, quote: 0, variable: false };
            return Ok(match c {
                _ if blank(c) => continue,
                b';' | b'{' if first => return self.fault(format!("unexpected \"{}\"", char::from(c))),
                b';' => Between::End(End::Semicolon),
                b'{' => Between::End(End::Open),
                b'}' if first => Between::End(End::Close),
                b'}' => return self.fault("unexpected \"}\""),
                b'#' => {
                    let rest = &self.text.as_bytes()[self.at..];
                    self.at += memchr::memchr(b'\n', rest).unwrap_or(rest.len());
                    continue;
                }
                b'\\' => {
                    self.skip_escaped();
                    Between::Word(begun)
                }
                b'"' | b'\'' => Between::Word(Begun { start: self.at, quote: c, ..begun }),
                _ => Between::Word(Begun { variable: c == b'$', ..begun }),
            });
        }
    }

    /// The rest of a word, and what ends the directive where that stands right behind it.
    fn word(&mut self, begun: Begun, words: &mut Vec<Word<'a>>) -> Result<Option<End>, Fault> {
        let mut variable = begun.variable;
        loop {
            let rest = &self.text.as_bytes()[self.at..];
            let plain = rest.iter().position(|b| SPECIAL[usize::from(*b)]).unwrap_or(rest.len());
            if plain > 0 {
                variable = false;
                self.at += plain;
            }
            let Some(c) = self.byte() else { return self.ended() };
            if c == b'{' && std::mem::take(&mut variable) {
                continue;
            }
            variable = c == b'$';
            let closed = if begun.quote != 0 { c == begun.quote } else { blank(c) || c == b';' || c == b'{' };
            if closed {
                let end = self.at - 1;
                words.push(Word {
                    value: unescape(&self.text[begun.start..end]),
                    start: begun.start,
                    end,
                    line: begun.line,
                });
                return if begun.quote != 0 { self.behind_quote() } else { Ok(end_of(c)) };
            }
            if c == b'\\' {
                self.skip_escaped();
            }
        }
    }

    /// Behind a closing quote only a blank, a bracket or an end may stand.
    fn behind_quote(&mut self) -> Result<Option<End>, Fault> {
        match self.byte() {
            None => self.ended(),
            // It begins the next word.
            Some(b')') => {
                self.at -= 1;
                Ok(None)
            }
            Some(c) if blank(c) || c == b';' || c == b'{' => Ok(end_of(c)),
            Some(c) => self.fault(format!("unexpected \"{}\" after a closing quote", char::from(c))),
        }
    }

    fn skip_escaped(&mut self) {
        if let Some(&c) = self.text.as_bytes().get(self.at) {
            self.at += 1;
            self.line += u32::from(c == b'\n');
            while !self.text.is_char_boundary(self.at) {
                self.at += 1;
            }
        }
    }

    /// Skips to the end of the block that was just opened, brackets counted, faults ignored.
    pub(super) fn skip_block(&mut self) -> Result<(), Fault> {
        let mut words = Vec::new();
        let mut depth = 1;
        while depth > 0 {
            match self.next(&mut words)? {
                End::Open => depth += 1,
                End::Close => depth -= 1,
                End::Semicolon => {}
                End::File => return self.fault("unexpected end of file, expecting \"}\""),
            }
        }
        Ok(())
    }
}

fn unescape(raw: &str) -> Cow<'_, str> {
    if !raw.contains('\\') {
        return Cow::Borrowed(raw);
    }
    let mut out = String::with_capacity(raw.len());
    let mut rest = raw.chars().peekable();
    while let Some(c) = rest.next() {
        let replaced = match (c, rest.peek()) {
            ('\\', Some(&q @ ('"' | '\'' | '\\'))) => Some(q),
            ('\\', Some('t')) => Some('\t'),
            ('\\', Some('r')) => Some('\r'),
            ('\\', Some('n')) => Some('\n'),
            _ => None,
        };
        match replaced {
            Some(replacement) => {
                out.push(replacement);
                rest.next();
            }
            None => out.push(c),
        }
    }
    Cow::Owned(out)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[track_caller]
    fn check(text: &str, expected: &str) {
        let mut tokens = Tokens::new(text);
        let mut words = Vec::new();
        let mut said = String::new();
        loop {
            match tokens.next(&mut words) {
                Ok(End::File) => break,
                Ok(end) => {
                    let line: Vec<_> = words.iter().map(|w| w.value.as_ref()).collect();
                    said.push_str(&format!(
                        "{}:{}{} ",
                        tokens.line,
                        line.join("|"),
                        match end {
                            End::Semicolon => ";",
                            End::Open => "{",
                            _ => "}",
                        }
                    ));
                }
                Err(fault) => {
                    said.push_str(&format!("{}! {}", fault.line, fault.message));
                    break;
                }
            }
        }
        assert_eq!(said.trim_end(), expected);
    }

    #[test]
    fn splits_words_and_blames_the_terminator() {
        check("listen 80;\nserver{a 'b c' \"d\\\"e\";}", "1:listen|80; 2:server{ 2:a|b c|d\"e; 2:}");
        check("a b\nc d;", "2:a|b|c|d;");
        check("a ${b}c{", "1:a|${b}c{");
        check("location ~ \\.php$ {", "1:location|~|\\.php${");
        check("a x#y; # z;\nb;", "1:a|x#y; 2:b;");
    }

    #[test]
    fn faults_fall_where_the_daemon_sees_them() {
        check("a\nb }", "2! unexpected \"}\"");
        check("a 'b'c;", "1! unexpected \"c\" after a closing quote");
        check("a \"b;\n\n", "3! unexpected end of file, expecting \";\" or \"}\"");
        check("{", "1! unexpected \"{\"");
    }
}
