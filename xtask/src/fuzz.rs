//! `cargo xtask fuzz [--seconds N]`: every reader of outside input on mutated samples. A reader may say
//! anything, but must neither panic nor hang. What breaks one is written to `xtask/fuzz/` and runs first the
//! next time.
use crate::chance::Chance;
use jolly_core::bundle::Replayer;
use jolly_core::host::{Answer, ClockReading, FileKind, FileStatus, Host, Look, Parts, Question, Unseen};
use jolly_core::kinds::{self, Instance};
use jolly_core::log::{AttemptRequest, attempts};
use jolly_core::snapshot::Snapshot;
use std::collections::BTreeMap;
use std::path::Path;
use std::time::{Duration, Instant};

const FINDS: &str = "xtask/fuzz";
/// A single input that takes longer than this counts as a hang.
const PATIENCE: Duration = Duration::from_secs(5);

/// A host of a few files.
#[derive(Default)]
struct Files(BTreeMap<String, Vec<u8>>);

impl Host for Files {
    fn ask(&self, question: &Question) -> Look<Answer> {
        let status = |path: &String| {
            let file =
                self.0.get(path).map(|b| FileStatus::plain(FileKind::Regular, 0o644, 0, 0, b.len() as u64));
            let folder = || {
                self.0
                    .keys()
                    .any(|f| f.starts_with(&format!("{}/", path.trim_end_matches('/'))))
                    .then(|| FileStatus::plain(FileKind::Directory, 0o755, 0, 0, 0))
            };
            file.or_else(folder).map_or(Look::Absent, |s| Look::Seen(Answer::Status(s)))
        };
        match question {
            Question::Stat(p) | Question::LinkStat(p) => status(p),
            Question::Read(p) => {
                self.0.get(p).map_or(Look::Absent, |b| Look::Seen(Answer::Bytes(b.clone().into())))
            }
            Question::ReadAt(p, from, length) => self.0.get(p).map_or(Look::Absent, |b| {
                let from = usize::try_from(*from).unwrap_or(usize::MAX).min(b.len());
                let to = from.saturating_add(*length as usize).min(b.len());
                Look::Seen(Answer::Bytes(b[from..to].into()))
            }),
            Question::List(dir) => {
                let names =
                    self.0.keys().filter(|f| jolly_core::path::parent(f) == dir.trim_end_matches('/'));
                let entries = names.map(|f| jolly_core::host::DirectoryEntry {
                    name: jolly_core::path::name(f).to_owned(),
                    kind: FileKind::Regular,
                });
                Look::Seen(Answer::Names(entries.collect()))
            }
            Question::Clock => Look::Seen(Answer::Clock(ClockReading {
                now: 1_932_876_611_000_000,
                booted: None,
                host: "quay1".into(),
            })),
            Question::ReadLink(_) => Look::Absent,
            _ => Look::NotSeen(Unseen::PartMissing),
        }
    }
    fn parts(&self) -> Parts {
        Parts { files: true, processes: false, manager: false, interfaces: false, clock: true, probes: false }
    }
}

type Target = fn(&str, &[u8]);

/// Name of the target, the kind or form it is about, what it does with bytes.
fn targets() -> Vec<(String, String, Target)> {
    let mut all: Vec<(String, String, Target)> = Vec::new();
    for kind in kinds::KINDS {
        all.push((format!("config-{}", kind.name()), kind.name().into(), configuration));
        all.push((format!("log-{}", kind.name()), kind.name().into(), log));
    }
    for packing in ["gz", "zst", "xz", "bz2"] {
        all.push((format!("packing-{packing}"), packing.into(), packed));
    }
    for (name, target) in [
        ("journal", journal as Target),
        ("certificate", certificate),
        ("bundle", bundle),
        ("services-file", services),
        ("unit", unit),
        ("program", program),
        ("data-mysql", data),
        ("data-postgresql", data),
        ("data-redis", data),
    ] {
        all.push((name.into(), name.trim_start_matches("data-").into(), target));
    }
    all
}

fn configuration(kind: &str, bytes: &[u8]) {
    let Some(kind) = kinds::kind(kind) else { return };
    let config = "/etc/edge/edge.conf".to_owned();
    let host = Files(BTreeMap::from([(config.clone(), bytes.to_vec())]));
    let instance = Instance { config, keep_all: true, ..Instance::default() };
    let _ = kind.read(&Snapshot::new(&host), &instance);
}

fn log(kind: &str, bytes: &[u8]) {
    history(kind, "/var/log/edge.log", bytes);
}

fn packed(packing: &str, bytes: &[u8]) {
    history("redis", &format!("/var/log/edge.log.1.{packing}"), bytes);
}

fn history(kind: &str, file: &str, bytes: &[u8]) {
    let Some(kind) = kinds::kind(kind) else { return };
    let host = Files(BTreeMap::from([(file.to_owned(), bytes.to_vec())]));
    let files = ["/var/log/edge.log".to_owned()];
    for most in [1, 1000] {
        let zone = jiff::tz::TimeZone::UTC;
        let request = AttemptRequest::of_files(kind.log_owner(), &files, &zone, most);
        let _ = attempts(&Snapshot::new(&host), &request);
    }
}

fn journal(_: &str, bytes: &[u8]) {
    let read: jolly_core::log::journal::ReadAt = Box::new(|from, length| {
        let from = usize::try_from(from).ok()?.min(bytes.len());
        Some(bytes[from..from.saturating_add(length as usize).min(bytes.len())].to_vec())
    });
    let _ = jolly_core::log::journal::newest(vec![read], "edge.service", 50);
}

fn certificate(_: &str, bytes: &[u8]) {
    let _ = jolly_core::keys::certificate(bytes);
    let _ = jolly_core::keys::facts(bytes);
}

fn bundle(_: &str, bytes: &[u8]) {
    if let Ok(host) = Replayer::from_json(bytes) {
        let _ = host.ask(&Question::Processes);
    }
}

fn services(_: &str, bytes: &[u8]) {
    let _ = jolly_core::services_file::parse(&String::from_utf8_lossy(bytes));
}

fn unit(_: &str, bytes: &[u8]) {
    let host = Files(BTreeMap::from([("/etc/systemd/system/edge.service".to_owned(), bytes.to_vec())]));
    let snapshot = Snapshot::new(&host);
    if let Some(unit) = jolly_core::manager::unit(&snapshot, "edge.service").seen() {
        let _ = (
            unit.commands("ExecStart"),
            unit.environment(),
            unit.start_timeout(),
            unit.barrier("/var/log/edge", jolly_core::access::Right::Write),
        );
    }
}

fn program(_: &str, bytes: &[u8]) {
    let host = Files(BTreeMap::from([("/opt/edge".to_owned(), bytes.to_vec())]));
    let snapshot = Snapshot::new(&host);
    let _ = jolly_core::runtime::elf::missing(&snapshot, "/opt/edge", &BTreeMap::new());
    let _ = jolly_core::runtime::java::compiled_for(&snapshot, "/opt/edge");
}

fn data(kind: &str, bytes: &[u8]) {
    let Some(kind) = kinds::kind(kind) else { return };
    let names = ["PG_VERSION", "global/pg_control", "aria_log_control", "ibdata1", "ib_logfile0", "dump.rdb"];
    let host = Files(names.iter().map(|n| (format!("/srv/edge/{n}"), bytes.to_vec())).collect());
    let _ = kind.data_faults(&Snapshot::new(&host), &Instance::default(), "/srv/edge");
}

/// A few changes of a sample: bits, bytes, stretches taken out, doubled or taken from another sample.
fn mutated(chance: &mut Chance, sample: &[u8], other: &[u8]) -> Vec<u8> {
    const TOKENS: &[&[u8]] = &[
        b"\n",
        b"{",
        b"}",
        b"\"",
        b"'",
        b"\\",
        b"\0",
        b"\xff",
        b"-1",
        b"99999999999999999999",
        b"<",
        b">",
        b"%",
        b"$",
        b"\r\n",
        b"include",
        b"[",
    ];
    let mut bytes = sample.to_vec();
    for _ in 0..=chance.below(6) {
        let at = chance.below(bytes.len() + 1);
        let to = (at + chance.below(40)).min(bytes.len());
        match chance.below(7) {
            0 if at < bytes.len() => bytes[at] ^= 1 << chance.below(8),
            1 if at < bytes.len() => bytes[at] = u8::try_from(chance.below(256)).unwrap_or(0),
            2 => drop(bytes.drain(at..to)),
            3 => {
                let piece = bytes[at..to].to_vec();
                bytes.splice(at..at, piece);
            }
            4 => {
                let from = chance.below(other.len() + 1);
                let piece = other[from..(from + chance.below(60)).min(other.len())].to_vec();
                bytes.splice(at..at, piece);
            }
            5 => bytes.truncate(at),
            _ => {
                let token = TOKENS[chance.below(TOKENS.len())].to_vec();
                bytes.splice(at..at, token);
            }
        }
    }
    bytes
}

/// Samples of a target: those of the repository that are of its sort, and what broke it before.
fn samples(name: &str, about: &str) -> Vec<Vec<u8>> {
    let folder = about.replace('-', "_");
    let mut found: Vec<Vec<u8>> = Vec::new();
    let mut add = |path: &Path| found.extend(std::fs::read(path).ok());
    if name.starts_with("config-") || name.starts_with("log-") {
        for file in ["samples.txt", "log.toml", "failures.toml"] {
            add(&Path::new("crates/core/src/kinds").join(&folder).join(file));
        }
    }
    for dir in [
        "crates/cli/demo".to_owned(),
        "crates/core/src/keys/samples".to_owned(),
        format!("{FINDS}/{name}"),
        format!("crates/cli/tests/corpus/{about}"),
    ] {
        for entry in std::fs::read_dir(dir).into_iter().flatten().flatten().take(200) {
            add(&entry.path());
        }
    }
    found.push(
        b"[Unit]\nRequires=a.service\n[Service]\nUser=edge\n\
        ExecStart=/usr/sbin/nginx -c /etc/edge.conf\nReadOnlyPaths=/var\n"
            .to_vec(),
    );
    found.push(
        b"server {\n listen 80;\n}\n<VirtualHost *:80>\n</VirtualHost>\n[mysqld]\nport=3306\n\
        bind 127.0.0.1\n"
            .to_vec(),
    );
    found.push(b"LPKSHHRH\0\0\0\0\0\0\0\0".to_vec());
    found.iter_mut().for_each(|s| s.truncate(20_000));
    found
}

pub(crate) fn run(seconds: u64) -> Result<(), String> {
    let all = targets();
    let share = Duration::from_millis(seconds * 1000 / all.len() as u64);
    let mut broken = 0;
    // A panic is caught and counted; its words would only be noise.
    std::panic::set_hook(Box::new(|_| {}));
    for (name, about, target) in &all {
        let samples = samples(name, about);
        let mut chance = Chance::new(0x5eed_0f7e ^ name.len() as u64);
        let (began, mut runs) = (Instant::now(), 0u64);
        while began.elapsed() < share {
            let sample = &samples[chance.below(samples.len())];
            let other = &samples[chance.below(samples.len())];
            let input = if runs < samples.len() as u64 {
                samples[usize::try_from(runs).unwrap_or(0)].clone()
            } else {
                mutated(&mut chance, sample, other)
            };
            runs += 1;
            let started = Instant::now();
            let outcome = std::panic::catch_unwind(|| target(about, &input));
            if outcome.is_err() || started.elapsed() > PATIENCE {
                broken += 1;
                keep(name, &input)?;
                say(&format!(
                    "{name}: {} on {} bytes",
                    if outcome.is_err() { "panic" } else { "hang" },
                    input.len()
                ));
                break;
            }
        }
        say(&format!("{name:<20} {runs} inputs"));
    }
    let _ = std::panic::take_hook();
    if broken == 0 { Ok(()) } else { Err(format!("{broken} readers broke; the inputs are in {FINDS}")) }
}

fn keep(name: &str, input: &[u8]) -> Result<(), String> {
    let dir = Path::new(FINDS).join(name);
    std::fs::create_dir_all(&dir).map_err(|e| e.to_string())?;
    let sum = input.iter().fold(0u64, |h, b| h.wrapping_mul(0x100_0000_01b3) ^ u64::from(*b));
    std::fs::write(dir.join(format!("{sum:016x}")), input).map_err(|e| e.to_string())
}

#[expect(clippy::print_stdout, reason = "a chore reports to its caller")]
fn say(text: &str) {
    println!("{text}");
}
