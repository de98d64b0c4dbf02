//! Logs: the journal, files with their rotated predecessors, start attempts put together from both, and
//! failures recognised.
mod attempt;
mod attempts;
mod boots;
mod catalogue;
mod choose;
mod grammar;
mod index;
pub mod journal;
mod pieces;
mod placer;
mod receiver;
mod record;
mod request;
mod scan;
mod settle;
mod stamp;
mod tail;
mod words;
mod zone;
mod zones;

pub use attempt::{Afterwards, Attempt, Failure, LogPart, Outcome, StartedBy};
#[cfg(test)]
pub(crate) use attempts::data_faults;
pub use attempts::{Attempts, attempts};
pub use catalogue::{Catalogue, Match, Rule};
pub use grammar::{Around, Grammar, Head, Mark, OwnRules};
pub use pieces::{files_of, predecessor, unrotated};
pub use receiver::FILES as RECEIVER_FILES;
pub use request::{LogOwner, Request as AttemptRequest};
pub use tail::{Tail, TailLine, count_lines};
pub use words::Weight;
pub use zone::{format_time, host_zone, zone_named};

static GENERAL: Catalogue = Catalogue::new(crate::data!("log/general.json"));

static OF_MANAGER: Catalogue = Catalogue::new(crate::data!("log/failures.json"));

/// What the manager's own words about a failed start mean.
pub fn of_manager() -> &'static Catalogue {
    &OF_MANAGER
}

/// What loaders, shells and runtimes say about any program.
pub fn general() -> &'static Catalogue {
    &GENERAL
}

#[cfg(test)]
mod tests;
