use crate::error::CliError;
use crate::exit::Status;
use clap::{Args, Command};
use std::io::Write;
use std::path::PathBuf;

/// Print a completion script for a shell.
#[derive(Args, Debug)]
#[command(after_help = "Example:\n  jolly-sentinel completions bash > /etc/bash_completion.d/jolly-sentinel")]
pub(crate) struct Completions {
    /// Shell
    #[arg(value_name = "SHELL", value_enum)]
    shell: clap_complete::Shell,
}

/// Write manual pages into a directory.
#[derive(Args, Debug)]
#[command(after_help = "Example:\n  jolly-sentinel manpages /usr/local/share/man/man1")]
pub(crate) struct Manpages {
    /// Directory; it is made when it is missing
    #[arg(value_name = "DIR")]
    dir: PathBuf,
}

pub(crate) fn completions(arguments: &Completions, mut program: Command) -> Result<Status, CliError> {
    let mut text = Vec::new();
    clap_complete::generate(arguments.shell, &mut program, "jolly-sentinel", &mut text);
    match std::io::stdout().write_all(&text) {
        Err(error) if error.kind() != std::io::ErrorKind::BrokenPipe => Err(error.into()),
        _ => Ok(Status::Well),
    }
}

pub(crate) fn manpages(arguments: &Manpages, program: Command) -> Result<Status, CliError> {
    let fault = |e: std::io::Error| CliError::not_seen(format!("{}: {e}", arguments.dir.display()));
    std::fs::create_dir_all(&arguments.dir).map_err(fault)?;
    clap_mangen::generate_to(program, &arguments.dir).map_err(fault)?;
    Ok(Status::Well)
}
