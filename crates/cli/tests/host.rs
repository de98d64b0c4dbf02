//! The live commands on stand-in daemons: real processes on loopback, described in a services file.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test fails by panicking")]

mod common;

use common::{Answer, run};
use std::net::{TcpListener, TcpStream};
use std::path::Path;
use tempfile::TempDir;

/// A host with one described program, and this test's own process as the stranger on its port.
struct Quay {
    dir: TempDir,
    port: u16,
}

impl Quay {
    fn new() -> (Self, TcpListener) {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let port = listener.local_addr().unwrap().port();
        let dir = tempfile::tempdir().unwrap();
        let at = dir.path().display();
        let text = format!(
            "only_these = true\n[service.tide-relay]\nkind = \"program\"\n\
                start = \"{at}/bin/tide-relay start\"\nlisten = [\"127.0.0.1:{port}\"]\n\
                log = \"{at}/relay.log\"\n"
        );
        std::fs::write(dir.path().join("services.toml"), text).unwrap();
        (Self { dir, port }, listener)
    }
    fn run(&self, arguments: &[&str]) -> Answer {
        let mut all = vec!["--services", "services.toml", "--state-dir", "state"];
        all.extend(arguments);
        run(self.dir.path(), &all)
    }
    fn log(&self, text: &str) {
        std::fs::write(self.dir.path().join("relay.log"), text).unwrap();
    }
}

#[test]
fn the_holder_of_a_port_is_found_with_what_started_it() {
    let (quay, listener) = Quay::new();
    let answer = quay.run(&["ports", &quay.port.to_string(), "--format", "json"]);
    assert_eq!(answer.status, 1, "it is wanted by another: {}", answer.out);
    let entry = answer.json()["ports"][0].clone();
    assert_eq!(entry["holders"][0]["pid"], std::process::id());
    assert_eq!(entry["wanted_by"][0]["service"], "tide-relay");
    assert_eq!(entry["conflict"], true);
    drop(listener);
    let answer = quay.run(&["ports", &quay.port.to_string(), "--format", "json"]);
    assert_eq!(answer.status, 0);
    assert_eq!(answer.json()["ports"][0]["holders"].as_array().unwrap().len(), 0);
    assert_eq!(answer.json()["ports"][0]["held"], false);
    let text = quay.run(&["ports", &quay.port.to_string()]).out;
    assert!(
        text.contains(&format!("Nobody holds port {}, but it is wanted.", quay.port))
            && text.contains("held by nobody"),
        "{text}"
    );
}

#[test]
fn a_holder_that_cannot_be_seen_is_not_called_nobody() {
    let (quay, _listener) = Quay::new();
    let bundle = quay.dir.path().join("bundle.json");
    quay.run(&["capture", "tide-relay", "--output", "bundle.json"]);
    // The same evidence as somebody takes it who may not look into the holder.
    let mut evidence: serde_json::Value =
        serde_json::from_str(&std::fs::read_to_string(&bundle).unwrap()).unwrap();
    for pair in evidence["answers"].as_array_mut().unwrap() {
        if pair[0].get("socket-owners").is_some() {
            pair[1] = serde_json::json!({ "not-seen": "denied" });
        }
    }
    std::fs::write(&bundle, evidence.to_string()).unwrap();
    let text = quay.run(&["--from", "bundle.json", "ports", &quay.port.to_string()]).out;
    assert!(text.contains("its holder cannot be seen") && !text.contains("held by nobody"), "{text}");
}

#[test]
fn a_held_port_is_one_cause_with_its_witnesses() {
    let (quay, _listener) = Quay::new();
    quay.log(&format!(
        "2031-04-02 06:10:11.000 INFO starting tide-relay\n\
            2031-04-02 06:10:11.020 FATAL cannot listen on 127.0.0.1:{}: Address already in use\n",
        quay.port
    ));
    let answer = quay.run(&["diagnose", "tide-relay", "--format", "json"]);
    assert_eq!(answer.status, 1);
    let report = answer.json();
    let causes = report["services"][0]["causes"].as_array().unwrap();
    assert_eq!(causes.len(), 1, "{causes:?}");
    assert_eq!(
        (causes[0]["code"].as_str(), causes[0]["certainty"].as_str()),
        (Some("port-taken"), Some("certain"))
    );
    let sources: Vec<&str> =
        causes[0]["evidence"].as_array().unwrap().iter().filter_map(|e| e["source"].as_str()).collect();
    assert!(sources.contains(&"socket") && sources.contains(&"log"), "{sources:?}");
    let text = quay.run(&["diagnose", "tide-relay"]).out;
    assert!(text.contains("relay.log:2"), "no log line without its place: {text}");
    assert!(
        quay.run(&["fix", "tide-relay"]).out.contains("is left alone"),
        "the test's own lineage is never ended"
    );
}

#[test]
fn an_old_failure_that_no_longer_holds_is_told_as_such() {
    let (quay, listener) = Quay::new();
    quay.log(&format!(
        "2031-04-02 06:10:11.020 FATAL cannot listen on 127.0.0.1:{}: Address already in use\n",
        quay.port
    ));
    drop(listener);
    let report = quay.run(&["diagnose", "tide-relay", "--format", "json"]).json();
    assert_eq!(report["services"][0]["causes"][0]["certainty"], "possible");
}

#[test]
fn a_free_port_is_held_by_nobody_and_wanted_by_nobody() {
    let (quay, _listener) = Quay::new();
    let report = quay.run(&["ports", "--free-near", "18300", "--format", "json"]).json();
    let free = report["free"].as_array().unwrap();
    assert_eq!(free.len(), 5);
    for port in free {
        let port = u16::try_from(port.as_u64().unwrap()).unwrap();
        assert!(port != quay.port && TcpStream::connect(("127.0.0.1", port)).is_err());
    }
}

#[test]
fn captured_evidence_gives_the_same_diagnosis_elsewhere_without_secrets() {
    let (quay, listener) = Quay::new();
    quay.log(&format!(
        "2031-04-02 06:10:11.000 INFO starting tide-relay password=gull-42\n\
        2031-04-02 06:10:11.020 FATAL cannot listen on 127.0.0.1:{}: Address already in use\n",
        quay.port
    ));
    let captured = quay.run(&["capture", "tide-relay", "--output", "bundle.json"]);
    assert_eq!(captured.status, 0, "{}", captured.err);
    let here = quay.run(&["diagnose", "tide-relay", "--format", "json"]).json();
    let bundle = std::fs::read_to_string(quay.dir.path().join("bundle.json")).unwrap();
    assert!(!bundle.contains("gull-42"), "secrets stay where they are");
    drop(listener);
    let there = quay.run(&["--from", "bundle.json", "diagnose", "tide-relay", "--format", "json"]).json();
    assert_eq!(there["services"][0]["causes"][0]["code"], here["services"][0]["causes"][0]["code"]);
    assert_eq!(there["services"][0]["causes"][0]["subject"], here["services"][0]["causes"][0]["subject"]);
    let refused = quay.run(&["--from", "bundle.json", "fix", "tide-relay", "--apply"]);
    assert_eq!(refused.status, 2);
    std::fs::write(quay.dir.path().join("bundle.json"), "{\"schema\": 7").unwrap();
    assert_eq!(quay.run(&["--from", "bundle.json", "survey"]).status, 2);
}

#[test]
fn attempts_are_put_together_from_the_log_alone() {
    let (quay, _listener) = Quay::new();
    quay.log(
        "2031-04-01 06:00:00.000 INFO starting tide-relay\n\
            2031-04-01 06:00:00.250 INFO ready, listening on 127.0.0.1:7400\n\
            2031-04-01 22:00:00.000 INFO stopping\n2031-04-02 06:10:11.000 INFO starting tide-relay\n\
            2031-04-02 06:10:11.020 FATAL cannot write /run/tide/relay.pid: Permission denied\n",
    );
    let report = quay.run(&["attempts", "tide-relay", "--format", "json"]).json();
    let all = report["attempts"].as_array().unwrap();
    let told: Vec<(&str, Option<i64>, Option<&str>)> = all
        .iter()
        .map(|a| (a["outcome"].as_str().unwrap(), a["ready_after_ms"].as_i64(), a["afterwards"].as_str()))
        .collect();
    assert_eq!(told, [("failed", None, None), ("ready", Some(250), Some("stopped"))]);
    assert_eq!(
        (all[0]["failures"][0]["code"].as_str(), all[0]["failures"][0]["line"].as_u64()),
        (Some("permission-denied"), Some(5))
    );
    assert_eq!(
        (all[1]["logs"][0]["first_line"].as_u64(), all[1]["logs"][0]["last_line"].as_u64()),
        (Some(1), Some(2))
    );
    let last = quay.run(&["attempts", "tide-relay", "--last", "1", "--format", "json"]).json();
    assert_eq!(last["attempts"].as_array().unwrap().len(), 1);
}

#[test]
fn nothing_that_a_log_holds_reaches_the_terminal_as_a_command() {
    let (quay, _listener) = Quay::new();
    quay.log(
        "2031-04-02 06:10:11.000 INFO starting tide-relay\n\
            2031-04-02 06:10:11.020 FATAL \u{1b}[2J\u{1b}]0;x\u{7} cannot write /run/x: Permission denied\n",
    );
    for arguments in [
        vec!["attempts", "tide-relay"],
        vec!["diagnose", "tide-relay"],
        vec!["attempts", "tide-relay", "--format", "html"],
    ] {
        let answer = quay.run(&arguments);
        assert!(
            !answer.out.contains('\u{1b}') && !answer.out.contains('\u{7}'),
            "{arguments:?}: {}",
            answer.out
        );
    }
}

#[test]
fn a_service_file_with_a_fault_names_its_line() {
    let dir = tempfile::tempdir().unwrap();
    std::fs::write(dir.path().join("s.toml"), "[service.x]\nkind = \"program\"\nprot = 80\n").unwrap();
    let answer = run(dir.path(), &["--services", "s.toml", "survey"]);
    assert_eq!(answer.status, 2);
    assert!(answer.err.contains("line 3"), "{}", answer.err);
}

#[test]
fn every_command_has_a_page_of_help_with_examples_and_a_closed_pipe_is_no_error() {
    let here = Path::new("/");
    let whole = run(here, &["--help"]);
    assert_eq!(whole.status, 0);
    for command in [
        "survey",
        "diagnose",
        "ports",
        "lint",
        "settings",
        "attempts",
        "fix",
        "undo",
        "verify",
        "capture",
        "explain",
        "demo",
        "completions",
        "manpages",
    ] {
        assert!(whole.out.contains(command), "{command} is listed");
        let page = run(here, &[command, "--help"]);
        assert!(
            page.status == 0 && page.out.contains("jolly-sentinel ") && page.out.contains("Example"),
            "{command}: {}",
            page.out
        );
    }
    assert_eq!(run(here, &["no-such-command"]).status, 2);
    let dir = tempfile::tempdir().unwrap();
    assert_eq!(run(dir.path(), &["manpages", "man"]).status, 0);
    assert!(dir.path().join("man/jolly-sentinel-diagnose.1").exists());
    assert!(run(here, &["completions", "bash"]).out.contains("jolly-sentinel"));
    let program = assert_cmd::cargo::cargo_bin("jolly-sentinel");
    // Whoever reads may stop reading at once.
    let mut reading = std::process::Command::new(program);
    reading.arg("explain").stdout(std::process::Stdio::piped()).stderr(std::process::Stdio::piped());
    let mut child = reading.spawn().unwrap();
    drop(child.stdout.take());
    let ended = child.wait_with_output().unwrap();
    assert!(
        ended.stderr.is_empty() && ended.status.success(),
        "{} {}",
        ended.status,
        String::from_utf8_lossy(&ended.stderr)
    );
}

#[test]
fn the_demo_tells_the_whole_story_and_leaves_nothing() {
    let dir = tempfile::tempdir().unwrap();
    let answer = run(dir.path(), &["demo", "--color", "never"]);
    assert_eq!(answer.status, 0, "{}{}", answer.out, answer.err);
    for words in [
        "held by gauge-sim",
        "front has recovered.",
        "config-conflict",
        "left by a process that has ended",
        "would not come back after a restart",
        "The story is told",
    ] {
        assert!(answer.out.contains(words), "{words}: {}", answer.out);
    }
    assert!(!Path::new("/tmp/quay1/services.toml").exists(), "its directory is gone");
    let left = std::fs::read_dir("/proc")
        .unwrap()
        .flatten()
        .filter_map(|e| std::fs::read(e.path().join("cmdline")).ok())
        .filter(|c| c.windows(16).any(|w| w == b"/quay1/bin/gauge-"))
        .count();
    assert_eq!(left, 0, "its processes are gone");

    // A host that was left for playing answers to short commands, and is taken away by one.
    let kept = dir.path().join("kept");
    let place = kept.to_str().unwrap();
    let answer = run(dir.path(), &["demo", "--keep", place]);
    assert_eq!(answer.status, 0, "{}{}", answer.out, answer.err);
    assert!(answer.out.contains("jolly-sentinel demo --clean"), "{}", answer.out);
    let asked = assert_cmd::Command::cargo_bin("jolly-sentinel")
        .unwrap()
        .current_dir(&kept)
        .envs([
            ("JOLLY_SENTINEL_SERVICES", "services.toml"),
            ("JOLLY_SENTINEL_STATE_DIR", "state"),
            ("JOLLY_SENTINEL_COLOR", "never"),
        ])
        .args(["diagnose", "front"])
        .output()
        .unwrap();
    let text = String::from_utf8_lossy(&asked.stdout);
    assert!(asked.status.code() == Some(1) && text.contains("gauge-sim"), "{text}");
    // What the environment says is not typed again.
    assert!(text.contains("jolly-sentinel fix front") && !text.contains("--services"), "{text}");
    let answer = run(dir.path(), &["demo", "--clean", place]);
    assert_eq!(answer.status, 0, "{}{}", answer.out, answer.err);
    assert!(!kept.exists());
    // Nothing else is taken away.
    let other = dir.path().join("other");
    std::fs::create_dir(&other).unwrap();
    std::fs::set_permissions(&other, std::os::unix::fs::PermissionsExt::from_mode(0o700)).unwrap();
    let link = dir.path().join("link");
    std::os::unix::fs::symlink(&other, &link).unwrap();
    for (place, words) in [(&other, "does not hold a host"), (&link, "not a directory of your own")] {
        let answer = run(dir.path(), &["demo", "--clean", place.to_str().unwrap()]);
        assert!(answer.status == 2 && answer.err.contains(words), "{}", answer.err);
    }
    assert!(other.exists() && link.exists());
}
