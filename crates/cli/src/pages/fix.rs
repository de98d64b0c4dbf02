//! The pages of `fix` and `undo`.
use super::when::When;
use crate::context::quoted;
use crate::render::{Block, Page, Tone};
use jolly_core::fix::{Parameter, Risk};
use jolly_core::report::{FixEntry, FixReport, Recovery, UndoReport};

fn risk(risk: Risk) -> &'static str {
    match risk {
        Risk::Low => "little risk",
        Risk::Medium => "some risk",
        Risk::High => "something else goes down",
    }
}

/// The plans, dry.
pub(crate) fn plans(report: &FixReport, headline: &str, program: &str) -> Page {
    let mut page = Page::new(format!("Fixes for {}", report.service));
    let Some(cause) = &report.cause else {
        page.answer(Tone::Well, format!("{headline}, and nothing is there to be fixed."));
        return page;
    };
    page.answer(Tone::Problem, format!("{headline}: {}.", cause.trim_end_matches('.')));
    if report.fixes.is_empty() {
        page.text("A person decides here. Step by step:");
        for step in &report.by_hand {
            match &step.command {
                Some(command) => page.push(Block::Commands(vec![(command.clone(), step.what.clone())])),
                None => page.text(step.what.clone()),
            }
        }
    } else {
        page.push(Block::Circumstances(if report.fixes.iter().all(|f| f.id == WANTED) {
            "Nothing was changed. This is what would be:".into()
        } else {
            "Nothing was changed. Each way to put it right, least dangerous first:".into()
        }));
    }
    for (at, fix) in report.fixes.iter().enumerate() {
        plan(&mut page, at + 1, fix);
        let command = if fix.id == WANTED {
            let given = |p: &Parameter| match p.name.as_str() {
                "--in" => format!("--in {}", quoted(&p.value)),
                name => format!("--set {}", quoted(&format!("{name}={}", p.value))),
            };
            let set: Vec<String> = fix.parameters.iter().map(given).collect();
            format!("{program} fix {} {} --apply", quoted(about(report)), set.join(" "))
        } else {
            format!("{program} fix {} --pick {} --apply", quoted(about(report)), fix.id)
        };
        page.push(Block::Commands(vec![(command, String::new())]));
    }
    unavailable(&mut page, report);
    page
}

/// The fix that changes a setting as a person wants it.
const WANTED: &str = "change-setting";

/// What a fix is asked for: the page that fails, or the service.
fn about(report: &FixReport) -> &str {
    report.url.as_deref().unwrap_or(&report.service)
}

fn unavailable(page: &mut Page, report: &FixReport) {
    if !report.unavailable.is_empty() {
        page.heading("Not possible here");
        page.push(Block::Evidence(
            report.unavailable.iter().map(|u| (u.reason.clone(), u.id.clone())).collect(),
        ));
    }
}

fn plan(page: &mut Page, number: usize, fix: &FixEntry) {
    let back = if fix.reversible { "can be undone" } else { "cannot be undone completely" };
    page.heading(format!("{number}. {} – {}, {back}", fix.title, risk(fix.risk)));
    if !fix.diff.is_empty() {
        page.push(Block::Diff(fix.diff.clone()));
    }
    let mut rows: Vec<(String, String)> =
        fix.beside_the_diff.iter().map(|s| (format!("would {s}"), String::new())).collect();
    rows.extend(fix.remarks.iter().map(|r| (r.clone(), String::new())));
    rows.extend(fix.parameters.iter().filter(|_| fix.id != WANTED).map(|p| {
        (format!("{} {} is proposed; --set {}=… chooses another", p.name, p.value, p.name), String::new())
    }));
    if !rows.is_empty() {
        page.push(Block::Evidence(rows));
    }
}

/// What was done and what came of it.
pub(crate) fn applied(report: &FixReport, program: &str) -> Page {
    let mut page = Page::new(format!("Fix of {}", report.service));
    let name = &report.service;
    let wanted = report.applied.iter().any(|id| id == WANTED);
    match (report.rolled_back, report.verified, &report.next_cause) {
        (true, ..) if wanted => {
            page.answer(Tone::Problem, format!("{name} was not well with the change, so that was put back."))
        }
        (_, Some(Recovery::Recovered), _) if wanted => {
            page.answer(Tone::Well, format!("{name} runs with the change, and is well."))
        }
        (true, ..) => {
            page.answer(Tone::Problem, format!("{name} was not put right, so the change was put back."))
        }
        (_, Some(Recovery::Recovered), _) => page.answer(Tone::Well, format!("{name} has recovered.")),
        (_, _, Some(next)) => page.answer(
            Tone::Problem,
            format!("That cause of {name} is fixed. Another remains: {}.", next.title),
        ),
        (_, None, _) => {
            page.answer(Tone::Plain, format!("The files of {name} were changed; it was not started."))
        }
        (_, Some(Recovery::Partly), _) if report.verification.is_none() => {
            page.answer(
                Tone::Plain,
                format!("The files of {name} were changed; whether it runs cannot be seen from here."),
            );
        }
        (_, Some(Recovery::Partly), _) => {
            page.answer(Tone::Plain, format!("{name} runs, but not everything could be proved."))
        }
        (_, Some(Recovery::NotRecovered), _) => {
            page.answer(Tone::Problem, format!("{name} is not well yet."))
        }
    }
    for fix in report.fixes.iter().filter(|f| report.applied.contains(&f.id)) {
        page.heading(fix.title.clone());
        if !fix.diff.is_empty() {
            page.push(Block::Diff(fix.diff.clone()));
        }
        let mut rows: Vec<(String, String)> =
            fix.beside_the_diff.iter().map(|s| (s.clone(), String::new())).collect();
        rows.extend(fix.remarks.iter().map(|r| (r.clone(), String::new())));
        if !rows.is_empty() {
            page.push(Block::Evidence(rows));
        }
    }
    if let Some(verification) = &report.verification {
        page.heading("Proof");
        super::verify::checks(&mut page, verification);
    }
    let whole = report.fixes.iter().filter(|f| report.applied.contains(&f.id)).all(|f| f.reversible);
    let mut commands = Vec::new();
    if report.next_cause.is_some() || report.rolled_back {
        commands.push((
            format!("{program} fix {}", quoted(name)),
            "what is left, and what would put it right".to_owned(),
        ));
    }
    if let Some(id) = report.undo_id.as_ref().filter(|_| !report.rolled_back) {
        commands.push((
            format!("{program} undo {id}"),
            if whole { "puts all of this back" } else { "puts back what can be put back" }.to_owned(),
        ));
    }
    if !commands.is_empty() {
        page.heading("What to do");
        page.push(Block::Commands(commands));
    }
    page
}

/// `undo`.
pub(crate) fn undo(report: &UndoReport, when: &When, program: &str) -> Page {
    let mut page = Page::new("Changes");
    if let Some(id) = &report.undone {
        let answer = match (report.failed.is_empty(), report.left.is_empty(), report.done.is_empty()) {
            (false, ..) => (Tone::Problem, format!("{id} could not be undone completely.")),
            (_, false, _) => (Tone::Plain, format!("{id} is undone, except for what cannot be put back.")),
            (_, _, true) => (Tone::Well, format!("{id} is undone: everything is as before already.")),
            _ => (Tone::Well, format!("{id} is undone.")),
        };
        page.answer(answer.0, answer.1);
        let rows = |lines: &[String]| lines.iter().map(|d| (d.clone(), String::new())).collect::<Vec<_>>();
        if !report.done.is_empty() {
            page.push(Block::Evidence(rows(&report.done)));
        }
        for (heading, lines) in [
            ("Not put back this time", &report.failed),
            ("Left as it is", &report.left),
            ("What runs now", &report.due),
        ] {
            if !lines.is_empty() {
                page.heading(heading);
                page.push(Block::Evidence(rows(lines)));
            }
        }
        if !report.failed.is_empty() {
            page.heading("What to do");
            page.push(Block::Commands(vec![(
                format!("{program} undo {}", quoted(id)),
                "takes it up again".into(),
            )]));
        }
        return page;
    }
    if report.changes.is_empty() && !report.not_seen.is_empty() {
        page.answer(Tone::Plain, "Whether there are changes to put back cannot be seen from here.");
        page.not_seen(&report.not_seen);
        return page;
    }
    if report.changes.is_empty() {
        page.answer(Tone::Plain, "No change is on record.");
        return page;
    }
    let open = report.changes.iter().filter(|c| matches!(c.outcome.as_str(), "kept" | "begun")).count();
    let told = match (report.changes.len(), open) {
        (1, 0) => "1 change on record, put back already.".to_owned(),
        (1, _) => "1 change on record, not put back yet.".to_owned(),
        (all, open) => format!("{all} changes on record, {open} of them not put back yet."),
    };
    page.answer(Tone::Plain, told);
    let head = ["id", "when", "state", "what"].map(str::to_owned).to_vec();
    let rows = report
        .changes
        .iter()
        .map(|c| {
            (
                Tone::Plain,
                vec![
                    c.id.clone(),
                    when.clock(&c.began),
                    if c.outcome == "begun" { "cut short".into() } else { c.outcome.clone() },
                    c.title.clone(),
                ],
            )
        })
        .collect();
    page.push(Block::Table(head, rows));
    page.not_seen(&report.not_seen);
    if let Some(last) = report.changes.iter().find(|c| matches!(c.outcome.as_str(), "kept" | "begun")) {
        page.heading("What to do");
        page.push(Block::Commands(vec![(
            format!("{program} undo {}", last.id),
            "puts the newest of them back at once".into(),
        )]));
    }
    page
}
