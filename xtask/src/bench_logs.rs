//! `cargo xtask bench-logs [MIB]`: `attempts` on long logs against the operating system's own searches, as
//! ratios, and how the cost grows with the length of the log. Then the same of a journal against the
//! journal's own reader.
use crate::bench::{in_turns, release, say};
use std::fmt::Write as _;
use std::fs::{self, File};
use std::io::{BufWriter, Write};
use std::path::Path;

/// Starts in the whole log.
const ATTEMPTS: u64 = 2000;
/// Bytes of the last run.
const TAIL: u64 = 25 << 20;

fn stamp(second: u64) -> String {
    let when =
        jiff::Timestamp::from_second(1_900_000_000 + i64::try_from(second).unwrap_or(0)).unwrap_or_default();
    when.strftime("%Y/%m/%d %H:%M:%S").to_string()
}

/// A log of nginx at level notice: starts, long runs with errors of clients, stops. The last start is `tail`
/// bytes before the end.
fn write(path: &Path, size: u64, tail: u64) -> Result<(), String> {
    let words = |e: std::io::Error| e.to_string();
    let mut out = BufWriter::with_capacity(1 << 20, File::create(path).map_err(words)?);
    let (mut written, mut second) = (0u64, 0u64);
    let run = (size - tail) / ATTEMPTS;
    for number in 0..ATTEMPTS {
        let pid = 1000 + number;
        let mut head = String::new();
        let _ = writeln!(head, "{} [notice] {pid}#{pid}: using the \"epoll\" event method", stamp(second));
        let _ = writeln!(head, "{} [notice] {pid}#{pid}: nginx/1.22.1", stamp(second));
        let _ = writeln!(head, "{} [notice] {pid}#{pid}: start worker processes", stamp(second));
        out.write_all(head.as_bytes()).map_err(words)?;
        written += head.len() as u64;
        let last = number + 1 == ATTEMPTS;
        let until = if last { size } else { (number + 1) * run };
        while written < until {
            second += 1;
            let line = format!(
                "{} [error] {}#{}: *{second} open() \"/srv/ferries/tide-{second}.html\" failed (2: No such \
                    file or directory), client: 192.0.2.{}, server: quay1\n",
                stamp(second),
                pid + 1,
                pid + 1,
                second % 250
            );
            out.write_all(line.as_bytes()).map_err(words)?;
            written += line.len() as u64;
        }
        if !last {
            let line = format!(
                "{} [notice] {pid}#{pid}: signal 15 (SIGTERM) received from 1, exiting\n",
                stamp(second)
            );
            out.write_all(line.as_bytes()).map_err(words)?;
            written += line.len() as u64;
        }
    }
    out.flush().map_err(words)
}

pub(crate) fn run(mib: u64) -> Result<(), String> {
    let ours = release()?;
    let dir = std::env::temp_dir().join("jolly-bench-logs");
    fs::create_dir_all(dir.join("etc/nginx")).map_err(|e| e.to_string())?;
    let log = dir.join("edge.log");
    let services = dir.join("services.toml");
    let text = format!(
        "only_these = true\n[service.edge]\nkind = \"program\"\nlog_format = \"nginx\"\nlog = \"{}\"\n",
        log.display()
    );
    fs::write(&services, text).map_err(|e| e.to_string())?;
    let tool = |more: &[&str]| -> Vec<String> {
        let mut words: Vec<String> = [
            ours.as_str(),
            "--services",
            &services.to_string_lossy(),
            "attempts",
            "edge",
            "--format",
            "json",
        ]
        .map(str::to_owned)
        .to_vec();
        words.extend(more.iter().map(|w| (*w).to_owned()));
        words
    };
    let shell = |line: String| vec!["sh".to_owned(), "-c".to_owned(), line];
    let last = shell(format!("tac {} | grep -m1 'event method'", log.display()));
    for (name, size) in [("a tenth", mib / 10), ("whole", mib)] {
        write(&log, size << 20, 1 << 10)?;
        in_turns(
            &format!("{name} ({size} MiB), last attempt at the end, against tac | grep -m1"),
            &tool(&["--last", "1"]),
            &last,
            8,
        )?;
    }
    let search = if ["/usr/bin/rg", "/usr/local/bin/rg"].iter().any(|p| Path::new(p).exists()) {
        "rg -F -c"
    } else {
        "LC_ALL=C grep -F -c"
    };
    let three = shell(format!("{search} -e 'event method' -e 'start worker' -e SIGTERM {}", log.display()));
    in_turns(
        &format!("whole history of {mib} MiB, against {search} of three strings"),
        &tool(&[]),
        &three,
        4,
    )?;
    write(&log, mib << 20, TAIL)?;
    in_turns(
        "last attempt 25 MiB before the end, against tac | grep -m1",
        &tool(&["--last", "1"]),
        &last,
        8,
    )?;
    fs::remove_dir_all(&dir).map_err(|e| e.to_string())?;
    journal(&ours)
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
