//! Any Java program that a script or a launcher starts. Its own configuration is not understood; its command
//! line is.
use super::{Instance, Kind, Profile};
use crate::config::entries::Book;
use crate::config::{Configuration, Demand, Resource};
use crate::log::{Catalogue, Grammar};
use crate::net::Listen;
use crate::path;
use crate::snapshot::Snapshot;
use std::net::{IpAddr, Ipv6Addr};

static GRAMMAR: Grammar = Grammar::new(crate::data!("kinds/java/log.json"));
/// A Java program is a program that nobody knows: what these say in general counts after the runtime's words.
static CATALOGUE: Catalogue =
    Catalogue::and_then(crate::data!("kinds/java/failures.json"), &super::program::CATALOGUE);
static PROFILE: Profile =
    Profile { programs: &["java", "jsvc"], on_java: true, ..Profile::plain("java", &GRAMMAR, &CATALOGUE) };

/// The kind `java`.
pub(super) struct Java;

/// What tells one Java program from another: its archive, or its main class.
pub(crate) fn what_it_runs(arguments: &[String]) -> Option<String> {
    let mut words = arguments.iter().skip(1);
    while let Some(word) = words.next() {
        match word.as_str() {
            "-jar" | "-m" | "--module" => return words.next().cloned(),
            "-cp" | "-classpath" | "--class-path" | "-p" | "--module-path" | "--add-opens"
            | "--add-exports" | "--add-modules" => drop(words.next()),
            // Those of the starter of services.
            "-home" | "-java-home" | "-pidfile" | "-user" | "-outfile" | "-errfile" | "-cwd"
            | "-procname" | "-wait" => drop(words.next()),
            option if option.starts_with('-') || option.starts_with('@') => {}
            class => return Some(class.to_owned()),
        }
    }
    None
}

/// Where the main class is looked for: the last class path of the command line, else that of the environment.
pub(crate) fn class_path(instance: &Instance) -> Vec<String> {
    let named = |at: usize| instance.command.get(at + 1).cloned();
    let option = instance
        .command
        .iter()
        .rposition(|w| matches!(w.as_str(), "-cp" | "-classpath" | "--class-path"))
        .and_then(named);
    let text = option.or_else(|| instance.environment.get("CLASSPATH").cloned()).unwrap_or_default();
    text.split(':').filter(|entry| entry.starts_with('/')).map(str::to_owned).collect()
}

/// What the options of the virtual machine ask for: the heap that is promised at once, and the one that is
/// set apart.
pub(super) fn demands(instance: &Instance) -> Vec<Demand> {
    let keys = ["JAVA_OPTS", "CATALINA_OPTS", "JDK_JAVA_OPTIONS", "JAVA_TOOL_OPTIONS"];
    let given = keys
        .iter()
        .filter_map(|k| instance.environment.get(*k))
        .flat_map(|v| v.split_whitespace().map(str::to_owned).collect::<Vec<_>>());
    let words: Vec<String> = given.chain(instance.command.iter().cloned()).collect();
    let last = |names: &[&str]| {
        words.iter().rev().find_map(|w| {
            names.iter().find_map(|n| {
                Some((w.clone(), crate::manager::size(&w.strip_prefix(n)?.to_ascii_uppercase())?))
            })
        })
    };
    let demand =
        |resource, (directive, amount): (String, u64)| Demand { resource, amount, directive, place: None };
    let first = last(&["-Xms", "-XX:InitialHeapSize="]).map(|found| demand(Resource::Memory, found));
    let most = last(&["-Xmx", "-XX:MaxHeapSize="]).map(|found| demand(Resource::AddressSpace, found));
    first.into_iter().chain(most).collect()
}

impl Kind for Java {
    fn profile(&self) -> &'static Profile {
        &PROFILE
    }
    fn application(&self, arguments: &[String]) -> Option<String> {
        what_it_runs(arguments)
    }
    fn locate(&self, _: &Snapshot, _: &mut Instance) {}
    fn read(&self, snapshot: &Snapshot, instance: &Instance) -> Configuration {
        let mut book = Book::new(snapshot, &instance.made_by_manager);
        book.out.readable = true;
        if !instance.config.is_empty() && snapshot.exists(&instance.config) == Some(true) {
            book.out.model.files.push(instance.config.clone());
        }
        // The usual way to name the port of an application that carries its own server.
        let port = instance
            .command
            .iter()
            .find_map(|w| w.strip_prefix("-Dserver.port=").or_else(|| w.strip_prefix("--server.port=")));
        if let Some(port) = port.and_then(|p| p.parse::<u16>().ok()).filter(|p| *p > 0) {
            book.listen(Listen::tcp(IpAddr::V6(Ipv6Addr::UNSPECIFIED), port, false), None, None, false, true);
        }
        book.out.model.guesses = crate::kinds::program::guesses(snapshot, instance);
        book.out.model.demands = demands(instance);
        book.close(|name| self.is_secret(name))
    }
    fn is_same_program(&self, instance: &Instance, arguments: &[String]) -> bool {
        match (what_it_runs(&instance.command), what_it_runs(arguments)) {
            (Some(own), Some(other)) => path::name(&own) == path::name(&other),
            _ => false,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::what_it_runs;

    #[test]
    fn the_archive_or_the_main_class_tells_programs_apart() {
        for (command, expected) in [
            (
                "java -Xmx1g -jar /opt/boarding/boarding.jar --server.port=8080",
                Some("/opt/boarding/boarding.jar"),
            ),
            ("java -cp /opt/a.jar:/opt/b.jar -Dx=1 ferries.Boarding start", Some("ferries.Boarding")),
            ("java -version", None),
        ] {
            let words: Vec<String> = command.split(' ').map(str::to_owned).collect();
            assert_eq!(what_it_runs(&words).as_deref(), expected, "{command}");
        }
    }
}
