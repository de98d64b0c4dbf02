//! The list of commands, and which code carries each of them out.
use crate::commands;
use crate::context::Context;
use crate::error::CliError;
use crate::exit::Status;
use crate::options::{Global, with_own_forms};
use clap::{CommandFactory, FromArgMatches, Parser, Subcommand};
use std::ffi::OsString;

/// Finds out why a server daemon does not start or answer, puts it right reversibly, and proves the recovery.
///
/// Nothing is changed unless --apply is given; every change is journalled and can be undone to the byte.
#[derive(Debug, Parser)]
#[command(
    name = "jolly-sentinel",
    version,
    propagate_version = false,
    max_term_width = 100,
    next_line_help = false,
    after_help = "Examples:\n  jolly-sentinel diagnose    everything that is wanted and not well\n  \
                  jolly-sentinel demo        the full example: made-up data, no root, no network\n\n\
                  Environment: JOLLY_SENTINEL_STATE_DIR stands for --state-dir, and so on for each of these \
                  options.\n\n\
                  Exit status: 0 well, 1 a problem was found, 2 wrong call, 3 the answer could not be \
                  found out, 4 a change was refused or rolled back."
)]
pub(crate) struct Cli {
    #[command(flatten)]
    pub(crate) global: Global,
    #[command(subcommand)]
    pub(crate) command: Command,
}

/// The commands.
#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    Survey(commands::survey::Arguments),
    Diagnose(commands::diagnose::Arguments),
    Ports(commands::ports::Arguments),
    Lint(commands::lint::Arguments),
    Settings(commands::settings::Arguments),
    Attempts(commands::attempts::Arguments),
    Fix(commands::fix::Arguments),
    Undo(commands::undo::Arguments),
    Verify(commands::verify::Arguments),
    Capture(commands::capture::Arguments),
    Explain(commands::explain::Arguments),
    Demo(commands::demo::Arguments),
    Completions(commands::shell::Completions),
    Manpages(commands::shell::Manpages),
}

/// The program with all that its commands understand.
pub(crate) fn program() -> clap::Command {
    with_own_forms(Cli::command(), |_| true)
}

/// The program as its manual tells of it: shared options stand with every command.
fn built() -> clap::Command {
    let mut program = program();
    program.build();
    let one = |argument: clap::Arg| match argument.get_id().as_str() {
        "help" => argument.help("Print help"),
        _ => argument,
    };
    program.mut_args(one).mut_subcommands(|c| c.mut_args(one))
}

/// Reads a call.
///
/// # Errors
/// What to print, and how to end.
pub(crate) fn read() -> Result<Cli, clap::Error> {
    let words: Vec<OsString> = std::env::args_os().skip(1).collect();
    let program = Cli::command();
    let stands = |name: &str| words.iter().any(|word| word == name);
    // A call pays for the commands that it names; one that names none is about them all.
    let none = !program.get_subcommands().any(|c| stands(c.get_name()));
    let which = |name: &str| none || stands(name);
    let program = crate::help::compact(with_own_forms(program, which), &crate::called::called(), &which);
    Cli::from_arg_matches(&program.try_get_matches()?)
}

/// Carries out the command of a call.
pub(crate) fn run(cli: &Cli) -> Result<Status, CliError> {
    match &cli.command {
        Command::Explain(a) => commands::explain::run(&Context::new(&cli.global)?, a),
        Command::Demo(a) => commands::demo::run(a, &cli.global),
        Command::Completions(a) => commands::shell::completions(a),
        Command::Manpages(a) => commands::shell::manpages(a, &built()),
        Command::Survey(a) => commands::survey::run(&Context::new(&cli.global)?, a),
        Command::Diagnose(a) => commands::diagnose::run(&Context::new(&cli.global)?, a),
        Command::Ports(a) => commands::ports::run(&Context::new(&cli.global)?, a),
        Command::Lint(a) => commands::lint::run(&Context::new(&cli.global)?, a),
        Command::Settings(a) => commands::settings::run(&Context::new(&cli.global)?, a),
        Command::Attempts(a) => commands::attempts::run(&Context::new(&cli.global)?, a),
        Command::Fix(a) => commands::fix::run(&Context::new(&cli.global)?, a),
        Command::Undo(a) => commands::undo::run(&Context::new(&cli.global)?, a),
        Command::Verify(a) => commands::verify::run(&Context::new(&cli.global)?, a),
        Command::Capture(a) => commands::capture::run(&Context::new(&cli.global)?, a),
    }
}
