//! Pages: how each report reads to a person. The facts and their order are those of the report.
pub(crate) mod attempts;
pub(crate) mod chain;
pub(crate) mod diagnosis;
pub(crate) mod fix;
pub(crate) mod lint;
mod outcome;
pub(crate) mod ports;
pub(crate) mod settings;
pub(crate) mod survey;
mod timeline;
pub(crate) mod verify;
pub(crate) mod when;
