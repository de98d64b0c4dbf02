//! Turns the data that people edit into a form that costs nothing at a start: TOML into JSON, tables of
//! directives into static data.
#![expect(clippy::disallowed_methods, reason = "a build has files and an environment, and no host to ask")]
use jolly_rows::{Row, Slot, Table, spans, takes};
use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write as _;
use std::path::Path;
use std::{env, fs, io};

/// Names of the files that are turned into JSON.
const NAMES: [&str; 5] = ["failures.toml", "log.toml", "heads.toml", "general.toml", "wide.toml"];
/// A table as it was harvested, and what people know better.
const TABLE: &str = "directives.rows";
const BETTER: &str = "better.rows";
/// Marks of a row that say yes or no; `default=VALUE` is another one.
const MARKS: [&str; 3] = ["once", "block", "list"];

fn main() -> io::Result<()> {
    let out = env::var("OUT_DIR").map_err(io::Error::other)?;
    turn(Path::new("src"), Path::new(&out))
}

/// Every data file below a directory, at the same place below another one.
fn turn(from: &Path, to: &Path) -> io::Result<()> {
    fs::create_dir_all(to)?;
    println!("cargo::rerun-if-changed={}", from.display());
    for entry in fs::read_dir(from)? {
        let entry = entry?;
        let name = entry.file_name();
        let (source, target) = (entry.path(), to.join(&name));
        let told = |error: String| io::Error::other(format!("{}: {error}", source.display()));
        if entry.file_type()?.is_dir() {
            turn(&source, &target)?;
        } else if NAMES.iter().any(|n| name == *n) {
            let text = fs::read_to_string(&source)?;
            let data: toml::Table = toml::from_str(&text).map_err(|error| told(error.to_string()))?;
            fs::write(target.with_extension("json"), serde_json::to_string(&data)?)?;
        } else if name == TABLE {
            let mut table = Table::parse(&fs::read_to_string(&source)?).map_err(told)?;
            if let Ok(better) = fs::read_to_string(from.join(BETTER)) {
                table = Table::parse(&better)
                    .and_then(|b| table.corrected(&b))
                    .map_err(|error| io::Error::other(format!("{}: {error}", from.join(BETTER).display())))?;
            }
            fs::write(target.with_extension("rs"), directives(&table).map_err(told)?)?;
        }
    }
    Ok(())
}

/// A table as an expression of Rust.
fn directives(table: &Table) -> Result<String, String> {
    let words = |refused: bool| -> BTreeMap<&str, usize> {
        let all: BTreeSet<&str> = table
            .rows
            .iter()
            .flat_map(|r| r.places.split(','))
            .filter(|p| !p.is_empty() && p.starts_with('!') == refused)
            .collect();
        all.into_iter().enumerate().map(|(at, place)| (place, at)).collect()
    };
    let (places, refusals) = (words(false), words(true));
    if places.len() > 32 || refusals.len() > 32 {
        return Err("more than 32 places".into());
    }
    let mut rows: Vec<&Row> = table.rows.iter().collect();
    rows.sort_by_key(|r| (r.name.to_ascii_lowercase(), r.name.clone()));
    let index = index(&rows);
    let secret = |row: &&Row| row.takes.split([' ', '|', '?', '*', '+', '.']).any(|word| word == "secret");
    let mut secrets: Vec<String> =
        rows.iter().filter(|r| secret(r)).map(|r| format!("{:?}", r.name)).collect();
    secrets.dedup();
    let mut out = String::from("Directives {\nrows: &[\n");
    for (number, row) in rows.into_iter().enumerate() {
        let _ = writeln!(
            out,
            "{},",
            one(number, row, &places, &refusals).map_err(|e| format!("{}: {e}", row.name))?
        );
    }
    let releases: Vec<String> =
        table.releases.iter().map(|r| format!("({:?}, {:?})", r.flavour, r.version)).collect();
    let names = |all: &BTreeMap<&str, usize>| {
        all.keys().map(|p| format!("{:?}", p.trim_start_matches('!'))).collect::<Vec<_>>().join(", ")
    };
    let _ = write!(
        out,
        "],\nindex: &{index:?},\nplaces: &[{}],\nrefusals: &[{}],\nreleases: &[{}],\nsecrets: &[{}],\n}}",
        names(&places),
        names(&refusals),
        releases.join(", "),
        secrets.join(", ")
    );
    Ok(out)
}

/// Where the rows of a name begin, one more than that, by the hash of the name; the next free place where it
/// is taken.
fn index(rows: &[&Row]) -> Vec<u16> {
    let mut places = vec![0u16; (rows.len() * 2).next_power_of_two().max(2)];
    for (number, row) in rows.iter().enumerate() {
        let first = number == 0 || !rows[number - 1].name.eq_ignore_ascii_case(&row.name);
        let mut at = jolly_rows::hash(&row.name) as usize % places.len();
        while first && places[at] != 0 {
            at = (at + 1) % places.len();
        }
        if first {
            places[at] = u16::try_from(number + 1).unwrap_or(0);
        }
    }
    places
}

fn one(
    number: usize,
    row: &Row,
    places: &BTreeMap<&str, usize>,
    refusals: &BTreeMap<&str, usize>,
) -> Result<String, String> {
    let bits = |all: &BTreeMap<&str, usize>| {
        row.places.split(',').filter_map(|p| all.get(p)).fold(0u32, |sum, bit| sum | 1 << bit)
    };
    let forms = takes(&row.takes)?
        .iter()
        .map(|form| {
            Ok(format!("&[{}]", form.iter().map(slot).collect::<Result<Vec<_>, String>>()?.join(", ")))
        })
        .collect::<Result<Vec<_>, String>>()?;
    let reach = |s: &jolly_rows::Span| {
        let fate = match s.fate.split_once('(') {
            None => match s.fate.as_str() {
                "known" => "Fate::Known".to_owned(),
                "idle" => "Fate::Idle".to_owned(),
                "deprecated" => "Fate::Deprecated".to_owned(),
                other => return Err(format!("{other:?} is not a fate")),
            },
            Some(("renamed", name)) => format!("Fate::Renamed({:?})", name.trim_end_matches(')')),
            Some(_) => return Err(format!("{:?} is not a fate", s.fate)),
        };
        Ok(format!("Reach {{ flavour: {:?}, from: {:?}, to: {:?}, fate: {fate} }}", s.flavour, s.from, s.to))
    };
    let releases = spans(&row.releases)?.iter().map(reach).collect::<Result<Vec<_>, String>>()?;
    let mut marks: Vec<String> = Vec::new();
    if takes(&row.takes)?
        .iter()
        .flatten()
        .any(|s| matches!(s.name.as_str(), "template" | "variable" | "regex" | "path"))
    {
        marks.push("Marks::TYPED".into());
    }
    let mut default = "None".to_owned();
    for mark in row.marks.split(',').filter(|m| !m.is_empty()) {
        match mark.split_once('=') {
            Some(("default", value)) => default = format!("Some({value:?})"),
            Some(_) => return Err(format!("{mark:?} is not a mark")),
            None if MARKS.contains(&mark) => marks.push(format!("Marks::{}", mark.to_ascii_uppercase())),
            None => {
                return Err(format!(
                    "\"{mark}\" is not a mark, expected {} or default=VALUE",
                    MARKS.join(", ")
                ));
            }
        }
    }
    Ok(format!(
        "Row {{ number: {number}, name: {:?}, places: {}, refused: {}, takes: &[{}], from: {:?}, releases: \
            &[{}], marks: Marks({}), default: {default} }}",
        row.name,
        bits(places),
        bits(refusals),
        forms.join(", "),
        row.from,
        releases.join(", "),
        if marks.is_empty() { "0".to_owned() } else { marks.join(" | ") },
    ))
}

fn slot(slot: &Slot) -> Result<String, String> {
    Ok(format!(
        "Slot {{ takes: {}, least: {}, most: {} }}",
        kind(slot)?,
        slot.least,
        slot.most.map_or_else(|| "u16::MAX".to_owned(), |m| m.to_string())
    ))
}

/// A type as an expression of Rust; the names are those of `config/rows/types`.
fn kind(slot: &Slot) -> Result<String, String> {
    let words =
        || format!("&[{}]", slot.arguments.iter().map(|a| format!("{a:?}")).collect::<Vec<_>>().join(", "));
    let range = |text: Option<&String>| -> Result<(String, String), String> {
        let Some(text) = text else { return Ok(("None".into(), "None".into())) };
        let (least, most) = text.split_once("..").ok_or_else(|| format!("{text:?} is not a range"))?;
        let end = |n: &str| {
            if n.is_empty() {
                Ok("None".to_owned())
            } else {
                n.parse::<i64>().map(|n| format!("Some({n})")).map_err(|e| e.to_string())
            }
        };
        Ok((end(least)?, end(most)?))
    };
    Ok(match slot.name.as_str() {
        "flag" => "Type::Flag".into(),
        "truth" => "Type::Truth".into(),
        name @ ("amount" | "real") => {
            let unit = slot.arguments.iter().find(|a| !a.contains("..")).map_or("", String::as_str);
            let (least, most) = slot.arguments.iter().find_map(|a| a.split_once("..")).unwrap_or_default();
            format!(
                "Type::Amount(Amount {{ unit: {unit:?}, whole: {}, least: {least:?}, most: {most:?} }})",
                name == "amount"
            )
        }
        "int" => {
            let (least, most) = range(slot.arguments.first())?;
            format!("Type::Int(Int {{ least: {least}, most: {most} }})")
        }
        "memory" => {
            let (least, most) = range(slot.arguments.first())?;
            format!("Type::Memory(Int {{ least: {least}, most: {most} }})")
        }
        "leading" => {
            let (least, most) = range(slot.arguments.first())?;
            format!("Type::Leading(Int {{ least: {least}, most: {most} }})")
        }
        "size" => {
            let units: String = slot.arguments.iter().filter(|a| a.len() == 1).map(String::as_str).collect();
            let (least, _) = range(slot.arguments.iter().find(|a| a.contains("..")))?;
            format!("Type::Size(Size {{ units: {units:?}, least: {least} }})")
        }
        "time" => match slot.arguments.first().map(String::as_str) {
            Some("ms") => "Type::Time(Time::Milliseconds)".into(),
            Some("s") => "Type::Time(Time::Seconds)".into(),
            Some("timeout") => "Type::Time(Time::Timeout)".into(),
            Some("duration") => "Type::Time(Time::Duration)".into(),
            Some("unit") => "Type::Time(Time::OneUnit)".into(),
            _ => return Err("time(ms), time(s), time(timeout), time(duration) or time(unit)".into()),
        },
        "enum" => format!("Type::Enum({})", words()),
        "exact" => format!("Type::Exact({})", words()),
        "begins" => format!("Type::Begins({})", words()),
        "set" => format!("Type::Set({})", words()),
        "signed" => format!("Type::Signed({})", words()),
        "network" => format!("Type::Network({})", words()),
        "address" => "Type::Address".into(),
        "str" => "Type::Str".into(),
        "secret" => "Type::Secret".into(),
        "word" => "Type::Word".into(),
        "raw" => "Type::Raw".into(),
        "template" => "Type::Template".into(),
        "variable" => "Type::Variable".into(),
        "regex" => "Type::Regex".into(),
        "path" => match slot.arguments.first().map(String::as_str) {
            Some("read") => "Type::Path(PathUse::Read)".into(),
            Some("write") => "Type::Path(PathUse::Write)".into(),
            _ => return Err("path(read) or path(write)".into()),
        },
        other => return Err(format!("{other:?} is not a type")),
    })
}
