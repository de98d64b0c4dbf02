//! What an answer could not take into account: a sentence for people, and what a program decides by.
use crate::host::Unseen;
use schemars::{JsonSchema, Schema, SchemaGenerator};
use serde::{Deserialize, Serialize};
use std::borrow::Cow;

/// A part that could not be seen, with the reason. In JSON it is its sentence.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(from = "String", into = "String")]
pub struct NotSeen {
    text: String,
    /// The file that it is about, if it is one.
    file: Option<String>,
    /// Whether rights were missing, so that another account may see it.
    denied: bool,
}

impl NotSeen {
    /// A file or directory that could not be seen.
    pub fn file(path: &str, why: &Unseen) -> Self {
        Self { file: Some(path.to_owned()), ..Self::part(path, why) }
    }

    /// Any other part that could not be seen.
    pub fn part(what: &str, why: &Unseen) -> Self {
        Self { text: format!("{what}: {why}"), file: None, denied: matches!(why, Unseen::Denied) }
    }

    /// The sentence.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// Whether it is about a file.
    pub fn is_of_file(&self) -> bool {
        self.file.is_some()
    }

    /// Whether rights were missing.
    pub fn is_denied(&self) -> bool {
        self.denied
    }

    /// Whether rights were missing for one file.
    pub fn denies(&self, path: &str) -> bool {
        self.denied && self.file.as_deref() == Some(path)
    }
}

impl From<String> for NotSeen {
    fn from(text: String) -> Self {
        Self { text, file: None, denied: false }
    }
}

impl From<&str> for NotSeen {
    fn from(text: &str) -> Self {
        text.to_owned().into()
    }
}

impl From<NotSeen> for String {
    fn from(one: NotSeen) -> Self {
        one.text
    }
}

impl JsonSchema for NotSeen {
    fn inline_schema() -> bool {
        true
    }
    fn schema_name() -> Cow<'static, str> {
        String::schema_name()
    }
    fn json_schema(generator: &mut SchemaGenerator) -> Schema {
        String::json_schema(generator)
    }
}

impl std::fmt::Display for NotSeen {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.text)
    }
}
