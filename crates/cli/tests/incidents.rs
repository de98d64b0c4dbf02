//! Evidence of live incidents, recorded on a real booted host (`cargo xtask captures`), leads to the same
//! cause here.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test fails by panicking")]

mod common;

use common::{Answer, Recorded, recorded, run};

impl Recorded {
    fn ask(&self, arguments: &[&str]) -> Answer {
        let mut all = vec!["--from", self.bundle.to_str().unwrap()];
        all.extend(arguments);
        run(self.dir.path(), &all)
    }
}

#[test]
fn every_incident_is_diagnosed_from_its_evidence_as_it_was_on_the_host() {
    let all = recorded();
    assert!(all.len() >= 25, "only {} records", all.len());
    let mut wrong = Vec::new();
    for record in &all {
        let answer = record.ask(&["diagnose", "edge", "--format", "json"]);
        assert_eq!(answer.status, 1, "{}: {}", record.incident, answer.err);
        let entry = &answer.json()["services"][0];
        let cause = &entry["causes"][0];
        for key in ["code", "certainty", "subject", "fixes"] {
            if cause[key] != record.expected[key] {
                wrong.push(format!(
                    "{}: {key} is {}, was {}",
                    record.incident, cause[key], record.expected[key]
                ));
            }
        }
        if entry["state"] != record.expected["state"] && cause["code"] != "process-halted" {
            wrong.push(format!(
                "{}: state {}, was {}",
                record.incident, entry["state"], record.expected["state"]
            ));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn every_incident_has_a_page_that_says_the_answer_first_and_what_to_type_next() {
    for record in recorded() {
        let answer = record.ask(&["diagnose", "edge"]);
        let first = answer.out.lines().next().unwrap_or_default();
        assert!(first.starts_with("edge "), "{}: {first}", record.incident);
        assert!(
            answer.out.contains("What to do") && answer.out.contains("jolly-sentinel"),
            "{}: {}",
            record.incident,
            answer.out
        );
        assert!(!answer.out.contains("--apply"), "{}: captured evidence cannot be changed", record.incident);
        let markdown = record.ask(&["diagnose", "edge", "--format", "markdown"]).out;
        assert!(markdown.contains("edge") && markdown.contains("##"), "{}: {markdown}", record.incident);
        let page = record.ask(&["diagnose", "edge", "--format", "html"]).out;
        assert!(
            page.starts_with("<!doctype html>") && page.trim_end().ends_with("</html>"),
            "{}",
            record.incident
        );
    }
}

#[test]
fn the_dry_fix_of_an_incident_shows_what_it_would_change_and_applies_nothing() {
    let mut shown = 0;
    for record in recorded() {
        let answer = record.ask(&["fix", "edge", "--format", "json"]);
        assert_eq!(answer.status, 1, "{}: {}", record.incident, answer.err);
        let report = answer.json();
        let first = record.expected["fixes"][0].as_str();
        let offered: Vec<&str> =
            report["fixes"].as_array().unwrap().iter().filter_map(|f| f["id"].as_str()).collect();
        if let Some(first) = first.filter(|f| offered.contains(f)) {
            let fix = report["fixes"].as_array().unwrap().iter().find(|f| f["id"] == first).unwrap();
            assert!(!fix["title"].as_str().unwrap().is_empty(), "{}", record.incident);
            if ["align-unit", "allow-in-sandbox", "extend-timeout", "raise-limit", "grant-capability"]
                .contains(&first)
            {
                shown += 1;
                let diff = fix["diff"].as_str().unwrap();
                assert!(
                    diff.contains("edge.service.d/zz-") && diff.contains("+[Service]"),
                    "{}: {diff}",
                    record.incident
                );
            }
        }
        let applied = record.ask(&["fix", "edge", "--apply"]);
        assert_eq!(applied.status, 2, "{}: {}", record.incident, applied.err);
    }
    assert!(shown >= 10, "only {shown} drop-ins");
}

#[test]
fn attempts_are_told_from_the_evidence_too() {
    let mut told = 0;
    for record in recorded() {
        let answer = record.ask(&["attempts", "edge", "--last", "3", "--format", "json"]);
        assert_eq!(answer.status, 0, "{}: {}", record.incident, answer.err);
        let report = answer.json();
        let list = report["attempts"].as_array().unwrap();
        let ended = list
            .iter()
            .any(|a| matches!(a["outcome"].as_str(), Some("failed" | "refused" | "ready" | "killed")));
        told += usize::from(ended);
        let began: Vec<&str> = list.iter().filter_map(|a| a["began"].as_str()).collect();
        let mut newest_first = began.clone();
        newest_first.sort_by(|a, b| b.cmp(a));
        assert_eq!(began, newest_first, "{}", record.incident);
    }
    assert!(told >= 20, "attempts of only {told} incidents");
}
