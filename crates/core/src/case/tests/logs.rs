//! What is told of a log before it is searched in vain.
use crate::case::{log_files, log_remarks, starter};
use crate::snapshot::Snapshot;
use crate::tests::{EDGE_CONFIG, EDGE_UNIT, TextHost, described, edge_host};

const LOG: &str = "/var/log/nginx/error.log";
const LINE: &str = "2031/04/02 06:10:11 [notice] 7#7: start worker processes\n";

/// Sentences about the logs of `edge`.
fn remarks(host: &TextHost, toml: &str) -> Vec<String> {
    let snapshot = Snapshot::new(host);
    let service = described(host, "edge", toml);
    let config = service.kind.read(&snapshot, &service.instance);
    log_remarks(&snapshot, &service, &config, &starter(&snapshot, &service))
        .into_iter()
        .map(|r| r.text)
        .collect()
}

#[track_caller]
fn holds(host: &TextHost, expected: &[&str]) {
    let found = remarks(host, "");
    assert_eq!(found.len(), expected.len(), "{found:?}");
    for (text, words) in found.iter().zip(expected) {
        assert!(text.contains(words), "{text:?} should hold {words:?}");
    }
}

#[test]
fn a_log_that_is_in_order_is_not_spoken_of() {
    holds(&edge_host(EDGE_CONFIG).file(LOG, &LINE.repeat(5)), &[]);
}

#[test]
fn a_log_that_is_missing_empty_or_closed_is() {
    holds(&edge_host(EDGE_CONFIG), &["does not exist"]);
    holds(&edge_host(EDGE_CONFIG).file(LOG, ""), &["error.log is empty"]);
    holds(
        &edge_host(EDGE_CONFIG).file(LOG, "").file("/var/log/nginx/error.log.1", LINE),
        &["stands in /var/log/nginx/error.log.1"],
    );
    let as_tide = EDGE_UNIT.replace("[Service]", "[Service]\nUser=tide");
    let closed = edge_host(EDGE_CONFIG).file("/etc/systemd/system/edge.service", &as_tide).file(LOG, LINE);
    holds(
        &closed,
        &["tide may not write to /var/log/nginx/error.log: /var/log/nginx/error.log belongs to root"],
    );
}

#[test]
fn a_log_in_another_place_is_told_apart_from_the_one_in_the_usual_place() {
    let moved = EDGE_CONFIG.replace(LOG, "/srv/edge/error.log");
    let host = edge_host(&moved)
        .dir("/srv/edge", 0o755, 0)
        .file("/srv/edge/error.log", LINE)
        .modified("/srv/edge/error.log", 900);
    holds(
        &host.clone().file(LOG, LINE).modified(LOG, 100),
        &["error.log lies in the usual place and is not the log of edge: that is /srv/edge/error.log"],
    );
    holds(&host.file(LOG, LINE).modified(LOG, 1000), &[]);
}

#[test]
fn a_log_of_another_daemon_is_recognised() {
    let httpd =
        "[Wed Apr 02 06:10:11.000000 2031] [core:notice] [pid 7:tid 7] AH00094: Command line: 'httpd'\n";
    holds(&edge_host(EDGE_CONFIG).file(LOG, &httpd.repeat(4)), &["looks like a log of httpd"]);
    holds(&edge_host(EDGE_CONFIG).file(LOG, &(httpd.repeat(4) + LINE)), &[]);
    holds(&edge_host(EDGE_CONFIG).file(LOG, &"words without a head\n".repeat(4)), &[]);
}

#[test]
fn what_goes_to_no_file_is_followed_as_far_as_it_can_be() {
    let to = |target: &str| edge_host(&EDGE_CONFIG.replace(LOG, target));
    holds(
        &to("stderr"),
        &["the standard error, which the manager keeps in the journal (/etc/nginx/nginx.conf:1"],
    );
    let syslog = to("syslog:server=unix:/dev/log");
    holds(&syslog, &["the log is sent to the syslog receiver (/etc/nginx/nginx.conf:1"]);
    let files = |host: &TextHost| {
        let snapshot = Snapshot::new(host);
        let service = described(host, "edge", "");
        log_files(&snapshot, &service, &service.kind.read(&snapshot, &service.instance))
    };
    assert!(files(&syslog).is_empty());
    let kept =
        syslog.file("/var/log/syslog", "Apr  2 06:10:11 quay1 nginx: x\n").file("/var/log/messages", "");
    assert_eq!(files(&kept), ["/var/log/syslog"], "an empty one holds nothing");
}

#[test]
fn earlier_logs_count_and_those_of_others_do_not() {
    let line = |day: u32| format!("2031/03/{day:02} 06:10:11 [notice] 7#7: start worker processes\n");
    let at = |day: u32| {
        let text = format!("2031-03-{day:02}T06:10:11Z");
        text.parse::<jiff::Timestamp>().unwrap().as_second()
    };
    let host = edge_host(EDGE_CONFIG)
        .file(LOG, &line(20))
        .modified(LOG, at(20))
        // Where it was before.
        .file("/var/log/nginx/old-error.log", &line(10))
        .modified("/var/log/nginx/old-error.log", at(10))
        .file("/var/log/nginx/old-error.log.1", &line(9))
        .modified("/var/log/nginx/old-error.log.1", at(9))
        // Another instance writes at the same time; these are not its own lines, or not lines of a daemon.
        .file("/var/log/nginx/second-error.log", &line(21))
        .modified("/var/log/nginx/second-error.log", at(21))
        .file("/var/log/nginx/tide-error.log", "the tide is out\n")
        .modified("/var/log/nginx/tide-error.log", at(5))
        .file("/var/log/nginx/access.log", &line(8))
        .modified("/var/log/nginx/access.log", at(8));
    let snapshot = Snapshot::new(&host);
    let service = described(&host, "edge", "");
    let config = service.kind.read(&snapshot, &service.instance);
    let found = crate::case::logs(&snapshot, &service, &config, true);
    assert_eq!(
        (found.files.as_slice(), found.mains),
        (&[LOG.to_owned(), "/var/log/nginx/old-error.log".into()][..], 2)
    );
    assert_eq!(log_files(&snapshot, &service, &config), [LOG]);
    assert!(snapshot.not_seen().is_empty());
}

#[test]
fn the_usual_places_are_not_those_of_another_installation() {
    let moved = EDGE_CONFIG.replace(LOG, "/srv/edge/error.log");
    let host = edge_host(&moved)
        .dir("/srv/edge", 0o755, 0)
        .file("/srv/edge/error.log", LINE)
        .file(LOG, &LINE.repeat(3))
        .modified(LOG, 100);
    let logs = |toml: &str| {
        let snapshot = Snapshot::new(&host);
        let service = described(&host, "edge", toml);
        let config = service.kind.read(&snapshot, &service.instance);
        crate::case::logs(&snapshot, &service, &config, true).files
    };
    // The distribution's own installation, by its configuration.
    assert_eq!(logs(""), ["/srv/edge/error.log", LOG]);
    let host = host.clone().file("/srv/edge/edge.conf", &moved);
    let snapshot = Snapshot::new(&host);
    let toml = "[service.own]\nkind = \"nginx\"\nconfig = \"/srv/edge/edge.conf\"\n";
    let service = described(&host, "own", toml);
    let config = service.kind.read(&snapshot, &service.instance);
    assert_eq!(crate::case::logs(&snapshot, &service, &config, true).files, ["/srv/edge/error.log"]);
}

#[test]
fn a_log_that_an_account_names_is_one_that_it_could_open() {
    let unit = "[Service]\nUser=tide\nExecStart=/opt/relay --config /etc/relay.conf\n";
    let named_by = |namer: u32, mode: u32, uid: u32| {
        let host = TextHost::new()
            .file("/etc/passwd", "root:x:0:0::/root:/bin/sh\ntide:x:71:71::/:/bin/sh\n")
            .file("/etc/systemd/system/relay.service", unit)
            .program("/opt/relay")
            .owned("/etc/relay.conf", 0o644, namer)
            .text("/etc/relay.conf", "logfile = /root/private.log\n")
            .owned("/root/private.log", mode, uid)
            .text("/root/private.log", "2031-04-02 06:10:11 a word of root's\n");
        let snapshot = Snapshot::new(&host);
        let services = crate::services_file::parse("").unwrap();
        let service = crate::service::named(&snapshot, &services, "relay").unwrap();
        let found = log_files(&snapshot, &service, &service.configuration(&snapshot));
        (found, snapshot.not_seen().len())
    };
    let read = (vec!["/root/private.log".to_owned()], 0);
    assert_eq!(named_by(71, 0o600, 71), read);
    assert_eq!(named_by(71, 0o644, 0), read);
    assert_eq!(named_by(71, 0o600, 0), (vec![], 1), "it is left out, and that is told");
    assert_eq!(named_by(4999, 0o600, 4999), read, "an account that no file lists");
    assert_eq!(named_by(0, 0o600, 0), read, "root says that it is its log");
}
