//! A list that may not have been seen: then it is `null` in a document, never an empty one.
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A list, or that it could not be seen.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(transparent)]
pub struct Listed<T>(Option<Vec<T>>);

impl<T> Listed<T> {
    /// The list, where it was seen.
    pub fn when(seen: bool, list: Vec<T>) -> Self {
        // What was found all the same is told.
        Self((seen || !list.is_empty()).then_some(list))
    }
    /// Whether it was seen.
    pub fn is_seen(&self) -> bool {
        self.0.is_some()
    }
    /// Adds to it.
    pub fn add(&mut self, more: impl IntoIterator<Item = T>) {
        self.0.get_or_insert_default().extend(more);
    }
}

impl<T> std::ops::Deref for Listed<T> {
    type Target = [T];
    fn deref(&self) -> &[T] {
        self.0.as_deref().unwrap_or_default()
    }
}

impl<'l, T> IntoIterator for &'l Listed<T> {
    type Item = &'l T;
    type IntoIter = std::slice::Iter<'l, T>;
    fn into_iter(self) -> Self::IntoIter {
        self.iter()
    }
}
