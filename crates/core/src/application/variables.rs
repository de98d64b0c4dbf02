//! Variables that stand in values: those of the environment, and others of the same files.
use super::{Entry, Value};
use std::collections::BTreeMap;

/// How many times a value may lead to another one.
const DEEP: usize = 8;
/// How many variables are replaced in one value, those in their values included.
const REPLACED: usize = 64;

/// Values by the names by which others ask for them.
#[derive(Clone, Debug, Default)]
pub struct Variables(BTreeMap<String, String>);

impl Variables {
    /// The variables of an environment.
    pub fn of_environment<'a>(environment: impl IntoIterator<Item = (&'a String, &'a String)>) -> Self {
        Self(environment.into_iter().map(|(n, v)| (n.clone(), v.clone())).collect())
    }

    /// Takes along what a file sets, under the names that lead to it, joined by dots. What is known stays.
    pub fn add(&mut self, entries: &[Entry]) {
        for one in entries {
            if let Value::Text(text) = &one.value {
                self.0.entry(one.names.join(".")).or_insert_with(|| text.clone());
            }
        }
    }

    /// A value with its variables replaced; `None` where one of them is not known.
    pub fn resolved(&self, value: &Value) -> Option<String> {
        match value {
            Value::Text(text) => self.replaced(text, 0, &mut 0),
            Value::Asked { variable, fallback } => self.0.get(variable).cloned().or_else(|| fallback.clone()),
        }
    }

    /// `${NAME}`, `${NAME:fallback}`, `${NAME:-fallback}`, `%env(NAME)%`: the ways of properties, shells and
    /// containers of services.
    fn replaced(&self, text: &str, deep: usize, count: &mut usize) -> Option<String> {
        if deep > DEEP || text.len() > crate::bounds::VALUE {
            return None;
        }
        let mut out = String::new();
        let mut rest = text;
        loop {
            let next = ["${", "%env("].iter().filter_map(|sign| Some((rest.find(*sign)?, *sign))).min();
            let Some((at, sign)) = next else {
                out.push_str(rest);
                return Some(out);
            };
            out.push_str(&rest[..at]);
            *count += 1;
            // Values that stand in each other several times double.
            if *count > REPLACED || out.len() > crate::bounds::VALUE {
                return None;
            }
            let inner = &rest[at + sign.len()..];
            let close = if sign == "${" { "}" } else { ")%" };
            let end = inner.find(close)?;
            let asked = &inner[..end];
            let (name, fallback) = match (sign, asked.split_once(':')) {
                ("${", Some((name, fallback))) => {
                    (name, Some(fallback.strip_prefix('-').unwrap_or(fallback)))
                }
                // What stands before the name says how it is cast.
                ("%env(", Some(_)) => (asked.rsplit(':').next().unwrap_or(asked), None),
                _ => (asked, None),
            };
            match (self.0.get(name), fallback) {
                (Some(value), _) => out.push_str(&self.replaced(value, deep + 1, count)?),
                (None, Some(fallback)) => out.push_str(fallback),
                (None, None) => return None,
            }
            rest = &inner[end + close.len()..];
        }
    }
}
