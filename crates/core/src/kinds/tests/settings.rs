//! Kinds whose files are lists of settings: what they ask for, and on which line they are refused.
use crate::code::Code;
use crate::config::{Configuration, Severity};
use crate::kinds::{Instance, kind};
use crate::snapshot::Snapshot;
use crate::tests::TextHost;

/// Reads a kind's configuration as a start command would have it.
pub(super) fn read(host: &TextHost, name: &str, command: &str) -> Configuration {
    let snapshot = Snapshot::new(host);
    let kind = kind(name).expect("a kind");
    let mut instance =
        Instance { command: command.split(' ').map(str::to_owned).collect(), ..Instance::default() };
    kind.locate(&snapshot, &mut instance);
    kind.read(&snapshot, &instance)
}

fn listens(found: &Configuration) -> Vec<String> {
    found
        .model
        .listens
        .iter()
        .map(|l| format!("{}{}", l.listen, if l.bound { "" } else { " (optional)" }))
        .collect()
}

/// Code and `file:line` of each error.
pub(super) fn errors(found: &Configuration) -> Vec<(Code, String)> {
    let place = |f: &crate::config::ConfigFinding| {
        f.place.as_ref().map_or("-".into(), |p| format!("{}:{}", crate::path::name(&p.file), p.line))
    };
    found.findings.iter().filter(|f| f.severity == Severity::Error).map(|f| (f.code, place(f))).collect()
}

/// The text that a listener's span covers: what a move of its port would replace.
fn port_text(host: &TextHost, found: &Configuration, at: usize) -> String {
    let span = found.model.listens[at].port_span.clone().expect("the number stands somewhere");
    let text = Snapshot::new(host).text(&span.file).seen().unwrap_or_default();
    text[span.start..span.end].to_owned()
}

fn log(found: &Configuration) -> &str {
    found.model.error_logs.first().map_or("", |l| l.path.as_str())
}

const REDIS: &str = "# cache\nbind 127.0.0.1 -::1\nport 6390\ndir /var/lib/redis\nlogfile redis.log\n\
    pidfile /run/redis/r.pid\nunixsocket /run/redis/r.sock\n";

fn redis(text: &str) -> Configuration {
    let host = TextHost::new().file("/etc/redis/redis.conf", text).dir("/var/lib/redis", 0o750, 0);
    read(&host, "redis", "/usr/bin/redis-server /etc/redis/redis.conf --daemonize no")
}

#[test]
fn redis_binds_each_family_by_itself_and_may_do_without_some() {
    let found = redis(REDIS);
    assert_eq!(errors(&found), []);
    assert_eq!(listens(&found), ["127.0.0.1:6390", "[::1]:6390 (optional)", "/run/redis/r.sock"]);
    assert_eq!(
        (log(&found), found.model.data_dir.as_ref().unwrap().path.as_str()),
        ("/var/lib/redis/redis.log", "/var/lib/redis")
    );
    assert_eq!(listens(&redis("")), ["0.0.0.0:6379", "[::]:6379 (optional)"]);
    assert_eq!(listens(&redis("port 0\ntls-port 6380\nbind *\n")), ["0.0.0.0:6380"]);
}

#[test]
fn redis_options_of_the_command_line_win_and_cannot_be_moved() {
    let host = TextHost::new().file("/etc/redis/redis.conf", REDIS).dir("/var/lib/redis", 0o750, 0);
    let found =
        read(&host, "redis", "/usr/bin/redis-server /etc/redis/redis.conf --port 7000 --bind 127.0.0.1");
    assert_eq!(found.model.listens[0].listen.to_string(), "127.0.0.1:7000");
    assert!(found.model.listens[0].port_span.is_none());
    let found = read(&host, "redis", "/usr/bin/redis-server /etc/redis/redis.conf");
    assert_eq!(port_text(&host, &found, 0), "6390");
}

#[test]
fn redis_without_a_file_reads_none_though_one_lies_in_the_usual_place() {
    let host = TextHost::new().file("/etc/redis/redis.conf", REDIS).dir("/var/lib/redis", 0o750, 0);
    for (command, port) in [
        ("/usr/bin/redis-server --port 7799 --dir /var/lib/redis", 7799),
        ("/usr/bin/redis-server", 6379),
        ("/usr/bin/redis-server --port 7799", 7799),
    ] {
        let found = read(&host, "redis", command);
        assert_eq!((found.model.listens[0].listen.port, found.model.files.len()), (port, 0), "{command}");
        assert!(found.readable && errors(&found).is_empty(), "{command}");
    }
    // A process that runs wears a title in place of its arguments.
    let mut titled =
        Instance { command: vec!["/usr/bin/redis-server 127.0.0.1:6390".into()], ..Instance::default() };
    kind("redis").expect("a kind").locate(&Snapshot::new(&host), &mut titled);
    assert_eq!(titled.config, "/etc/redis/redis.conf");
}

#[test]
fn redis_is_refused_on_the_line_that_it_would_name() {
    for (text, code, place) in [
        ("port 70000\n", Code::ConfigBadValue, "redis.conf:1"),
        ("port\n", Code::ConfigBadValue, "redis.conf:1"),
        ("timeout 0\nrequirepass \"gull\n", Code::ConfigSyntax, "redis.conf:2"),
        ("dir /srv/none\n", Code::ConfigMissingFile, "redis.conf:1"),
        ("\ninclude /etc/redis/none.conf\n", Code::ConfigMissingFile, "redis.conf:2"),
        ("logfile /srv/none/r.log\n", Code::ConfigMissingFile, "redis.conf:1"),
        ("port 1\nbind 192.0.2.7\n", Code::AddressNotHere, "redis.conf:2"),
    ] {
        assert_eq!(errors(&redis(text)).first(), Some(&(code, place.to_owned())), "{text}");
    }
    assert_eq!(
        errors(&redis("include /etc/redis/none*.conf\nbind -192.0.2.7\n")),
        [],
        "a pattern without a match and an address that may be missing"
    );
}

fn mysql_host(own: &str) -> TextHost {
    TextHost::new()
        .file("/etc/debian_version", "12\n")
        .file(
            "/etc/mysql/my.cnf",
            "[client-server]\nsocket = /run/mysqld/mysqld.sock\n!includedir /etc/mysql/conf.d/\n",
        )
        .file("/etc/mysql/conf.d/50-server.cnf", own)
        .file("/etc/mysql/conf.d/ignored.ini", "[mysqld]\nport = 1\n")
        .dir("/var/lib/mysql", 0o755, 0)
        .dir("/run/mysqld", 0o755, 0)
}

fn mysql(own: &str) -> Configuration {
    read(&mysql_host(own), "mysql", "/usr/sbin/mariadbd")
}

#[test]
fn mysql_reads_its_own_groups_and_the_last_value_wins() {
    let found = mysql(
        "[mysqld]\nport = 3307\nbind-address = 127.0.0.1 # near\n[mysql]\nport = 9\n[mariadb-10.11]\n\
            port=3308\n",
    );
    assert_eq!(listens(&found), ["127.0.0.1:3308", "/run/mysqld/mysqld.sock"]);
    assert_eq!(
        found.model.listens[0].place.as_ref().unwrap().to_string(),
        "/etc/mysql/conf.d/50-server.cnf:7"
    );
    assert_eq!(listens(&mysql(""))[0], "[::]:3306");
    assert_eq!(listens(&mysql("[mysqld]\nskip-networking\n")), ["/run/mysqld/mysqld.sock"]);
    assert_eq!(listens(&mysql("[mysqld]\nbind_address = 127.0.0.1,::1\n")).len(), 3);
    assert!(found.model.listens[0].port_span.is_some());
}

#[test]
fn mysql_names_its_log_after_what_it_was_told() {
    for (settings, expected) in [
        ("log_error = /var/log/mysql/error.log", "/var/log/mysql/error.log"),
        ("log_error = sailings.err", "/var/lib/mysql/sailings.err"),
        ("log_error = sailings", "/var/lib/mysql/sailings.err"),
        ("log-error", "/var/lib/mysql/quay1.err"),
        ("log-error\npid-file = /run/mysqld/m.pid", "/run/mysqld/m.err"),
        ("port = 3306", ""),
    ] {
        assert_eq!(log(&mysql(&format!("[mysqld]\n{settings}\n"))), expected, "{settings}");
    }
}

#[test]
fn mysql_is_stricter_in_the_main_file_than_in_a_directory() {
    assert_eq!(errors(&mysql("port = 3306\n")), [], "reading of a file in a directory only stops there");
    let host = TextHost::new().file("/etc/my.cnf", "# head\nport = 1\n").dir("/var/lib/mysql", 0o755, 0);
    assert_eq!(errors(&read(&host, "mysql", "/usr/sbin/mysqld")), [(Code::ConfigSyntax, "my.cnf:2".into())]);
    let host = TextHost::new().file("/etc/my.cnf", "!include /etc/none.cnf\n!includedir /etc/none.d\n").dir(
        "/var/lib/mysql",
        0o755,
        0,
    );
    assert_eq!(
        errors(&read(&host, "mysql", "/usr/sbin/mysqld")),
        [(Code::ConfigMissingFile, "my.cnf:2".into())]
    );
    for (settings, place) in [
        ("datadir = /srv/none", 2),
        ("socket = /srv/none/m.sock", 2),
        ("tmpdir = /srv/none", 2),
        ("pid-file = /srv/none/p", 2),
    ] {
        assert_eq!(
            errors(&mysql(&format!("[mysqld]\n{settings}\n")))[0],
            (Code::ConfigMissingFile, format!("50-server.cnf:{place}")),
            "{settings}"
        );
    }
}

#[test]
fn a_file_that_everybody_may_write_is_ignored_and_said_to_be() {
    let host = mysql_host("").owned("/etc/mysql/conf.d/99-open.cnf", 0o666, 0);
    let found = read(&host, "mysql", "/usr/sbin/mariadbd");
    assert!(found.not_seen.iter().any(|l| l.text().contains("99-open.cnf")), "{:?}", found.not_seen);
}

fn postgresql_host(text: &str) -> TextHost {
    TextHost::new()
        .file("/etc/debian_version", "12\n")
        .file("/etc/postgresql/15/main/postgresql.conf", text)
        .file("/etc/postgresql/15/main/pg_hba.conf", "local all all peer\n")
        .dir("/etc/postgresql/15/main/conf.d", 0o755, 0)
        .dir("/tmp", 0o1777, 0)
        .dir("/var/lib/postgresql/15/main", 0o700, 0)
}

fn postgresql(text: &str) -> Configuration {
    read(
        &postgresql_host(text),
        "postgresql",
        "/usr/bin/pg_ctlcluster --skip-systemctl-redirect 15-main start",
    )
}

#[test]
fn postgresql_is_found_by_its_cluster_and_names_its_sockets_after_the_port() {
    let found = postgresql(
        "data_directory = '/var/lib/postgresql/15/main'\nport = 5433\n\
            unix_socket_directories = '/var/run/postgresql, /tmp'\n",
    );
    assert_eq!(errors(&found), []);
    assert_eq!(
        listens(&found),
        [
            "127.0.0.1:5433",
            "[::1]:5433 (optional)",
            "/var/run/postgresql/.s.PGSQL.5433",
            "/tmp/.s.PGSQL.5433"
        ],
        "one address of the list is enough"
    );
    assert_eq!(log(&found), "/var/log/postgresql/postgresql-15-main.log");
    assert_eq!(listens(&postgresql("listen_addresses = ''\n")), ["/var/run/postgresql/.s.PGSQL.5432"]);
    assert_eq!(
        listens(&postgresql("listen_addresses = '*'\n"))[..2],
        ["0.0.0.0:5432".to_owned(), "[::]:5432 (optional)".to_owned()]
    );
}

#[test]
fn postgresql_values_that_the_server_keeps_itself_come_last() {
    let host = postgresql_host("data_directory = '/var/lib/postgresql/15/main'\nport = 5433\n")
        .file("/var/lib/postgresql/15/main/postgresql.auto.conf", "# Do not edit\nport = '5434'\n");
    let found = read(&host, "postgresql", "/usr/bin/pg_ctlcluster 15-main start");
    assert_eq!(found.model.listens[0].listen.port, 5434);
    assert_eq!(port_text(&host, &found, 0), "5434");
    let found = read(
        &host,
        "postgresql",
        "/usr/lib/postgresql/15/bin/postgres -c config_file=/etc/postgresql/15/main/postgresql.conf -p 6000",
    );
    assert_eq!(
        (found.model.listens[0].listen.port, found.model.listens[0].port_span.is_none()),
        (6000, true)
    );
}

#[test]
fn postgresql_collects_every_syntax_error_and_then_looks_at_names() {
    for (text, expected) in [
        (
            "port = 5432\nshared_buffers = 128 MB\nwork_mem 1,2\n",
            vec![(Code::ConfigSyntax, "postgresql.conf:2"), (Code::ConfigSyntax, "postgresql.conf:3")],
        ),
        ("port = 99999\n", vec![(Code::ConfigBadValue, "postgresql.conf:1")]),
        (
            "include 'none.conf'\ninclude_if_exists 'none.conf'\n",
            vec![(Code::ConfigMissingFile, "postgresql.conf:1")],
        ),
        ("include_dir 'none.d'\n", vec![(Code::ConfigMissingFile, "postgresql.conf:1")]),
        ("data_directory = '/srv/none'\n", vec![(Code::ConfigMissingFile, "postgresql.conf:1")]),
        ("listen_addresses = '192.0.2.7'\n", vec![(Code::AddressNotHere, "postgresql.conf:1")]),
        ("listen_addresses = '192.0.2.7,127.0.0.1'\n", vec![]),
        ("ssl = on\nssl_cert_file = '/etc/none.pem'\n", vec![(Code::ConfigMissingFile, "postgresql.conf:2")]),
        ("ssl = off\nssl_cert_file = '/etc/none.pem'\n", vec![]),
        ("hba_file = '/etc/none/pg_hba.conf'\n", vec![(Code::ConfigMissingFile, "postgresql.conf:1")]),
    ] {
        let expected: Vec<(Code, String)> = expected.into_iter().map(|(c, p)| (c, p.to_owned())).collect();
        assert_eq!(errors(&postgresql(text)), expected, "{text}");
    }
}

fn fpm(main: &str, pool: &str) -> Configuration {
    let host = TextHost::new()
        .file("/etc/php/8.2/fpm/php-fpm.conf", main)
        .file("/etc/php/8.2/fpm/pool.d/www.conf", pool)
        .dir("/run/php", 0o755, 0);
    read(&host, "php-fpm", "/usr/sbin/php-fpm8.2 --nodaemonize")
}

const FPM: &str = "[global]\npid = /run/php/php8.2-fpm.pid\nerror_log = /var/log/php8.2-fpm.log\n\
    include=/etc/php/8.2/fpm/pool.d/*.conf\n";
const POOL: &str = "[tickets]\nuser = www-data\ngroup = www-data\nlisten = /run/php/$pool.sock\n\
    pm = static\npm.max_children = 3\n";

#[test]
fn pools_bring_their_listeners_and_their_account() {
    let found = fpm(FPM, POOL);
    assert_eq!(errors(&found), []);
    assert_eq!(listens(&found), ["/run/php/tickets.sock"]);
    assert_eq!(
        (log(&found), found.model.account.as_ref().unwrap().0.as_str()),
        ("/var/log/php8.2-fpm.log", "www-data")
    );
    for (address, expected) in [
        ("9000", "[::]:9000"),
        ("127.0.0.1:9001", "127.0.0.1:9001"),
        ("[::1]:9002", "[::1]:9002"),
        ("*:9003", "0.0.0.0:9003"),
    ] {
        assert_eq!(listens(&fpm(FPM, &POOL.replace("/run/php/$pool.sock", address))), [expected]);
    }
}

#[test]
fn pools_are_refused_where_the_daemon_would() {
    for (from, to, code, place) in [
        ("user = www-data", "user = ferryman", Code::AccountMissing, "www.conf:2"),
        ("user = www-data\n", "", Code::ConfigBadValue, "www.conf:1"),
        ("group = www-data", "group = ferrymen", Code::AccountMissing, "www.conf:3"),
        ("/run/php/$pool", "/run/none/x", Code::ConfigMissingFile, "www.conf:4"),
        ("pm = static", "nonsense", Code::ConfigSyntax, "www.conf:5"),
        ("[tickets]", "[tickets", Code::ConfigSyntax, "www.conf:1"),
        ("pm = static", "access.log = /srv/none/a.log", Code::ConfigMissingFile, "www.conf:5"),
        (
            "pm = static",
            "[b]\nuser = root\nlisten = /run/php/tickets.sock",
            Code::ConfigConflict,
            "www.conf:7",
        ),
    ] {
        assert_eq!(
            errors(&fpm(FPM, &POOL.replace(from, to))).first(),
            Some(&(code, place.to_owned())),
            "{to}"
        );
    }
    assert_eq!(errors(&fpm("[global]\n", POOL))[0].0, Code::ConfigSyntax, "no pool at all");
    assert_eq!(
        errors(&fpm(&FPM.replace("pool.d/*", "none.d/*"), POOL))[0],
        (Code::ConfigMissingFile, "php-fpm.conf:4".into())
    );
}

fn haproxy(text: &str) -> Configuration {
    let host = TextHost::new().file("/etc/haproxy/haproxy.cfg", text).dir("/var/lib/haproxy", 0o755, 0);
    let host = host.file("/x.pem", "");
    read(&host, "haproxy", "/usr/sbin/haproxy -Ws -f /etc/haproxy/haproxy.cfg -p /run/haproxy.pid")
}

const PROXY: &str = "global\n    user www-data\n    chroot /var/lib/haproxy\n\
    frontend front\n    bind *:8081 # pages\n    bind [::1]:8443 ssl crt \
    /x.pem\n    default_backend b\nbackend b\n    server a 127.0.0.1:8080\n";

#[test]
fn haproxy_binds_what_its_frontends_say() {
    let found = haproxy(PROXY);
    assert_eq!(errors(&found), []);
    assert_eq!(listens(&found), ["0.0.0.0:8081", "[::1]:8443"]);
    assert_eq!(
        (found.model.listens[1].tls, found.model.pid_file.as_ref().unwrap().path.as_str()),
        (true, "/run/haproxy.pid")
    );
    let ranges = haproxy("listen x\n  bind 127.0.0.1:81-83,:90\n  bind /run/x.sock\n");
    assert_eq!(
        listens(&ranges),
        ["127.0.0.1:81", "127.0.0.1:82", "127.0.0.1:83", "0.0.0.0:90", "/run/x.sock (optional)"]
    );
    assert!(ranges.model.listens[0].port_span.is_none(), "a range has no single number to move");
}

#[test]
fn haproxy_is_refused_where_it_would_be() {
    for (text, code, place) in [
        ("bind :80\n", Code::ConfigSyntax, "haproxy.cfg:1"),
        ("frontend\n  bind :80\n", Code::ConfigBadValue, "haproxy.cfg:1"),
        ("listen x\n  bind 127.0.0.1\n", Code::ConfigBadValue, "haproxy.cfg:2"),
        ("listen x\n  bind :99999\n", Code::ConfigBadValue, "haproxy.cfg:2"),
        ("listen x\n  bind :80\n  server a \"b\n", Code::ConfigSyntax, "haproxy.cfg:3"),
        ("listen x\n  bind :80", Code::ConfigSyntax, "haproxy.cfg:2"),
        ("global\n  user ferryman\nlisten x\n  bind :80\n", Code::AccountMissing, "haproxy.cfg:2"),
        ("global\n  chroot /srv/none\nlisten x\n  bind :80\n", Code::ConfigMissingFile, "haproxy.cfg:2"),
        ("listen x\n  bind 192.0.2.7:80\n", Code::AddressNotHere, "haproxy.cfg:2"),
        ("frontend x\n  bind :80\n  server a 127.0.0.1:1\n", Code::ConfigMisplacedDirective, "haproxy.cfg:3"),
        (
            "defaults\n  acl a src 127.0.0.1\nlisten x\n  bind :80\n",
            Code::ConfigMisplacedDirective,
            "haproxy.cfg:2",
        ),
    ] {
        assert_eq!(errors(&haproxy(text)).first(), Some(&(code, place.to_owned())), "{text}");
    }
}

#[test]
fn haproxy_without_a_listener_ends_unless_a_master_waits_for_one() {
    let alone = |text: &str| {
        let host = TextHost::new().file("/etc/haproxy/haproxy.cfg", text).dir("/run", 0o755, 0);
        errors(&read(&host, "haproxy", "/usr/sbin/haproxy -f /etc/haproxy/haproxy.cfg"))
    };
    for text in [
        "global\n",
        "frontend x\n  mode http\n",
        "global\n  stats timeout 3s\nbackend b\n  server a 127.0.0.1:1\n",
    ] {
        assert_eq!(alone(text), [(Code::ConfigSyntax, "-".to_owned())], "{text}");
        assert_eq!(errors(&haproxy(text)), [], "{text}");
    }
    for text in
        ["global\n  stats socket /run/x.sock\n", "frontend x\n  bind /run/x.sock\n", "listen x\n  bind :80\n"]
    {
        assert_eq!(alone(text), [], "{text}");
    }
}

fn tomcat(xml: &str) -> (TextHost, Configuration) {
    let host = TextHost::new()
        .file("/var/lib/tomcat10/conf/server.xml", xml)
        .file("/var/lib/tomcat10/logs/catalina.2031-04-01.log", "")
        .file("/var/lib/tomcat10/logs/catalina.2031-04-02.log", "");
    let found = read(&host, "tomcat", "/bin/sh /usr/libexec/tomcat10/tomcat-start.sh");
    (host, found)
}

const SERVER: &str = "<?xml version=\"1.0\"?>\n\
    <Server port=\"8005\" shutdown=\"OFF\">\n  <!-- <Connector port=\"1\"/> -->\n  <Service \
    name=\"Catalina\">\n    <Connector port=\"8080\" protocol=\"HTTP/1.1\"/>\n    <Connector \
    protocol=\"AJP/1.3\" port=\"8009\"/>\n    <Engine><Host name=\"localhost\"/></Engine>\n  </Service>\n\
    </Server>\n";

#[test]
fn tomcat_opens_its_connectors_and_its_stop_port() {
    let (host, found) = tomcat(SERVER);
    assert_eq!(errors(&found), []);
    assert_eq!(listens(&found), ["127.0.0.1:8005", "[::]:8080", "127.0.0.1:8009"]);
    assert_eq!(port_text(&host, &found, 1), "8080");
    assert_eq!(log(&found), "/var/lib/tomcat10/logs/catalina.2031-04-02.log");
    assert_eq!(found.model.listens[1].place.as_ref().unwrap().line, 5);
}

#[test]
fn tomcat_does_not_start_without_a_whole_file() {
    assert_eq!(errors(&tomcat(&SERVER.replace("  </Service>\n", "")).1)[0].0, Code::ConfigSyntax);
    assert_eq!(errors(&tomcat("<Tide/>").1), [(Code::ConfigSyntax, "server.xml:1".into())]);
    assert_eq!(
        errors(&tomcat(&SERVER.replace(" name=\"localhost\"", "")).1),
        [(Code::ConfigBadValue, "server.xml:7".into())]
    );
    assert_eq!(errors(&tomcat(&SERVER.replace("8080", "many")).1), [], "a bad port is only logged");
}
