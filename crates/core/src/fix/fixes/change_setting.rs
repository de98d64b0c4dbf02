//! A setting of a service that is well, as a person wants it: where it stands, or where its kind has it.
use super::{Fix, Needs, Wishes};
use crate::case::Case;
use crate::config::Span;
use crate::config::layers::{Assignment, Combine, Layer};
use crate::fix::edits::edits;
use crate::fix::plan::{Parameter, Plan, Risk};
use crate::kinds::{Kind, lines_alone};
use crate::snapshot::Snapshot;

pub(super) static FIX: Fix = Fix {
    price: |_| "changes the setting".into(),
    needs: Needs::Restart,
    ..Fix::plain("change-setting", |ask, plan| change(ask.snapshot, ask.case, ask.wishes, plan))
};

/// So many lines of a section are tried.
const TRIED: usize = 200;

/// Why a change cannot even be planned.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Unplanned {
    /// The setting stands, or could stand, in several sections.
    Several(Vec<String>),
    /// The value is a secret, and what is typed can be seen by others.
    Secret,
    /// It stands several times in one section, each time as one of a list.
    List(Vec<String>),
    /// No section of this name is there.
    NoSection(Vec<String>),
}

/// Where a setting stands, or where it goes.
enum Where {
    Written(Assignment),
    /// Behind a line of the section; `None` at the end of the main file.
    New(Option<String>),
}

/// Whether a change can be planned.
///
/// # Errors
/// Why not.
pub fn plannable(
    snapshot: &Snapshot,
    case: &Case,
    name: &str,
    section: Option<&str>,
) -> Result<(), Unplanned> {
    place(&of_files(snapshot, case), case.service.kind, name, section).map(drop)
}

/// Settings that files of the service hold. Some kinds keep them only where they are asked for.
fn of_files(snapshot: &Snapshot, case: &Case) -> Vec<Assignment> {
    let mut instance = case.service.instance.clone();
    instance.keep_all = true;
    let read = snapshot.aside(|| case.service.kind.read(snapshot, &instance));
    let own = |one: &Assignment| one.layer == Layer::File && one.place.is_some();
    read.model.settings.into_iter().filter(own).collect()
}

/// Whether an assignment is of a name: the name of some is two words, of which the second stands first in
/// what follows.
fn is_of(kind: &dyn Kind, one: &Assignment, name: &str) -> bool {
    if kind.setting_key(&one.name) == kind.setting_key(name) {
        return true;
    }
    let rest = name.strip_prefix(one.name.as_str()).and_then(|rest| rest.strip_prefix(' '));
    rest.is_some_and(|rest| one.value.first_word() == rest.trim())
}

fn sections<'c>(all: impl Iterator<Item = &'c Assignment>) -> Vec<String> {
    let mut found: Vec<String> = Vec::new();
    for one in all {
        if !found.contains(&one.section) {
            found.push(one.section.clone());
        }
    }
    found
}

fn place(
    settings: &[Assignment],
    kind: &dyn Kind,
    name: &str,
    section: Option<&str>,
) -> Result<Where, Unplanned> {
    if kind.is_secret(name) || crate::secrets::is_secret(name) {
        return Err(Unplanned::Secret);
    }
    let here = |one: &&Assignment| section.is_none_or(|wanted| one.section == wanted);
    let written: Vec<&Assignment> =
        settings.iter().filter(|one| is_of(kind, one, name)).filter(here).collect();
    let those = sections(written.iter().copied());
    if those.len() > 1 {
        return Err(Unplanned::Several(those));
    }
    if let Some(last) = written.last() {
        if kind.combine(last) == Combine::List && written.len() > 1 {
            let spot = |one: &&Assignment| {
                Some(format!("{}:{}", one.place.as_ref()?.file, one.place.as_ref()?.line))
            };
            return Err(Unplanned::List(written.iter().filter_map(spot).collect()));
        }
        let one = if kind.combine(last) == Combine::First { written[0] } else { last };
        return Ok(Where::Written(one.clone()));
    }
    let all = sections(settings.iter());
    if let Some(wanted) = section {
        return match all.iter().any(|one| one == wanted) {
            true => Ok(Where::New(Some(wanted.to_owned()))),
            false if wanted.is_empty() => Ok(Where::New(None)),
            false => Err(Unplanned::NoSection(all)),
        };
    }
    let own: Vec<String> = all.iter().filter(|one| takes(kind, name, one)).cloned().collect();
    match own.as_slice() {
        // What stands outside of all holds for all of them.
        _ if own.iter().any(String::is_empty) => Ok(Where::New(goes_first(kind).then(String::new))),
        [] if has_sections(kind) && is_known(kind, name) => Err(Unplanned::Several(all)),
        [] => Ok(Where::New(None)),
        [only] => Ok(Where::New(Some(only.clone()))),
        _ if own.iter().any(|one| one == "http") => Ok(Where::New(Some("http".into()))),
        _ => Err(Unplanned::Several(own)),
    }
}

/// Whether blocks follow what stands outside of all, so that the end of the file is another place.
fn goes_first(kind: &dyn Kind) -> bool {
    kind.name() == "nginx"
}

/// Whether a file is made of sections, so that its end is not the place for what none of them takes.
fn has_sections(kind: &dyn Kind) -> bool {
    matches!(kind.name(), "haproxy" | "nginx")
}

/// Whether the table of a kind has a name: of another one its own reading says that there is none.
fn is_known(kind: &dyn Kind, name: &str) -> bool {
    let first = name.split(' ').next().unwrap_or(name);
    kind.directives().is_some_and(|book| !book.any_case(first).is_empty())
}

/// Whether a section takes a setting, by the table of its kind.
fn takes(kind: &dyn Kind, name: &str, section: &str) -> bool {
    let Some(book) = kind.directives() else { return section.is_empty() };
    let inner = section.rsplit(" / ").next().unwrap_or(section);
    let word = inner.split_whitespace().next().unwrap_or_default().to_ascii_lowercase();
    let rows = book.any_case(&name.replace('-', "_"));
    let rows = if rows.is_empty() { book.any_case(name) } else { rows };
    let bits = match (word.as_str(), kind.name()) {
        ("", "nginx") => book.place("main"),
        ("", _) => return true,
        (word, "php-fpm") if word != "global" => book.place("pool"),
        (word, _) => book.place(word),
    };
    bits != 0 && rows.iter().any(|row| row.places & bits != 0)
}

fn change(snapshot: &Snapshot, case: &Case, wishes: &Wishes, mut plan: Plan) -> Result<Plan, String> {
    let kind = case.service.kind;
    let mut spans: Vec<(Span, String)> = Vec::new();
    let mut titles = Vec::new();
    let settings = of_files(snapshot, case);
    for (name, value) in &wishes.settings {
        if value.chars().any(char::is_control) {
            return Err(format!("the value of {name} holds a sign that no configuration takes"));
        }
        let found = place(&settings, kind, name, wishes.section.as_deref());
        let found = found.map_err(|_| format!("where {name} belongs is not known"))?;
        let edit = match found {
            Where::Written(one) => rewritten(snapshot, kind, &one, name, value)?,
            Where::New(after) => {
                let (edit, file) = added(snapshot, case, &settings, (name, value), after.as_deref())?;
                plan.remarks.push(format!("{name} stands nowhere yet; it is written into {file}"));
                edit
            }
        };
        spans.push(edit);
        titles.push(format!("{name} to {value}"));
        plan.parameters.push(Parameter { name: name.clone(), value: value.clone() });
    }
    if let Some(section) = &wishes.section {
        plan.parameters.push(Parameter { name: "--in".into(), value: section.clone() });
    }
    plan.title = format!("set {}", titles.join(", "));
    plan.risk = Risk::Medium;
    plan.needs = match kind.name() {
        "nginx" | "httpd" | "haproxy" | "php-fpm" => Needs::Reload,
        _ => Needs::Restart,
    };
    edits(snapshot, case, spans, &mut plan)?;
    Ok(plan)
}

/// The statement with another value; what stands around it stays.
fn rewritten(
    snapshot: &Snapshot,
    kind: &dyn Kind,
    one: &Assignment,
    name: &str,
    value: &str,
) -> Result<(Span, String), String> {
    let place = one.place.as_ref().ok_or("its place is not known")?;
    let text = snapshot.text(&place.file).seen().ok_or_else(|| format!("{} cannot be read", place.file))?;
    let first = one.name.split(' ').next().unwrap_or(&one.name);
    let lines = lines_alone(kind, &text, place.line, first).map_err(|_| {
        format!("{}:{} holds more than this setting; edit it by hand", place.file, place.line)
    })?;
    let (start, end) = value_of(&text[lines.clone()], name)
        .ok_or_else(|| format!("{}:{} is not understood; edit it by hand", place.file, place.line))?;
    let span = Span { file: place.file.clone(), start: lines.start + start, end: lines.start + end };
    Ok((span, spelled(kind, value)))
}

/// Where the value of a statement stands: behind its name and what parts them, up to what ends it.
fn value_of(statement: &str, name: &str) -> Option<(usize, usize)> {
    let begin = statement.len() - statement.trim_start().len();
    let same = |c: u8| if c == b'-' { b'_' } else { c.to_ascii_lowercase() };
    let written = statement.get(begin..begin + name.len())?;
    let mut ends = begin + name.len();
    if !written.bytes().map(same).eq(name.bytes().map(same)) {
        // Blanks between the words of a name may be more than one.
        ends = begin;
        for word in name.split(' ') {
            let gap = statement[ends..].len() - statement[ends..].trim_start().len();
            let from = ends + gap;
            let there = statement.get(from..from + word.len())?;
            there.eq_ignore_ascii_case(word).then_some(())?;
            ends = from + word.len();
        }
    }
    let rest = &statement[ends..];
    let gap = rest.len() - rest.trim_start_matches([' ', '\t', '=', ':']).len();
    (gap > 0).then_some(())?;
    let start = ends + gap;
    let mut quote = None;
    let mut end = statement.len();
    for (at, c) in statement[start..].char_indices() {
        match (quote, c) {
            (Some(q), c) if c == q => quote = None,
            (Some(_), _) => {}
            (None, '"' | '\'') => quote = Some(c),
            (None, ';') => {
                end = start + at;
                break;
            }
            (None, '#') if statement[..start + at].ends_with([' ', '\t']) => {
                end = start + at;
                break;
            }
            _ => {}
        }
    }
    let value = statement[start..end].trim_end();
    (!value.contains('\n')).then_some((start, start + value.len()))
}

/// A line of its own for a setting that stands nowhere, and the file that it goes to.
fn added(
    snapshot: &Snapshot,
    case: &Case,
    settings: &[Assignment],
    (name, value): (&str, &str),
    section: Option<&str>,
) -> Result<((Span, String), String), String> {
    let kind = case.service.kind;
    let value = spelled(kind, value);
    let line = match kind.name() {
        "nginx" => format!("{name} {value};"),
        "postgresql" | "mysql" | "php-fpm" => format!("{name} = {value}"),
        "httpd" | "haproxy" | "redis" => format!("{name} {value}"),
        other => return Err(format!("how {other} writes a new setting is not known; edit it by hand")),
    };
    let main = &case.service.instance.config;
    let Some(section) = section else {
        let text = snapshot.text(main).seen().ok_or_else(|| format!("{main} cannot be read"))?;
        let gap = if text.is_empty() || text.ends_with('\n') { "" } else { "\n" };
        let head = if kind.name() == "mysql" { "[mysqld]\n" } else { "" };
        let span = Span { file: main.as_str().into(), start: text.len(), end: text.len() };
        return Ok(((span, format!("{gap}{head}{line}\n")), main.clone()));
    };
    // Behind the last line of the section that holds nothing else, in the main file if there is one.
    let inside = || settings.iter().rev().filter(|one| one.section == section);
    let in_main = inside().filter(|one| one.place.as_ref().is_some_and(|p| *p.file == **main));
    let found = in_main.chain(inside()).take(TRIED).find_map(|one| {
        let place = one.place.as_ref()?;
        let text = snapshot.text(&place.file).seen()?;
        let lines = lines_alone(kind, &text, place.line, one.name.split(' ').next()?).ok()?;
        let above = &text[lines.clone()];
        let indent = above[..above.len() - above.trim_start().len()].to_owned();
        Some((Span { file: place.file.clone(), start: lines.end, end: lines.end }, indent))
    });
    let (span, indent) =
        found.ok_or_else(|| format!("no line of the section \"{section}\" stands alone; edit it by hand"))?;
    let file = span.file.to_string();
    Ok(((span, format!("\n{indent}{line}")), file))
}

/// A value as its kind writes it.
fn spelled(kind: &dyn Kind, value: &str) -> String {
    let quoted = value.len() > 1 && (value.starts_with('\'') || value.starts_with('"'));
    let plain = value.bytes().all(|b| b.is_ascii_alphanumeric() || b"_.+-".contains(&b)) && !value.is_empty();
    match kind.name() {
        "postgresql" if !plain && !quoted => format!("'{}'", value.replace('\'', "''")),
        "mysql" if !quoted && value.contains(['#', ';']) => format!("\"{value}\""),
        "php-fpm" if !quoted && value.contains([';', '=', '(', ')', '&', '|', '!', '~', '^']) => {
            format!("\"{value}\"")
        }
        _ => value.to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_value_stands_between_its_name_and_what_ends_it() {
        for (statement, name, value) in [
            ("  worker_connections 768; # tides", "worker_connections", "768"),
            ("max_connections = 100\t# tides", "max_connections", "100"),
            ("log_line_prefix = '%m [%p] # '", "log_line_prefix", "'%m [%p] # '"),
            ("max-connections=5", "max_connections", "5"),
            ("timeout   connect 5s", "timeout connect", "5s"),
            ("KeepAlive On", "keepalive", "On"),
        ] {
            let (start, end) = value_of(statement, name).unwrap();
            assert_eq!(&statement[start..end], value, "{statement}");
        }
        assert_eq!(value_of("sendfile;", "sendfile"), None);
        assert_eq!(value_of("sendfiles on;", "sendfile"), None);
    }
}
