//! Ports that nobody has.
use crate::service::Service;
use crate::snapshot::Snapshot;

/// Ports near `near` that nobody holds, no configuration wants, and the kernel does not hand out.
pub fn free_ports(snapshot: &Snapshot, services: &[Service], near: u16, count: usize) -> Vec<u16> {
    let mut taken: Vec<u16> =
        snapshot.listeners().seen().unwrap_or_default().iter().map(|s| s.port).collect();
    for service in services {
        let config = service.configuration(snapshot);
        taken.extend(config.model.listens.iter().map(|l| l.listen.port));
        taken.extend(config.model.ports.iter().map(|p| p.port));
        taken.extend(service.described.listens().iter().map(|l| l.port));
    }
    let range = snapshot.text("/proc/sys/net/ipv4/ip_local_port_range").seen().unwrap_or_default();
    let mut bounds = range.split_whitespace().filter_map(|n| n.parse::<u16>().ok());
    let (low, high) = (bounds.next().unwrap_or(32768), bounds.next().unwrap_or(60999));
    let privileged = near < 1024;
    let start = if privileged { near.max(80).saturating_add(8000) } else { near };
    (0..=u16::MAX)
        .flat_map(|step| [start.checked_add(step), start.checked_sub(step).filter(|_| step > 0)])
        .flatten()
        .filter(|p| *p >= 1024 && !(low..=high).contains(p) && !taken.contains(p))
        .take(count)
        .collect()
}
