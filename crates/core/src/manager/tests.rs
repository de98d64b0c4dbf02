//! Units as the manager reads them: which file wins, what drop-ins change, what instances and aliases are.
use super::{Unit, mentions, service_names, unit};
use crate::snapshot::Snapshot;
use crate::tests::TextHost;

#[track_caller]
fn read(host: &TextHost, name: &str) -> Unit {
    unit(&Snapshot::new(host), name).seen().expect("the unit is there")
}

fn program(unit: &Unit) -> String {
    unit.commands("ExecStart").first().map(|c| c.words.join(" ")).unwrap_or_default()
}

#[test]
fn the_administrators_file_wins_over_the_runtimes_and_that_over_the_packages() {
    let mut host = TextHost::new();
    for (dir, expected) in [
        ("/run/systemd/generator.late", "late"),
        ("/lib/systemd/system", "vendor"),
        ("/usr/local/lib/systemd/system", "local"),
        ("/run/systemd/generator", "generated"),
        ("/run/systemd/system", "runtime"),
        ("/etc/systemd/system", "own"),
    ] {
        host = host.file(&format!("{dir}/edge.service"), &format!("[Service]\nExecStart=/opt/{expected}\n"));
        assert_eq!(program(&read(&host, "edge.service")), format!("/opt/{expected}"));
    }
}

#[test]
fn drop_ins_of_all_directories_are_one_list_by_name_and_one_name_counts_once() {
    let host = TextHost::new()
        .file(
            "/lib/systemd/system/edge.service",
            "[Service]\nExecStart=/opt/edge\nUser=tide\nEnvironment=A=1\n",
        )
        .file("/lib/systemd/system/edge.service.d/20-b.conf", "[Service]\nEnvironment=B=vendor\n")
        .file("/etc/systemd/system/edge.service.d/20-b.conf", "[Service]\nEnvironment=B=own\n")
        .file(
            "/run/systemd/system/edge.service.d/10-a.conf",
            "[Service]\nUser=marta\nExecStart=\nExecStart=/opt/edge --fast\n",
        )
        .file("/etc/systemd/system/edge.service.d/notes.txt", "[Service]\nUser=root\n");
    let edge = read(&host, "edge.service");
    assert_eq!(
        (program(&edge).as_str(), edge.value("Service", "User").as_deref()),
        ("/opt/edge --fast", Some("marta"))
    );
    let environment = edge.environment();
    assert_eq!(
        (environment.get("A").map(String::as_str), environment.get("B").map(String::as_str)),
        (Some("1"), Some("own"))
    );
    assert_eq!(
        edge.drop_ins,
        ["/run/systemd/system/edge.service.d/10-a.conf", "/etc/systemd/system/edge.service.d/20-b.conf"]
    );
    assert_eq!(
        edge.place("Service", "User"),
        Some(("/run/systemd/system/edge.service.d/10-a.conf".to_owned(), 2))
    );
}

#[test]
fn an_instance_takes_its_template_and_the_drop_ins_of_both() {
    let host = TextHost::new()
        .file(
            "/lib/systemd/system/edge@.service",
            "[Service]\nExecStart=/opt/edge --name %i --path %I --unit %n\n",
        )
        .file("/etc/systemd/system/edge@.service.d/all.conf", "[Service]\nUser=tide\n")
        .file("/etc/systemd/system/edge@upper-mere.service.d/one.conf", "[Service]\nGroup=tide\n");
    let edge = read(&host, "edge@upper-mere.service");
    assert_eq!(
        program(&edge),
        "/opt/edge --name upper-mere --path upper/mere --unit edge@upper-mere.service"
    );
    assert_eq!(
        (edge.value("Service", "User").as_deref(), edge.value("Service", "Group").as_deref()),
        (Some("tide"), Some("tide"))
    );
    assert!(unit(&Snapshot::new(&host), "front@x.service").is_absent());
}

#[test]
fn masked_aliased_and_enabled_are_links() {
    let host = TextHost::new()
        .file(
            "/lib/systemd/system/edge.service",
            "[Service]\nExecStart=/opt/edge\n[Install]\nWantedBy=multi-user.target\nAlias=pier.service\n",
        )
        .link("/etc/systemd/system/pier.service", "/lib/systemd/system/edge.service")
        .link("/etc/systemd/system/multi-user.target.wants/edge.service", "/lib/systemd/system/edge.service")
        .link("/etc/systemd/system/front.service", "/dev/null")
        .file("/etc/systemd/system/empty.service", "");
    let edge = read(&host, "edge.service");
    assert!(edge.enabled && !edge.masked);
    let pier = read(&host, "pier.service");
    assert_eq!(
        (pier.name.as_str(), pier.aliases.as_slice()),
        ("edge.service", ["pier.service".to_owned()].as_slice())
    );
    assert!(read(&host, "front.service").masked && read(&host, "empty.service").masked);
    assert!(unit(&Snapshot::new(&host), "none.service").is_absent());
}

#[test]
fn instances_are_named_by_the_links_that_enable_them() {
    let host = TextHost::new()
        .file("/lib/systemd/system/edge@.service", "[Service]\nExecStart=/opt/edge\n")
        .file("/lib/systemd/system/front.service", "[Service]\nExecStart=/opt/front\n")
        .file("/lib/systemd/system/front.socket", "[Socket]\nListenStream=80\n")
        .link(
            "/etc/systemd/system/multi-user.target.wants/edge@gullholm.service",
            "/lib/systemd/system/edge@.service",
        );
    assert_eq!(service_names(&Snapshot::new(&host)), ["edge@gullholm.service", "front.service"]);
}

#[test]
fn a_cheap_look_lets_no_unit_slip_that_speaks_of_a_daemon() {
    let host = TextHost::new()
        .file("/lib/systemd/system/edge.service", "[Service]\nExecStart=/usr/sbin/nginx\n")
        .file("/lib/systemd/system/other.service", "[Service]\nExecStart=/opt/other\n")
        .file("/lib/systemd/system/dressed.service", "[Service]\nExecStart=/opt/other\n")
        .file(
            "/etc/systemd/system/dressed.service.d/x.conf",
            "[Service]\nExecStart=\nExecStart=/usr/sbin/nginx\n",
        )
        .file("/lib/systemd/system/edge@.service", "[Service]\nExecStart=/usr/sbin/nginx -c %i\n");
    let snapshot = Snapshot::new(&host);
    for (name, expected) in [
        ("edge.service", true),
        ("other.service", false),
        ("dressed.service", true),
        ("edge@x.service", true),
        ("none.service", false),
    ] {
        assert_eq!(mentions(&snapshot, name, &["nginx", "apache2"]), expected, "{name}");
    }
}

#[test]
fn continued_lines_comments_and_quotes_are_read_as_the_manager_does() {
    let host = TextHost::new().file(
        "/etc/systemd/system/edge.service",
        "# head\n[Service]\n; a comment\nExecStart=-/opt/edge --title \"two words\" \\\n  # not the \
            end\n  --level 3\nEnvironment=\"A=x y\" B=2\nEnvironmentFile=-/etc/default/edge\n\
            EnvironmentFile=/etc/edge.env\n",
    );
    let edge = read(&host, "edge.service");
    let command = &edge.commands("ExecStart")[0];
    assert_eq!((command.may_fail, command.line), (true, 4));
    assert_eq!(command.words, ["/opt/edge", "--title", "two words", "--level", "3"]);
    assert_eq!(edge.environment().get("A").map(String::as_str), Some("x y"));
    assert_eq!(
        edge.environment_files(),
        [("/etc/default/edge".to_owned(), true), ("/etc/edge.env".to_owned(), false)]
    );
}
