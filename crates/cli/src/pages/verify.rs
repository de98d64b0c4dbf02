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
        (Recovery::Recovered, _) => page.answer(Tone::Well, format!("{name} has recovered.")),
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
            (tone, c.name.clone(), format!("{}{took}", c.detail))
        })
        .collect();
    page.push(Block::Checks(rows));
}
