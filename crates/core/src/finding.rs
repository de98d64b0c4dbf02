//! What checks find: typed subjects, evidence with its origin, and how well it is proved.
use crate::access::{Obstacle, Right};
use crate::code::Code;
pub use crate::code::stage;
use crate::config::{Fault, Place, Severity};
use crate::host::{Engine, Refusal};
use crate::log::format_time;
use crate::net::endpoint;
use jiff::tz::TimeZone;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::net::IpAddr;

/// Where a piece of evidence comes from.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Source {
    /// The kernel's table of sockets.
    Socket,
    /// The process table.
    Process,
    /// A configuration file.
    Config,
    /// A log line.
    Log,
    /// A file's status.
    File,
    /// The service manager.
    Manager,
    /// A server's own answer.
    Probe,
    /// A host name looked up.
    NameLookup,
}

/// One piece of evidence.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Evidence {
    /// Where it comes from.
    pub source: Source,
    /// What it says.
    pub detail: String,
    /// File, or `journal`.
    pub file: Option<String>,
    /// Line in it.
    pub line: Option<u32>,
    /// Process.
    pub pid: Option<u32>,
    /// Time, RFC 3339.
    pub time: Option<String>,
}

impl Evidence {
    /// Evidence with nothing but words.
    pub fn new(source: Source, detail: impl Into<String>) -> Self {
        Self {
            source,
            detail: crate::bounds::clip(&detail.into()),
            file: None,
            line: None,
            pid: None,
            time: None,
        }
    }
    /// With a place in a file.
    pub fn at(mut self, place: &Place) -> Self {
        self.file = Some(place.file.to_string());
        self.line = Some(place.line);
        self
    }
    /// With a file.
    pub fn file(mut self, file: &str) -> Self {
        self.file = Some(file.to_owned());
        self
    }
    /// With a process.
    pub fn pid(mut self, pid: u32) -> Self {
        self.pid = Some(pid);
        self
    }
    /// With a time in microseconds since the epoch.
    pub fn time(mut self, micros: Option<i64>, zone: &TimeZone) -> Self {
        self.time = micros.map(|t| format_time(t, zone));
        self
    }
}

/// What a finding is about. Findings about the same thing are joined.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Subject {
    /// Address.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub address: Option<IpAddr>,
    /// Port.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub port: Option<u16>,
    /// Process.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub pid: Option<u32>,
    /// File or directory.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub path: Option<String>,
    /// Unit.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub unit: Option<String>,
    /// Account.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub account: Option<String>,
    /// Directive.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub directive: Option<String>,
    /// Configuration file of the directive.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub file: Option<String>,
    /// Its line.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub line: Option<u32>,
    /// Host name.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub host: Option<String>,
    /// Database.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub database: Option<String>,
    /// Why a server of data refuses an account.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub reason: Option<Refusal>,
    /// The family of that server. Not part of the document.
    #[serde(skip)]
    pub engine: Option<Engine>,
    /// The right on the path that is missing. Not part of the document.
    #[serde(skip)]
    pub right: Option<Right>,
    /// The name by which the service reaches the path, where links lead there. Not part of the document.
    #[serde(skip)]
    pub named: Option<String>,
    /// What our own reading of the configuration knows of it. Not part of the document.
    #[serde(skip)]
    pub fault: Option<Box<Fault>>,
}

impl Subject {
    /// A listener.
    pub fn listener(address: Option<IpAddr>, port: u16, path: Option<&str>, pid: Option<u32>) -> Self {
        Self {
            address,
            port: (port > 0).then_some(port),
            path: path.map(str::to_owned),
            pid,
            ..Self::default()
        }
    }
    /// A path.
    pub fn path(path: &str) -> Self {
        Self { path: Some(path.to_owned()), ..Self::default() }
    }
    /// A path that an account lacks a right on.
    pub fn obstacle(obstacle: &Obstacle, account: &str, named: Option<&str>) -> Self {
        let named = named.map(str::to_owned);
        Self {
            account: Some(account.to_owned()),
            right: Some(obstacle.right),
            named,
            ..Self::path(&obstacle.path)
        }
    }
    /// The path as the service names it: a change walks from there, and meets the links on the way.
    pub fn named(&self) -> Option<&str> {
        self.named.as_deref().or(self.path.as_deref())
    }
    /// Whether both are about the same thing, by whatever name it was reached.
    pub fn is_same(&self, other: &Self) -> bool {
        let bare = |one: &Self| Self { named: None, fault: None, ..one.clone() };
        bare(self) == bare(other)
    }
    /// A unit.
    pub fn unit(unit: &str) -> Self {
        Self { unit: Some(unit.to_owned()), ..Self::default() }
    }
    /// In a few words.
    pub fn spelled(&self) -> String {
        match (self.address, self.port, &self.path, &self.unit, &self.directive) {
            (Some(address), Some(port), ..) => endpoint(address, port),
            (None, Some(port), ..) => format!("port {port}"),
            (Some(address), None, None, None, None) => address.to_string(),
            (_, _, Some(path), ..) => path.clone(),
            (_, _, _, Some(unit), _) => unit.clone(),
            (.., Some(directive)) => directive.clone(),
            _ => String::new(),
        }
    }
}

/// How a finding is known.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Proof {
    /// Only lines that the service's account could have written say so, about something that neither
    /// configuration nor unit nor package name: testimony, and never the object of a fix.
    Claimed,
    /// The same, but the service's own configuration names it, which its account could have written, too, or
    /// nobody knows its configuration: no more certain, and still a reason that stands.
    Echoed,
    /// The log said so; nothing on the host confirms or denies it.
    Said,
    /// The log said so, and it is no longer true.
    Past,
    /// It is true now.
    Now,
    /// The kernel or the parser proves that the next start fails.
    Inevitable,
}

impl Proof {
    /// Whether it could be an invention, or is over.
    pub fn is_weak(self) -> bool {
        matches!(self, Self::Claimed | Self::Echoed | Self::Past)
    }
}

/// One thing a check found.
#[derive(Clone, Debug)]
pub struct Finding {
    /// What.
    pub code: Code,
    /// How bad.
    pub severity: Severity,
    /// About what.
    pub subject: Subject,
    /// One sentence.
    pub title: String,
    /// How it is known.
    pub proof: Proof,
    /// Evidence.
    pub evidence: Vec<Evidence>,
    /// Fixes, least dangerous first.
    pub fixes: Vec<&'static str>,
    /// Whether it keeps the service from starting or answering.
    pub blocks: bool,
    /// When in a start it strikes: smaller is earlier.
    pub stage: u8,
}

impl Finding {
    /// A fault of which the kernel or our own reading proves that the next start fails, without a fix.
    pub fn inevitable(
        code: Code,
        stage: u8,
        subject: Subject,
        title: String,
        evidence: Vec<Evidence>,
    ) -> Self {
        Self {
            code,
            severity: Severity::Error,
            subject,
            title,
            proof: Proof::Inevitable,
            evidence,
            fixes: vec![],
            blocks: true,
            stage,
        }
    }
}
