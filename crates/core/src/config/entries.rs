//! Configuration that is a list of settings: entries of `name value`, and the book in which reading one
//! gathers them with its findings. What is particular to a kind stands in its folder.
use super::About;
use super::layers::{Assignment, Layer, Value};
use super::lines::Text;
use super::{ConfigFinding, Configuration, DependsOn, NamedPath, Place, Span, Speaks, WantedListen};
use crate::bounds::{Cost, step};
use crate::code::Code;
use crate::host::Look;
use crate::net::Listen;
use crate::path;
use crate::snapshot::Snapshot;
use std::cell::RefCell;
use std::collections::HashMap;
use std::net::IpAddr;

/// One setting with its place.
#[derive(Clone, Debug)]
pub struct Entry {
    /// Section or group; empty where there is none.
    pub section: String,
    /// Which section it is, where several may bear one name; 0 where the name alone tells them apart.
    pub scope: u32,
    /// Where the value comes from.
    pub layer: Layer,
    /// Name, as the kind compares it.
    pub name: String,
    /// Value, quotes taken off.
    pub value: String,
    /// Where the name stands; [`Place::nowhere`] for an option of a command that no file holds.
    pub place: Place,
    /// The bytes of the value, for edits; `None` where they cannot be told.
    pub span: Option<Span>,
}

impl Entry {
    /// An entry of a file.
    pub fn of_file(section: &str, name: String, value: String, place: Place, span: Option<Span>) -> Self {
        Self { section: section.to_owned(), scope: 0, layer: Layer::File, name, value, place, span }
    }
}

/// The bytes of the name of an entry, where it stands as its place says.
pub fn name_span(snapshot: &Snapshot, entry: &Entry) -> Option<Span> {
    let place = entry.place.known()?;
    let text = snapshot.text(&place.file).seen()?;
    let line = usize::try_from(place.line).ok()?.checked_sub(1)?;
    let begin = text.split_inclusive('\n').take(line).map(str::len).sum::<usize>();
    let before = usize::try_from(place.column).ok()?.checked_sub(1)?;
    let own = text.get(begin..)?;
    let at = own.char_indices().nth(before)?.0;
    let start = begin + at;
    let end = start + entry.name.len();
    let same = text.get(start..end)?.eq_ignore_ascii_case(&entry.name);
    same.then(|| Span { file: place.file.clone(), start, end })
}

/// Where the first and the last entry of a key in a section stand.
type Index = HashMap<(String, String), (usize, usize)>;

/// What reading a list of settings gathers: entries in reading order, findings, facts.
pub struct Book<'r, 'h> {
    /// The host.
    pub snapshot: &'r Snapshot<'h>,
    /// What came of it so far.
    pub out: Configuration,
    /// Settings in reading order; the last one of a name counts.
    pub entries: Vec<Entry>,
    /// The daemon would have stopped reading.
    pub stopped: bool,
    made: &'r [String],
    cost: Cost,
    /// Places of the first and the last entry of each section and name, and how many entries there were then.
    index: RefCell<(usize, Index)>,
}

impl<'r, 'h> Book<'r, 'h> {
    /// An empty book. `made` are the directories that the manager makes before the start.
    pub fn new(snapshot: &'r Snapshot<'h>, made: &'r [String]) -> Self {
        Self {
            snapshot,
            made,
            out: Configuration::default(),
            entries: Vec::new(),
            stopped: false,
            cost: Cost::default(),
            index: RefCell::default(),
        }
    }

    /// An option of the start command, which wins over every file. It stands where the unit has its command.
    pub fn option(&mut self, place: Option<&Place>, section: &str, name: &str, value: &str) {
        let place = place.cloned().unwrap_or_else(Place::nowhere);
        self.entries.push(Entry {
            layer: Layer::CommandLine,
            ..Entry::of_file(section, name.to_owned(), value.to_owned(), place, None)
        });
    }

    /// A variable of the environment, which every file wins over.
    pub fn variable(&mut self, section: &str, name: &str, value: &str) {
        let entry = Entry {
            layer: Layer::Environment,
            ..Entry::of_file(section, name.to_owned(), value.to_owned(), Place::nowhere(), None)
        };
        self.entries.insert(0, entry);
    }

    /// Reads a file and notes that it was read; `None` where it is not there or cannot be seen.
    pub fn text(&mut self, file: &str) -> Option<Text> {
        match Text::read(self.snapshot, file) {
            Look::Seen(text) => {
                self.out.readable = true;
                let longest = if text.text.len() > crate::bounds::LINE {
                    text.text.split('\n').map(str::len).max().unwrap_or(0)
                } else {
                    0
                };
                if !self.cost.line(file, longest) || !self.cost.file(file, text.text.len()) {
                    if let Some(sentence) = self.cost.reached.clone() {
                        self.out.bound(&sentence);
                    }
                    self.stopped = true;
                    return None;
                }
                self.out.model.files.push(file.to_owned());
                Some(text)
            }
            Look::Absent => None,
            Look::NotSeen(why) => {
                self.out.unread(file, &why);
                None
            }
        }
    }

    /// A value with a variable put in, counted; `None` where that makes too much, which ends the reading.
    pub fn filled(&mut self, value: &str, variable: &str, with: &str) -> Option<String> {
        if !value.contains(variable) {
            return Some(value.to_owned());
        }
        let filled = crate::bounds::replaced(value, variable, with, crate::bounds::LINE);
        if self.cost.expansion(filled.as_ref().map_or(usize::MAX, String::len)) {
            return filled;
        }
        if let Some(sentence) = self.cost.reached.clone() {
            self.out.bound(&sentence);
        }
        self.stopped = true;
        None
    }

    /// Whether so few findings came of it that somebody looks at what each could be corrected to.
    pub fn is_early(&self) -> bool {
        self.out.findings.len() < 100
    }

    /// An error that ends the reading.
    pub fn refuse(
        &mut self,
        place: &Place,
        directive: &str,
        code: Code,
        message: impl Into<String>,
    ) -> &mut ConfigFinding {
        self.stopped = true;
        self.find(place, directive, code, message)
    }

    /// An error after which the reading goes on.
    pub fn find(
        &mut self,
        place: &Place,
        directive: &str,
        code: Code,
        message: impl Into<String>,
    ) -> &mut ConfigFinding {
        let place = self.marked(place, directive, code);
        let directive = (!directive.is_empty()).then(|| directive.to_owned());
        self.out.add(ConfigFinding { place: place.known(), directive, ..ConfigFinding::error(code, message) })
    }

    /// Reports an account, or a group, that a setting names and this host does not know.
    pub fn needs_account(&mut self, entry: &Entry, group: bool) {
        let name = &entry.value;
        let gone = if group {
            crate::accounts::group(self.snapshot, name).is_absent()
        } else {
            crate::accounts::account(self.snapshot, name).is_absent()
        };
        if gone {
            let what = if group { "group" } else { "account" };
            let message = format!("{what} {name} does not exist");
            let found = self.find(&entry.place, &entry.name, Code::AccountMissing, message);
            found.depends_on = DependsOn::Accounts;
            found.about = Some(if group { About::Group(name.clone()) } else { About::Account(name.clone()) });
        }
    }

    /// What a finding marks: the value where that is what is wrong, else the name of the setting.
    fn marked(&self, place: &Place, directive: &str, code: Code) -> Place {
        let of_value = matches!(
            code,
            Code::ConfigBadValue
                | Code::ConfigMissingFile
                | Code::CertificateBad
                | Code::AccountMissing
                | Code::AddressNotHere
                | Code::NameUnresolved
        );
        // Of very many findings nobody looks at the marks.
        if !of_value || !self.is_early() {
            return place.clone();
        }
        let same = |e: &&Entry| e.name == directive && e.place == *place;
        let entry = self.entries.iter().rev().find(same);
        entry.and_then(|e| self.value_place(e)).unwrap_or_else(|| place.clone())
    }

    /// Where the value of an entry stands, if that is on the line of its name.
    fn value_place(&self, entry: &Entry) -> Option<Place> {
        let span = entry.span.as_ref().filter(|span| span.end > span.start)?;
        let text = self.snapshot.text(&span.file).seen()?;
        let begin = text.get(..span.start)?.rfind('\n').map_or(0, |at| at + 1);
        let line = text[..begin].matches('\n').count() + 1;
        (u32::try_from(line) == Ok(entry.place.line)).then_some(())?;
        let columns = |part: &str| u32::try_from(part.chars().count()).unwrap_or(0);
        let column = columns(&text[begin..span.start]) + 1;
        let end_column = column + columns(text.get(span.start..span.end)?);
        Some(Place { column, end_column, ..entry.place.clone() })
    }

    /// A file that an entry names does not exist.
    pub fn missing(&mut self, entry: &Entry, path: &str) {
        let found =
            self.find(&entry.place, &entry.name, Code::ConfigMissingFile, format!("{path} does not exist"));
        found.depends_on = DependsOn::Files;
        found.about = Some(About::File(path.to_owned()));
    }

    /// The directory that an entry names must be there.
    pub fn must_be_directory(&mut self, entry: &Entry, dir: &str) {
        let made = self.made.iter().any(|d| path::is_within(dir, d));
        if !made && self.snapshot.is_directory(dir) == Some(false) {
            let found = self.find(
                &entry.place,
                &entry.name,
                Code::ConfigMissingFile,
                format!("directory {dir} does not exist"),
            );
            found.depends_on = DependsOn::Files;
            found.about = Some(About::Directory(dir.to_owned()));
        }
    }

    /// The directory of a file that an entry names must be there.
    pub fn must_have_parent(&mut self, entry: &Entry, file: &str) {
        self.must_be_directory(entry, path::parent(file));
    }

    /// The key that one entry names must be that of the certificate that another one names.
    pub fn must_fit(&mut self, certificate: Option<&NamedPath>, key: Option<&NamedPath>) {
        let (Some(certificate), Some(key)) = (certificate, key) else { return };
        if self.snapshot.key_fits(&certificate.path, &key.path) == Some(false) {
            self.out.add(ConfigFinding {
                place: key.place.clone(),
                directive: Some(key.directive.clone()),
                depends_on: DependsOn::Files,
                about: Some(About::Key { key: key.path.clone(), certificate: certificate.path.clone() }),
                ..ConfigFinding::error(
                    Code::CertificateBad,
                    format!("{} is not the key of {}", key.path, certificate.path),
                )
            });
        }
    }

    /// The setting of a name that counts.
    pub fn last(&self, name: &str) -> Option<Entry> {
        self.entries.iter().rev().find(|e| e.name == name).cloned()
    }

    /// The first and the last entry of a name in a section.
    pub fn in_section(&self, section: &str, name: &str) -> Option<(&Entry, &Entry)> {
        let mut index = self.index.borrow_mut();
        if index.0 != self.entries.len() {
            index.1.clear();
            for (at, entry) in self.entries.iter().enumerate() {
                step(1);
                index
                    .1
                    .entry((entry.section.clone(), entry.name.clone()))
                    .and_modify(|e| e.1 = at)
                    .or_insert((at, at));
            }
            index.0 = self.entries.len();
        }
        let (first, last) = *index.1.get(&(section.to_owned(), name.to_owned()))?;
        Some((self.entries.get(first)?, self.entries.get(last)?))
    }

    /// Its value.
    pub fn value(&self, name: &str) -> Option<String> {
        self.last(name).map(|e| e.value)
    }

    /// A path that an entry names, relative ones counted from `base`.
    pub fn named(entry: &Entry, base: &str) -> NamedPath {
        NamedPath {
            path: path::join(base, &entry.value),
            place: entry.place.known(),
            directive: entry.name.clone(),
        }
    }

    /// A listener. `entry` is the line that sets its port, or its address where no line sets the port.
    pub fn listen(
        &mut self,
        listen: Listen,
        entry: Option<&Entry>,
        span: Option<Span>,
        tls: bool,
        bound: bool,
    ) {
        let place = entry.and_then(|e| e.place.known());
        self.out.model.listens.push(WantedListen {
            listen,
            place,
            port_span: span,
            tls,
            speaks: Speaks::default(),
            bound,
        });
    }

    /// What the listener that was noted last understands.
    pub fn last_listener_speaks(&mut self, speaks: Speaks) {
        if let Some(last) = self.out.model.listens.last_mut() {
            last.speaks = speaks;
        }
    }

    /// An address that the daemon insists on must be one of this host.
    pub fn must_be_here(&mut self, entry: Option<&Entry>, address: IpAddr, port: u16) {
        let Some(own) = self.snapshot.addresses().seen() else { return };
        if address.is_unspecified()
            || address.is_loopback()
            || own.contains(&address)
            || crate::names::may_bind_foreign(self.snapshot, address)
        {
            return;
        }
        let shown = crate::net::endpoint(address, port);
        self.out.add(ConfigFinding {
            place: entry.and_then(|e| e.place.known()),
            directive: entry.map(|e| e.name.clone()),
            depends_on: DependsOn::Interfaces,
            about: Some(About::Listener(address, port)),
            ..ConfigFinding::error(
                Code::AddressNotHere,
                format!("no interface of this host has the address of {shown}"),
            )
        });
    }

    /// Ends the reading: the entries become settings. `secret` tells what the kind keeps to itself.
    pub fn close(mut self, secret: impl Fn(&str) -> bool) -> Configuration {
        self.out.model.directives =
            self.entries.iter().filter(|e| matches!(e.layer, Layer::File | Layer::Kept)).count();
        let assign = |e: Entry| {
            let value = Value::of(secret(&e.name), &e.name, &e.value);
            Assignment {
                place: e.place.known(),
                name: e.name,
                value,
                section: e.section,
                scope: e.scope,
                layer: e.layer,
                first: false,
            }
        };
        self.out.model.settings = self.entries.into_iter().map(assign).collect();
        self.out
    }
}
