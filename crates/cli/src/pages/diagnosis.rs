//! The page of `diagnose`.
use super::when::When;
use crate::context::quoted;
use crate::render::{Block, Page, Tone};
use jolly_core::case::State;
use jolly_core::code::Code;
use jolly_core::config::Severity;
use jolly_core::finding::Evidence;
use jolly_core::fix::Fix;
use jolly_core::not_seen::NotSeen;
use jolly_core::rank::{Certainty, Relation};
use jolly_core::report::{CauseEntry, Changed, Diagnosis, NoteEntry, Outlook, ServiceEntry};

/// Options of the page.
pub(crate) struct Look<'l> {
    pub(crate) when: &'l When,
    pub(crate) program: &'l str,
    pub(crate) verbose: bool,
    /// Whether a fix could be carried out from here; captured evidence cannot be changed.
    pub(crate) can_apply: bool,
    /// Services that were looked at, for the answer that nothing is wrong.
    pub(crate) looked_at: usize,
    /// Whether running processes could be seen at all.
    pub(crate) sees_processes: bool,
    /// What a fix is to be asked for, where that is not the service: the address of a page.
    pub(crate) about: Option<&'l str>,
    /// Options that the commands to type next take along.
    pub(crate) along: &'static str,
}

pub(crate) fn page(report: &Diagnosis, look: &Look) -> Page {
    let mut page = Page::new(format!("Diagnosis of {}", report.host.as_deref().unwrap_or("this host")));
    if report.services.is_empty() {
        let what = match look.looked_at {
            0 => "No server daemon was found on this host.".to_owned(),
            _ if !look.sees_processes => "In the files nothing stands in the way of what is to run at boot; \
                what runs cannot be seen from here."
                .to_owned(),
            1 => "The one service here is well, or is not wanted.".to_owned(),
            n => format!("All {n} services are well, or are not wanted."),
        };
        page.answer(if look.looked_at == 0 || !look.sees_processes { Tone::Plain } else { Tone::Well }, what);
        page.push(Block::Commands(vec![(
            format!("{} survey", look.program),
            "lists every service with its state".into(),
        )]));
        return page;
    }
    for entry in &report.services {
        service(&mut page, entry, look);
    }
    let all: std::collections::BTreeSet<NotSeen> =
        report.services.iter().flat_map(|s| s.not_seen.clone()).collect();
    page.not_seen(&all.into_iter().collect::<Vec<_>>());
    page
}

/// The state in words: "apache2 does not start".
pub(crate) fn headline(entry: &ServiceEntry) -> String {
    let name = &entry.service;
    match entry.state {
        State::Running if let Some(socket) = &entry.context.by_socket => {
            format!("{name} waits: {socket} listens for it, and starts it at its first client")
        }
        State::Running => format!("{name} runs"),
        State::Degraded => format!("{name} runs, but not as it should"),
        State::Starting => format!("{name} is still starting"),
        State::Restarting => format!("{name} does not stay up and is restarted again and again"),
        State::Failed => format!("{name} does not start"),
        State::Stopped if entry.standing().next().is_none() => format!("{name} is stopped"),
        State::Stopped if entry.restart_outlook == Outlook::WouldStart => format!("{name} is down"),
        State::Stopped => format!("{name} is down and would not start"),
        State::Unknown => format!("whether {name} runs cannot be seen from here"),
    }
}

fn sure(certainty: Certainty) -> &'static str {
    match certainty {
        Certainty::Certain => "",
        Certainty::Likely => "it is likely that ",
        Certainty::Possible => "it may be that ",
    }
}

pub(crate) fn service(page: &mut Page, entry: &ServiceEntry, look: &Look) {
    let first = entry.standing().next();
    let headline = headline(entry);
    match first {
        Some(cause) => page.answer(
            Tone::Problem,
            format!("{headline}: {}{}.", sure(cause.certainty), cause.title.trim_end_matches('.')),
        ),
        None if let Some(cause) = entry.latent() => {
            let why = cause.title.trim_end_matches('.');
            page.answer(
                Tone::Problem,
                format!("{headline}, but would not come back after a restart: {why}."),
            );
        }
        None if matches!(entry.state, State::Running) => {
            page.answer(Tone::Well, format!("{headline}, and nothing stands in its way."))
        }
        None if entry.state == State::Stopped && !entry.wanted => {
            page.answer(Tone::Plain, format!("{headline}, and that seems to be on purpose."))
        }
        None => page.answer(Tone::Plain, format!("{headline}, and no cause was found.")),
    }
    let circumstances = circumstances(entry, look.when);
    if !circumstances.is_empty() {
        page.push(Block::Circumstances(circumstances));
    }
    if let Some(cause) = first {
        page.push(Block::Evidence(evidence(&cause.evidence, look)));
    } else if let Some(note) = latent(entry) {
        page.push(Block::Evidence(evidence(&note.evidence, look)));
    }
    for cause in entry.standing().skip(1) {
        let lead = match cause.relation {
            Relation::Blocks => "Then also",
            Relation::Alternative => "Or",
            Relation::Consequence => "As a consequence",
            Relation::Latent => "At the next start",
        };
        page.heading(format!("{lead}: {}{}", sure(cause.certainty), cause.title));
        page.push(Block::Evidence(evidence(&cause.evidence, look)));
    }
    notes(page, entry, look);
    next(page, entry, look);
}

/// What stands in the way of the next start of a service that runs.
fn latent(entry: &ServiceEntry) -> Option<&NoteEntry> {
    entry.notes.iter().find(|n| n.code == Code::LatentFailure)
}

fn circumstances(entry: &ServiceEntry, when: &When) -> String {
    let mut parts = Vec::new();
    if let Some(since) = &entry.since {
        let word = match entry.state {
            state if state.is_up() => "up since",
            State::Failed | State::Stopped => "down since",
            _ => "so since",
        };
        parts.push(format!("{word} {}", when.ago(since)));
    }
    if let (Some(good), false) = (&entry.context.last_good_start, entry.state == State::Running) {
        parts.push(format!("last good start {}", when.clock(good)));
    }
    if let Some(booted) = &entry.context.booted {
        parts.push(format!("host booted {}", when.clock(booted)));
    }
    // Without a good start on record nothing tells which changes matter.
    let packages = entry
        .context
        .packages_changed
        .as_ref()
        .filter(|p| !p.is_empty() && entry.context.last_good_start.is_some());
    if let Some(packages) = packages {
        parts.push(match packages.as_slice() {
            [one] => format!("package changed since: {one}"),
            many => format!("{} packages changed since", many.len()),
        });
    }
    if let Some(clients) = entry.context.clients.filter(|c| *c > 0) {
        parts.push(format!("{clients} clients connected"));
    }
    match (entry.restart_outlook, entry.boot_outlook) {
        (Outlook::WouldFail, _) if entry.state == State::Running => parts.push("a restart would fail".into()),
        (_, Outlook::WouldNot) => parts.push("not started at boot".into()),
        _ => {}
    }
    parts.join(" · ")
}

/// Claims with their origins.
pub(crate) fn evidence(all: &[Evidence], look: &Look) -> Vec<(String, String)> {
    all.iter().map(|e| (e.detail.clone(), origin(e, look.when))).collect()
}

fn origin(evidence: &Evidence, when: &When) -> String {
    let mut words = Vec::new();
    match (&evidence.file, evidence.line) {
        (Some(file), Some(line)) => words.push(format!("{file}:{line}")),
        (Some(file), None) => words.push(file.clone()),
        _ => {}
    }
    if let Some(pid) = evidence.pid {
        words.push(format!("pid {pid}"));
    }
    if let Some(time) = &evidence.time {
        words.push(when.clock(time));
    }
    words.join(" ")
}

fn notes(page: &mut Page, entry: &ServiceEntry, look: &Look) {
    let told = if entry.standing().next().is_none() { latent(entry) } else { None };
    let rest: Vec<&NoteEntry> =
        entry.notes.iter().filter(|n| !told.is_some_and(|t| std::ptr::eq(t, *n))).collect();
    let loud: Vec<&NoteEntry> =
        rest.iter().copied().filter(|n| n.severity != Severity::Hint || look.verbose).collect();
    let quiet = rest.len() - loud.len();
    for note in &loud {
        page.heading(format!("Note: {}", note.title));
        page.push(Block::Evidence(evidence(&note.evidence, look)));
    }
    if quiet > 0 {
        let notes = if quiet == 1 { "note" } else { "notes" };
        page.text(format!(
            "{quiet} harmless {notes} hidden (-v shows {})",
            if quiet == 1 { "it" } else { "them" }
        ));
    }
    let counts = |c: &&Changed| {
        c.since_last_good_start != Some(false) && c.same_as.is_none() || c.differs_from.is_some()
    };
    let recent: Vec<&Changed> = entry.changes.iter().filter(counts).take(4).collect();
    if !recent.is_empty() && entry.standing().next().is_some() {
        page.heading("Changed lately");
        page.push(Block::Evidence(recent.iter().map(|c| (c.file.clone(), changed(c, look))).collect()));
    }
}

/// When a file changed, and against what is known of it from earlier.
fn changed(change: &Changed, look: &Look) -> String {
    let when = look.when.ago(&change.modified);
    match &change.differs_from {
        Some(origin) => format!("{when}; it holds something else than {origin} has of it"),
        None => when,
    }
}

/// What a fix does, in a few words.
pub(crate) fn price(id: &str, cause: &CauseEntry) -> String {
    Fix::of(id).map_or_else(String::new, |fix| (fix.price)(&cause.subject))
}

fn next(page: &mut Page, entry: &ServiceEntry, look: &Look) {
    let name = look.about.unwrap_or(&entry.service);
    let latent = entry.notes.iter().any(|n| n.code == Code::LatentFailure && !n.fixes.is_empty());
    let Some(cause) = entry.standing().next() else {
        if latent {
            page.heading("What to do");
            page.push(Block::Commands(vec![(
                format!("{} fix {}{}", look.program, quoted(name), look.along),
                "shows what would put it right, and changes nothing".into(),
            )]));
        }
        return;
    };
    page.heading("What to do");
    let mut commands = Vec::new();
    if let Some(first) = cause.fixes.first() {
        commands.push((
            format!("{} fix {}{}", look.program, quoted(name), look.along),
            "shows each way to put it right as a diff, and changes nothing".to_owned(),
        ));
        if look.can_apply {
            commands.push((
                format!("{} fix {}{} --pick {first} --apply", look.program, quoted(name), look.along),
                price(first, cause),
            ));
        }
    } else {
        commands.push((
            format!("{} fix {}{}", look.program, quoted(name), look.along),
            "what a person does about it, step by step".to_owned(),
        ));
    }
    if let Some(second) = cause.fixes.get(1).filter(|_| look.can_apply) {
        commands.push((
            format!("{} fix {} --pick {second} --apply", look.program, quoted(name)),
            price(second, cause),
        ));
    }
    page.push(Block::Commands(commands));
}
