//! What a start command runs in the end: behind shells, programs that only start another one, and scripts that
//! end by running something.
use super::init_script::{assign, value_of};
use super::split_words;
use crate::path;
use crate::snapshot::Snapshot;
use std::collections::BTreeMap;

/// The most bytes of a script that are looked at.
const SCRIPT: usize = 64 << 10;
/// Words of a shell that run nothing of their own.
const BUILTIN: &[&str] = &[
    ".", ":", "[", "[[", "break", "case", "cd", "chmod", "chown", "continue", "do", "done", "echo", "elif",
    "else", "esac", "exit", "export", "false", "fi", "for", "function", "if", "install", "kill", "local",
    "ln", "mkdir", "printf", "read", "return", "rm", "set", "shift", "sleep", "source", "test", "then",
    "touch", "trap", "true", "ulimit", "umask", "unset", "until", "wait", "while", "{", "}",
];
/// Programs that run the script that they are given.
const INTERPRETERS: &[&str] = &[
    "bash", "dash", "gunicorn", "ksh", "lua*", "node", "nodejs", "perl*", "php*", "python*", "ruby*", "sh",
    "uvicorn",
];
/// Programs that only start another one.
const STARTERS: &[&str] = &[
    "chpst",
    "chrt",
    "env",
    "exec",
    "ionice",
    "nice",
    "nohup",
    "numactl",
    "prlimit",
    "runuser",
    "setpriv",
    "setsid",
    "stdbuf",
    "su",
    "sudo",
    "taskset",
    "tini",
    "dumb-init",
];

/// Whether a program runs scripts.
pub fn is_interpreter(program: &str) -> bool {
    let name = path::name(program);
    INTERPRETERS.iter().any(|pattern| path::matches(pattern, name, false))
}

/// What an interpreter is given to run: a file, or a module with its option.
pub fn script_of(words: &[String]) -> Option<String> {
    let mut rest = words.iter().skip(1);
    while let Some(word) = rest.next() {
        match word.as_str() {
            "-m" => return rest.next().map(|module| format!("-m {module}")),
            "-c" | "-e" => return rest.next().cloned(),
            option if option.starts_with('-') => {}
            _ => return Some(word.clone()),
        }
    }
    None
}

/// The words behind a shell's `-c`, or behind a starter's own options and assignments; `None` where the command
/// is neither.
fn behind(words: &[String], variables: &BTreeMap<String, String>) -> Option<Vec<String>> {
    let name = path::name(words.first()?);
    let shell = ["sh", "bash", "dash", "ksh", "ash"].contains(&name);
    if shell && words.get(1).is_some_and(|w| w.starts_with('-') && w.ends_with('c')) {
        return last_command(words.get(2)?, variables);
    }
    if !STARTERS.contains(&name) {
        return None;
    }
    if let Some(at) = words.iter().position(|w| w == "-c" || w == "--command") {
        return last_command(words.get(at + 1)?, variables);
    }
    let at = words.iter().skip(1).position(|w| w.starts_with('/') && path::name(w) != "sh")?;
    Some(words[at + 1..].to_vec())
}

/// The last command of a script that runs a program of its own, `exec` before all others.
fn last_command(text: &str, variables: &BTreeMap<String, String>) -> Option<Vec<String>> {
    let joined = text.replace("\\\n", " ");
    let mut found: Option<(bool, Vec<String>)> = None;
    for line in joined.lines().map(str::trim).filter(|l| !l.starts_with('#')) {
        for part in line.split("&&").flat_map(|p| p.split("||")).flat_map(|p| p.split([';', '|'])) {
            let words = expanded(part, variables);
            let named = words.iter().skip_while(|w| w.contains('=') && !w.starts_with(['/', '-'])).cloned();
            let mut words: Vec<String> = named.filter(|w| w != "&" && !w.starts_with(['>', '<'])).collect();
            let by_exec = words.first().is_some_and(|w| w == "exec");
            if by_exec {
                words.remove(0);
            }
            let Some(first) = words.first() else { continue };
            let runs = first.starts_with('/') || (by_exec && !first.starts_with(['-', '>', '<', '&']));
            if !runs || BUILTIN.contains(&path::name(first)) {
                continue;
            }
            if by_exec || found.as_ref().is_none_or(|(exec, _)| !exec) {
                found = Some((by_exec, words));
            }
        }
    }
    found.map(|(_, words)| words)
}

/// The words of a command, with the variables that are known put in; what nobody knows is left out.
fn expanded(part: &str, variables: &BTreeMap<String, String>) -> Vec<String> {
    let put_in = |word: String| match word.contains('$') {
        true => value_of(&format!("\"{word}\""), variables).unwrap_or_default(),
        false => word,
    };
    split_words(part)
        .into_iter()
        .filter(|w| !matches!(w.as_str(), "$@" | "$*" | "\"$@\""))
        .map(put_in)
        .filter(|w| !w.is_empty())
        .flat_map(|w| if w.contains(' ') { split_words(&w) } else { vec![w] })
        .collect()
}

/// What a command runs in the end, and the scripts that say so.
pub fn launched(
    snapshot: &Snapshot,
    words: &[String],
    environment: &BTreeMap<String, String>,
) -> (Vec<String>, Vec<String>) {
    let mut words = words.to_vec();
    let mut scripts = Vec::new();
    let mut variables = environment.clone();
    for _ in 0..6 {
        if let Some(inner) = behind(&words, &variables).filter(|inner| !inner.is_empty()) {
            words = inner;
            continue;
        }
        // A script by its own name, or as what its shell is given.
        let own = words.first().cloned().unwrap_or_default();
        let shell = ["sh", "bash", "dash", "ksh", "ash"].contains(&path::name(&own));
        let script = if shell { script_of(&words).unwrap_or_default() } else { own };
        if !script.starts_with('/') || scripts.contains(&script) {
            break;
        }
        let head = snapshot.read_at(&script, 0, u32::try_from(SCRIPT).unwrap_or(u32::MAX)).seen();
        let Some(text) = head.filter(|head| head.starts_with(b"#!")) else { break };
        let text = String::from_utf8_lossy(&text).into_owned();
        let by_shell = text.lines().next().is_some_and(|l| l.contains("sh") && !l.contains("python"));
        if !by_shell {
            break;
        }
        let here = path::parent(&script).to_owned();
        variables.entry("0".into()).or_insert_with(|| script.clone());
        for name in ["DIR", "HERE", "SCRIPT_DIR", "BASEDIR", "BIN_DIR"] {
            variables.entry(name.into()).or_insert_with(|| here.clone());
        }
        assign(&text, &mut variables);
        let Some(inner) = last_command(&text, &variables) else { break };
        scripts.push(script);
        words = inner;
    }
    (words, scripts)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tests::TextHost;

    fn runs(command: &str, script: &str) -> String {
        let host = TextHost::new().file("/opt/tide/run.sh", script);
        let words: Vec<String> = split_words(command);
        launched(&Snapshot::new(&host), &words, &BTreeMap::new()).0.join(" ")
    }

    #[test]
    fn what_is_started_is_found_behind_shells_starters_and_scripts() {
        for (command, expected) in [
            ("/bin/sh -c 'cd /srv && exec /opt/tide/relay --port 7400'", "/opt/tide/relay --port 7400"),
            ("/bin/bash -lc \"/opt/tide/relay; true\"", "/opt/tide/relay"),
            ("/usr/bin/env LANG=C /opt/tide/relay -v", "/opt/tide/relay -v"),
            ("/usr/bin/nice -n 5 /usr/bin/setpriv --reuid=tide /opt/tide/relay", "/opt/tide/relay"),
            ("/usr/sbin/runuser -u tide -c '/opt/tide/relay --x'", "/opt/tide/relay --x"),
            ("/opt/tide/relay --port 1", "/opt/tide/relay --port 1"),
        ] {
            assert_eq!(runs(command, "no script"), expected, "{command}");
        }
        let script = "#!/bin/sh\n# exec /opt/old\nset -e\nHOME_DIR=/opt/tide\nJAVA=/usr/bin/java\n\
            mkdir -p /run/tide\nif [ -f x ]; then\n  exec $JAVA -jar $HOME_DIR/relay.jar \"$@\"\nfi\n";
        for command in ["/opt/tide/run.sh start", "/bin/sh /opt/tide/run.sh", "/usr/bin/env /opt/tide/run.sh"]
        {
            assert_eq!(runs(command, script), "/usr/bin/java -jar /opt/tide/relay.jar", "{command}");
        }
        assert_eq!(runs("/opt/tide/run.sh", "#!/usr/bin/python3\nprint()\n"), "/opt/tide/run.sh");
        assert_eq!(
            runs("/opt/tide/run.sh", "#!/bin/sh\nexec /opt/tide/run.sh\n"),
            "/opt/tide/run.sh",
            "no circle"
        );
    }

    #[test]
    fn an_interpreter_is_told_by_what_it_runs() {
        let of = |text: &str| script_of(&split_words(text));
        assert_eq!(of("python3 -u /opt/relay.py --x"), Some("/opt/relay.py".into()));
        assert_eq!(of("python3 -m http.server 80"), Some("-m http.server".into()));
        assert_eq!(of("node"), None);
        assert!(is_interpreter("/usr/bin/python3.11") && !is_interpreter("/opt/relay"));
    }
}
