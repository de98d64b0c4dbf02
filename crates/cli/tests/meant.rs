//! What was meant by a word that is wrong: on a tree of files, for every sort of word, the first proposal of
//! `fix` writes it, `lint` or `diagnose` is content then, and `undo` gives every byte back.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test fails by panicking")]

mod common;

use common::Tree;
use std::os::unix::fs::PermissionsExt;

const PASSWD: &str = "root:x:0:0::/root:/bin/sh\nwww-data:x:33:33::/var/www:/bin/false\n\
                      harbour:x:990:990::/srv:/bin/false\n";
const GROUP: &str = "root:x:0:\nwww-data:x:33:\nharbour:x:990:\n";

/// A tree with one service that starts a program with a configuration.
fn tree(unit: &str) -> Tree {
    let tree = Tree::new();
    tree.write("etc/passwd", PASSWD);
    tree.write("etc/group", GROUP);
    tree.write("lib/systemd/system/quay.service", unit);
    tree.link("etc/systemd/system/multi-user.target.wants/quay.service", "/lib/systemd/system/quay.service");
    for program in
        ["usr/sbin/nginx", "usr/sbin/haproxy", "usr/bin/redis-server", "opt/quay/relay", "usr/bin/bash"]
    {
        tree.write(program, "\u{7f}ELF");
        tree.mode(program, 0o755);
    }
    tree
}

fn unit(start: &str, more: &str) -> String {
    format!("[Service]\nExecStart={start}\n{more}[Install]\nWantedBy=multi-user.target\n")
}

/// Applies the first proposal, and takes it back; what a file says in between.
#[track_caller]
fn fixed(tree: &Tree, pick: &str, file: &str) -> String {
    let before = std::fs::read(tree.path().join(file)).ok();
    let plan = tree.run(&["fix", "quay", "--format", "json"]).json();
    assert_eq!(plan["fixes"][0]["id"], pick, "{plan}");
    let report = tree.run(&["fix", "quay", "--apply", "--format", "json"]);
    let id = report.json()["undo_id"]
        .as_str()
        .unwrap_or_else(|| panic!("{}{}", report.out, report.err))
        .to_owned();
    let now = tree.read(file);
    let left = tree.run(&["diagnose", "quay", "--format", "json"]).json();
    let causes = left["services"][0]["causes"].as_array().unwrap();
    assert!(causes.iter().all(|c| c["fixes"].as_array().unwrap().iter().all(|f| f != pick)), "{left}");
    let undone = tree.run(&["undo", &id]);
    assert_eq!(undone.status, 0, "{}{}", undone.out, undone.err);
    assert_eq!(std::fs::read(tree.path().join(file)).ok(), before, "{file}");
    now
}

#[test]
fn a_word_of_a_configuration_becomes_the_one_that_was_meant() {
    let nginx = |line: &str| format!("{line}\nevents {{ }}\nhttp {{ include /etc/quay/mime.types; }}\n");
    let haproxy = |line: &str| {
        format!("defaults\n mode http\n timeout connect 5s\n timeout client 5s\n timeout server 5s\n{line}\n")
    };
    for (start, config, text, wrong, right) in [
        (
            "/usr/sbin/nginx -c /etc/quay/x.conf",
            "etc/quay/x.conf",
            nginx("user www-dta;"),
            "www-dta",
            "www-data",
        ),
        (
            "/usr/sbin/nginx -c /etc/quay/x.conf",
            "etc/quay/x.conf",
            nginx("user www-data;").replace("mime.types", "mime.type"),
            "/etc/quay/mime.type;",
            "/etc/quay/mime.types;",
        ),
        (
            "/usr/sbin/haproxy -f /etc/quay/x.cfg",
            "etc/quay/x.cfg",
            haproxy("frontend a\n bind 127.0.0.1:8001\n option httplg"),
            "httplg",
            "httplog",
        ),
        (
            "/usr/sbin/haproxy -f /etc/quay/x.cfg",
            "etc/quay/x.cfg",
            haproxy("listen a\n bind 127.0.0.1:8001\nglobal\n user harbor"),
            "user harbor",
            "user harbour",
        ),
        (
            "/usr/sbin/haproxy -f /etc/quay/x.cfg",
            "etc/quay/x.cfg",
            haproxy("listen a\n bind 127.0.0.1:8001").replace("defaults", "defalts"),
            "defalts",
            "defaults",
        ),
        (
            "/usr/sbin/nginx -c /etc/quay/x.conf",
            "etc/quay/x.conf",
            nginx("user www-data;")
                .replace("http {", "http { server { location / {\n try_files $uri /a =4o04;\n } }"),
            "=4o04",
            "=404",
        ),
        (
            "/usr/bin/redis-server /etc/quay/x.conf",
            "etc/quay/x.conf",
            "port 7001\ndir /srv/tied\n".to_owned(),
            "/srv/tied",
            "/srv/tide",
        ),
    ] {
        let tree = tree(&unit(start, ""));
        tree.write("etc/quay/mime.types", "types { }\n");
        tree.write("srv/tide/.keep", "");
        tree.write(config, &text);
        assert_eq!(fixed(&tree, "correct-directive", config), text.replace(wrong, right), "{wrong}");
    }
}

#[test]
fn a_word_that_a_variable_brings_is_corrected_where_it_is_set() {
    let tree = Tree::new().with_httpd();
    tree.write("etc/passwd", PASSWD);
    tree.write("etc/group", GROUP);
    let variables = tree.read("etc/apache2/envvars");
    assert!(variables.contains("www-data"), "{variables}");
    tree.write(
        "etc/apache2/envvars",
        &variables.replace("APACHE_RUN_USER=www-data", "APACHE_RUN_USER=www-dta"),
    );
    let report = tree.run(&["fix", "apache2", "--apply", "--format", "json"]);
    assert!(report.json()["undo_id"].is_string(), "{}{}", report.out, report.err);
    assert_eq!(tree.read("etc/apache2/envvars"), variables);
}

#[test]
fn a_word_of_an_administrators_unit_is_corrected_in_its_place() {
    for (text, wrong, right) in [
        (unit("/opt/quay/rleay", ""), "rleay", "relay"),
        (unit("/opt/quay/relay", "User=harbor\n"), "User=harbor", "User=harbour"),
        (unit("/opt/quay/relay", "Group=www-dta\n"), "www-dta", "www-data"),
        (
            unit("/opt/quay/relay", "EnvironmentFile=/etc/default/qauy\n"),
            "/etc/default/qauy",
            "/etc/default/quay",
        ),
        (unit("/opt/quay/relay", "WorkingDirectory=/opt/qauy\n"), "/opt/qauy", "/opt/quay"),
    ] {
        let tree = tree("");
        tree.write("etc/default/quay", "A=b\n");
        tree.write("etc/systemd/system/quay.service", &text);
        let now = fixed(&tree, "correct-unit", "etc/systemd/system/quay.service");
        assert_eq!(now, text.replace(wrong, right), "{wrong}");
    }
}

#[test]
fn a_packaged_unit_stays_as_it_is_and_gets_a_drop_in() {
    let drop_in = "etc/systemd/system/quay.service.d/zz-corrected.conf";
    let of_program = tree(&unit("/opt/quay/rleay --tide ebb", ""));
    let text = fixed(&of_program, "correct-unit", drop_in);
    assert!(text.ends_with("ExecStart=\nExecStart=/opt/quay/relay --tide ebb\n"), "{text}");
    let of_account = tree(&unit("/opt/quay/relay", "User=harbor\n"));
    assert!(fixed(&of_account, "correct-unit", drop_in).ends_with("[Service]\nUser=harbour\n"));
}

#[test]
fn a_unit_may_do_without_what_is_nowhere() {
    let tree = tree(&unit("/opt/quay/relay", "EnvironmentFile=/etc/none\nEnvironmentFile=-/etc/other\n"));
    let text = fixed(&tree, "do-without", "etc/systemd/system/quay.service.d/zz-without.conf");
    assert!(
        text.ends_with("EnvironmentFile=\nEnvironmentFile=-/etc/none\nEnvironmentFile=-/etc/other\n"),
        "{text}"
    );
}

#[test]
fn a_program_of_roots_is_made_executable_and_its_interpreter_is_corrected() {
    let tree = tree(&unit("/opt/quay/start.sh", ""));
    let mode =
        || std::fs::metadata(tree.path().join("opt/quay/start.sh")).unwrap().permissions().mode() & 0o7777;
    tree.write("opt/quay/start.sh", "#!/usr/bin/bsah\nexec /opt/quay/relay\n");
    tree.mode("opt/quay/start.sh", 0o640);
    let report = tree.run(&["fix", "quay", "--apply", "--format", "json"]);
    let first = report.json()["undo_id"]
        .as_str()
        .unwrap_or_else(|| panic!("{}{}", report.out, report.err))
        .to_owned();
    assert_eq!(mode(), 0o750, "whoever may read it may execute it");
    let text = fixed(&tree, "correct-directive", "opt/quay/start.sh");
    assert!(text.starts_with("#!/usr/bin/bash\n"), "{text}");
    assert_eq!(tree.run(&["undo", &first]).status, 0);
    assert_eq!(mode(), 0o640);
}

#[test]
fn nothing_is_written_where_it_is_not_known_which_was_meant() {
    let tree = tree(&unit("/usr/sbin/nginx -c /etc/quay/x.conf", ""));
    tree.write("etc/quay/x.conf", "events { }\nhttp { include /etc/quay/tides.typ; }\n");
    tree.write("etc/quay/tides.typs", "");
    tree.write("etc/quay/tides.type", "");
    let plan = tree.run(&["fix", "quay", "--format", "json"]).json();
    let ids: Vec<&str> = plan["fixes"].as_array().unwrap().iter().filter_map(|p| p["id"].as_str()).collect();
    assert!(!ids.contains(&"correct-directive"), "two are as near: {plan}");
}
