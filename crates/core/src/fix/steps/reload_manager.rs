//! Making the manager read its files anew.
use super::{Act, Back, Doing};
use crate::fix::WriteError;
use serde::{Deserialize, Serialize};

/// Makes the manager read its files anew.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ReloadManager {}

impl Act for ReloadManager {
    fn spelled(&self) -> String {
        "make the manager read its unit files anew".into()
    }
    fn reloads(&self) -> bool {
        true
    }
    fn carry_out(&self, doing: &mut Doing) -> Result<(), WriteError> {
        doing.writer.reload_manager()
    }
    fn put_back(&self, _: &mut Back) -> Result<(), WriteError> {
        Ok(())
    }
}
