//! The environment that a login shell gets from the host's files, against the one that the service gets.
use crate::bounds;
use crate::path;
use crate::snapshot::Snapshot;
use std::collections::BTreeMap;

/// A variable that a login shell has otherwise than the service.
#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize, serde::Deserialize, schemars::JsonSchema)]
pub struct Difference {
    /// Its name.
    pub name: String,
    /// In a login shell.
    pub shell: String,
    /// In the service; `null` where it is not set.
    pub service: Option<String>,
    /// The file that sets it for shells.
    pub file: String,
    /// Its line.
    pub line: u32,
}

/// Plain assignments for login shells, the later ones winning: value, file and line. What a script computes
/// is not understood.
pub fn login(snapshot: &Snapshot) -> BTreeMap<String, (String, String, u32)> {
    // What /etc/profile itself sets is the distribution's plain search path: no news.
    let mut files = vec!["/etc/environment".to_owned()];
    let dir = "/etc/profile.d";
    let scripts = snapshot.list(dir).seen().unwrap_or_default();
    files.extend(scripts.iter().filter(|e| e.name.ends_with(".sh")).map(|e| path::join(dir, &e.name)));
    let mut found: BTreeMap<String, (String, String, u32)> = BTreeMap::new();
    for file in files {
        for (number, line) in (1u32..).zip(snapshot.text(&file).seen().unwrap_or_default().lines()) {
            // What is set in, belongs to a function or a case of its own.
            let indented = line.starts_with([' ', '\t']);
            let line = line.trim();
            let assignment = line.strip_prefix("export ").unwrap_or(line);
            let Some((name, value)) = assignment.split_once('=').filter(|_| !line.starts_with('#')) else {
                continue;
            };
            let plain = !name.is_empty()
                && name.bytes().all(|b| b.is_ascii_uppercase() || b.is_ascii_digit() || b == b'_');
            let value = value
                .split(" #")
                .next()
                .unwrap_or_default()
                .trim()
                .trim_end_matches(';')
                .trim_matches(['"', '\'']);
            if !plain || indented || value.contains("$(") || value.contains('`') {
                continue;
            }
            let value = expand(value, &found).trim_end_matches("$PATH").trim_end_matches(':').to_owned();
            if value.contains('$') || value.is_empty() {
                continue;
            }
            found.insert(name.to_owned(), (value, file.clone(), number));
        }
    }
    found
}

/// `$NAME` and `${NAME}` of what was set before.
fn expand(value: &str, known: &BTreeMap<String, (String, String, u32)>) -> String {
    let mut out = value.to_owned();
    for (name, (text, ..)) in known {
        let filled = |value: &str, piece: &str| bounds::replaced(value, piece, text, bounds::VALUE);
        let both = filled(&out, &format!("${{{name}}}")).and_then(|out| filled(&out, &format!("${name}")));
        // Longer than a program can be given: it is not understood.
        let Some(both) = both else { return String::new() };
        out = both;
    }
    out
}

/// What differs, by name.
pub fn differences(snapshot: &Snapshot, service: &BTreeMap<String, String>) -> Vec<Difference> {
    login(snapshot)
        .into_iter()
        .filter(|(name, (value, ..))| {
            service.get(name) != Some(value) && !matches!(name.as_str(), "PS1" | "PS2" | "IFS")
        })
        .map(|(name, (shell, file, line))| Difference {
            service: service.get(&name).cloned(),
            name,
            shell,
            file,
            line,
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tests::TextHost;

    #[test]
    fn a_shell_finds_another_runtime_than_the_service() {
        let host = TextHost::new().file("/etc/environment", "LANG=C.UTF-8\n# JAVA_HOME=/opt/none\n").file(
            "/etc/profile.d/java.sh",
            "export JAVA_HOME=/opt/jdk-21\nexport PATH=\"$JAVA_HOME/bin:/usr/bin\"\n\
                if [ x = y ]; then\n    AWKPATH=$*\nfi\nTODAY=$(date)\nODD=$NOWHERE\n",
        );
        let service = BTreeMap::from([
            ("JAVA_HOME".to_owned(), "/opt/jdk-8".to_owned()),
            ("LANG".to_owned(), "C.UTF-8".to_owned()),
        ]);
        let found = differences(&Snapshot::new(&host), &service);
        let brief: Vec<_> =
            found.iter().map(|d| (d.name.as_str(), d.shell.as_str(), d.service.as_deref(), d.line)).collect();
        assert_eq!(
            brief,
            [
                ("JAVA_HOME", "/opt/jdk-21", Some("/opt/jdk-8"), 1),
                ("PATH", "/opt/jdk-21/bin:/usr/bin", None, 2)
            ]
        );
    }
}
