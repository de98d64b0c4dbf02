//! The page of `lint`, and its SARIF form.
use crate::render::{Block, Page, Tone};
use jolly_core::config::Severity;
use jolly_core::report::{Correction, LintFinding, LintOverview, LintReport, Verdict};
use jolly_core::snapshot::Snapshot;
use serde_json::json;
use std::collections::HashMap;
use std::rc::Rc;

/// Findings that are shown with their source lines.
const SHOWN: usize = 20;

pub(crate) fn page(report: &LintReport, snapshot: &Snapshot, verbose: bool) -> Page {
    let mut page = Page::new(format!("Configuration of {}", report.config));
    let errors = report.findings.iter().filter(|f| f.severity == Severity::Error).count();
    let warnings = report.findings.iter().filter(|f| f.severity == Severity::Warning).count();
    let daemon = report.release.clone().unwrap_or_else(|| report.kind.clone());
    match (report.verdict, report.findings.iter().find(|f| f.severity == Severity::Error)) {
        (Verdict::Rejected, Some(first)) => {
            let place = place(first).map(|p| format!(" at {p}")).unwrap_or_default();
            page.answer(
                Tone::Problem,
                format!(
                    "{daemon} would refuse this configuration{place}: {}.",
                    first.message.trim_end_matches('.')
                ),
            );
        }
        (Verdict::Unknown, _) => {
            let what = if report.config.is_empty() { "The configuration" } else { &report.config };
            page.answer(Tone::Plain, format!("{what} could not be judged."));
        }
        _ => page.answer(Tone::Well, format!("{daemon} would accept this configuration.")),
    }
    let word = |n: usize, one: &str| if n == 1 { format!("1 {one}") } else { format!("{n} {one}s") };
    page.push(Block::Circumstances(format!(
        "{} and {} read · {} · {}",
        word(report.files_read, "file"),
        word(report.directives_read, "directive"),
        word(errors, "error"),
        word(warnings, "warning")
    )));
    let mut sources = HashMap::new();
    for finding in report.findings.iter().filter(|f| f.severity != Severity::Hint || verbose).take(SHOWN) {
        show(&mut page, finding, |file| {
            let known = sources.entry(file.to_owned());
            known.or_insert_with(|| source(&report.kind, snapshot, file)).clone()
        });
    }
    if report.findings.len() > SHOWN {
        page.text(format!("{} more; --format json lists them all.", report.findings.len() - SHOWN));
    }
    page.not_seen(&report.not_seen);
    page
}

/// How a configuration is corrected.
pub(crate) enum Correct<'a> {
    /// By a fix of its service; `apply` where that can be carried out from here.
    Fix { program: &'a str, service: &'a str, apply: bool },
    /// By hand, in a file that belongs to no service, below a directory.
    File { root: &'a str },
}

/// Ends a page with the commands that correct the first error.
pub(crate) fn what_to_do(page: &mut Page, correction: Option<&Correction>, how: &Correct) {
    let does = |correction: &Correction| match correction {
        Correction::Word { old, new, .. } if new.is_empty() => format!("takes {old} out"),
        Correction::Word { old, new, .. } => format!("writes {new} instead of {old}"),
        Correction::Comment { directive, .. } => {
            format!("comments {directive} out: what it says is off then")
        }
    };
    let mut commands = Vec::new();
    match how {
        Correct::Fix { program, service, apply } => {
            let service = crate::context::quoted(service);
            if let Some(correction) = correction.filter(|_| *apply) {
                let id = match correction {
                    Correction::Word { .. } => "correct-directive",
                    Correction::Comment { .. } => "comment-out",
                };
                let command = format!("{program} fix {service} --pick {id} --apply");
                commands.push((command, format!("{}; undo puts it back", does(correction))));
            }
            commands.push((
                format!("{program} fix {service}"),
                "shows each way to put it right as a diff, and changes nothing".to_owned(),
            ));
        }
        Correct::File { root } => {
            if let Some((correction, command)) = correction.and_then(|c| Some((c, by_hand(c, root)?))) {
                commands.push((command, does(correction)));
            }
        }
    }
    if !commands.is_empty() {
        page.heading("What to do");
        page.push(Block::Commands(commands));
    }
}

/// The call of `sed` that corrects a file, where it is sure to meet what is meant and nothing else.
fn by_hand(correction: &Correction, root: &str) -> Option<String> {
    let plain = |word: &str| word.bytes().all(|b| b.is_ascii_alphanumeric() || b"_-.:".contains(&b));
    let (script, file) = match correction {
        Correction::Word { file, line, old, new, first } => {
            (*first && !old.is_empty() && plain(old) && plain(new)).then_some(())?;
            (format!("{line}s/{}/{new}/", old.replace('.', "\\.")), file)
        }
        Correction::Comment { file, lines: (from, to), sign, .. } if from == to => {
            (format!("{from}s/^/{sign} /"), file)
        }
        Correction::Comment { file, lines: (from, to), sign, .. } => {
            (format!("{from},{to}s/^/{sign} /"), file)
        }
    };
    let (script, file) = (crate::context::quoted(&script), crate::context::quoted(&format!("{root}{file}")));
    Some(format!("sed -i {script} {file}"))
}

/// The page of every known service: how many would be refused, then each.
pub(crate) fn overview(all: &LintOverview, snapshot: &Snapshot, verbose: bool, program: &str) -> Page {
    let mut page = Page::new("Configuration of every service");
    let count = |verdict| all.services.iter().filter(|s| s.lint.verdict == verdict).count();
    let (refused, unknown, total) = (count(Verdict::Rejected), count(Verdict::Unknown), all.services.len());
    let (tone, answer) = match (refused, unknown) {
        (0, 0) if total == 1 => (Tone::Well, "The one configuration here would be accepted.".to_owned()),
        (0, 0) => (Tone::Well, format!("All {total} configurations would be accepted.")),
        (0, _) => (Tone::Plain, format!("None would be refused; {unknown} of {total} could not be judged.")),
        _ => (Tone::Problem, format!("{refused} of {total} configurations would be refused.")),
    };
    page.answer(tone, answer);
    for one in &all.services {
        page.heading(format!("{} ({})", one.service, one.lint.kind));
        for block in self::page(&one.lint, snapshot, verbose).blocks {
            page.push(match block {
                Block::Answer { text, .. } => Block::Text(text),
                other => other,
            });
        }
    }
    let refused = all.services.iter().filter(|s| s.lint.verdict == Verdict::Rejected);
    let fix = |one: &jolly_core::report::LintedService| {
        let service = crate::context::quoted(&one.service);
        (format!("{program} fix {service}"), "shows each way to put it right as a diff".to_owned())
    };
    let commands: Vec<_> = refused.map(fix).collect();
    if !commands.is_empty() {
        page.heading("What to do");
        page.push(Block::Commands(commands));
    }
    page.not_seen(&all.not_seen);
    page
}

/// SARIF of every known service, as one run.
pub(crate) fn sarif_of_all(all: &LintOverview) -> serde_json::Value {
    let Some((first, rest)) = all.services.split_first() else { return json!(null) };
    let mut whole = first.lint.clone();
    whole.findings.extend(rest.iter().flat_map(|s| s.lint.findings.clone()));
    sarif(&whole)
}

fn place(finding: &LintFinding) -> Option<String> {
    Some(format!("{}:{}", finding.file.as_deref()?, finding.line?))
}

/// A file as it may be shown.
fn source(kind: &str, snapshot: &Snapshot, file: &str) -> Rc<str> {
    let text = snapshot.text(file).seen().unwrap_or_default();
    jolly_core::kinds::mask_source(jolly_core::kinds::kind(kind), &text).into()
}

fn show(page: &mut Page, finding: &LintFinding, mut source: impl FnMut(&str) -> Rc<str>) {
    let word = match finding.severity {
        Severity::Error => "",
        Severity::Warning => "warning: ",
        Severity::Hint => "remark: ",
    };
    let help = finding.help.as_deref().map(|h| format!("; {h}")).unwrap_or_default();
    let message = format!("{word}{}{help}", finding.message);
    let (Some(file), Some(line)) = (&finding.file, finding.line) else {
        page.push(Block::Evidence(vec![(message, finding.code.to_string())]));
        return;
    };
    let text = source(file);
    let number = usize::try_from(line).unwrap_or(1);
    let from = number.saturating_sub(3);
    let lines: Vec<(u32, String)> =
        (1u32..).zip(text.lines()).skip(from).take(number - from).map(|(n, l)| (n, l.to_owned())).collect();
    // Behind a mask the mark would stand elsewhere: then it is that of the whole line.
    let moved = |c: u32| lines.last().is_some_and(|(_, l)| jolly_core::secrets::column_moved(l, c));
    let start = finding.column.filter(|c| !moved(*c)).map_or(0, |c| usize::try_from(c).unwrap_or(0));
    let width = finding
        .end_column
        .zip(finding.column.filter(|c| !moved(*c)))
        .map_or(0, |(e, c)| usize::try_from(e.saturating_sub(c)).unwrap_or(0));
    page.push(Block::Source {
        place: format!("{file}:{line}  {}", finding.code),
        lines,
        mark: (start, width),
        message,
    });
}

/// SARIF 2.1.0 (an OASIS standard).
pub(crate) fn sarif(report: &LintReport) -> serde_json::Value {
    let codes: std::collections::BTreeSet<_> = report.findings.iter().map(|f| f.code).collect();
    let rule = |code: &jolly_core::code::Code| {
        let (title, remedy) = (code.facts().title, code.facts().remedy);
        json!({"id": code.name(), "shortDescription": {"text": title}, "help": {"text": remedy}})
    };
    let rules: Vec<_> = codes.iter().map(rule).collect();
    let results: Vec<_> = report
        .findings
        .iter()
        .map(|f| {
            let level = match f.severity {
                Severity::Error => "error",
                Severity::Warning => "warning",
                Severity::Hint => "note",
            };
            let text = match &f.help {
                Some(help) => format!("{}; {help}", f.message),
                None => f.message.clone(),
            };
            let mut result = json!({"ruleId": f.code.name(), "level": level, "message": {"text": text}});
            if let (Some(file), Some(line)) = (&f.file, f.line) {
                let mut region = json!({"startLine": line});
                if let (Some(start), Some(end)) = (f.column, f.end_column) {
                    region["startColumn"] = json!(start);
                    region["endColumn"] = json!(end);
                }
                let address = format!("file://{}", file.replace(' ', "%20"));
                result["locations"] =
                    json!([{"physicalLocation": {"artifactLocation": {"uri": address}, "region": region}}]);
            }
            result
        })
        .collect();
    json!({
        "$schema": "https://docs.oasis-open.org/sarif/sarif/v2.1.0/os/schemas/sarif-schema-2.1.0.json",
        "version": "2.1.0",
        "runs": [{
            "tool": {
                "driver": {"name": "jolly-sentinel", "version": env!("CARGO_PKG_VERSION"), "rules": rules}
            },
            "results": results,
        }]
    })
}
