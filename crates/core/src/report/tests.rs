//! The documents on small hosts: what each command answers, and where it says that it does not know.
use super::{
    CheckOutcome, Complaint, Outlook, PortsReport, PortsRequest, Recovery, VerifyReport, attempts, diagnose,
    is_unwell, ports, settings, survey, verify,
};
use crate::case::{Returns, State};
use crate::code::Code;
use crate::ports::free_ports;
use crate::service::Service;
use crate::services_file::ServicesFile;
use crate::snapshot::Snapshot;
use crate::tests::{EDGE_CONFIG as CONFIG, EDGE_UNIT as UNIT, NOW, TextHost, described, edge_host};

const STARTING: &str = "7d4958e842da4a758f6c1cdc7b36dcc5";
const STARTED: &str = "39f53479d3a045ac8e11786248231fbf";
const FAILED: &str = "be02cf6855d2428ba40df7e9d022f03d";

/// `edge`, stopped.
fn edge() -> TextHost {
    edge_host(CONFIG)
}

/// `edge`, up with one worker and a good start in the journal.
fn running() -> TextHost {
    edge()
        .unit("edge.service", "active", |u| u.main_pid = 50)
        .process(50, "/usr/sbin/nginx -c /etc/nginx/nginx.conf", 0, "/system.slice/edge.service")
        .listens("0.0.0.0", 8088, &[50])
        .journal(&[(1000, STARTING, "Starting"), (1200, STARTED, "Started")])
        .answers(8088, 200, "Timetable of the tides")
}

fn proof(host: &TextHost, page: &Complaint, before: Option<u32>) -> VerifyReport {
    let service = described(host, "edge", "");
    verify(&Snapshot::new(host), &service, page, before)
}

/// Name and outcome of each check.
fn checks(report: &VerifyReport) -> Vec<(&str, CheckOutcome)> {
    report.checks.iter().map(|c| (c.name.as_str(), c.outcome)).collect()
}

#[track_caller]
fn failing(report: &VerifyReport, verdict: Recovery, name: &str, words: &str) {
    assert_eq!(report.verdict, verdict, "{:?}", report.checks);
    let check = report.checks.iter().find(|c| c.name == name && c.outcome == CheckOutcome::Fail);
    assert!(check.is_some_and(|c| c.detail.contains(words)), "{:?}", report.checks);
}

#[test]
fn a_service_that_is_well_passes_every_check() {
    let report = proof(&running(), &Complaint::default(), None);
    assert_eq!(report.verdict, Recovery::Recovered);
    let expected = ["process", "ports", "let-go", "protocol", "log", "boot"].map(|n| (n, CheckOutcome::Pass));
    assert_eq!(checks(&report), expected);
    assert_eq!((report.main_pid, report.state), (Some(50), State::Running));
}

#[test]
fn what_is_missing_decides_between_not_and_partly() {
    let down = edge().unit("edge.service", "failed", |_| {});
    failing(&proof(&down, &Complaint::default(), None), Recovery::NotRecovered, "process", "no process");
    let unbound = edge()
        .unit("edge.service", "active", |u| u.main_pid = 50)
        .process(50, "/usr/sbin/nginx", 0, "/system.slice/edge.service")
        .journal(&[(1000, STARTING, "Starting"), (1200, STARTED, "Started")]);
    failing(&proof(&unbound, &Complaint::default(), None), Recovery::NotRecovered, "ports", "0.0.0.0:8088");
    failing(
        &proof(&running().answers(8088, 502, ""), &Complaint::default(), None),
        Recovery::Partly,
        "protocol",
        "502",
    );
}

#[test]
fn another_process_than_before_is_no_stable_one() {
    let same = proof(&running(), &Complaint::default(), Some(50));
    assert!(checks(&same).contains(&("stable", CheckOutcome::Pass)));
    failing(
        &proof(&running(), &Complaint::default(), Some(49)),
        Recovery::NotRecovered,
        "stable",
        "pid 49 became pid 50",
    );
    let gone = edge().unit("edge.service", "failed", |_| {});
    failing(
        &proof(&gone, &Complaint::default(), Some(50)),
        Recovery::NotRecovered,
        "stable",
        "has ended again",
    );
}

#[test]
fn a_port_that_the_configuration_gave_up_must_be_let_go() {
    let both = running().listens("0.0.0.0", 8077, &[50]);
    failing(&proof(&both, &Complaint::default(), None), Recovery::Partly, "let-go", "0.0.0.0:8077");
    let somebody_elses = running().process(60, "/opt/gauge-sim", 0, "").listens("0.0.0.0", 8077, &[60]);
    assert_eq!(proof(&somebody_elses, &Complaint::default(), None).verdict, Recovery::Recovered);
}

#[test]
fn the_page_that_was_complained_about_must_answer_as_it_should() {
    let page = |url: &str, status: Option<u16>, expect: Option<&str>| Complaint {
        url: Some(url.into()),
        status,
        expect: expect.map(str::to_owned),
    };
    let host = running().answers(8090, 404, "not here");
    assert_eq!(
        proof(&host, &page("http://127.0.0.1:8088/", None, Some("Timetable")), None).verdict,
        Recovery::Recovered
    );
    assert_eq!(
        proof(&host, &page("http://127.0.0.1:8090/x", Some(404), None), None).verdict,
        Recovery::Recovered
    );
    for (url, status, expect, words) in [
        ("http://127.0.0.1:8088/", None, Some("Ferry"), "without the text"),
        ("http://127.0.0.1:8090/", None, None, "answers 404"),
        ("http://127.0.0.1:8088/", Some(301), None, "expected 301"),
        ("http://127.0.0.1:9999/", None, None, "does not answer"),
        ("gopher://quay1/", None, None, "only http:// and https://"),
        ("http://desk.invalid/", None, None, "does not resolve"),
    ] {
        failing(&proof(&host, &page(url, status, expect), None), Recovery::Partly, "page", words);
    }
}

#[test]
fn the_old_complaint_in_the_log_of_a_running_service_is_no_full_recovery() {
    let host = running().journal(&[
        (1000, STARTING, "Starting"),
        (
            1100,
            "",
            "2031/04/02 06:10:11 [emerg] 7#7: open() \"/srv/tides.conf\" failed (2: No such file or \
            directory)",
        ),
        (1200, STARTED, "Started"),
    ]);
    failing(&proof(&host, &Complaint::default(), None), Recovery::Partly, "log", "tides.conf");
}

fn all(host: &TextHost) -> Vec<Service> {
    crate::service::find(&Snapshot::new(host), &ServicesFile::default())
}

#[test]
fn a_survey_tells_state_and_outlook_of_every_daemon() {
    let host = running()
        .file("/etc/systemd/system/front.service", &UNIT.replace("/usr/sbin/nginx", "/opt/none/nginx"));
    let host = host.unit("front.service", "failed", |u| u.unit_file_state = "disabled".into());
    let report = survey(&Snapshot::new(&host), &all(&host));
    let rows: Vec<(&str, State, bool, Outlook, Outlook)> = report
        .services
        .iter()
        .map(|s| (s.service.as_str(), s.state, s.wanted, s.restart_outlook, s.boot_outlook))
        .collect();
    assert_eq!(
        rows,
        [
            ("edge", State::Running, true, Outlook::WouldStart, Outlook::WouldStart),
            ("front", State::Failed, false, Outlook::WouldFail, Outlook::WouldNot),
        ]
    );
    assert_eq!(*report.services[0].held, ["0.0.0.0:8088"]);
    assert_eq!(report.host.as_deref(), Some("quay1"));
}

#[test]
fn what_may_not_be_looked_at_leaves_the_next_start_open() {
    let with_key = |host: TextHost| {
        let server =
            "server { listen 8443 ssl; ssl_certificate /etc/quay.pem; ssl_certificate_key /etc/quay.key; }";
        host.file("/etc/nginx/nginx.conf", &format!("events {{ }}\nhttp {{ {server} }}\n"))
            .file("/etc/quay.pem", "x")
            .file("/etc/quay.key", "x")
    };
    let outlooks = |host: &TextHost| {
        let report = survey(&Snapshot::new(host), &all(host));
        (report.services[0].restart_outlook, report.services[0].boot_outlook)
    };
    assert_eq!(
        outlooks(&with_key(running())).0,
        Outlook::WouldFail,
        "this is neither a key nor a certificate"
    );
    let closed = with_key(running()).closed("/etc/quay.pem").closed("/etc/quay.key").seen_by(71);
    assert_eq!(outlooks(&closed), (Outlook::Unknown, Outlook::Unknown));
}

#[test]
fn a_diagnosis_of_everything_keeps_what_is_wanted_and_unwell() {
    let host = running().file("/etc/systemd/system/front.service", &UNIT.replace("nginx.conf", "none.conf"));
    let host = host
        .link("/etc/systemd/system/multi-user.target.wants/front.service", "../front.service")
        .unit("front.service", "failed", |_| {});
    let snapshot = Snapshot::new(&host);
    let report = diagnose(&snapshot, &all(&host), false);
    assert_eq!(report.services.iter().map(|s| s.service.as_str()).collect::<Vec<_>>(), ["front"]);
    assert!(is_unwell(&report.services[0]));
    let named = diagnose(&snapshot, &all(&host), true);
    assert_eq!(named.services.len(), 2);
}

fn listed(host: &TextHost, only: &[u16]) -> PortsReport {
    ports(
        &Snapshot::new(host),
        &all(host),
        &PortsRequest { only, count_clients: true, ..PortsRequest::default() },
    )
}

#[test]
fn the_connections_of_those_in_nobodys_way_are_counted_on_request() {
    let host = edge()
        .process(812, "/opt/gauge-sim", 1000, "")
        .listens("0.0.0.0", 8088, &[812])
        .listens("127.0.0.1", 5000, &[812])
        .clients(3);
    let report = ports(&Snapshot::new(&host), &all(&host), &PortsRequest::default());
    let counts: Vec<_> = report.ports.iter().map(|p| (p.port, p.holders[0].clients)).collect();
    assert_eq!(counts, [(Some(5000), None), (Some(8088), Some(3))]);
}

#[test]
fn a_port_shows_its_holder_who_wants_it_and_whether_they_clash() {
    let host = edge()
        .unit("edge.service", "failed", |_| {})
        .unit("gauge.service", "active", |_| {})
        .process(812, "/opt/gauge-sim --password tide", 1000, "/system.slice/gauge.service")
        .listens("0.0.0.0", 8088, &[812])
        .listens("127.0.0.1", 5000, &[812])
        .clients(3);
    let report = listed(&host, &[8088]);
    assert_eq!(report.ports.len(), 1);
    let entry = &report.ports[0];
    assert_eq!(entry.conflict, Some(true));
    assert_eq!((entry.wanted_by[0].service.as_str(), entry.wanted_by[0].line), ("edge", Some(7)));
    let holder = &entry.holders[0];
    assert_eq!(
        (holder.pid, holder.returns, holder.clients, holder.user.as_str()),
        (812, Returns::Boot, Some(3), "marta")
    );
    assert!(!holder.command.contains("tide"), "{}", holder.command);
    let whole = listed(&host, &[]);
    assert_eq!(whole.ports.iter().filter_map(|p| p.port).collect::<Vec<_>>(), [5000, 8088]);
    let nobody = listed(&host, &[7]);
    assert!(nobody.ports.is_empty());
    // A holder that cannot be seen holds it all the same.
    let hidden = edge().unit("edge.service", "failed", |_| {}).listens("0.0.0.0", 8088, &[]).listens(
        "0.0.0.0",
        9100,
        &[],
    );
    let report = listed(&hidden, &[]);
    let told: Vec<_> =
        report.ports.iter().map(|p| (p.port, p.held, p.holders.len(), p.wanted_by.len())).collect();
    assert_eq!(told, [(Some(8088), Some(true), 0, 1), (Some(9100), Some(true), 0, 0)]);
    assert_eq!(
        report.ports[0].conflict,
        Some(true),
        "who sees everything and sees no holder knows that it is not the service"
    );
    let restricted = listed(&hidden.seen_by(1000), &[8088]);
    assert_eq!(restricted.ports[0].conflict, None, "the service itself may hold it");
    assert!(!restricted.ports[0].holders.is_seen(), "an unknown list is not an empty one");
    let free = listed(&edge(), &[]);
    assert_eq!(free.ports.iter().map(|p| (p.port, p.held)).collect::<Vec<_>>(), [(Some(8088), Some(false))]);
}

#[test]
fn only_what_speaks_the_daemons_protocol_is_asked_in_it() {
    let xml = "<Server port=\"8005\"><Service name=\"b\"><Connector port=\"8080\"/><Connector port=\"8009\" \
        protocol=\"AJP/1.3\"/></Service></Server>\n";
    let mut host = TextHost::new()
        .file(
            "/etc/systemd/system/boarding.service",
            "[Service]\nExecStart=/opt/tomcat/bin/catalina.sh run\nEnvironment=CATALINA_BASE=/opt/tomcat\n",
        )
        .file("/opt/tomcat/conf/server.xml", xml)
        .unit("boarding.service", "active", |u| u.main_pid = 50)
        .process(
            50,
            "/usr/bin/java -Dcatalina.base=/opt/tomcat org.apache.catalina.startup.Bootstrap start",
            0,
            "/system.slice/boarding.service",
        );
    for (address, port) in [("127.0.0.1", 8005), ("::", 8080), ("127.0.0.1", 8009)] {
        host = host.listens(address, port, &[50]).answers(port, 200, "aboard");
    }
    let report =
        verify(&Snapshot::new(&host), &described(&host, "boarding", ""), &Complaint::default(), None);
    let asked: Vec<&str> =
        report.checks.iter().filter(|c| c.name == "protocol").map(|c| c.detail.as_str()).collect();
    assert_eq!(asked.len(), 2, "nobody knocks where orders are taken: {asked:?}");
    assert!(
        asked.iter().any(|a| a.starts_with("HTTP on 127.0.0.1:8080"))
            && asked.iter().any(|a| a.starts_with("AJP on 127.0.0.1:8009")),
        "{asked:?}"
    );
}

#[test]
fn several_holders_of_one_socket_are_told_with_the_opener_first() {
    let host = edge().process(60, "/opt/gauge-sim", 0, "").child(61, 60, "/opt/gauge-sim --worker").listens(
        "0.0.0.0",
        8088,
        &[61, 60],
    );
    let report = listed(&host, &[8088]);
    assert_eq!(report.ports[0].holders[0].pid, 60);
}

#[test]
fn free_ports_are_near_and_nobodys() {
    let host = running()
        .listens("127.0.0.1", 8090, &[50])
        .file("/proc/sys/net/ipv4/ip_local_port_range", "8093 9000\n");
    let found = free_ports(&Snapshot::new(&host), &all(&host), 8088, 4);
    assert_eq!(found, [8089, 8087, 8086, 8091], "not wanted, not held, not the kernel's");
    assert!(
        free_ports(&Snapshot::new(&host), &all(&host), 80, 3).iter().all(|p| *p >= 1024),
        "a privileged port is not proposed"
    );
}

#[test]
fn attempts_can_be_limited_filtered_and_dated() {
    let host = edge().unit("edge.service", "active", |_| {}).journal(&[
        (1000, STARTING, "Starting"),
        (1300, FAILED, "Failed to start"),
        (5000, STARTING, "Starting"),
        (5300, FAILED, "Failed to start"),
        (9000, STARTING, "Starting"),
        (9100, STARTED, "Started"),
    ]);
    let service = described(&host, "edge", "");
    let snapshot = Snapshot::new(&host);
    let count = |most, since, failed| attempts(&snapshot, &service, Some(most), since, failed).attempts.len();
    assert_eq!((count(10, None, false), count(2, None, false), count(10, None, true)), (3, 2, 2));
    let base = (NOW - 100) * 1_000_000;
    assert_eq!(count(10, Some(base + 4_000_000), false), 2);
    let newest = &attempts(&snapshot, &service, Some(1), None, false).attempts[0];
    assert_eq!(newest.ready_after_ms, Some(100));
}

#[test]
fn settings_fold_what_was_overridden_and_name_what_is_not_set() {
    let host = edge().file("/etc/nginx/nginx.conf", &CONFIG.replace("access_log off;", "gzip on;"));
    let report = settings(
        &Snapshot::new(&host),
        &described(&host, "edge", ""),
        &["gzip".into(), "listen".into(), "sendfile".into(), "tide_level".into()],
    );
    let names: Vec<&str> = report.settings.iter().map(|s| s.name.as_str()).collect();
    assert_eq!(names, ["gzip", "listen"]);
    assert_eq!((&*report.unset, report.settings[1].line), (&["sendfile".to_owned()][..], Some(7)));
    let unknown: Vec<&str> = report.unknown.iter().map(|u| u.name.as_str()).collect();
    assert_eq!(unknown, ["tide_level"], "no name of the daemon's");
}

#[test]
fn a_service_between_two_tries_of_the_manager_is_restarting_and_still_has_its_cause() {
    let log = "2031/04/02 06:10:11 [emerg] 7#7: unknown directive \"lisen\" in /etc/nginx/nginx.conf:7";
    let entries = [
        (1000, STARTING, "Starting"),
        (1100, "", log),
        (1300, FAILED, "Failed to start"),
        (2000, STARTING, "Starting"),
    ];
    let host = edge().file("/etc/nginx/nginx.conf", &CONFIG.replace("listen", "lisen")).journal(&entries);
    for (sub, restarts) in [("auto-restart", 1), ("start", 2)] {
        let host = host.clone().unit("edge.service", "activating", |u| {
            u.sub_state = sub.into();
            u.restarts = restarts;
        });
        let report = diagnose(&Snapshot::new(&host), &[described(&host, "edge", "")], true);
        assert_eq!(
            (report.services[0].state, report.services[0].causes[0].code),
            (State::Restarting, Code::ConfigUnknownDirective),
            "{sub}"
        );
    }
    let first = host.unit("edge.service", "activating", |u| u.sub_state = "start".into());
    assert_eq!(
        diagnose(&Snapshot::new(&first), &[described(&first, "edge", "")], true).services[0].state,
        State::Starting
    );
}

#[test]
fn what_others_need_is_told_before_them() {
    let unit = |config: &str, more: &str| {
        format!(
            "[Unit]\n{more}\n[Service]\nType=forking\nPIDFile=/run/nginx.pid\n\
                ExecStart=/usr/sbin/nginx -c {config}\n[Install]\nWantedBy=multi-user.target\n"
        )
    };
    let site = |listen: u16, to: u16| {
        format!(
            "error_log /var/log/nginx/error.log;\npid /run/nginx.pid;\nevents {{ }}\n\
                http {{\n    access_log off;\n    server {{\n        listen {listen};\n        location / \
                {{\n            proxy_pass http://127.0.0.1:{to};\n        }}\n    }}\n}}\n"
        )
    };
    let mut host = edge();
    for (name, listen, to, more) in [
        ("alpha", 8101, 8102, ""),
        ("beta", 8102, 9999, "Requires=gamma.service\nAfter=gamma.service"),
        ("gamma", 8103, 9998, ""),
    ] {
        let config = format!("/etc/nginx/{name}.conf");
        host = host
            .file(&format!("/etc/systemd/system/{name}.service"), &unit(&config, more))
            .link(
                &format!("/etc/systemd/system/multi-user.target.wants/{name}.service"),
                &format!("../{name}.service"),
            )
            .file(&config, &site(listen, to))
            .unit(&format!("{name}.service"), "failed", |_| {});
    }
    let snapshot = Snapshot::new(&host);
    let report = diagnose(&snapshot, &all(&host), false);
    let names: Vec<&str> =
        report.services.iter().map(|s| s.service.as_str()).filter(|n| *n != "edge").collect();
    assert_eq!(names, ["gamma", "beta", "alpha"], "alpha passes on to beta, beta requires gamma");
}

#[test]
fn one_service_is_told_whole_and_without_secrets() {
    let host = edge()
        .file(
            "/etc/systemd/system/edge.service",
            &UNIT.replace("[Service]", "[Service]\nEnvironment=TIDE_PASSWORD=gull-77 LANG=C"),
        )
        .file("/etc/environment", "TIDE_PASSWORD=other-78\nLANG=C\nQUAY=north\n");
    let report = survey(&Snapshot::new(&host), &all(&host));
    let entry = &report.services[0];
    assert_eq!(entry.command, ["/usr/sbin/nginx", "-c", "/etc/nginx/nginx.conf"]);
    let names: Vec<(&str, Option<&str>)> =
        entry.environment.iter().map(|d| (d.name.as_str(), d.service.as_deref())).collect();
    assert!(names.contains(&("QUAY", None)) && !names.iter().any(|(n, _)| *n == "LANG"), "{names:?}");
    let text = serde_json::to_string(&report).unwrap();
    assert!(!text.contains("gull-77") && !text.contains("other-78"), "{text}");
}

#[test]
fn processes_that_are_hidden_are_not_said_to_be_gone() {
    // An ordinary account that sees no pid 1 sees none of others.
    let hidden = edge().seen_by(1000).listens("0.0.0.0", 8088, &[]);
    let report = proof(&hidden, &Complaint::default(), None);
    assert_ne!(report.verdict, Recovery::Recovered);
    let process = report.checks.iter().find(|c| c.name == "process").unwrap();
    assert!(
        process.outcome == CheckOutcome::Skip && process.detail.contains("cannot be seen"),
        "{:?}",
        report.checks
    );
    let seen = hidden.process(1, "/sbin/init", 0, "/init.scope");
    failing(&proof(&seen, &Complaint::default(), None), Recovery::NotRecovered, "process", "no process");
    // Root sees all, whatever the table holds.
    failing(
        &proof(&edge().listens("0.0.0.0", 8088, &[]), &Complaint::default(), None),
        Recovery::NotRecovered,
        "process",
        "no process",
    );
}

#[test]
fn sockets_that_cannot_be_listed_are_not_said_to_be_missing() {
    let report = proof(&running().without_sockets(), &Complaint::default(), None);
    let ports = report.checks.iter().find(|c| c.name == "ports").unwrap();
    assert!(ports.outcome == CheckOutcome::Skip && ports.detail.contains("8088"), "{:?}", report.checks);
    assert_eq!(report.verdict, Recovery::Partly);
    assert!(report.is_unseen(), "nothing failed, and yet nothing is proved");
}

#[test]
fn a_start_may_stand_in_the_very_log_that_may_not_be_read() {
    let log = "/var/log/nginx/error.log";
    let list = |host: &TextHost| {
        let service = described(host, "edge", "");
        attempts(&Snapshot::new(host), &service, Some(5), None, false)
    };
    let read = list(&edge().file(log, ""));
    assert!(read.attempts.is_seen() && read.attempts.is_empty());
    let closed = list(&edge().file(log, "x\n").closed(log));
    assert!(!closed.attempts.is_seen(), "{:?}", closed.not_seen);
    assert!(serde_json::to_value(&closed).unwrap()["attempts"].is_null());
    // What the manager tells is told all the same.
    let told = list(
        &edge()
            .file(log, "x\n")
            .closed(log)
            .journal(&[(1000, STARTING, "Starting"), (1200, STARTED, "Started")]),
    );
    assert_eq!(told.attempts.len(), 1);
}

#[test]
fn a_configuration_file_that_may_not_be_read_leaves_the_verdict_open() {
    use super::{Verdict, lint_configuration};
    let host = edge_host("include /etc/nginx/more.conf;\nevents { }\n")
        .file("/etc/nginx/more.conf", "worker_processes 3;\n");
    let lint = |host: &TextHost| {
        let service = described(host, "edge", "");
        lint_configuration(&Snapshot::new(host), service.kind, &service.instance).0
    };
    assert_eq!(lint(&host).verdict, Verdict::Accepted);
    let closed = lint(&host.closed("/etc/nginx/more.conf"));
    assert_eq!(closed.verdict, Verdict::Unknown);
    assert!(closed.not_seen.iter().any(|l| l.text().contains("more.conf")), "{:?}", closed.not_seen);
    // An error before it is one, whatever stands in it.
    let wrong = edge_host("lisen 80;\ninclude /etc/nginx/more.conf;\nevents { }\n")
        .file("/etc/nginx/more.conf", "")
        .closed("/etc/nginx/more.conf");
    assert_eq!(lint(&wrong).verdict, Verdict::Rejected);
}

#[test]
fn a_change_that_cannot_be_seen_makes_the_list_null_and_not_empty() {
    use super::UndoReport;
    let none = UndoReport::list(&[], &[], None);
    assert!(none.changes.is_seen() && none.not_seen.is_empty());
    let hidden = UndoReport::list(&[], &[], Some("changes that root made: permission denied".into()));
    assert!(serde_json::to_value(&hidden).unwrap()["changes"].is_null());
    let broken = UndoReport::list(&[], &["20310402-061011-120-front".into()], None);
    assert!(!broken.changes.is_seen() && broken.not_seen[0].text().contains("20310402-061011-120-front"));
}

#[test]
fn a_start_whose_failure_somebody_reset_failed_as_its_own_log_says() {
    let began = u64::try_from(NOW - 50).unwrap() * 1_000_000;
    let stamp = crate::log::format_time((NOW - 50) * 1_000_000, &jiff::tz::TimeZone::UTC);
    let stamp = stamp[..19].replace('T', " ").replace('-', "/");
    let log = format!("{stamp} [emerg] 7#7: unknown directive \"tide\" in /etc/nginx/nginx.conf:3\n");
    let down = |log: &str| {
        edge().file("/var/log/nginx/error.log", log).unit("edge.service", "inactive", |u| {
            (u.left_inactive, u.state_changed) = (began, began + 400_000);
        })
    };
    let outcome = |host: &TextHost| {
        let service = described(host, "edge", "");
        attempts(&Snapshot::new(host), &service, Some(5), None, false).attempts[0].outcome
    };
    assert_eq!(outcome(&down(&log)), crate::log::Outcome::Failed);
    assert_eq!(outcome(&down("")), crate::log::Outcome::Stopped);
}
