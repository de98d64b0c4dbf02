//! One line of `postgresql.conf`: a name, perhaps an equals sign, a value, perhaps a comment.

/// What a line holds.
#[derive(Debug, PartialEq, Eq)]
pub(super) enum Parsed<'t> {
    /// Blank, or a comment.
    Nothing,
    /// A setting.
    Setting {
        /// Name as written.
        name: &'t str,
        /// Value, quotes taken off.
        value: String,
        /// Value as written.
        raw: &'t str,
    },
    /// From here on it is not understood.
    Fault(&'t str),
}

fn is_name(b: u8) -> bool {
    b.is_ascii_alphanumeric() || b == b'_' || b >= 0x80
}

/// Reads one line.
pub(super) fn line(text: &str) -> Parsed<'_> {
    let rest = text.trim_start();
    if rest.is_empty() || rest.starts_with('#') {
        return Parsed::Nothing;
    }
    let starts = rest.as_bytes()[0];
    if !(starts.is_ascii_alphabetic() || starts == b'_' || starts >= 0x80) {
        return Parsed::Fault(rest);
    }
    let end = rest.bytes().position(|b| !is_name(b) && b != b'.' && b != b'$').unwrap_or(rest.len());
    let (name, after) = rest.split_at(end);
    if name.matches('.').count() > 1 || name.ends_with('.') {
        return Parsed::Fault(rest);
    }
    let after = after.trim_start();
    let after = after.strip_prefix('=').unwrap_or(after).trim_start();
    let Some((value, raw, tail)) = value(after) else {
        return Parsed::Fault(if after.is_empty() { name } else { after });
    };
    let tail = tail.trim_start();
    if tail.is_empty() || tail.starts_with('#') {
        Parsed::Setting { name, value, raw }
    } else {
        Parsed::Fault(tail)
    }
}

/// Where a quote belongs on a line whose value has only one: at its other end, which for a value that is
/// opened is that of the line, or where a comment begins.
pub(super) fn missing_quote(line: &str) -> Option<usize> {
    let from = line.find('=').map(|at| at + 1)?;
    let start = from + line[from..].len() - line[from..].trim_start().len();
    let comment = [" #", "\t#"].iter().filter_map(|sign| line[start..].find(sign)).min();
    let end = start + line[start..comment.map_or(line.len(), |n| start + n)].trim_end().len();
    let value = line.get(start..end)?;
    if value.matches('\'').count() != 1 {
        return None;
    }
    match (value.starts_with('\''), value.ends_with('\'')) {
        (true, false) => Some(end),
        (false, true) => Some(start),
        _ => None,
    }
}

/// A value: quoted, a number with a unit glued on, or a bare word.
fn value(text: &str) -> Option<(String, &str, &str)> {
    if text.starts_with('\'') {
        return quoted(text);
    }
    let first = *text.as_bytes().first()?;
    let digits = |t: &str| t.bytes().take_while(u8::is_ascii_digit).count();
    if first.is_ascii_digit() || matches!(first, b'-' | b'+' | b'.') {
        let signed = text.strip_prefix(['-', '+']).unwrap_or(text);
        let sign = text.len() - signed.len();
        let hex = signed.starts_with("0x");
        let whole = if hex {
            2 + signed[2..].bytes().take_while(u8::is_ascii_hexdigit).count()
        } else {
            digits(signed)
        };
        let mut end = whole;
        let mut fraction = false;
        if !hex && signed[end..].starts_with('.') {
            fraction = true;
            end += 1 + digits(&signed[end + 1..]);
            if end == 1 {
                return None;
            }
            let exponent = &signed[end..];
            if exponent.starts_with(['e', 'E']) {
                let power = exponent[1..].strip_prefix(['-', '+']).unwrap_or(&exponent[1..]);
                let count = digits(power);
                if count > 0 {
                    end += exponent.len() - power.len() + count;
                }
            }
        }
        if end == 0 {
            return None;
        }
        // A unit may be glued to a whole number; a fraction with one must be quoted.
        let unit =
            if fraction { 0 } else { signed[end..].bytes().take_while(u8::is_ascii_alphabetic).count() };
        let total = sign + end + unit;
        return Some((text[..total].to_owned(), &text[..total], &text[total..]));
    }
    if first.is_ascii_alphabetic() || first == b'_' || first >= 0x80 {
        let end = text
            .bytes()
            .position(|b| !is_name(b) && !matches!(b, b'-' | b'.' | b':' | b'/'))
            .unwrap_or(text.len());
        return Some((text[..end].to_owned(), &text[..end], &text[end..]));
    }
    None
}

/// Single quotes; doubled or escaped ones inside.
fn quoted(text: &str) -> Option<(String, &str, &str)> {
    let mut out = String::new();
    let mut chars = text.char_indices().skip(1).peekable();
    while let Some((at, c)) = chars.next() {
        match c {
            '\'' if chars.peek().is_some_and(|(_, n)| *n == '\'') => {
                chars.next();
                out.push('\'');
            }
            '\'' => return Some((out, &text[..=at], &text[at + 1..])),
            '\\' => {
                let (_, next) = chars.next()?;
                out.push(match next {
                    'n' => '\n',
                    't' => '\t',
                    'r' => '\r',
                    'b' => '\u{8}',
                    'f' => '\u{c}',
                    other => other,
                });
            }
            other => out.push(other),
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    #[track_caller]
    fn set(text: &str, name: &str, expected: &str) {
        match line(text) {
            Parsed::Setting { name: n, value, .. } => {
                assert_eq!((n, value.as_str()), (name, expected), "{text}")
            }
            other => panic!("{text}: {other:?}"),
        }
    }

    #[test]
    fn a_quote_is_missing_at_the_other_end_of_the_value() {
        for (line, whole) in [
            ("a = '/etc/quay\t# tides", "a = '/etc/quay'\t# tides"),
            ("a = '%m [%p] ", "a = '%m [%p]' "),
            ("a = pg_catalog.english'", "a = 'pg_catalog.english'"),
        ] {
            let at = missing_quote(line).unwrap();
            assert_eq!(format!("{}'{}", &line[..at], &line[at..]), whole);
        }
        for line in ["a = 'b'", "a = b", "a = b'c", "a 'b"] {
            assert_eq!(missing_quote(line), None, "{line}");
        }
    }

    #[test]
    fn values_of_every_form() {
        set("port = 5432", "port", "5432");
        set("  port 5432# here", "port", "5432");
        set("shared_buffers=128MB", "shared_buffers", "128MB");
        set("log_timezone = Europe/Berlin", "log_timezone", "Europe/Berlin");
        set("log_line_prefix = '%m [%p] ''x''\\n'", "log_line_prefix", "%m [%p] 'x'\n");
        set("a.b = -1", "a.b", "-1");
        set("seq_page_cost = 1.0e3", "seq_page_cost", "1.0e3");
        set("mode = 0x1F", "mode", "0x1F");
        set("x = 062", "x", "062");
    }

    #[test]
    fn what_is_not_understood_is_told_from_where() {
        for (text, from) in [
            ("port = 16 MB", "MB"),
            ("a,b = 1", ",b = 1"),
            ("dir = /x", "/x"),
            ("names = a,b", ",b"),
            ("time = 1.5min", "min"),
            ("port = '54", "'54"),
            ("port = 1;", ";"),
            ("port", "port"),
            ("= 5", "= 5"),
            ("a.b.c = 1", "a.b.c = 1"),
            ("\u{feff}port = 1 2", "2"),
        ] {
            assert_eq!(line(text), Parsed::Fault(from), "{text}");
        }
        assert_eq!(line("   # port = 1"), Parsed::Nothing);
    }
}
