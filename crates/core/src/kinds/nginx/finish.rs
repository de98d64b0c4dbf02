//! What nginx checks after the last line: references, then files, in its own order.
use super::state::{HostUse, MayBe, Reader};
use super::{listen, rules, variables};
use crate::code::Code;
use crate::config::{About, ConfigFinding, DependsOn, NameSet, NamedPath, Place};
use crate::host::Look;
use crate::path;

pub(super) fn finish(r: &mut Reader) {
    if !r.facts.has_events {
        r.plain(
            Code::ConfigSyntax,
            DependsOn::Text,
            "the \"events\" section is missing, and nginx insists on it".into(),
            None,
        );
    }
    upstreams(r);
    for site in std::mem::take(&mut r.facts.sites) {
        rules::certificates::site_certificates(r, &site);
    }
    zones(r);
    rules::buffers::finish(r);
    unknown_variables(r);
    listen::finish(r);
    written(r);
    read_at_start(r);
    // The daemon stops at the first fault in file order; what is found after the last line comes behind it.
}

fn add(
    r: &mut Reader,
    code: Code,
    place: Option<Place>,
    depends_on: DependsOn,
    message: String,
    about: Option<About>,
) {
    r.out.add(ConfigFinding { place, depends_on, about, ..ConfigFinding::error(code, message) });
}

/// Names that must be an upstream block or resolve. The daemon resolves while it reads, so a fault here
/// belongs before every later one in the file.
fn upstreams(r: &mut Reader) {
    for (name, one) in std::mem::take(&mut r.facts.passes) {
        if !r.facts.upstreams.contains_key(&name) {
            r.out.model.upstreams.push(one);
        }
    }
    // A group that nobody passes on to serves nobody.
    let used: NameSet<String> =
        r.facts.host_uses.iter().filter(|u| u.may_be != MayBe::Host).map(|u| u.host.clone()).collect();
    let members = std::mem::take(&mut r.facts.members).into_iter();
    let is_used =
        |group: &str| group.split_whitespace().nth(1).is_some_and(|n| used.contains(&n.to_ascii_lowercase()));
    r.out.model.upstreams.extend(members.filter(|m| is_used(&m.group)));
    for HostUse { host, upstream, may_be, place, directive } in std::mem::take(&mut r.facts.host_uses) {
        if may_be != MayBe::Host && r.facts.upstreams.contains_key(&upstream) {
            continue;
        }
        if may_be == MayBe::Upstream {
            let message = format!("\"{host}\" names no port and no upstream of that name is declared");
            add(r, Code::ConfigBadValue, Some(place), DependsOn::Text, message, Some(About::Name(host)));
            continue;
        }
        match crate::names::lookup(r.snapshot, &host) {
            Look::Seen(_) => {}
            Look::Absent => {
                let message = format!("host \"{host}\" of \"{directive}\" does not resolve");
                add(r, Code::NameUnresolved, Some(place), DependsOn::Names, message, Some(About::Host(host)));
            }
            Look::NotSeen(_) => r.out.not_seen.push(format!("whether {host} resolves ({place})").into()),
        }
    }
}

fn zones(r: &mut Reader) {
    for (name, place, directive) in std::mem::take(&mut r.facts.zone_uses) {
        if !r.facts.zones.contains_key(&name) {
            let name = name.trim_start_matches("stream ");
            let message = format!("zone \"{name}\" of \"{directive}\" ({place}) is declared nowhere");
            // A cache is looked up when the sections are merged, at the end of http; the others after the
            // last line.
            let place =
                if directive.ends_with("_cache") { r.facts.http_end.clone().unwrap_or(place) } else { place };
            add(
                r,
                Code::ConfigBadValue,
                Some(place),
                DependsOn::Text,
                message,
                Some(About::Name(name.to_owned())),
            );
        }
    }
}

fn unknown_variables(r: &mut Reader) {
    for (name, place) in std::mem::take(&mut r.facts.variable_uses) {
        let plain = name.trim_start_matches("stream ");
        if !r.facts.variables.contains(&name) && !variables::built_in(plain) {
            let name = plain.to_owned();
            let message = format!("variable \"${name}\" is defined nowhere");
            add(r, Code::ConfigBadValue, Some(place), DependsOn::Text, message, Some(About::Name(name)));
        }
    }
}

/// Directories of logs, the pid file and temporary files must exist.
fn written(r: &mut Reader) {
    let mut all = r.out.model.writes.clone();
    if !r.facts.has_error_log
        && let Some(default) = &r.options.error_log
    {
        let entry = NamedPath { path: default.clone(), place: None, directive: "error_log".into() };
        r.out.model.error_logs.insert(0, entry.clone());
        all.push(entry);
    }
    if r.facts.has_http {
        for (directive, default) in &r.options.temp_paths {
            if !r.facts.temp_paths.contains(directive) {
                all.push(NamedPath { path: default.clone(), place: None, directive: directive.clone() });
            }
        }
    }
    r.out.model.background.get_or_insert(true);
    r.out.model.notifies = Some(false);
    if r.out.model.pid_file.is_none() {
        r.out.model.pid_file =
            Some(NamedPath { path: r.options.pid.clone(), place: None, directive: "pid".into() });
    }
    if let Some(pid) = &r.out.model.pid_file {
        all.push(pid.clone());
    }
    for entry in &all {
        let needed = path::parent(&entry.path).to_owned();
        if r.options.made_by_manager.iter().any(|d| path::is_within(&needed, d)) {
            continue;
        }
        if r.snapshot.is_directory(&needed) == Some(false) {
            let message = format!("directory {needed} for {} does not exist", entry.path);
            add(
                r,
                Code::ConfigMissingFile,
                entry.place.clone(),
                DependsOn::Files,
                message,
                Some(About::Directory(needed)),
            );
            if let Some(last) = r.out.findings.last_mut() {
                last.directive = Some(entry.directive.clone());
            }
        } else if r.snapshot.is_directory(&entry.path) == Some(true)
            && (entry.directive.ends_with("_log") || entry.directive == "pid")
        {
            let message = format!("{} is a directory, expected a file", entry.path);
            add(
                r,
                Code::ConfigBadValue,
                entry.place.clone(),
                DependsOn::Files,
                message,
                Some(About::File(entry.path.clone())),
            );
        }
    }
    r.out.model.writes = all;
}

fn read_at_start(r: &mut Reader) {
    for entry in r.out.model.reads.clone() {
        if entry.directive.starts_with("ssl_certificate") {
            continue;
        }
        if entry.directive.ends_with("password_file") && r.snapshot.is_directory(&entry.path) == Some(true) {
            let message = format!("{} is a directory, expected a file", entry.path);
            let about = Some(About::File(entry.path));
            add(r, Code::ConfigBadValue, entry.place, DependsOn::Files, message, about);
        } else if r.snapshot.exists(&entry.path) == Some(false) {
            let message = format!("{} does not exist", entry.path);
            add(
                r,
                Code::ConfigMissingFile,
                entry.place.clone(),
                DependsOn::Files,
                message,
                Some(About::File(entry.path)),
            );
        }
    }
}
