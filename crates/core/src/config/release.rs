//! A release of a daemon: which flavour, and a version that orders.
use std::cmp::Ordering;

/// A version: numbers with dots between, as they order. Words behind them (`rc1`, `-ubuntu`) are told, and
/// order nothing.
#[derive(Clone, Debug)]
pub struct Version {
    numbers: Vec<u32>,
    text: String,
}

impl Version {
    /// Reads a version; `None` where it does not begin with a number.
    pub fn parse(text: &str) -> Option<Self> {
        let text = text.trim();
        let end = text.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(text.len());
        let numbers: Option<Vec<u32>> =
            text[..end].trim_end_matches('.').split('.').map(|n| n.parse().ok()).collect();
        Some(Self { numbers: numbers?, text: text.to_owned() })
    }
    /// Its first number.
    pub fn major(&self) -> u32 {
        self.numbers.first().copied().unwrap_or(0)
    }
    /// Its first two numbers: releases of one series are mended, and seldom learn new names.
    pub fn series(&self) -> (u32, u32) {
        (self.number(0), self.number(1))
    }
    fn number(&self, at: usize) -> u32 {
        self.numbers.get(at).copied().unwrap_or(0)
    }
}

impl std::fmt::Display for Version {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.text)
    }
}

impl Ord for Version {
    fn cmp(&self, other: &Self) -> Ordering {
        let most = self.numbers.len().max(other.numbers.len());
        (0..most)
            .map(|at| self.number(at).cmp(&other.number(at)))
            .find(|o| o.is_ne())
            .unwrap_or(Ordering::Equal)
    }
}

impl PartialOrd for Version {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl PartialEq for Version {
    fn eq(&self, other: &Self) -> bool {
        self.cmp(other).is_eq()
    }
}

impl Eq for Version {}

/// A release.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Release {
    /// Name of the daemon's flavour, such as `mariadb` of the kind `mysql`.
    pub flavour: String,
    /// Version, without epoch and the packager's revision.
    pub version: Version,
}

impl Release {
    /// Whether it is at least a version.
    pub fn reaches(&self, version: &str) -> bool {
        Version::parse(version).is_some_and(|v| self.version >= v)
    }
}

impl std::fmt::Display for Release {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}-{}", self.flavour, self.version)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn versions_order_by_their_numbers() {
        let v = |t: &str| Version::parse(t).unwrap();
        for (less, more) in [
            ("2.4.9", "2.4.10"),
            ("9.6", "10"),
            ("1.27", "1.27.1"),
            ("8.0.36", "8.4"),
            ("5.5.5", "10.11.19-MariaDB"),
        ] {
            assert!(v(less) < v(more), "{less} {more}");
        }
        assert_eq!(v("2.4"), v("2.4.0"));
        assert_eq!(
            (v("10.11.19-MariaDB").to_string(), v("15.8").major()),
            ("10.11.19-MariaDB".to_owned(), 15)
        );
        for none in ["", "x", ".1", "-", "1..2"] {
            assert!(Version::parse(none).is_none(), "{none}");
        }
        let release = Release { flavour: "nginx".into(), version: v("1.26.3") };
        assert!(release.reaches("1.26") && !release.reaches("1.27"));
    }
}
