//! Checks: pure functions from a case to findings. One concern, one file; this is the list of all.
mod accounts;
mod attempt;
mod certificates;
pub(crate) mod configuration;
mod data;
mod denied;
mod files;
mod guesses;
mod logs;
mod manager;
mod operators;
mod policy;
mod ports;
mod processes;
mod resources;
mod runtime;
mod sandbox;
mod starters;
mod unit;
mod upstreams;

use crate::case::Case;
use crate::finding::Finding;
use crate::snapshot::Snapshot;

/// A check.
pub type Check = fn(&Snapshot, &Case) -> Vec<Finding>;

/// All checks.
pub static CHECKS: &[Check] = &[
    manager::check,
    unit::check,
    starters::check,
    operators::check,
    runtime::check,
    configuration::check,
    files::check,
    data::check,
    denied::check,
    sandbox::check,
    policy::check,
    certificates::check,
    logs::check,
    resources::check,
    ports::check,
    guesses::check,
    upstreams::check,
    processes::check,
    accounts::check,
    attempt::check,
];

/// Runs every check.
pub fn run(snapshot: &Snapshot, case: &Case) -> Vec<Finding> {
    CHECKS.iter().flat_map(|check| check(snapshot, case)).chain(case.met.iter().cloned()).collect()
}

#[cfg(test)]
mod tests;
