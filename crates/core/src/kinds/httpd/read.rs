//! httpd's first pass: the tree of files, and at once what steers reading it. Nothing else is judged here.
use super::lines::{Lines, LogicalLine, word, words};
use super::state::{Item, Reader, Source};
use super::tree::Tree;
use super::{DIRECTIVES, Options, versions};
use crate::bounds::Cost;
use crate::code::Code;
use crate::config::layers::{Assignment, Layer, Value};
use crate::config::rows::RuleIndex;
use crate::config::{About, ConfigFinding, Configuration, DependsOn, NameMap, NameSet, Place, Severity};
use crate::host::{FileKind, Look, Unseen};
use crate::kinds::Kind;
use crate::not_seen::NotSeen;
use crate::path;
use crate::snapshot::Snapshot;
use std::cell::Cell;
use std::sync::Arc;

/// How deep includes and sections may nest before the reader gives up.
/// Names in the path of an included directory: through more the kernel follows no link either.
const DIRECTORIES: usize = 60;
const DEPTH: usize = 100;

/// A name in small letters, in a room that is long enough for every name that steers the reading; empty for a
/// longer one.
fn folded<'b>(name: &str, room: &'b mut [u8; 24]) -> &'b str {
    let Some(room) = room.get_mut(..name.len()) else { return "" };
    room.copy_from_slice(name.as_bytes());
    room.make_ascii_lowercase();
    std::str::from_utf8(room).unwrap_or_default()
}

/// A section that is open in the current file.
struct Open {
    name: String,
    line: u32,
    item: usize,
}

pub(super) fn read(snapshot: &Snapshot, options: &Options) -> Configuration {
    read_with(snapshot, options, None).0
}

/// Reads it, and keeps its directives as a tree.
pub(super) fn read_tree(snapshot: &Snapshot, options: &Options) -> Option<Tree> {
    let (read, mut tree) = read_with(snapshot, options, Some(Tree::default()));
    if let Some(tree) = &mut tree {
        tree.modules = read.model.modules;
    }
    tree
}

fn read_with(snapshot: &Snapshot, options: &Options, tree: Option<Tree>) -> (Configuration, Option<Tree>) {
    let mut reader = Reader {
        snapshot,
        options,
        out: Configuration::default(),
        items: Vec::new(),
        inside: Vec::new(),
        defines: options.defines.clone(),
        flags: NameSet::default(),
        known_files: NameSet::default(),
        known_modules: NameSet::default(),
        module_files: Vec::new(),
        cost: Cost::default(),
        resolved: Cell::default(),
        server_root: options.server_root.clone(),
        runtime_dir: None,
        macros: NameMap::default(),
        open_files: Vec::new(),
        source: Source::bare(options.config.as_str()),
        stopped: false,
        depth: 0,
        rules: RuleIndex::default(),
        there: Vec::new(),
        tree,
    };
    match snapshot.read(&options.config) {
        Look::Seen(_) => reader.out.readable = true,
        Look::Absent => {
            reader.out.readable = true;
            let message = format!("{} does not exist", options.config);
            let found = reader.find_at(None, Code::ConfigMissingFile, message);
            found.depends_on = DependsOn::Files;
            found.about = Some(About::File(options.config.clone()));
            return (reader.out, reader.tree);
        }
        Look::NotSeen(why) => {
            reader.out.not_seen.push(NotSeen::file(&options.config, &why));
            return (reader.out, reader.tree);
        }
    }
    for text in &options.before {
        reader.option("-C", text);
    }
    let main = options.config.clone();
    reader.read_file(&main, None);
    for text in &options.after {
        reader.option("-c", text);
    }
    if !reader.stopped {
        super::walk::walk(&mut reader);
    }
    if let Some(tree) = &mut reader.tree {
        tree.server_root.clone_from(&reader.server_root);
        tree.module_files.clone_from(&reader.module_files);
    }
    (reader.out, reader.tree)
}

impl Reader<'_, '_> {
    /// A directive of the start command, which is read as a line of its own.
    fn option(&mut self, option: &str, text: &str) {
        if self.stopped {
            return;
        }
        let outer = std::mem::replace(&mut self.source, Source::bare(option));
        let mut lines = vec![LogicalLine { text: text.into(), number: 1, start: 0, column: 0 }].into_iter();
        self.sections(&mut lines, None);
        self.source = outer;
    }

    pub(super) fn stop(
        &mut self,
        line: &LogicalLine,
        code: Code,
        message: impl Into<String>,
    ) -> &mut ConfigFinding {
        self.stopped = true;
        self.report(line, code, message)
    }

    fn report(&mut self, line: &LogicalLine, code: Code, message: impl Into<String>) -> &mut ConfigFinding {
        let (name, _) = word(&line.text);
        let width = u32::try_from(name.chars().count()).unwrap_or(0);
        let place = Place {
            file: self.source.name.clone(),
            line: line.number,
            column: line.column,
            end_column: line.column + width,
        };
        let name = name.trim_end_matches('>').to_owned();
        let found = self.find_at(Some(place), code, message);
        found.directive = Some(name);
        found
    }

    fn read_file(&mut self, name: &str, from: Option<&LogicalLine>) {
        if self.open_files.iter().any(|f| f == name) || self.open_files.len() > DEPTH {
            if let Some(line) = from {
                let message = format!("{name} includes itself, or files are included too deep");
                self.stop(line, Code::ConfigConflict, message);
            }
            return;
        }
        let bytes = match self.snapshot.read(name) {
            Look::Seen(bytes) => bytes,
            Look::Absent => {
                if let Some(line) = from {
                    self.missing(line, name);
                }
                return;
            }
            Look::NotSeen(why) => {
                match (from, why) {
                    (Some(line), Unseen::NotRegular) => {
                        self.stop(line, Code::ConfigMissingFile, format!("{name} is not a regular file"))
                            .depends_on = DependsOn::Files;
                    }
                    (_, why) => self.out.unread(name, &why),
                }
                return;
            }
        };
        if self.known_files.insert(name.to_owned()) {
            self.out.model.files.push(name.to_owned());
        }
        let longest = if bytes.len() > crate::bounds::LINE {
            bytes.split(|b| *b == b'\n').map(<[u8]>::len).max().unwrap_or(0)
        } else {
            0
        };
        if !self.cost.line(name, longest) || !self.cost.file(name, bytes.len()) {
            return self.bounded();
        }
        let text: String = match std::str::from_utf8(&bytes) {
            Ok(text) => text.to_owned(),
            Err(_) => bytes.iter().map(|&b| if b.is_ascii() { char::from(b) } else { '?' }).collect(),
        };
        let source = Arc::new(Source { name: Arc::from(name), text });
        let outer = std::mem::replace(&mut self.source, source.clone());
        self.open_files.push(name.to_owned());
        let mut lines = Lines::new(&source.text);
        self.sections(&mut lines, None);
        self.open_files.pop();
        self.source = outer;
    }

    /// Ends the reading at a bound.
    pub(super) fn bounded(&mut self) {
        if let Some(sentence) = self.cost.reached.clone() {
            self.out.bound(&sentence);
        }
        self.stopped = true;
    }

    fn missing(&mut self, line: &LogicalLine, name: &str) {
        let found = self.report(line, Code::ConfigMissingFile, format!("{name} does not exist"));
        found.depends_on = DependsOn::Files;
        found.about = Some(About::File(name.to_owned()));
    }

    /// Reads lines until they end, or until `until` (a condition's name) is closed. Sections opened here must
    /// be closed here.
    pub(super) fn sections<'a>(
        &mut self,
        lines: &mut dyn Iterator<Item = LogicalLine<'a>>,
        until: Option<(&str, u32)>,
    ) {
        let mut open: Vec<Open> = Vec::new();
        self.depth += 1;
        while let Some(line) = lines.next() {
            if self.stopped || self.depth > DEPTH {
                break;
            }
            if line.text.is_empty() || line.text.starts_with('#') {
                continue;
            }
            if let Some(closing) = line.text.strip_prefix("</") {
                let name = closing.split(|c: char| c.is_whitespace()).next().unwrap_or_default();
                let Some(name) = name.strip_suffix('>') else {
                    self.stop(&line, Code::ConfigSyntax, format!("</{name} is missing its closing >"));
                    break;
                };
                match (open.pop(), until) {
                    (Some(last), _) if last.name.eq_ignore_ascii_case(name) => {
                        let end = self.items.len();
                        self.items[last.item].ends(end);
                        self.inside.pop();
                    }
                    (Some(last), _) => {
                        let (open, since) = (last.name.clone(), last.line);
                        self.other_end(&line, (&open, since), name);
                    }
                    (None, Some((condition, _))) if condition.eq_ignore_ascii_case(name) => {
                        self.depth -= 1;
                        return;
                    }
                    (None, _) => {
                        self.no_begin(&line, name);
                    }
                }
                continue;
            }
            self.line(&line, lines, &mut open);
        }
        self.depth -= 1;
        if self.stopped {
            return;
        }
        // A condition that holds may end with the file.
        let unclosed = open.last().map(|o| (o.name.clone(), o.line));
        if let Some((name, number)) = unclosed {
            let line = LogicalLine { text: format!("<{name}").into(), number, start: 0, column: 0 };
            let edit = self.closing(&name, number);
            let found = self.stop(&line, Code::ConfigSyntax, format!("<{name}> is not closed"));
            found.edit = edit;
        }
    }

    fn line<'a>(
        &mut self,
        line: &LogicalLine,
        lines: &mut dyn Iterator<Item = LogicalLine<'a>>,
        open: &mut Vec<Open>,
    ) {
        let (first, rest) = word(&line.text);
        let name = self.resolve(&first);
        if name.is_empty() {
            return;
        }
        self.out.model.directives += 1;
        let mut room = [0; 24];
        let lower = folded(&name, &mut room);
        if name.starts_with('<') {
            let section = lower.trim_start_matches('<').trim_end_matches('>');
            if matches!(
                section,
                "ifmodule" | "ifdefine" | "ifversion" | "iffile" | "ifdirective" | "ifsection"
            ) {
                return self.condition(
                    section,
                    name.trim_start_matches('<').trim_end_matches('>'),
                    rest,
                    line,
                    lines,
                );
            }
            if section == "macro" {
                return self.define_macro(rest, line, lines);
            }
            let shown = name.trim_start_matches('<').trim_end_matches('>').to_owned();
            open.push(Open { name: shown, line: line.number, item: self.items.len() });
            self.inside.push(self.items.len());
            return self.keep(line);
        }
        match lower {
            "include" | "includeoptional" => self.include(lower == "includeoptional", rest, line),
            "loadmodule" => self.load_module(rest, line),
            "define" => self.define(rest, line),
            "undefine" => {
                let name = self.resolve(rest);
                self.defines.remove(&*name);
                self.flags.remove(&*name);
            }
            "serverroot" => {
                let root = self.resolve(&word(rest).0).into_owned();
                if self.snapshot.is_directory(&root) == Some(false) {
                    let found = self.stop(
                        line,
                        Code::ConfigMissingFile,
                        format!("ServerRoot {root} is not a directory"),
                    );
                    found.depends_on = DependsOn::Files;
                    found.about = Some(About::Tree(root));
                    return;
                }
                self.server_root = root;
                self.keep_setting(line);
            }
            "defaultruntimedir" => {
                let dir = path::join(&self.server_root, &self.resolve(&word(rest).0));
                if self.snapshot.is_directory(&dir) == Some(false) && !self.options.made(&dir) {
                    let found = self.stop(
                        line,
                        Code::ConfigMissingFile,
                        format!("runtime directory {dir} does not exist"),
                    );
                    found.depends_on = DependsOn::Files;
                    found.about = Some(About::Directory(dir));
                    return;
                }
                self.runtime_dir = Some(dir);
            }
            "use" if self.macros.contains_key(&word(rest).0.to_ascii_lowercase()) => {
                self.use_macro(rest, line)
            }
            _ => self.keep(line),
        }
    }

    fn keep(&mut self, line: &LogicalLine) {
        self.keep_setting(line);
        self.items.push(Item::new(&self.source, line));
    }

    fn keep_setting(&mut self, line: &LogicalLine) {
        if self.options.keep_all {
            let (name, rest) = word(&line.text);
            // The name of a variable may tell more than what stands here.
            let secret =
                rest.split("${").skip(1).filter_map(|v| v.split('}').next()).any(crate::secrets::is_secret);
            let hidden = !super::conceal::conceal(&line.text).secret.is_empty();
            let shown = match hidden {
                true => crate::kinds::mask_source(Some(&super::Httpd), &line.text)
                    .get(name.len() + 1..)
                    .unwrap_or(crate::secrets::MASK)
                    .trim_start()
                    .to_owned(),
                false => self.resolve(rest).into_owned(),
            };
            let value = Value::of(secret || super::Httpd.is_secret(&name), &name, &shown);
            // A section's own line stands in the one around it.
            let opened = self.inside.iter().rev().find(|at| **at < self.items.len());
            let section = opened
                .and_then(|at| self.items.get(*at))
                .map_or(String::new(), |i| crate::secrets::mask_settings(i.text()));
            let scope = opened.and_then(|at| u32::try_from(at + 1).ok()).unwrap_or(0);
            // An option of the start command stands at the unit's line; that of `-C` is read before every
            // file.
            let option = matches!(&*self.source.name, "-C" | "-c");
            let place = match option {
                true => self.options.command_place.clone(),
                false => Some(Place {
                    file: self.source.name.clone(),
                    line: line.number,
                    column: line.column,
                    end_column: 0,
                }),
            };
            let layer = if option { Layer::CommandLine } else { Layer::File };
            let first = &*self.source.name == "-C";
            self.out.model.settings.push(Assignment {
                name: name.into_owned(),
                value,
                section,
                scope,
                layer,
                first,
                place,
            });
        }
    }

    fn include(&mut self, optional: bool, rest: &str, line: &LogicalLine) {
        let (first, more) = word(rest);
        let target = self.resolve(&first);
        if target.is_empty() || !more.is_empty() {
            self.stop(
                line,
                Code::ConfigBadValue,
                "Include takes one value: a file, a directory or a pattern",
            );
            return;
        }
        let target = path::join(&self.server_root, &target);
        if !path::is_pattern(&target) {
            return match self.snapshot.stat(&target) {
                Look::Absent if optional => {}
                Look::Absent => self.missing(line, &target),
                Look::Seen(status) if status.kind == FileKind::Directory => {
                    self.include_directory(&target, line)
                }
                Look::Seen(_) => self.read_file(&target, Some(line)),
                Look::NotSeen(why) => self.out.unread(&target, &why),
            };
        }
        let names = super::super::glob(self.snapshot, &target);
        if names.is_empty() && !optional {
            let found = self.report(line, Code::ConfigMissingFile, format!("no file matches {target}"));
            found.depends_on = DependsOn::Files;
            found.help = Some("IncludeOptional accepts a pattern without a match".into());
            found.about = Some(About::File(target));
            return;
        }
        for name in names {
            if self.stopped {
                return;
            }
            match self.snapshot.stat(&name) {
                Look::Seen(status) if status.kind == FileKind::Directory => {
                    self.include_directory(&name, line)
                }
                Look::Absent if optional => {}
                _ => self.read_file(&name, Some(line)),
            }
        }
    }

    /// A directory takes in every file below it, hidden ones included, in the order of their names.
    fn include_directory(&mut self, dir: &str, line: &LogicalLine) {
        // A link that leads back up would go on for ever.
        if !self.cost.file(dir, 0) || dir.split('/').count() > DIRECTORIES {
            return self.bounded();
        }
        for entry in self.snapshot.list(dir).seen().unwrap_or_default() {
            if self.stopped {
                return;
            }
            let name = path::join(dir, &entry.name);
            match self.snapshot.is_directory(&name) {
                Some(true) => self.include_directory(&name, line),
                _ => self.read_file(&name, Some(line)),
            }
        }
    }

    fn load_module(&mut self, rest: &str, line: &LogicalLine) {
        let all: Vec<String> = words(rest).iter().map(|w| self.resolve(w).into_owned()).collect();
        let [id, file] = all.as_slice() else {
            self.stop(
                line,
                Code::ConfigBadValue,
                format!("LoadModule has {} values, expected 2: a name and a file", all.len()),
            );
            return;
        };
        let file = path::join(&self.server_root, file);
        if self.known_modules.contains(id) {
            self.report(
                line,
                Code::ConfigWarning,
                format!("module {id} is loaded already; this line is skipped"),
            )
            .severity = Severity::Warning;
            return;
        }
        match self.snapshot.stat(&file) {
            Look::Absent => {
                let found =
                    self.report(line, Code::ConfigMissingFile, format!("module file {file} does not exist"));
                found.depends_on = DependsOn::Files;
                found.about = Some(About::File(file));
                // Its directives are not unknown words because of that.
                self.known_modules.insert(id.clone());
                self.out.model.modules.push(id.clone());
                return;
            }
            Look::Seen(_) => {
                let holds = super::super::strings_hold(self.snapshot, std::slice::from_ref(&file), id);
                if !holds && self.snapshot.find_string(&file, id, true).seen().is_some() {
                    let found =
                        self.stop(line, Code::ConfigBadValue, format!("{file} holds no module named {id}"));
                    found.depends_on = DependsOn::Files;
                    // A module is called after its file, mostly.
                    let stem =
                        crate::path::name(&file).strip_prefix("mod_").and_then(|n| n.strip_suffix(".so"));
                    let usual = stem.map(|stem| format!("{stem}_module")).unwrap_or_default();
                    if crate::config::nearest(id, std::iter::once(usual.as_str())).is_some() {
                        found.instead = Some((id.to_owned(), usual));
                    }
                    return;
                }
            }
            Look::NotSeen(why) => self.out.not_seen.push(NotSeen::file(&file, &why)),
        }
        self.known_modules.insert(id.clone());
        self.out.model.modules.push(id.clone());
        self.module_files.push(file);
    }

    fn define(&mut self, rest: &str, line: &LogicalLine) {
        let all: Vec<String> = words(rest).iter().map(|w| self.resolve(w).into_owned()).collect();
        match all.as_slice() {
            [name] | [name, _] if name.contains(':') => {
                self.stop(
                    line,
                    Code::ConfigBadValue,
                    format!("the name \"{name}\" holds a colon, which Define refuses"),
                );
            }
            // Without a value it is a flag for <IfDefine>; `${NAME}` stays as it is.
            [name] => drop(self.flags.insert(name.clone())),
            // A value that holds others can double with each line: what is made is counted.
            [name, value] => {
                if !self.cost.expansion(value.len()) {
                    return self.bounded();
                }
                self.defines.insert(name.clone(), value.clone());
            }
            _ => drop(self.stop(
                line,
                Code::ConfigBadValue,
                format!("Define has {} values, expected 1 or 2", all.len()),
            )),
        }
    }

    fn condition<'a>(
        &mut self,
        lower: &str,
        name: &str,
        rest: &str,
        line: &LogicalLine,
        lines: &mut dyn Iterator<Item = LogicalLine<'a>>,
    ) {
        let Some(end) = rest.rfind('>') else {
            self.stop(line, Code::ConfigSyntax, format!("<{name}> is missing its closing >"));
            return;
        };
        let argument = self.resolve(rest[..end].trim());
        if argument.is_empty() {
            self.stop(line, Code::ConfigSyntax, format!("<{name}> has no condition"));
            return;
        }
        // The sign of `<IfVersion>` is a part of its condition.
        let sign = argument.strip_prefix('!').filter(|_| lower != "ifversion");
        let (negated, bare) = sign.map_or((false, &*argument), |b| (true, b));
        let bare = word(bare).0.into_owned();
        let holds = match lower {
            "ifmodule" => self.module_loaded(&bare),
            "ifdefine" => self.defines.contains_key(&bare) || self.flags.contains(&bare),
            "ifversion" => match &self.options.release {
                Some(release) => versions::holds(&release.version, &argument),
                None => {
                    self.out.unjudged(format!(
                        "<IfVersion {argument}> at {}:{}: which release is installed is not known",
                        self.source.name, line.number
                    ));
                    false
                }
            },
            "iffile" => self.snapshot.exists(&path::join(&self.server_root, &bare)) == Some(true),
            "ifdirective" => self.directive_known(&bare),
            _ => self.directive_known(&format!("<{}", bare.trim_start_matches('<'))),
        };
        let number = line.number;
        if holds != negated {
            self.sections(lines, Some((name, number)));
        } else {
            self.soak(lines, name, number);
        }
    }

    /// Skips a section unread; tags inside must still nest. The daemon soaks it up while it reads the opening
    /// tag, so that line is to blame for whatever is wrong inside.
    fn soak<'a>(&mut self, lines: &mut dyn Iterator<Item = LogicalLine<'a>>, name: &str, number: u32) {
        let opening = LogicalLine { text: format!("<{name}").into(), number, start: 0, column: 0 };
        let mut open = vec![(name.to_owned(), number)];
        for line in lines {
            let Some(tag) = line.text.strip_prefix('<') else { continue };
            let tag = tag.split_whitespace().next().unwrap_or_default();
            if let Some(closing) = tag.strip_prefix('/') {
                let Some(closing) = closing.strip_suffix('>') else {
                    self.stop(
                        &opening,
                        Code::ConfigSyntax,
                        format!("</{closing} on line {} is missing its closing >", line.number),
                    );
                    return;
                };
                let Some((last, since)) = open.pop() else { return };
                if !last.eq_ignore_ascii_case(closing) {
                    let message = format!(
                        "expected </{last}>, which is open since line {since}, but line {} has </{closing}>",
                        line.number
                    );
                    self.stop(&opening, Code::ConfigSyntax, message);
                    return;
                }
                if open.is_empty() {
                    return;
                }
            } else {
                open.push((tag.trim_end_matches('>').to_owned(), line.number));
            }
        }
        if let Some((inner, since)) = open.pop() {
            let edit = self.closing(&inner, since);
            let message = format!("<{inner}> of line {since} is not closed");
            self.stop(&opening, Code::ConfigSyntax, message).edit = edit;
        }
    }

    fn directive_known(&self, name: &str) -> bool {
        DIRECTIVES.any_case(name).iter().any(|row| self.is_there(row))
    }
}
