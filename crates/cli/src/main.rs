//! The program: arguments in, answers out. Everything it knows comes from the core.
#![forbid(unsafe_code)]

mod called;
mod cli;
mod commands;
mod context;
mod demo;
mod error;
mod exit;
mod help;
mod options;
mod pages;
mod render;

use std::io::Write;
use std::process::ExitCode;

fn main() -> ExitCode {
    if let Some(code) = demo::stand_in() {
        return code;
    }
    // A shell that asks what could come next gets its answer here.
    clap_complete::CompleteEnv::with_factory(|| help::completing(cli::program()))
        .var(help::COMPLETE)
        .bin(called::NAME)
        .complete();
    let cli = match cli::read() {
        Ok(cli) => cli,
        Err(error) => {
            let status = if error.use_stderr() { exit::Status::Usage } else { exit::Status::Well };
            let _ = error.print();
            return status.into();
        }
    };
    match cli::run(&cli) {
        Ok(status) => status.into(),
        Err(error) => {
            // What the caller typed may hold a secret, too: an address with an account.
            let message = jolly_core::secrets::mask_addresses(&error.message);
            let mut text = format!("{}: {}\n", called::called(), render::clean(&message));
            if let Some(hint) = &error.hint {
                text.push_str(&format!("  {}\n", render::clean(hint)));
            }
            let _ = std::io::stderr().write_all(text.as_bytes());
            error.status.into()
        }
    }
}
