//! How a kind's log lines begin, and which words mark the stages of a run. The data stand in the kind's
//! folder.
use super::catalogue::bytes_pattern;
use super::stamp::Format;
use super::words;
use crate::host::is_on_calendar;
use aho_corasick::{AhoCorasick, packed};
use jiff::Timestamp;
use jiff::civil::DateTime;
use jiff::fmt::strtime::BrokenDownTime;
use jiff::tz::TimeZone;
use regex::bytes::{CaptureLocations, Regex};
use serde::Deserialize;
use std::collections::HashMap;
use std::sync::{Mutex, OnceLock, PoisonError};

/// A kind's log format.
pub struct Grammar {
    text: &'static str,
    /// What a user said of one service's log, over the data.
    own: Option<OwnRules>,
    parsed: OnceLock<Option<Parsed>>,
}

/// What a user says of one service's log.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct OwnRules {
    /// How a line begins, and the format of its time.
    pub head: Option<(String, String)>,
    /// Words of a beginning.
    pub begin: Vec<String>,
    /// Words of being ready.
    pub ready: Vec<String>,
    /// Words of a stop.
    pub stop: Vec<String>,
}

impl OwnRules {
    /// Whether they can be used.
    ///
    /// # Errors
    /// A sentence about the expression.
    pub fn check(&self) -> Result<(), String> {
        let Some((pattern, _)) = &self.head else { return Ok(()) };
        let pattern = bytes_pattern(pattern)
            .ok_or_else(|| format!("log_head \"{pattern}\" is not a regular expression"))?;
        if pattern.capture_names().flatten().any(|n| n == "time") {
            Ok(())
        } else {
            Err("log_head needs a group (?<time>…)".into())
        }
    }
}

/// Heads that programs beside the daemon put before its lines.
static GENERAL: OnceLock<Vec<HeadRule>> = OnceLock::new();
/// Heads of programs that nobody knows.
static WIDE: OnceLock<Vec<HeadRule>> = OnceLock::new();

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
#[serde(deny_unknown_fields)]
struct Marks {
    #[serde(default)]
    begin: Vec<String>,
    #[serde(default)]
    ready: Vec<String>,
    #[serde(default)]
    stop: Vec<String>,
    #[serde(default)]
    reload: Vec<String>,
    /// Words of failures that stand alone, of starts that wrote no beginning.
    #[serde(default)]
    fail: Vec<String>,
    /// Words of a run that died by itself.
    #[serde(default)]
    crash: Vec<String>,
    /// Words of a beginning behind which the number of its process stands.
    #[serde(default)]
    process: Vec<String>,
    /// The last words of a start that failed.
    #[serde(default)]
    over: Vec<String>,
    /// Seconds after the manager's word "started" in which a daemon that reports nothing to it is still
    /// coming up.
    window: Option<u32>,
    /// The words of the marks are anybody's, not those of one daemon: they count as words of their own only,
    /// and in lines that tell of no failure.
    #[serde(default)]
    general: bool,
}

struct HeadRule {
    pattern: Regex,
    time: String,
    /// The same, where it can be read without the library.
    quick: Option<Format>,
    groups: Groups,
    /// Room for the places of groups: it need not be made for each line.
    room: Mutex<Vec<CaptureLocations>>,
    universal: bool,
}

/// Numbers of the groups of a head.
struct Groups {
    time: usize,
    level: Option<usize>,
    pid: Option<usize>,
    program: Option<usize>,
    client: Option<usize>,
    zone: Option<usize>,
}

impl Groups {
    fn of(pattern: &Regex) -> Option<Self> {
        let find = |name: &str| pattern.capture_names().position(|n| n == Some(name));
        Some(Self {
            time: find("time")?,
            level: find("level"),
            pid: find("pid"),
            program: find("program"),
            client: find("client"),
            zone: find("zone"),
        })
    }
}

struct Parsed {
    heads: Vec<HeadRule>,
    marks: Marks,
    finder: Option<Finder>,
}

/// Finds the next mark in a stretch of bytes.
pub(super) enum Finder {
    /// By a rare part of each, which is quicker than by their beginnings.
    Parts(packed::Searcher, Vec<Part>),
    Packed(packed::Searcher),
    Automaton(AhoCorasick),
}

/// A part of the words of one or several marks.
pub(super) struct Part {
    text: [u8; PART],
    /// The words it is of, and where it stands in them.
    of: Vec<(Vec<u8>, usize)>,
}

/// Bytes of a part: more of them take longer to look for, fewer are found where no mark is.
const PART: usize = 3;

/// How common a byte is in logs, roughly: the lower, the rarer.
fn commonness(byte: u8) -> u32 {
    match byte {
        b'0'..=b'9' | b' ' => 9,
        b':' | b'-' | b'.' | b'/' | b'[' | b']' | b'"' | b',' | b'=' | b'e' | b't' | b'a' | b'o' | b'r'
        | b'n' | b'i' | b's' => 7,
        b'(' | b')' | b'_' | b'd' | b'l' | b'c' | b'u' | b'p' | b'm' | b'h' => 5,
        b'A'..=b'Z' => 4,
        b'f' | b'g' | b'b' | b'v' | b'w' | b'y' => 3,
        _ => 1,
    }
}

/// How often the parts of some words stand in a sample.
fn frequency(words: &[&str], sample: &[u8]) -> HashMap<[u8; PART], u32> {
    let of = |bytes: &[u8]| -> Option<[u8; PART]> { bytes.try_into().ok() };
    let all = words.iter().flat_map(|w| w.as_bytes().windows(PART)).filter_map(of);
    let mut found: HashMap<_, _> = all.map(|part| (part, 0)).collect();
    for part in sample.windows(PART).filter_map(of) {
        if let Some(count) = found.get_mut(&part) {
            *count += 1;
        }
    }
    found
}

/// The parts of some words that are rarest in a sample; what is as rare there by what is common in logs.
/// `None` where some words are too short to have one.
fn parts(words: &[&str], sample: &[u8]) -> Option<Vec<Part>> {
    let frequency = frequency(words, sample);
    let mut parts: Vec<Part> = Vec::new();
    for word in words {
        let places = word.as_bytes().windows(PART).enumerate();
        // One that is looked for already costs nothing.
        let cost = |text: &[u8]| {
            let seen = frequency.get(text).copied().unwrap_or(0);
            let looked_for = parts.iter().any(|p| p.text == text);
            (seen, if looked_for { 0 } else { text.iter().map(|b| commonness(*b)).product::<u32>() })
        };
        let (at, text) = places.min_by_key(|(_, text)| cost(text))?;
        let of = (word.as_bytes().to_vec(), at);
        match parts.iter_mut().find(|p| p.text == text) {
            Some(part) => part.of.push(of),
            None => parts.push(Part { text: text.try_into().ok()?, of: vec![of] }),
        }
    }
    Some(parts)
}

/// Where words begin whose rare part stands somewhere.
fn find_by_parts(searcher: &packed::Searcher, parts: &[Part], bytes: &[u8]) -> Option<usize> {
    let mut from = 0;
    while let Some(hit) = searcher.find(&bytes[from..]) {
        let at = from + hit.start();
        let part = &parts[hit.pattern().as_usize()];
        let begin = part
            .of
            .iter()
            .filter_map(|(word, place)| Some((at.checked_sub(*place)?, word)))
            .find(|(begin, word)| bytes[*begin..].starts_with(word));
        if let Some((begin, _)) = begin {
            return Some(begin);
        }
        from = at + 1;
    }
    None
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
    /// The program, where something else than it wrote the line down.
    pub program: Option<String>,
    /// Whether the words after the head can be a client's.
    pub of_client: bool,
    /// The message, where the line is a structured record and not a head with a text behind it.
    pub body: Option<String>,
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
    /// A start failed, perhaps without having said that it began.
    Fail,
    /// A run died by itself.
    Crash,
}

/// What is known of a line's surroundings when its stamp is read.
#[derive(Clone, Copy, Debug)]
pub struct Around<'z> {
    /// Zone of the daemon's process.
    pub zone: &'z TimeZone,
    /// The stamp of the line before; at the change of the clocks it decides which of two hours is meant.
    pub before: Option<i64>,
    /// No line can be later than this: the last change of the file. It tells the year of stamps without one.
    pub latest: Option<i64>,
}

impl<'z> Around<'z> {
    /// Nothing but the zone.
    pub fn zone(zone: &'z TimeZone) -> Self {
        Self { zone, before: None, latest: None }
    }
}

fn rules(heads: Vec<HeadData>) -> Option<Vec<HeadRule>> {
    heads
        .into_iter()
        .map(|h| {
            let pattern = bytes_pattern(&h.pattern)?;
            Some(HeadRule {
                groups: Groups::of(&pattern)?,
                pattern,
                quick: Format::new(&h.time),
                room: Mutex::default(),
                time: h.time,
                universal: h.zone.as_deref() == Some("UTC"),
            })
        })
        .collect()
}

/// The head that a receiver of syslog messages puts before a line, whatever wrote it.
pub(super) fn general_head(line: &str, around: Around) -> Option<Head> {
    if !may_be_received(line) {
        return None;
    }
    general().iter().find_map(|rule| rule.read(line, around))
}

/// Whether a line begins as such a receiver's do: with a priority, a date and `T`, or the name of a month. Of
/// most logs no line does, and then the patterns are never built.
fn may_be_received(line: &str) -> bool {
    match line.as_bytes() {
        [b'<', ..] | [_, _, _, _, _, _, _, _, _, _, b'T', ..] => true,
        [first, _, _, b' ', ..] => first.is_ascii_uppercase(),
        _ => false,
    }
}

/// What stands behind the name of the program in such a line.
pub(super) fn after_program(line: &str, head: usize) -> Option<&str> {
    let colon = line.get(..head)?.rfind(": ")?;
    line.get(colon + 2..)
}

fn general() -> &'static [HeadRule] {
    GENERAL.get_or_init(|| heads_of(crate::data!("log/heads.json")))
}

fn wide() -> &'static [HeadRule] {
    WIDE.get_or_init(|| heads_of(crate::data!("log/wide.json")))
}

/// The heads of committed data.
fn heads_of(text: &str) -> Vec<HeadRule> {
    serde_json::from_str::<Data>(text).ok().and_then(|d| rules(d.head)).unwrap_or_default()
}

impl HeadRule {
    fn read(&self, line: &str, around: Around) -> Option<Head> {
        let rooms = || self.room.lock().unwrap_or_else(PoisonError::into_inner);
        let kept = rooms().pop();
        let mut places = kept.unwrap_or_else(|| self.pattern.capture_locations());
        let found = self.read_with(line, around, &mut places);
        rooms().push(places);
        found
    }

    fn read_with(&self, line: &str, around: Around, places: &mut CaptureLocations) -> Option<Head> {
        let universal = TimeZone::UTC;
        let whole = self.pattern.captures_read(places, line.as_bytes())?.end();
        let group = |number: Option<usize>| {
            let (from, to) = places.get(number?)?;
            line.get(from..to)
        };
        let around = if self.universal { Around { zone: &universal, ..around } } else { around };
        let text = group(Some(self.groups.time))?;
        let quick =
            self.quick.as_ref().and_then(|f| f.read(text.as_bytes())).and_then(
                |(civil, offset)| match offset {
                    Some(offset) => Some(civil - offset * 1_000_000),
                    None => super::stamp::moment(civil, around.zone),
                },
            );
        let written = match quick {
            Some(time) => time,
            None => parse_time(text, &self.time, around)?,
        };
        let time =
            group(self.groups.zone).map_or(written, |zone| super::zone::in_zone(written, zone, around));
        is_on_calendar(time).then_some(())?;
        Some(Head {
            time,
            level: group(self.groups.level).unwrap_or_default().to_ascii_lowercase(),
            pid: group(self.groups.pid).and_then(|p| p.parse().ok()),
            length: whole,
            program: group(self.groups.program).map(|p| crate::path::name(p).to_owned()),
            of_client: group(self.groups.client).is_some_and(|c| !c.is_empty()),
            body: None,
        })
    }
}

impl Grammar {
    /// A grammar over committed data.
    pub const fn new(text: &'static str) -> Self {
        Self { text, own: None, parsed: OnceLock::new() }
    }

    /// This grammar with what a user said of one log.
    pub fn with(&self, own: OwnRules) -> Self {
        Self { text: self.text, own: Some(own), parsed: OnceLock::new() }
    }

    fn parsed(&self) -> Option<&Parsed> {
        self.parsed
            .get_or_init(|| {
                let mut data: Data = serde_json::from_str(self.text).ok()?;
                if let Some(own) = &self.own {
                    if let Some((pattern, time)) = &own.head {
                        data.head
                            .insert(0, HeadData { pattern: pattern.clone(), time: time.clone(), zone: None });
                    }
                    if !(own.begin.is_empty() && own.ready.is_empty() && own.stop.is_empty()) {
                        let (begin, ready, stop) = (own.begin.clone(), own.ready.clone(), own.stop.clone());
                        data.marks =
                            Marks { begin, ready, stop, window: data.marks.window, ..Marks::default() };
                    }
                }
                let finder = finder(&data.marks, &[]);
                Some(Parsed { heads: rules(data.head)?, marks: data.marks, finder })
            })
            .as_ref()
    }

    /// Whether the data are well formed; held by a test.
    pub fn is_sound(&self) -> bool {
        self.parsed().is_some() && !general().is_empty() && !wide().is_empty()
    }

    /// Understands the head of a line of this very kind, and no other; of a program that nobody knows, all
    /// that log libraries write.
    pub fn own_head(&self, line: &str, around: Around) -> Option<Head> {
        let parsed = self.parsed()?;
        let more: &[HeadRule] = if parsed.marks.general { wide() } else { &[] };
        parsed.heads.iter().chain(more).find_map(|rule| rule.read(line, around))
    }

    /// Understands the head of a line.
    pub fn head(&self, line: &str, around: Around) -> Option<Head> {
        if line.starts_with('{') {
            return structured(line, around);
        }
        self.own_head(line, around).or_else(|| general_head(line, around))
    }

    /// The same for a line that may be no text and very long.
    pub fn head_of_bytes(&self, line: &[u8], around: Around) -> Option<Head> {
        // A structured record is read whole, of others only the beginning matters.
        let head = if line.starts_with(b"{") { line } else { &line[..line.len().min(256)] };
        self.head(&crate::host::text(head), around)
    }

    /// How long after the manager's word "started" lines still belong to the start, in microseconds.
    pub fn window(&self) -> i64 {
        i64::from(self.parsed().and_then(|p| p.marks.window).unwrap_or(3)) * 1_000_000
    }

    /// Whether its marks are words that are anybody's.
    pub fn has_general_words(&self) -> bool {
        self.parsed().is_some_and(|p| p.marks.general)
    }

    /// Whether a start that is up has always said so: words that are anybody's prove nothing by their
    /// absence.
    pub(super) fn is_silent_until_ready(&self) -> bool {
        self.parsed().is_some_and(|p| !p.marks.ready.is_empty() && !p.marks.general)
    }

    /// Whether its log says when a start begins.
    pub fn tells_begin(&self) -> bool {
        self.parsed().is_some_and(|p| !p.marks.begin.is_empty())
    }

    /// What a line marks, if anything.
    pub fn mark(&self, line: &str) -> Option<Mark> {
        // Most lines mark nothing.
        self.find_mark(line.as_bytes())?;
        let marks = &self.parsed()?.marks;
        let holds = |words: &[String]| {
            words.iter().any(|w| if marks.general { words::says(line, w) } else { line.contains(w.as_str()) })
        };
        match () {
            () if holds(&marks.reload) => Some(Mark::Reload),
            () if holds(&marks.begin) => Some(Mark::Begin),
            () if holds(&marks.ready) => Some(Mark::Ready),
            () if holds(&marks.stop) => Some(Mark::Stop),
            () if holds(&marks.crash) => Some(Mark::Crash),
            () if holds(&marks.fail) => Some(Mark::Fail),
            () => None,
        }
    }

    /// The process that the words of a beginning name.
    pub(super) fn named_process(&self, body: &str) -> Option<u32> {
        self.parsed()?.marks.process.iter().find_map(|before| {
            let rest = body.split_once(before.as_str())?.1;
            rest[..rest.find(|c: char| !c.is_ascii_digit()).unwrap_or(rest.len())].parse().ok()
        })
    }

    /// Whether these are the last words of a start that failed.
    pub(super) fn gives_up(&self, body: &str) -> bool {
        self.parsed().is_some_and(|p| p.marks.over.iter().any(|w| body.contains(w.as_str())))
    }

    /// Whether its log says when a run is told to stop.
    pub(super) fn tells_stop(&self) -> bool {
        self.parsed().is_some_and(|p| !p.marks.stop.is_empty())
    }

    /// The words of all marks.
    #[cfg(test)]
    pub(crate) fn mark_words(&self) -> Vec<&str> {
        self.parsed().map(|p| words_of(&p.marks).collect()).unwrap_or_default()
    }

    /// Where the next words of a mark stand in a stretch of bytes.
    pub fn find_mark(&self, bytes: &[u8]) -> Option<usize> {
        self.parsed()?.finder.as_ref()?.find(bytes)
    }

    /// The same for a long log of which a sample was taken: what is rare there is quickest to look for.
    pub(super) fn finder_for(&self, sample: &[u8]) -> Option<Finder> {
        finder(&self.parsed()?.marks, sample)
    }

    /// The longest words of a mark, in bytes.
    pub fn longest_mark(&self) -> usize {
        self.parsed().map_or(0, |p| words_of(&p.marks).map(str::len).max().unwrap_or(0))
    }
}

fn words_of(marks: &Marks) -> impl Iterator<Item = &str> {
    [&marks.begin, &marks.ready, &marks.stop, &marks.reload, &marks.fail, &marks.crash]
        .into_iter()
        .flatten()
        .map(String::as_str)
}

impl Finder {
    /// Where the next words of a mark stand in a stretch of bytes.
    pub(super) fn find(&self, bytes: &[u8]) -> Option<usize> {
        match self {
            Self::Parts(searcher, parts) => find_by_parts(searcher, parts, bytes),
            Self::Packed(searcher) => searcher.find(bytes).map(|m| m.start()),
            Self::Automaton(automaton) => automaton.find(bytes).map(|m| m.start()),
        }
    }
}

fn finder(marks: &Marks, sample: &[u8]) -> Option<Finder> {
    let words: Vec<&str> = words_of(marks).collect();
    if words.is_empty() {
        return None;
    }
    let parts = parts(&words, sample).and_then(|parts| {
        let searcher = packed::Config::new().builder().extend(parts.iter().map(|p| p.text)).build()?;
        Some(Finder::Parts(searcher, parts))
    });
    let packed = || packed::Config::new().builder().extend(&words).build().map(Finder::Packed);
    parts.or_else(packed).or_else(|| AhoCorasick::new(&words).ok().map(Finder::Automaton))
}

/// A record in JSON, one on a line: the keys are those that servers and log libraries use.
fn structured(line: &str, around: Around) -> Option<Head> {
    let record: serde_json::Map<String, serde_json::Value> = serde_json::from_str(line).ok()?;
    let text =
        |keys: &[&str]| keys.iter().find_map(|k| record.get(*k)).and_then(|v| v.as_str()).map(str::to_owned);
    let stamp = ["timestamp", "@timestamp", "time", "ts", "date"].iter().find_map(|k| record.get(*k))?;
    let time = match stamp {
        serde_json::Value::String(text) => written_time(text, around)?,
        // Seconds or milliseconds since the epoch, told apart by their size.
        number => {
            let value = number.as_f64()?;
            #[expect(clippy::cast_possible_truncation, reason = "stamps lie far within the range")]
            let micros = if value > 1e11 { (value * 1e3) as i64 } else { (value * 1e6) as i64 };
            micros
        }
    };
    is_on_calendar(time).then_some(())?;
    let body = text(&["message", "msg", "log", "event"])?;
    let detail = text(&["detail", "error", "err"]).map(|d| format!(" {d}")).unwrap_or_default();
    Some(Head {
        time,
        level: text(&["error_severity", "level", "severity", "lvl", "levelname"])
            .unwrap_or_default()
            .to_ascii_lowercase(),
        pid: record.get("pid").and_then(serde_json::Value::as_u64).and_then(|p| u32::try_from(p).ok()),
        length: 0,
        program: None,
        of_client: ["remote_host", "client", "user"].iter().any(|k| record.contains_key(*k)),
        body: Some(body + &detail),
    })
}

/// A stamp as structured records write it.
fn written_time(text: &str, around: Around) -> Option<i64> {
    if let Ok(stamp) = text.parse::<Timestamp>() {
        return Some(stamp.as_microsecond());
    }
    let (civil, zone) = text
        .rsplit_once(' ')
        .filter(|(_, z)| z.bytes().all(|b| b.is_ascii_uppercase()))
        .unwrap_or((text, ""));
    let universal = TimeZone::UTC;
    let around = if matches!(zone, "UTC" | "GMT") { Around { zone: &universal, ..around } } else { around };
    place(civil.parse().ok()?, around)
}

/// A stamp in a format of `strftime`; without a zone of its own it is in that of the daemon.
fn parse_time(text: &str, format: &str, around: Around) -> Option<i64> {
    if format == "%s" {
        // Seconds since the epoch, with a fraction perhaps.
        let (whole, fraction) = text.split_once('.').unwrap_or((text, ""));
        let micros: String = fraction.chars().chain("000000".chars()).take(6).collect();
        let time = whole.parse::<i64>().ok()?.checked_mul(1_000_000)?.checked_add(micros.parse().ok()?)?;
        return is_on_calendar(time).then_some(time);
    }
    if !format.contains("%Y") && !format.contains("%y") {
        return without_year(text, format, around);
    }
    let parsed = BrokenDownTime::parse(format, text.replace(',', ".")).ok()?;
    if let Ok(stamp) = parsed.to_timestamp() {
        return Some(stamp.as_microsecond());
    }
    place(parsed.to_datetime().ok()?, around)
}

/// The year is the last one in which the line is not later than the file's last change.
fn without_year(text: &str, format: &str, around: Around) -> Option<i64> {
    const DAY: i64 = 86_400_000_000;
    let latest = around.latest? + DAY;
    let year = Timestamp::from_microsecond(latest).ok()?.to_zoned(around.zone.clone()).year();
    let with = |year: i16| -> Option<i64> {
        let parsed = BrokenDownTime::parse(format!("%Y {format}"), format!("{year} {text}")).ok()?;
        place(parsed.to_datetime().ok()?, around)
    };
    with(year).filter(|t| *t <= latest).or_else(|| with(year - 1)).or_else(|| with(year))
}

/// A moment of the clock in a zone. Where the clock shows it twice, the line before decides: a log is in
/// order of writing.
fn place(civil: DateTime, around: Around) -> Option<i64> {
    let ambiguous = around.zone.to_ambiguous_timestamp(civil);
    let earlier = ambiguous.earlier().ok()?.as_microsecond();
    if ambiguous.is_ambiguous()
        && let (Some(before), Ok(later)) = (around.before, ambiguous.later())
        && before > earlier + 1_000_000
    {
        return Some(later.as_microsecond());
    }
    Some(earlier)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_that_a_receiver_wrote_is_known_by_its_beginning() {
        let zone = TimeZone::UTC;
        let around = Around { latest: Some(1_933_000_000_000_000), ..Around::zone(&zone) };
        let lines = include_str!("samples.txt").lines().filter(|line| !line.starts_with("=="));
        let (mut received, mut own) = (0, 0);
        for line in lines {
            for head in [
                "",
                "<30>",
                "2031-04-02T06:10:11Z quay ",
                "<30>Apr  2 06:10:11 quay ",
                "Apr 12 06:10:11 quay ",
            ] {
                for name in ["", "tide-edge[71]: "] {
                    let line = format!("{head}{name}{line}");
                    let found = general().iter().find_map(|rule| rule.read(&line, around));
                    assert_eq!(general_head(&line, around), found, "{line}");
                    received += usize::from(found.is_some());
                    own += usize::from(!may_be_received(&line));
                }
            }
        }
        assert!(received > 100 && own > 50, "{received} {own}");
    }
}
