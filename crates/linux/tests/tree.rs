//! A directory as a host, and the live host's files: links stay inside, FIFOs never block, and the parts that
//! are not there are not seen rather than absent.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test fails by panicking")]

use jolly_core::host::{Answer, FileKind, Host, Look, Question, Unseen};
use jolly_core::snapshot::Snapshot;
use jolly_linux::{LiveHost, TreeHost};
use std::fs;
use std::os::unix::fs::{PermissionsExt, symlink};
use std::time::{Duration, Instant};
use tempfile::TempDir;

fn tree() -> TempDir {
    let dir = tempfile::tempdir().unwrap();
    fs::create_dir_all(dir.path().join("etc/quay")).unwrap();
    fs::write(dir.path().join("etc/quay/front.conf"), "Listen 80\n").unwrap();
    symlink("/etc/quay", dir.path().join("etc/absolute")).unwrap();
    symlink("../../../../../../../../etc/quay/front.conf", dir.path().join("etc/up")).unwrap();
    symlink("loop-b", dir.path().join("etc/loop-a")).unwrap();
    symlink("loop-a", dir.path().join("etc/loop-b")).unwrap();
    symlink("/nowhere", dir.path().join("etc/dangling")).unwrap();
    dir
}

#[test]
fn the_root_of_a_process_is_a_tree_of_its_own() {
    let dir = tree();
    // What stands behind such a link has no name here: it must not be resolved to one.
    let through = format!("/proc/self/root{}", dir.path().display());
    let host = TreeHost::new(std::path::Path::new(&through)).unwrap();
    assert_eq!(Snapshot::new(&host).text("/etc/absolute/front.conf").seen().as_deref(), Some("Listen 80\n"));
    assert!(format!("{host:?}").contains("/proc/self/root"), "{host:?}");
    assert!(
        TreeHost::new(&dir.path().join("etc/quay/front.conf")).is_err()
            && TreeHost::new(&dir.path().join("none")).is_err()
    );
}

#[test]
fn links_are_followed_inside_the_tree_alone() {
    let dir = tree();
    let host = TreeHost::new(dir.path()).unwrap();
    let snapshot = Snapshot::new(&host);
    for path in
        ["/etc/quay/front.conf", "/etc/absolute/front.conf", "/etc/up", "/etc/quay/../quay/./front.conf"]
    {
        assert_eq!(snapshot.text(path).seen().as_deref(), Some("Listen 80\n"), "{path}");
    }
    assert_eq!(
        snapshot.read_link("/etc/up").seen().as_deref(),
        Some("../../../../../../../../etc/quay/front.conf")
    );
    assert_eq!(snapshot.exists("/etc/dangling"), Some(false));
    assert!(matches!(snapshot.link_stat("/etc/dangling"), Look::Seen(s) if s.kind == FileKind::Link));
    assert!(!matches!(snapshot.text("/etc/loop-a"), Look::Seen(_)));
    assert_eq!(snapshot.text("/etc/quay/none.conf"), Look::Absent);
}

#[test]
fn what_a_tree_does_not_have_is_not_seen_and_never_absent() {
    let dir = tree();
    let host = TreeHost::new(dir.path()).unwrap();
    for question in [
        Question::Processes,
        Question::Listeners,
        Question::Unit("front.service".into()),
        Question::Clock,
        Question::Addresses,
        Question::Read("/proc/sys/net/ipv4/ip_nonlocal_bind".into()),
    ] {
        assert_eq!(host.ask(&question), Look::NotSeen(Unseen::PartMissing), "{question:?}");
    }
    let snapshot = Snapshot::new(&host);
    assert!(snapshot.processes().seen().is_none() && snapshot.listeners().seen().is_none());
    assert_eq!(
        snapshot.not_seen(),
        ["processes and sockets: not in this directory tree".into()],
        "told once"
    );
    assert!(TreeHost::new(&dir.path().join("etc/quay/front.conf")).is_err());
    assert!(TreeHost::new(&dir.path().join("none")).is_err());
}

#[test]
fn nothing_but_a_regular_file_is_read_and_nothing_blocks() {
    let dir = tree();
    let fifo = dir.path().join("etc/fifo");
    assert!(std::process::Command::new("mkfifo").arg(&fifo).status().unwrap().success());
    let host = LiveHost::new(Duration::from_secs(1));
    let began = Instant::now();
    for path in
        [fifo.to_string_lossy().into_owned(), "/dev/zero".into(), dir.path().to_string_lossy().into_owned()]
    {
        assert_eq!(host.ask(&Question::Read(path.clone())), Look::NotSeen(Unseen::NotRegular), "{path}");
        assert_eq!(
            host.ask(&Question::ReadAt(path.clone(), 0, 10)),
            Look::NotSeen(Unseen::NotRegular),
            "{path}"
        );
    }
    assert!(began.elapsed() < Duration::from_secs(2));
}

#[test]
fn status_lists_and_strings_are_those_of_the_files() {
    let dir = tree();
    let file = dir.path().join("etc/quay/front.conf");
    fs::set_permissions(&file, fs::Permissions::from_mode(0o640)).unwrap();
    fs::write(dir.path().join("etc/quay/module.so"), b"\x7fELF\0tide_module\0x-tide_module-y\0").unwrap();
    let host = TreeHost::new(dir.path()).unwrap();
    let snapshot = Snapshot::new(&host);
    let status = snapshot.stat("/etc/quay/front.conf").seen().unwrap();
    assert_eq!((status.kind, status.mode, status.size), (FileKind::Regular, 0o640, 10));
    let names: Vec<String> = snapshot.list("/etc/quay").seen().unwrap().into_iter().map(|e| e.name).collect();
    assert_eq!(names, ["front.conf", "module.so"]);
    assert_eq!(
        snapshot.find_string("/etc/quay/module.so", "tide_module", true).seen().unwrap().as_deref(),
        Some("tide_module")
    );
    assert_eq!(
        snapshot.find_string("/etc/quay/module.so", "-tide", false).seen().unwrap().as_deref(),
        Some("x-tide_module-y")
    );
    assert_eq!(snapshot.find_string("/etc/quay/module.so", "tide", true).seen().unwrap(), None);
    let Look::Seen(Answer::Bytes(part)) = host.ask(&Question::ReadAt("/etc/quay/front.conf".into(), 7, 100))
    else {
        panic!("it can be read")
    };
    assert_eq!(&part[..], b"80\n", "a short answer at the end");
}

#[test]
fn the_live_host_knows_itself() {
    let host = LiveHost::new(Duration::from_secs(1));
    let snapshot = Snapshot::new(&host);
    let own = snapshot.process(std::process::id()).seen().unwrap();
    assert_eq!(own.brief.pid, std::process::id());
    assert!(own.executable.is_some() && !own.arguments.is_empty() && own.own_root);
    let me = snapshot.myself().seen().unwrap();
    assert_eq!(me.lineage.first(), Some(&std::process::id()));
    assert!(snapshot.processes().seen().unwrap().iter().any(|p| p.pid == std::process::id()));
    assert_eq!(snapshot.process(u32::MAX - 1), Look::Absent);
    let clock = snapshot.clock().seen().unwrap();
    assert!(clock.booted.is_none_or(|b| b < clock.now));
    assert!(snapshot.addresses().seen().unwrap().iter().any(std::net::IpAddr::is_loopback));
    assert!(snapshot.mounts().seen().unwrap().iter().any(|m| m.path == "/"));
    assert!(snapshot.space("/").seen().unwrap().free_bytes > 0);
}

#[test]
fn unix_sockets_and_clients_are_seen() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("relay.sock");
    let _local = std::os::unix::net::UnixListener::bind(&path).unwrap();
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    let _client = std::net::TcpStream::connect(("127.0.0.1", port)).unwrap();
    let _accepted = listener.accept().unwrap();
    let host = LiveHost::new(Duration::from_secs(1));
    let snapshot = Snapshot::new(&host);
    let sockets = snapshot.listeners().seen().unwrap();
    let unix = sockets.iter().find(|s| s.path.as_deref() == path.to_str()).expect("the socket is listed");
    assert_eq!(snapshot.owners(&[unix.inode]).seen().unwrap(), [(unix.inode, std::process::id())]);
    assert_eq!(snapshot.clients(port).seen(), Some(1));
}

#[test]
fn a_log_that_is_read_in_stretches_is_the_same_file_and_a_new_one_is_seen_anew() {
    let dir = tree();
    let log = dir.path().join("etc/quay/tide.log");
    fs::write(&log, "first of the month\n").unwrap();
    let host = TreeHost::new(dir.path()).unwrap();
    let snapshot = Snapshot::new(&host);
    let read = |from, length| {
        snapshot
            .read_at("/etc/quay/tide.log", from, length)
            .seen()
            .map(|b| String::from_utf8_lossy(&b).into_owned())
    };
    assert_eq!(read(0, 5).as_deref(), Some("first"));
    assert_eq!(read(6, 100).as_deref(), Some("of the month\n"), "a short stretch at the end");
    assert_eq!(read(500, 10).as_deref(), Some(""));
    fs::rename(&log, dir.path().join("etc/quay/tide.log.1")).unwrap();
    fs::write(&log, "second\n").unwrap();
    std::thread::sleep(Duration::from_millis(350));
    assert_eq!(read(0, 100).as_deref(), Some("second\n"));
    assert_eq!(snapshot.read_at("/etc/quay", 0, 10), Look::NotSeen(Unseen::NotRegular));
    assert_eq!(snapshot.read_at("/etc/none", 0, 10), Look::Absent);
}

#[test]
fn a_tree_without_a_journal_has_none_whatever_is_asked_of_it() {
    let dir = tree();
    let host = TreeHost::new(dir.path()).unwrap();
    for question in
        [Question::Journal("edge.service".into(), 10), Question::JournalOf("_COMM=sudo".into(), 10)]
    {
        assert_eq!(host.ask(&question), Look::Absent, "{question:?}");
    }
    fs::create_dir_all(dir.path().join("var/log/journal/0123")).unwrap();
    fs::write(dir.path().join("var/log/journal/0123/system.journal"), b"LPKSHHRH and nothing behind it")
        .unwrap();
    let found = host.ask(&Question::JournalOf("_COMM=sudo".into(), 10));
    assert!(matches!(found, Look::Seen(Answer::Journal(entries)) if entries.is_empty()));
}

#[test]
fn plain_files_have_no_marks_and_grant_nothing() {
    let dir = tree();
    fs::write(dir.path().join("etc/tool"), "#!/bin/sh\n").unwrap();
    fs::set_permissions(dir.path().join("etc/tool"), fs::Permissions::from_mode(0o755)).unwrap();
    let snapshot_host = TreeHost::new(dir.path()).unwrap();
    let Look::Seen(status) = Snapshot::new(&snapshot_host).stat("/etc/tool") else { panic!("not seen") };
    assert_eq!((status.immutable, status.capabilities, status.mode), (false, 0, 0o755));
}

#[test]
fn a_string_is_found_wherever_it_stands_in_a_large_binary() {
    let dir = tempfile::tempdir().unwrap();
    let file = dir.path().join("server");
    let path = "/server";
    let find = |bytes: &[u8], needle: &str, whole: bool| {
        fs::write(&file, bytes).unwrap();
        let host = TreeHost::new(dir.path()).unwrap();
        match host.ask(&Question::FindString(path.into(), needle.into(), whole)) {
            Look::Seen(Answer::Found(found)) => found,
            other => panic!("{other:?}"),
        }
    };
    // Around the borders of what is read at once, at the begin and at the very end.
    for at in [
        0usize,
        1,
        5000,
        (1 << 20) - 4100,
        (1 << 20) - 4090,
        (1 << 20) - 3,
        1 << 20,
        (2 << 20) - 9,
        2_500_000,
    ] {
        let mut bytes = vec![b'x'; at];
        if at > 0 {
            bytes[at - 1] = 0;
        }
        bytes.extend_from_slice(b"tide 1.2.3\0");
        assert_eq!(find(&bytes, "tide ", false).as_deref(), Some("tide 1.2.3"), "{at}");
        assert_eq!(find(&bytes, "tide 1.2.3", true).as_deref(), Some("tide 1.2.3"), "{at}");
        assert_eq!(find(&bytes, "ide 1.2.3", true), None, "{at}: a part of a string is not the string");
        bytes.extend_from_slice(&vec![b'y'; 300_000]);
        assert_eq!(find(&bytes, "tide ", false).as_deref(), Some("tide 1.2.3"), "{at}");
    }
    assert_eq!(find(b"", "tide", false), None);
    assert_eq!(find(b"tide", "tide", true).as_deref(), Some("tide"), "no NUL at all");
}
