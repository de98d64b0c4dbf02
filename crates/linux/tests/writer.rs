//! The one place that changes a machine, on files of a temporary directory and processes of this test's own.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use jolly_core::fix::{CommandLine, HostWriter, Identity, Slot, Target, WriteError, digest};
use jolly_core::host::FileKind;
use jolly_linux::{LinuxWriter, Reach};
use std::fs;
use std::os::unix::fs::{MetadataExt, PermissionsExt, chown, lchown, symlink};
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

fn line(command: &str) -> CommandLine {
    CommandLine { command: command.into(), ..CommandLine::default() }
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
    for (id, name) in [
        ("..", "secret"),
        ("a/b", "c"),
        ("", "x"),
        (".hidden", "x"),
        ("a", "../../secret"),
        ("a", ""),
        ("none", "record.json"),
    ] {
        assert_eq!(writer.load(id, name), None, "{id:?} {name:?}");
    }
}

/// A target as a plan would see it now.
fn target(writer: &LinuxWriter, path: &str) -> Target {
    let free = Target { path: path.into(), keepers: vec![], was: None };
    Target { was: writer.status(&free).unwrap().map(|s| Identity::of(&s)), ..free }
}

fn free(path: &str) -> Target {
    Target::free(path)
}

const SLOT: Slot = Slot { id: "20310402-061011-120-front", step: 0 };

/// Names in a directory, hidden ones included.
fn names(dir: &Path) -> Vec<String> {
    let mut all: Vec<String> =
        fs::read_dir(dir).unwrap().flatten().map(|e| e.file_name().to_string_lossy().into_owned()).collect();
    all.sort();
    all
}

fn root() -> bool {
    rustix::process::geteuid().is_root()
}

#[test]
fn modes_are_set_on_the_planned_file_and_never_through_links() {
    let (dir, mut writer) = tree();
    let file = dir.path().join("etc/front.conf");
    let planned = target(&writer, "/etc/front.conf");
    writer.set_mode(&planned, 0o604).unwrap();
    assert_eq!(mode(&file), 0o604);
    assert!(
        matches!(writer.set_mode(&planned, 0o600), Err(WriteError::Refused(_))),
        "its mode is not that of the plan any more"
    );
    symlink("front.conf", dir.path().join("etc/link.conf")).unwrap();
    assert_eq!(writer.status(&free("/etc/link.conf")).unwrap().unwrap().kind, FileKind::Link);
    let planned = target(&writer, "/etc/front.conf");
    fs::rename(&file, dir.path().join("etc/kept.conf")).unwrap();
    fs::write(&file, "Listen 80\n").unwrap();
    fs::set_permissions(&file, fs::Permissions::from_mode(0o604)).unwrap();
    let refused = writer.set_mode(&planned, 0o777).unwrap_err();
    assert!(refused.to_string().contains("not the file that was planned"), "{refused}");
    assert_eq!(mode(&file), 0o604);
    assert!(writer.set_mode(&free("/etc/none.conf"), 0o600).is_err());
}

#[test]
fn a_link_in_the_place_of_the_file_or_of_a_directory_above_changes_nothing_behind_it() {
    if !root() {
        return;
    }
    let (dir, mut writer) = tree();
    let at = |name: &str| dir.path().join(name);
    fs::create_dir_all(at("srv/edge/log")).unwrap();
    fs::write(at("srv/edge/log/error.log"), "x").unwrap();
    fs::create_dir(at("etc/secret")).unwrap();
    fs::write(at("etc/secret/error.log"), "x").unwrap();
    for part in ["srv/edge", "srv/edge/log"] {
        chown(at(part), Some(71), Some(71)).unwrap();
    }
    let planned = Target { keepers: vec![71], ..target_for(&writer, "/srv/edge/log/error.log", 71) };
    let unchanged = |writer: &mut LinuxWriter| {
        assert!(matches!(writer.set_owner(&planned, 71, 71), Err(WriteError::Refused(_))));
        assert!(matches!(writer.set_mode(&planned, 0o666), Err(WriteError::Refused(_))));
        assert!(matches!(
            writer.rename(&planned, "/srv/edge/log/error.log.aside"),
            Err(WriteError::Refused(_))
        ));
        assert!(matches!(
            writer.replace_file(&planned, &digest(b"x"), b"y", SLOT),
            Err(WriteError::Refused(_))
        ));
        let secret = fs::symlink_metadata(at("etc/secret/error.log")).unwrap();
        assert_eq!((secret.uid(), secret.mode() & 0o777), (0, 0o644));
        assert_eq!(fs::read(at("etc/secret/error.log")).unwrap(), b"x");
    };
    // The file becomes a link, then a hard link, then its directory becomes a link, then another directory.
    fs::rename(at("srv/edge/log/error.log"), at("srv/edge/kept")).unwrap();
    symlink("/etc/secret/error.log", at("srv/edge/log/error.log")).unwrap();
    lchown(at("srv/edge/log/error.log"), Some(71), Some(71)).unwrap();
    unchanged(&mut writer);
    fs::remove_file(at("srv/edge/log/error.log")).unwrap();
    fs::hard_link(at("etc/secret/error.log"), at("srv/edge/log/error.log")).unwrap();
    unchanged(&mut writer);
    fs::rename(at("srv/edge/log"), at("srv/edge/log.kept")).unwrap();
    symlink("/etc/secret", at("srv/edge/log")).unwrap();
    lchown(at("srv/edge/log"), Some(71), Some(71)).unwrap();
    unchanged(&mut writer);
    let make = Target { was: None, keepers: vec![71], path: "/srv/edge/log/deep".into() };
    assert!(matches!(writer.prepare_directory(&make, 0o750, 71, 71, SLOT), Err(WriteError::Refused(_))));
    assert!(matches!(writer.create_file(&make, b"x", SLOT), Err(WriteError::Refused(_))));
    assert!(!at("etc/secret/deep").exists());
}

fn target_for(writer: &LinuxWriter, path: &str, keeper: u32) -> Target {
    let free = Target { path: path.into(), keepers: vec![keeper], was: None };
    Target { was: writer.status(&free).unwrap().map(|s| Identity::of(&s)), ..free }
}

#[test]
fn a_replaced_file_keeps_owner_and_mode_and_comes_back_as_the_very_same_file() {
    let (dir, mut writer) = tree();
    let file = dir.path().join("etc/front.conf");
    fs::set_permissions(&file, fs::Permissions::from_mode(0o640)).unwrap();
    let before = fs::metadata(&file).unwrap();
    let planned = target(&writer, "/etc/front.conf");
    writer.replace_file(&planned, &digest(b"Listen 80\n"), b"Listen 81\n", SLOT).unwrap();
    assert_eq!((fs::read(&file).unwrap().as_slice(), mode(&file)), (b"Listen 81\n".as_slice(), 0o640));
    let refused =
        writer.replace_file(&free("/etc/front.conf"), &digest(b"Listen 80\n"), b"x", SLOT).unwrap_err();
    assert!(refused.to_string().contains("changed meanwhile"), "{refused}");
    assert_eq!(names(&dir.path().join("etc")), ["front.conf"], "nothing is left beside it");
    writer.replace_file(&free("/etc/front.conf"), &digest(b"Listen 81\n"), b"Listen 80\n", SLOT).unwrap();
    let after = fs::metadata(&file).unwrap();
    assert_eq!(
        (before.ino(), before.mtime_nsec(), before.mode()),
        (after.ino(), after.mtime_nsec(), after.mode())
    );
    writer.clear(Some(&planned), SLOT).unwrap();
    assert!(names(&dir.path().join("state/changes").join(SLOT.id)).is_empty());
}

#[test]
fn a_link_a_directory_or_nothing_is_never_replaced_as_a_file() {
    let (dir, mut writer) = tree();
    symlink("front.conf", dir.path().join("etc/link.conf")).unwrap();
    for path in ["/etc/link.conf", "/etc"] {
        assert!(writer.replace_file(&free(path), &digest(b"Listen 80\n"), b"x", SLOT).is_err(), "{path}");
    }
    assert!(writer.replace_file(&free("/etc/none.conf"), &digest(b""), b"x", SLOT).is_err());
    assert_eq!(fs::read(dir.path().join("etc/front.conf")).unwrap(), b"Listen 80\n");
}

#[test]
fn extended_attributes_survive_a_replacement() {
    let (dir, mut writer) = tree();
    let file = dir.path().join("etc/front.conf");
    let set = std::process::Command::new("setfattr")
        .args(["-n", "user.quay", "-v", "gullholm"])
        .arg(&file)
        .status();
    if !set.is_ok_and(|s| s.success()) {
        // Not every file system under a temporary directory keeps them.
        return;
    }
    writer.replace_file(&free("/etc/front.conf"), &digest(b"Listen 80\n"), b"Listen 81\n", SLOT).unwrap();
    let shown = std::process::Command::new("getfattr")
        .args(["--only-values", "-n", "user.quay"])
        .arg(&file)
        .output()
        .unwrap();
    assert_eq!(shown.stdout, b"gullholm");
}

#[test]
fn links_are_made_changed_and_removed_only_as_expected() {
    let (dir, mut writer) = tree();
    let link = dir.path().join("etc/enabled.conf");
    let at = free("/etc/enabled.conf");
    writer.set_link(&at, None, Some("front.conf")).unwrap();
    assert_eq!(fs::read_link(&link).unwrap(), Path::new("front.conf"));
    writer.set_link(&at, None, Some("front.conf")).unwrap();
    let refused = writer.set_link(&at, Some("other.conf"), None).unwrap_err();
    assert!(refused.to_string().contains("now points elsewhere"), "{refused}");
    writer.set_link(&at, Some("front.conf"), Some("other.conf")).unwrap();
    assert_eq!(writer.link(&at).unwrap().as_deref(), Some("other.conf"));
    writer.set_link(&at, Some("other.conf"), None).unwrap();
    assert!(fs::symlink_metadata(&link).is_err());
    assert!(writer.link(&free("/etc/front.conf")).is_err(), "a file is not a link");
}

#[test]
fn directories_appear_with_their_mode_and_only_the_one_that_was_made_is_removed() {
    let (dir, mut writer) = tree();
    let made = dir.path().join("etc/deep");
    let me = fs::metadata(dir.path()).unwrap();
    let at = free("/etc/deep");
    let identity = writer.prepare_directory(&at, 0o2750, me.uid(), me.gid(), SLOT).unwrap();
    assert!(!made.exists(), "prepared where nobody sees it");
    writer.place_directory(&at, SLOT).unwrap();
    assert_eq!((mode(&made), fs::metadata(&made).unwrap().ino()), (0o2750, identity.inode));
    assert!(writer.prepare_directory(&at, 0o700, me.uid(), me.gid(), SLOT).is_err());
    let there = Target { was: Some(identity), ..at.clone() };
    fs::write(made.join("x"), "").unwrap();
    assert!(!writer.remove_directory(&there, SLOT).unwrap());
    fs::remove_file(made.join("x")).unwrap();
    fs::rename(&made, dir.path().join("etc/ours")).unwrap();
    fs::create_dir(&made).unwrap();
    assert!(writer.remove_directory(&there, SLOT).is_err(), "somebody else's directory");
    fs::remove_dir(&made).unwrap();
    fs::rename(dir.path().join("etc/ours"), &made).unwrap();
    assert!(writer.remove_directory(&there, SLOT).unwrap());
    assert!(!made.exists());
}

#[test]
fn a_rename_never_overwrites_and_stays_in_its_directory() {
    let (dir, mut writer) = tree();
    fs::write(dir.path().join("etc/b"), "2").unwrap();
    let planned = target(&writer, "/etc/front.conf");
    assert!(writer.rename(&planned, "/etc/b").is_err());
    assert_eq!(fs::read(dir.path().join("etc/b")).unwrap(), b"2");
    assert!(writer.rename(&planned, "/front.conf").is_err());
    writer.rename(&planned, "/etc/front.conf.aside").unwrap();
    assert_eq!(names(&dir.path().join("etc")), ["b", "front.conf.aside"]);
}

#[test]
fn two_changes_at_a_time_are_refused_and_the_second_learns_who_holds_the_lock() {
    let (dir, first) = tree();
    let mut second = LinuxWriter::new(dir.path(), &dir.path().join("state"), Reach::Tree);
    let refused = second.prepare().unwrap_err().to_string();
    assert!(refused.contains(&format!("pid {}", std::process::id())), "{refused}");
    drop(first);
    second.prepare().unwrap();
}

#[test]
fn a_journal_that_others_can_write_is_not_believed() {
    let dir = tempfile::tempdir().unwrap();
    let state = dir.path().join("state");
    fs::create_dir(&state).unwrap();
    for (mode, refused) in [(0o777, true), (0o757, true), (0o700, false)] {
        fs::set_permissions(&state, fs::Permissions::from_mode(mode)).unwrap();
        let mut writer = LinuxWriter::new(dir.path(), &state, Reach::Tree);
        assert_eq!(writer.prepare().is_err(), refused, "{mode:o}");
        assert_eq!(writer.check_journal().is_err(), refused, "{mode:o}");
    }
    let mut writer = LinuxWriter::new(dir.path(), &state, Reach::Tree);
    writer.store("1", "record.json", b"x").unwrap();
    let record = state.join("changes/1/record.json");
    fs::set_permissions(&record, fs::Permissions::from_mode(0o666)).unwrap();
    assert_eq!(writer.load("1", "record.json"), None);
    if root() {
        fs::set_permissions(&record, fs::Permissions::from_mode(0o600)).unwrap();
        chown(&record, Some(71), None).unwrap();
        assert_eq!(writer.load("1", "record.json"), None);
        chown(&state, Some(71), None).unwrap();
        assert!(writer.prepare().is_err());
    }
}

#[test]
fn a_tree_of_files_has_no_manager_and_no_processes() {
    let (_dir, mut writer) = tree();
    for refused in [
        writer.job("start", "front.service"),
        writer.unit_file("enable", "front.service"),
        writer.reset_failed("front.service"),
        writer.end_process(1, 0, true),
        writer.run(&line("/bin/true")),
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
    let environment = vec![("QUAY".to_owned(), "gullholm".to_owned())];
    writer.run(&CommandLine { environment, ..line(&format!("{} 'two words' 0", script.display())) }).unwrap();
    assert_eq!(fs::read_to_string(&target).unwrap(), "gullholm two words\n");
    let failed = writer.run(&line(&format!("{} x 3", script.display()))).unwrap_err();
    assert!(failed.to_string().contains('3'), "{failed}");
    assert!(writer.run(&line("/nowhere/start")).is_err());
    assert!(matches!(writer.run(&line("  ")), Err(WriteError::Refused(_))));
}

#[test]
fn a_command_gets_neither_the_terminal_nor_as_another_account_the_environment_of_who_calls() {
    let (dir, mut writer) = machine();
    fs::set_permissions(dir.path(), fs::Permissions::from_mode(0o755)).unwrap();
    let room = dir.path().join("room");
    fs::create_dir(&room).unwrap();
    fs::set_permissions(&room, fs::Permissions::from_mode(0o777)).unwrap();
    let script = dir.path().join("start.sh");
    // The sixth field of its status is its session: that of a leader is its own number.
    let text = format!(
        "#!/bin/sh\nread -r pid name state parent group session rest < /proc/$$/stat\n\
            echo \"$pid $session\" > {0}/session\nenv > {0}/environment\n",
        room.display()
    );
    fs::write(&script, text).unwrap();
    fs::set_permissions(&script, fs::Permissions::from_mode(0o755)).unwrap();
    let mut command = line(&script.display().to_string());
    command.environment = vec![("QUAY".to_owned(), "gullholm".to_owned())];
    // Cargo sets this for every test: it stands for whatever the session of who calls holds.
    assert!(std::env::var_os("CARGO_MANIFEST_DIR").is_some());
    let said = |name: &str| fs::read_to_string(room.join(name)).unwrap();
    writer.run(&command).unwrap();
    let session = said("session");
    let (pid, session) = session.trim().split_once(' ').unwrap();
    assert_eq!(pid, session);
    assert!(
        said("environment").contains("CARGO_MANIFEST_DIR="),
        "one's own command runs as one would run it"
    );
    if rustix::process::geteuid().is_root() {
        fs::remove_dir_all(&room).unwrap();
        fs::create_dir(&room).unwrap();
        fs::set_permissions(&room, fs::Permissions::from_mode(0o777)).unwrap();
        command.account = Some("nobody".into());
        writer.run(&command).unwrap();
        let environment = said("environment");
        assert!(
            !environment.contains("CARGO")
                && environment.contains("QUAY=gullholm")
                && environment.contains("USER=nobody"),
            "{environment}"
        );
        command.account = Some("no-such-account".into());
        assert!(writer.run(&command).unwrap_err().to_string().contains("does not exist"));
    }
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
    let at = free("/etc/own.conf");
    writer.create_file(&at, b"[Service]\n", SLOT).unwrap();
    let file = dir.path().join("etc/own.conf");
    assert_eq!((fs::read(&file).unwrap().as_slice(), mode(&file)), (b"[Service]\n".as_slice(), 0o644));
    assert!(writer.create_file(&at, b"another\n", SLOT).is_err());
    assert_eq!(fs::read(&file).unwrap(), b"[Service]\n");
    assert!(
        writer.create_file(&free("/etc/none/own.conf"), b"x", SLOT).is_err(),
        "its directory does not exist"
    );
    assert_eq!(names(&dir.path().join("etc")), ["front.conf", "own.conf"]);
}

#[test]
fn only_the_file_that_was_made_is_removed() {
    let (dir, mut writer) = tree();
    let file = dir.path().join("etc/front.conf");
    let at = free("/etc/front.conf");
    let refused = writer.remove_file(&at, &digest(b"another\n"), SLOT).unwrap_err();
    assert!(matches!(refused, WriteError::Refused(_)), "{refused}");
    assert!(file.exists());
    writer.remove_file(&at, &digest(b"Listen 80\n"), SLOT).unwrap();
    assert!(!file.exists());
    writer.remove_file(&at, &digest(b"Listen 80\n"), SLOT).unwrap();
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
