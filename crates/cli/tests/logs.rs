//! `attempts` on logs as administrators find them: rotated, packed, in the syslog, as records, of daemons
//! that nobody knows; and a start followed as it happens.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test fails by panicking")]

mod common;

use common::Tree;
use serde_json::Value;
use std::io::{BufRead, BufReader, Write};
use std::process::{Command, Stdio};
use std::time::Duration;

fn gzip(text: &str) -> Vec<u8> {
    let mut out = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::default());
    out.write_all(text.as_bytes()).unwrap();
    out.finish().unwrap()
}

/// A tree with one service that only a services file describes.
fn tree(described: &str) -> Tree {
    let tree = Tree::new();
    tree.write(
        "etc/jolly-sentinel/services.toml",
        &format!("only_these = true\n[service.tide-relay]\nkind = \"program\"\n{described}\n"),
    );
    tree
}

fn attempts(tree: &Tree, more: &[&str]) -> Vec<Value> {
    let mut arguments = vec!["attempts", "tide-relay", "--format", "json"];
    arguments.extend(more);
    let answer = tree.run(&arguments);
    assert_eq!(answer.status, 0, "{}{}", answer.out, answer.err);
    answer.json()["attempts"].as_array().unwrap().clone()
}

fn redis(day: u32, pid: u32) -> String {
    format!(
        "{pid}:C {day:02} Apr 2031 06:00:00.000 # oO0OoO0OoO0Oo Redis is starting oO0OoO0OoO0Oo\n\
            {pid}:M {day:02} Apr 2031 06:00:00.050 * Ready to accept connections\n\
            {pid}:M {day:02} Apr 2031 20:00:00.000 # User requested shutdown...\n"
    )
}

#[test]
fn rotated_and_packed_predecessors_belong_to_the_history() {
    let tree = tree("log = \"/var/log/relay.log\"\nlog_format = \"redis\"");
    std::fs::write(tree.path().join("var/log/relay.log.2.gz"), gzip(&redis(1, 10))).unwrap();
    tree.write("var/log/relay.log.1", &redis(2, 20));
    tree.write("var/log/relay.log", &redis(3, 30));
    let all = attempts(&tree, &[]);
    let files: Vec<&str> = all.iter().filter_map(|a| a["logs"][0]["file"].as_str()).collect();
    assert_eq!(files, ["/var/log/relay.log", "/var/log/relay.log.1", "/var/log/relay.log.2.gz"]);
    assert!(all.iter().all(|a| a["outcome"] == "ready" && a["afterwards"] == "stopped"), "{all:?}");
    assert_eq!(
        (all[2]["logs"][0]["first_line"].as_u64(), all[2]["logs"][0]["first_byte"].as_u64()),
        (Some(1), None)
    );
    assert_eq!(attempts(&tree, &["--last", "2"]).len(), 2);
    std::fs::write(tree.path().join("var/log/relay.log.2.gz"), &gzip(&redis(1, 10))[..20]).unwrap();
    let answer = tree.run(&["attempts", "tide-relay"]);
    assert!(answer.status == 0 && answer.out.contains("packing is damaged"), "{}", answer.out);
}

/// A long log of nginx: starts with long runs of clients' errors between them, which mark nothing.
fn long_log(starts: u32, errors: u32) -> String {
    let mut text = String::new();
    for number in 0..starts {
        let (day, pid) = (1 + number % 28, 100 + number);
        let stamp = |second: u32| {
            format!(
                "2031/{:02}/{day:02} {:02}:{:02}:{:02}",
                1 + number / 28,
                second / 3600,
                second / 60 % 60,
                second % 60
            )
        };
        text += &format!(
            "{} [notice] {pid}#{pid}: using the \"epoll\" event method\n\
                {} [notice] {pid}#{pid}: start worker processes\n",
            stamp(0),
            stamp(1)
        );
        for error in 0..errors {
            text += &format!(
                "{} [error] {pid}#{pid}: *{error} open() \"/srv/quay/tide.html\" failed (2: No such file or \
                    directory), client: 192.0.2.7\n",
                stamp(60 + error)
            );
        }
        text += &format!(
            "{} [notice] {pid}#{pid}: signal 15 (SIGTERM) received from 1, exiting\n",
            stamp(86_000)
        );
    }
    text
}

#[test]
fn a_long_log_is_read_the_same_from_either_end_and_with_its_line_numbers() {
    let tree = tree("log = \"/var/log/relay.log\"\nlog_format = \"nginx\"");
    let text = long_log(40, 900);
    assert!(text.len() > 4 << 20, "{}", text.len());
    tree.write("var/log/relay.log", &text);
    let all = attempts(&tree, &[]);
    assert_eq!(all.len(), 40);
    let lines: Vec<&str> = text.lines().collect();
    for (at, attempt) in all.iter().rev().enumerate() {
        assert!(attempt["outcome"] == "ready" && attempt["afterwards"] == "stopped", "{attempt}");
        let part = &attempt["logs"][0];
        let number = usize::try_from(part["first_line"].as_u64().unwrap()).unwrap();
        assert_eq!(number, at * 903 + 1);
        assert!(lines[number - 1].contains("event method"));
        let bytes = usize::try_from(part["first_byte"].as_u64().unwrap()).unwrap();
        assert!(text[bytes..].starts_with(lines[number - 1]), "the byte is that of the line");
    }
    for most in ["1", "3", "39"] {
        let last = attempts(&tree, &["--last", most]);
        assert_eq!(last.len(), most.parse::<usize>().unwrap());
        let brief = |a: &Value| {
            (
                a["began"].clone(),
                a["outcome"].clone(),
                a["afterwards"].clone(),
                a["logs"][0]["first_byte"].clone(),
            )
        };
        assert_eq!(
            last.iter().map(brief).collect::<Vec<_>>(),
            all[..last.len()].iter().map(brief).collect::<Vec<_>>()
        );
    }
    // What is being written at the end is no line yet, and one without an end is one.
    let begun = "2031/12/01 00:00:00 [notice] 9#9: using the \"epoll\" event method\n\
        2031/12/01 00:00:01 [notice] 9#9: start worker processes";
    tree.write("var/log/relay.log", &(text + begun));
    let newest = &attempts(&tree, &["--last", "1"])[0];
    assert_eq!(
        (newest["outcome"].as_str(), newest["ready_after_ms"].as_u64()),
        (Some("ready"), Some(1000)),
        "{newest}"
    );
}

#[test]
fn what_a_program_writes_behind_a_pipe_is_read() {
    let tree = Tree::new().with_httpd();
    let config = tree.read("etc/apache2/apache2.conf").replace(
        "ErrorLog ${APACHE_LOG_DIR}/error.log",
        "ErrorLog \"|/usr/bin/rotatelogs /var/log/apache2/quay.%Y-%m-%d.log 86400\"",
    );
    tree.write("etc/apache2/apache2.conf", &config);
    tree.write("usr/bin/rotatelogs", "");
    let line = |week: &str, day: u32, words: &str| {
        format!(
            "[{week} Apr {day:02} 06:10:11.123456 2031] [mpm_event:notice] [pid {}:tid 1] {words}\n",
            70 + day
        )
    };
    let start = "AH00489: Apache/2.4.66 (Debian) configured -- resuming normal operations";
    tree.write("var/log/apache2/quay.2031-04-01.log", &line("Tue", 1, start));
    tree.age("var/log/apache2/quay.2031-04-01.log", 1);
    tree.write("var/log/apache2/quay.2031-04-02.log", &line("Wed", 2, start));
    let answer = tree.run(&["attempts", "apache2", "--format", "json"]).json();
    let files: Vec<&str> =
        answer["attempts"].as_array().unwrap().iter().filter_map(|a| a["logs"][0]["file"].as_str()).collect();
    assert_eq!(
        files,
        ["/var/log/apache2/quay.2031-04-02.log", "/var/log/apache2/quay.2031-04-01.log"],
        "{answer}"
    );
    assert_eq!(tree.run(&["lint", "apache2"]).status, 0);
}

#[test]
fn a_daemon_that_nobody_knows_is_read_as_its_services_file_says() {
    let tree = tree(
        "log = \"/var/log/relay.log\"\nlog_head = '^<(?<time>\\d+)> (?<level>[A-Z]+) '\nlog_time = \"%s\"\n\
            log_begin = \"harbour opens\"\nlog_ready = [\"pilot aboard\", \"tide is in\"]\n\
            log_stop = \"harbour closes\"",
    );
    tree.write(
        "var/log/relay.log",
        "<1932876000> INFO harbour opens for the day\n<1932876003> INFO the tide is in\n\
            <1932879000> INFO harbour closes\n<1932880000> INFO harbour opens for the day\n",
    );
    let all = attempts(&tree, &[]);
    assert_eq!(all.len(), 2, "{all:?}");
    assert_eq!(
        (all[1]["outcome"].as_str(), all[1]["ready_after_ms"].as_u64(), all[1]["afterwards"].as_str()),
        (Some("ready"), Some(3000), Some("stopped"))
    );
    tree.write(
        "etc/jolly-sentinel/services.toml",
        "[service.x]\nkind = \"program\"\nlog_head = \"^(\"\nlog_time = \"%s\"\n",
    );
    let answer = tree.run(&["attempts", "x"]);
    assert_eq!(answer.status, 2);
    assert!(
        answer.err.contains("regular expression") && answer.err.contains("services.toml"),
        "{}",
        answer.err
    );
}

#[test]
fn a_shared_syslog_is_read_for_the_lines_of_this_daemon_alone() {
    let tree = tree("log = \"/var/log/syslog\"\nlog_format = \"redis\"");
    tree.write(
        "var/log/syslog",
        "2031-04-02T06:00:00.100000+00:00 quay1 redis[7]: oO0OoO0OoO0Oo Redis is starting oO0OoO0OoO0Oo\n\
         2031-04-02T06:00:00.200000+00:00 quay1 gauge-sim[9]: Ready to accept connections\n\
         2031-04-02T06:00:04.100000+00:00 quay1 redis[7]: Ready to accept connections\n\
         2031-04-02T07:00:00.000000+00:00 quay1 gauge-sim[9]: Redis is starting\n",
    );
    let all = attempts(&tree, &[]);
    assert_eq!((all.len(), all[0]["ready_after_ms"].as_u64()), (1, Some(4000)), "{all:?}");
}

#[test]
fn nothing_from_a_log_reaches_the_terminal_as_a_command() {
    let tree = tree("log = \"/var/log/relay.log\"\nlog_format = \"nginx\"");
    tree.write(
        "var/log/relay.log",
        "2031/04/02 06:10:11 [emerg] 7#7: open() \"/srv/\u{1b}[2J\u{7}<script>\" \
        failed (2: No such file or directory)\n",
    );
    for format in ["text", "markdown", "html"] {
        let out = tree.run(&["attempts", "tide-relay", "--format", format]).out;
        assert!(!out.contains(['\u{1b}', '\u{7}']), "{format}: {out}");
        assert!(format != "html" || !out.contains("<script>"), "{out}");
    }
}

#[test]
fn following_needs_the_host_itself_and_no_choice_of_the_past() {
    let tree = tree("log = \"/var/log/relay.log\"");
    assert_eq!(tree.run(&["attempts", "tide-relay", "--follow"]).status, 2);
    assert_eq!(tree.run(&["attempts", "tide-relay", "--follow", "--last", "1"]).status, 2);
}

/// Follows a log that this test writes, and gives back what was shown and the exit status.
fn followed(lines: &[&str]) -> (String, i32) {
    let dir = tempfile::tempdir().unwrap();
    let log = dir.path().join("relay.log");
    std::fs::write(&log, "an old line\n").unwrap();
    let services = dir.path().join("services.toml");
    std::fs::write(
        &services,
        format!(
            "only_these = true\n[service.tide-relay]\nkind = \"program\"\n\
        log = \"{}\"\nlog_format = \"redis\"\n",
            log.display()
        ),
    )
    .unwrap();
    let mut child = Command::new(assert_cmd::cargo::cargo_bin("jolly-sentinel"))
        .args(["--services", services.to_str().unwrap(), "attempts", "tide-relay", "--follow"])
        .env("HOME", dir.path())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    // It says that it waits: from then on every line is new to it.
    let mut waiting = String::new();
    BufReader::new(child.stderr.take().unwrap()).read_line(&mut waiting).unwrap();
    assert!(waiting.contains("waiting for a start"), "{waiting}");
    let mut file = std::fs::OpenOptions::new().append(true).open(&log).unwrap();
    for line in lines {
        let stamp = jiff::Zoned::now().strftime("%d %b %Y %H:%M:%S.%3f").to_string();
        file.write_all(format!("7:M {stamp} {line}\n").as_bytes()).unwrap();
    }
    let out = child.wait_with_output().unwrap();
    (String::from_utf8_lossy(&out.stdout).into_owned(), out.status.code().unwrap_or(-1))
}

#[test]
fn a_start_is_followed_until_it_is_ready_or_failed() {
    let (shown, status) =
        followed(&["# oO0OoO0OoO0Oo Redis is starting oO0OoO0OoO0Oo", "* Ready to accept connections"]);
    assert_eq!(status, 0, "{shown}");
    assert!(
        shown.contains("= the start begins") && shown.trim_end().ends_with("tide-relay is ready."),
        "{shown}"
    );
    assert!(!shown.contains("an old line"), "{shown}");
    let (shown, status) = followed(&[
        "# oO0OoO0OoO0Oo Redis is starting oO0OoO0OoO0Oo",
        "# Fatal error loading the DB: Invalid argument. Exiting.",
        "# Redis is now ready to exit, bye bye...",
    ]);
    assert_eq!(status, 1, "{shown}");
    assert!(shown.contains("did not come up"), "{shown}");
}

#[test]
fn the_figure_draws_what_is_known_and_no_more() {
    let tree = tree("log = \"/var/log/relay.log\"\nlog_format = \"redis\"");
    // The second run says nothing of its end, the third one failed, the fourth was stopped.
    let silent = redis(2, 20).lines().take(2).map(|l| format!("{l}\n")).collect::<String>();
    let failed = "30:C 03 Apr 2031 06:00:00.000 # oO0OoO0OoO0Oo Redis is starting oO0OoO0OoO0Oo\n\
        30:M 03 Apr 2031 06:00:00.100 # Can't handle RDB format version 99\n\
        30:M 03 Apr 2031 06:00:00.110 # Redis is now ready to exit, bye bye...\n";
    tree.write("var/log/relay.log", &(redis(1, 10) + &silent + failed + &redis(4, 40)));
    let page = tree.run(&["attempts", "tide-relay", "--format", "html"]).out;
    let svg = page.split("<svg").nth(1).unwrap().split("</svg>").next().unwrap();
    assert_eq!(svg.matches("<rect").count(), 3, "{svg}");
    assert_eq!(svg.matches("opacity=\"0.35\"").count(), 1, "one run has no known end: {svg}");
    assert_eq!(svg.matches("#8e2a6b").count(), 1, "one cross: {svg}");
    for word in ["ready, then stopped", "failed: data-version", "2031-04-01 06:00:00"] {
        assert!(svg.contains(word), "{word}: {svg}");
    }
    // Each bar ends before the next one begins, and within the picture.
    let mut ends = Vec::new();
    for rect in svg.split("<rect").skip(1) {
        let number = |name: &str| {
            rect.split(&format!("{name}=\""))
                .nth(1)
                .unwrap()
                .split('"')
                .next()
                .unwrap()
                .parse::<f64>()
                .unwrap()
        };
        let (x, width) = (number(" x"), number(" width"));
        assert!(ends.last().is_none_or(|end| *end <= x + 0.2) && x + width <= 711.0, "{rect}");
        ends.push(x + width);
    }
    let text = tree.run(&["attempts", "tide-relay"]).out;
    assert!(text.contains("oldest ==x= newest"), "{text}");
}

#[test]
fn line_numbers_are_those_of_the_file_however_much_of_it_is_read() {
    let tree = tree("log = \"/var/log/relay.log\"\nlog_format = \"redis\"");
    let noise = "7:M 01 Apr 2031 07:00:00.000 - nothing to tell\n".repeat(5000);
    tree.write("var/log/relay.log", &(redis(1, 10) + &noise + &redis(2, 20)));
    let lines = |more: &[&str]| attempts(&tree, more)[0]["logs"][0]["first_line"].as_u64();
    assert_eq!(lines(&[]), Some(5004));
    assert_eq!(lines(&["--last", "1"]), Some(5004), "a file of this length is counted in any case");
    let bytes = attempts(&tree, &["--last", "1"])[0]["logs"][0].clone();
    let text = tree.read("var/log/relay.log");
    let from = usize::try_from(bytes["first_byte"].as_u64().unwrap()).unwrap();
    assert!(text[from..].starts_with("20:C 02 Apr"), "{bytes}");
}

#[test]
fn attempts_are_limited_to_what_was_asked_for() {
    let tree = tree("log = \"/var/log/relay.log\"\nlog_format = \"redis\"");
    tree.write("var/log/relay.log", &(1..=5).map(|d| redis(d, d * 10)).collect::<String>());
    assert_eq!(attempts(&tree, &["--since", "2031-04-04T00:00:00Z"]).len(), 2);
    assert_eq!(attempts(&tree, &["--failed"]).len(), 0);
    for wrong in [vec!["--last", "0"], vec!["--since", "the day before"], vec!["--last", "many"]] {
        let mut arguments = vec!["attempts", "tide-relay"];
        arguments.extend(&wrong);
        let answer = tree.run(&arguments);
        assert_eq!(answer.status, 2, "{wrong:?}: {}", answer.out);
        assert!(!answer.err.is_empty());
    }
}

#[test]
fn records_in_json_and_stamps_without_a_year_are_read_as_well() {
    let tree = tree(
        "log = \"/var/log/relay.log\"\nlog_begin = \"relay begins\"\nlog_ready = \"relay listens\"\n\
            log_stop = \"relay ends\"",
    );
    let record = |time: &str, level: &str, message: &str| {
        format!("{{\"ts\":{time},\"level\":\"{level}\",\"msg\":\"{message}\"}}\n")
    };
    let text = record("1932876000.250", "info", "relay begins")
        + &record("1932876001250", "info", "relay listens")
        + &record("\"2031-04-02T07:00:00Z\"", "warn", "relay ends");
    tree.write("var/log/relay.log", &text);
    let all = attempts(&tree, &[]);
    assert_eq!(
        (all.len(), all[0]["ready_after_ms"].as_u64(), all[0]["afterwards"].as_str()),
        (1, Some(1000), Some("stopped")),
        "{all:?}"
    );
    assert_eq!(all[0]["ended"], "2031-04-02T07:00:00.000Z");
    // Seconds and milliseconds since the epoch are told apart; the year is that of the file's last change.
    tree.write(
        "var/log/relay.log",
        "Apr  2 06:00:00 quay1 tide-relay[7]: relay begins\n\
        Apr  2 06:00:03 quay1 gauge-sim[9]: relay listens\n",
    );
    tree.write(
        "etc/jolly-sentinel/services.toml",
        "only_these = true\n[service.tide-relay]\nkind = \"program\"\nlog = \"/var/log/relay.log\"\n\
            log_head = '^(?<time>\\w{3} [ \\d]\\d \\d\\d:\\d\\d:\\d\\d) \\S+ \\S+: '\n\
            log_time = \"%b %e %H:%M:%S\"\nlog_begin = \"relay begins\"\nlog_ready = \"relay listens\"\n",
    );
    let when = std::time::UNIX_EPOCH + Duration::from_secs(1_932_876_100);
    std::fs::File::options()
        .write(true)
        .open(tree.path().join("var/log/relay.log"))
        .unwrap()
        .set_modified(when)
        .unwrap();
    let all = attempts(&tree, &[]);
    assert_eq!((all.len(), all[0]["began"].as_str()), (1, Some("2031-04-02T06:00:00.000Z")), "{all:?}");
}

#[test]
fn a_followed_start_is_written_line_by_line_and_nowhere_else() {
    let dir = tempfile::tempdir().unwrap();
    let services = dir.path().join("services.toml");
    std::fs::write(
        &services,
        "only_these = true\n[service.tide-relay]\nkind = \"program\"\nlog = \"/nowhere/relay.log\"\n",
    )
    .unwrap();
    let call = |more: &[&str]| {
        let mut arguments =
            vec!["--services", services.to_str().unwrap(), "attempts", "tide-relay", "--follow"];
        arguments.extend(more);
        common::run(dir.path(), &arguments)
    };
    for (more, word) in [
        (vec!["--format", "markdown"], "text"),
        (vec!["--format", "html"], "text"),
        (vec!["--output", "x.txt"], "standard output"),
    ] {
        let answer = call(&more);
        assert_eq!(answer.status, 2, "{more:?}");
        assert!(answer.err.contains(word) && answer.out.is_empty(), "{more:?}: {}", answer.err);
    }
    assert!(!dir.path().join("x.txt").exists());
}

#[test]
fn a_list_that_leaves_out_attempts_says_so() {
    let tree = Tree::new();
    tree.write(
        "etc/systemd/system/cache.service",
        "[Service]\nExecStart=/usr/bin/redis-server /etc/redis/redis.conf\n",
    );
    tree.write("etc/redis/redis.conf", "port 6390\nlogfile /var/log/redis/redis.log\n");
    let starts: String = (0..1007)
        .map(|n| {
            let (hour, minute) = (n / 60, n % 60);
            let (day, hour) = (1 + hour / 24, hour % 24);
            let stamp = format!("{day:02} Apr 2031 {hour:02}:{minute:02}");
            format!(
                "{pid}:C {stamp}:00.000 # oO0OoO0OoO0Oo Redis is starting oO0OoO0OoO0Oo\n\
                    {pid}:M {stamp}:00.100 * Ready to accept connections\n\
                    {pid}:M {stamp}:20.000 # User requested shutdown...\n\
                    {pid}:M {stamp}:20.100 # Redis is now ready to exit, bye bye...\n",
                pid = 1000 + n
            )
        })
        .collect();
    tree.write("var/log/redis/redis.log", &starts);
    let of = |more: &[&str]| {
        let told = tree.run(&[&["attempts", "cache", "--format", "json"], more].concat()).json();
        let list = told["attempts"].as_array().cloned().unwrap_or_default();
        let lines: Vec<_> = list.iter().map(|a| a["logs"][0]["first_line"].as_u64()).collect();
        (lines, told["more"].as_bool())
    };
    let numbers = |from: u64| (from..1007).rev().map(|n| Some(4 * n + 1)).collect::<Vec<_>>();
    assert_eq!(of(&[]), (numbers(7), Some(true)), "with the lines of the file");
    assert_eq!(of(&["--since", "2031-04-01T16:00:00Z"]), (numbers(960), None));
    assert_eq!(of(&["--last", "1000"]), (numbers(7), None), "who asks for a number knows");
    assert_eq!(of(&["--last", "5000"]), (numbers(0), None));
    let text = tree.run(&["attempts", "cache"]).out;
    assert!(text.contains("Earlier attempts are not listed; --last N lists more."), "{text}");
    let whole: Vec<&str> = starts.lines().collect();
    tree.write("var/log/redis/redis.log", &(whole[28..].join("\n") + "\n"));
    assert_eq!(of(&[]).1, None, "a thousand are all of them");
}
