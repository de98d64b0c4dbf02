//! `settings` says for each value its layer and place, and what it overrode: files, what the server keeps,
//! the unit's options.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test fails by panicking")]

mod common;

use common::Tree;
use serde_json::Value;

const LINES_BEFORE_COMMAND: &str = "[Unit]\nDescription=made up\n[Service]\n";

/// A host with one service: its command, its files, and a drop-in where there is one.
fn host(command: &str, files: &[(&str, &str)]) -> Tree {
    let tree = Tree::new();
    tree.write("etc/systemd/system/quay.service", &format!("{LINES_BEFORE_COMMAND}ExecStart={command}\n"));
    tree.write(command.split(' ').next().unwrap().trim_start_matches('/'), "\u{7f}ELF");
    for (name, text) in files {
        tree.write(name, text);
    }
    tree
}

/// What is said of a name: value, layer, `file:line`, and the overridden values in order.
fn told(tree: &Tree, name: &str) -> Vec<(String, String, String, Vec<String>)> {
    let report = tree.run(&["settings", "quay", name, "--format", "json"]).json();
    let place = |v: &Value| format!("{}:{}", v["file"].as_str().unwrap_or("-"), v["line"]);
    let one = |s: &Value| {
        let overrides = s["overrides"].as_array().unwrap().iter().map(|o| {
            format!("{} {} {}", o["value"].as_str().unwrap(), o["layer"].as_str().unwrap(), place(o))
        });
        (
            s["value"].as_str().unwrap_or("null").to_owned(),
            s["layer"].as_str().unwrap().to_owned(),
            place(s),
            overrides.collect(),
        )
    };
    report["settings"].as_array().unwrap().iter().map(one).collect()
}

#[track_caller]
fn check(tree: &Tree, name: &str, value: &str, layer: &str, place: &str, overrides: &[&str]) {
    let expected = vec![(
        value.to_owned(),
        layer.to_owned(),
        place.to_owned(),
        overrides.iter().map(|o| (*o).to_owned()).collect::<Vec<_>>(),
    )];
    assert_eq!(told(tree, name), expected, "{name}");
}

const UNIT: &str = "/etc/systemd/system/quay.service:4";

#[test]
fn an_option_of_a_cache_stands_at_the_unit_and_wins_whether_or_not_the_file_mentions_it() {
    let tree = host(
        "/usr/bin/redis-server /etc/redis.conf --port 6400 --appendonly yes",
        &[("etc/redis.conf", "port 6379\nsave 900 1\nsave 300 10\n")],
    );
    check(&tree, "port", "6400", "command-line", UNIT, &["6379 file /etc/redis.conf:1"]);
    check(&tree, "appendonly", "yes", "command-line", UNIT, &[]);
    assert_eq!(told(&tree, "save").len(), 2, "each line adds one");
    let ports = tree.run(&["ports", "--format", "json"]).json();
    let wanted = ports["ports"].to_string();
    assert!(wanted.contains("6400") && !wanted.contains("6379"), "{wanted}");
}

#[test]
fn a_drop_in_that_gives_another_command_is_where_its_options_stand() {
    let tree = host("/usr/bin/redis-server /etc/redis.conf", &[("etc/redis.conf", "port 6379\n")]);
    tree.write(
        "etc/systemd/system/quay.service.d/own.conf",
        "[Service]\nExecStart=\nExecStart=/usr/bin/redis-server /etc/redis.conf --port 6401\n",
    );
    check(
        &tree,
        "port",
        "6401",
        "command-line",
        "/etc/systemd/system/quay.service.d/own.conf:3",
        &["6379 file /etc/redis.conf:1"],
    );
}

#[test]
fn a_name_is_found_in_every_spelling_and_groups_of_one_server_are_one() {
    let file = "[client]\nport=1\n[mysqld]\nport=3306\nbind-address=127.0.0.1\n[mariadb]\nbind_address=::1\n\
        loose-max-connections=5\n";
    let tree = host(
        "/usr/sbin/mariadbd --defaults-file=/etc/own.cnf -P 3310 --max_connections 7",
        &[("etc/own.cnf", file)],
    );
    for name in ["bind-address", "bind_address", "BIND_ADDRESS"] {
        check(&tree, name, "::1", "file", "/etc/own.cnf:7", &["127.0.0.1 file /etc/own.cnf:5"]);
    }
    check(&tree, "port", "3310", "command-line", UNIT, &["3306 file /etc/own.cnf:4"]);
    check(&tree, "max_connections", "7", "command-line", UNIT, &["5 file /etc/own.cnf:8"]);
}

#[test]
fn the_environment_is_weaker_than_the_file() {
    let tree = host(
        "/usr/sbin/mariadbd --defaults-file=/etc/own.cnf",
        &[("etc/own.cnf", "[mysqld]\nsocket=/run/own.sock\n")],
    );
    tree.write(
        "etc/systemd/system/quay.service.d/own.conf",
        "[Service]\nEnvironment=MYSQL_TCP_PORT=3333 MYSQL_UNIX_PORT=/run/other.sock\n",
    );
    check(&tree, "port", "3333", "environment", "-:null", &[]);
    check(
        &tree,
        "socket",
        "/run/own.sock",
        "file",
        "/etc/own.cnf:2",
        &["/run/other.sock environment -:null"],
    );
}

#[test]
fn what_a_database_keeps_for_itself_wins_over_its_files_and_the_command_over_both() {
    let tree = host(
        "/usr/lib/postgresql/15/bin/postgres -D /srv/data -c work_mem=9MB -p 5440",
        &[
            ("srv/data/postgresql.conf", "port = 5433\nwork_mem = 4MB\nWork_Mem = 5MB\ninclude_dir 'more'\n"),
            ("srv/data/more/a.conf", "shared_buffers = 1MB\n"),
            ("srv/data/postgresql.auto.conf", "work_mem = 6MB\nshared_buffers = 2MB\n"),
            ("srv/data/PG_VERSION", "15\n"),
        ],
    );
    check(
        &tree,
        "shared_buffers",
        "2MB",
        "kept",
        "/srv/data/postgresql.auto.conf:2",
        &["1MB file /srv/data/more/a.conf:1"],
    );
    let earlier = [
        "4MB file /srv/data/postgresql.conf:2",
        "5MB file /srv/data/postgresql.conf:3",
        "6MB kept /srv/data/postgresql.auto.conf:1",
    ];
    check(&tree, "work_mem", "9MB", "command-line", UNIT, &earlier);
    check(&tree, "port", "5440", "command-line", UNIT, &["5433 file /srv/data/postgresql.conf:1"]);
}

#[test]
fn the_first_value_counts_where_the_daemon_has_it_so() {
    let file = "global\n  maxconn 111\n  maxconn 222\n  node a\n  node b\n  pidfile /run/a.pid\n\
        defaults\n  timeout client 5s\n  timeout server 6s\n  timeout client 9s\n\
        frontend f\n  bind 127.0.0.1:8086\n  bind 127.0.0.1:8087\n  maxconn 70\n  maxconn 80\n";
    let tree = host("/usr/sbin/haproxy -f /etc/edge.cfg -p /run/b.pid", &[("etc/edge.cfg", file)]);
    let maxconn = told(&tree, "maxconn");
    assert_eq!(
        maxconn[0],
        ("111".into(), "file".into(), "/etc/edge.cfg:2".into(), vec!["222 file /etc/edge.cfg:3".into()])
    );
    assert_eq!(
        maxconn[1],
        ("80".into(), "file".into(), "/etc/edge.cfg:15".into(), vec!["70 file /etc/edge.cfg:14".into()])
    );
    check(&tree, "node", "b", "file", "/etc/edge.cfg:5", &["a file /etc/edge.cfg:4"]);
    check(&tree, "pidfile", "/run/b.pid", "command-line", UNIT, &["/run/a.pid file /etc/edge.cfg:6"]);
    assert_eq!(told(&tree, "bind").len(), 2);
    let timeouts: Vec<String> = told(&tree, "timeout").into_iter().map(|t| t.0).collect();
    assert_eq!(timeouts, ["client 9s", "server 6s"], "a name of two words hides no other");
}

#[test]
fn two_servers_of_one_address_are_two_sections() {
    let file = "events { }\nhttp {\n  server { listen 8088; root /srv/www; }\n  server { listen 8089; root \
        /var/www; }\n}\n";
    let tree = host(
        "/usr/sbin/nginx -c /etc/nginx/nginx.conf -g 'pid /run/own.pid;'",
        &[("etc/nginx/nginx.conf", file)],
    );
    assert_eq!(told(&tree, "root").len(), 2);
    check(&tree, "pid", "/run/own.pid", "command-line", UNIT, &[]);
}

#[test]
fn pools_overrides_are_those_of_the_pool_and_the_first_interpreter_value_stays() {
    let file = "[global]\ndaemonize = yes\n[www]\nuser = www-data\nlisten = /run/a.sock\npm = static\n\
        pm.max_children = 2\npm.max_children = 3\nphp_admin_value[memory_limit] = 1M\n\
        php_admin_value[memory_limit] = 2M\n[more]\npm.max_children = 4\n";
    let tree = host("/usr/sbin/php-fpm --nodaemonize --fpm-config /etc/fpm.conf", &[("etc/fpm.conf", file)]);
    let children = told(&tree, "pm.max_children");
    assert_eq!(children.iter().map(|c| (c.0.as_str(), c.3.len())).collect::<Vec<_>>(), [("3", 1), ("4", 0)]);
    check(
        &tree,
        "php_admin_value[memory_limit]",
        "1M",
        "file",
        "/etc/fpm.conf:9",
        &["2M file /etc/fpm.conf:10"],
    );
    check(&tree, "daemonize", "no", "command-line", UNIT, &["yes file /etc/fpm.conf:2"]);
}

#[test]
fn a_secret_has_no_value_but_its_place_and_what_it_overrode() {
    let tree = host(
        "/usr/bin/redis-server /etc/redis.conf",
        &[("etc/redis.conf", "requirepass tide1\nrequirepass tide2\n")],
    );
    let answer = tree.run(&["settings", "quay", "--format", "json"]);
    assert!(!answer.out.contains("tide1") && !answer.out.contains("tide2"), "{}", answer.out);
    let one = &answer.json()["settings"][0];
    assert_eq!(
        (one["secret"].as_bool(), one["value"].is_null(), one["line"].as_u64()),
        (Some(true), true, Some(2))
    );
    assert_eq!(
        (one["overrides"][0]["value"].is_null(), one["overrides"][0]["line"].as_u64()),
        (true, Some(1))
    );
}

#[test]
fn a_directory_that_the_manager_makes_is_not_missed_before_the_start() {
    let tree = host(
        "/usr/sbin/mariadbd --no-defaults --datadir=/srv/data --socket=/run/own/own.sock",
        &[("srv/data/mysql/x", "")],
    );
    let errors = |tree: &Tree| {
        tree.run(&["lint", "quay", "--format", "json"]).json()["findings"].as_array().unwrap().len()
    };
    assert_eq!(errors(&tree), 1, "nobody makes it");
    tree.write("etc/systemd/system/quay.service.d/own.conf", "[Service]\nRuntimeDirectory=own\n");
    assert_eq!(errors(&tree), 0);
}

#[test]
fn directives_of_the_command_of_httpd_are_read_before_and_behind_the_files() {
    let config = "ServerName quay1\nTimeout 60\nKeepAlive On\n";
    let tree = host(
        "/usr/sbin/apache2 -f /etc/quay.conf -C 'Timeout 10' -c 'KeepAlive Off' -C 'ServerTokens Prod'",
        &[("etc/quay.conf", config)],
    );
    check(&tree, "Timeout", "60", "file", "/etc/quay.conf:2", &[&format!("10 command-line {UNIT}")]);
    check(&tree, "KeepAlive", "Off", "command-line", UNIT, &["On file /etc/quay.conf:3"]);
    check(&tree, "ServerTokens", "Prod", "command-line", UNIT, &[]);
    let refused =
        host("/usr/sbin/apache2 -f /etc/quay.conf -c 'Lisen 80'", &[("etc/quay.conf", "ServerName quay1\n")]);
    let report = refused.run(&["lint", "quay", "--format", "json"]).json();
    assert_eq!(
        (report["verdict"].as_str(), report["findings"][0]["code"].as_str()),
        (Some("rejected"), Some("config-unknown-directive")),
        "{report}"
    );
}
