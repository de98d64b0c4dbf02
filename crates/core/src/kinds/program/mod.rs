//! Anything that the user describes in the services file. Its configuration is not understood, only found.
mod asked;

pub(super) use asked::guesses;

use super::{Instance, Kind, Profile};
use crate::config::Configuration;
use crate::log::{Catalogue, Grammar};
use crate::snapshot::Snapshot;

static GRAMMAR: Grammar = Grammar::new(crate::data!("kinds/program/log.json"));
static CATALOGUE: Catalogue = Catalogue::new(crate::data!("kinds/program/failures.json"));

static PROFILE: Profile = Profile::plain("program", &GRAMMAR, &CATALOGUE);

/// The kind `program`.
pub(super) struct Program;

impl Kind for Program {
    fn profile(&self) -> &'static Profile {
        &PROFILE
    }
    fn locate(&self, _: &Snapshot, _: &mut Instance) {}
    fn read(&self, snapshot: &Snapshot, instance: &Instance) -> Configuration {
        let mut found = Configuration { readable: true, ..Configuration::default() };
        if !instance.config.is_empty() && snapshot.exists(&instance.config) == Some(true) {
            found.model.files.push(instance.config.clone());
        }
        found.model.guesses = guesses(instance);
        found
    }
    fn is_main(&self, _: &[String]) -> bool {
        true
    }
}
