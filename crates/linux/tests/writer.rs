//! The one place that changes a machine, on files of a temporary directory and processes of this test's own.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use jolly_core::fix::{HostWriter, WriteError, digest};
use jolly_linux::{LinuxWriter, Reach};
use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt, symlink};
use std::path::Path;
use tempfile::TempDir;

/// A tree with a configuration file, and a writer on it.
fn tree() -> (TempDir, LinuxWriter) {
    let dir = tempfile::tempdir().unwrap();
    fs::create_dir_all(dir.path().join("etc")).unwrap();
    fs::write(dir.path().join("etc/front.conf"), "Listen 80\n").unwrap();
    let mut writer = LinuxWriter::new(dir.path(), &dir.path().join("state"), Reach::Tree);
    writer.prepare().unwrap();
    (dir, writer)
}

/// A writer on this machine, its journal in a temporary directory.
fn machine() -> (TempDir, LinuxWriter) {
    let dir = tempfile::tempdir().unwrap();
    let writer = LinuxWriter::new(Path::new("/"), dir.path(), Reach::Machine);
    (dir, writer)
}

fn mode(path: &Path) -> u32 {
    fs::symlink_metadata(path).unwrap().mode() & 0o7777
}

#[test]
fn the_journal_of_changes_is_private_and_listed_in_order() {
    let (dir, mut writer) = tree();
    writer.store("20310402-b", "record.json", b"second").unwrap();
    writer.store("20310402-a", "record.json", b"first").unwrap();
    writer.store("20310402-a", "record.json", b"first again").unwrap();
    assert_eq!(writer.changes(), ["20310402-a", "20310402-b"]);
    assert_eq!(writer.load("20310402-a", "record.json").unwrap(), b"first again");
    let folder = dir.path().join("state/changes/20310402-a");
    assert_eq!((mode(&folder), mode(&folder.join("record.json"))), (0o700, 0o600));
    assert_eq!(fs::read_dir(&folder).unwrap().count(), 1, "no temporary file is left");
}

#[test]
fn nothing_outside_the_journal_can_be_asked_of_it() {
    let (dir, writer) = tree();
    fs::write(dir.path().join("state/secret"), "x").unwrap();
    for (id, name) in [("..", "secret"), ("a/b", "c"), ("", "x"), (".hidden", "x"), ("a", "../../secret"), ("a", ""), ("none", "record.json")] {
        assert_eq!(writer.load(id, name), None, "{id:?} {name:?}");
    }
}

#[test]
fn modes_are_set_on_files_and_never_through_links() {
    let (dir, mut writer) = tree();
    let file = dir.path().join("etc/front.conf");
    writer.set_mode("/etc/front.conf", 0o604).unwrap();
    assert_eq!(mode(&file), 0o604);
    symlink("front.conf", dir.path().join("etc/link.conf")).unwrap();
    assert!(writer.set_mode("/etc/link.conf", 0o777).is_err());
    assert_eq!(mode(&file), 0o604);
    assert!(matches!(writer.set_mode("/etc/none.conf", 0o600), Err(WriteError::Failed { .. })));
}

#[test]
fn a_link_a_directory_or_nothing_is_never_replaced_as_a_file() {
    let (dir, mut writer) = tree();
    symlink("front.conf", dir.path().join("etc/link.conf")).unwrap();
    for path in ["/etc/link.conf", "/etc"] {
        assert!(matches!(writer.replace_file(path, &digest(b"Listen 80\n"), b"x"), Err(WriteError::Refused(_))), "{path}");
    }
    assert!(writer.replace_file("/etc/none.conf", &digest(b""), b"x").is_err());
    assert_eq!(fs::read(dir.path().join("etc/front.conf")).unwrap(), b"Listen 80\n");
}

#[test]
fn extended_attributes_survive_a_replacement() {
    let (dir, mut writer) = tree();
    let file = dir.path().join("etc/front.conf");
    let set = std::process::Command::new("setfattr").args(["-n", "user.quay", "-v", "gullholm"]).arg(&file).status();
    if !set.is_ok_and(|s| s.success()) {
        // Not every file system under a temporary directory keeps them.
        return;
    }
    writer.replace_file("/etc/front.conf", &digest(b"Listen 80\n"), b"Listen 81\n").unwrap();
    let shown = std::process::Command::new("getfattr").args(["--only-values", "-n", "user.quay"]).arg(&file).output().unwrap();
    assert_eq!(shown.stdout, b"gullholm");
}

#[test]
fn links_are_made_changed_and_removed_only_as_expected() {
    let (dir, mut writer) = tree();
    let link = dir.path().join("etc/enabled.conf");
    writer.set_link("/etc/enabled.conf", None, Some("front.conf")).unwrap();
    assert_eq!(fs::read_link(&link).unwrap(), Path::new("front.conf"));
    writer.set_link("/etc/enabled.conf", None, Some("front.conf")).unwrap();
    let refused = writer.set_link("/etc/enabled.conf", Some("other.conf"), None).unwrap_err();
    assert!(refused.to_string().contains("leads elsewhere"), "{refused}");
    writer.set_link("/etc/enabled.conf", Some("front.conf"), Some("other.conf")).unwrap();
    assert_eq!(fs::read_link(&link).unwrap(), Path::new("other.conf"));
    writer.set_link("/etc/enabled.conf", Some("other.conf"), None).unwrap();
    assert!(fs::symlink_metadata(&link).is_err());
}

#[test]
fn directories_are_made_with_their_mode_and_removed_only_when_empty() {
    let (dir, mut writer) = tree();
    let made = dir.path().join("etc/deep");
    let me = fs::metadata(dir.path()).unwrap();
    writer.make_directory("/etc/deep", 0o2750, me.uid(), me.gid()).unwrap();
    assert_eq!(mode(&made), 0o2750);
    assert!(writer.make_directory("/etc/deep", 0o700, me.uid(), me.gid()).is_err());
    fs::write(made.join("x"), "").unwrap();
    assert!(writer.remove_directory("/etc/deep").is_err());
    fs::remove_file(made.join("x")).unwrap();
    writer.remove_directory("/etc/deep").unwrap();
    assert!(!made.exists());
}

#[test]
fn what_is_there_now_is_told_with_its_bytes_and_a_link_as_a_link() {
    let (dir, writer) = tree();
    let (bytes, status) = writer.current("/etc/front.conf").unwrap();
    assert_eq!((bytes.as_slice(), status.size), (b"Listen 80\n".as_slice(), 10));
    symlink("front.conf", dir.path().join("etc/link.conf")).unwrap();
    assert_eq!(writer.current("/etc/link.conf").unwrap().1.kind, jolly_core::host::FileKind::Link);
    assert!(writer.current("/etc/none").is_none());
}

#[test]
fn a_tree_of_files_has_no_manager_and_no_processes() {
    let (_dir, mut writer) = tree();
    for refused in [
        writer.job("start", "front.service"),
        writer.unit_file("enable", "front.service").map(drop),
        writer.reset_failed("front.service"),
        writer.end_process(1, 0, true),
        writer.run("/bin/true", &[], None),
    ] {
        assert!(matches!(refused, Err(WriteError::Refused(_))), "{refused:?}");
    }
    writer.reload_manager().unwrap();
}

#[test]
fn a_command_gets_its_environment_and_its_failure_is_told() {
    let (dir, mut writer) = machine();
    let target = dir.path().join("said");
    let script = dir.path().join("start.sh");
    fs::write(&script, format!("#!/bin/sh\necho \"$QUAY $1\" > {}\nexit $2\n", target.display())).unwrap();
    fs::set_permissions(&script, fs::Permissions::from_mode(0o755)).unwrap();
    let environment = [("QUAY".to_owned(), "gullholm".to_owned())];
    writer.run(&format!("{} 'two words' 0", script.display()), &environment, None).unwrap();
    assert_eq!(fs::read_to_string(&target).unwrap(), "gullholm two words\n");
    let failed = writer.run(&format!("{} x 3", script.display()), &environment, None).unwrap_err();
    assert!(failed.to_string().contains('3'), "{failed}");
    assert!(writer.run("/nowhere/start", &[], None).is_err());
    assert!(matches!(writer.run("  ", &[], None), Err(WriteError::Refused(_))));
}

#[test]
fn what_is_asked_gently_is_never_killed_and_what_is_gone_is_no_failure() {
    let (_dir, mut writer) = machine();
    let mut child = std::process::Command::new("sleep").arg("60").spawn().unwrap();
    let pid = child.id();
    let stat = fs::read_to_string(format!("/proc/{pid}/stat")).unwrap();
    let start: u64 = stat.rsplit(')').next().unwrap().split_whitespace().nth(19).unwrap().parse().unwrap();
    writer.end_process(pid, start, true).unwrap();
    let status = child.wait().unwrap();
    assert_eq!(std::os::unix::process::ExitStatusExt::signal(&status), Some(15), "asked to end, not killed");
    writer.end_process(pid, start, false).unwrap();
}

#[test]
fn a_made_file_is_readable_by_all_and_is_never_written_over_another() {
    let (dir, mut writer) = tree();
    writer.create_file("/etc/own.conf", b"[Service]\n").unwrap();
    let file = dir.path().join("etc/own.conf");
    assert_eq!((fs::read(&file).unwrap().as_slice(), mode(&file)), (b"[Service]\n".as_slice(), 0o644));
    assert!(writer.create_file("/etc/own.conf", b"another\n").is_err());
    assert_eq!(fs::read(&file).unwrap(), b"[Service]\n");
    assert!(writer.create_file("/etc/none/own.conf", b"x").is_err(), "its directory is not there");
}

#[test]
fn only_the_file_that_was_made_is_removed() {
    let (dir, mut writer) = tree();
    let file = dir.path().join("etc/front.conf");
    let refused = writer.remove_file("/etc/front.conf", &digest(b"another\n")).unwrap_err();
    assert!(matches!(refused, WriteError::Refused(_)), "{refused}");
    assert!(file.exists());
    writer.remove_file("/etc/front.conf", &digest(b"Listen 80\n")).unwrap();
    assert!(!file.exists());
    assert!(writer.remove_file("/etc/front.conf", &digest(b"Listen 80\n")).is_err());
}

#[test]
fn a_halted_process_goes_on_and_a_stranger_is_left_alone() {
    let (_dir, mut writer) = machine();
    let mut child = std::process::Command::new("sleep").arg("60").spawn().unwrap();
    let stat = || fs::read_to_string(format!("/proc/{}/stat", child.id())).unwrap();
    let field = |at: usize| stat().rsplit(')').next().unwrap().split_whitespace().nth(at).unwrap().to_owned();
    let start: u64 = field(19).parse().unwrap();
    let wait_for = |state: &str| {
        for _ in 0..500 {
            if field(0) == state {
                return true;
            }
            std::thread::sleep(std::time::Duration::from_millis(10));
        }
        false
    };
    let pid = rustix::process::Pid::from_raw(i32::try_from(child.id()).unwrap()).unwrap();
    rustix::process::kill_process(pid, rustix::process::Signal::STOP).unwrap();
    assert!(wait_for("T"));
    assert!(writer.continue_process(child.id(), start + 1).is_err(), "another process of that number");
    assert_eq!(field(0), "T");
    writer.continue_process(child.id(), start).unwrap();
    assert!(wait_for("S"));
    child.kill().unwrap();
    child.wait().unwrap();
    assert!(writer.continue_process(4_000_000, 1).is_err());
}

#[test]
fn a_tree_has_no_processes_to_continue() {
    let (_dir, mut writer) = tree();
    assert!(matches!(writer.continue_process(1, 1), Err(WriteError::Refused(_))));
}
