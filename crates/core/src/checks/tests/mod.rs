mod accounts;
mod guesses;
mod host;
mod starters;
mod upstreams;

use crate::case::{Depth, State, gather};
use crate::code::Code;
use crate::rank::Certainty;
use crate::report::{ServiceEntry, diagnose_case};
use crate::snapshot::Snapshot;
use crate::tests::{EDGE_CONFIG as CONFIG, EDGE_UNIT as UNIT, NOW, TextHost, described, edge_host};

/// `edge`: nginx with a unit, its directories, and nothing wrong.
fn edge() -> TextHost {
    edge_host(CONFIG)
}

fn diagnose(host: &TextHost, name: &str, toml: &str) -> ServiceEntry {
    let service = described(host, name, toml);
    let snapshot = Snapshot::new(host);
    let case = gather(&snapshot, &service, Depth::Diagnosis);
    diagnose_case(&snapshot, &case).0
}

fn failed(host: TextHost) -> ServiceEntry {
    diagnose(&host.unit("edge.service", "failed", |_| {}), "edge", "")
}

#[track_caller]
fn first(entry: &ServiceEntry, code: Code) {
    let got: Vec<_> = entry.causes.iter().map(|c| (c.code, c.certainty, c.title.clone())).collect();
    assert_eq!(
        entry.causes.first().map(|c| (c.code, c.certainty)),
        Some((code, Certainty::Certain)),
        "{got:?}"
    );
}

#[test]
fn a_stranger_a_managed_holder_and_one_with_clients_get_their_own_order_of_fixes() {
    let stranger =
        failed(edge().process(812, "/opt/gauge-sim --port 8088", 1000, "").listens("0.0.0.0", 8088, &[812]));
    first(&stranger, Code::PortTaken);
    assert_eq!(stranger.causes[0].fixes, ["stop-holder", "move-port"]);
    assert_eq!((stranger.causes[0].subject.port, stranger.causes[0].subject.pid), (Some(8088), Some(812)));
    let managed = failed(edge().process(812, "/opt/gauge-sim", 0, "/system.slice/gauge.service").listens(
        "0.0.0.0",
        8088,
        &[812],
    ));
    assert_eq!(managed.causes[0].fixes, ["move-port", "stop-holder"]);
    assert!(managed.causes[0].title.contains("gauge.service"), "{}", managed.causes[0].title);
    let busy =
        failed(edge().process(812, "/opt/gauge-sim", 0, "").listens("0.0.0.0", 8088, &[812]).clients(3));
    assert_eq!(busy.causes[0].fixes, ["move-port", "stop-holder"]);
}

#[test]
fn a_copy_with_the_same_configuration_is_this_very_service_another_one_is_not() {
    let same = failed(edge().process(900, "/usr/sbin/nginx -c /etc/nginx/nginx.conf", 0, "").listens(
        "0.0.0.0",
        8088,
        &[900],
    ));
    first(&same, Code::AlreadyRunning);
    let other = failed(edge().process(900, "/usr/sbin/nginx -c /opt/other.conf", 0, "").listens(
        "0.0.0.0",
        8088,
        &[900],
    ));
    first(&other, Code::PortTaken);
    let no_port = failed(edge().process(900, "/usr/sbin/nginx", 0, ""));
    assert_eq!(no_port.causes[0].code, Code::AlreadyRunning);
}

#[test]
fn a_listener_elsewhere_is_no_hindrance() {
    let entry =
        failed(edge().process(812, "/opt/gauge-sim", 0, "").listens("0.0.0.0", 8089, &[812]).listens(
            "::1",
            8088,
            &[812],
        ));
    assert!(entry.causes.is_empty(), "{:?}", entry.causes);
}

#[test]
fn a_masked_unit_comes_before_everything_else() {
    let host = TextHost::new()
        .link("/etc/systemd/system/nginx.service", "/dev/null")
        .program("/usr/sbin/nginx")
        .file("/etc/nginx/nginx.conf", "nonsense");
    let entry =
        diagnose(&host.unit("nginx.service", "inactive", |u| u.load_state = "masked".into()), "nginx", "");
    first(&entry, Code::ManagerDisabled);
    assert_eq!(entry.causes[0].fixes, ["unmask"]);
    assert_eq!(entry.causes.len(), 2, "what would stop it after the unmasking is told, too");
}

#[test]
fn disabled_and_never_started_is_a_cause_but_a_clean_stop_is_on_purpose() {
    let mut host = TextHost::new()
        .file("/etc/systemd/system/edge.service", UNIT)
        .program("/usr/sbin/nginx")
        .file("/etc/nginx/nginx.conf", CONFIG)
        .dir("/var/log/nginx", 0o755, 0);
    host = host.unit("edge.service", "inactive", |u| u.unit_file_state = "disabled".into());
    let entry = diagnose(&host, "edge", "");
    first(&entry, Code::ManagerDisabled);
    assert_eq!(entry.causes[0].fixes, ["enable"]);
    let stopped = edge().unit("edge.service", "inactive", |_| {}).journal(&[
        (1000, "7d4958e842da4a758f6c1cdc7b36dcc5", "Starting"),
        (1200, "39f53479d3a045ac8e11786248231fbf", "Started"),
        (5000, "de5b426a63be47a7b6ac3eaac82e2f6f", "Stopping"),
        (5200, "9d1aaa27d60140bd96365438aad20286", "Stopped"),
    ]);
    let entry = diagnose(&stopped, "edge", "");
    assert_eq!((entry.state, entry.wanted, entry.causes.len()), (State::Stopped, false, 0));
}

#[test]
fn a_program_that_is_not_there_or_not_executable_or_without_interpreter() {
    let unit = UNIT.replace("/usr/sbin/nginx ", "/opt/edge/nginx ");
    let missing = failed(edge().file("/etc/systemd/system/edge.service", &unit));
    first(&missing, Code::ProgramMissing);
    let closed = failed(edge().file("/etc/systemd/system/edge.service", &unit).file("/opt/edge/nginx", "x"));
    first(&closed, Code::PermissionDenied);
    let script = edge().file(
        "/etc/systemd/system/edge.service",
        &UNIT.replace("ExecStart=", "ExecStartPre=/opt/check\nExecStart="),
    );
    let orphan =
        failed(script.owned("/opt/check", 0o755, 0).file("/opt/check", "#!/opt/none\n").program("/opt/x"));
    assert!(
        orphan.causes.iter().any(|c| c.subject.path.as_deref() == Some("/opt/check")
            || c.subject.path.as_deref() == Some("/opt/none")),
        "{:?}",
        orphan.causes
    );
}

#[test]
fn an_account_that_the_unit_names_and_nobody_knows() {
    let entry = failed(
        edge()
            .file("/etc/systemd/system/edge.service", &UNIT.replace("[Service]", "[Service]\nUser=ferryman")),
    );
    first(&entry, Code::AccountMissing);
    assert_eq!(entry.causes[0].subject.account.as_deref(), Some("ferryman"));
}

#[test]
fn paths_that_the_account_may_not_write_are_told_by_whose_fault_it_is() {
    let unit = UNIT.replace("[Service]", "[Service]\nUser=tide");
    let base = || edge().file("/etc/systemd/system/edge.service", &unit).dir("/run", 0o777, 0);
    let closed = failed(base());
    first(&closed, Code::PermissionDenied);
    assert_eq!(
        (closed.causes[0].subject.path.as_deref(), closed.causes[0].subject.account.as_deref()),
        (Some("/var/log/nginx"), Some("tide"))
    );
    let left_behind =
        failed(base().dir("/var/log/nginx", 0o755, 71).owned("/var/log/nginx/error.log", 0o640, 1000));
    first(&left_behind, Code::WrongOwner);
    assert_eq!(left_behind.causes[0].fixes, ["give-back", "move-aside"]);
    let fine = failed(base().dir("/var/log/nginx", 0o755, 71));
    assert!(fine.causes.is_empty(), "{:?}", fine.causes);
}

#[test]
fn a_full_or_read_only_file_system() {
    first(&failed(edge().space(0, Some(100), false)), Code::DiskFull);
    first(&failed(edge().space(1 << 30, Some(0), false)), Code::DiskFull);
    first(&failed(edge().space(1 << 30, None, true)), Code::ReadOnly);
    assert!(failed(edge().space(1 << 30, Some(100), false)).causes.is_empty());
}

#[test]
fn the_sandbox_of_a_unit_takes_paths_away_and_gives_them_back() {
    for (settings, refused) in [
        ("ProtectSystem=strict", true),
        ("ProtectSystem=strict\nReadWritePaths=/var/log/nginx /run", false),
        ("ProtectSystem=full", false),
        ("ReadOnlyPaths=/var/log", true),
        ("ReadOnlyPaths=/var/log\nReadWritePaths=/var/log/nginx", false),
        ("InaccessiblePaths=-/var/log/nginx", true),
        ("ProtectHome=yes", false),
    ] {
        let entry = failed(edge().file(
            "/etc/systemd/system/edge.service",
            &UNIT.replace("[Service]", &format!("[Service]\n{settings}")),
        ));
        assert_eq!(
            entry.causes.first().is_some_and(|c| c.code == Code::PolicyDenied),
            refused,
            "{settings}: {:?}",
            entry.causes
        );
    }
}

#[test]
fn privileged_ports_need_root_or_the_capability() {
    let config = CONFIG.replace("8088", "88");
    let unit = |more: &str| UNIT.replace("[Service]", &format!("[Service]\nUser=tide\n{more}"));
    let host = |more: &str| {
        edge()
            .file("/etc/nginx/nginx.conf", &config)
            .file("/etc/systemd/system/edge.service", &unit(more))
            .dir("/var/log/nginx", 0o777, 0)
            .dir("/run", 0o777, 0)
    };
    first(&failed(host("")), Code::PortPrivileged);
    assert!(failed(host("AmbientCapabilities=CAP_NET_BIND_SERVICE")).causes.is_empty());
    assert!(failed(host("").file("/proc/sys/net/ipv4/ip_unprivileged_port_start", "80\n")).causes.is_empty());
}

#[test]
fn what_the_log_says_is_compared_with_what_is_true_now() {
    let log = "2031/04/02 06:10:11 [emerg] 7#7: bind() to 0.0.0.0:8088 failed (98: Address already in use)";
    let attempt = [
        (1000, "7d4958e842da4a758f6c1cdc7b36dcc5", "Starting"),
        (1100, "", log),
        (1300, "be02cf6855d2428ba40df7e9d022f03d", "Failed to start"),
    ];
    let gone = failed(edge().journal(&attempt));
    assert_eq!((gone.causes[0].code, gone.causes[0].certainty), (Code::PortTaken, Certainty::Possible));
    let held = failed(edge().journal(&attempt).process(812, "/opt/gauge-sim", 0, "").listens(
        "0.0.0.0",
        8088,
        &[812],
    ));
    first(&held, Code::PortTaken);
    assert_eq!(held.causes.len(), 1);
    assert!(held.causes[0].evidence.iter().any(|e| e.detail.contains("Address already in use")));
}

#[test]
fn our_own_reading_gives_way_where_the_daemon_read_the_same_files() {
    let ready = [
        (1000, "7d4958e842da4a758f6c1cdc7b36dcc5", "Starting"),
        (1200, "39f53479d3a045ac8e11786248231fbf", "Started"),
    ];
    let host = edge()
        .file("/etc/nginx/nginx.conf", &CONFIG.replace("access_log off;", "harbour_light on;"))
        .journal(&ready);
    let service = |h: TextHost| {
        diagnose(
            &h.unit("edge.service", "active", |u| u.main_pid = 5)
                .process(5, "/usr/sbin/nginx", 0, "/system.slice/edge.service")
                .listens("0.0.0.0", 8088, &[5]),
            "edge",
            "",
        )
    };
    let old = service(host.clone());
    assert!(
        old.causes.is_empty() && old.notes.iter().all(|n| n.code != Code::LatentFailure),
        "{:?}",
        old.notes
    );
    let edited = service(host.modified("/etc/nginx/nginx.conf", NOW));
    assert!(edited.notes.iter().any(|n| n.code == Code::LatentFailure), "{:?}", edited.notes);
    assert_eq!(edited.state, State::Running);
    // It is a cause as any other, and nothing of now.
    let latent: Vec<_> = edited.causes.iter().map(|c| (c.code, c.relation, c.subject.line)).collect();
    assert_eq!(latent, [(Code::ConfigUnknownDirective, crate::rank::Relation::Latent, Some(5))]);
    assert!(edited.standing().next().is_none() && !crate::report::is_unwell(&edited));
}

#[test]
fn a_reload_that_was_refused_stands_in_the_way_of_the_next_start_with_the_daemons_own_line() {
    const STARTING: &str = "7d4958e842da4a758f6c1cdc7b36dcc5";
    const STARTED: &str = "39f53479d3a045ac8e11786248231fbf";
    const RELOADING: &str = "d34d037fff1847e6ae669a370e694725";
    const RELOADED: &str = "7b05ebc668384222baa8881179cfda54";
    let runs = |host: TextHost| {
        let host = host
            .unit("edge.service", "active", |u| u.main_pid = 5)
            .process(5, "/usr/sbin/nginx", 0, "/system.slice/edge.service")
            .listens("0.0.0.0", 8088, &[5]);
        diagnose(&host, "edge", "")
    };
    let words = "2031/04/02 06:09:40 [emerg] 71#71: unknown directive \"harbour_light\" in \
        /etc/nginx/nginx.conf:5";
    let journal = [
        (1000, STARTING, "Starting"),
        (1200, STARTED, "Started"),
        (60_000, RELOADING, "Reloading"),
        (60_100, "", words),
        (60_200, RELOADED, "Reload failed"),
    ];
    let broken = CONFIG.replace("access_log off;", "harbour_light on;");
    let host = edge().file("/etc/nginx/nginx.conf", &broken).modified("/etc/nginx/nginx.conf", NOW - 45);
    let told = runs(host.clone().journal(&journal));
    assert_eq!(told.state, State::Running);
    let [cause] = told.causes.as_slice() else { panic!("{:?}", told.causes) };
    assert_eq!((cause.code, cause.relation), (Code::ConfigUnknownDirective, crate::rank::Relation::Latent));
    assert!(cause.evidence.iter().any(|e| e.detail.contains("harbour_light\" in /etc")), "{cause:?}");
    // The same out of its own log, where the manager only sends a signal.
    let line = |second: u32, text: &str| format!("2031/04/02 06:09:{second:02} [{text}\n");
    let log = line(21, "notice] 5#5: start worker processes")
        + &line(40, "notice] 5#5: signal 1 (SIGHUP) received from 1, reconfiguring")
        + &line(40, "emerg] 5#5: unknown directive \"harbour_light\" in /etc/nginx/nginx.conf:5");
    let quiet = [journal[0], journal[1], journal[2], (60_050, RELOADED, "Reloaded")];
    let told = runs(host.clone().file("/var/log/nginx/error.log", &log).journal(&quiet));
    assert!(
        told.causes[0].evidence.iter().any(|e| e.file.as_deref() == Some("/var/log/nginx/error.log")),
        "{:?}",
        told.causes
    );
    assert_eq!(told.causes.len(), 1);
    // What was put right since, and what was read anew, is no more spoken of.
    let mended = edge().modified("/etc/nginx/nginx.conf", NOW - 10);
    let told = runs(mended.clone().journal(&journal));
    assert!(told.causes.is_empty(), "{:?}", told.causes);
    assert!(told.notes.iter().any(|n| n.code == Code::NotReloaded), "{:?}", told.notes);
    let read = [journal[0], journal[1], (95_000, RELOADING, "Reloading"), (95_100, RELOADED, "Reloaded")];
    let told = runs(mended.journal(&read));
    assert!(told.notes.iter().all(|n| n.code != Code::NotReloaded), "{:?}", told.notes);
}

#[test]
fn left_over_sockets_and_pid_files() {
    let toml = "[service.tide-relay]\nkind = \"program\"\nstart = \"/opt/tide-relay\"\n\
        listen = \"unix:/run/tide/relay.sock\"\npid_file = \"/run/tide/relay.pid\"\naccount = \"tide\"\n";
    let base = || TextHost::new().program("/opt/tide-relay").dir("/run/tide", 0o755, 71);
    let own = diagnose(&base().socket_file("/run/tide/relay.sock", 71), "tide-relay", toml);
    assert_eq!(own.causes[0].code, Code::StaleFile);
    let foreign = diagnose(&base().socket_file("/run/tide/relay.sock", 1000), "tide-relay", toml);
    assert_eq!(foreign.causes[0].code, Code::WrongOwner);
    let somebody_else = diagnose(
        &base().file("/run/tide/relay.pid", "4711\n").process(4711, "/opt/gauge-sim", 0, ""),
        "tide-relay",
        toml,
    );
    assert_eq!(
        somebody_else.causes.iter().find(|c| c.subject.pid == Some(4711)).map(|c| c.code),
        Some(Code::StaleFile),
        "{:?}",
        somebody_else.causes
    );
    let wrong_account = diagnose(
        &base().file("/run/tide/relay.pid", "50\n").process(50, "/opt/tide-relay", 1000, ""),
        "tide-relay",
        toml,
    );
    assert!(
        wrong_account
            .causes
            .iter()
            .any(|c| c.code == Code::WrongAccount && c.certainty == Certainty::Certain),
        "{:?}",
        wrong_account.causes
    );
    assert_eq!(wrong_account.state, State::Degraded);
}

#[test]
fn a_unit_that_hit_its_limit_is_told_by_its_earlier_reason() {
    let log = "2031/04/02 06:10:11 [emerg] 7#7: unknown directive \"lisen\" in /etc/nginx/nginx.conf:7";
    let entries = [
        (1000, "7d4958e842da4a758f6c1cdc7b36dcc5", "Starting"),
        (1100, "", log),
        (1300, "be02cf6855d2428ba40df7e9d022f03d", "Failed to start"),
        (2000, "", "Start request repeated too quickly."),
    ];
    let still =
        failed(edge().file("/etc/nginx/nginx.conf", &CONFIG.replace("listen", "lisen")).journal(&entries));
    first(&still, Code::ConfigUnknownDirective);
    assert!(still.causes.iter().all(|c| c.code != Code::ManagerGaveUp), "{:?}", still.causes);
    assert!(still.causes[0].evidence.iter().any(|e| e.detail.contains("repeated too quickly")));
    let mended = failed(edge().journal(&entries).modified("/etc/nginx/nginx.conf", NOW - 50));
    first(&mended, Code::ManagerGaveUp);
}

#[test]
fn what_only_a_log_names_is_possible_at_most_and_never_the_object_of_a_fix() {
    let began = [
        (1000, "7d4958e842da4a758f6c1cdc7b36dcc5", "Starting"),
        (1300, "be02cf6855d2428ba40df7e9d022f03d", "Failed to start"),
    ];
    for line in [
        "2031/04/02 06:10:11 [emerg] 7#7: open() \"/etc/shadow\" failed (13: Permission denied)",
        "2031/04/02 06:10:11 [emerg] 7#7: open() \"/root/.ssh/id\" failed (13: Permission denied)",
        "2031/04/02 06:10:11 [emerg] 7#7: bind() to 0.0.0.0:22 failed (98: Address already in use)",
        "2031/04/02 06:10:11 [emerg] 7#7: getpwnam(\"marta\") failed in /etc/nginx/nginx.conf:1",
        "2031/04/02 06:10:11 [emerg] 7#7: unknown directive \"root\" in /etc/passwd:1",
    ] {
        let mut entries = began.to_vec();
        entries.insert(1, (1100, "", line));
        let unit = crate::tests::EDGE_UNIT.replace("[Service]", "[Service]\nUser=tide");
        let host = edge()
            .file("/etc/systemd/system/edge.service", &unit)
            .dir("/run", 0o777, 0)
            .dir("/var/log/nginx", 0o755, 71)
            .owned("/etc/shadow", 0o600, 0);
        let entry =
            failed(host.process(22, "/usr/sbin/sshd", 0, "").listens("0.0.0.0", 22, &[22]).journal(&entries));
        let claimed: Vec<_> = entry.causes.iter().filter(|c| c.code != Code::ManagerGaveUp).collect();
        assert!(!claimed.is_empty(), "{line}: it is told");
        for cause in claimed {
            assert!(
                cause.certainty == Certainty::Possible && cause.fixes.is_empty(),
                "{line}: {:?} {:?} {:?}",
                cause.code,
                cause.certainty,
                cause.fixes
            );
        }
    }
}

#[test]
fn a_line_that_the_daemon_refused_is_still_refused_until_somebody_touches_it() {
    // Our own reading finds nothing wrong here: only the daemon's word says so.
    let log = "2031/04/02 06:10:11 [emerg] 7#7: unknown directive \"server_name\" in /etc/nginx/nginx.conf:8";
    let attempt = [
        (1000, "7d4958e842da4a758f6c1cdc7b36dcc5", "Starting"),
        (1100, "", log),
        (1300, "be02cf6855d2428ba40df7e9d022f03d", "Failed to start"),
    ];
    let of = |modified: i64, later: bool| {
        let mut entries = attempt.to_vec();
        if later {
            entries.push((30_000, "", "Start request repeated too quickly."));
        }
        let entry = failed(edge().journal(&entries).modified("/etc/nginx/nginx.conf", modified));
        entry.causes.iter().map(|c| (c.code, c.certainty)).next()
    };
    let began = NOW - 100;
    assert_eq!(
        of(began - 60, false),
        Some((Code::ConfigUnknownDirective, Certainty::Certain)),
        "untouched since"
    );
    assert_eq!(
        of(began + 1, false),
        Some((Code::ConfigUnknownDirective, Certainty::Likely)),
        "touched in that very second, before or after"
    );
    assert_eq!(
        of(began + 20, false),
        Some((Code::ConfigUnknownDirective, Certainty::Possible)),
        "touched since"
    );
    assert_eq!(
        of(began + 20, true),
        Some((Code::ManagerGaveUp, Certainty::Certain)),
        "mended before the manager was asked again"
    );
    assert_eq!(of(began - 60, true).map(|c| c.0), Some(Code::ConfigUnknownDirective), "and not mended");
}
