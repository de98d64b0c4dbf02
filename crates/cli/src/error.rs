//! The one error at the border: what went wrong, what to do about it, and the exit status.
use crate::exit::Status;

/// An error that ends a command.
#[derive(Debug, thiserror::Error)]
#[error("{message}")]
pub(crate) struct CliError {
    pub(crate) status: Status,
    pub(crate) message: String,
    pub(crate) hint: Option<String>,
}

impl CliError {
    pub(crate) fn usage(message: impl Into<String>) -> Self {
        Self { status: Status::Usage, message: message.into(), hint: None }
    }
    pub(crate) fn not_seen(message: impl Into<String>) -> Self {
        Self { status: Status::NotSeen, message: message.into(), hint: None }
    }
    pub(crate) fn refused(message: impl Into<String>) -> Self {
        Self { status: Status::Refused, message: message.into(), hint: None }
    }
    pub(crate) fn hint(mut self, hint: impl Into<String>) -> Self {
        self.hint = Some(hint.into());
        self
    }
}

impl From<std::io::Error> for CliError {
    fn from(error: std::io::Error) -> Self {
        Self::not_seen(error.to_string())
    }
}
