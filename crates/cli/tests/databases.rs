//! The database kinds, caches and pools of the scenario on a tree of files: found, read, and diagnosed
//! without anything running.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test fails by panicking")]

mod common;

use common::{Answer, Tree};
use serde_json::Value;

const WANTED: &str = "[Install]\nWantedBy=multi-user.target\n";

/// The back rooms of quay1: sailings, bookings, seat-cache, ticket-pages, each with a unit of its own, all of
/// them whole.
fn quay() -> Tree {
    let tree = Tree::new();
    let unit = |name: &str, service: &str| {
        tree.write(&format!("etc/systemd/system/{name}.service"), &format!("[Service]\n{service}\n{WANTED}"));
        tree.link(
            &format!("etc/systemd/system/multi-user.target.wants/{name}.service"),
            &format!("../{name}.service"),
        );
    };
    // As root or not, the files of the tree belong to whoever runs the test: so do the services.
    unit("sailings", "ExecStart=/usr/sbin/mariadbd --defaults-file=/etc/sailings/my.cnf");
    unit("bookings", "ExecStart=/usr/lib/postgresql/15/bin/postgres -D /srv/bookings");
    unit("seat-cache", "ExecStart=/usr/bin/redis-server /etc/seat-cache.conf");
    unit(
        "ticket-pages",
        "ExecStart=/usr/sbin/php-fpm8.2 --nodaemonize --fpm-config /etc/ticket-pages/fpm.conf",
    );
    unit("boarding", "Environment=CATALINA_BASE=/srv/boarding\nExecStart=/opt/tomcat/bin/catalina.sh run");
    unit("harbour", "ExecStart=/usr/sbin/haproxy -Ws -f /etc/harbour.cfg");
    for program in [
        "usr/sbin/mariadbd",
        "usr/lib/postgresql/15/bin/postgres",
        "usr/bin/redis-server",
        "usr/sbin/php-fpm8.2",
        "opt/tomcat/bin/catalina.sh",
        "usr/sbin/haproxy",
    ] {
        tree.write(program, "made up");
        tree.mode(program, 0o755);
    }
    tree.write(
        "etc/sailings/my.cnf",
        "[mysqld]\ndatadir = /srv/sailings\nsocket = /run/sailings.sock\n\
        port = 3307\nlog_error = /var/log/sailings.err\n",
    );
    tree.write("srv/sailings/mysql/db.frm", "");
    tree.write(
        "srv/bookings/postgresql.conf",
        "port = 5433\nunix_socket_directories = '/run'\nlisten_addresses = '127.0.0.1'\n",
    );
    tree.write("srv/bookings/PG_VERSION", "15\n");
    tree.write("srv/bookings/pg_wal/000000010000000000000001", "");
    tree.mode("srv/bookings", 0o700);
    tree.write(
        "etc/seat-cache.conf",
        "port 6390\nbind 127.0.0.1\ndir /srv/seats\nlogfile /var/log/seats.log\nrequirepass gull-77-secret\n",
    );
    tree.write("srv/seats/.keep", "");
    tree.write(
        "etc/ticket-pages/fpm.conf",
        "[global]\nerror_log = /var/log/fpm.log\n[tickets]\nuser = www-data\ngroup = www-data\n\
            listen = /run/tickets.sock\npm = static\npm.max_children = 2\n",
    );
    tree.write(
        "srv/boarding/conf/server.xml",
        "<Server port=\"-1\">\n  <Service name=\"s\">\n    <Connector \
        port=\"8085\"/>\n  </Service>\n</Server>\n",
    );
    tree.write(
        "etc/harbour.cfg",
        "frontend pier\n    bind 127.0.0.1:8086\n    default_backend b\n\
        backend b\n    server a 127.0.0.1:8085\n",
    );
    tree
}

#[track_caller]
fn first(answer: &Answer) -> (String, Value) {
    let report = answer.json();
    let cause = report["services"][0]["causes"][0].clone();
    (cause["code"].as_str().unwrap_or_else(|| panic!("no cause: {report:#}")).to_owned(), cause)
}

#[test]
fn every_kind_is_found_with_what_it_wants() {
    let report = quay().run(&["survey", "--format", "json"]).json();
    let rows: Vec<(String, String, String)> = report["services"]
        .as_array()
        .unwrap()
        .iter()
        .map(|s| {
            let text = |key: &str| s[key].as_str().unwrap_or_default().to_owned();
            (
                text("service"),
                text("kind"),
                s["listens"]
                    .as_array()
                    .unwrap()
                    .iter()
                    .map(|l| l.as_str().unwrap())
                    .collect::<Vec<_>>()
                    .join(" "),
            )
        })
        .collect();
    let expected = [
        ("boarding", "tomcat", "[::]:8085"),
        ("bookings", "postgresql", "127.0.0.1:5433 /run/.s.PGSQL.5433"),
        ("harbour", "haproxy", "127.0.0.1:8086"),
        ("sailings", "mysql", "[::]:3307 /run/sailings.sock"),
        ("seat-cache", "redis", "127.0.0.1:6390"),
        ("ticket-pages", "php-fpm", "/run/tickets.sock"),
    ];
    let got: Vec<(&str, &str, &str)> =
        rows.iter().map(|(a, b, c)| (a.as_str(), b.as_str(), c.as_str())).collect();
    assert_eq!(got, expected);
}

#[test]
fn a_tree_with_nothing_wrong_has_no_cause() {
    let tree = quay();
    for service in ["boarding", "harbour", "sailings", "seat-cache", "ticket-pages"] {
        let report = tree.run(&["diagnose", service, "--format", "json"]).json();
        assert_eq!(
            report["services"][0]["causes"],
            Value::Array(vec![]),
            "{service}: {}",
            report["services"][0]["causes"]
        );
    }
}

#[test]
fn a_fault_in_each_configuration_is_told_with_its_line() {
    for (service, file, from, to, code, line) in [
        ("sailings", "etc/sailings/my.cnf", "[mysqld]\n", "", "config-syntax", 1),
        (
            "sailings",
            "etc/sailings/my.cnf",
            "/run/sailings.sock",
            "/run/none/s.sock",
            "config-missing-file",
            3,
        ),
        ("sailings", "etc/sailings/my.cnf", "/srv/sailings", "/srv/none", "config-missing-file", 2),
        ("bookings", "srv/bookings/postgresql.conf", "5433", "54 33", "config-syntax", 1),
        ("bookings", "srv/bookings/postgresql.conf", "5433", "99999", "config-bad-value", 1),
        ("seat-cache", "etc/seat-cache.conf", "6390", "high", "config-bad-value", 1),
        ("seat-cache", "etc/seat-cache.conf", "/srv/seats", "/srv/none", "config-missing-file", 3),
        (
            "ticket-pages",
            "etc/ticket-pages/fpm.conf",
            "user = www-data",
            "user = ferryman",
            "account-missing",
            4,
        ),
        ("ticket-pages", "etc/ticket-pages/fpm.conf", "pm = static", "pm static", "config-syntax", 7),
        ("boarding", "srv/boarding/conf/server.xml", "</Service>", "</Servcie>", "config-syntax", 4),
        ("harbour", "etc/harbour.cfg", ":8086", ":none", "config-bad-value", 2),
    ] {
        let tree = quay();
        let text = tree.read(file);
        assert!(text.contains(from), "{file} holds {from}");
        tree.write(file, &text.replacen(from, to, 1));
        let answer = tree.run(&["diagnose", service, "--format", "json"]);
        let (told, cause) = first(&answer);
        assert_eq!(
            (told.as_str(), cause["certainty"].as_str(), answer.status),
            (code, Some("certain"), 1),
            "{service}: {to}"
        );
        let place = cause["subject"]["line"].as_u64();
        assert_eq!(place, Some(line), "{service}: {to}: {cause}");
        let lint = tree.run(&["lint", service, "--format", "json"]);
        assert_eq!((lint.json()["verdict"].as_str(), lint.status), (Some("rejected"), 1), "{service}: {to}");
    }
}

#[test]
fn data_that_are_missing_damaged_or_of_another_version_are_told_from_the_files() {
    let tree = quay();
    tree.write("srv/bookings/PG_VERSION", "14\n");
    assert_eq!(first(&tree.run(&["diagnose", "bookings", "--format", "json"])).0, "data-version");
    tree.write("srv/bookings/PG_VERSION", "15\n");
    tree.write("srv/bookings/global/pg_control", "short");
    let (code, cause) = first(&tree.run(&["diagnose", "bookings", "--format", "json"]));
    assert_eq!(
        (code.as_str(), cause["subject"]["path"].as_str()),
        ("data-damaged", Some("/srv/bookings/global/pg_control"))
    );
    std::fs::remove_dir_all(tree.path().join("srv/sailings/mysql")).unwrap();
    assert_eq!(first(&tree.run(&["diagnose", "sailings", "--format", "json"])).0, "data-missing");
    tree.write("srv/seats/dump.rdb", "REDIS00xx");
    assert_eq!(first(&tree.run(&["diagnose", "seat-cache", "--format", "json"])).0, "data-damaged");
}

#[test]
fn a_password_in_a_configuration_never_comes_out() {
    let tree = quay();
    for arguments in [
        vec!["settings", "seat-cache"],
        vec!["settings", "seat-cache", "--format", "json"],
        vec!["survey", "seat-cache", "--format", "html"],
        vec!["diagnose", "seat-cache", "-v"],
        vec!["lint", "seat-cache", "--format", "sarif"],
        vec!["capture", "seat-cache"],
    ] {
        let answer = tree.run(&arguments);
        assert!(
            !answer.out.contains("gull-77-secret") && !answer.err.contains("gull-77-secret"),
            "{arguments:?}"
        );
    }
}

#[test]
fn settings_of_the_line_kinds_have_their_places() {
    let tree = quay();
    let report = tree.run(&["settings", "bookings", "port", "--format", "json"]).json();
    let port = &report["settings"][0];
    assert_eq!(
        (port["value"].as_str(), port["file"].as_str(), port["line"].as_u64()),
        (Some("5433"), Some("/srv/bookings/postgresql.conf"), Some(1))
    );
    let report = tree.run(&["settings", "ticket-pages", "listen", "--format", "json"]).json();
    assert_eq!(report["settings"][0]["section"], "tickets");
}

/// With the packages that tell which release stands there.
fn installed() -> Tree {
    let tree = quay();
    let package = |name: &str, version: &str| {
        format!("Package: {name}\nStatus: install ok installed\nVersion: {version}\n\n")
    };
    tree.write(
        "var/lib/dpkg/status",
        &(package("postgresql-15", "15.20-0+deb12u1")
            + &package("mariadb-server", "1:10.11.19-0+deb12u1")
            + &package("php8.2-fpm", "8.2.36-1")),
    );
    tree
}

#[test]
fn settings_tell_defaults_and_what_differs_from_them() {
    let tree = installed();
    tree.write("srv/bookings/pg_hba.conf", "local all all peer\n");
    tree.write(
        "srv/bookings/postgresql.conf",
        "port = 5433\nshared_buffers = 16384\nfsync = true\nwork_mem = 1MB\nwork_mem = 8192\n",
    );
    let report = tree.run(&["settings", "bookings", "--format", "json"]).json();
    let of = |name: &str| {
        let all = report["settings"].as_array().unwrap();
        all.iter().find(|s| s["name"] == name).cloned().unwrap_or_default()
    };
    let (buffers, port) = (of("shared_buffers"), of("port"));
    assert_eq!((&buffers["default"], &buffers["changed"]), (&"128MB".into(), &false.into()), "{report:#}");
    assert_eq!((&port["default"], &port["changed"]), (&"5432".into(), &true.into()));
    assert_eq!((&of("fsync")["changed"], &of("work_mem")["unit"]), (&false.into(), &"kB".into()));
    let changed = tree.run(&["settings", "bookings", "--changed"]).out;
    assert!(
        changed.contains("port 5433; built in: 5432") && !changed.contains("shared_buffers"),
        "{changed}"
    );
    // What nobody sets has its default; what is none is told.
    let asked = tree.run(&["settings", "bookings", "wal_level", "tide_gauge", "--format", "json"]).json();
    assert_eq!(
        (&asked["settings"][0]["value"], &asked["settings"][0]["layer"]),
        (&"replica".into(), &"default".into())
    );
    assert_eq!(asked["unknown"][0]["name"], "tide_gauge");
    let lines = tree.run(&["settings", "bookings", "--where", "work_mem", "--format", "json"]).json();
    let mentions: Vec<(u64, bool)> = lines["mentions"]
        .as_array()
        .unwrap()
        .iter()
        .map(|m| (m["line"].as_u64().unwrap(), m["in_force"].as_bool().unwrap()))
        .collect();
    assert_eq!(mentions, [(4, false), (5, true)]);
    let text = tree.run(&["settings", "bookings", "--where", "work_mem"]).out;
    assert!(text.contains("2 lines name it") && text.contains("1MB, overridden"), "{text}");
    assert_eq!(tree.run(&["settings", "bookings", "--where", "work_mem", "--changed"]).status, 2);
}

#[test]
fn settings_are_compared_with_what_was_captured_elsewhere() {
    let tree = installed();
    let bundle = tree.path().join("there.json");
    assert_eq!(tree.run(&["capture", "bookings", "--output", bundle.to_str().unwrap()]).status, 0);
    let compare = |more: &[&str]| {
        let mut words = vec!["settings", "bookings", "--compare", bundle.to_str().unwrap()];
        words.extend(more);
        tree.run(&words)
    };
    let same = compare(&[]).out;
    assert!(same.contains("Every setting of bookings is the same there."), "{same}");
    tree.write(
        "srv/bookings/postgresql.conf",
        "port = 5434\nunix_socket_directories = '/run'\nwork_mem = 8MB\n",
    );
    let report = compare(&["--format", "json"]).json();
    let of = |one: &Value| {
        let side = |side: &str| one[side]["value"].as_str().unwrap_or("-").to_owned();
        (one["name"].as_str().unwrap().to_owned(), side("here"), side("there"))
    };
    let found: Vec<_> = report["differences"].as_array().unwrap().iter().map(of).collect();
    assert_eq!(
        found,
        [
            ("port".into(), "5434".into(), "5433".into()),
            ("work_mem".into(), "8MB".into(), "-".into()),
            ("listen_addresses".into(), "-".into(), "127.0.0.1".into()),
        ]
    );
    let text = compare(&[]).out;
    assert!(text.contains("3 settings of bookings are not the same there."), "{text}");
    let none = tree.run(&["settings", "bookings", "--compare", "none.json"]);
    assert_eq!((none.status, none.err.contains("none.json")), (2, true), "{}", none.err);
}

#[test]
fn a_name_or_value_that_the_daemon_refuses_is_told_with_what_was_meant() {
    for (service, file, text, code, near) in [
        (
            "bookings",
            "srv/bookings/postgresql.conf",
            "shared_bufers = 1GB\n",
            "config-unknown-directive",
            "shared_buffers",
        ),
        (
            "sailings",
            "etc/sailings/my.cnf",
            "[mysqld]\nmax_conections = 5\n",
            "config-unknown-directive",
            "max_connections",
        ),
        (
            "ticket-pages",
            "etc/ticket-pages/fpm.conf",
            "[tickets]\nuser = root\nlisten = /run/t.sock\npm = static\npm.max_childrn = 4\n",
            "config-unknown-directive",
            "pm.max_children",
        ),
        ("bookings", "srv/bookings/postgresql.conf", "work_mem = 4mb\n", "config-bad-value", ""),
        ("sailings", "etc/sailings/my.cnf", "[mysqld]\nport = sea\n", "config-bad-value", ""),
    ] {
        let tree = installed();
        tree.write(file, text);
        let answer = tree.run(&["lint", service, "--format", "json"]);
        let report = answer.json();
        assert_eq!((answer.status, &report["findings"][0]["code"]), (1, &code.into()), "{report:#}");
        let help = report["findings"][0]["help"].as_str().unwrap_or_default();
        assert!(help.contains(near), "{help}");
        if near.is_empty() {
            continue;
        }
        // The name that was meant is what the first fix writes.
        let fixed = tree.run(&["fix", service, "--apply", "--yes", "--no-start"]);
        let now = std::fs::read_to_string(tree.path().join(file)).unwrap();
        assert!(now.contains(near), "{}{}{now}", fixed.out, fixed.err);
    }
}

#[test]
fn what_was_captured_of_a_tree_is_diagnosed_the_same_elsewhere() {
    let tree = quay();
    tree.write("etc/seat-cache.conf", "port 6390\nbind 192.0.2.300\ndir /srv/none\n");
    let here = tree.run(&["diagnose", "seat-cache", "--format", "json"]).json();
    let bundle = tree.path().join("evidence.json");
    let captured = tree.run(&["capture", "seat-cache", "--output", bundle.to_str().unwrap()]);
    assert_eq!(captured.status, 0, "{}", captured.err);
    let there = common::run(
        tree.path(),
        &["--from", bundle.to_str().unwrap(), "diagnose", "seat-cache", "--format", "json"],
    )
    .json();
    assert_eq!(there["services"][0]["causes"], here["services"][0]["causes"]);
}

#[test]
fn the_log_of_a_stopped_database_tells_its_last_start() {
    let tree = quay();
    tree.write(
        "var/log/sailings.err",
        "2031-04-02  6:10:11 0 [Note] Starting MariaDB 10.11 source revision x as process 71\n\
         2031-04-02  6:10:12 0 [ERROR] /usr/sbin/mariadbd: unknown variable 'tide_level=9'\n\
         2031-04-02  6:10:12 0 [ERROR] Aborting\n",
    );
    let report = tree.run(&["attempts", "sailings", "--last", "1", "--format", "json"]).json();
    let attempt = &report["attempts"][0];
    assert_eq!(
        (attempt["outcome"].as_str(), attempt["failures"][0]["code"].as_str()),
        (Some("failed"), Some("config-unknown-directive")),
        "{report:#}"
    );
    assert_eq!(
        (attempt["failures"][0]["file"].as_str(), attempt["failures"][0]["line"].as_u64()),
        (Some("/var/log/sailings.err"), Some(2))
    );
}
