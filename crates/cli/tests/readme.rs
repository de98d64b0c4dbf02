//! What the README and the help texts promise is there: the commands, the examples, the form of the first
//! answer.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test fails by panicking")]

mod common;

use common::{Tree, run};
use std::path::Path;

const README: &str = include_str!("../../../README.md");

/// Commands that the help lists, without those that every such program has.
fn commands() -> Vec<String> {
    let help = run(Path::new("/"), &["--help"]).out;
    let list = help.split("Commands:\n").nth(1).unwrap().split("\n\n").next().unwrap();
    list.lines()
        .filter_map(|l| l.strip_prefix("  ").filter(|l| !l.starts_with(' '))?.split_whitespace().next())
        .map(str::to_owned)
        .collect()
}

#[test]
fn the_readme_lists_the_commands_that_there_are() {
    let told: Vec<&str> = README
        .lines()
        .filter_map(|l| l.strip_prefix("| `")?.split('`').next())
        .filter(|c| !c.contains(' '))
        .collect();
    let there = commands();
    let general = ["demo", "completions", "manpages", "help"];
    let expected: Vec<&str> = there.iter().map(String::as_str).filter(|c| !general.contains(c)).collect();
    assert_eq!(told, expected);
}

#[test]
fn every_example_of_the_help_can_be_called_as_it_stands() {
    let tree = Tree::new();
    let mut count = 0;
    for command in commands().iter().filter(|c| *c != "help" && *c != "demo") {
        let help = run(Path::new("/"), &[command, "--help"]).out;
        for example in help.lines().filter_map(|l| l.trim().strip_prefix("jolly-sentinel ")) {
            // What a shell does with the output is not the program's.
            let words: Vec<&str> = example
                .split(" > ")
                .next()
                .unwrap()
                .split_whitespace()
                .map(|w| w.trim_matches('\''))
                .collect();
            // `--watch` and `--follow` never end by themselves.
            if words.iter().any(|w| matches!(*w, "--watch" | "--follow")) {
                continue;
            }
            count += 1;
            // These read a tree of their own, or a bundle, which are not there: that is told, and not the
            // call blamed.
            let own = words.iter().any(|w| matches!(*w, "--root" | "--from"));
            let answer = if own { run(tree.path(), &words) } else { tree.run(&words) };
            assert!(answer.status <= 4, "{example}: {}", answer.err);
            for blame in ["Usage:", "unexpected argument", "invalid value", "unrecognized"] {
                assert!(!answer.err.contains(blame), "{example}: {}", answer.err);
            }
        }
    }
    assert!(count >= 12, "{count} examples were called");
}

#[test]
fn the_first_answer_of_the_readme_has_the_form_of_a_real_one() {
    let block = README.split("```text\n").nth(1).unwrap().split("```").next().unwrap();
    let mut lines = block.lines();
    let call: Vec<&str> =
        lines.next().unwrap().strip_prefix("$ jolly-sentinel ").unwrap().split(' ').collect();
    assert_eq!(call, ["diagnose", "front"]);
    let promised = lines.next().unwrap();
    // The same sentence as the demo comes to say it, but for the number of the process.
    let dir = tempfile::tempdir().unwrap();
    let told = run(dir.path(), &["demo", "--color", "never"]).out;
    let number = |line: &str| {
        line.split_once("(pid ").map(|(before, after)| {
            format!("{before}(pid N{}", after.trim_start_matches(|c: char| c.is_ascii_digit()))
        })
    };
    let said: Vec<String> = told.lines().filter_map(|l| number(l.trim())).collect();
    assert!(said.contains(&number(promised).unwrap()), "{promised}: {said:?}");
}
