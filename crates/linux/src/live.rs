//! The live Linux machine.
use crate::cage::Cage;
use crate::descent::{descend, directory, without_links, words};
use crate::manager::Manager;
use crate::patience::Patience;
use crate::{descriptors, files, journal_files, netlink, procfs};
use jolly_core::host::{
    Answer, ClockReading, FileKind, Host, LoginAnswer, LoginOutcome, LoginRequest, Look, Mount, Myself,
    Parts, ProbeAnswer, ProbeRequest, Question,
};
use jolly_core::trust::{Last, Refusal, Replacer};
use rustix::fs::{Mode, OFlags};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::os::fd::OwnedFd;
use std::path::Path;
use std::sync::{Arc, Mutex, OnceLock, PoisonError};
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

/// The machine this program runs on.
#[derive(Debug)]
pub struct LiveHost {
    manager: Manager,
    limit: Duration,
    patience: Patience,
    /// The file that was read last.
    held: Arc<files::Held>,
    /// The sockets that were listed last, to look at likely processes first, and when that was.
    listed: Mutex<Option<(Instant, Arc<Listed>)>>,
    /// All processes in brief, for whoever looks for holders right after they were listed.
    processes: Recent<Arc<procfs::Listing>>,
    /// Connections by local port.
    connections: Recent<Arc<Connections>>,
    /// Boot, in microseconds since the epoch.
    booted: OnceLock<Option<i64>>,
}

/// What is kept of a list of sockets.
#[derive(Debug, Default)]
struct Listed {
    /// Their users by inode.
    users: BTreeMap<u64, u32>,
    ports: BTreeSet<u16>,
}

/// How many connections these local ports have.
#[derive(Debug)]
struct Connections {
    ports: BTreeSet<u16>,
    counts: HashMap<u16, u32>,
}

impl Connections {
    fn of(&self, port: u16) -> Option<u32> {
        self.ports.contains(&port).then(|| self.counts.get(&port).copied().unwrap_or(0))
    }
}

/// What was found out a moment ago and holds for that moment.
#[derive(Debug)]
struct Recent<T>(Mutex<Option<(Instant, T)>>);

impl<T> Default for Recent<T> {
    fn default() -> Self {
        Self(Mutex::new(None))
    }
}

impl<T: Clone> Recent<T> {
    fn get(&self, age: Duration) -> Option<T> {
        self.since(Instant::now().checked_sub(age)?)
    }

    /// What was found out at that moment or later.
    fn since(&self, moment: Instant) -> Option<T> {
        let held = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        held.as_ref().filter(|(when, _)| *when >= moment).map(|(_, what)| what.clone())
    }

    fn put(&self, what: T) -> T {
        *self.0.lock().unwrap_or_else(PoisonError::into_inner) = Some((Instant::now(), what.clone()));
        what
    }
}

impl LiveHost {
    /// The live host; `patience` bounds any single look.
    pub fn new(patience: Duration) -> Self {
        let mounts = procfs::whole("self/mountinfo").unwrap_or_default();
        Self {
            manager: Manager::default(),
            limit: patience,
            patience: Patience::new(patience, &mounts),
            held: Arc::default(),
            listed: Mutex::default(),
            processes: Recent::default(),
            connections: Recent::default(),
            booted: OnceLock::new(),
        }
    }

    /// Boot in microseconds since the epoch, read once.
    fn booted(&self) -> Option<i64> {
        *self.booted.get_or_init(boot_time)
    }

    /// The first port is asked for alone; a second one makes it worth while to count those of all listeners:
    /// a host with many connections is not gone through for each.
    fn clients(&self, port: u16) -> Look<Answer> {
        let known = self.connections.get(Duration::from_secs(1));
        if let Some(count) = known.as_ref().and_then(|k| k.of(port)) {
            return Look::Seen(Answer::Count(count));
        }
        let others = known.and_then(|_| self.listed()).map(|(_, listed)| listed.ports.clone());
        let ports: BTreeSet<u16> = others.unwrap_or_default().into_iter().chain([port]).collect();
        match netlink::clients(&ports) {
            Ok(counts) => Look::Seen(Answer::Count(
                self.connections.put(Arc::new(Connections { ports, counts })).of(port).unwrap_or(0),
            )),
            Err(errno) => files::unseen(errno),
        }
    }

    fn listed(&self) -> Option<(Instant, Arc<Listed>)> {
        self.listed.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    fn listeners(&self) -> Look<Answer> {
        let found = netlink::listeners().or_else(|_| procfs::listeners());
        match found {
            Ok(sockets) => {
                let users = sockets.iter().map(|s| (s.inode, s.uid)).collect();
                let ports = sockets.iter().map(|s| s.port).filter(|p| *p != 0).collect();
                *self.listed.lock().unwrap_or_else(PoisonError::into_inner) =
                    Some((Instant::now(), Arc::new(Listed { users, ports })));
                Look::Seen(Answer::Listeners(sockets))
            }
            Err(error) => files::unseen_io(&error),
        }
    }

    fn processes(&self) -> Look<Answer> {
        match procfs::all() {
            Ok(all) => Look::Seen(Answer::Processes(self.processes.put(Arc::new(all)).briefs.clone())),
            Err(errno) => files::unseen(errno),
        }
    }

    fn owners(&self, inodes: &[u64]) -> Look<Answer> {
        let (when, listed) = self.listed().unwrap_or_else(|| (Instant::now(), Arc::default()));
        // Who holds a socket was there when it was listed: only an older list of processes could lack the
        // holder.
        let known = self.processes.since(when).filter(|_| self.processes.get(FRESH).is_some());
        let found = match known {
            Some(known) => descriptors::owners(inodes, &listed.users, &known.briefs),
            None => procfs::all().and_then(|all| {
                descriptors::owners(inodes, &listed.users, &self.processes.put(Arc::new(all)).briefs)
            }),
        };
        found.map_or_else(files::unseen, |owners| Look::Seen(Answer::Owners(owners)))
    }
}

/// How long a list of processes is good for the search of their sockets, and for what stands in it of each.
const FRESH: Duration = Duration::from_millis(200);

impl LiveHost {
    fn journal(&self, look: impl FnOnce(&Cage) -> Look<Answer>) -> Look<Answer> {
        match Cage::new(Path::new("/")) {
            Ok(root) => look(&root),
            Err(errno) => files::unseen(errno),
        }
    }
}

impl Host for LiveHost {
    fn ask(&self, question: &Question) -> Look<Answer> {
        match question {
            Question::Stat(p) => self.patience.look(p, |p| files::status(p, true)),
            Question::LinkStat(p) => self.patience.look(p, |p| files::status(p, false)),
            Question::ReadLink(p) => self.patience.look(p, files::link),
            Question::List(p) => self.patience.look(p, files::list),
            Question::Read(p) => self.patience.look(p, files::read),
            Question::FindString(p, needle, whole) => {
                let (needle, whole) = (needle.clone(), *whole);
                self.patience.look(p, move |p| files::find_string(p, &needle, whole))
            }
            Question::ReadAt(p, offset, length) => {
                let (offset, length) = (*offset, *length);
                let held = self.held.clone();
                self.patience.look(p, move |p| held.read_at(p, offset, length))
            }
            Question::Space(p) => self.patience.look(p, files::space),
            Question::Mounts => mounts(),
            Question::Processes => self.processes(),
            Question::Process(pid) => {
                procfs::one(*pid, self.booted().map(|b| b / 1_000_000), self.processes.get(FRESH).as_deref())
            }
            Question::Listeners => self.listeners(),
            Question::SocketOwners(inodes) => self.owners(inodes),
            Question::Clients(port) => self.clients(*port),
            Question::Unit(name) => self.manager.unit(name),
            Question::Journal(unit, most) => self.journal(|root| journal_files::entries(root, unit, *most)),
            Question::JournalOf(field, most) => {
                self.journal(|root| journal_files::entries_of(root, field, *most))
            }
            Question::Resolve(name) => resolve(name, self.limit),
            Question::Addresses => match netlink::addresses() {
                Ok(found) => Look::Seen(Answer::Addresses(found)),
                Err(errno) => files::unseen(errno),
            },
            Question::Clock => clock(),
            Question::Myself => Look::Seen(Answer::Myself(myself())),
            Question::Key(_) => Look::NotSeen(jolly_core::host::Unseen::PartMissing),
            Question::Login(request) => {
                Look::Seen(Answer::Login(match request.socket.as_deref().map(held_socket) {
                    Some(Err(why)) => LoginAnswer::ended(LoginOutcome::Unreachable(why)),
                    Some(Ok(held)) => {
                        let socket = Some(files::proc_path(&held).to_string_lossy().into_owned());
                        jolly_probe::login(&LoginRequest { socket, ..request.clone() }, self.limit)
                    }
                    None => jolly_probe::login(request, self.limit),
                }))
            }
            Question::Probe(request) => {
                Look::Seen(Answer::Probe(match request.socket.as_deref().map(held_socket) {
                    Some(Err(why)) => ProbeAnswer { error: Some(why), ..ProbeAnswer::default() },
                    // The very socket that was looked at is asked, whatever bears its name by now.
                    Some(Ok(held)) => {
                        let socket = Some(files::proc_path(&held).to_string_lossy().into_owned());
                        jolly_probe::probe(&ProbeRequest { socket, ..request.clone() }, self.limit)
                    }
                    None => jolly_probe::probe(request, self.limit),
                }))
            }
        }
    }

    fn read_into(&self, path: &str, offset: u64, room: &mut [u8]) -> Look<usize> {
        if !self.patience.is_needed() {
            return self.held.read_into(Path::new(path), offset, room);
        }
        // What may hang is read by the helper, which has a room of its own.
        let (held, length) = (self.held.clone(), u32::try_from(room.len()).unwrap_or(u32::MAX));
        match self.patience.look(path, move |p| held.read_at(p, offset, length)) {
            Look::Seen(Answer::Bytes(bytes)) => {
                room[..bytes.len()].copy_from_slice(&bytes);
                Look::Seen(bytes.len())
            }
            Look::Seen(_) | Look::Absent => Look::Absent,
            Look::NotSeen(why) => Look::NotSeen(why),
        }
    }

    fn parts(&self) -> Parts {
        Parts {
            files: true,
            processes: true,
            manager: self.manager.available(),
            interfaces: true,
            clock: true,
            probes: true,
        }
    }
}

/// Boot in microseconds since the epoch, from the kernel's own figure in /proc/stat.
fn boot_time() -> Option<i64> {
    let text = procfs::whole("stat").ok()?;
    let seconds: i64 = text.lines().find_map(|l| l.strip_prefix("btime "))?.trim().parse().ok()?;
    Some(seconds * 1_000_000)
}

/// Looks a name up as the system's programs do, in a thread of its own: name servers may be slow.
fn resolve(name: &str, limit: Duration) -> Look<Answer> {
    use std::net::ToSocketAddrs;
    let (tell, told) = std::sync::mpsc::channel();
    let host = name.to_owned();
    std::thread::spawn(move || {
        drop(tell.send((host.as_str(), 0).to_socket_addrs().map(|all| all.collect::<Vec<_>>())))
    });
    match told.recv_timeout(limit) {
        Ok(Ok(all)) => {
            let mut found: Vec<std::net::IpAddr> = Vec::new();
            for address in all.into_iter().map(|a| a.ip()) {
                if !found.contains(&address) {
                    found.push(address);
                }
            }
            Look::Seen(Answer::Addresses(found))
        }
        // The library's words (getaddrinfo(3): EAI_NONAME, EAI_NODATA); all others say that nobody could
        // tell.
        Ok(Err(error)) => {
            let words = error.to_string();
            let unknown = ["Name or service not known", "No address associated with hostname"];
            match unknown.iter().any(|u| words.contains(u)) {
                true => Look::Absent,
                false => Look::NotSeen(jolly_core::host::Unseen::Failed(words)),
            }
        }
        Err(_) => Look::NotSeen(jolly_core::host::Unseen::TimedOut),
    }
}

fn clock() -> Look<Answer> {
    let now =
        SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |d| i64::try_from(d.as_micros()).unwrap_or(0));
    let host = rustix::system::uname().nodename().to_string_lossy().into_owned();
    Look::Seen(Answer::Clock(ClockReading { now, booted: boot_time(), host }))
}

fn myself() -> Myself {
    let mut lineage = vec![std::process::id()];
    while let Some(&last) = lineage.last() {
        let stat = procfs::whole(&format!("{last}/stat")).unwrap_or_default();
        let parent =
            stat.rsplit(')').next().and_then(|rest| rest.split_whitespace().nth(1)?.parse::<u32>().ok());
        match parent {
            Some(parent) if parent > 0 && !lineage.contains(&parent) => lineage.push(parent),
            _ => break,
        }
    }
    Myself { uid: rustix::process::geteuid().as_raw(), lineage }
}

fn mounts() -> Look<Answer> {
    let text = match procfs::whole("self/mountinfo") {
        Ok(text) => text,
        Err(error) => return files::unseen_io(&error),
    };
    let all = text.lines().filter_map(parse_mount).collect();
    Look::Seen(Answer::Mounts(all))
}

/// A path as mountinfo writes it: blanks, tabs, ends of lines and backslashes by their octal numbers
/// (proc(5)).
fn unescaped(text: &str) -> String {
    [("\\040", " "), ("\\011", "\t"), ("\\012", "\n"), ("\\134", "\\")]
        .iter()
        .fold(text.to_owned(), |text, (octal, plain)| text.replace(octal, plain))
}

/// One line of mountinfo: fields, a lone dash, then type, source and options of the file system.
fn parse_mount(line: &str) -> Option<Mount> {
    let (left, right) = line.split_once(" - ")?;
    let fields: Vec<&str> = left.split(' ').collect();
    let tail: Vec<&str> = right.split(' ').collect();
    let options: Vec<&str> = fields.get(5)?.split(',').collect();
    let whole: Vec<&str> = tail.get(2).unwrap_or(&"").split(',').collect();
    Some(Mount {
        path: unescaped(fields.get(4)?),
        kind: (*tail.first()?).to_owned(),
        read_only: options.contains(&"ro") || whole.contains(&"ro"),
        no_exec: options.contains(&"noexec"),
    })
}

/// A Unix socket, held by name alone. A way over a link that root did not make is refused: whoever owns a
/// directory shall not choose what this program talks to.
fn held_socket(path: &str) -> Result<OwnedFd, String> {
    let told = |e: &dyn std::fmt::Display| format!("{path}: {e}");
    let root = directory(Path::new("/")).map_err(|e| told(&e))?;
    let mut keepers = Vec::new();
    let node = loop {
        match descend(&root, path, Last::Followed, &keepers) {
            Ok(found) => break found.node.map(|(node, _)| node).ok_or_else(|| told(&"it does not exist"))?,
            // Whose directory it is may put a socket there; a link of theirs is still refused.
            Err(Refusal::Replaceable { by: Replacer::Account(uid), .. }) if !keepers.contains(&uid) => {
                keepers.push(uid)
            }
            // Where more than one account may do so, no link is followed at all.
            Err(Refusal::Replaceable { .. }) => {
                let dir = without_links(&root, jolly_core::path::parent(path)).map_err(|e| told(&e))?;
                let flags = OFlags::PATH | OFlags::NOFOLLOW | OFlags::CLOEXEC;
                break rustix::fs::openat(&dir, jolly_core::path::name(path), flags, Mode::empty())
                    .map_err(|e| told(&e))?;
            }
            Err(refusal) => return Err(words(&refusal)),
        }
    };
    match files::status_of(&node).map_err(|e| told(&e))?.kind {
        FileKind::Socket => Ok(node),
        _ => Err(told(&"it is not a socket")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs;
    use std::net::{TcpListener, TcpStream};
    use std::os::unix::fs::MetadataExt;

    fn host() -> LiveHost {
        LiveHost::new(Duration::from_secs(5))
    }

    #[test]
    fn a_socket_behind_a_link_of_another_account_is_not_connected_to() {
        let dir = tempfile::tempdir().unwrap();
        let (socket, link) = (dir.path().join("s"), dir.path().join("l"));
        let _listener = std::os::unix::net::UnixListener::bind(&socket).unwrap();
        std::os::unix::fs::symlink(&socket, &link).unwrap();
        let asked = |path: &Path| {
            held_socket(&path.to_string_lossy()).map(|held| files::status_of(&held).unwrap().inode)
        };
        let inode = std::fs::metadata(&socket).unwrap().ino();
        assert_eq!(asked(&socket), Ok(inode));
        assert!(asked(&dir.path().join("not there")).unwrap_err().contains("does not exist"));
        assert!(asked(Path::new("/etc/passwd")).unwrap_err().contains("not a socket"));
        if rustix::process::geteuid().is_root() {
            assert_eq!(asked(&link), Ok(inode), "one's own");
            std::os::unix::fs::lchown(&link, Some(65_534), None).unwrap();
            assert!(asked(&link).unwrap_err().contains("link"));
            // In a directory of another account every link of its is seen as well, and so is one where
            // everybody may write.
            for (owner, mode) in [(65_534, 0o755), (0, 0o777)] {
                std::os::unix::fs::chown(dir.path(), Some(owner), None).unwrap();
                std::fs::set_permissions(dir.path(), std::os::unix::fs::PermissionsExt::from_mode(mode))
                    .unwrap();
                assert!(asked(&link).is_err(), "{owner} {mode:o}");
                assert_eq!(asked(&socket), Ok(inode), "{owner} {mode:o}");
            }
        }
    }

    #[test]
    fn the_socket_that_was_held_is_asked_and_not_what_took_its_name() {
        let dir = tempfile::tempdir().unwrap();
        let (socket, other) = (dir.path().join("s"), dir.path().join("other"));
        let meant = std::os::unix::net::UnixListener::bind(&socket).unwrap();
        let stranger = std::os::unix::net::UnixListener::bind(&other).unwrap();
        stranger.set_nonblocking(true).unwrap();
        let held = held_socket(&socket.to_string_lossy()).unwrap();
        std::fs::rename(&socket, dir.path().join("aside")).unwrap();
        std::os::unix::fs::symlink(&other, &socket).unwrap();
        std::os::unix::net::UnixStream::connect(files::proc_path(&held)).unwrap();
        meant.accept().unwrap();
        assert!(stranger.accept().is_err(), "nobody asked it");
    }

    #[test]
    fn a_mount_is_read_with_its_options_and_the_blanks_of_its_path() {
        let line = concat!(
            r"36 35 98:0 /mnt1 /srv/tide\040tables\134a rw,noexec,noatime master:1 ",
            "- ext4 /dev/root rw,errors=continue"
        );
        let mount = parse_mount(line).unwrap();
        assert_eq!(
            (mount.path.as_str(), mount.kind.as_str(), mount.read_only, mount.no_exec),
            (r"/srv/tide tables\a", "ext4", false, true)
        );
        assert!(
            parse_mount(&line.replace("rw,errors", "ro,errors")).unwrap().read_only,
            "the whole file system is"
        );
        assert!(parse_mount("36 35 98:0 /").is_none());
    }

    #[test]
    fn what_was_found_out_holds_for_a_moment_and_not_from_before_it() {
        let recent = Recent::default();
        assert_eq!(recent.get(Duration::MAX), None::<u32>);
        let before = Instant::now();
        assert_eq!(recent.put(7), 7);
        assert_eq!((recent.get(Duration::from_secs(60)), recent.since(before)), (Some(7), Some(7)));
        std::thread::sleep(Duration::from_millis(5));
        assert_eq!((recent.get(Duration::from_millis(1)), recent.since(Instant::now())), (None, None));
    }

    #[test]
    fn a_holder_that_came_after_the_last_look_is_found() {
        let host = host();
        let processes = || {
            let all = host.ask(&Question::Processes);
            matches!(all, Look::Seen(Answer::Processes(all)) if !all.is_empty())
        };
        let holder = |port: u16| {
            let Look::Seen(Answer::Listeners(all)) = host.ask(&Question::Listeners) else { return None };
            let inode = all.iter().find(|s| s.port == port)?.inode;
            let Look::Seen(Answer::Owners(owners)) = host.ask(&Question::SocketOwners(vec![inode])) else {
                return None;
            };
            Some(owners.into_iter().map(|(_, pid)| pid).collect::<Vec<_>>())
        };
        assert!(processes(), "a list of now, which will be of before in a moment");
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let port = listener.local_addr().unwrap().port();
        let held = std::process::Stdio::from(std::os::fd::OwnedFd::from(listener));
        let mut child = std::process::Command::new("cat")
            .stdin(std::process::Stdio::piped())
            .stdout(held)
            .spawn()
            .unwrap();
        let told = (0..200).any(|_| {
            std::thread::sleep(Duration::from_millis(5));
            holder(port).is_some_and(|pids| pids.contains(&child.id()))
        });
        drop(child.stdin.take());
        child.wait().unwrap();
        assert!(told);
    }

    #[test]
    fn clients_are_counted_for_the_first_port_and_for_all_that_follow() {
        let host = host();
        let busy = TcpListener::bind("127.0.0.1:0").unwrap();
        let idle = TcpListener::bind("127.0.0.1:0").unwrap();
        let address = busy.local_addr().unwrap();
        let count = |port: u16| match host.ask(&Question::Clients(port)) {
            Look::Seen(Answer::Count(count)) => count,
            other => unreachable!("{other:?}"),
        };
        let idle_before = count(idle.local_addr().unwrap().port());
        let other = LiveHost::new(Duration::from_secs(5));
        let before = match other.ask(&Question::Clients(address.port())) {
            Look::Seen(Answer::Count(count)) => count,
            _ => 0,
        };
        let held: Vec<(TcpStream, TcpStream)> =
            (0..5).map(|_| (TcpStream::connect(address).unwrap(), busy.accept().unwrap().0)).collect();
        assert!(matches!(host.ask(&Question::Listeners), Look::Seen(_)));
        assert_eq!(count(address.port()), before + 5, "another port is asked for anew");
        assert_eq!(count(idle.local_addr().unwrap().port()), idle_before);
        drop(held);
    }

    #[test]
    fn a_file_is_the_same_by_every_way_of_reading_it() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("relay.log").to_string_lossy().into_owned();
        let text: Vec<u8> = (0..50_000u32).flat_map(u32::to_le_bytes).collect();
        fs::write(&path, &text).unwrap();
        let host = host();
        for (offset, length) in [
            (0usize, 10usize),
            (7, 100_000),
            (199_990, 10),
            (199_990, 50),
            (200_000, 4),
            (900_000, 4),
            (3, 0),
        ] {
            let part =
                text.get(offset.min(text.len())..(offset + length).min(text.len())).unwrap_or_default();
            let mut room = vec![0xee; length];
            assert_eq!(host.read_into(&path, offset as u64, &mut room), Look::Seen(part.len()));
            assert_eq!(&room[..part.len()], part);
            let asked =
                host.ask(&Question::ReadAt(path.clone(), offset as u64, u32::try_from(length).unwrap()));
            assert!(
                matches!(asked, Look::Seen(Answer::Bytes(bytes)) if *bytes == *part),
                "{offset} {length}"
            );
        }
        assert_eq!(host.read_into("/none/of/these", 0, &mut [0; 4]), Look::Absent);
    }
}
