//! `survey`, `diagnose`, `settings`, `explain` and the forms of their answers on a tree of files.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test fails by panicking")]

mod common;

use common::{Tree, run};

#[test]
fn a_tree_answers_what_needs_no_running_kernel_and_names_the_rest() {
    let tree = Tree::new().with_httpd();
    let answer = tree.run(&["survey", "--format", "json"]);
    let report = answer.json();
    let one = &report["services"][0];
    assert_eq!(
        (one["service"].as_str(), one["kind"].as_str(), one["state"].as_str()),
        (Some("apache2"), Some("httpd"), Some("unknown"))
    );
    assert_eq!(one["account"], "www-data");
    assert_eq!(one["listens"][0], "[::]:80");
    assert_eq!(
        (one["restart_outlook"].as_str(), one["boot_outlook"].as_str()),
        (Some("would-start"), Some("would-start"))
    );
    let unseen = report["not_seen"].to_string();
    assert!(unseen.contains("processes and sockets"), "{unseen}");
    assert!(report["host"].is_null(), "unknown is null, never made up");
}

#[test]
fn a_masked_unit_and_a_broken_configuration_are_told_from_files_alone() {
    let tree = Tree::new().with_httpd();
    tree.link("etc/systemd/system/apache2.service", "/dev/null");
    let report = tree.run(&["diagnose", "apache2", "--format", "json"]).json();
    // The mask hides what the unit starts; the well-known name of the unit still tells its kind.
    assert_eq!(report["services"][0]["causes"][0]["code"], "manager-disabled");
    let tree = Tree::new().with_httpd();
    tree.write("etc/apache2/ports.conf", "Listen 99999\n");
    let answer = tree.run(&["diagnose", "apache2", "--format", "json"]);
    let cause = answer.json()["services"][0]["causes"][0].clone();
    assert_eq!(
        (cause["code"].as_str(), cause["certainty"].as_str(), cause["rank"].as_u64()),
        (Some("config-bad-value"), Some("certain"), Some(1))
    );
    assert_eq!(
        (cause["subject"]["file"].as_str(), cause["subject"]["line"].as_u64()),
        (Some("/etc/apache2/ports.conf"), Some(1))
    );
    assert_eq!(answer.status, 1);
}

#[test]
fn settings_show_value_place_and_what_was_overridden() {
    let tree = Tree::new().with_httpd();
    tree.write("etc/apache2/ports.conf", "Listen 80\nTimeout 30\nTimeout 60\n");
    let report =
        tree.run(&["settings", "apache2", "Timeout", "ErrorLog", "KeepAlive", "--format", "json"]).json();
    let all = report["settings"].as_array().unwrap();
    let timeout = all.iter().find(|s| s["name"] == "Timeout").unwrap();
    assert_eq!(
        (
            timeout["value"].as_str(),
            timeout["line"].as_u64(),
            timeout["layer"].as_str(),
            timeout["section"].as_str()
        ),
        (Some("60"), Some(3), Some("file"), None)
    );
    let earlier = &timeout["overrides"][0];
    assert_eq!(
        (earlier["value"].as_str(), earlier["file"].as_str(), earlier["line"].as_u64()),
        (Some("30"), Some("/etc/apache2/ports.conf"), Some(2))
    );
    let log = all.iter().find(|s| s["name"] == "ErrorLog").unwrap();
    assert_eq!(log["value"], "/var/log/apache2/error.log", "variables are put in");
    assert_eq!(report["unset"][0], "KeepAlive");
}

#[test]
fn each_form_holds_the_same_facts() {
    let tree = Tree::new().with_httpd();
    tree.write("etc/apache2/ports.conf", "Lisen 80\n");
    for form in ["text", "json", "markdown", "html"] {
        let answer = tree.run(&["diagnose", "apache2", "--format", form]);
        assert_eq!(answer.status, 1, "{form}: {}", answer.err);
        assert!(
            answer.out.contains("Lisen is not a directive of httpd") && answer.out.contains("ports.conf"),
            "{form}: {}",
            answer.out
        );
    }
    let page = tree.run(&["diagnose", "apache2", "--format", "html"]).out;
    assert!(
        !page.contains("<script") && !page.contains("http://") && !page.contains("https://"),
        "a page needs no network and no script"
    );
    assert_eq!(tree.run(&["diagnose", "apache2", "--format", "sarif"]).status, 2);
}

#[test]
fn every_code_is_explained_and_a_wrong_one_gets_the_nearest() {
    let tree = Tree::new();
    let all = tree.run(&["explain", "--format", "json"]).json();
    let codes = all["codes"].as_array().unwrap();
    assert!(codes.len() > 40);
    for code in codes.iter().take(12) {
        assert_eq!(tree.run(&["explain", code["code"].as_str().unwrap()]).status, 0);
    }
    let wrong = tree.run(&["explain", "port-takn"]);
    assert_eq!(wrong.status, 2);
    assert!(wrong.err.contains("did you mean port-taken?"), "{}", wrong.err);
}

#[test]
fn a_link_never_leads_out_of_the_tree() {
    let tree = Tree::new().with_httpd();
    tree.link("etc/apache2/sites-enabled/out.conf", "../../../../../../../../etc/hostname");
    tree.write("etc/hostname", "NoSuchWord inside\n");
    let report = tree.run(&["lint", "apache2", "--format", "json"]).json();
    assert_eq!(
        report["findings"][0]["directive"], "NoSuchWord",
        "the tree's own file is read, not this machine's"
    );
}

#[test]
fn the_answer_can_go_into_a_file() {
    let tree = Tree::new().with_httpd();
    let target = tree.path().join("answer.json");
    let answer = tree.run(&["survey", "--format", "json", "--output", target.to_str().unwrap()]);
    assert!(answer.out.is_empty());
    assert!(std::fs::read_to_string(target).unwrap().contains("jolly-sentinel/survey/1"));
    assert_eq!(tree.run(&["survey", "--output", "/nowhere/x"]).status, 3);
}

#[test]
fn a_terminal_without_unicode_or_without_room_is_written_for() {
    let tree = Tree::new();
    tree.write("usr/sbin/nginx", "\u{7f}ELF");
    tree.mode("usr/sbin/nginx", 0o755);
    tree.write("etc/nginx/nginx.conf", "events { }\nhttp {\n    lisen 80;\n}\n");
    tree.write(
        "etc/systemd/system/edge-of-the-harbour-front.service",
        "[Service]\nType=forking\nExecStart=/usr/sbin/nginx -c /etc/nginx/nginx.conf\n",
    );
    let narrow = tree.run_with(&["survey"], &[("COLUMNS", "40"), ("LC_ALL", "C")]);
    assert!(narrow.out.is_ascii() && narrow.out.contains("harbour-front"), "{}", narrow.out);
    // A command to paste stays whole; everything before it fits.
    let mut told = narrow.out.lines().take_while(|line| *line != "What to do");
    assert!(told.all(|line| line.len() <= 40) && narrow.out.contains("What to do"), "{}", narrow.out);
}

#[test]
fn a_name_that_is_no_setting_is_not_said_to_have_a_default() {
    let tree = Tree::new().with_httpd();
    let text =
        tree.run(&["settings", "apache2", "KeepAlive", "DocumentRot", "tide_of_quay", "Directory"]).out;
    for told in [
        "KeepAlive is set nowhere; the built-in default counts.",
        "DocumentRot is not a setting of httpd that is known here; did you mean DocumentRoot?",
        "tide_of_quay is not a setting of httpd that is known here",
    ] {
        assert!(text.split_whitespace().collect::<Vec<_>>().join(" ").contains(told), "{told}: {text}");
    }
    assert!(!text.contains("Directory is not a setting"), "{text}");
    let report = tree.run(&["settings", "apache2", "DocumentRot", "--format", "json"]).json();
    assert_eq!(report["unknown"][0]["nearest"], "DocumentRoot");
    assert_eq!(report["unset"].as_array().map(Vec::len), Some(0));
}

#[test]
fn the_worst_service_comes_first_and_a_start_is_told_where_it_differs() {
    let tree = Tree::new().with_httpd();
    tree.write("usr/sbin/nginx", "\u{7f}ELF");
    tree.mode("usr/sbin/nginx", 0o755);
    tree.write("etc/nginx/nginx.conf", "events { }\nhttp {\n    sendfil on;\n}\n");
    tree.write("etc/systemd/system/tide-edge.service", "[Service]\nExecStart=/usr/sbin/nginx\n");
    let text = tree.run(&["survey", "--all"]).out;
    let row = |name: &str| text.lines().position(|l| l.trim_start().starts_with(name)).unwrap();
    assert!(row("tide-edge") < row("apache2"), "{text}");
    assert!(text.lines().nth(row("tide-edge")).unwrap().contains("would fail"), "{text}");
    // A service without a unit: what a boot would do is not known, and not left out.
    let dir = tempfile::tempdir().unwrap();
    let log = dir.path().join("x.log").to_string_lossy().into_owned();
    let file = format!(
        "only_these = true\n[service.pier]\nkind = \"program\"\nstart = \"/bin/true\"\nlog = \"{log}\"\n"
    );
    std::fs::write(dir.path().join("s.toml"), file).unwrap();
    let text = run(dir.path(), &["--services", "s.toml", "survey"]).out;
    assert!(text.contains("Whether the next boot starts it is not known of pier."), "{text}");
}
