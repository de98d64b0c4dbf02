//! Whether an account may use a path: the way to it, the mount, the file system's own marks, powers.
use super::TextHost;
use crate::access::{Obstacle, Refusal, Right, may, mount_of};
use crate::accounts::{Account, Powers, root};
use crate::host::Look;
use crate::snapshot::Snapshot;

fn tide() -> Account {
    Account { name: "tide".into(), uid: 71, gid: 71, groups: vec![71], powers: Powers::default() }
}

#[track_caller]
fn obstacle(host: &TextHost, who: &Account, path: &str, right: Right) -> Option<(String, Right, Refusal)> {
    match may(&Snapshot::new(host), who, path, right) {
        Look::Seen(found) => found.map(|o: Obstacle| (o.path, o.right, o.by)),
        other => panic!("{path}: {other:?}"),
    }
}

#[test]
fn the_first_closed_step_on_the_way_is_named() {
    let host = TextHost::new()
        .dir("/srv/quay", 0o700, 0)
        .dir("/srv/quay/logs", 0o777, 0)
        .file("/srv/quay/logs/tide.log", "x");
    let closed = Some(("/srv/quay".to_owned(), Right::Execute, Refusal::Mode));
    assert_eq!(obstacle(&host, &tide(), "/srv/quay/logs/tide.log", Right::Read), closed);
    assert_eq!(obstacle(&host, &root(), "/srv/quay/logs/tide.log", Right::Write), None);
    let open = TextHost::new().dir("/srv/quay", 0o755, 0).owned("/srv/quay/tide.log", 0o640, 0);
    assert_eq!(
        obstacle(&open, &tide(), "/srv/quay/tide.log", Right::Read),
        Some(("/srv/quay/tide.log".into(), Right::Read, Refusal::Mode))
    );
}

#[test]
fn links_are_judged_where_they_lead() {
    let host = TextHost::new()
        .dir("/srv/quay", 0o700, 0)
        .file("/srv/quay/tide.log", "x")
        .link("/var/log/tide.log", "/srv/quay/tide.log");
    assert_eq!(
        obstacle(&host, &tide(), "/var/log/tide.log", Right::Read).map(|o| o.0).as_deref(),
        Some("/srv/quay")
    );
    assert!(matches!(may(&Snapshot::new(&host), &tide(), "/var/log/none.log", Right::Read), Look::Absent));
}

#[test]
fn writing_into_a_directory_needs_entering_it() {
    let host = TextHost::new().dir("/srv/half", 0o702, 0);
    assert_eq!(obstacle(&host, &tide(), "/srv/half", Right::Write).map(|o| o.1), Some(Right::Execute));
    let whole = TextHost::new().dir("/srv/whole", 0o703, 0);
    assert_eq!(obstacle(&whole, &tide(), "/srv/whole", Right::Write), None);
}

#[test]
fn what_the_file_system_holds_is_held_against_root_too() {
    let host = TextHost::new().file("/srv/tide.log", "x").immutable("/srv/tide.log");
    assert_eq!(
        obstacle(&host, &root(), "/srv/tide.log", Right::Write).map(|o| o.2),
        Some(Refusal::Immutable)
    );
    assert_eq!(obstacle(&host, &root(), "/srv/tide.log", Right::Read), None);
}

#[test]
fn the_deepest_mount_decides_and_of_several_in_one_place_the_last() {
    let host = TextHost::new()
        .program("/opt/quay/bin/tide")
        .mount("/", false, false)
        .mount("/opt", false, true)
        .mount("/opt/quay", true, false)
        .mount("/opt/quay", false, true);
    let snapshot = Snapshot::new(&host);
    let seen = |path: &str| mount_of(&snapshot, path).map(|m| (m.path, m.read_only, m.no_exec));
    assert_eq!(seen("/opt/quay/bin/tide"), Some(("/opt/quay".into(), false, true)));
    assert_eq!(seen("/opt/other"), Some(("/opt".into(), false, true)));
    assert_eq!(
        seen("/optional"),
        Some(("/".into(), false, false)),
        "a name that only begins alike lies elsewhere"
    );
    assert_eq!(
        obstacle(&host, &root(), "/opt/quay/bin/tide", Right::Execute).map(|o| o.2),
        Some(Refusal::NoExec)
    );
    assert!(mount_of(&Snapshot::new(&TextHost::new()), "/").is_none(), "no mount table was seen");
}

#[test]
fn root_is_what_its_capabilities_make_of_it() {
    let host = TextHost::new().dir("/srv/tide", 0o700, 71).owned("/srv/tide/data", 0o600, 71);
    let bare = Account { powers: Powers::default(), ..root() };
    let reader = Account { powers: Powers { overrides: false, reads_all: true }, ..root() };
    assert_eq!(
        obstacle(&host, &bare, "/srv/tide/data", Right::Read).map(|o| o.0).as_deref(),
        Some("/srv/tide")
    );
    assert_eq!(obstacle(&host, &reader, "/srv/tide/data", Right::Read), None);
    assert_eq!(obstacle(&host, &reader, "/srv/tide/data", Right::Write).map(|o| o.1), Some(Right::Write));
}
