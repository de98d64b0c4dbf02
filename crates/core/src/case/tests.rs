//! What is gathered of one service: its state from three witnesses, who holds what, and what started the
//! holder.
mod logs;

use super::{Case, Depth, Returns, State, chain, gather, holder};
use crate::host::{Protocol, Socket};
use crate::service::Service;
use crate::snapshot::Snapshot;
use crate::tests::{EDGE_CONFIG as CONFIG, TextHost, described, edge_host};

const OWN: &str = "/system.slice/edge.service";

fn edge() -> TextHost {
    edge_host(CONFIG)
}

/// Gathers `edge` and hands the case to a closure.
fn with<R>(host: &TextHost, look: impl FnOnce(&Case) -> R) -> R {
    let service: Service = described(host, "edge", "");
    let snapshot = Snapshot::new(host);
    look(&gather(&snapshot, &service, Depth::Diagnosis))
}

fn state(host: &TextHost) -> State {
    with(host, |c| c.state)
}

#[test]
fn the_manager_says_what_it_is_and_sockets_say_whether_it_works() {
    let up =
        || edge().unit("edge.service", "active", |u| u.main_pid = 50).process(50, "/usr/sbin/nginx", 0, OWN);
    assert_eq!(state(&up().listens("0.0.0.0", 8088, &[50])), State::Running);
    assert_eq!(state(&up()), State::Running, "nothing else has its port: it may still be coming");
    let robbed = up().process(60, "/opt/gauge-sim", 0, "").listens("0.0.0.0", 8088, &[60]);
    assert_eq!(state(&robbed), State::Degraded);
    for (active, sub, restarts, expected) in [
        ("inactive", "dead", 0, State::Stopped),
        ("deactivating", "stop-sigterm", 0, State::Stopped),
        ("failed", "failed", 0, State::Failed),
        ("activating", "start-pre", 0, State::Starting),
        ("activating", "auto-restart", 1, State::Restarting),
        ("activating", "auto-restart-queued", 1, State::Restarting),
        ("activating", "start", 3, State::Restarting),
        ("maintenance", "", 0, State::Unknown),
    ] {
        let host = edge().unit("edge.service", active, |u| {
            u.sub_state = sub.into();
            u.restarts = restarts;
        });
        assert_eq!(state(&host), expected, "{active} {sub}");
    }
}

#[test]
fn what_the_manager_listens_for_is_up_before_its_first_client() {
    let host = edge().unit("edge.service", "inactive", |u| u.sub_state = "dead".into()).process(
        1,
        "/sbin/init",
        0,
        "/init.scope",
    );
    assert_eq!(state(&host), State::Stopped);
    let host = host.listens("0.0.0.0", 8088, &[1]);
    assert_eq!(state(&host), State::Stopped, "the manager listens for somebody else");
    let host = host.file("/etc/systemd/system/edge.socket", "[Socket]\nListenStream=8088\n");
    let listens = |state: &str| host.clone().unit("edge.socket", state, |_| {});
    assert_eq!(state(&listens("active")), State::Running);
    assert_eq!(state(&listens("failed")), State::Failed, "nothing starts it any more");
}

#[test]
fn a_daemon_that_stays_up_without_its_listener_and_says_so_is_degraded() {
    let host =
        edge().unit("edge.service", "active", |u| u.main_pid = 50).process(50, "/usr/sbin/nginx", 0, OWN);
    let silent = host.clone().journal(&[(1000, "39f53479d3a045ac8e11786248231fbf", "Started")]);
    assert_eq!(state(&silent), State::Running);
    let complaining = host.journal(&[
        (1000, "39f53479d3a045ac8e11786248231fbf", "Started"),
        (
            1500,
            "",
            "2031/04/02 06:10:11 [emerg] 7#7: bind() to 192.0.2.7:8088 failed (99: Cannot assign \
            requested address)",
        ),
    ]);
    assert_eq!(state(&complaining), State::Degraded);
}

#[test]
fn without_a_manager_processes_and_sockets_decide() {
    let toml = "[service.tide-relay]\nkind = \"program\"\nstart = \"/opt/tide-relay\"\n\
        listen = \"127.0.0.1:7400\"\n";
    let of = |host: &TextHost| {
        let service = described(host, "tide-relay", toml);
        gather(&Snapshot::new(host), &service, Depth::State).state
    };
    let base = || TextHost::new().program("/opt/tide-relay");
    assert_eq!(of(&base()), State::Stopped);
    assert_eq!(of(&base().process(50, "/opt/tide-relay", 71, "")), State::Degraded);
    assert_eq!(
        of(&base().process(50, "/opt/tide-relay", 71, "").listens("127.0.0.1", 7400, &[50])),
        State::Running
    );
}

#[test]
fn own_processes_and_strays_of_the_same_daemon_stay_apart() {
    let host = edge()
        .unit("edge.service", "active", |u| u.main_pid = 50)
        .process(50, "/usr/sbin/nginx", 0, OWN)
        .process(51, "/usr/sbin/nginx", 33, &format!("{OWN}/sub"))
        .process(60, "/usr/sbin/nginx", 0, "/user.slice/session-2.scope")
        .process(61, "/opt/other", 0, "/system.slice/edge.service.d");
    with(&host, |case| {
        assert_eq!(case.processes.iter().map(|p| p.brief.pid).collect::<Vec<_>>(), [50, 51]);
        assert_eq!(case.strays.iter().map(|p| p.brief.pid).collect::<Vec<_>>(), [60]);
    });
}

#[test]
fn enabled_and_not_stopped_on_purpose_is_meant_to_run() {
    let meant = |host: &TextHost| with(host, |c| c.meant_to_run);
    assert!(meant(&edge().unit("edge.service", "failed", |_| {})));
    let disabled = edge().without("/etc/systemd/system/multi-user.target.wants/edge.service");
    assert!(!meant(&disabled.unit("edge.service", "inactive", |u| u.unit_file_state = "disabled".into())));
    let stopped = edge().unit("edge.service", "inactive", |_| {}).journal(&[
        (1000, "7d4958e842da4a758f6c1cdc7b36dcc5", "Starting"),
        (1200, "39f53479d3a045ac8e11786248231fbf", "Started"),
        (5000, "de5b426a63be47a7b6ac3eaac82e2f6f", "Stopping"),
        (5200, "9d1aaa27d60140bd96365438aad20286", "Stopped"),
    ]);
    assert!(!meant(&stopped), "somebody stopped it");
    let script = TextHost::new()
        .file("/etc/init.d/edge", "DAEMON=/usr/sbin/nginx\n")
        .program("/usr/sbin/nginx")
        .file("/etc/nginx/nginx.conf", CONFIG);
    assert!(!meant(&script), "no run level starts it");
    assert!(meant(&script.link("/etc/rc3.d/S20edge", "../init.d/edge")));
}

/// Kinds and names of what started a process.
fn origin(host: &TextHost, pid: u32) -> Vec<String> {
    let snapshot = Snapshot::new(host);
    let process = snapshot.process(pid).seen().expect("it is there");
    chain(&snapshot, &process).0.iter().map(ToString::to_string).collect()
}

#[test]
fn what_started_a_process_is_read_from_its_control_group_or_its_parents() {
    let host = TextHost::new()
        .process(10, "/opt/a", 0, "/system.slice/gauge.service")
        .process(11, "/opt/b", 0, "/user.slice/user-1000.slice/session-4.scope")
        .process(12, "/opt/c", 0, "/machine.slice/libpod-0123.scope")
        .process(20, "/usr/sbin/cron", 0, "")
        .child(21, 20, "/bin/sh")
        .child(22, 21, "/opt/d");
    assert_eq!(origin(&host, 10), ["unit gauge.service"]);
    let triggered = host
        .clone()
        .unit("gauge.service", "active", |u| {
            drop(u.more.insert("TriggeredBy".into(), "gauge.timer gauge.socket".into()))
        })
        .file(
            "/run/systemd/generator.late/gauge.service",
            "[Unit]\nSourcePath=/etc/init.d/gauge\n[Service]\nExecStart=/etc/init.d/gauge start\n",
        );
    assert_eq!(
        origin(&triggered, 10),
        ["unit gauge.service", "timer gauge.timer", "socket gauge.socket", "init script /etc/init.d/gauge"]
    );
    assert_eq!(origin(&host, 11), ["session session-4"]);
    assert_eq!(origin(&host, 12), ["container libpod-0123"]);
    assert_eq!(origin(&host, 22), ["process sh (pid 21)", "process cron (pid 20)"]);
}

fn held(host: &TextHost, pids: &[u32]) -> (u32, Returns, Vec<u32>) {
    let socket = Socket {
        protocol: Protocol::Tcp,
        address: "127.0.0.1".parse().ok(),
        port: 80,
        path: None,
        inode: 9,
        uid: 0,
        v6_only: false,
    };
    let found = holder(&Snapshot::new(host), &socket, pids).expect("somebody holds it");
    (found.process.brief.pid, found.returns, found.others)
}

#[test]
fn a_holder_comes_back_if_something_brings_it_back() {
    let gauge = |state: &str, restart: &str| {
        TextHost::new().process(10, "/opt/a", 0, "/system.slice/gauge.service").unit(
            "gauge.service",
            "active",
            |u| {
                u.unit_file_state = state.into();
                u.more.insert("Restart".into(), restart.into());
            },
        )
    };
    for (state, restart, expected) in [
        ("enabled", "no", Returns::Boot),
        ("static", "no", Returns::Boot),
        ("disabled", "always", Returns::Itself),
        ("disabled", "no", Returns::No),
    ] {
        assert_eq!(held(&gauge(state, restart), &[10]).1, expected, "{state} {restart}");
    }
    let timer = gauge("disabled", "no").unit("gauge.service", "active", |u| {
        u.unit_file_state = "disabled".into();
        u.more.insert("TriggeredBy".into(), "gauge.timer".into());
    });
    assert_eq!(held(&timer, &[10]).1, Returns::Boot);
    let supervised = TextHost::new().process(20, "/usr/bin/supervisord", 0, "").child(21, 20, "/opt/a");
    assert_eq!(held(&supervised, &[21]).1, Returns::Itself);
    let contained = TextHost::new().process(12, "/opt/c", 0, "/machine.slice/libpod-0123.scope");
    assert_eq!(held(&contained, &[12]).1, Returns::Unknown);
    assert_eq!(held(&TextHost::new().process(30, "/opt/a", 0, ""), &[30]).1, Returns::No);
}

#[test]
fn of_several_holders_the_opener_comes_first() {
    let family = TextHost::new().process(60, "/opt/a", 0, "").child(61, 60, "/opt/a").child(62, 60, "/opt/a");
    assert_eq!(held(&family, &[62, 61, 60]), (60, Returns::No, vec![61, 62]));
    let orphans = TextHost::new().process(71, "/opt/a", 0, "").process(70, "/opt/a", 0, "");
    assert_eq!(held(&orphans, &[71, 70]).0, 70, "the older one");
}

#[test]
fn a_pid_file_vouches_for_the_processes_of_its_owner_only() {
    let described_as = "[service.relay]\nkind = \"program\"\nstart = \"/opt/relay/start.sh\"\n\
        pid_file = \"/run/relay/relay.pid\"\naccount = \"tide\"\n";
    let host = |owner: u32, uid: u32| {
        TextHost::new()
            .program("/opt/relay/start.sh")
            .text("/opt/relay/start.sh", "#!/bin/sh\n")
            .dir("/run/relay", 0o755, 71)
            .owned("/run/relay/relay.pid", 0o644, owner)
            .text("/run/relay/relay.pid", "50\n")
            .process(50, "/opt/relay/bin/relay", uid, "")
    };
    for (owner, uid, ours) in [(0, 71, true), (0, 0, true), (71, 71, true), (71, 0, false), (71, 1000, false)]
    {
        let host = host(owner, uid);
        let service = described(&host, "relay", described_as);
        let snapshot = Snapshot::new(&host);
        let case = gather(&snapshot, &service, Depth::State);
        assert_eq!(case.processes.len() == 1, ours, "a file of {owner} names a process of {uid}");
    }
}

#[test]
fn where_processes_are_hidden_the_state_is_not_known() {
    let plain = "[service.relay]\nkind = \"program\"\nstart = \"/opt/relay\"\n";
    let state = |host: &TextHost| {
        let service = described(host, "relay", plain);
        gather(&Snapshot::new(host), &service, Depth::State).state
    };
    let host = TextHost::new().program("/opt/relay");
    assert_eq!(state(&host), State::Stopped);
    assert_eq!(state(&host.clone().seen_by(1000)), State::Unknown, "no pid 1: those of others are hidden");
    assert_eq!(state(&host.seen_by(1000).process(1, "/sbin/init", 0, "")), State::Stopped);
}

#[test]
fn a_configuration_is_roots_word_only_if_nobody_else_can_replace_any_part_of_its_path() {
    let config = "error_log /srv/data/edge/error.log;\npid /run/nginx.pid;\nevents { }\n";
    let host = || {
        edge_host("include /srv/site/conf/main.conf;\n").file("/srv/site/conf/main.conf", config).dir(
            "/srv/data/edge",
            0o755,
            0,
        )
    };
    let owns = |host: &TextHost| {
        with(host, |case| {
            (
                case.owns(&Snapshot::new(host), "/srv/data/edge/error.log"),
                case.may_edit(&Snapshot::new(host), "/etc/crontab"),
            )
        })
    };
    assert_eq!(owns(&host()), (true, true));
    for dir in ["/srv/site/conf", "/srv/site"] {
        // The service's own account, any other, and everybody.
        for (mode, uid) in [(0o755, 33), (0o755, 1000), (0o777, 0)] {
            assert_eq!(owns(&host().dir(dir, mode, uid)), (false, false), "{dir} {mode:o} {uid}");
        }
    }
    assert!(!owns(&host().owned("/srv/site/conf/main.conf", 0o644, 1000)).1);
}
