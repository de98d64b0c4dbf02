//! Logs as files: rotation, packings, stamps without year or zone, structured records, long histories read
//! from either end.
use super::{STARTED, STARTING, history};
use crate::code::Code;
use crate::log::{Afterwards, Around, Attempt, AttemptRequest, Outcome, StartedBy, attempts};
use crate::snapshot::Snapshot;
use crate::tests::{NOW, TextHost};
use jiff::tz::TimeZone;
use std::io::Write;

fn gzip(text: &str) -> Vec<u8> {
    let mut out = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::default());
    out.write_all(text.as_bytes()).unwrap();
    out.finish().unwrap()
}

/// A run of redis that begins at a second of the day, one line for each of its stages.
fn run(day: u32, second: u32, pid: u32, stop: bool) -> String {
    let stamp = |ms: u32| {
        let at = second * 1000 + ms;
        format!(
            "{day:02} Apr 2031 {:02}:{:02}:{:02}.{:03}",
            at / 3_600_000,
            at / 60_000 % 60,
            at / 1000 % 60,
            at % 1000
        )
    };
    let mut text = format!(
        "{pid}:C {} # oO0OoO0OoO0Oo Redis is starting oO0OoO0OoO0Oo\n\
            {pid}:M {} * Ready to accept connections\n",
        stamp(0),
        stamp(50)
    );
    if stop {
        text += &format!(
            "{pid}:M {} # User requested shutdown...\n{pid}:M {} # Redis is now ready to exit, bye bye...\n",
            stamp(9000),
            stamp(9100)
        );
    }
    text
}

fn of(host: &TextHost, most: usize) -> Vec<Attempt> {
    let files = ["/var/log/redis.log".to_owned()];
    let kind = crate::kinds::kind("redis").unwrap();
    let zone = TimeZone::UTC;
    let request = AttemptRequest::of_files(kind.log_owner(), &files, &zone, most);
    attempts(&Snapshot::new(host), &request).list
}

#[test]
fn predecessors_are_read_too_and_a_seam_inside_an_attempt_does_not_tear_it() {
    let whole: Vec<String> = (1..=4).map(|d| run(d, 1000, d + 10, true)).collect();
    let (first, rest) = whole[2].split_at(whole[2].find('\n').unwrap() + 1);
    let host = TextHost::new()
        .bytes("/var/log/redis.log.2.gz", &gzip(&whole[0]))
        .file("/var/log/redis.log.1", &format!("{}{first}", whole[1]))
        .file("/var/log/redis.log", &format!("{rest}{}", whole[3]));
    let list = of(&host, 100);
    assert_eq!(list.len(), 4);
    assert!(
        list.iter().all(|a| a.outcome == Outcome::Ready && a.afterwards == Some(Afterwards::Stopped)),
        "{list:?}"
    );
    let torn: Vec<&str> = list[1].logs.iter().map(|l| l.file.as_str()).collect();
    assert_eq!(torn, ["/var/log/redis.log.1", "/var/log/redis.log"]);
    let packed = &list[3].logs[0];
    assert_eq!(
        (packed.file.as_str(), packed.first_line, packed.first_byte),
        ("/var/log/redis.log.2.gz", Some(1), None)
    );
}

#[test]
fn the_last_attempts_are_those_of_the_whole_history_however_they_are_read() {
    let noise: String = (0..3000)
        .map(|n| {
            format!(
                "7:M 01 Apr 2031 00:00:{:02}.000 - the tide stands at {n} cm, nothing else to tell\n",
                n % 60
            )
        })
        .collect();
    let text: String = (0..30)
        .map(|n| {
            run(2, 100 + n * 100, 500 + n, n % 3 != 0)
                + &noise.replace("01 Apr 2031 00:00", &format!("02 Apr 2031 01:{n:02}"))
        })
        .collect();
    let host = TextHost::new().file("/var/log/redis.log", &text);
    let whole = of(&host, 1000);
    assert_eq!(whole.len(), 30);
    for most in [1, 2, 7, 29, 30, 31] {
        let last = of(&host, most);
        let brief = |l: &[Attempt]| {
            l.iter().map(|a| (a.began, a.outcome, a.afterwards, a.ended, a.logs.clone())).collect::<Vec<_>>()
        };
        assert_eq!(brief(&last), brief(&whole[..most.min(30)]), "the last {most}");
    }
}

#[test]
fn only_the_pieces_that_are_needed_are_unpacked() {
    let host = TextHost::new()
        .bytes("/var/log/redis.log.1.gz", b"no packing at all")
        .file("/var/log/redis.log", &run(2, 100, 7, true));
    let files = ["/var/log/redis.log".to_owned()];
    let kind = crate::kinds::kind("redis").unwrap();
    let zone = TimeZone::UTC;
    let ask = |most| {
        let request = AttemptRequest {
            count_all: false,
            ..AttemptRequest::of_files(kind.log_owner(), &files, &zone, most)
        };
        attempts(&Snapshot::new(&host), &request)
    };
    assert!(ask(1).remarks.is_empty(), "the last attempt stands in the plain file");
    let all = ask(1000);
    assert_eq!((all.list.len(), all.remarks.len()), (1, 1));
    assert!(
        all.remarks[0].contains("redis.log.1.gz") && all.remarks[0].contains("damaged"),
        "{:?}",
        all.remarks
    );
}

#[test]
fn stamps_without_a_year_are_placed_before_the_last_change_of_their_file() {
    let text = "Dec 31 23:59:50 quay1 redis-server[7]: 7:C 31 Dec 2030 23:59:50.000 # oO0OoO0OoO0Oo Redis is \
        starting oO0OoO0OoO0Oo\n\
                Dec 31 23:59:51 quay1 redis[7]: Ready to accept connections\n\
                Jan  1 00:10:00 quay1 gauge-sim[9]: Redis is starting oO0OoO0OoO0Oo\n\
                Jan  1 00:20:00 quay1 redis[7]: User requested shutdown...\n";
    let changed = "2031-01-01T00:20:00Z".parse::<jiff::Timestamp>().unwrap();
    let host =
        TextHost::new().file("/var/log/redis.log", text).modified("/var/log/redis.log", changed.as_second());
    let list = of(&host, 100);
    assert_eq!(list.len(), 1, "another program's words are not ours: {list:?}");
    let when = |t: i64| jiff::Timestamp::from_microsecond(t).unwrap().to_string();
    assert_eq!(when(list[0].began), "2030-12-31T23:59:50Z");
    assert_eq!(list[0].ended.map(when).as_deref(), Some("2031-01-01T00:20:00Z"));
}

#[test]
fn structured_records_are_lines_like_others() {
    let record = |at: &str, more: &str, severity: &str, message: &str| {
        format!(
            "{{\"timestamp\":\"2031-04-02 {at} \
                UTC\",{more}\"error_severity\":\"{severity}\",\"message\":\"{message}\"}}"
        )
    };
    let own = "\"pid\":71,";
    let held = r#"could not bind IPv4 address \"127.0.0.1\": Address already in use"#;
    let client = "\"user\":\"marta\",\"pid\":99,";
    let text = [
        record("06:10:11.100", own, "LOG", "starting PostgreSQL 15.20 on x86_64-pc-linux-gnu"),
        record("06:10:11.150", own, "LOG", held),
        record("06:10:11.160", own, "FATAL", "could not create any TCP/IP sockets"),
        record("06:10:11.170", own, "LOG", "database system is shut down"),
        record("07:10:11.170", client, "LOG", "statement: select 'starting PostgreSQL'"),
        "{\"timestamp\": cut off".to_owned(),
    ]
    .join("\n");
    let list = history(&TextHost::new().file("/log", &text), "postgresql", false, &["/log"]);
    assert_eq!(list.len(), 1, "{list:?}");
    assert_eq!((list[0].outcome, list[0].failures[0].code), (Outcome::Failed, Code::PortTaken));
    let table = "2031-04-02 06:10:11.100 UTC,,,71,,643c.47,1,,2031-04-02 06:10:11 \
        UTC,,0,LOG,00000,\"starting PostgreSQL 15.20 on x86_64\",,,,,,,,,\"\",\"postmaster\",,0\n\
                 2031-04-02 06:10:11.300 UTC,,,71,,643c.47,2,,2031-04-02 06:10:11 \
                 UTC,,0,LOG,00000,\"database system is ready to accept \
                 connections\",,,,,,,,,\"\",\"postmaster\",,0\n";
    let list = history(&TextHost::new().file("/log", table), "postgresql", false, &["/log"]);
    assert_eq!((list.len(), list[0].outcome, list[0].pid), (1, Outcome::Ready, Some(71)));
}

#[test]
fn where_the_clock_shows_an_hour_twice_the_line_before_decides() {
    let zone = TimeZone::posix("CET-1CEST,M3.5.0,M10.5.0/3").unwrap();
    let grammar = crate::kinds::kind("php-fpm").unwrap().grammar();
    let line = "[26-Oct-2031 02:30:00] NOTICE: fpm is running, pid 7";
    let at = |before: Option<&str>| {
        let before = before.map(|t| t.parse::<jiff::Timestamp>().unwrap().as_microsecond());
        let head = grammar.head(line, Around { zone: &zone, before, latest: None }).unwrap();
        jiff::Timestamp::from_microsecond(head.time).unwrap().to_string()
    };
    assert_eq!(at(None), "2031-10-26T00:30:00Z");
    assert_eq!(at(Some("2031-10-26T00:10:00Z")), "2031-10-26T00:30:00Z", "the first time");
    assert_eq!(at(Some("2031-10-26T00:50:00Z")), "2031-10-26T01:30:00Z", "the second time");
}

#[test]
fn a_log_whose_clock_runs_otherwise_is_laid_over_the_managers_record() {
    let base = NOW - 100;
    let stamp = |ms: i64, hours: i64| {
        let when = jiff::Timestamp::from_millisecond(base * 1000 + ms + hours * 3_600_000).unwrap();
        when.strftime("%d %b %Y %H:%M:%S.%3f").to_string()
    };
    let mut text = String::new();
    for at in [1000, 40_000] {
        text += &format!(
            "7:C {} # oO0OoO0OoO0Oo Redis is starting oO0OoO0OoO0Oo\n7:M {} * Ready to accept connections\n",
            stamp(at + 20, 5),
            stamp(at + 90, 5)
        );
    }
    let record = [
        (1000, STARTING, "Starting"),
        (1100, STARTED, "Started"),
        (40_000, STARTING, "Starting"),
        (40_100, STARTED, "Started"),
    ];
    let host = TextHost::new().journal(&record).file("/var/log/redis.log", &text);
    let files = ["/var/log/redis.log".to_owned()];
    let zone = TimeZone::UTC;
    let kind = crate::kinds::kind("redis").unwrap();
    let request = AttemptRequest {
        unit: Some("edge.service"),
        reports_ready: true,
        ..AttemptRequest::of_files(kind.log_owner(), &files, &zone, 100)
    };
    let found = attempts(&Snapshot::new(&host), &request);
    assert_eq!(found.list.len(), 2, "{:?}", found.list);
    assert!(
        found
            .list
            .iter()
            .all(|a| a.started_by == StartedBy::Manager && a.logs.iter().any(|l| l.file == files[0]))
    );
    assert!(found.remarks.iter().any(|r| r.contains("5 h ahead of")), "{:?}", found.remarks);
}

#[test]
fn starts_of_one_second_are_told_apart_by_their_process() {
    let bind = |pid: u32| {
        format!(
            "2031/04/02 06:10:11 [emerg] {pid}#{pid}: bind() to 0.0.0.0:80 failed (98: Address already in \
                use)\n"
        )
    };
    let text = [bind(7), bind(7), bind(7), bind(8), bind(8)].concat();
    let list = history(&TextHost::new().file("/log", &text), "nginx", false, &["/log"]);
    assert_eq!(
        list.iter().map(|a| (a.outcome, a.pid)).collect::<Vec<_>>(),
        [(Outcome::Failed, Some(7)), (Outcome::Failed, Some(8))]
    );
}

#[test]
fn a_run_that_died_by_itself_says_so() {
    let text = "2031-04-02  6:10:11 0 [Note] Starting MariaDB 10.11.19-MariaDB source revision x as process \
        71\n\
                2031-04-02  6:10:12 0 [Note] /usr/sbin/mariadbd: ready for connections.\n\
                310402  9:00:00 [ERROR] /usr/sbin/mariadbd got signal 11 ;\n\
                Sorry, we probably made a mistake, and this is a bug.\n";
    let list = history(&TextHost::new().file("/log", text), "mysql", false, &["/log"]);
    assert_eq!(
        (list.len(), list[0].outcome, list[0].afterwards),
        (1, Outcome::Ready, Some(Afterwards::Crashed))
    );
}

#[test]
fn a_manager_that_is_told_nothing_is_corrected_by_the_log_and_by_time() {
    let request = |host: &TextHost, kind: &str, files: &[String]| {
        let zone = TimeZone::UTC;
        let kind = crate::kinds::kind(kind).unwrap();
        let request = AttemptRequest {
            unit: Some("edge.service"),
            reports_ready: false,
            ..AttemptRequest::of_files(kind.log_owner(), files, &zone, 100)
        };
        attempts(&Snapshot::new(host), &request).list
    };
    let died = TextHost::new().journal(&[
        (1000, STARTED, "Started"),
        (1010, "", "Error: Unable to access jarfile /opt/boarding/boarding.jar"),
        (2000, super::EXITED, "Main process exited exit=exited/1"),
        (2001, super::UNIT_FAILED, "Failed with result 'exit-code'."),
    ]);
    let list = request(&died, "java", &[]);
    assert_eq!(
        (list[0].outcome, list[0].afterwards, list[0].failures[0].code),
        (Outcome::Failed, None, Code::ProgramMissing)
    );
    let slow = TextHost::new().journal(&[(1000, STARTED, "Started")]).file(
        "/log",
        &format!(
            "{} INFO [main] org.apache.catalina.startup.VersionLoggerListener.log Server version \
                name:   Apache Tomcat/10.1.60\n\
                {} INFO [main] org.apache.catalina.startup.Catalina.start Server startup in [42000] \
                milliseconds\n",
            jiff::Timestamp::from_second(NOW - 99).unwrap().strftime("%d-%b-%Y %H:%M:%S.000"),
            jiff::Timestamp::from_second(NOW - 55).unwrap().strftime("%d-%b-%Y %H:%M:%S.000")
        ),
    );
    let list = request(&slow, "tomcat", &["/log".to_owned()]);
    assert_eq!((list.len(), list[0].outcome), (1, Outcome::Ready));
    assert_eq!(
        list[0].ready.map(|r| (r - list[0].began) / 1_000_000),
        Some(44),
        "ready when its log says so, not when the manager does"
    );
}

#[test]
fn a_start_that_fails_without_an_announcement_is_no_refusal() {
    let host = TextHost::new().journal(&[
        (1000, "", "Start request repeated too quickly."),
        (1001, super::UNIT_FAILED, "Failed with result 'exit-code'."),
        (1002, super::FAILED, "Failed to start"),
        (9000, super::FAILED, "Failed to start"),
    ]);
    let list = history(&host, "nginx", true, &[]);
    assert_eq!(list.iter().map(|a| a.outcome).collect::<Vec<_>>(), [Outcome::Refused, Outcome::Failed]);
}

#[test]
fn strange_bytes_change_nothing() {
    let clean = run(2, 100, 7, true) + &run(2, 200, 8, false);
    let strange = clean.replace('\n', "\r\n") + "\0\0\u{1b}[31m" + &"z".repeat(200_000);
    let brief = |text: &str| {
        of(&TextHost::new().file("/var/log/redis.log", text), 100)
            .iter()
            .map(|a| (a.began, a.outcome, a.afterwards))
            .collect::<Vec<_>>()
    };
    assert_eq!(brief(&clean), brief(&strange));
    let endless = "y".repeat(700_000) + "\n" + &clean;
    assert_eq!(brief(&clean), brief(&endless));
}

#[test]
fn starts_that_follow_each_other_within_a_second_keep_their_own_words() {
    let second = jiff::Timestamp::from_second(NOW - 99).unwrap().strftime("%Y-%m-%d %k:%M:%S").to_string();
    let start = |process: u32, error: &str| {
        format!(
            "{second} 0 [Note] Starting MariaDB 10.11.19-MariaDB source revision x as process {process}\n\
                {second} 0 [ERROR] {error}\n{second} 0 [ERROR] Aborting\n"
        )
    };
    let unknown = "/usr/sbin/mariadbd: unknown variable 'tide_gauge=1'";
    let bind = "Can't start server: Bind on TCP/IP port. Got error: 98: Address already in use";
    let text = start(7, unknown) + &start(8, bind) + &start(9, unknown);
    let mut record = Vec::new();
    for at in [1000, 1350, 1700] {
        record.extend([(at, STARTING, "Starting"), (at + 300, super::FAILED, "Failed to start")]);
    }
    let list = history(&TextHost::new().journal(&record).file("/log", &text), "mysql", true, &["/log"]);
    let codes: Vec<_> =
        list.iter().map(|a| a.failures.iter().find(|f| f.is_cause()).map(|f| f.code)).collect();
    assert_eq!(
        codes,
        [Some(Code::ConfigUnknownDirective), Some(Code::PortTaken), Some(Code::ConfigUnknownDirective)]
    );
}
