//! `ports`: who holds which port, who wants it, what started the holder.
use super::{Listed, schema};
use crate::case::{Holder, Link, Returns, holder, opener};
use crate::host::{Protocol, Socket};
use crate::log::format_time;
use crate::net::Listen;
use crate::not_seen::NotSeen;
use crate::ports::free_ports;
use crate::service::Service;
use crate::snapshot::Snapshot;
use jiff::tz::TimeZone;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// The document `ports`.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct PortsReport {
    /// Form.
    pub schema: String,
    /// Ports, in order of number and address.
    pub ports: Listed<PortEntry>,
    /// Free ports, when they were asked for.
    pub free: Listed<u16>,
    /// What could not be seen.
    pub not_seen: Vec<NotSeen>,
}

/// One listener, held or wanted.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct PortEntry {
    /// Transport.
    pub protocol: Protocol,
    /// Address.
    pub address: Option<String>,
    /// Port.
    pub port: Option<u16>,
    /// Path of a Unix socket.
    pub path: Option<String>,
    /// Whether a socket stands there; its holder need not be seen. `null` where sockets are not part of what
    /// was given.
    pub held: Option<bool>,
    /// Who holds it, the opener first.
    pub holders: Listed<HolderEntry>,
    /// Who wants it.
    pub wanted_by: Vec<WantedBy>,
    /// Whether somebody wants it whom the holder keeps out; `null` where that cannot be told.
    pub conflict: Option<bool>,
}

/// One holder.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct HolderEntry {
    /// Process.
    pub pid: u32,
    /// Its name.
    pub name: String,
    /// Its account.
    pub user: String,
    /// Its command line, secrets masked.
    pub command: String,
    /// When it started.
    pub started_at: Option<String>,
    /// What started it, nearest first.
    pub chain: Vec<Link>,
    /// Whether it comes back.
    pub returns: Returns,
    /// Connections now.
    pub clients: Option<u32>,
}

/// Who wants a port.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct WantedBy {
    /// Service.
    pub service: String,
    /// File that asks for it.
    pub file: Option<String>,
    /// Line.
    pub line: Option<u32>,
}

/// A service's wish.
struct Wish {
    service: String,
    listen: Listen,
    file: Option<String>,
    line: Option<u32>,
    /// Whether the daemon insists on it.
    bound: bool,
}

/// What is asked of [`ports`].
#[derive(Clone, Copy, Debug, Default)]
pub struct PortsRequest<'r> {
    /// These ports; all when there is none.
    pub only: &'r [u16],
    /// Propose free ones near this one.
    pub free_near: Option<u16>,
    /// Count the connections of each holder, not only of those that stand in somebody's way.
    pub count_clients: bool,
}

/// Who holds and wants ports.
pub fn ports(snapshot: &Snapshot, services: &[Service], request: &PortsRequest) -> PortsReport {
    let PortsRequest { only, free_near, count_clients } = *request;
    let zone = crate::log::host_zone(snapshot);
    let wishes = wishes(snapshot, services);
    let listeners = snapshot.listeners().seen();
    let sees_sockets = listeners.is_some();
    let sockets = listeners.unwrap_or_default();
    let asked = |port: u16| only.is_empty() || only.contains(&port);
    let chosen: Vec<&Socket> = sockets
        .iter()
        .filter(|s| {
            if s.protocol == Protocol::Unix {
                only.is_empty() && known_path(s, &wishes)
            } else {
                asked(s.port)
            }
        })
        .collect();
    let mut inodes: Vec<u64> = chosen.iter().map(|s| s.inode).collect();
    inodes.sort_unstable();
    inodes.dedup();
    let owners = if inodes.is_empty() { vec![] } else { snapshot.owners(&inodes).seen().unwrap_or_default() };
    let sees_all = snapshot.myself().seen().is_some_and(|m| m.uid == 0);
    let mut entries: Vec<PortEntry> = Vec::new();
    for socket in &chosen {
        let pids: Vec<u32> = owners.iter().filter(|(i, _)| *i == socket.inode).map(|(_, p)| *p).collect();
        let wanted: Vec<&Wish> = wishes.iter().filter(|w| w.listen.conflicts_with(socket)).collect();
        let held = if count_clients || !wanted.is_empty() {
            holder(snapshot, socket, &pids)
        } else {
            opener(snapshot, socket, &pids)
        };
        // Who sees every process and yet no holder knows that the service itself holds it neither.
        let conflict =
            wanted.iter().any(|w| w.bound && held.as_ref().map_or(sees_all, |h| !belongs(services, w, h)));
        let key = (socket.protocol, socket.address.map(|a| a.to_string()), socket.port, socket.path.clone());
        let holders: Vec<HolderEntry> = held.iter().map(|h| holder_entry(h, &zone)).collect();
        let conflict = (held.is_some() || sees_all || wanted.is_empty()).then_some(conflict);
        if let Some(known) = entries
            .iter_mut()
            .find(|e| (e.protocol, e.address.clone(), e.port.unwrap_or(0), e.path.clone()) == key)
        {
            // Several sockets on one address: the port is shared on purpose.
            let new: Vec<HolderEntry> =
                holders.into_iter().filter(|h| !known.holders.iter().any(|k| k.pid == h.pid)).collect();
            if !new.is_empty() {
                known.holders.add(new);
            }
            continue;
        }
        entries.push(PortEntry {
            protocol: socket.protocol,
            address: key.1,
            port: (socket.port > 0).then_some(socket.port),
            path: socket.path.clone(),
            held: Some(true),
            holders: Listed::when(sees_all, holders),
            wanted_by: wanted.into_iter().map(wanted_by).collect(),
            conflict,
        });
    }
    let unmet = wishes.iter().filter(|w| w.bound && !chosen.iter().any(|s| w.listen.conflicts_with(s)));
    for wish in unmet.filter(|w| asked(w.listen.port) || (w.listen.port == 0 && only.is_empty())) {
        add_unmet(&mut entries, wish, sees_sockets);
    }
    entries.sort_by_key(|e| (e.port.is_none(), e.port, e.protocol, e.address.clone(), e.path.clone()));
    let free = free_near
        .filter(|_| sees_sockets)
        .map(|near| free_ports(snapshot, services, near, 5))
        .unwrap_or_default();
    PortsReport {
        schema: schema("ports"),
        ports: Listed::when(sees_sockets, entries),
        free: Listed::when(sees_sockets, free),
        not_seen: snapshot.not_seen(),
    }
}

/// A wish that nothing stands against.
fn add_unmet(entries: &mut Vec<PortEntry>, wish: &Wish, sees_sockets: bool) {
    let address = wish.listen.address.map(|a| a.to_string());
    match entries.iter_mut().find(|e| {
        e.holders.is_empty()
            && e.address == address
            && e.port.unwrap_or(0) == wish.listen.port
            && e.path == wish.listen.path
    }) {
        Some(known) => known.wanted_by.push(wanted_by(wish)),
        None => entries.push(PortEntry {
            protocol: wish.listen.protocol,
            address,
            port: (wish.listen.port > 0).then_some(wish.listen.port),
            path: wish.listen.path.clone(),
            held: sees_sockets.then_some(false),
            holders: Listed::when(sees_sockets, vec![]),
            wanted_by: vec![wanted_by(wish)],
            conflict: sees_sockets.then_some(false),
        }),
    }
}

fn known_path(socket: &Socket, wishes: &[Wish]) -> bool {
    wishes.iter().any(|w| w.listen.conflicts_with(socket))
}

fn wanted_by(wish: &Wish) -> WantedBy {
    WantedBy { service: wish.service.clone(), file: wish.file.clone(), line: wish.line }
}

/// Whether the holder is the very service that wants it: started by its unit, or, without one, the same
/// program.
fn belongs(services: &[Service], wish: &Wish, holder: &Holder) -> bool {
    services.iter().filter(|s| s.name == wish.service).any(|s| {
        match (s.unit_name(), holder.unit.as_deref()) {
            (Some(unit), Some(theirs)) => unit == theirs,
            (Some(_), None) => holder.process.brief.pid == 1,
            (None, _) => s.runs_as(&holder.process),
        }
    })
}

fn holder_entry(holder: &Holder, zone: &TimeZone) -> HolderEntry {
    HolderEntry {
        pid: holder.process.brief.pid,
        name: holder.process.brief.name.clone(),
        user: holder.user.clone(),
        command: crate::secrets::mask_arguments(&holder.process.arguments).join(" "),
        started_at: holder.process.started.map(|s| format_time(s * 1_000_000, zone)),
        chain: holder.chain.clone(),
        returns: holder.returns,
        clients: holder.clients,
    }
}

fn wishes(snapshot: &Snapshot, services: &[Service]) -> Vec<Wish> {
    let mut all = Vec::new();
    for service in services {
        let config = service.configuration(snapshot);
        for listen in &config.model.listens {
            if all.iter().any(|w: &Wish| w.service == service.name && w.listen == listen.listen) {
                continue;
            }
            let place = listen.place.as_ref();
            all.push(Wish {
                service: service.name.clone(),
                listen: listen.listen.clone(),
                file: place.map(|p| p.file.to_string()),
                line: place.map(|p| p.line),
                bound: listen.bound,
            });
        }
        all.extend(service.described.listens().into_iter().map(|listen| Wish {
            service: service.name.clone(),
            listen,
            file: None,
            line: None,
            bound: true,
        }));
    }
    all
}
