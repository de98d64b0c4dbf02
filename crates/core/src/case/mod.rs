//! Everything a diagnosis looks at for one service, gathered once: state, processes, wanted listeners with
//! their holders, configuration, attempts.
mod last_start;
mod logs;
mod places;

pub use logs::{LogRemark, Logs, log_files, log_remarks, logs};
pub use places::is_system;

use crate::accounts::{self, Account};
use crate::bounds::step;
use crate::config::{Configuration, Place, Speaks, WantedListen};
use crate::host::{Look, Process, Protocol, Socket, UnitState};
use crate::log::{self, Attempt, AttemptRequest, Outcome};
use crate::net::Listen;
use crate::path;
use crate::service::Service;
use crate::snapshot::Snapshot;
use jiff::tz::TimeZone;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::{HashMap, HashSet};
use std::sync::Arc;

/// State of a service, from manager, processes and sockets together.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum State {
    /// Up.
    Running,
    /// Coming up.
    Starting,
    /// The manager tries again and again.
    Restarting,
    /// Down, and that is no failure.
    Stopped,
    /// Down after a failure.
    Failed,
    /// Up, but not doing its work.
    Degraded,
    /// Nothing tells.
    Unknown,
}

/// Whether the holder of something comes back when it is stopped.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Returns {
    /// At the next boot.
    Boot,
    /// By itself, at once.
    Itself,
    /// It does not.
    No,
    /// Nothing tells.
    Unknown,
}

/// One link of the chain that started a process, nearest first.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub struct Link {
    /// `unit`, `timer`, `socket`, `path`, `init-script`, `session`, `container`, `terminal`, `process`,
    /// `login`.
    pub kind: String,
    /// Its name.
    pub name: String,
}

impl std::fmt::Display for Link {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{} {}", self.kind.replace('-', " "), self.name)
    }
}

/// What started a process, in a few words: its unit, with what makes the manager start that, or whatever else
/// comes first.
pub fn started_by(chain: &[Link]) -> Option<String> {
    let (first, rest) = chain.split_first()?;
    let trigger =
        rest.first().filter(|l| matches!(l.kind.as_str(), "timer" | "socket" | "path" | "init-script"));
    Some(trigger.map_or_else(|| first.to_string(), |trigger| format!("{first}, and that by {trigger}")))
}

/// A process that holds a socket.
#[derive(Clone, Debug)]
pub struct Holder {
    /// The process, the one that opened the socket first.
    pub process: Process,
    /// The socket.
    pub socket: Socket,
    /// Name of its account.
    pub user: String,
    /// What started it.
    pub chain: Vec<Link>,
    /// Its unit, if it has one.
    pub unit: Option<String>,
    /// Whether it comes back.
    pub returns: Returns,
    /// Connections on that port now.
    pub clients: Option<u32>,
    /// Further processes that hold the same socket.
    pub others: Vec<u32>,
}

/// A listener that the service wants, and who has it.
#[derive(Clone, Debug)]
pub struct Wanted {
    /// Address and port.
    pub listen: Listen,
    /// The line that asks for it.
    pub place: Option<Place>,
    /// Speaks TLS.
    pub tls: bool,
    /// What can be asked there.
    pub speaks: Speaks,
    /// Whether the daemon binds it by itself.
    pub bound: bool,
    /// Foreign holders that exclude it.
    pub held_by: Vec<Holder>,
    /// Sockets that exclude it, and that no process that can be seen holds.
    pub held_unseen: Vec<Socket>,
    /// Whether a process of the service has it, or the manager for it.
    pub served: bool,
    /// Whether something has it that may well be the service's own: its holder cannot be seen from this
    /// account.
    pub unseen: bool,
    /// Whether the manager has it, and starts the service at its first client.
    pub activates: bool,
}

/// A service with all that is known of it.
pub struct Case<'s> {
    /// The service.
    pub service: &'s Service,
    /// The manager's view.
    pub manager: Look<Box<UnitState>>,
    /// Its configuration.
    pub config: Arc<Configuration>,
    /// Processes of the service's own, the main one first.
    pub processes: Vec<Process>,
    /// Processes of the same daemon that do not belong to the service.
    pub strays: Vec<Process>,
    /// Wanted listeners.
    pub wanted: Vec<Wanted>,
    /// What it seems to want, while it does not run, where nothing says what it really wants.
    pub guessed: Vec<Wanted>,
    /// Attempts, newest first.
    pub attempts: Vec<Attempt>,
    /// The account that runs the start command.
    pub starter: Account,
    /// State.
    pub state: State,
    /// Whether it is meant to run.
    pub meant_to_run: bool,
    /// Since when it is in this state, microseconds since the epoch.
    pub since: Option<i64>,
    /// Zone of the host.
    pub zone: TimeZone,
    /// Now, microseconds since the epoch.
    pub now: Option<i64>,
}

/// How much of the history is gathered.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Depth {
    /// State and sockets alone.
    State,
    /// What a diagnosis needs.
    Diagnosis,
}

/// Gathers a case.
pub fn gather<'s>(snapshot: &Snapshot, service: &'s Service, depth: Depth) -> Case<'s> {
    let manager = match service.unit_name() {
        Some(unit) => snapshot.unit(unit),
        None => Look::Absent,
    };
    let config = service.configuration(snapshot);
    for line in &config.not_seen {
        snapshot.unseen(line.clone());
    }
    if let Some(sentence) = &config.bounded {
        snapshot.bound(sentence.clone());
    }
    let (processes, strays) = processes(snapshot, service, manager.as_ref().seen().map(AsRef::as_ref));
    let wanted = held(snapshot, service, wishes(service, &config), &processes);
    let running = !processes.is_empty();
    // A word in the services file is better than any guess.
    let guesses: &[_] =
        if running || !wanted.is_empty() || depth != Depth::Diagnosis { &[] } else { &config.model.guesses };
    let guessed = held(snapshot, service, guesses.iter().map(wish).collect(), &processes);
    let attempts = if depth == Depth::Diagnosis {
        history(snapshot, service, &config, running, 5, false).list
    } else {
        Vec::new()
    };
    let starter = starter(snapshot, service);
    let unit_state = manager.as_ref().seen().map(AsRef::as_ref);
    let mut state = state(unit_state, &processes, &wanted, snapshot.sees_processes());
    // Some daemons stay up without a listener that they could not open; their log of this run says so.
    let complains =
        attempts.first().is_some_and(|a| a.ended.is_none() && a.failures.iter().any(log::Failure::is_cause));
    if state == State::Running
        && complains
        && wanted.iter().any(|w| w.bound && !w.served && !w.unseen && w.listen.protocol == Protocol::Tcp)
    {
        state = State::Degraded;
    }
    let meant_to_run = meant(service, unit_state, &attempts);
    let since = unit_state
        .and_then(|u| i64::try_from(u.state_changed).ok())
        .filter(|t| *t > 0)
        .or_else(|| processes.first().and_then(|p| p.started).map(|s| s * 1_000_000));
    Case {
        service,
        config,
        processes,
        strays,
        wanted,
        guessed,
        attempts,
        starter,
        state,
        meant_to_run,
        since,
        zone: log::host_zone(snapshot),
        now: snapshot.now(),
        manager,
    }
}

/// The zone of the stamps in a service's own log: as its configuration or its environment says, else the
/// host's.
pub fn log_zone(snapshot: &Snapshot, service: &Service, config: &Configuration) -> TimeZone {
    let named = config.model.log_zone.as_ref().or_else(|| service.instance.environment.get("TZ"));
    named.and_then(|tz| log::zone_named(snapshot, tz)).unwrap_or_else(|| log::host_zone(snapshot))
}

/// When a zone of the service's process may have been set: the last changes of the files that can say one, in
/// microseconds since the epoch.
fn zone_set(snapshot: &Snapshot, service: &Service) -> Vec<i64> {
    let Some(unit) = &service.unit else { return Vec::new() };
    let variables = unit.environment_files().into_iter().map(|(file, _)| file);
    let files = unit.drop_ins.iter().cloned().chain([unit.fragment.clone()]).chain(variables);
    let host = snapshot.link_stat("/etc/localtime").seen();
    let changed = files.filter_map(|file| snapshot.stat(&file).seen());
    changed.chain(host).map(|status| status.modified * 1_000_000).collect()
}

/// Whether a process of the service's own runs. Where the manager names the main process, nothing else is
/// looked at.
pub fn is_running(snapshot: &Snapshot, service: &Service) -> bool {
    let unit = service.unit_name().and_then(|unit| snapshot.unit(unit).seen());
    unit.as_deref().is_some_and(|u| u.main_pid != 0)
        || !processes(snapshot, service, unit.as_deref()).0.is_empty()
}

/// What the logs and the manager's record tell of a service's starts: at most `most`. `count_all` counts
/// lines of long files, too.
pub fn history(
    snapshot: &Snapshot,
    service: &Service,
    config: &Configuration,
    running: bool,
    most: usize,
    count_all: bool,
) -> log::Attempts {
    let logs = logs(snapshot, service, config, true);
    let kind = service.described.log_format.as_deref().and_then(crate::kinds::kind).unwrap_or(service.kind);
    // The rules were checked when the services file was read.
    let own = service.described.log_rules().ok().flatten().map(|rules| kind.grammar().with(rules));
    let owner = kind.log_owner();
    let value = |setting: &str| service.unit.as_ref().and_then(|u| u.value("Service", setting));
    let (identifier, program) = (value("SyslogIdentifier"), service.program().map(path::name));
    let description = service.unit.as_ref().and_then(|u| u.value("Unit", "Description"));
    let names: Vec<&str> =
        owner.programs.iter().copied().chain(identifier.as_deref()).chain(program).collect();
    let request = AttemptRequest {
        description: description.as_deref(),
        names: &names,
        host_zone: &log::host_zone(snapshot),
        owner,
        grammar: own.as_ref().unwrap_or(kind.grammar()),
        unit: service.unit_name(),
        reports_ready: service.reports_ready(),
        files: &logs.files,
        mains: logs.mains,
        zone: &log_zone(snapshot, service, config),
        zone_set: &snapshot.aside(|| zone_set(snapshot, service)),
        most,
        count_all,
        running,
        live: snapshot.sees_processes(),
    };
    log::attempts(snapshot, &request)
}

/// The account that runs the start command.
pub fn starter(snapshot: &Snapshot, service: &Service) -> Account {
    let uid = service.instance.start_uid;
    if uid == 0 {
        let mut root = accounts::root();
        if let Some(unit) = &service.unit {
            let has = |capability: &str| unit.keeps_capability(capability);
            root.powers = accounts::Powers {
                overrides: has("CAP_DAC_OVERRIDE"),
                reads_all: has("CAP_DAC_READ_SEARCH"),
            };
        }
        return root;
    }
    let named = service.described.account.clone().or_else(|| service.unit.as_ref()?.value("Service", "User"));
    let name = named.unwrap_or_else(|| accounts::user_name(snapshot, uid));
    accounts::account(snapshot, &name).seen().unwrap_or(Account {
        name,
        uid,
        gid: uid,
        groups: vec![uid],
        powers: accounts::Powers::default(),
    })
}

/// Processes of the service's own and strays of the same daemon.
fn processes(
    snapshot: &Snapshot,
    service: &Service,
    unit: Option<&UnitState>,
) -> (Vec<Process>, Vec<Process>) {
    let own_program = service.program().map(path::name).unwrap_or_default().to_owned();
    let main = unit.map_or(0, |u| u.main_pid);
    let pid_file = service
        .described
        .pid_file
        .as_deref()
        .and_then(|f| snapshot.small_text(f).seen())
        .and_then(|t| t.trim().parse::<u32>().ok());
    // Where nothing tells a process of its from others, none of the host's needs to be looked at.
    if own_program.is_empty() && main == 0 && pid_file.is_none() {
        return (vec![], vec![]);
    }
    let Look::Seen(all) = snapshot.processes() else { return (vec![], vec![]) };
    // Only where a script starts it the pid file alone tells which program that is.
    let by_script = service
        .program()
        .is_none_or(|p| snapshot.read_at(p, 0, 2).seen().is_some_and(|head| head.starts_with(b"#!")));
    // An account may write any number into a pid file of its own: it vouches for that account's processes
    // only, as the manager holds it, too (systemd.service(5), PIDFile=).
    let vouches = |process: &Process| {
        let owner =
            service.described.pid_file.as_deref().and_then(|f| snapshot.stat(f).seen()).map(|s| s.uid);
        owner.is_some_and(|uid| uid == 0 || uid == process.brief.uid)
    };
    let (mut own, mut strays) = (Vec::new(), Vec::new());
    for brief in &all {
        let named = service.has_name(&brief.name);
        let known = brief.pid == main || Some(brief.pid) == pid_file || (named && !own_program.is_empty());
        if !known {
            continue;
        }
        if brief.state == 'Z' {
            continue;
        }
        let Look::Seen(process) = snapshot.process(brief.pid) else { continue };
        if !process.own_root {
            snapshot.unseen(format!("{} in a container of its own", brief.name));
            continue;
        }
        let belongs = match (service.unit_name(), unit) {
            (Some(_), Some(unit)) => {
                brief.pid == main
                    || (!unit.control_group.is_empty() && in_group(&process.cgroup, &unit.control_group))
            }
            // Without a manager the pid file or the program decides.
            (Some(name), None) => owner_of(snapshot, &process.cgroup).is_some_and(|owner| owner == name),
            (None, _) => {
                service.started(&process) || (Some(brief.pid) == pid_file && by_script && vouches(&process))
            }
        };
        if belongs {
            own.push(*process);
        } else if service.runs_as(&process) {
            strays.push(*process);
        }
    }
    own.sort_by_key(|p| {
        (p.brief.pid != main && Some(p.brief.pid) != pid_file, p.brief.start_ticks, p.brief.pid)
    });
    strays.sort_by_key(|p| (p.brief.start_ticks, p.brief.pid));
    (own, strays)
}

fn in_group(group: &str, of: &str) -> bool {
    group == of || group.strip_prefix(of).is_some_and(|rest| rest.starts_with('/'))
}

/// A wanted listener of which it is not known yet who has it.
fn wish(want: &WantedListen) -> Wanted {
    let WantedListen { listen, place, tls, speaks, bound, .. } = want.clone();
    Wanted {
        listen,
        place,
        tls,
        speaks,
        bound,
        held_by: Vec::new(),
        held_unseen: Vec::new(),
        served: false,
        unseen: false,
        activates: false,
    }
}

/// The listeners that configuration and services file ask for, each once.
fn wishes(service: &Service, config: &Configuration) -> Vec<Wanted> {
    let described = |listen| WantedListen {
        listen,
        place: None,
        port_span: None,
        tls: false,
        speaks: Speaks::default(),
        bound: true,
    };
    let mut known = HashSet::new();
    let all =
        config.model.listens.iter().cloned().chain(service.described.listens().into_iter().map(described));
    all.inspect(|_| step(1)).filter(|w| known.insert(w.listen.clone())).map(|w| wish(&w)).collect()
}

/// Who holds what is wanted.
fn held(snapshot: &Snapshot, service: &Service, mut all: Vec<Wanted>, own: &[Process]) -> Vec<Wanted> {
    if all.is_empty() {
        return all;
    }
    let Look::Seen(sockets) = snapshot.listeners() else {
        all.iter_mut().for_each(|w| w.unseen = true);
        return all;
    };
    // Only what has the same port, or the same path, can be in the way of each other.
    let key = |port: u16, path: Option<&String>| (port, path.map(|p| path::runtime(p)));
    let mut by_key: HashMap<(u16, Option<String>), Vec<&Socket>> = HashMap::new();
    let keys: HashSet<(u16, Option<String>)> =
        all.iter().map(|w| key(w.listen.port, w.listen.path.as_ref())).collect();
    for socket in &sockets {
        let key = key(socket.port, socket.path.as_ref());
        if keys.contains(&key) {
            by_key.entry(key).or_default().push(socket);
        }
    }
    let near =
        |listen: &Listen| by_key.get(&key(listen.port, listen.path.as_ref())).into_iter().flatten().copied();
    let matching: Vec<&Socket> = all
        .iter()
        .flat_map(|w| near(&w.listen).inspect(|_| step(1)).filter(|s| w.listen.conflicts_with(s)))
        .collect();
    if matching.is_empty() {
        return all;
    }
    let mut inodes: Vec<u64> = matching.iter().map(|s| s.inode).collect();
    inodes.sort_unstable();
    inodes.dedup();
    let owners = snapshot.owners(&inodes).seen().unwrap_or_default();
    let sees_all = snapshot.myself().seen().is_none_or(|m| m.uid == 0);
    let mut holders: HashMap<u64, Vec<u32>> = HashMap::new();
    for (inode, pid) in owners {
        holders.entry(inode).or_default().push(pid);
    }
    for want in &mut all {
        let listen = want.listen.clone();
        for socket in near(&listen).filter(|s| listen.conflicts_with(s)) {
            let pids: Vec<u32> = holders.get(&socket.inode).cloned().unwrap_or_default();
            let ours =
                |pid: &u32| own.iter().any(|p| p.brief.pid == *pid || is_child(snapshot, *pid, p.brief.pid));
            if pids.iter().any(ours) {
                want.served = true;
                continue;
            }
            // Descriptors of other accounts' processes are for root to see.
            if pids.is_empty() && !own.is_empty() && !sees_all {
                want.unseen = true;
            }
            if pids.is_empty() && own.is_empty() {
                want.held_unseen.push(socket.clone());
            }
            if let Some(holder) = holder(snapshot, socket, &pids) {
                // The manager holds the socket for a service that it activates by it.
                let activated = holder.process.brief.pid == 1 && service.unit.is_some();
                if activated {
                    (want.served, want.activates) = (true, true);
                } else {
                    want.held_by.push(holder);
                }
            }
        }
    }
    all
}

fn is_child(snapshot: &Snapshot, pid: u32, parent: u32) -> bool {
    let mut at = pid;
    for _ in 0..8 {
        match snapshot.brief(at) {
            Some(p) if p.parent == parent => return true,
            Some(p) if p.parent > 1 => at = p.parent,
            _ => return false,
        }
    }
    false
}

/// Who holds a socket: the process that opened it, what started that, whether it comes back, and how many are
/// connected.
pub fn holder(snapshot: &Snapshot, socket: &Socket, pids: &[u32]) -> Option<Holder> {
    let opener = opener(snapshot, socket, pids)?;
    let clients = if socket.protocol == Protocol::Tcp { snapshot.clients(socket.port).seen() } else { None };
    Some(Holder { clients, ..opener })
}

/// The same without a count of connections, which costs the kernel a walk through all of them.
pub fn opener(snapshot: &Snapshot, socket: &Socket, pids: &[u32]) -> Option<Holder> {
    let start = |pid: u32| snapshot.brief(pid).map_or(u64::MAX, |b| b.start_ticks);
    let mut pids = pids.to_vec();
    pids.sort_by_key(|p| (start(*p), *p));
    // A child that outlives its parent is not the opener as long as the parent holds the socket, too.
    let parent_of = |pid: u32| snapshot.brief(pid).map_or(0, |b| b.parent);
    // An account can hand a socket of its own to a process of somebody else, who then holds it as well: the
    // opener is one of those whose socket it is. What root opened may have been handed on to anybody.
    let whose = |pid: u32| snapshot.brief(pid).map(|b| b.uid);
    let own: Vec<u32> = pids.iter().copied().filter(|p| whose(*p) == Some(socket.uid)).collect();
    let among = if socket.uid == 0 || own.is_empty() { &pids } else { &own };
    let first = among.iter().copied().find(|p| !among.contains(&parent_of(*p))).or(among.first().copied())?;
    let process = *snapshot.process(first).seen()?;
    let (chain, unit) = chain(snapshot, &process);
    let returns = returns(snapshot, unit.as_deref(), &chain);
    let user = accounts::user_name(snapshot, process.brief.uid);
    let others = pids.into_iter().filter(|p| *p != first).collect();
    Some(Holder { process, socket: socket.clone(), user, chain, unit, returns, clients: None, others })
}

/// The chain that started a process: its unit or session from the control group, otherwise its parents.
pub fn chain(snapshot: &Snapshot, process: &Process) -> (Vec<Link>, Option<String>) {
    let mut links = Vec::new();
    let mut unit = None;
    match owner_of(snapshot, &process.cgroup).as_deref() {
        // What a manager of a user's started is no unit of the host, whatever it is called.
        Some(name) if name.ends_with(".service") && name.starts_with("user@") => {
            links.push(Link { kind: "session".into(), name: name.trim_end_matches(".service").to_owned() });
        }
        Some(name) if name.ends_with(".service") => {
            links.push(Link { kind: "unit".into(), name: name.to_owned() });
            links.extend(triggers(snapshot, name));
            unit = Some(name.to_owned());
        }
        Some(name) => links.extend(name.strip_suffix(".scope").and_then(scope_link)),
        None => {}
    }
    if let Some(terminal) = process.terminal {
        links.push(Link { kind: "terminal".into(), name: terminal_name(terminal) });
    }
    if let Some(login) = process.login_uid {
        links.push(Link { kind: "login".into(), name: accounts::user_name(snapshot, login) });
    }
    if unit.is_none() {
        let mut at = process.brief.parent;
        for _ in 0..6 {
            let Some(parent) = snapshot.brief(at) else { break };
            if parent.pid <= 1 {
                break;
            }
            links
                .push(Link { kind: "process".into(), name: format!("{} (pid {})", parent.name, parent.pid) });
            at = parent.parent;
        }
    }
    (links, unit)
}

/// What the manager calls the group that a process is in: the first name below its slices. What stands
/// further below was made by whoever the manager gave that group to, and may be called as he likes
/// (systemd.resource-control(5), Delegate=).
pub(crate) fn owner_of(snapshot: &Snapshot, group: &str) -> Option<String> {
    let first = |path: &str| {
        path.split('/').find(|part| !part.is_empty() && !part.ends_with(".slice")).map(str::to_owned)
    };
    let is_unit = |name: &String| name.ends_with(".service") || name.ends_with(".scope");
    first(group).filter(is_unit).or_else(|| {
        if !group.contains(".service") && !group.contains(".scope") {
            return None;
        }
        // Where the host's whole tree can be seen from inside, the manager's own part of it begins somewhere
        // below.
        let manager = snapshot.process(1).seen()?.cgroup;
        let root = manager.strip_suffix("/init.scope").filter(|root| !root.is_empty())?;
        first(group.strip_prefix(root)?).filter(is_unit)
    })
}

/// A scope as a link of the chain: a container or a session; others say nothing.
fn scope_link(name: &str) -> Option<Link> {
    let container = ["docker-", "libpod-", "crio-", "cri-containerd-", "machine-", "lxc"]
        .iter()
        .any(|p| name.starts_with(p));
    let kind = if container { Some("container") } else { name.starts_with("session-").then_some("session") };
    kind.map(|kind| Link { kind: kind.into(), name: name.to_owned() })
}

/// What makes the manager start a unit, besides a wish of its own: timers, sockets, watched paths, and the
/// init script that a unit was made from.
pub fn triggers(snapshot: &Snapshot, unit: &str) -> Vec<Link> {
    let state = snapshot.unit(unit).seen();
    let named =
        state.as_ref().and_then(|s| s.more.get("TriggeredBy")).map_or("", String::as_str).split_whitespace();
    let mut links: Vec<Link> = named
        .filter_map(|name| {
            let kind =
                ["timer", "socket", "path"].into_iter().find(|kind| name.ends_with(&format!(".{kind}")))?;
            Some(Link { kind: kind.into(), name: name.to_owned() })
        })
        .collect();
    let source = crate::manager::unit(snapshot, unit).seen().and_then(|u| u.value("Unit", "SourcePath"));
    links.extend(
        source
            .filter(|s| s.starts_with("/etc/init.d/") || s.starts_with("/etc/rc.d/"))
            .map(|name| Link { kind: "init-script".into(), name }),
    );
    links
}

/// Device numbers of terminals (kernel's devices.txt): 136–143 are pseudo terminals.
fn terminal_name(device: u32) -> String {
    let (major, minor) = (device >> 8 & 0xfff, (device & 0xff) | (device >> 12 & 0xfff00));
    match major {
        136..=143 => format!("pts/{}", (major - 136) * 256 + minor),
        4 => format!("tty{minor}"),
        _ => format!("terminal {major}:{minor}"),
    }
}

fn returns(snapshot: &Snapshot, unit: Option<&str>, chain: &[Link]) -> Returns {
    if let Some(name) = unit {
        return match snapshot.unit(name) {
            Look::Seen(state)
                if matches!(
                    state.unit_file_state.as_str(),
                    "enabled" | "enabled-runtime" | "generated" | "static"
                ) || state.more.contains_key("TriggeredBy") =>
            {
                Returns::Boot
            }
            Look::Seen(state) if matches!(state.more.get("Restart").map(String::as_str), Some("always")) => {
                Returns::Itself
            }
            Look::Seen(_) => Returns::No,
            _ => crate::manager::unit(snapshot, name)
                .seen()
                .map_or(Returns::Unknown, |u| if u.enabled { Returns::Boot } else { Returns::No }),
        };
    }
    if chain.iter().any(|l| l.kind == "container" || (l.kind == "session" && l.name.starts_with("user@"))) {
        return Returns::Unknown;
    }
    let supervisor = chain.iter().any(|l| {
        l.kind == "process"
            && ["supervisord", "runsv", "s6-supervise", "cron", "crond"].iter().any(|s| l.name.starts_with(s))
    });
    if supervisor { Returns::Itself } else { Returns::No }
}

fn state(unit: Option<&UnitState>, own: &[Process], wanted: &[Wanted], sees_processes: bool) -> State {
    let Some(unit) = unit else {
        return match (sees_processes, own.is_empty()) {
            (false, _) => State::Unknown,
            (true, true) => State::Stopped,
            (true, false) => {
                if wanted.iter().any(|w| w.bound && !w.served && !w.unseen) {
                    State::Degraded
                } else {
                    State::Running
                }
            }
        };
    };
    match (unit.active_state.as_str(), unit.sub_state.as_str()) {
        ("active" | "reloading", _)
            if wanted.iter().any(|w| w.bound && !w.served && !w.unseen && !w.held_by.is_empty()) =>
        {
            State::Degraded
        }
        ("active" | "reloading", _) => State::Running,
        // Between two tries, or in one of several that the manager makes by itself.
        ("activating", "auto-restart" | "auto-restart-queued") => State::Restarting,
        ("activating", _) if unit.restarts > 0 => State::Restarting,
        ("activating", _) => State::Starting,
        ("failed", _) => State::Failed,
        // Up as far as its clients can tell: the manager listens for it.
        ("inactive", "dead") if wanted.iter().any(|w| w.activates) => State::Running,
        ("inactive" | "deactivating", _) => State::Stopped,
        _ => State::Unknown,
    }
}

/// Enabled, and not stopped on purpose.
fn meant(service: &Service, unit: Option<&UnitState>, attempts: &[Attempt]) -> bool {
    let Some(boots) = service.boots() else { return true };
    let enabled = boots
        || unit.is_some_and(|u| {
            matches!(u.unit_file_state.as_str(), "enabled" | "enabled-runtime" | "generated")
        });
    let stopped_on_purpose = unit.is_some_and(|u| u.active_state == "inactive" && u.result == "success")
        && attempts
            .first()
            .is_some_and(|a| a.outcome == Outcome::Ready && a.afterwards == Some(log::Afterwards::Stopped));
    enabled && !stopped_on_purpose
}

#[cfg(test)]
mod tests;
