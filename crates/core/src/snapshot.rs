//! Facts about a host, each asked once and remembered.
use crate::host::{
    Answer, ClockReading, DirectoryEntry, FileKind, FileStatus, Host, JournalEntry, LoginAnswer,
    LoginRequest, Look, Mount, Myself, ProbeAnswer, ProbeRequest, Process, ProcessBrief, Question,
    Remembered, Socket, Space, UnitState, Unseen,
};
use crate::keys::KeyFacts;
use crate::not_seen::NotSeen;
use std::any::Any;
use std::cell::{Cell, OnceCell, RefCell};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::net::IpAddr;
use std::sync::Arc;

/// A lazy view of a host at one time. `verify` takes a new one for each look.
pub struct Snapshot<'h> {
    host: &'h dyn Host,
    memory: RefCell<HashMap<Question, Look<Answer>>>,
    not_seen: RefCell<BTreeSet<NotSeen>>,
    environment: RefCell<BTreeMap<String, String>>,
    derived: RefCell<HashMap<String, Arc<dyn Any + Send + Sync>>>,
    briefs: OnceCell<HashMap<u32, ProcessBrief>>,
    earlier: Option<Box<dyn Remembered>>,
    bounded: Cell<bool>,
    refused: Cell<u64>,
    /// How much of whole files was read, in bytes.
    read: Cell<u64>,
    /// Whether what is asked for would only add to an answer.
    aside: Cell<bool>,
    /// Name of the host, where somebody gave it another one.
    host_name: Option<String>,
}

/// Picks the variant that belongs to a question; any other answer is a fault of the host's implementation.
macro_rules! pick {
    ($look:expr, $variant:path) => {
        match $look {
            Look::Seen($variant(value)) => Look::Seen(value),
            Look::Seen(_) => Look::NotSeen(Unseen::Failed("an answer to another question".into())),
            Look::Absent => Look::Absent,
            Look::NotSeen(why) => Look::NotSeen(why),
        }
    };
}

impl<'h> Snapshot<'h> {
    /// A snapshot that has asked nothing yet.
    pub fn new(host: &'h dyn Host) -> Self {
        Self {
            host,
            memory: RefCell::default(),
            not_seen: RefCell::default(),
            environment: RefCell::default(),
            derived: RefCell::default(),
            briefs: OnceCell::new(),
            earlier: None,
            bounded: Cell::new(false),
            refused: Cell::new(0),
            read: Cell::new(0),
            aside: Cell::new(false),
            host_name: None,
        }
    }

    /// The same under another name of the host.
    #[must_use]
    pub fn under(mut self, host_name: Option<String>) -> Self {
        self.host_name = host_name;
        self
    }

    /// The same with what is known of files from earlier.
    pub fn with_earlier(self, earlier: impl Remembered + 'static) -> Self {
        Self { earlier: Some(Box::new(earlier)), ..self }
    }

    /// Whether a file still holds what it is known to have held, and who knows it; `None` where nothing is
    /// known.
    pub fn is_same(&self, path: &str) -> Option<(bool, &str)> {
        let earlier = self.earlier.as_ref().filter(|known| !known.is_empty())?;
        // A change is made to the file itself, which may be read through a link.
        let known = [path.to_owned(), self.resolve_links(path)].into_iter().find(|p| earlier.knows(p))?;
        earlier.is_same(&known, &self.read(path).seen()?)
    }

    /// The host as an earlier capture recorded it.
    pub fn earlier_host(&self) -> Option<&dyn Host> {
        self.earlier.as_ref()?.host()
    }

    /// The host behind it.
    pub fn host(&self) -> &'h dyn Host {
        self.host
    }

    fn ask(&self, question: Question) -> Look<Answer> {
        if let Some(known) = self.memory.borrow().get(&question) {
            self.count_refusal(&question, known);
            return known.clone();
        }
        let whole = matches!(question, Question::Read(_));
        if whole && self.read.get() > crate::bounds::READ {
            self.bound(format!("files of more than {} MiB in all are not read", crate::bounds::READ >> 20));
            return Look::NotSeen(Unseen::TooLarge(crate::bounds::READ));
        }
        let mut answer = self.host.ask(&question);
        if let (true, Look::Seen(Answer::Bytes(bytes))) = (whole, &answer) {
            self.read.set(self.read.get().saturating_add(bytes.len() as u64));
        }
        if let Look::Seen(answer) = &mut answer {
            answer.keep_to_the_calendar();
        }
        if self.aside.get() && matches!(answer, Look::NotSeen(_)) {
            // Who asks for it in earnest later is told.
            return answer;
        }
        if let Look::NotSeen(why) = &answer {
            self.note(&question, why);
        }
        self.count_refusal(&question, &answer);
        self.memory.borrow_mut().insert(question, answer.clone());
        answer
    }

    /// Looks for what would only add to an answer: what cannot be seen of it is not missed.
    pub(crate) fn aside<T>(&self, look: impl FnOnce() -> T) -> T {
        let before = self.aside.replace(true);
        let found = look();
        self.aside.set(before);
        found
    }

    fn count_refusal(&self, question: &Question, answer: &Look<Answer>) {
        let of_file = matches!(
            question,
            Question::Stat(_)
                | Question::LinkStat(_)
                | Question::ReadLink(_)
                | Question::List(_)
                | Question::Read(_)
                | Question::Key(_)
        );
        if of_file && matches!(answer, Look::NotSeen(Unseen::Denied)) {
            self.refused.set(self.refused.get() + 1);
        }
    }

    /// How many looks at files were refused for want of rights so far, repeated ones included: what grows
    /// while a service is judged stands in the way of that judgement.
    pub fn refusals(&self) -> u64 {
        self.refused.get()
    }

    fn note(&self, question: &Question, why: &Unseen) {
        let part = match question {
            Question::Processes | Question::Process(_) | Question::Listeners | Question::Clients(_) => {
                "processes and sockets"
            }
            Question::Unit(_) => "the service manager",
            Question::Addresses => "interfaces",
            Question::Clock => "the clock",
            // Whoever asks says what hangs on it.
            Question::Resolve(_) => return,
            Question::Probe(_) | Question::Login(_) => "running servers",
            Question::Stat(p)
            | Question::LinkStat(p)
            | Question::ReadLink(p)
            | Question::List(p)
            | Question::Read(p)
            | Question::FindString(p, ..)
            | Question::Key(p) => {
                if !matches!(why, Unseen::NotRegular) {
                    self.unseen(NotSeen::file(p, why));
                }
                return;
            }
            Question::ReadAt(p, ..) | Question::Space(p) => return self.unseen(NotSeen::file(p, why)),
            Question::JournalOf(field, _) => {
                return self.unseen(NotSeen::part(&format!("journal entries of {field}"), why));
            }
            Question::Journal(unit, _) => {
                return self.unseen(NotSeen::part(&format!("journal of {unit}"), why));
            }
            Question::SocketOwners(_) => "the holders of some sockets",
            Question::Mounts => "mounts",
            Question::Myself => return,
        };
        self.unseen(NotSeen::part(part, why));
    }

    /// Adds a sentence to what could not be seen.
    pub fn unseen(&self, sentence: impl Into<NotSeen>) {
        self.not_seen.borrow_mut().insert(sentence.into());
    }

    /// A bound was reached: what lies behind it is not known.
    pub fn bound(&self, sentence: impl Into<NotSeen>) {
        self.bounded.set(true);
        self.unseen(sentence);
    }

    /// Whether a bound was reached.
    pub fn is_bounded(&self) -> bool {
        self.bounded.get()
    }

    /// The beginning of a small file, such as one with the number of a process; a large one is no such file.
    pub fn small_text(&self, path: &str) -> Look<String> {
        self.read_at(path, 0, crate::bounds::PID_FILE)
            .map(|bytes| String::from_utf8_lossy(&bytes).into_owned())
    }

    /// What could not be seen so far, in a stable order.
    pub fn not_seen(&self) -> Vec<NotSeen> {
        self.not_seen.borrow().iter().cloned().collect()
    }

    /// Whether the journal of a unit was asked for and could not be seen.
    pub fn misses_a_journal(&self) -> bool {
        let missed =
            |asked: (&Question, &Look<Answer>)| matches!(asked, (Question::Journal(..), Look::NotSeen(_)));
        self.memory.borrow().iter().any(missed)
    }

    /// Forgets one kind of answer that moves, so that the next question is asked anew.
    pub fn forget(&self, question: &Question) {
        self.memory.borrow_mut().remove(question);
    }

    /// Status behind links.
    pub fn stat(&self, path: &str) -> Look<FileStatus> {
        pick!(self.ask(Question::Stat(path.into())), Answer::Status)
    }
    /// Status of a link itself.
    pub fn link_stat(&self, path: &str) -> Look<FileStatus> {
        pick!(self.ask(Question::LinkStat(path.into())), Answer::Status)
    }
    /// Whether a path exists, links followed; `None` when that could not be seen.
    pub fn exists(&self, path: &str) -> Option<bool> {
        match self.stat(path) {
            Look::Seen(_) => Some(true),
            Look::Absent => Some(false),
            Look::NotSeen(_) => None,
        }
    }
    /// Whether a path is a directory; `None` when that could not be seen.
    pub fn is_directory(&self, path: &str) -> Option<bool> {
        match self.stat(path) {
            Look::Seen(status) => Some(status.kind == FileKind::Directory),
            Look::Absent => Some(false),
            Look::NotSeen(_) => None,
        }
    }
    /// Target of a link.
    pub fn read_link(&self, path: &str) -> Look<String> {
        pick!(self.ask(Question::ReadLink(path.into())), Answer::Target)
    }
    /// Names in a directory, sorted.
    pub fn list(&self, path: &str) -> Look<Vec<DirectoryEntry>> {
        pick!(self.ask(Question::List(path.into())), Answer::Names)
    }
    /// A file's bytes.
    pub fn read(&self, path: &str) -> Look<Arc<[u8]>> {
        pick!(self.ask(Question::Read(path.into())), Answer::Bytes)
    }
    /// A file of certificates or keys. Whoever owns it can make it as large as files can be: one that no such
    /// file can be is not read.
    pub fn certificates(&self, path: &str) -> Look<Arc<[u8]>> {
        let size = self.aside(|| self.stat(path)).seen().map_or(0, |status| status.size);
        if size > crate::bounds::PEM {
            self.bound(format!(
                "{path}: certificates of more than {} MiB are not read",
                crate::bounds::PEM >> 20
            ));
            return Look::NotSeen(Unseen::TooLarge(crate::bounds::PEM));
        }
        self.read(path)
    }
    /// What is said of a private key. Captured evidence holds the facts in place of the key.
    pub fn key(&self, path: &str) -> Look<KeyFacts> {
        if self.host.is_record()
            && let Look::Seen(facts) = pick!(self.host.ask(&Question::Key(path.into())), Answer::Key)
        {
            return Look::Seen(facts);
        }
        self.certificates(path).map(|bytes| crate::keys::facts(&bytes))
    }
    /// Whether a key is that of a certificate; `None` where it cannot be told.
    pub fn key_fits(&self, certificate: &str, key: &str) -> Option<bool> {
        crate::keys::fits(&self.certificates(certificate).seen()?, &self.key(key).seen()?)
    }
    /// Whether a column of a file is known: behind a mask of captured evidence it is another one than in the
    /// file itself.
    pub fn knows_column(&self, file: &str, line: u32, column: u32) -> bool {
        if !self.host.is_record() {
            return true;
        }
        let text = self.text(file).seen().unwrap_or_default();
        let at = usize::try_from(line).unwrap_or(usize::MAX).saturating_sub(1);
        !text.lines().nth(at).is_some_and(|line| crate::secrets::column_moved(line, column))
    }
    /// The first string of a binary that holds `needle`, or is it.
    pub fn find_string(&self, path: &str, needle: &str, whole: bool) -> Look<Option<String>> {
        pick!(self.ask(Question::FindString(path.into(), needle.into(), whole)), Answer::Found)
    }
    /// A file's text; bytes that are no UTF-8 are replaced.
    pub fn text(&self, path: &str) -> Look<String> {
        self.read(path).map(|bytes| String::from_utf8_lossy(&bytes).into_owned())
    }
    /// Part of a file. Not remembered: logs are long.
    pub fn read_at(&self, path: &str, offset: u64, length: u32) -> Look<Arc<[u8]>> {
        let question = Question::ReadAt(path.into(), offset, length);
        let answer = self.host.ask(&question);
        if let Look::NotSeen(why) = &answer {
            self.note(&question, why);
        }
        pick!(answer, Answer::Bytes)
    }
    /// Space where a path lives.
    pub fn space(&self, path: &str) -> Look<Space> {
        pick!(self.ask(Question::Space(path.into())), Answer::Space)
    }
    /// The mount table.
    pub fn mounts(&self) -> Look<Vec<Mount>> {
        pick!(self.ask(Question::Mounts), Answer::Mounts)
    }
    /// All processes in brief.
    pub fn processes(&self) -> Look<Vec<ProcessBrief>> {
        pick!(self.ask(Question::Processes), Answer::Processes)
    }
    /// Whether the processes of all accounts are seen: pid 1 is always there, and a mount of /proc with
    /// `hidepid` leaves it out for ordinary accounts.
    pub fn sees_processes(&self) -> bool {
        let ordinary = || self.myself().seen().is_some_and(|m| m.uid != 0);
        self.host().parts().processes && (!ordinary() || self.brief(1).is_some())
    }
    /// One process in brief, out of all of them.
    pub fn brief(&self, pid: u32) -> Option<&ProcessBrief> {
        let all = self.briefs.get_or_init(|| {
            self.processes().seen().unwrap_or_default().into_iter().map(|b| (b.pid, b)).collect()
        });
        all.get(&pid)
    }
    /// One process.
    pub fn process(&self, pid: u32) -> Look<Box<Process>> {
        pick!(self.ask(Question::Process(pid)), Answer::Process)
    }
    /// All listening sockets.
    pub fn listeners(&self) -> Look<Vec<Socket>> {
        pick!(self.ask(Question::Listeners), Answer::Listeners)
    }
    /// Holders of socket inodes.
    pub fn owners(&self, inodes: &[u64]) -> Look<Vec<(u64, u32)>> {
        pick!(self.ask(Question::SocketOwners(inodes.to_vec())), Answer::Owners)
    }
    /// Connections established with a local port.
    pub fn clients(&self, port: u16) -> Look<u32> {
        pick!(self.ask(Question::Clients(port)), Answer::Count)
    }
    /// A unit's state.
    pub fn unit(&self, name: &str) -> Look<Box<UnitState>> {
        pick!(self.ask(Question::Unit(name.into())), Answer::Unit)
    }
    /// Newest journal entries of a unit.
    pub fn journal(&self, unit: &str, most: u32) -> Look<Vec<JournalEntry>> {
        pick!(self.ask(Question::Journal(unit.into(), most)), Answer::Journal)
    }
    /// Newest journal entries with a field of a value, `FIELD=value`.
    pub fn journal_of(&self, field: &str, most: u32) -> Look<Vec<JournalEntry>> {
        pick!(self.ask(Question::JournalOf(field.into(), most)), Answer::Journal)
    }
    /// Addresses of the host's interfaces.
    pub fn addresses(&self) -> Look<Vec<IpAddr>> {
        pick!(self.ask(Question::Addresses), Answer::Addresses)
    }
    /// Addresses of a name, by the host's own look-up of names.
    pub fn resolve(&self, name: &str) -> Look<Vec<IpAddr>> {
        pick!(self.ask(Question::Resolve(name.into())), Answer::Addresses)
    }
    /// Clock.
    pub fn clock(&self) -> Look<ClockReading> {
        let read = pick!(self.ask(Question::Clock), Answer::Clock);
        read.map(|clock: ClockReading| match &self.host_name {
            Some(host) => ClockReading { host: host.clone(), ..clock },
            None => clock,
        })
    }
    /// Who looks.
    pub fn myself(&self) -> Look<Myself> {
        pick!(self.ask(Question::Myself), Answer::Myself)
    }
    /// Asks a server.
    pub fn probe(&self, request: &ProbeRequest) -> Look<ProbeAnswer> {
        pick!(self.ask(Question::Probe(request.clone())), Answer::Probe)
    }
    /// Asks a server of data to let an account in.
    pub fn login(&self, request: &LoginRequest) -> Look<LoginAnswer> {
        pick!(self.ask(Question::Login(request.clone())), Answer::Login)
    }
    /// Now in microseconds since the epoch.
    pub fn now(&self) -> Option<i64> {
        self.clock().seen().map(|c| c.now)
    }
    /// A small text remembered under a name, for facts that several rooms derive from files.
    pub fn remember(&self, name: &str, derive: impl FnOnce() -> String) -> String {
        if let Some(known) = self.environment.borrow().get(name) {
            return known.clone();
        }
        let value = derive();
        self.environment.borrow_mut().insert(name.into(), value.clone());
        value
    }

    /// What a room derives from this host, remembered under a name of the room's choice.
    pub fn derived<T: Send + Sync + 'static>(&self, name: &str, derive: impl FnOnce() -> T) -> Arc<T> {
        let known = self.derived.borrow().get(name).cloned().and_then(|known| known.downcast::<T>().ok());
        // Nothing is held open meanwhile: deriving asks this snapshot, too.
        known.unwrap_or_else(|| {
            let found = Arc::new(derive());
            self.derived.borrow_mut().insert(name.to_owned(), found.clone());
            found
        })
    }

    /// The absolute path behind every symbolic link, as far as it exists.
    pub fn resolve_links(&self, path: &str) -> String {
        let mut current = path.to_owned();
        for _ in 0..16 {
            match self.read_link(&current) {
                Look::Seen(target) => current = crate::path::join(crate::path::parent(&current), &target),
                _ => break,
            }
        }
        crate::path::clean(&current)
    }
}
