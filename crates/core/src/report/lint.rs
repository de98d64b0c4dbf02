//! `lint`: would the daemon accept this configuration?
use super::schema;
use crate::checks::configuration::fixes;
use crate::code::Code;
use crate::config::{Configuration, DependsOn, Severity, propose};
use crate::kinds::{Instance, Kind};
use crate::not_seen::NotSeen;
use crate::service::Service;
use crate::snapshot::Snapshot;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// The verdict on a configuration.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Verdict {
    /// A start with it would be accepted.
    Accepted,
    /// A start with it would be refused.
    Rejected,
    /// Nothing could be judged.
    Unknown,
}

/// The document `lint`.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct LintReport {
    /// Form.
    pub schema: String,
    /// Kind.
    pub kind: String,
    /// Release that was judged by.
    pub release: Option<String>,
    /// Main file.
    pub config: String,
    /// Verdict.
    pub verdict: Verdict,
    /// The first error is the daemon's own; the others follow in reading order.
    pub findings: Vec<LintFinding>,
    /// Findings beyond those that are told one by one, counted by their code.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub more: BTreeMap<Code, usize>,
    /// What could not be judged.
    pub not_seen: Vec<NotSeen>,
    /// Number of files read.
    pub files_read: usize,
    /// Number of directives read.
    pub directives_read: usize,
}

/// The document `lint` where no service is named: all of them.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct LintOverview {
    /// Form.
    pub schema: String,
    /// Every known service, by name.
    pub services: Vec<LintedService>,
    /// What could not be seen.
    pub not_seen: Vec<NotSeen>,
}

/// One service and its configuration.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct LintedService {
    /// Service.
    pub service: String,
    /// The document `lint` of it.
    pub lint: LintReport,
}

/// Judges the configuration of every service.
pub fn lint_all(snapshot: &Snapshot, services: &[Service]) -> LintOverview {
    let one = |service: &Service| LintedService {
        service: service.name.clone(),
        lint: lint_configuration(snapshot, service.kind, &service.instance).0,
    };
    let services: Vec<LintedService> = services.iter().map(one).collect();
    LintOverview { schema: schema("lint-all"), services, not_seen: snapshot.not_seen() }
}

/// One finding.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct LintFinding {
    /// What.
    pub code: Code,
    /// How bad.
    pub severity: Severity,
    /// File.
    pub file: Option<String>,
    /// Line.
    pub line: Option<u32>,
    /// First column.
    pub column: Option<u32>,
    /// Column behind the last.
    pub end_column: Option<u32>,
    /// Directive.
    pub directive: Option<String>,
    /// What the verdict rests on.
    pub depends_on: DependsOn,
    /// What was found, then what was expected.
    pub message: String,
    /// The remedy.
    pub help: Option<String>,
}

/// What corrects a fault by an edit of its file alone.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Correction {
    /// One word is written anew; an empty one is taken out.
    Word {
        /// File.
        file: String,
        /// Line, from 1.
        line: usize,
        /// What stands there.
        old: String,
        /// What belongs there.
        new: String,
        /// Whether the word stands for the first time on its line there.
        first: bool,
    },
    /// Lines that hold one directive and nothing else are put behind comment signs.
    Comment {
        /// File.
        file: String,
        /// The first line and the last one, from 1.
        lines: (usize, usize),
        /// The sign.
        sign: &'static str,
        /// The directive.
        directive: String,
    },
}

impl Correction {
    /// The file that is edited.
    pub fn file(&self) -> &String {
        match self {
            Self::Word { file, .. } | Self::Comment { file, .. } => file,
        }
    }
    /// The same, to be named otherwise.
    pub fn file_mut(&mut self) -> &mut String {
        match self {
            Self::Word { file, .. } | Self::Comment { file, .. } => file,
        }
    }
}

/// What corrects the first error of a configuration; `None` where that takes more than an edit.
pub fn correction(snapshot: &Snapshot, kind: &dyn Kind, read: &Configuration) -> Option<Correction> {
    let finding = read.first_error()?;
    if let Some((span, new)) = &finding.edit {
        let text = snapshot.text(&span.file).seen()?;
        let old = text.get(span.start..span.end)?.to_owned();
        let begin = text[..span.start].rfind('\n').map_or(0, |at| at + 1);
        let line = text[..begin].matches('\n').count() + 1;
        let first = text[begin..].find(&old) == Some(span.start - begin);
        return Some(Correction::Word { file: span.file.to_string(), line, old, new: new.clone(), first });
    }
    let place = finding.place.as_ref().filter(|_| fixes(finding).contains(&"comment-out"))?;
    let sign = kind.profile().comment?;
    let text = snapshot.text(&place.file).seen()?;
    let directive = finding.directive.clone()?;
    let alone = crate::kinds::lines_alone(kind, &text, place.line, &directive).ok()?;
    let number = |at: usize| text[..at].matches('\n').count() + 1;
    let lines = (number(alone.start), number(alone.end));
    Some(Correction::Comment { file: place.file.to_string(), lines, sign, directive })
}

/// Said of a kind whose configuration nothing here knows.
const NOT_JUDGED: &str = "the configuration: what may stand in it is not known here, so nothing was judged";

/// Judges a configuration.
pub fn lint_configuration(
    snapshot: &Snapshot,
    kind: &dyn Kind,
    instance: &Instance,
) -> (LintReport, Configuration) {
    let mut read = kind.read(snapshot, instance);
    propose(snapshot, kind, instance, &mut read);
    let rejected = read.first_error().is_some();
    let unjudged = kind.directives().is_none() && read.model.directives == 0;
    let verdict = match (read.readable, rejected) {
        (false, _) => Verdict::Unknown,
        (_, true) => Verdict::Rejected,
        // What lies behind a bound could be refused.
        _ if read.bounded.is_some() => Verdict::Unknown,
        // Nothing is said to be accepted that rests on no table.
        _ if unjudged => Verdict::Unknown,
        _ => Verdict::Accepted,
    };
    let known = |place: &crate::config::Place, column| snapshot.knows_column(&place.file, place.line, column);
    let mut told = crate::kinds::Told::new(snapshot, kind);
    let findings = read
        .findings
        .iter()
        .map(|f| LintFinding {
            code: f.code,
            severity: f.severity,
            file: f.place.as_ref().map(|p| p.file.to_string()),
            line: f.place.as_ref().map(|p| p.line),
            column: f.place.as_ref().filter(|p| p.column > 0 && known(p, p.column)).map(|p| p.column),
            end_column: f
                .place
                .as_ref()
                .filter(|p| p.end_column > 0 && known(p, p.column))
                .map(|p| p.end_column),
            directive: f.directive.clone(),
            depends_on: f.depends_on,
            message: told.message(f),
            help: f.help.clone(),
        })
        .collect();
    let report = LintReport {
        schema: schema("lint"),
        kind: kind.name().into(),
        release: kind.release(snapshot, instance).map(|r| r.to_string()),
        config: instance.config.clone(),
        verdict,
        findings,
        more: read.more.clone(),
        not_seen: read.not_seen.iter().cloned().chain(unjudged.then(|| NOT_JUDGED.into())).collect(),
        files_read: read.model.files.len(),
        directives_read: read.model.directives,
    };
    (report, read)
}
