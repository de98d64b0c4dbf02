//! `cargo xtask harvest postgresql FILE…`: what a server says of its own settings, one file for each
//! release, becomes its table. The files come from the server itself:
//!
//! ```text
//! psql -At -F '|' -c "show server_version" \
//!   -c "select name, vartype, coalesce(unit, ''), coalesce(min_val, ''), coalesce(max_val, ''),
//!       coalesce(array_to_string(enumvals, ','), ''), context, coalesce(boot_val, '') from pg_settings
//! order by 1"
//! ```
//!
//! What it does not list of itself stands in better.rows beside the table.
use jolly_rows::{Release, Row, Table};
use std::fs;
use std::path::Path;

const HEAD: &str = "Settings of PostgreSQL. Written by `cargo xtask harvest postgresql FILE…` from what \
 servers \
    list of themselves\n(pg_settings); what people know better stands in better.rows beside it.";
const TARGET: &str = "crates/core/src/kinds/postgresql/directives.rows";
/// Words of truth that a list with `on` and `off` takes, too, and does not show (guc_tables.c).
const TRUTHS: &[&str] = &["true", "false", "yes", "no", "1", "0"];

/// Makes the table anew out of the answers of all releases.
pub(crate) fn postgresql(files: &[&str]) -> Result<(), String> {
    let mut table = Table::default();
    for file in files {
        let text = fs::read_to_string(file).map_err(|e| format!("{file}: {e}"))?;
        let mut lines = text.lines();
        let version = lines.next().and_then(|l| l.split(' ').next()).filter(|v| v.contains('.'));
        let version = version.ok_or_else(|| format!("{file}: the first line is not a version"))?;
        // What is added within a series (15.8) is known to all of it: better too many than a false alarm.
        let version = version.split('.').next().unwrap_or(version).to_owned();
        let rows: Vec<Row> = lines.filter_map(|line| row(line, &version)).collect();
        table.add(&Release { flavour: "postgresql".into(), version }, rows);
    }
    fs::write(Path::new(TARGET), table.spelled(HEAD)).map_err(|e| format!("{TARGET}: {e}"))
}

fn row(line: &str, version: &str) -> Option<Row> {
    let [name, sort, unit, least, most, words, context, default] =
        line.split('|').collect::<Vec<_>>().try_into().ok()?;
    let end = |n: &str| if n.starts_with("1.79769e+308") { String::new() } else { plain(n) };
    let range = format!("{}..{}", end(least), end(most));
    let takes = match sort {
        "bool" => "truth".to_owned(),
        "integer" if unit.is_empty() => format!("amount({range})"),
        "integer" => format!("amount({unit},{range})"),
        "real" if unit.is_empty() => format!("real({range})"),
        "real" => format!("real({unit},{range})"),
        // Before 14 it was a word of truth once more.
        "enum" if name == "password_encryption" && version == "13" => {
            format!("enum({},on,true,yes,1)", choices(words))
        }
        "enum" => format!("enum({})", choices(words)),
        _ => "str".to_owned(),
    };
    let shown = !default.is_empty() && !default.contains([',', '|', '\t', '%', '$', ' ']);
    let mark = if shown { format!("default={}", with_unit(default, unit)) } else { String::new() };
    Some(Row {
        name: name.to_ascii_lowercase(),
        // Which of them a file cannot set.
        places: if context == "internal" { "fixed".into() } else { String::new() },
        takes,
        from: String::new(),
        releases: String::new(),
        marks: mark,
    })
}

/// A number as it is written in a row.
fn plain(number: &str) -> String {
    number.parse::<f64>().map_or_else(|_| number.to_owned(), |n| n.to_string())
}

fn choices(words: &str) -> String {
    let mut all: Vec<&str> = words.split(',').map(|w| w.trim_matches('"')).collect();
    if all.contains(&"on") && all.contains(&"off") {
        all.extend(TRUTHS);
    }
    if all.contains(&"debug5") {
        all.push("debug");
        if !all.contains(&"info") {
            all.push("info");
        }
    }
    all.iter().map(|w| if w.is_empty() { "''" } else { w }).collect::<Vec<_>>().join(",")
}

/// A number of units as one would write it: 16384 of 8kB are 128MB.
fn with_unit(value: &str, unit: &str) -> String {
    const UP: &[(&str, i64, &str)] = &[
        ("8kB", 0, "kB"),
        ("B", 1024, "kB"),
        ("kB", 1024, "MB"),
        ("MB", 1024, "GB"),
        ("ms", 1000, "s"),
        ("s", 60, "min"),
        ("min", 60, "h"),
        ("h", 24, "d"),
    ];
    let Some(mut number) = value.parse::<i64>().ok().filter(|n| *n > 0) else { return value.to_owned() };
    let mut own = unit;
    if own == "8kB" {
        (number, own) = (number * 8, "kB");
    }
    while let Some((_, times, next)) = UP.iter().find(|(from, times, _)| *from == own && *times > 0) {
        if number % times != 0 {
            break;
        }
        (number, own) = (number / times, next);
    }
    format!("{number}{own}")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_answer_becomes_a_row() {
        let of = |line: &str| row(line, "15").map(|r| [r.name, r.places, r.takes, r.marks].join(" "));
        for (line, wanted) in [
            (
                "shared_buffers|integer|8kB|16|1073741823||postmaster|16384",
                "shared_buffers  amount(8kB,16..1073741823) default=128MB",
            ),
            ("seq_page_cost|real||0|1.79769e+308||user|1", "seq_page_cost  real(0..) default=1"),
            (
                "block_size|integer||8192|8192||internal|8192",
                "block_size fixed amount(8192..8192) default=8192",
            ),
            (
                "huge_pages|enum||||off,on,try|postmaster|try",
                "huge_pages  enum(off,on,try,true,false,yes,no,1,0) default=try",
            ),
            ("DateStyle|string|||||user|ISO, MDY", "datestyle  str "),
            ("ssl_max|enum||||\"\",TLSv1|sighup|", "ssl_max  enum('',TLSv1) "),
        ] {
            assert_eq!(of(line).as_deref(), Some(wanted));
        }
        assert_eq!(of("not a row"), None);
        let old = row("password_encryption|enum||||md5|user|md5", "13").unwrap();
        assert_eq!(old.takes, "enum(md5,on,true,yes,1)");
        assert_eq!(with_unit("200", "ms"), "200ms");
        assert_eq!(with_unit("300", "s"), "5min");
    }
}
