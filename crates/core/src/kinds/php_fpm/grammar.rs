//! One line of PHP-FPM's configuration: the daemon hands each line by itself to the interpreter's reader
//! of INI files (zend_ini_scanner.l, zend_ini_parser.y), so that nothing goes on in the next one.

/// What a line holds.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Statement<'t> {
    /// `[name]`.
    Section(String),
    /// `name = value`, or `name[key] = value`.
    Entry {
        /// Name as written.
        name: &'t str,
        /// What stands in brackets behind it.
        key: Option<String>,
        /// Its value.
        value: Value<'t>,
    },
}

/// A value.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Value<'t> {
    /// As the daemon gets it; words of truth are `1` or nothing by then.
    pub(super) text: String,
    /// As written.
    pub(super) raw: &'t str,
    /// It holds a variable of the environment, or is calculated: what comes of it is not known here.
    pub(super) open: bool,
}

/// From where on a line is not understood, and why.
#[derive(Debug, PartialEq, Eq)]
pub(super) struct Fault<'t> {
    pub(super) at: &'t str,
    pub(super) why: &'static str,
    /// The value that quotes around it would mend.
    pub(super) quote: Option<&'t str>,
}

/// Reads a line; several statements may stand on it.
pub(super) fn line(text: &str) -> Result<Vec<Statement<'_>>, Fault<'_>> {
    let mut found = Vec::new();
    let mut rest = text;
    loop {
        rest = rest.trim_start_matches(is_blank);
        if rest.is_empty() || rest.starts_with([';', '\r']) {
            return Ok(found);
        }
        let (statement, more) =
            if let Some(inner) = rest.strip_prefix('[') { section(inner)? } else { entry(rest)? };
        found.push(statement);
        rest = more;
    }
}

fn is_blank(c: char) -> bool {
    matches!(c, ' ' | '\t')
}

fn section(inner: &str) -> Result<(Statement<'_>, &str), Fault<'_>> {
    let open = Fault { at: inner, why: "a section's name needs a closing bracket", quote: None };
    let (name, rest) = until_bracket(inner).ok_or(open)?;
    Ok((Statement::Section(name), rest.trim_start_matches(is_blank)))
}

/// Text up to a closing bracket: quotes of both sorts hold others.
fn until_bracket(text: &str) -> Option<(String, &str)> {
    let mut out = String::new();
    let mut rest = text;
    loop {
        let c = rest.chars().next()?;
        match c {
            ']' => return Some((out, &rest[1..])),
            '"' => {
                let (inner, more, _) = double(&rest[1..])?;
                out.push_str(&inner);
                rest = more;
                continue;
            }
            '\'' => {
                let end = rest[1..].find('\'').filter(|end| *end > 0)?;
                out.push_str(&rest[1..=end]);
                rest = &rest[end + 2..];
                continue;
            }
            '\\' => {
                let next = rest[1..].chars().next()?;
                out.extend(['\\', next]);
                rest = &rest[1 + next.len_utf8()..];
                continue;
            }
            ';' | '\r' => return None,
            _ => out.push(c),
        }
        rest = &rest[c.len_utf8()..];
    }
}

/// Text in double quotes up to the closing one, behind which blanks are taken, and whether a variable
/// stands in it. A backslash stands for itself but for a quote and for another backslash.
fn double(text: &str) -> Option<(String, &str, bool)> {
    let (mut out, mut open) = (String::new(), false);
    let mut chars = text.char_indices().peekable();
    while let Some((at, c)) = chars.next() {
        match c {
            '"' => return Some((out, text[at + 1..].trim_start_matches(is_blank), open)),
            '\\' => {
                let (next_at, next) = chars.next()?;
                let last = text[next_at + next.len_utf8()..].trim_end_matches('\r').is_empty();
                match next {
                    // The way of another system to end a path: `"C:\path\"`.
                    '"' if last => {
                        out.push('\\');
                        return Some((out, "", open));
                    }
                    '"' | '\\' | '\'' => out.push(next),
                    other => out.extend(['\\', other]),
                }
            }
            '$' if chars.peek().is_some_and(|(_, n)| *n == '{') => {
                open = true;
                text[at..].find('}')?;
                out.push(c);
            }
            _ => out.push(c),
        }
    }
    None
}

fn entry(text: &str) -> Result<(Statement<'_>, &str), Fault<'_>> {
    let end = text.find(|c: char| "=\r\t;&|^$~(){}!\"[".contains(c)).unwrap_or(text.len());
    let name = text[..end].trim_end_matches(' ');
    if name.is_empty() {
        return Err(Fault { at: text, why: "an entry begins with its name", quote: None });
    }
    if is_word_of_truth(name) {
        return Err(Fault { at: text, why: "a word of truth cannot be a name", quote: None });
    }
    let mut rest = &text[end..];
    let mut key = None;
    if let Some(inner) = rest.strip_prefix('[') {
        let (found, more) = until_bracket(inner.trim_start_matches(is_blank)).ok_or(Fault {
            at: rest,
            why: "a key needs a closing bracket",
            quote: None,
        })?;
        key = Some(found.trim_end_matches(is_blank).to_owned());
        rest = more;
    }
    rest = rest.trim_start_matches(is_blank);
    let Some(after) = rest.strip_prefix('=') else {
        return Err(Fault { at: text, why: "an entry needs a value: NAME = VALUE", quote: None });
    };
    let (value, rest) = value(after.trim_start_matches(is_blank))?;
    Ok((Statement::Entry { name, key, value }, rest))
}

fn is_word_of_truth(word: &str) -> bool {
    const WORDS: &[&str] = &["true", "on", "yes", "false", "off", "no", "none", "null"];
    WORDS.iter().any(|w| w.eq_ignore_ascii_case(word))
}

/// A number as `atoi` reads it: digits at the beginning, or 0.
pub(super) fn leading(text: &str) -> i64 {
    let text = text.trim_start();
    let digits = text.strip_prefix(['-', '+']).unwrap_or(text);
    let end = digits.find(|c: char| !c.is_ascii_digit()).unwrap_or(digits.len());
    let size: i64 = digits[..end].parse().unwrap_or(0);
    if text.starts_with('-') { -size } else { size }
}

/// A calculation: what stands before an operand in each open bracket.
#[derive(Default)]
struct Frame {
    left: Option<i64>,
    sign: Option<char>,
    before: Vec<char>,
}

impl Frame {
    /// An operand is complete: its number counts, whatever follows it.
    fn take(&mut self, operand: &str) {
        let mut number = leading(operand);
        for sign in self.before.drain(..).rev() {
            number = if sign == '~' { !number } else { i64::from(number == 0) };
        }
        self.left = Some(match (self.left, self.sign.take()) {
            (Some(left), Some('|')) => left | number,
            (Some(left), Some('&')) => left & number,
            (Some(left), Some(_)) => left ^ number,
            _ => number,
        });
    }
}

/// A value up to the end of the line or a comment.
fn value(text: &str) -> Result<(Value<'_>, &str), Fault<'_>> {
    let mut out = String::new();
    let (mut rest, mut open, mut operand, mut counted) = (text, false, false, false);
    let mut frames = vec![Frame::default()];
    let fault = |at, why| Err(Fault { at, why, quote: quotable(text) });
    loop {
        let trimmed = rest.trim_start_matches(is_blank);
        let inner = frames.len() > 1;
        let Some(frame) = frames.last_mut() else { return fault(text, "a bracket was not opened") };
        if trimmed.is_empty() || trimmed.starts_with([';', '\r']) {
            if inner || counted && !operand {
                return fault(text, "a calculation is left open");
            }
            if counted {
                frame.take(&out);
                out = frame.left.unwrap_or(0).to_string();
            }
            let raw = text[..text.len() - rest.len()].trim_end_matches(is_blank);
            return Ok((Value { text: out, raw, open }, ""));
        }
        let c = trimmed.chars().next().unwrap_or('\0');
        match c {
            '=' => return fault(trimmed, "a value that holds \"=\" needs quotes"),
            '"' => {
                let Some((inner, more, variable)) = double(&trimmed[1..]) else {
                    return fault(trimmed, "a quote is not closed");
                };
                out.push_str(&inner);
                (open, operand, rest) = (open | variable, true, more);
            }
            '\'' => {
                let Some(end) = trimmed[1..].find('\'').filter(|end| *end > 0) else {
                    return fault(trimmed, "a single quote needs some text and another one");
                };
                out.push_str(&rest[..rest.len() - trimmed.len()]);
                out.push_str(&trimmed[1..=end]);
                (operand, rest) = (true, &trimmed[end + 2..]);
            }
            '$' if trimmed.starts_with("${") => {
                let Some(end) = trimmed.find('}') else { return fault(trimmed, "a variable is not closed") };
                (open, operand, rest) = (true, true, &trimmed[end + 1..]);
            }
            '|' | '&' | '^' if operand => {
                frame.take(&out);
                frame.sign = Some(c);
                out.clear();
                (counted, operand, rest) = (true, false, &trimmed[1..]);
            }
            '~' | '!' if !operand => {
                frame.before.push(c);
                (counted, rest) = (true, &trimmed[1..]);
            }
            '(' if !operand => {
                frames.push(Frame::default());
                rest = &trimmed[1..];
            }
            ')' if operand && inner => {
                // Alone in brackets, text stays what it is.
                if frame.left.is_some() || !frame.before.is_empty() {
                    frame.take(&out);
                    out = frame.left.unwrap_or(0).to_string();
                }
                frames.pop();
                rest = &trimmed[1..];
            }
            '|' | '&' | '^' | '~' | '!' | '(' | ')' => {
                return fault(trimmed, "a value that holds such a sign needs quotes");
            }
            _ => {
                let (word, more) = word(trimmed);
                if is_word_of_truth(word) {
                    let ends = more.trim_start_matches(is_blank);
                    if operand || counted || inner || !(ends.is_empty() || ends.starts_with([';', '\r'])) {
                        return fault(trimmed, "a word of truth stands alone, or in quotes");
                    }
                    return Ok((truth(word), ""));
                }
                if operand {
                    out.push_str(&rest[..rest.len() - trimmed.len()]);
                }
                out.push_str(word);
                (operand, rest) = (true, more);
            }
        }
    }
}

/// A value up to the comment behind it, if quotes can be put around it.
fn quotable(text: &str) -> Option<&str> {
    let whole = text.split(';').next().unwrap_or_default().trim_end();
    (!whole.is_empty() && !whole.contains(['"', '\\', '\''])).then_some(whole)
}

/// What the daemon gets of a word of truth.
fn truth(word: &str) -> Value<'_> {
    let yes = ["true", "on", "yes"].iter().any(|w| w.eq_ignore_ascii_case(word));
    Value { text: if yes { "1" } else { "" }.to_owned(), raw: word, open: false }
}

/// A bare word, and what follows it.
fn word(text: &str) -> (&str, &str) {
    let end = text.find(|c: char| "= \t\r;&|^~()!\"'".contains(c)).unwrap_or(text.len());
    text.split_at(text[..end].find("${").unwrap_or(end))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[track_caller]
    fn of(text: &str) -> Result<Vec<(String, Option<String>, String)>, String> {
        let found = line(text).map_err(|f| f.at.to_owned())?;
        Ok(found
            .into_iter()
            .map(|s| match s {
                Statement::Section(name) => (format!("[{name}]"), None, String::new()),
                Statement::Entry { name, key, value } => (name.to_owned(), key, value.text),
            })
            .collect())
    }

    /// Every expectation was asked of PHP-FPM 8.2.
    #[test]
    fn lines_are_read_as_the_interpreter_reads_them() {
        for (text, name, key, value) in [
            ("pm = dynamic", "pm", None, "dynamic"),
            ("  daemonize=yes ; here", "daemonize", None, "1"),
            ("daemonize = No", "daemonize", None, ""),
            ("chdir =", "chdir", None, ""),
            ("env[HOST] = $HOSTNAME", "env", Some("HOST"), "$HOSTNAME"),
            ("php_value[a.b] = \"x = y;\" ; z", "php_value", Some("a.b"), "x = y;"),
            ("access.format = '%R %t'", "access.format", None, "%R %t"),
            ("ping.response = two words", "ping.response", None, "two words"),
            ("user = a\\b", "user", None, "a\\b"),
            ("x = 4|1", "x", None, "5"),
            ("x = ~5", "x", None, "-6"),
            ("x = (a)", "x", None, "a"),
            ("x = !(3 & 4)", "x", None, "1"),
        ] {
            assert_eq!(of(text), Ok(vec![(name.into(), key.map(str::to_owned), value.into())]), "{text}");
        }
        assert_eq!(of("[www]"), Ok(vec![("[www]".into(), None, String::new())]));
        assert_eq!(of("; x"), Ok(vec![]));
        assert_eq!(of("   "), Ok(vec![]));
        for (text, at) in [
            ("pm", "pm"),
            ("# pm = x", "# pm = x"),
            ("= 5", "= 5"),
            ("a = b=c", "=c"),
            ("a = (b", "(b"),
            ("a = b)", ")"),
            ("a = x!y", "!y"),
            ("a = \"b", "\"b"),
            ("a = 'b", "'b"),
            ("a = yes x", "yes x"),
            ("a = x on", "on"),
            ("[www", "www"),
            ("on = 1", "on = 1"),
        ] {
            // Where a comment sign begins a name, the daemon says that the entry is unknown: a fault as well.
            if text.starts_with('#') {
                assert!(of(text).is_ok());
                continue;
            }
            assert_eq!(of(text), Err(at.to_owned()), "{text}");
        }
    }
}
