//! The vocabulary of codes: one code, one meaning, one page of `explain`, and all that other rooms must know
//! of it. This list is the only one: a code cannot be written down without these facts.

/// Stages of a start: smaller is earlier.
pub mod stage {
    /// The manager does not even try.
    pub const MANAGER: u8 = 0;
    /// The program cannot be executed, or its account does not exist.
    pub const EXECUTE: u8 = 1;
    /// The configuration is read.
    pub const CONFIG: u8 = 2;
    /// Files are opened.
    pub const FILES: u8 = 3;
    /// Sockets are bound.
    pub const BIND: u8 = 4;
    /// It runs.
    pub const RUN: u8 = 5;
    /// Only the outcome is known.
    pub const OUTCOME: u8 = 6;
    /// It runs, and a request fails.
    pub const REQUEST: u8 = 7;
}

/// When two findings of a code are about the same thing, beside being about the same subject.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Joins {
    /// Only then.
    Subject,
    /// Always: a service has one of these.
    Always,
    /// Always, whatever the subject: a server has one set of data and one memory.
    OnePerServer,
    /// By the port or the process that holds it, with any other code about binding.
    Binding,
    /// By the port.
    Port,
    /// Where they are told by a log, or the subject is the very same.
    ToldOrEqual,
    /// Where a log tells of it without naming anything.
    ToldWithoutSubject,
    /// Where they are told by a log, or have the same remedy.
    Remedy,
}

/// Whether a code is about a service that runs; all others are about its next start.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Ails {
    /// It is not.
    Never,
    /// It is.
    Always,
    /// It is where it was found while the service ran.
    WhileItRuns,
}

/// What on the host tells whether something that a log said is still so.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Still {
    /// Nothing does by itself.
    Untold,
    /// Who holds the address, or whether the process is there.
    Holder,
    /// Whether the unit was changed since.
    Unit,
    /// How the service stands.
    Outcome,
    /// Whether the path exists.
    Path,
    /// Whether an interface has the address.
    Address,
    /// Whether the account exists.
    Account,
    /// Our own reading of the configuration.
    Reading,
}

/// What is known of a code: its page of `explain`, and how it counts.
#[derive(Debug)]
pub struct CodeFacts {
    /// The code.
    pub code: Code,
    /// Its name as scripts see it.
    pub name: &'static str,
    /// Whether it explains why a service does not start or answer; otherwise it is a note.
    pub is_cause: bool,
    /// The service does not start or answer because …
    pub title: &'static str,
    /// What it means.
    pub meaning: &'static str,
    /// How it is recognised.
    pub recognised: &'static str,
    /// What puts it right.
    pub remedy: &'static str,
    /// When in a start it strikes.
    pub stage: u8,
    /// When two findings of it are one.
    pub joins: Joins,
    /// Whether it is about a file or directory that a log may name.
    pub is_of_file: bool,
    /// Whether it is about a service that runs.
    pub ails: Ails,
    /// Whether it only happened, and tells nothing of the next start.
    pub is_past: bool,
    /// Whether it only says how a start ended, and not why.
    pub is_outcome: bool,
    /// Whether it follows where the service's account does not exist.
    pub needs_account: bool,
    /// What tells whether it is still so.
    pub still: Still,
}

mod list;

pub use list::{Code, PAGES};

impl Code {
    /// Its page.
    pub fn facts(self) -> &'static CodeFacts {
        // Variants and pages come from one list, in one order.
        &PAGES[self as usize]
    }
    /// Its name as scripts see it.
    pub fn name(self) -> &'static str {
        self.facts().name
    }
    /// The code of that name.
    pub fn parse(name: &str) -> Option<Self> {
        PAGES.iter().find(|p| p.name == name).map(|p| p.code)
    }
}

impl std::fmt::Display for Code {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(self.name())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_list_is_in_order_unique_explained_and_serialised_by_its_names() {
        let mut seen = std::collections::BTreeSet::new();
        for (place, page) in PAGES.iter().enumerate() {
            assert_eq!(page.code as usize, place, "{}", page.name);
            assert!(seen.insert(page.name));
            assert_eq!(serde_json::to_value(page.code).unwrap(), page.name);
            assert_eq!(Code::parse(page.name), Some(page.code));
            for text in [page.meaning, page.recognised, page.remedy] {
                assert!(text.ends_with('.') && text.len() > 7, "{}: {text}", page.name);
            }
            assert!(!page.title.ends_with('.'));
        }
    }
}
