//! Campaigns on a host written as text, which a start changes as the test says: kept, put back, the next
//! cause named, several picks in one change.
use super::{Clock, Fate, Ground, Offers, Orders, Outcome, Patience, Refusal, carry_out, offers};
use crate::case::{Depth, gather};
use crate::code::Code;
use crate::fix::{
    CommandLine, Commands, Digest, HostWriter, Identity, Purpose, RunMark, Slot, Target, UnitLink, UnitNow,
    WriteError, digest,
};
use crate::host::{Answer, FileStatus, Host, Look, Parts, Question};
use crate::report::{Recovery, standing_causes};
use crate::service::Service;
use crate::snapshot::Snapshot;
use crate::tests::{EDGE_CONFIG as CONFIG, TextHost, described, edge_host};
use std::cell::{Cell, RefCell};
use std::collections::BTreeMap;
use std::sync::Mutex;
use std::time::Duration;

const MAIN: &str = "/etc/nginx/nginx.conf";
const STARTING: &str = "7d4958e842da4a758f6c1cdc7b36dcc5";
const STARTED: &str = "39f53479d3a045ac8e11786248231fbf";

/// The host as it is now.
struct Stage(Mutex<TextHost>);

impl Stage {
    fn change(&self, change: impl FnOnce(TextHost) -> TextHost) {
        let host = self.now();
        let changed = change(host);
        *self.0.lock().unwrap() = changed;
    }
    fn now(&self) -> TextHost {
        self.0.lock().unwrap().clone()
    }
    fn config(&self) -> String {
        Snapshot::new(self).text(MAIN).seen().unwrap_or_default()
    }
}

impl Host for Stage {
    fn ask(&self, question: &Question) -> Look<Answer> {
        self.now().ask(question)
    }
    fn parts(&self) -> Parts {
        self.now().parts()
    }
}

/// The ground of a test: its clock goes by what is slept, and a wait may change the host.
struct Field<'s> {
    stage: &'s Stage,
    live: bool,
    time: Cell<Duration>,
    meanwhile: fn(&Stage, Duration),
    said: RefCell<Vec<String>>,
}

impl<'s> Field<'s> {
    fn new(stage: &'s Stage) -> Self {
        Self { stage, live: true, time: Cell::default(), meanwhile: |_, _| {}, said: RefCell::default() }
    }
}

impl Clock for Field<'_> {
    fn elapsed(&self) -> Duration {
        self.time.get()
    }
    fn sleep(&self, time: Duration) {
        self.time.set(self.time.get() + time);
        (self.meanwhile)(self.stage, self.time.get());
    }
}

impl Commands for Field<'_> {
    fn running(&self, _: &str) -> Option<Option<RunMark>> {
        None
    }
    fn line(&self, _: &str, _: Purpose) -> Option<CommandLine> {
        None
    }
}

impl Ground for Field<'_> {
    fn look(&self) -> Snapshot<'_> {
        Snapshot::new(self.stage)
    }
    fn service(&self, _: &Snapshot, name: &str) -> Result<Service, String> {
        Ok(described(&self.stage.now(), name, ""))
    }
    fn is_live(&self) -> bool {
        self.live
    }
    fn say(&self, text: &str) {
        self.said.borrow_mut().push(text.to_owned());
    }
}

/// Changes the stage; what a start does the test says.
struct Hand<'s> {
    stage: &'s Stage,
    start: fn(TextHost) -> TextHost,
    jobs: Vec<String>,
    journal: BTreeMap<(String, String), Vec<u8>>,
}

impl<'s> Hand<'s> {
    fn new(stage: &'s Stage, start: fn(TextHost) -> TextHost) -> Self {
        Self { stage, start, jobs: Vec::new(), journal: BTreeMap::new() }
    }
}

fn not_here<T>() -> Result<T, WriteError> {
    Err(WriteError::Refused("these tests change files and units alone".into()))
}

impl HostWriter for Hand<'_> {
    fn store(&mut self, id: &str, name: &str, bytes: &[u8]) -> Result<(), WriteError> {
        self.journal.insert((id.into(), name.into()), bytes.to_vec());
        Ok(())
    }
    fn load(&self, id: &str, name: &str) -> Option<Vec<u8>> {
        self.journal.get(&(id.into(), name.into())).cloned()
    }
    fn changes(&self) -> Vec<String> {
        self.journal.keys().map(|(id, _)| id.clone()).collect()
    }
    fn status(&self, target: &Target) -> Result<Option<FileStatus>, WriteError> {
        Ok(Snapshot::new(self.stage).link_stat(&target.path).seen())
    }
    fn content(&self, target: &Target) -> Result<Option<Vec<u8>>, WriteError> {
        Ok(Snapshot::new(self.stage).read(&target.path).seen().map(|b| b.to_vec()))
    }
    fn replace_file(
        &mut self,
        target: &Target,
        expect: &Digest,
        content: &[u8],
        _: Slot,
    ) -> Result<(), WriteError> {
        assert_eq!(self.content(target)?.map(|b| digest(&b)).as_ref(), Some(expect));
        self.stage.change(|h| h.text(&target.path, &String::from_utf8_lossy(content)));
        Ok(())
    }
    fn create_file(&mut self, _: &Target, _: &[u8], _: Slot) -> Result<(), WriteError> {
        not_here()
    }
    fn remove_file(&mut self, _: &Target, _: &Digest, _: Slot) -> Result<(), WriteError> {
        not_here()
    }
    fn set_mode(&mut self, _: &Target, _: u32) -> Result<(), WriteError> {
        not_here()
    }
    fn set_owner(&mut self, _: &Target, _: u32, _: u32) -> Result<(), WriteError> {
        not_here()
    }
    fn prepare_directory(
        &mut self,
        target: &Target,
        mode: u32,
        uid: u32,
        gid: u32,
        _: Slot,
    ) -> Result<Identity, WriteError> {
        Ok(Identity {
            device: 1,
            inode: target.path.len() as u64,
            kind: crate::host::FileKind::Directory,
            uid,
            gid,
            mode,
        })
    }
    fn place_directory(&mut self, target: &Target, _: Slot) -> Result<(), WriteError> {
        self.stage.change(|h| h.dir(&target.path, 0o755, 0));
        Ok(())
    }
    fn remove_directory(&mut self, target: &Target, _: Slot) -> Result<bool, WriteError> {
        self.stage.change(|h| h.without(&target.path));
        Ok(true)
    }
    fn rename(&mut self, _: &Target, _: &str) -> Result<(), WriteError> {
        not_here()
    }
    fn link(&self, _: &Target) -> Result<Option<String>, WriteError> {
        not_here()
    }
    fn set_link(&mut self, _: &Target, _: Option<&str>, _: Option<&str>) -> Result<(), WriteError> {
        not_here()
    }
    fn clear(&mut self, _: Option<&Target>, _: Slot) -> Result<(), WriteError> {
        Ok(())
    }
    fn unit_links(&self, _: &[String]) -> Vec<UnitLink> {
        Vec::new()
    }
    fn unit_file(&mut self, _: &str, _: &str) -> Result<(), WriteError> {
        not_here()
    }
    fn job(&mut self, verb: &str, unit: &str) -> Result<(), WriteError> {
        self.jobs.push(format!("{verb} {unit}"));
        if verb != "stop" {
            self.stage.change(self.start);
        }
        Ok(())
    }
    fn reset_failed(&mut self, unit: &str) -> Result<(), WriteError> {
        self.jobs.push(format!("reset-failed {unit}"));
        Ok(())
    }
    fn reload_manager(&mut self) -> Result<(), WriteError> {
        Ok(())
    }
    fn end_process(&mut self, _: u32, _: u64, _: bool) -> Result<(), WriteError> {
        not_here()
    }
    fn continue_process(&mut self, _: u32, _: u64) -> Result<(), WriteError> {
        not_here()
    }
    fn is_alive(&self, _: u32, _: u64) -> bool {
        false
    }
    fn run(&mut self, _: &CommandLine) -> Result<(), WriteError> {
        not_here()
    }
    fn unit_now(&self, unit: &str) -> Option<UnitNow> {
        match self.stage.ask(&Question::Unit(unit.to_owned())) {
            Look::Seen(Answer::Unit(state)) => {
                Some(UnitNow { active: state.active_state == "active", invocation: String::new() })
            }
            _ => Some(UnitNow::default()),
        }
    }
}

/// It comes up on the port that its configuration asks for.
fn comes_up(host: TextHost) -> TextHost {
    let text = Snapshot::new(&host).text(MAIN).seen().unwrap_or_default();
    let port = text
        .split("listen ")
        .nth(1)
        .and_then(|t| t.split(';').next())
        .and_then(|p| p.parse().ok())
        .unwrap_or(0);
    host.unit("edge.service", "active", |u| u.main_pid = 50)
        .process(50, "/usr/sbin/nginx -c /etc/nginx/nginx.conf", 0, "/system.slice/edge.service")
        .listens("0.0.0.0", port, &[50])
        .journal(&[(1000, STARTING, "Starting"), (1200, STARTED, "Started")])
        .answers(port, 200, "Timetable of the tides")
}

/// It fails as before.
fn fails(host: TextHost) -> TextHost {
    host.unit("edge.service", "failed", |_| {})
}

/// `edge`, which a stranger on its port keeps down.
fn held() -> Stage {
    Stage(Mutex::new(
        edge_host(CONFIG)
            .unit("edge.service", "failed", |_| {})
            .process(812, "/opt/gauge-sim", 1000, "")
            .listens("0.0.0.0", 8088, &[812]),
    ))
}

fn orders() -> Orders {
    Orders {
        no_start: false,
        patience: Patience { wait: Duration::from_secs(30), settle: Duration::from_secs(3) },
    }
}

/// Offers for the stage as it is, and what comes of these picks.
fn led(field: &Field, hand: &mut Hand, picks: &[&str], orders: Orders) -> Result<Outcome, Refusal> {
    let before = Stage(Mutex::new(field.stage.now()));
    let service = described(&before.now(), "edge", "");
    let snapshot = Snapshot::new(&before);
    let case = gather(&snapshot, &service, Depth::Diagnosis);
    let causes = standing_causes(&snapshot, &case);
    let values = BTreeMap::from([("port".to_owned(), "8090".to_owned())]);
    let given = crate::fix::Wishes { values, with_clients: true, ..Default::default() };
    let mut services = vec![service.clone()];
    services
        .extend(snapshot.exists(PROXY).filter(|there| *there).map(|_| described(&before.now(), "quay", "")));
    let all: Offers = offers(&snapshot, &case, &services, &causes, &given);
    let picks: Vec<String> = picks.iter().map(|p| (*p).to_owned()).collect();
    let chosen = all.choose(&picks)?;
    carry_out(field, hand, &snapshot, &case, &chosen, orders)
}

#[test]
fn what_helps_is_kept() {
    let stage = held();
    let (field, mut hand) = (Field::new(&stage), Hand::new(&stage, comes_up));
    let outcome = led(&field, &mut hand, &["move-port"], orders()).unwrap();
    assert_eq!(
        (outcome.fate, outcome.verified, outcome.applied),
        (Fate::Helped, Some(Recovery::Recovered), vec!["move-port".to_owned()])
    );
    assert!(outcome.next_cause.is_none() && stage.config().contains("listen 8090;"));
    assert_eq!(hand.jobs, ["reset-failed edge.service", "start edge.service"]);
    assert_eq!(
        field.elapsed(),
        Duration::from_secs(3),
        "it was looked at again after it had time to fall over"
    );
}

const PROXY: &str = "/etc/haproxy/haproxy.cfg";

/// The same, and a proxy that passes on to it.
fn held_behind_a_proxy() -> Stage {
    let stage = held();
    stage.change(|host| {
        host.program("/usr/sbin/haproxy")
            .file(
                PROXY,
                "frontend a\n  bind :8300\n  default_backend b\nbackend b\n  server s 127.0.0.1:8088\n",
            )
            .file(
                "/etc/systemd/system/quay.service",
                "[Service]\nExecStart=/usr/sbin/haproxy -f /etc/haproxy/haproxy.cfg\nExecReload=/bin/true\n",
            )
            .unit("quay.service", "active", |u| u.main_pid = 900)
            .process(900, "/usr/sbin/haproxy -f /etc/haproxy/haproxy.cfg", 0, "/system.slice/quay.service")
            .listens("0.0.0.0", 8300, &[900])
    });
    stage
}

#[test]
fn a_proxy_follows_a_port_that_moves_and_must_outlive_that() {
    let proxy = |stage: &Stage| Snapshot::new(stage).text(PROXY).seen().unwrap();
    let stage = held_behind_a_proxy();
    let (field, mut hand) = (Field::new(&stage), Hand::new(&stage, comes_up));
    let outcome = led(&field, &mut hand, &["move-port"], orders()).unwrap();
    assert_eq!(outcome.fate, Fate::Helped);
    assert_eq!(hand.jobs[1..], ["start edge.service", "reload quay.service"]);
    assert!(proxy(&stage).contains("127.0.0.1:8090") && stage.config().contains("listen 8090;"));
    // It comes up, and the proxy goes down with what it was made to read.
    let stage = held_behind_a_proxy();
    let start = |host| comes_up(host).without_process(900).unit("quay.service", "failed", |_| {});
    let (field, mut hand) = (Field::new(&stage), Hand::new(&stage, start));
    let outcome = led(&field, &mut hand, &["move-port"], orders()).unwrap();
    assert!(matches!(outcome.fate, Fate::PutBack { .. }), "{:?}", outcome.fate);
    assert!(proxy(&stage).contains("127.0.0.1:8088") && stage.config() == CONFIG);
    // Files alone: nothing is reloaded.
    let stage = held_behind_a_proxy();
    let (field, mut hand) = (Field::new(&stage), Hand::new(&stage, comes_up));
    led(&field, &mut hand, &["move-port"], Orders { no_start: true, ..orders() }).unwrap();
    assert!(proxy(&stage).contains("127.0.0.1:8090") && hand.jobs.is_empty());
}

/// `edge`, whose directory of logs is missing.
fn without_logs() -> Stage {
    Stage(Mutex::new(edge_host(CONFIG).unit("edge.service", "failed", |_| {}).without("/var/log/nginx")))
}

#[test]
fn what_does_not_help_is_put_back() {
    let stage = without_logs();
    // Something takes the directory away again.
    let (field, mut hand) =
        (Field::new(&stage), Hand::new(&stage, |host| fails(host).without("/var/log/nginx")));
    let outcome = led(&field, &mut hand, &["make-directory"], orders()).unwrap();
    assert!(matches!(&outcome.fate, Fate::PutBack { whole: true, .. }), "{:?}", outcome.fate);
    assert_eq!(
        (outcome.verified, crate::fix::load(&hand, &outcome.id).unwrap().outcome.as_str()),
        (Some(Recovery::NotRecovered), "rolled-back")
    );
}

#[test]
fn what_breaks_the_file_that_was_edited_is_put_back() {
    let stage = held();
    // With the new port another cause appears at the very file.
    let (field, mut hand) =
        (Field::new(&stage), Hand::new(&stage, |host| fails(host).without("/var/log/nginx")));
    let outcome = led(&field, &mut hand, &["move-port"], orders()).unwrap();
    assert_eq!(outcome.fate, Fate::PutBack { left: vec![], whole: true });
    assert_eq!(stage.config(), CONFIG);
}

#[test]
fn what_is_left_is_named_as_the_next_cause() {
    let stage = held();
    stage.change(|h| h.without("/var/log/nginx"));
    let (field, mut hand) = (Field::new(&stage), Hand::new(&stage, fails));
    let outcome = led(&field, &mut hand, &[], orders()).unwrap();
    assert_eq!(
        (outcome.applied, outcome.fate),
        (vec!["make-directory".to_owned()], Fate::Kept),
        "the first cause's own fix, and nothing else"
    );
    assert_eq!(outcome.next_cause.map(|c| c.code), Some(Code::PortTaken));
    assert_eq!(
        Snapshot::new(&stage).is_directory("/var/log/nginx"),
        Some(true),
        "what is put right stays so"
    );
}

#[test]
fn several_picks_are_one_change_and_one_way_back() {
    let stage = held();
    stage.change(|h| h.without("/var/log/nginx"));
    let (field, mut hand) = (Field::new(&stage), Hand::new(&stage, comes_up));
    let outcome = led(&field, &mut hand, &["make-directory", "move-port"], orders()).unwrap();
    assert_eq!((outcome.fate, outcome.applied.len()), (Fate::Helped, 2));
    assert!(
        stage.config().contains("listen 8090;")
            && Snapshot::new(&stage).is_directory("/var/log/nginx") == Some(true)
    );
    assert_eq!(hand.jobs.iter().filter(|j| j.starts_with("start")).count(), 1);
    let undone = crate::fix::undo(&mut hand, &outcome.id, crate::fix::Way::Undo, &field).unwrap();
    assert!(undone.failed.is_empty(), "{undone:?}");
    assert!(stage.config() == CONFIG && Snapshot::new(&stage).is_directory("/var/log/nginx") == Some(false));
}

#[test]
fn files_alone_are_changed_where_nothing_may_be_started() {
    let stage = held();
    let (mut field, mut hand) = (Field::new(&stage), Hand::new(&stage, comes_up));
    let outcome = led(&field, &mut hand, &["move-port"], Orders { no_start: true, ..orders() }).unwrap();
    assert_eq!((outcome.fate, outcome.verified, hand.jobs.len()), (Fate::Unproven, None, 0));
    let stage = held();
    field = Field { live: false, ..Field::new(&stage) };
    hand = Hand::new(&stage, comes_up);
    let outcome = led(&field, &mut hand, &["move-port"], orders()).unwrap();
    assert_eq!(
        (outcome.fate, outcome.verified, hand.jobs.len()),
        (Fate::Unproven, Some(Recovery::Partly), 0),
        "a tree of files"
    );
}

#[test]
fn a_slow_start_is_waited_for_and_a_fall_afterwards_is_seen() {
    let stage = held();
    let starting = |host: TextHost| {
        host.unit("edge.service", "activating", |u| u.main_pid = 50).process(
            50,
            "/usr/sbin/nginx -c /etc/nginx/nginx.conf",
            0,
            "/system.slice/edge.service",
        )
    };
    let mut field = Field::new(&stage);
    field.meanwhile = |stage, time| {
        if time > Duration::from_secs(5)
            && stage.ask(&Question::Process(50)) != Look::Absent
            && stage.config().contains("8090")
        {
            stage.change(|h| {
                if Snapshot::new(&h).listeners().seen().is_some_and(|l| l.iter().any(|s| s.port == 8090)) {
                    h
                } else {
                    comes_up(h)
                }
            });
        }
    };
    let mut hand = Hand::new(&stage, starting);
    let outcome = led(&field, &mut hand, &["move-port"], orders()).unwrap();
    assert_eq!(outcome.fate, Fate::Helped);
    assert!(
        field.elapsed() > Duration::from_secs(8) && field.elapsed() < Duration::from_secs(9),
        "{:?}",
        field.elapsed()
    );
    assert_eq!(field.said.borrow().len(), 1, "whoever waits is told once");

    let stage = held();
    let mut field = Field::new(&stage);
    // Three seconds later it is gone again.
    field.meanwhile = |stage, _| stage.change(|h| fails(h.without_process(50)));
    let mut hand = Hand::new(&stage, comes_up);
    let outcome = led(&field, &mut hand, &["move-port"], orders()).unwrap();
    assert_eq!(outcome.verified, Some(Recovery::NotRecovered), "{:?}", outcome.verification);
}

#[test]
fn picks_that_are_not_offered_are_told_from_those_that_do_not_apply() {
    let stage = held();
    let (field, mut hand) = (Field::new(&stage), Hand::new(&stage, comes_up));
    let refused = led(&field, &mut hand, &["give-back"], orders()).unwrap_err();
    assert!(
        matches!(&refused, Refusal::NoSuchFix { offered, .. } if offered.contains(&"move-port".to_owned())),
        "{refused:?}"
    );
    stage.change(|h| h.listens("127.0.0.1", 8090, &[812]));
    let refused = led(&field, &mut hand, &["move-port"], orders()).unwrap_err();
    assert!(
        matches!(&refused, Refusal::NotPossible { reason, .. } if reason.contains("held")),
        "{refused:?}"
    );
    assert!(hand.jobs.is_empty() && stage.config() == CONFIG);
}

#[test]
fn fixes_are_planned_for_the_first_causes_and_the_rest_is_named() {
    let faulty = |n: usize| {
        let lines: String = (0..n).map(|i| format!("lisen{i} 80;\n")).collect();
        edge_host(&CONFIG.replace("events {", &format!("{lines}events {{")))
    };
    let told = |n: usize| {
        let host = faulty(n);
        let snapshot = Snapshot::new(&host);
        let service = described(&host, "edge", "");
        let case = gather(&snapshot, &service, Depth::Diagnosis);
        let causes = standing_causes(&snapshot, &case);
        assert!(causes.len() >= n, "{}", causes.len());
        let all = offers(&snapshot, &case, &[], &causes, &crate::fix::Wishes::default());
        assert!(all.offers.iter().all(|o| o.rank < 10), "the first ten");
        (causes.len(), snapshot.not_seen().into_iter().find(|l| l.text().starts_with("fixes for")))
    };
    let (causes, named) = told(14);
    let expected = format!("fixes for {} more causes: those of the first 10 are planned", causes - 10);
    assert_eq!(named, Some(expected.into()));
    assert_eq!(told(3).1, None);
}
