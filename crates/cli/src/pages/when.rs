//! Times as a reader's clock shows them.
use jiff::tz::TimeZone;
use jiff::{Timestamp, Zoned};

/// How times are printed: in which zone, and compared with which moment.
#[derive(Clone, Debug)]
pub(crate) struct When {
    zone: Option<TimeZone>,
    now: Option<Timestamp>,
    /// Whether it is read later, elsewhere: then every moment has its date, and none is told by how long ago
    /// it was.
    lasting: bool,
}

impl When {
    /// `zone` by name; `now` is when the host was looked at.
    pub(crate) fn new(zone: Option<&str>, now: Option<&str>) -> Result<Self, String> {
        let zone = match zone {
            None => None,
            Some("UTC") => Some(TimeZone::UTC),
            Some(name) => {
                let bytes = std::fs::read(format!("/usr/share/zoneinfo/{name}"))
                    .ok()
                    .filter(|_| !name.contains("..") && !name.starts_with('/'));
                let found =
                    bytes.and_then(|b| TimeZone::tzif(name, &b).ok()).or_else(|| TimeZone::posix(name).ok());
                Some(found.ok_or_else(|| format!("\"{name}\" is not a time zone that this host knows"))?)
            }
        };
        Ok(Self { zone, now: now.and_then(|n| n.parse().ok()), lasting: false })
    }

    /// The same for a page that is kept.
    pub(crate) fn lasting(self, lasting: bool) -> Self {
        Self { lasting, ..self }
    }

    /// When the host was looked at, with the zone that all times are printed in.
    pub(crate) fn looked_at(&self) -> Option<String> {
        let now = self.now?;
        let zone = self.zone.clone().unwrap_or(TimeZone::UTC);
        let known = |n: &&str| n.contains('/') || *n == "UTC";
        let name = zone.iana_name().filter(known).map(|n| format!(" ({n})")).unwrap_or_default();
        Some(format!("{}{name}", now.to_zoned(zone).strftime("%Y-%m-%d %H:%M:%S %:z")))
    }

    /// The zone of whoever does not say one.
    pub(crate) fn in_zone(self, zone: TimeZone) -> Self {
        Self { zone: Some(self.zone.unwrap_or(zone)), ..self }
    }

    /// In the reader's zone, or the one the stamp was written in.
    pub(super) fn zoned(&self, stamp: &str) -> Option<Zoned> {
        let instant: Timestamp = stamp.parse().ok()?;
        let own = || jiff::fmt::temporal::DateTimeParser::new().parse_time_zone(offset(stamp)).ok();
        Some(instant.to_zoned(self.zone.clone().or_else(own).unwrap_or(TimeZone::UTC)))
    }

    /// `06:10:11` today, with the date otherwise.
    pub(crate) fn clock(&self, stamp: &str) -> String {
        let Some(zoned) = self.zoned(stamp) else { return stamp.to_owned() };
        let today = self.now.is_some_and(|n| n.to_zoned(zoned.time_zone().clone()).date() == zoned.date());
        zoned.strftime(if today && !self.lasting { "%H:%M:%S" } else { "%Y-%m-%d %H:%M:%S" }).to_string()
    }

    /// With how long ago.
    pub(crate) fn ago(&self, stamp: &str) -> String {
        let clock = self.clock(stamp);
        if self.lasting {
            return clock;
        }
        let (Some(now), Ok(then)) = (self.now, stamp.parse::<Timestamp>()) else { return clock };
        match span(now.as_second() - then.as_second()) {
            Some(span) => format!("{clock} ({span} ago)"),
            None => clock,
        }
    }
}

/// The offset at the end of an RFC 3339 stamp.
fn offset(stamp: &str) -> &str {
    if stamp.ends_with('Z') {
        return "+00:00";
    }
    stamp.len().checked_sub(6).and_then(|at| stamp.get(at..)).unwrap_or("+00:00")
}

/// Seconds in the unit that a person would use.
pub(crate) fn span(seconds: i64) -> Option<String> {
    let (n, unit) = match seconds {
        ..0 => return None,
        0..120 => (seconds, "s"),
        120..7200 => (seconds / 60, "min"),
        7200..172_800 => (seconds / 3600, "h"),
        _ => (seconds / 86_400, "days"),
    };
    Some(format!("{n} {unit}"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn today_needs_no_date_and_ago_has_one_unit() {
        let when = When::new(None, Some("2031-04-02T06:14:31+01:00")).unwrap();
        assert_eq!(when.ago("2031-04-02T06:10:11+01:00"), "06:10:11 (4 min ago)");
        assert_eq!(when.clock("2031-04-01T06:10:11+01:00"), "2031-04-01 06:10:11");
        let utc = When::new(Some("UTC"), Some("2031-04-02T06:14:31+01:00")).unwrap();
        assert_eq!(utc.clock("2031-04-02T06:10:11+01:00"), "05:10:11");
        assert!(When::new(Some("Gullholm/Quay"), None).is_err());
    }
}
