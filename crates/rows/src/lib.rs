//! The written form of a table of directives, one row each. The core's build turns it into static data;
//! `cargo xtask harvest` writes it from a daemon's sources. Two tables make one: what was harvested, and
//! beside it what people know better.
//!
//! ```text
//! #releases nginx 1.22.1 1.26.3
//! #name          where                 takes              from         releases          marks
//! http2          http,server           flag               http_v2      nginx:1.26.3-     once
//! proxy_buffers  http,server,location  int(2..) size(k,m) http_proxy   *                 once
//! ```
//!
//! Columns are parted by tabs. An empty column is `-`. In a table kept by hand `=` leaves a column as it was
//! harvested, and marks with `+` or `-` in front change single ones.
#![forbid(unsafe_code)]
#![cfg_attr(test, allow(clippy::unwrap_used, reason = "a test fails by panicking"))]

mod takes;

pub use takes::{Slot, takes};

use std::collections::BTreeMap;
use std::fmt::Write as _;

/// A release whose sources a table was made from: flavour and version.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Release {
    /// Name of the flavour, such as `nginx` or `mariadb`.
    pub flavour: String,
    /// Version as its makers write it.
    pub version: String,
}

impl Release {
    /// Numbers of the version, which order it.
    fn numbers(&self) -> Vec<u32> {
        self.version.split('.').map(|n| n.parse().unwrap_or(0)).collect()
    }
}

/// One row of a table.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Row {
    /// The directive.
    pub name: String,
    /// Where it may stand; with `!` in front, sections that refuse it all the same.
    pub places: String,
    /// What it takes: alternatives parted by ` | `, each a list of types (see [`takes`]).
    pub takes: String,
    /// The module or component that brings it.
    pub from: String,
    /// `*`, or spans of releases with what became of it: `nginx:1.26.3-`, `nginx:1.26.3-=idle`.
    pub releases: String,
    /// What else is known of it, parted by commas.
    pub marks: String,
}

/// Where a name is looked for, whatever the case of its letters (the hash function FNV-1a).
pub fn hash(name: &str) -> u32 {
    name.bytes().fold(0x811c_9dc5, |hash, byte| {
        (hash ^ u32::from(byte.to_ascii_lowercase())).wrapping_mul(0x0100_0193)
    })
}

/// What became of a directive in a span of releases.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Span {
    /// Flavour.
    pub flavour: String,
    /// The first version that has it; none: from the beginning.
    pub from: Option<String>,
    /// The first version that has it no more; none: to this day.
    pub to: Option<String>,
    /// What became of it: `known`, `idle`, `deprecated`, `renamed(NAME)`.
    pub fate: String,
}

/// A table.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Table {
    /// The releases that it was made from, oldest first.
    pub releases: Vec<Release>,
    /// Rows, sorted.
    pub rows: Vec<Row>,
}

impl Table {
    /// Reads the written form.
    ///
    /// # Errors
    /// The first line that is not a row, by its number.
    pub fn parse(text: &str) -> Result<Self, String> {
        let mut table = Self::default();
        for (at, line) in text.lines().enumerate() {
            if let Some(rest) = line.strip_prefix("#releases ") {
                let mut words = rest.split_whitespace();
                let flavour = words.next().unwrap_or_default().to_owned();
                table.releases.extend(
                    words.map(|version| Release { flavour: flavour.clone(), version: version.to_owned() }),
                );
                continue;
            }
            if line.starts_with('#') || line.trim().is_empty() {
                continue;
            }
            let columns: Vec<&str> = line.split('\t').map(str::trim).collect();
            let [name, places, takes, from, releases, marks] = columns[..] else {
                return Err(format!("line {}: {} columns, expected 6", at + 1, columns.len()));
            };
            let full = |column: &str| if column == "-" { String::new() } else { column.to_owned() };
            table.rows.push(Row {
                name: name.to_owned(),
                places: full(places),
                takes: takes.to_owned(),
                from: full(from),
                releases: releases.to_owned(),
                marks: full(marks),
            });
        }
        Ok(table)
    }

    /// The written form.
    pub fn spelled(&self, head: &str) -> String {
        let mut out = String::new();
        for line in head.lines() {
            let _ = writeln!(out, "# {line}");
        }
        let mut flavours: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
        for release in &self.releases {
            flavours.entry(&release.flavour).or_default().push(&release.version);
        }
        for (flavour, versions) in flavours {
            let _ = writeln!(out, "#releases {flavour} {}", versions.join(" "));
        }
        out.push_str("#name\twhere\ttakes\tfrom\treleases\tmarks\n");
        let full = |column: &str| if column.is_empty() { "-".to_owned() } else { column.to_owned() };
        for row in &self.rows {
            let columns =
                [&row.name, &row.places, &row.takes, &row.from, &row.releases, &row.marks].map(|c| full(c));
            let _ = writeln!(out, "{}", columns.join("\t"));
        }
        out
    }

    /// Adds what was harvested of one more release, or anew of one that is there.
    pub fn add(&mut self, release: &Release, rows: Vec<Row>) {
        let mut known: BTreeMap<Row, Vec<Release>> = BTreeMap::new();
        for row in &self.rows {
            let there = self
                .releases
                .iter()
                .filter(|r| *r != release && spans(&row.releases).is_ok_and(|s| holds(&s, r)))
                .cloned()
                .collect();
            known.insert(Row { releases: String::new(), ..row.clone() }, there);
        }
        for row in rows {
            known.entry(Row { releases: String::new(), ..row }).or_default().push(release.clone());
        }
        self.releases.retain(|r| r != release);
        self.releases.push(release.clone());
        self.releases.sort_by_key(|r| (r.flavour.clone(), r.numbers()));
        let rows = known.into_iter().filter(|(_, there)| !there.is_empty());
        self.rows = rows.map(|(row, there)| Row { releases: self.written(&there), ..row }).collect();
        self.rows.sort();
    }

    /// The releases of a row as spans between those that were harvested.
    fn written(&self, there: &[Release]) -> String {
        if self.releases.iter().all(|r| there.contains(r)) {
            return "*".into();
        }
        let mut out: Vec<String> = Vec::new();
        let mut flavours: Vec<&str> = self.releases.iter().map(|r| r.flavour.as_str()).collect();
        flavours.dedup();
        for flavour in flavours {
            let all: Vec<&Release> = self.releases.iter().filter(|r| r.flavour == flavour).collect();
            let mut at = 0;
            while at < all.len() {
                if !there.contains(all[at]) {
                    at += 1;
                    continue;
                }
                let begin = at;
                while at < all.len() && there.contains(all[at]) {
                    at += 1;
                }
                let from = if begin == 0 { "" } else { &all[begin].version };
                let to = all.get(at).map_or("", |r| r.version.as_str());
                out.push(format!("{flavour}:{from}-{to}"));
            }
        }
        out.join(",")
    }

    /// Puts what is known better over what was harvested: a row of the same name, and the same module unless
    /// that is `*`.
    ///
    /// # Errors
    /// A row that leaves to the harvest what was never harvested.
    pub fn corrected(mut self, by: &Self) -> Result<Self, String> {
        for better in &by.rows {
            let named =
                |row: &Row| row.name == better.name && (better.from == "*" || better.from == row.from);
            // Of several rows of a name, what one of them takes says which is meant.
            let meant = self.rows.iter().any(|row| named(row) && row.takes == better.takes);
            let same = |row: &Row| named(row) && (!meant || row.takes == better.takes);
            if self.rows.iter().any(same) {
                for row in self.rows.iter_mut().filter(|row| same(row)) {
                    let put = |old: &mut String, new: &str| {
                        if new != "=" {
                            new.clone_into(old);
                        }
                    };
                    put(&mut row.places, &better.places);
                    put(&mut row.takes, &better.takes);
                    put(&mut row.releases, &better.releases);
                    row.marks = marked(&row.marks, &better.marks);
                }
            } else if [&better.places, &better.takes, &better.releases, &better.from]
                .iter()
                .any(|c| matches!(c.as_str(), "=" | "*") && *c != &better.releases)
            {
                return Err(format!(
                    "{}: nothing of this name was harvested from {}",
                    better.name, better.from
                ));
            } else {
                self.rows.push(Row { marks: marked("", &better.marks), ..better.clone() });
            }
        }
        self.rows.sort();
        Ok(self)
    }
}

/// Marks with others put in place, added and taken away.
fn marked(old: &str, new: &str) -> String {
    if new == "=" {
        return old.to_owned();
    }
    let parts = |text: &str| text.split(',').filter(|m| !m.is_empty()).map(str::to_owned).collect::<Vec<_>>();
    let single = |m: &String| m.starts_with(['+', '-']);
    let mut all = if parts(new).iter().all(single) { parts(old) } else { Vec::new() };
    for mark in parts(new) {
        match mark.strip_prefix('-') {
            Some(gone) => all.retain(|m| m != gone),
            None => all.push(mark.trim_start_matches('+').to_owned()),
        }
    }
    all.sort();
    all.dedup();
    all.join(",")
}

/// The spans that a column of releases names; none for `*`.
///
/// # Errors
/// What is not a span.
pub fn spans(column: &str) -> Result<Vec<Span>, String> {
    if column == "*" {
        return Ok(Vec::new());
    }
    let one = |part: &str| {
        let (range, fate) = part.split_once('=').unwrap_or((part, "known"));
        let (flavour, versions) = range.split_once(':').ok_or_else(|| format!("{part:?}: no flavour"))?;
        let (from, to) = versions.split_once('-').ok_or_else(|| format!("{part:?}: no span of versions"))?;
        let some = |v: &str| (!v.is_empty()).then(|| v.to_owned());
        Ok(Span { flavour: flavour.to_owned(), from: some(from), to: some(to), fate: fate.to_owned() })
    };
    column.split(',').map(one).collect()
}

/// Whether a release lies within one of the spans.
fn holds(spans: &[Span], release: &Release) -> bool {
    let numbers = |v: &str| Release { flavour: String::new(), version: v.to_owned() }.numbers();
    let own = release.numbers();
    let within = |s: &Span| {
        s.flavour == release.flavour
            && s.from.as_deref().is_none_or(|f| numbers(f) <= own)
            && s.to.as_deref().is_none_or(|t| own < numbers(t))
    };
    spans.is_empty() || spans.iter().any(within)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn release(version: &str) -> Release {
        Release { flavour: "quay".into(), version: version.into() }
    }
    fn row(name: &str, takes: &str, marks: &str) -> Row {
        Row {
            name: name.into(),
            places: "main".into(),
            takes: takes.into(),
            from: "core".into(),
            releases: String::new(),
            marks: marks.into(),
        }
    }
    fn brief(table: &Table) -> Vec<String> {
        table.rows.iter().map(|r| format!("{} {} {}", r.name, r.takes, r.releases)).collect()
    }

    #[test]
    fn releases_are_merged_whatever_their_order() {
        let old = || vec![row("gone", "flag", ""), row("same", "str", "")];
        let middle = || vec![row("same", "str", ""), row("turned", "flag", "")];
        let new = || vec![row("same", "str", ""), row("turned", "int", "")];
        let expected =
            ["gone flag quay:-1.9", "same str *", "turned flag quay:1.9-1.10", "turned int quay:1.10-"];
        let parts = [("1.2", old()), ("1.9", middle()), ("1.10", new())];
        for order in [[0, 1, 2], [2, 0, 1], [1, 2, 0]] {
            let mut table = Table::default();
            for at in order {
                table.add(&release(parts[at].0), parts[at].1.clone());
            }
            assert_eq!(brief(&table), expected, "{order:?}");
            let again = Table::parse(&table.spelled("made up")).unwrap();
            assert_eq!(again, table, "written and read it is the same");
            table.add(&release("1.9"), middle());
            assert_eq!(brief(&table), expected, "harvested twice");
        }
    }

    #[test]
    fn what_is_known_better_stays_over_what_was_harvested() {
        let mut table = Table::default();
        table.add(&release("1"), vec![row("tide", "str", "once"), row("ebb", "str", "")]);
        let better =
            Table::parse("tide\t=\tint(1..9)\t*\t=\t-once,+secret\nflood\tmain\tflag\tcore\t*\t-\n").unwrap();
        let table = table.corrected(&better).unwrap();
        assert_eq!(brief(&table), ["ebb str *", "flood flag *", "tide int(1..9) *"]);
        assert_eq!(table.rows[2].marks, "secret");
        let mut turned = Table::default();
        turned.add(&release("1"), vec![row("tide", "int", "")]);
        turned.add(&release("2"), vec![row("tide", "str", "")]);
        let better = Table::parse("tide\t=\tstr\t*\tquay:2-=idle\t=\n").unwrap();
        let turned = turned.corrected(&better).unwrap();
        assert_eq!(brief(&turned), ["tide int quay:-2", "tide str quay:2-=idle"], "one of two is meant");
        assert!(table.corrected(&Table::parse("none\t=\t=\t*\t=\t=\n").unwrap()).is_err());
    }

    #[test]
    fn spans_hold_their_first_release_and_not_their_last() {
        let all = spans("quay:1.2-1.10,quay:2-=idle").unwrap();
        for (version, within) in
            [("1.1", false), ("1.2", true), ("1.9", true), ("1.10", false), ("2.0", true)]
        {
            assert_eq!(holds(&all, &release(version)), within, "{version}");
        }
        assert_eq!(all[1].fate, "idle");
        assert!(spans("1.2-").is_err() && spans("quay:1.2").is_err() && Table::parse("a\tb\n").is_err());
    }
}
