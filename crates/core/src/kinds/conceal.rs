//! Secrets of configuration files, by the grammar of the kind that reads them.
use super::Kind;
use crate::config::ConfigFinding;
use crate::secrets::{Text, apart, mask_settings, masked, meets, spans_outside};
use crate::snapshot::Snapshot;
use std::borrow::Cow;
use std::collections::HashMap;
use std::ops::Range;
use std::sync::Arc;

/// Lines of a configuration file as they may be shown: what the kind knows for a secret is masked, and what
/// the net finds.
pub fn mask_source(kind: Option<&dyn Kind>, text: &str) -> String {
    // Whoever writes a configuration may have it include a key; what stands around it is looked at as ever.
    let text = &*if crate::keys::holds_key(text.as_bytes()) {
        crate::keys::concealed(text).into()
    } else {
        Cow::Borrowed(text)
    };
    let Some(concealed) = kind.and_then(|k| k.conceal(text, "")) else { return mask_settings(text) };
    let statements = apart(concealed.statements);
    let mut found = concealed.secret;
    // Values of directives that nobody knows are left to the net.
    let unknown = apart(concealed.unknown);
    let outside = |s: &Range<usize>| !meets(&statements, s) || meets(&unknown, s);
    // What stands wholly in statements that are known need not be looked at.
    let known: Vec<Range<usize>> = statements.iter().filter(|s| !meets(&unknown, s)).cloned().collect();
    found.extend(spans_outside(text, Text::Settings, &known).into_iter().filter(outside));
    found.extend(kind.map(|k| behind_marks(k, text)).unwrap_or_default());
    // What nobody knows on a line that names a secret, however that is spelled, is likely its value.
    if let Some(kind) = kind {
        // A line may hold very many of them: it is looked at once.
        let mut line = (0..0, false);
        for span in &unknown {
            if !line.0.contains(&span.start) {
                let here = line_of(text, span.start);
                let secret = names_secret(kind, &text[here.clone()]);
                line = (here, secret);
            }
            found.extend(line.1.then(|| span.clone()));
        }
    }
    let found = behind_open_quotes(text, apart(found));
    masked(text, &found)
}

/// Messages about lines of configuration as they may be shown: what is masked on the line is masked in the
/// message.
pub(crate) struct Told<'s> {
    snapshot: &'s Snapshot<'s>,
    kind: &'s dyn Kind,
    /// Files that were asked for, with the begins of their lines.
    files: HashMap<Arc<str>, (String, Vec<usize>)>,
}

impl<'s> Told<'s> {
    pub(crate) fn new(snapshot: &'s Snapshot<'s>, kind: &'s dyn Kind) -> Self {
        Self { snapshot, kind, files: HashMap::new() }
    }

    /// The message of a finding.
    pub(crate) fn message(&mut self, finding: &ConfigFinding) -> String {
        let plain = crate::secrets::mask_message(finding.directive.as_deref(), &finding.message);
        let Some(place) = &finding.place else { return plain };
        let (text, starts) = self.files.entry(place.file.clone()).or_insert_with(|| {
            let text = self.snapshot.aside(|| self.snapshot.text(&place.file)).seen().unwrap_or_default();
            let starts = std::iter::once(0).chain(text.match_indices('\n').map(|(n, _)| n + 1)).collect();
            (text, starts)
        });
        let start = starts.get((place.line as usize).saturating_sub(1)).copied().unwrap_or(text.len());
        let line = text[start..].lines().next().unwrap_or_default();
        if line.len() > LONGEST_TOLD { plain } else { as_on_line(self.kind, line, plain) }
    }
}

/// Longer lines are not looked at again for what a message quotes of them, in bytes.
const LONGEST_TOLD: usize = 4096;

fn as_on_line(kind: &dyn Kind, line: &str, message: String) -> String {
    let shown = mask_source(Some(kind), line);
    if shown == line {
        return message;
    }
    let ends =
        |c: char| c.is_whitespace() || matches!(c, '"' | '\'' | ';' | '>' | '<' | '(' | ')' | ',' | '=');
    let mut out = message.clone();
    for word in message.split(ends) {
        let told = word.trim_start_matches(['$', '{']).trim_end_matches(['.', ':', '}']);
        if told.len() > 3 && line.contains(told) && !shown.contains(told) {
            out = out.replace(told, crate::secrets::MASK);
        }
    }
    out
}

/// The line around a byte.
fn line_of(text: &str, at: usize) -> Range<usize> {
    let start = text[..at].rfind('\n').map_or(0, |n| n + 1);
    start..text[at..].find('\n').map_or(text.len(), |n| at + n)
}

/// Whether one of the words of a line is the name of a secret, or nearly.
fn names_secret(kind: &dyn Kind, line: &str) -> bool {
    let words = line.split(|c: char| c.is_whitespace() || matches!(c, '"' | '\'' | '=' | ';' | '<' | '>'));
    words.filter(|w| w.len() > 3).any(|w| crate::secrets::is_likely_secret(w) || kind.is_secret(w))
}

/// Behind a secret, or the name of one, on a line with a quote that nobody closes, nothing tells where it
/// ends: all that stands between quotes there goes with it.
pub(crate) fn behind_open_quotes(text: &str, found: Vec<Range<usize>>) -> Vec<Range<usize>> {
    let mut more: Vec<Range<usize>> = Vec::new();
    let mut start = 0;
    for line in text.split('\n') {
        let begin = start;
        start += line.len() + 1;
        let odd = |quote: u8| memchr::memchr_iter(quote, line.as_bytes()).count() % 2 == 1;
        // Sentences behind a comment sign have apostrophes.
        let is_comment = line.trim_start().starts_with(['#', ';']);
        if is_comment || (!odd(b'"') && !odd(b'\'')) {
            continue;
        }
        let first = found.partition_point(|s| s.end <= begin);
        let masked = found.get(first).map(|s| s.start.max(begin) - begin).filter(|at| *at < line.len());
        let Some(from) = masked.into_iter().chain(behind_name(line)).min() else { continue };
        let mut at = from;
        for part in line[from..].split_inclusive(['"', '\'']) {
            let inner = part.trim_end_matches(['"', '\'']);
            let kept = inner.trim_matches([' ', '\t', '\r', ';', '{', '}', '/', '>', '\\', '=']);
            if !kept.is_empty() {
                let word = begin + at + inner.find(kept).unwrap_or(0);
                more.push(word..word + kept.len());
            }
            at += part.len();
        }
    }
    if more.is_empty() { found } else { apart(found.into_iter().chain(more).collect()) }
}

/// Where what belongs to the first name of a secret on a line begins, or to an account in an address.
fn behind_name(line: &str) -> Option<usize> {
    let is_part = |c: char| c.is_ascii_alphanumeric() || matches!(c, '_' | '-' | '.');
    let mut at = 0;
    let named = line.split(|c| !is_part(c)).find_map(|word| {
        let end = at + word.len();
        at = end + line[end..].chars().next().map_or(0, char::len_utf8);
        (word.len() > 3 && crate::secrets::may_be_secret(word)).then_some(end)
    });
    let account = line.find("://").and_then(|n| {
        let host = &line[n + 3..];
        host.contains('@').then(|| host.find([':', '/', '@'])).flatten().map(|m| n + 3 + m + 1)
    });
    named.into_iter().chain(account).min()
}

/// What a kind would call a secret in statements that stand behind a comment sign: putting one there makes
/// nothing public.
pub(crate) fn behind_marks(kind: &dyn Kind, text: &str) -> Vec<Range<usize>> {
    let Some(mark) = kind.profile().comment else { return Vec::new() };
    let mut found = Vec::new();
    let mut start = 0;
    for line in text.split('\n') {
        let from = start;
        start += line.len() + 1;
        let Some(statement) =
            line.trim_start().strip_prefix(mark).map(str::trim_start).filter(|s| !s.is_empty())
        else {
            continue;
        };
        let at = from + line.len() - statement.len();
        let concealed = kind.conceal(statement, "").unwrap_or_default();
        // A comment is mostly a sentence: only what it begins with can be a name.
        let name = statement.split([' ', '\t', '=']).next().unwrap_or_default();
        let unknown = concealed.unknown.into_iter().filter(|_| names_secret(kind, name));
        let secret = concealed.secret.into_iter().chain(unknown);
        found.extend(secret.map(|s| at + s.start..at + s.end));
    }
    found
}
