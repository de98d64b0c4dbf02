//! Histories by chance: what is read does not depend on how long the log is, how it is cut, or from which end
//! it is read.
use crate::log::{Afterwards, AttemptRequest, Outcome, attempts};
use crate::snapshot::Snapshot;
use crate::tests::TextHost;
use jiff::tz::TimeZone;
use proptest::prelude::*;

/// One run: noise lines while it ran, how it ended.
#[derive(Clone, Copy, Debug)]
enum End {
    Stopped,
    /// It says no more.
    Silent,
    /// It never became ready.
    Failed,
    Crashed,
}

fn ends() -> impl Strategy<Value = End> {
    prop_oneof![Just(End::Stopped), Just(End::Silent), Just(End::Failed), Just(End::Crashed)]
}

/// The text of a history, and what should be read out of it, oldest first.
fn history(runs: &[(End, usize)]) -> (String, Vec<(Outcome, Option<Afterwards>)>) {
    let mut text = String::new();
    let mut expected = Vec::new();
    let base = jiff::Timestamp::from_second(1_900_000_000).unwrap();
    for (number, (end, noise)) in (0i64..).zip(runs) {
        let at = |ms: i64| {
            (base + jiff::SignedDuration::from_secs(number * 3600) + jiff::SignedDuration::from_millis(ms))
                .strftime("%d %b %Y %H:%M:%S.%3f")
                .to_string()
        };
        let pid = 100 + number;
        text += &format!("{pid}:C {} # oO0OoO0OoO0Oo Redis is starting oO0OoO0OoO0Oo\n", at(5));
        if matches!(end, End::Failed) {
            text += &format!(
                "{pid}:M {} # Can't handle RDB format version 99\n\
                    {pid}:M {} # Redis is now ready to exit, bye bye...\n",
                at(60),
                at(61)
            );
            expected.push((Outcome::Failed, None));
            continue;
        }
        text += &format!("{pid}:M {} * Ready to accept connections\n", at(90));
        for line in 0..*noise {
            let ms = 10_000 + i64::try_from(line).unwrap();
            text += &format!(
                "{pid}:M {} - {line} keys in 0 databases, and the tide stands at {} cm\n",
                at(ms),
                line * 7 % 211
            );
        }
        let afterwards = match end {
            End::Stopped => {
                text += &format!("{pid}:M {} # User requested shutdown...\n", at(3_000_000));
                Some(Afterwards::Stopped)
            }
            End::Crashed => {
                text += &format!(
                    "\n\n=== REDIS BUG REPORT START: Cut & paste starting from here ===\n\
                        {pid}:M {} # Redis 7.0.15 crashed by signal: 11\n",
                    at(3_000_000)
                );
                Some(Afterwards::Crashed)
            }
            _ => None,
        };
        expected.push((Outcome::Ready, afterwards));
    }
    (text, expected)
}

/// Outcomes, oldest first, of the last `most`.
fn read(host: &TextHost, most: usize) -> Vec<(i64, Outcome, Option<Afterwards>)> {
    let files = ["/var/log/redis.log".to_owned()];
    let zone = TimeZone::UTC;
    let request =
        AttemptRequest::of_files(crate::kinds::kind("redis").unwrap().log_owner(), &files, &zone, most);
    let mut list: Vec<_> = attempts(&Snapshot::new(host), &request)
        .list
        .iter()
        .map(|a| (a.began, a.outcome, a.afterwards))
        .collect();
    list.reverse();
    list
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 60, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn what_happened_is_what_is_read(runs in proptest::collection::vec((ends(), 0usize..400), 1..12)) {
        let (text, expected) = history(&runs);
        let host = TextHost::new().file("/var/log/redis.log", &text);
        let told: Vec<_> = read(&host, 1000).into_iter().map(|(_, o, a)| (o, a)).collect();
        // A crash is told on a line without a stamp: it ends the run, wherever the reader dates it.
        let outcomes = |of: &[(Outcome, Option<Afterwards>)]| of.iter().map(|t| t.0).collect::<Vec<_>>();
        prop_assert_eq!(outcomes(&told), outcomes(&expected));
        for (one, real) in told.iter().zip(&expected) {
            let fits = one.1 == real.1 || real.1 == Some(Afterwards::Crashed);
            prop_assert!(fits, "{:?} is told as {:?}", real, one);
        }
    }

    #[test]
    fn the_last_ones_are_the_end_of_all(
        runs in proptest::collection::vec((ends(), 0usize..900), 1..10),
        most in 1usize..6,
    ) {
        let (text, _) = history(&runs);
        let host = TextHost::new().file("/var/log/redis.log", &text);
        let all = read(&host, 1000);
        prop_assert_eq!(read(&host, most), all[all.len().saturating_sub(most)..].to_vec());
    }

    #[test]
    fn a_cut_between_any_two_lines_changes_nothing(
        runs in proptest::collection::vec((ends(), 0usize..60), 1..8),
        cut in 0usize..1000,
    ) {
        let (text, _) = history(&runs);
        let whole = read(&TextHost::new().file("/var/log/redis.log", &text), 1000);
        let lines: Vec<&str> = text.split_inclusive('\n').collect();
        let (older, newer) = lines.split_at(cut % (lines.len() + 1));
        let host = TextHost::new()
            .file("/var/log/redis.log.1", &older.concat())
            .file("/var/log/redis.log", &newer.concat());
        prop_assert_eq!(read(&host, 1000), whole);
    }

    #[test]
    fn any_bytes_are_read_without_harm(
        bytes in proptest::collection::vec(any::<u8>(), 0..4000),
        most in 1usize..300,
    ) {
        let _ = read(&TextHost::new().bytes("/var/log/redis.log", &bytes), most);
        let packed = TextHost::new().bytes("/var/log/redis.log.1.gz", &bytes).file("/var/log/redis.log", "");
        let _ = read(&packed, most);
    }
}
