//! Help, completions and manual pages: what the commands tell of themselves.
use crate::called::NAME;
use crate::context::Context;
use crate::options::Global;
use clap::Command;
use clap_complete::engine::{ArgValueCandidates, CompletionCandidate};
use jolly_core::code::PAGES;
use jolly_core::fix::FIXES;
use jolly_core::kinds::KINDS;

/// The variable by which a shell asks for completions.
pub(crate) const COMPLETE: &str = "JOLLY_SENTINEL_COMPLETE";

/// Help that fits on a page, long or short: one line for each option; examples with the name that the program
/// was called by. Of the commands below only those of these names are treated.
pub(crate) fn compact(mut command: Command, called: &str, which: &impl Fn(&str) -> bool) -> Command {
    if let Some(long) = command.get_long_about().map(ToString::to_string) {
        let rest = long.split_once("\n\n").map(|(_, rest)| rest.to_owned());
        command = command.long_about(None::<&str>);
        if let Some(rest) = rest {
            let about = command.get_about().map(ToString::to_string).unwrap_or_default();
            let whole = if about.ends_with('?') { about } else { format!("{about}.") };
            command = command
                .about(whole)
                .before_help(rest)
                .help_template("{about}\n\n{before-help}{usage-heading} {usage}\n\n{all-args}{after-help}");
        }
    }
    if called != NAME
        && let Some(after) = command.get_after_help().map(ToString::to_string)
    {
        command = command.after_help(after.replace(&format!("{NAME} "), &format!("{called} ")));
    }
    command.mut_subcommands(|sub| if which(sub.get_name()) { compact(sub, called, which) } else { sub })
}

/// What a shell can complete: services of this host, fixes, codes and kinds.
pub(crate) fn completing(command: Command) -> Command {
    let command = command.mut_args(|argument| {
        let of_services = argument.get_value_names().is_some_and(|v| v == ["SERVICE"] || v == ["TARGET"]);
        let candidates: fn() -> Vec<CompletionCandidate> = match argument.get_id().as_str() {
            "pick" => fixes,
            "kind" => kinds,
            "code" => codes,
            _ if of_services => services,
            _ => return argument,
        };
        argument.add(ArgValueCandidates::new(candidates))
    });
    command.mut_subcommands(completing)
}

/// The services of this host and of the services file that the environment names.
fn services() -> Vec<CompletionCandidate> {
    let Some(context) = Global::of_environment().and_then(|global| Context::new(&global).ok()) else {
        return Vec::new();
    };
    let snapshot = context.snapshot();
    let mut names: Vec<String> = context.all_services(&snapshot).into_iter().map(|s| s.name).collect();
    names.sort_unstable();
    names.dedup();
    // What a shell would take for an option, or for more than a word, is not offered: it is put on the line
    // as it is.
    names.retain(|n| is_word(n));
    names.into_iter().map(CompletionCandidate::new).collect()
}

/// Whether a shell takes a name for nothing but a word.
fn is_word(name: &str) -> bool {
    !name.starts_with('-')
        && name.chars().all(|c| c.is_alphanumeric() || matches!(c, '-' | '_' | '.' | '@' | ':' | '+'))
}

fn fixes() -> Vec<CompletionCandidate> {
    FIXES.iter().map(|f| CompletionCandidate::new(f.id)).collect()
}

fn kinds() -> Vec<CompletionCandidate> {
    KINDS.iter().map(|k| CompletionCandidate::new(k.name())).collect()
}

fn codes() -> Vec<CompletionCandidate> {
    PAGES.iter().map(|p| CompletionCandidate::new(p.name).help(Some(p.title.into()))).collect()
}

/// The manual page of a command, whose name begins with those of the commands that it belongs to.
///
/// # Errors
/// The system's words.
pub(crate) fn manual_page(command: &Command, name: &str) -> std::io::Result<Vec<u8>> {
    use clap_mangen::roff::{Roff, bold, roman};
    let man = clap_mangen::Man::new(command.clone())
        .manual("Jolly Sentinel")
        .source(format!("{NAME} {}", env!("CARGO_PKG_VERSION")));
    let mut page = Vec::new();
    man.render_title(&mut page)?;
    man.render_name_section(&mut page)?;
    // The summary of clap names every option twice over and none of its values: the usage line is the rule.
    let usage = command.clone().bin_name(name).render_usage().to_string();
    let usage = usage.trim_start_matches("Usage:").trim().trim_start_matches(name).trim().to_owned();
    let mut roff = Roff::new();
    roff.control("SH", ["SYNOPSIS"]);
    roff.text([bold(name), roman(format!(" {usage}"))]);
    roff.to_writer(&mut page)?;
    man.render_description_section(&mut page)?;
    man.render_options_section(&mut page)?;
    if command.has_subcommands() {
        let mut roff = Roff::new();
        roff.control("SH", ["COMMANDS"]);
        for sub in command.get_subcommands().filter(|s| s.get_name() != "help") {
            roff.control("TP", []);
            roff.text([bold(format!("{name}-{}(1)", sub.get_name()))]);
            roff.text([roman(sub.get_about().map(ToString::to_string).unwrap_or_default())]);
        }
        roff.to_writer(&mut page)?;
    }
    let after = command.get_after_help().map(ToString::to_string).unwrap_or_default();
    for part in after.split("\n\n").filter(|p| !p.trim().is_empty()) {
        let (heading, rest) = part.split_once(':').unwrap_or(("Notes", part));
        let mut roff = Roff::new();
        roff.control("SH", [heading.to_uppercase().as_str()]);
        if rest.starts_with('\n') {
            roff.control("nf", []);
            for line in rest.lines().filter(|l| !l.trim().is_empty()) {
                roff.text([roman(line.trim())]);
            }
            roff.control("fi", []);
        } else {
            roff.text([roman(rest.split_whitespace().collect::<Vec<_>>().join(" "))]);
        }
        roff.to_writer(&mut page)?;
    }
    Ok(page)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn nothing_is_offered_that_a_shell_would_carry_out() {
        for name in ["nginx", "postgresql@15-main", "tide.relay", "a:b", "gezeiten-ü"] {
            assert!(is_word(name), "{name}");
        }
        for name in
            ["-x", "$(id)", "a b", "a;b", "`id`", "a'b", "~marta", "a\\x20b", "a\nb", "*", "{a,b}", "#"]
        {
            assert!(!is_word(name), "{name}");
        }
    }
}
