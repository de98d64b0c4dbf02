//! Checks of the host beside configuration and logs: the unit, its sandbox, resources, processes, policies,
//! people.
use super::{diagnose, edge, failed, first};
use crate::bundle::Earlier;
use crate::case::{Depth, State, gather};
use crate::code::Code;
use crate::rank::Certainty;
use crate::report::{ServiceEntry, diagnose_case};
use crate::snapshot::Snapshot;
use crate::tests::{EDGE_CONFIG as CONFIG, EDGE_UNIT as UNIT, NOW, TextHost, described};

const STARTING: &str = "7d4958e842da4a758f6c1cdc7b36dcc5";
const STARTED: &str = "39f53479d3a045ac8e11786248231fbf";
const FAILED: &str = "be02cf6855d2428ba40df7e9d022f03d";
const EXITED: &str = "98e322203f7a4ed290d09fe03c09fe15";
const UNIT_FAILED: &str = "d9b373ed55a64feb8242e02dbe79a49c";

/// `edge` with more settings in its unit's `[Service]`.
fn with(settings: &str) -> TextHost {
    edge().file(
        "/etc/systemd/system/edge.service",
        &UNIT.replace("[Service]", &format!("[Service]\n{settings}")),
    )
}

/// `edge` with settings in `[Unit]`.
fn unit_with(settings: &str) -> TextHost {
    edge().file("/etc/systemd/system/edge.service", &format!("[Unit]\n{settings}\n{UNIT}"))
}

fn titles(entry: &ServiceEntry) -> Vec<&str> {
    entry.causes.iter().map(|c| c.title.as_str()).collect()
}

#[test]
fn conditions_and_assertions_are_judged_from_the_host() {
    let host = |setting: &str| {
        unit_with(setting)
            .file("/etc/edge/ready", "x")
            .dir("/etc/edge/sites", 0o755, 0)
            .file("/opt/edge/run", "x")
    };
    for (setting, met) in [
        ("ConditionPathExists=/etc/edge/ready", true),
        ("ConditionPathExists=/etc/edge/none", false),
        ("ConditionPathExists=!/etc/edge/ready", false),
        ("ConditionPathExistsGlob=/etc/edge/rea*", true),
        ("ConditionPathIsDirectory=/etc/edge/ready", false),
        ("ConditionDirectoryNotEmpty=/etc/edge/sites", false),
        ("ConditionFileNotEmpty=/etc/edge/ready", true),
        ("ConditionFileIsExecutable=/opt/edge/run", false),
        ("ConditionHost=quay1", true),
        ("ConditionHost=quay2", false),
        ("ConditionPathExists=|/etc/edge/none\nConditionPathExists=|/etc/edge/ready", true),
        ("ConditionPathExists=|/etc/edge/none\nConditionPathExists=|/etc/edge/nor", false),
        ("AssertPathExists=/etc/edge/none", false),
    ] {
        let entry = failed(host(setting));
        assert_eq!(
            entry.causes.first().map(|c| c.code),
            (!met).then_some(Code::ManagerDisabled),
            "{setting}: {:?}",
            titles(&entry)
        );
    }
    let entry = failed(host("ConditionPathExists=/etc/edge/none"));
    assert_eq!(entry.causes[0].evidence[0].line, Some(2), "the line of the condition is named");
}

#[test]
fn a_condition_that_failed_once_and_is_met_now_is_told_as_such() {
    let skipped = |setting: &str| {
        let host = unit_with(setting).file("/etc/edge/ready", "x").unit("edge.service", "inactive", |u| {
            u.condition_met = false;
            u.condition_checked = 1;
        });
        diagnose(&host, "edge", "")
    };
    let now_met = skipped("ConditionPathExists=/etc/edge/ready");
    assert_eq!(
        (now_met.causes[0].code, now_met.causes[0].certainty),
        (Code::ManagerDisabled, Certainty::Likely),
        "{:?}",
        titles(&now_met)
    );
    assert_eq!(now_met.causes[0].fixes, ["start"]);
    let others = skipped("ConditionVirtualization=vm");
    assert!(others.causes[0].title.contains("is skipped"), "{:?}", titles(&others));
}

#[test]
fn units_that_it_requires_are_looked_at() {
    let ledger = |active: &str, change: fn(&mut crate::host::UnitState)| {
        unit_with("Requires=ledger.service").unit("ledger.service", active, change)
    };
    let down = failed(ledger("failed", |_| {}));
    assert_eq!(
        (down.causes[0].code, down.causes[0].subject.unit.as_deref()),
        (Code::DependencyDown, Some("ledger.service"))
    );
    first(&failed(ledger("inactive", |u| u.load_state = "masked".into())), Code::DependencyDown);
    first(&failed(unit_with("BindsTo=nowhere.service")), Code::DependencyDown);
    first(
        &failed(unit_with("Requisite=ledger.service").unit("ledger.service", "inactive", |_| {})),
        Code::DependencyDown,
    );
    assert!(failed(ledger("active", |_| {})).causes.is_empty());
    assert!(failed(ledger("inactive", |_| {})).causes.is_empty(), "it would be started with it");
}

#[test]
fn a_type_that_does_not_fit_what_is_started() {
    let unit = |text: &str| failed(edge().file("/etc/systemd/system/edge.service", text));
    let simple = unit("[Service]\nExecStart=/usr/sbin/nginx -c /etc/nginx/nginx.conf\n");
    first(&simple, Code::ManagerDisabled);
    assert_eq!(simple.causes[0].fixes, ["align-unit"]);
    let foreground = unit(
        "[Service]\nType=forking\nExecStart=/usr/sbin/nginx -c /etc/nginx/nginx.conf -g 'daemon off;'\n",
    );
    first(&foreground, Code::StartTimeout);
    first(
        &unit(
            "[Service]\nType=notify\nExecStart=/usr/sbin/nginx -c /etc/nginx/nginx.conf -g 'daemon off;'\n",
        ),
        Code::StartTimeout,
    );
    first(
        &unit(
            "[Service]\nType=forking\nPIDFile=/run/edge.pid\n\
                ExecStart=/usr/sbin/nginx -c /etc/nginx/nginx.conf\n",
        ),
        Code::StartTimeout,
    );
    for fine in [
        "Type=forking\nPIDFile=/var/run/nginx.pid\nExecStart=/usr/sbin/nginx -c /etc/nginx/nginx.conf",
        "Type=exec\nExecStart=/usr/sbin/nginx -c /etc/nginx/nginx.conf -g 'daemon off;'",
        "KillMode=none\nExecStart=/usr/sbin/nginx -c /etc/nginx/nginx.conf",
        "Type=forking\nTimeoutStartSec=infinity\n\
            ExecStart=/usr/sbin/nginx -c /etc/nginx/nginx.conf -g 'daemon off;'",
    ] {
        let entry = unit(&format!("[Service]\n{fine}\n"));
        assert!(entry.causes.is_empty(), "{fine}: {:?}", titles(&entry));
    }
}

#[test]
fn what_the_last_start_explains_is_not_put_down_to_the_type() {
    let log = "2031/04/02 06:10:11 [emerg] 7#7: unknown directive \"tide_level\" in /etc/nginx/nginx.conf:7";
    let host = edge()
        .file(
            "/etc/systemd/system/edge.service",
            "[Service]\nExecStart=/usr/sbin/nginx -c /etc/nginx/nginx.conf\n",
        )
        .journal(&[(1000, STARTING, "Starting"), (1100, "", log), (1300, FAILED, "Failed to start")]);
    let entry = failed(host);
    assert_eq!(entry.causes[0].code, Code::ConfigUnknownDirective, "{:?}", titles(&entry));
}

#[test]
fn the_sandbox_also_refuses_reading_executing_and_families_of_sockets() {
    for (settings, code) in [
        ("InaccessiblePaths=/etc/nginx", Some(Code::PolicyDenied)),
        ("ProtectHome=yes", None),
        ("NoExecPaths=/", Some(Code::PolicyDenied)),
        ("NoExecPaths=/\nExecPaths=/usr/sbin", None),
        ("RestrictAddressFamilies=AF_UNIX", Some(Code::PolicyDenied)),
        ("RestrictAddressFamilies=AF_UNIX AF_INET", None),
    ] {
        let entry = failed(with(settings));
        assert_eq!(entry.causes.first().map(|c| c.code), code, "{settings}: {:?}", titles(&entry));
    }
}

#[test]
fn a_program_that_is_open_under_the_name_of_a_link_is_open() {
    let host = |settings: &str| {
        with(settings)
            .without("/usr/sbin/nginx")
            .program("/usr/sbin/nginx-real")
            .dir("/usr/lib", 0o755, 0)
            .link("/usr/sbin/nginx", "nginx-real")
    };
    assert!(failed(host("NoExecPaths=/\nExecPaths=/usr/sbin/nginx /usr/lib")).causes.is_empty());
    assert!(failed(host("NoExecPaths=/\nExecPaths=/usr/sbin/nginx-real")).causes.is_empty());
    first(&failed(host("NoExecPaths=/\nExecPaths=/usr/lib")), Code::PolicyDenied);
}

#[test]
fn root_without_its_powers_is_an_account_like_others() {
    let closed = |settings: &str| with(settings).dir("/var/log/nginx", 0o700, 71);
    assert!(failed(closed("")).causes.is_empty());
    let entry = failed(closed("CapabilityBoundingSet=CAP_SETUID CAP_NET_BIND_SERVICE"));
    first(&entry, Code::PermissionDenied);
    assert!(failed(closed("CapabilityBoundingSet=CAP_DAC_OVERRIDE CAP_NET_BIND_SERVICE")).causes.is_empty());
    let low =
        |settings: &str| failed(with(settings).file("/etc/nginx/nginx.conf", &CONFIG.replace("8088", "80")));
    first(&low("CapabilityBoundingSet=CAP_DAC_OVERRIDE"), Code::PortPrivileged);
    assert!(low("CapabilityBoundingSet=~CAP_SYS_ADMIN").causes.is_empty());
}

#[test]
fn a_program_that_carries_the_capability_may_bind_low_ports() {
    let host = |settings: &str, bits: u64| {
        with(&format!("User=tide\n{settings}"))
            .file("/etc/nginx/nginx.conf", &CONFIG.replace("8088", "80"))
            .grants("/usr/sbin/nginx", bits)
            .dir("/var/log/nginx", 0o777, 0)
            .dir("/run", 0o777, 0)
    };
    first(&failed(host("", 0)), Code::PortPrivileged);
    assert!(failed(host("", 1 << 10)).causes.is_empty());
    first(&failed(host("NoNewPrivileges=yes", 1 << 10)), Code::PortPrivileged);
    assert_eq!(failed(host("", 0)).causes[0].fixes, ["grant-capability", "move-port"]);
}

#[test]
fn files_that_nobody_may_change_and_mounts_that_execute_nothing() {
    let held = failed(edge().immutable("/var/log/nginx"));
    first(&held, Code::PermissionDenied);
    assert!(
        held.causes[0].fixes.is_empty() && held.causes[0].title.contains("immutable"),
        "{:?}",
        titles(&held)
    );
    let mounted = |no_exec| edge().mount("/", false, false).mount("/usr", false, no_exec);
    first(&failed(mounted(true)), Code::PermissionDenied);
    assert!(failed(mounted(false)).causes.is_empty());
}

const MEMORY: &str = "MemTotal:        8000000 kB\nSwapTotal:       1000000 kB\n\
    CommitLimit:     5000000 kB\nCommitted_AS:    4900000 kB\nHugePages_Free:       10\n\
    Hugepagesize:       2048 kB\n";

/// A MariaDB that nothing is wrong with but what the test adds.
fn ledger(options: &str, settings: &str) -> TextHost {
    TextHost::new()
        .file(
            "/etc/systemd/system/ledger.service",
            &format!("[Service]\nType=notify\nUser=tide\n{settings}\nExecStart=/usr/sbin/mariadbd\n"),
        )
        .program("/usr/sbin/mariadbd")
        .file(
            "/etc/mysql/my.cnf",
            &format!("[mysqld]\nsocket=/run/ledger/ledger.sock\nskip-networking\n{options}\n"),
        )
        .dir("/run/ledger", 0o755, 71)
        .file("/proc/meminfo", MEMORY)
        .unit("ledger.service", "failed", |_| {})
}

#[test]
fn memory_that_the_kernel_or_the_unit_does_not_give() {
    let check = |options: &str, settings: &str, overcommit: &str| {
        diagnose(&ledger(options, settings).file("/proc/sys/vm/overcommit_memory", overcommit), "ledger", "")
    };
    for (options, settings, overcommit, code) in [
        ("innodb_buffer_pool_size=64G", "", "0", Some(Code::MemoryShort)),
        ("innodb_buffer_pool_size=64G", "", "1", None),
        ("innodb_buffer_pool_size=1G", "", "2", Some(Code::MemoryShort)),
        ("innodb_buffer_pool_size=50M", "", "2", None),
        ("innodb_buffer_pool_size=1G", "LimitAS=512M", "0", Some(Code::MemoryShort)),
        ("innodb_buffer_pool_size=1G", "LimitAS=4G", "0", None),
    ] {
        let entry = check(options, settings, overcommit);
        assert_eq!(
            entry.causes.first().map(|c| c.code),
            code,
            "{options} {settings} {overcommit}: {:?}",
            titles(&entry)
        );
    }
    let grouped = check("innodb_buffer_pool_size=1G", "MemoryMax=512M", "0");
    assert_eq!(
        (grouped.causes[0].code, grouped.causes[0].certainty),
        (Code::MemoryShort, Certainty::Likely),
        "it is killed only when it uses it"
    );
    let asked = check("innodb_buffer_pool_size=64G", "", "0");
    assert_eq!(
        (asked.causes[0].subject.directive.as_deref(), asked.causes[0].subject.line),
        (Some("innodb_buffer_pool_size"), Some(4))
    );
}

#[test]
fn shared_memory_and_huge_pages_of_postgresql() {
    let check = |setting: &str| {
        let host = TextHost::new()
            .file(
                "/etc/systemd/system/manifest.service",
                "[Service]\nType=notify\nUser=tide\n\
                ExecStart=/usr/lib/postgresql/15/bin/postgres -D /srv/manifest\n",
            )
            .program("/usr/lib/postgresql/15/bin/postgres")
            .file(
                "/srv/manifest/postgresql.conf",
                &format!(
                    "listen_addresses=''\nunix_socket_directories='/run/manifest'\n\
                    shared_buffers = 512MB\n{setting}\n"
                ),
            )
            .dir("/run/manifest", 0o755, 71)
            .file("/proc/meminfo", MEMORY)
            .file("/proc/sys/kernel/shmmax", "33554432\n")
            .unit("manifest.service", "failed", |_| {});
        diagnose(&host, "manifest", "")
            .causes
            .into_iter()
            .map(|c| c.code)
            .filter(|c| matches!(c, Code::MemoryShort | Code::LimitReached))
            .collect::<Vec<_>>()
    };
    assert_eq!(check("huge_pages = on"), [Code::MemoryShort]);
    assert_eq!(check("shared_memory_type = sysv"), [Code::LimitReached]);
    assert_eq!(check("huge_pages = try"), []);
    assert_eq!(
        check("shared_buffers = 90000000"),
        [Code::MemoryShort],
        "a number without a unit counts blocks"
    );
}

#[test]
fn a_path_that_the_configuration_spells_out_is_more_than_what_a_log_says() {
    let said = "[ALERT]    (9) : config : parsing [/etc/beacon.cfg:2] : 'bind *:8090' in section 'frontend' \
        : unable to stat SSL certificate from file '/etc/ssl/none.pem' : No such file or directory.";
    let owned_by = |uid: u32, line: &str| {
        let host = TextHost::new()
            .file(
                "/etc/systemd/system/beacon.service",
                "[Service]\nUser=tide\nType=notify\nExecStart=/usr/sbin/haproxy -Ws -f /etc/beacon.cfg\n",
            )
            .program("/usr/sbin/haproxy")
            .owned("/etc/beacon.cfg", 0o644, uid)
            .text("/etc/beacon.cfg", &format!("frontend f\n  {line}\n  mode http\n"))
            .dir("/etc/ssl", 0o755, 0)
            .unit("beacon.service", "failed", |_| {})
            .journal(&[
                (1000, "7d4958e842da4a758f6c1cdc7b36dcc5", "Starting"),
                (1100, "", said),
                (1300, "be02cf6855d2428ba40df7e9d022f03d", "Failed to start"),
                (2000, "", "Start request repeated too quickly."),
            ]);
        diagnose(&host, "beacon", "").causes.into_iter().map(|c| (c.code, c.certainty)).collect::<Vec<_>>()
    };
    let causes = |line: &str| owned_by(0, line);
    let first = |line: &str| causes(line).first().copied();
    // What the account's own file spells out is no proof, and still the reason why the manager gave up.
    assert_eq!(owned_by(71, "log-tag /etc/ssl/none.pem"), [(Code::ConfigMissingFile, Certainty::Possible)]);
    assert_eq!(
        first("bind *:8090 ssl crt /etc/ssl/none.pem"),
        Some((Code::ConfigMissingFile, Certainty::Certain))
    );
    for line in ["bind *:8090", "bind *:8090 # /etc/ssl/none.pem"] {
        let all = causes(line);
        assert!(all.contains(&(Code::ConfigMissingFile, Certainty::Possible)), "{line}: {all:?}");
        assert_eq!(all[0].0, Code::ManagerGaveUp, "{line}");
    }
}

#[test]
fn open_files_and_processes_that_the_unit_limits() {
    let beacon = |global: &str, settings: &str| {
        let config = format!(
            "global\n  {global}\ndefaults\n  timeout connect 1s\n  timeout client 1s\n  timeout server 1s\n\
                frontend f\n  bind 127.0.0.1:8090\n  mode http\n"
        );
        let host = TextHost::new()
            .file(
                "/etc/systemd/system/beacon.service",
                &format!(
                    "[Service]\nType=notify\n{settings}\nExecStart=/usr/sbin/haproxy -Ws -f /etc/beacon.cfg\n"
                ),
            )
            .program("/usr/sbin/haproxy")
            .file("/etc/beacon.cfg", &config)
            .file("/proc/sys/fs/nr_open", "1048576\n")
            .unit("beacon.service", "failed", |_| {});
        diagnose(
            &host.process(50, "/opt/gauge-sim", 71, "").process(51, "/opt/gauge-sim", 71, ""),
            "beacon",
            "",
        )
    };
    let code = |entry: &ServiceEntry| entry.causes.first().map(|c| c.code);
    assert_eq!(code(&beacon("maxconn 4000", "User=tide\nLimitNOFILE=1024")), Some(Code::LimitReached));
    assert_eq!(code(&beacon("maxconn 4000", "LimitNOFILE=1024")), None, "root raises it by itself");
    assert_eq!(
        code(&beacon("maxconn 4000", "CapabilityBoundingSet=CAP_SETUID CAP_DAC_OVERRIDE\nLimitNOFILE=1024")),
        Some(Code::LimitReached)
    );
    assert_eq!(code(&beacon("maxconn 400", "User=tide\nLimitNOFILE=1024")), None);
    assert_eq!(code(&beacon("maxconn 400", "User=tide\nLimitNPROC=2")), Some(Code::LimitReached));
    assert_eq!(code(&beacon("maxconn 400", "User=tide\nLimitNPROC=3")), None);
    assert_eq!(
        code(&beacon("maxconn 900000", "")),
        Some(Code::LimitReached),
        "beyond the kernel's own bound"
    );
}

#[test]
fn a_kill_for_memory_is_told_by_the_kernel_or_the_manager() {
    let run = [
        (1000, STARTING, "Starting"),
        (1200, STARTED, "Started"),
        (5000, EXITED, "Main process exited, code=killed exit=killed/9"),
        (5001, UNIT_FAILED, "Failed with result 'signal'."),
    ];
    let by_kernel = edge().journal(&run).recorded(
        "_TRANSPORT=kernel",
        &[(95, "Out of memory: Killed process 500 (nginx) total-vm:9000kB, anon-rss:8000kB")],
    );
    let entry = failed(by_kernel);
    first(&entry, Code::MemoryShort);
    let other = edge().journal(&run).recorded(
        "_TRANSPORT=kernel",
        &[(95, "Out of memory: Killed process 7 (gauge-sim) total-vm:9000kB")],
    );
    first(&failed(other), Code::Crashed);
    let long_ago = edge().journal(&run).recorded(
        "_TRANSPORT=kernel",
        &[(9000, "Out of memory: Killed process 500 (nginx) total-vm:9000kB")],
    );
    first(&failed(long_ago), Code::Crashed);
    let named_so = |account: &str, group: &str| {
        let kill =
            format!("Memory cgroup out of memory: Killed process 500 (nginx) total-vm:9kB, UID:{account} x");
        let before =
            format!("oom-kill:constraint=CONSTRAINT_MEMCG,task_memcg={group},task=nginx,pid=500,uid=0");
        let lines: Vec<(i64, &str)> = match group {
            "" => vec![(95, &kill)],
            _ => vec![(95, &before), (95, &kill)],
        };
        failed(edge().journal(&run).recorded("_TRANSPORT=kernel", &lines))
    };
    first(&named_so("0", ""), Code::MemoryShort);
    first(&named_so("33", "/system.slice/edge.service"), Code::MemoryShort);
    // Somebody else's process of that name.
    first(&named_so("1000", "/"), Code::Crashed);
    first(&named_so("0", "/"), Code::MemoryShort);
    first(&named_so("1000", ""), Code::Crashed);
    first(
        &named_so("0", "/user.slice/user-1000.slice/user@1000.service/app.slice/edge.service"),
        Code::Crashed,
    );
    let mut by_manager = run;
    by_manager[3].2 = "Failed with result 'oom-kill'.";
    first(&failed(edge().journal(&by_manager)), Code::MemoryShort);
}

#[test]
fn a_halted_process_answers_nothing() {
    let up = |state: char| {
        let host = edge()
            .process(5, "/usr/sbin/nginx -c /etc/nginx/nginx.conf", 0, "/system.slice/edge.service")
            .in_state(state);
        diagnose(
            &host.listens("0.0.0.0", 8088, &[5]).unit("edge.service", "active", |u| u.main_pid = 5),
            "edge",
            "",
        )
    };
    let halted = up('T');
    first(&halted, Code::ProcessHalted);
    assert_eq!(
        (halted.state, halted.causes[0].fixes.clone()),
        (State::Degraded, vec!["continue-process".to_owned()])
    );
    assert_eq!((up('S').state, up('S').causes.len()), (State::Running, 0));
    // What waits in the kernel may go on by itself: that is told, and is no cause.
    let waits = up('D');
    assert_eq!((waits.state, waits.causes.len()), (State::Running, 0));
    let note = waits.notes.iter().find(|n| n.code == Code::NotAsPlanned).expect("it is told");
    assert!(note.title.contains("(pid 5) waits in the kernel"), "{}", note.title);
    assert!(up('S').notes.iter().all(|n| n.code != Code::NotAsPlanned));
}

#[test]
fn content_that_is_known_from_earlier_is_told_beside_the_times() {
    let host = edge().modified("/etc/nginx/nginx.conf", NOW - 60).unit("edge.service", "failed", |_| {});
    let changes = |known: Option<&str>| {
        let mut earlier = Earlier::default();
        if let Some(text) = known {
            earlier.add("/etc/nginx/nginx.conf", &crate::fix::digest(text.as_bytes()).0, "change 7");
        }
        let (snapshot, service) = (Snapshot::new(&host).with_earlier(earlier), described(&host, "edge", ""));
        let case = gather(&snapshot, &service, Depth::Diagnosis);
        let entry = diagnose_case(&snapshot, &case).0;
        entry
            .changes
            .into_iter()
            .find(|c| c.file == "/etc/nginx/nginx.conf")
            .map(|c| (c.same_as, c.differs_from))
    };
    assert_eq!(changes(None), Some((None, None)));
    assert_eq!(changes(Some(CONFIG)), Some((Some("change 7".into()), None)));
    assert_eq!(changes(Some("of another day")), Some((None, Some("change 7".into()))));
}

#[test]
fn another_server_in_the_same_data_keeps_ours_out() {
    let base = || ledger("datadir=/srv/ledger", "").dir("/srv/ledger", 0o750, 71);
    let host = base()
        .process(900, "/usr/sbin/mariadbd --port=3399", 71, "/system.slice/old-ledger.service")
        .works_in("/srv/ledger");
    let entry = diagnose(&host, "ledger", "");
    let cause =
        entry.causes.iter().find(|c| c.code == Code::AlreadyRunning).expect("the other server is seen");
    assert!(cause.title.contains("old-ledger.service") && cause.subject.pid == Some(900), "{}", cause.title);
    let elsewhere = base()
        .process(900, "/usr/sbin/mariadbd --port=3399", 71, "/system.slice/old-ledger.service")
        .works_in("/srv/other");
    assert!(diagnose(&elsewhere, "ledger", "").causes.iter().all(|c| c.code != Code::AlreadyRunning));
}

#[test]
fn locks_name_living_processes_of_the_account_or_nobody() {
    let manifest = |lock: &str| {
        TextHost::new()
            .file(
                "/etc/systemd/system/manifest.service",
                "[Service]\nType=notify\nUser=tide\n\
                ExecStart=/usr/lib/postgresql/15/bin/postgres -D /srv/manifest\n",
            )
            .program("/usr/lib/postgresql/15/bin/postgres")
            .file(
                "/srv/manifest/postgresql.conf",
                "listen_addresses=''\n\
                unix_socket_directories='/run/manifest'\n",
            )
            .dir("/run/manifest", 0o755, 71)
            .file("/run/manifest/.s.PGSQL.5432.lock", lock)
            .unit("manifest.service", "failed", |_| {})
    };
    let code = |host: TextHost| {
        let entry = diagnose(&host, "manifest", "");
        entry
            .causes
            .iter()
            .find(|c| c.subject.path.as_deref() == Some("/run/manifest/.s.PGSQL.5432.lock"))
            .map(|c| c.code)
    };
    assert_eq!(
        code(manifest("").process(90, "/opt/gauge-sim", 71, "")),
        Some(Code::StaleFile),
        "an empty lock belongs to nobody"
    );
    assert_eq!(
        code(manifest("90\n/srv/manifest\n").process(90, "/opt/gauge-sim", 71, "")),
        Some(Code::StaleFile)
    );
    assert_eq!(
        code(manifest("90\n").process(90, "/opt/gauge-sim", 1000, "")),
        None,
        "somebody else's process cannot be asked"
    );
    assert_eq!(code(manifest("90\n")), None, "a dead one is passed over");
    let other = manifest("90\n").process(90, "/usr/lib/postgresql/15/bin/postgres -D /srv/other", 71, "");
    assert_eq!(code(other), Some(Code::AlreadyRunning));
}

#[test]
fn a_dead_process_that_nobody_collected_is_a_remark() {
    let host = edge().child(700, 600, "/usr/sbin/nginx").in_state('Z').child(600, 1, "/opt/run-edge");
    let entry = failed(host);
    let note = entry.notes.iter().find(|n| n.code == Code::NotAsPlanned).expect("a remark");
    assert!(note.title.contains("run-edge"), "{}", note.title);
    assert!(entry.causes.is_empty(), "{:?}", titles(&entry));
}

#[test]
fn a_port_held_out_of_sight_is_held_all_the_same() {
    let entry = failed(edge().listens("0.0.0.0", 8088, &[]));
    first(&entry, Code::PortTaken);
    assert_eq!(
        (entry.causes[0].subject.port, entry.causes[0].subject.pid, entry.causes[0].fixes.clone()),
        (Some(8088), None, vec!["move-port".to_owned()])
    );
}

#[test]
fn refusals_by_a_policy_are_read_from_its_records() {
    let attempt = [(1000, STARTING, "Starting"), (1300, FAILED, "Failed to start")];
    let record = |seconds: i64, program: &str| {
        format!(
            "type=AVC msg=audit({seconds}.250:9): avc:  denied  {{ name_bind }} for  pid=7 \
                comm=\"{program}\" src=8088 scontext=a tcontext=tide_port_t tclass=tcp_socket\n"
        )
    };
    let host = |text: String| edge().journal(&attempt).file("/var/log/audit/audit.log", &text);
    let entry = failed(host(record(NOW - 99, "nginx")));
    assert_eq!(
        (entry.causes[0].code, entry.causes[0].subject.port),
        (Code::PolicyDenied, Some(8088)),
        "{:?}",
        titles(&entry)
    );
    for other in [record(NOW - 99, "gauge-sim"), record(NOW - 9000, "nginx")] {
        assert!(failed(host(other)).causes.iter().all(|c| c.code != Code::PolicyDenied));
    }
}

#[test]
fn who_stopped_or_masked_it_is_told() {
    let sudo = "   marta : TTY=pts/0 ; PWD=/home/marta ; USER=root ; COMMAND=/usr/bin/systemctl stop edge";
    let stopped = [
        (1000, STARTING, "Starting"),
        (1200, STARTED, "Started"),
        (5000, "de5b426a63be47a7b6ac3eaac82e2f6f", "Stopping"),
        (5200, "9d1aaa27d60140bd96365438aad20286", "Stopped"),
    ];
    let host = |message: &str| {
        edge()
            .unit("edge.service", "inactive", |_| {})
            .journal(&stopped)
            .recorded("_EXE=/usr/bin/sudo", &[(96, message)])
    };
    let entry = diagnose(&host(sudo), "edge", "");
    let note = entry.notes.iter().find(|n| n.code == Code::HandsOff).expect("a note");
    assert!(note.evidence[0].detail.contains("marta ran"), "{:?}", note.evidence);
    let silent = |message: &str| {
        let entry = diagnose(&host(message), "edge", "");
        assert!(entry.notes.iter().all(|n| n.code != Code::HandsOff), "{message}: {:?}", entry.notes);
    };
    silent(&sudo.replace("edge", "gauge"));
    silent(&sudo.replace("USER=root", "USER=tide"));
    // What was not allowed was not done.
    for why in ["command not allowed", "user NOT in sudoers", "3 incorrect password attempts"] {
        silent(&sudo.replace("TTY=", &format!("{why} ; TTY=")));
    }
    // Directory and arguments are words of whoever calls it.
    silent(&sudo.replace("/home/marta", "/tmp/x ; USER=root ; COMMAND=/usr/bin/systemctl stop edge"));
    silent(&sudo.replace("COMMAND=", "COMMAND=/usr/bin/id ; USER=root ; COMMAND="));
}

#[test]
fn times_that_no_calendar_holds_stop_nothing() {
    let line =
        "2031/03/26 06:10:11 [emerg] 7#7: bind() to 0.0.0.0:8088 failed (98: Address already in use)\n";
    for time in [i64::MAX, i64::MIN, i64::MAX / 1_000_000, i64::MIN / 1_000_000] {
        let host = ["/var/log/nginx/error.log", "/var/log/nginx/error.log.1", "/run/nginx.pid"]
            .into_iter()
            .fold(edge(), |host, file| host.file(file, line).modified(file, time))
            .modified("/etc/nginx/nginx.conf", time)
            .modified("/usr/sbin/nginx", time)
            .recorded(
                "_TRANSPORT=kernel",
                &[(95, "audit(9223372036854775807.999:1): avc: denied { read } comm=nginx")],
            );
        let entry = failed(host.clone());
        assert_eq!(entry.state, State::Failed, "{time}");
        let snapshot = Snapshot::new(&host);
        let service = described(&host, "edge", "");
        let case = gather(&snapshot, &service, Depth::Diagnosis);
        assert!(!case.attempts.is_empty());
    }
}

#[test]
fn clusters_and_standbys_are_left_to_those_who_keep_them() {
    let clustered = edge().file(
        "/run/systemd/system/edge.service.d/50-pacemaker.conf",
        "[Unit]\nDescription=Cluster Controlled edge\n",
    );
    assert!(failed(clustered).notes.iter().any(|n| n.code == Code::HandsOff));
    let standby = TextHost::new()
        .file(
            "/etc/systemd/system/manifest.service",
            "[Service]\nType=notify\nUser=tide\n\
            ExecStart=/usr/lib/postgresql/15/bin/postgres -D /srv/manifest\n",
        )
        .program("/usr/lib/postgresql/15/bin/postgres")
        .file("/srv/manifest/postgresql.conf", "listen_addresses=''\n")
        .file("/srv/manifest/standby.signal", "")
        .unit("manifest.service", "failed", |_| {});
    assert!(
        diagnose(&standby, "manifest", "")
            .notes
            .iter()
            .any(|n| n.code == Code::HandsOff && n.title.contains("standby"))
    );
}

#[test]
fn a_certificate_that_ran_out_is_a_note_and_a_foreign_key_a_cause() {
    let (pem, key, other) = (
        include_str!("../../keys/samples/rsa.pem"),
        include_str!("../../keys/samples/rsa.key"),
        include_str!("../../keys/samples/curve.key"),
    );
    let config = CONFIG.replace(
        "listen 8088;",
        "listen 8088 ssl;\n        ssl_certificate edge.pem;\n        ssl_certificate_key edge.key;",
    );
    let host = |key: &str| {
        edge()
            .file("/etc/nginx/nginx.conf", &config)
            .file("/etc/nginx/edge.pem", pem)
            .file("/etc/nginx/edge.key", key)
    };
    let expired = failed(host(key));
    assert!(expired.causes.is_empty(), "{:?}", titles(&expired));
    assert!(
        expired.notes.iter().any(|n| n.code == Code::CertificateExpired && n.title.contains("expired")),
        "the sample ran out long before the demo's day"
    );
    let foreign = failed(host(other));
    first(&foreign, Code::CertificateBad);
    assert_eq!(
        (foreign.causes[0].subject.line, foreign.causes[0].subject.path.as_deref()),
        (Some(9), Some("/etc/nginx/edge.key"))
    );
}

#[test]
fn packages_and_accounts_that_changed_are_among_the_circumstances() {
    let host = edge()
        .journal(&[
            (1000, STARTING, "Starting"),
            (1200, STARTED, "Started"),
            (5000, EXITED, "Main process exited exit=killed/9"),
            (60_000, STARTING, "Starting"),
            (60_300, FAILED, "Failed to start"),
        ])
        .file(
            "/var/log/dpkg.log",
            &format!(
                "{} upgrade nginx:amd64 1.22-1 1.24-1\n",
                jiff::Timestamp::from_second(NOW - 60).unwrap().strftime("%Y-%m-%d %H:%M:%S")
            ),
        )
        .modified("/etc/passwd", NOW - 50);
    let entry = failed(host);
    assert_eq!(entry.context.packages_changed, Some(vec!["nginx 1.22-1 → 1.24-1".to_owned()]));
    assert!(entry.changes.iter().any(|c| c.file == "/etc/passwd"), "{:?}", entry.changes);
}

#[test]
fn a_daemon_that_left_the_foreground_of_a_simple_unit_did_not_stop_on_purpose() {
    let host = edge().file(
        "/etc/systemd/system/edge.service",
        "[Service]\n\
            ExecStart=/usr/sbin/nginx -c /etc/nginx/nginx.conf\n[Install]\nWantedBy=multi-user.target\n",
    );
    let gone = host.clone().without("/etc/systemd/system/multi-user.target.wants/edge.service").journal(&[
        (1000, STARTED, "Started"),
        (1030, "7ad2d189f7e94e70a38c781354912448", "edge.service: Deactivated successfully."),
    ]);
    let entry = diagnose(
        &gone.unit("edge.service", "inactive", |u| u.unit_file_state = "disabled".into()),
        "edge",
        "",
    );
    assert_eq!(
        (entry.causes[0].code, entry.causes[0].fixes.clone()),
        (Code::ManagerDisabled, vec!["align-unit".to_owned()]),
        "{:?}",
        titles(&entry)
    );
    assert!(entry.causes[0].title.contains("wrong Type="), "{:?}", titles(&entry));
}

#[test]
fn what_the_manager_needs_before_the_program_runs_must_be_there() {
    for (settings, code) in [
        ("ReadWritePaths=/srv/none", Some(Code::ConfigMissingFile)),
        ("ReadWritePaths=-/srv/none", None),
        ("ReadWritePaths=/srv/none\nExecStartPre=+/bin/mkdir /srv/none", None),
        ("ReadOnlyPaths=/etc/nginx +/srv/none", Some(Code::ConfigMissingFile)),
        ("BindReadOnlyPaths=/srv/none:/mnt:norbind", Some(Code::ConfigMissingFile)),
        ("BindPaths=/etc/nginx:/srv/none", None),
        ("StandardOutput=append:/srv/none/out.log", Some(Code::ConfigMissingFile)),
        ("StandardError=file:/etc/nginx/err.log", None),
        ("StandardInput=file:/etc/none", Some(Code::ConfigMissingFile)),
        ("SupplementaryGroups=quaymasters", Some(Code::AccountMissing)),
    ] {
        let entry = failed(with(settings).program("/bin/mkdir"));
        assert_eq!(entry.causes.first().map(|c| c.code), code, "{settings}: {:?}", titles(&entry));
    }
    let directory = edge().without("/usr/sbin/nginx").dir("/usr/sbin/nginx", 0o755, 0);
    first(&failed(directory), Code::ProgramMissing);
}

#[test]
fn a_system_call_that_the_unit_does_not_allow_is_told_from_a_crash() {
    let entries = [
        (5000, "7d4958e842da4a758f6c1cdc7b36dcc5", "Starting edge"),
        (5100, "39f53479d3a045ac8e11786248231fbf", "Started edge"),
        (5150, "98e322203f7a4ed290d09fe03c09fe15", "Main process exited, exit=dumped/SYS"),
        (5200, "d9b373ed55a64feb8242e02dbe79a49c", "Failed with result 'core-dump'."),
    ];
    for (settings, code) in [("SystemCallFilter=~@network-io", Code::PolicyDenied), ("Nice=3", Code::Crashed)]
    {
        let entry = failed(with(settings).journal(&entries));
        assert_eq!(entry.causes.first().map(|c| c.code), Some(code), "{settings}: {:?}", titles(&entry));
    }
}

#[test]
fn a_program_is_made_executable_only_where_nobody_else_can_replace_the_program() {
    for (owner, offered) in [(0, true), (4071, false)] {
        let host = edge()
            .file("/etc/systemd/system/edge.service", &UNIT.replace("/usr/sbin/nginx", "/srv/edge/run"))
            .dir("/srv/edge", 0o755, owner)
            .file("/srv/edge/run", "#!/bin/sh\n");
        let host = host.unit("edge.service", "failed", |_| {});
        let (snapshot, service) = (Snapshot::new(&host), described(&host, "edge", ""));
        let case = gather(&snapshot, &service, Depth::Diagnosis);
        let (entry, causes) = diagnose_case(&snapshot, &case);
        assert_eq!(entry.causes[0].code, Code::PermissionDenied, "{:?}", titles(&entry));
        assert_eq!(causes[0].fixes.contains(&"make-executable"), offered, "{owner}");
    }
}
