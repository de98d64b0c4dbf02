//! Chores of this repository.
mod harvest;

use std::path::Path;
use std::process::ExitCode;

fn main() -> ExitCode {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let words: Vec<&str> = arguments.iter().map(String::as_str).collect();
    let outcome = match words.as_slice() {
        ["harvest", kind, source] => harvest::run(kind, Path::new(source)),
        _ => Err("chores: harvest KIND SOURCE_DIR".into()),
    };
    match outcome {
        Ok(()) => ExitCode::SUCCESS,
        Err(message) => {
            complain(&message);
            ExitCode::FAILURE
        }
    }
}

#[expect(clippy::print_stderr, reason = "a chore reports to its caller")]
fn complain(message: &str) {
    eprintln!("xtask: {message}");
}
