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

    /// The bytes of the statement that is closed by `;` on a line and begins with a name; `None` where a block is meant.
    pub(super) fn statement(text: &'a str, line: u32, name: &str) -> Option<std::ops::Range<usize>> {
        let mut tokens = Self::new(text);
        let mut words = Vec::new();
        loop {
            let end = tokens.next(&mut words).ok()?;
            let first = words.first().filter(|w| w.value == name && tokens.line == line);
            match (end, first) {
                (End::File, _) => return None,
                (End::Semicolon, Some(first)) if text.as_bytes().get(first.start) == name.as_bytes().first() => return Some(first.start..tokens.at),
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
        let bytes = self.text.as_bytes();
        let mut between = true;
        let mut need_blank = false;
        let (mut start, mut start_line, mut quote, mut variable) = (0, 0, 0u8, false);
        loop {
            let Some(&c) = bytes.get(self.at) else {
                return if !words.is_empty() || !between { self.fault("unexpected end of file, expecting \";\" or \"}\"") } else { Ok(End::File) };
            };
            self.at += 1;
            if c == b'\n' {
                self.line += 1;
            }
            if need_blank {
                need_blank = false;
                match c {
                    _ if blank(c) => {
                        between = true;
                        continue;
                    }
                    b';' => return Ok(End::Semicolon),
                    b'{' => return Ok(End::Open),
                    b')' => between = true,
                    _ => return self.fault(format!("unexpected {:?} after a closing quote", char::from(c))),
                }
            }
            if between {
                if blank(c) {
                    continue;
                }
                start = self.at - 1;
                start_line = self.line;
                variable = false;
                match c {
                    b';' | b'{' if words.is_empty() => {
                        return self.fault(format!("unexpected \"{}\"", char::from(c)));
                    }
                    b';' => return Ok(End::Semicolon),
                    b'{' => return Ok(End::Open),
                    b'}' if words.is_empty() => return Ok(End::Close),
                    b'}' => return self.fault("unexpected \"}\""),
                    b'#' => {
                        let rest = memchr::memchr(b'\n', &bytes[self.at..]);
                        self.at = rest.map_or(bytes.len(), |n| self.at + n);
                        continue;
                    }
                    b'\\' => self.skip_escaped(),
                    b'"' | b'\'' => {
                        quote = c;
                        start += 1;
                    }
                    b'$' => variable = true,
                    _ => {}
                }
                between = false;
                continue;
            }
            if c == b'{' && variable {
                variable = false;
                continue;
            }
            variable = false;
            let mut found = false;
            match c {
                b'\\' => self.skip_escaped(),
                b'$' => variable = true,
                _ if quote != 0 && c == quote => {
                    quote = 0;
                    need_blank = true;
                    found = true;
                }
                _ if quote == 0 && (blank(c) || c == b';' || c == b'{') => {
                    between = true;
                    found = true;
                }
                _ => {}
            }
            if found {
                let end = self.at - 1;
                let raw = &self.text[start..end];
                words.push(Word { value: unescape(raw), start, end, line: start_line });
                if between {
                    match c {
                        b';' => return Ok(End::Semicolon),
                        b'{' => return Ok(End::Open),
                        _ => {}
                    }
                }
            }
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
        check("a 'b'c;", "1! unexpected 'c' after a closing quote");
        check("a \"b;\n\n", "3! unexpected end of file, expecting \";\" or \"}\"");
        check("{", "1! unexpected \"{\"");
    }
}
