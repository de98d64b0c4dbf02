//! Everything a diagnosis looks at for one service, gathered once: state, processes, wanted listeners with
//! their holders, configuration, attempts.
mod holders;
mod last_start;
mod logs;
mod places;
mod unknown_logs;

use holders::is_child;
pub(crate) use holders::owner_of;
pub use holders::{Holder, Link, Returns, chain, holder, listening, opener, started_by, triggers};
pub(crate) use logs::is_own_word;
pub use logs::{LogRemark, Logs, log_files, log_remarks, logs};
pub use places::is_system;

use crate::accounts::{self, Account};
use crate::bounds::step;
use crate::code::Code;
use crate::config::{Configuration, Place, Speaks, WantedListen};
use crate::finding::Finding;
use crate::host::{Look, Process, Protocol, Socket, UnitState};
use crate::log::{self, Attempt, AttemptRequest, Outcome};
use crate::manager::{self, SocketUnit};
use crate::net::Listen;
use crate::path;
use crate::service::Service;
use crate::snapshot::Snapshot;
use jiff::tz::TimeZone;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::{HashMap, HashSet};
use std::net::{IpAddr, Ipv4Addr};
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

impl State {
    /// Whether the service runs, well or not.
    pub fn is_up(self) -> bool {
        matches!(self, Self::Running | Self::Degraded)
    }

    /// The word for it in a sentence or a table.
    pub fn word(self) -> &'static str {
        match self {
            Self::Running => "running",
            Self::Starting => "starting",
            Self::Restarting => "restarting",
            Self::Stopped => "stopped",
            Self::Failed => "failed",
            Self::Degraded => "degraded",
            Self::Unknown => "not seen",
        }
    }
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
    /// Units that listen for it.
    pub sockets: Vec<SocketUnit>,
    /// Wanted listeners.
    pub wanted: Vec<Wanted>,
    /// What it seems to want, while it does not run, where nothing says what it really wants.
    pub guessed: Vec<Wanted>,
    /// Where it listened when it last ran, as its log or a capture of that time tells.
    pub recalled: Vec<Wanted>,
    /// Listeners that the log of a program which nobody knows tells it could not open.
    pub told: Vec<Wanted>,
    /// What a request met here, where one was followed.
    pub met: Vec<Finding>,
    /// Whether a request was followed through it: then what it passes other requests on to does not count.
    pub is_on_way: bool,
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
    let unit_state = manager.as_ref().seen().map(AsRef::as_ref);
    let unit = service.unit.as_ref();
    let sockets = unit.map(|u| manager::socket_units(snapshot, u, unit_state)).unwrap_or_default();
    let wanted = held(snapshot, wishes(service, &config, &sockets), &processes, &sockets);
    let running = !processes.is_empty();
    // A word in the services file is better than any guess.
    let asks = !running && wanted.is_empty() && depth == Depth::Diagnosis;
    let guesses: &[_] = if asks { &config.model.guesses } else { &[] };
    let guessed = held(snapshot, guesses.iter().map(wish).collect(), &processes, &[]);
    let attempts = if depth == Depth::Diagnosis {
        history(snapshot, service, &config, running, 5, false).list
    } else {
        Vec::new()
    };
    let unknown = wanted.is_empty() && service.kind.grammar().has_general_words();
    let recalled = if unknown && asks { recalled(snapshot, service, &attempts) } else { Vec::new() };
    let flapping = flaps(unit_state, &attempts, snapshot.now());
    let telling = last_start::telling(&attempts, flapping);
    let told = if unknown { refused_listeners(snapshot, &telling, &processes) } else { Vec::new() };
    let starter = starter(snapshot, service);
    let mut state = state(unit_state, &processes, &wanted, snapshot.sees_processes());
    // It is not up, and what should start it does not listen; or its script ended well, and left nothing.
    if (state == State::Stopped && sockets.iter().any(SocketUnit::has_failed))
        || (state.is_up()
            && left_nothing(snapshot, service, unit_state, processes.iter().chain(&strays).count()))
    {
        state = State::Failed;
    }
    // Some daemons stay up without a listener that they could not open; their log of this run says so.
    let complains =
        attempts.first().is_some_and(|a| a.ended.is_none() && a.failures.iter().any(log::Failure::is_cause));
    let lacks = |w: &Wanted| w.bound && !w.served && !w.unseen && w.listen.protocol == Protocol::Tcp;
    let told_so = |w: &Wanted| !w.served && !w.held_by.is_empty();
    if state == State::Running && (complains && wanted.iter().any(lacks) || told.iter().any(told_so)) {
        state = State::Degraded;
    }
    if state.is_up() && flapping {
        state = State::Restarting;
    }
    let meant_to_run =
        meant(service, unit_state, &attempts) || sockets.iter().any(|s| s.enabled || s.has_failed());
    let since = unit_state
        .and_then(|u| i64::try_from(u.state_changed).ok())
        .filter(|t| *t > 0)
        .or_else(|| processes.first().and_then(|p| p.started).map(|s| s * 1_000_000));
    Case {
        service,
        config,
        processes,
        strays,
        sockets,
        wanted,
        guessed,
        recalled,
        told,
        met: Vec::new(),
        is_on_way: false,
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
    // Of a program that nobody knows and that a script starts, the manager names no main process: all that
    // runs in its group is its own.
    let group = unit.map(|u| u.control_group.as_str()).filter(|group| !group.is_empty() && main == 0);
    let group = group.filter(|_| service.kind.profile().programs.is_empty());
    // Where nothing tells a process of its from others, none of the host's needs to be looked at.
    if own_program.is_empty() && main == 0 && pid_file.is_none() && group.is_none() {
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
        if !known && group.is_none() {
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

/// The listeners that configuration, services file and socket units ask for, each once.
fn wishes(service: &Service, config: &Configuration, sockets: &[SocketUnit]) -> Vec<Wanted> {
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
    let by_manager = sockets.iter().flat_map(|unit| &unit.listens).cloned().map(|(listen, file, line)| {
        WantedListen { place: Some(Place::line(&file, line)), ..described(listen) }
    });
    let all = all.chain(by_manager);
    all.inspect(|_| step(1)).filter(|w| known.insert(w.listen.clone())).map(|w| wish(&w)).collect()
}

/// Where a program that nobody knows listened when it last ran: by an earlier capture, or by what its log
/// said.
fn recalled(snapshot: &Snapshot, service: &Service, attempts: &[Attempt]) -> Vec<Wanted> {
    let captured = snapshot.earlier_host().and_then(|host| {
        let earlier = Snapshot::new(host);
        let unit = earlier.unit(service.unit_name()?).seen()?;
        let main = earlier.process(unit.main_pid).seen()?;
        listening(&earlier, &[*main])
    });
    let said = || attempts.iter().find(|a| a.outcome == Outcome::Ready).and_then(|a| a.listened.clone());
    let all: Vec<Listen> =
        captured.filter(|all| !all.is_empty()).unwrap_or_else(|| said().into_iter().collect());
    held(snapshot, all.into_iter().map(asked_for).collect(), &[], &[])
}

/// Listeners that the log of the last start of a program which nobody knows says were not to be had. Where it
/// names a port alone, any address, and either protocol that somebody holds it by.
fn refused_listeners(snapshot: &Snapshot, telling: &[&Attempt], own: &[Process]) -> Vec<Wanted> {
    let lines = telling.iter().flat_map(|a| &a.failures);
    let mut all: Vec<Listen> = Vec::new();
    for failure in lines.filter(|f| matches!(f.code, Code::PortTaken | Code::AlreadyRunning)).take(16) {
        let Some(port) = failure.found.object("port").and_then(|p| p.parse().ok()) else { continue };
        let address = failure.found.object("address").map(|a| a.trim_matches(['[', ']']));
        let address = address.and_then(|a| a.parse().ok()).unwrap_or(IpAddr::V4(Ipv4Addr::UNSPECIFIED));
        let tcp = Listen::tcp(address, port, false);
        let udp = Listen { protocol: Protocol::Udp, ..tcp.clone() };
        for listen in [tcp, udp] {
            if !all.contains(&listen) {
                all.push(listen);
            }
        }
    }
    held(snapshot, all.into_iter().map(asked_for).collect(), own, &[])
}

/// A listener of which only the address is known.
fn asked_for(listen: Listen) -> Wanted {
    wish(&WantedListen {
        listen,
        place: None,
        port_span: None,
        tls: false,
        speaks: Speaks::Other,
        bound: true,
    })
}

/// Whether the manager counts a service as active only because its init script ended well, while the daemon
/// that the script starts is gone. One that changed its account is in another group than the unit's, and a
/// stray among the `known` processes, or what its pid file names.
fn left_nothing(snapshot: &Snapshot, service: &Service, state: Option<&UnitState>, known: usize) -> bool {
    let exited = state.is_some_and(|s| s.active_state == "active" && s.sub_state == "exited");
    if !exited || known > 0 || !snapshot.sees_processes() {
        return false;
    }
    let script = service.unit.as_ref().and_then(|unit| crate::service::script_behind(snapshot, unit));
    script.is_some_and(|s| s.daemon && s.pid(snapshot).is_none_or(|pid| snapshot.brief(pid).is_none()))
}

/// Whether a service that is up just now was up a moment ago as well, and fell: one of several tries that the
/// manager makes by itself.
fn flaps(unit: Option<&UnitState>, attempts: &[Attempt], now: Option<i64>) -> bool {
    /// A run that lasts longer than this is no try, in microseconds.
    const SHORT: i64 = 10_000_000;
    /// For how long a new run tells nothing, in microseconds.
    const YOUNG: i64 = 3_000_000;
    let [last, before, ..] = attempts else { return false };
    let by_itself = unit.is_some_and(|u| u.restarts > 0 && u.active_state == "active");
    let young = last.goes_on() && now.is_some_and(|now| now - last.began < YOUNG);
    let fell = before.ended.is_some_and(|ended| ended - before.began < SHORT);
    by_itself && young && fell && before.afterwards != Some(log::Afterwards::Stopped)
}

/// Who holds what is wanted.
fn held(snapshot: &Snapshot, mut all: Vec<Wanted>, own: &[Process], units: &[SocketUnit]) -> Vec<Wanted> {
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
            let listens = |unit: &SocketUnit| {
                unit.is_up() && unit.listens.iter().any(|(l, ..)| l.conflicts_with(socket))
            };
            let by_manager = units.iter().any(listens);
            // Who may not look into the manager is told by the manager that it listens.
            if pids.is_empty() && by_manager {
                (want.served, want.activates) = (true, true);
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
                if holder.process.brief.pid == 1 && by_manager {
                    (want.served, want.activates) = (true, true);
                } else {
                    want.held_by.push(holder);
                }
            }
        }
    }
    all
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
