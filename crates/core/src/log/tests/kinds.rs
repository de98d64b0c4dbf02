//! Histories of each kind's own log, in the words and stamps of the real daemons.
use super::history;
use crate::code::Code;
use crate::log::{Afterwards, Attempt, Outcome};
use crate::tests::TextHost;

/// Outcome and what became of it, first to last.
fn told(list: &[Attempt]) -> Vec<(Outcome, Option<Afterwards>)> {
    list.iter().map(|a| (a.outcome, a.afterwards)).collect()
}

fn of_file(kind: &str, lines: &[&str]) -> Vec<Attempt> {
    history(&TextHost::new().file("/log", &(lines.join("\n") + "\n")), kind, false, &["/log"])
}

fn codes(attempt: &Attempt) -> Vec<Code> {
    attempt.failures.iter().filter(|f| !f.found.aftermath).map(|f| f.code).collect()
}

#[test]
fn mysql_pads_its_hours_and_names_the_first_cause_first() {
    let list = of_file(
        "mysql",
        &[
            "2031-04-02  6:10:11 0 [Note] Starting MariaDB 10.11.19-MariaDB source revision x as process 71",
            "2031-04-02  6:10:11 0 [Warning] Could not increase number of max_open_files to more than 20000 \
                (request: 32184)",
            "2031-04-02  6:10:12 0 [Note] /usr/sbin/mariadbd: ready for connections.",
            "2031-04-02 17:00:00 0 [Note] /usr/sbin/mariadbd (initiated by: unknown): Normal shutdown",
            "2031-04-02 17:00:01 0 [Note] /usr/sbin/mariadbd: Shutdown complete",
            "2031-04-02 18:00:00 0 [Note] Starting MariaDB 10.11.19-MariaDB source revision x as process 93",
            "2031-04-02 18:00:01 0 [ERROR] mariadbd: Got error 'Size of control file is smaller than \
                expected' when trying to use aria control file '/var/lib/mysql/aria_log_control'",
            "2031-04-02 18:00:01 0 [ERROR] Plugin 'Aria' registration as a STORAGE ENGINE failed.",
            "2031-04-02 18:00:01 0 [ERROR] Failed to initialize plugins.",
            "2031-04-02 18:00:01 0 [ERROR] Aborting",
        ],
    );
    assert_eq!(told(&list)[0], (Outcome::Ready, Some(Afterwards::Stopped)));
    assert_eq!((list.len(), list[1].outcome), (2, Outcome::Failed));
    assert_eq!(codes(&list[1]), [Code::DataDamaged]);
    assert_eq!(list[0].ready.unwrap() - list[0].began, 1_000_000);
}

#[test]
fn postgresql_ends_failed_starts_with_the_words_of_a_stop() {
    let list = of_file(
        "postgresql",
        &[
            "2031-04-02 06:10:11.100 UTC [71] LOG:  starting PostgreSQL 15.20 on x86_64-pc-linux-gnu",
            "2031-04-02 06:10:11.300 UTC [71] LOG:  database system is ready to accept connections",
            "2031-04-02 07:00:00.000 UTC [71] LOG:  received fast shutdown request",
            "2031-04-02 07:00:01.000 UTC [71] LOG:  database system is shut down",
            "2031-04-02 08:00:00.000 UTC [88] LOG:  starting PostgreSQL 15.20 on x86_64-pc-linux-gnu",
            "2031-04-02 08:00:00.010 UTC [88] LOG:  could not bind IPv4 address \"127.0.0.1\": Address \
                already in use",
            "2031-04-02 08:00:00.010 UTC [88] HINT:  Is another postmaster already running on port 5432? If \
                not, wait a few seconds and retry.",
            "2031-04-02 08:00:00.011 UTC [88] FATAL:  could not create any TCP/IP sockets",
            "2031-04-02 08:00:00.012 UTC [88] LOG:  database system is shut down",
        ],
    );
    assert_eq!(told(&list)[0], (Outcome::Ready, Some(Afterwards::Stopped)));
    assert_eq!((list.len(), list[1].outcome), (2, Outcome::Failed));
    let failure = &list[1].failures[0];
    assert_eq!(
        (failure.code, failure.found.object("address"), failure.found.object("port")),
        (Code::PortTaken, Some("127.0.0.1"), Some("5432"))
    );
}

#[test]
fn a_record_whose_stamp_no_calendar_holds_tells_nothing_and_stops_nothing() {
    for stamp in ["1e300", "-1e300", "9.3e18", "-9.3e18", "1e999"] {
        let lines: Vec<String> = ["starting PostgreSQL 15", "database system is ready to accept connections"]
            .iter()
            .map(|m| {
                format!("{{\"timestamp\":{stamp},\"pid\":71,\"error_severity\":\"LOG\",\"message\":\"{m}\"}}")
            })
            .collect();
        let lines: Vec<&str> = lines.iter().map(String::as_str).collect();
        assert!(of_file("postgresql", &lines).is_empty(), "{stamp}");
    }
}

#[test]
fn a_zone_that_postgresql_changes_while_it_runs_moves_no_end() {
    let list = of_file(
        "postgresql",
        &[
            "2031-04-02 06:10:11.100 UTC [71] LOG:  starting PostgreSQL 15.20 on x86_64-pc-linux-gnu",
            "2031-04-02 06:10:11.300 UTC [71] LOG:  database system is ready to accept connections",
            "2031-04-02 06:30:00.000 UTC [71] LOG:  received SIGHUP, reloading configuration files",
            "2031-04-02 06:30:00.000 UTC [71] LOG:  parameter \"log_timezone\" changed to \"Asia/Tokyo\"",
            "2031-04-02 16:00:00.000 JST [71] LOG:  received fast shutdown request",
            "2031-04-02 16:00:01.000 JST [71] LOG:  database system is shut down",
            "2031-04-02 16:05:00.000 JST [88] LOG:  starting PostgreSQL 15.20 on x86_64-pc-linux-gnu",
            "2031-04-02 16:05:00.300 JST [88] LOG:  database system is ready to accept connections",
            "2031-04-02 16:30:00.000 JST [88] LOG:  received SIGHUP, reloading configuration files",
            "2031-04-02 16:30:00.000 JST [88] LOG:  parameter \"log_timezone\" changed to \
                \"America/New_York\"",
            "2031-04-02 04:00:00.000 EDT [88] LOG:  received fast shutdown request",
            "2031-04-02 04:00:01.000 EDT [88] LOG:  database system is shut down",
        ],
    );
    let minute = |t: Option<i64>| {
        t.map(|t| jiff::Timestamp::from_microsecond(t).unwrap().strftime("%H:%M").to_string())
    };
    let spans: Vec<_> = list.iter().map(|a| (minute(Some(a.began)), minute(a.ended))).collect();
    let at = |t: &str| Some(t.to_owned());
    assert_eq!(spans, [(at("06:10"), at("07:00")), (at("07:05"), at("08:00"))]);
    assert!(told(&list).iter().all(|t| *t == (Outcome::Ready, Some(Afterwards::Stopped))));
}

#[test]
fn redis_begins_with_its_own_words_and_ends_politely() {
    let list = of_file(
        "redis",
        &[
            "71:C 02 Apr 2031 06:10:11.100 # oO0OoO0OoO0Oo Redis is starting oO0OoO0OoO0Oo",
            "71:M 02 Apr 2031 06:10:11.140 # WARNING Memory overcommit must be enabled! Without it, a \
                background save may fail",
            "71:M 02 Apr 2031 06:10:11.150 * Ready to accept connections",
            "71:M 02 Apr 2031 09:00:00.000 # User requested shutdown...",
            "71:M 02 Apr 2031 09:00:00.100 # Redis is now ready to exit, bye bye...",
            "90:C 02 Apr 2031 10:00:00.000 # oO0OoO0OoO0Oo Redis is starting oO0OoO0OoO0Oo",
            "90:M 02 Apr 2031 10:00:00.010 # Can't handle RDB format version 99",
            "90:M 02 Apr 2031 10:00:00.010 # Fatal error loading the DB: Invalid argument. Exiting.",
        ],
    );
    assert_eq!(told(&list)[0], (Outcome::Ready, Some(Afterwards::Stopped)));
    assert_eq!(codes(&list[1]), [Code::DataVersion]);
    assert_eq!(list[0].harmless, 1, "a warning of every healthy start is no failure");
}

#[test]
fn a_reload_of_the_pools_is_no_new_start() {
    let list = of_file(
        "php-fpm",
        &[
            "[02-Apr-2031 06:10:11] NOTICE: fpm is running, pid 71",
            "[02-Apr-2031 06:10:11] NOTICE: ready to handle connections",
            "[02-Apr-2031 07:00:00] NOTICE: Reloading in progress ...",
            "[02-Apr-2031 07:00:00] NOTICE: reloading: execvp(\"/usr/sbin/php-fpm8.2\")",
            "[02-Apr-2031 07:00:00] NOTICE: fpm is running, pid 71",
            "[02-Apr-2031 07:00:00] NOTICE: ready to handle connections",
            "[02-Apr-2031 08:00:00] NOTICE: Terminating ...",
            "[02-Apr-2031 08:00:00] NOTICE: exiting, bye-bye!",
        ],
    );
    assert_eq!(told(&list), [(Outcome::Ready, Some(Afterwards::Stopped))]);
}

#[test]
fn tomcat_is_ready_when_it_says_so_and_complains_about_a_connector_before() {
    let list = of_file(
        "tomcat",
        &[
            "02-Apr-2031 06:10:11.123 INFO [main] org.apache.catalina.startup.VersionLoggerListener.log \
                Server version name:   Apache Tomcat/10.1.60",
            "02-Apr-2031 06:10:12.000 SEVERE [main] \
                org.apache.catalina.util.LifecycleBase.handleSubClassException Failed to initialize \
                component [Connector[\"http-nio-8080\"]]",
            "\torg.apache.catalina.LifecycleException: Protocol handler initialization failed",
            "\t\tat org.apache.catalina.connector.Connector.initInternal(Connector.java:1049)",
            "\tCaused by: java.net.BindException: Address already in use",
            "\t\tat java.base/sun.nio.ch.Net.bind0(Native Method)",
            "02-Apr-2031 06:10:15.000 INFO [main] org.apache.catalina.startup.Catalina.start Server startup \
                in [2877] milliseconds",
        ],
    );
    assert_eq!((list.len(), list[0].outcome), (1, Outcome::Ready));
    let failure = &list[0].failures[0];
    assert_eq!((failure.code, failure.found.object("port")), (Code::PortTaken, Some("8080")), "{failure:?}");
}

#[test]
fn a_second_line_that_no_rule_knows_does_not_lose_the_first() {
    let list = super::check(
        &[
            (1000, super::STARTING, "Starting"),
            (1010, "", "Reading the configuration file, at line 12"),
            (1011, "", ">>> 'tide high'"),
            (1012, "", "something that nobody ever said"),
            (1300, super::FAILED, "Failed to start"),
        ],
        &[(Outcome::Failed, None)],
    );
    assert!(
        list[0].failures.iter().all(|f| f.code == Code::Unknown),
        "these are words of another kind: {:?}",
        list[0].failures
    );
    let host = TextHost::new().journal(&[
        (1000, super::STARTING, "Starting"),
        (1010, "", "Reading the configuration file, at line 12"),
        (1011, "", ">>> 'tide high'"),
        (1012, "", "something that nobody ever said"),
        (1300, super::FAILED, "Failed to start"),
    ]);
    let list = history(&host, "redis", true, &[]);
    let failure = &list[0].failures[0];
    assert_eq!(
        (failure.code, failure.found.object("line"), failure.found.object("directive")),
        (Code::ConfigBadValue, Some("12"), Some("tide"))
    );
    assert!(failure.text.ends_with("something that nobody ever said"), "{}", failure.text);
}

#[test]
fn a_first_line_whose_second_was_lost_does_not_lead_nor_stand_beside_its_whole_copy() {
    let head =
        "SEVERE [main] org.apache.tomcat.util.digester.Digester.startElement Begin event threw exception";
    let stamp = jiff::Timestamp::from_second(crate::tests::NOW - 98).unwrap();
    let stamp = stamp.strftime("%d-%b-%Y %H:%M:%S.100").to_string();
    let lost = "java.lang.OutOfMemoryError: Metaspace";
    let told = |file: &str, journal: &[&str]| {
        let mut lines = vec![(1000, super::STARTING, "Starting")];
        lines.extend(journal.iter().map(|line| (2100, "", *line)));
        lines.push((4300, super::FAILED, "Failed to start"));
        let host = TextHost::new().file("/log", file).journal(&lines);
        let list = history(&host, "tomcat", true, &["/log"]);
        codes(list.last().unwrap())
    };
    let (whole, bare) = (format!("{stamp} {head}\n\t{lost}\n"), format!("{stamp} {head}\n"));
    assert_eq!(told(&whole, &[head]), [Code::MemoryShort]);
    assert_eq!(told(&bare, &[head, lost]), [Code::MemoryShort]);
    // Where nothing else is known, it is what is known.
    assert_eq!(told(&bare, &[head])[..1], [Code::ConfigBadValue]);
}

#[test]
fn loaders_and_launchers_are_understood_for_every_kind() {
    for (line, code) in [
        (
            "/usr/sbin/edge: error while loading shared libraries: libtide.so.1: cannot open shared object \
                file: No such file or directory",
            Code::ProgramMissing,
        ),
        ("/opt/boarding/run.sh: 12: exec: /opt/jdk/bin/java: not found", Code::ProgramMissing),
        ("Error: Unable to access jarfile /opt/boarding/boarding.jar", Code::ProgramMissing),
        ("Could not reserve enough space for 943718400KB object heap", Code::MemoryShort),
        ("Unrecognized VM option 'TideGauge'", Code::ConfigBadValue),
    ] {
        for kind in ["java", "program", "nginx"] {
            let host = TextHost::new().journal(&[
                (1000, super::STARTING, "Starting"),
                (1010, "", line),
                (1300, super::FAILED, "Failed to start"),
            ]);
            let list = history(&host, kind, true, &[]);
            assert_eq!(list[0].failures.first().map(|f| f.code), Some(code), "{kind}: {line}");
        }
    }
}

#[test]
fn a_line_that_two_attempts_of_one_second_could_have_said_belongs_to_the_one_that_said_it() {
    let words =
        "ERROR: unable to bind listening socket for address '127.0.0.1:9000': Address already in use (98)";
    // The journal's clock begins a hundred seconds before the moment at which every test host is looked at.
    let stamp = |ms: i64| {
        let when = jiff::Timestamp::from_second(crate::tests::NOW - 100 + ms / 1000).unwrap();
        when.strftime("[%d-%b-%Y %H:%M:%S]").to_string()
    };
    let host = TextHost::new()
        .journal(&[
            (1000, super::STARTING, "Starting"),
            (1100, "", &format!("{} {words}", stamp(1100))),
            (1200, super::FAILED, "Failed to start"),
            (1600, super::STARTING, "Starting"),
            (1700, super::STARTED, "Started"),
        ])
        .file(
            "/log",
            &format!("{} {words}\n{} NOTICE: ready to handle connections\n", stamp(1100), stamp(1700)),
        );
    let list = history(&host, "php-fpm", true, &["/log"]);
    assert_eq!(told(&list), [(Outcome::Failed, None), (Outcome::Ready, None)]);
    assert_eq!((list[0].failures.len(), list[1].failures.len()), (1, 0), "{:?}", list[1].failures);
}

#[test]
fn the_usual_layouts_of_log_libraries_are_read_of_programs_that_nobody_knows() {
    let zone = jiff::tz::TimeZone::posix("CET-1CEST,M3.5.0,M10.5.0/3").unwrap();
    let latest = "2031-04-02T09:00:00Z".parse::<jiff::Timestamp>().unwrap().as_microsecond();
    let around = crate::log::Around { latest: Some(latest), ..crate::log::Around::zone(&zone) };
    let grammar = crate::kinds::kind("program").unwrap().grammar();
    // The same second in all of them; what is left of the line behind its head.
    for (line, level, rest) in [
        ("2031-04-02T06:10:11Z relay up", "", "relay up"),
        ("2031-04-02T08:10:11.123+0200 INFO relay up", "info", "relay up"),
        (
            "2031-04-02T06:10:11.123Z  INFO 7 --- [main] f.Relay : relay up",
            "info",
            "7 --- [main] f.Relay : relay up",
        ),
        ("2031-04-02T08:10:11,123 [main] WARN relay up", "warn", "relay up"),
        ("2031-04-02 08:10:11,123 ERROR relay up", "error", "relay up"),
        ("2031-04-02 08:10:11,123 - ERROR - relay up", "error", "relay up"),
        ("2031-04-02 08:10:11.123 [main] [7] DEBUG f.Relay - relay up", "debug", "f.Relay - relay up"),
        ("[2031-04-02 08:10:11 +0200] [7] [INFO] relay up", "info", "relay up"),
        ("2031-04-02 06:10:11.123 UTC [7] ERROR relay up", "error", "relay up"),
        ("[2031-04-02  08:10:11] INFO main/relay up", "info", "main/relay up"),
        ("2031/04/02 08:10:11 relay up", "", "relay up"),
        ("2031/04/02 08:10:11.123456 [ERR] relay up", "err", "relay up"),
        ("2031/04/02 08:10:11| relay up", "", "relay up"),
        ("02-Apr-2031 08:10:11.123 relay up", "", "relay up"),
        ("Wed Apr  2 08:10:11 2031 - relay up", "", "relay up"),
        ("[Wed Apr 02 08:10:11.123 2031] [error] relay up", "error", "relay up"),
        ("[02/Apr/2031:08:10:11 +0200] FATAL: relay up", "fatal", "relay up"),
        ("1932876611: Error: relay up", "error", "relay up"),
        ("[1932876611] relay[7:0] error: relay up", "", "relay[7:0] error: relay up"),
        ("time=\"2031-04-02T06:10:11Z\" level=error msg=\"relay up\"", "", "level=error msg=\"relay up\""),
        ("level=info ts=2031-04-02T06:10:11.1Z caller=main.go:1 msg=x", "info", "caller=main.go:1 msg=x"),
        ("Apr 02 08:10:11 mod_relay error relay up", "error", "relay up"),
    ] {
        let head = grammar.own_head(line, around).unwrap_or_else(|| panic!("{line}"));
        let second = jiff::Timestamp::from_microsecond(head.time).unwrap().as_second();
        assert_eq!(
            (second, head.level.as_str(), &line[head.length..]),
            (1_932_876_611, level, rest),
            "{line}"
        );
    }
    for line in ["relay up since 2031-04-02 08:10:11", "02 Apr", "1932876611", "Apr 02 was fine"] {
        let head = grammar.own_head(line, around);
        assert!(head.is_none() || line == "1932876611", "{line}: {head:?}");
    }
}
