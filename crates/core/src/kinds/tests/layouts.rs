//! Where the daemons stand in the layouts of the distribution families, and how start commands lead to them.
//! Layouts other than Debian's are simulated: trees written by hand from the families' documentation.
use crate::kinds::unwrapped;
use crate::services_file::ServicesFile;
use crate::snapshot::Snapshot;
use crate::tests::TextHost;

/// Name, kind and main configuration of everything that is found.
fn found(host: &TextHost) -> Vec<(String, &'static str, String)> {
    let all = crate::service::find(&Snapshot::new(host), &ServicesFile::default());
    all.into_iter().map(|s| (s.name, s.kind.name(), s.instance.config)).collect()
}

fn unit(command: &str) -> String {
    format!("[Service]\nExecStart={command}\n[Install]\nWantedBy=multi-user.target\n")
}

#[test]
fn daemons_of_the_families_are_found_by_what_their_units_start() {
    for (family, name, command, config, kind) in [
        ("Red Hat", "httpd", "/usr/sbin/httpd $OPTIONS -DFOREGROUND", "/etc/httpd/conf/httpd.conf", "httpd"),
        (
            "SUSE",
            "apache2",
            "/usr/sbin/start_apache2 -DSYSTEMD -DFOREGROUND -k start",
            "/etc/apache2/httpd.conf",
            "httpd",
        ),
        ("Arch", "httpd", "/usr/bin/httpd -k start -DFOREGROUND", "/etc/httpd/conf/httpd.conf", "httpd"),
        ("Arch", "mariadb", "/usr/bin/mariadbd $MYSQLD_OPTS $_WSREP_NEW_CLUSTER", "/etc/my.cnf", "mysql"),
        ("Red Hat", "mysqld", "/usr/sbin/mysqld $MYSQLD_OPTS", "/etc/my.cnf", "mysql"),
        (
            "Red Hat",
            "postgresql",
            "/usr/bin/postmaster -D /var/lib/pgsql/data",
            "/var/lib/pgsql/data/postgresql.conf",
            "postgresql",
        ),
        (
            "Red Hat",
            "postgresql-16",
            "/usr/pgsql-16/bin/postgres -D /var/lib/pgsql/16/data",
            "/var/lib/pgsql/16/data/postgresql.conf",
            "postgresql",
        ),
        (
            "Arch",
            "postgresql",
            "/usr/bin/postgres -D /var/lib/postgres/data",
            "/var/lib/postgres/data/postgresql.conf",
            "postgresql",
        ),
        (
            "Red Hat",
            "redis",
            "/usr/bin/redis-server /etc/redis/redis.conf --daemonize no --supervised systemd",
            "/etc/redis/redis.conf",
            "redis",
        ),
        (
            "Arch",
            "valkey",
            "/usr/bin/valkey-server /etc/valkey/valkey.conf",
            "/etc/valkey/valkey.conf",
            "redis",
        ),
        ("Red Hat", "php-fpm", "/usr/sbin/php-fpm --nodaemonize", "/etc/php-fpm.conf", "php-fpm"),
        (
            "Arch",
            "php-fpm",
            "/usr/bin/php-fpm --nodaemonize --fpm-config /etc/php/php-fpm.conf",
            "/etc/php/php-fpm.conf",
            "php-fpm",
        ),
        (
            "Red Hat",
            "tomcat",
            "/usr/libexec/tomcat/server start",
            "/usr/share/tomcat/conf/server.xml",
            "tomcat",
        ),
        ("by hand", "boarding", "/opt/tomcat/bin/catalina.sh run", "/opt/tomcat/conf/server.xml", "tomcat"),
        ("by hand", "edge", "/usr/local/nginx/sbin/nginx", "/usr/local/nginx/conf/nginx.conf", "nginx"),
        (
            "by hand",
            "front",
            "/usr/local/apache2/bin/httpd -k start",
            "/usr/local/apache2/conf/httpd.conf",
            "httpd",
        ),
    ] {
        let host = TextHost::new()
            .file(&format!("/usr/lib/systemd/system/{name}.service"), &unit(command))
            .file(config, "");
        assert_eq!(found(&host), [(name.to_owned(), kind, config.to_owned())], "{family}: {command}");
    }
}

#[test]
fn shells_and_starters_in_front_of_a_daemon_are_looked_through() {
    for (words, expected) in [
        (
            vec![
                "/bin/sh",
                "-c",
                "set -f; [ ! -e /usr/bin/galera ] && V= || V=`/usr/bin/galera`; exec /usr/sbin/mariadbd \
                    $OPTS $V",
            ],
            "/usr/sbin/mariadbd $OPTS $V",
        ),
        (vec!["/bin/sh", "/usr/libexec/tomcat10/tomcat-start.sh"], "/usr/libexec/tomcat10/tomcat-start.sh"),
        (vec!["/usr/bin/env", "-i", "A=1", "/usr/sbin/nginx", "-c", "/e.conf"], "/usr/sbin/nginx -c /e.conf"),
        (vec!["/usr/bin/nice", "-n", "5", "/opt/java", "-jar", "x.jar"], "/opt/java -jar x.jar"),
        (vec!["/usr/bin/bash", "-lc", "cd /opt && exec java -jar x.jar && echo no"], "java -jar x.jar"),
        (vec!["/opt/tide-relay", "--listen", "7400"], "/opt/tide-relay --listen 7400"),
        (vec!["/bin/sh", "-c", "sleep 5"], "/bin/sh -c sleep 5"),
    ] {
        let words: Vec<String> = words.into_iter().map(str::to_owned).collect();
        assert_eq!(unwrapped(&words).join(" "), expected);
    }
}

#[test]
fn clusters_of_one_host_stay_apart_and_a_single_one_answers_to_the_umbrella() {
    let template = "[Unit]\nPartOf=postgresql.service\n[Service]\n\
        ExecStart=-/usr/bin/pg_ctlcluster --skip-systemctl-redirect %i start\n";
    let one = TextHost::new()
        .file("/lib/systemd/system/postgresql@.service", template)
        .file(
            "/lib/systemd/system/postgresql.service",
            "[Service]\nType=oneshot\nExecStart=/bin/true\n[Install]\nWantedBy=multi-user.target\n",
        )
        .link(
            "/etc/systemd/system/multi-user.target.wants/postgresql.service",
            "/lib/systemd/system/postgresql.service",
        )
        .file("/etc/postgresql/15/main/postgresql.conf", "")
        .file("/etc/postgresql/15/main/start.conf", "# how\nauto\n");
    let service = crate::service::named(&Snapshot::new(&one), &ServicesFile::default(), "postgresql")
        .expect("the only cluster");
    assert_eq!((service.name.as_str(), service.boots()), ("postgresql@15-main", Some(true)));
    let two = one
        .file("/etc/postgresql/16/bookings/postgresql.conf", "")
        .file("/etc/postgresql/16/bookings/start.conf", "manual\n");
    let names: Vec<String> = found(&two).into_iter().map(|f| f.0).collect();
    assert_eq!(names, ["postgresql@15-main", "postgresql@16-bookings"]);
    let second =
        crate::service::named(&Snapshot::new(&two), &ServicesFile::default(), "postgresql@16-bookings")
            .expect("by its own name");
    assert_eq!(second.boots(), Some(false));
    assert!(
        crate::service::named(&Snapshot::new(&two), &ServicesFile::default(), "postgresql").is_none(),
        "which of them is a person's word"
    );
}

#[test]
fn programs_that_share_a_runtime_stay_apart() {
    let tomcat = "/usr/lib/jvm/java/bin/java -Dcatalina.base=/var/lib/tomcat10 \
        org.apache.catalina.startup.Bootstrap start";
    let host = TextHost::new()
        .file(
            "/etc/systemd/system/boarding.service",
            &unit("/usr/bin/java -jar /opt/boarding/boarding.jar --server.port=8085"),
        )
        .file("/var/lib/tomcat10/conf/server.xml", "<Server/>")
        .process(300, "/usr/bin/java -jar /opt/boarding/boarding.jar", 0, "/system.slice/boarding.service")
        .process(301, tomcat, 0, "")
        .process(302, "/usr/bin/java -jar /opt/tides/tides.jar", 0, "");
    let all: Vec<(String, &str)> = found(&host).into_iter().map(|f| (f.0, f.1)).collect();
    assert_eq!(
        all,
        [("boarding".to_owned(), "java"), ("java".to_owned(), "tomcat"), ("tides".to_owned(), "java")]
    );
}

#[test]
fn a_service_that_only_an_init_script_starts_is_found_and_can_be_started_and_stopped() {
    let host = TextHost::new()
        .file(
            "/etc/init.d/edge",
            "DAEMON=/usr/sbin/nginx\nDAEMON_OPTS='-c /etc/nginx/nginx.conf'\nPIDFILE=/run/nginx.pid\n",
        )
        .file("/etc/nginx/nginx.conf", "events {}\n")
        .link("/etc/rc3.d/S20edge", "../init.d/edge");
    let service =
        crate::service::named(&Snapshot::new(&host), &ServicesFile::default(), "edge").expect("it is found");
    assert_eq!((service.kind.name(), service.unit_name(), service.boots()), ("nginx", None, Some(true)));
    assert_eq!(service.described.start.as_deref(), Some("/etc/init.d/edge start"));
    assert_eq!(service.described.pid_file.as_deref(), Some("/run/nginx.pid"));
    assert_eq!(found(&host).len(), 1);
}

#[test]
fn a_services_file_can_be_the_whole_world() {
    let host = TextHost::new()
        .file("/etc/systemd/system/edge.service", &unit("/usr/sbin/nginx"))
        .file("/etc/init.d/front", "DAEMON=/usr/sbin/apache2\n")
        .file("/etc/postgresql/15/main/postgresql.conf", "")
        .file("/lib/systemd/system/postgresql@.service", &unit("/usr/bin/pg_ctlcluster %i start"))
        .process(71, "/usr/bin/redis-server *:6379", 0, "");
    let own = "[service.tide-relay]\nkind = \"program\"\nstart = \"/opt/tide-relay\"\n";
    let names = |text: &str| -> Vec<String> {
        let file = crate::services_file::parse(text).expect("it parses");
        crate::service::find(&Snapshot::new(&host), &file).into_iter().map(|s| s.name).collect()
    };
    assert_eq!(names(own), ["edge", "front", "postgresql@15-main", "redis-server", "tide-relay"]);
    assert_eq!(names(&format!("only_these = true\n{own}")), ["tide-relay"]);
    let file = crate::services_file::parse(&format!("only_these = true\n{own}")).expect("it parses");
    assert!(crate::service::named(&Snapshot::new(&host), &file, "edge").is_none());
}
