//! What reading a configuration yields, whatever the daemon: findings with places, and the facts that
//! other rooms need (listeners, account, logs, files).
pub mod entries;
pub mod layers;
pub mod lines;
mod maps;
mod meant;
mod nearest;
mod pattern;
pub mod release;
pub mod rows;

pub(crate) use maps::{NameMap, NameSet};
pub use meant::{copy_of, edit_at, edit_of_variable, may_stand_in, nearest_file, nearest_of, propose};
pub use nearest::nearest;
pub use pattern::regex_fault;

use crate::code::Code;
use crate::host::Socket;
use crate::net::Listen;
use crate::not_seen::NotSeen;
use crate::snapshot::Snapshot;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::net::IpAddr;
use std::sync::Arc;

/// A place in a configuration file. Lines and columns count from 1; a column of 0 is unknown.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Place {
    /// File as the host names it.
    pub file: Arc<str>,
    /// Line.
    pub line: u32,
    /// First column.
    pub column: u32,
    /// Column after the last.
    pub end_column: u32,
}

impl Place {
    /// A whole line of a file.
    pub fn line(file: &str, line: u32) -> Self {
        Self { file: Arc::from(file), line, column: 0, end_column: 0 }
    }
    /// No place in any file: an option of a command that no file holds.
    pub fn nowhere() -> Self {
        Self { file: Arc::from(""), line: 0, column: 0, end_column: 0 }
    }
    /// The place, where there is one.
    pub fn known(&self) -> Option<Self> {
        (!self.file.is_empty()).then(|| self.clone())
    }
}

impl std::fmt::Display for Place {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}:{}", self.file, self.line)
    }
}

/// A stretch of bytes in a file, for edits.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Span {
    /// File as the host names it.
    pub file: Arc<str>,
    /// First byte.
    pub start: usize,
    /// Byte after the last.
    pub end: usize,
}

/// How bad a finding is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Severity {
    /// The start is refused.
    Error,
    /// It starts, but not as meant.
    Warning,
    /// Worth knowing.
    Hint,
}

/// What a verdict rests on.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum DependsOn {
    /// The text alone.
    Text,
    /// Files that it names.
    Files,
    /// Accounts of the host.
    Accounts,
    /// Host names.
    Names,
    /// Addresses of the host.
    Interfaces,
}

/// What a finding is about: it travels from the reader to the fix as it is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum About {
    /// A file that is read.
    File(String),
    /// A directory that would do if it were empty: something is put there.
    Directory(String),
    /// A directory that is of use only with what is in it.
    Tree(String),
    /// A key that is not that of the certificate beside it.
    Key {
        /// Its file.
        key: String,
        /// The file of the certificate.
        certificate: String,
    },
    /// An account.
    Account(String),
    /// A group.
    Group(String),
    /// The name of a host.
    Host(String),
    /// A listener.
    Listener(IpAddr, u16),
    /// A port.
    Port(u16),
    /// A module, by the name by which it is loaded.
    Module(String),
    /// A name that the configuration itself declares or uses: an upstream, a zone, a variable, a site.
    Name(String),
}

/// What our own reading knows of a fault, for what puts it right.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Fault {
    /// Where; `None` where no place is to blame.
    pub place: Option<Place>,
    /// The directive, as written.
    pub directive: Option<String>,
    /// What it is about.
    pub about: Option<About>,
    /// The bytes to replace and what by, where one edit would put it right.
    pub edit: Option<(Span, String)>,
}

/// One thing wrong with a configuration.
#[derive(Clone, Debug)]
pub struct ConfigFinding {
    /// What.
    pub code: Code,
    /// How bad.
    pub severity: Severity,
    /// Where; `None` where no place is to blame.
    pub place: Option<Place>,
    /// The directive, as written.
    pub directive: Option<String>,
    /// What the verdict rests on.
    pub depends_on: DependsOn,
    /// What was found, then what was expected.
    pub message: String,
    /// The remedy.
    pub help: Option<String>,
    /// What the finding is about.
    pub about: Option<About>,
    /// The bytes to replace and what by, where one edit would put it right.
    pub edit: Option<(Span, String)>,
    /// A wrong word of its line and the one that was likely meant, where its grammar knows no bytes.
    pub instead: Option<(String, String)>,
    /// A copy of the file that it misses.
    pub copy: Option<String>,
    /// The file that it misses is a link that leads nowhere.
    pub dead_link: bool,
}

impl ConfigFinding {
    /// Says what was likely meant, and where it would stand in place of what is wrong.
    pub fn meant(&mut self, span: Option<Span>, near: Option<String>) {
        if let Some(near) = near {
            self.help = Some(format!("did you mean {near}?"));
            self.edit = span.map(|span| (span, near));
        }
    }

    /// What a fix needs of it.
    pub fn fault(&self) -> Fault {
        Fault {
            place: self.place.clone(),
            directive: self.directive.clone(),
            about: self.about.clone(),
            edit: self.edit.clone(),
        }
    }
    /// An error that rests on the text alone, without a place yet.
    pub fn error(code: Code, message: impl Into<String>) -> Self {
        Self {
            code,
            severity: Severity::Error,
            place: None,
            directive: None,
            depends_on: DependsOn::Text,
            message: message.into(),
            help: None,
            about: None,
            edit: None,
            instead: None,
            copy: None,
            dead_link: false,
        }
    }
}

/// A listener that the configuration asks for.
#[derive(Clone, Debug)]
pub struct WantedListen {
    /// Address and port.
    pub listen: Listen,
    /// The line that asks for it; `None` for a built-in default.
    pub place: Option<Place>,
    /// The bytes of the port number.
    pub port_span: Option<Span>,
    /// Whether it speaks TLS.
    pub tls: bool,
    /// What can be asked there.
    pub speaks: Speaks,
    /// Whether the daemon insists (a wildcard on the same port can make an address needless).
    pub bound: bool,
}

/// What a listener understands, as far as asking it goes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Speaks {
    /// What its daemon's kind does.
    #[default]
    AsItsKind,
    /// AJP, the protocol between web servers and servlet containers.
    Ajp,
    /// Something else: only whether it takes a connection can be seen.
    Other,
    /// Orders; whoever only wants to look stays away.
    Orders,
}

/// A path with the line that names it.
#[derive(Clone, Debug)]
pub struct NamedPath {
    /// Absolute path.
    pub path: String,
    /// The line; `None` for a built-in default.
    pub place: Option<Place>,
    /// Directive that names it.
    pub directive: String,
}

/// An address, or a socket, that a front passes on to.
#[derive(Clone, Debug)]
pub struct Upstream {
    /// Where it leads.
    pub listen: Listen,
    /// The line.
    pub place: Place,
    /// Members of one group do the same work; empty for what stands alone.
    pub group: String,
    /// Whether it is asked only where the others fail.
    pub spare: bool,
}

impl Upstream {
    /// An upstream that stands alone, by its address as it is written: `HOST:PORT` with a number, `localhost`
    /// or a name of the hosts file for the host, or the path of a socket behind `unix:`.
    pub fn of(snapshot: &Snapshot, address: &str, usual_port: Option<u16>, place: &Place) -> Option<Self> {
        let alone = |listen| Self { listen, place: place.clone(), group: String::new(), spare: false };
        if let Some(path) = address.strip_prefix("unix:") {
            let plain = path.starts_with('/') && !path.contains(['$', '%']);
            return plain.then(|| alone(Listen::unix(path)));
        }
        let (host, port) =
            match address.rsplit_once(':').filter(|(host, _)| !host.contains(':') || host.ends_with(']')) {
                Some((host, port)) => (host, Some(port.parse::<u16>().ok()?)),
                None => (address, None),
            };
        let host = match host {
            "localhost" => std::net::IpAddr::V4(std::net::Ipv4Addr::LOCALHOST),
            other => {
                let bare = other.trim_start_matches('[').trim_end_matches(']');
                *crate::names::lookup(snapshot, bare).seen()?.first()?
            }
        };
        let port = port.or(usual_port).filter(|p| *p > 0)?;
        Some(alone(Listen::tcp(host, port, false)))
    }
}

/// How many sockets that look alike are named.
const ALIKE: usize = 3;

/// Sockets that look like one that is not there, of the same sort of name (`true`) or of the same directory:
/// where any has the same sort of name, only those.
pub(crate) fn alike_sockets(path: &str, sockets: &[Socket]) -> Vec<(String, bool)> {
    let letters = |text: &str| -> String {
        let name = crate::path::name(text).chars().filter(char::is_ascii_alphabetic);
        name.collect::<String>().to_ascii_lowercase()
    };
    let wanted = letters(path);
    let mut found: Vec<(String, bool)> = sockets
        .iter()
        .filter_map(|s| s.path.as_deref())
        .filter(|p| p.starts_with('/') && *p != path && path.starts_with('/'))
        .map(|p| (p.to_owned(), letters(p) == wanted))
        .filter(|(p, same)| *same || crate::path::parent(p) == crate::path::parent(path))
        .collect();
    if found.iter().any(|(_, same)| *same) {
        found.retain(|(_, same)| *same);
    }
    found.sort();
    found.dedup();
    found.truncate(ALIKE);
    found
}

impl Upstream {
    /// Whether a socket is what it leads to.
    pub fn is_served_by(&self, socket: &Socket) -> bool {
        self.listen.served_by(socket)
            || (socket.port == self.listen.port
                && self.listen.address.is_some_and(|a| a.is_loopback())
                && socket.protocol == self.listen.protocol
                && socket.address.is_some_and(|a| a.is_loopback() || a.is_unspecified()))
    }

    /// Whether a listener, once it is there, is what it leads to.
    pub fn leads_to(&self, listener: &Listen) -> bool {
        self.is_served_by(&Socket {
            protocol: listener.protocol,
            address: listener.address,
            port: listener.port,
            path: listener.path.clone(),
            inode: 0,
            uid: 0,
            v6_only: listener.v6_only,
        })
    }
}

/// Another mention of a port that belongs to a listener or only looks like it.
#[derive(Clone, Debug)]
pub struct PortMention {
    /// The port.
    pub port: u16,
    /// The line.
    pub place: Place,
    /// The bytes of the number.
    pub span: Span,
    /// Whether it belongs to this daemon's own listener and must change with it.
    pub belongs: bool,
    /// The text around it, for the list of what was left alone.
    pub text: String,
}

/// What a start asks the kernel for, as one piece.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Resource {
    /// Memory that the kernel must promise, in bytes.
    Memory,
    /// Address space alone, in bytes.
    AddressSpace,
    /// Memory in huge pages, in bytes.
    HugePages,
    /// A segment of System V shared memory, in bytes.
    SharedMemory,
    /// Open files.
    Files,
}

/// Where a log goes that is no file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum LogSink {
    /// The receiver of syslog messages (RFC 5424, /dev/log).
    Syslog,
    /// The standard error.
    StandardError,
    /// The standard input of another program.
    Program,
}

/// One demand, with the line that makes it.
#[derive(Clone, Debug)]
pub struct Demand {
    /// Of what.
    pub resource: Resource,
    /// How much.
    pub amount: u64,
    /// The setting or option.
    pub directive: String,
    /// Its line; `None` for an option of the command line or a built-in default.
    pub place: Option<Place>,
}

/// What a configuration asks for.
#[derive(Clone, Debug, Default)]
pub struct ConfigModel {
    /// Files that were read, in order.
    pub files: Vec<String>,
    /// Number of directives read.
    pub directives: usize,
    /// Listeners.
    pub listens: Vec<WantedListen>,
    /// What it passes on to.
    pub upstreams: Vec<Upstream>,
    /// What may be a listener, by the name of an option or a variable.
    pub guesses: Vec<WantedListen>,
    /// Account of the workers, with its line.
    pub account: Option<(String, Option<Place>)>,
    /// Group of the workers.
    pub group: Option<String>,
    /// Error logs, the main one first.
    pub error_logs: Vec<NamedPath>,
    /// Where its error log goes besides files.
    pub log_sinks: Vec<(LogSink, Option<Place>)>,
    /// Access logs.
    pub access_logs: Vec<NamedPath>,
    /// The pid file.
    pub pid_file: Option<NamedPath>,
    /// Directory of the data, of daemons that keep some.
    pub data_dir: Option<NamedPath>,
    /// Directories and files that must exist because they are written.
    pub writes: Vec<NamedPath>,
    /// Files that the daemon opens for reading at start.
    pub reads: Vec<NamedPath>,
    /// Directories out of which pages are served.
    pub serves: Vec<NamedPath>,
    /// Files that lock what it uses, each beginning with the number of the process that holds it.
    pub locks: Vec<NamedPath>,
    /// What its start asks the kernel for.
    pub demands: Vec<Demand>,
    /// Whether the started process leaves the daemon in the background and ends; `None` where that is not
    /// known.
    pub background: Option<bool>,
    /// Whether it tells the manager when it is ready; `None` where that is not known.
    pub notifies: Option<bool>,
    /// Names of sites with the index of a listener they belong to.
    pub site_names: Vec<(String, u16)>,
    /// Mentions of ports.
    pub ports: Vec<PortMention>,
    /// Every directive, when they were asked for.
    pub settings: Vec<layers::Assignment>,
    /// Loaded modules.
    pub modules: Vec<String>,
    /// Whether the server has a name of its own; `None` where that does not matter.
    pub named: Option<bool>,
    /// The zone of the stamps in its log, by its name; `None` where the configuration does not say.
    pub log_zone: Option<String>,
}

/// What reading a configuration yielded. The first error is the one that the daemon would report.
#[derive(Clone, Debug, Default)]
pub struct Configuration {
    /// What is wrong.
    pub findings: Vec<ConfigFinding>,
    /// What it asks for.
    pub model: ConfigModel,
    /// What could not be judged.
    pub not_seen: Vec<NotSeen>,
    /// Whether anything could be read at all.
    pub readable: bool,
    /// Findings beyond the bound, counted by their code.
    pub more: BTreeMap<Code, usize>,
    /// The bound that ended the reading, in a sentence.
    pub bounded: Option<NotSeen>,
    /// How many findings of a code there are.
    pub(crate) counts: BTreeMap<Code, usize>,
    /// Takes the details of a finding that is only counted.
    pub(crate) spare: Option<Box<ConfigFinding>>,
}

impl Configuration {
    /// Adds a finding and hands it out, for the details that are not always there. Of one code so many are
    /// kept; the rest is counted.
    pub fn add(&mut self, mut finding: ConfigFinding) -> &mut ConfigFinding {
        // A word of megabytes is told by its beginning.
        if finding.message.len() > crate::bounds::SHOWN {
            finding.message = crate::bounds::clip(&finding.message);
        }
        if let Some(long) = finding.directive.as_mut().filter(|d| d.len() > crate::bounds::SHOWN) {
            *long = crate::bounds::clip(long);
        }
        let count = self.counts.entry(finding.code).or_default();
        *count += 1;
        if *count > crate::bounds::FINDINGS {
            *self.more.entry(finding.code).or_default() += 1;
            return self.spare.insert(Box::new(finding));
        }
        let at = self.findings.len();
        self.findings.push(finding);
        &mut self.findings[at]
    }

    /// Whether further findings of a code are only counted: what is dear to find out about them need not be.
    pub fn is_full(&self, code: Code) -> bool {
        self.counts.get(&code).is_some_and(|count| *count >= crate::bounds::FINDINGS)
    }

    /// Ends the reading at a bound.
    pub fn bound(&mut self, sentence: &str) {
        if self.bounded.is_none() {
            self.bounded = Some(sentence.into());
            self.not_seen.push(sentence.into());
        }
    }

    /// Notes a file of the configuration that was not read: the daemon would read it, so the rest tells no
    /// verdict.
    pub fn unread(&mut self, file: &str, why: &crate::host::Unseen) {
        self.unjudged(NotSeen::file(file, why));
    }

    /// Notes what could not be judged and decides the verdict.
    pub fn unjudged(&mut self, what: impl Into<NotSeen>) {
        let what = what.into();
        self.bounded.get_or_insert_with(|| what.clone());
        self.not_seen.push(what);
    }

    /// The error that the daemon itself would report.
    pub fn first_error(&self) -> Option<&ConfigFinding> {
        self.findings.iter().find(|f| f.severity == Severity::Error)
    }
}
