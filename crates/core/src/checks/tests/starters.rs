//! Init scripts and socket units: what starts a service, and what only a log or its own words name.
use super::*;

const STARTING: &str = "7d4958e842da4a758f6c1cdc7b36dcc5";
const STARTED: &str = "39f53479d3a045ac8e11786248231fbf";
const FAILED: &str = "be02cf6855d2428ba40df7e9d022f03d";
const ENDED: &str = "d9b373ed55a64feb8242e02dbe79a49c";
const UNIT: &str = "/etc/systemd/system/tide-relay.service";

fn relay(unit: &str) -> TextHost {
    TextHost::new()
        .file("/etc/passwd", "root:x:0:0::/root:/bin/sh\ntide:x:4071:4071::/srv:/bin/false\n")
        .file(UNIT, unit)
        .program("/opt/tide/relay")
        .program("/bin/sh")
}

/// The first cause: code, certainty, title.
fn first(host: &TextHost) -> (Code, Certainty, String) {
    let entry = diagnose(host, "tide-relay", "");
    let cause = entry.causes.into_iter().next();
    cause.map_or((Code::Unknown, Certainty::Possible, "none".into()), |c| (c.code, c.certainty, c.title))
}

fn state(host: &TextHost) -> State {
    diagnose(host, "tide-relay", "").state
}

/// A unit that the manager made from an init script which has ended well.
fn scripted(script: &str) -> TextHost {
    relay("[Service]\nType=forking\nExecStart=/etc/init.d/tide-relay start\n")
        .program("/etc/init.d/tide-relay")
        .text("/etc/init.d/tide-relay", script)
        .unit("tide-relay.service", "active", |u| {
            u.sub_state = "exited".into();
            u.control_group = "/system.slice/tide-relay.service".into();
        })
        .journal(&[(1000, STARTING, "Starting"), (1100, STARTED, "Started")])
}

const DAEMON: &str = "#!/bin/sh\n[ \"$ENABLED\" = no ] && exit 0\nPIDFILE=/run/relay.pid\n\
    start-stop-daemon --start --exec /opt/tide/relay\n";

#[test]
fn a_script_that_ended_well_and_left_nothing_is_told() {
    let gone = scripted(DAEMON).file("/run/relay.pid", "4711\n");
    assert_eq!(state(&gone), State::Failed);
    let (code, certainty, title) = first(&gone);
    assert_eq!((code, certainty), (Code::Unknown, Certainty::Likely), "{title}");
    assert!(title.contains("no process of tide-relay runs"), "{title}");
    let group = "/system.slice/tide-relay.service";
    assert_eq!(state(&gone.process(812, "/opt/tide/relay", 0, group)), State::Running);
    // One that runs elsewhere than in the unit's group, or in a directory of its own, is not gone.
    let moved = scripted(DAEMON).process(812, "/opt/tide/relay", 71, "/user.slice/session-2.scope");
    assert_eq!(state(&moved), State::Running);
    let by_pid =
        scripted(DAEMON).file("/run/relay.pid", "813\n").process(813, "/opt/other", 71, "/user.slice");
    assert_eq!(state(&by_pid), State::Running);
    // One that does its work and ends has nothing to leave.
    assert_eq!(state(&scripted("#!/bin/sh\n/sbin/ip link set lo up\n")), State::Running);
}

#[test]
fn a_script_that_is_turned_off_names_the_line() {
    let off = scripted(DAEMON).file("/etc/default/tide-relay", "# settings\nENABLED=no\n");
    let (code, certainty, title) = first(&off);
    assert_eq!((code, certainty), (Code::ManagerDisabled, Certainty::Likely), "{title}");
    assert!(title.contains("ENABLED=no"), "{title}");
    let other = scripted(DAEMON).file("/etc/default/tide-relay", "START=no\n");
    assert_eq!(first(&other).0, Code::Unknown, "the script never asks for it");
    let later = scripted(DAEMON).file("/etc/default/tide-relay", "ENABLED=no\nENABLED=yes\n");
    assert_eq!(first(&later).0, Code::Unknown);
}

#[test]
fn a_script_whose_program_is_not_there_is_told() {
    let host = scripted(DAEMON).without("/opt/tide/relay");
    let (code, certainty, title) = first(&host);
    assert_eq!((code, certainty), (Code::ProgramMissing, Certainty::Likely), "{title}");
}

#[test]
fn a_script_that_nobody_may_execute_starts_nothing() {
    let host = TextHost::new().file("/etc/init.d/tide-relay", DAEMON);
    let (code, certainty, title) = first(&host);
    assert_eq!((code, certainty), (Code::PermissionDenied, Certainty::Certain), "{title}");
    assert!(
        first(&TextHost::new().program("/etc/init.d/tide-relay").text("/etc/init.d/tide-relay", DAEMON)).0
            != Code::PermissionDenied
    );
}

fn listened_for(socket: &str) -> TextHost {
    relay("[Service]\nExecStart=/opt/tide/relay\n")
        .file("/etc/systemd/system/tide-relay.socket", "[Socket]\nListenStream=0.0.0.0:7400\n")
        .unit("tide-relay.service", "inactive", |u| u.sub_state = "dead".into())
        .unit("tide-relay.socket", socket, |u| u.result = "resources".into())
}

#[test]
fn a_socket_unit_that_found_its_port_held_is_why_the_service_does_not_answer() {
    let held =
        listened_for("failed").process(812, "/opt/gauge-sim", 1000, "").listens("0.0.0.0", 7400, &[812]);
    assert_eq!(state(&held), State::Failed);
    let (code, certainty, title) = first(&held);
    assert_eq!((code, certainty), (Code::PortTaken, Certainty::Certain), "{title}");
    let alone = listened_for("failed");
    assert_eq!(first(&alone).0, Code::ManagerGaveUp);
    let init =
        listened_for("active").process(1, "/sbin/init", 0, "/init.scope").listens("0.0.0.0", 7400, &[1]);
    assert_eq!(state(&init), State::Running);
    assert_eq!(diagnose(&init, "tide-relay", "").context.by_socket.as_deref(), Some("tide-relay.socket"));
    let unseen = listened_for("active").listens("0.0.0.0", 7400, &[]).seen_by(1000);
    assert_eq!(state(&unseen), State::Running, "the manager's word is enough");
}

#[test]
fn the_socket_unit_by_which_the_manager_holds_a_port_is_named() {
    let host = listened_for("active")
        .file("/etc/systemd/system/gauge.service", "[Service]\nExecStart=/opt/tide/relay --port 7400\n")
        .process(1, "/sbin/init", 0, "/init.scope")
        .listens("0.0.0.0", 7400, &[1])
        .unit("gauge.service", "failed", |_| {})
        .journal(&[
            (1000, STARTING, "Starting"),
            (1100, "", "bind: address already in use"),
            (1300, FAILED, "Failed"),
        ]);
    let entry = diagnose(&host, "gauge", "");
    assert!(entry.causes[0].title.contains("tide-relay.socket"), "{:?}", entry.causes[0].title);
}

/// `tide-relay`, whose last start said these words.
fn said(words: &str, active: &str) -> TextHost {
    let host = relay("[Service]\nUser=tide\nExecStart=/opt/tide/relay\n")
        .process(812, "/opt/gauge-sim", 1000, "")
        .listens("0.0.0.0", 7400, &[812])
        .unit("tide-relay.service", active, |u| u.main_pid = if active == "active" { 50 } else { 0 });
    if active == "active" {
        host.process(50, "/opt/tide/relay", 4071, "/system.slice/tide-relay.service")
            .journal(&[(1000, STARTED, "Started"), (1100, "", words)])
    } else {
        host.journal(&[
            (1000, STARTING, "Starting"),
            (1100, "", words),
            (1300, FAILED, "Failed to start"),
            (2000, "", "Start request repeated too quickly."),
        ])
    }
}

#[test]
fn who_holds_what_only_the_log_names_is_told_and_never_stopped() {
    for words in [
        "error: Bind to port 7400 on 0.0.0.0 failed: Address already in use.",
        "2031-04-02 07:47:05: (network.c.537) can't bind to socket: 0.0.0.0:7400: Address already in use",
        "fatal: bind 0.0.0.0 port 7400: Address already in use",
    ] {
        for active in ["failed", "active"] {
            let entry = diagnose(&said(words, active), "tide-relay", "");
            let cause = &entry.causes[0];
            assert_eq!((cause.code, cause.certainty), (Code::PortTaken, Certainty::Possible), "{words}");
            assert_eq!((cause.subject.port, cause.subject.pid), (Some(7400), Some(812)), "{words}");
            assert_eq!(cause.fixes, [""; 0], "{words}");
            assert!(entry.causes.iter().all(|c| c.code != Code::ManagerGaveUp), "it is evidence: {words}");
            assert_eq!(entry.state, if active == "active" { State::Degraded } else { State::Failed });
        }
    }
    // Nobody holds it any more: the manager's word leads.
    let (code, ..) = first(&said("fatal: bind 0.0.0.0 port 7411: Address already in use", "failed"));
    assert_eq!(code, Code::ManagerGaveUp);
}

#[test]
fn a_place_in_a_file_of_roots_is_borne_out_by_what_stands_there() {
    let words = "/etc/tide.conf:2: error: unknown keyword 'PermitTides'";
    let with = |text: &str| said(words, "failed").file("/etc/tide.conf", text);
    let (code, certainty, _) = first(&with("a\nPermitTides no\n"));
    assert_eq!((code, certainty), (Code::ConfigUnknownDirective, Certainty::Likely));
    assert_eq!(first(&with("a\nb\n")).1, Certainty::Possible, "it does not stand there");
    // How sure we are must not tell what is in a file that not everybody may read.
    let closed =
        said(words, "failed").owned("/etc/tide.conf", 0o600, 0).text("/etc/tide.conf", "a\nPermitTides\n");
    assert_eq!(first(&closed).1, Certainty::Possible);
}

#[test]
fn a_run_that_began_a_moment_ago_is_one_of_several_tries() {
    let at = |restarts: u32, began: u64| {
        relay("[Service]\nRestart=always\nExecStart=/opt/tide/relay\n")
            .process(50, "/opt/tide/relay", 0, "/system.slice/tide-relay.service")
            .unit("tide-relay.service", "active", |u| {
                u.main_pid = 50;
                u.restarts = restarts;
            })
            .journal(&[
                (began - 3000, STARTED, "Started"),
                (began - 2500, ENDED, "Failed with result 'exit-code'. exit=exited/1"),
                (began, STARTED, "Started"),
            ])
    };
    assert_eq!(state(&at(3, 99_500)), State::Restarting);
    assert_eq!(state(&at(3, 40_000)), State::Running, "it has stayed up since");
    assert_eq!(state(&at(0, 99_500)), State::Running, "somebody started it");
}

#[test]
fn an_archive_that_is_not_there_is_told_before_its_log_says_so() {
    let of = |command: &str| {
        relay(&format!("[Service]\nExecStart={command}\n"))
            .program("/opt/jdk/bin/java")
            .file("/opt/jdk/lib/server/libjvm.so", "so")
            .program("/opt/run.sh")
            .text("/opt/run.sh", "#!/bin/sh\nexec /opt/jdk/bin/java -jar /opt/tide/gone.jar\n")
            .file("/opt/tide/relay.jar", "PK")
            .unit("tide-relay.service", "failed", |_| {})
    };
    let (code, certainty, title) = first(&of("/opt/jdk/bin/java -jar /opt/tide/gone.jar"));
    assert_eq!((code, certainty), (Code::ProgramMissing, Certainty::Certain), "{title}");
    assert_eq!(first(&of("/opt/run.sh")).1, Certainty::Likely);
    assert_ne!(first(&of("/opt/jdk/bin/java -jar /opt/tide/relay.jar")).0, Code::ProgramMissing);
}

#[test]
fn what_starts_a_service_by_itself_stands_for_it() {
    let system = |name: &str| format!("/etc/systemd/system/{name}");
    let host = relay("[Service]\nExecStart=/opt/tide/relay\n")
        .file(&system("tide-relay.timer"), "[Timer]\nOnCalendar=hourly\n")
        .file(&system("ebb.path"), "[Path]\nPathExists=/srv/ebb\nUnit=tide-relay.service\n")
        .file(&system("pier.socket"), "[Socket]\nAccept=yes\nListenStream=7403\n")
        .file(&system("pier@.service"), "[Service]\nExecStart=/opt/tide/relay\n")
        .file(&system("gull@.service"), "[Service]\nExecStart=/opt/tide/relay\n");
    let snapshot = Snapshot::new(&host);
    let file = crate::services_file::parse("").unwrap();
    let named = |name: &str| crate::service::named(&snapshot, &file, name).map(|s| s.name);
    for (name, expected) in [
        ("tide-relay.timer", Some("tide-relay")),
        ("ebb.path", Some("tide-relay")),
        ("pier.socket", Some("pier@")),
        ("pier", Some("pier@")),
        ("pier@", Some("pier@")),
        ("gull@", None),
        ("gull", None),
    ] {
        assert_eq!(named(name).as_deref(), expected, "{name}");
    }
}
