//! The manager's record: every way in which a start and a run can end, in the order of its messages.
use super::{EXITED, FAILED, RELOADED, RELOADING, STARTED, STARTING, STOPPED, STOPPING, UNIT_FAILED};
use crate::code::Code;
use crate::host::JournalEntry;
use crate::log::{Afterwards, Attempt, Outcome, record};

const DEACTIVATED: &str = "7ad2d189f7e94e70a38c781354912448";
const RESTARTING: &str = "5eb03494b6584870a536b337290809b3";

/// One message: milliseconds, identity (empty for the daemon's own), text, invocation, boot.
type Told<'t> = (u64, &'t str, &'t str, &'t str, &'t str);

fn entry(told: &Told) -> JournalEntry {
    let (at, id, message, invocation, boot) = *told;
    let quoted = message.split('\'').nth(1).unwrap_or_default();
    JournalEntry {
        time: 1_000_000_000_000 + at * 1000,
        message: message.into(),
        message_id: id.into(),
        invocation: invocation.into(),
        pid: 1,
        from_manager: !id.is_empty()
            || message.starts_with("edge.service: ")
            || message.starts_with("Start request"),
        priority: 3,
        boot: boot.into(),
        result: if message.starts_with("Dependency") {
            "dependency".into()
        } else if message.contains("Failed with result") {
            quoted.into()
        } else {
            String::new()
        },
        exit: message.split("exit=").nth(1).unwrap_or_default().into(),
        ..JournalEntry::default()
    }
}

fn read(kind: &str, reports_ready: bool, told: &[Told]) -> Vec<Attempt> {
    let entries: Vec<JournalEntry> = told.iter().map(entry).collect();
    let kind = crate::kinds::kind(kind).unwrap();
    record::attempts(&entries, kind.log_owner(), kind.grammar(), "edge.service", reports_ready)
}

#[track_caller]
fn check(told: &[Told], expected: &[(Outcome, Option<Afterwards>)]) -> Vec<Attempt> {
    let list = read("nginx", true, told);
    assert_eq!(list.iter().map(|a| (a.outcome, a.afterwards)).collect::<Vec<_>>(), expected);
    list
}

#[test]
fn the_exit_of_the_main_process_says_what_became_of_a_run() {
    for (exit, expected) in [
        ("exited/0", Afterwards::Stopped),
        ("exited/143", Afterwards::Stopped),
        ("exited/1", Afterwards::Crashed),
        ("killed/KILL", Afterwards::Killed),
        ("killed/15", Afterwards::Killed),
        ("killed/SEGV", Afterwards::Crashed),
        ("killed/6", Afterwards::Crashed),
        ("dumped/SEGV", Afterwards::Crashed),
    ] {
        let message = format!("edge.service: Main process exited, exit={exit}");
        check(
            &[
                (0, STARTING, "Starting", "a", "b"),
                (100, STARTED, "Started", "a", "b"),
                (9000, EXITED, &message, "a", "b"),
            ],
            &[(Outcome::Ready, Some(expected))],
        );
        let ordered = [
            (0, STARTED, "Started", "a", "b"),
            (8000, STOPPING, "Stopping", "a", "b"),
            (9000, EXITED, message.as_str(), "a", "b"),
            (9100, STOPPED, "Stopped", "a", "b"),
        ];
        check(&ordered, &[(Outcome::Ready, Some(Afterwards::Stopped))]);
    }
}

#[test]
fn a_run_that_ends_without_a_word_was_stopped_where_it_ended_well_and_killed_where_it_did_not() {
    check(
        &[
            (0, STARTED, "Started", "a", "b"),
            (9000, DEACTIVATED, "edge.service: Deactivated successfully.", "a", "b"),
        ],
        &[(Outcome::Ready, Some(Afterwards::Stopped))],
    );
    let unseen = [
        (0, STARTED, "Started", "a", "b"),
        (9000, UNIT_FAILED, "edge.service: Failed with result 'exit-code'.", "a", "b"),
    ];
    check(&unseen, &[(Outcome::Ready, Some(Afterwards::Killed))]);
}

#[test]
fn each_try_of_an_automatic_restart_is_an_attempt_of_its_own() {
    let mut told: Vec<Told> = Vec::new();
    let runs = ["a", "c", "d"];
    for (at, run) in (0..).zip(runs) {
        let base = at * 500;
        told.push((base, STARTING, "Starting", run, "b"));
        told.push((base + 100, EXITED, "edge.service: Main process exited, exit=exited/1", run, "b"));
        told.push((base + 101, UNIT_FAILED, "edge.service: Failed with result 'exit-code'.", run, "b"));
        // Some versions say that the start failed, some only that there will be another one.
        if at == 1 {
            told.push((base + 102, FAILED, "Failed to start", run, "b"));
        }
        told.push((base + 300, RESTARTING, "edge.service: Scheduled restart job", run, "b"));
        told.push((base + 301, STOPPED, "Stopped", run, "b"));
    }
    told.push((2000, "", "Start request repeated too quickly.", "d", "b"));
    told.push((2001, UNIT_FAILED, "edge.service: Failed with result 'exit-code'.", "d", "b"));
    told.push((2002, FAILED, "Failed to start", "d", "b"));
    let failed = (Outcome::Failed, None);
    let list = check(&told, &[failed, failed, failed, (Outcome::Refused, None)]);
    assert_eq!(list[3].failures[0].code, Code::ManagerGaveUp);
    assert!(list[..3].iter().all(|a| a.exit == "exited/1" && a.result == "exit-code"), "{list:?}");
}

#[test]
fn a_host_that_went_down_leaves_a_run_without_an_end() {
    let list = check(
        &[
            (0, STARTED, "Started", "a", "b1"),
            (5000, STARTING, "Starting", "c", "b2"),
            (5100, STARTED, "Started", "c", "b2"),
            (9000, STOPPED, "Stopped", "c", "b2"),
        ],
        &[(Outcome::Ready, None), (Outcome::Ready, Some(Afterwards::Stopped))],
    );
    assert_eq!((list[0].ended, list[0].result.as_str()), (None, "host-gone"));
}

#[test]
fn what_the_manager_could_not_even_try_is_refused_with_its_reason() {
    for (message, id, code) in [
        ("Dependency failed for edge.", FAILED, Code::DependencyDown),
        (
            "edge.service was skipped because of an unmet condition check (ConditionPathExists=/x).",
            STARTED,
            Code::ManagerDisabled,
        ),
        ("Assertion failed on job for edge.service.", FAILED, Code::ManagerDisabled),
        ("Start request repeated too quickly.", "", Code::ManagerGaveUp),
    ] {
        let list = check(&[(0, id, message, "", "b")], &[(Outcome::Refused, None)]);
        assert_eq!(list[0].failures[0].code, code, "{message}");
    }
}

#[test]
fn a_start_without_an_announcement_keeps_what_was_said_of_it() {
    let list = check(
        &[
            (0, "", "edge.service: Failed to load environment files: No such file or directory", "a", "b"),
            (1, UNIT_FAILED, "edge.service: Failed with result 'resources'.", "a", "b"),
            (2, FAILED, "Failed to start edge.service", "a", "b"),
        ],
        &[(Outcome::Failed, None)],
    );
    assert_eq!((list[0].failures[0].code, list[0].result.as_str()), (Code::ConfigMissingFile, "resources"));
}

#[test]
fn the_process_that_the_manager_forked_speaks_for_it() {
    let list = check(
        &[
            (0, STARTING, "Starting", "a", "b"),
            (10, "", "edge.service: Failed at step EXEC spawning /opt/edge: Permission denied", "a", "b"),
            (20, EXITED, "edge.service: Main process exited, exit=exited/203", "a", "b"),
            (30, FAILED, "Failed to start", "a", "b"),
        ],
        &[(Outcome::Failed, None)],
    );
    assert_eq!(
        (list[0].failures[0].code, list[0].failures[0].found.object("path")),
        (Code::PermissionDenied, Some("/opt/edge"))
    );
}

#[test]
fn only_a_start_that_takes_too_long_is_a_start_timeout() {
    let slow = check(
        &[
            (0, STARTING, "Starting", "a", "b"),
            (90_000, "", "edge.service: start operation timed out. Terminating.", "a", "b"),
            (90_100, UNIT_FAILED, "edge.service: Failed with result 'timeout'.", "a", "b"),
            (90_101, FAILED, "Failed to start", "a", "b"),
        ],
        &[(Outcome::Failed, None)],
    );
    assert_eq!(slow[0].failures[0].code, Code::StartTimeout);
    let stop = check(
        &[
            (0, STARTED, "Started", "a", "b"),
            (5000, STOPPING, "Stopping", "a", "b"),
            (
                95_000,
                "",
                "edge.service: State 'stop-sigterm' timed out. Killing. The stop operation timed out",
                "a",
                "b",
            ),
            (95_100, EXITED, "edge.service: Main process exited, exit=killed/KILL", "a", "b"),
            (95_101, UNIT_FAILED, "edge.service: Failed with result 'timeout'.", "a", "b"),
        ],
        &[(Outcome::Ready, Some(Afterwards::Stopped))],
    );
    assert!(stop[0].failures.is_empty(), "{:?}", stop[0].failures);
}

#[test]
fn what_is_said_while_it_stops_or_reloads_is_not_about_a_start() {
    let words = "2031/04/02 06:10:11 [emerg] 7#7: unknown directive \"tide\" in /etc/nginx/nginx.conf:7";
    let list = check(
        &[
            (0, STARTED, "Started", "a", "b"),
            (7000, RELOADING, "Reloading", "a", "b"),
            (7100, "", words, "a", "b"),
            (7200, RELOADED, "Reloaded", "a", "b"),
            (8000, STOPPING, "Stopping", "a", "b"),
            (8100, "", words, "a", "b"),
            (8200, STOPPED, "Stopped", "a", "b"),
            (8300, STARTING, "Starting", "c", "b"),
            (8400, "", words, "c", "b"),
            (8500, FAILED, "Failed to start", "c", "b"),
        ],
        &[(Outcome::Ready, Some(Afterwards::Stopped)), (Outcome::Failed, None)],
    );
    assert_eq!((list[0].failures.len(), list[1].failures.len()), (0, 1));
}

#[test]
fn a_daemon_that_tells_the_manager_nothing_is_ready_when_its_own_words_say_so() {
    let list = read(
        "mysql",
        false,
        &[
            (0, STARTED, "Started", "a", "b"),
            (
                100,
                "",
                "2031-04-02  6:10:11 0 [Note] Starting MariaDB 10.11.19-MariaDB source revision x as process \
                    71",
                "a",
                "b",
            ),
            (4000, "", "2031-04-02  6:10:15 0 [Note] /usr/sbin/mariadbd: ready for connections.", "a", "b"),
        ],
    );
    assert_eq!(
        (list[0].outcome, list[0].ready.map(|r| r - list[0].began)),
        (Outcome::Ready, Some(4_000_000))
    );
    let coming = read("mysql", false, &[(0, STARTED, "Started", "a", "b")]);
    assert_eq!(coming[0].outcome, Outcome::Starting, "the manager's word alone decides nothing here");
}

#[test]
fn what_a_process_said_before_the_manager_told_of_its_start_is_of_that_start() {
    let taken = "cannot listen on 0.0.0.0:7400: Address already in use";
    let list = read(
        "program",
        false,
        &[
            (0, STARTED, "Started", "a", "b"),
            (1, EXITED, "Main process exited exit=exited/1", "a", "b"),
            (2, UNIT_FAILED, "Failed with result 'exit-code'.", "a", "b"),
            (5000, "", taken, "c", "b"),
            (5001, STARTED, "Started", "c", "b"),
            (5002, EXITED, "Main process exited exit=exited/1", "c", "b"),
            (5003, UNIT_FAILED, "Failed with result 'exit-code'.", "c", "b"),
            (6000, "", taken, "d", "b"),
        ],
    );
    let said: Vec<usize> = list.iter().map(|a| a.failures.len()).collect();
    assert_eq!(said, [0, 1], "and what nobody tells of is nobody's");
    assert_eq!(list[1].failures[0].code, Code::PortTaken);
}
