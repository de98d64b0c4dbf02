//! Whole answers of every command, text and JSON, on the recorded incidents and on made-up trees: a change of
//! one word shows itself, and is either meant or a fault. `INSTA_UPDATE=always cargo test --test snapshots`
//! writes them anew, to be read as a diff.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test fails by panicking")]

mod common;

use common::{Answer, Tree, run};
use std::path::{Path, PathBuf};

/// What is asked of a service in every incident.
const ASKED: &[&[&str]] = &[
    &["survey"],
    &["ports"],
    &["diagnose"],
    &["diagnose", "edge"],
    &["-v", "diagnose", "edge"],
    &["attempts", "edge"],
    &["lint", "edge"],
    &["settings", "edge"],
    &["fix", "edge"],
    &["verify", "edge"],
];
/// The same in JSON; the verbose form says nothing more there.
const ASKED_JSON: &[&[&str]] = &[
    &["survey"],
    &["ports"],
    &["diagnose", "edge"],
    &["attempts", "edge"],
    &["lint", "edge"],
    &["fix", "edge"],
    &["verify", "edge"],
];

/// One call as a person would see it, with what differs from run to run left out.
fn shown(arguments: &[&str], answer: &Answer, dir: &Path) -> String {
    let place = dir.to_string_lossy().into_owned();
    let clean =
        |text: &str| text.replace(&place, "DIR").lines().map(str::trim_end).collect::<Vec<_>>().join("\n");
    let mut all = format!("$ jolly-sentinel {}\n{}\n", arguments.join(" "), clean(&answer.out));
    if !answer.err.is_empty() {
        all.push_str(&format!("(on stderr)\n{}\n", clean(&answer.err)));
    }
    all.push_str(&format!("(exit status {})\n\n", answer.status));
    all
}

fn keep(name: &str, text: &str) {
    let mut settings = insta::Settings::clone_current();
    settings.set_prepend_module_to_snapshot(false);
    settings.set_omit_expression(true);
    settings.bind(|| insta::assert_snapshot!(name, text));
}

fn incidents() -> Vec<(String, PathBuf, tempfile::TempDir)> {
    common::recorded().into_iter().map(|one| (one.file, one.bundle, one.dir)).collect()
}

fn all_of(asked: &[&[&str]], form: &str, bundle: &Path, dir: &Path) -> String {
    let one = |arguments: &&[&str]| {
        let mut call = vec!["--from", bundle.to_str().unwrap(), "--time-zone", "UTC", "--format", form];
        call.extend(*arguments);
        shown(arguments, &run(dir, &call), dir)
    };
    asked.iter().map(one).collect()
}

#[test]
fn every_command_answers_every_incident_as_it_did() {
    for (name, bundle, dir) in incidents() {
        keep(&format!("{name}.text"), &all_of(ASKED, "text", &bundle, dir.path()));
    }
}

#[test]
fn every_command_answers_some_incidents_in_json_as_it_did() {
    let all = incidents();
    assert!(all.len() > 20);
    for (name, bundle, dir) in all.into_iter().step_by(4) {
        keep(&format!("{name}.json"), &all_of(ASKED_JSON, "json", &bundle, dir.path()));
    }
}

/// A tree with a front that does not accept its configuration.
fn tree() -> Tree {
    let tree = Tree::new().with_httpd();
    tree.write("etc/apache2/ports.conf", "Lisen 80\nTimeout 30\n");
    tree
}

#[test]
fn every_command_answers_a_tree_as_it_did() {
    let tree = tree();
    let mut all = String::new();
    for form in ["text", "json"] {
        for command in ["survey", "lint", "settings", "diagnose", "fix"] {
            let mut call = vec![command, "--format", form];
            if command != "survey" {
                call.insert(1, "apache2");
            }
            all.push_str(&shown(&call, &tree.run(&call), tree.path()));
        }
    }
    keep("tree", &all);
}

#[test]
fn help_and_explanations_read_as_they_did() {
    let tree = tree();
    let commands = [
        "diagnose", "survey", "ports", "lint", "settings", "attempts", "fix", "undo", "verify", "capture",
        "explain", "demo",
    ];
    let mut all = shown(&["--help"], &tree.run(&["--help"]), tree.path());
    for command in commands {
        all.push_str(&shown(&[command, "--help"], &tree.run(&[command, "--help"]), tree.path()));
    }
    keep("help", &all);
    let listed = tree.run(&["explain", "--format", "json"]).json();
    let codes: Vec<&str> = listed["codes"]
        .as_array()
        .or(listed.as_array())
        .unwrap()
        .iter()
        .filter_map(|c| c["code"].as_str().or(c.as_str()))
        .collect();
    assert!(codes.len() > 40, "{}", codes.len());
    keep(
        "explain",
        &codes
            .iter()
            .map(|code| shown(&["explain", code], &tree.run(&["explain", code]), tree.path()))
            .collect::<String>(),
    );
}
