//! `cargo xtask captures`: records the live incidents of the small service `edge` as evidence that `cargo
//! test` replays. Only what a diagnosis asks is kept, and nothing that a package brought: the incidents' own
//! files are ours, a distribution's are not.
use crate::host::Host;
use crate::live::{Incident, RESET, ring};
use jolly_core::bundle::{Bundle, Recorder, Replayer};
use jolly_core::case::{Depth, gather};
use jolly_core::host::Question;
use jolly_core::report;
use jolly_core::services_file::ServicesFile;
use jolly_core::snapshot::Snapshot;
use serde_json::{Value, json};
use std::path::Path;

const DIR: &str = "crates/cli/tests/incidents";

/// What belongs to packages: programs, libraries, the data base of packages.
fn of_a_package(question: &Question) -> bool {
    let path = match question {
        Question::Read(p) | Question::ReadAt(p, ..) => p,
        _ => return false,
    };
    ["/usr/", "/lib/", "/lib64/", "/bin/", "/sbin/", "/opt/", "/var/lib/dpkg/", "/var/log/dpkg.log"]
        .iter()
        .any(|d| path.starts_with(d))
}

/// Only what a diagnosis of the service asks.
fn slim(bundle: &[u8], service: &str) -> Result<Bundle, String> {
    let replayer = Replayer::from_json(bundle)?;
    let recorder = Recorder::new(&replayer);
    let snapshot = Snapshot::new(&recorder);
    let found = jolly_core::service::named(&snapshot, &ServicesFile::default(), service)
        .ok_or("the service is not in the bundle")?;
    let _ = report::diagnose(&snapshot, std::slice::from_ref(&found), true);
    let case = gather(&snapshot, &found, Depth::Diagnosis);
    for cause in report::standing_causes(&snapshot, &case) {
        let _ = jolly_core::fix::plans(
            &snapshot,
            &case,
            std::slice::from_ref(&found),
            &cause,
            &jolly_core::fix::Wishes::default(),
        );
    }
    let configuration = case.config.model.files.iter().map(|f| (f.clone(), found.kind)).collect();
    let mut small = recorder.into_bundle(configuration, &ServicesFile::default());
    small.answers.retain(|(question, _)| !of_a_package(question));
    Ok(small)
}

/// What the evidence leads to: code, certainty, subject of the first cause.
fn cause(bundle: &[u8], service: &str) -> Result<Value, String> {
    let replayer = Replayer::from_json(bundle)?;
    let snapshot = Snapshot::new(&replayer);
    let found = jolly_core::service::named(&snapshot, &ServicesFile::default(), service)
        .ok_or("the service is not in the bundle")?;
    let diagnosis = report::diagnose(&snapshot, &[found], true);
    let entry = diagnosis.services.first().ok_or("nothing was diagnosed")?;
    let first = entry.causes.first();
    Ok(json!({
        "state": entry.state,
        "code": first.map(|c| c.code),
        "certainty": first.map(|c| c.certainty),
        "fixes": first.map(|c| c.fixes.clone()),
        "subject": first.map(|c| c.subject.clone()),
    }))
}

pub(crate) fn run(program: &Path) -> Result<(), String> {
    let ring = ring()?;
    let host = Host::boot("jolly-captures", program)?;
    crate::live::prepare(&host)?;
    std::fs::create_dir_all(DIR).map_err(|e| e.to_string())?;
    for entry in std::fs::read_dir(DIR).into_iter().flatten().flatten() {
        std::fs::remove_file(entry.path()).map_err(|e| e.to_string())?;
    }
    for incident in ring.iter().filter(|i| i.service == "edge") {
        match one(&host, incident) {
            Ok(size) => say(&format!("ok    {} ({size} bytes)", incident.name)),
            Err(why) => say(&format!("FAIL  {}: {why}", incident.name)),
        }
    }
    altered()
}

/// What no host here can show: a limit on tasks, which its kernel has no controller for. The record of a
/// start that got too few processes, with the other limit in the unit and the kernel's word about it; it
/// says so.
fn altered() -> Result<(), String> {
    const OF: &str = "resources-too-few-processes.json";
    let text = std::fs::read_to_string(Path::new(DIR).join(OF)).map_err(|e| format!("{OF}: {e}"))?;
    let mut record: Value =
        serde_json::from_str(&text.replace("LimitNPROC", "TasksMax")).map_err(|e| e.to_string())?;
    record["incident"] = "resources: too few tasks".into();
    record["altered"] = "LimitNPROC became TasksMax, and the kernel's line was added".into();
    let answers = record["bundle"]["answers"].as_array_mut().ok_or("no answers")?;
    let of_kernel = |a: &&mut Value| a[0]["journal-of"][0] == "_TRANSPORT=kernel";
    let began =
        answers.iter().find_map(|a| a[1]["seen"]["journal"][0]["time"].as_u64()).ok_or("no journal")?;
    if let Some(answer) = answers.iter_mut().find(of_kernel) {
        let entry = jolly_core::host::JournalEntry {
            time: began,
            message: "cgroup: fork rejected by pids controller in /system.slice/edge.service".into(),
            ..Default::default()
        };
        answer[1]["seen"]["journal"] = json!([entry]);
    }
    let bundle = serde_json::to_vec(&record["bundle"]).map_err(|e| e.to_string())?;
    record["expected"] = cause(&bundle, "edge")?;
    let text = serde_json::to_string(&record).map_err(|e| e.to_string())?;
    let file = Path::new(DIR).join("resources-too-few-tasks.json");
    std::fs::write(&file, text).map_err(|e| format!("{}: {e}", file.display()))
}

fn one(host: &Host, incident: &Incident) -> Result<usize, String> {
    host.run(RESET)?;
    // Each record begins with its own incident.
    host.run(
        "journalctl --rotate -q; journalctl --vacuum-time=1s -q; sleep 1.1; journalctl --rotate -q; \
        journalctl --vacuum-time=1s -q",
    )?;
    host.run(&incident.inject)?;
    let out = host.run("jolly-sentinel capture edge")?;
    let whole = out.stdout;
    let small = slim(&whole, "edge")?;
    let text = serde_json::to_vec(&small).map_err(|e| e.to_string())?;
    let (before, after) = (cause(&whole, "edge")?, cause(&text, "edge")?);
    if before != after || after["code"] != incident.cause.as_str() {
        return Err(format!("whole {before}, small {after}, expected {}", incident.cause));
    }
    let name: String = incident
        .name
        .chars()
        .map(|c| if c.is_ascii_alphanumeric() { c.to_ascii_lowercase() } else { '-' })
        .collect();
    let record = json!({"incident": incident.name, "expected": after, "bundle": small});
    let text = serde_json::to_string(&record).map_err(|e| e.to_string())?;
    std::fs::write(Path::new(DIR).join(format!("{}.json", name.replace("--", "-"))), &text)
        .map_err(|e| e.to_string())?;
    Ok(text.len())
}

#[expect(clippy::print_stdout, reason = "a chore reports to its caller")]
fn say(text: &str) {
    println!("{text}");
}
