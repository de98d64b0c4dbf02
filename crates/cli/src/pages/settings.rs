//! The page of `settings`.
use crate::render::{Block, Page, Tone};
use jolly_core::config::layers::Layer;
use jolly_core::report::SettingsReport;

pub(crate) fn page(report: &SettingsReport) -> Page {
    let mut page = Page::new(format!("Settings of {}", report.service));
    let count = report.settings.len();
    page.answer(
        Tone::Plain,
        format!(
            "{count} {} of {} in force.",
            if count == 1 { "setting" } else { "settings" },
            report.service
        ),
    );
    let mut section = None;
    // What stands at the top comes first, options of the command among it.
    let (top, inner): (Vec<_>, Vec<_>) = report.settings.iter().partition(|s| s.section.is_none());
    for one in top.into_iter().chain(inner) {
        if section.as_ref() != Some(&one.section) {
            page.heading(one.section.clone().unwrap_or_else(|| "At the top".into()));
            section = Some(one.section.clone());
        }
        let value = |v: &Option<String>| v.clone().unwrap_or_else(|| jolly_core::secrets::MASK.to_owned());
        let mut rows = vec![(
            format!("{} {}", one.name, value(&one.value)),
            origin(one.layer, one.file.as_deref(), one.line),
        )];
        rows.extend(one.overrides.iter().map(|o| {
            (
                format!("overridden: {} {}", one.name, value(&o.value)),
                origin(o.layer, o.file.as_deref(), o.line),
            )
        }));
        match page.blocks.last_mut() {
            Some(Block::Evidence(all)) => all.extend(rows),
            _ => page.push(Block::Evidence(rows)),
        }
    }
    for name in &report.unset {
        page.text(format!("{name} is set nowhere; the built-in default counts."));
    }
    for one in &report.unknown {
        let near = one.nearest.as_ref().map(|n| format!("; did you mean {n}?")).unwrap_or_default();
        page.text(format!("{} is not a setting of {} that is known here{near}", one.name, report.kind));
    }
    page.not_seen(&report.not_seen);
    page
}

/// Where a value comes from: its line, and what it is where it is no line of the configuration.
fn origin(layer: Layer, file: Option<&str>, line: Option<u32>) -> String {
    let place = file.map(|f| line.map_or(f.to_owned(), |l| format!("{f}:{l}")));
    let what = match layer {
        Layer::Default => "built in",
        Layer::Environment => "environment",
        Layer::CommandLine => "start command",
        Layer::File | Layer::Kept => "",
    };
    match place {
        Some(place) if what.is_empty() => place,
        Some(place) => format!("{what}, {place}"),
        None => what.to_owned(),
    }
}
