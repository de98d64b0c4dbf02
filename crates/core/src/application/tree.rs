//! Forms with a grammar of their own, read by the libraries that know them.
use super::{Broken, Entry, Places, Value, placed};
use crate::bounds;
use roxmltree::{Document, Node, ParsingOptions};
use saphyr_parser::{Event, Parser, Span};
use std::ops::Range;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

/// A value with the names that lead to it and its bytes.
type Found = (Vec<String>, Value, Range<usize>);

fn entry(names: &[String], value: String, span: Range<usize>) -> Found {
    (names.to_vec(), Value::Text(value), span)
}

/// JSON, which every reader of YAML reads too; what only JSON refuses is refused.
pub(super) fn json(text: &str) -> Result<Vec<Entry>, Broken> {
    if let Err(error) = serde_json::from_str::<serde::de::IgnoredAny>(text) {
        let line = u32::try_from(error.line()).unwrap_or(u32::MAX);
        return Err(Broken { line: line.max(1), why: format!("it is not JSON: {error}") });
    }
    yaml(text)
}

/// Where a reader stands in a mapping or a list.
enum Level {
    /// A mapping that waits for a name, or for the value of one.
    Mapping(Option<String>),
    /// A list, with the number of the next value.
    List(usize),
}

/// Bytes of letters that come one behind the other.
struct Bytes<'t> {
    rest: std::iter::Peekable<std::str::CharIndices<'t>>,
    letter: usize,
    end: usize,
}

impl Bytes<'_> {
    /// The byte of a letter; letters are asked for in order.
    fn of(&mut self, letter: usize) -> usize {
        while self.letter < letter && self.rest.next().is_some() {
            self.letter += 1;
        }
        self.rest.peek().map_or(self.end, |(at, _)| *at)
    }
}

/// YAML. What an alias stands for is not written out: it counts where it was named.
pub(super) fn yaml(text: &str) -> Result<Vec<Entry>, Broken> {
    let mut found = Vec::new();
    let mut levels: Vec<Level> = Vec::new();
    let mut names: Vec<String> = Vec::new();
    let mut bytes = Bytes { rest: text.char_indices().peekable(), letter: 0, end: text.len() };
    for event in Parser::new_from_str(text) {
        let (event, span) = event.map_err(|error| Broken {
            line: u32::try_from(error.marker().line()).unwrap_or(u32::MAX).max(1),
            why: format!("it is not YAML: {}", error.info()),
        })?;
        bounds::step(1);
        match event {
            Event::MappingStart(..) | Event::SequenceStart(..) => {
                names.extend(step_into(&mut levels));
                let list = matches!(event, Event::SequenceStart(..));
                levels.push(if list { Level::List(0) } else { Level::Mapping(None) });
                if levels.len() > DEEP {
                    return Err(Broken { line: 1, why: "its values stand too deep inside of others".into() });
                }
            }
            Event::MappingEnd | Event::SequenceEnd => {
                levels.pop();
                names.pop();
            }
            Event::Scalar(value, ..) => {
                if let Some(Level::Mapping(name @ None)) = levels.last_mut() {
                    *name = Some(value.into_owned());
                    continue;
                }
                let range = inside(text, &mut bytes, span);
                names.extend(step_into(&mut levels));
                found.push(entry(&names, value.into_owned(), range));
                names.pop();
            }
            Event::Alias(_) => {
                if let Some(Level::Mapping(name @ None)) = levels.last_mut() {
                    *name = Some(String::new());
                } else {
                    step_into(&mut levels);
                }
            }
            _ => {}
        }
    }
    Ok(placed(text, found))
}

/// How deep values may stand inside of others.
const DEEP: usize = 128;

/// The name of the value that begins here, if it has one.
fn step_into(levels: &mut [Level]) -> Option<String> {
    match levels.last_mut()? {
        Level::Mapping(name) => Some(name.take().unwrap_or_default()),
        Level::List(next) => {
            *next += 1;
            Some((*next - 1).to_string())
        }
    }
}

/// The bytes of a value without its quotes.
fn inside(text: &str, bytes: &mut Bytes, span: Span) -> Range<usize> {
    let start = bytes.of(span.start.index());
    let end = bytes.of(span.end.index()).max(start);
    let raw = text.get(start..end).unwrap_or_default();
    match raw.chars().next() {
        Some(quote @ ('"' | '\'')) if raw.len() > 1 && raw.ends_with(quote) => start + 1..end - 1,
        _ => start..start + raw.trim_end().len(),
    }
}

/// TOML.
pub(super) fn toml(text: &str) -> Result<Vec<Entry>, Broken> {
    let table = DeTable::parse(text).map_err(|error| Broken {
        line: error.span().map_or(1, |span| Places::new(text).of(span.start).0),
        why: format!("it is not TOML: {}", error.message()),
    })?;
    let mut found = Vec::new();
    of_table(text, table.get_ref(), &mut Vec::new(), &mut found);
    Ok(placed(text, found))
}

fn of_table(text: &str, table: &DeTable, names: &mut Vec<String>, found: &mut Vec<Found>) {
    for (name, value) in table {
        names.push(name.get_ref().to_string());
        of_value(text, value, names, found);
        names.pop();
    }
}

fn of_value(text: &str, value: &Spanned<DeValue>, names: &mut Vec<String>, found: &mut Vec<Found>) {
    let span = value.span();
    let plain = match value.get_ref() {
        DeValue::String(text) => text.to_string(),
        DeValue::Integer(number) => number.to_string(),
        DeValue::Float(number) => number.to_string(),
        DeValue::Boolean(yes) => yes.to_string(),
        DeValue::Datetime(time) => time.to_string(),
        DeValue::Array(list) => {
            for (at, one) in list.iter().enumerate() {
                names.push(at.to_string());
                of_value(text, one, names, found);
                names.pop();
            }
            return;
        }
        DeValue::Table(table) => return of_table(text, table, names, found),
    };
    let raw = text.get(span.clone()).unwrap_or_default();
    let quoted = raw.len() > 1 && raw.starts_with(['"', '\'']);
    let span = if quoted { span.start + 1..span.end - 1 } else { span };
    found.push(entry(names, plain, span));
}

/// XML: attributes below the elements that they stand in, and what stands between their tags. An element that
/// a name or an identity tells from others of its sort leads by that, too.
pub(super) fn xml(text: &str) -> Result<Vec<Entry>, Broken> {
    let options = ParsingOptions { allow_dtd: true, nodes_limit: bounds::NODES, ..ParsingOptions::default() };
    if let Some(why) = crate::kinds::costly_xml(text) {
        return Err(Broken { line: 1, why });
    }
    let document = Document::parse_with_options(text, options)
        .map_err(|error| Broken { line: error.pos().row, why: format!("it is not XML: {error}") })?;
    let mut found = Vec::new();
    for node in document.descendants().filter(Node::is_element) {
        let mut names: Vec<String> = Vec::new();
        let mut above: Vec<Node> = node.ancestors().filter(Node::is_element).collect();
        if above.len() > DEEP {
            continue;
        }
        above.reverse();
        for one in above {
            let identity = ["name", "id", "key"].iter().find_map(|n| one.attribute(*n));
            names.push(one.tag_name().name().to_owned());
            names.extend(identity.map(str::to_owned));
        }
        for attribute in node.attributes() {
            names.push(attribute.name().to_owned());
            found.push(entry(&names, attribute.value().to_owned(), attribute.range_value()));
            names.pop();
        }
        if let Some(content) = node.first_child().filter(|c| c.is_text() && c.next_sibling().is_none()) {
            let value = content.text().unwrap_or_default();
            if !value.trim().is_empty() {
                let range = content.range();
                let blank = value.len() - value.trim_start().len();
                found.push(entry(&names, value.trim().to_owned(), range.start + blank..range.end));
            }
        }
    }
    Ok(placed(text, found))
}
