//! What a start asks for against what its unit gives, locks that were left, and keys of other certificates:
//! on a tree of files, where nothing runs and everything that files prove is still said.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test fails by panicking")]

mod common;

use common::Tree;
use serde_json::Value;

/// A tree with one service that a unit starts; its program is there.
fn tree(name: &str, program: &str, service: &str) -> Tree {
    let tree = Tree::new();
    tree.write(program.trim_start_matches('/'), "made up");
    tree.mode(program.trim_start_matches('/'), 0o755);
    tree.write(
        &format!("etc/systemd/system/{name}.service"),
        &format!("[Service]\n{service}\n[Install]\nWantedBy=multi-user.target\n"),
    );
    tree.link(
        &format!("etc/systemd/system/multi-user.target.wants/{name}.service"),
        &format!("../{name}.service"),
    );
    tree
}

#[track_caller]
fn causes(tree: &Tree, name: &str) -> Vec<Value> {
    let answer = tree.run(&["diagnose", name, "--format", "json"]);
    assert!(answer.status <= 1 || answer.status == 3, "{}", answer.err);
    answer.json()["services"][0]["causes"].as_array().unwrap().clone()
}

#[track_caller]
fn codes(tree: &Tree, name: &str) -> Vec<String> {
    causes(tree, name).iter().map(|c| c["code"].as_str().unwrap().to_owned()).collect()
}

#[test]
fn memory_beyond_the_address_space_of_the_unit() {
    let sailings = |limit: &str, size: &str| {
        let tree = tree(
            "sailings",
            "/usr/sbin/mariadbd",
            &format!("Type=notify\n{limit}\nExecStart=/usr/sbin/mariadbd --defaults-file=/etc/sailings.cnf"),
        );
        tree.write(
            "etc/sailings.cnf",
            &format!(
                "[mysqld]\ndatadir = /srv/sailings\nsocket = /run/sailings.sock\nskip-networking\n\
                innodb_buffer_pool_size = {size}\n"
            ),
        );
        tree.write("srv/sailings/mysql/db.frm", "");
        tree
    };
    let short = sailings("LimitAS=1G", "4G");
    let cause = causes(&short, "sailings")[0].clone();
    assert_eq!(
        (cause["code"].as_str(), cause["certainty"].as_str()),
        (Some("memory-short"), Some("certain")),
        "{cause}"
    );
    assert_eq!(
        (cause["subject"]["file"].as_str(), cause["subject"]["line"].as_u64()),
        (Some("/etc/sailings.cnf"), Some(5))
    );
    let text = short.run(&["diagnose", "sailings"]).out;
    let text = text.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(text.contains("asks for 4 GiB of memory, but its unit allows 1 GiB"), "{text}");
    let report =
        short.run(&["fix", "sailings", "--pick", "raise-limit", "--apply", "--format", "json"]).json();
    assert!(short.read("etc/systemd/system/sailings.service.d/zz-limit.conf").contains("LimitAS=infinity"));
    assert!(!codes(&short, "sailings").contains(&"memory-short".to_owned()));
    assert_eq!(short.run(&["undo", report["undo_id"].as_str().unwrap()]).status, 0);
    assert!(codes(&short, "sailings").contains(&"memory-short".to_owned()));
    for (limit, size) in [("LimitAS=8G", "4G"), ("LimitAS=infinity", "4G"), ("", "4G")] {
        assert!(!codes(&sailings(limit, size), "sailings").contains(&"memory-short".to_owned()), "{limit}");
    }
}

#[test]
fn a_heap_beyond_the_address_space_of_the_unit() {
    let boarding = |options: &str| {
        let tree = tree(
            "boarding",
            "/opt/jdk/bin/java",
            &format!("LimitAS=2G\nExecStart=/opt/jdk/bin/java {options} -jar /opt/boarding.jar"),
        );
        tree.write("opt/boarding.jar", "");
        tree.write("opt/jdk/lib/server/libjvm.so", "");
        codes(&tree, "boarding")
    };
    assert!(boarding("-Xmx4g").contains(&"memory-short".to_owned()));
    assert!(!boarding("-Xmx1g").contains(&"memory-short".to_owned()));
    assert!(!boarding("").contains(&"memory-short".to_owned()));
}

#[test]
fn open_files_beyond_the_limit_of_the_unit() {
    let harbour = |settings: &str, maxconn: u32| {
        let tree = tree(
            "harbour",
            "/usr/sbin/haproxy",
            &format!(
                "Type=notify\nUser=nobody\n{settings}\nExecStart=/usr/sbin/haproxy -Ws -f /etc/harbour.cfg"
            ),
        );
        tree.write(
            "etc/harbour.cfg",
            &format!(
                "global\n  maxconn {maxconn}\n\
                defaults\n  mode http\n  timeout connect 1s\n  timeout client 1s\n  timeout server 1s\n\
                frontend pier\n  bind 127.0.0.1:8086\n"
            ),
        );
        tree
    };
    let few = harbour("LimitNOFILE=1024", 4000);
    assert_eq!(codes(&few, "harbour").first().map(String::as_str), Some("limit-reached"));
    let dry = few.run(&["fix", "harbour"]);
    assert!(dry.out.contains("+LimitNOFILE=9024"), "{}", dry.out);
    assert!(!codes(&harbour("LimitNOFILE=16384", 4000), "harbour").contains(&"limit-reached".to_owned()));
    assert!(!codes(&harbour("", 4000), "harbour").contains(&"limit-reached".to_owned()));
}

#[test]
fn an_empty_lock_belongs_to_nobody_and_is_moved_aside_and_back() {
    let tree = tree(
        "bookings",
        "/usr/lib/postgresql/15/bin/postgres",
        "Type=notify\nExecStart=/usr/lib/postgresql/15/bin/postgres -D /srv/bookings",
    );
    tree.write(
        "srv/bookings/postgresql.conf",
        "port = 5433\nunix_socket_directories = '/run/bookings'\nlisten_addresses = ''\n",
    );
    tree.write("run/bookings/.s.PGSQL.5433.lock", "");
    let found = causes(&tree, "bookings");
    let lock = found.iter().find(|c| c["code"] == "stale-file").unwrap_or_else(|| panic!("{found:#?}"));
    assert_eq!(lock["subject"]["path"], "/run/bookings/.s.PGSQL.5433.lock");
    let plans = tree.run(&["fix", "bookings", "--format", "json"]).json();
    let id = plans["fixes"].as_array().unwrap().iter().find(|f| f["cause"] == "stale-file").unwrap()["id"]
        .as_str()
        .unwrap()
        .to_owned();
    let report = tree.run(&["fix", "bookings", "--pick", &id, "--apply", "--format", "json"]).json();
    assert!(!tree.path().join("run/bookings/.s.PGSQL.5433.lock").exists());
    let undone = tree.run(&["undo", report["undo_id"].as_str().unwrap()]);
    assert_eq!(undone.status, 0, "{}", undone.err);
    assert!(tree.path().join("run/bookings/.s.PGSQL.5433.lock").exists(), "nothing is deleted");
}

#[test]
fn a_key_of_another_certificate_is_refused_on_its_line() {
    let samples = concat!(env!("CARGO_MANIFEST_DIR"), "/../core/src/keys/samples");
    let sample = |name: &str| std::fs::read_to_string(format!("{samples}/{name}")).unwrap();
    let tree = Tree::new();
    tree.write("etc/nginx/edge.pem", &sample("rsa.pem"));
    tree.write("etc/nginx/edge.key", &sample("curve.key"));
    tree.write(
        "etc/nginx/nginx.conf",
        "events { }\nhttp {\n    server {\n        listen 8443 ssl;\n        ssl_certificate \
            edge.pem;\n        ssl_certificate_key edge.key;\n    }\n}\n",
    );
    let answer =
        tree.run(&["lint", "--kind", "nginx", "--config", "/etc/nginx/nginx.conf", "--format", "json"]);
    assert_eq!(answer.status, 1, "{}", answer.err);
    let finding = &answer.json()["findings"][0];
    assert_eq!(
        (finding["code"].as_str(), finding["line"].as_u64(), finding["depends_on"].as_str()),
        (Some("certificate-bad"), Some(6), Some("files"))
    );
    assert!(!answer.out.contains("PRIVATE"), "nothing of a key is shown");
    tree.write("etc/nginx/edge.key", &sample("rsa.key"));
    assert_eq!(tree.run(&["lint", "--kind", "nginx", "--config", "/etc/nginx/nginx.conf"]).status, 0);
}
