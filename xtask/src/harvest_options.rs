//! `cargo xtask harvest mysql FLAVOUR:SERIES=DIRECTORY…`: what a server of the MySQL family says of its own
//! options becomes their table. A directory holds two answers of the server itself:
//!
//! - `help.txt`: `mariadbd --no-defaults --verbose --help` (`mysqld` likewise);
//! - `vars.txt`: parted by tabs (`mariadb -N -B -e …`), of MariaDB
//!   `select lower(variable_name), variable_type, coalesce(numeric_min_value, ''),
//! coalesce(numeric_max_value, ''),
//!   coalesce(enum_value_list, ''), coalesce(command_line_argument, ''), coalesce(default_value, '')
//!   from information_schema.system_variables`, of MySQL
//!   `select lower(variable_name), data_type, min_value, max_value, '', '', ''
//!   from performance_schema.variables_metadata`.
//!
//! The first column of a row's origin says how the server reads a value: `bool`, `signed`, `unsigned`,
//! `number`,
//! `double`, `enum`, `set`, `flags`, `str` or `none`.
use jolly_rows::{Release, Row, Table};
use regex::Regex;
use std::collections::BTreeMap;
use std::fs;
use std::path::Path;

const HEAD: &str = "Options of MariaDB and MySQL, with `_` for `-`. Written by `cargo xtask harvest mysql \
    FLAVOUR:SERIES=DIRECTORY…` from what\nservers say of themselves; what people know \
    better stands in better.rows beside it.";
const TARGET: &str = "crates/core/src/kinds/mysql/directives.rows";

/// What the server says of a variable: how it reads it, its least and most, its words, its default.
struct Variable {
    reads: &'static str,
    least: String,
    most: String,
    words: Vec<String>,
    /// `REQUIRED`, `OPTIONAL`, `NONE`, or nothing where it does not say.
    argument: String,
    default: String,
}

/// Makes the table anew out of the answers of all releases.
pub(crate) fn mysql(answers: &[&str]) -> Result<(), String> {
    let mut table = Table::default();
    for answer in answers {
        let wrong = || format!("{answer:?} is not FLAVOUR:SERIES=DIRECTORY");
        let (release, directory) = answer.split_once('=').ok_or_else(wrong)?;
        let (flavour, version) = release.split_once(':').ok_or_else(wrong)?;
        let read = |name: &str| {
            let file = Path::new(directory).join(name);
            fs::read_to_string(&file).map_err(|e| format!("{}: {e}", file.display()))
        };
        let rows = rows(&read("help.txt")?, &read("vars.txt")?)?;
        table.add(&Release { flavour: flavour.to_owned(), version: version.to_owned() }, rows);
    }
    fs::write(TARGET, table.spelled(HEAD)).map_err(|e| format!("{TARGET}: {e}"))
}

fn variables(text: &str) -> BTreeMap<String, Variable> {
    let one = |line: &str| {
        let columns: Vec<&str> = line.split('\t').collect();
        let [name, sort, least, most, words, argument, default, ..] = columns[..] else { return None };
        let words: Vec<String> = words.split(',').filter(|w| !w.is_empty()).map(str::to_owned).collect();
        let reads = match sort {
            "BOOLEAN" | "Boolean" => "bool",
            "INT" | "BIGINT" => "signed",
            "INT UNSIGNED" | "BIGINT UNSIGNED" => "unsigned",
            "Integer" if least.starts_with('-') => "signed",
            "Integer" => "number",
            "DOUBLE" | "Numeric" => "double",
            // MySQL does not list the words.
            "ENUM" | "Enumeration" | "Set" if words.is_empty() => "words",
            "ENUM" | "Enumeration" => "enum",
            "SET" | "Set" => "set",
            "FLAGSET" => "flags",
            _ => "str",
        };
        let (least, most, default) = (least.to_owned(), most.to_owned(), default.to_owned());
        Some((
            name.to_owned(),
            Variable { reads, least, most, words, argument: argument.to_owned(), default },
        ))
    };
    text.lines().filter_map(one).collect()
}

fn rows(help: &str, text: &str) -> Result<Vec<Row>, String> {
    let options = help.split("\nVariables (--variable-name=value)").next().unwrap_or_default();
    let pattern =
        Regex::new(r"(?m)^  (?:-(?:\w|\?), )?--([A-Za-z0-9_-]+)(\[?=[^\s]*)?").map_err(|e| e.to_string())?;
    let variables = variables(text);
    let mut found: BTreeMap<String, Row> = BTreeMap::new();
    let starts: Vec<_> = pattern.captures_iter(options).collect();
    for (at, one) in starts.iter().enumerate() {
        let name = one[1].replace('-', "_");
        let form = one.get(2).map_or("", |m| m.as_str());
        let begin = one.get(0).map_or(0, |m| m.start());
        let end = starts.get(at + 1).and_then(|next| next.get(0)).map_or(options.len(), |m| m.start());
        let switch = options[begin..end].contains("(Defaults to o");
        let row = row(&name, form, switch, variables.get(&name.to_ascii_lowercase()));
        found.insert(name, row);
    }
    Ok(found.into_values().collect())
}

fn row(name: &str, form: &str, switch: bool, variable: Option<&Variable>) -> Row {
    let optional = match variable.map_or("", |v| v.argument.as_str()) {
        "REQUIRED" => "",
        "OPTIONAL" => "?",
        _ if form.starts_with("[=") || form.is_empty() => "?",
        _ => "",
    };
    let reads = match variable.map(|v| v.reads) {
        Some(reads) => reads,
        None if form.is_empty() && switch => "bool",
        None if form.is_empty() => "none",
        None if form.contains('#') => "number",
        None => "str",
    };
    let takes = match (reads, variable) {
        ("bool", _) => format!("enum(on,off,true,false,1,0){optional}"),
        // Where the server lists no words, its own code knows them.
        ("enum" | "set" | "flags", Some(v)) if !v.words.is_empty() => {
            let words: Vec<String> =
                v.words.iter().map(|w| if w.is_empty() { "''".into() } else { w.clone() }).collect();
            format!("enum({}){optional}", words.join(","))
        }
        ("signed" | "unsigned" | "number", Some(v)) => {
            let end = |n: &str| n.parse::<i64>().map(|n| n.to_string()).unwrap_or_default();
            format!("int({}..{}){optional}", end(&v.least), end(&v.most))
        }
        ("none", _) => "none".to_owned(),
        _ => format!("str{optional}"),
    };
    let default = variable.map(|v| v.default.as_str()).filter(|d| {
        !d.is_empty() && d.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '_' | '.' | '-' | ':'))
    });
    Row {
        name: name.to_owned(),
        places: String::new(),
        takes,
        from: reads.to_owned(),
        releases: String::new(),
        marks: default.map(|d| format!("default={d}")).unwrap_or_default(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn answers_of_a_server_become_rows() {
        let help = "Usage\n\n  -a, --ansi          Use it.\n  --tide-gauge        Measures.\n             \
                  \
            (Defaults to on; use --skip-tide-gauge to disable.)\n  -P, --port=#        Port.\n  \
            --ebb-mode[=name] \n  \
            --wsrep-OSU-method=name \n\nVariables (--variable-name=value)\nport 3306\n";
        assert_eq!(
            variables("x\tENUM\t\t\t\tREQUIRED\tlatin1\n")["x"].reads,
            "words",
            "without a list nothing is refused"
        );
        let vars = "tide_gauge\tBOOLEAN\t\t\tOFF,ON\tOPTIONAL\tON\nport\tINT \
         UNSIGNED\t0\t65535\t\tREQUIRED\t0\n\
            ebb_mode\tENUM\t\t\tslow,fast\tOPTIONAL\tslow\n";
        let rows = rows(help, vars).unwrap();
        let shown: Vec<String> =
            rows.iter().map(|r| [r.name.as_str(), &r.takes, &r.from, &r.marks].join(" ")).collect();
        assert_eq!(
            shown,
            [
                "ansi none none ",
                "ebb_mode enum(slow,fast)? enum default=slow",
                "port int(0..65535) unsigned default=0",
                "tide_gauge enum(on,off,true,false,1,0)? bool default=ON",
                "wsrep_OSU_method str str ",
            ]
        );
    }
}
