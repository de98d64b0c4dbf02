//! httpd's second pass: every directive in order, with the section it stands in.
use super::lines::{word, words};
use super::state::{DIRECTORY, Directive, Facts, Item, PROXY, Reader, SERVER, Scope, find};
use super::{DIRECTIVES, rules};
use crate::code::Code;
use crate::config::{Row, nearest};
use std::collections::HashMap;

pub(super) fn walk(r: &mut Reader) {
    let items = std::mem::take(&mut r.items);
    let mut facts = Facts::default();
    let scope = Scope { allowed: SERVER, ..Scope::default() };
    let mut rows = HashMap::new();
    level(r, &items, 0, items.len(), &scope, &mut facts, &mut rows);
    super::finish::finish(r, facts);
}

type Rows = HashMap<String, Vec<Row>>;

fn level(r: &mut Reader, items: &[Item], from: usize, to: usize, scope: &Scope, facts: &mut Facts, rows: &mut Rows) {
    let mut at = from;
    let mut previous = String::new();
    while at < to {
        let Some(item) = items.get(at) else { return };
        let end = item.end.unwrap_or(at + 1).max(at + 1);
        let d = directive(r, item);
        let before = r.out.findings.len();
        if let Some(row) = judge(r, &d, scope, rows) {
            shape(r, &d, row);
            if r.out.findings.len() == before {
                rules::directive(r, &d, scope, facts, &previous);
            }
            if item.end.is_some() {
                let inner = inner(&d, scope, facts);
                level(r, items, at + 1, end, &inner, facts, rows);
                rules::section_ends(r, &d, items.get(at + 1..end).unwrap_or_default());
            }
        }
        previous = d.lower();
        at = end;
    }
}

fn directive<'i>(r: &Reader, item: &'i Item) -> Directive<'i> {
    let name = r.resolve(&item.name());
    let rest = item.rest();
    let rest = if item.text.starts_with('<') { rest.rfind('>').map_or(rest, |e| &rest[..e]) } else { rest };
    Directive { item, name, values: words(rest).iter().map(|w| r.resolve(w)).collect() }
}

fn inner(d: &Directive, outer: &Scope, facts: &mut Facts) -> Scope {
    let mut scope = outer.clone();
    let section = d.lower().trim_start_matches('<').to_owned();
    match section.as_str() {
        "virtualhost" => {
            facts.hosts += 1;
            scope.host = facts.hosts;
            scope.host_place = Some(d.item.place());
        }
        "proxy" | "proxymatch" => scope.allowed = PROXY,
        "limit" | "limitexcept" | "requireall" | "requireany" | "requirenone" => {}
        _ => scope.allowed = DIRECTORY,
    }
    scope.sections.push(section);
    scope
}

/// Does it exist with these modules, and may it stand here?
fn judge(r: &mut Reader, d: &Directive, scope: &Scope, rows: &mut Rows) -> Option<Row> {
    let key = d.lower();
    let known = rows.entry(key.clone()).or_insert_with(|| DIRECTIVES.rows(&key).collect()).clone();
    let available: Vec<Row> = known.iter().copied().filter(|row| r.has(row.column(2))).collect();
    if available.is_empty() {
        unknown(r, d, &known);
        return None;
    }
    let fits = |row: &Row| {
        let mut places = row.column(3).split(',');
        places.any(|p| scope.allowed.contains(&p)) || (scope.inside("limit") && places.any(|p| p == "limit"))
    };
    let Some(row) = available.iter().copied().find(fits) else {
        let places: Vec<&str> = available.iter().flat_map(|row| row.column(3).split(',')).collect();
        let server = places.contains(&"server");
        let message = format!("{} is not allowed in {}", shown(&d.name), scope.spelled());
        find(r, d, Code::ConfigMisplacedDirective, message).help =
            Some(if server { "it belongs outside of directory sections" } else { "it belongs in a section such as <Directory> or <Location>" }.into());
        return None;
    };
    if let Some(section) = refused(row, scope, &d.lower()) {
        let message = format!("{} cannot stand inside <{section}>", shown(&d.name));
        find(r, d, Code::ConfigMisplacedDirective, message);
        return None;
    }
    Some(row)
}

fn shown(name: &str) -> String {
    if name.starts_with('<') { format!("{name}>") } else { name.to_owned() }
}

/// The open section that the directive's own rule refuses.
fn refused(row: Row, scope: &Scope, name: &str) -> Option<String> {
    let rules: Vec<&str> = row.column(5).split(',').collect();
    let has = |word: &str| rules.contains(&word);
    let dir_like = has("dir") || has("global");
    scope.sections.iter().rev().find_map(|section| {
        let hit = match section.as_str() {
            "virtualhost" => has("global") || has("host"),
            "directory" | "directorymatch" => dir_like || (has("directory") && name != "allowoverride"),
            "location" | "locationmatch" => dir_like || (has("location") && name != "allowoverride"),
            "files" | "filesmatch" | "if" | "elseif" | "else" => dir_like || (has("files") && name != "allowoverride"),
            "limit" | "limitexcept" => dir_like || has("limit"),
            "proxy" | "proxymatch" => dir_like,
            _ => false,
        };
        hit.then(|| section.clone())
    })
}

fn unknown(r: &mut Reader, d: &Directive, known: &[Row]) {
    let name = shown(&d.name);
    if let Some(row) = known.first() {
        let module = row.column(2);
        let message = format!("{name} belongs to mod_{module}, which is not loaded");
        let help = match r.snapshot.exists(&format!("/etc/apache2/mods-available/{module}.load")) {
            Some(true) => format!("enable it: a2enmod {module}"),
            _ => format!("load it: LoadModule {module}_module …"),
        };
        let found = find(r, d, Code::ConfigMissingModule, message);
        found.help = Some(help);
        found.object = Some(format!("{module}_module"));
        return;
    }
    // A module of another release than the table's can know more.
    let files: Vec<String> = r.out.model.modules.iter().filter_map(|m| r.out.model.facts.get(&format!("module-file {m}")).cloned()).collect();
    // Further ones are only counted: what is dear to find out about them need not be.
    if r.out.is_full(Code::ConfigUnknownDirective) {
        find(r, d, Code::ConfigUnknownDirective, "not a directive of httpd");
        return;
    }
    if super::super::strings_hold(r.snapshot, &files, &d.name) {
        return;
    }
    let lower = d.lower();
    let near = nearest(&lower, DIRECTIVES.all().filter(|row| r.has(row.column(2))).map(|row| row.column(0)))
        .or_else(|| nearest(&lower, DIRECTIVES.keys()))
        .and_then(|n| DIRECTIVES.rows(n).next())
        .map(|row| row.column(1));
    let edit = near.and_then(|near| {
        let raw = word(&d.item.text).0.trim_end_matches('>').len();
        Some((d.item.span(0, raw)?, near.to_owned()))
    });
    let found = find(r, d, Code::ConfigUnknownDirective, format!("{name} is not a directive of httpd"));
    found.help = near.map(|near| format!("did you mean {}?", shown(near)));
    found.edit = edit;
}

/// The number of values that the table asks for.
fn shape(r: &mut Reader, d: &Directive, row: Row) {
    let count = d.values.len();
    let first = d.value(0);
    let fault = match row.column(4) {
        "no_args" => (count != 0).then(|| "no value".to_owned()),
        "flag" => (!first.eq_ignore_ascii_case("on") && !first.eq_ignore_ascii_case("off")).then(|| "On or Off".to_owned()),
        "take1" => (count != 1 || first.is_empty()).then(|| "1 value".to_owned()),
        "take2" => (count != 2).then(|| "2 values".to_owned()),
        "take3" => (count != 3).then(|| "3 values".to_owned()),
        "take12" => (!(1..=2).contains(&count)).then(|| "1 or 2 values".to_owned()),
        "take23" => (!(2..=3).contains(&count)).then(|| "2 or 3 values".to_owned()),
        "take13" => (count != 1 && count != 3).then(|| "1 or 3 values".to_owned()),
        "take123" => (!(1..=3).contains(&count)).then(|| "1 to 3 values".to_owned()),
        "iterate2" => (count < 2).then(|| "2 or more values".to_owned()),
        _ => None,
    };
    if let Some(expected) = fault {
        let message = match row.column(4) {
            "flag" => format!("{} is {first:?}, expected {expected}", d.name),
            _ => format!("{} has {count} {}, expected {expected}", d.name, if count == 1 { "value" } else { "values" }),
        };
        let comment = d.values.iter().any(|v| v.starts_with('#'));
        let found = find(r, d, Code::ConfigBadValue, message);
        if comment {
            found.help = Some("a # behind a value begins no comment here; put the comment on a line of its own".into());
        }
    }
}
