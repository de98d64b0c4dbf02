//! Fronts that run, and what they pass on to.
use super::*;
use crate::code::Code;

/// `edge`, which runs and passes on like this.
fn front(http: &str) -> TextHost {
    let config = CONFIG.replace(".example;", &format!(".example;\n        {http}"));
    edge_host(&config)
        .file("/etc/hosts", "127.0.0.1 localhost\n")
        .process(500, "/usr/sbin/nginx -c /etc/nginx/nginx.conf", 0, "/system.slice/edge.service")
        .listens("0.0.0.0", 8088, &[500])
        .unit("edge.service", "active", |u| u.main_pid = 500)
}

fn entry(host: &TextHost) -> ServiceEntry {
    diagnose(host, "edge", "")
}

#[test]
fn an_upstream_of_this_host_that_does_not_listen_makes_its_front_degraded() {
    for pass in [
        "location / { proxy_pass http://127.0.0.1:7400; }",
        "location / { proxy_pass http://localhost:7400/x; }",
        "location / { fastcgi_pass unix:/run/tide/pool.sock; }",
        "location / { proxy_pass http://tide; } } upstream tide { server 127.0.0.1:7400; server 127.0.0.1:7401 backup;",
    ] {
        let found = entry(&front(pass));
        assert_eq!(found.state, State::Degraded, "{pass}");
        first(&found, Code::DependencyDown);
        assert_eq!(
            found.restart_outlook,
            crate::report::Outlook::WouldStart,
            "{pass}: it would start all the same"
        );
    }
    let alive = front("location / { proxy_pass http://127.0.0.1:7400; }")
        .process(700, "/opt/tide/relay", 4071, "/system.slice/tide.service")
        .listens("127.0.0.1", 7400, &[700]);
    assert_eq!(entry(&alive).state, State::Running);
}

#[test]
fn what_is_elsewhere_unused_or_one_of_several_is_not_judged() {
    for pass in [
        "location / { proxy_pass http://192.0.2.77:7400; }",
        "location / { proxy_pass http://$host:7400; }",
        "} upstream tide { server 127.0.0.1:7400;",
        "location / { proxy_pass http://tide; } } upstream tide { server 127.0.0.1:7400; server 192.0.2.77:7400;",
        "location / { proxy_pass http://tide; } } upstream tide { server 127.0.0.1:8088; server 127.0.0.1:7401;",
    ] {
        let found = entry(&front(pass));
        assert_eq!(found.state, State::Running, "{pass}: {:?}", found.causes);
    }
    let apart = front("location / { proxy_pass http://127.0.0.1:7400; }").file(
        "/etc/systemd/system/edge.service",
        &UNIT.replace("[Service]", "[Service]\nPrivateNetwork=yes"),
    );
    assert_eq!(entry(&apart).state, State::Running);
}
