//! The page of `attempts`.
use super::outcome::{bad, outcome};
use super::when::{When, span};
use crate::render::{Block, Page, Tone};
use jiff::Timestamp;
use jolly_core::log::{Outcome, StartedBy};
use jolly_core::report::{AttemptEntry, AttemptsReport};

fn lasted(a: &AttemptEntry) -> String {
    let end = |t: &str| t.parse::<Timestamp>().ok();
    match (end(&a.began), a.ended.as_deref().and_then(end)) {
        (Some(began), Some(ended)) => span(ended.as_second() - began.as_second()).unwrap_or_default(),
        _ => "–".into(),
    }
}

pub(crate) fn page(report: &AttemptsReport, when: &When, program: &str) -> Page {
    let mut page = Page::new(format!("Start attempts of {}", report.service));
    let Some(last) = report.attempts.first() else {
        let none = format!("No start of {} is on record.", report.service);
        let answer = if report.attempts.is_seen() {
            none
        } else {
            format!("Whether starts of {} are on record cannot be seen from here.", report.service)
        };
        page.answer(Tone::Plain, answer);
        about_logs(&mut page, report);
        page.not_seen(&report.not_seen);
        return page;
    };
    let tone = if bad(last) { Tone::Problem } else { Tone::Well };
    page.answer_of(
        tone,
        format!("The last start of {}, {}: ", report.service, when.clock(&last.began)),
        format!("{}.", outcome(last)),
    );
    if report.attempts.len() > 1 {
        page.push(Block::Figure { svg: super::timeline::figure(report, when), text: strip(report) });
    }
    let head = ["began", "by", "until ready", "lasted", "outcome"].map(str::to_owned).to_vec();
    let rows = report
        .attempts
        .iter()
        .map(|a| {
            let by = match a.started_by {
                StartedBy::Manager => "manager",
                StartedBy::Hand => "hand",
                StartedBy::Unknown => "–",
            };
            let ready = a.ready_after_ms.map_or("–".into(), |ms| {
                if ms < 10_000 { format!("{ms} ms") } else { format!("{} s", ms / 1000) }
            });
            (
                if bad(a) { Tone::Problem } else { Tone::Plain },
                vec![when.clock(&a.began), by.into(), ready, lasted(a), outcome(a)],
            )
        })
        .collect();
    page.push(Block::Table(head, rows));
    if report.more {
        page.text("Earlier attempts are not listed; --last N lists more.");
    }
    for a in report.attempts.iter().filter(|a| !a.failures.is_empty()).take(3) {
        page.heading(format!("What the start of {} said", when.clock(&a.began)));
        let rows = a
            .failures
            .iter()
            .take(6)
            .map(|f| {
                let at = match f.line {
                    Some(line) => format!("{}:{line}", f.file),
                    None => {
                        format!("{} {}", f.file, f.time.as_deref().map(|t| when.clock(t)).unwrap_or_default())
                    }
                };
                (f.text.clone(), at.trim_end().to_owned())
            })
            .collect();
        page.push(Block::Evidence(rows));
    }
    about_logs(&mut page, report);
    if bad(last) {
        page.heading("What to do");
        page.push(Block::Commands(vec![(
            format!("{program} diagnose {}", crate::context::quoted(&report.service)),
            "the cause as it is now, and what puts it right".into(),
        )]));
    }
    page.not_seen(&report.not_seen);
    page
}

/// Where the logs are and what is odd about them.
fn about_logs(page: &mut Page, report: &AttemptsReport) {
    if !report.remarks.is_empty() {
        page.heading("About its logs");
        page.push(Block::Evidence(report.remarks.iter().map(|r| (r.clone(), String::new())).collect()));
    }
}

/// Oldest to newest, one sign each; the words below say the same.
fn strip(report: &AttemptsReport) -> String {
    let signs: String = report
        .attempts
        .iter()
        .take(60)
        .rev()
        .map(|a| match (a.outcome, bad(a)) {
            (Outcome::Ready, false) => '=',
            (Outcome::Ready, true) => '+',
            (Outcome::Refused, _) => '-',
            (_, true) => 'x',
            _ => '?',
        })
        .collect();
    format!("oldest {signs} newest     = good run   + ended badly   x failed   - refused")
}
