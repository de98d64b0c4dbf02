//! Scripts of PHP as configuration: constants, variables and arrays that are set to plain values, and what
//! the functions are given that connect to a server. Nothing is run: what a condition decides or a function
//! returns is left out, except for the usual ways to ask for a variable of the environment.
use super::{Entry, Value, placed};
use crate::bounds::step;
use std::collections::HashMap;
use std::ops::Range;

/// How deep arrays may stand inside of others.
const DEEP: usize = 64;
/// Functions and classes that connect, with small letters.
const CONNECT: &[&str] = &[
    "pdo",
    "mysqli",
    "mysqli_connect",
    "mysqli_real_connect",
    "pg_connect",
    "pg_pconnect",
    "connect",
    "pconnect",
];
/// Functions that ask for a variable of the environment.
const ASK: &[&str] = &["getenv", "env"];

#[derive(Clone, Debug, PartialEq)]
enum Token<'t> {
    Word(&'t str),
    Variable(&'t str),
    /// A text without its quotes; `false` where it holds variables.
    Text(String, bool),
    Number(&'t str),
    Sign(&'t str),
}

/// A token with its bytes.
type Spanned<'t> = (Token<'t>, Range<usize>);

fn is_word(b: u8) -> bool {
    b.is_ascii_alphanumeric() || b == b'_' || b == b'\\' || b >= 0x80
}

/// The tokens of all parts of a file that are code.
fn tokens(text: &str) -> Vec<Spanned<'_>> {
    const SIGNS: &[&str] = &["??=", "=>", "->", "::", "??", "?:", "==", ".="];
    let bytes = text.as_bytes();
    let mut out = Vec::new();
    let mut at = match text.find("<?") {
        Some(at) => at + 2,
        None => return out,
    };
    while at < bytes.len() {
        step(1);
        let rest = &text[at..];
        let start = at;
        match bytes[at] {
            b if b.is_ascii_whitespace() => at += 1,
            b'?' if rest.starts_with("?>") => match rest.find("<?") {
                Some(next) => at += next + 2,
                None => break,
            },
            b'#' if !rest.starts_with("#[") => at += line_end(rest),
            b'/' if rest.starts_with("//") => at += line_end(rest),
            b'/' if rest.starts_with("/*") => at += rest[2..].find("*/").map_or(rest.len(), |n| n + 4),
            quote @ (b'\'' | b'"' | b'`') => {
                let (value, plain, length) = quoted(rest, quote);
                at += length;
                let inside = start + 1..(at - 1).max(start + 1);
                out.push((Token::Text(value, plain && quote != b'`'), inside));
            }
            b'<' if rest.starts_with("<<<") => at += heredoc(rest),
            b'$' if rest.len() > 1 && is_word(bytes[at + 1]) => {
                at += 1;
                while at < bytes.len() && is_word(bytes[at]) {
                    at += 1;
                }
                out.push((Token::Variable(&text[start + 1..at]), start..at));
            }
            b if b.is_ascii_digit() => {
                while at < bytes.len() && (bytes[at].is_ascii_alphanumeric() || bytes[at] == b'.') {
                    at += 1;
                }
                out.push((Token::Number(&text[start..at]), start..at));
            }
            b if is_word(b) => {
                while at < bytes.len() && is_word(bytes[at]) {
                    at += 1;
                }
                out.push((Token::Word(&text[start..at]), start..at));
            }
            _ => {
                let sign = SIGNS.iter().find(|s| rest.starts_with(**s)).map_or(1, |s| s.len());
                at += sign;
                out.push((Token::Sign(text.get(start..at).unwrap_or_default()), start..at));
            }
        }
    }
    out
}

fn line_end(rest: &str) -> usize {
    rest.find('\n').map_or(rest.len(), |n| n + 1)
}

/// A text in quotes: its value, whether nothing of it is a variable, and its length with the quotes.
fn quoted(rest: &str, quote: u8) -> (String, bool, usize) {
    let bytes = rest.as_bytes();
    let mut value: Vec<u8> = Vec::new();
    let (mut at, mut plain) = (1, true);
    while at < bytes.len() && bytes[at] != quote {
        match (bytes[at], bytes.get(at + 1)) {
            (b'\\', Some(next)) => {
                at += 1;
                match (*next, quote) {
                    (b'n', b'"') => value.push(b'\n'),
                    (b't', b'"') => value.push(b'\t'),
                    (b'$', b'"') | (b'\\', _) => value.push(*next),
                    (other, _) if other == quote => value.push(other),
                    (other, _) => value.extend_from_slice(&[b'\\', other]),
                }
            }
            (b'$', Some(next)) if quote == b'"' && (is_word(*next) || *next == b'{') => {
                plain = false;
                value.push(b'$');
            }
            (other, _) => value.push(other),
        }
        at += 1;
    }
    (String::from_utf8_lossy(&value).into_owned(), plain, (at + 1).min(bytes.len()))
}

/// The length of a text that a word of its own ends.
fn heredoc(rest: &str) -> usize {
    let head = rest[3..].trim_start_matches([' ', '"', '\'']);
    let word: String = head.chars().take_while(|c| c.is_ascii_alphanumeric() || *c == '_').collect();
    if word.is_empty() {
        return 3;
    }
    let mut at = 0;
    for line in rest.split_inclusive('\n') {
        let first = at == 0;
        at += line.len();
        if !first && line.trim_start().starts_with(&word) {
            return at - line.len() + (line.len() - line.trim_start().len()) + word.len();
        }
    }
    rest.len()
}

/// A value that is known, and where it is written.
#[derive(Clone, Debug)]
struct Known {
    value: Value,
    span: Range<usize>,
}

struct Reader<'t> {
    tokens: Vec<Spanned<'t>>,
    at: usize,
    set: HashMap<String, Known>,
    found: Vec<(Vec<String>, Known)>,
}

impl<'t> Reader<'t> {
    fn token(&self, ahead: usize) -> Option<&Token<'t>> {
        self.tokens.get(self.at + ahead).map(|(token, _)| token)
    }
    fn is(&self, ahead: usize, sign: &str) -> bool {
        matches!(self.token(ahead), Some(Token::Sign(s)) if *s == sign)
    }
    fn text(&self, ahead: usize) -> Option<String> {
        match self.token(ahead)? {
            Token::Text(text, true) => Some(text.clone()),
            _ => None,
        }
    }
    fn keep(&mut self, names: Vec<String>, known: Known) {
        self.found.push((names, known));
    }

    /// A variable of the environment, asked for in one of the usual ways, at the word or variable.
    fn asked(&mut self) -> Option<Value> {
        match self.token(0)? {
            Token::Word(word) if ASK.contains(&word.to_ascii_lowercase().as_str()) && self.is(1, "(") => {
                let variable = self.text(2)?;
                self.at += 3;
                let mut fallback = None;
                if self.is(0, ",") {
                    self.at += 1;
                    fallback = self.value(1).and_then(|known| match known.value {
                        Value::Text(text) => Some(text),
                        Value::Asked { fallback, .. } => fallback,
                    });
                }
                self.at += usize::from(self.is(0, ")"));
                Some(Value::Asked { variable, fallback })
            }
            Token::Variable("_ENV" | "_SERVER") if self.is(1, "[") && self.is(3, "]") => {
                let variable = self.text(2)?;
                self.at += 4;
                Some(Value::Asked { variable, fallback: None })
            }
            _ => None,
        }
    }

    /// One part of a value; afterwards the reader stands behind it.
    fn part(&mut self) -> Option<Known> {
        let (token, span) = self.tokens.get(self.at)?.clone();
        if let Some(value) = self.asked() {
            return Some(Known { value, span });
        }
        let known = match token {
            Token::Text(text, true) => Some(Known { value: Value::Text(text), span }),
            Token::Number(number) => Some(Known { value: Value::Text(number.to_owned()), span }),
            Token::Word(word) if !self.is(1, "(") && !self.is(1, "::") => match self.set.get(word) {
                Some(known) => Some(known.clone()),
                None if matches!(word.to_ascii_lowercase().as_str(), "true" | "false" | "null") => {
                    Some(Known { value: Value::Text(word.to_ascii_lowercase()), span })
                }
                None => None,
            },
            Token::Variable(name) if !self.is(1, "[") && !self.is(1, "->") => {
                self.set.get(&format!("${name}")).cloned()
            }
            _ => None,
        };
        if known.is_some() {
            self.at += 1;
        }
        known
    }

    /// A plain value, put together of its parts; `None` where a part of it is not known. It must end where a
    /// value ends, or it is only a part of something else.
    fn value(&mut self, deep: usize) -> Option<Known> {
        let mut known = self.part()?;
        while self.is(0, ".") && deep < DEEP {
            self.at += 1;
            let next = self.part()?;
            match (&mut known.value, next.value) {
                // What is put together of itself doubles: no setting is that long.
                (Value::Text(text), Value::Text(more)) if text.len() + more.len() <= crate::bounds::VALUE => {
                    text.push_str(&more);
                }
                _ => return None,
            }
            known.span.end = known.span.start;
        }
        if self.is(0, "??") || self.is(0, "?:") || (self.is(0, "?") && self.is(1, ":")) {
            self.at += if self.is(0, "?") { 2 } else { 1 };
            let other = self.value(deep + 1)?;
            if let (Value::Asked { fallback, .. }, Value::Text(text)) = (&mut known.value, other.value) {
                fallback.get_or_insert(text);
            }
        }
        let ends = [",", ";", ")", "]"].iter().any(|sign| self.is(0, sign));
        (ends || self.token(0).is_none()).then_some(known)
    }

    /// Whether an array begins here, and with how many tokens.
    fn array(&self) -> Option<usize> {
        match self.token(0)? {
            Token::Sign("[") => Some(1),
            Token::Word(word) if word.eq_ignore_ascii_case("array") && self.is(1, "(") => Some(2),
            _ => None,
        }
    }

    /// What is set: a value or an array.
    fn set_to(&mut self, names: &mut Vec<String>, deep: usize) {
        if let Some(length) = self.array().filter(|_| deep < DEEP) {
            self.at += length;
            let mut next = 0;
            while let Some(token) = self.token(0).cloned() {
                step(1);
                match token {
                    Token::Sign("]" | ")") => {
                        self.at += 1;
                        return;
                    }
                    Token::Sign(",") => {
                        self.at += 1;
                        continue;
                    }
                    Token::Sign(";") => return,
                    _ => {}
                }
                let name = match (&token, self.is(1, "=>")) {
                    (Token::Text(text, true), true) => Some(text.clone()),
                    (Token::Word(word) | Token::Number(word), true) => Some((*word).to_owned()),
                    _ => None,
                };
                if name.is_some() {
                    self.at += 2;
                }
                names.push(name.unwrap_or_else(|| {
                    next += 1;
                    (next - 1).to_string()
                }));
                self.set_to(names, deep + 1);
                names.pop();
                self.past_value();
            }
            return;
        }
        let begin = self.at;
        match self.value(0) {
            Some(known) => {
                if let [one] = names.as_slice() {
                    self.set.insert(one.clone(), known.clone());
                }
                self.keep(names.iter().map(|n| n.trim_start_matches('$').to_owned()).collect(), known);
            }
            // What is asked inside, such as a connection that is made, is looked at all the same.
            None if deep == 0 => self.at = begin,
            None => {}
        }
    }

    /// To the comma, bracket or semicolon that ends a value.
    fn past_value(&mut self) {
        let mut open = 0usize;
        while let Some(token) = self.token(0) {
            step(1);
            match token {
                Token::Sign("(" | "[" | "{") => open += 1,
                Token::Sign(")" | "]" | "}") if open == 0 => return,
                Token::Sign(")" | "]" | "}") => open -= 1,
                Token::Sign("," | ";") if open == 0 => return,
                _ => {}
            }
            self.at += 1;
        }
    }

    /// What a function that connects is given.
    fn arguments(&mut self, name: &str) {
        let mut number = 0usize;
        while self.token(0).is_some() && number < 16 {
            if self.is(0, ")") || self.is(0, ";") {
                return;
            }
            let named = match (self.token(0), self.is(1, ":")) {
                (Some(Token::Word(word)), true) => Some((*word).to_owned()),
                _ => None,
            };
            self.at += if named.is_some() { 2 } else { 0 };
            let label = named.unwrap_or_else(|| number.to_string());
            if let Some(known) = self.value(0) {
                self.keep(vec![format!("{name}()"), label], known);
            }
            self.past_value();
            if !self.is(0, ",") {
                return;
            }
            self.at += 1;
            number += 1;
        }
    }

    fn statement(&mut self) {
        match self.token(0).cloned() {
            Some(Token::Word(word)) if word.eq_ignore_ascii_case("define") && self.is(1, "(") => {
                let Some(name) = self.text(2).filter(|_| self.is(3, ",")) else {
                    self.at += 1;
                    return;
                };
                self.at += 4;
                self.set_to(&mut vec![name], 0);
            }
            Some(Token::Word(word)) if word.eq_ignore_ascii_case("const") && self.is(2, "=") => {
                let Some(Token::Word(name)) = self.token(1) else {
                    self.at += 1;
                    return;
                };
                let mut names = vec![(*name).to_owned()];
                self.at += 3;
                self.set_to(&mut names, 0);
            }
            Some(Token::Word(word)) if word.eq_ignore_ascii_case("return") => {
                self.at += 1;
                if self.array().is_some() {
                    self.set_to(&mut Vec::new(), 0);
                }
            }
            Some(Token::Word(word)) if self.is(1, "(") => {
                let plain = word.rsplit('\\').next().unwrap_or(word).to_ascii_lowercase();
                if CONNECT.contains(&plain.as_str()) {
                    self.at += 2;
                    self.arguments(&plain);
                } else {
                    self.at += 1;
                }
            }
            Some(Token::Variable(name)) => {
                let mut names = vec![format!("${name}")];
                self.at += 1;
                loop {
                    if self.is(0, "[") && self.is(2, "]") {
                        let Some(key) = self.text(1) else { return };
                        names.push(key);
                        self.at += 3;
                    } else if self.is(0, "->") {
                        let Some(Token::Word(key)) = self.token(1) else { return };
                        names = vec![(*key).to_owned()];
                        // A method that connects is a function like any other.
                        if self.is(2, "(") {
                            self.at += 1;
                            return;
                        }
                        self.at += 2;
                    } else {
                        break;
                    }
                }
                if self.is(0, "=") {
                    self.at += 1;
                    self.set_to(&mut names, 0);
                }
            }
            _ => self.at += 1,
        }
    }
}

/// The bytes of texts and comments, but for the texts that are names of settings.
pub(super) fn texts(text: &str) -> Vec<Range<usize>> {
    let all = tokens(text);
    let sign = |at: Option<usize>, wanted: &[&str]| {
        let token = at.and_then(|at| all.get(at)).map(|(token, _)| token);
        matches!(token, Some(Token::Sign(s)) if wanted.contains(s))
    };
    let defines = |at: usize| {
        let before = at.checked_sub(2).and_then(|b| all.get(b)).map(|(token, _)| token);
        matches!(before, Some(Token::Word(w)) if w.eq_ignore_ascii_case("define") || ASK.contains(w))
            && sign(at.checked_sub(1), &["("])
    };
    let is_name = |at: usize| {
        sign(Some(at + 1), &["=>"])
            || defines(at)
            || (sign(at.checked_sub(1), &["["]) && sign(Some(at + 1), &["]"]))
    };
    let written = all.iter().enumerate();
    let mut found: Vec<Range<usize>> = written
        .filter(|(at, (token, _))| matches!(token, Token::Text(..)) && !is_name(*at))
        .map(|(_, (_, span))| span.clone())
        .collect();
    found.extend(comments(text));
    found.retain(|span| span.start < span.end);
    found.sort_by_key(|span| span.start);
    found
}

/// What comments say. What only looks like one inside of a text is masked with it.
fn comments(text: &str) -> Vec<Range<usize>> {
    let mut found = Vec::new();
    let mut start = 0;
    for line in text.split_inclusive('\n') {
        let inner = line.trim_start();
        let sign = ["//", "#", "/*", "*"]
            .into_iter()
            .find(|s| inner.starts_with(s) || (*s == "//" && line.contains(" //")));
        if let Some(sign) = sign
            && let Some(at) = line.find(sign)
        {
            let from = at + sign.len();
            let body = line[from..].trim();
            let begin = line[from..].find(|c: char| !c.is_whitespace()).map_or(line.len(), |n| from + n);
            found.push(start + begin..start + begin + body.len());
        }
        start += line.len();
    }
    found
}

/// The values that a script sets.
pub(super) fn read(text: &str) -> Vec<Entry> {
    let mut reader = Reader { tokens: tokens(text), at: 0, set: HashMap::new(), found: Vec::new() };
    while reader.at < reader.tokens.len() {
        let before = reader.at;
        reader.statement();
        if reader.at == before {
            reader.at += 1;
        }
    }
    let found = reader.found.into_iter().map(|(names, known)| (names, known.value, known.span));
    placed(text, found.collect())
}
