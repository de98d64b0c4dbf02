//! The page of `verify`.
use crate::render::{Block, Page, Tone};
use jolly_core::report::{CheckOutcome, Recovery, VerifyReport};

pub(crate) fn page(report: &VerifyReport, program: &str) -> Page {
    let mut page = Page::new(format!("Recovery of {}", report.service));
    answer(&mut page, report);
    checks(&mut page, report);
    if report.verdict == Recovery::NotRecovered {
        page.heading("What to do");
        page.push(Block::Commands(vec![(
            format!("{program} diagnose {}", crate::context::quoted(&report.service)),
            "why it is not well".into(),
        )]));
    }
    page.not_seen(&report.not_seen);
    page
}

pub(crate) fn answer(page: &mut Page, report: &VerifyReport) {
    let name = &report.service;
    let failed = report.checks.iter().find(|c| c.outcome == CheckOutcome::Fail);
    match (report.verdict, failed) {
        (Recovery::Recovered, _) => {
            let count = |outcome| report.checks.iter().filter(|c| c.outcome == outcome).count();
            let (passed, skipped) = (count(CheckOutcome::Pass), count(CheckOutcome::Skip));
            // What never failed has nothing to recover from.
            let word = if report.ended_badly { "has recovered" } else { "is well" };
            let rest = if skipped > 0 { format!(", {skipped} not made") } else { String::new() };
            let plural = if passed == 1 { "" } else { "s" };
            page.answer(Tone::Well, format!("{name} {word}. {passed} check{plural} passed{rest}."));
        }
        (Recovery::Partly, Some(c)) => page.answer(
            Tone::Problem,
            format!("{name} runs, but has recovered only partly: {}.", c.detail.trim_end_matches('.')),
        ),
        (Recovery::Partly, None) => {
            page.answer(Tone::Plain, format!("{name} could be looked at only partly."))
        }
        (Recovery::NotRecovered, c) => {
            let why = c.map(|c| format!(": {}", c.detail)).unwrap_or_default();
            page.answer(Tone::Problem, format!("{name} has not recovered{why}."));
        }
    }
}

/// What a check asks, for people.
fn asked(name: &str) -> &str {
    match name {
        "process" => "its process runs",
        "account" => "it runs as the right account",
        "stable" => "it stays up",
        "ports" => "it holds its ports",
        "let-go" => "and no other ones",
        "protocol" => "it answers",
        "page" => "the page that was asked for",
        "way" => "the way to that page",
        "log" => "its log since the start",
        "boot" => "it starts at boot",
        other => other,
    }
}

pub(crate) fn checks(page: &mut Page, report: &VerifyReport) {
    let rows = report
        .checks
        .iter()
        .map(|c| {
            let tone = match c.outcome {
                CheckOutcome::Pass => Tone::Well,
                CheckOutcome::Fail => Tone::Problem,
                CheckOutcome::Skip => Tone::Plain,
            };
            let took = c.took_ms.map(|ms| format!(" ({ms} ms)")).unwrap_or_default();
            (tone, asked(&c.name).to_owned(), format!("{}{took}", c.detail))
        })
        .collect();
    page.push(Block::Checks(rows));
}

#[cfg(test)]
mod tests {
    use super::*;
    use jolly_core::case::State;
    use jolly_core::report::CheckEntry;

    #[test]
    fn what_never_failed_is_well_and_has_not_recovered() {
        let check = |outcome| CheckEntry { name: "x".into(), outcome, detail: "y".into(), took_ms: None };
        let said = |ended_badly| {
            let report = VerifyReport {
                schema: String::new(),
                service: "front".into(),
                state: State::Running,
                verdict: Recovery::Recovered,
                checks: vec![check(CheckOutcome::Pass), check(CheckOutcome::Pass), check(CheckOutcome::Skip)],
                not_seen: Vec::new(),
                main_pid: None,
                ended_badly,
            };
            page(&report, "jolly-sentinel").to_text(80, false)
        };
        assert!(said(false).contains("front is well. 2 checks passed, 1 not made."), "{}", said(false));
        assert!(said(true).contains("front has recovered. 2 checks passed, 1 not made."), "{}", said(true));
    }
}
