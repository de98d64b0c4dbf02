//! httpd's second pass: every directive in order, with the section it stands in.
use super::lines::word;
use super::state::{Around, DIRECTORY, Directive, Facts, Item, PROXY, Reader, SERVER, Scope, find};
use super::{DIRECTIVES, rules};
use crate::code::Code;
use crate::config::rows::{Fault, Marks, Row, Type, fault, slots_of};
use crate::config::{About, Severity, nearest};
use std::borrow::Cow;

pub(super) fn walk(r: &mut Reader) {
    let items = std::mem::take(&mut r.items);
    let mut facts = Facts::default();
    let scope = Scope { allowed: DIRECTIVES.bits(SERVER), ..Scope::default() };
    level(r, &items, 0, items.len(), &scope, &mut facts);
    super::finish::finish(r, facts);
}

fn level(r: &mut Reader, items: &[Item], from: usize, to: usize, scope: &Scope, facts: &mut Facts) {
    let mut at = from;
    let mut previous = "";
    let mut room = Vec::new();
    while at < to {
        let Some(item) = items.get(at) else { return };
        let end = item.end().unwrap_or(at + 1).max(at + 1);
        let d = directive(r, item, std::mem::take(&mut room));
        let before = r.out.findings.len();
        let row = judge(r, &d, scope);
        if let Some(row) = row {
            if let Some(tree) = &mut r.tree {
                let words = d.values.iter().map(|v| v.to_string()).collect();
                tree.add(&d.lower(), words, d.item.place(), item.end().is_some());
            }
            words_of(r, &d, row);
            if r.out.findings.len() == before {
                rules::apply(r, &d, row, &mut Around { scope, facts, previous });
            }
            if item.end().is_some() {
                let inner = inner(&d, scope, facts);
                level(r, items, at + 1, end, &inner, facts);
                rules::section_ends(r, &d, items.get(at + 1..end).unwrap_or_default());
                if let Some(tree) = &mut r.tree {
                    tree.close();
                }
            }
        }
        previous = row.map_or("", |row| row.name);
        room = d.values;
        at = end;
    }
}

/// A word with its variables put in.
fn resolved<'i>(r: &Reader, word: Cow<'i, str>) -> Cow<'i, str> {
    match word {
        Cow::Borrowed(text) => r.resolve(text),
        Cow::Owned(text) => Cow::Owned(r.resolve(&text).into_owned()),
    }
}

/// A directive with its words; `values` is the room of the one before it.
fn directive<'i>(r: &Reader, item: &'i Item, mut values: Vec<Cow<'i, str>>) -> Directive<'i> {
    let text = item.text();
    let (first, rest) = word(text);
    let section = text.starts_with('<');
    let first = match first {
        Cow::Borrowed(name) if section => Cow::Borrowed(name.trim_end_matches('>')),
        name => name,
    };
    let mut rest = if section { rest.rfind('>').map_or(rest, |e| &rest[..e]) } else { rest };
    values.clear();
    while !rest.is_empty() {
        let (word, behind) = word(rest);
        values.push(resolved(r, word));
        rest = behind;
    }
    Directive { item, name: resolved(r, first), values }
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
        "proxy" | "proxymatch" => scope.allowed = DIRECTIVES.bits(PROXY),
        "limit" | "limitexcept" | "requireall" | "requireany" | "requirenone" => {}
        _ => scope.allowed = DIRECTIVES.bits(DIRECTORY),
    }
    scope.sections.push(section);
    scope
}

/// Does it exist with these modules, and may it stand here?
fn judge(r: &mut Reader, d: &Directive, scope: &Scope) -> Option<&'static Row> {
    let known = DIRECTIVES.any_case(&d.name);
    if !known.iter().any(|row| r.stands(row)) {
        unknown(r, d, known);
        return None;
    }
    let limited = if scope.inside("limit") { DIRECTIVES.place("limit") } else { 0 };
    let fits = |row: &Row| row.places & (scope.allowed | limited) != 0;
    let Some(row) = known.iter().find(|row| fits(row) && r.stands(row)) else {
        let places = known.iter().filter(|row| r.is_there(row)).fold(0, |sum, row| sum | row.places);
        let server = places & DIRECTIVES.place("server") != 0;
        let message = format!("{} is not allowed in {}", shown(&d.name), scope.spelled());
        find(r, d, Code::ConfigMisplacedDirective, message).help = Some(
            if server {
                "it belongs outside of directory sections"
            } else {
                "it belongs in a section such as <Directory> or <Location>"
            }
            .into(),
        );
        return None;
    };
    if let Some(section) = refused(row, scope) {
        let message = format!("{} cannot stand inside <{section}>", shown(&d.name));
        find(r, d, Code::ConfigMisplacedDirective, message);
        return None;
    }
    if !row.releases.is_empty()
        && let Some((message, help)) = DIRECTIVES.fate(row, r.options.release.as_ref()).caution(row.name)
    {
        let found = find(r, d, Code::ConfigWarning, message);
        (found.severity, found.help) = (Severity::Warning, help);
    }
    Some(row)
}

fn shown(name: &str) -> String {
    if name.starts_with('<') { format!("{name}>") } else { name.to_owned() }
}

/// The open section that the directive's own rule refuses.
fn refused(row: &Row, scope: &Scope) -> Option<String> {
    if row.refused == 0 {
        return None;
    }
    let has = |word: &str| DIRECTIVES.refuses(row, word);
    let dir_like = has("dir") || has("global");
    scope.sections.iter().rev().find_map(|section| {
        let hit = match section.as_str() {
            "virtualhost" => has("global") || has("host"),
            "directory" | "directorymatch" => dir_like || has("directory"),
            "location" | "locationmatch" => dir_like || has("location"),
            "files" | "filesmatch" | "if" | "elseif" | "else" => dir_like || has("files"),
            "limit" | "limitexcept" => dir_like || has("limit"),
            "proxy" | "proxymatch" => dir_like,
            _ => false,
        };
        hit.then(|| section.clone())
    })
}

fn unknown(r: &mut Reader, d: &Directive, known: &'static [Row]) {
    let name = shown(&d.name);
    if let Some(row) = known.first() {
        let module = row.from;
        let message = format!("{name} belongs to mod_{module}, which is not loaded");
        let help = match r.snapshot.exists(&format!("/etc/apache2/mods-available/{module}.load")) {
            Some(true) => format!("enable it: a2enmod {module}"),
            _ => format!("load it: LoadModule {module}_module …"),
        };
        let found = find(r, d, Code::ConfigMissingModule, message);
        found.help = Some(help);
        found.about = Some(About::Module(format!("{module}_module")));
        return;
    }
    // A module of another release than the table's can know more.
    // Further ones are only counted: what is dear to find out about them need not be.
    if r.out.is_full(Code::ConfigUnknownDirective) {
        find(r, d, Code::ConfigUnknownDirective, "not a directive of httpd");
        return;
    }
    if super::super::strings_hold(r.snapshot, &r.module_files, &d.name) {
        return;
    }
    let lower = d.lower();
    let near = nearest(&lower, DIRECTIVES.all().filter(|row| r.is_there(row)).map(|row| row.name))
        .or_else(|| nearest(&lower, DIRECTIVES.all().map(|row| row.name)));
    let edit = near.and_then(|near| {
        let raw = word(d.item.text()).0.trim_end_matches('>').len();
        Some((d.item.span(0, raw)?, near.to_owned()))
    });
    let found = find(r, d, Code::ConfigUnknownDirective, format!("{name} is not a directive of httpd"));
    found.help = near.map(|near| format!("did you mean {}?", shown(near)));
    found.edit = edit;
}

/// The values as the row has them.
fn words_of(r: &mut Reader, d: &Directive, row: &'static Row) {
    // What is read as a whole has no words of its own.
    if row.first() == Some(Type::Raw) {
        return;
    }
    let mut wrong = None;
    let message = match fault(row, d.values.len(), |at| d.value(at)) {
        None => {
            if row.marks.has(Marks::TYPED) {
                let patterns = slots_of(row, d.values.len(), |at| d.value(at))
                    .enumerate()
                    .filter(|(_, slot)| slot.takes == Type::Regex);
                patterns.for_each(|(at, _)| rules::regex(r, d, at));
            }
            return;
        }
        Some(Fault::Count { found, expected }) => format!(
            "{} has {found} {}, expected {expected}",
            d.name,
            if found == 1 { "value" } else { "values" }
        ),
        Some(Fault::Word { at, expected }) => {
            wrong = Some(at);
            format!("{} is \"{}\", expected {expected}", d.name, d.value(at))
        }
    };
    let comment = d.values.iter().any(|v| v.starts_with('#'));
    let found = find(r, d, Code::ConfigBadValue, message);
    if let Some(at) = wrong {
        found.place = Some(d.item.value_place(at));
    }
    if comment {
        found.help =
            Some("a # behind a value begins no comment here; put the comment on a line of its own".into());
    }
}
