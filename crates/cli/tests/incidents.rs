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

#[test]
fn no_two_commands_contradict_each_other_about_an_incident() {
    let mut wrong = Vec::new();
    let mut judged = 0;
    for record in recorded() {
        let mut say = |what: String| wrong.push(format!("{}: {what}", record.incident));
        let json = |words: &[&str]| {
            let mut all = words.to_vec();
            all.extend(["--format", "json"]);
            record.ask(&all).json()
        };
        let diagnosis = json(&["diagnose", "edge"])["services"][0].clone();
        let survey = json(&["survey", "edge"]);
        let found = survey["services"].as_array().and_then(|all| all.iter().find(|s| s["service"] == "edge"));
        let Some(surveyed) = found.cloned() else {
            say(format!("survey does not list it: {}", survey["services"]));
            continue;
        };
        for key in ["state", "kind"] {
            if diagnosis[key] != surveyed[key] {
                say(format!("{key}: diagnose {}, survey {}", diagnosis[key], surveyed[key]));
            }
        }
        let causes = diagnosis["causes"].as_array().unwrap();
        let down = matches!(diagnosis["state"].as_str(), Some("stopped" | "failed"));
        // What ails a run need not be in the way of the next one.
        let blocks =
            |c: &&serde_json::Value| down && c["relation"] == "blocks" && c["certainty"] == "certain";
        if surveyed["restart_outlook"] == "would-start"
            && let Some(cause) = causes.iter().find(blocks)
        {
            say(format!("survey: it would start, diagnose: {}", cause["code"]));
        }
        if surveyed["restart_outlook"] == "would-fail" && causes.is_empty() {
            say("survey: it would fail, diagnose: no cause".into());
        }
        if !surveyed["cause"].is_null() && surveyed["cause"] != causes[0]["code"] {
            say(format!("cause: survey {}, diagnose {}", surveyed["cause"], causes[0]["code"]));
        }
        let lint = json(&["lint", "edge"]);
        judged += usize::from(lint["verdict"].is_string());
        // What a unit names is not the daemon's configuration.
        let of_unit = record.incident.starts_with("unit: ");
        let of_config = |c: &serde_json::Value| {
            let config = c["code"].as_str().is_some_and(|code| code.starts_with("config-"));
            config && !of_unit && c["certainty"] == "certain"
        };
        match lint["verdict"].as_str() {
            Some("accepted") if causes.first().is_some_and(of_config) => {
                say(format!("lint accepts, diagnose: {}", causes[0]["code"]));
            }
            Some("rejected") if causes.is_empty() => say("lint refuses, diagnose: no cause".into()),
            _ => {}
        }
        let proof = json(&["verify", "edge", "--settle", "0s"]);
        if proof["state"] != diagnosis["state"] || (down && proof["verdict"] == "recovered") {
            say(format!("verify: {} {}, diagnose: {}", proof["verdict"], proof["state"], diagnosis["state"]));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
    assert!(judged >= 25, "only {judged} were compared");
}
