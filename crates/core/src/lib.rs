//! Facts about a host in, a ranked diagnosis and reversible fixes out.
//!
//! Data flows one way: a [`host::Host`] is asked through a [`snapshot::Snapshot`], checks turn facts into
//! findings, findings are joined and ranked into causes, causes offer fixes, and a fix is carried out through
//! a [`fix::HostWriter`] under a journal. Nothing here prints, parses arguments or calls the system.
#![forbid(unsafe_code)]

/// Committed data as the build prepared them (`build.rs`).
macro_rules! data {
    ($name:literal) => {
        include_str!(concat!(env!("OUT_DIR"), "/", $name))
    };
}
pub(crate) use data;

pub mod access;
pub mod accounts;
pub mod application;
pub mod bounds;
pub mod bundle;
pub mod campaign;
pub mod case;
pub mod chain;
pub mod checks;
pub mod code;
pub mod config;
pub mod finding;
pub mod fix;
pub mod host;
pub mod keys;
pub mod kinds;
pub mod left_behind;
pub mod log;
mod logins;
pub mod manager;
pub mod names;
pub mod net;
pub mod not_seen;
pub mod packages;
pub mod paste;
pub mod path;
pub mod ports;
pub mod rank;
pub mod report;
pub mod route;
pub mod runtime;
pub mod secrets;
pub mod service;
pub mod services_file;
pub mod serving;
pub mod snapshot;
#[cfg(test)]
mod tests;
pub mod trust;
