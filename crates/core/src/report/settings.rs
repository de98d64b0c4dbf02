//! `settings`: which value is in force, who set it, what it overrode.
use super::{Listed, schema};
use crate::config::layers::{Assignment, InForce, Layer, resolve};
use crate::config::nearest;
use crate::not_seen::NotSeen;
use crate::service::Service;
use crate::snapshot::Snapshot;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

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
    let found = resolve(all, |one| kind.setting_identity(one), |one| kind.combine(one));
    let entries: Vec<SettingEntry> = found.into_iter().map(entry).collect();
    // Where a file could not be read, what it would set is not known.
    let whole = config.readable && config.not_seen.is_empty() && config.bounded.is_none();
    let is_set = |name: &str| entries.iter().any(|e| kind.setting_key(&e.name) == kind.setting_key(name));
    // Only a table that was harvested whole can tell that a name is none.
    let table = kind.directives().filter(|t| t.is_whole());
    let unknown: Vec<UnknownName> = names
        .iter()
        .filter(|name| !is_set(name) && table.is_some_and(|t| !t.has_name(name)))
        .map(|name| UnknownName {
            name: name.clone(),
            nearest: table.and_then(|t| nearest(name, t.all().map(|r| r.name))).map(str::to_owned),
        })
        .collect();
    let is_unset = |name: &&String| whole && !is_set(name) && !unknown.iter().any(|u| u.name == **name);
    let unset = Listed::when(whole, names.iter().filter(is_unset).cloned().collect());
    let mut not_seen = snapshot.not_seen();
    not_seen.extend(config.not_seen);
    let release = kind.release(snapshot, &service.instance).map(|r| r.to_string());
    SettingsReport {
        schema: schema("settings"),
        service: service.name.clone(),
        kind: kind.name().to_owned(),
        release,
        settings: entries,
        unset,
        unknown,
        not_seen,
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
