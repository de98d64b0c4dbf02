//! `settings`: which value is in force, who set it, what it overrode.
use super::{Listed, schema};
use crate::config::layers::{Assignment, InForce, Layer, resolve};
use crate::config::nearest;
use crate::config::release::Release;
use crate::config::rows::{Directives, Row, Type, is_same};
use crate::kinds::Kind;
use crate::not_seen::NotSeen;
use crate::service::Service;
use crate::snapshot::Snapshot;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::HashMap;

/// The document `settings`.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct SettingsReport {
    /// Form.
    pub schema: String,
    /// Service.
    pub service: String,
    /// Its kind.
    pub kind: String,
    /// Its release, such as `nginx-1.26.3`; `null` where nothing tells.
    pub release: Option<String>,
    /// Settings, in reading order.
    pub settings: Vec<SettingEntry>,
    /// Where `--where` asked: every line that names one of the settings, in reading order.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub mentions: Vec<Mention>,
    /// Where `--compare` asked: what is not the same there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub differences: Option<Vec<Difference>>,
    /// Names that were asked for and are set nowhere; `null` where a file could not be read that might set
    /// them.
    pub unset: Listed<String>,
    /// Names that were asked for and are no setting of this kind.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub unknown: Vec<UnknownName>,
    /// What could not be seen.
    pub not_seen: Vec<NotSeen>,
}

/// A name that is no setting.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct UnknownName {
    /// As it was asked for.
    pub name: String,
    /// The setting that is likely meant.
    pub nearest: Option<String>,
}

/// One setting in force.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct SettingEntry {
    /// Directive.
    pub name: String,
    /// Section it stands in; `null` at the top.
    pub section: Option<String>,
    /// Value; `null` for a secret.
    pub value: Option<String>,
    /// What a bare number of it counts, such as `8kB` or `ms`; `null` where nothing tells.
    #[serde(default)]
    pub unit: Option<String>,
    /// Its value where nobody sets it; `null` where the table of the release does not tell.
    #[serde(default)]
    pub default: Option<String>,
    /// Whether its value is another one than that; `null` where that is not known.
    #[serde(default)]
    pub changed: Option<bool>,
    /// Whether its value is a secret.
    pub secret: bool,
    /// Where the value comes from.
    pub layer: Layer,
    /// File; for an option of the start command that of the unit. `null` where no file holds it.
    pub file: Option<String>,
    /// Line.
    pub line: Option<u32>,
    /// Values that it overrides, in the order in which they were read.
    pub overrides: Vec<Overridden>,
}

/// A line that names a setting.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct Mention {
    /// Directive.
    pub name: String,
    /// Section it stands in; `null` at the top.
    pub section: Option<String>,
    /// Value; `null` for a secret.
    pub value: Option<String>,
    /// Where the value comes from.
    pub layer: Layer,
    /// File.
    pub file: Option<String>,
    /// Line.
    pub line: Option<u32>,
    /// Whether it counts.
    pub in_force: bool,
}

/// A setting that two hosts do not have alike.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct Difference {
    /// Directive.
    pub name: String,
    /// Section it stands in; `null` at the top.
    pub section: Option<String>,
    /// As it is here; `null` where it is set nowhere.
    pub here: Option<SettingEntry>,
    /// As it is there; `null` where it is set nowhere.
    pub there: Option<SettingEntry>,
}

/// A value that is not in force.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct Overridden {
    /// Value; `null` for a secret.
    pub value: Option<String>,
    /// Where it comes from.
    pub layer: Layer,
    /// File.
    pub file: Option<String>,
    /// Line.
    pub line: Option<u32>,
}

/// The settings of a service, all or those named.
pub fn settings(snapshot: &Snapshot, service: &Service, names: &[String]) -> SettingsReport {
    looked(snapshot, service, names).0
}

/// Where a line stands: its file, and which one it is.
type Spot = (Option<String>, Option<u32>);

/// The settings, and where their lines stand in the order in which they were read.
fn looked(snapshot: &Snapshot, service: &Service, names: &[String]) -> (SettingsReport, Vec<Spot>) {
    let mut instance = service.instance.clone();
    instance.keep_all = true;
    let kind = service.kind;
    let config = kind.read(snapshot, &instance);
    let asked: Vec<String> = names.iter().map(|n| kind.setting_key(n)).collect();
    let is_asked =
        |name: &str| asked.is_empty() || asked.contains(&kind.setting_key(name.trim_start_matches('<')));
    let mut all: Vec<Assignment> = config.model.settings.into_iter().filter(|s| is_asked(&s.name)).collect();
    for one in all.iter_mut().filter(|s| kind.scope_is_server(&s.section)) {
        one.scope = SERVER;
    }
    let order: Vec<Spot> = all.iter().map(|one| (file(one), line(one))).collect();
    let found = resolve(all, |one| kind.setting_identity(one), |one| kind.combine(one));
    // What only tells the release is no part of what was asked for.
    let found_release = snapshot.aside(|| kind.release(snapshot, &service.instance));
    let table = Table::of(kind, found_release.as_ref());
    let mut entries: Vec<SettingEntry> = found.into_iter().map(|one| table.completed(entry(one))).collect();
    // Where a file could not be read, what it would set is not known.
    let whole = config.readable && config.not_seen.is_empty() && config.bounded.is_none();
    let is_set = |name: &str| entries.iter().any(|e| kind.setting_key(&e.name) == kind.setting_key(name));
    // Only a table that was harvested whole can tell that a name is none.
    let whole_table = kind.directives().filter(|t| t.is_whole());
    let unknown: Vec<UnknownName> = names
        .iter()
        .filter(|name| !is_set(name) && whole_table.is_some_and(|t| !is_known(t, &kind.setting_key(name))))
        .map(|name| UnknownName {
            name: name.clone(),
            nearest: whole_table.and_then(|t| nearest(name, t.all().map(|r| r.name))).map(str::to_owned),
        })
        .collect();
    let is_unset = |name: &&String| whole && !is_set(name) && !unknown.iter().any(|u| u.name == **name);
    let unset: Vec<String> = names.iter().filter(is_unset).cloned().collect();
    // What the table tells of them is in force then.
    let built_in: Vec<SettingEntry> = unset.iter().filter_map(|name| table.built_in(kind, name)).collect();
    let told = |name: &String| built_in.iter().any(|b| b.name == *name);
    let unset = Listed::when(whole, unset.iter().filter(|name| !told(name)).cloned().collect());
    entries.extend(built_in);
    let mut not_seen = snapshot.not_seen();
    not_seen.extend(config.not_seen);
    let release = found_release.map(|r| r.to_string());
    let report = SettingsReport {
        schema: schema("settings"),
        service: service.name.clone(),
        kind: kind.name().to_owned(),
        release,
        settings: entries,
        mentions: Vec::new(),
        differences: None,
        unset,
        unknown,
        not_seen,
    };
    (report, order)
}

fn is_known(table: &'static Directives, name: &str) -> bool {
    table.has_name(name) || table.has_name(&name.replace('-', "_"))
}

/// Leaves only what is another value than the built-in one, as far as the table of the release tells.
pub fn only_changed(report: &mut SettingsReport) {
    report.settings.retain(|one| one.changed != Some(false) && one.layer != Layer::Default);
}

/// Every line that names a setting, in the order in which they are read.
pub fn mentions(snapshot: &Snapshot, service: &Service, name: &str) -> SettingsReport {
    let (mut report, order) = looked(snapshot, service, &[name.to_owned()]);
    let of =
        |one: &SettingEntry, value: &Option<String>, layer, file: &Option<String>, line, in_force| Mention {
            name: one.name.clone(),
            section: one.section.clone(),
            value: value.clone(),
            layer,
            file: file.clone(),
            line,
            in_force,
        };
    let set = report.settings.iter().filter(|one| one.layer != Layer::Default);
    report.mentions = set
        .flat_map(|one| {
            let over = one.overrides.iter().map(|o| of(one, &o.value, o.layer, &o.file, o.line, false));
            over.chain([of(one, &one.value, one.layer, &one.file, one.line, true)]).collect::<Vec<_>>()
        })
        .collect();
    report
        .mentions
        .sort_by_key(|one| order.iter().position(|(file, line)| *file == one.file && *line == one.line));
    report
}

/// What of these settings is not the same there, by name and section; where one is set several times, the
/// values count in their order.
pub fn compare(here: &mut SettingsReport, there: &SettingsReport, kind: &dyn Kind) {
    let key = |one: &SettingEntry| (one.section.clone(), kind.setting_key(&one.name));
    let mut left: Vec<Option<&SettingEntry>> = there.settings.iter().map(Some).collect();
    let mut places: HashMap<_, Vec<usize>> = HashMap::new();
    for (at, one) in there.settings.iter().enumerate().rev() {
        places.entry(key(one)).or_default().push(at);
    }
    // What is not known there cannot be called the same.
    if !there.unset.is_seen() {
        here.unset = Listed::when(false, Vec::new());
    }
    let mut differences = Vec::new();
    let mut secrets = Vec::new();
    for one in &here.settings {
        let other = places.get_mut(&key(one)).and_then(Vec::pop).and_then(|at| left.get_mut(at)?.take());
        let row = kind.directives().and_then(|t| {
            let key = kind.setting_key(&one.name);
            t.any_case(&key).first().or_else(|| t.any_case(&key.replace('-', "_")).first())
        });
        let same = |a: &str, b: &str| a == b || row.is_some_and(|row| is_same(row, a, b));
        let alike = other.is_some_and(|other| match (&one.value, &other.value) {
            (Some(a), Some(b)) => same(a, b),
            // Of two secrets nobody tells whether they are one.
            (None, None) => {
                secrets.push(one.name.clone());
                true
            }
            _ => false,
        });
        if !alike {
            differences.push(Difference {
                name: one.name.clone(),
                section: one.section.clone(),
                here: Some(one.clone()),
                there: other.cloned(),
            });
        }
    }
    differences.extend(left.into_iter().flatten().map(|one| Difference {
        name: one.name.clone(),
        section: one.section.clone(),
        here: None,
        there: Some(one.clone()),
    }));
    here.not_seen.extend(secrets.iter().map(|name| format!("{name}: a secret is not compared").into()));
    here.differences = Some(differences);
}

/// What the table of a release tells of settings.
struct Table {
    rows: Option<(&'static Directives, Release)>,
    key: Box<dyn Fn(&str) -> String>,
}

impl Table {
    fn of(kind: &'static dyn Kind, release: Option<&Release>) -> Self {
        let release = release.and_then(|r| kind.table_release(r));
        let rows = kind.directives().zip(release);
        Self { rows, key: Box::new(move |name| kind.setting_key(name)) }
    }

    fn row(&self, name: &str) -> Option<&'static Row> {
        let (rows, release) = self.rows.as_ref()?;
        let key = (self.key)(name);
        // Tables have `_` where some kinds write `-`.
        rows.known(&key, Some(release)).or_else(|| rows.known(&key.replace('-', "_"), Some(release)))
    }

    /// With what the table tells of it.
    fn completed(&self, mut one: SettingEntry) -> SettingEntry {
        let Some(row) = self.row(&one.name) else { return one };
        let bare = one.value.as_ref().is_some_and(|v| v.parse::<f64>().is_ok());
        if let Some(Type::Amount(amount)) = row.first()
            && bare
            && !amount.unit.is_empty()
        {
            one.unit = Some(amount.unit.to_owned());
        }
        if let Some(default) = row.default.filter(|_| !row.has_secret()) {
            one.changed = one.value.as_ref().map(|value| !is_same(row, value, default));
            one.default = Some(default.to_owned());
        }
        one
    }

    /// A setting that nobody sets.
    fn built_in(&self, kind: &dyn Kind, name: &str) -> Option<SettingEntry> {
        let default = self.row(name)?.default?.to_owned();
        (!kind.is_secret(&kind.setting_key(name))).then(|| SettingEntry {
            name: name.to_owned(),
            section: None,
            value: Some(default.clone()),
            unit: None,
            default: Some(default),
            changed: Some(false),
            secret: false,
            layer: Layer::Default,
            file: None,
            line: None,
            overrides: Vec::new(),
        })
    }
}

/// The scope of the server's own settings, whatever section of them they stand in.
const SERVER: u32 = u32::MAX;

fn entry(one: InForce) -> SettingEntry {
    let value = shown(&one.counts);
    let overrides = one
        .overrode
        .iter()
        .map(|o| Overridden { value: shown(o), layer: o.layer, file: file(o), line: line(o) })
        .collect();
    SettingEntry {
        secret: value.is_none(),
        value,
        unit: None,
        default: None,
        changed: None,
        layer: one.counts.layer,
        file: file(&one.counts),
        line: line(&one.counts),
        overrides,
        section: Some(one.counts.section).filter(|s| !s.is_empty()),
        name: one.counts.name,
    }
}

fn file(one: &Assignment) -> Option<String> {
    one.place.as_ref().map(|p| p.file.to_string())
}

fn line(one: &Assignment) -> Option<u32> {
    one.place.as_ref().map(|p| p.line)
}

/// A value as it may be shown; `None` for a secret.
fn shown(one: &Assignment) -> Option<String> {
    one.value.shown().map(crate::bounds::clip)
}
