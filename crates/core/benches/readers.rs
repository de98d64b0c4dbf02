//! What reading costs, and how it grows: configurations, logs from either end, failure patterns.
#![allow(
    clippy::unwrap_used,
    missing_docs,
    reason = "a bench ends by panicking, and its harness documents itself"
)]

use criterion::{BenchmarkId, Criterion, Throughput, criterion_group, criterion_main};
use jolly_core::host::{Answer, FileKind, FileStatus, Host, Look, Parts, Question, Unseen};
use jolly_core::kinds::{Instance, kind};
use jolly_core::log::{AttemptRequest, attempts};
use jolly_core::snapshot::Snapshot;
use std::fmt::Write;

/// A host of one file.
struct OneFile(&'static str, Vec<u8>);

impl Host for OneFile {
    fn ask(&self, question: &Question) -> Look<Answer> {
        match question {
            Question::Stat(p) | Question::LinkStat(p) if p == self.0 => Look::Seen(Answer::Status(
                FileStatus::plain(FileKind::Regular, 0o644, 0, 0, self.1.len() as u64),
            )),
            Question::Read(p) if p == self.0 => Look::Seen(Answer::Bytes(self.1.clone().into())),
            Question::ReadAt(p, from, length) if p == self.0 => {
                let from = usize::try_from(*from).unwrap().min(self.1.len());
                Look::Seen(Answer::Bytes(self.1[from..(from + *length as usize).min(self.1.len())].into()))
            }
            Question::Stat(_)
            | Question::LinkStat(_)
            | Question::Read(_)
            | Question::List(_)
            | Question::ReadLink(_) => Look::Absent,
            _ => Look::NotSeen(Unseen::PartMissing),
        }
    }
    fn parts(&self) -> Parts {
        Parts { files: true, ..Parts::default() }
    }
}

fn sites(count: usize) -> String {
    let mut text = String::from("events { }\nhttp {\n");
    for n in 0..count {
        let _ = writeln!(
            text,
            "    server {{\n        listen 80;\n        server_name \
                pier{n}.saltmarsh-ferries.example;\n        location / {{\n            return \
                204;\n        }}\n    }}"
        );
    }
    text + "}\n"
}

fn log(starts: usize, lines: usize) -> String {
    let mut text = String::new();
    for start in 0..starts {
        let day = start % 28 + 1;
        let _ = writeln!(
            text,
            "{start}:C {day:02} Apr 2031 06:00:00.000 # oO0OoO0OoO0Oo Redis is starting oO0OoO0OoO0Oo"
        );
        let _ = writeln!(text, "{start}:M {day:02} Apr 2031 06:00:00.050 * Ready to accept connections");
        for line in 0..lines {
            let _ = writeln!(
                text,
                "{start}:M {day:02} Apr 2031 07:00:00.{:03} - the tide stands at {line} cm, nothing else to \
                    tell",
                line % 1000
            );
        }
    }
    text
}

fn configurations(c: &mut Criterion) {
    let mut group = c.benchmark_group("nginx sites");
    for count in [100, 1000, 4000] {
        let text = sites(count);
        group.throughput(Throughput::Bytes(text.len() as u64));
        let host = OneFile("/etc/nginx/nginx.conf", text.into_bytes());
        let instance = Instance { config: host.0.to_owned(), ..Instance::default() };
        group.bench_with_input(BenchmarkId::from_parameter(count), &count, |b, _| {
            b.iter(|| kind("nginx").unwrap().read(&Snapshot::new(&host), &instance))
        });
    }
    group.finish();
}

fn histories(c: &mut Criterion) {
    let mut group = c.benchmark_group("attempts of a log");
    group.sample_size(20);
    let redis = kind("redis").unwrap();
    let files = ["/var/log/redis.log".to_owned()];
    for lines in [1_000, 20_000] {
        let text = log(40, lines);
        group.throughput(Throughput::Bytes(text.len() as u64));
        let host = OneFile("/var/log/redis.log", text.into_bytes());
        for most in [1, 1000] {
            let name = if most == 1 { "the last one" } else { "all" };
            group.bench_with_input(BenchmarkId::new(name, lines), &lines, |b, _| {
                let zone = jiff::tz::TimeZone::UTC;
                let request = AttemptRequest::of_files(redis.log_owner(), &files, &zone, most);
                b.iter(|| attempts(&Snapshot::new(&host), &request));
            });
        }
    }
    group.finish();
}

fn patterns(c: &mut Criterion) {
    let known = "2031/04/02 06:10:11 [emerg] 7#7: bind() to 0.0.0.0:80 failed (98: Address already in use)";
    let catalogue = kind("nginx").unwrap().catalogue();
    c.bench_function("a line that a rule knows", |b| b.iter(|| catalogue.recognise(known)));
    c.bench_function("a line that no rule knows", |b| {
        b.iter(|| catalogue.recognise("the tide gauge speaks in tongues today, and nobody listens"))
    });
}

criterion_group!(benches, configurations, histories, patterns);
criterion_main!(benches);
