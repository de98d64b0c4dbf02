//! Options that every command shares.
use clap::{Args, ValueEnum};
use std::path::PathBuf;

/// Options of every command.
#[derive(Args, Clone, Debug, Default)]
#[command(next_help_heading = "Options of every command")]
pub(crate) struct Global {
    /// Read this directory in place of `/`: a mounted disk, an unpacked image
    #[arg(long, global = true, value_name = "DIR", conflicts_with = "from")]
    pub(crate) root: Option<PathBuf>,
    /// Answer from captured evidence
    #[arg(long, global = true, value_name = "BUNDLE")]
    pub(crate) from: Option<PathBuf>,
    /// A services file, on top of the host's own
    #[arg(long, global = true, value_name = "FILE")]
    pub(crate) services: Option<PathBuf>,
    /// Form of the answer
    #[arg(long, global = true, value_enum, default_value_t = Format::Text)]
    pub(crate) format: Format,
    /// Write the answer to this file
    #[arg(long, global = true, value_name = "FILE")]
    pub(crate) output: Option<PathBuf>,
    /// Colour
    #[arg(long, global = true, value_enum, default_value_t = Colour::Auto)]
    pub(crate) color: Colour,
    /// Time zone of printed times, such as UTC or Europe/Dublin
    #[arg(long, global = true, value_name = "ZONE")]
    pub(crate) time_zone: Option<String>,
    /// Where changes are journalled
    #[arg(long, global = true, value_name = "DIR")]
    pub(crate) state_dir: Option<PathBuf>,
    /// Longest wait for any single look, such as 5s
    #[arg(long, global = true, value_name = "TIME", default_value = "5s", value_parser = parse_time)]
    pub(crate) timeout: std::time::Duration,
    /// Say less
    #[arg(short, long, global = true)]
    pub(crate) quiet: bool,
    /// Say more: notes, all evidence
    #[arg(short, long, global = true)]
    pub(crate) verbose: bool,
}

/// Form of an answer.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub(crate) enum Format {
    /// For people
    #[default]
    Text,
    /// For scripts
    Json,
    /// SARIF 2.1.0, for lint
    Sarif,
    /// For tickets
    Markdown,
    /// A page of its own
    Html,
}

/// Whether colour is used.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub(crate) enum Colour {
    /// On a terminal, unless NO_COLOR is set
    #[default]
    Auto,
    /// Always
    Always,
    /// Never
    Never,
}

/// A duration such as `500ms`, `3s`, `2m`; a bare number is seconds.
pub(crate) fn parse_time(text: &str) -> Result<std::time::Duration, String> {
    let digits = text.trim_end_matches(|c: char| c.is_ascii_alphabetic());
    let unit = &text[digits.len()..];
    let number: f64 = digits
        .parse()
        .map_err(|_| format!("{text:?} is not a time; expected, for example, 500ms, 3s or 2m"))?;
    let factor = match unit {
        "ms" => 0.001,
        "" | "s" => 1.0,
        "m" => 60.0,
        "h" => 3600.0,
        "d" => 86400.0,
        _ => return Err(format!("{unit:?} is not a unit of time; expected ms, s, m, h or d")),
    };
    if !(0.0..=1e9).contains(&(number * factor)) {
        return Err(format!("{text:?} is not a time that can be waited for"));
    }
    Ok(std::time::Duration::from_secs_f64(number * factor))
}
