//! What a plan is: its steps and edits, what it changes as a diff, and what can go wrong.
use super::Step;
use crate::code::Code;
use crate::config::Span;
use crate::kinds::Kind;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::HashMap;

/// How much can go wrong.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Risk {
    /// Hardly anything.
    Low,
    /// Somebody may notice.
    Medium,
    /// Something else goes down.
    High,
}

/// A value that a fix takes.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Parameter {
    /// Name, as for `--set NAME=VALUE`.
    pub name: String,
    /// Value that is used unless another is given.
    pub value: String,
}

/// A fix, ready to be shown or carried out.
#[derive(Clone, Debug)]
pub struct Plan {
    /// Id, as for `--pick`.
    pub id: String,
    /// One sentence.
    pub title: String,
    /// The cause it is for.
    pub cause: Code,
    /// What can go wrong.
    pub risk: Risk,
    /// Whether undo puts everything back.
    pub reversible: bool,
    /// Values it takes.
    pub parameters: Vec<Parameter>,
    /// Steps, without edits of files and the start of the service itself.
    pub steps: Vec<Step>,
    /// Edits of files; those of several plans are put together before they are carried out.
    pub edits: Vec<(Span, String)>,
    /// Diff of the files it edits.
    pub diff: String,
    /// What a person should know: places left alone, what else goes down.
    pub remarks: Vec<String>,
}

/// What changes in a file, secrets masked.
pub(super) fn diff(kind: Option<&dyn Kind>, file: &str, before: &[u8], after: &[u8]) -> String {
    let mark = kind.and_then(|k| k.profile().comment);
    let (before, after) = shown(kind, mark, &String::from_utf8_lossy(before), &String::from_utf8_lossy(after));
    let name = file.trim_start_matches('/');
    similar::TextDiff::from_lines(&before, &after).unified_diff().context_radius(3).header(&format!("a/{name}"), &format!("b/{name}")).to_string()
}

/// Both texts masked. A statement that was put behind a comment sign is no statement any more, and shows no more of itself than it
/// did before.
fn shown(kind: Option<&dyn Kind>, mark: Option<&str>, before: &str, after: &str) -> (String, String) {
    let masked = |text: &str| crate::host::mask_source(kind, text);
    let (safe_before, safe_after) = (masked(before), masked(after));
    // A mask may take the place of several lines; then the two cannot be laid side by side.
    let same = before.lines().count() == safe_before.lines().count() && after.lines().count() == safe_after.lines().count();
    let Some(mark) = mark.filter(|_| same) else { return (safe_before, safe_after) };
    let known: HashMap<&str, &str> = before.lines().map(str::trim).zip(safe_before.lines().map(str::trim)).collect();
    let one = |(raw, safe): (&str, &str)| {
        let behind = raw.trim_start().strip_prefix(mark).map(str::trim);
        match behind.and_then(|statement| Some((statement, known.get(statement)?))) {
            Some((statement, known)) => raw.replace(statement, known) + "\n",
            None => safe.to_owned() + "\n",
        }
    };
    let mut lines: String = after.lines().zip(safe_after.lines()).map(one).collect();
    if !after.ends_with('\n') {
        lines.pop();
    }
    (safe_before, lines)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_put_behind_a_comment_sign_stays_masked() {
        let kind = crate::kinds::kind("httpd");
        let (before, after) = ("Listen 80\nUse Site tide1\n", "Listen 80\n# Use Site tide1\n");
        let shown = diff(kind, "/etc/a.conf", before.as_bytes(), after.as_bytes());
        assert!(!shown.contains("tide1") && shown.contains("+# Use Site MASKED"), "{shown}");
    }
}
