//! Which processes hold a socket: what the names in /proc/PID/fd lead to (proc(5)).
//!
//! The walk over all descriptors of a host is what this program does longest. So tables are read by number
//! where the kernel tells how long they are, the first descriptors of all processes before the many that
//! connections take later, a single socket is looked for first where its number says that it was made, and
//! what inherits a socket is found by the number of its descriptor.
use crate::procfs;
use jolly_core::host::ProcessBrief;
use rustix::fs::{Mode, OFlags, RawDir, SeekFrom};
use rustix::io::Errno;
use rustix::path::DecInt;
use std::collections::{BTreeMap, BTreeSet};
use std::mem::MaybeUninit;
use std::os::fd::{AsFd, OwnedFd};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Mutex, PoisonError};

/// Numbers that may be missing in a row before the rest of a table is listed instead.
const GAPS: u32 = 4;
/// As many sockets are looked for one by one; more are found by one walk over all.
const FEW: usize = 4;
/// Processes that are looked at to their end for a few sockets, before all others.
const NEAR: usize = 8;
/// Processes that are looked at in a row when many are.
const STRETCH: usize = 16;
/// The descriptors of a process that are looked at first: listeners are opened early.
const FIRST: u32 = 16;

/// A descriptor of a process that leads to a socket.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
struct Held {
    inode: u64,
    pid: u32,
    number: u32,
}

/// The inode a link `socket:[NUMBER]` names.
fn socket_number(target: &[u8]) -> Option<u64> {
    let digits = target.strip_prefix(b"socket:[")?.strip_suffix(b"]")?;
    digits.iter().try_fold(0u64, |sum, b| {
        b.is_ascii_digit().then(|| sum.wrapping_mul(10).wrapping_add(u64::from(b - b'0')))
    })
}

/// What one descriptor leads to: `Err` where there is none, `None` where it is no socket.
fn socket_at(table: impl AsFd, number: u32) -> Result<Option<u64>, Errno> {
    let mut room = [MaybeUninit::<u8>::uninit(); 64];
    rustix::fs::readlinkat_raw(table, DecInt::new(number), &mut room[..])
        .map(|(target, _)| socket_number(target))
}

/// How far a process's descriptors were looked at.
#[derive(Clone, Copy, Debug, Default)]
struct Progress {
    /// The next number.
    number: u32,
    /// Descriptors that were there.
    seen: u64,
    /// Whether there are no more.
    done: bool,
}

/// Where sockets are looked for, and which.
struct Search {
    proc: OwnedFd,
    /// Sorted.
    wanted: Vec<u64>,
    /// Whether the kernel tells the length of a table (since 6.2).
    sized: bool,
}

impl Search {
    fn table(&self, pid: u32) -> Result<OwnedFd, Errno> {
        rustix::fs::openat(
            &self.proc,
            format!("{pid}/fd"),
            OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC,
            Mode::empty(),
        )
    }

    fn take(&self, pid: u32, number: u32, inode: Option<u64>, found: &mut Vec<Held>) {
        found.extend(inode.filter(|i| self.wanted.binary_search(i).is_ok()).map(|inode| Held {
            inode,
            pid,
            number,
        }));
    }

    /// Looks at the descriptors of a process below a number that were not looked at yet.
    fn advance(
        &self,
        pid: u32,
        progress: &mut Progress,
        below: u32,
        found: &mut Vec<Held>,
    ) -> Result<(), Errno> {
        let table = self.table(pid)?;
        let length = if self.sized {
            u64::try_from(rustix::fs::fstat(&table)?.st_size).unwrap_or(0)
        } else {
            u64::MAX
        };
        // Where the length is not told, only the first numbers are tried one by one.
        let by_number = if self.sized { below } else { below.min(FIRST) };
        let mut missing = 0;
        while progress.seen < length && progress.number < by_number && missing <= GAPS {
            match socket_at(&table, progress.number) {
                Ok(inode) => {
                    progress.seen += 1;
                    missing = 0;
                    self.take(pid, progress.number, inode, found);
                }
                Err(Errno::NOENT) => missing += 1,
                Err(errno) => return Err(errno),
            }
            progress.number += 1;
        }
        progress.done = progress.seen >= length;
        if !progress.done && (missing > GAPS || by_number < below) {
            // A place in such a directory is the number of a descriptor behind the two names that every
            // directory has.
            self.list(pid, &table, u64::from(progress.number) + 2, progress, found)?;
            if self.sized && progress.seen < length {
                self.list(pid, &table, 0, progress, found)?;
            }
            progress.done = true;
        }
        Ok(())
    }

    /// The rest of a table by its names, from a place in its directory on.
    fn list(
        &self,
        pid: u32,
        table: &OwnedFd,
        place: u64,
        progress: &mut Progress,
        found: &mut Vec<Held>,
    ) -> Result<(), Errno> {
        rustix::fs::seek(table, SeekFrom::Start(place))?;
        let mut names = [MaybeUninit::<u8>::uninit(); 8 << 10];
        let mut entries = RawDir::new(table, &mut names);
        while let Some(entry) = entries.next() {
            let number = entry?.file_name().to_str().ok().and_then(|n| n.parse::<u32>().ok());
            if let Some(number) = number.filter(|n| *n >= progress.number) {
                progress.seen += 1;
                self.take(pid, number, socket_at(table, number).unwrap_or(None), found);
            }
        }
        Ok(())
    }
}

/// What was found so far.
#[derive(Default)]
struct Known {
    found: Vec<Held>,
    held: BTreeSet<u64>,
    walked: BTreeMap<u32, Progress>,
    denied: bool,
}

impl Known {
    /// How far the processes of a stretch are that are not looked at below that number yet.
    fn open(&self, stretch: &[u32], below: u32) -> Vec<(u32, Progress)> {
        let all = stretch.iter().map(|pid| (*pid, self.walked.get(pid).copied().unwrap_or_default()));
        all.filter(|(_, progress)| !progress.done && progress.number < below).collect()
    }

    fn keep(&mut self, looked: Vec<(u32, Progress)>, found: Vec<Held>, denied: bool) {
        self.walked.extend(looked);
        self.held.extend(found.iter().map(|h| h.inode));
        self.found.extend(found);
        self.denied |= denied;
    }
}

/// The processes of a host and what was found in them.
struct Walk<'p> {
    search: Search,
    processes: &'p [ProcessBrief],
    known: Known,
}

impl<'p> Walk<'p> {
    fn new(inodes: &[u64], processes: &'p [ProcessBrief]) -> Result<Self, Errno> {
        let mut wanted: Vec<u64> = inodes.iter().copied().filter(|i| *i != 0).collect();
        wanted.sort_unstable();
        wanted.dedup();
        // This process has a descriptor open right now: a length of nothing is a kernel that does not tell.
        let sized = rustix::fs::stat("/proc/self/fd").is_ok_and(|s| s.st_size > 0);
        Ok(Self {
            search: Search { proc: procfs::directory()?, wanted, sized },
            processes,
            known: Known::default(),
        })
    }

    /// Looks at the descriptors of processes below a number, until so many sockets have a holder. No table
    /// depends on another: for many sockets the work is spread over the processors.
    fn look(&mut self, order: &[u32], below: u32, enough: usize) {
        let Self { search, known, .. } = self;
        let stretch = if search.wanted.len() > FEW { STRETCH } else { 1 };
        let helpers = if order.len() < 4 * STRETCH || stretch == 1 {
            0
        } else {
            std::thread::available_parallelism().map_or(1, usize::from).min(4) - 1
        };
        let next = AtomicUsize::new(0);
        let known = Mutex::new(known);
        let work = || {
            while let Some(pids) = order.chunks(stretch).nth(next.fetch_add(1, Ordering::Relaxed)) {
                let mut looked = {
                    let known = known.lock().unwrap_or_else(PoisonError::into_inner);
                    if known.held.len() >= enough {
                        break;
                    }
                    known.open(pids, below)
                };
                let (mut found, mut denied) = (Vec::new(), false);
                for (pid, progress) in &mut looked {
                    if let Err(errno) = search.advance(*pid, progress, below, &mut found) {
                        denied |= errno == Errno::ACCESS;
                        progress.done = true;
                    }
                }
                known.lock().unwrap_or_else(PoisonError::into_inner).keep(looked, found, denied);
            }
        };
        std::thread::scope(|scope| {
            for _ in 0..helpers {
                // Without another thread the work is done all the same.
                let _ = std::thread::Builder::new().spawn_scoped(scope, work);
            }
            work();
        });
    }

    /// The number of the first socket among a process's first descriptors.
    fn first_socket(&self, pid: u32) -> Option<u64> {
        let table = self.search.table(pid).ok()?;
        (0..FIRST).find_map(|number| socket_at(&table, number).ok().flatten())
    }

    /// Processes in the order in which they are looked at: those of the sockets' users first. For a few
    /// sockets, those first that began when the socket was made: the kernel counts inodes and processes up,
    /// so a process whose own sockets have numbers near the wanted one is near its holder.
    fn order(&self, users: &BTreeMap<u64, u32>) -> Vec<u32> {
        let likely: BTreeSet<u32> = self.search.wanted.iter().filter_map(|i| users.get(i)).copied().collect();
        let (first, rest): (Vec<&ProcessBrief>, Vec<&ProcessBrief>) =
            self.processes.iter().partition(|p| likely.contains(&p.uid));
        let mut first: Vec<u32> = first.into_iter().map(|p| p.pid).collect();
        if self.search.wanted.len() <= FEW && first.len() > 2 * FIRST as usize {
            let middles: Vec<usize> =
                self.search.wanted.iter().map(|inode| self.place(&first, *inode)).collect();
            let mut near: Vec<(usize, u32)> = first
                .iter()
                .enumerate()
                .map(|(at, pid)| (middles.iter().map(|m| m.abs_diff(at)).min().unwrap_or(0), *pid))
                .collect();
            near.sort_by_key(|(distance, _)| *distance);
            first = near.into_iter().map(|(_, pid)| pid).collect();
        }
        first.into_iter().chain(rest.into_iter().map(|p| p.pid)).collect()
    }

    /// Where among processes in the order of their numbers one that made a socket then would stand, by
    /// halving.
    fn place(&self, pids: &[u32], inode: u64) -> usize {
        let (mut low, mut high) = (0, pids.len());
        while high - low > 1 {
            let middle = low + (high - low) / 2;
            // Where a process has no socket to tell by, its neighbours do.
            let told = (middle..high)
                .chain((low + 1..middle).rev())
                .take(6)
                .find_map(|at| Some((at, self.first_socket(pids[at])?)));
            match told {
                Some((at, first)) if first <= inode => low = at.max(low + 1).min(high - 1),
                Some(_) => high = middle,
                None => return middle,
            }
        }
        low
    }

    /// Who else holds what was found: what a process inherits keeps its descriptor's number, and a parent may
    /// have passed it on otherwise.
    fn relatives(&mut self) {
        let holders: BTreeSet<u32> = self.known.found.iter().map(|h| h.pid).collect();
        let parents: BTreeMap<u32, u32> = self.processes.iter().map(|p| (p.pid, p.parent)).collect();
        let families: BTreeSet<u32> =
            holders.iter().filter_map(|h| parents.get(h)).copied().filter(|p| *p > 1).collect();
        // The manager passes sockets on to what it starts.
        let parents: Vec<u32> = families.iter().copied().collect();
        let children: Vec<u32> =
            self.processes.iter().filter(|p| holders.contains(&p.parent)).map(|p| p.pid).collect();
        self.look(&parents, u32::MAX, usize::MAX);
        self.look(&children, FIRST, usize::MAX);
        // What lost its parent belongs to the first process of the host, as all daemons do: those of one name
        // are looked at.
        let orphans: BTreeSet<&str> = self
            .processes
            .iter()
            .filter(|p| p.parent <= 1 && holders.contains(&p.pid))
            .map(|p| p.name.as_str())
            .collect();
        let mut numbers: BTreeMap<u32, BTreeSet<u64>> = BTreeMap::new();
        for held in &self.known.found {
            numbers.entry(held.number).or_default().insert(held.inode);
        }
        for process in self.processes {
            let orphan = process.parent <= 1 && orphans.contains(process.name.as_str());
            let progress = self.known.walked.get(&process.pid).copied().unwrap_or_default();
            if progress.done
                || !(orphan || families.contains(&process.parent) || holders.contains(&process.parent))
            {
                continue;
            }
            for (number, inodes) in numbers.range(progress.number..) {
                let path = format!("{}/fd/{number}", process.pid);
                let mut room = [MaybeUninit::<u8>::uninit(); 64];
                let Ok((target, _)) = rustix::fs::readlinkat_raw(&self.search.proc, path, &mut room[..])
                else {
                    continue;
                };
                if let Some(inode) = socket_number(target).filter(|i| inodes.contains(i)) {
                    self.known.found.push(Held { inode, pid: process.pid, number: *number });
                }
            }
        }
    }
}

/// Which processes hold these sockets, as pairs of inode and pid: of each socket the process that began first
/// comes first. `processes` are all of the host in the order of their numbers, `users` the owners of the
/// sockets where they are known.
///
/// # Errors
/// Where /proc cannot be read, or no descriptor of any holder.
pub(crate) fn owners(
    inodes: &[u64],
    users: &BTreeMap<u64, u32>,
    processes: &[ProcessBrief],
) -> Result<Vec<(u64, u32)>, Errno> {
    let mut walk = Walk::new(inodes, processes)?;
    let (order, all) = (walk.order(users), walk.search.wanted.len());
    if all <= FEW {
        walk.look(&order[..order.len().min(NEAR)], u32::MAX, all);
    }
    walk.look(&order, FIRST, all);
    walk.look(&order, u32::MAX, all);
    walk.relatives();
    if walk.known.found.is_empty() && walk.known.denied && all > 0 {
        return Err(Errno::ACCESS);
    }
    let starts: BTreeMap<u32, u64> = processes.iter().map(|p| (p.pid, p.start_ticks)).collect();
    let mut found: Vec<(u64, u32)> = walk.known.found.iter().map(|h| (h.inode, h.pid)).collect();
    found.sort_by_key(|(inode, pid)| (*inode, starts.get(pid).copied().unwrap_or(0), *pid));
    found.dedup();
    Ok(found)
}

#[cfg(test)]
mod tests {
    use super::*;
    use jolly_core::host::Protocol;
    use std::net::TcpListener;
    use std::process::{Child, Command, Stdio};

    /// A listener of this process with its inode.
    fn listener() -> (TcpListener, u64) {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let port = listener.local_addr().unwrap().port();
        let all = crate::netlink::listeners().unwrap();
        let inode = all
            .iter()
            .find(|s| s.port == port && s.protocol == Protocol::Tcp)
            .expect("netlink shows it")
            .inode;
        (listener, inode)
    }

    /// Whether these are found to hold the sockets. Other tests' children hold everything of this process for
    /// a moment, between fork and exec.
    fn are_holders(inodes: &[u64], expected: &[(u64, u32)]) {
        let mut found = Vec::new();
        for _ in 0..200 {
            // A process that may not be looked into leaves it open whether nobody holds a socket.
            found = owners(inodes, &BTreeMap::new(), &procfs::all().unwrap().briefs).unwrap_or_default();
            if found == expected {
                return;
            }
            std::thread::sleep(std::time::Duration::from_millis(10));
        }
        assert_eq!(found, expected);
    }

    /// A process that waits until its input ends and holds a socket as another descriptor meanwhile.
    fn holder(socket: &TcpListener) -> Child {
        let duplicate = OwnedFd::from(socket.try_clone().unwrap());
        Command::new("cat").stdin(Stdio::piped()).stdout(Stdio::from(duplicate)).spawn().unwrap()
    }

    fn end(children: impl IntoIterator<Item = Child>) {
        for mut child in children {
            drop(child.stdin.take());
            child.wait().unwrap();
        }
    }

    #[test]
    fn a_link_to_a_socket_is_told_from_others() {
        assert_eq!(socket_number(b"socket:[90017]"), Some(90_017));
        for other in [
            &b"/dev/null"[..],
            b"pipe:[12]",
            b"socket:[12",
            b"socket:[x]",
            b"socket:[-1]",
            b"anon_inode:[eventpoll]",
        ] {
            assert_eq!(socket_number(other), None);
        }
    }

    #[test]
    fn one_socket_and_many_lead_to_this_process() {
        let own = std::process::id();
        let all: Vec<(TcpListener, u64)> = (0..40).map(|_| listener()).collect();
        for (_, inode) in &all {
            are_holders(&[*inode], &[(*inode, own)]);
        }
        let mut inodes: Vec<u64> = all.iter().map(|(_, inode)| *inode).collect();
        inodes.sort_unstable();
        are_holders(&inodes, &inodes.iter().map(|i| (*i, own)).collect::<Vec<_>>());
        // Closed in between: numbers are missing in the row of descriptors.
        let kept: Vec<(TcpListener, u64)> =
            all.into_iter().enumerate().filter(|(at, _)| at % 13 == 12).map(|(_, one)| one).collect();
        let expected: BTreeSet<(u64, u32)> = kept.iter().map(|(_, inode)| (*inode, own)).collect();
        are_holders(&inodes, &expected.into_iter().collect::<Vec<_>>());
        are_holders(&[0, u64::MAX], &[]);
    }

    #[test]
    fn a_socket_far_behind_a_gap_of_numbers_is_found() {
        let (socket, inode) = listener();
        let mut far: Vec<OwnedFd> =
            [300, 700].map(|least| rustix::io::fcntl_dupfd_cloexec(&socket, least).unwrap()).into();
        drop(socket);
        are_holders(&[inode], &[(inode, std::process::id())]);
        far.remove(0);
        are_holders(&[inode], &[(inode, std::process::id())]);
        far.clear();
        are_holders(&[inode], &[]);
    }

    #[test]
    fn who_inherits_a_socket_holds_it_too() {
        let (socket, inode) = listener();
        let children = [holder(&socket), holder(&socket)];
        let mut expected = vec![(inode, std::process::id())];
        expected.extend(children.iter().map(|c| (inode, c.id())));
        // The oldest process first.
        are_holders(&[inode], &expected);
        // Without the parent the siblings are found by the number of the descriptor.
        drop(socket);
        are_holders(&[inode], &expected[1..]);
        end(children);
        are_holders(&[inode], &[]);
    }

    #[test]
    fn orphans_of_one_name_belong_together() {
        let (socket, inode) = listener();
        let duplicate = OwnedFd::from(socket.try_clone().unwrap());
        // A shell that leaves two processes behind and says their numbers.
        let mut shell = Command::new("sh");
        shell.args(["-c", "sleep 60 2>&- & echo $! >&2; sleep 60 2>&- & echo $! >&2"]);
        let output = shell
            .stdout(Stdio::from(duplicate))
            .stderr(Stdio::piped())
            .spawn()
            .unwrap()
            .wait_with_output()
            .unwrap();
        // The command still has what it gave to the shell.
        drop((socket, shell));
        let pids: Vec<u32> =
            String::from_utf8(output.stderr).unwrap().lines().map(|l| l.parse().unwrap()).collect();
        are_holders(&[inode], &pids.iter().map(|p| (inode, *p)).collect::<Vec<_>>());
        for pid in &pids {
            Command::new("kill").arg(pid.to_string()).status().unwrap();
        }
    }

    #[test]
    fn every_process_is_looked_at_in_whatever_order() {
        let children: Vec<(Child, u64)> =
            (0..60).map(|_| listener()).map(|(socket, inode)| (holder(&socket), inode)).collect();
        let processes = procfs::all().unwrap().briefs;
        let users: BTreeMap<u64, u32> =
            children.iter().map(|(_, inode)| (*inode, rustix::process::geteuid().as_raw())).collect();
        for (child, inode) in &children {
            let mut order = Walk::new(&[*inode], &processes).unwrap().order(&users);
            order.sort_unstable();
            assert!(order.iter().eq(processes.iter().map(|p| &p.pid)), "each once");
            are_holders(&[*inode], &[(*inode, child.id())]);
        }
        end(children.into_iter().map(|(child, _)| child));
    }
}
