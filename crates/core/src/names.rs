//! Host names, as far as the host's own files tell. What only DNS could answer is not seen, never absent.
use crate::host::{Look, Unseen};
use crate::snapshot::Snapshot;
use std::net::IpAddr;

/// Addresses of a name from the hosts file. Reserved names never resolve (RFC 6761).
pub fn lookup(snapshot: &Snapshot, name: &str) -> Look<Vec<IpAddr>> {
    if let Ok(address) = name.parse() {
        return Look::Seen(vec![address]);
    }
    let hosts = snapshot.text("/etc/hosts").seen().unwrap_or_default();
    let mut found = Vec::new();
    for line in hosts.lines() {
        let mut words = line.split('#').next().unwrap_or_default().split_whitespace();
        let Some(address) = words.next().and_then(|a| a.parse().ok()) else { continue };
        if words.any(|w| w.eq_ignore_ascii_case(name)) && !found.contains(&address) {
            found.push(address);
        }
    }
    if !found.is_empty() {
        return Look::Seen(found);
    }
    let lower = name.trim_end_matches('.').to_ascii_lowercase();
    if lower == "localhost" || lower.ends_with(".localhost") {
        // Without a line in the hosts file only some name services know it.
        let switch = snapshot.text("/etc/nsswitch.conf").seen().unwrap_or_default();
        let line = switch.lines().find(|l| l.trim_start().starts_with("hosts:")).unwrap_or_default();
        let known = line.contains("myhostname") || line.contains("resolve");
        return if known { Look::Seen(vec![std::net::Ipv4Addr::LOCALHOST.into()]) } else { Look::Absent };
    }
    let never = lower.ends_with(".invalid") || lower == "invalid" || !well_formed(&lower);
    if never { Look::Absent } else { Look::NotSeen(Unseen::PartMissing) }
}

/// Whether the text can be a host name at all.
fn well_formed(name: &str) -> bool {
    let label = |l: &str| {
        !l.is_empty()
            && l.len() < 64
            && l.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-' || b == b'_')
    };
    name.len() < 254 && name.split('.').all(label)
}

/// Whether the kernel lets programs bind addresses that the host does not have.
pub fn may_bind_foreign(snapshot: &Snapshot, address: IpAddr) -> bool {
    let file = if address.is_ipv4() {
        "/proc/sys/net/ipv4/ip_nonlocal_bind"
    } else {
        "/proc/sys/net/ipv6/ip_nonlocal_bind"
    };
    snapshot.text(file).seen().is_some_and(|t| t.trim() == "1")
}
