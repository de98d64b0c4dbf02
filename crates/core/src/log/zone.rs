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
    TimeZone::tzif(name, &bytes).ok()
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
