//! `attempts` on logs of a tree: what was started when, how it ended, and on which line it says so.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test fails by panicking")]

mod common;

use common::Tree;
use serde_json::Value;

const GOOD: &str = "[Wed Apr 02 06:00:00.000100 2031] [mpm_event:notice] [pid 7:tid 8] AH00489: configured \
    -- resuming normal operations\n";
const STOP: &str = "[Wed Apr 02 08:00:00.000100 2031] [mpm_event:notice] [pid 7:tid 8] AH00491: caught \
    SIGTERM, shutting down\n";

fn tree(log: &str) -> Tree {
    let tree = Tree::new().with_httpd();
    tree.write("var/log/apache2/error.log", log);
    tree
}

fn attempts(tree: &Tree, more: &[&str]) -> Vec<Value> {
    let mut arguments = vec!["attempts", "apache2", "--format", "json"];
    arguments.extend(more);
    let answer = tree.run(&arguments);
    assert_eq!(answer.status, 0, "{}{}", answer.out, answer.err);
    answer.json()["attempts"].as_array().unwrap().clone()
}

#[test]
fn runs_are_told_newest_first_with_their_lines() {
    let later = GOOD.replace("06:00:00", "09:00:00").replace("pid 7", "pid 9");
    let tree = tree(&format!("{GOOD}some line in between\n{STOP}{later}"));
    let all = attempts(&tree, &[]);
    assert_eq!(all.len(), 2);
    assert_eq!(
        (all[0]["began"].as_str(), all[0]["outcome"].as_str()),
        (Some("2031-04-02T09:00:00.000Z"), Some("ready"))
    );
    assert_eq!(
        (all[1]["ended"].as_str(), all[1]["afterwards"].as_str()),
        (Some("2031-04-02T08:00:00.000Z"), Some("stopped"))
    );
    assert_eq!(
        (all[0]["logs"][0]["first_line"].as_u64(), all[1]["logs"][0]["first_line"].as_u64()),
        (Some(4), Some(1))
    );
    assert_eq!(all[0]["logs"][0]["file"], "/var/log/apache2/error.log");
    assert_eq!(attempts(&tree, &["--last", "1"]).len(), 1);
    assert_eq!(attempts(&tree, &["--failed"]).len(), 0);
    assert_eq!(attempts(&tree, &["--since", "2031-04-02T08:30:00Z"]).len(), 1);
}

#[test]
fn stamps_are_in_the_zone_of_the_host_and_printed_in_the_one_that_was_asked_for() {
    let tree = tree(GOOD);
    // A zone file of an hour east, made by hand: version 2 with a rule in its last line.
    let mut zone = b"TZif2".to_vec();
    zone.extend([0; 15]);
    zone.extend([0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 1, 0, 0, 0, 4]);
    zone.extend([0, 0, 0x0e, 0x10, 0, 0]);
    zone.extend(b"TID\0");
    let head: Vec<u8> = zone[..44].to_vec();
    zone.extend(head);
    zone.extend([0, 0, 0x0e, 0x10, 0, 0]);
    zone.extend(b"TID\0\nTID-1\n");
    std::fs::write(tree.path().join("etc/localtime"), zone).unwrap();
    let all = attempts(&tree, &[]);
    assert_eq!(all[0]["began"], "2031-04-02T06:00:00.000+01:00", "the same clock face, another moment");
}

#[test]
fn a_reload_is_no_start_and_a_client_cannot_make_one_up() {
    let reload = "[Wed Apr 02 07:00:00.000100 2031] [mpm_event:notice] [pid 7:tid 8] AH00493: SIGUSR1 \
        received.  Doing graceful restart\n";
    let client = "[Wed Apr 02 07:30:00.000100 2031] [core:error] [pid 7:tid 8] [client 192.0.2.9:4711] File \
        does not exist: /srv/AH00491 caught SIGTERM\n";
    let again = GOOD.replace("06:00:00", "07:00:01");
    let all = attempts(&tree(&format!("{GOOD}{reload}{again}{client}")), &[]);
    assert_eq!(all.len(), 1, "{all:?}");
}

#[test]
fn a_damaged_log_is_read_as_far_as_it_goes() {
    let mut bytes = b"\xff\xfe\0\0 no line end in sight ".to_vec();
    bytes.extend(vec![b'x'; 300_000]);
    bytes.extend(b"\r\n");
    bytes.extend(GOOD.replace('\n', "\r\n").as_bytes());
    bytes.extend(b"\x1b[31m[Wed Apr 02 06:30:00 2031] cut");
    let tree = tree("");
    std::fs::write(tree.path().join("var/log/apache2/error.log"), bytes).unwrap();
    let all = attempts(&tree, &[]);
    assert_eq!((all.len(), all[0]["outcome"].as_str()), (1, Some("ready")));
    let text = tree.run(&["attempts", "apache2"]).out;
    assert!(!text.contains('\u{1b}'));
}

#[test]
fn an_empty_a_missing_and_a_closed_log_are_told_apart() {
    let empty = tree("").run(&["attempts", "apache2", "--format", "json"]);
    assert_eq!((empty.status, empty.json()["attempts"].as_array().unwrap().len()), (0, 0));
    let none = Tree::new().with_httpd().run(&["attempts", "apache2"]);
    assert!(
        none.status == 3
            && none.out.contains("cannot be seen from here")
            && none.out.contains("error.log does not exist"),
        "{}",
        none.out
    );
    let folder = Tree::new().with_httpd();
    std::fs::create_dir_all(folder.path().join("var/log/apache2/error.log")).unwrap();
    let answer = folder.run(&["attempts", "apache2", "--format", "json"]);
    assert!(answer.status == 0 || answer.status == 3, "{}", answer.err);
    answer.json();
}

#[test]
fn the_figure_tells_the_same_as_the_table() {
    let tree = tree(&format!("{GOOD}{STOP}{}", GOOD.replace("06:00:00", "09:00:00")));
    let page = tree.run(&["attempts", "apache2", "--format", "html"]).out;
    assert!(page.contains("<svg") && page.contains("</svg>") && page.contains("<table"));
    let markdown = tree.run(&["attempts", "apache2", "--format", "markdown"]).out;
    assert!(markdown.contains("| began"), "{markdown}");
    assert!(
        markdown.lines().filter(|l| l.starts_with("|") && l.contains("ready")).count() >= 2,
        "{markdown}"
    );
}
