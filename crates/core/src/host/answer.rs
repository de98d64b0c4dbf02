//! The answers: plain data that a bundle can hold.
use crate::keys::KeyFacts;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::net::IpAddr;
use std::sync::Arc;

/// Which parts a host has.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Parts {
    /// Files with owner and mode.
    pub files: bool,
    /// Processes and sockets.
    pub processes: bool,
    /// A service manager that can be asked.
    pub manager: bool,
    /// Interfaces and their addresses.
    pub interfaces: bool,
    /// A clock.
    pub clock: bool,
    /// Servers that can be asked in their protocol.
    pub probes: bool,
}

/// One answer; its variant follows from the question.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Answer {
    /// To `Stat` and `LinkStat`.
    Status(FileStatus),
    /// To `FindString`; `None` when the file holds no such string.
    Found(Option<String>),
    /// To `ReadLink`.
    Target(String),
    /// To `List`.
    Names(Vec<DirectoryEntry>),
    /// To `Read` and `ReadAt`.
    Bytes(#[serde(with = "as_text")] Arc<[u8]>),
    /// To `Space`.
    Space(Space),
    /// To `Mounts`.
    Mounts(Vec<Mount>),
    /// To `Processes`.
    Processes(Vec<ProcessBrief>),
    /// To `Process`.
    Process(Box<Process>),
    /// To `Listeners`.
    Listeners(Vec<Socket>),
    /// To `SocketOwners`: inode and pid, oldest process first for each inode.
    Owners(Vec<(u64, u32)>),
    /// To `Clients`.
    Count(u32),
    /// To `Unit`.
    Unit(Box<UnitState>),
    /// To `Journal`, newest first.
    Journal(Vec<JournalEntry>),
    /// To `Addresses` and `Resolve`.
    Addresses(Vec<IpAddr>),
    /// To `Clock`.
    Clock(ClockReading),
    /// To `Myself`.
    Myself(Myself),
    /// To `Key`.
    Key(KeyFacts),
    /// To `Probe`.
    Probe(ProbeAnswer),
    /// What came of a login.
    Login(super::LoginAnswer),
}

/// The calendar that moments are counted in: the years 1 to 9999, in seconds since the epoch. Whoever owns a
/// file can set its times to anything that 64 bits hold.
const CALENDAR: std::ops::RangeInclusive<i64> = -62_135_596_800..=253_402_207_200;

/// Whether a moment, in microseconds since the epoch, lies within the calendar.
pub(crate) fn is_on_calendar(micros: i64) -> bool {
    CALENDAR.contains(&micros.div_euclid(1_000_000))
}

impl Answer {
    /// Takes moments beyond the calendar for its first or last one, so that they can be counted with.
    pub(crate) fn keep_to_the_calendar(&mut self) {
        let seconds = |s: i64| s.clamp(*CALENDAR.start(), *CALENDAR.end());
        let micros = |m: i64| m.clamp(CALENDAR.start() * 1_000_000, CALENDAR.end() * 1_000_000);
        let since = |m: u64| m.min(CALENDAR.end().unsigned_abs() * 1_000_000);
        match self {
            Self::Status(status) => {
                status.modified = seconds(status.modified);
                status.changed = seconds(status.changed);
            }
            Self::Process(process) => process.started = process.started.map(seconds),
            Self::Unit(state) => {
                for moment in [
                    &mut state.state_changed,
                    &mut state.active_entered,
                    &mut state.left_inactive,
                    &mut state.main_exited,
                    &mut state.condition_checked,
                ] {
                    *moment = since(*moment);
                }
            }
            Self::Journal(entries) => entries.iter_mut().for_each(|e| e.time = since(e.time)),
            Self::Clock(clock) => {
                clock.now = micros(clock.now);
                clock.booted = clock.booted.map(micros);
            }
            _ => {}
        }
    }
}

/// Bytes as text where they are UTF-8, as a list of numbers otherwise.
mod as_text {
    use serde::{Deserialize, Deserializer, Serialize, Serializer};
    use std::sync::Arc;

    #[derive(Deserialize)]
    #[serde(untagged)]
    enum Form {
        Text(String),
        Raw(Vec<u8>),
    }
    pub(super) fn serialize<S: Serializer>(bytes: &Arc<[u8]>, s: S) -> Result<S::Ok, S::Error> {
        match std::str::from_utf8(bytes) {
            Ok(text) => text.serialize(s),
            Err(_) => bytes.as_ref().serialize(s),
        }
    }
    pub(super) fn deserialize<'de, D: Deserializer<'de>>(d: D) -> Result<Arc<[u8]>, D::Error> {
        Ok(match Form::deserialize(d)? {
            Form::Text(text) => text.into_bytes().into(),
            Form::Raw(raw) => raw.into(),
        })
    }
}

/// Sort of a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum FileKind {
    /// A regular file.
    Regular,
    /// A directory.
    Directory,
    /// A symbolic link.
    Link,
    /// A Unix socket.
    Socket,
    /// A FIFO, a device or anything else.
    Other,
}

/// What `stat` tells.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct FileStatus {
    /// Sort of file.
    pub kind: FileKind,
    /// Permission bits with set-id and sticky bits.
    pub mode: u32,
    /// Owner.
    pub uid: u32,
    /// Group.
    pub gid: u32,
    /// Size in bytes.
    pub size: u64,
    /// Modification time in seconds since the epoch.
    pub modified: i64,
    /// Last change of content, name, owner or mode, in seconds since the epoch; 0 where that is not known.
    #[serde(default, skip_serializing_if = "is_zero_time")]
    pub changed: i64,
    /// Device number, to tell mounts apart.
    pub device: u64,
    /// Inode number.
    pub inode: u64,
    /// Number of names that it has (hard links).
    #[serde(default = "one", skip_serializing_if = "is_one")]
    pub links: u64,
    /// Access ACL entries beyond the mode, if any.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub acl: Vec<AclEntry>,
    /// Whether the file system forbids every change of it, to root, too (chattr +i).
    #[serde(default, skip_serializing_if = "is_false")]
    pub immutable: bool,
    /// Capabilities that executing it grants, as a bit set (setcap).
    #[serde(default, skip_serializing_if = "is_zero")]
    pub capabilities: u64,
}

fn one() -> u64 {
    1
}

fn is_one(count: &u64) -> bool {
    *count == 1
}

fn is_false(flag: &bool) -> bool {
    !flag
}

fn is_zero_time(time: &i64) -> bool {
    *time == 0
}

fn is_zero(bits: &u64) -> bool {
    *bits == 0
}

impl FileStatus {
    /// When anything of it changed last, in seconds since the epoch: a backup that is put back keeps the time
    /// of its content.
    pub fn touched(&self) -> i64 {
        self.modified.max(self.changed)
    }
    /// A file of which nothing but its sort, mode, owner and size matters.
    pub fn plain(kind: FileKind, mode: u32, uid: u32, gid: u32, size: u64) -> Self {
        Self {
            kind,
            mode,
            uid,
            gid,
            size,
            modified: 0,
            changed: 0,
            device: 1,
            inode: 1,
            links: 1,
            acl: Vec::new(),
            immutable: false,
            capabilities: 0,
        }
    }
}

/// One named entry (or the mask) of a POSIX access ACL.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct AclEntry {
    /// Tag as in the on-disk format: 0x02 user, 0x08 group, 0x10 mask.
    pub tag: u16,
    /// `rwx` bits.
    pub permissions: u16,
    /// User or group number; meaningless for the mask.
    pub id: u32,
}

/// A name in a directory.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct DirectoryEntry {
    /// The name, without its directory.
    pub name: String,
    /// Sort of file, links not followed.
    pub kind: FileKind,
}

/// Free space, in bytes and inodes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Space {
    /// Bytes an unprivileged process may still use.
    pub free_bytes: u64,
    /// Inodes an unprivileged process may still use; `None` where the file system does not count them.
    pub free_inodes: Option<u64>,
    /// Whether the file system is mounted read-only.
    pub read_only: bool,
}

/// One mount.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Mount {
    /// Where.
    pub path: String,
    /// File system type.
    pub kind: String,
    /// Read-only for this mount or its file system.
    pub read_only: bool,
    /// Programs may not be executed.
    pub no_exec: bool,
}

/// A process in one line.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ProcessBrief {
    /// Process number.
    pub pid: u32,
    /// Parent.
    pub parent: u32,
    /// Name, at most 15 bytes.
    pub name: String,
    /// State letter of /proc/PID/stat.
    pub state: char,
    /// Effective user.
    pub uid: u32,
    /// Start in clock ticks since boot; with the pid it names a process for good.
    pub start_ticks: u64,
}

/// A process in full.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Process {
    /// The short form.
    pub brief: ProcessBrief,
    /// Executable, where it may be seen.
    pub executable: Option<String>,
    /// Arguments with the program's name.
    pub arguments: Vec<String>,
    /// Effective group.
    pub gid: u32,
    /// Supplementary groups.
    pub groups: Vec<u32>,
    /// Effective capabilities, as a bit set.
    pub capabilities: u64,
    /// Control group path (of the manager's hierarchy).
    pub cgroup: String,
    /// Whether it has a controlling terminal, and its device number.
    pub terminal: Option<u32>,
    /// Start, in seconds since the epoch.
    pub started: Option<i64>,
    /// Login user number that the audit system remembers.
    pub login_uid: Option<u32>,
    /// Working directory, where it may be seen.
    pub directory: Option<String>,
    /// Whether its root is that of the host.
    pub own_root: bool,
}

/// Transport of a socket.
#[derive(
    Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, schemars::JsonSchema,
)]
#[serde(rename_all = "kebab-case")]
pub enum Protocol {
    /// TCP.
    Tcp,
    /// UDP.
    Udp,
    /// A Unix socket.
    Unix,
}

/// A listening (or, for UDP, bound) socket.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Socket {
    /// Transport.
    pub protocol: Protocol,
    /// Bound address; `None` for Unix sockets.
    pub address: Option<IpAddr>,
    /// Port; 0 for Unix sockets.
    pub port: u16,
    /// Path of a Unix socket; abstract names begin with `@`.
    pub path: Option<String>,
    /// Inode, the key to its holders.
    pub inode: u64,
    /// Effective user that opened it.
    pub uid: u32,
    /// For IPv6: bound to IPv6 alone.
    pub v6_only: bool,
}

/// A unit as the manager has it. Names of fields follow its D-Bus properties.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct UnitState {
    /// The manager's name for it, after aliases.
    pub id: String,
    /// All names.
    pub names: Vec<String>,
    /// `loaded`, `not-found`, `bad-setting`, `error`, `masked`.
    pub load_state: String,
    /// `active`, `inactive`, `failed`, `activating`, `deactivating`, `reloading`.
    pub active_state: String,
    /// Finer state.
    pub sub_state: String,
    /// `enabled`, `disabled`, `static`, `masked`, …
    pub unit_file_state: String,
    /// `success`, `exit-code`, `signal`, `timeout`, …
    pub result: String,
    /// Main process, 0 when none.
    pub main_pid: u32,
    /// Process of a running start, stop or reload command.
    pub control_pid: u32,
    /// As `waitid` gives it: 1 exited, 2 killed, 3 dumped.
    pub exec_main_code: i32,
    /// Exit status or signal of the main process.
    pub exec_main_status: i32,
    /// Automatic restarts since the last manual start.
    pub restarts: u32,
    /// Identity of the current or last run.
    pub invocation: String,
    /// Microseconds since the epoch of the last state change; 0 unknown.
    pub state_changed: u64,
    /// Microseconds since the epoch when it last became active; 0 never.
    pub active_entered: u64,
    /// Microseconds since the epoch when it was last begun to be started; 0 never, or not known.
    #[serde(default)]
    pub left_inactive: u64,
    /// Microseconds since the epoch when its main process ended; 0 never, or not known.
    #[serde(default)]
    pub main_exited: u64,
    /// Whether unit files changed after they were read.
    pub needs_reload: bool,
    /// Outcome of the conditions at the last start.
    pub condition_met: bool,
    /// Microseconds since the epoch of the last condition check; 0 never.
    pub condition_checked: u64,
    /// Control group.
    pub control_group: String,
    /// File that defines it.
    pub fragment: String,
    /// Everything else that a rule may want, as text.
    pub more: BTreeMap<String, String>,
}

/// One journal entry. Message text is cleaned of nothing: renderers do that.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct JournalEntry {
    /// Microseconds since the epoch.
    pub time: u64,
    /// `MESSAGE`.
    pub message: String,
    /// `MESSAGE_ID`.
    pub message_id: String,
    /// `_SYSTEMD_INVOCATION_ID` or `INVOCATION_ID`.
    pub invocation: String,
    /// `_PID`.
    pub pid: u32,
    /// `_COMM` or `SYSLOG_IDENTIFIER`.
    pub identifier: String,
    /// Whether the manager itself wrote it.
    pub from_manager: bool,
    /// `PRIORITY`, 0 to 7.
    pub priority: u8,
    /// `_BOOT_ID`.
    pub boot: String,
    /// `JOB_RESULT` or `UNIT_RESULT`, when there is one.
    pub result: String,
    /// `EXIT_CODE` and `EXIT_STATUS`, when there are any, as `exited/1`.
    pub exit: String,
}

/// Now and boot time, microseconds since the epoch.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ClockReading {
    /// Now.
    pub now: i64,
    /// Boot; `None` where nothing tells.
    pub booted: Option<i64>,
    /// Name of the host.
    pub host: String,
}

/// Who looks.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Myself {
    /// Effective user.
    pub uid: u32,
    /// Own process number, and its ancestors': never signalled.
    pub lineage: Vec<u32>,
}

/// What to ask a server.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub struct ProbeRequest {
    /// Address to connect to.
    pub address: IpAddr,
    /// Port to connect to.
    pub port: u16,
    /// Ask over TLS.
    pub tls: bool,
    /// `Host` header and server name.
    pub host: String,
    /// Path with query.
    pub path: String,
    /// What the server should speak; `tcp` only connects.
    pub protocol: ProbeProtocol,
    /// A Unix socket in place of address and port.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub socket: Option<String>,
    /// The account of the host under which a connection to a Unix socket is made, for servers that ask who
    /// their peer is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub peer: Option<u32>,
}

/// Protocol of a probe.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ProbeProtocol {
    /// Connect and close: the kernel accepts, whoever is behind it.
    Tcp,
    /// HTTP/1.1 GET.
    Http,
    /// The server speaks first: its first byte is waited for.
    Greeting,
    /// The MySQL family: its greeting is read.
    Mysql,
    /// PostgreSQL: a connection is begun, and ended where it asks for a proof of who one is.
    Postgresql,
    /// Redis and its fork: PING, answered whether or not a password is wanted.
    Redis,
    /// FastCGI: a question about the server's own values (FastCGI specification, 4.1).
    FastCgi,
    /// AJP: a ping of the container.
    Ajp,
}

impl ProbeProtocol {
    /// Its name in sentences.
    pub fn spelled(self) -> &'static str {
        match self {
            Self::Tcp => "TCP",
            Self::Http => "HTTP",
            Self::Greeting => "the greeting",
            Self::Postgresql => "PostgreSQL",
            Self::Redis => "PING",
            Self::FastCgi => "FastCGI",
            Self::Mysql => "MySQL",
            Self::Ajp => "AJP",
        }
    }
}

/// What the server said.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct ProbeAnswer {
    /// Whether a connection was made.
    pub connected: bool,
    /// Whether the server itself said anything; a connection is the kernel's word alone.
    #[serde(default)]
    pub spoke: bool,
    /// Whether the server closed the connection without a word: it lives, and has nothing to say.
    #[serde(default)]
    pub hung_up: bool,
    /// HTTP status.
    pub status: Option<u16>,
    /// `Server` header.
    pub server: Option<String>,
    /// `Location` header.
    pub location: Option<String>,
    /// First part of the body, as text.
    pub body: String,
    /// Why it failed, when it did.
    pub error: Option<String>,
    /// Time taken in milliseconds.
    pub took_ms: u64,
    /// A word by which the lines of logs about this question are found, where it was sent along.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mark: Option<String>,
    /// What a server of data says of itself, where it was asked in its own protocol and answered.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub greeting: Option<super::Greeting>,
}
