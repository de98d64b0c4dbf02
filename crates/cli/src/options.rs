//! Options that every command shares.
use clap::builder::{PossibleValue, TypedValueParser};
use clap::error::{ContextKind, ContextValue};
use clap::{Arg, Args, Command, FromArgMatches as _, ValueEnum};
use std::ffi::OsStr;
use std::path::PathBuf;

/// Options of every command. Each has a variable of the environment; what is said on the command line counts
/// more.
#[derive(Args, Clone, Debug, Default)]
#[command(next_help_heading = "Options of every command")]
pub(crate) struct Global {
    /// Read this directory in place of `/`: a mounted disk, an unpacked image
    #[arg(long, global = true, value_name = "DIR", conflicts_with = "from", env = ROOT, hide_env = true)]
    pub(crate) root: Option<PathBuf>,
    /// Answer from captured evidence
    #[arg(long, global = true, value_name = "BUNDLE", env = FROM, hide_env = true)]
    pub(crate) from: Option<PathBuf>,
    /// A services file, on top of the host's own
    #[arg(long, global = true, value_name = "FILE", env = SERVICES, hide_env = true)]
    pub(crate) services: Option<PathBuf>,
    /// Form of the answer: text, json, sarif, markdown, html
    #[arg(
        long,
        global = true,
        value_enum,
        value_name = "FORM",
        hide_possible_values = true,
        default_value_t = Format::Text,
        env = FORMAT,
        hide_env = true
    )]
    pub(crate) format: Format,
    /// Write the answer to this file
    #[arg(long, global = true, value_name = "FILE", env = "JOLLY_SENTINEL_OUTPUT", hide_env = true)]
    pub(crate) output: Option<PathBuf>,
    /// Colour: auto, always or never
    #[arg(
        long,
        global = true,
        value_enum,
        value_name = "WHEN",
        default_value_t = Colour::Auto,
        hide_possible_values = true,
        env = "JOLLY_SENTINEL_COLOR",
        hide_env = true
    )]
    pub(crate) color: Colour,
    /// Time zone of printed times, such as UTC or Europe/Dublin
    #[arg(long, global = true, value_name = "ZONE", env = "JOLLY_SENTINEL_TIME_ZONE", hide_env = true)]
    pub(crate) time_zone: Option<String>,
    /// Where changes are journalled
    #[arg(long, global = true, value_name = "DIR", env = STATE_DIR, hide_env = true)]
    pub(crate) state_dir: Option<PathBuf>,
    /// Longest wait for any single look, such as 5s
    #[arg(
        long,
        global = true,
        value_name = "TIME",
        default_value = "5s",
        value_parser = parse_time,
        env = "JOLLY_SENTINEL_TIMEOUT",
        hide_env = true
    )]
    pub(crate) timeout: std::time::Duration,
    /// Say less
    #[arg(short, long, global = true, env = "JOLLY_SENTINEL_QUIET", hide_env = true)]
    pub(crate) quiet: bool,
    /// Say more: notes, all evidence
    #[arg(short, long, global = true, env = "JOLLY_SENTINEL_VERBOSE", hide_env = true)]
    pub(crate) verbose: bool,
}

impl Global {
    /// As the environment alone says them; `None` where it says something that cannot be.
    pub(crate) fn of_environment() -> Option<Self> {
        let matches =
            Self::augment_args(Command::new("environment")).try_get_matches_from(["environment"]).ok()?;
        Self::from_arg_matches(&matches).ok()
    }
}

/// The variable for `--root`.
pub(crate) const ROOT: &str = "JOLLY_SENTINEL_ROOT";
/// The variable for `--from`.
pub(crate) const FROM: &str = "JOLLY_SENTINEL_FROM";
/// The variable for `--services`.
pub(crate) const SERVICES: &str = "JOLLY_SENTINEL_SERVICES";
/// The variable for `--format`.
pub(crate) const FORMAT: &str = "JOLLY_SENTINEL_FORMAT";
/// The variable for `--state-dir`.
pub(crate) const STATE_DIR: &str = "JOLLY_SENTINEL_STATE_DIR";

/// Forms of the answers of most commands.
const USUAL: &[Format] = &[Format::Text, Format::Json, Format::Markdown, Format::Html];

/// The forms that the answer of a command can have, the usual one first.
fn forms(command: &str) -> &'static [Format] {
    match command {
        "lint" => &[Format::Text, Format::Json, Format::Sarif, Format::Markdown, Format::Html],
        "capture" => &[Format::Text, Format::Json],
        "demo" | "completions" | "manpages" => &[Format::Text],
        _ => USUAL,
    }
}

/// The commands of these names with the forms that their own answers can have.
pub(crate) fn with_own_forms(mut program: Command, which: impl Fn(&str) -> bool) -> Command {
    let names: Vec<String> = program.get_subcommands().map(|c| c.get_name().to_owned()).collect();
    for name in names.into_iter().filter(|name| which(name)) {
        let forms = forms(&name);
        let list = forms.iter().filter_map(|f| Some(f.to_possible_value()?.get_name().to_owned()));
        let list: Vec<String> = list.collect();
        let mut format = Arg::new("format")
            .long("format")
            .value_name("FORM")
            .help(format!("Form of the answer: {}", list.join(", ")))
            .help_heading("Options of every command")
            .hide_possible_values(true)
            .value_parser(OfCommand(forms))
            .default_value("text");
        // A command that writes one form whatever is asked is not stopped by a variable for the others.
        format = if forms.len() >= USUAL.len() { format.env(FORMAT).hide_env(true) } else { format };
        if forms.len() == 1 {
            format = format.hide(true);
        }
        program = program.mut_subcommand(name, |command| command.arg(format));
    }
    program
}

/// Reads a form that a command can give.
#[derive(Clone)]
struct OfCommand(&'static [Format]);

impl TypedValueParser for OfCommand {
    type Value = Format;

    fn parse_ref(
        &self,
        command: &Command,
        argument: Option<&Arg>,
        value: &OsStr,
    ) -> Result<Self::Value, clap::Error> {
        let of = |f: &&Format| f.to_possible_value().is_some_and(|v| Some(v.get_name()) == value.to_str());
        match self.0.iter().find(of) {
            Some(form) => Ok(*form),
            None => {
                let names: Vec<String> = self
                    .0
                    .iter()
                    .filter_map(|f| Some(f.to_possible_value()?.get_name().to_owned()))
                    .collect();
                let mut error = clap::Error::new(clap::error::ErrorKind::InvalidValue).with_cmd(command);
                let named = argument.map_or_else(|| "--format <FORM>".to_owned(), ToString::to_string);
                let insert = |error: &mut clap::Error, kind, text| {
                    error.insert(kind, ContextValue::String(text));
                };
                insert(&mut error, ContextKind::InvalidArg, named);
                insert(&mut error, ContextKind::InvalidValue, value.to_string_lossy().into_owned());
                error.insert(ContextKind::ValidValue, ContextValue::Strings(names));
                Err(error)
            }
        }
    }

    fn possible_values(&self) -> Option<Box<dyn Iterator<Item = PossibleValue> + '_>> {
        Some(Box::new(self.0.iter().filter_map(Format::to_possible_value)))
    }
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
        .map_err(|_| format!("\"{text}\" is not a time; expected, for example, 500ms, 3s or 2m"))?;
    let factor = match unit {
        "ms" => 0.001,
        "" | "s" => 1.0,
        "m" => 60.0,
        "h" => 3600.0,
        "d" => 86400.0,
        _ => return Err(format!("\"{unit}\" is not a unit of time; expected ms, s, m, h or d")),
    };
    if !(0.0..=1e9).contains(&(number * factor)) {
        return Err(format!("\"{text}\" is not a time that can be waited for"));
    }
    Ok(std::time::Duration::from_secs_f64(number * factor))
}
