//! Chores of this repository.
mod bench;
mod bench_lint;
mod bench_logs;
mod captures;
mod chance;
mod corpus;
mod daemons;
mod fuzz;
mod harvest;
mod harvest_options;
mod harvest_samples;
mod harvest_settings;
mod history;
mod host;
mod live;
mod pictures;
mod records;
mod routes;
mod samples;
mod sweep;
mod walk;
mod walk_booted;

use std::path::{Path, PathBuf};
use std::process::ExitCode;

fn main() -> ExitCode {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let words: Vec<&str> = arguments.iter().map(String::as_str).collect();
    let outcome = match words.as_slice() {
        ["harvest", "haproxy", dumps @ ..] => harvest_samples::run(dumps),
        ["harvest", "mysql", answers @ ..] => harvest_options::mysql(answers),
        ["harvest", "postgresql", files @ ..] => harvest_settings::postgresql(files),
        ["harvest", kind, first, more @ ..] => {
            harvest::run(kind, &std::iter::once(first).chain(more).map(Path::new).collect::<Vec<_>>())
        }
        ["fuzz"] => fuzz::run(60),
        ["fuzz", "--seconds", seconds] => {
            seconds.parse().map_err(|_| format!("{seconds:?} is not a number")).and_then(fuzz::run)
        }
        ["bench-logs"] => bench_logs::run(1024, &[]),
        ["bench-logs", mib, only @ ..] => mib
            .parse()
            .map_err(|_| format!("{mib:?} is not a number"))
            .and_then(|mib| bench_logs::run(mib, only)),
        ["bench-lint"] => bench_lint::run(10_000),
        ["bench-lint", sites] => {
            sites.parse().map_err(|_| format!("{sites:?} is not a number")).and_then(bench_lint::run)
        }
        ["bench"] => bench::all(),
        ["load-process", role] => bench::hold(*role == "listening"),
        ["captures"] => program().and_then(|p| captures::run(&p)),
        ["corpus", only @ ..] => program().and_then(|p| corpus::run(&p, only)),
        ["samples", only @ ..] => program().and_then(|p| samples::run(&p, only)),
        ["pictures"] => program().and_then(|p| pictures::run(&p)),
        ["attempts"] => program().and_then(|p| history::run(&p, 1, &[])),
        ["attempts", seed, only @ ..] => seed
            .parse()
            .map_err(|_| format!("{seed:?} is not a number"))
            .and_then(|seed| history::run(&program()?, seed, only)),
        ["walk"] => built().and_then(|p| walk::run(&p, false)),
        ["walk", "--all"] => built().and_then(|p| walk::run(&p, true)),
        ["walk", "--booted", only @ ..] => program().and_then(|p| walk_booted::run(&p, 5, only)),
        ["walk", "--booted-all", only @ ..] => program().and_then(|p| walk_booted::run(&p, 1, only)),
        ["walk", "--check"] => walk::check(),
        ["sweep", kind, only @ ..] => sweep::run(kind, only),
        ["routes", kind] => program().and_then(|p| routes::run(&p, kind, 1, 2_000)),
        ["routes", kind, seed, more @ ..] => {
            let number = |text: &str| text.parse::<u64>().map_err(|_| format!("{text:?} is not a number"));
            number(seed).and_then(|seed| {
                let requests = more.first().map_or(Ok(2_000), |n| number(n))?;
                routes::run(&program()?, kind, seed, usize::try_from(requests).unwrap_or(2_000))
            })
        }
        ["live", "--all"] => program().and_then(|p| live::run(&p, &[], true)),
        ["live", only @ ..] => program().and_then(|p| live::run(&p, only, false)),
        _ => Err("chores: attempts [SEED [UNIT…]], harvest KIND SOURCE_DIR…, bench, bench-lint [SITES], \
            bench-logs [MIB [KIND…]], \
            captures, corpus [KIND…], fuzz [--seconds N], \
            routes KIND [SEED [REQUESTS]], samples [KIND…], sweep KIND [NAME…], live [NAME…], \
            pictures, walk [--all | \
            --check | --booted | --booted-all]"
            .into()),
    };
    match outcome {
        Ok(()) => ExitCode::SUCCESS,
        Err(message) => {
            complain(&message);
            ExitCode::FAILURE
        }
    }
}

/// The program, where a host can be booted.
fn program() -> Result<PathBuf, String> {
    let missing = host::missing();
    if !missing.is_empty() {
        return Err(format!("the live ring cannot run here: {}", missing.join("; ")));
    }
    built()
}

/// The program as the tests build it.
fn built() -> Result<PathBuf, String> {
    let built = std::process::Command::new("cargo").args(["build", "--package", "jolly-sentinel"]).status();
    if !built.is_ok_and(|s| s.success()) {
        return Err("the program does not build".into());
    }
    let target = std::env::var_os("CARGO_TARGET_DIR").map_or_else(|| PathBuf::from("target"), PathBuf::from);
    Ok(target.join("debug/jolly-sentinel"))
}

#[expect(clippy::print_stderr, reason = "a chore reports to its caller")]
fn complain(message: &str) {
    eprintln!("xtask: {message}");
}
