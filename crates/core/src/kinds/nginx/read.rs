//! nginx reads its configuration in one pass, in file order. So does this reader: it keeps no tree, judges
//! each directive as it comes, and gathers what other rooms need.
use super::state::{Block, Directive, Facts, FileText, Reader, section_name};
use super::tokens::{End, Fault, Tokens, Word};
use super::tree::Tree;
use super::{DIRECTIVES, Options};
use super::{finish, rules};
use crate::bounds::{Cost, step};
use crate::code::Code;
use crate::config::layers::{Assignment, Layer, Value};
use crate::config::rows::{Fate, Fault as Wrong, Marks, PathUse, Row, RuleIndex, Type, fault, slots_of};
use crate::config::{About, ConfigFinding, Configuration, DependsOn, NameMap, NamedPath, Place, nearest};
use crate::host::Look;
use crate::not_seen::NotSeen;
use crate::path;
use crate::snapshot::Snapshot;
use std::sync::Arc;

/// How deep includes and blocks may nest before the reader gives up.
const DEPTH: usize = 60;

/// Reads a configuration from its main file.
pub(super) fn read(snapshot: &Snapshot, options: &Options) -> Configuration {
    read_with(snapshot, options, None).0
}

/// Reads it, and keeps its directives as a tree.
pub(super) fn read_tree(snapshot: &Snapshot, options: &Options) -> Tree {
    read_with(snapshot, options, Some(Tree::default())).1.unwrap_or_default()
}

fn read_with(snapshot: &Snapshot, options: &Options, tree: Option<Tree>) -> (Configuration, Option<Tree>) {
    let mut reader = Reader {
        snapshot,
        options,
        out: Configuration::default(),
        blocks: vec![Block::new("main", String::new())],
        facts: Facts::default(),
        file: Arc::from(options.config.as_str()),
        rules: RuleIndex::default(),
        there: (0, Vec::new()),
        open_files: Vec::new(),
        texts: NameMap::default(),
        stopped: false,
        opened: 0,
        cost: Cost::default(),
        tree,
    };
    match snapshot.read(&options.config) {
        Look::Seen(_) => reader.out.readable = true,
        Look::Absent => {
            reader.plain(
                Code::ConfigMissingFile,
                DependsOn::Files,
                format!("{} does not exist", options.config),
                Some(About::File(options.config.clone())),
            );
            reader.out.readable = true;
            return (reader.out, reader.tree);
        }
        Look::NotSeen(why) => {
            reader.out.not_seen.push(NotSeen::file(&options.config, &why));
            return (reader.out, reader.tree);
        }
    }
    if let Some(globals) = &options.globals {
        reader.text("-g", globals);
    }
    if !reader.stopped {
        let main = options.config.clone();
        reader.read_file(&main, None);
    }
    if !reader.stopped {
        finish::finish(&mut reader);
    }
    (reader.out, reader.tree)
}

impl Reader<'_, '_> {
    fn fault(&mut self, fault: Fault) {
        let place = Place { file: self.file.clone(), line: fault.line, column: 0, end_column: 0 };
        self.out.add(ConfigFinding {
            place: Some(place),
            ..ConfigFinding::error(Code::ConfigSyntax, fault.message)
        });
        self.stopped = true;
    }

    fn read_file(&mut self, name: &str, from: Option<&Directive>) {
        let nested = self.open_files.iter().any(|f| f == name);
        if nested || self.open_files.len() > DEPTH {
            if let Some(d) = from {
                let message = if nested {
                    format!("{name} includes itself")
                } else {
                    format!("too many files at {name}")
                };
                self.find(d, Code::ConfigConflict, message);
                self.stopped = true;
            }
            return;
        }
        let known = self.texts.get(name).cloned();
        let Some(text) = known.or_else(|| self.load(name, from)) else { return };
        // What is included twice is read twice by the daemon, too: it counts each time.
        let text = text.whole();
        let short = text.len() <= crate::bounds::LINE || self.cost.line(name, longest_line(text));
        if !short || !self.cost.file(name, text.len()) {
            if let Some(sentence) = self.cost.reached.clone() {
                self.out.bound(&sentence);
            }
            self.stopped = true;
            return;
        }
        let outer = std::mem::replace(&mut self.file, Arc::from(name));
        self.open_files.push(name.to_owned());
        self.file_text(text);
        self.open_files.pop();
        self.file = outer;
    }

    fn load(&mut self, name: &str, from: Option<&Directive>) -> Option<FileText> {
        match self.snapshot.read(name) {
            Look::Seen(bytes) => {
                self.out.model.files.push(name.to_owned());
                let text = FileText::new(bytes);
                self.texts.insert(name.to_owned(), text.clone());
                Some(text)
            }
            Look::Absent => {
                if let Some(d) = from {
                    let message = format!("{name} does not exist");
                    let found = self.find_word(d, 0, Code::ConfigMissingFile, message);
                    found.depends_on = DependsOn::Files;
                    found.about = Some(About::File(name.to_owned()));
                }
                None
            }
            Look::NotSeen(why) => {
                if why == crate::host::Unseen::NotRegular {
                    if let Some(d) = from {
                        self.find(d, Code::ConfigMissingFile, format!("{name} is not a regular file"))
                            .depends_on = DependsOn::Files;
                    }
                } else {
                    self.out.unread(name, &why);
                }
                None
            }
        }
    }

    fn file_text(&mut self, text: &str) {
        let floor = self.blocks.len();
        let mut tokens = Tokens::new(text);
        let mut starts = Lines::default();
        let mut words = Vec::new();
        loop {
            if self.stopped {
                return;
            }
            match tokens.next(&mut words) {
                Err(fault) => return self.fault(fault),
                Ok(End::File) if self.blocks.len() > floor => {
                    // Where the file ends is the last place at which it could be meant.
                    let open = "}\n".repeat(self.blocks.len() - floor);
                    let gap = if text.ends_with('\n') { "" } else { "\n" };
                    let edit = (self.span(text.len(), text.len()), format!("{gap}{open}"));
                    let message = "unexpected end of file, expecting \"}\"".into();
                    self.fault(Fault { line: tokens.line, message });
                    if let Some(found) = self.out.findings.last_mut() {
                        found.edit = Some(edit);
                    }
                    return;
                }
                Ok(End::File) => return,
                Ok(End::Close) if self.blocks.len() <= floor => {
                    return self.fault(Fault { line: tokens.line, message: "unexpected \"}\"".into() });
                }
                Ok(End::Close) => rules::blocks::close(self, tokens.line),
                Ok(end) => self.directive(&words, end, &mut tokens, text, &mut starts),
            }
        }
    }

    fn text(&mut self, name: &str, text: &str) {
        let outer = std::mem::replace(&mut self.file, Arc::from(name));
        self.file_text(text);
        self.file = outer;
    }

    /// A refused directive whose words run on to another line that begins with a directive: what ends the
    /// statement is missing before that.
    fn unfinished(&mut self, d: &Directive, errors: usize) {
        let refused = self.out.findings.get(errors).is_some_and(|f| f.edit.is_none());
        let runs_on = |pair: &&[Word]| {
            pair[1].line > pair[0].line && !DIRECTIVES.exact(pair[1].value.as_ref()).is_empty()
        };
        let Some(pair) = d.words.windows(2).find(runs_on).filter(|_| refused) else { return };
        // A quote may stand behind the value.
        let end = pair[0].end;
        let edit = (self.span(end, end), ";".to_owned());
        if let Some(found) = self.out.findings.get_mut(errors) {
            found.help = Some(format!("did you mean to end the statement before \"{}\"?", pair[1].value));
            found.edit = Some(edit);
        }
    }

    fn directive(&mut self, words: &[Word], end: End, tokens: &mut Tokens, text: &str, starts: &mut Lines) {
        let Some(first) = words.first() else { return };
        self.out.model.directives += 1;
        let column = if first.line == tokens.line { starts.column(text, first.start) } else { 0 };
        let width = if column > 0 { u32::try_from(first.value.chars().count()).unwrap_or(0) } else { 0 };
        let place = Place { file: self.file.clone(), line: tokens.line, column, end_column: column + width };
        let d = Directive { words, line: tokens.line, place, opens: end == End::Open };
        if self.options.keep_all {
            self.keep(&d);
        }
        if rules::blocks::is_free_block(self.context()) {
            self.grow(&d);
            rules::blocks::free_entry(self, &d);
            if d.opens {
                self.find(&d, Code::ConfigSyntax, "unexpected \"{\"");
                self.stopped = true;
            }
            return;
        }
        let errors = self.out.findings.len();
        let judged = self.judge(&d);
        self.unfinished(&d, errors);
        let Some(row) = judged else {
            if d.opens && tokens.skip_block().is_err() {
                self.stopped = true;
            }
            return;
        };
        self.words(&d, row);
        self.unfinished(&d, errors);
        self.grow(&d);
        let own_fault = self.out.findings.len() > errors;
        self.caution(&d, row);
        match d.name() {
            "include" => self.include(&d),
            _ if !own_fault => rules::apply(self, &d, row),
            _ => {}
        }
        if d.opens {
            if self.blocks.len() > DEPTH {
                self.find(&d, Code::ConfigSyntax, "blocks are nested too deep");
                self.stopped = true;
                return;
            }
            let label = d.words.iter().map(|w| w.value.as_ref()).collect::<Vec<_>>().join(" ");
            let context = rules::blocks::inner_context(d.name(), self.context());
            let mut block = Block::new(context, label);
            rules::blocks::opened(self, &d, &mut block);
            self.opened += 1;
            block.number = self.opened;
            self.blocks.push(block);
        }
    }

    /// Adds a directive to the tree, where one is kept.
    fn grow(&mut self, d: &Directive) {
        if let Some(tree) = &mut self.tree {
            tree.add(d.name(), d.arguments().map(str::to_owned).collect(), d.place.clone(), d.opens);
        }
    }

    fn keep(&mut self, d: &Directive) {
        let words: Vec<&str> = d.words.iter().map(|w| w.value.as_ref()).collect();
        let block = self.blocks.last().map_or("", |b| b.label.as_str());
        let entry = rules::blocks::is_free_block(self.context());
        let shown = super::conceal::shown(&words, if entry { block } else { "" });
        let value = Value::of(!entry && super::conceal::is_whole(d.name()), d.name(), &shown);
        // The heads of blocks may hold secrets, too; so may the entries of a map, on both sides.
        let section = self
            .blocks
            .iter()
            .skip(1)
            .map(|b| super::conceal::head(&b.label))
            .collect::<Vec<_>>()
            .join(" / ");
        let name = if entry && super::conceal::about_secret(block) { crate::secrets::MASK } else { d.name() };
        let scope = self.blocks.last().map_or(0, |b| b.number);
        // What stands in `-g` stands in the start command.
        let (layer, place) = match &*d.place.file {
            "-g" => (Layer::CommandLine, self.options.command_place.clone()),
            _ => (Layer::File, Some(d.place.clone())),
        };
        self.out.model.settings.push(Assignment {
            name: name.to_owned(),
            value,
            section,
            scope,
            layer,
            first: false,
            place,
        });
    }

    /// Existence, place, terminator; in the daemon's order.
    fn judge(&mut self, d: &Directive) -> Option<&'static Row> {
        let rows = DIRECTIVES.exact(d.name());
        let bits = self.blocks.last().map_or(0, |b| b.bits);
        let Some(row) = rows.iter().find(|k| k.places & bits != 0 && self.is_there(k)) else {
            let available = rows.iter().any(|k| self.is_there(k));
            self.unknown_or_misplaced(d, rows, available);
            return None;
        };
        let block = row.marks.has(Marks::BLOCK);
        if !block && d.opens {
            let message = format!("\"{}\" is not terminated by \";\"", d.name());
            self.find(d, Code::ConfigSyntax, message).help =
                Some("a \";\" is missing before the \"{\"".into());
            return None;
        }
        if block && !d.opens {
            let message = format!("\"{}\" has no opening \"{{\"", d.name());
            self.find(d, Code::ConfigSyntax, message);
            return None;
        }
        Some(row)
    }

    /// Tells of a directive that is accepted and is not what it was.
    fn caution(&mut self, d: &Directive, row: &'static Row) {
        if row.releases.is_empty() {
            return;
        }
        let fate = DIRECTIVES.fate(row, self.options.release(self.snapshot));
        if let Some((message, help)) = fate.caution(row.name) {
            self.warn(d, message).help = help;
        }
    }

    /// Whether the installed release, and its build or a loaded module, has a row.
    fn is_there(&mut self, row: &Row) -> bool {
        let loaded = self.out.model.modules.len();
        if self.there.0 != loaded || self.there.1.is_empty() {
            self.there = (loaded, vec![None; DIRECTIVES.all().count()]);
        }
        let at = usize::from(row.number);
        if let Some(known) = self.there.1[at] {
            return known;
        }
        let found =
            self.is_known(row) && self.options.has_module(self.snapshot, row.from, &self.out.model.modules);
        self.there.1[at] = Some(found);
        found
    }

    /// Whether the installed release has a row, as far as anybody knows.
    fn is_known(&self, row: &Row) -> bool {
        row.releases.is_empty() || DIRECTIVES.fate(row, self.options.release(self.snapshot)) != Fate::Gone
    }

    fn unknown_or_misplaced(&mut self, d: &Directive, rows: &'static [Row], available: bool) {
        let name = d.name().to_owned();
        if available {
            let places = rows.iter().filter(|k| self.is_known(k)).fold(0, |sum, k| sum | k.places);
            let places = DIRECTIVES.named(places).map(section_name).collect::<Vec<_>>().join(", ");
            let here = section_name(self.context());
            // A block that may stand one further out: what closes the one before it is likely missing.
            let outer = match self.blocks.len() {
                0 => 0,
                1 => DIRECTIVES.place("main"),
                depth => self.blocks[depth - 2].bits,
            };
            let closed = d.opens && rows.iter().any(|row| row.places & outer != 0);
            let edit = d.words.first().map(|w| (self.span(w.start, w.start), "}\n".to_owned()));
            let message = format!("\"{name}\" is not allowed in {here}");
            let found = self.find(d, Code::ConfigMisplacedDirective, message);
            found.help = Some(format!("it belongs in: {places}"));
            found.edit = edit.filter(|_| closed);
            return;
        }
        if let Some(row) = rows.iter().find(|k| self.is_known(k)) {
            let module = row.from;
            let help = super::module_file(module).map(|file| format!("load_module modules/{file}; loads it"));
            self.find(
                d,
                Code::ConfigMissingModule,
                format!("\"{name}\" belongs to {module}, which is not loaded"),
            )
            .help = help;
            return;
        }
        if let (Some(row), Some(release)) = (rows.first(), self.options.release(self.snapshot)) {
            let message = format!("\"{name}\" is not a directive of nginx {}", release.version);
            let spans: Vec<String> = row.releases.iter().map(ToString::to_string).collect();
            self.find(d, Code::ConfigUnknownDirective, message).help =
                Some(format!("it is one {}", spans.join(" and ")));
            return;
        }
        // Further ones are only counted: what is dear to find out about them need not be.
        if self.out.is_full(Code::ConfigUnknownDirective) {
            self.find(d, Code::ConfigUnknownDirective, "not a directive of nginx");
            return;
        }
        if self.options.binary_knows(self.snapshot, &name, &self.out.model.modules) {
            return;
        }
        // A newer series may know it, and nobody can be asked.
        if DIRECTIVES.is_beyond(self.options.release(self.snapshot))
            && self.snapshot.exists(&self.options.program) != Some(true)
        {
            return self.out.unjudged(format!(
                "\"{name}\" at {}: the table of directives does not reach to this release",
                d.place
            ));
        }
        let bits = self.blocks.last().map_or(0, |b| b.bits);
        let known = || DIRECTIVES.all().filter(|r| self.is_known(r));
        let near = nearest(&name, known().filter(|r| r.places & bits != 0).map(|r| r.name))
            .or_else(|| nearest(&name, known().map(|r| r.name)));
        let edit =
            near.zip(d.words.first()).map(|(near, word)| (self.span(word.start, word.end), near.to_owned()));
        if name.starts_with('\u{feff}') {
            let edit = d.words.first().map(|w| (self.span(w.start, w.start + 3), String::new()));
            let found = self.find(
                d,
                Code::ConfigUnknownDirective,
                "a byte order mark stands before the first word, which becomes part of it",
            );
            found.help = Some("save the file without a byte order mark".into());
            found.edit = edit;
            return;
        }
        let found =
            self.find(d, Code::ConfigUnknownDirective, format!("\"{name}\" is not a directive of nginx"));
        found.help = near.map(|near| format!("did you mean \"{near}\"?"));
        found.edit = edit;
    }

    /// Names that may stand once, and the words as the row has them.
    fn words(&mut self, d: &Directive, row: &'static Row) {
        let count = d.words.len() - 1;
        let wrong = fault(row, count, |at| d.argument(at));
        if let Some(Wrong::Count { found, expected }) = wrong {
            let message = format!(
                "\"{}\" has {found} {}, expected {expected}",
                d.name(),
                if found == 1 { "value" } else { "values" }
            );
            let missing_end = d.words.iter().any(|w| w.line < d.line);
            let found = self.find(d, Code::ConfigBadValue, message);
            if missing_end {
                found.code = Code::ConfigSyntax;
                found.help = Some("a \";\" is probably missing at the end of an earlier line".into());
            }
            return;
        }
        let line = d.line;
        if row.marks.has(Marks::ONCE)
            && let Some(first) = self.block().seen.insert(row.number, line)
        {
            let message =
                format!("\"{}\" is given twice in one block; the first is in line {first}", d.name());
            self.find(d, Code::ConfigConflict, message);
            return;
        }
        if let Some(Wrong::Word { at, expected }) = wrong {
            let message = format!(
                "\"{}\" is not a valid value for \"{}\", expected {expected}",
                d.argument(at),
                d.name()
            );
            self.find_word(d, at, Code::ConfigBadValue, message);
        } else if row.marks.has(Marks::TYPED) {
            self.typed(d, row);
        }
    }

    /// What follows from the types of words: variables that must exist, patterns that must compile, files
    /// that are read or written.
    fn typed(&mut self, d: &Directive, row: &'static Row) {
        for (at, slot) in slots_of(row, d.words.len() - 1, |at| d.argument(at)).enumerate() {
            let word = d.argument(at);
            match slot.takes {
                Type::Template | Type::Variable => rules::uses_variables(self, d, word),
                Type::Regex => rules::check_regex(self, d, word),
                Type::Path(PathUse::Write) => {
                    let entry = rules::named(self, d, word);
                    self.out.model.writes.push(entry);
                }
                Type::Path(PathUse::Read) => {
                    let path = path::join(path::parent(&self.options.config), word);
                    self.out.model.reads.push(NamedPath {
                        path,
                        place: Some(self.place_at(d, word)),
                        directive: d.name().to_owned(),
                    });
                }
                _ => {}
            }
        }
    }

    fn include(&mut self, d: &Directive) {
        let base = path::parent(&self.options.config).to_owned();
        let target = path::join(&base, d.argument(0));
        if !path::is_pattern(&target) {
            return self.read_file(&target, Some(d));
        }
        for name in super::glob(self.snapshot, &target) {
            if self.stopped {
                return;
            }
            self.read_file(&name, Some(d));
        }
    }
}

/// Columns of a text, each counted on from the one before where that stands on the same line.
#[derive(Default)]
struct Lines {
    /// A byte of the text, and its column.
    last: Option<(usize, u32)>,
}

impl Lines {
    fn column(&mut self, text: &str, at: usize) -> u32 {
        let from = self.last.filter(|(known, _)| *known <= at);
        let since = from.map_or(0, |(known, _)| known);
        let line = memchr::memrchr(b'\n', &text.as_bytes()[since..at]).map(|n| since + n + 1);
        let (start, base) = match (line, from) {
            (Some(start), _) => (start, 1),
            (None, Some((known, column))) => (known, column),
            (None, None) => (0, 1),
        };
        step(at - start.min(since));
        let column = base.saturating_add(u32::try_from(text[start..at].chars().count()).unwrap_or(u32::MAX));
        self.last = Some((at, column));
        column
    }
}

/// Length of the longest line, in bytes.
fn longest_line(text: &str) -> usize {
    text.split('\n').map(str::len).max().unwrap_or(0)
}
