//! The demo. (Laid out in a later step.)
use crate::args::Global;
use crate::error::CliError;
use crate::exit::Status;
use std::path::Path;
use std::process::ExitCode;

pub(crate) fn stand_in() -> Option<ExitCode> {
    None
}

pub(crate) fn run(_: Option<&Path>, _: &Global) -> Result<Status, CliError> {
    Err(CliError::usage("not yet"))
}
