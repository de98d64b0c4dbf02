//! Clearing the manager's record of failures.
use super::{Act, Back, Doing};
use crate::fix::WriteError;
use serde::{Deserialize, Serialize};

/// Clears the manager's record of failures.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ResetFailed {
    /// Unit.
    pub unit: String,
}

impl Act for ResetFailed {
    fn spelled(&self) -> String {
        format!("clear the manager's record of failures of {}", self.unit)
    }
    fn carry_out(&self, doing: &mut Doing) -> Result<(), WriteError> {
        doing.writer.reset_failed(&self.unit)
    }
    fn put_back(&self, _: &mut Back) -> Result<(), WriteError> {
        Ok(())
    }
}
