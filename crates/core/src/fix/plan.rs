//! What a plan is: its steps and edits, what it changes as a diff, and what can go wrong.
use super::{Client, Needs, Step};
use crate::case::Case;
use crate::code::Code;
use crate::config::Span;
use crate::kinds::Kind;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

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
    /// Whether it is carried out only where a person picks it: what asks for it is a line that the service's
    /// own account could have written.
    pub by_choice: bool,
    /// Other services whose configuration points here and is changed along.
    pub clients: Vec<Client>,
    /// What a running service needs afterwards.
    pub needs: Needs,
    /// Whether the service listens elsewhere afterwards.
    pub moves: bool,
}

impl Plan {
    /// Leaves the choice to a person, who is told what asks for it and could be somebody else's word.
    pub(super) fn leave_to_choice(&mut self, what: &str, case: &Case) {
        self.by_choice = true;
        self.risk = self.risk.max(Risk::Medium);
        self.remarks.push(format!(
            "{what} is asked for only by what others than root can write, such as {}; so this is done only \
                where it is picked by its id",
            case.starter.name
        ));
    }
}

/// What changes in a file, secrets masked.
pub(super) fn diff(kind: Option<&dyn Kind>, file: &str, before: &[u8], after: &[u8]) -> String {
    let shown = |bytes: &[u8]| crate::kinds::mask_source(kind, &String::from_utf8_lossy(bytes));
    let (before, after) = (shown(before), shown(after));
    let name = file.trim_start_matches('/');
    similar::TextDiff::from_lines(&before, &after)
        .unified_diff()
        .context_radius(3)
        .header(&format!("a/{name}"), &format!("b/{name}"))
        .to_string()
}
