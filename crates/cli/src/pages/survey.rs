//! The page of `survey`.
use super::when::When;
use crate::render::{Block, Page, Tone};
use jolly_core::case::State;
use jolly_core::report::{Outlook, SurveyEntry, SurveyReport};

fn outlook(outlook: Outlook) -> &'static str {
    match outlook {
        Outlook::WouldStart => "would start",
        Outlook::WouldFail => "would fail",
        Outlook::WouldNot => "not tried",
        Outlook::Unknown => "not known",
    }
}

/// What a start would come to, where that is not what the state tells: of what runs only that it would not
/// come back, and of the next boot only what differs from a start now. That a boot is not known stands below.
fn next_start(entry: &SurveyEntry) -> String {
    let expected = entry.state.is_up() && entry.restart_outlook == Outlook::WouldStart;
    let now = if expected { "" } else { outlook(entry.restart_outlook) };
    let boot = match entry.boot_outlook {
        same if same == entry.restart_outlook => String::new(),
        Outlook::Unknown => String::new(),
        other => format!("at boot {}", outlook(other)),
    };
    [now, &boot].into_iter().filter(|part| !part.is_empty()).collect::<Vec<_>>().join(", ")
}

/// The worst comes first: what is wanted and down, what would not come back, then the rest.
fn weight(entry: &SurveyEntry) -> u8 {
    match (tone(entry), entry.restart_outlook, entry.boot_outlook) {
        (Tone::Problem, ..) => 0,
        (_, Outlook::WouldFail, _) => 1,
        (_, _, Outlook::WouldFail) => 2,
        _ => 3,
    }
}

fn tone(entry: &SurveyEntry) -> Tone {
    let bad = entry.wanted
        && matches!(entry.state, State::Failed | State::Degraded | State::Restarting | State::Stopped);
    if bad { Tone::Problem } else { Tone::Plain }
}

pub(crate) fn page(report: &SurveyReport, when: &When, program: &str, single: bool) -> Page {
    let host = report.host.as_deref().unwrap_or("this host");
    let mut page = Page::new(format!("Server daemons on {host}"));
    if report.services.is_empty() {
        page.answer(Tone::Plain, format!("No server daemon was found on {host}."));
        page.text("What has no unit can be described in a services file, and is then known by all commands.");
        page.not_seen(&report.not_seen);
        return page;
    }
    let bad = report.services.iter().filter(|s| tone(s) == Tone::Problem).count();
    let latent = report
        .services
        .iter()
        .filter(|s| s.state == State::Running && s.restart_outlook == Outlook::WouldFail)
        .count();
    let count = report.services.len();
    let noun = if count == 1 { "service" } else { "services" };
    let unseen = report.services.iter().filter(|s| s.state == State::Unknown).count();
    let refused = report
        .services
        .iter()
        .filter(|s| s.state == State::Unknown && s.restart_outlook == Outlook::WouldFail)
        .count();
    let sentence = match (bad, latent) {
        (0, 0) if refused > 0 => {
            format!("{count} {noun} on {host}; {refused} would not start. Whether they run cannot be seen.")
        }
        (0, 0) if unseen > 0 => format!("{count} {noun} on {host}; whether they run cannot be seen."),
        (0, 0) => format!("{count} {noun} on {host}, none in trouble."),
        (0, n) => format!("{count} {noun} on {host}; {n} would not come back after a restart."),
        (n, 0) => format!("{count} {noun} on {host}, {n} in trouble."),
        (n, l) => {
            format!("{count} {noun} on {host}, {n} in trouble; {l} would not come back after a restart.")
        }
    };
    page.answer(if bad + latent + refused > 0 { Tone::Problem } else { Tone::Well }, sentence);
    let head = ["service", "kind", "state", "next start", "holds"].map(str::to_owned).to_vec();
    let mut sorted: Vec<&SurveyEntry> = report.services.iter().collect();
    sorted.sort_by_key(|s| weight(s));
    let row = |s: &&SurveyEntry| {
        let held = held_in_short(&s.held);
        let row = [s.service.clone(), s.kind.clone(), s.state.word().into(), next_start(s), held];
        (tone(s), row.to_vec())
    };
    page.push(Block::Table(head, sorted.iter().map(row).collect()));
    let open =
        |s: &&&SurveyEntry| s.boot_outlook == Outlook::Unknown && s.restart_outlook != Outlook::Unknown;
    let open: Vec<&str> = sorted.iter().filter(open).map(|s| s.service.as_str()).collect();
    if !open.is_empty() {
        page.text(format!("Whether the next boot starts it is not known of {}.", open.join(", ")));
    }
    let remarks: Vec<(String, String)> = sorted
        .iter()
        .filter_map(|s| Some((format!("{}: {}", s.service, s.remark.clone()?), String::new())))
        .collect();
    if !remarks.is_empty() {
        page.push(Block::Evidence(remarks));
    }
    if single {
        report.services.iter().for_each(|s| details(&mut page, s, when));
    }
    let troubled = sorted.iter().find(|s| s.remark.is_some());
    if let Some(entry) = troubled {
        page.heading("What to do");
        page.push(Block::Commands(vec![(
            format!("{program} diagnose {}", crate::context::quoted(&entry.service)),
            "the cause, its evidence, and what puts it right".into(),
        )]));
    }
    page.not_seen(&report.not_seen);
    page
}

/// What a service holds, in a row of a table: a mail server alone has thirty sockets. The whole list stands
/// with the details, and in JSON.
fn held_in_short(all: &[String]) -> String {
    const SHOWN: usize = 6;
    match all {
        [] => "–".into(),
        all if all.len() <= SHOWN => all.join(" "),
        all => format!("{} and {} more", all[..SHOWN - 1].join(" "), all.len() - (SHOWN - 1)),
    }
}

fn details(page: &mut Page, s: &SurveyEntry, when: &When) {
    page.heading(s.service.clone());
    let list = |all: &[String]| all.join(", ");
    let mut rows: Vec<(String, String)> = Vec::new();
    let mut row = |name: &str, value: Option<String>| {
        if let Some(value) = value.filter(|v| !v.is_empty()) {
            rows.push((name.to_owned(), value));
        }
    };
    row("release", s.release.clone());
    row("unit", s.unit.clone());
    row("since", s.since.as_deref().map(|t| when.ago(t)));
    row("main process", s.main_pid.map(|p| format!("pid {p}")));
    row("account", s.account.clone());
    row("wants", Some(list(&s.listens)));
    row("holds", Some(list(&s.held)));
    row("configuration", s.config.clone());
    row("starts with", Some(s.command.join(" ")));
    row("data", s.data_dir.clone());
    row("pid file", s.pid_file.clone());
    row("locks", (!s.locks.is_empty()).then(|| s.locks.join(", ")));
    row("log", Some(list(&s.logs)));
    page.push(Block::Table(
        vec!["".into(), "".into()],
        rows.into_iter().map(|(a, b)| (Tone::Plain, vec![a, b])).collect(),
    ));
    if !s.environment.is_empty() {
        page.text("A login shell has these otherwise than the service:");
        let shown = |value: &Option<String>| value.clone().unwrap_or_else(|| "not set".into());
        let rows = s
            .environment
            .iter()
            .map(|d| {
                (
                    Tone::Plain,
                    vec![
                        d.name.clone(),
                        d.shell.clone(),
                        shown(&d.service),
                        format!("{}:{}", d.file, d.line),
                    ],
                )
            })
            .collect();
        page.push(Block::Table(
            ["variable", "login shell", "service", "set in"].map(str::to_owned).to_vec(),
            rows,
        ));
    }
    if s.files.len() > 1 {
        page.text(format!("Configuration files read: {}", s.files.len()));
        page.push(Block::Evidence(s.files.iter().take(60).map(|f| (f.clone(), String::new())).collect()));
    }
}
