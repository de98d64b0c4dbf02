//! The page of `settings`.
use crate::render::{Block, Page, Tone};
use jolly_core::report::SettingsReport;

pub(crate) fn page(report: &SettingsReport) -> Page {
    let mut page = Page::new(format!("Settings of {}", report.service));
    let count = report.settings.len();
    page.answer(Tone::Plain, format!("{count} {} of {} in force.", if count == 1 { "setting" } else { "settings" }, report.service));
    let mut section = None;
    for one in &report.settings {
        if section.as_ref() != Some(&one.section) {
            page.heading(if one.section.is_empty() { "At the top".into() } else { one.section.clone() });
            section = Some(one.section.clone());
        }
        let mut rows = vec![(format!("{} {}", one.name, one.value), format!("{}:{}", one.file, one.line))];
        rows.extend(one.overrides.iter().map(|o| ("  overrides an earlier value".to_owned(), o.clone())));
        match page.blocks.last_mut() {
            Some(Block::Evidence(all)) => all.extend(rows),
            _ => page.push(Block::Evidence(rows)),
        }
    }
    for name in &report.unset {
        page.text(format!("{name} is set nowhere; the built-in default counts."));
    }
    page.not_seen(&report.not_seen);
    page
}
