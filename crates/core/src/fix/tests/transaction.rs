use super::*;
use crate::fix::steps::{Create, Directory, Edit, Job, Mode, ReloadManager, Rename, SymbolicLink, UnitFile};
use crate::fix::{CommandLine, Digest, NoCommands, RecordedStep, UnitLink, UnitNow, list, undo};
use crate::fix::{Identity, Step, Target, digest};
use crate::host::{FileKind, FileStatus};
use std::collections::BTreeMap;

/// One file of the machine.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Entry {
    bytes: Vec<u8>,
    kind: FileKind,
    mode: u32,
    uid: u32,
    inode: u64,
}

/// Files with content, mode and owner, links, and units with whether they run.
type Picture = (Vec<(String, Vec<u8>, u32, u32)>, BTreeMap<String, String>, Vec<(String, bool)>);

/// A machine in memory that can be stopped before any of its changes: the power goes, or one change fails.
#[derive(Default, Clone)]
struct Machine {
    files: BTreeMap<String, Entry>,
    links: BTreeMap<String, String>,
    staged: BTreeMap<String, Entry>,
    units: BTreeMap<String, UnitNow>,
    runs: u64,
    next: u64,
    journal: BTreeMap<(String, String), Vec<u8>>,
    jobs: Vec<String>,
    /// Number of changes until the power goes, or until one change fails.
    left: Option<usize>,
    fails_once: bool,
    /// The manager does not answer.
    mute: bool,
}

impl Machine {
    fn spend(&mut self) -> Result<(), WriteError> {
        match &mut self.left {
            Some(0) => {
                if self.fails_once {
                    self.left = None;
                }
                Err(WriteError::Refused("no space left on device".into()))
            }
            Some(n) => {
                *n -= 1;
                Ok(())
            }
            None => Ok(()),
        }
    }
    fn put(&mut self, path: &str, bytes: &[u8], kind: FileKind) {
        self.next += 1;
        self.files.insert(
            path.into(),
            Entry { bytes: bytes.to_vec(), kind, mode: 0o644, uid: 0, inode: self.next },
        );
    }
    fn target(&self, path: &str) -> Target {
        Target {
            path: path.into(),
            keepers: vec![],
            was: self.status(&Target::free(path)).unwrap().map(|s| Identity::of(&s)),
        }
    }
    fn named(slot: Slot) -> String {
        format!("{}/{}", slot.id, slot.step)
    }
    /// What an observer sees: content, owner, mode, links, units; not inode numbers.
    fn seen(&self) -> Picture {
        let files = self.files.iter().map(|(p, e)| (p.clone(), e.bytes.clone(), e.mode, e.uid)).collect();
        (files, self.links.clone(), self.units.iter().map(|(n, u)| (n.clone(), u.active)).collect())
    }
}

impl HostWriter for Machine {
    fn store(&mut self, id: &str, name: &str, bytes: &[u8]) -> Result<(), WriteError> {
        self.spend()?;
        self.journal.insert((id.into(), name.into()), bytes.to_vec());
        Ok(())
    }
    fn load(&self, id: &str, name: &str) -> Option<Vec<u8>> {
        self.journal.get(&(id.into(), name.into())).cloned()
    }
    fn changes(&self) -> Vec<String> {
        self.journal.keys().filter(|k| k.1 == "record.json").map(|k| k.0.clone()).collect()
    }
    fn status(&self, target: &Target) -> Result<Option<FileStatus>, WriteError> {
        Ok(self.files.get(&target.path).map(|e| FileStatus {
            inode: e.inode,
            ..FileStatus::plain(e.kind, e.mode, e.uid, 0, e.bytes.len() as u64)
        }))
    }
    fn content(&self, target: &Target) -> Result<Option<Vec<u8>>, WriteError> {
        Ok(self.files.get(&target.path).map(|e| e.bytes.clone()))
    }
    fn replace_file(
        &mut self,
        target: &Target,
        expect: &Digest,
        content: &[u8],
        slot: Slot,
    ) -> Result<(), WriteError> {
        self.spend()?;
        if target.was.is_some_and(|was| was.inode != self.files[&target.path].inode) {
            return Err(WriteError::Refused("another file".into()));
        }
        let old = self.files[&target.path].clone();
        self.next += 1;
        self.staged
            .insert(Self::named(slot), Entry { bytes: content.to_vec(), inode: self.next, ..old.clone() });
        self.spend()?;
        assert_eq!(digest(&old.bytes), *expect, "nobody else's bytes are replaced");
        let new = self.staged.insert(Self::named(slot), old).unwrap();
        self.files.insert(target.path.clone(), new);
        self.spend()
    }
    fn create_file(&mut self, target: &Target, content: &[u8], _: Slot) -> Result<(), WriteError> {
        self.spend()?;
        assert!(!self.files.contains_key(&target.path), "never over an existing name");
        self.put(&target.path, content, FileKind::Regular);
        self.spend()
    }
    fn remove_file(&mut self, target: &Target, expect: &Digest, _: Slot) -> Result<(), WriteError> {
        self.spend()?;
        assert_eq!(
            self.files.remove(&target.path).map(|f| digest(&f.bytes)).as_ref(),
            Some(expect),
            "nobody else's bytes are removed"
        );
        self.spend()
    }
    fn set_mode(&mut self, target: &Target, mode: u32) -> Result<(), WriteError> {
        self.spend()?;
        self.files.get_mut(&target.path).unwrap().mode = mode;
        self.spend()
    }
    fn set_owner(&mut self, target: &Target, uid: u32, _: u32) -> Result<(), WriteError> {
        self.spend()?;
        self.files.get_mut(&target.path).unwrap().uid = uid;
        self.spend()
    }
    fn prepare_directory(
        &mut self,
        _: &Target,
        mode: u32,
        uid: u32,
        _: u32,
        slot: Slot,
    ) -> Result<Identity, WriteError> {
        self.spend()?;
        self.next += 1;
        let made = Entry { bytes: vec![], kind: FileKind::Directory, mode, uid, inode: self.next };
        self.staged.insert(Self::named(slot), made);
        self.spend()?;
        Ok(Identity { device: 1, inode: self.next, kind: FileKind::Directory, uid, gid: 0, mode })
    }
    fn place_directory(&mut self, target: &Target, slot: Slot) -> Result<(), WriteError> {
        self.spend()?;
        assert!(!self.files.contains_key(&target.path), "never over an existing name");
        let made = self.staged.remove(&Self::named(slot)).unwrap();
        self.files.insert(target.path.clone(), made);
        self.spend()
    }
    fn remove_directory(&mut self, target: &Target, _: Slot) -> Result<bool, WriteError> {
        self.spend()?;
        assert_eq!(
            self.files[&target.path].inode,
            target.was.unwrap().inode,
            "nobody else's directory is removed"
        );
        if self.files.keys().any(|f| f.starts_with(&format!("{}/", target.path))) {
            return Ok(false);
        }
        self.files.remove(&target.path);
        self.spend()?;
        Ok(true)
    }
    fn rename(&mut self, target: &Target, to: &str) -> Result<(), WriteError> {
        self.spend()?;
        let moved = self.files.remove(&target.path).expect("the file is there");
        assert!(self.files.insert(to.into(), moved).is_none(), "never over an existing name");
        self.spend()
    }
    fn link(&self, target: &Target) -> Result<Option<String>, WriteError> {
        Ok(self.links.get(&target.path).cloned())
    }
    fn set_link(
        &mut self,
        target: &Target,
        before: Option<&str>,
        after: Option<&str>,
    ) -> Result<(), WriteError> {
        self.spend()?;
        assert_eq!(self.links.get(&target.path).map(String::as_str), before);
        match after {
            Some(leads) => drop(self.links.insert(target.path.clone(), leads.into())),
            None => drop(self.links.remove(&target.path)),
        }
        self.spend()
    }
    fn clear(&mut self, _: Option<&Target>, slot: Slot) -> Result<(), WriteError> {
        self.staged.remove(&Self::named(slot));
        Ok(())
    }
    fn unit_links(&self, units: &[String]) -> Vec<UnitLink> {
        self.links
            .iter()
            .filter(|(p, _)| units.iter().any(|u| p.ends_with(u.as_str())))
            .map(|(p, t)| (p.clone(), t.clone()))
            .collect()
    }
    fn unit_file(&mut self, verb: &str, unit: &str) -> Result<(), WriteError> {
        self.spend()?;
        let link = format!("/etc/systemd/system/multi-user.target.wants/{unit}");
        if verb == "enable" {
            self.links.insert(link, format!("/lib/{unit}"));
        } else {
            self.links.remove(&link);
        }
        self.spend()
    }
    fn job(&mut self, verb: &str, unit: &str) -> Result<(), WriteError> {
        self.spend()?;
        self.jobs.push(format!("{verb} {unit}"));
        self.runs += 1;
        let (active, invocation) =
            if verb == "stop" { (false, String::new()) } else { (true, self.runs.to_string()) };
        self.units.insert(unit.into(), UnitNow { active, invocation });
        self.spend()
    }
    fn reset_failed(&mut self, _: &str) -> Result<(), WriteError> {
        Ok(())
    }
    fn reload_manager(&mut self) -> Result<(), WriteError> {
        self.spend()
    }
    fn end_process(&mut self, _: u32, _: u64, _: bool) -> Result<(), WriteError> {
        self.spend()
    }
    fn continue_process(&mut self, _: u32, _: u64) -> Result<(), WriteError> {
        self.spend()
    }
    fn is_alive(&self, _: u32, _: u64) -> bool {
        false
    }
    fn run(&mut self, _: &CommandLine) -> Result<(), WriteError> {
        self.spend()
    }
    fn unit_now(&self, unit: &str) -> Option<UnitNow> {
        (!self.mute).then(|| self.units.get(unit).cloned().unwrap_or_default())
    }
}

fn machine() -> Machine {
    let mut host = Machine::default();
    host.put("/etc/front.conf", b"Listen 80\n", FileKind::Regular);
    host.put("/run/front.pid", b"7\n", FileKind::Regular);
    host.put("/var/log/front", b"", FileKind::Regular);
    host.links.insert(
        "/etc/systemd/system/multi-user.target.wants/gauge.service".into(),
        "/lib/gauge.service".into(),
    );
    host.units.insert("gauge.service".into(), UnitNow { active: true, invocation: "g".into() });
    host.units.insert("front.service".into(), UnitNow::default());
    host
}

/// One change with every kind of step that can be taken back.
fn record(host: &Machine) -> Record {
    let conf = host.target("/etc/front.conf");
    let steps = [
        Step::Job(Job { verb: "stop".into(), unit: "gauge.service".into() }),
        Step::UnitFile(UnitFile { verb: "disable".into(), unit: "gauge.service".into(), also: vec![] }),
        Step::Edit(Edit {
            target: conf,
            before: digest(b"Listen 80\n"),
            content: b"Listen 8081\n".to_vec(),
            after: digest(b"Listen 8081\n"),
        }),
        Step::Mode(Mode { target: host.target("/var/log/front"), from: 0o644, to: 0o640 }),
        Step::Rename(Rename { target: host.target("/run/front.pid"), to: "/run/front.pid.aside".into() }),
        Step::SymbolicLink(SymbolicLink {
            target: Target::free("/etc/mods/x.load"),
            before: None,
            after: Some("../x.load".into()),
        }),
        Step::Directory(Directory { target: Target::free("/etc/front.d"), mode: 0o750, owner: (0, 0) }),
        Step::Create(Create {
            target: Target::free("/etc/front.d/own.conf"),
            content: b"x\n".to_vec(),
            after: digest(b"x\n"),
        }),
        Step::ReloadManager(ReloadManager {}),
        Step::Job(Job { verb: "start".into(), unit: "front.service".into() }),
    ];
    Record {
        schema: "s".into(),
        id: "1".into(),
        service: "front".into(),
        fixes: vec![],
        title: String::new(),
        began: String::new(),
        outcome: "begun".into(),
        was_running: Some(false),
        started: None,
        steps: steps.into_iter().map(RecordedStep::from).collect(),
    }
}

#[test]
fn what_is_applied_is_undone_to_the_byte() {
    let mut host = machine();
    let whole = record(&host);
    apply(&mut host, whole, &NoCommands).unwrap();
    assert_eq!(host.files["/etc/front.conf"].bytes, b"Listen 8081\n");
    assert!(host.units["front.service"].active && !host.units["gauge.service"].active);
    let undone = undo(&mut host, "1", Way::Undo, &NoCommands).unwrap();
    assert!(undone.left.is_empty() && undone.failed.is_empty(), "{undone:?}");
    assert_eq!(host.seen(), machine().seen());
    assert_eq!(
        host.jobs,
        ["stop gauge.service", "start front.service", "stop front.service", "start gauge.service"]
    );
    assert!(host.staged.is_empty(), "nothing that was prepared is left");
    assert!(undo(&mut host, "1", Way::Undo, &NoCommands).is_err(), "once is enough");
}

/// How many changes a whole run makes.
fn changes(run: impl Fn(&mut Machine)) -> usize {
    let mut host = machine();
    host.left = Some(100_000);
    run(&mut host);
    100_000 - host.left.unwrap()
}

#[test]
fn a_power_cut_between_any_two_changes_of_a_fix_leaves_something_that_undo_puts_right() {
    let fix = |host: &mut Machine| {
        let whole = record(host);
        drop(apply(host, whole, &NoCommands).map(drop));
    };
    for cut in 0..changes(fix) {
        let mut host = machine();
        host.left = Some(cut);
        fix(&mut host);
        // The machine comes back up; whatever the journal knows is put right.
        host.left = None;
        if list(&host).0.iter().any(|r| r.outcome != "rolled-back") {
            let undone = undo(&mut host, "1", Way::Undo, &NoCommands).unwrap();
            assert!(undone.failed.is_empty(), "after {cut} changes: {undone:?}");
        }
        assert_eq!(host.seen(), machine().seen(), "after {cut} changes");
        assert!(host.staged.is_empty(), "after {cut} changes something that was prepared is left");
    }
}

#[test]
fn a_power_cut_between_any_two_changes_of_an_undo_is_put_right_by_the_next_one() {
    let fixed = || {
        let mut host = machine();
        let whole = record(&host);
        apply(&mut host, whole, &NoCommands).unwrap();
        host
    };
    let whole = {
        let mut host = fixed();
        host.left = Some(100_000);
        undo(&mut host, "1", Way::Undo, &NoCommands).unwrap();
        100_000 - host.left.unwrap()
    };
    for cut in 0..whole {
        let mut host = fixed();
        host.left = Some(cut);
        let first = undo(&mut host, "1", Way::Undo, &NoCommands);
        host.left = None;
        let complete = first.as_ref().is_ok_and(|u| u.failed.is_empty());
        let again = undo(&mut host, "1", Way::Undo, &NoCommands);
        assert!(
            complete || again.as_ref().is_ok_and(|u| u.failed.is_empty()),
            "after {cut} changes: {first:?}, {again:?}"
        );
        assert_eq!(host.seen(), machine().seen(), "after {cut} changes: {first:?}, {again:?}");
    }
}

#[test]
fn one_change_that_fails_is_told_truly_and_everything_before_it_is_put_back() {
    let fix = |host: &mut Machine| {
        let whole = record(host);
        apply(host, whole, &NoCommands).map(drop)
    };
    for at in 0..changes(|host| drop(fix(host))) {
        let mut host = machine();
        (host.left, host.fails_once) = (Some(at), true);
        match fix(&mut host) {
            Ok(()) => assert!(
                host.files["/etc/front.conf"].bytes == b"Listen 8081\n" && host.units["front.service"].active,
                "at {at}"
            ),
            Err(error) => {
                assert_eq!(host.seen(), machine().seen(), "at {at}: {error}");
                assert!(
                    error.to_string().contains("put back")
                        || error.to_string().contains("nothing had been changed")
                        || at == 0,
                    "at {at}: {error}"
                );
            }
        }
    }
}

#[test]
fn what_somebody_did_since_is_left_and_told() {
    let fixed = || {
        let mut host = machine();
        let whole = record(&host);
        apply(&mut host, whole, &NoCommands).unwrap();
        host
    };
    let left = |mut host: Machine| undo(&mut host, "1", Way::Undo, &NoCommands).map(|u| (u, host)).unwrap();
    let mut host = fixed();
    host.put("/run/front.pid", b"9\n", FileKind::Regular);
    assert!(left(host).0.left.iter().any(|l| l.contains("stays aside")));
    let mut host = fixed();
    host.put("/etc/front.d/theirs.conf", b"y", FileKind::Regular);
    let (told, host) = left(host);
    assert!(
        told.left.iter().any(|l| l.contains("not empty any more")) && host.files.contains_key("/etc/front.d"),
        "{told:?}"
    );
    let mut host = fixed();
    host.files.remove("/etc/front.d/own.conf");
    host.files.remove("/etc/front.d");
    assert!(left(host).0.left.iter().any(|l| l.contains("was already removed")));
    let mut host = fixed();
    host.files.remove("/etc/front.d/own.conf");
    host.files.remove("/etc/front.d");
    host.put("/etc/front.d", b"", FileKind::Directory);
    let (told, host) = left(host);
    assert!(
        told.left.iter().any(|l| l.contains("made by somebody else"))
            && host.files.contains_key("/etc/front.d"),
        "{told:?}"
    );
    let mut host = fixed();
    host.files.get_mut("/var/log/front").unwrap().mode = 0o600;
    let (told, host) = left(host);
    assert!(
        told.left.iter().any(|l| l.contains("now 0600")) && host.files["/var/log/front"].mode == 0o600,
        "{told:?}"
    );
    let mut host = fixed();
    host.put("/var/log/front", b"evil", FileKind::Regular);
    host.files.get_mut("/var/log/front").unwrap().mode = 0o640;
    let (told, host) = left(host);
    assert!(
        told.left.iter().any(|l| l.contains("another file")) && host.files["/var/log/front"].mode == 0o640,
        "{told:?}"
    );
    let mut host = fixed();
    host.job("restart", "front.service").unwrap();
    let (told, host) = left(host);
    assert!(
        told.left.iter().any(|l| l.contains("started by somebody since"))
            && host.units["front.service"].active,
        "{told:?}"
    );
}

#[test]
fn a_unit_that_cannot_be_seen_is_not_taken_for_stopped() {
    let mut host = machine();
    let whole = record(&host);
    apply(&mut host, whole, &NoCommands).unwrap();
    host.mute = true;
    let undone = undo(&mut host, "1", Way::Undo, &NoCommands).unwrap();
    assert!(
        undone.failed.iter().any(|f| f.contains("whether front.service runs could not be seen")),
        "{undone:?}"
    );
    host.mute = false;
    assert!(undo(&mut host, "1", Way::Undo, &NoCommands).unwrap().failed.is_empty());
    assert_eq!(host.seen(), machine().seen());
    // Nothing is begun whose way back would not be known.
    let mut host = Machine { mute: true, ..machine() };
    let whole = record(&host);
    assert!(apply(&mut host, whole, &NoCommands).unwrap_err().to_string().contains("could not be seen"));
    assert!(host.jobs.is_empty());
}

#[test]
fn what_made_way_is_not_started_beside_what_could_not_be_stopped() {
    let mut host = machine();
    let whole = record(&host);
    apply(&mut host, whole, &NoCommands).unwrap();
    // The first change of an undo is the stop of what the change had started.
    (host.left, host.fails_once) = (Some(0), true);
    let undone = undo(&mut host, "1", Way::Undo, &NoCommands).unwrap();
    assert!(host.units["front.service"].active && !host.units["gauge.service"].active, "{undone:?}");
    assert_eq!(undone.failed.len(), 2, "{undone:?}");
    host.left = None;
    assert!(undo(&mut host, "1", Way::Undo, &NoCommands).unwrap().failed.is_empty());
    assert_eq!(host.seen(), machine().seen());
}

#[test]
fn a_running_service_is_left_running_and_the_due_restart_is_named() {
    let start = || {
        let mut host = machine();
        host.units.insert("front.service".into(), UnitNow { active: true, invocation: "f".into() });
        let mut whole = record(&host);
        whole.was_running = Some(true);
        whole.steps.retain(|s| matches!(s.step, Step::Edit(_)));
        whole.steps.push(Step::Job(Job { verb: "reload".into(), unit: "front.service".into() }).into());
        apply(&mut host, whole, &NoCommands).unwrap();
        host
    };
    let mut host = start();
    let undone = undo(&mut host, "1", Way::Undo, &NoCommands).unwrap();
    assert_eq!(host.jobs, ["reload front.service"], "a person's undo starts and stops nothing here");
    assert!(undone.due.iter().any(|d| d.contains("a reload is due")), "{undone:?}");
    let mut host = start();
    let undone = undo(&mut host, "1", Way::RollBack, &NoCommands).unwrap();
    assert_eq!(
        host.jobs,
        ["reload front.service", "reload front.service"],
        "what did not help is taken back from the service, too"
    );
    assert!(undone.due.is_empty());
}

#[test]
fn a_file_changed_since_the_plan_or_since_the_change_is_never_overwritten() {
    let mut host = machine();
    let whole = record(&host);
    host.files.get_mut("/etc/front.conf").unwrap().bytes = b"Listen 81\n".to_vec();
    let refused = apply(&mut host, whole, &NoCommands).unwrap_err();
    assert!(refused.to_string().contains("changed since the plan"), "{refused}");
    assert_eq!(host.files["/etc/front.conf"].bytes, b"Listen 81\n");

    let mut host = machine();
    let whole = record(&host);
    host.put("/etc/front.conf", b"Listen 80\n", FileKind::Regular);
    let refused = apply(&mut host, whole, &NoCommands).unwrap_err();
    assert!(refused.to_string().contains("another file than the one that was planned"), "{refused}");

    let mut host = machine();
    let whole = record(&host);
    apply(&mut host, whole, &NoCommands).unwrap();
    host.files.get_mut("/etc/front.conf").unwrap().bytes = b"# mine\n".to_vec();
    let refused = undo(&mut host, "1", Way::Undo, &NoCommands).unwrap_err();
    assert!(refused.to_string().contains("since"), "{refused}");
    assert_eq!(host.files["/etc/front.conf"].bytes, b"# mine\n");
    assert!(host.files.contains_key("/run/front.pid.aside"), "nothing else was touched either");
}
