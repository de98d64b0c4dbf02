//! The demo: the made-up host laid out in a directory, small stand-in daemons, and the story told on it.
mod behind;
mod host;
mod stand_in;
mod story;

use crate::error::CliError;
use crate::exit::Status;
use crate::options::Global;
use std::path::Path;
use std::process::ExitCode;

/// Runs as a stand-in daemon when called by the name of one; `None` in every ordinary call.
pub(crate) fn stand_in() -> Option<ExitCode> {
    stand_in::run()
}

/// Tells the story, or lays the host out and leaves it, or takes such a host away.
pub(crate) fn run(keep: Option<&Path>, clean: Option<&Path>, global: &Global) -> Result<Status, CliError> {
    match (keep, clean) {
        (_, Some(dir)) => story::clean(dir),
        (Some(dir), _) => story::keep(dir, global),
        (None, None) => story::tell(global),
    }
}
