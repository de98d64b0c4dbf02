//! The daemon kinds: one folder each. Teaching the program a new daemon means one folder and one line here.
mod conceal;
mod haproxy;
mod httpd;
mod java;
mod mysql;
mod nginx;
mod php_fpm;
mod postgresql;
mod program;
mod redis;
mod release;
mod tomcat;

pub use conceal::mask_source;
pub(crate) use conceal::{Told, behind_marks, behind_open_quotes};
pub(crate) use java::{class_path as java_class_path, what_it_runs as java_program};
use release::release;
pub use release::{Stands, VersionMark};
pub(crate) use tomcat::costly as costly_xml;

use crate::code::Code;
use crate::config::layers::{Assignment, Combine};
use crate::config::release::Release;
use crate::config::rows::{Directives, Type};
use crate::config::{Configuration, Place};
use crate::host::ProbeProtocol;
use crate::log::{Catalogue, Grammar, LogOwner};
use crate::manager::{SHELLS, STARTERS};
use crate::route::{Files, Request, Route};
use crate::snapshot::Snapshot;
use std::collections::BTreeMap;

/// What a kind needs to know to read the configuration of one service.
#[derive(Clone, Debug, Default)]
pub struct Instance {
    /// Main configuration file; empty where a kind has none.
    pub config: String,
    /// Words of the start command, the program first.
    pub command: Vec<String>,
    /// Environment of the service.
    pub environment: BTreeMap<String, String>,
    /// Files out of which its start takes variables: whoever can write one decides what the command and the
    /// configuration say.
    pub variables: Vec<String>,
    /// The account of the process by which alone it is known: its arguments are that account's words.
    pub by_process: Option<u32>,
    /// Account number that runs the start command.
    pub start_uid: u32,
    /// Directories that the manager makes before the start.
    pub made_by_manager: Vec<String>,
    /// The line that holds the start command: of the unit, or of its drop-in.
    pub command_place: Option<Place>,
    /// Keep every directive, for `settings`.
    pub keep_all: bool,
}

/// What tells a kind apart, as data. Names may hold `*`.
pub struct Profile {
    /// Name in the interface.
    pub name: &'static str,
    /// Names of executables and control scripts that start it.
    pub programs: &'static [&'static str],
    /// Names of units that belong to it whatever they start.
    pub units: &'static [&'static str],
    /// Main configuration files of the known layouts, likeliest first.
    pub configs: &'static [&'static str],
    /// Packages whose version is the daemon's, in the order of preference.
    pub packages: &'static [&'static str],
    /// Where its binary tells its version.
    pub version: Option<VersionMark>,
    /// Flavours of the daemon, told by the names of packages or by the binary; without one the kind's name is
    /// the flavour's.
    pub flavours: &'static [&'static str],
    /// Places of its log in the layouts of the distributions.
    pub logs: &'static [&'static str],
    /// Where logs lie below its data: patterns, relative to the data directory.
    pub data_logs: &'static [&'static str],
    /// Whether a site may have a log of its own beside the main one.
    pub site_logs: bool,
    /// Ports that it has by custom: whoever installs it expects it there.
    pub ports: &'static [u16],
    /// Whether it answers HTTP.
    pub http: bool,
    /// How it can be asked without harm whether it is alive, where not by HTTP.
    pub asks: ProbeProtocol,
    /// Whether it opens no listeners but those of its configuration.
    pub listens_as_configured: bool,
    /// Sign that begins a comment on a line of its own; `None` where lines cannot be put behind one.
    pub comment: Option<&'static str>,
    /// Whether it keeps data that a hard end could damage.
    pub keeps_data: bool,
    /// Whether a left-over socket file of its own is no hindrance: it puts a new one in its place.
    pub replaces_sockets: bool,
    /// Whether it writes its pid file without asking whose number a left-over one holds.
    pub overwrites_pid_file: bool,
    /// Whether a Java runtime runs it.
    pub on_java: bool,
    /// How lines of its log begin, and which mark a start.
    pub grammar: &'static Grammar,
    /// What its failures look like.
    pub catalogue: &'static Catalogue,
}

impl Profile {
    /// A daemon of which nothing is known but its name and its logs; each kind says what else is true of it.
    const fn plain(name: &'static str, grammar: &'static Grammar, catalogue: &'static Catalogue) -> Self {
        Self {
            name,
            programs: &[],
            units: &[],
            configs: &[],
            packages: &[],
            version: None,
            flavours: &[],
            logs: &[],
            data_logs: &[],
            site_logs: false,
            ports: &[],
            http: false,
            asks: ProbeProtocol::Tcp,
            listens_as_configured: false,
            comment: None,
            keeps_data: false,
            replaces_sockets: false,
            overwrites_pid_file: false,
            on_java: false,
            grammar,
            catalogue,
        }
    }
}

/// Something wrong with a server's data.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DataFault {
    /// What.
    pub code: Code,
    /// The file or directory.
    pub path: String,
    /// In one sentence.
    pub message: String,
    /// What was seen there.
    pub seen: String,
}

/// A setting's name as tables have it: small letters, `_` for `-`, and nothing in brackets
/// (`php_value[name]`, `env[NAME]`).
fn plain(name: &str) -> String {
    name.split('[').next().unwrap_or(name).to_ascii_lowercase().replace('-', "_")
}

/// The secrets of a file that is a list of settings, by the table of its kind.
fn conceal_settings<K: Kind + ?Sized>(kind: &K, text: &str) -> Option<crate::secrets::Concealed> {
    let book = kind.directives()?;
    let known = |name: &str| !book.any_case(&plain(name)).is_empty();
    Some(crate::secrets::conceal_lines(text, &['#', ';'], &known, &|name| kind.is_secret(name)))
}

/// One kind of daemon.
pub trait Kind: Sync {
    /// What tells it apart.
    fn profile(&self) -> &'static Profile;
    /// Fills in the main configuration file from the command and the layouts.
    fn locate(&self, snapshot: &Snapshot, instance: &mut Instance);
    /// Which release is installed: by the data bases of packages or the daemon's own binary; `None` where
    /// nothing tells.
    fn release(&self, snapshot: &Snapshot, instance: &Instance) -> Option<Release> {
        release(snapshot, self.profile(), instance)
    }
    /// Reads the configuration as the daemon would.
    fn read(&self, snapshot: &Snapshot, instance: &Instance) -> Configuration;
    /// The way of a request through it, as its configuration and the host's files decide; `None` where
    /// nothing of it listens on the request's address, or where it is not known how this kind chooses.
    fn route(&self, _: &Instance, _: &Files, _: &Request) -> Option<Route> {
        None
    }
    /// Files in which an application that it runs may name what it depends on, the likeliest first: of the
    /// one that answers an address, or that a script belongs to.
    fn application_files(
        &self,
        snapshot: &Snapshot,
        instance: &Instance,
        _target: &str,
        _script: Option<&str>,
    ) -> Vec<String> {
        // Of a program that nobody knows: those that its command, environment and layout name.
        if self.grammar().has_general_words() { program::files(snapshot, instance) } else { Vec::new() }
    }
    /// Whether a line of a file that overrides settings of its folder keeps somebody out, or may be meant to:
    /// who takes it away opens what was closed.
    fn keeps_out(&self, _line: &str) -> bool {
        true
    }
    /// Why an address of it brings no page, where it says so itself: the path of the request, and the status
    /// of the answer.
    fn page_fault(
        &self,
        _snapshot: &Snapshot,
        _instance: &Instance,
        _target: &str,
        _status: u16,
    ) -> Option<PageFault> {
        None
    }
    /// So many MiB as a value of its configuration.
    fn megabytes(&self, count: u64) -> String {
        format!("{count}M")
    }
    /// What a line of a log says of a script of this runtime that failed.
    fn script_error(&self, _line: &str) -> Option<ScriptError> {
        None
    }
    /// How lines of its log begin, and which mark a start.
    fn grammar(&self) -> &'static Grammar {
        self.profile().grammar
    }
    /// What its failures look like.
    fn catalogue(&self) -> &'static Catalogue {
        self.profile().catalogue
    }
    /// Whose log it is, as far as reading it goes.
    fn log_owner(&self) -> LogOwner {
        let profile = self.profile();
        LogOwner {
            name: profile.name,
            programs: profile.programs,
            grammar: self.grammar(),
            catalogue: self.catalogue(),
        }
    }
    /// Whether a process of this command line is the daemon itself, not a helper that shares its program.
    fn is_main(&self, _arguments: &[String]) -> bool {
        true
    }
    /// The main configuration file that a process was started with, where its arguments name one.
    fn named_config(&self, arguments: &[String]) -> Option<String> {
        option(arguments, &["-c", "-f"])
    }
    /// The executable that becomes the daemon when this program, which may be a control script, is started.
    fn executable(&self, program: &str) -> String {
        program.to_owned()
    }
    /// Whether a process of this kind's program is what the service would start; many programs share one
    /// runtime.
    fn is_same_program(&self, _instance: &Instance, _arguments: &[String]) -> bool {
        true
    }
    /// What a runtime of this kind carries, where the arguments tell: that names the service, not the
    /// runtime.
    fn application(&self, _arguments: &[String]) -> Option<String> {
        None
    }
    /// Files of its data, relative to their directory, that its account must be able to write.
    fn data_files(&self) -> &'static [&'static str] {
        &[]
    }
    /// Names in the data directory that the server makes anew as it runs, or whose content it replaces; they
    /// may hold `*`.
    fn writes_data(&self) -> &'static [&'static str] {
        &[]
    }
    /// What is wrong with the data themselves, as far as their control structures tell.
    fn data_faults(&self, _snapshot: &Snapshot, _instance: &Instance, _dir: &str) -> Vec<DataFault> {
        Vec::new()
    }
    /// Whether the data are those of a server that follows others or is being recovered: the file that says
    /// so, and how.
    fn standby(&self, _snapshot: &Snapshot, _dir: &str) -> Option<(String, &'static str)> {
        None
    }
    /// Instances that a generator of the manager would make units for, and whether each starts at boot. Only
    /// a booted host has those units as files.
    fn instances(&self, _snapshot: &Snapshot) -> Vec<(String, bool)> {
        Vec::new()
    }
    /// Name in the interface.
    fn name(&self) -> &'static str {
        self.profile().name
    }
    /// Whether a program of this name, without its directory, is of this kind.
    fn runs(&self, program: &str) -> bool {
        !program.is_empty() && self.profile().programs.iter().any(|p| crate::path::matches(p, program, false))
    }
    /// Whether a command is of this kind; several kinds may share one program.
    fn starts_with(&self, words: &[String]) -> bool {
        words.first().is_some_and(|w| self.runs(crate::path::name(w)))
    }
    /// Whether a command that looks like this kind's by its name is somebody else's, by what it is given or
    /// by what lies beside it.
    fn denies(&self, _: &Snapshot, _: &[String]) -> bool {
        false
    }
    /// The bytes of the statement that ends on a line and begins with a directive, its continuation lines
    /// included; `None` where there is none, or where it opens a section. `text` is the whole file.
    fn statement(&self, text: &str, line: u32, directive: &str) -> Option<std::ops::Range<usize>> {
        let at = usize::try_from(line).ok()?.checked_sub(1)?;
        let start = std::iter::once(0).chain(text.match_indices('\n').map(|(n, _)| n + 1)).nth(at)?;
        let whole = text.get(start..)?.split('\n').next()?;
        let inner = whole.trim();
        let begins = inner.get(..directive.len()).is_some_and(|head| head.eq_ignore_ascii_case(directive))
            || self.spells(inner, directive);
        (!directive.is_empty() && begins && !inner.starts_with(['[', '<'])).then(|| {
            let blank = whole.len() - whole.trim_start().len();
            start + blank..start + blank + inner.len()
        })
    }
    /// The secrets of one of its configuration files, and the values of directives that it does not know;
    /// `None` where its grammar is not known, so that the net alone must do.
    fn conceal(&self, text: &str, _path: &str) -> Option<crate::secrets::Concealed> {
        conceal_settings(self, text)
    }
    /// The table of its directives, where there is one.
    fn directives(&self) -> Option<&'static Directives> {
        None
    }
    /// Whether a setting's value is a secret by what its row says, whatever its name does. A name that is
    /// none
    /// but for a letter or two of one that holds a secret was likely meant to be it.
    fn is_secret(&self, name: &str) -> bool {
        self.directives().is_some_and(|book| {
            let name = plain(name);
            let rows = book.any_case(&name);
            if rows.is_empty() {
                return book.is_near_secret(&name);
            }
            rows.iter().any(|row| row.first() == Some(Type::Secret))
        })
    }
    /// A setting's name as the daemon compares it: what is one name in two spellings becomes one here.
    fn setting_key(&self, name: &str) -> String {
        name.to_ascii_lowercase()
    }
    /// The release by which its table is read; `None` where the table does not stand for it.
    fn table_release(&self, found: &Release) -> Option<Release> {
        Some(found.clone())
    }
    /// What tells a setting from others of its section: its name, and where the first word of the value
    /// belongs to the name, that too.
    fn setting_identity(&self, one: &Assignment) -> String {
        self.setting_key(&one.name)
    }
    /// Whether the settings of a section are the server's own, whatever section of these they stand in.
    fn scope_is_server(&self, section: &str) -> bool {
        section.is_empty()
    }
    /// What becomes of several values of a setting in one section.
    fn combine(&self, _one: &Assignment) -> Combine {
        Combine::List
    }
    /// Whether a line begins with a name in another spelling than the one that is reported.
    fn spells(&self, _line: &str, _name: &str) -> bool {
        false
    }
    /// Whether a unit of this name is of this kind whatever it starts.
    fn owns(&self, unit: &str) -> bool {
        self.profile().units.iter().any(|p| crate::path::matches(p, unit, false))
    }
}

/// Why an address brings no page, by the server's own word.
pub struct PageFault {
    /// What.
    pub code: crate::code::Code,
    /// In one sentence.
    pub title: String,
    /// What it is about.
    pub subject: crate::finding::Subject,
    /// Whether it can be seen now; else only a log says so.
    pub proven: bool,
    /// How it is known.
    pub evidence: Vec<crate::finding::Evidence>,
}

/// A script that failed: the runtime's words, and file and line where those are told.
pub type ScriptError = (String, Option<(String, u32)>);

/// All kinds. Where a program could be two, the first one has it.
pub static KINDS: &[&dyn Kind] = &[
    &httpd::Httpd,
    &nginx::Nginx,
    &haproxy::Haproxy,
    &mysql::Mysql,
    &postgresql::Postgresql,
    &redis::Redis,
    &php_fpm::PhpFpm,
    &tomcat::Tomcat,
    &java::Java,
    &program::Program,
];

/// Why a directive does not stand on lines of its own.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NotAlone {
    /// No statement of that name stands there.
    NoStatement,
    /// Something else stands on its lines.
    MoreOnTheLine,
}

/// The lines on which one directive stands with nothing else but a comment: from the first of them to the end
/// of the last one, without its line break.
///
/// # Errors
/// Where it is not so, and why.
pub fn lines_alone(
    kind: &dyn Kind,
    text: &str,
    line: u32,
    directive: &str,
) -> Result<std::ops::Range<usize>, NotAlone> {
    let statement = kind.statement(text, line, directive).ok_or(NotAlone::NoStatement)?;
    let first = text[..statement.start].rfind('\n').map_or(0, |at| at + 1);
    let last = text[statement.end..].find('\n').map_or(text.len(), |at| statement.end + at);
    let before = text[first..statement.start].trim();
    let behind = text[statement.end..last].trim();
    let is_comment = kind.profile().comment.is_some_and(|sign| behind.starts_with(sign));
    if before.is_empty() && (behind.is_empty() || is_comment) {
        Ok(first..last)
    } else {
        Err(NotAlone::MoreOnTheLine)
    }
}

/// Files that a program which nobody knows may be configured by, and the kind by whose rules they are masked
/// where they are recorded.
pub fn files_of_a_program(snapshot: &Snapshot, instance: &Instance) -> Vec<(String, &'static dyn Kind)> {
    program::files(snapshot, instance)
        .into_iter()
        .map(|file| (file, &program::Program as &dyn Kind))
        .collect()
}

/// Logs that the configuration of a program names which nobody knows.
pub(crate) fn logs_of_a_program(snapshot: &Snapshot, instance: &Instance) -> Vec<String> {
    program::logs(snapshot, instance)
}

/// A kind by its name.
pub fn kind(name: &str) -> Option<&'static dyn Kind> {
    KINDS.iter().find(|k| k.name() == name).copied()
}

/// The kind that a program belongs to, by the last part of its path.
pub fn of_program(program: &str) -> Option<&'static dyn Kind> {
    let name = crate::path::name(program);
    KINDS.iter().find(|k| k.runs(name)).copied()
}

/// The kind of a command on a host, which may show that it only has the name.
pub fn of_command_here(snapshot: &Snapshot, words: &[String]) -> Option<&'static dyn Kind> {
    KINDS.iter().find(|k| k.starts_with(words) && !k.denies(snapshot, words)).copied()
}

/// The kind of a command.
pub fn of_command(words: &[String]) -> Option<&'static dyn Kind> {
    KINDS.iter().find(|k| k.starts_with(words)).copied()
}

/// The daemon's own words in a start command: what a shell or another starter runs in the end. A command that
/// is no such thing comes back as it is.
pub fn unwrapped(words: &[String]) -> Vec<String> {
    let mut words = words.to_vec();
    for _ in 0..4 {
        let Some(first) = words.first().map(|w| crate::path::name(w).to_owned()) else { break };
        if of_program(&first).is_some() {
            break;
        }
        let known = |w: &String| of_program(w).is_some();
        if SHELLS.contains(&first.as_str())
            && words.get(1).is_some_and(|w| w.starts_with('-') && w.ends_with('c'))
        {
            let text = crate::manager::one_output(words.get(2).map_or("", String::as_str))
                .replace([';', '|', '&', '`', '\n', '(', ')'], " ; ");
            let inner = crate::manager::split_words(&text);
            let Some(at) = inner.iter().rposition(known) else { break };
            let end = inner[at..].iter().position(|w| w == ";").map_or(inner.len(), |n| at + n);
            words = crate::manager::without_redirections(inner[at..end].to_vec());
        } else if SHELLS.contains(&first.as_str()) || STARTERS.contains(&first.as_str()) {
            let Some(at) = words.iter().skip(1).position(known) else { break };
            words.drain(..=at);
        } else {
            break;
        }
    }
    words
}

/// The first of the known layouts' files that is there, or the likeliest one.
pub(crate) fn known_config(snapshot: &Snapshot, profile: &Profile) -> String {
    let there = profile.configs.iter().find_map(|c| {
        if crate::path::is_pattern(c) {
            glob(snapshot, c).pop()
        } else {
            (snapshot.exists(c) == Some(true)).then(|| (*c).to_owned())
        }
    });
    there.or_else(|| profile.configs.first().map(|c| (*c).to_owned())).unwrap_or_default()
}

/// The value of an option in a command line, as `--name value` or `--name=value`; the last one counts.
pub(crate) fn option(words: &[String], names: &[&str]) -> Option<String> {
    let mut found = None;
    for (at, word) in words.iter().enumerate() {
        for name in names {
            if word == name {
                found = words.get(at + 1).cloned().or(found);
            } else if let Some(value) = word.strip_prefix(name).and_then(|rest| rest.strip_prefix('=')) {
                found = Some(value.to_owned());
            }
        }
    }
    found
}

/// Whether any of these files holds the name as a string of its own.
pub(crate) fn strings_hold(snapshot: &Snapshot, files: &[String], name: &str) -> bool {
    files.iter().any(|f| snapshot.find_string(f, name, true).seen().is_some_and(|found| found.is_some()))
}

/// Names that a path pattern matches, in the order in which daemons read them; patterns may stand in any
/// part.
pub(crate) fn glob(snapshot: &Snapshot, pattern: &str) -> Vec<String> {
    let mut found = vec![String::new()];
    for part in pattern.split('/').filter(|p| !p.is_empty()) {
        let mut next = Vec::new();
        for base in found {
            if crate::path::is_pattern(part) {
                let folder = if base.is_empty() { "/" } else { &base };
                for entry in snapshot.list(folder).seen().unwrap_or_default() {
                    if crate::path::matches(part, &entry.name, true) {
                        next.push(format!("{base}/{}", entry.name));
                    }
                }
            } else {
                next.push(format!("{base}/{part}"));
            }
        }
        found = next;
    }
    found.retain(|f| snapshot.link_stat(f).seen().is_some());
    found
}

#[cfg(test)]
mod tests;
