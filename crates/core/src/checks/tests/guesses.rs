//! Programs that nobody knows: what their options name counts beside their log.
use super::*;

const STARTING: &str = "7d4958e842da4a758f6c1cdc7b36dcc5";
const FAILED: &str = "be02cf6855d2428ba40df7e9d022f03d";

/// `tide-relay`, which failed with these words, while something holds port 7400.
fn relay(options: &str, words: &str) -> TextHost {
    let unit = format!("[Service]\nUser=tide\nExecStart=/opt/tide/relay {options}\n");
    TextHost::new()
        .file("/etc/passwd", "root:x:0:0::/root:/bin/sh\ntide:x:4071:4071::/srv:/bin/false\n")
        .file("/etc/systemd/system/tide-relay.service", &unit)
        .program("/opt/tide/relay")
        .process(812, "/opt/gauge-sim --port 7400", 1000, "")
        .listens("0.0.0.0", 7400, &[812])
        .unit("tide-relay.service", "failed", |_| {})
        .journal(&[(1000, STARTING, "Starting"), (1100, "", words), (1300, FAILED, "Failed to start")])
}

fn causes(host: &TextHost) -> Vec<(Code, Certainty, Vec<String>)> {
    let found = diagnose(host, "tide-relay", "").causes;
    found.into_iter().map(|c| (c.code, c.certainty, c.fixes)).collect()
}

#[test]
fn a_log_that_tells_of_a_listener_and_an_option_that_names_it_agree() {
    for words in
        ["listen tcp :7400: bind: address already in use", "OSError: [Errno 98] Address already in use"]
    {
        let found = causes(&relay("--port 7400", words));
        assert_eq!(found[0].0, Code::PortTaken, "{words}: {found:?}");
        assert_eq!(found[0].1, Certainty::Likely, "{words}: {found:?}");
        assert_eq!(found[0].2, ["stop-holder"], "{words}");
    }
}

#[test]
fn an_option_alone_has_nobody_stopped() {
    let found = causes(&relay("--port 7400", "the tide table cannot be read"));
    assert!(
        found.iter().all(|c| c.1 != Certainty::Certain && !c.2.contains(&"stop-holder".into())),
        "{found:?}"
    );
    let other = causes(&relay("--port 7400", "listen tcp :7411: bind: address already in use"));
    assert!(other.iter().all(|c| !c.2.contains(&"stop-holder".into())), "{other:?}");
}

#[test]
fn a_port_of_roots_is_what_was_not_permitted() {
    let found = causes(&relay("--listen 0.0.0.0:81", "PermissionError: [Errno 13] Permission denied"));
    assert_eq!((found[0].0, found[0].1), (Code::PortPrivileged, Certainty::Likely), "{found:?}");
}

#[test]
fn a_port_that_the_account_itself_chose_has_nobody_stopped_and_nothing_granted() {
    for (port, words) in [
        ("7400", "OSError: [Errno 98] Address already in use"),
        ("81", "PermissionError: [Errno 13] Permission denied"),
    ] {
        let unit = "[Service]\nUser=tide\nEnvironmentFile=/srv/tide/env\nExecStart=/opt/tide/relay\n";
        let host = relay("", words)
            .file("/etc/systemd/system/tide-relay.service", unit)
            .dir("/srv/tide", 0o755, 4071)
            .file("/srv/tide/env", &format!("PORT={port}\n"))
            .owned("/srv/tide/env", 0o644, 4071);
        let found = causes(&host);
        assert!(!found.is_empty() && found.iter().all(|c| c.2.is_empty()), "{found:?}");
    }
}

const IN_USE: &str = "OSError: [Errno 98] Address already in use";

#[test]
fn a_port_in_the_configuration_that_an_argument_names_counts_beside_the_log() {
    let text = "[relay]\nport = 7400\n[database]\nport = 5432\n";
    let found = causes(&relay("--config /etc/tide/relay.ini", IN_USE).file("/etc/tide/relay.ini", text));
    assert_eq!((found[0].0, found[0].1), (Code::PortTaken, Certainty::Likely), "{found:?}");
    assert_eq!(found[0].2, ["stop-holder"]);
    // What the service's account can write names nobody who is to be stopped.
    let own = relay("--config /srv/tide/relay.ini", IN_USE)
        .dir("/srv/tide", 0o755, 4071)
        .file("/srv/tide/relay.ini", text)
        .owned("/srv/tide/relay.ini", 0o644, 4071);
    assert!(causes(&own).iter().all(|c| c.2.is_empty()), "{:?}", causes(&own));
}

#[test]
fn of_two_ports_that_are_held_the_log_must_name_one() {
    let held = |words: &str| {
        relay("--config /etc/tide/relay.ini", words)
            .file("/etc/tide/relay.ini", "[relay]\nport = 7400\n[gauge]\nport = 7401\n")
            .process(813, "/opt/other-sim", 1000, "")
            .listens("0.0.0.0", 7401, &[813])
    };
    let open = causes(&held(IN_USE));
    assert!(open.iter().all(|c| !c.2.contains(&"stop-holder".into())), "{open:?}");
    let named = causes(&held("listen tcp :7401: bind: address already in use"));
    assert_eq!(named[0].2, ["stop-holder"], "{named:?}");
}

#[test]
fn where_it_listened_when_it_last_ran_is_a_hint_and_no_more() {
    const STARTED: &str = "39f53479d3a045ac8e11786248231fbf";
    const STOPPED: &str = "9d1aaa27d60140bd96365438aad20286";
    let entries = |last: &'static str| {
        [
            (1000, STARTING, "Starting"),
            (1100, "", "relay: listening on port 7400"),
            (1200, STARTED, "Started"),
            (1900, STOPPED, "Stopped"),
            (20_000, STARTING, "Starting"),
            (20_100, "", last),
            (20_300, FAILED, "Failed to start"),
        ]
    };
    let found = causes(&relay("", IN_USE).journal(&entries(IN_USE)));
    assert_eq!((found[0].0, found[0].1), (Code::PortTaken, Certainty::Possible), "{found:?}");
    assert!(found[0].2.is_empty(), "{found:?}");
    let other = causes(&relay("", "").journal(&entries("the tide table cannot be read")));
    assert!(other.iter().all(|c| c.0 != Code::PortTaken), "{other:?}");
}
