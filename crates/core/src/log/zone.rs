//! Time zones of the host, read from its own files.
use crate::snapshot::Snapshot;
use jiff::tz::TimeZone;
use jiff::{Timestamp, Zoned};

/// The host's zone: `/etc/localtime`, or UTC where there is none.
pub fn host_zone(snapshot: &Snapshot) -> TimeZone {
    zone_file(snapshot, "/etc/localtime", "local").unwrap_or(TimeZone::UTC)
}

/// A zone by the name that `TZ` gives it; `None` when the host has no such zone.
pub fn zone_named(snapshot: &Snapshot, name: &str) -> Option<TimeZone> {
    let name = name.trim_start_matches(':');
    if name.is_empty() || name == "UTC" {
        return Some(TimeZone::UTC);
    }
    let path = if name.starts_with('/') { name.to_owned() } else { format!("/usr/share/zoneinfo/{name}") };
    zone_file(snapshot, &path, name).or_else(|| TimeZone::posix(name).ok())
}

fn zone_file(snapshot: &Snapshot, path: &str, name: &str) -> Option<TimeZone> {
    let bytes = snapshot.read(path).seen()?;
    let zone = TimeZone::tzif(name, &bytes).ok()?;
    // Most servers keep universal time, under one of its names: as what it is it is known at once for each
    // line.
    let start = Timestamp::UNIX_EPOCH;
    let steady = zone.following(start).next().is_none() && zone.preceding(start).next().is_none();
    let info = zone.to_offset_info(start);
    let universal = steady && info.offset().is_zero() && info.abbreviation() == "UTC";
    Some(if universal { TimeZone::UTC } else { zone })
}

/// The two moments at which a clock shows the same as at this one, the earlier one first, where it was put
/// back.
pub(super) fn twice(time: i64, zone: &TimeZone) -> Option<(i64, i64)> {
    let civil = Timestamp::from_microsecond(time).ok()?.to_zoned(zone.clone()).datetime();
    let ambiguous = zone.to_ambiguous_timestamp(civil);
    if !ambiguous.is_ambiguous() {
        return None;
    }
    let (earlier, later) = (ambiguous.earlier().ok()?, ambiguous.later().ok()?);
    let (earlier, later) = (earlier.as_microsecond(), later.as_microsecond());
    // A clock that was put forward leaves out an hour: nothing is shown twice.
    (earlier < later && (time == earlier || time == later)).then_some((earlier, later))
}

/// Abbreviations of zones that several systems write, with their offsets in minutes. One may stand for
/// several.
const ABBREVIATIONS: &[(&str, i64)] = &[
    ("UTC", 0),
    ("GMT", 0),
    ("WET", 0),
    ("WEST", 60),
    ("BST", 60),
    ("CET", 60),
    ("CEST", 120),
    ("EET", 120),
    ("EEST", 180),
    ("MSK", 180),
    ("SAST", 120),
    ("CAT", 120),
    ("WAT", 60),
    ("EAT", 180),
    ("PKT", 300),
    ("IST", 330),
    ("IST", 60),
    ("IST", 120),
    ("WIB", 420),
    ("WITA", 480),
    ("HKT", 480),
    ("AWST", 480),
    ("CST", -360),
    ("CST", 480),
    ("JST", 540),
    ("KST", 540),
    ("WIT", 540),
    ("ACST", 570),
    ("ACDT", 630),
    ("AEST", 600),
    ("AEDT", 660),
    ("NZST", 720),
    ("NZDT", 780),
    ("NDT", -150),
    ("NST", -210),
    ("ADT", -180),
    ("AST", -240),
    ("EDT", -240),
    ("EST", -300),
    ("CDT", -300),
    ("MDT", -360),
    ("MST", -420),
    ("PDT", -420),
    ("PST", -480),
    ("AKDT", -480),
    ("AKST", -540),
    ("HST", -600),
];

/// A stamp that was read in the zone of the daemon, and that carries the abbreviation or the offset of the
/// zone it was written in. The abbreviation tells one of two hours that the clock shows alike; one that the
/// zone does not have is that of another zone, in which it was written.
pub(super) fn in_zone(time: i64, written: &str, around: super::Around) -> i64 {
    let read = |time: i64| Some(Timestamp::from_microsecond(time).ok()?.to_zoned(around.zone.clone()));
    let Some(zoned) = read(time) else { return time };
    let here = |time: i64| {
        read(time).is_some_and(|z| z.time_zone().to_offset_info(z.timestamp()).abbreviation() == written)
    };
    let universal = time + i64::from(zoned.offset().seconds()) * 1_000_000;
    if let Some(minutes) = offset(written) {
        return universal - minutes * 60_000_000;
    }
    if here(time) {
        return time;
    }
    if let Some((earlier, later)) = twice(time, around.zone)
        && let Some(fits) = [earlier, later].into_iter().find(|t| here(*t))
    {
        return fits;
    }
    let meant = ABBREVIATIONS
        .iter()
        .filter(|(name, _)| *name == written)
        .map(|(_, minutes)| universal - minutes * 60_000_000);
    // Of several the one that follows the line before most closely.
    let after = around.before.unwrap_or(i64::MIN).saturating_sub(1_000_000);
    let follows = meant.clone().filter(|t| around.before.is_some() && *t >= after).min();
    follows.or(meant.clone().next()).unwrap_or(time)
}

/// An offset in minutes, as zones without an abbreviation write it: `+05`, `-0330`, `+05:45`.
fn offset(text: &str) -> Option<i64> {
    let (sign, digits) = match text.as_bytes().first()? {
        b'+' => (1, &text[1..]),
        b'-' => (-1, &text[1..]),
        _ => return None,
    };
    let digits: String = digits.chars().filter(|c| *c != ':').collect();
    let number: i64 = digits.parse().ok()?;
    let minutes = match digits.len() {
        1 | 2 => number * 60,
        4 => number / 100 * 60 + number % 100,
        _ => return None,
    };
    Some(sign * minutes)
}

/// By how much a clock was put back between two moments, or so close to them that stamps of theirs may be of
/// either side, in microseconds.
pub(super) fn put_back(from: i64, to: i64, zone: &TimeZone) -> Option<i64> {
    const NEAR: i64 = 2 * 3_600_000_000;
    let mut at = Timestamp::from_microsecond(from.checked_sub(NEAR)?).ok()?;
    let end = Timestamp::from_microsecond(to.checked_add(NEAR)?).ok()?;
    // A zone changes its clock a few times a year.
    for _ in 0..1000 {
        let change = zone.following(at).next()?;
        let when = change.timestamp();
        if when > end {
            return None;
        }
        let before = zone.to_offset(when - jiff::SignedDuration::from_secs(1)).seconds();
        let back = i64::from(before - change.offset().seconds());
        if back > 0 {
            return Some(back * 1_000_000);
        }
        at = when;
    }
    None
}

/// The moment that a stamp of this one means where nothing stands before it.
pub(super) fn first_meaning(time: i64, zone: &TimeZone) -> i64 {
    twice(time, zone).map_or(time, |(earlier, _)| earlier)
}

/// Microseconds since the epoch as RFC 3339 with offset, in a zone.
pub fn format_time(micros: i64, zone: &TimeZone) -> String {
    match Timestamp::from_microsecond(micros) {
        Ok(stamp) => {
            let zoned: Zoned = stamp.to_zoned(zone.clone());
            let offset = zoned.offset();
            if offset.seconds() == 0 {
                zoned.strftime("%Y-%m-%dT%H:%M:%S%.3fZ").to_string()
            } else {
                zoned.strftime("%Y-%m-%dT%H:%M:%S%.3f%:z").to_string()
            }
        }
        Err(_) => String::new(),
    }
}
