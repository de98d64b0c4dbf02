//! Files of the wrong account, refusals that the log tells of, limits that a daemon complains of, addresses
//! that nobody reaches.
use super::diagnose;
use crate::code::Code;
use crate::rank::Certainty;
use crate::report::{Outlook, ServiceEntry};
use crate::tests::TextHost;
use crate::{case::State, tests::NOW};

const STARTING: &str = "7d4958e842da4a758f6c1cdc7b36dcc5";
const FAILED: &str = "be02cf6855d2428ba40df7e9d022f03d";
const TIDE: u32 = 71;

/// `sailings`, a database server of the account `tide`, with its data.
fn sailings(settings: &str, options: &str) -> TextHost {
    let data = "/var/lib/sailings";
    let mut host = TextHost::new()
        .file(
            "/etc/systemd/system/sailings.service",
            &format!(
                "[Service]\nUser=tide\nExecStart=/usr/sbin/mariadbd --defaults-file=/etc/sailings.cnf\n\
                    {settings}\n[Install]\nWantedBy=multi-user.target\n"
            ),
        )
        .link("/etc/systemd/system/multi-user.target.wants/sailings.service", "../sailings.service")
        .program("/usr/sbin/mariadbd")
        .file(
            "/etc/sailings.cnf",
            &format!(
                "[mysqld]\ndatadir = {data}\nsocket = /run/sailings/s.sock\n\
            {options}"
            ),
        )
        .dir("/run/sailings", 0o755, TIDE)
        .dir(data, 0o750, TIDE)
        .dir("/var/lib/sailings/mysql", 0o750, TIDE);
    for file in ["ib_buffer_pool", "mysql/db.MAI"] {
        host = host.owned(&format!("{data}/{file}"), 0o660, TIDE);
    }
    host
}

/// A start that failed a moment ago with these words.
fn refused(host: TextHost, words: &str) -> ServiceEntry {
    let entries = [(1000, STARTING, "Starting"), (1200, "", words), (1400, FAILED, "Failed to start")];
    diagnose(&host.unit("sailings.service", "failed", |_| {}).journal(&entries), "sailings", "")
}

fn running(host: TextHost, address: &str) -> ServiceEntry {
    let host = host.unit("sailings.service", "active", |u| u.main_pid = 50).process(
        50,
        "/usr/sbin/mariadbd --defaults-file=/etc/sailings.cnf",
        TIDE,
        "/system.slice/sailings.service",
    );
    diagnose(&host.listens(address, 3306, &[50]), "sailings", "")
}

#[test]
fn a_refused_path_that_no_line_of_the_configuration_names_is_compared_with_the_host() {
    let words = "2031-04-02  6:10:11 0 [ERROR] Fatal error: Can't open and lock privilege tables: Table \
        './mysql/db.MAI' is read only";
    let file = "/var/lib/sailings/mysql/db.MAI";
    let entry = refused(sailings("", "").owned(file, 0o600, 0), words);
    let cause = &entry.causes[0];
    assert_eq!(
        (cause.code, cause.certainty, cause.subject.path.as_deref()),
        (Code::WrongOwner, Certainty::Certain, Some(file)),
        "{}",
        cause.title
    );
    assert_eq!(
        (cause.fixes.as_slice(), cause.evidence.len()),
        (&["give-back".to_owned()][..], 2),
        "the file and the line are its witnesses"
    );
    // Its own file that it may not write is a matter of the mode.
    let closed = refused(sailings("", "").owned(file, 0o400, TIDE), words);
    assert_eq!(
        (closed.causes[0].code, closed.causes[0].fixes.as_slice()),
        (Code::PermissionDenied, &["grant-access".to_owned()][..])
    );
    // Nothing refuses any more: the line alone is no proof.
    let mended = refused(sailings("", ""), words);
    assert_ne!(mended.causes[0].certainty, Certainty::Certain);
}

#[test]
fn what_a_start_under_another_account_left_behind_is_a_note_while_it_is_no_hindrance() {
    let clean = running(sailings("", ""), "127.0.0.1");
    assert!(clean.notes.iter().all(|n| n.code != Code::WrongOwner), "{:?}", clean.notes);
    let left = running(
        sailings("", "").owned("/var/lib/sailings/ib_buffer_pool", 0o644, 0).owned(
            "/var/lib/sailings/debian.flag",
            0o644,
            0,
        ),
        "127.0.0.1",
    );
    let note = left.notes.iter().find(|n| n.code == Code::WrongOwner).expect("it is told");
    assert_eq!(
        note.subject.path.as_deref(),
        Some("/var/lib/sailings/ib_buffer_pool"),
        "files of the packager's are not the server's own"
    );
    assert!(note.title.contains("root") && left.causes.is_empty(), "{}", note.title);
}

#[test]
fn an_address_that_nobody_has_is_a_cause_while_it_runs_and_no_hindrance_to_a_start() {
    let options = "bind-address = 192.0.2.44\n";
    let entry = running(sailings("", options), "192.0.2.44");
    assert_eq!(
        (entry.causes[0].code, entry.state, entry.restart_outlook),
        (Code::AddressNotHere, State::Degraded, Outlook::WouldStart)
    );
    assert_eq!(entry.causes[0].certainty, Certainty::Certain);
    let pair =
        running(sailings("", options).file("/proc/sys/net/ipv4/ip_nonlocal_bind", "1\n"), "192.0.2.44");
    assert!(pair.causes.is_empty(), "the address is another host's just now: {:?}", pair.causes);
    assert!(running(sailings("", options), "0.0.0.0").causes.is_empty(), "a wildcard is reached");
    for own in ["127.0.0.1", "0.0.0.0"] {
        let entry = running(sailings("", &format!("bind-address = {own}\n")), own);
        assert!(entry.causes.is_empty(), "{own}: {:?}", entry.causes);
    }
}

#[test]
fn a_complaint_about_a_limit_is_certain_while_the_unit_still_sets_it() {
    let words = "/usr/sbin/mariadbd: error while loading shared libraries: libtide.so.1: failed to map \
        segment from shared object";
    let limited = refused(sailings("LimitDATA=40M", ""), words);
    let cause = &limited.causes[0];
    assert_eq!(
        (cause.code, cause.certainty, cause.subject.directive.as_deref()),
        (Code::MemoryShort, Certainty::Certain, Some("LimitDATA"))
    );
    assert_eq!(cause.fixes, ["raise-limit"]);
    let unlimited = refused(sailings("", ""), words);
    assert_eq!(
        (unlimited.causes[0].code, unlimited.causes[0].certainty),
        (Code::MemoryShort, Certainty::Likely)
    );
    let changed =
        refused(sailings("LimitDATA=40M", "").modified("/etc/systemd/system/sailings.service", NOW), words);
    assert_eq!(
        changed.causes[0].certainty,
        Certainty::Likely,
        "somebody changed the unit since: {:?}",
        changed.causes
    );
}

#[test]
fn the_worst_line_that_no_rule_knows_is_shown() {
    let first = |words: &str| refused(sailings("", ""), words).causes[0].clone();
    let shown = first(
        "2031-04-02  6:10:11 0 [Warning] the gauge failed to answer\n\
            2031-04-02  6:10:11 0 [ERROR] the tide table is upside down",
    );
    assert!(
        shown.code == Code::Unknown && shown.title.contains("upside down"),
        "a level counts more than words: {}",
        shown.title
    );
}
