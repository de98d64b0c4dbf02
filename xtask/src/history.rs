//! `cargo xtask attempts [SEED]`: a driver that starts, stops, kills, reloads and breaks real daemons at
//! random, writes down what it did, and scores what `attempts` makes of the logs. The score is written to
//! `xtask/live/score.txt`.
use crate::chance::Chance;
use crate::daemons::{DAEMONS, Daemon};
use crate::host::Host;
use crate::records;
use serde_json::Value;
use std::fmt::Write as _;
use std::path::Path;

/// Steps for each daemon.
const STEPS: usize = 36;
const SCORE: &str = "xtask/live/score.txt";

/// What the stamps of a drive's logs are like.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Clock {
    /// The host's zone.
    Host,
    /// A zone of the unit's own, which is another one from the middle on.
    Zone,
    /// A zone whose clock is put back by an hour in the middle.
    Back,
    /// The host's clock is set in the middle. Nobody here may set it: the records of the real daemons are
    /// altered to what they would be (`records`).
    Set,
}

/// One way to drive the daemons, and the views that are scored afterwards.
struct Drive {
    name: &'static str,
    clock: Clock,
    /// Whether a receiver of syslog messages runs.
    receiver: bool,
    views: &'static [View],
}

/// What of the host `attempts` may see.
#[derive(Clone, Copy, PartialEq, Eq)]
enum View {
    /// Everything.
    Full,
    /// The running host without its journal.
    Files,
    /// The host's disk from outside; its journal was in memory.
    Disk,
}

const DRIVES: &[Drive] = &[
    Drive {
        name: "plain",
        clock: Clock::Host,
        receiver: false,
        views: &[View::Full, View::Files, View::Disk],
    },
    Drive { name: "receiver", clock: Clock::Host, receiver: true, views: &[View::Files, View::Disk] },
    Drive {
        name: "zone",
        clock: Clock::Zone,
        receiver: false,
        views: &[View::Full, View::Files, View::Disk],
    },
    Drive {
        name: "clock",
        clock: Clock::Back,
        receiver: false,
        views: &[View::Full, View::Files, View::Disk],
    },
    Drive { name: "set", clock: Clock::Set, receiver: false, views: &[View::Disk] },
];

/// Zones of the unit, each before and after the middle.
const ZONES: &[&str] =
    &["Asia/Kolkata", "America/St_Johns", "Pacific/Auckland", "Asia/Tokyo", "America/Lima"];

/// What really happened.
#[derive(Debug)]
struct Truth {
    from: f64,
    to: f64,
    outcome: &'static str,
    afterwards: Option<&'static str>,
    code: Option<&'static str>,
    /// Whether it left anything in a file.
    traced: bool,
}

#[derive(Default)]
struct Score {
    truth: usize,
    found: usize,
    told: usize,
    invented: usize,
    outcome: usize,
    failures: usize,
    reason: usize,
    last: usize,
    daemons: usize,
}
/// Bytes in the files that daemons write.
const WRITTEN: &str = "find /var/log /run/mysqld /var/lib/mysql/*.err /var/lib/postgresql/15/main/log \
    -type f ! -path \
    '*/journal/*' -printf '%s\\n' 2>/dev/null | awk '{s+=$1} END {print s+0}'";

pub(crate) fn run(program: &Path, seed: u64, only: &[&str]) -> Result<(), String> {
    let drives: Vec<&Drive> = DRIVES.iter().filter(|d| only.contains(&d.name)).collect();
    let drives = if drives.is_empty() { DRIVES.iter().collect() } else { drives };
    let named = |d: &&Daemon| only.contains(&d.unit);
    let some = DAEMONS.iter().any(|d| named(&d));
    let mut text = format!(
        "# What `attempts` made of {STEPS} random steps with each daemon, seen in several ways; `cargo xtask \
            attempts {seed}` does it again.\n# full: everything; files: the running host without its \
            journal; \
            disk: its files from outside.\n# set: the \
            host's clock is set in the middle; these are real records, altered from there on.\n# \
            Without a journal those starts count that left anything in a \
            file.\n"
    );
    for drive in drives {
        let host = Host::boot("jolly-attempts", program)?;
        if drive.receiver {
            host.run("systemctl enable --now rsyslog; sleep 1")?;
        }
        let mut all: Vec<Score> = drive.views.iter().map(|_| Score::default()).collect();
        for daemon in DAEMONS.iter().filter(|d| !some || named(d)) {
            let mut chance = Chance::new(
                seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) ^ (daemon.unit.len() + drive.name.len() * 64) as u64,
            );
            let mut truth = run_steps(&host, drive, daemon, &mut chance)?;
            if drive.clock == Clock::Set {
                set_clock(&host, &mut truth, &mut chance)?;
            }
            keep(&host, drive, daemon, &truth)?;
            for (view, all) in drive.views.iter().zip(&mut all) {
                let mut one = Score::default();
                let wrong = score(&host, program, daemon, (*view, drive.clock), &truth, &mut one)?;
                let name = format!("{} {}", drive.name, view.name());
                for line in wrong {
                    say(&format!("  {name} {}: {line}", daemon.unit));
                }
                let line = format!("{name:<16} {:<19} {}", daemon.unit, line(&one));
                say(&line);
                let _ = writeln!(text, "{line}");
                add(all, &one);
            }
        }
        for (view, all) in drive.views.iter().zip(&all) {
            let name = format!("{} {}", drive.name, view.name());
            let line = format!("{name:<16} {:<19} {}", "all", line(all));
            say(&line);
            let _ = writeln!(text, "{line}");
        }
    }
    if !only.is_empty() {
        return Ok(());
    }
    std::fs::write(SCORE, text).map_err(|e| format!("{SCORE}: {e}"))
}

impl View {
    fn name(self) -> &'static str {
        match self {
            Self::Full => "full",
            Self::Files => "files",
            Self::Disk => "disk",
        }
    }

    /// The report of `attempts` as far as this view sees.
    fn ask(self, host: &Host, program: &Path, unit: &str) -> Result<std::process::Output, String> {
        let ask = format!("jolly-sentinel attempts {unit} --format json");
        match self {
            Self::Full => host.run(&ask),
            Self::Files => host.run(&format!(
                "unshare -m sh -c 'mount -t tmpfs none /run/log; mkdir -p /var/log/journal; mount -t \
                    tmpfs none \
                    /var/log/journal; {ask}'"
            )),
            Self::Disk => std::process::Command::new("unshare")
                .args([
                    "-m",
                    "sh",
                    "-c",
                    "mount -t tmpfs none \"$1/var/log/journal\"; \"$0\" --root \
                    \"$1\" attempts \"$2\" --format json",
                ])
                .args([program.as_os_str(), host.root().as_os_str(), unit.as_ref()])
                .output()
                .map_err(|e| e.to_string()),
        }
    }
}

#[expect(clippy::print_stdout, reason = "a chore reports to its caller")]
fn say(text: &str) {
    println!("{text}");
}

fn add(all: &mut Score, one: &Score) {
    all.truth += one.truth;
    all.found += one.found;
    all.told += one.told;
    all.invented += one.invented;
    all.outcome += one.outcome;
    all.failures += one.failures;
    all.reason += one.reason;
    all.last += one.last;
    all.daemons += one.daemons;
}

fn line(s: &Score) -> String {
    format!(
        "found {}/{}  invented {}/{}  outcome {}/{}  reason {}/{}  last {}/{}",
        s.found, s.truth, s.invented, s.told, s.outcome, s.found, s.reason, s.failures, s.last, s.daemons
    )
}

fn now(host: &Host) -> Result<f64, String> {
    let out = host.run("date +%s.%N")?;
    String::from_utf8_lossy(&out.stdout).trim().parse().map_err(|_| "no time".to_owned())
}

fn active(host: &Host, unit: &str) -> Result<bool, String> {
    Ok(host.run(&format!("systemctl is-active --quiet {unit}"))?.status.success())
}

/// Starts or restarts a unit and waits until that is over: tomcat says nothing to the manager, so its log
/// decides.
fn start(host: &Host, daemon: &Daemon, verb: &str) -> Result<(), String> {
    let unit = daemon.unit;
    if daemon.process == "java" {
        let count = "cat /var/log/tomcat10/catalina.*.log 2>/dev/null | grep -c 'Server startup in'";
        host.run(&format!(
            "n=$({count}); systemctl {verb} {unit}; for i in $(seq 160); do [ $({count}) -gt $n ] && break; \
                systemctl is-active --quiet {unit} || break; sleep 0.25; done; sleep 0.3"
        ))?;
    } else {
        host.run(&format!("systemctl {verb} {unit}; sleep 0.3"))?;
    }
    Ok(())
}

/// The drop-in of a daemon's unit, perhaps with a zone; a second way to say it is a file of variables.
fn drop_in(host: &Host, daemon: &Daemon, zone: Option<&str>, by_file: bool) -> Result<(), String> {
    let unit = daemon.unit;
    let line = match zone {
        None => String::new(),
        Some(_) if by_file => "EnvironmentFile=-/etc/default/tide-zone\\n".to_owned(),
        Some(zone) => format!("Environment=\"TZ={zone}\"\\n"),
    };
    host.run(&format!(
        "mkdir -p /etc/systemd/system/{unit}.service.d; echo 'TZ={}' > /etc/default/tide-zone; printf \
            '[Unit]\\nStartLimitIntervalSec=0\\n[Service]\\nRestart=no\\n{line}' > \
            /etc/systemd/system/{unit}.service.d/driver.conf; systemctl daemon-reload",
        zone.unwrap_or("UTC")
    ))
    .map(drop)
}

/// A zone, in the form of POSIX, whose clock is put back by an hour so many seconds from now.
fn put_back(host: &Host, seconds: f64) -> Result<String, String> {
    let at = now(host)? + seconds;
    #[expect(clippy::cast_possible_truncation, reason = "seconds of this century")]
    let moment = jiff::Timestamp::from_second(at as i64).map_err(|e| e.to_string())?;
    let civil = (moment + jiff::Span::new().hours(3)).to_zoned(jiff::tz::TimeZone::UTC);
    // Julian days count from 1 and leave out the 29th of February.
    let day = civil.day_of_year() - i16::from(civil.in_leap_year() && civil.month() > 2);
    Ok(format!("QUA-2PIE,J1/0,J{day}/{}", civil.strftime("%H:%M:%S")))
}

/// PostgreSQL's log has a zone of its own, which its configuration sets.
fn log_zone(host: &Host, daemon: &Daemon, zone: Option<&str>) -> Result<(), String> {
    if daemon.process != "postgres" {
        return Ok(());
    }
    let zone = zone.map_or_else(|| "Etc/UTC".to_owned(), |z| z.replace(['<', '>'], ""));
    host.run(&format!("echo \"log_timezone = '{zone}'\" > /etc/postgresql/15/main/conf.d/zone.conf"))
        .map(drop)
}

fn run_steps(host: &Host, drive: &Drive, daemon: &Daemon, chance: &mut Chance) -> Result<Vec<Truth>, String> {
    let unit = daemon.unit;
    let by_file = chance.below(2) == 0;
    let zone = |chance: &mut Chance| ZONES[chance.below(ZONES.len())].to_owned();
    let first = match drive.clock {
        Clock::Host | Clock::Set => None,
        Clock::Zone => Some(zone(chance)),
        Clock::Back => Some(put_back(host, if daemon.process == "java" { 70.0 } else { 18.0 })?),
    };
    host.run(&format!("systemctl stop {unit}; {}", daemon.prepare))?;
    drop_in(host, daemon, first.as_deref(), by_file)?;
    log_zone(host, daemon, first.as_deref())?;
    host.run(
        "systemctl reset-failed; journalctl --rotate; journalctl --vacuum-time=1s; sleep 1.2; find \
            /var/log/nginx /var/log/apache2 /var/log/redis /var/log/mysql /var/log/postgresql \
            /var/log/tomcat10 /var/log/syslog -type f -exec truncate -s 0 {} + 2>/dev/null; truncate -s 0 \
            /var/log/php8.2-fpm.log",
    )?;
    let mut truth: Vec<Truth> = Vec::new();
    let mut moved = drive.clock != Clock::Zone;
    for step in 0..STEPS {
        if drive.clock == Clock::Set {
            host.run("sleep 1.1")?;
        }
        let from = now(host)?;
        if !active(host, unit)? {
            if !moved && step > STEPS / 2 {
                moved = true;
                let zone = zone(chance);
                drop_in(host, daemon, Some(&zone), by_file)?;
                log_zone(host, daemon, Some(&zone))?;
            }
            let before = written(host)?;
            if !daemon.broken.is_empty() && chance.below(3) == 0 {
                let (harm, mend, code) = daemon.broken[chance.below(daemon.broken.len())];
                host.run(harm)?;
                start(host, daemon, "start")?;
                let (to, traced) = (now(host)?, written(host)? != before);
                host.run(&format!("{mend}; systemctl stop {unit}; systemctl reset-failed {unit}"))?;
                truth.push(Truth { from, to, outcome: "failed", afterwards: None, code: Some(code), traced });
            } else {
                start(host, daemon, "start")?;
                truth.push(started(host, from, before)?);
            }
            continue;
        }
        let end = |truth: &mut Vec<Truth>, how: &'static str| {
            if let Some(last) = truth.last_mut() {
                last.afterwards = Some(how);
            }
        };
        match chance.below(6) {
            0 | 1 => {
                host.run(&format!("systemctl stop {unit}"))?;
                end(&mut truth, "stopped");
            }
            2 => {
                host.run(&format!(
                    "kill -9 $(systemctl show -P MainPID {unit}); pkill -9 -x {}; sleep 0.5; \
                    systemctl reset-failed {unit}",
                    daemon.process
                ))?;
                end(&mut truth, "killed");
            }
            3 if daemon.reload => drop(host.run(&format!("systemctl reload {unit}; sleep 0.2"))?),
            4 => {
                let before = written(host)?;
                start(host, daemon, "restart")?;
                end(&mut truth, "stopped");
                truth.push(started(host, from, before)?);
            }
            _ => {
                host.run(&format!(
                    "kill -SEGV $(systemctl show -P MainPID {unit}); sleep 1; pkill -9 -x {}; sleep 0.3; \
                        systemctl stop {unit}; systemctl reset-failed {unit}",
                    daemon.process
                ))?;
                end(&mut truth, "crashed");
            }
        }
    }
    Ok(truth)
}

/// The host's clock is set before one of the starts in the middle: the records say from there on what they
/// would have said.
fn set_clock(host: &Host, truth: &mut [Truth], chance: &mut Chance) -> Result<(), String> {
    // Neither a zone's difference nor near one.
    let by = [-4020.0, -7440.0, 2460.0][chance.below(3)];
    let Some(from) = truth.get(truth.len() / 2).map(|t| t.from) else { return Ok(()) };
    records::set(&host.root().join("var/log"), from, by)?;
    for real in truth.iter_mut().filter(|t| t.from >= from) {
        real.from += by;
        real.to += by;
    }
    Ok(())
}

/// Keeps the logs of a drive where the variable `JOLLY_KEEP` names a directory, to look at them.
fn keep(host: &Host, drive: &Drive, daemon: &Daemon, truth: &[Truth]) -> Result<(), String> {
    let Some(dir) = std::env::var_os("JOLLY_KEEP") else { return Ok(()) };
    let dir = Path::new(&dir).join(drive.name).join(daemon.unit);
    let said = |e: std::io::Error| format!("{}: {e}", dir.display());
    std::fs::create_dir_all(&dir).map_err(said)?;
    std::process::Command::new("cp")
        .arg("-a")
        .arg(host.root().join("var/log"))
        .arg(&dir)
        .status()
        .map_err(said)?;
    let lines: Vec<String> = truth.iter().map(|t| format!("{t:?}\n")).collect();
    std::fs::write(dir.join("truth"), lines.concat()).map_err(said)
}

fn written(host: &Host) -> Result<String, String> {
    Ok(String::from_utf8_lossy(&host.run(WRITTEN)?.stdout).into_owned())
}

fn started(host: &Host, from: f64, before: String) -> Result<Truth, String> {
    let (to, traced) = (now(host)?, written(host)? != before);
    Ok(Truth { from, to, outcome: "ready", afterwards: Some("running"), code: None, traced })
}

fn micros(value: &Value) -> Option<f64> {
    let stamp: jiff::Timestamp = value.as_str()?.parse().ok()?;
    Some(stamp.as_microsecond() as f64 / 1e6)
}

fn score(
    host: &Host,
    program: &Path,
    daemon: &Daemon,
    (view, clock): (View, Clock),
    truth: &[Truth],
    score: &mut Score,
) -> Result<Vec<String>, String> {
    let out = view.ask(host, program, daemon.unit)?;
    let report: Value = serde_json::from_slice(&out.stdout)
        .map_err(|e| format!("attempts {}: {e}: {}", daemon.unit, String::from_utf8_lossy(&out.stderr)))?;
    let told: Vec<&Value> = report["attempts"].as_array().into_iter().flatten().collect();
    let first = truth.first().map_or(0.0, |t| t.from);
    // Oldest first.
    let told: Vec<&Value> = (told.into_iter().rev())
        .filter(|a| micros(&a["began"]).is_some_and(|t| t > first - 86400.0))
        .collect();
    let mut used = vec![false; told.len()];
    let mut wrong = Vec::new();
    let counts = |t: &Truth| view == View::Full || t.traced;
    score.truth = truth.iter().filter(|t| counts(t)).count();
    score.daemons = 1;
    let last_counted = truth.iter().rposition(counts);
    // A master that dies without a word is the same in its files, however it died.
    let silent = view != View::Full && !daemon.tells_crash;
    // A disk does not tell what became of the last one.
    let mut last = None;
    let last_from = last_counted.map_or(0.0, |at| truth[at].from);
    let right = |real: &Truth, got: &Value| {
        let afterwards = got["afterwards"].as_str();
        let unknown = view == View::Disk && real.from >= last_from && afterwards.is_none();
        // Stamps from before the host's coming up, as the record has it, do not tell whether a run that ended
        // without a word was killed or went down with the host.
        let unknown =
            unknown || clock == Clock::Set && afterwards.is_none() && real.afterwards != Some("stopped");
        let died = silent && real.afterwards == Some("crashed") && afterwards == Some("killed");
        got["outcome"] == real.outcome && (afterwards == real.afterwards || unknown || died)
    };
    for (number, at) in aligned(truth, &told, counts, right).into_iter().enumerate() {
        let real = &truth[number];
        let Some(at) = at else {
            if counts(real) {
                wrong.push(format!("not found: {real:?}"));
            }
            continue;
        };
        used[at] = true;
        if !counts(real) {
            continue;
        }
        let got = told[at];
        score.found += 1;
        let right = right(real, got);
        if right {
            score.outcome += 1;
        } else {
            wrong.push(format!("outcome {} {}, but {real:?}: {got}", got["outcome"], got["afterwards"]));
        }
        if let Some(code) = real.code {
            score.failures += 1;
            if got["failures"][0]["code"] == code {
                score.reason += 1;
            } else {
                wrong.push(format!("reason {}, but {real:?}: {got}", got["failures"][0]));
            }
        }
        if Some(number) == last_counted {
            last = Some((at, right));
        }
    }
    // What is told of later was real, too.
    score.last = usize::from(last.is_some_and(|(at, right)| right && used[at..].iter().all(|u| *u)));
    score.told = told.len();
    score.invented = used.iter().filter(|u| !**u).count();
    wrong.extend(told.iter().zip(&used).filter(|(_, u)| !**u).map(|(a, _)| {
        format!(
            "invented: {} {} {} by {} {}",
            a["began"], a["outcome"], a["afterwards"], a["started_by"], a["logs"]
        )
    }));
    Ok(wrong)
}

/// Which of the told attempts is which of the real ones: in order, as many as can be of those that count. A
/// stamp of whole seconds leaves several open.
fn aligned(
    truth: &[Truth],
    told: &[&Value],
    counts: impl Fn(&Truth) -> bool,
    right: impl Fn(&Truth, &Value) -> bool,
) -> Vec<Option<usize>> {
    let worth = |real: &Truth, got: &Value| -> u32 {
        let fits = micros(&got["began"]).is_some_and(|t| t > real.from - 1.5 && t < real.to + 1.0);
        if fits { (if counts(real) { 100 } else { 1 }) + u32::from(right(real, got)) } else { 0 }
    };
    let mut best = vec![vec![0u32; told.len() + 1]; truth.len() + 1];
    for (n, real) in truth.iter().enumerate().rev() {
        for (m, got) in told.iter().enumerate().rev() {
            let worth = worth(real, got);
            let taken = if worth > 0 { worth + best[n + 1][m + 1] } else { 0 };
            best[n][m] = best[n + 1][m].max(best[n][m + 1]).max(taken);
        }
    }
    let mut m = 0;
    let mut found = Vec::new();
    for (n, real) in truth.iter().enumerate() {
        while m < told.len() && best[n][m] == best[n][m + 1] {
            m += 1;
        }
        let taken = m < told.len() && {
            let worth = worth(real, told[m]);
            worth > 0 && best[n][m] == worth + best[n + 1][m + 1]
        };
        found.push(taken.then_some(m));
        m += usize::from(taken);
    }
    found
}
