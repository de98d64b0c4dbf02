//! Who holds a socket: the process that opened it, what started that, and whether it comes back.
use crate::accounts;
use crate::host::{Look, Process, Protocol, Socket};
use crate::manager;
use crate::net::Listen;
use crate::snapshot::Snapshot;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::HashSet;

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

pub(super) fn is_child(snapshot: &Snapshot, pid: u32, parent: u32) -> bool {
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

/// Where processes, and what they started, listen now; `None` where that cannot be seen. Abstract names are
/// left out: nobody is told them.
pub fn listening(snapshot: &Snapshot, own: &[Process]) -> Option<Vec<Listen>> {
    let sockets = snapshot.listeners().seen()?;
    let is_told = |s: &&Socket| s.path.as_ref().is_none_or(|p| p.starts_with('/'));
    let told: Vec<&Socket> = sockets.iter().filter(is_told).collect();
    let inodes: Vec<u64> = told.iter().map(|s| s.inode).collect();
    let owners = snapshot.owners(&inodes).seen()?;
    let ours = |pid: u32| own.iter().any(|p| p.brief.pid == pid || is_child(snapshot, pid, p.brief.pid));
    let held: HashSet<u64> = owners.iter().filter(|(_, pid)| ours(*pid)).map(|(inode, _)| *inode).collect();
    let mut found: Vec<Listen> =
        told.into_iter().filter(|s| held.contains(&s.inode)).map(Listen::from).collect();
    found.dedup();
    Some(found)
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
    let (mut chain, mut unit) = chain(snapshot, &process);
    // What the manager itself holds, it holds for a socket unit.
    let of_manager = if first == 1 { manager::socket_unit_of(snapshot, socket) } else { None };
    let mut returns = returns(snapshot, unit.as_deref(), &chain);
    if let Some(held) = of_manager {
        chain.insert(0, Link { kind: "socket".into(), name: held.name.clone() });
        unit = Some(held.name);
        returns = if held.enabled { Returns::Boot } else { Returns::No };
    }
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
