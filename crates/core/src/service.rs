//! Which server daemons are on this host: from units, from the services file, from running processes.
use crate::accounts;
use crate::config::{Configuration, Place, propose};
use crate::host::{Look, Process};
use crate::kinds::{self, Instance, Kind};
use crate::manager::{self, InitScript, Unit};
use crate::path;
use crate::services_file::{Described, ServicesFile};
use crate::snapshot::Snapshot;
use std::collections::BTreeMap;
use std::sync::Arc;

/// One daemon, as the host and the user describe it.
#[derive(Clone)]
pub struct Service {
    /// Name: that of its unit without `.service`, or of the services file.
    pub name: String,
    /// Other names that lead to it.
    pub aliases: Vec<String>,
    /// Kind.
    pub kind: &'static dyn Kind,
    /// Its unit file, if it has one.
    pub unit: Option<Unit>,
    /// The init script that starts it, where no unit does.
    pub script: Option<InitScript>,
    /// What the services file says.
    pub described: Described,
    /// How to read its configuration.
    pub instance: Instance,
}

impl std::fmt::Debug for Service {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Service")
            .field("name", &self.name)
            .field("kind", &self.kind.name())
            .finish_non_exhaustive()
    }
}

impl Service {
    /// What its configuration says, read once a snapshot.
    pub fn configuration(&self, snapshot: &Snapshot) -> Arc<Configuration> {
        let name = format!(
            "{} {} {} {}",
            self.kind.name(),
            self.name,
            self.instance.config,
            self.instance.command.join(" ")
        );
        snapshot.derived(&name, || {
            let mut read = self.kind.read(snapshot, &self.instance);
            propose(snapshot, self.kind, &self.instance, &mut read);
            read
        })
    }

    /// Name of its unit, with suffix.
    pub fn unit_name(&self) -> Option<&str> {
        self.unit.as_ref().map(|u| u.name.as_str())
    }

    /// Whether the manager's "started" means that it is ready: it is told so, or the start command ends when
    /// it is.
    pub fn reports_ready(&self) -> bool {
        let Some(unit) = &self.unit else { return false };
        match unit.start_type().as_str() {
            "notify" | "notify-reload" | "dbus" | "oneshot" => true,
            // A script answers when it has said its word, whatever becomes of what it started.
            "forking" => !self.kind.profile().on_java && !self.is_started_by_script(),
            _ => false,
        }
    }

    /// Whether its unit is one that the manager made from an init script.
    fn is_started_by_script(&self) -> bool {
        self.unit.as_ref().and_then(script_name).is_some()
    }

    /// Whether something starts it at boot, as far as files tell; `None` where nothing is known to.
    pub fn boots(&self) -> Option<bool> {
        self.unit.as_ref().map(|u| u.enabled).or_else(|| self.script.as_ref().map(|s| s.enabled))
    }

    /// The executable that runs in the end, where it can be told.
    pub fn program(&self) -> Option<&str> {
        self.instance.command.first().map(String::as_str)
    }

    /// Whether a process of this name can be its: a name of its kind, or its own program's, which the kernel
    /// cuts to 15 bytes.
    pub fn has_name(&self, name: &str) -> bool {
        let program = self.program().map(path::name).unwrap_or_default();
        self.kind.runs(name) || program.get(..program.len().min(15)) == Some(name)
    }

    /// Whether a process was started from this very service's program. Several copies of one daemon stay
    /// apart by that where no manager tells; a control script starts another program, so there the kind
    /// decides.
    pub fn started(&self, process: &Process) -> bool {
        let Some(program) = self.program() else { return false };
        let first = process.arguments.first().map_or("", String::as_str);
        let executable = process.executable.as_deref().unwrap_or_default();
        let by_script = path::name(program).ends_with("ctl");
        let itself = program == first
            || program == executable
            || process.arguments.get(1).is_some_and(|a| a == program);
        if by_script { self.runs_as(process) } else { itself && self.kind.is_main(&process.arguments) }
    }

    /// Whether a process is this daemon: by its executable, or by its pid file for described programs.
    pub fn runs_as(&self, process: &Process) -> bool {
        if !self.kind.is_main(&process.arguments) {
            return false;
        }
        let own: Vec<&str> = self.program().into_iter().collect();
        let executable = process.executable.as_deref().unwrap_or_default().trim_end_matches(" (deleted)");
        let first = process.arguments.first().map_or("", String::as_str);
        if self.kind.profile().programs.is_empty() {
            let program = own.first().copied().unwrap_or_default();
            // What an interpreter runs tells one from the other, not the interpreter.
            if manager::is_interpreter(program) {
                let mine = manager::script_of(&self.instance.command);
                return mine.is_some() && mine == manager::script_of(&process.arguments);
            }
            return !program.is_empty()
                && (program == executable
                    || program == first
                    || process.arguments.iter().take(2).any(|a| a == program));
        }
        if !self.kind.is_same_program(&self.instance, &process.arguments) {
            return false;
        }
        let by_name = |p: &str| self.kind.runs(path::name(p)) && !path::name(p).ends_with("ctl");
        by_name(executable)
            || by_name(first.split([':', ' ']).next().unwrap_or_default())
            || own.contains(&executable)
            || own.contains(&first)
    }
}

/// All services that can be found, in the order of their names.
pub fn find(snapshot: &Snapshot, file: &ServicesFile) -> Vec<Service> {
    let mut found: Vec<Service> = Vec::new();
    let programs: Vec<&str> =
        kinds::KINDS.iter().flat_map(|k| k.profile().programs.iter().map(|p| p.trim_matches('*'))).collect();
    let units = if file.only_these { Vec::new() } else { manager::service_names(snapshot) };
    for name in units {
        let known = kinds::KINDS.iter().any(|k| k.owns(&name));
        if !known && !manager::mentions(snapshot, &name, &programs) {
            continue;
        }
        let Look::Seen(unit) = manager::unit(snapshot, &name) else { continue };
        if unit.name != name && found.iter().any(|s| s.unit_name() == Some(unit.name.as_str())) {
            if let Some(service) = found.iter_mut().find(|s| s.unit_name() == Some(unit.name.as_str())) {
                service.aliases.push(name.trim_end_matches(".service").to_owned());
            }
            continue;
        }
        if let Some(service) = of_unit(snapshot, unit, None)
            && !found.iter().any(|s| s.name == service.name)
        {
            found.push(service);
        }
    }
    let instances = if file.only_these {
        Vec::new()
    } else {
        kinds::KINDS.iter().flat_map(|k| k.instances(snapshot)).collect()
    };
    for (name, boots) in instances {
        if found.iter().any(|s| s.unit_name() == Some(name.as_str())) {
            continue;
        }
        if let Look::Seen(mut unit) = manager::unit(snapshot, &name) {
            // The generator that would make the link has not run here: the umbrella unit and the instance's
            // own word decide.
            let umbrella = unit.value("Unit", "PartOf").and_then(|u| manager::unit(snapshot, &u).seen());
            unit.enabled |= boots && umbrella.is_none_or(|u| u.enabled);
            found.extend(of_unit(snapshot, unit, None));
        }
    }
    let scripts = if file.only_these { Vec::new() } else { manager::script_names(snapshot) };
    for name in scripts {
        if found.iter().all(|s| s.name != name && !s.aliases.contains(&name)) {
            found.extend(of_script(snapshot, &name));
        }
    }
    for (name, described) in &file.service {
        let unit_name = described.unit.clone().unwrap_or_else(|| name.clone());
        let unit_name = if unit_name.contains('.') { unit_name } else { format!("{unit_name}.service") };
        if let Some(at) =
            found.iter().position(|s| s.name == *name || s.unit_name() == Some(unit_name.as_str()))
        {
            let unit = found.remove(at).unit;
            if let Some(unit) = unit
                && let Some(service) = of_unit(snapshot, unit, Some((name, described)))
            {
                found.push(service);
            }
            continue;
        }
        let unit = manager::unit(snapshot, &unit_name).seen();
        match unit {
            Some(unit) => found.extend(of_unit(snapshot, unit, Some((name, described)))),
            None => found.push(of_description(snapshot, name, described)),
        }
    }
    umbrellas(&mut found);
    if !file.only_these {
        strays(snapshot, &mut found);
    }
    found.sort_by(|a, b| a.name.cmp(&b.name));
    found
}

/// An umbrella unit with a single instance is another name for that instance.
fn umbrellas(found: &mut [Service]) {
    let umbrella = |s: &Service| {
        s.unit.as_ref().filter(|u| u.name.contains('@')).and_then(|u| u.value("Unit", "PartOf"))
    };
    let all: Vec<Option<String>> = found.iter().map(umbrella).collect();
    for (service, own) in found.iter_mut().zip(&all) {
        if let Some(own) = own.as_ref().filter(|o| all.iter().flatten().filter(|a| a == o).count() == 1) {
            service.aliases.push(own.trim_end_matches(".service").to_owned());
        }
    }
}

/// One service by its name, without looking at all the others where its unit says enough.
pub fn named(snapshot: &Snapshot, file: &ServicesFile, name: &str) -> Option<Service> {
    // What starts a service by itself stands for that.
    let started = (!file.only_these).then(|| started_by(snapshot, name)).flatten();
    let plain = started.as_deref().unwrap_or(name).trim_end_matches(".service");
    // A template starts nothing before it has an instance; one for the connections of a socket has them all.
    if let Some(stem) = plain.strip_suffix('@')
        && !file.service.contains_key(plain)
    {
        return of_connections(snapshot, stem);
    }
    if file.only_these {
        return find(snapshot, file)
            .into_iter()
            .find(|s| s.name == plain || s.aliases.iter().any(|a| a == plain));
    }
    if !file.service.contains_key(plain)
        && !plain.is_empty()
        && !plain.contains('/')
        && let Look::Seen(unit) = manager::unit(snapshot, &format!("{plain}.service"))
        && let Some(service) = of_unit(snapshot, unit, None)
    {
        let shadowed = file.service.iter().any(|(n, d)| d.unit.as_deref().unwrap_or(n) == service.name);
        if !shadowed {
            return Some(service);
        }
    }
    if !file.service.contains_key(plain)
        && !plain.contains('/')
        && let Some(service) = of_script(snapshot, plain)
    {
        return Some(service);
    }
    let mut found = find(snapshot, file);
    if let Some(at) = found.iter().position(|s| s.name == plain || s.aliases.iter().any(|a| a == plain)) {
        return Some(found.swap_remove(at));
    }
    let unit_name = format!("{plain}.service");
    // Which of several instances is meant is a person's word.
    let part = |s: &Service| {
        s.unit.as_ref().and_then(|u| u.value("Unit", "PartOf")).is_some_and(|of| of == unit_name)
    };
    if plain.is_empty() || plain.contains('/') || found.iter().any(part) {
        return None;
    }
    if let Some(unit) = manager::unit(snapshot, &unit_name).seen() {
        return of_any_unit(snapshot, unit);
    }
    of_connections(snapshot, plain).or_else(|| script_of(snapshot, plain, true))
}

/// The template of which each connection to the socket unit of a name gets an instance (`Accept=`).
fn of_connections(snapshot: &Snapshot, stem: &str) -> Option<Service> {
    let socket = manager::unit(snapshot, &format!("{stem}.socket")).seen()?;
    let template = manager::service_of(&socket).filter(|t| *t == format!("{stem}@.service"))?;
    of_any_unit(snapshot, manager::unit(snapshot, &template).seen()?)
}

/// The instances of a template that something starts at boot, by `NAME` or `NAME@`; `None` where there is no
/// such template.
pub fn instances_of(snapshot: &Snapshot, name: &str) -> Option<Vec<String>> {
    let stem = name.trim_end_matches(".service").trim_end_matches('@');
    if stem.contains(['/', '@']) || stem.is_empty() {
        return None;
    }
    manager::unit(snapshot, &format!("{stem}@.service")).seen()?;
    let mine = |unit: &String| unit.split_once('@').is_some_and(|(template, _)| template == stem);
    let all = manager::service_names(snapshot).into_iter().filter(mine);
    Some(all.map(|unit| unit.trim_end_matches(".service").to_owned()).collect())
}

/// The service that a socket, timer or path unit starts (`Service=`, `Unit=`, else the one of its name).
fn started_by(snapshot: &Snapshot, name: &str) -> Option<String> {
    let (stem, suffix) = name.rsplit_once('.')?;
    let section = match suffix {
        "socket" => return manager::service_of(&manager::unit(snapshot, name).seen()?),
        "timer" => "Timer",
        "path" => "Path",
        _ => return None,
    };
    let unit = manager::unit(snapshot, name).seen()?;
    Some(unit.value(section, "Unit").unwrap_or_else(|| format!("{stem}.service")))
}

/// Whether a word stands for a service's kind: the kind's own name, a flavour, a package, or what its
/// programs are called (`postgres`, `apache`, `php-fpm`).
pub fn is_of_kind(service: &Service, word: &str) -> bool {
    let profile = service.kind.profile();
    let names = [&[profile.name][..], profile.programs, profile.flavours, profile.packages].concat();
    // A pattern stands for several releases: only what they have in common is a name of all.
    names
        .iter()
        .map(|name| name.trim_end_matches('*'))
        .any(|stem| !word.is_empty() && (stem == word || (word.len() >= 5 && stem.starts_with(word))))
}

/// The init script of a unit that the manager made from one: it starts the script, and the daemon is what the
/// script starts.
pub(crate) fn script_behind(snapshot: &Snapshot, unit: &Unit) -> Option<InitScript> {
    manager::script(snapshot, &script_name(unit)?).seen()
}

/// The name of the init script that a unit starts.
fn script_name(unit: &Unit) -> Option<String> {
    let commands = unit.commands("ExecStart");
    commands.first()?.words.first()?.strip_prefix("/etc/init.d/").map(str::to_owned)
}

/// A unit whose kind is known, or that the services file describes.
fn of_unit(snapshot: &Snapshot, unit: Unit, described: Option<(&String, &Described)>) -> Option<Service> {
    let described_as = described.and_then(|(_, d)| d.kind.as_deref()).and_then(kinds::kind);
    let commands = unit.commands("ExecStart");
    let script = script_behind(snapshot, &unit);
    let of_command = |words: &[String]| kinds::of_command_here(snapshot, words);
    let script_program = script.as_ref().and_then(|s| of_command(&s.command));
    let by_program = commands.iter().find_map(|c| of_command(&kinds::unwrapped(&c.words))).or(script_program);
    let by_name = kinds::KINDS.iter().copied().find(|k| k.owns(&unit.name));
    let kind = described_as.or(by_program).or(by_name)?;
    // A helper unit that only runs something of the daemon once is not the daemon.
    let one_shot = unit.value("Service", "Type").as_deref() == Some("oneshot");
    if one_shot && described.is_none() {
        return None;
    }
    let words = script.map(|s| s.command).filter(|c| !c.is_empty());
    let words = words.or_else(|| commands.first().map(|c| kinds::unwrapped(&c.words))).unwrap_or_default();
    let mut surroundings = environment_of(snapshot, &unit);
    // Such a server is started by a script, which takes its options and its runtime out of other files.
    if kind.profile().on_java
        && let Some(first) = commands.first()
        && let Some((variables, files)) = manager::taken_in(snapshot, &first.words, &surroundings.0)
    {
        surroundings.0 = variables;
        surroundings.1.extend(files);
    }
    Some(made_of(snapshot, unit, kind, words, surroundings, described))
}

/// Any unit, for whoever names it: its kind is that of what it runs in the end, behind shells and scripts.
pub(crate) fn of_any_unit(snapshot: &Snapshot, unit: Unit) -> Option<Service> {
    let program = kinds::kind("program")?;
    let first = unit.commands("ExecStart").into_iter().next().map(|c| c.words).unwrap_or_default();
    let (environment, mut files) = environment_of(snapshot, &unit);
    let script = script_behind(snapshot, &unit).filter(|script| !script.command.is_empty());
    let (words, read) = match script {
        Some(script) => (script.command, vec![script.file]),
        None => manager::launched(snapshot, &first, &environment),
    };
    files.extend(read);
    let kind = kinds::of_command_here(snapshot, &words).unwrap_or(program);
    Some(made_of(snapshot, unit, kind, words, (environment, files), None))
}

/// The environment of a service, and the files that it and the command come from.
type Surroundings = (BTreeMap<String, String>, Vec<String>);

/// The environment of a unit, and the files that it comes from.
fn environment_of(snapshot: &Snapshot, unit: &Unit) -> Surroundings {
    let mut environment = unit.environment();
    let files: Vec<String> = unit.environment_files().into_iter().map(|(file, _)| file).collect();
    for file in &files {
        for line in snapshot.text(file).seen().unwrap_or_default().lines() {
            let line = line.trim();
            if let Some((key, value)) = line.split_once('=').filter(|_| !line.starts_with(['#', ';'])) {
                environment.insert(key.trim().to_owned(), value.trim().trim_matches(['"', '\'']).to_owned());
            }
        }
    }
    (environment, files)
}

/// The service that a unit starts with these words.
fn made_of(
    snapshot: &Snapshot,
    unit: Unit,
    kind: &'static dyn Kind,
    words: Vec<String>,
    (environment, variables): Surroundings,
    described: Option<(&String, &Described)>,
) -> Service {
    let made = unit.own_directories();
    let start_uid = match unit.value("Service", "User") {
        Some(user) => accounts::account(snapshot, &user).seen().map_or(u32::MAX, |a| a.uid),
        None => 0,
    };
    let command_place = unit.commands("ExecStart").first().map(|c| Place {
        file: c.file.as_str().into(),
        line: c.line,
        column: 0,
        end_column: 0,
    });
    let command =
        words.into_iter().map(|w| expand_variables(&w, &environment)).filter(|w| !w.is_empty()).collect();
    let mut instance = Instance {
        command,
        command_place,
        environment,
        variables,
        start_uid,
        made_by_manager: made,
        ..Instance::default()
    };
    let empty = Described::default();
    let (name, description) = described
        .map_or_else(|| (unit.name.trim_end_matches(".service").to_owned(), &empty), |(n, d)| (n.clone(), d));
    if let Some(config) = description.config.first() {
        instance.config.clone_from(config);
    }
    kind.locate(snapshot, &mut instance);
    let mut aliases: Vec<String> =
        unit.aliases.iter().map(|a| a.trim_end_matches(".service").to_owned()).collect();
    aliases.extend(unit.values("Install", "Alias").iter().flat_map(|a| {
        a.split_whitespace().map(|w| w.trim_end_matches(".service").to_owned()).collect::<Vec<_>>()
    }));
    let own = unit.name.trim_end_matches(".service").to_owned();
    if own != name {
        aliases.push(own);
    }
    Service { name, aliases, kind, unit: Some(unit), script: None, described: description.clone(), instance }
}

/// A service that only an init script starts; none where a unit of that name says something else, or nothing
/// may start it.
fn of_script(snapshot: &Snapshot, name: &str) -> Option<Service> {
    script_of(snapshot, name, false)
}

/// A service of whatever kind that an init script alone starts for good.
pub(crate) fn of_any_script(snapshot: &Snapshot, name: &str) -> Option<Service> {
    script_of(snapshot, name, true).filter(|s| s.script.as_ref().is_some_and(|script| script.daemon))
}

/// The same, of whatever kind where any is meant.
fn script_of(snapshot: &Snapshot, name: &str, any: bool) -> Option<Service> {
    if !manager::unit(snapshot, &format!("{name}.service")).is_absent() {
        return None;
    }
    let script = manager::script(snapshot, name).seen()?;
    let kind = kinds::of_command_here(snapshot, &script.command)
        .or_else(|| kinds::kind("program").filter(|_| any))?;
    let described = Described {
        start: Some(format!("{} start", script.file)),
        stop: Some(format!("{} stop", script.file)),
        reload: Some(format!("{} reload", script.file)),
        pid_file: script.pid_file.clone(),
        ..Described::default()
    };
    let start_uid =
        script.account.as_ref().and_then(|a| accounts::account(snapshot, a).seen()).map_or(0, |a| a.uid);
    let mut instance = Instance { command: script.command.clone(), start_uid, ..Instance::default() };
    kind.locate(snapshot, &mut instance);
    Some(Service {
        name: name.to_owned(),
        aliases: Vec::new(),
        kind,
        unit: None,
        script: Some(script),
        described,
        instance,
    })
}

/// `$NAME` and `${NAME}` as the manager puts them into command lines.
fn expand_variables(word: &str, environment: &BTreeMap<String, String>) -> String {
    if let Some(name) = word.strip_prefix("${").and_then(|w| w.strip_suffix('}')).or(word.strip_prefix('$'))
        && name.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'_')
    {
        return environment.get(name).cloned().unwrap_or_default();
    }
    word.to_owned()
}

fn of_description(snapshot: &Snapshot, name: &str, described: &Described) -> Service {
    let kind = described.kind.as_deref().and_then(kinds::kind).or_else(|| kinds::kind("program"));
    let kind = kind.unwrap_or(kinds::KINDS[0]);
    let command = described.start.as_deref().map(manager::split_words).unwrap_or_default();
    let start_uid = match &described.account {
        Some(account) => accounts::account(snapshot, account).seen().map_or(u32::MAX, |a| a.uid),
        None => snapshot.myself().seen().map_or(0, |m| m.uid),
    };
    let mut instance =
        Instance { command, environment: described.environment.clone(), start_uid, ..Instance::default() };
    if let Some(config) = described.config.first() {
        instance.config.clone_from(config);
    }
    kind.locate(snapshot, &mut instance);
    Service {
        name: name.to_owned(),
        aliases: Vec::new(),
        kind,
        unit: None,
        script: None,
        described: described.clone(),
        instance,
    }
}

/// Daemons of a known kind that run although nothing describes them.
fn strays(snapshot: &Snapshot, found: &mut Vec<Service>) {
    let Look::Seen(processes) = snapshot.processes() else { return };
    for brief in &processes {
        if brief.state == 'Z' || !kinds::KINDS.iter().any(|k| k.runs(&brief.name)) {
            continue;
        }
        let Look::Seen(process) = snapshot.process(brief.pid) else { continue };
        if !process.own_root {
            snapshot.unseen(format!("{} in a container of its own", brief.name));
            continue;
        }
        let mut command = process.arguments.clone();
        if let (Some(first), Some(executable)) = (command.first_mut(), &process.executable) {
            first.clone_from(executable);
        }
        let Some(kind) = kinds::of_command(&command).filter(|k| k.is_main(&process.arguments)) else {
            continue;
        };
        let known = found
            .iter()
            .any(|s| s.kind.name() == kind.name() && s.kind.is_same_program(&s.instance, &process.arguments));
        if known {
            continue;
        }
        let mut instance =
            Instance { command, start_uid: brief.uid, by_process: Some(brief.uid), ..Instance::default() };
        kind.locate(snapshot, &mut instance);
        found.push(Service {
            name: stray_name(kind, &process.arguments, &brief.name),
            aliases: vec![],
            kind,
            unit: None,
            script: None,
            described: Described::default(),
            instance,
        });
    }
}

/// A name for what nobody named: that of its program, or of what a runtime carries.
fn stray_name(kind: &dyn Kind, arguments: &[String], process: &str) -> String {
    let application = kind.application(arguments);
    application.map_or_else(|| process.to_owned(), |c| path::name(&c).trim_end_matches(".jar").to_owned())
}
