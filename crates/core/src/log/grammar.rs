//! How a kind's log lines begin, and which words mark the stages of a run. The data stand in the kind's folder.
use super::catalogue::bytes_pattern;
use jiff::civil::DateTime;
use jiff::fmt::strtime::BrokenDownTime;
use jiff::tz::TimeZone;
use regex::bytes::Regex;
use serde::Deserialize;
use std::sync::OnceLock;

/// A kind's log format.
pub struct Grammar {
    text: &'static str,
    parsed: OnceLock<Option<Parsed>>,
}

#[derive(Deserialize)]
struct Data {
    #[serde(default)]
    head: Vec<HeadData>,
    #[serde(default)]
    marks: Marks,
}

#[derive(Deserialize)]
struct HeadData {
    pattern: String,
    time: String,
    /// `UTC` where such lines are in that zone whatever the daemon's is.
    zone: Option<String>,
}

#[derive(Default, Deserialize)]
struct Marks {
    #[serde(default)]
    begin: Vec<String>,
    #[serde(default)]
    ready: Vec<String>,
    #[serde(default)]
    stop: Vec<String>,
    #[serde(default)]
    reload: Vec<String>,
    /// Seconds after the manager's word "started" in which a daemon that reports nothing to it is still coming up.
    window: Option<u32>,
}

struct Parsed {
    heads: Vec<(Regex, String, bool)>,
    marks: Marks,
}

/// Head of a line, understood.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Head {
    /// Microseconds since the epoch.
    pub time: i64,
    /// Severity word, lower case, empty when the format has none.
    pub level: String,
    /// Process that wrote it, when the line tells.
    pub pid: Option<u32>,
    /// Bytes of the head.
    pub length: usize,
}

/// What a line marks.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Mark {
    /// A start begins.
    Begin,
    /// The daemon is ready.
    Ready,
    /// It was told to stop.
    Stop,
    /// It reads its configuration anew.
    Reload,
}

impl Grammar {
    /// A grammar over committed data.
    pub const fn new(text: &'static str) -> Self {
        Self { text, parsed: OnceLock::new() }
    }

    fn parsed(&self) -> Option<&Parsed> {
        self.parsed
            .get_or_init(|| {
                let data: Data = toml::from_str(self.text).ok()?;
                let heads =
                    data.head.into_iter().map(|h| Some((bytes_pattern(&h.pattern)?, h.time, h.zone.as_deref() == Some("UTC")))).collect::<Option<_>>()?;
                Some(Parsed { heads, marks: data.marks })
            })
            .as_ref()
    }

    /// Whether the data are well formed; held by a test.
    pub fn is_sound(&self) -> bool {
        self.parsed().is_some()
    }

    /// Understands the head of a line. `zone` is that of the daemon's process.
    pub fn head(&self, line: &str, zone: &TimeZone) -> Option<Head> {
        let universal = TimeZone::UTC;
        self.parsed()?.heads.iter().find_map(|(pattern, format, utc)| {
            let found = pattern.captures(line.as_bytes())?;
            let group = |name: &str| found.name(name).and_then(|m| std::str::from_utf8(m.as_bytes()).ok());
            Some(Head {
                time: parse_time(group("time")?, format, if *utc { &universal } else { zone })?,
                level: group("level").unwrap_or_default().to_ascii_lowercase(),
                pid: group("pid").and_then(|p| p.parse().ok()),
                length: found.get(0)?.end(),
            })
        })
    }

    /// How long after the manager's word "started" lines still belong to the start, in microseconds.
    pub fn window(&self) -> i64 {
        i64::from(self.parsed().and_then(|p| p.marks.window).unwrap_or(3)) * 1_000_000
    }

    /// What a line marks, if anything.
    pub fn mark(&self, line: &str) -> Option<Mark> {
        let marks = &self.parsed()?.marks;
        let holds = |words: &[String]| words.iter().any(|w| line.contains(w.as_str()));
        match () {
            () if holds(&marks.reload) => Some(Mark::Reload),
            () if holds(&marks.begin) => Some(Mark::Begin),
            () if holds(&marks.ready) => Some(Mark::Ready),
            () if holds(&marks.stop) => Some(Mark::Stop),
            () => None,
        }
    }
}

/// A stamp in a format of `strftime`; without a zone of its own it is in `zone`.
fn parse_time(text: &str, format: &str, zone: &TimeZone) -> Option<i64> {
    let parsed = BrokenDownTime::parse(format, text).ok()?;
    if let Ok(stamp) = parsed.to_timestamp() {
        return Some(stamp.as_microsecond());
    }
    let civil: DateTime = parsed.to_datetime().ok()?;
    Some(zone.to_timestamp(civil).ok()?.as_microsecond())
}
