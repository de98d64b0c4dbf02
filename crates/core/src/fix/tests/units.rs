//! Drop-ins: what they hold, that they help, and that they leave the unit's own files alone.
use super::{CONFIG, offered};
use crate::case::{Depth, gather};
use crate::fix::steps::{Continue, Create, End, Job, ReloadManager};
use crate::fix::{Plan, Preview, Step};
use crate::report::standing_causes;
use crate::snapshot::Snapshot;
use crate::tests::{EDGE_UNIT as UNIT, TextHost, described, edge_host};

pub(super) fn with(config: &str, settings: &str) -> TextHost {
    edge_host(config)
        .file(
            "/etc/systemd/system/edge.service",
            &UNIT.replace("[Service]", &format!("[Service]\n{settings}")),
        )
        .unit("edge.service", "failed", |_| {})
}

/// The drop-in that a plan makes: its path and its lines of settings.
#[track_caller]
fn drop_in(plan: &Plan) -> (String, Vec<String>) {
    let made: Vec<_> = plan
        .steps
        .iter()
        .filter_map(|s| {
            if let Step::Create(Create { target, content, .. }) = s {
                Some((target.path.clone(), content.clone()))
            } else {
                None
            }
        })
        .collect();
    assert_eq!(made.len(), 1, "{:?}", plan.steps);
    assert_eq!(plan.steps.last(), Some(&Step::ReloadManager(ReloadManager {})));
    assert!(plan.edits.is_empty() && plan.reversible);
    let text = String::from_utf8(made[0].1.clone()).expect("text");
    (made[0].0.clone(), text.lines().skip_while(|l| *l != "[Service]").skip(1).map(str::to_owned).collect())
}

#[track_caller]
fn check(host: &TextHost, id: &'static str, file: &str, lines: &[&str]) {
    let all = offered(host, &[]);
    let plan = all
        .get(id)
        .unwrap_or_else(|| panic!("{id} is not among {:?}", all.keys()))
        .as_ref()
        .unwrap_or_else(|why| panic!("{id}: {why}"));
    let (path, settings) = drop_in(plan);
    assert_eq!((path.as_str(), settings), (file, lines.iter().map(|l| (*l).to_owned()).collect::<Vec<_>>()));
    assert!(lines.iter().all(|l| plan.diff.contains(&format!("+{l}"))), "{}", plan.diff);
    // With the drop-in laid over the host the cause is gone.
    let service = described(host, "edge", "");
    let snapshot = Snapshot::new(host);
    let before = standing_causes(&snapshot, &gather(&snapshot, &service, Depth::Diagnosis));
    let preview = Preview::new(host, &plan.steps);
    let over = Snapshot::new(&preview);
    let unit = crate::manager::unit(&over, "edge.service").seen().expect("the unit");
    let mut changed = service.clone();
    changed.unit = Some(unit);
    let after = standing_causes(&over, &gather(&over, &changed, Depth::Diagnosis));
    assert!(
        after.iter().all(|c| c.code != before[0].code),
        "{:?} is still there: {:?}",
        before[0].title,
        after.iter().map(|c| &c.title).collect::<Vec<_>>()
    );
}

#[test]
fn a_barrier_of_the_sandbox_is_opened_for_one_path() {
    let file = "/etc/systemd/system/edge.service.d/zz-sandbox.conf";
    let there = |host: TextHost, dir: &str| host.dir(dir, 0o755, 0);
    let open = |settings: &str| ["/srv", "/run", "/usr"].into_iter().fold(with(CONFIG, settings), there);
    check(
        &open("ProtectSystem=strict\nReadWritePaths=/run"),
        "allow-in-sandbox",
        file,
        &["ReadWritePaths=/var/log/nginx"],
    );
    check(
        &open("ReadOnlyPaths=/var/log/nginx /srv"),
        "allow-in-sandbox",
        file,
        &["ReadOnlyPaths=", "ReadOnlyPaths=/srv"],
    );
    check(&open("NoExecPaths=/usr"), "allow-in-sandbox", file, &["ExecPaths=/usr/sbin/nginx"]);
    // Of several settings that close the path the one is opened that keeps the daemon from what it does
    // there.
    let closed = "NoExecPaths=/\nExecPaths=/usr\nProtectSystem=strict\nReadWritePaths=/run\n\
        ReadOnlyPaths=/var/log/nginx";
    check(&open(closed), "allow-in-sandbox", file, &["ReadOnlyPaths=", "ReadWritePaths=/var/log/nginx"]);
    let sockets = "/etc/systemd/system/edge.service.d/zz-sockets.conf";
    check(
        &open("RestrictAddressFamilies=AF_UNIX AF_INET6"),
        "allow-in-sandbox",
        sockets,
        &["RestrictAddressFamilies=AF_INET"],
    );
}

#[test]
fn ports_below_the_limit_need_one_capability() {
    let low = CONFIG.replace("8088", "88").replace("http://127.0.0.1:88;", "http://127.0.0.1:8099;");
    let file = "/etc/systemd/system/edge.service.d/zz-capability.conf";
    let account = with(&low, "User=tide").dir("/run", 0o777, 0).dir("/var/log/nginx", 0o777, 0);
    check(&account, "grant-capability", file, &["AmbientCapabilities=CAP_NET_BIND_SERVICE"]);
    check(
        &with(&low, "CapabilityBoundingSet=CAP_DAC_OVERRIDE"),
        "grant-capability",
        file,
        &["CapabilityBoundingSet=CAP_NET_BIND_SERVICE"],
    );
}

#[test]
fn the_type_follows_what_is_started() {
    let file = "/etc/systemd/system/edge.service.d/zz-type.conf";
    let unit = |text: &str| {
        edge_host(CONFIG).file("/etc/systemd/system/edge.service", text).unit(
            "edge.service",
            "failed",
            |_| {},
        )
    };
    check(
        &unit("[Service]\nExecStart=/usr/sbin/nginx -c /etc/nginx/nginx.conf\n"),
        "align-unit",
        file,
        &["Type=forking", "PIDFile=/run/nginx.pid"],
    );
    let foreground = "ExecStart=/usr/sbin/nginx -c /etc/nginx/nginx.conf -g 'daemon off;'\n";
    check(&unit(&format!("[Service]\nType=forking\n{foreground}")), "align-unit", file, &["Type=exec"]);
    check(
        &unit(&format!("[Service]\nType=forking\nPIDFile=/run/x.pid\n{foreground}")),
        "align-unit",
        file,
        &["Type=exec", "PIDFile="],
    );
    let other = "[Service]\nType=forking\nPIDFile=/run/edge.pid\n\
        ExecStart=/usr/sbin/nginx -c /etc/nginx/nginx.conf\n";
    check(&unit(other), "align-unit", file, &["PIDFile=/run/nginx.pid"]);
}

#[test]
fn a_drop_in_that_is_there_already_is_never_written_over() {
    let host = with(CONFIG, "ReadOnlyPaths=/var/log/nginx")
        .file("/etc/systemd/system/edge.service.d/zz-sandbox.conf", "[Service]\n# mine\n");
    match &offered(&host, &[])["allow-in-sandbox"] {
        Err(why) => assert!(why.contains("exists already"), "{why}"),
        Ok(plan) => panic!("it must be refused, not {}", plan.title),
    }
}

#[test]
fn a_halted_process_goes_on_unless_a_debugger_holds_it() {
    let up = |state: char| {
        edge_host(CONFIG)
            .process(5, "/usr/sbin/nginx -c /etc/nginx/nginx.conf", 0, "/system.slice/edge.service")
            .in_state(state)
            .listens("0.0.0.0", 8088, &[5])
            .listens("::", 8088, &[5])
            .unit("edge.service", "active", |u| u.main_pid = 5)
    };
    let all = offered(&up('T'), &[]);
    let plan = all["continue-process"].as_ref().expect("it can go on");
    assert_eq!(plan.steps, [Step::Continue(Continue { pid: 5, start_ticks: 5, name: "nginx".into() })]);
    assert!(offered(&up('t'), &[])["continue-process"].as_ref().is_err_and(|why| why.contains("debugger")));
}

#[test]
fn a_limit_is_raised_to_what_is_asked_for() {
    let host = TextHost::new()
        .file(
            "/etc/systemd/system/beacon.service",
            "[Service]\nType=notify\nUser=tide\nLimitNOFILE=1024\n\
            ExecStart=/usr/sbin/haproxy -Ws -f /etc/beacon.cfg\n",
        )
        .program("/usr/sbin/haproxy")
        .file(
            "/etc/beacon.cfg",
            "global\n  maxconn 4000\n\
            defaults\n  timeout connect 1s\n  timeout client 1s\n  timeout server 1s\n\
            frontend f\n  bind 127.0.0.1:8090\n  mode http\n",
        )
        .unit("beacon.service", "failed", |_| {});
    let service = described(&host, "beacon", "");
    let snapshot = Snapshot::new(&host);
    let case = gather(&snapshot, &service, Depth::Diagnosis);
    let causes = standing_causes(&snapshot, &case);
    let made = crate::fix::plans(
        &snapshot,
        &case,
        std::slice::from_ref(&service),
        &causes[0],
        &crate::fix::Wishes::default(),
    );
    let (_, lines) = drop_in(made[0].as_ref().expect("a plan"));
    assert_eq!(lines, ["LimitNOFILE=9024"]);
}

/// All plans for the first cause of a described or found service, with their outcome in words.
fn plans_of(host: &TextHost, name: &str) -> Vec<Result<Plan, String>> {
    let service = described(host, name, "");
    let snapshot = Snapshot::new(host);
    let case = gather(&snapshot, &service, Depth::Diagnosis);
    let causes = standing_causes(&snapshot, &case);
    crate::fix::plans(
        &snapshot,
        &case,
        std::slice::from_ref(&service),
        &causes[0],
        &crate::fix::Wishes::default(),
    )
}

#[test]
fn a_slow_start_gets_four_times_its_time_and_one_without_a_limit_none() {
    let slow = |settings: &str| {
        with(CONFIG, settings).journal(&[
            (1000, "7d4958e842da4a758f6c1cdc7b36dcc5", "Starting"),
            (91_000, "", "edge.service: start operation timed out. Terminating."),
            (91_100, "be02cf6855d2428ba40df7e9d022f03d", "Failed to start"),
        ])
    };
    let host = slow("TimeoutStartSec=2min");
    let mut entries = plans_of(&host, "edge");
    let (_, lines) = drop_in(entries.remove(0).as_ref().expect("a plan"));
    assert_eq!(lines, ["TimeoutStartSec=480"]);
    let (_, lines) =
        drop_in(plans_of(&slow("TimeoutStartSec=5"), "edge").remove(0).as_ref().expect("a plan"));
    assert_eq!(lines, ["TimeoutStartSec=300"], "it gets five minutes at least");
    assert!(
        plans_of(&slow("TimeoutStartSec=infinity"), "edge")
            .remove(0)
            .is_err_and(|why| why.contains("all the time"))
    );
}

#[test]
fn another_server_on_the_same_data_is_stopped_through_its_manager_or_gently() {
    let ledger = |cgroup: &str| {
        TextHost::new()
            .file(
                "/etc/systemd/system/ledger.service",
                "[Service]\nType=notify\nUser=tide\nExecStart=/usr/sbin/mariadbd\n",
            )
            .program("/usr/sbin/mariadbd")
            .file(
                "/etc/mysql/my.cnf",
                "[mysqld]\nsocket=/run/ledger/ledger.sock\nskip-networking\ndatadir=/srv/ledger\n",
            )
            .dir("/run/ledger", 0o755, 71)
            .dir("/srv/ledger", 0o750, 71)
            .dir("/srv/ledger/mysql", 0o750, 71)
            .unit("ledger.service", "failed", |_| {})
            .process(900, "/usr/sbin/mariadbd --port=3399", 71, cgroup)
            .works_in("/srv/ledger")
    };
    let steps = |host: &TextHost| {
        let service = described(host, "ledger", "");
        let snapshot = Snapshot::new(host);
        let case = gather(&snapshot, &service, Depth::Diagnosis);
        let causes = standing_causes(&snapshot, &case);
        let cause =
            causes.iter().find(|c| c.code == crate::code::Code::AlreadyRunning).expect("the other server");
        crate::fix::plans(
            &snapshot,
            &case,
            std::slice::from_ref(&service),
            cause,
            &crate::fix::Wishes::default(),
        )
        .remove(0)
        .expect("a plan")
        .steps
    };
    assert_eq!(
        steps(&ledger("/system.slice/old-ledger.service")),
        [Step::Job(Job { verb: "stop".into(), unit: "old-ledger.service".into() })]
    );
    // Whoever was given a group of his own makes more below it, and calls them what he likes.
    for named in [
        "/user.slice/user-1000.slice/user@1000.service/app.slice/old-ledger.service",
        "/user.slice/user-1000.slice/session-3.scope/ssh.service",
    ] {
        assert!(matches!(steps(&ledger(named)).as_slice(), [Step::End(End { pid: 900, .. })]), "{named}");
    }
    let below = steps(&ledger("/system.slice/tide.service/ssh.service"));
    assert_eq!(
        below,
        [Step::Job(Job { verb: "stop".into(), unit: "tide.service".into() })],
        "the manager's own unit, not one that is called like it"
    );
    let by_hand = steps(&ledger("/user.slice/user-1000.slice/session-3.scope"));
    assert_eq!(
        by_hand,
        [Step::End(End { pid: 900, start_ticks: 900, name: "mariadbd".into(), gently: true })],
        "a database is never killed hard"
    );
}

#[test]
fn a_missing_working_directory_is_made_for_the_account() {
    let host = with(CONFIG, "User=tide\nWorkingDirectory=/srv/edge/work").dir("/run", 0o777, 0).dir(
        "/var/log/nginx",
        0o777,
        0,
    );
    let plan = plans_of(&host, "edge").remove(0).expect("a plan");
    let made: Vec<String> = plan.steps.iter().map(Step::spelled).collect();
    assert_eq!(
        made,
        [
            "make the directory /srv, mode 0750",
            "make the directory /srv/edge, mode 0750",
            "make the directory /srv/edge/work, mode 0750"
        ]
    );
}

#[test]
fn what_a_strangers_process_says_of_itself_gives_it_nothing() {
    let offered = |uid: u32| {
        let host = TextHost::new()
            .program("/usr/bin/redis-server")
            .file(
                "/etc/other/other.conf",
                "port 6390\ndir /var/lib/redis\nlogfile /var/log/redis/other.log\n",
            )
            .dir("/var/lib/redis", 0o700, 0)
            .dir("/var/log/redis", 0o700, 0)
            .process(900, "/usr/bin/redis-server /etc/other/other.conf", uid, "");
        let snapshot = Snapshot::new(&host);
        let service =
            crate::service::find(&snapshot, &crate::services_file::parse("").expect("nothing")).remove(0);
        let case = gather(&snapshot, &service, Depth::Diagnosis);
        let causes = standing_causes(&snapshot, &case);
        let none = crate::fix::Wishes::default();
        let plans = causes
            .iter()
            .flat_map(|c| crate::fix::plans(&snapshot, &case, std::slice::from_ref(&service), c, &none));
        let (given, refused): (Vec<_>, Vec<_>) = plans.partition(Result::is_ok);
        (given.len(), refused.len())
    };
    let (given, refused) = offered(71);
    assert!(given == 0 && refused > 0, "{given} {refused}");
}
