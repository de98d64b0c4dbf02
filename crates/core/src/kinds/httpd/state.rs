//! What is known while a configuration of httpd is read: the items that the second pass carries out, what was
//! gathered, and the findings so far.
use super::Options;
use super::lines::{LogicalLine, word};
use super::tree::Tree;
use crate::bounds::{self, Cost};
use crate::code::Code;
use crate::config::rows::{Fate, Row, RuleIndex};
use crate::config::{ConfigFinding, Configuration, NameMap, NameSet, Place, Span};
use crate::snapshot::Snapshot;
use std::borrow::Cow;
use std::cell::Cell;
use std::collections::BTreeMap;
use std::net::IpAddr;
use std::sync::Arc;

/// What is read: a file with its text, or the name of something else that holds directives, without any.
#[derive(Debug)]
pub(super) struct Source {
    pub(super) name: Arc<str>,
    pub(super) text: String,
}

impl Source {
    /// What is no file, or is not read as it stands there.
    pub(super) fn bare(name: impl Into<Arc<str>>) -> Arc<Self> {
        Arc::new(Self { name: name.into(), text: String::new() })
    }
}

/// One directive or section head that the second pass will carry out. Most are a piece of their file's text,
/// which is kept once.
#[derive(Clone, Debug)]
pub(super) struct Item {
    source: Arc<Source>,
    /// The line itself, where it is no piece of the file: joined, or made by a macro.
    own: Option<Box<str>>,
    start: usize,
    length: u32,
    line: u32,
    column: u32,
    /// For a section head: the index behind its last child; 0 for all others.
    end: u32,
}

impl Item {
    pub(super) fn new(source: &Arc<Source>, line: &LogicalLine) -> Self {
        let text = &*line.text;
        let piece = source.text.get(line.start..).and_then(|rest| rest.get(..text.len()));
        let same = piece.is_some_and(|piece| std::ptr::eq(piece.as_ptr(), text.as_ptr()));
        Self {
            source: source.clone(),
            own: (!same).then(|| text.into()),
            start: line.start,
            length: u32::try_from(text.len()).unwrap_or(u32::MAX),
            line: line.number,
            column: line.column,
            end: 0,
        }
    }
    /// The whole logical line.
    pub(super) fn text(&self) -> &str {
        self.own.as_deref().unwrap_or_else(|| {
            let length = usize::try_from(self.length).unwrap_or(usize::MAX);
            self.source.text.get(self.start..self.start.saturating_add(length)).unwrap_or_default()
        })
    }
    /// Says where its section ends.
    pub(super) fn ends(&mut self, at: usize) {
        self.end = u32::try_from(at).unwrap_or(u32::MAX);
    }
    /// For a section head: the index behind its last child.
    pub(super) fn end(&self) -> Option<usize> {
        usize::try_from(self.end).ok().filter(|end| *end > 0)
    }
    pub(super) fn name(&self) -> Cow<'_, str> {
        match word(self.text()).0 {
            Cow::Borrowed(name) if name.starts_with('<') => Cow::Borrowed(name.trim_end_matches('>')),
            name => name,
        }
    }
    pub(super) fn place(&self) -> Place {
        let width =
            if self.column > 0 { u32::try_from(word(self.text()).0.chars().count()).unwrap_or(0) } else { 0 };
        Place {
            file: self.source.name.clone(),
            line: self.line,
            column: self.column,
            end_column: self.column + width,
        }
    }
    /// Where the value of this number stands; the whole name where lines were joined.
    pub(super) fn value_place(&self, at: usize) -> Place {
        let text = self.text();
        let mut rest = word(text).1;
        for _ in 0..at {
            rest = word(rest).1;
        }
        let own = self.place();
        if own.column == 0 || rest.is_empty() {
            return own;
        }
        let columns = |text: &str| u32::try_from(text.chars().count()).unwrap_or(0);
        let behind = word(rest).1;
        let written = rest[..rest.len() - behind.len()].trim_end().trim_end_matches('>');
        let column = own.column + columns(&text[..text.len() - rest.len()]);
        Place { column, end_column: column + columns(written), ..own }
    }
    /// The bytes of `part`, which is a slice of this item's text; `None` for joined lines.
    pub(super) fn span(&self, offset: usize, length: usize) -> Option<Span> {
        (self.column > 0).then(|| Span {
            file: self.source.name.clone(),
            start: self.start + offset,
            end: self.start + offset + length,
        })
    }
}

/// The state of both passes.
pub(super) struct Reader<'s, 'h> {
    pub(super) snapshot: &'s Snapshot<'h>,
    pub(super) options: &'s Options,
    pub(super) out: Configuration,
    pub(super) items: Vec<Item>,
    /// Sections that are open now, outermost first, by their place among the items.
    pub(super) inside: Vec<usize>,
    pub(super) defines: NameMap<String, String>,
    pub(super) flags: NameSet<String>,
    pub(super) known_files: NameSet<String>,
    /// Files of the modules that are loaded.
    pub(super) module_files: Vec<String>,
    pub(super) known_modules: NameSet<String>,
    pub(super) cost: Cost,
    /// How much the variables of directives have made, in bytes.
    pub(super) resolved: Cell<usize>,
    pub(super) server_root: String,
    pub(super) runtime_dir: Option<String>,
    pub(super) macros: NameMap<String, Macro>,
    pub(super) open_files: Vec<String>,
    /// What is being read.
    pub(super) source: Arc<Source>,
    pub(super) stopped: bool,
    pub(super) depth: usize,
    /// Which rules are about which rows.
    pub(super) rules: RuleIndex,
    /// Whether the release and a module have a row, by its number, once the modules are known.
    pub(super) there: Vec<Option<bool>>,
    /// The directives as a tree, where the way of a request is asked for.
    pub(super) tree: Option<Tree>,
}

#[derive(Clone)]
pub(super) struct Macro {
    pub(super) parameters: Vec<String>,
    pub(super) lines: Vec<(String, u32)>,
    pub(super) source: Arc<Source>,
}

/// Where a directive stands.
#[derive(Clone, Debug, Default)]
pub(super) struct Scope {
    /// What may stand here, as bits of the table's places.
    pub(super) allowed: u32,
    /// Names of the open sections, lower case, outermost first.
    pub(super) sections: Vec<String>,
    /// Index of the virtual host, 0 for the main server.
    pub(super) host: usize,
    /// Where that virtual host begins.
    pub(super) host_place: Option<crate::config::Place>,
}

pub(super) const SERVER: &[&str] = &["server", "options", "fileinfo", "indexes", "on-read"];
pub(super) const DIRECTORY: &[&str] =
    &["directory", "limit", "options", "fileinfo", "authcfg", "indexes", "on-read"];
pub(super) const PROXY: &[&str] =
    &["directory", "limit", "options", "fileinfo", "authcfg", "indexes", "on-read", "proxy"];

impl Scope {
    pub(super) fn inside(&self, section: &str) -> bool {
        self.sections.iter().any(|s| s == section)
    }
    /// Whether it is a directory-like section, and not the server or a virtual host.
    pub(super) fn in_directory(&self) -> bool {
        self.sections.iter().any(|s| {
            s.starts_with("location") || s.starts_with("directory") || s.starts_with("files") || s == "if"
        })
    }
    /// The innermost section, as a person would call it.
    pub(super) fn spelled(&self) -> String {
        self.sections.last().map_or("the main server".into(), |s| format!("<{s}>"))
    }
}

/// What stands around a directive: its section, what was gathered so far, and the directive before it.
pub(super) struct Around<'a> {
    pub(super) scope: &'a Scope,
    pub(super) facts: &'a mut Facts,
    pub(super) previous: &'static str,
}

/// What no row can say about a directive: which names it is for, and what it looks at.
pub(super) struct Rule {
    /// Names of directives, as the table has them.
    pub(super) names: &'static [&'static str],
    /// Judges one that passed its row, and gathers what other rooms need.
    pub(super) check: fn(&mut Reader, &Directive, &mut Around),
}

impl AsRef<[&'static str]> for &Rule {
    fn as_ref(&self) -> &[&'static str] {
        self.names
    }
}

/// A directive in the second pass.
pub(super) struct Directive<'i> {
    pub(super) item: &'i Item,
    /// Its name as written.
    pub(super) name: Cow<'i, str>,
    /// Its values, variables put in.
    pub(super) values: Vec<Cow<'i, str>>,
}

impl Directive<'_> {
    pub(super) fn value(&self, index: usize) -> &str {
        self.values.get(index).map_or("", AsRef::as_ref)
    }
    pub(super) fn lower(&self) -> String {
        self.name.to_ascii_lowercase()
    }
}

/// What is gathered over the second pass and judged at its end.
#[derive(Default)]
pub(super) struct Facts {
    /// Virtual hosts seen so far.
    pub(super) hosts: usize,
    pub(super) has_server_name: bool,
    pub(super) has_types_config: bool,
    /// Whether the main server says where its errors go, to a file or elsewhere.
    pub(super) has_error_log: bool,
    pub(super) listens: Vec<(Option<IpAddr>, u16, Place)>,
    /// Where a listener stands among them.
    pub(super) listening: NameMap<(Option<IpAddr>, u16), usize>,
    /// TLS facts by virtual host.
    pub(super) tls: BTreeMap<usize, Tls>,
    pub(super) first_host: Option<Place>,
}

/// TLS settings of one virtual host.
#[derive(Default)]
pub(super) struct Tls {
    pub(super) engine: Option<Place>,
    pub(super) certificate: bool,
    pub(super) files: Vec<(String, Place, bool)>,
}

impl Reader<'_, '_> {
    pub(super) fn find_at(
        &mut self,
        place: Option<Place>,
        code: Code,
        message: impl Into<String>,
    ) -> &mut ConfigFinding {
        self.out.add(ConfigFinding { place, ..ConfigFinding::error(code, message) })
    }

    /// `${NAME}` of defines and the environment put in; what is unknown stays as it is, and so does what
    /// would make more than the bound.
    pub(super) fn resolve<'t>(&self, text: &'t str) -> Cow<'t, str> {
        if memchr::memchr(b'$', text.as_bytes()).is_none() || !text.contains("${") {
            return Cow::Borrowed(text);
        }
        let mut out = String::new();
        let mut rest = text;
        while let Some(at) = rest.find("${") {
            out.push_str(&rest[..at]);
            rest = &rest[at..];
            let Some(end) = rest.find('}') else { break };
            let name = &rest[2..end];
            match self.defines.get(name).or_else(|| self.options.environment.get(name)) {
                Some(value) => {
                    let made = self.resolved.get().saturating_add(value.len());
                    self.resolved.set(made);
                    out.push_str(if made <= bounds::EXPANDED { value } else { &rest[..=end] });
                }
                None => out.push_str(&rest[..=end]),
            }
            rest = &rest[end + 1..];
        }
        out.push_str(rest);
        Cow::Owned(out)
    }

    /// By the module's name or its source file, compared exactly.
    pub(super) fn module_loaded(&self, name: &str) -> bool {
        let id = name.strip_prefix("mod_").and_then(|n| n.strip_suffix(".c")).map(|n| format!("{n}_module"));
        let wanted = id.as_deref().unwrap_or(name);
        let by_file = match name {
            "event.c" | "worker.c" | "prefork.c" => {
                Some(format!("mpm_{}_module", name.trim_end_matches(".c")))
            }
            "core.c" | "http_core.c" => return true,
            _ => None,
        };
        let wanted = by_file.as_deref().unwrap_or(wanted);
        super::STATIC_MODULES.contains(&wanted) || self.known_modules.contains(wanted)
    }

    /// The same when everything is read: what was found out once holds to the end.
    pub(super) fn stands(&mut self, row: &Row) -> bool {
        let at = usize::from(row.number);
        if self.there.len() <= at {
            self.there.resize(at + 1, None);
        }
        match self.there[at] {
            Some(known) => known,
            None => {
                let found = self.is_there(row);
                self.there[at] = Some(found);
                found
            }
        }
    }

    /// Whether the installed release and a module that is loaded have a row.
    pub(super) fn is_there(&self, row: &Row) -> bool {
        let known = row.releases.is_empty()
            || super::DIRECTIVES.fate(row, self.options.release.as_ref()) != Fate::Gone;
        known && self.has(row.from)
    }

    /// Whether the module of a table row is there.
    pub(super) fn has(&self, module: &str) -> bool {
        match module {
            "core" | "mpm" | "http" => true,
            other => self.module_loaded(&format!("{other}_module")),
        }
    }
}

pub(super) fn find<'r>(
    r: &'r mut Reader,
    d: &Directive,
    code: Code,
    message: impl Into<String>,
) -> &'r mut ConfigFinding {
    let name = d.name.trim_start_matches('<').to_owned();
    let name = if d.item.text().starts_with('<') { format!("<{name}") } else { name };
    let found = r.find_at(Some(d.item.place()), code, message);
    found.directive = Some(name);
    found
}

pub(super) fn report<'r>(
    r: &'r mut Reader,
    d: &Directive,
    code: Code,
    message: impl Into<String>,
) -> &'r mut ConfigFinding {
    let found = find(r, d, code, message);
    // What a directive names and is not there, or is not what it should be, is its value.
    let named = matches!(code, Code::ConfigMissingFile | Code::CertificateBad | Code::NameUnresolved);
    if named && d.values.len() == 1 {
        found.place = Some(d.item.value_place(0));
    }
    found
}
