//! Processes from /proc (proc(5)): parsing apart from reading.
use crate::files;
use jolly_core::host::{Answer, Look, Process, ProcessBrief, Protocol, Socket, Unseen, text};
use rustix::fs::{AtFlags, Mode, OFlags, RawDir};
use rustix::path::DecInt;
use std::fs;
use std::mem::MaybeUninit;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::os::fd::OwnedFd;
use std::path::Path;
use std::sync::OnceLock;

/// The directory that all of this is read below, held open: names below it are found quicker than whole
/// paths.
pub(crate) fn directory() -> rustix::io::Result<OwnedFd> {
    rustix::fs::open("/proc", OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty())
}

/// All processes in brief, in the order of their numbers, and their terminals.
#[derive(Debug, Default)]
pub(crate) struct Listing {
    pub(crate) briefs: Vec<ProcessBrief>,
    /// Device numbers of the controlling terminals, one for each process; 0 where it has none.
    terminals: Vec<i64>,
}

impl Listing {
    /// What was read of a process. Who waited in the kernel is to be looked at again.
    fn known(&self, pid: u32) -> Option<(ProcessBrief, i64)> {
        let at = self.briefs.binary_search_by_key(&pid, |b| b.pid).ok()?;
        let brief = self.briefs.get(at).filter(|b| b.state != 'D')?;
        Some((brief.clone(), *self.terminals.get(at)?))
    }
}

/// All processes.
pub(crate) fn all() -> rustix::io::Result<Listing> {
    let proc = directory()?;
    let mut names = [MaybeUninit::<u8>::uninit(); 16 << 10];
    let mut entries = RawDir::new(&proc, &mut names);
    let mut pids: Vec<u32> = Vec::new();
    while let Some(entry) = entries.next() {
        pids.extend(entry?.file_name().to_str().ok().and_then(|n| n.parse::<u32>().ok()));
    }
    pids.sort_unstable();
    let mut room = Vec::new();
    let (briefs, terminals) = pids.into_iter().filter_map(|pid| brief(&proc, pid, &mut room)).unzip();
    Ok(Listing { briefs, terminals })
}

/// What stands in a file of /proc, into a room that is used again: most are read at once (proc(5)).
fn contents<'r>(directory: &OwnedFd, name: &str, room: &'r mut Vec<u8>) -> rustix::io::Result<&'r [u8]> {
    let file = rustix::fs::openat(
        directory,
        name,
        OFlags::RDONLY | OFlags::CLOEXEC | OFlags::NOCTTY,
        Mode::empty(),
    )?;
    room.resize(room.len().max(4 << 10), 0);
    let mut filled = 0;
    loop {
        let space = room.len() - filled;
        let read = rustix::io::read(&file, &mut room[filled..])?;
        filled += read;
        // A short answer is a whole one; only what fills the room can have more behind it.
        if read < space {
            return Ok(&room[..filled]);
        }
        let longer = room.len() * 4;
        room.resize(longer, 0);
    }
}

/// A file of /proc as text, in few reads: the standard library begins with 32 bytes, since these files tell
/// no length. One of many records gives only whole ones at a time, so that only nothing more is the end.
///
/// # Errors
/// Where it cannot be read.
pub(crate) fn whole(name: &str) -> std::io::Result<String> {
    let file = rustix::fs::openat(
        directory()?,
        name,
        OFlags::RDONLY | OFlags::CLOEXEC | OFlags::NOCTTY,
        Mode::empty(),
    )?;
    let (mut bytes, mut room) = (Vec::new(), [0; 4 << 10]);
    loop {
        match rustix::io::read(&file, &mut room)? {
            0 => return Ok(text(&bytes).into_owned()),
            read => bytes.extend_from_slice(&room[..read]),
        }
    }
}

fn brief(proc: &OwnedFd, pid: u32, room: &mut Vec<u8>) -> Option<(ProcessBrief, i64)> {
    let stat = contents(proc, &format!("{pid}/stat"), room).ok()?;
    // The directory's own owner is the process's; that of the files in it is root where the process keeps its
    // memory to itself.
    let uid = rustix::fs::statat(proc, DecInt::new(pid), AtFlags::empty()).ok()?.st_uid;
    parse_stat(&text(stat), pid, uid)
}

/// The short form and the controlling terminal from a `stat` line; the name may hold blanks and parentheses.
fn parse_stat(stat: &str, pid: u32, uid: u32) -> Option<(ProcessBrief, i64)> {
    let open = stat.find('(')?;
    let close = stat.rfind(')')?;
    let name = stat.get(open + 1..close)?.to_owned();
    let mut fields = stat.get(close + 1..)?.split_ascii_whitespace();
    let state = fields.next()?.chars().next()?;
    let parent = fields.next()?.parse().ok()?;
    let terminal = fields.nth(2)?.parse().ok()?;
    let start_ticks = fields.nth(14)?.parse().ok()?;
    Some((ProcessBrief { pid, parent, name, state, uid, start_ticks }, terminal))
}

/// Device and inode of this program's own root.
fn own_root() -> Option<(u64, u64)> {
    static ROOT: OnceLock<Option<(u64, u64)>> = OnceLock::new();
    *ROOT.get_or_init(|| rustix::fs::stat("/").ok().map(|s| (s.st_dev, s.st_ino)))
}

/// The `stat` of a process. All work waits in the kernel now and then: who seems to is looked at again.
fn stat_line(base: &OwnedFd, room: &mut Vec<u8>) -> rustix::io::Result<String> {
    const LOOKS: usize = 4;
    const BETWEEN: std::time::Duration = std::time::Duration::from_millis(15);
    let mut stat = String::new();
    for look in 0..LOOKS {
        if look > 0 {
            std::thread::sleep(BETWEEN);
        }
        stat = text(contents(base, "stat", room)?).into_owned();
        if !waits(&stat) {
            break;
        }
    }
    Ok(stat)
}

/// Whether a line of `stat` tells of a wait that no signal ends (state D, proc(5)).
fn waits(stat: &str) -> bool {
    stat.rsplit_once(')').is_some_and(|(_, rest)| rest.trim_start().starts_with('D'))
}

/// One process in full; `boot` is in seconds since the epoch. What a listing of this very moment has of it is
/// not read again.
pub(crate) fn one(pid: u32, boot: Option<i64>, listing: Option<&Listing>) -> Look<Answer> {
    let flags = OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC;
    let base = match rustix::fs::open(format!("/proc/{pid}"), flags, Mode::empty()) {
        Ok(base) => base,
        Err(errno) => return files::unseen(errno),
    };
    let mut room = Vec::new();
    let listed = match listing.and_then(|l| l.known(pid)) {
        Some(known) => Some(known),
        None => match stat_line(&base, &mut room) {
            Ok(stat) => parse_stat(&stat, pid, 0),
            Err(errno) => return files::unseen(errno),
        },
    };
    let Some((brief, terminal)) = listed else { return Look::NotSeen(Unseen::Gone) };
    let status = contents(&base, "status", &mut room).map(|s| text(s).into_owned()).unwrap_or_default();
    let field =
        |name: &str| status.lines().find_map(|l| l.strip_prefix(name)).map(str::trim).unwrap_or_default();
    let effective = |name: &str| field(name).split_whitespace().nth(1).and_then(|n| n.parse().ok());
    let brief = ProcessBrief { uid: effective("Uid:").unwrap_or(brief.uid), ..brief };
    let command = contents(&base, "cmdline", &mut room).unwrap_or_default();
    let arguments =
        command.split(|&b| b == 0).filter(|a| !a.is_empty()).map(|a| text(a).into_owned()).collect();
    let target = |name: &str| {
        rustix::fs::readlinkat(&base, name, Vec::new()).ok().map(|t| text(t.as_bytes()).into_owned())
    };
    let ticks = rustix::param::clock_ticks_per_second();
    let started = boot.map(|b| b + i64::try_from(brief.start_ticks / ticks.max(1)).unwrap_or(0));
    let mut file =
        |name: &str| contents(&base, name, &mut room).map(|t| text(t).into_owned()).unwrap_or_default();
    let login = file("loginuid").trim().parse().ok().filter(|u| *u != u32::MAX);
    let cgroup = control_group(&file("cgroup"));
    // A process in a process-number space of its own has more than one number; that can be seen without being
    // root.
    let nested = field("NSpid:").split_whitespace().count() > 1;
    // A root below ours is a daemon that locked itself in (chroot(2)); a container's root reads as its own
    // "/".
    let locked_in = || target("root").is_some_and(|r| r != "/");
    let same_root = || {
        rustix::fs::statat(&base, "root/", AtFlags::empty())
            .map_or(true, |s| own_root().is_none_or(|own| own == (s.st_dev, s.st_ino)))
    };
    let own_root = !nested && (same_root() || locked_in());
    Look::Seen(Answer::Process(Box::new(Process {
        executable: target("exe"),
        arguments,
        gid: effective("Gid:").unwrap_or(0),
        groups: field("Groups:").split_whitespace().filter_map(|g| g.parse().ok()).collect(),
        capabilities: u64::from_str_radix(field("CapEff:"), 16).unwrap_or(0),
        cgroup,
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

/// Listening sockets from /proc/net, where netlink is not to be had.
pub(crate) fn listeners() -> std::io::Result<Vec<Socket>> {
    let mut found = Vec::new();
    for (file, protocol, state) in [
        ("tcp", Protocol::Tcp, "0A"),
        ("tcp6", Protocol::Tcp, "0A"),
        ("udp", Protocol::Udp, "07"),
        ("udp6", Protocol::Udp, "07"),
    ] {
        let path = format!("/proc/net/{file}");
        if !Path::new(&path).exists() {
            continue;
        }
        found.extend(
            fs::read_to_string(&path)?.lines().skip(1).filter_map(|line| parse_socket(line, protocol, state)),
        );
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
        assert_eq!(
            (brief.name.as_str(), brief.state, brief.start_ticks, terminal),
            ("tide (sim) x", 'S', 4242, 1025)
        );
        assert!(parse_stat("71 (cut", 71, 0).is_none());
    }

    #[test]
    fn a_wait_in_the_kernel_is_told_from_a_name_that_looks_like_one() {
        assert!(waits("71 (tide) D 1 71 71 0 -1"));
        assert!(!waits("71 (tide) D) S 1 71 71 0 -1") && !waits("71 (D) R 1") && !waits("71 (cut"));
    }

    #[test]
    fn sockets_of_the_kernels_table() {
        let line = "   0: 0100007F:1F98 00000000:0000 0A 00000000:00000000 00:00000000 \
            00000000    33        0 9001 1";
        let socket = parse_socket(line, Protocol::Tcp, "0A").unwrap();
        assert_eq!(
            (socket.address.unwrap().to_string(), socket.port, socket.inode, socket.uid),
            ("127.0.0.1".into(), 8088, 9001, 33)
        );
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
        let socket = by_netlink
            .iter()
            .find(|s| s.port == port && s.protocol == Protocol::Tcp)
            .expect("netlink shows it");
        let by_table = listeners().unwrap();
        assert!(by_table.iter().any(|s| s.port == port && s.inode == socket.inode), "both sources agree");
    }

    #[test]
    fn a_process_is_the_same_in_brief_and_in_full() {
        let mut child = std::process::Command::new("sleep").arg("60").spawn().unwrap();
        let pid = child.id();
        // Its state is compared as well: it is to be asleep, not on its way there.
        let asleep =
            || all().unwrap().briefs.iter().any(|b| b.pid == pid && b.state == 'S' && b.name == "sleep");
        while !asleep() {
            std::thread::yield_now();
        }
        let listing = all().unwrap();
        let all = &listing.briefs;
        let listed = all.iter().find(|b| b.pid == pid).cloned().expect("it is listed");
        let Look::Seen(Answer::Process(whole)) = one(pid, Some(1_000), None) else { panic!("not seen") };
        assert_eq!(
            one(pid, Some(1_000), Some(&listing)),
            Look::Seen(Answer::Process(whole.clone())),
            "with what the list has of it"
        );
        assert_eq!(
            (listed.pid, listed.parent, listed.uid, listed.start_ticks),
            (pid, std::process::id(), whole.brief.uid, whole.brief.start_ticks)
        );
        assert_eq!(whole.brief.parent, std::process::id());
        assert!(all.windows(2).all(|w| w[0].pid < w[1].pid), "each once, in order");
        child.kill().unwrap();
        // Dead and not collected yet: it is listed, and has neither arguments nor an executable.
        let proc = directory().unwrap();
        let dead = || brief(&proc, pid, &mut Vec::new()).is_some_and(|(b, _)| b.state == 'Z');
        while !dead() {
            std::thread::yield_now();
        }
        let Look::Seen(Answer::Process(whole)) = one(pid, Some(1_000), None) else { panic!("not seen") };
        assert!(whole.arguments.is_empty() && whole.executable.is_none());
        child.wait().unwrap();
        assert!(brief(&proc, pid, &mut Vec::new()).is_none());
        assert_eq!(one(pid, Some(1_000), Some(&listing)), Look::Absent);
    }

    #[test]
    fn what_stands_in_a_file_is_whole_whatever_its_length() {
        let proc = directory().unwrap();
        let mut room = Vec::new();
        let own = contents(&proc, "self/stat", &mut room).unwrap();
        assert!(
            own.ends_with(b"\n") && own.starts_with(std::process::id().to_string().as_bytes()),
            "{}",
            String::from_utf8_lossy(own)
        );
        assert!(contents(&proc, "none/stat", &mut room).is_err());
        let mounts = fs::read_to_string("/proc/self/mountinfo").unwrap();
        assert_eq!(whole("self/mountinfo").unwrap().lines().count(), mounts.lines().count());
        // Arguments longer than the first room, exactly as long, and shorter after a longer one.
        for length in [100_000usize, (4 << 10) - 3, 10] {
            let mut child = std::process::Command::new("sh")
                .args(["-c", "read x", &"a".repeat(length)])
                .stdin(std::process::Stdio::piped())
                .spawn()
                .unwrap();
            let whole = format!("sh\0-c\0read x\0{}\0", "a".repeat(length));
            let name = format!("{}/cmdline", child.id());
            // Between fork and exec the child still has this program's arguments.
            while !contents(&proc, &name, &mut room).unwrap().starts_with(b"sh\0") {
                std::thread::yield_now();
            }
            assert!(contents(&proc, &name, &mut room).unwrap() == whole.as_bytes(), "{length}");
            drop(child.stdin.take());
            child.wait().unwrap();
        }
    }
}
