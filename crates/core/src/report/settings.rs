//! `settings`: which value is in force, who set it, what it overrode.
use super::{Listed, schema};
use crate::kinds::Kind;
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
    /// Settings, in reading order.
    pub settings: Vec<SettingEntry>,
    /// Names that were asked for and are set nowhere; `null` where a file could not be read that might set them.
    pub unset: Listed<String>,
    /// What could not be seen.
    pub not_seen: Vec<String>,
}

/// One setting.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct SettingEntry {
    /// Directive.
    pub name: String,
    /// Value, secrets masked.
    pub value: String,
    /// Section it stands in; empty at the top.
    pub section: String,
    /// File.
    pub file: String,
    /// Line.
    pub line: u32,
    /// Earlier lines of the same section that it overrides, as `file:line`.
    pub overrides: Vec<String>,
}

/// The settings of a service, all or those named.
pub fn settings(snapshot: &Snapshot, service: &Service, names: &[String]) -> SettingsReport {
    let mut instance = service.instance.clone();
    instance.keep_all = true;
    let config = service.kind.read(snapshot, &instance);
    let asked = |name: &str| names.is_empty() || names.iter().any(|n| n.eq_ignore_ascii_case(name));
    let mut entries: Vec<SettingEntry> = Vec::new();
    for one in config.model.settings.iter().filter(|s| asked(s.name.trim_start_matches('<'))) {
        entries.push(SettingEntry {
            name: one.name.clone(),
            value: crate::bounds::clip(&masked(service.kind, &one.name, &one.value)),
            section: one.section.clone(),
            file: one.place.file.to_string(),
            line: one.place.line,
            overrides: Vec::new(),
        });
    }
    // Where a file could not be read, what it would set is not known.
    let whole = config.readable && config.not_seen.is_empty() && config.bounded.is_none();
    let unset = Listed::when(whole, names.iter().filter(|n| whole && !entries.iter().any(|e| e.name.eq_ignore_ascii_case(n))).cloned().collect());
    let mut not_seen = snapshot.not_seen();
    not_seen.extend(config.not_seen);
    SettingsReport { schema: schema("settings"), service: service.name.clone(), settings: fold(entries), unset, not_seen }
}

/// A value as it may be shown: a secret's name decides, so name and value are looked at together.
fn masked(kind: &dyn Kind, name: &str, value: &str) -> String {
    if !value.is_empty() && kind.secret_settings().iter().any(|s| s.eq_ignore_ascii_case(name)) {
        return crate::host::MASK.into();
    }
    crate::host::mask_value(name, value)
}

/// Plain values at the top level override earlier ones of the same name; lists and section-bound values stay apart.
fn fold(entries: Vec<SettingEntry>) -> Vec<SettingEntry> {
    const SINGLE: &[&str] = &[
        "timeout",
        "keepalive",
        "keepalivetimeout",
        "maxkeepaliverequests",
        "user",
        "group",
        "pidfile",
        "errorlog",
        "loglevel",
        "servername",
        "serverroot",
        "servertokens",
        "serversignature",
        "traceenable",
        "hostnamelookups",
        "documentroot",
        "serveradmin",
    ];
    let mut out: Vec<SettingEntry> = Vec::new();
    for mut entry in entries {
        let single = SINGLE.contains(&entry.name.to_ascii_lowercase().as_str());
        if let Some(at) = out.iter().position(|e| single && e.name.eq_ignore_ascii_case(&entry.name) && e.section == entry.section) {
            let earlier = out.remove(at);
            entry.overrides = earlier.overrides;
            entry.overrides.push(format!("{}:{}", earlier.file, earlier.line));
        }
        out.push(entry);
    }
    out
}
