//! Anything that the user describes in the services file. Its configuration is not understood, only found.
mod asked;
mod conceal;
mod named;

pub(super) use conceal::is_plain;

use super::{Instance, Kind, Profile};
use crate::application::{Form, conceal as application};
use crate::config::{Configuration, WantedListen};
use crate::log::{Catalogue, Grammar};
use crate::secrets::{Concealed, Text, spans};
use crate::snapshot::Snapshot;

static GRAMMAR: Grammar = Grammar::new(crate::data!("kinds/program/log.json"));
pub(super) static CATALOGUE: Catalogue = Catalogue::new(crate::data!("kinds/program/failures.json"));

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
        found.model.guesses = guesses(snapshot, instance);
        found
    }
    fn conceal(&self, text: &str, path: &str) -> Option<Concealed> {
        if Form::of(path) == Some(Form::Php) {
            return Some(application::of_script(text));
        }
        let mut found = conceal::conceal(text);
        application::leave(path, text, &mut found);
        // A number is plain, unless it stands beside the name of a secret.
        found.secret.extend(spans(text, Text::Settings));
        Some(found)
    }
    fn is_main(&self, _: &[String]) -> bool {
        true
    }
}

/// The files of configuration that such a program's command, environment and layout name.
pub(super) fn files(snapshot: &Snapshot, instance: &Instance) -> Vec<String> {
    named::files(snapshot, instance)
}

/// Files and directories that the configuration of such a program names as its logs.
pub(super) fn logs(snapshot: &Snapshot, instance: &Instance) -> Vec<String> {
    named::logs(snapshot, instance)
}

/// Listeners that a program which nobody knows seems to want: by its arguments and its environment, then by
/// the files of configuration that these name.
pub(super) fn guesses(snapshot: &Snapshot, instance: &Instance) -> Vec<WantedListen> {
    let mut all = asked::guesses(instance);
    for more in named::guesses(snapshot, instance) {
        if !all
            .iter()
            .any(|known| known.listen.port == more.listen.port && known.listen.path == more.listen.path)
        {
            all.push(more);
        }
    }
    all
}
