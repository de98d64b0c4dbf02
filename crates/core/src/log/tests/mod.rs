mod alone;
mod chance;
mod files;
mod kinds;
mod record;
mod scan;

use super::{Afterwards, Attempt, AttemptRequest, Outcome, StartedBy, Tail, attempts, count_lines};
use crate::code::Code;
use crate::snapshot::Snapshot;
use crate::tests::TextHost;
use jiff::tz::TimeZone;

const STARTING: &str = "7d4958e842da4a758f6c1cdc7b36dcc5";
const STARTED: &str = "39f53479d3a045ac8e11786248231fbf";
const FAILED: &str = "be02cf6855d2428ba40df7e9d022f03d";
const STOPPING: &str = "de5b426a63be47a7b6ac3eaac82e2f6f";
const STOPPED: &str = "9d1aaa27d60140bd96365438aad20286";
const EXITED: &str = "98e322203f7a4ed290d09fe03c09fe15";
const UNIT_FAILED: &str = "d9b373ed55a64feb8242e02dbe79a49c";
const RELOADING: &str = "d34d037fff1847e6ae669a370e694725";
const RELOADED: &str = "7b05ebc668384222baa8881179cfda54";

fn history(host: &TextHost, kind: &str, unit: bool, files: &[&str]) -> Vec<Attempt> {
    let files: Vec<String> = files.iter().map(|f| (*f).to_owned()).collect();
    let zone = TimeZone::UTC;
    let request = AttemptRequest {
        unit: unit.then_some("edge.service"),
        reports_ready: true,
        ..AttemptRequest::of_files(crate::kinds::kind(kind).unwrap().log_owner(), &files, &zone, 100)
    };
    let mut list = attempts(&Snapshot::new(host), &request).list;
    list.reverse();
    list
}

#[track_caller]
fn check(entries: &[(u64, &str, &str)], expected: &[(Outcome, Option<Afterwards>)]) -> Vec<Attempt> {
    let list = history(&TextHost::new().journal(entries), "nginx", true, &[]);
    let got: Vec<_> = list.iter().map(|a| (a.outcome, a.afterwards)).collect();
    assert_eq!(got, expected);
    list
}

#[test]
fn a_run_from_start_to_stop_with_a_reload_is_one_attempt() {
    let list = check(
        &[
            (1000, STARTING, "Starting"),
            (1250, STARTED, "Started"),
            (2000, RELOADING, "Reloading"),
            (2100, RELOADED, "Reloaded"),
            (9000, STOPPING, "Stopping"),
            (9500, STOPPED, "Stopped"),
        ],
        &[(Outcome::Ready, Some(Afterwards::Stopped))],
    );
    assert_eq!(
        (list[0].ready.unwrap() - list[0].began, list[0].ended.unwrap() - list[0].began),
        (250_000, 8_500_000)
    );
    assert_eq!(list[0].started_by, StartedBy::Manager);
}

#[test]
fn failures_kills_crashes_and_refusals_each_end_as_what_they_are() {
    check(
        &[
            (1000, STARTING, "Starting"),
            (1100, EXITED, "Control process exited exit=exited/1"),
            (1200, FAILED, "Failed to start"),
        ],
        &[(Outcome::Failed, None)],
    );
    check(
        &[
            (1000, STARTED, "Started"),
            (5000, EXITED, "Main process exited exit=killed/KILL"),
            (5001, UNIT_FAILED, "Failed with result 'signal'."),
        ],
        &[(Outcome::Ready, Some(Afterwards::Killed))],
    );
    check(
        &[
            (1000, STARTED, "Started"),
            (5000, EXITED, "Main process exited exit=exited/1"),
            (5001, UNIT_FAILED, "Failed with result 'exit-code'."),
        ],
        &[(Outcome::Ready, Some(Afterwards::Crashed))],
    );
    check(&[(1000, "", "Start request repeated too quickly.")], &[(Outcome::Refused, None)]);
    check(
        &[(1000, STARTED, "edge was skipped because of an unmet condition check")],
        &[(Outcome::Refused, None)],
    );
    check(
        &[(1000, STARTING, "Starting"), (2000, STOPPING, "Stopping"), (2100, STOPPED, "Stopped")],
        &[(Outcome::Stopped, None)],
    );
    check(
        &[
            (1000, STARTING, "Starting"),
            (1500, EXITED, "Control process exited exit=killed/TERM"),
            (1600, FAILED, "Failed to start"),
        ],
        &[(Outcome::Killed, None)],
    );
    let crash = check(
        &[
            (1000, STARTING, "Starting"),
            (1500, EXITED, "Main process exited exit=dumped/SEGV"),
            (1600, FAILED, "Failed to start"),
        ],
        &[(Outcome::Failed, None)],
    );
    assert_eq!(crash[0].failures[0].code, Code::Crashed);
    let dependency = check(&[(1000, FAILED, "Dependency failed for edge")], &[(Outcome::Refused, None)]);
    assert_eq!(dependency[0].failures[0].code, Code::DependencyDown);
}

#[test]
fn the_daemons_words_belong_to_their_attempt_and_aftermath_comes_last() {
    let list = check(
        &[
            (1000, STARTING, "Starting"),
            (1010, "", "nginx: configuration file /etc/nginx/nginx.conf test failed"),
            (
                1011,
                "",
                "2031/04/02 06:10:11 [emerg] 7#7: bind() to 0.0.0.0:80 failed (98: Address already in use)",
            ),
            (1300, FAILED, "Failed to start"),
            (3000, STARTING, "Starting"),
            (3100, STARTED, "Started"),
        ],
        &[(Outcome::Failed, None), (Outcome::Ready, None)],
    );
    assert_eq!(list[0].failures.len(), 1, "{:?}", list[0].failures);
    assert_eq!(
        (list[0].failures[0].code, list[0].failures[0].found.object("port")),
        (Code::PortTaken, Some("80"))
    );
    assert!(list[1].failures.is_empty());
}

#[test]
fn a_line_that_no_rule_knows_is_shown_and_not_hidden() {
    let list = check(
        &[
            (1000, STARTING, "Starting"),
            (1010, "", "the tide gauge speaks in tongues"),
            (1300, FAILED, "Failed to start"),
        ],
        &[(Outcome::Failed, None)],
    );
    assert_eq!(
        (list[0].failures[0].code, list[0].failures[0].text.as_str()),
        (Code::Unknown, "the tide gauge speaks in tongues")
    );
}

#[test]
fn runs_of_httpd_are_read_from_its_own_log_and_a_graceful_restart_is_none() {
    let text = "[Wed Apr 02 06:00:00.000100 2031] [mpm_event:notice] [pid 7:tid 8] AH00489: Apache \
        configured -- resuming normal operations\n\
                [Wed Apr 02 07:00:00.000100 2031] [mpm_event:notice] [pid 7:tid 8] AH00493: SIGUSR1 \
                received.  Doing graceful restart\n\
                [Wed Apr 02 07:00:00.200100 2031] [mpm_event:notice] [pid 7:tid 8] AH00489: Apache \
                configured -- resuming normal operations\n\
                [Wed Apr 02 08:00:00.000100 2031] [mpm_event:notice] [pid 7:tid 8] AH00492: caught \
                SIGWINCH, shutting down gracefully\n\
                [Wed Apr 02 09:00:00.000100 2031] [mpm_event:notice] [pid 9:tid 8] AH00489: Apache \
                configured -- resuming normal operations\n";
    let list = history(&TextHost::new().file("/log", text), "httpd", false, &["/log"]);
    let got: Vec<_> = list.iter().map(|a| (a.outcome, a.afterwards, a.logs[0].first_line)).collect();
    assert_eq!(got, [(Outcome::Ready, Some(Afterwards::Stopped), Some(1)), (Outcome::Ready, None, Some(5))]);
}

#[test]
fn lines_come_backwards_whole_whatever_the_blocks() {
    let lines: Vec<String> = (0..5000).map(|n| format!("{n}: {}", "x".repeat(n % 97))).collect();
    for ending in ["", "\n"] {
        let text = lines.join("\n") + ending;
        let host = TextHost::new().file("/log", &text);
        let snapshot = Snapshot::new(&host);
        let mut read: Vec<_> = Tail::new(&snapshot, "/log", text.len() as u64, u64::MAX).collect();
        read.reverse();
        assert_eq!(read.iter().map(|l| l.text.as_str()).collect::<Vec<_>>(), lines);
        assert!(read.iter().all(|l| text[usize::try_from(l.start).unwrap()..].starts_with(&l.text)));
        assert_eq!(count_lines(&snapshot, "/log", read[4000].start, u64::MAX), Some(4000));
    }
}

#[test]
fn a_log_of_one_endless_line_or_of_nothing_is_read_within_bounds() {
    for (text, most) in [("".to_owned(), 0), ("\n\n\n".to_owned(), 3), ("y".repeat(300_000), 6)] {
        let host = TextHost::new().file("/log", &text);
        let snapshot = Snapshot::new(&host);
        let lines = Tail::new(&snapshot, "/log", text.len() as u64, u64::MAX).count();
        assert!(lines <= most, "{lines} lines of {} bytes", text.len());
    }
}
