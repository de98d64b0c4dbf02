//! Amounts in unit files: sizes, resource limits and spans of time, as the manager reads them.
use super::Unit;

/// A limit that is none.
pub const UNLIMITED: u64 = u64::MAX;

/// A size in bytes: a number with `K`, `M`, `G`, `T`, `P` or `E` behind it (powers of 1024), or `infinity`.
pub fn size(text: &str) -> Option<u64> {
    let text = text.trim();
    if text == "infinity" {
        return Some(UNLIMITED);
    }
    let digits = text.find(|c: char| !c.is_ascii_digit()).unwrap_or(text.len());
    let (number, unit) = text.split_at(digits);
    let shift = match unit.trim().trim_end_matches('B').to_ascii_uppercase().as_str() {
        "" => 0,
        "K" => 10,
        "M" => 20,
        "G" => 30,
        "T" => 40,
        "P" => 50,
        "E" => 60,
        _ => return None,
    };
    number.parse::<u64>().ok()?.checked_mul(1 << shift)
}

/// A span of time in seconds: `90`, `5min`, `1min 30s`; `infinity` is [`UNLIMITED`].
pub fn seconds(text: &str) -> Option<u64> {
    if text.trim() == "infinity" {
        return Some(UNLIMITED);
    }
    let mut micros: u64 = 0;
    let mut rest = text.trim();
    while !rest.is_empty() {
        let digits = rest.find(|c: char| !c.is_ascii_digit()).unwrap_or(rest.len());
        let number: u64 = rest.get(..digits)?.parse().ok()?;
        rest = rest[digits..].trim_start();
        let letters = rest.find(|c: char| !c.is_ascii_alphabetic()).unwrap_or(rest.len());
        let unit: u64 = match &rest[..letters] {
            "" | "s" | "sec" | "second" | "seconds" => 1_000_000,
            "ms" | "msec" => 1000,
            "us" | "usec" => 1,
            "m" | "min" | "minute" | "minutes" => 60_000_000,
            "h" | "hr" | "hour" | "hours" => 3_600_000_000,
            "d" | "day" | "days" => 86_400_000_000,
            _ => return None,
        };
        micros = micros.checked_add(number.checked_mul(unit)?)?;
        rest = rest[letters..].trim_start();
    }
    Some(micros / 1_000_000)
}

impl Unit {
    /// The hard limit that a `Limit…=` setting gives (systemd.exec(5)); `None` where the unit sets none.
    pub fn hard_limit(&self, key: &str) -> Option<u64> {
        let value = self.value("Service", key)?;
        size(value.rsplit(':').next().unwrap_or_default())
    }

    /// How long a start may take, in seconds; 0 in the file means no limit (systemd.service(5)).
    pub fn start_timeout(&self) -> u64 {
        let own = self.value("Service", "TimeoutStartSec").or_else(|| self.value("Service", "TimeoutSec"));
        match own.as_deref().and_then(seconds) {
            Some(0) => UNLIMITED,
            Some(seconds) => seconds,
            // The built-in default of the manager (systemd-system.conf(5)).
            None => 90,
        }
    }

    /// `Type=`, with the default that the manager takes.
    pub fn start_type(&self) -> String {
        let default = if self.value("Service", "BusName").is_some() { "dbus" } else { "simple" };
        self.value("Service", "Type").unwrap_or_else(|| default.to_owned())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes_and_spans_of_time() {
        for (text, expected) in [
            ("512", Some(512)),
            ("2K", Some(2048)),
            ("1G", Some(1 << 30)),
            ("infinity", Some(UNLIMITED)),
            ("50%", None),
            ("tide", None),
            ("", None),
        ] {
            assert_eq!(size(text), expected, "{text}");
        }
        for (text, expected) in [
            ("90", Some(90)),
            ("5min", Some(300)),
            ("1min 30s", Some(90)),
            ("1500ms", Some(1)),
            ("2h", Some(7200)),
            ("infinity", Some(UNLIMITED)),
            ("soon", None),
        ] {
            assert_eq!(seconds(text), expected, "{text}");
        }
    }

    #[test]
    fn limits_of_a_unit() {
        let mut unit = Unit::named("edge.service");
        unit.read("a", "[Service]\nLimitNOFILE=1024:4096\nLimitAS=infinity\nTimeoutStartSec=0\n");
        assert_eq!(
            (unit.hard_limit("LimitNOFILE"), unit.hard_limit("LimitAS"), unit.hard_limit("LimitNPROC")),
            (Some(4096), Some(UNLIMITED), None)
        );
        assert_eq!((unit.start_timeout(), unit.start_type().as_str()), (UNLIMITED, "simple"));
        assert_eq!(Unit::named("x.service").start_timeout(), 90);
    }

    #[test]
    fn a_bounding_set_adds_up_and_takes_away() {
        let keeps = |lines: &str, capability: &str| {
            let mut unit = Unit::named("edge.service");
            unit.read("a", &format!("[Service]\n{lines}\n"));
            unit.keeps_capability(capability)
        };
        assert!(keeps("", "CAP_DAC_OVERRIDE"));
        assert!(!keeps("CapabilityBoundingSet=CAP_SETUID", "CAP_DAC_OVERRIDE"));
        assert!(keeps(
            "CapabilityBoundingSet=CAP_SETUID\nCapabilityBoundingSet=CAP_DAC_OVERRIDE",
            "CAP_DAC_OVERRIDE"
        ));
        assert!(!keeps("CapabilityBoundingSet=~CAP_DAC_OVERRIDE", "CAP_DAC_OVERRIDE"));
        assert!(keeps("CapabilityBoundingSet=~CAP_DAC_OVERRIDE", "CAP_SETUID"));
    }
}
