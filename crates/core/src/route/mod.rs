//! From a request to what answers it: a daemon's own choice of site, of location and of handler, as far as
//! its configuration and the host's files decide it. Each kind chooses by its own rules (`Kind::route`); what
//! comes of it has one form.
mod files;
mod node;
mod pattern;
pub mod uri;
mod url;

pub use files::{Files, Met};
pub use node::{Grown, Node};
pub use pattern::Groups;
pub use url::{NotAsked, Url};

use crate::config::{Place, Upstream};
use std::net::IpAddr;

/// A request as it arrives.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Request {
    /// The address of this host that it comes in on.
    pub address: IpAddr,
    /// The port.
    pub port: u16,
    /// The address that it comes from.
    pub client: IpAddr,
    /// Whether it comes over TLS.
    pub tls: bool,
    /// The `Host` header, as sent.
    pub host: String,
    /// Path and query, as sent.
    pub target: String,
    /// The `User-Agent` header.
    pub agent: String,
}

impl Request {
    /// The host of the `Host` header: small letters, no port, no dot at its end.
    pub fn host_name(&self) -> String {
        let host = match self.host.strip_prefix('[') {
            Some(_) => self.host.split_inclusive(']').next().unwrap_or_default(),
            None => self.host.split(':').next().unwrap_or_default(),
        };
        host.trim_end_matches('.').to_ascii_lowercase()
    }
}

/// What a step on the way is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum StepKind {
    /// The site was chosen.
    Site,
    /// A location, or the folder rules, were chosen.
    Location,
    /// The request was rewritten, or led on inside the daemon.
    Led,
}

/// One step on the way.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Step {
    /// Which.
    pub kind: StepKind,
    /// In a few words.
    pub what: String,
    /// The line that decided it.
    pub place: Option<Place>,
}

/// Protocol that a front speaks to what is behind it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Speaks {
    /// HTTP/1.
    Http,
    /// HTTP/1 over TLS.
    Https,
    /// FastCGI.
    FastCgi,
    /// The uwsgi protocol.
    Uwsgi,
    /// SCGI.
    Scgi,
    /// gRPC over HTTP/2.
    Grpc,
    /// The memcached protocol.
    Memcached,
    /// AJP 1.3.
    Ajp,
}

impl Speaks {
    /// Its name in sentences.
    pub fn spelled(self) -> &'static str {
        match self {
            Self::Http => "HTTP",
            Self::Https => "HTTPS",
            Self::FastCgi => "FastCGI",
            Self::Uwsgi => "uwsgi",
            Self::Scgi => "SCGI",
            Self::Grpc => "gRPC",
            Self::Memcached => "memcached",
            Self::Ajp => "AJP",
        }
    }
}

/// A request that is passed on.
#[derive(Clone, Debug)]
pub struct Pass {
    /// In which protocol.
    pub speaks: Speaks,
    /// To whom, as the configuration spells it.
    pub to: String,
    /// The addresses behind that; empty where a name leads to no address that is known here.
    pub members: Vec<Upstream>,
    /// The line.
    pub place: Place,
    /// The script that is asked for, of gateways.
    pub script: Option<String>,
    /// Path and query as they are passed on.
    pub target: Option<String>,
    /// The `Host` header as it is passed on.
    pub host: Option<String>,
}

/// How a way through a daemon ends.
#[derive(Clone, Debug)]
pub enum End {
    /// A file is sent.
    File {
        /// Its path.
        path: String,
    },
    /// A directory is listed.
    Listing {
        /// Its path.
        path: String,
    },
    /// Nothing is there.
    Missing {
        /// The path that was looked for last.
        path: String,
    },
    /// The daemon's account may not read what is there.
    Unreadable {
        /// The path that was looked for.
        path: String,
    },
    /// A directory has no index file, and listing it is not allowed.
    NoIndex {
        /// The directory.
        path: String,
        /// Names that would do.
        tried: Vec<String>,
    },
    /// It is passed on.
    Pass(Box<Pass>),
    /// The daemon answers by itself, as its configuration says.
    Answer {
        /// The `Location` header of a redirect.
        location: Option<String>,
        /// The directive that says so; empty where it is built in.
        directive: &'static str,
        /// The line.
        place: Option<Place>,
    },
    /// A rule denies it.
    Denied {
        /// The rule.
        rule: String,
        /// The directive that says so; empty where it is built in.
        directive: String,
        /// Its line.
        place: Option<Place>,
    },
    /// The daemon's own code answers.
    Handler {
        /// Its name.
        name: String,
        /// The line.
        place: Option<Place>,
    },
    /// A file that overrides settings of its folder is broken.
    Override {
        /// What is wrong.
        why: String,
        /// The line.
        place: Place,
    },
    /// It was led in a circle.
    Circle,
    /// What cannot be decided from here.
    Undecided {
        /// What it is.
        what: String,
        /// The line.
        place: Option<Place>,
    },
}

/// The way of a request through one daemon.
#[derive(Clone, Debug)]
pub struct Route {
    /// The steps, in order.
    pub steps: Vec<Step>,
    /// How it ends.
    pub end: End,
    /// The status that the daemon answers with, where it decides that itself.
    pub status: Option<u16>,
    /// A failure that was met on the way and led on to another page: its status, and how that way ended.
    pub because: Option<(u16, Box<End>)>,
    /// Where the site, location or folder begins that it ended in.
    pub place: Option<Place>,
    /// Logs of errors in force where it ended.
    pub error_logs: Vec<String>,
    /// Logs of requests in force where it ended.
    pub access_logs: Vec<String>,
}

impl Route {
    /// A way of which nothing more is known than what could not be decided.
    pub fn undecided(what: String, place: Option<Place>) -> Self {
        Self {
            steps: Vec::new(),
            end: End::Undecided { what, place },
            status: None,
            because: None,
            place: None,
            error_logs: Vec::new(),
            access_logs: Vec::new(),
        }
    }
}

#[cfg(test)]
mod tests;
