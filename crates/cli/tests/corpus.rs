//! `lint` against the real daemons: the corpus holds their verdicts and lines (`cargo xtask corpus`).
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test fails by panicking")]

mod common;

use common::Tree;
use std::path::Path;

/// Disagreements that are known, by snippet, each with its reason.
const KNOWN: &[(&str, &str)] = &[
    ("ssl_engine none_such;", "which engines the TLS library has is not looked at"),
    ("proxy_buffers 8 16k; proxy_buffer_size 4k; proxy_busy_buffers_size 8k;", "the relation of three buffer sizes is not judged"),
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

fn walk(kind: &str) {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/corpus");
    let template = std::fs::read_to_string(folder.join(format!("{kind}.template"))).unwrap();
    let rows = std::fs::read_to_string(folder.join(format!("{kind}.tsv"))).unwrap();
    let tree = Tree::new();
    let (mut wrong, mut count) = (Vec::new(), 0);
    for row in rows.lines().filter(|l| !l.starts_with('#')) {
        let columns: Vec<&str> = row.split('\t').collect();
        let [place, snippet, verdict, line] = columns.as_slice() else { panic!("not four columns: {row}") };
        assert!(matches!(*verdict, "accepted" | "rejected"), "the daemon has not judged: {row}");
        tree.write("corpus.conf", &fill(&template, place, snippet));
        let report = tree.run(&["lint", "--kind", kind, "--config", "/corpus.conf", "--format", "json"]).json();
        count += 1;
        // What rests on interfaces or name services cannot be judged from a tree.
        let needs_host = ["192.0.2.77", "nohost", "localhost"].iter().any(|w| snippet.contains(w));
        let error = report["findings"].as_array().unwrap().iter().find(|f| f["severity"] == "error").cloned();
        let ours = error.as_ref().and_then(|e| e["line"].as_u64()).map_or("-".to_owned(), |n| n.to_string());
        let agree = report["verdict"] == *verdict && (*verdict == "accepted" || *line == "-" || ours == *line);
        if !agree && !needs_host && !KNOWN.iter().any(|(s, _)| s == snippet) {
            wrong.push(format!(
                "{place} | {snippet} | real {verdict} {line} | ours {} {ours} {}",
                report["verdict"],
                error.map_or(String::new(), |e| e["message"].to_string())
            ));
        }
    }
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
