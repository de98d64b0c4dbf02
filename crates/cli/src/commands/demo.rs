use crate::error::CliError;
use crate::exit::Status;
use crate::options::Global;
use clap::Args;
use std::path::PathBuf;

/// The full example on made-up data: break, diagnose, fix, verify.
///
/// Needs no root, no network and no other software. Everything happens in a temporary directory, with small
/// stand-in daemons on loopback ports of its own, and is cleaned up afterwards.
#[derive(Args, Debug)]
#[command(after_help = "Examples:\n  jolly-sentinel demo\n  jolly-sentinel demo --keep /tmp/quay1\n  \
        jolly-sentinel demo --clean /tmp/quay1\n\n\
        Exit status: 0 the whole story went well, 1 a part of it did not.")]
pub(crate) struct Arguments {
    /// Lay the host out in this directory and leave it there for playing
    #[arg(long, value_name = "DIR")]
    keep: Option<PathBuf>,
    /// End the daemons of such a directory, and remove it
    #[arg(long, value_name = "DIR", conflicts_with = "keep")]
    clean: Option<PathBuf>,
}

pub(crate) fn run(arguments: &Arguments, global: &Global) -> Result<Status, CliError> {
    crate::demo::run(arguments.keep.as_deref(), arguments.clean.as_deref(), global)
}
