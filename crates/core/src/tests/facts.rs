//! Facts that rooms share: names, accounts, memory of a snapshot, recorded and replayed answers, zones.
use super::TextHost;
use crate::bundle::{Bundle, Recorder, Replayer};
use crate::host::{Answer, Host, Look, Parts, Question, Unseen};
use crate::services_file::ServicesFile;
use crate::snapshot::Snapshot;
use crate::{accounts, names, path};
use std::collections::BTreeMap;
use std::sync::Mutex;

#[test]
fn names_come_from_the_hosts_file_and_what_only_a_name_server_knows_is_not_seen() {
    let host = TextHost::new().file(
        "/etc/hosts",
        "127.0.0.1 localhost\n192.0.2.7 desk desk.saltmarsh-ferries.example # old\n\
            192.0.2.8 DESK\n# 192.0.2.9 gone\nnonsense here\n",
    );
    let snapshot = Snapshot::new(&host);
    let shown = |name: &str| match names::lookup(&snapshot, name) {
        Look::Seen(all) => all.iter().map(ToString::to_string).collect::<Vec<_>>().join(" "),
        Look::Absent => "never".into(),
        Look::NotSeen(_) => "ask".into(),
    };
    for (name, expected) in [
        ("desk", "192.0.2.7 192.0.2.8"),
        ("desk.saltmarsh-ferries.example", "192.0.2.7"),
        ("192.0.2.200", "192.0.2.200"),
        ("::1", "::1"),
        ("localhost", "127.0.0.1"),
        ("gone", "ask"),
        ("old", "ask"),
        ("boarding.invalid", "never"),
        ("invalid", "never"),
        ("two words", "never"),
        ("a..b", "never"),
        ("", "never"),
    ] {
        assert_eq!(shown(name), expected, "{name:?}");
    }
    assert_eq!(shown(&"x".repeat(64)), "never", "a label is at most 63 letters long");
}

#[test]
fn localhost_without_a_line_depends_on_the_name_service() {
    let of = |text: &str| {
        names::lookup(&Snapshot::new(&TextHost::new().file("/etc/nsswitch.conf", text)), "localhost")
            .seen()
            .is_some()
    };
    assert!(of("hosts: files myhostname dns\n"));
    assert!(of("hosts: files resolve\n"));
    assert!(!of("hosts: files dns\n"));
    assert!(!of("# hosts: myhostname\n"));
}

#[test]
fn foreign_addresses_may_be_bound_where_the_kernel_was_told_so() {
    let of = |four: &str, six: &str, address: &str| {
        let host = TextHost::new()
            .file("/proc/sys/net/ipv4/ip_nonlocal_bind", four)
            .file("/proc/sys/net/ipv6/ip_nonlocal_bind", six);
        names::may_bind_foreign(&Snapshot::new(&host), address.parse().unwrap())
    };
    assert!(of("1\n", "0\n", "192.0.2.7") && !of("1\n", "0\n", "2001:db8::7"));
    assert!(!of("0\n", "1\n", "192.0.2.7") && of("0\n", "1\n", "2001:db8::7"));
}

#[test]
fn accounts_are_known_by_name_and_number_with_all_their_groups() {
    let host = TextHost::new().file(
        "/etc/group",
        "root:x:0:\nwww-data:x:33:\ntide:x:71:marta\nadm:x:4:tide,marta\nbroken line\n:x:\n",
    );
    let snapshot = Snapshot::new(&host);
    let marta = accounts::account(&snapshot, "marta").seen().unwrap();
    assert_eq!((marta.uid, marta.groups.as_slice()), (1000, [1000, 71, 4].as_slice()));
    assert_eq!(accounts::account(&snapshot, "71").seen().unwrap().name, "tide");
    assert!(accounts::account(&snapshot, "ferryman").is_absent());
    assert_eq!(accounts::group(&snapshot, "adm").seen(), Some(4));
    assert_eq!(accounts::group(&snapshot, "4").seen(), Some(4));
    assert!(accounts::group(&snapshot, "ferrymen").is_absent());
    assert_eq!(
        (accounts::user_name(&snapshot, 33), accounts::user_name(&snapshot, 4242)),
        ("www-data".into(), "4242".into())
    );
}

#[test]
fn an_account_that_a_directory_service_may_know_is_not_called_missing() {
    for (text, absent) in [
        ("passwd: files\n", true),
        ("passwd: files sss\n", false),
        ("passwd: files # ldap\n", true),
        ("passwd:ldap files\n", false),
        ("group: ldap\n", true),
    ] {
        let host = TextHost::new().file("/etc/nsswitch.conf", text);
        assert_eq!(accounts::account(&Snapshot::new(&host), "ferryman").is_absent(), absent, "{text}");
    }
}

#[test]
fn paths_are_joined_cleaned_and_matched_by_text_alone() {
    for (base, name, expected) in
        [("/etc", "x", "/etc/x"), ("/etc/", "x", "/etc/x"), ("/etc", "/x", "/x"), ("", "x", "/x")]
    {
        assert_eq!(path::join(base, name), expected);
    }
    for (given, cleaned, parent, name) in [
        ("/a/./b//c", "/a/b/c", "/a/./b/", "c"),
        ("/a/../../b/", "/b", "/a/../..", "b"),
        ("/", "/", "/", ""),
        ("x", "/x", "/", "x"),
    ] {
        assert_eq!(path::clean(given), cleaned);
        assert_eq!(path::parent(given).trim_end_matches('/'), parent.trim_end_matches('/'), "{given}");
        assert_eq!(path::name(given), name, "{given}");
    }
    assert_eq!(path::ancestors("/srv/www/html"), ["/", "/srv", "/srv/www"]);
    for (pattern, name, fits) in [
        ("*.conf", "a.conf", true),
        ("*.conf", ".conf", false),
        ("*.conf", "a.conf~", false),
        ("php*-fpm.service", "php8.2-fpm.service", true),
        ("postgresql@*.service", "postgresql.service", false),
        ("[0-9][0-9]-?.cnf", "50-x.cnf", true),
        ("[!a]*", "abc", false),
        ("a*b*c", "aXbYbZc", true),
        ("", "", true),
    ] {
        assert_eq!(path::matches(pattern, name, true), fits, "{pattern} {name}");
    }
}

/// Counts what it is asked.
struct Counting<'h> {
    host: &'h TextHost,
    asked: Mutex<Vec<Question>>,
}

impl Host for Counting<'_> {
    fn ask(&self, question: &Question) -> Look<Answer> {
        self.asked.lock().unwrap().push(question.clone());
        self.host.ask(question)
    }
    fn parts(&self) -> Parts {
        self.host.parts()
    }
}

#[test]
fn a_snapshot_asks_nothing_twice_but_the_parts_of_long_files() {
    let text = TextHost::new().file("/etc/front.conf", "Listen 80\n");
    let host = Counting { host: &text, asked: Mutex::default() };
    let snapshot = Snapshot::new(&host);
    for _ in 0..3 {
        assert_eq!(snapshot.text("/etc/front.conf").seen().as_deref(), Some("Listen 80\n"));
        assert_eq!(snapshot.exists("/none"), Some(false));
    }
    assert_eq!(host.asked.lock().unwrap().len(), 2);
    for _ in 0..2 {
        snapshot.read_at("/etc/front.conf", 0, 4);
    }
    assert_eq!(host.asked.lock().unwrap().len(), 4);
    snapshot.forget(&Question::Stat("/none".into()));
    snapshot.exists("/none");
    assert_eq!(host.asked.lock().unwrap().len(), 5);
}

/// A host that may look at nothing.
struct Closed(Unseen);

impl Host for Closed {
    fn ask(&self, _: &Question) -> Look<Answer> {
        Look::NotSeen(self.0.clone())
    }
    fn parts(&self) -> Parts {
        Parts { files: true, processes: true, manager: true, interfaces: true, clock: true, probes: true }
    }
}

#[test]
fn what_could_not_be_seen_is_named_once_and_never_called_absent() {
    let host = Closed(Unseen::Denied);
    let snapshot = Snapshot::new(&host);
    assert_eq!((snapshot.exists("/etc/shadow"), snapshot.is_directory("/root")), (None, None));
    for _ in 0..2 {
        let _ = (
            snapshot.processes(),
            snapshot.listeners(),
            snapshot.unit("edge.service"),
            snapshot.clock(),
            snapshot.addresses(),
            snapshot.owners(&[1]),
        );
    }
    let told = snapshot.not_seen();
    for words in [
        "/etc/shadow: permission denied",
        "processes and sockets",
        "the service manager",
        "the clock",
        "interfaces",
        "the holders of some sockets",
    ] {
        assert_eq!(told.iter().filter(|l| l.text().contains(words)).count(), 1, "{words}: {told:?}");
    }
    for (why, words) in [
        (Unseen::TimedOut, "no answer in time"),
        (Unseen::Gone, "went away"),
        (Unseen::PartMissing, "not in this directory tree"),
        (Unseen::NotRecorded, "not recorded"),
        (Unseen::TooLarge(7), "7 bytes"),
        (Unseen::Failed("tide too high".into()), "tide too high"),
    ] {
        let host = Closed(why);
        let snapshot = Snapshot::new(&host);
        let _ = snapshot.text("/x");
        assert!(snapshot.not_seen()[0].text().contains(words), "{:?}", snapshot.not_seen());
    }
}

#[test]
fn a_bundle_answers_what_was_asked_and_knows_what_was_not() {
    let host = TextHost::new()
        .file("/etc/front.conf", "requirepass gull-42\nbytes \u{e9}\n")
        .process(50, "/opt/relay --token gull-42", 0, "")
        .unit("edge.service", "active", |_| {});
    let recorder = Recorder::new(&host);
    {
        let snapshot = Snapshot::new(&recorder);
        let _ = (
            snapshot.text("/etc/front.conf"),
            snapshot.process(50),
            snapshot.exists("/none"),
            snapshot.unit("edge.service"),
            snapshot.clock(),
        );
    }
    let text =
        serde_json::to_string(&recorder.into_bundle(BTreeMap::new(), &ServicesFile::default())).unwrap();
    assert!(!text.contains("gull-42"), "secrets stay behind");
    let replayer = Replayer::from_json(text.as_bytes()).unwrap();
    let snapshot = Snapshot::new(&replayer);
    assert_eq!(
        snapshot.text("/etc/front.conf").seen().as_deref(),
        Some("requirepass MASKED\nbytes \u{e9}\n")
    );
    assert_eq!(snapshot.process(50).seen().unwrap().brief.pid, 50);
    assert_eq!(snapshot.exists("/none"), Some(false));
    assert_eq!(snapshot.stat("/etc/passwd"), Look::NotSeen(Unseen::NotRecorded));
    assert_eq!(replayer.parts(), host.parts());
}

#[test]
fn what_is_no_bundle_is_refused_with_a_sentence() {
    let whole: Bundle =
        Recorder::new(&TextHost::new()).into_bundle(BTreeMap::new(), &ServicesFile::default());
    let other = Bundle { schema: "jolly-sentinel/bundle/99".into(), ..whole };
    let newer = serde_json::to_vec(&other).unwrap();
    for (bytes, words) in [
        (b"".as_slice(), "not a bundle"),
        (b"[]", "not a bundle"),
        (b"{\"schema\": 1}", "not a bundle"),
        (newer.as_slice(), "bundle/99"),
    ] {
        let told = Replayer::from_json(bytes).map(drop).unwrap_err();
        assert!(told.contains(words), "{told}");
    }
}

#[test]
fn bytes_that_are_no_text_survive_a_bundle() {
    let host = TextHost::new().bytes("/x", &[0xff, 0, 0x7f, 0xc3]);
    let recorder = Recorder::new(&host);
    let _ = Snapshot::new(&recorder).read("/x");
    let text = serde_json::to_vec(&recorder.into_bundle(BTreeMap::new(), &ServicesFile::default())).unwrap();
    let replayer = Replayer::from_json(&text).unwrap();
    assert_eq!(Snapshot::new(&replayer).read("/x").seen().unwrap().as_ref(), [0xff, 0, 0x7f, 0xc3]);
}

#[test]
fn links_are_resolved_as_far_as_they_exist_and_circles_end() {
    let host = TextHost::new()
        .link("/a", "b")
        .link("/b", "/srv/c")
        .link("/srv/c", "../etc/hosts")
        .link("/round", "round");
    let snapshot = Snapshot::new(&host);
    assert_eq!(snapshot.resolve_links("/a"), "/etc/hosts");
    assert_eq!(snapshot.resolve_links("/etc/none"), "/etc/none");
    assert_eq!(snapshot.resolve_links("/round"), "/round");
}
