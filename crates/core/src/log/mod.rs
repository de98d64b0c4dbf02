//! Logs: the journal, files read from their end, start attempts put together from both, and failures recognised.
mod attempts;
mod catalogue;
mod grammar;
pub mod journal;
mod tail;
mod zone;

#[cfg(test)]
pub(crate) use attempts::data_faults;
pub use attempts::{Afterwards, Attempt, Attempts, Failure, LogPart, Outcome, Request as AttemptRequest, StartedBy, attempts};
pub use catalogue::{Catalogue, Match, Rule};
pub use grammar::{Grammar, Head, Mark};
pub use tail::{Tail, TailLine, count_lines};
pub use zone::{format_time, host_zone, zone_named};

static GENERAL: Catalogue = Catalogue::new(include_str!("general.toml"));

/// What loaders, shells and runtimes say about any program.
pub fn general() -> &'static Catalogue {
    &GENERAL
}

#[cfg(test)]
mod tests;
