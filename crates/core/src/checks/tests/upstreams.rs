//! Fronts that run, and what they pass on to.
use super::*;
use crate::code::Code;

/// `edge`, which runs and passes on like this.
fn front(http: &str) -> TextHost {
    let config = CONFIG.replace(".example;", &format!(".example;\n        {http}"));
    edge_host(&config)
        .file(
            "/etc/hosts",
            "127.0.0.1 localhost\n127.0.1.1 relay.quay.example relay # this host\n\
            192.0.2.77 far.quay.example\n",
        )
        .process(500, "/usr/sbin/nginx -c /etc/nginx/nginx.conf", 0, "/system.slice/edge.service")
        .listens("0.0.0.0", 8088, &[500])
        .unit("edge.service", "active", |u| u.main_pid = 500)
}

fn entry(host: &TextHost) -> ServiceEntry {
    diagnose(host, "edge", "")
}

/// The same beside `tide-relay`, which is to listen on 7400 and on a socket, and failed.
fn beside_a_relay(http: &str) -> TextHost {
    let options = "--port 7400 --socket /run/tide/pool.sock";
    front(http)
        .file(
            "/etc/systemd/system/tide-relay.service",
            &format!(
                "[Service]\nExecStart=/opt/tide/relay {options}\n[Install]\nWantedBy=multi-user.target\n"
            ),
        )
        .link("/etc/systemd/system/multi-user.target.wants/tide-relay.service", "../tide-relay.service")
        .unit("tide-relay.service", "failed", |_| {})
}

#[test]
fn a_service_behind_it_that_does_not_run_makes_a_front_degraded() {
    for pass in [
        "location / { proxy_pass http://127.0.0.1:7400; }",
        "location / { proxy_pass http://localhost:7400/x; }",
        "location / { proxy_pass http://Relay.quay.example:7400; }",
        "location / { fastcgi_pass unix:/run/tide/pool.sock; }",
        "location / { proxy_pass http://tide; } } upstream tide { server 127.0.0.1:7400; server \
            127.0.0.1:7401 \
            backup;",
    ] {
        let found = entry(&beside_a_relay(pass));
        assert_eq!(found.state, State::Degraded, "{pass}");
        first(&found, Code::DependencyDown);
        assert_eq!(found.causes[0].subject.unit.as_deref(), Some("tide-relay.service"), "{pass}");
        assert_eq!(
            found.restart_outlook,
            crate::report::Outlook::WouldStart,
            "{pass}: it would start all the same"
        );
    }
    let alive = beside_a_relay("location / { proxy_pass http://127.0.0.1:7400; }")
        .process(700, "/opt/tide/relay", 4071, "/system.slice/other.service")
        .listens("127.0.0.1", 7400, &[700]);
    assert_eq!(entry(&alive).state, State::Running);
    let nobodys = front("location / { proxy_pass http://127.0.0.1:7400; }");
    assert_eq!(entry(&nobodys).state, State::Running, "it may point nowhere on purpose");
}

#[test]
fn what_is_elsewhere_unused_or_one_of_several_is_not_judged() {
    for pass in [
        "location / { proxy_pass http://192.0.2.77:7400; }",
        "location / { proxy_pass http://far.quay.example:7400; }",
        "location / { proxy_pass http://$host:7400; }",
        "} upstream tide { server 127.0.0.1:7400;",
        "location / { proxy_pass http://tide; } } upstream tide { server 127.0.0.1:7400; server \
            192.0.2.77:7400;",
        "location / { proxy_pass http://tide; } } upstream tide { server 127.0.0.1:8088; server \
            127.0.0.1:7401;",
    ] {
        let found = entry(&beside_a_relay(pass));
        assert_eq!(found.state, State::Running, "{pass}: {:?}", found.causes);
    }
    let apart = beside_a_relay("location / { proxy_pass http://127.0.0.1:7400; }").file(
        "/etc/systemd/system/edge.service",
        &UNIT.replace("[Service]", "[Service]\nPrivateNetwork=yes"),
    );
    assert_eq!(entry(&apart).state, State::Running);
}
