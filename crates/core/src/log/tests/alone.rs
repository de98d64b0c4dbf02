//! Starts where no journal is there: from the daemon's files, from what a receiver of messages kept, from
//! what the manager remembers.
use super::history;
use crate::code::Code;
use crate::log::{Afterwards, Attempt, AttemptRequest, Outcome, StartedBy, attempts};
use crate::snapshot::Snapshot;
use crate::tests::TextHost;
use jiff::tz::TimeZone;

type Ends = (Outcome, Option<Afterwards>);
const READY: Outcome = Outcome::Ready;

fn of_text(kind: &str, text: &str) -> Vec<Attempt> {
    history(&wtmp(TextHost::new().file("/var/log/it.log", text)), kind, false, &["/var/log/it.log"])
}

/// A host that came up long before, and whose record says so.
fn wtmp(host: TextHost) -> TextHost {
    came_up(host, &[1_000_000_000])
}

/// A host whose record says when it came up.
fn came_up(host: TextHost, times: &[i32]) -> TextHost {
    let entry = |time: &i32| {
        let mut entry = vec![0u8; 384];
        entry[0] = 2;
        entry[340..344].copy_from_slice(&time.to_le_bytes());
        entry
    };
    host.bytes("/var/log/wtmp", &times.iter().flat_map(entry).collect::<Vec<u8>>())
}

#[track_caller]
fn check(kind: &str, text: &str, expected: &[(Ends, Option<Code>)]) -> Vec<Attempt> {
    let list = of_text(kind, text);
    let found: Vec<_> =
        list.iter().map(|a| ((a.outcome, a.afterwards), a.failures.first().map(|f| f.code))).collect();
    assert_eq!(found, expected);
    list
}

#[test]
fn a_start_that_fails_is_not_the_end_of_the_run_before_it() {
    let line = |second: u32, level: &str, pid: u32, text: &str| {
        format!("2031/04/02 06:10:{second:02} [{level}] {pid}#{pid}: {text}\n")
    };
    let refused = line(5, "emerg", 9, "bind() to 0.0.0.0:80 failed (98: Address already in use)");
    let text = line(1, "notice", 3, "using the \"epoll\" event method")
        + &line(1, "notice", 4, "start worker processes")
        + &refused.repeat(5)
        + &line(5, "emerg", 9, "still could not bind()")
        + &refused.replace("9#9", "12#12")
        + &line(7, "notice", 4, "signal 3 (SIGQUIT) received from 1, shutting down");
    let failed = ((Outcome::Failed, None), Some(Code::PortTaken));
    check("nginx", &text, &[((READY, Some(Afterwards::Stopped)), None), failed, failed]);
}

#[test]
fn what_a_process_said_before_it_gives_up_is_the_cause() {
    let text = "2031-04-02 06:10:01.000 UTC [7] LOG:  starting PostgreSQL 15.1\n\
        2031-04-02 06:10:01.100 UTC [7] LOG:  database system is ready to accept connections\n\
        2031-04-02 06:10:09.000 UTC [7] LOG:  received fast shutdown request\n\
        2031-04-02 06:10:09.100 UTC [7] LOG:  database system is shut down\n\
        2031-04-02 06:20:00.000 GMT [9] LOG:  unrecognized configuration parameter \"tide\" in file \
        \"/etc/a\" line 1\n\
        2031-04-02 06:20:00.000 GMT [9] FATAL:  configuration file \"/etc/a\" contains errors\n";
    let stopped = (READY, Some(Afterwards::Stopped));
    let unknown = ((Outcome::Failed, None), Some(Code::ConfigUnknownDirective));
    let list = check("postgresql", text, &[(stopped, None), unknown]);
    assert!(list[1].failures[0].text.contains("tide"), "{:?}", list[1].failures);
    // The same far from anything else in a long file.
    let long = text.lines().take(4).map(|l| format!("{l}\n")).collect::<String>()
        + &"2031-04-02 06:11:00.000 UTC [31] a@b ERROR:  no such ferry\n".repeat(9000)
        + &text.lines().skip(4).map(|l| format!("{l}\n")).collect::<String>();
    check("postgresql", &long, &[(stopped, None), unknown]);
}

#[test]
fn lines_without_a_process_are_told_apart_by_the_words_that_end_a_failure() {
    let text = "[02-Apr-2031 06:10:01] NOTICE: fpm is running, pid 7\n\
        [02-Apr-2031 06:10:01] NOTICE: ready to handle connections\n\
        [02-Apr-2031 06:10:02] ERROR: [pool www] cannot get uid for user 'ferryman'\n\
        [02-Apr-2031 06:10:02] ERROR: FPM initialization failed\n\
        [02-Apr-2031 06:10:03] ERROR: [pool www] cannot get uid for user 'ferryman'\n\
        [02-Apr-2031 06:10:03] ERROR: FPM initialization failed\n\
        [02-Apr-2031 06:10:04] NOTICE: fpm is running, pid 9\n\
        [02-Apr-2031 06:10:04] NOTICE: ready to handle connections\n";
    let missing = ((Outcome::Failed, None), Some(Code::AccountMissing));
    let killed = (READY, Some(Afterwards::Killed));
    let list = check("php-fpm", text, &[(killed, None), missing, missing, ((READY, None), None)]);
    // Nothing tells when: it may have been silent for long.
    assert_eq!(list[0].ended, None);
}

#[test]
fn a_run_without_a_last_word_was_killed_unless_the_host_may_have_gone_down() {
    let run = |pid: u32, second: u32| {
        format!(
            "{pid}:C 02 Apr 2031 06:10:{second:02}.000 # Redis is starting\n\
                {pid}:M 02 Apr 2031 06:10:{second:02}.100 * Ready to accept connections\n"
        )
    };
    let killed = (READY, Some(Afterwards::Killed));
    let open = ((READY, None), None);
    let text = run(7, 1) + &run(9, 5);
    check("redis", &text, &[(killed, None), open]);
    // The host came up in between.
    let booted = "2031-04-02T06:10:03Z".parse::<jiff::Timestamp>().unwrap().as_second();
    let host = came_up(
        TextHost::new().file("/var/log/it.log", &text),
        &[1_000_000_000, i32::try_from(booted).unwrap()],
    );
    let list = history(&host, "redis", false, &["/var/log/it.log"]);
    assert_eq!(list[0].afterwards, None);
    // Its own report of a crash has no head.
    let crashed =
        run(7, 1) + "\n\n=== REDIS BUG REPORT START: Cut & paste starting from here ===\n" + &run(9, 5);
    check("redis", &crashed, &[((READY, Some(Afterwards::Crashed)), None), open]);
}

#[test]
fn what_a_receiver_kept_is_the_record_where_no_journal_is() {
    let line = |second: u32, text: &str| format!("2031-04-02T06:10:{second:02}.5+00:00 quay1 {text}\n");
    let syslog = [
        line(1, "systemd[1]: Starting edge.service - The edge of the quay..."),
        line(
            1,
            "nginx[71]: 2031/04/02 06:10:01 [emerg] 71#71: unknown directive \"tide\" in \
                /etc/nginx/nginx.conf:3",
        ),
        line(1, "systemd[1]: edge.service: Control process exited, code=exited, status=1/FAILURE"),
        line(1, "systemd[1]: edge.service: Failed with result 'exit-code'."),
        line(1, "systemd[1]: Failed to start edge.service - The edge of the quay."),
        line(9, "systemd[1]: Starting edge.service - The edge of the quay..."),
        line(9, "systemd[1]: Started edge.service - The edge of the quay."),
        line(19, "systemd[1]: Started other.service - Another edge.service."),
        line(20, "systemd[1]: edge.service: Main process exited, code=killed, status=9/KILL"),
        line(20, "systemd[1]: edge.service: Failed with result 'signal'."),
        line(30, "systemd[1]: Starting The edge of the quay..."),
        line(30, "systemd[1]: Started The edge of the quay."),
        line(40, "systemd[1]: Stopping The edge of the quay..."),
        line(40, "systemd[1]: Stopped The edge of the quay."),
    ];
    let host = TextHost::new().file("/var/log/syslog", &syslog.concat());
    let kind = crate::kinds::kind("nginx").unwrap();
    let zone = TimeZone::UTC;
    let request = AttemptRequest {
        unit: Some("edge.service"),
        description: Some("The edge of the quay"),
        names: &["nginx"],
        reports_ready: true,
        ..AttemptRequest::of_files(kind.log_owner(), &[], &zone, 100)
    };
    // Where a journal is there, only who wants the whole history has the files searched.
    let kept = host.clone().recorded("_PID=1", &[(5, "Starting something else")]);
    let short = AttemptRequest { count_all: false, ..request };
    assert!(attempts(&Snapshot::new(&kept), &short).list.is_empty());
    assert_eq!(attempts(&Snapshot::new(&host), &short).list.len(), 3);
    let request = AttemptRequest { count_all: true, ..short };
    assert_eq!(attempts(&Snapshot::new(&kept), &request).list.len(), 3);
    // Who may not read them is told.
    let closed = host.clone().closed("/var/log/syslog");
    let snapshot = Snapshot::new(&closed);
    assert!(attempts(&snapshot, &request).list.is_empty());
    assert!(
        snapshot.not_seen().iter().any(|l| l.text().contains("/var/log/syslog")),
        "{:?}",
        snapshot.not_seen()
    );
    let list = attempts(&Snapshot::new(&host), &request).list;
    let ends: Vec<_> = list.iter().rev().map(|a| (a.outcome, a.afterwards)).collect();
    let ran = |how| (READY, Some(how));
    assert_eq!(ends, [(Outcome::Failed, None), ran(Afterwards::Killed), ran(Afterwards::Stopped)]);
    let first = &list[2];
    assert_eq!(first.failures[0].code, Code::ConfigUnknownDirective);
    assert_eq!(first.failures[0].file, "/var/log/syslog");
    // Anybody may have sent it.
    assert!(!first.failures.iter().any(|f| f.trusted));
    assert!(list.iter().all(|a| a.started_by == StartedBy::Manager));
}

#[test]
fn what_the_manager_remembers_is_the_last_start() {
    let now = u64::try_from(crate::tests::NOW).unwrap() * 1_000_000;
    let ask = |active: &str, change: fn(&mut crate::host::UnitState, u64)| {
        let host = TextHost::new().unit("edge.service", active, |state| {
            state.left_inactive = now - 9_000_000;
            change(state, now);
        });
        let list = history(&host, "nginx", true, &[]);
        list.iter().map(|a| (a.outcome, a.afterwards, a.exit.clone())).collect::<Vec<_>>()
    };
    let up = ask("active", |s, now| s.active_entered = now - 8_000_000);
    assert_eq!(up, [(READY, None, String::new())]);
    let failed = ask("failed", |s, now| {
        (s.active_entered, s.result, s.state_changed) = (0, "exit-code".into(), now - 7_000_000);
        (s.exec_main_code, s.exec_main_status) = (1, 1);
    });
    assert_eq!(failed, [(Outcome::Failed, None, "exited/1".to_owned())]);
    let ended = |signal: i32, expected| {
        let host = TextHost::new().unit("edge.service", "inactive", |s| {
            (s.left_inactive, s.active_entered) = (now - 9_000_000, now - 8_000_000);
            // Somebody reset the failure.
            (s.result, s.exec_main_code, s.exec_main_status) = ("success".into(), 2, signal);
            (s.main_exited, s.state_changed) = (now - 5_000_000, now - 5_000_000);
        });
        let list = history(&host, "nginx", true, &[]);
        assert_eq!((list[0].outcome, list[0].afterwards), (READY, Some(expected)), "{signal}");
    };
    ended(15, Afterwards::Stopped);
    ended(9, Afterwards::Killed);
    ended(11, Afterwards::Crashed);
}

#[test]
fn one_start_in_two_forms_of_a_log_is_one() {
    let host = wtmp(
        TextHost::new()
            .file(
                "/var/log/it.log",
                "2031-04-02 06:10:01.000 UTC [7] LOG:  starting PostgreSQL 15.1\n\
                    2031-04-02 06:10:01.100 UTC [7] LOG:  redirecting log output to logging collector \
                    process\n",
            )
            .file(
                "/var/log/it.csv",
                "2031-04-02 06:10:01.100 UTC,,,7,,662e.1,1,,2031-04-02 06:10:01 \
                    UTC,,0,LOG,00000,\"ending log output to stderr\",,,,,,,,,\"\",\"postmaster\",,0\n\
                    2031-04-02 06:10:01.300 UTC,,,7,,662e.2,2,,2031-04-02 06:10:01 \
                    UTC,,0,LOG,00000,\"database system is ready to accept \
                    connections\",,,,,,,,,\"\",\"postmaster\",,0\n",
            ),
    );
    let list = history(&host, "postgresql", false, &["/var/log/it.log", "/var/log/it.csv"]);
    assert_eq!(list.iter().map(|a| (a.outcome, a.logs.len())).collect::<Vec<_>>(), [(READY, 2)]);
}

#[test]
fn an_abbreviation_tells_the_zone_and_which_of_two_hours() {
    let zone = TimeZone::posix("CET-1CEST,M3.5.0,M10.5.0/3").unwrap();
    let time = |text: &str| {
        let grammar = crate::kinds::kind("postgresql").unwrap().grammar();
        let head = grammar.head(text, crate::log::Around::zone(&zone)).unwrap();
        jiff::Timestamp::from_microsecond(head.time).unwrap().to_string()
    };
    for (stamp, expected) in [
        ("2031-10-26 02:10:00.000 CEST", "2031-10-26T00:10:00Z"),
        ("2031-10-26 02:10:00.000 CET", "2031-10-26T01:10:00Z"),
        ("2031-07-01 02:10:00.000 IST", "2031-06-30T20:40:00Z"),
        ("2031-07-01 02:10:00.000 +0545", "2031-06-30T20:25:00Z"),
        ("2031-07-01 02:10:00.000 -03", "2031-07-01T05:10:00Z"),
        ("2031-07-01 02:10:00.000 CEST", "2031-07-01T00:10:00Z"),
    ] {
        assert_eq!(time(&format!("{stamp} [7] LOG:  x")), expected, "{stamp}");
    }
}

#[test]
fn a_clock_that_was_set_does_not_change_what_came_first() {
    let run = |pid: u32, hour: u32, second: u32| {
        format!(
            "{pid}:C 02 Apr 2031 {hour:02}:10:{second:02}.000 # Redis is starting\n\
                {pid}:M 02 Apr 2031 {hour:02}:10:{second:02}.100 * Ready to accept connections\n\
                {pid}:M 02 Apr 2031 {hour:02}:10:{second:02}.200 # User requested shutdown...\n"
        )
    };
    let list = of_text("redis", &(run(7, 9, 1) + &run(8, 9, 7) + &run(9, 6, 30) + &run(10, 6, 40)));
    assert_eq!(list.iter().map(|a| a.pid.unwrap()).collect::<Vec<_>>(), [7, 8, 9, 10]);
}
