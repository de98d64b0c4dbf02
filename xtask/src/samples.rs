//! `cargo xtask samples [KIND]`: breaks every daemon for real, on a booted host, in the ways that
//! `xtask/live/breakages.toml` lists, and keeps what each of them said about it. Tests hold the failure
//! catalogues to these words.
use crate::host::Host;
use serde::Deserialize;
use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::path::Path;

const BREAKAGES: &str = "xtask/live/breakages.toml";
/// More of them, for the words alone.
const WORDS: &str = "xtask/live/words.toml";
/// Writes the unit `tide`: what it starts, then its settings.
const TIDE_UNIT: &str = r#"mkdir -p /opt/tide; cat > /usr/local/bin/tide-unit <<'END'
#!/bin/sh
p="$1"; shift
{ echo '[Service]'; for s; do echo "$s"; done; echo "ExecStart=$p"; } > /etc/systemd/system/tide.service
systemctl daemon-reload
END
chmod 755 /usr/local/bin/tide-unit; tide-unit /bin/true"#;
/// Longest that one breakage may keep, in lines: enough for the first cause and what follows.
const LINES: usize = 48;

#[derive(Deserialize)]
struct All {
    #[serde(default)]
    kind: BTreeMap<String, Setup>,
    breakage: Vec<Breakage>,
}

/// How a kind is put back, started, and where it says what went wrong.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Setup {
    folder: String,
    unit: String,
    keep: Vec<String>,
    logs: Vec<String>,
    #[serde(default)]
    settle: Option<String>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Breakage {
    kind: String,
    name: String,
    code: String,
    #[serde(rename = "break")]
    inject: String,
    /// The cause that the host tells where the daemon's words alone do not.
    #[serde(default)]
    cause: Option<String>,
    /// A fix that the tool carries out, proves and takes back again.
    #[serde(default)]
    fix: Option<String>,
    /// What is done once it is started.
    #[serde(default)]
    after: Option<String>,
    /// What puts right what the kind's own files do not hold.
    #[serde(default)]
    mend: Option<String>,
}

/// Breaks, collects, writes `samples.txt` of each kind.
pub(crate) fn run(program: &Path, only: &[&str]) -> Result<(), String> {
    let mut all = load(BREAKAGES)?;
    let more = load(WORDS)?;
    all.kind.extend(more.kind);
    all.breakage.extend(more.breakage);
    let host = Host::boot("jolly-samples", program)?;
    host.run(TIDE_UNIT)?;
    host.run(
        "systemctl stop nginx apache2; systemctl mask -q nginx apache2; systemctl unmask -q nginx \
        apache2; mkdir -p /pristine",
    )?;
    for (name, setup) in &all.kind {
        if !only.is_empty() && !only.contains(&name.as_str()) {
            continue;
        }
        keep(&host, setup)?;
        let mut out = format!(
            "# What {name} said when it was really broken: `cargo xtask samples` writes this. Each block is \
                one start: cause and story, then its lines, without the frames of stack traces.\n"
        );
        for breakage in all.breakage.iter().filter(|b| b.kind == *name) {
            let began = std::time::Instant::now();
            let said = one(&host, setup, breakage)?;
            say(&format!("{name}: {} ({} s)", breakage.name, began.elapsed().as_secs()));
            let _ = writeln!(out, "== {} | {}", breakage.code, breakage.name);
            for line in said
                .lines()
                .filter(|l| {
                    !l.trim().is_empty() && !l.trim_start().starts_with("at ") && !l.contains("OS Version")
                })
                .take(LINES)
            {
                let _ = writeln!(out, "{}", line.trim_end());
            }
        }
        reset(&host, setup)?;
        let file = format!("crates/core/src/kinds/{}/samples.txt", setup.folder);
        std::fs::write(&file, out).map_err(|e| format!("{file}: {e}"))?;
    }
    Ok(())
}

/// Breaks every daemon in every way and asks the program for the cause: the injected one must come first.
pub(crate) fn diagnosed(
    host: &Host,
    only: &[&str],
    tell: &mut dyn FnMut(&str, Result<(), String>),
) -> Result<(), String> {
    let all = load(BREAKAGES)?;
    for (name, setup) in &all.kind {
        let chosen: Vec<&Breakage> = all
            .breakage
            .iter()
            .filter(|b| {
                b.kind == *name
                    && (only.is_empty() || only.iter().any(|o| format!("{name}: {}", b.name).contains(o)))
            })
            .collect();
        if chosen.is_empty() {
            continue;
        }
        keep(host, setup)?;
        for breakage in chosen {
            let outcome = cause_of(host, setup, breakage);
            tell(&format!("{name}: {}", breakage.name), outcome);
            if let Some(mend) = &breakage.mend {
                host.run(mend)?;
            }
        }
        reset(host, setup)?;
    }
    Ok(())
}

fn cause_of(host: &Host, setup: &Setup, breakage: &Breakage) -> Result<(), String> {
    reset(host, setup)?;
    host.run(&breakage.inject)?;
    host.run(&format!("systemctl start {}; {}", setup.unit, setup.settle.as_deref().unwrap_or("sleep 0.3")))?;
    let said = host.run(&format!("jolly-sentinel diagnose {} --format json", setup.unit))?;
    let text = String::from_utf8_lossy(&said.stdout);
    let report: serde_json::Value = serde_json::from_str(&text)
        .map_err(|e| format!("no JSON: {e}; {}", String::from_utf8_lossy(&said.stderr)))?;
    let entry = &report["services"][0];
    let expected = breakage.cause.as_ref().unwrap_or(&breakage.code);
    if entry["causes"][0]["code"] == expected.as_str() {
        return breakage.fix.as_ref().map_or(Ok(()), |fix| fixed(host, setup, fix));
    }
    let causes = entry["causes"].as_array().cloned().unwrap_or_default();
    let told: Vec<String> =
        causes.iter().map(|c| format!("{} ({}): {}", c["code"], c["certainty"], c["title"])).collect();
    Err(format!(
        "expected {expected}, state {}, got {}",
        entry["state"],
        if told.is_empty() { "no cause".to_owned() } else { told.join("; ") }
    ))
}

/// The tool puts it right, the manager confirms it, and the undo leaves every file as it was.
fn fixed(host: &Host, setup: &Setup, fix: &str) -> Result<(), String> {
    let files = || -> Result<String, String> {
        let command = format!(
            "cd /; find {} -printf '%p %u:%g %m %y %l\\n' -type f -path '/etc/*' -exec sha256sum {{}} + \
                2>/dev/null | sort",
            setup.keep.join(" ")
        );
        Ok(String::from_utf8_lossy(&host.run(&command)?.stdout).into_owned())
    };
    host.run(&format!(
        "systemctl stop {0}; systemctl reset-failed {0}; systemctl start {0}; systemctl stop \
        {0}; systemctl start {0}; sleep 0.5",
        setup.unit
    ))?;
    let before = files()?;
    let said = host
        .run(&format!("jolly-sentinel fix {} --pick {fix} --apply --settle 1s --format json", setup.unit))?;
    let report: serde_json::Value = serde_json::from_slice(&said.stdout).map_err(|_| {
        format!(
            "fix {fix} ended with {}: {}{}",
            said.status,
            String::from_utf8_lossy(&said.stdout),
            String::from_utf8_lossy(&said.stderr)
        )
    })?;
    if !said.status.success() || !host.run(&format!("systemctl is-active {}", setup.unit))?.status.success() {
        return Err(format!(
            "fix {fix} ended with {}: verified {}, next {}, {}",
            said.status, report["verified"], report["next_cause"], report["verification"]["checks"]
        ));
    }
    let id = report["undo_id"].as_str().unwrap_or_default().to_owned();
    host.run(&format!("systemctl stop {}", setup.unit))?;
    let undone = host.run(&format!("jolly-sentinel undo {id}"))?;
    if !undone.status.success() {
        return Err(format!(
            "undo ended with {}: {}",
            undone.status,
            String::from_utf8_lossy(&undone.stderr)
        ));
    }
    let after = files()?;
    let of_configuration =
        |text: &str| text.lines().filter(|l| l.contains("/etc/")).collect::<Vec<_>>().join("\n");
    if of_configuration(&before) == of_configuration(&after) {
        Ok(())
    } else {
        Err("undo left a difference below /etc".into())
    }
}

fn load(file: &str) -> Result<All, String> {
    let text = std::fs::read_to_string(file).map_err(|e| format!("{file}: {e}"))?;
    toml::from_str(&text).map_err(|e| format!("{file}: {e}"))
}

/// Keeps the kind's own files as they are now.
fn keep(host: &Host, setup: &Setup) -> Result<(), String> {
    host.run(&format!("systemctl stop {}", setup.unit))?;
    for path in &setup.keep {
        host.run(&format!(
            "rm -rf /pristine{path}; mkdir -p /pristine{path} && cp -a {path}/. \
            /pristine{path}/; chown --reference={path} /pristine{path}; chmod --reference={path} \
            /pristine{path}"
        ))?;
    }
    Ok(())
}

fn reset(host: &Host, setup: &Setup) -> Result<(), String> {
    host.run(&format!(
        "systemctl stop {0}; pkill -9 python3; systemctl reset-failed {0}; rm -rf \
        /etc/systemd/system/{0}.service.d; systemctl daemon-reload",
        setup.unit
    ))?;
    for path in &setup.keep {
        host.run(&format!(
            "find {path} -mindepth 1 -delete; cp -a /pristine{path}/. {path}/; chown \
            --reference=/pristine{path} {path}; chmod --reference=/pristine{path} {path}"
        ))?;
    }
    for log in &setup.logs {
        host.run(&format!("for f in {log}; do [ -f $f ] && : > $f; done"))?;
    }
    host.run("journalctl -q --rotate; journalctl -q --vacuum-time=1us").map(drop)
}

/// One start that fails, and everything that was said about it.
fn one(host: &Host, setup: &Setup, breakage: &Breakage) -> Result<String, String> {
    reset(host, setup)?;
    let broken = host.run(&breakage.inject)?;
    if !broken.status.success() {
        say(&format!(
            "  the breaking itself ended with {}: {}",
            broken.status,
            String::from_utf8_lossy(&broken.stderr).trim()
        ));
    }
    // One start is told, not five of them.
    host.run(&format!(
        "mkdir -p /etc/systemd/system/{0}.service.d; printf '[Service]\\nRestart=no\\n' > \
            /etc/systemd/system/{0}.service.d/once.conf; systemctl daemon-reload",
        setup.unit
    ))?;
    host.run(&format!(
        "systemctl start {0}; {1}; {2}; systemctl stop {0}",
        setup.unit,
        setup.settle.as_deref().unwrap_or("sleep 0.3"),
        breakage.after.as_deref().unwrap_or(":")
    ))?;
    let mut said = String::new();
    for log in &setup.logs {
        said.push_str(&String::from_utf8_lossy(&host.run(&format!("cat {log} 2>/dev/null"))?.stdout));
    }
    let journal = host.run(&format!("journalctl -q -a -o cat _SYSTEMD_UNIT={}.service", setup.unit))?;
    said.push_str(&String::from_utf8_lossy(&journal.stdout));
    if let Some(mend) = &breakage.mend {
        host.run(mend)?;
    }
    Ok(said.chars().filter(|c| *c == '\n' || *c == '\t' || !c.is_control()).collect())
}

#[expect(clippy::print_stdout, reason = "a chore reports to its caller")]
fn say(text: &str) {
    println!("{text}");
}
