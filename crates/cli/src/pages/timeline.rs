//! The figure of `attempts`: a bar for each run over an axis of time with marks at round times. Where runs of
//! months stand beside runs of seconds, time is drawn shorter where nothing happens, and the figure says so.
use super::outcome::{bad, outcome};
use super::when::When;
use crate::render::put;
use jiff::{RoundMode, Timestamp, Unit, Zoned, ZonedRound};
use jolly_core::log::{Afterwards, Outcome};
use jolly_core::report::{AttemptEntry, AttemptsReport};

/// Runs that are drawn.
const RUNS: usize = 40;
/// Left and right end of the axis.
const LEFT: f64 = 10.0;
const RIGHT: f64 = 710.0;
/// The narrowest distance of two marks of the axis.
const APART: f64 = 84.0;
/// So much longer than the shortest stretch a figure may be before time is drawn unevenly.
const EVEN: i64 = 400;

const HOUR: i64 = 3_600_000;

/// Where moments stand: the ends of stretches, in milliseconds, with their places.
struct Scale {
    points: Vec<(i64, f64)>,
    even: bool,
}

impl Scale {
    /// Of all moments at which something happens.
    fn new(mut moments: Vec<i64>) -> Self {
        moments.sort_unstable();
        moments.dedup();
        if moments.len() < 2 {
            let only = moments.first().copied().unwrap_or(0);
            moments = vec![only, only + 1000];
        }
        let spans: Vec<i64> = moments.windows(2).map(|w| w[1] - w[0]).collect();
        let whole: i64 = spans.iter().sum();
        let shortest = spans.iter().copied().filter(|s| *s >= 100).min().unwrap_or(whole).max(1);
        let even = whole / shortest <= EVEN;
        let weight = |span: i64| if even { span as f64 } else { (1.0 + span as f64 / 1000.0).ln() };
        let sum: f64 = spans.iter().map(|s| weight(*s)).sum::<f64>().max(f64::MIN_POSITIVE);
        let mut at = LEFT;
        let mut points = vec![(moments[0], at)];
        for (span, moment) in spans.iter().zip(&moments[1..]) {
            at += weight(*span) / sum * (RIGHT - LEFT);
            points.push((*moment, at));
        }
        Self { points, even }
    }

    fn x(&self, moment: i64) -> f64 {
        let behind = self.points.partition_point(|(m, _)| *m <= moment);
        let Some((from, x)) = behind.checked_sub(1).map(|at| self.points[at]) else { return LEFT };
        let Some((to, next)) = self.points.get(behind) else { return x };
        x + (moment - from) as f64 / (to - from).max(1) as f64 * (next - x)
    }

    /// Marks at round times that stand far enough apart, the roundest first: place and words.
    fn marks(&self, zone: &Zoned) -> Vec<(f64, String)> {
        const LEVELS: &[(Unit, i64, i64, &str)] = &[
            (Unit::Month, 1, 28 * 86_400, "%Y-%m-%d"),
            (Unit::Day, 1, 86_400, "%Y-%m-%d"),
            (Unit::Hour, 6, 21_600, "%H:%M"),
            (Unit::Hour, 1, 3600, "%H:%M"),
            (Unit::Minute, 15, 900, "%H:%M"),
            (Unit::Minute, 5, 300, "%H:%M"),
            (Unit::Minute, 1, 60, "%H:%M"),
            (Unit::Second, 15, 15, "%H:%M:%S"),
            (Unit::Second, 5, 5, "%H:%M:%S"),
            (Unit::Second, 1, 1, "%H:%M:%S"),
        ];
        let mut marks: Vec<(f64, String)> = Vec::new();
        let (first, last) = (self.points[0].0, self.points[self.points.len() - 1].0);
        for (unit, increment, seconds, words) in LEVELS {
            // Finer ones would find no room.
            if marks.len() as f64 >= (RIGHT - LEFT) / APART - 1.0 {
                break;
            }
            for stretch in self.points.windows(2) {
                let (from, to) = (stretch[0].0, stretch[1].0);
                let step = seconds * 1000;
                // Marks of a level that is too fine for a stretch would not find room.
                if (to - from) / step > 2000 {
                    continue;
                }
                let zone = zone.time_zone();
                let round = ZonedRound::new().smallest(*unit).increment(*increment).mode(RoundMode::Ceil);
                let at = |ms: i64| {
                    let moment = Timestamp::from_millisecond(ms).ok()?;
                    let zoned = moment.to_zoned(zone.clone());
                    if *unit != Unit::Month {
                        return zoned.round(round).ok();
                    }
                    let first = zoned.first_of_month().ok()?.start_of_day().ok()?;
                    if first >= zoned {
                        Some(first)
                    } else {
                        first.checked_add(jiff::Span::new().months(1)).ok()
                    }
                };
                let mut next = at(from);
                while let Some(mark) = next.filter(|m| m.timestamp().as_millisecond() <= to) {
                    let ms = mark.timestamp().as_millisecond();
                    let x = self.x(ms);
                    // A word that is centred must not stand out at either end.
                    let inside = (LEFT + 34.0..=RIGHT - 30.0).contains(&x) && (first..=last).contains(&ms);
                    if inside && marks.iter().all(|(other, _)| (other - x).abs() >= APART) {
                        marks.push((x, mark.strftime(words).to_string()));
                    }
                    next = at(ms + step);
                }
            }
        }
        marks
    }
}

/// A bar for each run on a line of time, a cross for each failure. A run of which nothing tells the end is
/// drawn pale, and no further than to the next start.
pub(super) fn figure(report: &AttemptsReport, when: &When) -> String {
    let millis = |t: &str| t.parse::<Timestamp>().ok().map(|t| t.as_millisecond());
    let list: Vec<&AttemptEntry> = report.attempts.iter().take(RUNS).rev().collect();
    let began = |a: &AttemptEntry| millis(&a.began).unwrap_or(0);
    let told = |a: &AttemptEntry| a.ended.as_deref().and_then(millis);
    let begin = list.iter().map(|a| began(a)).min().unwrap_or(0);
    let last = list.iter().map(|a| told(a).unwrap_or_else(|| began(a))).max().unwrap_or(begin);
    // What runs still goes on at the right end.
    let end = last + ((last - begin) / 20).clamp(1000, HOUR);
    let scale =
        Scale::new(list.iter().flat_map(|a| [Some(began(a)), told(a)]).flatten().chain([end]).collect());
    let floor = 14 + 24 * list.len();
    let mut out = format!(
        "<svg viewBox=\"0 0 1080 {}\" role=\"img\" aria-label=\"start attempts over time\" \
            font-family=\"system-ui,sans-serif\" font-size=\"13\" fill=\"currentColor\">",
        floor + if scale.even { 34 } else { 54 }
    );
    for (row, a) in list.iter().enumerate() {
        let y = 14 + 24 * row;
        let (from, ended) = (began(a), told(a));
        let runs = a.afterwards == Some(Afterwards::Running);
        let to = ended.or_else(|| list.get(row + 1).map(|next| began(next)).filter(|_| !runs)).unwrap_or(end);
        let (x1, x2) = (scale.x(from), scale.x(to).max(scale.x(from) + 3.0));
        if a.outcome == Outcome::Ready {
            let pale = if ended.is_none() && !runs { " opacity=\"0.35\"" } else { "" };
            let (top, width) = (y - 5, x2 - x1);
            put(
                &mut out,
                format_args!(
                    "<rect x=\"{x1:.1}\" y=\"{top}\" width=\"{width:.1}\" height=\"10\" \
                        fill=\"#0d6a73\"{pale}/>"
                ),
            );
        }
        if bad(a) {
            let (x, top) = (x2 - 5.0, y - 5);
            put(
                &mut out,
                format_args!(
                    "<path d=\"M{x:.1} {top}l10 10m0 -10l-10 10\" stroke=\"#8e2a6b\" stroke-width=\"2.5\"/>"
                ),
            );
        }
        let words = format!("{} {}", when.clock(&a.began), outcome(a).replace('<', "&lt;"));
        put(&mut out, format_args!("<text x=\"735\" y=\"{}\">{words}</text>", y + 4));
    }
    axis(&mut out, &scale, list.first().and_then(|a| when.zoned(&a.began)), floor);
    out.push_str("</svg>");
    out
}

/// The line below the runs with its marks.
fn axis(out: &mut String, scale: &Scale, zone: Option<Zoned>, floor: usize) {
    put(out, format_args!("<path d=\"M{LEFT} {floor}H{RIGHT}\" stroke=\"currentColor\" opacity=\"0.4\"/>"));
    for (x, words) in zone.map(|zone| scale.marks(&zone)).unwrap_or_default() {
        put(
            out,
            format_args!(
                "<path d=\"M{x:.1} {floor}v5\" stroke=\"currentColor\" opacity=\"0.6\"/><text x=\"{x:.1}\" \
                    y=\"{}\" text-anchor=\"middle\" opacity=\"0.7\">{words}</text>",
                floor + 19
            ),
        );
    }
    if !scale.even {
        put(
            out,
            format_args!(
                "<text x=\"{LEFT}\" y=\"{}\" opacity=\"0.7\">time is drawn shorter where nothing \
                    happens</text>",
                floor + 40
            ),
        );
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn zone() -> Zoned {
        Timestamp::UNIX_EPOCH.to_zoned(jiff::tz::TimeZone::UTC)
    }

    #[test]
    fn marks_are_at_round_times_and_do_not_touch() {
        let at = |text: &str| text.parse::<Timestamp>().unwrap().as_millisecond();
        for (from, to, expected) in [
            ("2031-04-02T06:10:11Z", "2031-04-02T06:10:52Z", "06:10:30"),
            ("2031-04-02T06:10:11Z", "2031-04-02T09:40:00Z", "08:00"),
            ("2031-04-02T06:10:11Z", "2031-04-05T09:40:00Z", "2031-04-04"),
        ] {
            let scale = Scale::new(vec![at(from), at(to)]);
            let mut marks = scale.marks(&zone());
            assert!(marks.iter().any(|(_, words)| words == expected), "{from} {to}: {marks:?}");
            marks.sort_by(|a, b| a.0.total_cmp(&b.0));
            assert!(marks.windows(2).all(|w| w[1].0 - w[0].0 >= APART), "{marks:?}");
            assert!(marks.iter().all(|(x, _)| (LEFT..=RIGHT).contains(x)), "{marks:?}");
        }
    }

    #[test]
    fn months_beside_seconds_are_both_seen() {
        const DAY: i64 = 86_400_000;
        let moments = vec![0, 90 * DAY, 90 * DAY + 3000, 90 * DAY + 60_000, 91 * DAY];
        let scale = Scale::new(moments);
        assert!(!scale.even);
        let width = |a: i64, b: i64| scale.x(b) - scale.x(a);
        assert!(width(90 * DAY, 90 * DAY + 3000) > 12.0);
        assert!(width(0, 90 * DAY) > width(90 * DAY + 3000, 90 * DAY + 60_000));
        assert!((scale.x(0) - LEFT).abs() < 0.1 && (scale.x(91 * DAY) - RIGHT).abs() < 0.1);
        let one = Scale::new(vec![5]);
        assert!(one.x(5) >= LEFT && one.x(10_000) <= RIGHT + 0.1);
    }
}
