//! `lint` against the real daemons: the corpus holds their verdicts and lines (`cargo xtask corpus`).
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test fails by panicking")]

mod common;

use common::Tree;
use jolly_core::host::{Answer, Host, JournalEntry, Look, Parts, Question, Unseen};
use jolly_core::log::{AttemptRequest, attempts};
use jolly_core::snapshot::Snapshot;
use std::path::Path;

/// Disagreements that are known, by snippet, each with its reason.
const KNOWN: &[(&str, &str)] = &[
    ("ssl_engine none_such;", "which engines the TLS library has is not looked at"),
    ("listen abc;", "a name that only DNS could answer is not judged"),
    ("Include conf-available", "what the package's directory holds differs between hosts"),
    ("load_module modules/ngx_stream_module.so;", "which modules are installed differs between hosts"),
];

fn fill(template: &str, place: &str, snippet: &str) -> String {
    let snippet = snippet.replace("\\n", "\n").replace("\\t", "\t").replace("\\r", "\r");
    let lines = template.lines().filter_map(|line| match line.strip_prefix('@') {
        Some(name) if name == place => Some(snippet.as_str()),
        Some(_) => None,
        None => Some(line),
    });
    lines.map(|l| format!("{l}\n")).collect()
}

/// Words of a daemon that tell less than its configuration does, each with the reason.
const SAID_OTHERWISE: &[(&str, &str)] = &[
    ("Address already in use", "a listener that is asked for twice looks like a taken port"),
    (": character '[ALERT]", "the daemon's own sentence breaks off"),
    ("config : Error(s) found in configuration file", "the daemon names nothing"),
    ("invalid number of arguments in \"root\"", "a lost semicolon looks like too many values"),
];

/// A journal that holds one failed start with these words, and nothing else.
struct Words(Vec<JournalEntry>);

impl Host for Words {
    fn ask(&self, question: &Question) -> Look<Answer> {
        match question {
            Question::Journal(..) => Look::Seen(Answer::Journal(self.0.clone())),
            _ => Look::NotSeen(Unseen::PartMissing),
        }
    }
    fn parts(&self) -> Parts {
        Parts {
            files: false,
            processes: false,
            manager: false,
            interfaces: false,
            clock: false,
            probes: false,
        }
    }
}

/// The code of the first failure that the log rooms make of what a daemon said.
fn recognised(kind: &str, words: &str) -> String {
    let entry = |time: u64, id: &str, text: &str| JournalEntry {
        time,
        message: text.to_owned(),
        message_id: id.to_owned(),
        from_manager: !id.is_empty(),
        pid: if id.is_empty() { 71 } else { 1 },
        priority: 3,
        ..JournalEntry::default()
    };
    let mut all = vec![entry(1, "7d4958e842da4a758f6c1cdc7b36dcc5", "Starting")];
    all.extend((2..).zip(words.split("\\n")).map(|(at, line)| entry(at, "", line)));
    all.push(entry(1000, "be02cf6855d2428ba40df7e9d022f03d", "Failed to start"));
    all.reverse();
    let host = Words(all);
    let zone = jiff::tz::TimeZone::UTC;
    let request = AttemptRequest {
        reports_ready: true,
        unit: Some("front.service"),
        count_all: false,
        ..AttemptRequest::of_files(jolly_core::kinds::kind(kind).unwrap().log_owner(), &[], &zone, 1)
    };
    let list = attempts(&Snapshot::new(&host), &request).list;
    let code = list[0].failures.first().map_or(jolly_core::code::Code::Unknown, |f| f.code);
    serde_json::to_value(code).unwrap().as_str().unwrap().to_owned()
}

/// What the package manager has on record.
fn installed(package: &str, version: &str) -> String {
    format!("Package: {package}\nStatus: install ok installed\nVersion: {version}\n")
}

fn walk(kind: &str) {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/corpus");
    let template = std::fs::read_to_string(folder.join(format!("{kind}.template"))).unwrap();
    let rows = std::fs::read_to_string(folder.join(format!("{kind}.tsv"))).unwrap();
    let tree = Tree::new();
    // The release that the verdicts are from.
    tree.write(
        "var/lib/dpkg/status",
        &format!(
            "{}\n{}\n{}",
            installed("apache2-bin", "2.4.71-1~deb12u1"),
            installed("nginx", "1.22.1-9+deb12u9"),
            installed("haproxy", "2.6.12-1+deb12u4")
        ),
    );
    let (mut wrong, mut misheard, mut count) = (Vec::new(), Vec::new(), 0);
    for row in rows.lines().filter(|l| !l.starts_with('#')) {
        let columns: Vec<&str> = row.split('\t').collect();
        let [place, snippet, verdict, line, words] = columns.as_slice() else {
            panic!("not five columns: {row}")
        };
        assert!(matches!(*verdict, "accepted" | "rejected"), "the daemon has not judged: {row}");
        tree.write("corpus.conf", &fill(&template, place, snippet));
        let report =
            tree.run(&["lint", "--kind", kind, "--config", "/corpus.conf", "--format", "json"]).json();
        count += 1;
        // What rests on interfaces or name services cannot be judged from a tree.
        let needs_host = ["192.0.2.77", "nohost", "localhost"].iter().any(|w| snippet.contains(w));
        let error = report["findings"].as_array().unwrap().iter().find(|f| f["severity"] == "error").cloned();
        let ours = error.as_ref().and_then(|e| e["line"].as_u64()).map_or("-".to_owned(), |n| n.to_string());
        let agree =
            report["verdict"] == *verdict && (*verdict == "accepted" || *line == "-" || ours == *line);
        if !agree && !needs_host && !KNOWN.iter().any(|(s, _)| s == snippet) {
            wrong.push(format!(
                "{place} | {snippet} | real {verdict} {line} | ours {} {ours} {}",
                report["verdict"],
                error.as_ref().map_or(String::new(), |e| e["message"].to_string())
            ));
        }
        // What the daemon said about it in its log must be taken for the same cause.
        if let Some(error) = error.filter(|_| agree && *verdict == "rejected" && !words.is_empty()) {
            let told = recognised(kind, words);
            // Whether a word is misspelt or its module is not loaded, the daemon does not say.
            let same = error["code"] == *told
                || (error["code"] == "config-missing-module" && told == "config-unknown-directive");
            if !same && !SAID_OTHERWISE.iter().any(|(w, _)| words.contains(w)) {
                misheard.push(format!("{snippet} | lint {} | log {told} | {words}", error["code"]));
            }
        }
    }
    assert!(
        misheard.is_empty(),
        "{} of {count} are taken for something else in the log:\n{}",
        misheard.len(),
        misheard.join("\n")
    );
    assert!(count > 300, "the corpus is there");
    assert!(wrong.is_empty(), "{} of {count} disagree:\n{}", wrong.len(), wrong.join("\n"));
}

#[test]
fn nginx_agrees_with_the_daemon() {
    walk("nginx");
}

#[test]
fn httpd_agrees_with_the_daemon() {
    walk("httpd");
}

#[test]
fn lint_gives_the_verdict_and_the_line_of_haproxy() {
    walk("haproxy");
}

#[test]
fn a_directive_is_judged_by_the_release_that_is_installed() {
    let tree = Tree::new();
    let verdict = |version: Option<&str>, http: &str| {
        let status = version.map(|v| installed("nginx", v)).unwrap_or_default();
        tree.write("var/lib/dpkg/status", &status);
        tree.write("nginx.conf", &format!("events {{ }}\nhttp {{\n  {http}\n}}\n"));
        let report =
            tree.run(&["lint", "--kind", "nginx", "--config", "/nginx.conf", "--format", "json"]).json();
        let first = &report["findings"][0];
        let text = |key: &str| first[key].as_str().unwrap_or_default().to_owned();
        (report["verdict"].as_str().unwrap().to_owned(), text("message"), text("help"))
    };
    let accepted = |version: Option<&str>, http: &str| verdict(version, http).0 == "accepted";
    // As the sources of these three releases have it.
    assert!(
        !accepted(Some("1.18.0-6"), "http2 on;")
            && !accepted(Some("1.22.1-9"), "http2 on;")
            && accepted(Some("1.26.3-3"), "http2 on;")
    );
    assert!(
        !accepted(Some("1.18.0-6"), "ssl_reject_handshake on;")
            && accepted(Some("1.22.1-9"), "ssl_reject_handshake on;")
    );
    assert!(accepted(Some("1.24.0-1"), "http2 on;"), "it may have come by then: nothing is said");
    assert!(accepted(None, "http2 on;"), "which release it is nobody knows");
    assert!(accepted(Some("1.40.0-1"), "http2 on;"), "what stays, stays");
    assert_eq!(
        verdict(Some("1.40.0-1"), "tide_level 3;").0,
        "unknown",
        "a newer series may know it, and there is no program to ask"
    );
    assert_eq!(verdict(Some("1.26.9-1"), "tide_level 3;").0, "rejected", "one of a known series does not");
    let (_, message, help) = verdict(Some("1.22.1-9"), "http2 on;");
    assert_eq!(
        (message.as_str(), help.as_str()),
        ("\"http2\" is not a directive of nginx 1.22.1", "it is one from nginx 1.26.3 on")
    );
}
