//! Secrets of configuration files, by the grammar of the kind that reads them.
use super::Kind;
use crate::secrets::{Text, apart, mask_settings, masked, meets, spans_outside};
use std::borrow::Cow;
use std::ops::Range;

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
    masked(text, &apart(found))
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
        let secret = kind.conceal(statement, "").map(|c| c.secret).unwrap_or_default();
        found.extend(secret.into_iter().map(|s| at + s.start..at + s.end));
    }
    found
}
