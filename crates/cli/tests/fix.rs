//! `fix` and `undo` on a tree of files: plans, edits, refusals, and every byte back.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test fails by panicking")]

mod common;

use common::Tree;

fn broken() -> Tree {
    let tree = Tree::new().with_httpd();
    tree.write(
        "etc/apache2/sites-available/front.conf",
        "<VirtualHost *:80>\n    DocumentRooot /var/www/html\n</VirtualHost>\n",
    );
    tree
}

#[test]
fn a_dry_run_shows_the_diff_and_changes_nothing() {
    let tree = broken();
    let before = tree.read("etc/apache2/sites-available/front.conf");
    let answer = tree.run(&["fix", "apache2"]);
    assert_eq!(answer.status, 1, "{}", answer.err);
    assert!(
        answer.out.contains("-    DocumentRooot /var/www/html")
            && answer.out.contains("+    DocumentRoot /var/www/html"),
        "{}",
        answer.out
    );
    assert!(answer.out.contains("--pick correct-directive --apply"), "{}", answer.out);
    assert_eq!(tree.read("etc/apache2/sites-available/front.conf"), before);
    assert!(!tree.state().exists(), "not even the journal is begun");
}

#[test]
fn an_applied_fix_is_journalled_and_undone_to_the_byte() {
    let tree = broken();
    let file = "etc/apache2/sites-available/front.conf";
    tree.mode(file, 0o640);
    let before = tree.read(file);
    let answer = tree.run(&["fix", "apache2", "--pick", "correct-directive", "--apply", "--format", "json"]);
    let report = answer.json();
    assert_eq!(report["verified"], "partly", "a tree cannot be started: {}", answer.out);
    assert!(tree.read(file).contains("    DocumentRoot /var/www"));
    assert_eq!(tree.run(&["lint", "apache2"]).status, 0);
    let id = report["undo_id"].as_str().unwrap();
    let listed = tree.run(&["undo", "--format", "json"]).json();
    assert_eq!(
        (listed["changes"][0]["id"].as_str(), listed["changes"][0]["outcome"].as_str()),
        (Some(id), Some("kept"))
    );
    let undone = tree.run(&["undo", id]);
    assert_eq!(undone.status, 0, "{}{}", undone.out, undone.err);
    assert_eq!(tree.read(file), before);
    use std::os::unix::fs::PermissionsExt;
    assert_eq!(std::fs::metadata(tree.path().join(file)).unwrap().permissions().mode() & 0o777, 0o640);
    assert_eq!(tree.run(&["undo", id]).status, 4, "once is enough");
}

#[test]
fn somebody_elses_later_edit_is_never_overwritten() {
    let tree = broken();
    let file = "etc/apache2/sites-available/front.conf";
    let report = tree.run(&["fix", "apache2", "--apply", "--format", "json"]).json();
    tree.write(file, "# marta was here\n");
    let answer = tree.run(&["undo", report["undo_id"].as_str().unwrap()]);
    assert_eq!(answer.status, 4);
    assert!(answer.err.contains("changed by somebody since"), "{}", answer.err);
    assert_eq!(tree.read(file), "# marta was here\n");
}

#[test]
fn what_a_change_left_is_compared_with_what_is_there_now() {
    let tree = broken();
    let file = "etc/apache2/sites-available/front.conf";
    let report = tree.run(&["fix", "apache2", "--apply", "--format", "json"]).json();
    let change = format!("change {}", report["undo_id"].as_str().unwrap());
    let known = |arguments: &[&str]| {
        let diagnosis = tree.run(&[&["diagnose", "apache2", "--format", "json"], arguments].concat()).json();
        let all = diagnosis["services"][0]["changes"].as_array().unwrap().clone();
        let entry = all.into_iter().find(|c| c["file"].as_str().unwrap().ends_with("front.conf"));
        entry.map(|e| {
            (e["same_as"].as_str().map(str::to_owned), e["differs_from"].as_str().map(str::to_owned))
        })
    };
    assert_eq!(
        known(&[]),
        None,
        "it holds what the change left, and a tree has no clock to call that recent"
    );
    tree.run(&["capture", "apache2", "--output", "before.json"]);
    tree.write(file, "<VirtualHost *:80>\n    DocumentRooot /srv/tide\n</VirtualHost>\n");
    // A time of long ago hides nothing.
    tree.age(file, 400);
    assert_eq!(known(&[]), Some((None, Some(change.clone()))));
    let page = tree.run(&["diagnose", "apache2"]);
    assert!(page.out.contains("something else than change"), "{}", page.out);
    // Undone, the change knows nothing any more; the capture does.
    tree.write("etc/apache2/ports.conf", "Listen 80\nListen 8090\n");
    tree.age("etc/apache2/ports.conf", 400);
    let before = tree.path().join("before.json").to_string_lossy().into_owned();
    let diagnosis = tree.run(&["diagnose", "apache2", "--earlier", &before, "--format", "json"]).json();
    let differing: Vec<&str> = diagnosis["services"][0]["changes"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|c| c["differs_from"].is_string())
        .filter_map(|c| c["file"].as_str())
        .collect();
    assert!(differing.contains(&"/etc/apache2/ports.conf") && differing.len() == 2, "{differing:?}");
    let wrong = tree.run(&["diagnose", "apache2", "--earlier", &tree.path().join(file).to_string_lossy()]);
    assert_eq!(wrong.status, 2);
    assert!(wrong.err.contains("not a bundle"), "{}", wrong.err);
}

#[test]
fn several_picks_are_one_change() {
    let tree = broken();
    tree.write("etc/apache2/ports.conf", "Listen 80\nListen 80\n");
    let plans = tree.run(&["fix", "apache2", "--format", "json"]).json();
    let ids: Vec<&str> = plans["fixes"].as_array().unwrap().iter().filter_map(|f| f["id"].as_str()).collect();
    assert!(ids.contains(&"comment-out") && ids.contains(&"correct-directive"), "{ids:?}");
    let report = tree
        .run(&["fix", "apache2", "--pick", "comment-out,correct-directive", "--apply", "--format", "json"])
        .json();
    assert_eq!(report["applied"].as_array().unwrap().len(), 2);
    assert_eq!(tree.read("etc/apache2/ports.conf"), "Listen 80\n# Listen 80\n");
    assert_eq!(tree.run(&["lint", "apache2"]).status, 0);
    tree.run(&["undo", report["undo_id"].as_str().unwrap()]);
    assert_eq!(tree.read("etc/apache2/ports.conf"), "Listen 80\nListen 80\n");
    assert!(tree.read("etc/apache2/sites-available/front.conf").contains("DocumentRooot"));
}

#[test]
fn wrong_calls_are_told_before_anything_happens() {
    let tree = broken();
    for (arguments, status) in [
        (vec!["fix", "apache2", "--pick", "paint-it", "--apply"], 2),
        (vec!["fix", "apache2", "--set", "port=lots"], 2),
        (vec!["fix", "apache2", "--set", "colour=red"], 2),
        (vec!["fix", "apache2", "--no-start"], 2),
        (vec!["undo", "20310402-000000-nothing"], 2),
        (vec!["undo", "../../etc/passwd"], 2),
    ] {
        let answer = tree.run(&arguments);
        assert_eq!(answer.status, status, "{arguments:?}: {}{}", answer.out, answer.err);
        assert!(!answer.err.is_empty());
    }
    assert!(tree.read("etc/apache2/sites-available/front.conf").contains("DocumentRooot"));
}

#[test]
fn a_journal_that_cannot_be_written_ends_it_before_any_change() {
    let tree = broken();
    tree.write("jolly-state", "a file stands where the journal should be");
    let answer = tree.run(&["fix", "apache2", "--apply"]);
    assert_eq!(answer.status, 4, "{}{}", answer.out, answer.err);
    assert!(tree.read("etc/apache2/sites-available/front.conf").contains("DocumentRooot"));
}

/// A tree with a service that a packaged unit starts with one file.
fn well(start: &str, file: &str, text: &str) -> Tree {
    let tree = Tree::new();
    tree.write(
        "lib/systemd/system/quay.service",
        &format!(
            "[Service]\n{}ExecStart={start}\n[Install]\nWantedBy=multi-user.target\n",
            if start.contains("nginx") { "Type=forking\nPIDFile=/run/nginx.pid\n" } else { "" }
        ),
    );
    tree.link("etc/systemd/system/multi-user.target.wants/quay.service", "/lib/systemd/system/quay.service");
    let program = start.split(' ').next().unwrap().trim_start_matches('/');
    tree.write(program, "\u{7f}ELF");
    tree.mode(program, 0o755);
    tree.write("etc/passwd", "root:x:0:0::/root:/bin/sh\n");
    for place in ["run", "var/log/nginx", "var/lib/nginx", "var/lib/redis", "srv"] {
        tree.write(&format!("{place}/.keep"), "");
    }
    tree.write(file, text);
    tree
}

#[test]
fn a_setting_is_changed_where_it_stands_and_written_where_its_kind_has_it() {
    let nginx = "worker_processes 1; # tides\nevents {\n  worker_connections 768;\n}\nhttp {\n  \
                 sendfile on;\n  server {\n    listen 8001;\n  }\n}\n";
    let haproxy = "global\n  maxconn 10\ndefaults\n  mode http\n  timeout connect 5s\n  timeout client 5s\n  \
                   timeout server 5s\nlisten a\n  bind 127.0.0.1:8001\n";
    for (start, file, text, call, right) in [
        (
            "/usr/sbin/nginx -c /etc/quay.conf",
            "etc/quay.conf",
            nginx,
            &["--set", "worker_connections=512"][..],
            nginx.replace("768", "512"),
        ),
        (
            "/usr/sbin/nginx -c /etc/quay.conf",
            "etc/quay.conf",
            nginx,
            &["--set", "worker_processes=2"],
            nginx.replace("worker_processes 1; # tides", "worker_processes 2; # tides"),
        ),
        (
            "/usr/sbin/nginx -c /etc/quay.conf",
            "etc/quay.conf",
            nginx,
            &["--set", "client_max_body_size=5m"],
            nginx.replace("sendfile on;", "sendfile on;\n  client_max_body_size 5m;"),
        ),
        (
            "/usr/sbin/haproxy -f /etc/quay.cfg",
            "etc/quay.cfg",
            haproxy,
            &["--set", "timeout client=30s"],
            haproxy.replace("timeout client 5s", "timeout client 30s"),
        ),
        (
            "/usr/sbin/haproxy -f /etc/quay.cfg",
            "etc/quay.cfg",
            haproxy,
            &["--set", "maxconn=20", "--in", "defaults"],
            haproxy.replace("timeout server 5s", "timeout server 5s\n  maxconn 20"),
        ),
        (
            "/usr/bin/redis-server /etc/quay.conf",
            "etc/quay.conf",
            "port 7001\n",
            &["--set", "maxclients=500"],
            "port 7001\nmaxclients 500\n".to_owned(),
        ),
    ] {
        let tree = well(start, file, text);
        let dry = tree.run(&[&["fix", "quay"], call].concat());
        assert!(dry.out.contains("--set") && dry.out.contains("--apply"), "{}{}", dry.out, dry.err);
        assert_eq!(tree.read(file), text, "a dry run changes nothing");
        let report = tree.run(&[&["fix", "quay"], call, &["--apply", "--format", "json"]].concat());
        assert_eq!(tree.read(file), right, "{call:?} {}{}", report.out, report.err);
        let id = report.json()["undo_id"].as_str().unwrap().to_owned();
        assert_eq!(tree.run(&["undo", &id]).status, 0);
        assert_eq!(tree.read(file), text);
    }
}

#[test]
fn a_change_that_cannot_be_meant_is_told_and_nothing_happens() {
    let text = "worker_processes 1;\nevents { }\nhttp {\n  server {\n    listen 8001;\n    \
                listen 8002;\n  }\n  server {\n    listen 8003;\n    root /srv;\n  }\n}\n";
    for (call, status, said) in [
        (&["--set", "tide=5"][..], 4, "tide"),
        (&["--set", "worker_processes=tide"], 4, "worker_processes"),
        (&["--set", "listen=8009"], 2, "each of them counts"),
        (&["--set", "proxy_pass=http://127.0.0.1", "--in", "nowhere"], 2, "no section"),
        (&["--set", "auth_basic_password=tide"], 2, "secret"),
        (&["--set", "worker_processes"], 2, "NAME=VALUE"),
        (&["--in", "http"], 2, "--set"),
    ] {
        let tree = well("/usr/sbin/nginx -c /etc/quay.conf", "etc/quay.conf", text);
        let answer = tree.run(&[&["fix", "quay"], call, &["--apply"]].concat());
        assert_eq!(answer.status, status, "{call:?}: {}{}", answer.out, answer.err);
        assert!(answer.err.contains(said), "{call:?}: {}", answer.err);
        assert_eq!(tree.read("etc/quay.conf"), text);
    }
}
