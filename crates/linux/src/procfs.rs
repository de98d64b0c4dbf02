//! Processes from /proc (proc(5)): parsing apart from reading.
use crate::files;
use jolly_core::host::{Answer, Look, Process, ProcessBrief, Protocol, Socket, Unseen};
use rustix::fs::{Mode, OFlags};
use std::collections::{BTreeMap, HashSet};
use std::fs;
use std::io::Read;
use std::mem::MaybeUninit;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::os::unix::fs::MetadataExt;
use std::path::Path;

/// Numbers of all processes.
fn numbers() -> std::io::Result<Vec<u32>> {
    let mut pids: Vec<u32> = fs::read_dir("/proc")?.flatten().filter_map(|e| e.file_name().to_str()?.parse().ok()).collect();
    pids.sort_unstable();
    Ok(pids)
}

pub(crate) fn all() -> Look<Answer> {
    match numbers() {
        Ok(pids) => Look::Seen(Answer::Processes(pids.into_iter().filter_map(brief).collect())),
        Err(error) => files::unseen_io(&error),
    }
}

/// The one line of a process's `stat`, in one read: 52 numbers and a name are shorter than the room (proc(5)).
fn stat_line(path: &str) -> std::io::Result<Vec<u8>> {
    let mut room = vec![0u8; 2048];
    let length = fs::File::open(path)?.read(&mut room)?;
    room.truncate(length);
    Ok(room)
}

fn brief(pid: u32) -> Option<ProcessBrief> {
    let stat = stat_line(&format!("/proc/{pid}/stat")).ok()?;
    let uid = fs::metadata(format!("/proc/{pid}")).ok()?.uid();
    parse_stat(&String::from_utf8_lossy(&stat), pid, uid).map(|(brief, _)| brief)
}

/// The short form and the controlling terminal from a `stat` line; the name may hold blanks and parentheses.
fn parse_stat(stat: &str, pid: u32, uid: u32) -> Option<(ProcessBrief, i64)> {
    let open = stat.find('(')?;
    let close = stat.rfind(')')?;
    let name = stat.get(open + 1..close)?.to_owned();
    let fields: Vec<&str> = stat.get(close + 1..)?.split_whitespace().collect();
    let brief = ProcessBrief {
        pid,
        parent: fields.get(1)?.parse().ok()?,
        name,
        state: fields.first()?.chars().next()?,
        uid,
        start_ticks: fields.get(19)?.parse().ok()?,
    };
    Some((brief, fields.get(4)?.parse().ok()?))
}

/// One process in full; `boot` is in seconds since the epoch.
pub(crate) fn one(pid: u32, boot: Option<i64>) -> Look<Answer> {
    let base = format!("/proc/{pid}");
    let stat = match stat_line(&format!("{base}/stat")) {
        Ok(stat) => String::from_utf8_lossy(&stat).into_owned(),
        Err(error) => return files::unseen_io(&error),
    };
    let text = fs::read_to_string(format!("{base}/status")).unwrap_or_default();
    let field = |name: &str| text.lines().find_map(|l| l.strip_prefix(name)).map(str::trim).unwrap_or_default().to_owned();
    let effective = |name: &str| field(name).split_whitespace().nth(1).and_then(|n| n.parse().ok());
    let uid = effective("Uid:").unwrap_or(0);
    let Some((brief, terminal)) = parse_stat(&stat, pid, uid) else { return Look::NotSeen(Unseen::Gone) };
    let command = fs::read(format!("{base}/cmdline")).unwrap_or_default();
    let arguments = command.split(|&b| b == 0).filter(|a| !a.is_empty()).map(|a| String::from_utf8_lossy(a).into_owned()).collect();
    let target = |name: &str| fs::read_link(format!("{base}/{name}")).ok().map(|t| t.to_string_lossy().into_owned());
    let ticks = rustix::param::clock_ticks_per_second();
    let started = boot.map(|b| b + i64::try_from(brief.start_ticks / ticks.max(1)).unwrap_or(0));
    let login = fs::read_to_string(format!("{base}/loginuid")).ok().and_then(|t| t.trim().parse().ok()).filter(|u| *u != u32::MAX);
    // A process in a process-number space of its own has more than one number; that can be seen without being root.
    let nested = field("NSpid:").split_whitespace().count() > 1;
    // A root below ours is a daemon that locked itself in (chroot(2)); a container's root reads as its own "/".
    let locked_in = fs::read_link(format!("{base}/root")).is_ok_and(|r| r.as_os_str() != "/");
    let own_root = !nested
        && (locked_in
            || match (fs::metadata(format!("{base}/root/")), fs::metadata("/")) {
                (Ok(theirs), Ok(ours)) => theirs.dev() == ours.dev() && theirs.ino() == ours.ino(),
                _ => true,
            });
    Look::Seen(Answer::Process(Box::new(Process {
        executable: target("exe"),
        arguments,
        gid: effective("Gid:").unwrap_or(0),
        groups: field("Groups:").split_whitespace().filter_map(|g| g.parse().ok()).collect(),
        capabilities: u64::from_str_radix(&field("CapEff:"), 16).unwrap_or(0),
        cgroup: control_group(&fs::read_to_string(format!("{base}/cgroup")).unwrap_or_default()),
        terminal: u32::try_from(terminal).ok().filter(|t| *t != 0),
        started,
        login_uid: login,
        directory: target("cwd"),
        own_root,
        brief,
    })))
}

/// The manager's hierarchy if there is one, the unified one otherwise.
fn control_group(text: &str) -> String {
    let named = text.lines().find_map(|l| l.split_once(":name=systemd:").map(|(_, p)| p));
    let unified = text.lines().find_map(|l| l.strip_prefix("0::"));
    named.or(unified).unwrap_or_default().to_owned()
}

/// Which processes hold these sockets. Processes of the sockets' own users come first, and the walk ends once every
/// inode has a holder and its holder's relatives were looked at.
pub(crate) fn owners(inodes: &[u64], users: &BTreeMap<u64, u32>) -> Look<Answer> {
    let wanted: HashSet<u64> = inodes.iter().copied().filter(|i| *i != 0).collect();
    let pids = match numbers() {
        Ok(pids) => pids,
        Err(error) => return files::unseen_io(&error),
    };
    let likely: HashSet<u32> = wanted.iter().filter_map(|i| users.get(i)).copied().collect();
    // The owner of the directory is enough to put likely processes first; more is read of holders alone.
    let owner = |pid: u32| fs::metadata(format!("/proc/{pid}")).map(|m| m.uid()).ok();
    let mut ordered: Vec<(bool, u32)> = pids.into_iter().filter_map(|p| Some((!likely.contains(&owner(p)?), p))).collect();
    ordered.sort_unstable();
    let mut found: Vec<(u64, u32)> = Vec::new();
    let mut held: HashSet<u64> = HashSet::new();
    let mut families: HashSet<u32> = HashSet::new();
    let mut denied = false;
    for (at, (_, pid)) in ordered.iter().enumerate() {
        // With every inode found, only relatives of a holder can share it.
        if held.len() == wanted.len() {
            let rest = ordered[at..].iter().map(|(_, p)| *p);
            let near = rest.filter_map(brief).filter(|b| families.contains(&b.parent) || families.contains(&b.pid));
            for relative in near {
                let inodes = sockets_of(relative.pid, &wanted).unwrap_or_default();
                found.extend(inodes.into_iter().map(|i| (i, relative.pid)));
            }
            break;
        }
        match sockets_of(*pid, &wanted) {
            Ok(inodes) if !inodes.is_empty() => {
                let parent = brief(*pid).map_or(0, |b| b.parent);
                families.extend([*pid, parent].into_iter().filter(|p| *p > 1));
                held.extend(inodes.iter().copied());
                found.extend(inodes.into_iter().map(|i| (i, *pid)));
            }
            Ok(_) => {}
            Err(error) => denied |= error.raw_os_error() == Some(13),
        }
    }
    if found.is_empty() && denied && !wanted.is_empty() {
        return Look::NotSeen(Unseen::Denied);
    }
    // Most sockets have one holder: who came first is only asked where there are several.
    found.sort_unstable();
    let starts: BTreeMap<u32, u64> =
        found.windows(2).filter(|w| w[0].0 == w[1].0).flat_map(|w| [w[0].1, w[1].1]).filter_map(|p| Some((p, brief(p)?.start_ticks))).collect();
    found.sort_by_key(|(inode, pid)| (*inode, starts.get(pid).copied().unwrap_or(0), *pid));
    Look::Seen(Answer::Owners(found))
}

/// Inodes out of `wanted` that a process has open. Names are read relative to the directory into one buffer.
fn sockets_of(pid: u32, wanted: &HashSet<u64>) -> std::io::Result<Vec<u64>> {
    let directory = rustix::fs::open(format!("/proc/{pid}/fd"), OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty())?;
    let mut found = Vec::new();
    let mut names = [MaybeUninit::<u8>::uninit(); 8 << 10];
    let mut target = [MaybeUninit::<u8>::uninit(); 64];
    let mut entries = rustix::fs::RawDir::new(&directory, &mut names);
    while let Some(entry) = entries.next() {
        let entry = entry?;
        if entry.file_name().to_bytes().starts_with(b".") {
            continue;
        }
        let Ok((text, _)) = rustix::fs::readlinkat_raw(&directory, entry.file_name(), &mut target[..]) else { continue };
        let Some(number) = text.strip_prefix(b"socket:[").and_then(|t| t.strip_suffix(b"]")) else { continue };
        let inode = number.iter().try_fold(0u64, |sum, b| b.is_ascii_digit().then(|| sum.wrapping_mul(10).wrapping_add(u64::from(b - b'0'))));
        if let Some(inode) = inode.filter(|i| wanted.contains(i))
            && !found.contains(&inode)
        {
            found.push(inode);
        }
    }
    Ok(found)
}

/// Listening sockets from /proc/net, where netlink is not to be had.
pub(crate) fn listeners() -> std::io::Result<Vec<Socket>> {
    let mut found = Vec::new();
    for (file, protocol, state) in [("tcp", Protocol::Tcp, "0A"), ("tcp6", Protocol::Tcp, "0A"), ("udp", Protocol::Udp, "07"), ("udp6", Protocol::Udp, "07")] {
        let path = format!("/proc/net/{file}");
        if !Path::new(&path).exists() {
            continue;
        }
        found.extend(fs::read_to_string(&path)?.lines().skip(1).filter_map(|line| parse_socket(line, protocol, state)));
    }
    for line in fs::read_to_string("/proc/net/unix")?.lines().skip(1) {
        let words: Vec<&str> = line.split_whitespace().collect();
        if let [_, _, _, flags, _, _, inode, path, ..] = words.as_slice()
            && *flags == "00010000"
        {
            found.push(Socket {
                protocol: Protocol::Unix,
                address: None,
                port: 0,
                path: Some((*path).to_owned()),
                inode: inode.parse().unwrap_or(0),
                uid: 0,
                v6_only: false,
            });
        }
    }
    Ok(found)
}

fn parse_socket(line: &str, protocol: Protocol, state: &str) -> Option<Socket> {
    let words: Vec<&str> = line.split_whitespace().collect();
    if *words.get(3)? != state {
        return None;
    }
    let (address, port) = words.get(1)?.split_once(':')?;
    let word = |at: usize| u32::from_str_radix(address.get(at..at + 8)?, 16).ok().map(u32::to_ne_bytes);
    let address = if address.len() == 8 {
        IpAddr::V4(Ipv4Addr::from(word(0)?))
    } else {
        let bytes: Vec<u8> = [word(0)?, word(8)?, word(16)?, word(24)?].concat();
        IpAddr::V6(Ipv6Addr::from(<[u8; 16]>::try_from(bytes).ok()?))
    };
    Some(Socket {
        protocol,
        address: Some(address),
        port: u16::from_str_radix(port, 16).ok()?,
        path: None,
        inode: words.get(9)?.parse().ok()?,
        uid: words.get(7)?.parse().ok()?,
        v6_only: false,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_with_blanks_and_parentheses_is_whole() {
        let stat = "71 (tide (sim) x) S 1 71 71 1025 71 4194560 0 0 0 0 0 0 0 0 20 0 1 0 4242 0 0";
        let (brief, terminal) = parse_stat(stat, 71, 0).unwrap();
        assert_eq!((brief.name.as_str(), brief.state, brief.start_ticks, terminal), ("tide (sim) x", 'S', 4242, 1025));
        assert!(parse_stat("71 (cut", 71, 0).is_none());
    }

    #[test]
    fn sockets_of_the_kernels_table() {
        let line = "   0: 0100007F:1F98 00000000:0000 0A 00000000:00000000 00:00000000 00000000    33        0 9001 1";
        let socket = parse_socket(line, Protocol::Tcp, "0A").unwrap();
        assert_eq!((socket.address.unwrap().to_string(), socket.port, socket.inode, socket.uid), ("127.0.0.1".into(), 8088, 9001, 33));
        assert!(parse_socket(line, Protocol::Tcp, "07").is_none());
    }

    #[test]
    fn the_managers_hierarchy_counts() {
        let text = "5:cpu:/x\n1:name=systemd:/system.slice/front.service\n0::/y\n";
        assert_eq!(control_group(text), "/system.slice/front.service");
        assert_eq!(control_group("0::/system.slice/edge.service\n"), "/system.slice/edge.service");
    }

    #[test]
    fn finds_its_own_listener() {
        let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        let port = listener.local_addr().unwrap().port();
        let by_netlink = crate::netlink::listeners().unwrap();
        let socket = by_netlink.iter().find(|s| s.port == port && s.protocol == Protocol::Tcp).expect("netlink shows it");
        let by_table = listeners().unwrap();
        assert!(by_table.iter().any(|s| s.port == port && s.inode == socket.inode), "both sources agree");
        let Look::Seen(Answer::Owners(owners)) = owners(&[socket.inode], &BTreeMap::new()) else { panic!("not seen") };
        assert_eq!(owners, [(socket.inode, std::process::id())]);
    }

    #[test]
    fn a_process_is_the_same_in_brief_and_in_full() {
        let mut child = std::process::Command::new("sleep").arg("60").spawn().unwrap();
        let pid = child.id();
        let Look::Seen(Answer::Processes(all)) = all() else { panic!("not seen") };
        let listed = all.iter().find(|b| b.pid == pid).cloned().expect("it is listed");
        let Look::Seen(Answer::Process(whole)) = one(pid, Some(1_000)) else { panic!("not seen") };
        assert_eq!((listed.pid, listed.parent, listed.uid, listed.start_ticks), (pid, std::process::id(), whole.brief.uid, whole.brief.start_ticks));
        assert_eq!(whole.brief.parent, std::process::id());
        assert!(all.windows(2).all(|w| w[0].pid < w[1].pid), "each once, in order");
        child.kill().unwrap();
        // Dead and not collected yet: it is listed, and has neither arguments nor an executable.
        let dead = || brief(pid).is_some_and(|b| b.state == 'Z');
        while !dead() {
            std::thread::yield_now();
        }
        let Look::Seen(Answer::Process(whole)) = one(pid, Some(1_000)) else { panic!("not seen") };
        assert!(whole.arguments.is_empty() && whole.executable.is_none());
        child.wait().unwrap();
        assert!(brief(pid).is_none());
        assert_eq!(one(pid, Some(1_000)), Look::Absent);
    }

    #[test]
    fn a_line_of_a_process_is_whole_in_one_read() {
        let once = stat_line("/proc/self/stat").unwrap();
        assert!(once.ends_with(b"\n") && once.starts_with(std::process::id().to_string().as_bytes()), "{}", String::from_utf8_lossy(&once));
        assert!(stat_line("/proc/none/stat").is_err());
    }
}
