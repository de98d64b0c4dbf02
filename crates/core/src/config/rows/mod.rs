//! Tables of directives: one row each, static data made by the build from the written form (`crates/rows`). A
//! fact about a directive belongs in its row: where it may stand, what it takes, what brings it, in which
//! releases, and its marks.
mod judge;
mod near;
mod rules;
mod same;
mod types;

pub use judge::{Fault, fault, secrets, slots_of};
pub use near::near_value;
pub use rules::RuleIndex;
pub use same::{is_same, truth};
pub use types::{Amount, Int, PathUse, Size, Time, Type};

use super::release::{Release, Version};

/// What is known of a directive beside its places and values.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Marks(pub(crate) u16);

impl Marks {
    /// It may stand once in a section.
    pub const ONCE: u16 = 1;
    /// It opens a block.
    pub const BLOCK: u16 = 1 << 1;
    /// What it takes must be looked at further: variables, patterns, paths.
    pub const TYPED: u16 = 1 << 2;
    /// Each line adds to a list.
    pub const LIST: u16 = 1 << 3;

    /// Whether it has a mark.
    pub fn has(self, mark: u16) -> bool {
        self.0 & mark != 0
    }
}

/// What became of a directive.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Fate {
    /// It is one.
    Known,
    /// It is accepted, and does nothing.
    Idle,
    /// It is accepted with a warning.
    Deprecated,
    /// It has another name by now.
    Renamed(&'static str),
    /// It is none: not yet, or no more.
    Gone,
    /// Between two releases that are known, or beyond the last one, it came or went.
    Unsure,
}

impl Fate {
    /// What to tell of a directive that is accepted and is not what it was, and what to write in its place.
    pub fn caution(self, name: &str) -> Option<(String, Option<String>)> {
        match self {
            Self::Known | Self::Gone | Self::Unsure => None,
            Self::Idle => Some((format!("{name} has no effect any more"), None)),
            Self::Deprecated => Some((format!("{name} is deprecated: a later release may refuse it"), None)),
            Self::Renamed(by) => {
                Some((format!("{name} is deprecated: {by} took its place"), Some(format!("write {by}"))))
            }
        }
    }
}

/// Releases in which something becomes of a directive: from one version on, and before another.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Reach {
    /// Flavour.
    pub flavour: &'static str,
    /// The first version.
    pub from: Option<&'static str>,
    /// The first version that is outside again.
    pub to: Option<&'static str>,
    /// What becomes of it.
    pub fate: Fate,
}

impl std::fmt::Display for Reach {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match (self.from, self.to) {
            (None, None) => write!(f, "in every {}", self.flavour),
            (Some(from), None) => write!(f, "from {} {from} on", self.flavour),
            (None, Some(to)) => write!(f, "before {} {to}", self.flavour),
            (Some(from), Some(to)) => write!(f, "from {} {from} until before {to}", self.flavour),
        }
    }
}

/// A type in one place of a directive, and how many words of it may stand there.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Slot {
    /// The type.
    pub takes: Type,
    /// At least so many words.
    pub least: u16,
    /// At most so many.
    pub most: u16,
}

/// One directive.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Row {
    /// Which row of its table it is.
    pub number: u16,
    /// Its name as its makers write it.
    pub name: &'static str,
    /// Where it may stand, as bits of the table's places.
    pub places: u32,
    /// Sections that refuse it all the same, as bits of the table's refusals.
    pub refused: u32,
    /// What it takes: one of these lists.
    pub takes: &'static [&'static [Slot]],
    /// The module or component that brings it.
    pub from: &'static str,
    /// Releases in which something becomes of it; none: it is known in all.
    pub releases: &'static [Reach],
    /// What else is known.
    pub marks: Marks,
    /// Its value where it is not given.
    pub default: Option<&'static str>,
}

impl Row {
    /// A row of which only what it takes, and who reads it, is of interest.
    #[cfg(test)]
    pub(crate) const fn sample(takes: &'static [&'static [Slot]], from: &'static str) -> Self {
        Self {
            number: 0,
            name: "x",
            places: 0,
            refused: 0,
            takes,
            from,
            releases: &[],
            marks: Marks(0),
            default: None,
        }
    }

    /// Whether some of its words are secrets.
    pub fn has_secret(&self) -> bool {
        self.takes.iter().copied().flatten().any(|slot| slot.takes == Type::Secret)
    }

    /// The type of the first word, where all lists agree.
    pub fn first(&self) -> Option<Type> {
        let mut all = self.takes.iter().map(|form| form.first().map(|slot| slot.takes));
        let first = all.next()??;
        all.all(|other| other == Some(first)).then_some(first)
    }
}

/// A table.
#[derive(Debug)]
pub struct Directives {
    pub(crate) rows: &'static [Row],
    /// Where the rows of a name begin, one more than that, by the hash of the name; the next free place where
    /// it is taken.
    pub(crate) index: &'static [u16],
    pub(crate) places: &'static [&'static str],
    pub(crate) refusals: &'static [&'static str],
    /// The releases that it was made from, by flavour.
    pub(crate) releases: &'static [(&'static str, &'static str)],
    /// Names of those with a word that is a secret.
    pub(crate) secrets: &'static [&'static str],
}

impl Directives {
    /// All rows of a name, whatever its case.
    pub fn any_case(&'static self, name: &str) -> &'static [Row] {
        let mut at = jolly_rows::hash(name) as usize % self.index.len();
        // A free place ends the search; half of them are free.
        while let Some(begin) = usize::from(self.index[at]).checked_sub(1) {
            if self.rows[begin].name.eq_ignore_ascii_case(name) {
                let count =
                    self.rows[begin..].iter().take_while(|r| r.name.eq_ignore_ascii_case(name)).count();
                return &self.rows[begin..begin + count];
            }
            at = (at + 1) % self.index.len();
        }
        &[]
    }

    /// Whether it was harvested from the daemon's own sources, so that no name of theirs is missing.
    pub fn is_whole(&self) -> bool {
        !self.releases.is_empty()
    }

    /// Whether a name is in it, whatever its case, as a directive or as a section.
    pub fn has_name(&'static self, name: &str) -> bool {
        !self.any_case(name).is_empty() || !self.any_case(&format!("<{name}")).is_empty()
    }

    /// All rows of a name as it is written.
    pub fn exact(&'static self, name: &str) -> &'static [Row] {
        let rows = self.any_case(name);
        let begin = rows.iter().position(|r| r.name == name).unwrap_or(rows.len());
        let count = rows[begin..].iter().take_while(|r| r.name == name).count();
        &rows[begin..begin + count]
    }

    /// The rows whose names begin so, whatever their case.
    pub fn beginning<'n>(&'static self, name: &'n str) -> impl Iterator<Item = &'static Row> + 'n {
        let lower = |text: &str| text.bytes().map(|b| b.to_ascii_lowercase()).collect::<Vec<u8>>();
        let wanted = lower(name);
        let begin = self.rows.partition_point(|row| lower(row.name) < wanted);
        let same = move |row: &&Row| row.name.get(..name.len()).is_some_and(|b| b.eq_ignore_ascii_case(name));
        self.rows[begin..].iter().take_while(same)
    }

    /// Whether a name is that of a secret but for a letter or two.
    pub fn is_near_secret(&self, name: &str) -> bool {
        crate::config::nearest(name, self.secrets.iter().copied()).is_some()
    }

    /// Every row.
    pub fn all(&'static self) -> impl Iterator<Item = &'static Row> {
        self.rows.iter()
    }

    /// The bit of a place; 0 for one that no row names.
    pub fn place(&self, name: &str) -> u32 {
        self.places.iter().position(|p| *p == name).map_or(0, |at| 1 << at)
    }

    /// The bits of places.
    pub fn bits(&self, names: &[&str]) -> u32 {
        names.iter().fold(0, |sum, name| sum | self.place(name))
    }

    /// Names of the places in which a row may stand.
    pub fn named(&self, bits: u32) -> impl Iterator<Item = &'static str> {
        self.places.iter().enumerate().filter(move |(at, _)| bits & 1 << at != 0).map(|(_, name)| *name)
    }

    /// Whether a row is refused in sections of a name.
    pub fn refuses(&self, row: &Row, name: &str) -> bool {
        self.refusals.iter().position(|r| *r == name).is_some_and(|at| row.refused & 1 << at != 0)
    }

    /// What becomes of a row in a release. Where no release is known, whatever was known once is taken to be.
    pub fn fate(&self, row: &Row, release: Option<&Release>) -> Fate {
        if row.releases.is_empty() {
            return Fate::Known;
        }
        let Some(release) = release else { return row.releases[0].fate };
        let version = |text: &str| Version::parse(text);
        let own: Vec<&Reach> = row.releases.iter().filter(|r| r.flavour == release.flavour).collect();
        let begins = |r: &Reach| r.from.and_then(version).is_none_or(|from| from <= release.version);
        let ends = |r: &Reach| r.to.and_then(version).is_some_and(|to| to <= release.version);
        if let Some(reach) = own.iter().find(|r| begins(r) && !ends(r)) {
            // The last release that has it may have been followed by one that has it no more.
            return if self.is_between(reach, release) { Fate::Unsure } else { reach.fate };
        }
        // Just before the first release that has it, it may have been there already.
        let next = own.iter().filter(|r| !begins(r)).filter_map(|r| r.from.and_then(version)).min();
        match next {
            Some(from)
                if self.harvested(&release.flavour).all(|h| h <= release.version || h >= from)
                    && !self.is_harvested(release) =>
            {
                Fate::Unsure
            }
            _ => Fate::Gone,
        }
    }

    /// The row of a name that a release knows.
    pub fn known(&'static self, name: &str, release: Option<&Release>) -> Option<&'static Row> {
        let rows = self.any_case(name);
        rows.iter().find(|row| !matches!(self.fate(row, release), Fate::Gone | Fate::Unsure))
    }

    /// Whether a release lies behind the last one that is known to have a directive and before the first that
    /// has it no more.
    fn is_between(&self, reach: &Reach, release: &Release) -> bool {
        let Some(to) = reach.to.and_then(Version::parse) else { return false };
        let last = self.harvested(&release.flavour).filter(|h| *h < to).max();
        last.is_some_and(|last| last < release.version)
    }

    fn harvested(&self, flavour: &str) -> impl Iterator<Item = Version> {
        let flavour = flavour.to_owned();
        self.releases.iter().filter(move |(f, _)| *f == flavour).filter_map(|(_, v)| Version::parse(v))
    }

    fn is_harvested(&self, release: &Release) -> bool {
        self.harvested(&release.flavour).any(|h| h == release.version)
    }

    /// Whether a release is of a newer series than every one that the table was made from: it may know names
    /// that the table does not.
    pub fn is_beyond(&self, release: Option<&Release>) -> bool {
        release.is_some_and(|r| {
            self.harvested(&r.flavour).max().is_some_and(|last| last.series() < r.version.series())
        })
    }
}

/// The table of a kind, as the build made it.
macro_rules! directives {
    ($name:literal) => {{
        #[allow(unused_imports, reason = "a table needs some of these")]
        use crate::config::rows::{
            Amount, Directives, Fate, Int, Marks, PathUse, Reach, Row, Size, Slot, Time, Type,
        };
        static TABLE: Directives = include!(concat!(env!("OUT_DIR"), "/", $name));
        &TABLE
    }};
}
pub(crate) use directives;

#[cfg(test)]
mod tests {
    use super::*;

    static STR: &[&[Slot]] = &[&[Slot { takes: Type::Str, least: 1, most: 1 }]];
    const fn row(name: &'static str, releases: &'static [Reach]) -> Row {
        Row {
            number: 0,
            name,
            places: 1,
            refused: 0,
            takes: STR,
            from: "core",
            releases,
            marks: Marks(0),
            default: None,
        }
    }
    const fn reach(from: Option<&'static str>, to: Option<&'static str>) -> Reach {
        Reach { flavour: "quay", from, to, fate: Fate::Known }
    }
    static TABLE: Directives = Directives {
        rows: &[],
        index: &[0; 2],
        places: &["a", "b"],
        refusals: &["c"],
        releases: &[("quay", "1.2"), ("quay", "1.6"), ("quay", "2.0")],
        secrets: &["c"],
    };

    #[test]
    fn what_came_or_went_between_two_known_releases_is_not_sure() {
        let of = |row: &Row, version: &str| {
            let release = Release { flavour: "quay".into(), version: Version::parse(version).unwrap() };
            TABLE.fate(row, Some(&release))
        };
        static CAME: [Reach; 1] = [reach(Some("1.6"), None)];
        static WENT: [Reach; 1] = [reach(None, Some("1.6"))];
        let came = row("came", &CAME);
        for (version, fate) in [
            ("1.0", Fate::Gone),
            ("1.2", Fate::Gone),
            ("1.4", Fate::Unsure),
            ("1.6", Fate::Known),
            ("3.0", Fate::Known),
        ] {
            assert_eq!(of(&came, version), fate, "came, {version}");
        }
        let went = row("went", &WENT);
        for (version, fate) in [
            ("1.0", Fate::Known),
            ("1.2", Fate::Known),
            ("1.4", Fate::Unsure),
            ("1.6", Fate::Gone),
            ("3.0", Fate::Gone),
        ] {
            assert_eq!(of(&went, version), fate, "went, {version}");
        }
        assert_eq!(of(&row("always", &[]), "9"), Fate::Known);
        assert_eq!(TABLE.fate(&came, None), Fate::Known, "nobody knows the release");
        let beyond = |v: &str| {
            TABLE.is_beyond(Some(&Release { flavour: "quay".into(), version: Version::parse(v).unwrap() }))
        };
        assert!(beyond("2.1") && !beyond("2.0") && !beyond("2.0.9") && !TABLE.is_beyond(None));
    }

    #[test]
    fn what_is_accepted_and_not_what_it_was_is_told() {
        assert!([Fate::Known, Fate::Gone, Fate::Unsure].iter().all(|f| f.caution("ebb").is_none()));
        assert!(Fate::Idle.caution("ebb").is_some_and(|(said, help)| said.contains("ebb") && help.is_none()));
        assert!(Fate::Deprecated.caution("ebb").is_some());
        assert!(
            Fate::Renamed("flood").caution("ebb").is_some_and(|(_, help)| help.unwrap().contains("flood"))
        );
    }

    #[test]
    fn places_are_bits() {
        assert_eq!(
            (TABLE.place("a"), TABLE.place("b"), TABLE.place("x"), TABLE.bits(&["a", "b"])),
            (1, 2, 0, 3)
        );
        assert_eq!(TABLE.named(2).collect::<Vec<_>>(), ["b"]);
    }
}
