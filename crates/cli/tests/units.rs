//! What a unit says, on a tree of files: conditions, types, sandboxes, what it names; and drop-ins made and
//! taken away again.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test fails by panicking")]

mod common;

use common::Tree;
use serde_json::Value;

const CONFIG: &str = "pid /run/edge/nginx.pid;\nerror_log /var/log/nginx/edge.log;\nevents { }\n\
    http {\n    access_log off;\n    server {\n        listen 8088;\n    }\n}\n";

/// `edge`, an nginx of its own with a unit.
fn edge(unit: &str, service: &str) -> Tree {
    let tree = Tree::new();
    tree.write("etc/edge/nginx.conf", CONFIG);
    tree.write("run/edge/.keep", "");
    tree.write("usr/sbin/nginx", "made up");
    tree.mode("usr/sbin/nginx", 0o755);
    tree.write(
        "etc/systemd/system/edge.service",
        &format!("[Unit]\n{unit}\n[Service]\n{service}\n[Install]\nWantedBy=multi-user.target\n"),
    );
    tree.link("etc/systemd/system/multi-user.target.wants/edge.service", "../edge.service");
    tree
}

const FORKING: &str =
    "Type=forking\nPIDFile=/run/edge/nginx.pid\nExecStart=/usr/sbin/nginx -c /etc/edge/nginx.conf";

#[track_caller]
fn causes(tree: &Tree) -> Vec<Value> {
    let answer = tree.run(&["diagnose", "edge", "--format", "json"]);
    let report = answer.json();
    report["services"][0]["causes"].as_array().unwrap().clone()
}

#[track_caller]
fn first(tree: &Tree, code: &str) -> Value {
    let all = causes(tree);
    assert_eq!(all.first().map(|c| c["code"].as_str().unwrap()), Some(code), "{all:#?}");
    all[0].clone()
}

#[test]
fn a_unit_that_fits_its_daemon_is_left_in_peace() {
    for service in [
        FORKING,
        "Type=forking\nPIDFile=/var/run/edge/nginx.pid\nExecStart=/usr/sbin/nginx -c /etc/edge/nginx.conf",
        "Type=exec\nExecStart=/usr/sbin/nginx -c /etc/edge/nginx.conf -g 'daemon off;'",
        "ExecStart=/usr/sbin/nginx -c /etc/edge/nginx.conf -g 'daemon off;'",
    ] {
        assert_eq!(causes(&edge("", service)), Vec::<Value>::new(), "{service}");
    }
}

#[test]
fn what_the_files_prove_needs_no_running_manager() {
    let cause = first(&edge("ConditionPathExists=/etc/edge/ready", FORKING), "manager-disabled");
    assert!(cause["title"].as_str().unwrap().contains("ConditionPathExists=/etc/edge/ready"), "{cause}");
    assert_eq!(
        causes(&edge("ConditionPathExists=/run/edge/ready", FORKING)),
        Vec::<Value>::new(),
        "a runtime path of a tree says nothing"
    );
    first(&edge("Requires=nowhere.service", FORKING), "dependency-down");
    let cause =
        first(&edge("", &format!("{FORKING}\nEnvironmentFile=/etc/edge/environment")), "config-missing-file");
    assert_eq!(cause["subject"]["path"], "/etc/edge/environment");
    assert_eq!(
        causes(&edge("", &format!("{FORKING}\nEnvironmentFile=-/etc/edge/environment"))),
        Vec::<Value>::new()
    );
    let cause = first(&edge("", &format!("{FORKING}\nWorkingDirectory=/srv/edge")), "config-missing-file");
    assert_eq!(
        (cause["evidence"][0]["file"].as_str(), cause["evidence"][0]["line"].as_u64()),
        (Some("/etc/systemd/system/edge.service"), Some(7))
    );
    first(&edge("", &format!("{FORKING}\nInaccessiblePaths=/etc/edge")), "policy-denied");
    first(
        &edge("", "Type=notify\nExecStart=/usr/sbin/nginx -c /etc/edge/nginx.conf -g 'daemon off;'"),
        "start-timeout",
    );
}

#[test]
fn a_drop_in_is_made_beside_the_unit_and_undone_without_a_trace() {
    for (service, id, line) in [
        ("ExecStart=/usr/sbin/nginx -c /etc/edge/nginx.conf", "align-unit", "Type=forking"),
        (
            "Type=forking\nExecStart=/usr/sbin/nginx -c /etc/edge/nginx.conf -g 'daemon off;'",
            "align-unit",
            "Type=exec",
        ),
        (
            &format!("{FORKING}\nProtectSystem=strict\nReadWritePaths=/run"),
            "allow-in-sandbox",
            "ReadWritePaths=/var/log/nginx",
        ),
    ] {
        let tree = edge("", service);
        let unit = tree.read("etc/systemd/system/edge.service");
        let dry = tree.run(&["fix", "edge"]);
        assert!(dry.out.contains(&format!("+{line}")), "{}", dry.out);
        assert!(!tree.path().join("etc/systemd/system/edge.service.d").exists(), "a dry run makes nothing");
        let report = tree.run(&["fix", "edge", "--pick", id, "--apply", "--format", "json"]).json();
        assert_eq!(report["applied"][0], id, "{report}");
        let made: Vec<_> = std::fs::read_dir(tree.path().join("etc/systemd/system/edge.service.d"))
            .unwrap()
            .flatten()
            .map(|e| e.path())
            .collect();
        assert_eq!(made.len(), 1);
        assert!(std::fs::read_to_string(&made[0]).unwrap().contains(line));
        assert_eq!(tree.read("etc/systemd/system/edge.service"), unit, "the unit's own file is left alone");
        assert_eq!(
            causes(&tree),
            Vec::<Value>::new(),
            "{service}: with the drop-in nothing stands in the way"
        );
        let undone = tree.run(&["undo", report["undo_id"].as_str().unwrap()]);
        assert_eq!(undone.status, 0, "{}{}", undone.out, undone.err);
        assert!(!tree.path().join("etc/systemd/system/edge.service.d").exists(), "nothing is left");
    }
}

#[test]
fn a_drop_in_that_somebody_changed_since_is_not_taken_away() {
    let tree = edge("", "ExecStart=/usr/sbin/nginx -c /etc/edge/nginx.conf");
    let report = tree.run(&["fix", "edge", "--apply", "--format", "json"]).json();
    let file = "etc/systemd/system/edge.service.d/zz-type.conf";
    tree.write(file, "[Service]\n# marta's own\n");
    let answer = tree.run(&["undo", report["undo_id"].as_str().unwrap()]);
    assert_eq!(answer.status, 4, "{}", answer.out);
    assert!(answer.err.contains("changed by somebody since"), "{}", answer.err);
    assert_eq!(tree.read(file), "[Service]\n# marta's own\n");
}

#[test]
fn one_service_is_surveyed_with_its_command_its_data_and_a_shells_other_environment() {
    let tree = edge("", &format!("{FORKING}\nEnvironment=LANG=C JAVA_HOME=/opt/jdk-8"));
    tree.write("etc/profile.d/java.sh", "export JAVA_HOME=/opt/jdk-21\n");
    let entry = tree.run(&["survey", "edge", "--format", "json"]).json()["services"][0].clone();
    assert_eq!(entry["command"][0], "/usr/sbin/nginx");
    assert_eq!(
        (entry["environment"][0]["shell"].as_str(), entry["environment"][0]["service"].as_str()),
        (Some("/opt/jdk-21"), Some("/opt/jdk-8"))
    );
    let text = tree.run(&["survey", "edge"]).out;
    assert!(
        text.contains("starts with")
            && text.contains("/opt/jdk-21")
            && text.contains("/etc/profile.d/java.sh:1"),
        "{text}"
    );
}

#[test]
fn every_code_has_its_page_and_unknown_ones_a_near_name() {
    let tree = Tree::new();
    for code in [
        "process-halted",
        "not-as-planned",
        "hands-off",
        "certificate-expired",
        "start-timeout",
        "policy-denied",
    ] {
        let page = tree.run(&["explain", code]);
        assert_eq!(page.status, 0, "{}", page.err);
        assert!(page.out.contains(code) && page.out.lines().count() > 3, "{}", page.out);
    }
    let wrong = tree.run(&["explain", "process-haltet"]);
    assert_eq!(wrong.status, 2);
    assert!(wrong.err.contains("process-halted"), "{}", wrong.err);
}

#[test]
fn any_unit_can_be_named_and_is_judged_by_what_it_would_run() {
    let tree = Tree::new();
    tree.write(
        "etc/systemd/system/tide-relay.service",
        "[Service]\nUser=tide\nExecStart=/usr/bin/python3 /opt/tide/relay.py --port 7400\n\
            [Install]\nWantedBy=multi-user.target\n",
    );
    tree.write("etc/systemd/system/tables.service", "[Service]\nUser=nobodys\nExecStart=/opt/tide/run.sh\n");
    tree.write(
        "opt/tide/run.sh",
        "#!/bin/sh\nJAVA_HOME=/opt/jdk\nexec $JAVA_HOME/bin/java -jar /opt/tide/t.jar\n",
    );
    tree.mode("opt/tide/run.sh", 0o755);
    let told = tree.run(&["diagnose", "tide-relay", "--format", "json"]);
    let service = &told.json()["services"][0];
    assert_eq!((service["kind"].as_str(), told.status), (Some("program"), 1), "{}", told.out);
    assert_eq!(service["causes"][0]["code"], "program-missing");
    let told = tree.run(&["diagnose", "tables", "--format", "json"]).json();
    assert_eq!(told["services"][0]["kind"], "java", "what the script runs in the end");
    let codes: Vec<_> =
        told["services"][0]["causes"].as_array().unwrap().iter().map(|c| c["code"].clone()).collect();
    assert!(
        codes.contains(&"account-missing".into()) && codes.contains(&"runtime-wrong".into()),
        "{codes:?}"
    );
    for command in ["survey", "attempts", "settings", "verify", "fix"] {
        let answer = tree.run(&[command, "tide-relay"]);
        assert!(answer.status != 2, "{command}: {}{}", answer.out, answer.err);
    }
    let lint = tree.run(&["lint", "tide-relay", "--format", "json"]);
    assert_eq!((lint.json()["verdict"].as_str(), lint.status), (Some("unknown"), 3), "{}", lint.out);
    for nothing in ["harbour", "../tide-relay", "", "/etc/systemd/system/tide-relay"] {
        assert_eq!(tree.run(&["diagnose", nothing]).status, 2, "{nothing:?}");
    }
}

#[test]
fn the_name_of_a_daemon_stands_for_its_only_service() {
    let tree = Tree::new();
    let unit = |name: &str, command: &str| {
        tree.write(
            &format!("etc/systemd/system/{name}.service"),
            &format!("[Service]\nExecStart={command}\n"),
        );
    };
    unit("front", "/usr/sbin/apache2 -f /etc/apache2/apache2.conf");
    unit("pages", "/usr/sbin/php-fpm8.2 --fpm-config /etc/php/8.2/fpm/php-fpm.conf");
    unit("manifest", "/usr/lib/postgresql/15/bin/postgres -D /srv/manifest");
    unit("ledger", "/usr/sbin/mariadbd");
    for (word, service) in [
        ("apache", "front"),
        ("httpd", "front"),
        ("php-fpm", "pages"),
        ("postgres", "manifest"),
        ("postgresql", "manifest"),
        ("mysql", "ledger"),
        ("mariadb", "ledger"),
    ] {
        let told = tree.run(&["survey", word, "--format", "json"]).json();
        assert_eq!(told["services"][0]["service"], service, "{word}");
    }
    unit("second", "/usr/sbin/mariadbd --defaults-file=/etc/second.cnf");
    let told = tree.run(&["diagnose", "mysql"]);
    assert_eq!(told.status, 2);
    assert!(
        told.err.contains("stands for 2 services") && told.err.contains("ledger, second"),
        "{}",
        told.err
    );
    assert_eq!(tree.run(&["diagnose", "php-fpm7.4"]).status, 2, "another release");
}
