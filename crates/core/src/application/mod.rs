//! Configuration of applications, in the forms in which programs write it: every value with the names that
//! lead to it and with its place. What a value means is another room's matter.
pub(crate) mod conceal;
pub(crate) mod files;
mod form;
mod lines;
mod php;
pub mod sources;
mod tree;
mod variables;

pub use form::Form;
pub use variables::Variables;

use crate::config::Place;
use std::ops::Range;

/// A value of an application's configuration.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Entry {
    /// The names that lead to it, the outermost first.
    pub names: Vec<String>,
    /// What stands there, quotes and escapes undone.
    pub value: Value,
    /// Its line, counted from 1.
    pub line: u32,
    /// Its column, counted from 1.
    pub column: u32,
    /// The bytes of the file that it takes, quotes left out.
    pub span: Range<usize>,
}

impl Entry {
    /// Where it stands.
    pub fn place(&self, file: &str) -> Place {
        let width = match &self.value {
            Value::Text(text) => u32::try_from(text.chars().count()).unwrap_or(0),
            Value::Asked { .. } => 0,
        };
        let end_column = self.column.saturating_add(width);
        Place { file: file.into(), line: self.line, column: self.column, end_column }
    }
}

/// Counts lines and columns forwards, so that all places of a text cost one walk over it.
struct Places<'t> {
    text: &'t str,
    at: usize,
    line: u32,
    start: usize,
}

impl<'t> Places<'t> {
    fn new(text: &'t str) -> Self {
        Self { text, at: 0, line: 1, start: 0 }
    }
    /// Line and column of a byte, counted from 1; bytes are asked for in order.
    fn of(&mut self, byte: usize) -> (u32, u32) {
        for at in memchr::memchr_iter(b'\n', self.text.as_bytes().get(self.at..byte).unwrap_or_default()) {
            self.line += 1;
            self.start = self.at + at + 1;
        }
        self.at = self.at.max(byte);
        let column = self.text.get(self.start..byte).map_or(0, |t| t.chars().count()) + 1;
        (self.line, u32::try_from(column).unwrap_or(u32::MAX))
    }
}

/// Values with their names and bytes, put in order and given their places.
fn placed(text: &str, mut found: Vec<(Vec<String>, Value, Range<usize>)>) -> Vec<Entry> {
    found.sort_by_key(|(_, _, span)| span.start);
    let mut places = Places::new(text);
    let entry = |(names, value, span): (Vec<String>, Value, Range<usize>)| {
        let (line, column) = places.of(span.start);
        Entry { names, value, line, column, span }
    };
    found.into_iter().map(entry).collect()
}

/// What stands beside a name.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Value {
    /// A text, which may hold variables in the manner of its form.
    Text(String),
    /// The value of a variable, and what stands in for one that is not set.
    Asked {
        /// Its name.
        variable: String,
        /// What counts without it.
        fallback: Option<String>,
    },
}

/// Why a file is not read, and where.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Broken {
    /// The line, counted from 1.
    pub line: u32,
    /// In plain words.
    pub why: String,
}

/// The values of a file, in its order.
///
/// # Errors
/// The file is not of its form, for the forms that have a grammar.
pub fn read(form: Form, text: &str) -> Result<Vec<Entry>, Broken> {
    match form {
        Form::Ini | Form::Properties | Form::Environment => Ok(lines::read(form, text)),
        Form::Json => tree::json(text),
        Form::Yaml => tree::yaml(text),
        Form::Toml => tree::toml(text),
        Form::Xml => tree::xml(text),
        Form::Php => Ok(php::read(text)),
    }
}

#[cfg(test)]
mod tests;
