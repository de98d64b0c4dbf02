//! Words of a line as haproxy cuts them (`parse_line` of tools.c): quotes and escapes inside of words,
//! variables of the environment in double quotes, comments.
use crate::secrets::MASK;
use std::borrow::Cow;
use std::collections::HashMap;

/// At most so many words stand on a line (`MAX_LINE_ARGS`).
const WORDS: usize = 64;

/// A word of a line.
#[derive(Clone, Debug)]
pub(super) struct Word<'t> {
    /// What it stands for.
    pub(super) value: String,
    /// As it is written.
    pub(super) raw: &'t str,
    /// It holds a variable of an environment that is not known: nobody here knows even how many words it is.
    pub(super) open: bool,
    /// What stood in it was masked when it was recorded.
    pub(super) masked: bool,
}

/// The words of a line.
#[derive(Clone, Copy, Debug)]
pub(super) struct Words<'w, 't>(pub(super) &'w [Word<'t>]);

impl<'w> Words<'w, '_> {
    /// A word; empty behind the last one.
    pub(super) fn at(self, at: usize) -> &'w str {
        self.0.get(at).map_or("", |w| w.value.as_str())
    }
    /// Whether a condition begins at a word, or nothing stands there.
    pub(super) fn ends(self, at: usize) -> bool {
        self.at(at).is_empty() || self.is_condition(at)
    }
    /// Whether a condition begins at a word.
    pub(super) fn is_condition(self, at: usize) -> bool {
        matches!(self.at(at), "if" | "unless")
    }
    /// How many there are.
    pub(super) fn len(self) -> usize {
        self.0.len()
    }
}

/// What is wrong with a line before it has words, and where.
#[derive(Debug, PartialEq, Eq)]
pub(super) struct Cut<'t>(pub(super) &'t str, pub(super) &'static str);

/// Variables that a configuration can use.
#[derive(Debug, Default)]
pub(super) struct Variables {
    /// Those whose values are known.
    pub(super) values: HashMap<String, String>,
    /// Whether whatever is not known is not set.
    pub(super) complete: bool,
}

/// A value of a variable.
enum Value<'v> {
    Is(Cow<'v, str>),
    Unset,
    Unknown,
}

/// Whether the daemon sets a variable itself, or the manager does for every service (systemd.exec(5)).
fn is_given(name: &str) -> bool {
    const MANAGER: &[&str] = &[
        "PATH",
        "LANG",
        "HOME",
        "USER",
        "LOGNAME",
        "SHELL",
        "INVOCATION_ID",
        "JOURNAL_STREAM",
        "NOTIFY_SOCKET",
        "MAINPID",
        "MANAGERPID",
        "SYSTEMD_EXEC_PID",
        "LISTEN_FDS",
        "LISTEN_PID",
        "LISTEN_FDNAMES",
        "WATCHDOG_USEC",
        "WATCHDOG_PID",
        "TERM",
    ];
    name.starts_with("HAPROXY_")
        || name.ends_with("_DIRECTORY")
        || name.starts_with("LC_")
        || MANAGER.contains(&name)
}

/// Where a line stands, for the variables that haproxy sets itself.
#[derive(Clone, Copy)]
pub(super) struct Around<'a> {
    pub(super) file: &'a str,
    pub(super) line: u32,
    pub(super) section: &'a str,
}

impl Variables {
    fn value<'v>(&'v self, name: &str, around: Around<'v>) -> Option<Value<'v>> {
        Some(match name {
            ".LINE" => Value::Is(Cow::Owned(around.line.to_string())),
            ".FILE" => Value::Is(Cow::Borrowed(around.file)),
            ".SECTION" => Value::Is(Cow::Borrowed(around.section)),
            _ if name.starts_with('.') => return None,
            _ => match self.values.get(name) {
                Some(value) => Value::Is(Cow::Borrowed(value)),
                None if self.complete && !is_given(name) => Value::Unset,
                None => Value::Unknown,
            },
        })
    }
}

/// What is being put together.
struct Cutter<'t> {
    line: &'t str,
    at: usize,
    words: Vec<Word<'t>>,
    begun: Option<usize>,
    value: Vec<u8>,
    open: bool,
}

impl<'t> Cutter<'t> {
    fn push(&mut self, byte: u8) {
        self.begun.get_or_insert(self.at);
        self.value.push(byte);
    }

    fn close(&mut self) {
        if let Some(begun) = self.begun.take() {
            let value = String::from_utf8_lossy(&self.value).into_owned();
            let masked = value.contains(MASK);
            self.words.push(Word { value, raw: &self.line[begun..self.at], open: self.open, masked });
        }
        self.value.clear();
        self.open = false;
    }

    fn next(&self, ahead: usize) -> u8 {
        self.line.as_bytes().get(self.at + ahead).copied().unwrap_or(0)
    }

    /// An escape, at the backslash; outside of single quotes.
    fn escape(&mut self, double: bool) -> Result<(), Cut<'t>> {
        let (byte, length) = match self.next(1) {
            b' ' => (b' ', 2),
            b'\\' => (b'\\', 2),
            b't' => (b'\t', 2),
            b'n' => (b'\n', 2),
            b'r' => (b'\r', 2),
            other @ (b'#' | b'\'' | b'"') => (other, 2),
            b'$' if double => (b'$', 2),
            b'x' => {
                let digits = self.line.get(self.at + 2..self.at + 4);
                let number = digits.filter(|d| d.bytes().all(|b| b.is_ascii_hexdigit()));
                let number = number.and_then(|d| u8::from_str_radix(d, 16).ok());
                (number.ok_or(Cut(&self.line[self.at..], "\\x needs two hexadecimal digits"))?, 4)
            }
            _ => (b'\\', 1),
        };
        self.push(byte);
        self.at += length;
        Ok(())
    }

    /// A variable, at the dollar sign.
    fn variable(&mut self, variables: &Variables, around: Around) -> Result<(), Cut<'t>> {
        let start = self.at;
        self.begun.get_or_insert(start);
        let begin = &self.line[start..];
        let braced = self.next(1) == b'{';
        let name_at = start + 1 + usize::from(braced);
        let rest = self.line.get(name_at..).unwrap_or_default();
        if !rest.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_' || c == '.') {
            return Err(Cut(begin, "the name of a variable begins with a letter"));
        }
        let dot = usize::from(rest.starts_with('.'));
        let length =
            dot + rest[dot..].bytes().take_while(|b| b.is_ascii_alphanumeric() || *b == b'_').count();
        let name = &rest[..length];
        let value = variables.value(name, around).ok_or(Cut(begin, "haproxy has no such variable"))?;
        self.at = name_at + length;
        let mut spread = false;
        if braced && self.next(0) == b'[' {
            if !self.line[self.at..].starts_with("[*]") {
                return Err(Cut(begin, "only [*] is allowed after the name of a variable"));
            }
            spread = true;
            self.at += 3;
        }
        let mut fallback = None;
        if braced {
            if self.next(0) == b'-' {
                let end = self.line[self.at..].find('}').ok_or(Cut(begin, "a brace is not closed"))?;
                fallback = Some(&self.line[self.at + 1..self.at + end]);
                self.at += end;
            }
            if self.next(0) != b'}' {
                return Err(Cut(begin, "a brace is not closed"));
            }
            self.at += 1;
        }
        let value = match (value, fallback) {
            (Value::Is(value), _) => value,
            (Value::Unset, fallback) => Cow::Borrowed(fallback.unwrap_or_default()),
            (Value::Unknown, fallback) => {
                self.open = true;
                Cow::Borrowed(fallback.unwrap_or_default())
            }
        };
        let mut first = true;
        for part in value.split(|c: char| spread && c.is_ascii_whitespace()) {
            if !first && !part.is_empty() {
                let (begun, open) = (self.begun, self.open);
                self.close();
                (self.begun, self.open) = (begun, open);
            }
            self.value.extend_from_slice(part.as_bytes());
            first = false;
        }
        Ok(())
    }
}

/// Cuts a line.
///
/// # Errors
/// A quote or brace that is not closed, an escape that is none, too many words.
pub(super) fn cut<'t>(
    line: &'t str,
    variables: &Variables,
    around: Around,
) -> Result<Vec<Word<'t>>, Cut<'t>> {
    let mut c = Cutter { line, at: 0, words: Vec::new(), begun: None, value: Vec::new(), open: false };
    let mut quote: Option<(u8, usize)> = None;
    while c.at < line.len() {
        let (single, double) =
            (quote.is_some_and(|(q, _)| q == b'\''), quote.is_some_and(|(q, _)| q == b'"'));
        match c.next(0) {
            b'#' if quote.is_none() => break,
            b'\r' | b'\n' => break,
            q @ (b'"' | b'\'') if quote.is_none_or(|(open, _)| open == q) => {
                c.begun.get_or_insert(c.at);
                quote = if quote.is_none() { Some((q, c.at)) } else { None };
                c.at += 1;
            }
            b'\\' if !single => c.escape(double)?,
            b if b.is_ascii_whitespace() && quote.is_none() => {
                c.close();
                c.at += 1;
            }
            b'$' if double => c.variable(variables, around)?,
            other => {
                c.push(other);
                c.at += 1;
            }
        }
    }
    if let Some((_, at)) = quote {
        return Err(Cut(&line[at..], "a quote is not closed"));
    }
    c.close();
    if c.words.len() > WORDS {
        return Err(Cut(c.words[WORDS].raw, "more than 64 words stand on the line"));
    }
    Ok(c.words)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn values(line: &str) -> Option<Vec<String>> {
        let mut variables = Variables { complete: true, ..Variables::default() };
        variables.values.insert("TIDE".to_owned(), "ebb flood".to_owned());
        let around = Around { file: "/f.cfg", line: 7, section: "quay" };
        cut(line, &variables, around).ok().map(|words| words.into_iter().map(|w| w.value).collect())
    }

    #[test]
    fn words_are_cut_as_the_daemon_cuts_them() {
        for (line, wanted) in [
            ("  a  b # c", &["a", "b"][..]),
            ("a\\ b 'c d'e \"f g\"", &["a b", "c de", "f g"]),
            ("x\\#y \\1 \\x41\\n", &["x#y", "\\1", "A\n"]),
            ("\"$TIDE\" $TIDE '$TIDE'", &["ebb flood", "$TIDE", "$TIDE"]),
            ("\"${TIDE[*]}\" \"${NONE-neap}\" \"$NONE\"", &["ebb", "flood", "neap", ""]),
            ("\"$.LINE\" \"${.SECTION}\" \"\\$TIDE\"", &["7", "quay", "$TIDE"]),
            ("a\"b\"", &["ab"]),
            ("# all", &[]),
        ] {
            assert_eq!(values(line).as_deref(), Some(&wanted.map_to_strings()[..]), "{line}");
        }
        for line in ["\"a", "'a", "\\xg1", "\"${A", "\"$1\"", "\"$.TIDE\"", "\"${A[1]}\""] {
            assert_eq!(values(line), None, "{line}");
        }
    }

    #[test]
    fn what_nobody_knows_is_open() {
        let around = Around { file: "", line: 1, section: "" };
        let variables = Variables::default();
        let words = cut("a \"$A\" \"${A-b}\" c", &variables, around).unwrap();
        assert_eq!(words.iter().map(|w| w.open).collect::<Vec<_>>(), [false, true, true, false]);
    }

    trait MapToStrings {
        fn map_to_strings(&self) -> Vec<String>;
    }
    impl MapToStrings for &[&str] {
        fn map_to_strings(&self) -> Vec<String> {
            self.iter().map(|s| (*s).to_owned()).collect()
        }
    }
}
