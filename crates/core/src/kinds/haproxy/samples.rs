//! Samples: what a request, a connection or a certificate holds, as expressions take it
//! (`sample_parse_expr` of sample.c, `make_arg_list` of arg.c).
use super::tokens::Words;
use super::{DIRECTIVES, Haproxy, values};
use crate::config::release::{Release, Version};
use crate::config::rows::{Fate, Row as Keyword};
use crate::kinds::{Instance, Kind};
use crate::snapshot::Snapshot;
use std::cell::OnceCell;

/// What the daemon lists of itself, sorted by what it is and by name.
const TABLE: &str = include_str!("samples.tsv");

/// What a sample is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Sort {
    Any,
    Bool,
    Int,
    Addr,
    Ip4,
    Ip6,
    Str,
    Bin,
    Method,
}

impl Sort {
    fn named(name: &str) -> Self {
        match name {
            "bool" => Self::Bool,
            "sint" => Self::Int,
            "addr" => Self::Addr,
            "ipv4" => Self::Ip4,
            "ipv6" => Self::Ip6,
            "str" => Self::Str,
            "bin" => Self::Bin,
            "meth" => Self::Method,
            _ => Self::Any,
        }
    }

    /// Whether one can be made of another (`sample_casts` of sample.c).
    pub(super) fn becomes(self, other: Self) -> bool {
        use Sort::{Addr, Any, Bin, Bool, Int, Ip4, Ip6, Method, Str};
        other == Any
            || match self {
                Any | Str => true,
                Bool => matches!(other, Bool | Int | Str | Bin),
                Int => other != Method,
                Addr => matches!(other, Addr | Ip4 | Ip6 | Str | Bin),
                Ip4 => !matches!(other, Bool | Method),
                Ip6 => matches!(other, Addr | Ip4 | Ip6 | Str | Bin),
                Bin => matches!(other, Str | Bin | Method),
                Method => matches!(other, Str | Bin | Method),
            }
    }
}

/// Places where samples are taken, as bits in the order of the daemon's own list.
pub(super) mod places {
    pub(crate) const FRONT_CONNECTION: u32 = 1;
    pub(crate) const FRONT_SESSION: u32 = 1 << 1;
    pub(crate) const FRONT_CONTENT: u32 = 1 << 2;
    pub(crate) const FRONT_REQUEST: u32 = 1 << 3;
    pub(crate) const BACK_CONTENT: u32 = 1 << 6;
    pub(crate) const BACK_REQUEST: u32 = 1 << 7;
    pub(crate) const SET_SERVER: u32 = 1 << 9;
    pub(crate) const SERVER_CONNECTION: u32 = 1 << 10;
    pub(crate) const BACK_RESPONSE_CONTENT: u32 = 1 << 11;
    pub(crate) const BACK_RESPONSE: u32 = 1 << 12;
    pub(crate) const STORE: u32 = 1 << 14;
    pub(crate) const FRONT_RESPONSE_CONTENT: u32 = 1 << 15;
    pub(crate) const FRONT_RESPONSE: u32 = 1 << 16;
    pub(crate) const LOG: u32 = 1 << 18;
    pub(crate) const CONFIGURATION: u32 = 1 << 20;
}

/// What the name of something else stands for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Refers {
    Table,
    Frontend,
    Backend,
    Server,
    Users,
    Pattern,
    File,
}

/// A name of something else, which the daemon looks for once everything is read.
#[derive(Clone, Debug)]
pub(super) struct Reference {
    pub(super) to: Refers,
    pub(super) name: String,
}

/// An expression.
#[derive(Debug)]
pub(super) struct Expression {
    /// What comes of it.
    pub(super) sort: Sort,
    /// Where its sample may be taken.
    pub(super) places: u32,
    /// Name of the sample.
    pub(super) name: String,
    /// What it names.
    pub(super) refers: Vec<Reference>,
    /// How patterns are compared where the name itself says so.
    pub(super) compares: Option<&'static str>,
}

/// One row of the table.
#[derive(Clone, Copy)]
struct Row {
    takes: &'static str,
    gives: &'static str,
    places: u32,
    releases: &'static str,
}

/// The release that is installed, looked for only where something asks for it.
#[derive(Default)]
pub(super) struct Installed<'a> {
    found: OnceCell<Option<Release>>,
    from: Option<(&'a Snapshot<'a>, &'a Instance)>,
}

impl<'a> Installed<'a> {
    pub(super) fn of(snapshot: &'a Snapshot<'a>, instance: &'a Instance) -> Self {
        Self { found: OnceCell::new(), from: Some((snapshot, instance)) }
    }

    pub(super) fn get(&self) -> Option<&Release> {
        let look = || self.from.and_then(|(snapshot, instance)| Haproxy.release(snapshot, instance));
        self.found.get_or_init(look).as_ref()
    }

    /// Whether the release has a row of the keywords.
    pub(super) fn has(&self, row: &Keyword) -> bool {
        row.releases.is_empty() || DIRECTIVES.fate(row, self.get()) != Fate::Gone
    }
}

/// What names the present release knows, and what is brought from outside.
#[derive(Clone, Copy)]
pub(super) struct Known<'a> {
    pub(super) release: &'a Installed<'a>,
    /// Scripts are loaded, which bring names of their own.
    pub(super) scripts: bool,
}

/// A row by what it is and its name: the table is sorted by bytes.
fn row(what: char, name: &str) -> Option<Row> {
    let body = TABLE.as_bytes();
    let (mut low, mut high) = (0, TABLE.len());
    while body.get(low) == Some(&b'#') {
        low += TABLE[low..].find('\n').map_or(high - low, |at| at + 1);
    }
    while low < high {
        let middle = low + (high - low) / 2;
        let start = body[low..middle].iter().rposition(|b| *b == b'\n').map_or(low, |at| low + at + 1);
        let end = TABLE[start..].find('\n').map_or(TABLE.len(), |at| start + at);
        let mut columns = TABLE[start..end].split('\t');
        let key =
            (columns.next().and_then(|c| c.chars().next()).unwrap_or('f'), columns.next().unwrap_or(""));
        match key.cmp(&(what, name)) {
            std::cmp::Ordering::Equal => {
                let takes = columns.next()?;
                let gives = columns.next()?;
                let places = u32::from_str_radix(columns.next()?, 16).unwrap_or(0);
                return Some(Row { takes, gives, places, releases: columns.next()? });
            }
            std::cmp::Ordering::Less => low = (end + 1).min(TABLE.len()),
            std::cmp::Ordering::Greater => high = start,
        }
    }
    None
}

impl Known<'_> {
    fn has(self, row: Row) -> bool {
        let Some(span) = row.releases.strip_prefix("haproxy:") else { return true };
        let Some(release) = self.release.get() else { return true };
        let (from, to) = span.split_once('-').unwrap_or((span, ""));
        let version = |text: &str| Version::parse(text);
        // Between two releases that are known, nobody here knows when a name came or went.
        let came = match version(from) {
            Some(from) if release.version < from => self.before(&release.version),
            _ => true,
        };
        let went = !to.is_empty() && version(to).is_some_and(|to| release.version >= to);
        came && !went
    }

    /// Whether a release lies between those that the table was made from.
    fn before(self, version: &Version) -> bool {
        Version::parse("2.6.12").is_some_and(|first| *version > first)
    }

    fn row(self, what: char, name: &str) -> Option<Row> {
        row(what, name).filter(|row| self.has(*row))
    }

    /// Whether a name is brought by a script.
    fn is_of_a_script(self, name: &str) -> bool {
        self.scripts && name.starts_with("lua.")
    }

    /// The expression that begins at a word; what stands behind it is told by `at`. An error is told in
    /// words.
    pub(super) fn expression(self, words: Words, at: &mut usize) -> Result<Expression, String> {
        let text = words.at(*at);
        let mut parts = Parts { known: self, rest: text };
        let mut expression = parts.sample()?;
        let mut before = "sample";
        *at += 1;
        loop {
            let continues = parts.rest.starts_with(',');
            if !parts.rest.is_empty() && !continues {
                return Err(format!("a comma is missing after the {before} in \"{text}\""));
            }
            parts.rest = parts.rest.trim_start_matches(',');
            if parts.rest.is_empty() {
                // Converters may stand in words of their own.
                let next = words.at(*at);
                if next.is_empty() || !self.is_converter(name_at(next)) {
                    return Ok(expression);
                }
                parts.rest = next;
                *at += 1;
            }
            parts.converter(&mut expression)?;
            before = "converter";
        }
    }

    fn is_converter(self, name: &str) -> bool {
        self.row('c', name).is_some() || self.is_of_a_script(name)
    }

    /// An expression inside of a format, and the text behind it.
    pub(super) fn inner(self, text: &str) -> Result<(Expression, &str), String> {
        let mut parts = Parts { known: self, rest: text };
        let mut expression = parts.sample()?;
        while parts.rest.starts_with(',') {
            parts.rest = parts.rest.trim_start_matches(',');
            if parts.rest.is_empty() || parts.rest.starts_with(']') {
                break;
            }
            parts.converter(&mut expression)?;
        }
        Ok((expression, parts.rest))
    }
}

/// The name that a text begins with.
pub(super) fn name_at(text: &str) -> &str {
    let part = |b: &u8| b.is_ascii_alphanumeric() || matches!(b, b'.' | b'_' | b'-' | b'+');
    &text[..text.bytes().take_while(part).count()]
}

struct Parts<'t, 'k> {
    known: Known<'k>,
    rest: &'t str,
}

impl Parts<'_, '_> {
    fn sample(&mut self) -> Result<Expression, String> {
        let whole = self.rest;
        let name = name_at(whole);
        self.rest = &whole[name.len()..];
        if name.is_empty() {
            return Err(format!("no sample is named in \"{whole}\""));
        }
        let mut expression = Expression {
            sort: Sort::Any,
            places: u32::MAX,
            name: name.to_owned(),
            refers: Vec::new(),
            compares: None,
        };
        if self.known.is_of_a_script(name) {
            self.skip_arguments()?;
            return Ok(expression);
        }
        let row = self.known.row('f', name).or_else(|| {
            let alias = self.known.row('a', name)?;
            expression.compares = Some(alias.gives);
            row('f', alias.takes)
        });
        let Some(row) = row else { return Err(format!("no sample is named \"{name}\"")) };
        (expression.sort, expression.places) = (Sort::named(row.gives), row.places);
        let values = self.arguments(name, row.takes, &mut expression.refers)?;
        values::of_sample(name, &values)?;
        Ok(expression)
    }

    fn converter(&mut self, expression: &mut Expression) -> Result<(), String> {
        let name = name_at(self.rest);
        self.rest = &self.rest[name.len()..];
        if self.known.is_of_a_script(name) {
            expression.sort = Sort::Any;
            return self.skip_arguments();
        }
        let Some(row) = self.known.row('c', name) else {
            return Err(format!("no converter is named \"{name}\""));
        };
        let (takes, gives) = row.gives.split_once('>').unwrap_or((row.gives, row.gives));
        if !expression.sort.becomes(Sort::named(takes)) {
            return Err(format!("the converter {name} cannot be applied to the value before it"));
        }
        let values = self.arguments(name, row.takes, &mut expression.refers)?;
        values::of_converter(name, &values, &mut expression.refers)?;
        expression.sort = Sort::named(gives);
        expression.compares = None;
        Ok(())
    }

    fn skip_arguments(&mut self) -> Result<(), String> {
        if self.rest.starts_with('(') {
            let end = self.rest.find(')').ok_or("a bracket is not closed")?;
            self.rest = &self.rest[end + 1..];
        }
        Ok(())
    }

    /// Arguments in brackets, by what a name takes.
    fn arguments(
        &mut self,
        name: &str,
        takes: &str,
        refers: &mut Vec<Reference>,
    ) -> Result<Vec<String>, String> {
        let (least, types) = signature(takes);
        let bare = !self.rest.starts_with('(');
        // Where a text is needed, no brackets at all stand for an empty one.
        if bare && (least == 0 || least == 1 && types.first() == Some(&"str")) {
            return Ok(types.iter().take(least).map(|_| String::new()).collect());
        }
        if bare {
            let what = if least == 1 { "argument" } else { "arguments" };
            return Err(format!("{name} needs {least} {what}"));
        }
        let mut text = &self.rest[1..];
        let mut values = Vec::new();
        for (at, of) in types.iter().enumerate() {
            let (value, rest) = argument(text)?;
            text = rest;
            // Brackets with nothing between them hold no argument where none is needed.
            let empty = value.is_empty() && !matches!(*of, "str" | "any");
            if empty && refers_to(of).is_none() {
                if at >= least {
                    break;
                }
                return Err(format!("argument {} of {name} is empty", at + 1));
            }
            if !values::is_of(of, &value) {
                return Err(format!("\"{value}\" is not a valid {} for {name}", values::expected(of)));
            }
            if let Some(to) = refers_to(of) {
                refers.push(Reference { to, name: value.clone() });
            }
            values.push(value);
            match text.as_bytes().first() {
                Some(b',') if values.len() < types.len() => text = &text[1..],
                _ => break,
            }
        }
        if values.len() < least {
            return Err(format!("{name} needs {least} arguments, and has {}", values.len()));
        }
        let Some(rest) = text.strip_prefix(')') else {
            return Err(match text.is_empty() {
                true => format!("a bracket of {name} is not closed"),
                false => format!("a bracket is expected before \"{text}\""),
            });
        };
        self.rest = rest;
        Ok(values)
    }
}

fn refers_to(of: &str) -> Option<Refers> {
    Some(match of {
        "table" => Refers::Table,
        "frontend" => Refers::Frontend,
        "backend" => Refers::Backend,
        "server" => Refers::Server,
        "user_list" => Refers::Users,
        "regex" => Refers::Pattern,
        _ => return None,
    })
}

/// How many arguments are needed, and what each is: `int,str[,table]`.
fn signature(takes: &str) -> (usize, Vec<&str>) {
    if takes == "-" {
        return (0, Vec::new());
    }
    let needed = takes.split('[').next().unwrap_or("");
    let least = needed.split(',').filter(|t| !t.is_empty()).count();
    (least, takes.split(['[', ']', ',']).filter(|t| !t.is_empty()).collect())
}

/// One argument with its quotes taken off, and the text from the sign on that ends it.
fn argument(text: &str) -> Result<(String, &str), String> {
    let mut value = String::new();
    let mut quote = None;
    let mut chars = text.char_indices().peekable();
    while let Some((at, c)) = chars.next() {
        match c {
            '"' | '\'' if quote == Some(c) => quote = None,
            '"' | '\'' if quote.is_none() => quote = Some(c),
            '\\' if quote != Some('\'') => match chars.peek().map(|(_, next)| *next) {
                Some(next @ ('\\' | ' ' | '"' | '\'')) => {
                    value.push(next);
                    chars.next();
                }
                Some(next @ ('r' | 'n' | 't')) => {
                    value.push(match next {
                        'r' => '\r',
                        'n' => '\n',
                        _ => '\t',
                    });
                    chars.next();
                }
                Some(_) => value.push('\\'),
                None => return Err("nothing follows a backslash".to_owned()),
            },
            ',' | ')' if quote.is_none() => return Ok((value, &text[at..])),
            other => value.push(other),
        }
    }
    Ok((value, ""))
}

#[cfg(test)]
mod tests {
    use super::super::tokens::Word;
    use super::*;

    fn expression(text: &str) -> Result<(Expression, usize), String> {
        let words: Vec<Word> = text
            .split(' ')
            .map(|raw| Word { value: raw.to_owned(), raw, open: false, masked: false })
            .collect();
        let mut at = 0;
        let installed = Installed::default();
        let known = Known { release: &installed, scripts: false };
        known.expression(Words(&words), &mut at).map(|e| (e, at))
    }

    #[test]
    fn the_table_is_sorted_as_it_is_searched() {
        let keys: Vec<(&str, &str)> = TABLE
            .lines()
            .filter(|l| !l.starts_with('#'))
            .filter_map(|l| {
                let mut columns = l.split('\t');
                Some((columns.next()?, columns.next()?))
            })
            .collect();
        assert!(keys.len() > 700 && keys.is_sorted(), "{}", keys.len());
        for (what, name) in keys {
            assert!(row(what.chars().next().unwrap(), name).is_some(), "{what} {name}");
        }
        assert!(row('f', "tide").is_none() && row('c', "").is_none() && row('z', "zz").is_none());
    }

    #[test]
    fn expressions_are_read_to_their_end() {
        for (text, end, sort) in [
            ("src", 1, Sort::Addr),
            ("hdr(host),lower", 1, Sort::Str),
            ("hdr(host) lower if", 2, Sort::Str),
            ("path,field(2,/),length", 1, Sort::Int),
            ("str('a,b)',x)", 0, Sort::Str),
            ("sc_http_req_rate(0,quay)", 1, Sort::Int),
            ("src,ipmask(24)", 1, Sort::Addr),
            ("var(txn.tide),add(1)", 1, Sort::Int),
        ] {
            match expression(text) {
                Ok((found, at)) => assert_eq!((at, found.sort), (end, sort), "{text}"),
                Err(why) => assert_eq!(end, 0, "{text}: {why}"),
            }
        }
        for (text, word) in [
            ("tide", "no sample"),
            ("", "no sample"),
            ("src,tide", "no converter"),
            ("hdr(host", "not closed"),
            ("path,field(x,/)", "is no"),
            ("src_conn_rate", "needs 1 argument"),
            ("src x", ""),
            ("hdr(host)x", "comma"),
            ("var(tide)", "scope"),
            ("method,ipmask(24)", "cannot be applied"),
            ("req.hdr(a,1,2)", "bracket"),
        ] {
            match expression(text) {
                Err(why) => assert!(why.contains(word) && !word.is_empty(), "{text}: {why}"),
                Ok(_) => assert_eq!(word, "", "{text}"),
            }
        }
        let (table, _) = expression("src_conn_rate(quay)").unwrap();
        assert_eq!((table.refers[0].to, table.refers[0].name.as_str()), (Refers::Table, "quay"));
        assert_eq!(expression("hdr_beg(host)").unwrap().0.compares, Some("beg"));
    }

    #[test]
    fn names_belong_to_releases() {
        let of =
            |version: &str| Release { flavour: "haproxy".into(), version: Version::parse(version).unwrap() };
        let has = |version: &str, name: &str| {
            let installed = Installed { found: Some(of(version)).into(), from: None };
            Known { release: &installed, scripts: false }.row('f', name).is_some()
        };
        assert!(has("3.0.11", "fc_rtt") && has("2.6.12", "fc_rtt"));
        assert!(has("3.0.11", "bytes_in") && !has("2.6.12", "bytes_in"));
    }
}
