//! Where the logs go.
use super::super::state::{Directive, Reader, Rule};
use super::common::{named, uses_variables};
use crate::code::Code;
use crate::config::LogSink;

pub(super) static ERROR_LOG: Rule = Rule { names: &["error_log"], check: |r, d, _| error_log(r, d) };
pub(super) static ACCESS_LOG: Rule = Rule { names: &["access_log"], check: |r, d, _| access_log(r, d) };
pub(super) static FORMAT: Rule = Rule { names: &["log_format"], check: |r, d, _| log_format(r, d) };

fn log_format(r: &mut Reader, d: &Directive) {
    let name = d.argument(0).to_owned();
    let known = r.known_here(&name);
    if r.facts.formats.contains(&known) {
        r.find_of(d, &name, Code::ConfigConflict, format!("log format \"{name}\" is declared twice"));
    }
    r.facts.formats.insert(known);
    let parts: Vec<String> =
        d.arguments().skip(1).filter(|a| !a.starts_with("escape=")).map(str::to_owned).collect();
    parts.iter().for_each(|p| uses_variables(r, d, p));
}

fn error_log(r: &mut Reader, d: &Directive) {
    let value = d.argument(0);
    if r.context() == "main" {
        r.facts.has_error_log = true;
    }
    const LEVELS: &[&str] = &[
        "emerg",
        "alert",
        "crit",
        "error",
        "warn",
        "notice",
        "info",
        "debug",
        "debug_core",
        "debug_alloc",
        "debug_mutex",
        "debug_event",
        "debug_http",
        "debug_mail",
        "debug_stream",
    ];
    if let Some(wrong) = d.arguments().skip(1).find(|a| !LEVELS.contains(a)) {
        let wrong = wrong.to_owned();
        r.find_of(
            d,
            &wrong,
            Code::ConfigBadValue,
            format!("\"{wrong}\" is not a log level, expected one of {}", LEVELS[..8].join(", ")),
        );
        return;
    }
    let sink = match value.split(':').next() {
        Some("stderr") => Some(LogSink::StandardError),
        Some("syslog") if value.contains(':') => Some(LogSink::Syslog),
        _ => None,
    };
    // An empty name stands for no file.
    if sink.is_some() || value.starts_with("memory:") || value.is_empty() {
        r.out.model.log_sinks.extend(sink.map(|sink| (sink, Some(r.place_at(d, value)))));
        return;
    }
    let entry = named(r, d, value);
    r.out.model.writes.push(entry.clone());
    if r.context() == "main" {
        r.out.model.error_logs.insert(0, entry);
    } else {
        r.out.model.error_logs.push(entry);
    }
}

fn access_log(r: &mut Reader, d: &Directive) {
    let value = d.argument(0);
    if value == "off" {
        if d.words.len() > 2 {
            let extra = d.argument(1).to_owned();
            r.find_of(
                d,
                &extra,
                Code::ConfigBadValue,
                format!("\"{extra}\" stands behind \"off\", which takes nothing more"),
            );
        }
        return;
    }
    if d.words.len() == 2 && r.context().starts_with("stream") {
        r.find(d, Code::ConfigBadValue, "the format of this log is missing: a stream has no usual one");
        return;
    }
    if d.words.len() > 2 && !d.argument(1).contains('=') {
        let format = d.argument(1).to_owned();
        if format != "combined" && !r.facts.formats.contains(&r.known_here(&format)) {
            r.find_of(
                d,
                &format,
                Code::ConfigBadValue,
                format!("log format \"{format}\" is not declared before this line"),
            );
            return;
        }
    }
    if let Some(wrong) =
        d.arguments().skip(2).find(|a| !["buffer=", "flush=", "gzip", "if="].iter().any(|p| a.starts_with(p)))
    {
        let wrong = wrong.to_owned();
        r.find_of(d, &wrong, Code::ConfigBadValue, format!("\"{wrong}\" is not a parameter of access_log"));
        return;
    }
    uses_variables(r, d, value);
    if !value.contains('$') && !value.starts_with("syslog:") && !value.is_empty() {
        let entry = named(r, d, value);
        r.out.model.writes.push(entry.clone());
        r.out.model.access_logs.push(entry);
    }
}
