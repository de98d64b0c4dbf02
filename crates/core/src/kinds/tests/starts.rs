//! What each kind's start does and asks for: whether it leaves the foreground, whether it tells the manager,
//! memory, files, locks.
use crate::config::{Configuration, Demand, Resource};
use crate::kinds::{Instance, KINDS, kind};
use crate::snapshot::Snapshot;
use crate::tests::TextHost;

fn read(host: &TextHost, name: &str, command: &str, environment: &[(&str, &str)]) -> Configuration {
    let snapshot = Snapshot::new(host);
    let kind = kind(name).expect("a kind");
    let environment = environment.iter().map(|(k, v)| ((*k).to_owned(), (*v).to_owned())).collect();
    let mut instance =
        Instance { command: crate::manager::split_words(command), environment, ..Instance::default() };
    kind.locate(&snapshot, &mut instance);
    kind.read(&snapshot, &instance)
}

/// Whether it goes to the background, and whether it tells the manager when it is ready.
#[track_caller]
fn start(name: &str, file: (&str, &str), command: &str, expected: (Option<bool>, Option<bool>)) {
    let host = TextHost::new().file(file.0, file.1);
    let found = read(&host, name, command, &[]);
    assert_eq!((found.model.background, found.model.notifies), expected, "{command} with {:?}", file.1);
}

#[test]
fn the_foreground_is_left_or_kept_as_command_and_file_say() {
    const NGINX: &str = "events { }\nhttp { }\n";
    start("nginx", ("/etc/nginx/nginx.conf", NGINX), "/usr/sbin/nginx", (Some(true), Some(false)));
    start(
        "nginx",
        ("/etc/nginx/nginx.conf", &format!("daemon off;\n{NGINX}")),
        "/usr/sbin/nginx",
        (Some(false), Some(false)),
    );
    start(
        "nginx",
        ("/etc/nginx/nginx.conf", NGINX),
        "/usr/sbin/nginx -g 'daemon off;'",
        (Some(false), Some(false)),
    );
    const HTTPD: (&str, &str) = ("/etc/apache2/apache2.conf", "ServerName front\n");
    start("httpd", HTTPD, "/usr/sbin/apachectl start", (Some(true), None));
    start("httpd", HTTPD, "/usr/sbin/apache2 -D FOREGROUND", (Some(false), None));
    start("httpd", HTTPD, "/usr/sbin/httpd -DFOREGROUND", (Some(false), None));
    const HAPROXY: (&str, &str) = ("/etc/haproxy/haproxy.cfg", "global\n  daemon\n");
    start("haproxy", HAPROXY, "/usr/sbin/haproxy -f /etc/haproxy/haproxy.cfg", (Some(true), Some(false)));
    start("haproxy", HAPROXY, "/usr/sbin/haproxy -Ws -f /etc/haproxy/haproxy.cfg", (Some(false), Some(true)));
    start(
        "haproxy",
        HAPROXY,
        "/usr/sbin/haproxy -db -f /etc/haproxy/haproxy.cfg",
        (Some(false), Some(false)),
    );
    const REDIS: (&str, &str) = ("/etc/redis/redis.conf", "daemonize yes\nsupervised no\n");
    start("redis", REDIS, "/usr/bin/redis-server /etc/redis/redis.conf", (Some(true), Some(false)));
    start(
        "redis",
        REDIS,
        "/usr/bin/redis-server /etc/redis/redis.conf --supervised systemd --daemonize no",
        (Some(false), Some(true)),
    );
    start(
        "redis",
        ("/etc/redis/redis.conf", "port 1\n"),
        "/usr/bin/redis-server /etc/redis/redis.conf",
        (Some(false), Some(false)),
    );
    const FPM: (&str, &str) = ("/etc/php/8.2/fpm/php-fpm.conf", "[global]\n[p]\nlisten = /run/p.sock\n");
    start("php-fpm", FPM, "/usr/sbin/php-fpm8.2", (Some(true), None));
    start("php-fpm", FPM, "/usr/sbin/php-fpm8.2 --nodaemonize", (Some(false), None));
    start(
        "php-fpm",
        ("/etc/php/8.2/fpm/php-fpm.conf", "[global]\ndaemonize = no\n[p]\nlisten = /run/p.sock\n"),
        "/usr/sbin/php-fpm8.2",
        (Some(false), None),
    );
    start("mysql", ("/etc/my.cnf", "[mysqld]\n"), "/usr/sbin/mariadbd", (Some(false), None));
    start("mysql", ("/etc/my.cnf", "[mysqld]\n"), "/usr/sbin/mysqld --daemonize", (Some(true), None));
    const POSTGRES: (&str, &str) = ("/srv/b/postgresql.conf", "port = 5433\n");
    start("postgresql", POSTGRES, "/usr/lib/postgresql/15/bin/postgres -D /srv/b", (Some(false), None));
    start("postgresql", POSTGRES, "/usr/lib/postgresql/15/bin/pg_ctl start -D /srv/b", (Some(true), None));
    const TOMCAT: (&str, &str) = ("/opt/tomcat/conf/server.xml", "<Server port=\"-1\"/>");
    start("tomcat", TOMCAT, "/opt/tomcat/bin/catalina.sh run", (Some(false), None));
    start("tomcat", TOMCAT, "/opt/tomcat/bin/catalina.sh start", (Some(true), None));
    start("tomcat", TOMCAT, "/opt/tomcat/bin/startup.sh", (Some(true), None));
}

fn demands(found: &[Demand]) -> Vec<(Resource, u64, &str, Option<u32>)> {
    found
        .iter()
        .map(|d| (d.resource, d.amount, d.directive.as_str(), d.place.as_ref().map(|p| p.line)))
        .collect()
}

#[test]
fn memory_of_the_databases_is_counted_in_their_own_units() {
    let mysql = |text: &str, command: &str| {
        let host = TextHost::new().file("/etc/my.cnf", text);
        let found = read(&host, "mysql", command, &[]);
        demands(&found.model.demands).first().map(|d| (d.1, d.3)).expect("a demand")
    };
    assert_eq!(mysql("[mysqld]\n", "/usr/sbin/mariadbd"), (128 << 20, None));
    assert_eq!(mysql("[mysqld]\ninnodb-buffer-pool-size = 2G\n", "/usr/sbin/mariadbd"), (2 << 30, Some(2)));
    assert_eq!(
        mysql("[mysqld]\ninnodb_buffer_pool_size=512M\n", "/usr/sbin/mariadbd --innodb-buffer-pool-size=1G")
            .0,
        1 << 30
    );
    let postgres = |text: &str| {
        let found = read(
            &TextHost::new().file("/srv/b/postgresql.conf", text),
            "postgresql",
            "/usr/lib/postgresql/15/bin/postgres -D /srv/b",
            &[],
        );
        demands(&found.model.demands).first().map(|d| (d.0, d.1)).expect("a demand")
    };
    for (text, expected) in [
        ("", (Resource::Memory, 128 << 20)),
        ("shared_buffers = 1GB", (Resource::Memory, 1 << 30)),
        ("shared_buffers = 1000", (Resource::Memory, 8_192_000)),
        ("shared_buffers = '256 MB'", (Resource::Memory, 256 << 20)),
        ("shared_buffers = 512kB", (Resource::Memory, 512 << 10)),
        ("huge_pages = on", (Resource::HugePages, 128 << 20)),
        ("huge_pages = try", (Resource::Memory, 128 << 20)),
        ("shared_memory_type = sysv", (Resource::SharedMemory, 128 << 20)),
    ] {
        assert_eq!(postgres(text), expected, "{text}");
    }
}

#[test]
fn the_heap_of_a_virtual_machine_comes_from_command_and_environment() {
    let java = |command: &str, environment: &[(&str, &str)]| {
        let found = read(&TextHost::new(), "java", command, environment);
        demands(&found.model.demands).into_iter().map(|(r, a, d, _)| (r, a, d.to_owned())).collect::<Vec<_>>()
    };
    assert_eq!(
        java("/opt/jdk/bin/java -Xms256m -Xmx1g -Xmx2g -jar /opt/b.jar", &[]),
        [
            (Resource::Memory, 256 << 20, "-Xms256m".to_owned()),
            (Resource::AddressSpace, 2 << 30, "-Xmx2g".to_owned())
        ]
    );
    assert_eq!(
        java("/opt/jdk/bin/java -jar /opt/b.jar", &[("JAVA_TOOL_OPTIONS", "-Xmx512m -Dx=1")]),
        [(Resource::AddressSpace, 512 << 20, "-Xmx512m".to_owned())]
    );
    assert_eq!(
        java("/opt/jdk/bin/java -XX:InitialHeapSize=1048576 -jar /opt/b.jar", &[]),
        [(Resource::Memory, 1 << 20, "-XX:InitialHeapSize=1048576".to_owned())]
    );
    assert_eq!(java("/opt/jdk/bin/java -Xmxlots -jar /opt/b.jar", &[]), []);
}

#[test]
fn connections_need_two_files_each() {
    let haproxy = |global: &str| {
        let found = read(
            &TextHost::new().file("/etc/haproxy/haproxy.cfg", &format!("global\n  {global}\n")),
            "haproxy",
            "/usr/sbin/haproxy -f /etc/haproxy/haproxy.cfg",
            &[],
        );
        demands(&found.model.demands)
            .into_iter()
            .map(|(r, a, d, l)| (r, a, d.to_owned(), l))
            .collect::<Vec<_>>()
    };
    assert_eq!(haproxy("maxconn 4000"), [(Resource::Files, 8000, "maxconn".to_owned(), Some(2))]);
    assert_eq!(haproxy("ulimit-n 9000"), [(Resource::Files, 9000, "ulimit-n".to_owned(), Some(2))]);
    assert_eq!(haproxy("maxconn many"), []);
}

#[test]
fn postgresql_locks_its_data_and_each_of_its_sockets() {
    let locks = |command: &str, conf: &str| {
        let host = TextHost::new().file(conf, "port = 5433\nunix_socket_directories = '/run/a, /run/b'\n");
        let found = read(&host, "postgresql", command, &[]);
        found.model.locks.into_iter().map(|l| l.path).collect::<Vec<_>>()
    };
    assert_eq!(
        locks("/usr/lib/postgresql/15/bin/postgres -D /srv/b", "/srv/b/postgresql.conf"),
        ["/srv/b/postmaster.pid", "/run/a/.s.PGSQL.5433.lock", "/run/b/.s.PGSQL.5433.lock"]
    );
    assert_eq!(
        locks("/usr/bin/pg_ctlcluster 15-main start", "/etc/postgresql/15/main/postgresql.conf"),
        ["/run/a/.s.PGSQL.5433.lock", "/run/b/.s.PGSQL.5433.lock"],
        "its control script looks after the lock of the data"
    );
}

#[test]
fn only_servers_that_follow_others_are_standbys() {
    let host = TextHost::new().file("/srv/b/recovery.signal", "");
    let snapshot = Snapshot::new(&host);
    for kind in KINDS {
        let standby = kind.standby(&snapshot, "/srv/b");
        assert_eq!(standby.is_some(), kind.name() == "postgresql", "{}", kind.name());
    }
    assert_eq!(kind("postgresql").unwrap().standby(&snapshot, "/srv/none"), None);
}

#[test]
fn a_server_without_its_option_files_reads_none() {
    let host = TextHost::new().file("/etc/my.cnf", "[mysqld]\nport = 3399\n");
    let port = |command: &str| {
        read(&host, "mysql", command, &[])
            .model
            .listens
            .iter()
            .find(|l| l.listen.port > 0)
            .map(|l| l.listen.port)
    };
    assert_eq!(port("/usr/sbin/mariadbd"), Some(3399));
    assert_eq!(port("/usr/sbin/mariadbd --no-defaults"), Some(3306));
    assert_eq!(port("/usr/sbin/mariadbd --no-defaults --skip-networking"), None);
}

#[test]
fn a_module_of_a_cache_is_a_path_that_must_exist_and_a_bare_name_is_not_judged() {
    let missing = |module: &str| {
        let host = TextHost::new().dir("/srv", 0o755, 0).file("/srv/tide.so", "").file(
            "/etc/redis/redis.conf",
            &format!("loadmodule /srv/tide.so LEVEL 3\nloadmodule {module} LEVEL 3\n"),
        );
        let found = read(&host, "redis", "/usr/bin/redis-server /etc/redis/redis.conf", &[]);
        found.findings.iter().map(|f| (f.code, f.place.as_ref().map(|p| p.line))).collect::<Vec<_>>()
    };
    assert_eq!(missing("/srv/none.so"), [(crate::code::Code::ConfigMissingFile, Some(2))]);
    assert_eq!(missing("none.so"), []);
    assert_eq!(missing("/srv/tide.so"), []);
}
