//! Exit statuses: what a script learns without reading.
use std::process::ExitCode;

/// How the program ends.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Status {
    /// Nothing is wrong.
    Well = 0,
    /// A problem was found.
    Problem = 1,
    /// The call was wrong.
    Usage = 2,
    /// The answer itself could not be found out.
    NotSeen = 3,
    /// A change was refused or rolled back.
    Refused = 4,
}

impl From<Status> for ExitCode {
    fn from(status: Status) -> Self {
        Self::from(status as u8)
    }
}
