//! The sandbox of the unit: paths that it takes away although file modes would allow them.
use crate::case::Case;
use crate::code::Code;
use crate::config::Severity;
use crate::finding::{Evidence, Finding, Proof, Source, Subject, stage};
use crate::manager::Unit;
use crate::path;
use crate::snapshot::Snapshot;

pub(super) fn check(snapshot: &Snapshot, case: &Case) -> Vec<Finding> {
    let Some(unit) = &case.service.unit else { return vec![] };
    let mut found: Vec<Finding> = Vec::new();
    for entry in &case.config.model.writes {
        let file = snapshot.resolve_links(&entry.path);
        let Some(setting) = refusal(unit, &file) else { continue };
        let dir = path::parent(&file).to_owned();
        if found.iter().any(|f| f.subject.path.as_deref() == Some(dir.as_str())) {
            continue;
        }
        let mut evidence = Evidence::new(Source::Manager, format!("{setting} in {}", unit.name));
        if let Some((file, line)) = unit.place("Service", setting.split('=').next().unwrap_or_default()) {
            evidence.file = Some(file);
            evidence.line = Some(line);
        }
        found.push(Finding {
            code: Code::PolicyDenied,
            severity: Severity::Error,
            subject: Subject::path(&dir),
            title: format!("the sandbox of {} does not let it write {file}", unit.name),
            proof: Proof::Inevitable,
            evidence: vec![evidence],
            fixes: vec!["allow-in-sandbox"],
            blocks: true,
            stage: stage::FILES,
        });
    }
    found
}

fn below(file: &str, dir: &str) -> bool {
    let dir = dir.trim_start_matches(['-', '+']).trim_end_matches('/');
    file == dir || file.strip_prefix(dir).is_some_and(|rest| rest.starts_with('/'))
}

/// The setting that takes the path away (systemd.exec(5)); the most specific path wins.
fn refusal(unit: &Unit, file: &str) -> Option<String> {
    let list =
        |key: &str| -> Vec<String> { unit.values("Service", key).iter().flat_map(|v| v.split_whitespace().map(str::to_owned).collect::<Vec<_>>()).collect() };
    let longest = |paths: &[String]| paths.iter().filter(|p| below(file, p)).map(String::len).max();
    let mut allowed = list("ReadWritePaths");
    for (key, base) in [("RuntimeDirectory", "/run"), ("StateDirectory", "/var/lib"), ("LogsDirectory", "/var/log"), ("CacheDirectory", "/var/cache")] {
        allowed.extend(list(key).into_iter().map(|d| path::join(base, &d)));
    }
    let allowed = longest(&allowed).unwrap_or(0);
    for key in ["InaccessiblePaths", "ReadOnlyPaths"] {
        let paths = list(key);
        if let Some(length) = longest(&paths).filter(|l| *l > allowed) {
            let path = paths.iter().find(|p| below(file, p) && p.len() == length)?;
            return Some(format!("{key}={path}"));
        }
    }
    if allowed > 0 {
        return None;
    }
    let on = |value: &str| matches!(value, "yes" | "true" | "on" | "1");
    let protect = unit.value("Service", "ProtectSystem").unwrap_or_default();
    let system: &[&str] = match protect.as_str() {
        "strict" => &["/"],
        "full" => &["/usr", "/boot", "/efi", "/etc"],
        value if on(value) => &["/usr", "/boot", "/efi"],
        _ => &[],
    };
    let always_open = ["/dev", "/proc", "/sys"].iter().any(|d| below(file, d));
    if system.iter().any(|d| *d == "/" || below(file, d)) && !always_open {
        return Some(format!("ProtectSystem={protect}"));
    }
    let home = unit.value("Service", "ProtectHome").unwrap_or_default();
    let homes = ["/home", "/root", "/run/user"].iter().any(|d| below(file, d));
    (homes && (on(&home) || matches!(home.as_str(), "read-only" | "tmpfs"))).then(|| format!("ProtectHome={home}"))
}
