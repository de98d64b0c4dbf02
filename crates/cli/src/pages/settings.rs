//! The page of `settings`.
use crate::render::{Block, Page, Tone};
use jolly_core::config::layers::Layer;
use jolly_core::report::{Difference, Mention, SettingEntry, SettingsReport};

pub(crate) fn page(report: &SettingsReport) -> Page {
    let mut page = Page::new(format!("Settings of {}", report.service));
    if let Some(differences) = &report.differences {
        return compared(page, report, differences);
    }
    if !report.mentions.is_empty() {
        return mentioned(page, report);
    }
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
        let unit = one.unit.as_ref().map(|u| format!(" (in {u})")).unwrap_or_default();
        let default = one.default.as_ref().filter(|_| one.changed == Some(true));
        let default = default.map(|d| format!("; built in: {}", named(d))).unwrap_or_default();
        let mut rows = vec![(
            format!("{} {}{unit}{default}", one.name, value(&one.value)),
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

/// A value as it is shown in a sentence.
fn named(value: &str) -> &str {
    if value.is_empty() { "nothing" } else { value }
}

fn shown(value: Option<&String>) -> String {
    value.cloned().unwrap_or_else(|| jolly_core::secrets::MASK.to_owned())
}

/// Every line that names a setting.
fn mentioned(mut page: Page, report: &SettingsReport) -> Page {
    let count = report.mentions.len();
    page.answer(Tone::Plain, format!("{count} {} it.", if count == 1 { "line names" } else { "lines name" }));
    let row = |one: &Mention| {
        let section = one.section.as_ref().map(|s| format!(" in {s}")).unwrap_or_default();
        let counts = if one.in_force { "" } else { ", overridden" };
        let text = format!("{} {}{section}{counts}", one.name, shown(one.value.as_ref()));
        (text, origin(one.layer, one.file.as_deref(), one.line))
    };
    page.push(Block::Evidence(report.mentions.iter().map(row).collect()));
    page.not_seen(&report.not_seen);
    page
}

/// What two hosts do not have alike.
fn compared(mut page: Page, report: &SettingsReport, differences: &[Difference]) -> Page {
    let count = differences.len();
    let answer = match count {
        0 if report.unset.is_seen() => format!("Every setting of {} is the same there.", report.service),
        0 => format!("No difference of {} was seen; not everything could be.", report.service),
        1 => format!("1 setting of {} is not the same there.", report.service),
        _ => format!("{count} settings of {} are not the same there.", report.service),
    };
    page.answer(Tone::Plain, answer);
    let side = |one: Option<&SettingEntry>| match one {
        Some(one) => (shown(one.value.as_ref()), origin(one.layer, one.file.as_deref(), one.line)),
        None => ("set nowhere".to_owned(), String::new()),
    };
    let mut section = None;
    for one in differences {
        if section.as_ref() != Some(&one.section) {
            page.heading(one.section.clone().unwrap_or_else(|| "At the top".into()));
            section = Some(one.section.clone());
        }
        let ((here, here_at), (there, there_at)) = (side(one.here.as_ref()), side(one.there.as_ref()));
        let rows = [
            (format!("{} here: {here}", one.name), here_at),
            (format!("{} there: {there}", one.name), there_at),
        ];
        match page.blocks.last_mut() {
            Some(Block::Evidence(all)) => all.extend(rows),
            _ => page.push(Block::Evidence(rows.into())),
        }
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
