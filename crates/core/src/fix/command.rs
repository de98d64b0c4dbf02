//! Commands of the services file, and the runs of a service that no manager owns.
use crate::services_file::Described;
use serde::{Deserialize, Serialize};

/// What a command of the services file is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Purpose {
    /// It starts the service.
    Start,
    /// It stops the service.
    Stop,
    /// It makes the service read its configuration anew.
    Reload,
}

/// A command of the services file, ready to be run.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct CommandLine {
    /// Command line.
    pub command: String,
    /// Environment.
    pub environment: Vec<(String, String)>,
    /// Account; the caller's where there is none.
    pub account: Option<String>,
}

impl CommandLine {
    /// The command that the services file names for a purpose; `None` where it names none.
    pub fn of(described: &Described, purpose: Purpose) -> Option<Self> {
        let command = match purpose {
            Purpose::Start => &described.start,
            Purpose::Stop => &described.stop,
            Purpose::Reload => &described.reload,
        };
        Some(Self {
            command: command.clone()?,
            environment: described.environment.clone().into_iter().collect(),
            account: described.account.clone(),
        })
    }
}

/// A run of a service that no manager owns: its process, and when that started.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct RunMark {
    /// Process.
    pub pid: u32,
    /// Its start in clock ticks since boot.
    pub start_ticks: u64,
}
