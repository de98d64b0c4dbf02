//! The live Linux machine.
use crate::manager::Manager;
use crate::patience::Patience;
use crate::{files, journal_files, netlink, procfs};
use jolly_core::host::{Answer, ClockReading, Host, Look, Mount, Myself, Parts, Question};
use std::cell::RefCell;
use std::collections::{BTreeMap, HashMap};
use std::fs;
use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

/// The machine this program runs on.
#[derive(Debug)]
pub struct LiveHost {
    manager: Manager,
    limit: Duration,
    patience: Patience,
    /// The file that was read last.
    held: Arc<files::Held>,
    /// Users of the sockets that were listed last, to look at likely processes first.
    users: RefCell<BTreeMap<u64, u32>>,
    /// Connections by local port, and when they were counted.
    connections: RefCell<Option<(Instant, HashMap<u16, u32>)>>,
}

impl LiveHost {
    /// The live host; `patience` bounds any single look.
    pub fn new(patience: Duration) -> Self {
        let mounts = fs::read_to_string("/proc/self/mountinfo").unwrap_or_default();
        Self {
            manager: Manager::default(),
            limit: patience,
            patience: Patience::new(patience, &mounts),
            held: Arc::default(),
            users: RefCell::default(),
            connections: RefCell::default(),
        }
    }

    /// One count answers for all ports for a while: a host with many connections is not gone through for each listener.
    fn clients(&self, port: u16) -> Look<Answer> {
        let mut known = self.connections.borrow_mut();
        if known.as_ref().is_none_or(|(when, _)| when.elapsed() > Duration::from_secs(1)) {
            match netlink::clients() {
                Ok(counts) => *known = Some((Instant::now(), counts)),
                Err(errno) => return files::unseen(errno),
            }
        }
        Look::Seen(Answer::Count(known.as_ref().and_then(|(_, counts)| counts.get(&port)).copied().unwrap_or(0)))
    }

    fn listeners(&self) -> Look<Answer> {
        let found = netlink::listeners().or_else(|_| procfs::listeners());
        match found {
            Ok(sockets) => {
                *self.users.borrow_mut() = sockets.iter().map(|s| (s.inode, s.uid)).collect();
                Look::Seen(Answer::Listeners(sockets))
            }
            Err(error) => files::unseen_io(&error),
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
            Question::Processes => procfs::all(),
            Question::Process(pid) => procfs::one(*pid, boot_time().map(|b| b / 1_000_000)),
            Question::Listeners => self.listeners(),
            Question::SocketOwners(inodes) => procfs::owners(inodes, &self.users.borrow()),
            Question::Clients(port) => self.clients(*port),
            Question::Unit(name) => self.manager.unit(name),
            Question::Journal(unit, most) => journal_files::entries(Path::new("/"), unit, *most),
            Question::JournalOf(field, most) => journal_files::entries_of(Path::new("/"), field, *most),
            Question::Addresses => match netlink::addresses() {
                Ok(found) => Look::Seen(Answer::Addresses(found)),
                Err(errno) => files::unseen(errno),
            },
            Question::Clock => clock(),
            Question::Myself => Look::Seen(Answer::Myself(myself())),
            Question::Probe(request) => Look::Seen(Answer::Probe(jolly_probe::probe(request, self.limit))),
        }
    }

    fn parts(&self) -> Parts {
        Parts { files: true, processes: true, manager: self.manager.available(), interfaces: true, clock: true, probes: true }
    }
}

/// Boot in microseconds since the epoch, from the kernel's own figure in /proc/stat.
fn boot_time() -> Option<i64> {
    let text = fs::read_to_string("/proc/stat").ok()?;
    let seconds: i64 = text.lines().find_map(|l| l.strip_prefix("btime "))?.trim().parse().ok()?;
    Some(seconds * 1_000_000)
}

fn clock() -> Look<Answer> {
    let now = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |d| i64::try_from(d.as_micros()).unwrap_or(0));
    let host = rustix::system::uname().nodename().to_string_lossy().into_owned();
    Look::Seen(Answer::Clock(ClockReading { now, booted: boot_time(), host }))
}

fn myself() -> Myself {
    let mut lineage = vec![std::process::id()];
    while let Some(&last) = lineage.last() {
        let stat = fs::read_to_string(format!("/proc/{last}/stat")).unwrap_or_default();
        let parent = stat.rsplit(')').next().and_then(|rest| rest.split_whitespace().nth(1)?.parse::<u32>().ok());
        match parent {
            Some(parent) if parent > 0 && !lineage.contains(&parent) => lineage.push(parent),
            _ => break,
        }
    }
    Myself { uid: rustix::process::geteuid().as_raw(), lineage }
}

fn mounts() -> Look<Answer> {
    let text = match fs::read_to_string("/proc/self/mountinfo") {
        Ok(text) => text,
        Err(error) => return files::unseen_io(&error),
    };
    let all = text.lines().filter_map(parse_mount).collect();
    Look::Seen(Answer::Mounts(all))
}

/// One line of mountinfo: fields, a lone dash, then type, source and options of the file system.
fn parse_mount(line: &str) -> Option<Mount> {
    let (left, right) = line.split_once(" - ")?;
    let fields: Vec<&str> = left.split(' ').collect();
    let tail: Vec<&str> = right.split(' ').collect();
    let options: Vec<&str> = fields.get(5)?.split(',').collect();
    let whole: Vec<&str> = tail.get(2).unwrap_or(&"").split(',').collect();
    Some(Mount {
        path: fields.get(4)?.replace("\\040", " "),
        kind: (*tail.first()?).to_owned(),
        read_only: options.contains(&"ro") || whole.contains(&"ro"),
        no_exec: options.contains(&"noexec"),
    })
}
