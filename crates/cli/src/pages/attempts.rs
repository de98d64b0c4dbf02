//! The page of `attempts`.
use super::when::{When, span};
use crate::render::{Block, Page, Tone, put};
use jiff::Timestamp;
use jolly_core::log::{Afterwards, Outcome, StartedBy};
use jolly_core::report::{AttemptEntry, AttemptsReport};

fn outcome(a: &AttemptEntry) -> String {
    match (a.outcome, a.afterwards) {
        (Outcome::Ready, Some(Afterwards::Running)) => "ready, runs".into(),
        (Outcome::Ready, Some(Afterwards::Stopped)) => "ready, then stopped".into(),
        (Outcome::Ready, Some(Afterwards::Killed)) => "ready, then killed".into(),
        (Outcome::Ready, Some(Afterwards::Crashed)) => "ready, then died".into(),
        (Outcome::Ready, None) => "ready".into(),
        (Outcome::Failed, _) => match a.failures.first() {
            Some(f) => format!("failed: {}", f.code),
            None => "failed".into(),
        },
        (Outcome::Killed, _) => "killed while starting".into(),
        (Outcome::Stopped, _) => "stopped while starting".into(),
        (Outcome::Refused, _) => "refused by the manager".into(),
        (Outcome::Starting, _) => "is starting".into(),
        (Outcome::Unknown, _) => "end not known".into(),
    }
}

fn bad(a: &AttemptEntry) -> bool {
    matches!(a.outcome, Outcome::Failed | Outcome::Refused | Outcome::Killed)
        || matches!(a.afterwards, Some(Afterwards::Crashed | Afterwards::Killed))
}

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
    page.answer(
        tone,
        format!("The last start of {}, {}: {}.", report.service, when.clock(&last.began), outcome(last)),
    );
    if report.attempts.len() > 1 {
        page.push(Block::Figure { svg: figure(report, when), text: strip(report) });
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
    if let Some(more) = report.more {
        let (noun, verb) = if more == 1 { ("attempt", "is") } else { ("attempts", "are") };
        page.text(format!("{more} earlier {noun} {verb} not listed; --last N lists more."));
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

/// The line below the figure, with the time of its begin and of its end.
fn axis(out: &mut String, list: &[&AttemptEntry], when: &When, floor: usize, end: f64) {
    let micros = |t: &str| t.parse::<Timestamp>().ok().map(|t| t.as_millisecond());
    let first = list.first().map(|a| when.clock(&a.began)).unwrap_or_default();
    let newest = list
        .iter()
        .filter_map(|a| a.ended.as_ref())
        .chain(list.last().map(|a| &a.began))
        .max_by_key(|t| micros(t))
        .map(|t| when.clock(t))
        .unwrap_or_default();
    put(
        out,
        format_args!(
            "<path d=\"M10 {floor}H710\" stroke=\"currentColor\" opacity=\"0.4\"/><text x=\"10\" y=\"{}\" \
                opacity=\"0.7\">{first}</text>",
            floor + 18
        ),
    );
    put(
        out,
        format_args!(
            "<text x=\"{:.1}\" y=\"{}\" text-anchor=\"end\" opacity=\"0.7\">{newest}</text>",
            end.max(200.0),
            floor + 18
        ),
    );
}

/// A bar for each run on a line of time, a cross for each failure. A run of which nothing tells the end is
/// drawn pale, and no further than to the next start.
fn figure(report: &AttemptsReport, when: &When) -> String {
    let micros = |t: &str| t.parse::<Timestamp>().ok().map(|t| t.as_millisecond());
    let list: Vec<&AttemptEntry> = report.attempts.iter().take(40).rev().collect();
    let began = |a: &AttemptEntry| micros(&a.began).unwrap_or(0);
    let begin = list.iter().map(|a| began(a)).min().unwrap_or(0);
    let last = list
        .iter()
        .map(|a| a.ended.as_deref().and_then(micros).unwrap_or_else(|| began(a)))
        .max()
        .unwrap_or(begin);
    // What runs still goes on at the right end.
    let end = last + (last - begin) / 20;
    let range = (end - begin).max(1) as f64;
    let x = |t: i64| 10.0 + (t - begin) as f64 / range * 700.0;
    let floor = 14 + 24 * list.len();
    let mut out = format!(
        "<svg viewBox=\"0 0 960 {}\" role=\"img\" aria-label=\"start attempts over time\" \
            font-family=\"system-ui,sans-serif\" font-size=\"13\" fill=\"currentColor\">",
        floor + 30
    );
    for (row, a) in list.iter().enumerate() {
        let y = 14 + 24 * row;
        let from = began(a);
        let told = a.ended.as_deref().and_then(micros);
        let runs = a.afterwards == Some(Afterwards::Running);
        let to = told.or_else(|| list.get(row + 1).map(|next| began(next)).filter(|_| !runs)).unwrap_or(end);
        let (x1, x2) = (x(from), x(to).max(x(from) + 3.0));
        if a.outcome == Outcome::Ready {
            let pale = if told.is_none() && !runs { " opacity=\"0.35\"" } else { "" };
            put(
                &mut out,
                format_args!(
                    "<rect x=\"{x1:.1}\" y=\"{}\" width=\"{:.1}\" height=\"10\" fill=\"#0d6a73\"{pale}/>",
                    y - 5,
                    x2 - x1
                ),
            );
        }
        if bad(a) {
            put(
                &mut out,
                format_args!(
                    "<path d=\"M{:.1} {}l10 10m0 -10l-10 10\" stroke=\"#8e2a6b\" stroke-width=\"2.5\"/>",
                    x2 - 5.0,
                    y - 5
                ),
            );
        }
        put(
            &mut out,
            format_args!(
                "<text x=\"{:.1}\" y=\"{}\">{} {}</text>",
                735.0,
                y + 4,
                when.clock(&a.began),
                outcome(a).replace('<', "&lt;")
            ),
        );
    }
    axis(&mut out, &list, when, floor, x(last));
    out.push_str("</svg>");
    out
}
