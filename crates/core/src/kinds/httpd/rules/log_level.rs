//! How much is logged.
use super::super::state::{Directive, Reader, Rule};
use super::common::bad_word;

pub(super) static RULE: Rule = Rule { names: &["LogLevel"], check: |r, d, _| log_level(r, d) };

fn log_level(r: &mut Reader, d: &Directive) {
    const LEVELS: &[&str] = &["emerg", "alert", "crit", "error", "warn", "notice", "info", "debug"];
    for word in d.values.clone() {
        let (module, level) = word.split_once(':').map_or((None, &*word), |(m, l)| (Some(m), l));
        let trace =
            level.to_ascii_lowercase().strip_prefix("trace").is_some_and(|n| matches!(n.parse(), Ok(1..=8)));
        if !trace && !LEVELS.iter().any(|l| l.eq_ignore_ascii_case(level)) {
            return bad_word(
                r,
                d,
                level,
                format!(
                    "\"{level}\" is not a log level, expected one of {} or trace1 to trace8",
                    LEVELS.join(", ")
                ),
            );
        }
        if let Some(module) = module {
            let id = if module.ends_with("_module") || module.contains('.') {
                module.to_owned()
            } else {
                format!("{module}_module")
            };
            if !r.module_loaded(&id) && !matches!(module, "core" | "http" | "core_module" | "http_module") {
                return bad_word(r, d, module, format!("LogLevel names \"{module}\", which is not loaded"));
            }
        }
    }
}
