//! What of a configuration of httpd is not for other eyes: values beside the names of secrets, and of
//! directives that no table knows.
use super::DIRECTIVES;
use crate::config::rows::secrets;
use crate::secrets::{Concealed, conceal_words};

/// Words of a stretch of a file with their bytes, quotes left out. A line that goes on behind a backslash is
/// one stretch.
fn words(text: &str, from: usize, to: usize) -> Vec<(&str, std::ops::Range<usize>)> {
    let bytes = text.as_bytes();
    let mut all = Vec::new();
    let mut at = from;
    while at < to {
        let b = bytes[at];
        let joined = b == b'\\' && matches!(bytes.get(at + 1), Some(b'\n' | b'\r'));
        if b.is_ascii_whitespace() || joined {
            at += 1;
            continue;
        }
        let quote = matches!(b, b'"' | b'\'').then_some(b);
        let start = at + usize::from(quote.is_some());
        let mut end = start;
        while end < to {
            match (quote, bytes[end]) {
                (Some(_), b'\\') => end += 1,
                (Some(q), b) if b == q => break,
                (None, b) if b.is_ascii_whitespace() => break,
                _ => {}
            }
            end += 1;
        }
        let end = end.min(to);
        all.push((text.get(start..end).unwrap_or_default(), start..end));
        at = end + usize::from(quote.is_some());
    }
    all
}

/// The secrets of a file.
pub(super) fn conceal(text: &str) -> Concealed {
    let mut found = Concealed::default();
    let mut start = 0;
    while start < text.len() {
        // A logical line: up to an end of line that no backslash stands before.
        let mut end = start;
        loop {
            let stop = text[end..].find('\n').map_or(text.len(), |n| end + n);
            let goes_on = text[start..stop].trim_end_matches('\r').ends_with('\\') && stop < text.len();
            end = stop;
            if !goes_on {
                break;
            }
            end += 1;
        }
        let (from, to) = (start, end);
        start = end + 1;
        if text[from..to].trim_start().starts_with('#') {
            continue;
        }
        let spelled = words(text, from, to);
        let Some((name, first)) = spelled.first() else { continue };
        found.statements.push(first.start..to);
        let lower = name.trim_start_matches('<').trim_end_matches('>').to_ascii_lowercase();
        // A section's row stands under its name with the bracket, as its own directives' do without.
        let known = name.starts_with("</")
            || !DIRECTIVES.any_case(&lower).is_empty()
            || !DIRECTIVES.any_case(&format!("<{lower}")).is_empty();
        match lower.as_str() {
            _ if !known => found.unknown.extend(spelled.iter().skip(1).map(|(_, span)| span.clone())),
            // The program may be seen, what it is told may not.
            "sslpassphrasedialog" => {
                let inner =
                    spelled.get(1).and_then(|(word, span)| Some(span.start + word.find(' ')? + 1..span.end));
                found
                    .secret
                    .extend(inner.into_iter().chain(spelled.iter().skip(2).map(|(_, span)| span.clone())));
            }
            // What a macro does with its values nobody knows here.
            "use" => found.secret.extend(spelled.iter().skip(2).map(|(_, span)| span.clone())),
            _ => match DIRECTIVES.any_case(&lower).iter().find(|row| row.has_secret()) {
                Some(row) => {
                    let secret = secrets(row, spelled.len() - 1, |at| {
                        spelled.get(at + 1).map_or("", |(word, _)| word)
                    });
                    found.secret.extend(
                        secret.into_iter().filter_map(|at| spelled.get(at + 1)).map(|(_, span)| span.clone()),
                    );
                }
                None => conceal_words(&spelled, &mut found),
            },
        }
    }
    found
}
