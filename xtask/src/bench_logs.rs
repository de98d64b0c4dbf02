//! `cargo xtask bench-logs [MIB [KIND…]]`: `attempts` on long logs in the form of every kind against the
//! operating system's own searches, as ratios. Then the same of a journal against the journal's own reader.
use crate::bench::{in_turns, release, say};
use std::fs::{self, File};
use std::io::{BufWriter, Write};
use std::path::Path;

/// Starts in each mebibyte: 2,000 in a gibibyte, a mark in some 1,500 lines.
const ATTEMPTS: u64 = 2;
/// Bytes of the last run.
const TAIL: u64 = 25 << 20;

/// How the log of a kind looks. `@` stands for the stamp, `{n}` for a number that grows.
struct Form {
    kind: &'static str,
    stamp: &'static str,
    begin: &'static [&'static str],
    run: &'static str,
    stop: &'static str,
    /// Three strings that a person would look for.
    words: [&'static str; 3],
}

const FORMS: &[Form] = &[
    Form {
        kind: "nginx",
        stamp: "%Y/%m/%d %H:%M:%S",
        begin: &[
            "@ [notice] {n}#{n}: using the \"epoll\" event method",
            "@ [notice] {n}#{n}: nginx/1.22.1",
            "@ [notice] {n}#{n}: start worker processes",
        ],
        run: "@ [error] 7#7: *{n} open() \"/srv/ferries/tide-{n}.html\" failed (2: No such file or \
            directory), client: \
            192.0.2.7, server: quay1",
        stop: "@ [notice] {n}#{n}: signal 15 (SIGTERM) received from 1, exiting",
        words: ["event method", "start worker", "SIGTERM"],
    },
    Form {
        kind: "httpd",
        stamp: "%a %b %d %H:%M:%S.123456 %Y",
        begin: &["[@] [mpm_event:notice] [pid {n}:tid {n}] AH00489: Apache/2.4.68 configured -- resuming \
                normal operations"],
        run: "[@] [proxy:error] [pid 7:tid 7] [client 192.0.2.7:{n}] AH01114: HTTP: failed to make \
            connection to \
            backend: 127.0.0.1",
        stop: "[@] [mpm_event:notice] [pid {n}:tid {n}] AH00491: caught SIGTERM, shutting down",
        words: ["AH00489", "AH00163", "AH00491"],
    },
    Form {
        kind: "haproxy",
        stamp: "%Y-%m-%dT%H:%M:%S.123456+00:00",
        begin: &[
            "@ quay1 haproxy[{n}]: [NOTICE]   ({n}) : New worker (8) forked",
            "@ quay1 haproxy[{n}]: [NOTICE]   ({n}) : Loading success.",
        ],
        run: "@ quay1 haproxy[8]: 192.0.2.7:{n} [02/Apr/2031:06:10:11.123] web app/a1 0/0/1/2/3 200 512 \
            - - ---- \
            1/1/0/0/0 0/0 \"GET /tides/{n} HTTP/1.1\"",
        stop: "@ quay1 haproxy[{n}]: [WARNING]  ({n}) : All workers exited. Exiting... (0)",
        words: ["New worker", "Loading success", "workers exited"],
    },
    Form {
        kind: "mysql",
        stamp: "%Y-%m-%d %k:%M:%S",
        begin: &[
            "@ 0 [Note] Starting MariaDB 10.11.6-MariaDB-0+deb12u1 source revision fecd as process {n}",
            "@ 0 [Note] /usr/sbin/mariadbd: ready for connections.",
        ],
        run: "@ {n} [Warning] Aborted connection {n} to db: 'ferries' user: 'tide' host: '192.0.2.7' \
            (Got an error \
            reading communication packets)",
        stop: "@ 0 [Note] /usr/sbin/mariadbd (initiated by: unknown): Normal shutdown",
        words: ["as process", "ready for connections", "Normal shutdown"],
    },
    Form {
        kind: "postgresql",
        stamp: "%Y-%m-%d %H:%M:%S.123 UTC",
        begin: &[
            "@ [{n}] LOG:  starting PostgreSQL 15.10 (Debian 15.10-0+deb12u1) on x86_64-pc-linux-gnu",
            "@ [{n}] LOG:  database system is ready to accept connections",
        ],
        run: "@ [7] tide@ferries ERROR:  relation \"tide_{n}\" does not exist at character 15",
        stop: "@ [{n}] LOG:  received fast shutdown request",
        words: ["starting PostgreSQL", "ready to accept", "shutdown request"],
    },
    Form {
        kind: "redis",
        stamp: "%d %b %Y %H:%M:%S.123",
        begin: &[
            "{n}:C @ # oO0OoO0OoO0Oo Redis is starting oO0OoO0OoO0Oo",
            "{n}:M @ * Ready to accept connections",
        ],
        run: "7:M @ * {n} changes in 300 seconds. Saving...",
        stop: "{n}:M @ # User requested shutdown...",
        words: ["is starting", "Ready to accept", "requested shutdown"],
    },
    Form {
        kind: "php-fpm",
        stamp: "%d-%b-%Y %H:%M:%S",
        begin: &["[@] NOTICE: fpm is running, pid {n}", "[@] NOTICE: ready to handle connections"],
        run: "[@] WARNING: [pool www] child {n} said into stderr: \"NOTICE: PHP message: tide {n} is late\"",
        stop: "[@] NOTICE: Terminating ...",
        words: ["fpm is running", "ready to handle", "Terminating"],
    },
    Form {
        kind: "tomcat",
        stamp: "%d-%b-%Y %H:%M:%S.123",
        begin: &[
            "@ INFO [main] org.apache.catalina.startup.VersionLoggerListener.log Server version name:   \
                Apache Tomcat",
            "@ INFO [main] org.apache.catalina.startup.Catalina.start Server startup in [{n}] milliseconds",
        ],
        run: "@ INFO [http-nio-8080-exec-{n}] ferries.Tide.log the tide {n} is late",
        stop: "@ INFO [Thread-3] org.apache.coyote.AbstractProtocol.pause Pausing ProtocolHandler \
            [\"http-nio-8080\"]",
        words: ["Server version", "Server startup", "Pausing"],
    },
    Form {
        kind: "program",
        stamp: "%Y-%m-%d %H:%M:%S",
        begin: &["@ INFO Starting the relay", "@ INFO listening on 127.0.0.1:8080"],
        run: "@ WARN the tide {n} is late: gauge {n} does not answer",
        stop: "@ INFO shutting down",
        words: ["Starting", "listening on", "shutting down"],
    },
];

fn stamp(form: &Form, second: u64) -> String {
    let when =
        jiff::Timestamp::from_second(1_900_000_000 + i64::try_from(second).unwrap_or(0)).unwrap_or_default();
    when.strftime(form.stamp).to_string()
}

/// A log of a kind: starts, long runs with other lines, stops, `attempts` of them. The last start is `tail`
/// bytes before the end.
fn write(path: &Path, form: &Form, size: u64, tail: u64, attempts: u64) -> Result<(), String> {
    let words = |e: std::io::Error| e.to_string();
    let mut out = BufWriter::with_capacity(1 << 20, File::create(path).map_err(words)?);
    let (mut written, mut second) = (0u64, 0u64);
    let run = (size - tail) / attempts;
    let mut now = stamp(form, 0);
    let mut put = |line: &str, number: u64, now: &str| -> Result<u64, String> {
        let line = line.replace("{n}", &number.to_string());
        let line = line.replacen('@', now, 1);
        out.write_all(line.as_bytes()).map_err(words)?;
        out.write_all(b"\n").map_err(words)?;
        Ok(line.len() as u64 + 1)
    };
    for number in 0..attempts {
        let pid = 1000 + number;
        for line in form.begin {
            written += put(line, pid, &now)?;
        }
        let last = number + 1 == attempts;
        let until = if last { size } else { (number + 1) * run };
        while written < until {
            second += 1;
            now = stamp(form, second);
            written += put(form.run, second, &now)?;
        }
        if !last {
            written += put(form.stop, pid, &now)?;
        }
    }
    out.flush().map_err(words)
}

pub(crate) fn run(mib: u64, only: &[&str]) -> Result<(), String> {
    let ours = release()?;
    let dir = std::env::temp_dir().join("jolly-bench-logs");
    fs::create_dir_all(&dir).map_err(|e| e.to_string())?;
    let log = dir.join("edge.log");
    let services = dir.join("services.toml");
    let shell = |line: String| vec!["sh".to_owned(), "-c".to_owned(), line];
    let search = if ["/usr/bin/rg", "/usr/local/bin/rg"].iter().any(|p| Path::new(p).exists()) {
        "rg -F -c"
    } else {
        "LC_ALL=C grep -F -c"
    };
    for form in FORMS.iter().filter(|f| only.is_empty() || only.contains(&f.kind)) {
        let text = format!(
            "only_these = true\n[service.edge]\nkind = \"program\"\nlog_format = \"{}\"\nlog = \"{}\"\n",
            form.kind,
            log.display()
        );
        fs::write(&services, text).map_err(|e| e.to_string())?;
        let tool = |more: &[&str]| -> Vec<String> {
            let file = services.to_string_lossy();
            let mut words = vec![ours.as_str(), "--services", &file, "attempts", "edge", "--format", "json"];
            words.extend(more);
            words.into_iter().map(str::to_owned).collect()
        };
        let [a, b, c] = form.words;
        let last = shell(format!("tac {} | grep -m1 '{}'", log.display(), a));
        let three = shell(format!("{search} -e '{a}' -e '{b}' -e '{c}' {}", log.display()));
        let name = |what: &str| format!("{}, {mib} MiB: {what}", form.kind);
        write(&log, form, mib << 20, 1 << 10, ATTEMPTS * mib)?;
        in_turns(
            &name("last attempt at the end, against tac | grep -m1"),
            &tool(&["--last", "1"]),
            &last,
            8,
        )?;
        let all = (ATTEMPTS * mib).to_string();
        in_turns(
            &name(&format!("whole history, against {search} of three strings")),
            &tool(&["--last", &all]),
            &three,
            4,
        )?;
        in_turns(&name("what is listed unasked, against the same"), &tool(&[]), &three, 4)?;
        // A start, its words and its stop in some thirty lines.
        write(&log, form, mib << 20, 1 << 10, (mib << 20) / 3600)?;
        in_turns(&name("marks in every tenth line, against the same"), &tool(&[]), &three, 4)?;
        if form.kind == "nginx" {
            write(&log, form, mib << 20, TAIL, ATTEMPTS * mib)?;
            in_turns(
                &name("last attempt 25 MiB before the end, against tac | grep -m1"),
                &tool(&["--last", "1"]),
                &last,
                8,
            )?;
        }
    }
    fs::remove_dir_all(&dir).map_err(|e| e.to_string())?;
    if only.is_empty() { journal(&ours) } else { Ok(()) }
}

/// Entries of the journal, and how many of them a start and its run have.
const ENTRIES: u64 = 142_000;
const RUN: u64 = 70;
const MACHINE: &str = "22222222222222222222222222222222";

/// Entries of two services in the journal's export format, which its own receiver makes a journal of.
fn export(path: &Path) -> Result<(), String> {
    let words = |e: std::io::Error| e.to_string();
    let mut out = BufWriter::with_capacity(1 << 20, File::create(path).map_err(words)?);
    let mut entry = |time: u64, fields: String| {
        let times =
            format!("__REALTIME_TIMESTAMP={time}\n__MONOTONIC_TIMESTAMP={}\n", time % 1_000_000_000_000);
        write!(
            out,
            "{times}_BOOT_ID={}\n_MACHINE_ID={MACHINE}\nPRIORITY=6\n_HOSTNAME=quay1\n{fields}\n\n",
            "1".repeat(32)
        )
        .map_err(words)
    };
    for number in 0..ENTRIES {
        let time = 1_932_800_000_000_000 + number * 500_000;
        let manager = "_PID=1\n_SYSTEMD_UNIT=init.scope\nUNIT=edge.service\nSYSLOG_IDENTIFIER=systemd";
        match number % RUN {
            0 => {
                entry(
                    time,
                    format!(
                        "MESSAGE=Starting edge.service...\nMESSAGE_ID=7d4958e842da4a758f6c1cdc7b36dcc5\n\
                            INVOCATION_ID={number:032x}\n{manager}"
                    ),
                )?;
                entry(
                    time + 100_000,
                    format!(
                        "MESSAGE=Started edge.service.\nMESSAGE_ID=39f53479d3a045ac8e11786248231fbf\n\
                            {manager}"
                    ),
                )?;
            }
            1..20 => entry(
                time,
                format!(
                    "MESSAGE=the tide of {number} is normal\n_PID=7\n_SYSTEMD_UNIT=edge.service\n\
                        SYSLOG_IDENTIFIER=edge"
                ),
            )?,
            _ => entry(
                time,
                format!(
                    "MESSAGE=ferry {number} has left the quay\n_PID=9\n_SYSTEMD_UNIT=harbour.service\n\
                        SYSLOG_IDENTIFIER=harbour"
                ),
            )?,
        }
    }
    Ok(())
}

fn journal(ours: &str) -> Result<(), String> {
    let receiver = "/lib/systemd/systemd-journal-remote";
    if !Path::new(receiver).exists() {
        say("journal: systemd-journal-remote is not installed, so no journal was read");
        return Ok(());
    }
    let words = |e: std::io::Error| e.to_string();
    let tree = std::env::temp_dir().join("jolly-bench-journal");
    let folder = tree.join("var/log/journal").join(MACHINE);
    fs::create_dir_all(&folder).map_err(words)?;
    let (exported, services) = (tree.join("exported"), tree.join("services.toml"));
    export(&exported)?;
    fs::write(&services, "only_these = true\n[service.edge]\nkind = \"program\"\n").map_err(words)?;
    fs::create_dir_all(tree.join("etc/systemd/system")).map_err(words)?;
    fs::write(tree.join("etc/systemd/system/edge.service"), "[Service]\nExecStart=/opt/edge\n")
        .map_err(words)?;
    let made = std::process::Command::new(receiver)
        .arg("-o")
        .arg(folder.join("system.journal"))
        .arg(&exported)
        .output()
        .map_err(words)?;
    if !made.status.success() {
        return Err(format!("no journal: {}", String::from_utf8_lossy(&made.stderr)));
    }
    let line = |text: String| text.split(' ').map(str::to_owned).collect::<Vec<_>>();
    let mine = |more: &str| {
        line(format!(
            "{ours} --root {} --services {} attempts edge --format json{more}",
            tree.display(),
            services.display()
        ))
    };
    let theirs = |more: &str| {
        line(format!(
            "journalctl --directory {} -u edge -o json --output-fields=MESSAGE,UNIT,_PID,PRIORITY{more}",
            folder.display()
        ))
    };
    in_turns(
        "journal, the last 50 starts, against journalctl of as many entries",
        &mine(" --last 50"),
        &theirs(" -n 4000"),
        8,
    )?;
    in_turns("journal, all that a unit has there, against journalctl", &mine(""), &theirs(""), 4)?;
    fs::remove_dir_all(&tree).map_err(words)
}
