use crate::called::{NAME, called};
use crate::error::CliError;
use crate::exit::Status;
use crate::help;
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

pub(crate) fn completions(arguments: &Completions) -> Result<Status, CliError> {
    let shell = arguments.shell.to_string();
    let shells = clap_complete::env::Shells::builtins();
    let found = shells.completer(&shell).ok_or_else(|| CliError::usage(format!("{shell} is not known")))?;
    let mut text = Vec::new();
    // The script asks the program itself, which knows the services of its host.
    found.write_registration(help::COMPLETE, NAME, NAME, &called(), &mut text)?;
    match std::io::stdout().write_all(&text) {
        Err(error) if error.kind() != std::io::ErrorKind::BrokenPipe => Err(error.into()),
        _ => Ok(Status::Well),
    }
}

pub(crate) fn manpages(arguments: &Manpages, program: &Command) -> Result<Status, CliError> {
    let fault = |e: std::io::Error| CliError::not_seen(format!("{}: {e}", arguments.dir.display()));
    std::fs::create_dir_all(&arguments.dir).map_err(fault)?;
    let write = |command: &Command, name: &str| {
        let file = arguments.dir.join(format!("{}.1", name.replace(' ', "-")));
        let page = help::manual_page(command, name).map_err(fault)?;
        jolly_linux::write_output(&file, &page, 0o644).map_err(CliError::not_seen)
    };
    write(program, NAME)?;
    for command in program.get_subcommands().filter(|c| c.get_name() != "help") {
        write(command, &format!("{} {}", NAME, command.get_name()))?;
    }
    Ok(Status::Well)
}
