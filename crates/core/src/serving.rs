//! Everything on a host that serves, known or not: daemons of a known kind and what the services file
//! describes, units that hold a listener, and units that were to be started and failed. The plumbing of the
//! system is left out unless it is asked for.
use crate::case;
use crate::host::{Look, Protocol};
use crate::manager;
use crate::service::{self, Service};
use crate::services_file::ServicesFile;
use crate::snapshot::Snapshot;
use std::collections::BTreeSet;

/// Units by which the system itself runs, whatever they listen on. Names may hold `*`.
const PLUMBING: &[&str] = &[
    "NetworkManager*.service",
    "accounts-daemon.service",
    "apparmor.service",
    "auditd.service",
    "console-*.service",
    "containerd.service",
    "cron.service",
    "crond.service",
    "dbus*.service",
    "dhclient*.service",
    "docker.service",
    "e2scrub*.service",
    "firewalld.service",
    "getty@*.service",
    "ifup@*.service",
    "irqbalance.service",
    "keyboard-*.service",
    "libvirtd.service",
    "lvm2*.service",
    "multipathd.service",
    "networking.service",
    "nftables.service",
    "polkit.service",
    "rpcbind.service",
    "rsyslog.service",
    "serial-getty@*.service",
    "smartd.service",
    "snapd*.service",
    "ssh@*.service",
    "systemd-*.service",
    "udisks2.service",
    "unattended-upgrades.service",
    "user-runtime-dir@*.service",
    "user@*.service",
    "wpa_supplicant*.service",
];

/// How much is listed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Extent {
    /// What serves.
    Serving,
    /// Every unit that runs something for good.
    Everything,
}

/// The services of a host, in the order of their names.
pub fn serving(snapshot: &Snapshot, file: &ServicesFile, extent: Extent) -> Vec<Service> {
    let mut found = service::find(snapshot, file);
    if file.only_these {
        return found;
    }
    let names: BTreeSet<String> = match extent {
        Extent::Everything => manager::service_names(snapshot).into_iter().collect(),
        Extent::Serving => {
            let mut all = listening(snapshot);
            all.extend(manager::wanted_names(snapshot).into_iter().filter(|name| failed(snapshot, name)));
            all.extend(listened_for(snapshot));
            all.retain(|name| !PLUMBING.iter().any(|pattern| crate::path::matches(pattern, name, false)));
            all
        }
    };
    for name in names {
        let Look::Seen(unit) = manager::unit(snapshot, &name) else { continue };
        let plain = unit.name.trim_end_matches(".service");
        let known = found.iter().any(|s| {
            s.unit_name() == Some(unit.name.as_str())
                || s.name == plain
                || s.aliases.iter().any(|a| a == plain)
        });
        // What ends when its work is done serves nobody.
        let once = unit.value("Service", "Type").as_deref() == Some("oneshot");
        if !known && !once && !unit.commands("ExecStart").is_empty() {
            found.extend(service::of_any_unit(snapshot, unit));
        }
    }
    if extent == Extent::Everything {
        for name in manager::script_names(snapshot) {
            if !found.iter().any(|s| s.name == name || s.aliases.contains(&name)) {
                found.extend(service::of_any_script(snapshot, &name));
            }
        }
    }
    found.sort_by(|a, b| a.name.cmp(&b.name));
    found
}

/// Units that hold a listener of the network now.
fn listening(snapshot: &Snapshot) -> BTreeSet<String> {
    let sockets = snapshot.listeners().seen().unwrap_or_default();
    let mut inodes: Vec<u64> =
        sockets.iter().filter(|s| s.protocol == Protocol::Tcp).map(|s| s.inode).filter(|i| *i != 0).collect();
    inodes.sort_unstable();
    inodes.dedup();
    let owners = snapshot.owners(&inodes).seen().unwrap_or_default();
    let mut pids: Vec<u32> = owners.into_iter().map(|(_, pid)| pid).filter(|pid| *pid > 1).collect();
    pids.sort_unstable();
    pids.dedup();
    let unit_of = |pid: u32| {
        let process = snapshot.process(pid).seen().filter(|p| p.own_root)?;
        case::owner_of(snapshot, &process.cgroup).filter(|name| name.ends_with(".service"))
    };
    pids.into_iter().filter_map(unit_of).collect()
}

/// Services that a wanted socket unit listens for on the network, or would, had it not failed.
fn listened_for(snapshot: &Snapshot) -> BTreeSet<String> {
    let of_service = |name: String| {
        // Most are the system's own: what could not be seen of them is not missed.
        let socket = snapshot.aside(|| manager::unit(snapshot, &name).seen());
        let socket = socket.filter(|socket| !socket.masked)?;
        let on_network = |key: &str| socket.values("Socket", key).iter().any(|v| !v.starts_with(['/', '@']));
        let serves = on_network("ListenStream") || on_network("ListenDatagram");
        manager::service_of(&socket).filter(|_| serves || failed(snapshot, &name))
    };
    manager::wanted_sockets(snapshot).into_iter().filter_map(of_service).collect()
}

/// Whether the manager says that a unit has failed.
fn failed(snapshot: &Snapshot, name: &str) -> bool {
    snapshot.unit(name).seen().is_some_and(|u| u.active_state == "failed")
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tests::TextHost;

    fn names(host: &TextHost, extent: Extent) -> String {
        let file = crate::services_file::parse("").unwrap();
        let found = serving(&Snapshot::new(host), &file, extent);
        found.into_iter().map(|s| format!("{}:{}", s.name, s.kind.name())).collect::<Vec<_>>().join(" ")
    }

    #[test]
    fn what_listens_and_what_failed_is_listed_and_the_plumbing_is_not() {
        let unit = |command: &str| format!("[Service]\nExecStart={command}\n");
        let group = |name: &str| format!("/system.slice/{name}.service");
        let mut host = TextHost::new()
            .file("/etc/systemd/system/once.service", "[Service]\nType=oneshot\nExecStart=/bin/true\n")
            .process(700, "/opt/tide/relay", 4071, &group("tide-relay"))
            .listens("0.0.0.0", 7400, &[700])
            .process(701, "/usr/sbin/resolver", 0, &group("systemd-resolved"))
            .listens("127.0.0.53", 53, &[701])
            .process(702, "/opt/idle", 0, &group("idle"))
            .unit("tide-relay.service", "active", |_| {})
            .unit("gull.service", "failed", |_| {})
            .unit("once.service", "failed", |_| {})
            .unit("tern.service", "failed", |_| {})
            .file("/etc/systemd/system/pier.socket", "[Socket]\nListenStream=7401\n")
            .link("/etc/systemd/system/sockets.target.wants/pier.socket", "../pier.socket")
            .file("/etc/systemd/system/local.socket", "[Socket]\nListenStream=/run/local.sock\n")
            .link("/etc/systemd/system/sockets.target.wants/local.socket", "../local.socket");
        for name in ["tide-relay", "systemd-resolved", "idle", "gull", "tern", "pier", "local"] {
            host = host.file(&format!("/etc/systemd/system/{name}.service"), &unit("/opt/tide/relay"));
        }
        for name in ["gull", "once"] {
            let link = format!("/etc/systemd/system/multi-user.target.wants/{name}.service");
            host = host.link(&link, &format!("../{name}.service"));
        }
        assert_eq!(names(&host, Extent::Serving), "gull:program pier:program tide-relay:program");
        assert_eq!(
            names(&host, Extent::Everything),
            "gull:program idle:program local:program pier:program systemd-resolved:program tern:program \
                tide-relay:program"
        );
    }
}
