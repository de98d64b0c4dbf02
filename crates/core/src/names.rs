//! Host names, as far as the host's own files tell. What only DNS could answer is not seen, never absent.
use crate::host::{Look, Unseen};
use crate::snapshot::Snapshot;
use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::Arc;

/// Addresses of a name from the hosts file. Reserved names never resolve (RFC 6761).
pub fn lookup(snapshot: &Snapshot, name: &str) -> Look<Vec<IpAddr>> {
    if let Ok(address) = name.parse() {
        return Look::Seen(vec![address]);
    }
    if let Some(found) = hosts(snapshot).get(&name.to_ascii_lowercase()) {
        return Look::Seen(found.clone());
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

/// The same, and what the hosts file does not know is looked up as the host's programs do.
pub fn resolve(snapshot: &Snapshot, name: &str) -> Look<Vec<IpAddr>> {
    match lookup(snapshot, name) {
        Look::NotSeen(_) => snapshot.resolve(name),
        known => known,
    }
}

/// The hosts file, by its names in lower case; it is read once, however many names are looked up.
fn hosts(snapshot: &Snapshot) -> Arc<HashMap<String, Vec<IpAddr>>> {
    snapshot.derived("hosts", || {
        let text = snapshot.text("/etc/hosts").seen().unwrap_or_default();
        let mut names: HashMap<String, Vec<IpAddr>> = HashMap::new();
        for line in text.lines() {
            let mut words = line.split('#').next().unwrap_or_default().split_whitespace();
            let Some(address) = words.next().and_then(|a| a.parse().ok()) else { continue };
            for name in words {
                let known = names.entry(name.to_ascii_lowercase()).or_default();
                if !known.contains(&address) {
                    known.push(address);
                }
            }
        }
        names
    })
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
