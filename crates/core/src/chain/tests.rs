//! Chains on small hosts: each hop broken by itself, and a healthy one.
use super::{Chain, Hop, absolute, fits, follow};
use crate::code::Code;
use crate::report::{chain_cases, diagnose_chain};
use crate::route::Url;
use crate::service::{Service, find};
use crate::services_file::ServicesFile;
use crate::snapshot::Snapshot;
use crate::tests::{TextHost, edge_host};

const CONFIG: &str = "user www-data;\nerror_log /var/log/nginx/error.log;\npid /run/nginx.pid;\nevents { }\n\
    http {\n\
    server {\nlisten 8088;\nserver_name edge.saltmarsh-ferries.example;\nroot /srv/front;\n\
    location /book { proxy_pass http://127.0.0.1:8080; }\n\
    location /old { fastcgi_pass unix:/run/php/php7.4-fpm.sock; }\n\
    location /shut { deny all; }\n\
    location /gone { return 410; }\n\
    location /round { rewrite ^ /round last; }\n\
    location /there { return 302 /a.html; }\n\
    location /circle { return 302 /circle; }\n}\n}\n";
const BEHIND: &str = "[Service]\nExecStart=/opt/boarding/serve --listen 127.0.0.1:8080\n[Install]\n\
    WantedBy=multi-user.target\n";

fn host() -> TextHost {
    edge_host(CONFIG)
        .file("/etc/passwd", "root:x:0:0::/:/bin/sh\nwww-data:x:33:33::/:/bin/sh\n")
        .file("/etc/hosts", "127.0.0.1 quay1 edge.saltmarsh-ferries.example\n")
        .file("/srv/front/a.html", "tides")
        .unit("edge.service", "active", |u| u.main_pid = 50)
        .process(50, "/usr/sbin/nginx -c /etc/nginx/nginx.conf", 0, "/system.slice/edge.service")
        .listens("0.0.0.0", 8088, &[50])
        .file("/etc/systemd/system/boarding.service", BEHIND)
        .link("/etc/systemd/system/multi-user.target.wants/boarding.service", "../boarding.service")
        .program("/opt/boarding/serve")
}

fn services(snapshot: &Snapshot) -> Vec<Service> {
    let mut all = find(snapshot, &ServicesFile::default());
    let named = |name| crate::service::named(snapshot, &ServicesFile::default(), name);
    all.extend(named("boarding"));
    all
}

/// Hop and whether it is well, without name and address.
fn hops(chain: &Chain) -> Vec<(Hop, Option<bool>)> {
    chain.links.iter().skip(2).map(|l| (l.hop, l.ok)).collect()
}

#[track_caller]
fn followed(host: &TextHost, path: &str) -> (Chain, crate::report::Diagnosis) {
    let snapshot = Snapshot::new(host);
    let services = services(&snapshot);
    let url = Url::parse(&format!("http://edge.saltmarsh-ferries.example:8088{path}")).unwrap();
    let chain = follow(&snapshot, &services, &url);
    let report = diagnose_chain(&snapshot, &services, &chain);
    (chain, report)
}

/// The first cause, and the service where it stands.
#[track_caller]
fn cause(host: &TextHost, path: &str) -> (String, Code, String) {
    let (chain, report) = followed(host, path);
    let entry = report.services.first().unwrap_or_else(|| panic!("no service: {:?}", chain.links));
    let cause = entry.standing().next().unwrap_or_else(|| panic!("no cause: {entry:?}"));
    (entry.service.clone(), cause.code, cause.title.clone())
}

#[test]
fn a_page_that_comes_has_no_broken_hop() {
    let host = host().answers(8088, 200, "tides");
    let (chain, report) = followed(&host, "/a.html");
    assert!(chain.is_well() && report.services.is_empty());
    let expected = [Hop::Listener, Hop::Site, Hop::File].map(|hop| (hop, Some(true)));
    assert_eq!(hops(&chain), expected);
    // What seems broken and is not: the page came all the same.
    let (chain, report) = followed(&host, "/none.html");
    assert!(chain.is_well() && report.services.is_empty() && !chain.is_broken());
    assert_eq!(hops(&chain).last(), Some(&(Hop::File, None)));
}

#[test]
fn a_file_that_is_not_there_or_may_not_be_read_is_the_cause() {
    let host = host().answers(8088, 404, "");
    let (service, code, title) = cause(&host, "/none.html");
    assert_eq!((service.as_str(), code), ("edge", Code::ConfigMissingFile));
    assert!(title.contains("/srv/front/none.html"), "{title}");
    let host = host.answers(8088, 403, "").owned("/srv/front/a.html", 0o600, 0);
    let (chain, report) = followed(&host, "/a.html");
    let found = &report.services[0].causes[0];
    assert_eq!(
        (found.code, found.fixes.as_slice()),
        (Code::PermissionDenied, &["grant-access".to_owned()][..])
    );
    assert_eq!(found.subject.path.as_deref(), Some("/srv/front/a.html"));
    assert_eq!(found.subject.account.as_deref(), Some("www-data"));
    assert!(chain.is_broken());
    let (_, code, title) = cause(&host.dir("/srv/front", 0o700, 0), "/a.html");
    assert_eq!((code, title.as_str()), (Code::PermissionDenied, "www-data may not enter /srv/front"));
}

#[test]
fn a_rule_an_answer_and_a_circle_are_told_at_their_line() {
    let host = host();
    for (path, status, code, line) in [
        ("/shut", 403, Code::PolicyDenied, 12),
        ("/gone", 410, Code::PolicyDenied, 13),
        ("/round", 500, Code::ConfigConflict, 14),
    ] {
        let host = host.clone().answers(8088, status, "");
        let (_, report) = followed(&host, path);
        let found = &report.services[0].causes[0];
        assert_eq!((found.code, found.subject.line), (code, Some(line)), "{path}: {}", found.title);
    }
}

#[test]
fn an_upstream_nobody_listens_on_is_told_with_who_should() {
    let host = host().answers(8088, 502, "");
    let (chain, report) = followed(&host, "/book");
    let found = &report.services[0].causes[0];
    assert_eq!((report.services[0].service.as_str(), found.code), ("edge", Code::DependencyDown));
    assert_eq!((found.subject.port, found.subject.unit.as_deref()), (Some(8080), Some("boarding.service")));
    let last: Vec<_> = hops(&chain).into_iter().rev().take(2).collect();
    assert_eq!(last, [(Hop::Daemon, Some(false)), (Hop::Upstream, Some(false))]);
    let (service, code, title) = cause(&host, "/old");
    assert_eq!((service.as_str(), code), ("edge", Code::DependencyDown));
    assert!(title.contains("/run/php/php7.4-fpm.sock"), "{title}");
    // A masked unit does not say any more where it listened: who should is not known.
    let masked = host.clone().link("/etc/systemd/system/boarding.service", "/dev/null").unit(
        "boarding.service",
        "inactive",
        |u| u.load_state = "masked".into(),
    );
    let (service, code, title) = cause(&masked, "/book");
    assert_eq!((service.as_str(), code), ("edge", Code::DependencyDown));
    assert!(title.starts_with("nobody listens on 127.0.0.1:8080"), "{title}");
    // Where it fails by itself that is the cause, and comes first.
    let nobody = BEHIND.replace("[Install]", "User=tide\n[Install]");
    let failed =
        host.file("/etc/systemd/system/boarding.service", &nobody).unit("boarding.service", "failed", |_| {});
    let (service, code, _) = cause(&failed, "/book");
    assert_eq!((service.as_str(), code), ("boarding", Code::AccountMissing));
}

#[test]
fn redirects_are_followed_on_this_host_and_circles_are_told() {
    let mut host = host().answers(8088, 302, "");
    host.location = Some("/a.html".into());
    let (chain, _) = followed(&host, "/circle");
    // Every page of this server sends there: the second time it is a circle.
    assert!(chain.is_broken() && !chain.is_well());
    assert_eq!(chain.links.last().map(|l| l.what.as_str()), Some("a circle of redirects"));
    host.location = Some("http://192.0.2.9/away".into());
    let (chain, report) = followed(&host, "/there");
    assert!(chain.is_well() && report.services.is_empty(), "another host's page is not ours");
    assert_eq!(chain.links.last().map(|l| (l.hop, l.ok)), Some((Hop::Handler, None)));
}

#[test]
fn a_front_that_is_down_is_the_cause_by_its_own_reason() {
    let down = host().without_process(50).unit("edge.service", "inactive", |_| {});
    let (service, code, title) = cause(&down, "/");
    assert_eq!((service.as_str(), code, title.as_str()), ("edge", Code::ManagerDisabled, "edge is stopped"));
    let taken =
        down.process(60, "/opt/gauge-sim", 0, "").listens("0.0.0.0", 8088, &[60]).answers(8088, 200, "x");
    let (chain, _) = followed(&taken, "/");
    assert!(!chain.is_well(), "a stranger's page is not ours");
    let (service, code, _) = cause(&taken, "/");
    assert_eq!((service.as_str(), code), ("edge", Code::PortTaken));
}

#[test]
fn what_is_another_hosts_is_not_asked() {
    let host = host().answers(80, 200, "");
    let snapshot = Snapshot::new(&host);
    let services = services(&snapshot);
    for (address, words) in [
        ("http://192.0.2.77/", "not an address of this host"),
        ("http://desk.invalid/", "does not resolve"),
        ("http://desk.saltmarsh-ferries.example/", "could not be seen"),
    ] {
        let chain = follow(&snapshot, &services, &Url::parse(address).unwrap());
        assert!(chain.answer.is_none() && chain.links.is_empty());
        assert!(chain.elsewhere.as_deref().is_some_and(|e| e.contains(words)), "{:?}", chain.elsewhere);
        assert!(chain_cases(&snapshot, &services, &chain).is_empty());
    }
}

#[test]
fn a_name_that_does_not_resolve_is_walked_by_the_site_that_has_it() {
    let host = host().file("/etc/hosts", "127.0.0.1 quay1\n").answers(8088, 404, "");
    let (chain, report) = followed(&host, "/none.html");
    assert_eq!(chain.links[0].ok, None, "{:?}", chain.links[0]);
    assert_eq!(report.services[0].causes[0].code, Code::ConfigMissingFile);
}

#[test]
fn a_listener_of_the_loopback_alone_is_not_reached_from_elsewhere() {
    let config = CONFIG.replace("listen 8088", "listen 8081");
    let host = host().file("/etc/nginx/nginx.conf", &config).without_process(50);
    let host = host
        .process(50, "/usr/sbin/nginx -c /etc/nginx/nginx.conf", 0, "/system.slice/edge.service")
        .listens("0.0.0.0", 8081, &[50]);
    let (service, code, title) = cause(&host, "/");
    assert_eq!((service.as_str(), code), ("edge", Code::Unreachable));
    assert!(title.contains("0.0.0.0:8081"), "{title}");
}

#[test]
fn references_are_made_whole() {
    for (to, expected) in [
        ("http://front.example/x", "http://front.example/x"),
        ("/x?y", "https://quay1:81/x?y"),
        ("x", "https://quay1:81/a/x"),
        ("//front.example/", "https://front.example/"),
    ] {
        assert_eq!(absolute("https://quay1:81/a/b?c", to).as_deref(), Some(expected));
    }
}

#[test]
fn names_of_sites_fit_hosts() {
    for (site, host, expected) in [
        ("front.example", "front.example", true),
        ("*.front.example", "a.front.example", true),
        (".front.example", "front.example", true),
        ("front.*", "front.example", true),
        ("*.front.example", "front.example", false),
        ("front.example", "xfront.example", false),
        ("", "", false),
        ("front.*", "fronts.example", false),
    ] {
        assert_eq!(fits(site, host), expected, "{site} {host}");
    }
}

/// A program behind the page that uses a database.
fn with_database(settings: &str) -> TextHost {
    host()
        .file("/etc/boarding.properties", settings)
        .file(
            "/etc/systemd/system/boarding.service",
            "[Service]\nExecStart=/opt/boarding/serve --listen 127.0.0.1:8080 --config \
             /etc/boarding.properties\n\
             [Install]\nWantedBy=multi-user.target\n",
        )
        .unit("boarding.service", "active", |u| u.main_pid = 60)
        .process(60, "/opt/boarding/serve", 0, "/system.slice/boarding.service")
        .listens("127.0.0.1", 8080, &[60])
        .answers(8088, 500, "")
}

const SETTINGS: &str = "db.url=jdbc:postgresql://127.0.0.1:5432/bookings\ndb.user=desk\ndb.password=ebb-7\n";

#[test]
fn a_database_that_is_not_there_is_the_cause() {
    let host = with_database(SETTINGS);
    let (chain, report) = followed(&host, "/book");
    let last = chain.links.last().unwrap();
    assert_eq!((last.hop, last.ok), (Hop::Dependency, Some(false)), "{:?}", chain.links);
    let cause = &report.services[0].causes[0];
    assert_eq!((report.services[0].service.as_str(), cause.code), ("boarding", Code::DependencyDown));
    assert!(cause.title.contains("127.0.0.1:5432") && !format!("{report:?}").contains("ebb-7"), "{cause:?}");
    // Of two servers the one that nobody is at need not be the reason, where the other one answers.
    let both = format!("{SETTINGS}cache.url=redis://127.0.0.1:6379/0\n");
    let host = with_database(&both).listens("127.0.0.1", 6379, &[61]).process(61, "/opt/x", 0, "/x");
    let (_, report) = followed(&host, "/book");
    let certain = |c: &crate::report::CauseEntry| c.certainty == crate::rank::Certainty::Certain;
    assert!(!report.services.iter().flat_map(|s| &s.causes).any(certain), "{report:?}");
}

#[test]
fn what_a_server_refuses_is_told_with_its_reason() {
    use crate::host::{Engine, LoginAnswer, LoginOutcome, Refusal};
    let mut refused = LoginAnswer::ended(LoginOutcome::Refused(Refusal::LoginDisabled));
    refused.words = Some("role \"desk\" is not permitted to log in".to_owned());
    let host = with_database(SETTINGS)
        .listens("127.0.0.1", 5432, &[61])
        .process(61, "/opt/x", 0, "/x")
        .login(Engine::Postgresql, "desk", refused);
    // Nothing is tried unless somebody asks for it.
    let (chain, _) = followed(&host, "/book");
    assert_eq!(chain.links.last().map(|l| (l.hop, l.ok)), Some((Hop::Dependency, None)));
    let snapshot = Snapshot::new(&host);
    let services = services(&snapshot);
    let url = Url::parse("http://edge.saltmarsh-ferries.example:8088/book").unwrap();
    let chain = super::follow_and_log_in(&snapshot, &services, &url, true);
    let report = diagnose_chain(&snapshot, &services, &chain);
    let cause = &report.services[0].causes[0];
    assert_eq!((cause.code, cause.subject.reason), (Code::DependencyRefuses, Some(Refusal::LoginDisabled)));
    assert_eq!(
        (cause.subject.file.as_deref(), cause.subject.line),
        (Some("/etc/boarding.properties"), Some(2))
    );
    assert_eq!(cause.subject.database.as_deref(), Some("bookings"));
}

#[test]
fn a_socket_that_the_application_may_not_reach_is_not_connected_to() {
    use crate::host::{Engine, LoginAnswer, LoginOutcome, Refusal};
    let settings = "db.url=mysql:unix_socket=/run/desk/m.sock;dbname=b\ndb.user=desk\ndb.password=ebb-7\n";
    let refused = LoginAnswer::ended(LoginOutcome::Refused(Refusal::UnknownAccount));
    let unit = "[Service]\nUser=www-data\nExecStart=/opt/boarding/serve --listen 127.0.0.1:8080 \
        --config /etc/boarding.properties\n[Install]\nWantedBy=multi-user.target\n";
    for (mode, wanted) in [(0o700, Code::PermissionDenied), (0o755, Code::DependencyRefuses)] {
        let host = with_database(settings)
            .file("/etc/systemd/system/boarding.service", unit)
            .dir("/run/desk", mode, 0)
            .listens_at("/run/desk/m.sock", &[61])
            .process(61, "/opt/x", 0, "/x")
            .login(Engine::Mysql, "desk", refused.clone());
        let snapshot = Snapshot::new(&host);
        let services = services(&snapshot);
        let url = Url::parse("http://edge.saltmarsh-ferries.example:8088/book").unwrap();
        let chain = super::follow_and_log_in(&snapshot, &services, &url, true);
        let report = diagnose_chain(&snapshot, &services, &chain);
        let causes = report.services.iter().flat_map(|s| &s.causes).map(|c| c.code);
        let told = [Code::PermissionDenied, Code::DependencyRefuses];
        assert_eq!(
            causes.filter(|c| told.contains(c)).collect::<Vec<_>>(),
            [wanted],
            "{mode:o} {:?}",
            chain.links
        );
    }
}
