//! `attempts --follow`: a start as it happens, line by line, with what each line means.
use super::schema;
use crate::case::{history, is_running, log_files};
use crate::code::Code;
use crate::config::Configuration;
use crate::log::{Mark, Outcome, format_time, general, host_zone};
use crate::secrets::mask_text;
use crate::service::Service;
use crate::snapshot::Snapshot;
use jiff::tz::TimeZone;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// The document `attempt-line`: one for each line that is followed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct FollowedLine {
    /// Form.
    pub schema: String,
    /// Time, RFC 3339, where the line or the journal tells.
    pub time: Option<String>,
    /// Path, or `journal`.
    pub file: String,
    /// Text, secrets masked.
    pub text: String,
    /// The cause that it names, where a rule knows it.
    pub code: Option<Code>,
    /// What it means, in a few words.
    pub meaning: Option<String>,
}

/// How a followed start ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum FollowEnd {
    /// It is ready.
    Ready,
    /// It failed, was refused, stopped or killed.
    Failed(Option<Code>),
    /// Nothing was said for as long as a start may take, in seconds.
    Stuck(u64),
}

/// What it has seen so far of a start.
pub struct Follower {
    service: Service,
    /// Only starts that began later are followed, microseconds since the epoch.
    since: i64,
    /// Whether a start is going on that was under way already.
    under_way: bool,
    /// The begin of the last start that was over already.
    over: Option<i64>,
    journal: u64,
    files: BTreeMap<String, (u64, u64)>,
    last_word: i64,
    ready_since: Option<i64>,
    patience: u64,
}

/// A daemon that tells the manager nothing is ready when it still is after this long, in microseconds.
const SETTLED: i64 = 2_000_000;
/// How long silence may last where no unit says it, in seconds.
const PATIENCE: u64 = 120;
/// How much of a log's new text is read at one look, in bytes.
const LOOK: u32 = 1 << 20;

impl Follower {
    /// Begins to follow: from the begin of a start that is under way, else from now on.
    pub fn new(snapshot: &Snapshot, service: Service) -> Self {
        let now = snapshot.now().unwrap_or(0);
        let config = service.configuration(snapshot);
        let last = history(snapshot, &service, &config, true, 1, false).list.into_iter().next();
        let over =
            last.as_ref().filter(|a| a.outcome != Outcome::Starting || a.ended.is_some()).map(|a| a.began);
        let going_on = last.filter(|a| a.outcome == Outcome::Starting && a.ended.is_none());
        let since = going_on.as_ref().map_or(now, |a| a.began);
        let mut files = BTreeMap::new();
        for file in log_files(snapshot, &service, &config) {
            let status = snapshot.stat(&file).seen();
            let begun = going_on.as_ref().and_then(|a| a.logs.iter().find(|l| l.file == file)?.first_byte);
            files.insert(file, status.map_or((0, 0), |s| (s.inode, begun.unwrap_or(s.size))));
        }
        let patience = service.unit.as_ref().map_or(PATIENCE, |u| u.start_timeout()).min(3600);
        let journal = u64::try_from(since).unwrap_or(0).saturating_sub(u64::from(going_on.is_some()));
        Self {
            service,
            since,
            under_way: going_on.is_some(),
            over,
            journal,
            files,
            last_word: now,
            ready_since: None,
            patience,
        }
    }

    /// Whether a start is under way already.
    pub fn is_under_way(&self) -> bool {
        self.under_way
    }

    /// One look, with a fresh snapshot: the lines that are new, and the end where it has come.
    pub fn look(&mut self, snapshot: &Snapshot) -> (Vec<FollowedLine>, Option<FollowEnd>) {
        let zone = host_zone(snapshot);
        let config = self.service.configuration(snapshot);
        let mut lines = self.of_journal(snapshot, &zone);
        lines.extend(self.of_files(snapshot, &config, &zone));
        lines.sort_by_key(|line| line.0);
        let now = snapshot.now().unwrap_or(self.last_word);
        if !lines.is_empty() {
            self.last_word = now;
        }
        let end = self.end(snapshot, &config, now);
        (lines.into_iter().map(|(_, line)| line).collect(), end)
    }

    fn end(&mut self, snapshot: &Snapshot, config: &Configuration, now: i64) -> Option<FollowEnd> {
        let attempt = history(snapshot, &self.service, config, is_running(snapshot, &self.service), 1, false)
            .list
            .into_iter()
            .next();
        // The stamp of a log may be cut to its second; a finer one is right.
        let new = |began: i64| {
            if began % 1_000_000 == 0 {
                began / 1_000_000 >= self.since / 1_000_000
            } else {
                began >= self.since
            }
        };
        let attempt = attempt.filter(|a| Some(a.began) != self.over && new(a.began))?;
        self.under_way = true;
        match attempt.outcome {
            Outcome::Ready if attempt.ended.is_some() => {
                Some(FollowEnd::Failed(attempt.failures.first().map(|f| f.code)))
            }
            Outcome::Ready if self.service.reports_ready() => Some(FollowEnd::Ready),
            Outcome::Ready => {
                let since = *self.ready_since.get_or_insert(now);
                (now - since >= SETTLED).then_some(FollowEnd::Ready)
            }
            Outcome::Failed | Outcome::Refused | Outcome::Killed | Outcome::Stopped => {
                Some(FollowEnd::Failed(attempt.failures.first().map(|f| f.code)))
            }
            Outcome::Starting | Outcome::Unknown => {
                let silent = u64::try_from((now - self.last_word) / 1_000_000).unwrap_or(0);
                (silent > self.patience).then_some(FollowEnd::Stuck(silent))
            }
        }
    }

    fn line(&self, file: &str, text: &str, time: Option<i64>, zone: &TimeZone) -> FollowedLine {
        let kind = self.service.kind;
        let found = kind
            .catalogue()
            .recognise(text)
            .or_else(|| general().recognise(text))
            .or_else(|| crate::log::of_manager().recognise(text));
        let mark = match kind.grammar().mark(text) {
            Some(Mark::Begin) => Some("the start begins"),
            Some(Mark::Ready) => Some("it is ready"),
            Some(Mark::Stop) => Some("it was told to stop"),
            _ => None,
        };
        let code = found.as_ref().filter(|m| !m.harmless && !m.aftermath).and_then(|m| m.code);
        let meaning = match &found {
            Some(m) if m.harmless => Some("harmless: healthy starts say it, too".to_owned()),
            Some(m) if m.aftermath => Some("a consequence of what came before".to_owned()),
            _ => code.map(|c| c.facts().title.to_owned()).or_else(|| mark.map(str::to_owned)),
        };
        FollowedLine {
            schema: schema("attempt-line"),
            time: time.map(|t| format_time(t, zone)),
            file: file.to_owned(),
            text: mask_text(text.trim_end()),
            code,
            meaning,
        }
    }

    fn of_journal(&mut self, snapshot: &Snapshot, zone: &TimeZone) -> Vec<(i64, FollowedLine)> {
        let Some(unit) = self.service.unit_name() else { return Vec::new() };
        let mut entries = snapshot.journal(unit, 200).seen().unwrap_or_default();
        entries.retain(|e| e.time > self.journal);
        entries.reverse();
        let mut found = Vec::new();
        for entry in &entries {
            let time = i64::try_from(entry.time).unwrap_or(0);
            found.extend(
                entry
                    .message
                    .lines()
                    .filter(|l| !l.trim().is_empty())
                    .map(|l| (time, self.line("journal", l, Some(time), zone))),
            );
        }
        self.journal = entries.last().map_or(self.journal, |e| e.time);
        found
    }

    fn of_files(
        &mut self,
        snapshot: &Snapshot,
        config: &Configuration,
        zone: &TimeZone,
    ) -> Vec<(i64, FollowedLine)> {
        let own_zone = crate::case::log_zone(snapshot, &self.service, config);
        let mut found = Vec::new();
        for file in log_files(snapshot, &self.service, config) {
            let Some(status) = snapshot.stat(&file).seen() else { continue };
            let (inode, at) = self.files.get(&file).copied().unwrap_or((status.inode, 0));
            // A rotated or cut file begins anew.
            let from = if inode != status.inode || status.size < at { 0 } else { at };
            let Some(bytes) = snapshot.read_at(&file, from, LOOK).seen() else { continue };
            // A line that is being written is left for the next look.
            let whole = memchr::memrchr(b'\n', &bytes).map_or(0, |n| n + 1);
            let mut last = snapshot.now().unwrap_or(0);
            for line in String::from_utf8_lossy(&bytes[..whole]).lines().filter(|l| !l.trim().is_empty()) {
                let head = self.service.kind.grammar().head(line, crate::log::Around::zone(&own_zone));
                let time = head.map(|h| h.time);
                last = time.unwrap_or(last);
                found.push((last, self.line(&file, line, time, zone)));
            }
            self.files.insert(file, (status.inode, from + whole as u64));
        }
        found
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tests::{EDGE_CONFIG, NOW, TextHost, described, edge_host};

    const STARTING: &str = "7d4958e842da4a758f6c1cdc7b36dcc5";
    const STARTED: &str = "39f53479d3a045ac8e11786248231fbf";
    const FAILED: &str = "be02cf6855d2428ba40df7e9d022f03d";

    /// The test host is always looked at at the same moment, a hundred seconds after its journal begins.
    fn after(entries: &[(u64, &str, &str)]) -> TextHost {
        edge_host(EDGE_CONFIG).unit("edge.service", "activating", |_| {}).journal(entries)
    }

    #[test]
    fn a_start_is_followed_to_its_end_with_what_its_lines_mean() {
        let quiet = after(&[]);
        let mut follower = Follower::new(&Snapshot::new(&quiet), described(&quiet, "edge", ""));
        assert!(!follower.is_under_way());
        assert_eq!(follower.look(&Snapshot::new(&quiet)), (vec![], None));
        let bind =
            "2031/04/02 06:10:11 [emerg] 7#7: bind() to 0.0.0.0:8088 failed (98: Address already in use)";
        let failed = after(&[
            (100_500, STARTING, "Starting edge"),
            (100_600, "", bind),
            (100_900, FAILED, "Failed to start edge"),
        ]);
        let (lines, end) = follower.look(&Snapshot::new(&failed));
        assert_eq!(lines.iter().map(|l| l.code).collect::<Vec<_>>(), [None, Some(Code::PortTaken), None]);
        assert!(
            lines[1].meaning.as_deref().is_some_and(|m| m.contains("another program holds")),
            "{:?}",
            lines[1]
        );
        assert_eq!(end, Some(FollowEnd::Failed(Some(Code::PortTaken))));
        assert_eq!(follower.look(&Snapshot::new(&failed)).0, vec![], "no line comes twice");
    }

    #[test]
    fn a_start_that_was_over_a_moment_ago_is_not_the_one_that_is_waited_for() {
        // All within the second in which the following begins.
        let before = after(&[(99_950, STARTING, "Starting edge"), (99_970, STARTED, "Started edge")]);
        let mut follower = Follower::new(&Snapshot::new(&before), described(&before, "edge", ""));
        assert_eq!(follower.look(&Snapshot::new(&before)), (vec![], None));
        let next = after(&[
            (99_950, STARTING, "Starting edge"),
            (99_970, STARTED, "Started edge"),
            (100_010, STARTING, "Starting edge"),
            (100_040, STARTED, "Started edge"),
        ]);
        let (lines, end) = follower.look(&Snapshot::new(&next));
        assert_eq!((lines.len(), end), (2, Some(FollowEnd::Ready)));
    }

    #[test]
    fn a_start_that_is_under_way_is_shown_from_its_begin() {
        let going = after(&[(99_000, STARTING, "Starting edge")]);
        let mut follower = Follower::new(&Snapshot::new(&going), described(&going, "edge", ""));
        assert!(follower.is_under_way());
        let (lines, end) = follower.look(&Snapshot::new(&going));
        assert_eq!((lines.len(), end), (1, None));
        let ready = after(&[(99_000, STARTING, "Starting edge"), (100_300, STARTED, "Started edge")]);
        assert_eq!(follower.look(&Snapshot::new(&ready)).1, Some(FollowEnd::Ready));
    }

    #[test]
    fn new_lines_of_a_log_are_shown_once_they_are_whole() {
        let log = "/var/log/nginx/error.log";
        let stamp = jiff::Timestamp::from_second(NOW).unwrap().strftime("%Y/%m/%d %H:%M:%S").to_string();
        let with = |text: &str| after(&[]).file(log, text);
        let empty = with("old line\n");
        let mut follower = Follower::new(&Snapshot::new(&empty), described(&empty, "edge", ""));
        let half = with(&format!(
            "old line\n{stamp} [notice] 7#7: using the \"epoll\" event method\n\
                {stamp} [notice] 7#7: start wor"
        ));
        let (lines, _) = follower.look(&Snapshot::new(&half));
        assert_eq!(
            lines.iter().map(|l| l.meaning.as_deref()).collect::<Vec<_>>(),
            [Some("the start begins")]
        );
        let whole = with(&format!(
            "old line\n{stamp} [notice] 7#7: using the \"epoll\" event method\n\
                {stamp} [notice] 7#7: start worker processes\n"
        ));
        let (lines, _) = follower.look(&Snapshot::new(&whole));
        assert_eq!(lines.iter().map(|l| l.meaning.as_deref()).collect::<Vec<_>>(), [Some("it is ready")]);
    }
}
