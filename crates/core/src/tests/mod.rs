//! A host written as text, for tests: files with owner and mode, processes, sockets, units, a journal.
#![allow(clippy::unwrap_used, reason = "only tests use it")]

mod access;
mod facts;
mod growth;

use crate::host::{
    Answer, ClockReading, DirectoryEntry, Engine, FileKind, FileStatus, Host, JournalEntry, LoginAnswer,
    Look, Mount, Myself, Parts, ProbeAnswer, Process, ProcessBrief, Protocol, Question, Socket, Space,
    UnitState, Unseen,
};
use crate::kinds::Instance;
use crate::service::Service;
use crate::services_file::{self, ServicesFile};
use crate::snapshot::Snapshot;
use std::collections::BTreeMap;

/// One file.
#[derive(Clone)]
struct Entry {
    kind: FileKind,
    bytes: Vec<u8>,
    mode: u32,
    uid: u32,
    gid: u32,
    modified: i64,
}

/// The host.
#[derive(Clone, Default)]
pub(crate) struct TextHost {
    files: BTreeMap<String, Entry>,
    processes: Vec<Process>,
    sockets: Vec<(Socket, Vec<u32>)>,
    units: BTreeMap<String, UnitState>,
    journal: Vec<JournalEntry>,
    space: Option<Space>,
    clients: u32,
    viewer: u32,
    pages: BTreeMap<u16, (u16, String)>,
    logins: BTreeMap<(Engine, String), LoginAnswer>,
    immutable: Vec<String>,
    granted: BTreeMap<String, u64>,
    names: BTreeMap<String, u64>,
    mounts: Vec<Mount>,
    records: BTreeMap<String, Vec<JournalEntry>>,
    closed: Vec<String>,
    hides_sockets: bool,
    /// Where every page sends to.
    pub(crate) location: Option<String>,
}

/// The moment at which every test host is looked at, in seconds since the epoch.
pub(crate) const NOW: i64 = 1_932_876_611;

impl TextHost {
    pub(crate) fn new() -> Self {
        Self::default()
            .file(
                "/etc/passwd",
                "root:x:0:0::/root:/bin/sh\nwww-data:x:33:33::/:/bin/false\ntide:x:71:71::/:/bin/false\n\
                    marta:x:1000:1000::/home/marta:/bin/sh\n",
            )
            .file("/etc/group", "root:x:0:\nwww-data:x:33:\ntide:x:71:\nmarta:x:1000:\n")
            .dir("/var/log", 0o755, 0)
            .dir("/run", 0o755, 0)
    }
    fn add(mut self, path: &str, kind: FileKind, text: &str, mode: u32, uid: u32) -> Self {
        for parent in crate::path::ancestors(path) {
            self.files.entry(parent).or_insert(Entry {
                kind: FileKind::Directory,
                bytes: vec![],
                mode: 0o755,
                uid: 0,
                gid: 0,
                modified: 0,
            });
        }
        self.files.insert(
            path.into(),
            Entry { kind, bytes: text.as_bytes().to_vec(), mode, uid, gid: uid, modified: 0 },
        );
        self
    }
    pub(crate) fn file(self, path: &str, text: &str) -> Self {
        self.add(path, FileKind::Regular, text, 0o644, 0)
    }
    pub(crate) fn bytes(mut self, path: &str, bytes: &[u8]) -> Self {
        self = self.file(path, "");
        self.files.get_mut(path).unwrap().bytes = bytes.to_vec();
        self
    }
    pub(crate) fn without(mut self, path: &str) -> Self {
        self.files.remove(path);
        self
    }
    pub(crate) fn program(self, path: &str) -> Self {
        self.add(path, FileKind::Regular, "\u{7f}ELF", 0o755, 0)
    }
    pub(crate) fn owned(self, path: &str, mode: u32, uid: u32) -> Self {
        self.add(path, FileKind::Regular, "", mode, uid)
    }
    pub(crate) fn dir(self, path: &str, mode: u32, uid: u32) -> Self {
        self.add(path, FileKind::Directory, "", mode, uid)
    }
    pub(crate) fn link(self, path: &str, target: &str) -> Self {
        self.add(path, FileKind::Link, target, 0o777, 0)
    }
    /// A link that an account made.
    pub(crate) fn link_of(self, path: &str, target: &str, uid: u32) -> Self {
        self.add(path, FileKind::Link, target, 0o777, uid)
    }
    /// Gives a file that is there another content.
    pub(crate) fn text(mut self, path: &str, text: &str) -> Self {
        self.files.get_mut(path).unwrap().bytes = text.as_bytes().to_vec();
        self
    }
    /// A file has so many names.
    pub(crate) fn names(mut self, path: &str, count: u64) -> Self {
        self.names.insert(path.to_owned(), count);
        self
    }
    pub(crate) fn socket_file(self, path: &str, uid: u32) -> Self {
        self.add(path, FileKind::Socket, "", 0o755, uid)
    }
    pub(crate) fn modified(mut self, path: &str, when: i64) -> Self {
        self.files.get_mut(path).unwrap().modified = when;
        self
    }
    pub(crate) fn space(mut self, free_bytes: u64, free_inodes: Option<u64>, read_only: bool) -> Self {
        self.space = Some(Space { free_bytes, free_inodes, read_only });
        self
    }
    /// Nobody may change a file, root neither.
    pub(crate) fn immutable(mut self, path: &str) -> Self {
        self.immutable.push(path.to_owned());
        self
    }
    /// Executing a file grants capabilities.
    pub(crate) fn grants(mut self, path: &str, capabilities: u64) -> Self {
        self.granted.insert(path.to_owned(), capabilities);
        self
    }
    /// A mount, with its options.
    pub(crate) fn mount(mut self, path: &str, read_only: bool, no_exec: bool) -> Self {
        self.mounts.push(Mount { path: path.into(), kind: "ext4".into(), read_only, no_exec });
        self
    }
    /// Journal entries with a field of a value, seconds before [`NOW`].
    pub(crate) fn recorded(mut self, field: &str, entries: &[(i64, &str)]) -> Self {
        let one = |(ago, message): &(i64, &str)| JournalEntry {
            time: u64::try_from(NOW - ago).unwrap() * 1_000_000,
            message: (*message).into(),
            ..JournalEntry::default()
        };
        self.records.insert(field.to_owned(), entries.iter().map(one).collect());
        self
    }
    /// Looked at by this account instead of root.
    pub(crate) fn seen_by(mut self, uid: u32) -> Self {
        self.viewer = uid;
        self
    }
    /// A file that may not be read.
    pub(crate) fn closed(mut self, path: &str) -> Self {
        self.closed.push(path.to_owned());
        self
    }
    /// Sockets cannot be listed.
    pub(crate) fn without_sockets(mut self) -> Self {
        self.hides_sockets = true;
        self
    }
    pub(crate) fn clients(mut self, count: u32) -> Self {
        self.clients = count;
        self
    }
    /// The last process has another state: `T` stopped, `D` stuck in the kernel, `Z` dead and not collected.
    pub(crate) fn in_state(mut self, state: char) -> Self {
        self.processes.last_mut().unwrap().brief.state = state;
        self
    }
    /// The last process works in a directory.
    pub(crate) fn works_in(mut self, directory: &str) -> Self {
        self.processes.last_mut().unwrap().directory = Some(directory.to_owned());
        self
    }
    /// A process with a parent of its own.
    pub(crate) fn child(mut self, pid: u32, parent: u32, command: &str) -> Self {
        self = self.process(pid, command, 0, "");
        self.processes.last_mut().unwrap().brief.parent = parent;
        self
    }
    /// What a server of data answers an account.
    pub(crate) fn login(mut self, engine: Engine, account: &str, answer: LoginAnswer) -> Self {
        self.logins.insert((engine, account.to_owned()), answer);
        self
    }
    /// A server on a port answers every page with a status and a text.
    pub(crate) fn answers(mut self, port: u16, status: u16, body: &str) -> Self {
        self.pages.insert(port, (status, body.to_owned()));
        self
    }
    /// A process: number, name, command line, user, control group.
    pub(crate) fn process(mut self, pid: u32, command: &str, uid: u32, cgroup: &str) -> Self {
        let arguments: Vec<String> = command.split(' ').map(str::to_owned).collect();
        let name: String = crate::path::name(&arguments[0]).chars().take(15).collect();
        let brief = ProcessBrief { pid, parent: 1, name, state: 'S', uid, start_ticks: u64::from(pid) };
        self.processes.push(Process {
            brief,
            executable: Some(arguments[0].clone()),
            arguments,
            gid: uid,
            groups: vec![],
            capabilities: 0,
            cgroup: cgroup.into(),
            terminal: None,
            started: Some(NOW - 60),
            login_uid: None,
            directory: None,
            own_root: true,
        });
        self
    }
    /// A process is gone, with what it listened on.
    pub(crate) fn without_process(mut self, pid: u32) -> Self {
        self.processes.retain(|p| p.brief.pid != pid);
        self.sockets.retain(|(_, pids)| !pids.contains(&pid));
        self
    }
    pub(crate) fn listens(mut self, address: &str, port: u16, pids: &[u32]) -> Self {
        let inode = 9000 + self.sockets.len() as u64;
        let socket = Socket {
            protocol: Protocol::Tcp,
            address: Some(address.parse().unwrap()),
            port,
            path: None,
            inode,
            uid: 0,
            v6_only: false,
        };
        self.sockets.push((socket, pids.to_vec()));
        self
    }
    /// A Unix socket that anybody may connect to who comes there.
    pub(crate) fn listens_at(self, path: &str, pids: &[u32]) -> Self {
        let mut host = self.add(path, FileKind::Socket, "", 0o777, 0).listens("127.0.0.1", 1, pids);
        let socket = &mut host.sockets.last_mut().unwrap().0;
        (socket.protocol, socket.address, socket.port) = (Protocol::Unix, None, 0);
        socket.path = Some(path.to_owned());
        host
    }
    /// The last socket was opened by an account.
    pub(crate) fn opened_by(mut self, uid: u32) -> Self {
        self.sockets.last_mut().unwrap().0.uid = uid;
        self
    }
    /// A file that is there belongs to an account.
    pub(crate) fn belongs_to(mut self, path: &str, uid: u32) -> Self {
        self.files.get_mut(path).unwrap().uid = uid;
        self
    }
    pub(crate) fn unit(mut self, name: &str, active: &str, change: impl FnOnce(&mut UnitState)) -> Self {
        let mut state = UnitState {
            id: name.into(),
            load_state: "loaded".into(),
            active_state: active.into(),
            unit_file_state: "enabled".into(),
            result: if active == "failed" { "exit-code" } else { "success" }.into(),
            control_group: format!("/system.slice/{name}"),
            condition_met: true,
            ..UnitState::default()
        };
        change(&mut state);
        self.units.insert(name.into(), state);
        self
    }
    /// Journal entries, oldest first: milliseconds after `NOW - 100 s`, message id or empty, message.
    pub(crate) fn journal(mut self, entries: &[(u64, &str, &str)]) -> Self {
        let base = u64::try_from(NOW - 100).unwrap() * 1_000_000;
        self.journal = entries
            .iter()
            .map(|(at, id, message)| JournalEntry {
                time: base + at * 1000,
                message: (*message).into(),
                message_id: (*id).into(),
                invocation: if id.is_empty() && message.starts_with("manager:") {
                    String::new()
                } else {
                    format!("{:032}", at / 1000)
                },
                pid: if id.is_empty() && !message.starts_with("Start request") { 500 } else { 1 },
                identifier: String::new(),
                from_manager: !id.is_empty() || message.starts_with("Start request"),
                priority: 3,
                boot: "b".into(),
                result: if message.contains("Dependency failed") {
                    "dependency".into()
                } else {
                    String::new()
                },
                exit: message.split("exit=").nth(1).unwrap_or_default().into(),
            })
            .rev()
            .collect();
        self
    }
    fn entry(&self, path: &str, follow: bool) -> Option<(String, Entry)> {
        let mut at = crate::path::clean(path);
        for _ in 0..8 {
            let entry = self.files.get(&at)?;
            if entry.kind != FileKind::Link || !follow {
                return Some((at, entry.clone()));
            }
            at = crate::path::clean(&crate::path::join(
                crate::path::parent(&at),
                &String::from_utf8_lossy(&entry.bytes),
            ));
        }
        None
    }
}

impl Host for TextHost {
    fn ask(&self, question: &Question) -> Look<Answer> {
        let look = |answer: Option<Answer>| answer.map_or(Look::Absent, Look::Seen);
        match question {
            Question::Stat(p) | Question::LinkStat(p) => {
                look(self.entry(p, matches!(question, Question::Stat(_))).map(|(path, e)| {
                    let plain = FileStatus::plain(e.kind, e.mode, e.uid, e.gid, e.bytes.len() as u64);
                    let (immutable, capabilities) =
                        (self.immutable.contains(&path), self.granted.get(&path).copied().unwrap_or(0));
                    Answer::Status(FileStatus {
                        modified: e.modified,
                        inode: path.len() as u64,
                        links: self.names.get(&path).copied().unwrap_or(1),
                        immutable,
                        capabilities,
                        ..plain
                    })
                }))
            }
            Question::ReadLink(p) => look(
                self.files
                    .get(&crate::path::clean(p))
                    .filter(|e| e.kind == FileKind::Link)
                    .map(|e| Answer::Target(String::from_utf8_lossy(&e.bytes).into_owned())),
            ),
            Question::List(p) => {
                let Some((dir, entry)) = self.entry(p, true) else { return Look::Absent };
                if entry.kind != FileKind::Directory {
                    return Look::Absent;
                }
                let names = self
                    .files
                    .iter()
                    .filter(|(f, _)| f.as_str() != "/" && crate::path::parent(f) == dir)
                    .map(|(f, e)| DirectoryEntry { name: crate::path::name(f).into(), kind: e.kind });
                Look::Seen(Answer::Names(names.collect()))
            }
            Question::Read(p) | Question::ReadAt(p, ..) | Question::FindString(p, ..)
                if self.closed.contains(p) =>
            {
                Look::NotSeen(Unseen::Denied)
            }
            Question::Listeners if self.hides_sockets => Look::NotSeen(Unseen::Denied),
            Question::Read(p) => match self.entry(p, true) {
                Some((_, e)) if e.kind == FileKind::Regular => Look::Seen(Answer::Bytes(e.bytes.into())),
                Some(_) => Look::NotSeen(Unseen::NotRegular),
                None => Look::Absent,
            },
            Question::ReadAt(p, offset, length) => look(self.entry(p, true).map(|(_, e)| {
                let from = usize::try_from(*offset).unwrap().min(e.bytes.len());
                let to = (from + *length as usize).min(e.bytes.len());
                Answer::Bytes(e.bytes[from..to].into())
            })),
            Question::FindString(p, needle, whole) => look(self.entry(p, true).map(|(_, e)| {
                let text = String::from_utf8_lossy(&e.bytes).into_owned();
                Answer::Found(
                    text.split('\0')
                        .find(|s| if *whole { s == needle } else { s.contains(needle.as_str()) })
                        .map(str::to_owned),
                )
            })),
            Question::Space(_) => {
                self.space.map_or(Look::NotSeen(Unseen::PartMissing), |s| Look::Seen(Answer::Space(s)))
            }
            Question::Processes => {
                Look::Seen(Answer::Processes(self.processes.iter().map(|p| p.brief.clone()).collect()))
            }
            Question::Process(pid) => look(
                self.processes
                    .iter()
                    .find(|p| p.brief.pid == *pid)
                    .map(|p| Answer::Process(Box::new(p.clone()))),
            ),
            Question::Listeners => {
                Look::Seen(Answer::Listeners(self.sockets.iter().map(|(s, _)| s.clone()).collect()))
            }
            Question::SocketOwners(inodes) => {
                let all = self.sockets.iter().filter(|(s, _)| inodes.contains(&s.inode));
                Look::Seen(Answer::Owners(
                    all.flat_map(|(s, pids)| pids.iter().map(|p| (s.inode, *p)).collect::<Vec<_>>())
                        .collect(),
                ))
            }
            Question::Clients(_) => Look::Seen(Answer::Count(self.clients)),
            Question::Unit(name) => look(self.units.get(name).map(|u| Answer::Unit(Box::new(u.clone())))),
            Question::Journal(..) => Look::Seen(Answer::Journal(self.journal.clone())),
            Question::Resolve(_) => Look::NotSeen(Unseen::PartMissing),
            Question::Addresses => {
                Look::Seen(Answer::Addresses(vec!["127.0.0.1".parse().unwrap(), "::1".parse().unwrap()]))
            }
            Question::Clock => Look::Seen(Answer::Clock(ClockReading {
                now: NOW * 1_000_000,
                booted: Some((NOW - 5000) * 1_000_000),
                host: "quay1".into(),
            })),
            Question::Myself => Look::Seen(Answer::Myself(Myself { uid: self.viewer, lineage: vec![777] })),
            Question::Key(_) => Look::NotSeen(Unseen::PartMissing),
            Question::Probe(request) => {
                let page = self.pages.get(&request.port);
                Look::Seen(Answer::Probe(ProbeAnswer {
                    connected: page.is_some(),
                    spoke: page.is_some_and(|p| p.0 > 0),
                    hung_up: false,
                    status: page.map(|p| p.0).filter(|s| *s > 0),
                    body: page.map(|p| p.1.clone()).unwrap_or_default(),
                    server: None,
                    location: self.location.clone(),
                    error: page.is_none().then(|| "connection refused".to_owned()),
                    took_ms: 3,
                    mark: None,
                    greeting: None,
                }))
            }
            Question::Login(request) => {
                let key = (request.engine, request.account.clone());
                match self.logins.get(&key) {
                    Some(answer) => Look::Seen(Answer::Login(answer.clone())),
                    None => Look::NotSeen(Unseen::PartMissing),
                }
            }
            Question::Mounts if self.mounts.is_empty() => Look::NotSeen(Unseen::PartMissing),
            Question::Mounts => Look::Seen(Answer::Mounts(self.mounts.clone())),
            Question::JournalOf(field, _) => {
                look(self.records.get(field).map(|r| Answer::Journal(r.clone())))
            }
        }
    }
    fn parts(&self) -> Parts {
        Parts {
            files: true,
            processes: true,
            manager: true,
            interfaces: true,
            clock: true,
            probes: !self.pages.is_empty(),
        }
    }
}

/// The unit of `edge`, an nginx.
pub(crate) const EDGE_UNIT: &str = "[Service]\nType=forking\nPIDFile=/run/nginx.pid\n\
    ExecStart=/usr/sbin/nginx -c /etc/nginx/nginx.conf\n[Install]\nWantedBy=multi-user.target\n";
/// A configuration of it with one listener, on line 7.
pub(crate) const EDGE_CONFIG: &str = "error_log /var/log/nginx/error.log;\npid /run/nginx.pid;\nevents { }\n\
    http {\n    access_log off;\n    server {\n        listen 8088;\n        server_name \
    edge.saltmarsh-ferries.example;\n    }\n}\n";

/// A host with `edge`: its unit, enabled, its directories, nothing wrong and nothing running.
pub(crate) fn edge_host(config: &str) -> TextHost {
    TextHost::new()
        .file("/etc/systemd/system/edge.service", EDGE_UNIT)
        .link("/etc/systemd/system/multi-user.target.wants/edge.service", "../edge.service")
        .program("/usr/sbin/nginx")
        .file("/etc/nginx/nginx.conf", config)
        .dir("/var/log/nginx", 0o755, 0)
}

/// A service as the services file describes it.
pub(crate) fn described(host: &TextHost, name: &str, toml: &str) -> Service {
    let file: ServicesFile = services_file::parse(toml).unwrap();
    crate::service::named(&Snapshot::new(host), &file, name).unwrap()
}

/// What reading a configuration of a kind yields.
pub(crate) fn read(host: &TextHost, kind: &str, config: &str) -> crate::config::Configuration {
    let instance = Instance { config: config.into(), ..Instance::default() };
    crate::kinds::kind(kind).unwrap().read(&Snapshot::new(host), &instance)
}
