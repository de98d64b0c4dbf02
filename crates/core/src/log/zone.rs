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
