//! Forms of one setting a line: INI, properties, environment.
use super::{Entry, Form, Value, placed};

/// The settings of a text.
pub(super) fn read(form: Form, text: &str) -> Vec<Entry> {
    let mut found = Vec::new();
    let mut section: Vec<String> = Vec::new();
    let mut start = 0;
    while start < text.len() {
        let (line, next) = logical(form, text, start);
        let begin = start;
        start = next;
        let inner = line.trim();
        if inner.is_empty()
            || inner.starts_with(['#', '!'])
            || (form != Form::Environment && inner.starts_with(';'))
        {
            continue;
        }
        if form == Form::Ini
            && let Some(head) = inner.strip_prefix('[').and_then(|rest| rest.split_once(']'))
        {
            section = head.0.split([':', '.', '/']).map(|s| s.trim().trim_matches('"').to_owned()).collect();
            continue;
        }
        let inner =
            if form == Form::Environment { inner.strip_prefix("export ").unwrap_or(inner) } else { inner };
        let at = begin + line.trim_end().len() - inner.len();
        let Some((name, value, offset)) = split(form, inner) else { continue };
        let (value, inside) = unquoted(form, value);
        let from = at + offset + inside.start;
        let names = match form {
            // A section of INI stands before; names of properties lead by themselves.
            Form::Properties => name.split('.').map(str::to_owned).collect(),
            _ => section.iter().cloned().chain([name.to_owned()]).collect(),
        };
        found.push((names, Value::Text(value), from..from + inside.len()));
    }
    placed(text, found)
}

/// A line, and where the next one begins behind those that it goes on into (properties, behind a backslash).
/// What goes on is left out: no address is that long.
fn logical(form: Form, text: &str, start: usize) -> (&str, usize) {
    let end = text[start..].find('\n').map_or(text.len(), |n| start + n);
    let line = &text[start..end];
    let mut next = (end + 1).min(text.len());
    let mut last = line;
    let goes_on =
        |l: &str| l.trim_end_matches('\r').bytes().rev().take_while(|b| *b == b'\\').count() % 2 == 1;
    while form == Form::Properties && goes_on(last) && next < text.len() {
        let end = text[next..].find('\n').map_or(text.len(), |n| next + n);
        last = &text[next..end];
        next = (end + 1).min(text.len());
    }
    (line, next)
}

/// A name, its value, and the byte at which that begins.
fn split(form: Form, inner: &str) -> Option<(&str, &str, usize)> {
    let signs: &[char] = match form {
        Form::Properties => &['=', ':', ' ', '\t'],
        Form::Environment => &['='],
        _ => &['=', ':'],
    };
    let end = inner.find(signs)?;
    let name = inner[..end].trim_end();
    let mut rest = inner[end..].trim_start_matches([' ', '\t']);
    if rest.starts_with(['=', ':']) {
        rest = rest[1..].trim_start_matches([' ', '\t']);
    } else if form == Form::Ini {
        return None;
    }
    (!name.is_empty()).then_some((name, rest, inner.len() - rest.len()))
}

/// A value without its quotes and what a comment says behind it, and the bytes that it takes.
fn unquoted(form: Form, value: &str) -> (String, std::ops::Range<usize>) {
    let quote = value.chars().next().filter(|c| form != Form::Properties && matches!(c, '"' | '\''));
    if let Some(quote) = quote
        && let Some(end) = value[1..].find(quote)
    {
        return (value[1..=end].to_owned(), 1..end + 1);
    }
    let end = match form {
        Form::Properties => value.len(),
        // A word of an environment ends where a blank does.
        Form::Environment => value.find(char::is_whitespace).unwrap_or(value.len()),
        _ => [" ;", " #", "\t;", "\t#"].iter().filter_map(|c| value.find(c)).min().unwrap_or(value.len()),
    };
    let value = value[..end].trim_end();
    let undone = if form == Form::Properties {
        value.replace("\\:", ":").replace("\\=", "=")
    } else {
        value.to_owned()
    };
    (undone, 0..value.len())
}
