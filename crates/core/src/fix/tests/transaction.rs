use super::*;
use crate::fix::Digest;
use crate::host::{FileKind, FileStatus};
use std::collections::BTreeMap;

/// A machine in memory that can be stopped before any of its changes.
#[derive(Default, Clone)]
struct Machine {
    files: BTreeMap<String, Vec<u8>>,
    modes: BTreeMap<String, u32>,
    journal: BTreeMap<(String, String), Vec<u8>>,
    jobs: Vec<String>,
    /// Number of changes until the power goes.
    left: Option<usize>,
}

impl Machine {
    fn spend(&mut self) -> Result<(), WriteError> {
        match &mut self.left {
            Some(0) => Err(WriteError::Refused("power cut".into())),
            Some(n) => {
                *n -= 1;
                Ok(())
            }
            None => Ok(()),
        }
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
    fn current(&self, path: &str) -> Option<(Vec<u8>, FileStatus)> {
        let mode = self.modes.get(path).copied().unwrap_or(0o644);
        let status = FileStatus::plain(FileKind::Regular, mode, 0, 0, 0);
        self.files.get(path).map(|f| (f.clone(), status))
    }
    fn replace_file(&mut self, path: &str, expect: &Digest, content: &[u8]) -> Result<(), WriteError> {
        self.spend()?;
        assert_eq!(digest(&self.files[path]), *expect, "nobody else's bytes are replaced");
        self.files.insert(path.into(), content.to_vec());
        Ok(())
    }
    fn create_file(&mut self, path: &str, content: &[u8]) -> Result<(), WriteError> {
        self.spend()?;
        assert!(self.files.insert(path.into(), content.to_vec()).is_none(), "never over an existing name");
        Ok(())
    }
    fn remove_file(&mut self, path: &str, expect: &Digest) -> Result<(), WriteError> {
        self.spend()?;
        assert_eq!(self.files.remove(path).map(|f| digest(&f)).as_ref(), Some(expect), "nobody else's bytes are removed");
        Ok(())
    }
    fn set_mode(&mut self, path: &str, mode: u32) -> Result<(), WriteError> {
        self.spend()?;
        self.modes.insert(path.into(), mode);
        Ok(())
    }
    fn set_owner(&mut self, _: &str, _: u32, _: u32) -> Result<(), WriteError> {
        self.spend()
    }
    fn make_directory(&mut self, _: &str, _: u32, _: u32, _: u32) -> Result<(), WriteError> {
        self.spend()
    }
    fn remove_directory(&mut self, _: &str) -> Result<(), WriteError> {
        self.spend()
    }
    fn rename(&mut self, from: &str, to: &str) -> Result<(), WriteError> {
        self.spend()?;
        let bytes = self.files.remove(from).expect("the file is there");
        assert!(self.files.insert(to.into(), bytes).is_none(), "never over an existing name");
        Ok(())
    }
    fn set_link(&mut self, _: &str, _: Option<&str>, _: Option<&str>) -> Result<(), WriteError> {
        self.spend()
    }
    fn unit_file(&mut self, _: &str, _: &str) -> Result<Vec<(String, String, String)>, WriteError> {
        self.spend()?;
        Ok(vec![])
    }
    fn job(&mut self, verb: &str, unit: &str) -> Result<(), WriteError> {
        self.spend()?;
        self.jobs.push(format!("{verb} {unit}"));
        Ok(())
    }
    fn reset_failed(&mut self, _: &str) -> Result<(), WriteError> {
        Ok(())
    }
    fn reload_manager(&mut self) -> Result<(), WriteError> {
        Ok(())
    }
    fn end_process(&mut self, _: u32, _: u64, _: bool) -> Result<(), WriteError> {
        self.spend()
    }
    fn continue_process(&mut self, _: u32, _: u64) -> Result<(), WriteError> {
        self.spend()
    }
    fn run(&mut self, _: &str, _: &[(String, String)], _: Option<&str>) -> Result<(), WriteError> {
        self.spend()
    }
    fn is_active(&self, _: &str) -> Option<bool> {
        Some(false)
    }
}

fn machine() -> Machine {
    let files = BTreeMap::from([("/etc/front.conf".to_owned(), b"Listen 80\n".to_vec()), ("/run/front.pid".to_owned(), b"7\n".to_vec())]);
    Machine { files, ..Machine::default() }
}

fn record() -> Record {
    let edit =
        Step::Edit { path: "/etc/front.conf".into(), before: digest(b"Listen 80\n"), content: b"Listen 8081\n".to_vec(), after: digest(b"Listen 8081\n") };
    let steps = [
        edit,
        Step::Mode { path: "/etc/front.conf".into(), from: 0o644, to: 0o640 },
        Step::Rename { from: "/run/front.pid".into(), to: "/run/front.pid.aside".into() },
        Step::Create { path: "/etc/front.d/own.conf".into(), content: b"x\n".to_vec(), after: digest(b"x\n") },
        Step::ReloadManager,
        Step::Job { verb: "start".into(), unit: "front.service".into() },
    ];
    let steps = steps.into_iter().map(|step| RecordedStep { step, stage: Stage::Planned, undo: Undo::default() }).collect();
    Record {
        schema: "s".into(),
        id: "1".into(),
        service: "front".into(),
        fixes: vec![],
        title: String::new(),
        began: String::new(),
        outcome: "begun".into(),
        steps,
    }
}

#[test]
fn what_is_applied_is_undone_to_the_byte() {
    let mut host = machine();
    apply(&mut host, record()).unwrap();
    assert_eq!(host.files["/etc/front.conf"], b"Listen 8081\n");
    let undone = undo(&mut host, "1", "undone").unwrap();
    assert!(undone.left.is_empty());
    assert_eq!(host.files, machine().files);
    assert_eq!(host.modes["/etc/front.conf"], 0o644);
    assert_eq!(host.jobs, ["start front.service", "stop front.service"]);
    assert!(undo(&mut host, "1", "undone").is_err(), "once is enough");
}

#[test]
fn a_power_cut_between_any_two_changes_leaves_something_that_undo_puts_right() {
    let whole = {
        let mut host = machine();
        host.left = Some(1000);
        apply(&mut host, record()).unwrap();
        1000 - host.left.unwrap()
    };
    for changes in 0..whole {
        let mut host = machine();
        host.left = Some(changes);
        let _ = apply(&mut host, record()).map(drop);
        // The machine comes back up; whatever the journal knows is put right.
        host.left = None;
        if list(&host).iter().any(|r| r.outcome == "begun") {
            undo(&mut host, "1", "undone").unwrap();
        }
        assert_eq!(host.files, machine().files, "after {changes} changes");
        assert_eq!(host.modes.get("/etc/front.conf").copied().unwrap_or(0o644), 0o644, "after {changes} changes");
    }
}

#[test]
fn a_file_changed_since_the_plan_or_since_the_change_is_never_overwritten() {
    let mut host = machine();
    host.files.insert("/etc/front.conf".into(), b"Listen 81\n".to_vec());
    let refused = apply(&mut host, record()).unwrap_err();
    assert!(refused.to_string().contains("changed since the plan"), "{refused}");
    assert_eq!(host.files["/etc/front.conf"], b"Listen 81\n");

    let mut host = machine();
    apply(&mut host, record()).unwrap();
    host.files.insert("/etc/front.conf".into(), b"# mine\n".to_vec());
    let refused = undo(&mut host, "1", "undone").unwrap_err();
    assert!(refused.to_string().contains("since"), "{refused}");
    assert_eq!(host.files["/etc/front.conf"], b"# mine\n");
    assert!(host.files.contains_key("/run/front.pid.aside"), "nothing else was touched either");
}
