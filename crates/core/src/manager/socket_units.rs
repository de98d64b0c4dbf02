//! Socket units: listeners that the manager opens for a service and hands to it (systemd.socket(5)).
use super::{UNIT_DIRECTORIES, Unit, on, unit, wanted};
use crate::host::{Protocol, Socket, UnitState};
use crate::net::{Listen, parse_listen};
use crate::snapshot::Snapshot;
use std::collections::BTreeSet;
use std::net::{IpAddr, Ipv6Addr};
use std::sync::Arc;

/// A unit that listens for a service.
#[derive(Clone, Debug)]
pub struct SocketUnit {
    /// Its name, with suffix.
    pub name: String,
    /// Its file.
    pub file: String,
    /// Whether something starts it at boot.
    pub enabled: bool,
    /// What it listens on, with the file and line that say so.
    pub listens: Vec<(Listen, String, u32)>,
    /// The manager's view; `None` where it was not seen.
    pub state: Option<Box<UnitState>>,
}

impl SocketUnit {
    /// Whether the manager listens by it now.
    pub fn is_up(&self) -> bool {
        self.state.as_ref().is_some_and(|s| s.active_state == "active")
    }

    /// Whether it was tried, and is down.
    pub fn has_failed(&self) -> bool {
        self.state.as_ref().is_some_and(|s| s.active_state == "failed")
    }

    /// Whether it counts: what nothing starts, and nobody tried, listens for nobody.
    fn is_in_use(&self) -> bool {
        self.enabled || self.is_up() || self.has_failed()
    }
}

/// The unit that a socket unit starts: `Service=`, else the one of its own name, a template's where each
/// connection gets an instance of its own (`Accept=`).
pub fn service_of(socket: &Unit) -> Option<String> {
    let stem = socket.name.strip_suffix(".socket")?;
    let accept = socket.value("Socket", "Accept").is_some_and(|v| on(&v));
    let own = || if accept { format!("{stem}@.service") } else { format!("{stem}.service") };
    Some(socket.value("Socket", "Service").unwrap_or_else(own))
}

/// The socket units that listen for a service: of its own name, that it names (`Sockets=`), and that the
/// manager says trigger it.
pub fn socket_units(snapshot: &Snapshot, service: &Unit, state: Option<&UnitState>) -> Vec<SocketUnit> {
    let stem = service.name.strip_suffix(".service").unwrap_or(&service.name);
    let mut names = vec![format!("{stem}.socket")];
    names.extend(stem.split_once('@').map(|(template, _)| format!("{template}.socket")));
    let named = service.values("Service", "Sockets");
    names.extend(named.iter().flat_map(|list| list.split_whitespace()).map(str::to_owned));
    let told = state.and_then(|s| s.more.get("TriggeredBy"));
    names.extend(told.into_iter().flat_map(|list| list.split_whitespace()).map(str::to_owned));
    names.retain(|name| name.ends_with(".socket"));
    names.sort();
    names.dedup();
    let leads_here = |socket: &Unit| {
        let target = service_of(socket);
        let template = stem.split_once('@').map(|(template, _)| format!("{template}@.service"));
        named.iter().any(|list| list.split_whitespace().any(|n| n == socket.name))
            || target.as_deref() == Some(service.name.as_str())
            || (target.is_some() && target == template)
    };
    let read = |name: String| {
        // Nobody says that there is one: what could not be seen is not missed.
        let socket = snapshot.aside(|| unit(snapshot, &name).seen());
        let socket = socket.filter(|s| !s.masked && leads_here(s))?;
        Some(of_unit(snapshot, &socket)).filter(SocketUnit::is_in_use)
    };
    names.into_iter().filter_map(read).collect()
}

fn of_unit(snapshot: &Snapshot, socket: &Unit) -> SocketUnit {
    SocketUnit {
        name: socket.name.clone(),
        file: socket.fragment.clone(),
        enabled: socket.enabled,
        listens: listens(socket),
        state: snapshot.unit(&socket.name).seen(),
    }
}

/// The socket unit by which the manager itself holds a socket. All of them are read once a snapshot.
pub fn socket_unit_of(snapshot: &Snapshot, held: &Socket) -> Option<SocketUnit> {
    let all: Arc<Vec<SocketUnit>> = snapshot.derived("socket units that listen", || {
        let names: BTreeSet<String> = UNIT_DIRECTORIES
            .iter()
            .flat_map(|dir| snapshot.list(dir).seen().unwrap_or_default())
            .map(|entry| entry.name)
            .chain(wanted(snapshot))
            // A template listens for nobody; its instances are links of those that want them.
            .filter(|name| name.ends_with(".socket") && !name.ends_with("@.socket"))
            .collect();
        let units = names.into_iter().filter_map(|name| unit(snapshot, &name).seen());
        units.map(|socket| of_unit(snapshot, &socket)).filter(SocketUnit::is_up).collect()
    });
    all.iter().find(|one| one.listens.iter().any(|(l, ..)| l.conflicts_with(held))).cloned()
}

/// The listeners of a socket unit.
fn listens(socket: &Unit) -> Vec<(Listen, String, u32)> {
    let v6_only = socket.value("Socket", "BindIPv6Only").is_some_and(|v| v == "ipv6-only");
    let mut all = Vec::new();
    for (key, protocol) in [("ListenStream", Protocol::Tcp), ("ListenDatagram", Protocol::Udp)] {
        for (value, file, line) in socket.placed("Socket", key) {
            let listen = if value.starts_with('/') {
                Some(Listen::unix(&value)).filter(|_| protocol == Protocol::Tcp)
            } else if let Ok(port) = value.parse() {
                Some(Listen { protocol, ..Listen::tcp(IpAddr::V6(Ipv6Addr::UNSPECIFIED), port, v6_only) })
            } else {
                parse_listen(&value).ok().map(|listen| Listen { protocol, v6_only, ..listen })
            };
            all.extend(listen.map(|listen| (listen, file, line)));
        }
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tests::TextHost;

    #[test]
    fn a_socket_unit_listens_for_the_service_of_its_name_or_the_one_that_it_names() {
        let system = |name: &str| format!("/etc/systemd/system/{name}");
        let host = TextHost::new()
            .file(&system("dock.service"), "[Service]\nExecStart=/opt/dock\nSockets=quay.socket\n")
            .file(&system("dock.socket"), "[Socket]\nListenStream=7401\nListenDatagram=127.0.0.1:7402\n")
            .file(&system("quay.socket"), "[Socket]\nListenStream=/run/%p/quay.sock\n")
            .file(&system("pier@.service"), "[Service]\nExecStart=/opt/pier\n")
            .file(&system("pier.socket"), "[Socket]\nAccept=yes\nListenStream=[::1]:7403\n")
            .file(&system("gull.service"), "[Service]\nExecStart=/opt/gull\n")
            .file(&system("gull.socket"), "[Socket]\nService=tern.service\nListenStream=7404\n")
            .file(&system("idle.service"), "[Service]\nExecStart=/opt/idle\n")
            .file(&system("idle.socket"), "[Socket]\nListenStream=7405\n")
            .unit("dock.socket", "active", |_| {})
            .unit("quay.socket", "failed", |_| {})
            .unit("pier.socket", "active", |_| {})
            .unit("gull.socket", "active", |_| {});
        let snapshot = Snapshot::new(&host);
        let of = |name: &str| {
            let service = unit(&snapshot, name).seen().unwrap();
            let all = socket_units(&snapshot, &service, None);
            let shown = |s: &SocketUnit| {
                let listens: Vec<_> = s.listens.iter().map(|(l, _, line)| format!("{l}@{line}")).collect();
                format!("{} {}", s.name, listens.join(" "))
            };
            all.iter().map(shown).collect::<Vec<_>>()
        };
        assert_eq!(
            of("dock.service"),
            ["dock.socket [::]:7401@2 127.0.0.1:7402@3", "quay.socket /run/quay/quay.sock@2"]
        );
        assert_eq!(of("pier@.service"), ["pier.socket [::1]:7403@3"]);
        assert_eq!(of("gull.service"), [""; 0], "it listens for another one");
        assert_eq!(of("idle.service"), [""; 0], "nothing starts it, and nobody tried");
    }
}
