//! What daemons say when they are really broken, and what the log rooms make of it.
use crate::code::Code;
use crate::log::{AttemptRequest, attempts};
use crate::snapshot::Snapshot;
use crate::tests::TextHost;

/// What each daemon said when it was really broken (`cargo xtask samples`).
const SAMPLES: &[(&str, &str)] = &[
    ("httpd", include_str!("../httpd/samples.txt")),
    ("nginx", include_str!("../nginx/samples.txt")),
    ("haproxy", include_str!("../haproxy/samples.txt")),
    ("mysql", include_str!("../mysql/samples.txt")),
    ("postgresql", include_str!("../postgresql/samples.txt")),
    ("redis", include_str!("../redis/samples.txt")),
    ("php-fpm", include_str!("../php_fpm/samples.txt")),
    ("tomcat", include_str!("../tomcat/samples.txt")),
    ("program", include_str!("../../log/samples.txt")),
];

/// The first cause that the log rooms make of the lines of one failed start.
fn first_cause(kind: &'static dyn crate::kinds::Kind, lines: &[&str]) -> Option<Code> {
    let mut entries: Vec<(u64, &str, &str)> = vec![(1, "7d4958e842da4a758f6c1cdc7b36dcc5", "Starting")];
    entries.extend((2..).zip(lines).map(|(at, line)| (at, "", *line)));
    entries.push((90_000, "be02cf6855d2428ba40df7e9d022f03d", "Failed to start"));
    let host = TextHost::new().journal(&entries);
    let zone = jiff::tz::TimeZone::UTC;
    let request = AttemptRequest {
        unit: Some("front.service"),
        reports_ready: true,
        count_all: false,
        ..AttemptRequest::of_files(kind.log_owner(), &[], &zone, 1)
    };
    attempts(&Snapshot::new(&host), &request).list[0]
        .failures
        .iter()
        .find(|f| !f.found.aftermath)
        .map(|f| f.code)
}

#[test]
fn every_daemon_is_understood_in_its_own_words() {
    let mut wrong = Vec::new();
    for (name, text) in SAMPLES {
        let kind = crate::kinds::kind(name).expect("a kind");
        for block in text.split("\n== ").skip(1) {
            let mut lines = block.lines();
            let head = lines.next().unwrap_or_default();
            let (code, story) = head.split_once(" | ").expect("cause and story");
            let lines: Vec<&str> = lines.collect();
            let told = first_cause(kind, &lines).map_or("nothing", |c| c.facts().name);
            if told != code {
                wrong.push(format!(
                    "{name}: {story}: {code}, but the log is taken for {told}\n    {}",
                    lines.join("\n    ")
                ));
            }
        }
    }
    assert!(wrong.is_empty(), "{} misunderstood:\n{}", wrong.len(), wrong.join("\n"));
}
