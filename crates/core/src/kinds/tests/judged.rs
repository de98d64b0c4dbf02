//! Whole configurations of databases and pools, judged with a release that their tables stand for. Every
//! expectation was asked of the daemon itself.
use super::settings::{errors, read};
use crate::code::Code::{
    self, ConfigBadValue as Bad, ConfigConflict as Conflict, ConfigMissingFile as Missing,
    ConfigSyntax as Syntax, ConfigUnknownDirective as Unknown,
};
use crate::config::Configuration;
use crate::tests::TextHost;

fn installed(package: &str, version: &str) -> TextHost {
    let status = format!("Package: {package}\nStatus: install ok installed\nVersion: {version}\n");
    TextHost::new().file("/var/lib/dpkg/status", &status)
}

#[track_caller]
fn told(found: &Configuration, wanted: &[(Code, &str)], text: &str) {
    let own = errors(found);
    let own: Vec<(Code, &str)> = own.iter().map(|(code, place)| (*code, place.as_str())).collect();
    assert_eq!(own, wanted, "{text}");
}

fn postgresql(text: &str, rules: &str) -> Configuration {
    let host = installed("postgresql-15", "15.20-0+deb12u1")
        .file("/data/postgresql.conf", text)
        .file("/data/pg_hba.conf", rules)
        .file("/data/PG_VERSION", "15\n")
        .dir("/usr/share/zoneinfo/Europe", 0o755, 0)
        .file("/usr/share/zoneinfo/Europe/Lisbon", "x")
        .dir("/usr/lib/postgresql/15/lib", 0o755, 0)
        .file("/usr/lib/postgresql/15/lib/auto_explain.so", "x");
    read(&host, "postgresql", "/usr/lib/postgresql/15/bin/postgres -D /data")
}

#[test]
fn postgresql_names_values_and_what_goes_together() {
    const RULES: &str = "local all all peer\n";
    for (text, wanted) in [
        ("shared_buffers = 128MB\nwork_mem=4096\nfsync = of\ntide.gauge = 1\n", &[][..]),
        ("shared_buffer = 1\n", &[(Unknown, "postgresql.conf:1")]),
        ("port = 1x\nfoo = 1\n", &[(Unknown, "postgresql.conf:2"), (Bad, "postgresql.conf:1")]),
        ("work_mem = 1\nwork_mem = tide\nwork_mem = 4MB\n", &[]),
        ("work_mem = 4mb\n", &[(Bad, "postgresql.conf:1")]),
        ("sort_mem = 4MB\nsummarize_wal = on\n", &[(Unknown, "postgresql.conf:2")]),
        ("server_version = '15'\n", &[(Bad, "postgresql.conf:1")]),
        ("timezone = 'europe/lisbon'\nlog_timezone = 'Europe/None'\n", &[(Bad, "postgresql.conf:2")]),
        ("datestyle = 'iso, mdy'\nclient_encoding = 'tide'\n", &[(Bad, "postgresql.conf:2")]),
        ("max_connections = 3\n", &[(Conflict, "postgresql.conf:1")]),
        ("wal_level = minimal\n", &[(Conflict, "postgresql.conf:1")]),
        ("wal_level = minimal\nmax_wal_senders = 0\narchive_mode = on\n", &[(Conflict, "postgresql.conf:3")]),
        ("recovery_target_xid = 5\nrecovery_target_name = 'ebb'\n", &[(Conflict, "postgresql.conf:2")]),
        ("log_statement_stats = on\nlog_parser_stats = on\n", &[(Conflict, "postgresql.conf:2")]),
        ("shared_preload_libraries = 'auto_explain'\n", &[]),
        ("shared_preload_libraries = 'auto_explain, tide'\n", &[(Missing, "postgresql.conf:1")]),
        ("listen_addresses = 'a,,b'\n", &[(Bad, "postgresql.conf:1")]),
        ("max_stack_depth = 9MB\n", &[(Conflict, "postgresql.conf:1")]),
    ] {
        told(&postgresql(text, RULES), wanted, text);
    }
    let near = postgresql("shared_bufers = 1\n", RULES);
    let edit = near.findings[0].edit.clone().expect("the name that was meant");
    assert_eq!((edit.0.start, edit.0.end, edit.1.as_str()), (0, 13, "shared_buffers"));
}

#[test]
fn postgresql_access_rules_end_the_start_as_well() {
    for (rules, wanted) in [
        ("local all all peer\nhost all all 10.0.0.0/8 md5\n", &[][..]),
        ("local all all peer\nhost all all 10.0.0.0/8 md\n", &[(Syntax, "pg_hba.conf:2")]),
        ("# nothing\n", &[(Syntax, "-")]),
        (
            "host all all 10.0.0.1 md5\nlocal all peer\n",
            &[(Syntax, "pg_hba.conf:1"), (Syntax, "pg_hba.conf:2")],
        ),
        ("local @none all peer\n", &[(Syntax, "pg_hba.conf:1")]),
    ] {
        told(&postgresql("", rules), wanted, rules);
    }
}

fn mariadb(text: &str) -> Configuration {
    let host = installed("mariadb-server", "1:10.11.19-0+deb12u1")
        .file("/etc/mysql/my.cnf", text)
        .file("/etc/mysql/conf.d/a.cnf", "[mysqld\nport=5\n")
        .file("/etc/mysql/more.cnf", "[mysqld]\nprt=5\n")
        .dir("/var/lib/mysql", 0o750, 0)
        .dir("/run/mysqld", 0o755, 0);
    read(&host, "mysql", "/usr/sbin/mariadbd")
}

#[test]
fn mariadb_options_of_its_own_groups_are_judged() {
    for (text, wanted) in [
        ("[mysqld]\nmax-connections = 100\nskip-name-resolve\n[mysqldump]\ntide\n", &[][..]),
        ("[mysqld]\nmax_connection = x # ambiguous\n", &[(Bad, "my.cnf:2")]),
        ("[mysqld]\nprt = 5\n", &[(Unknown, "my.cnf:2")]),
        ("[mysqld]\nport 5\n", &[(Unknown, "my.cnf:2")]),
        ("[mysqld]\nport\n", &[(Bad, "my.cnf:2")]),
        ("[mysqld]\nport = 5x\n", &[(Bad, "my.cnf:2")]),
        ("[mariadb-10.11]\nprt=1\n[mariadb-10.6]\nprt=1\n", &[(Unknown, "my.cnf:2")]),
        ("[mysqld]\n!include /etc/mysql/none.cnf\n!includedir /etc/mysql/conf.d\n!other\n", &[]),
        ("[mysqld]\n!includedir /etc/none\n", &[(Missing, "my.cnf:2")]),
        ("[mysqld]\n!include /etc/mysql/more.cnf\n", &[(Unknown, "more.cnf:2")]),
        ("port=5\n", &[(Syntax, "my.cnf:1")]),
        ("[mysqld]\nloose-prt=5\nloose_port=x\n", &[]),
    ] {
        told(&mariadb(text), wanted, text);
    }
}

#[test]
fn words_before_a_name_say_what_is_meant() {
    let found = mariadb(
        "[mysqld]\nskip-innodb-doublewrite\nskip-name-resolve\nsql_mode = 'a \
     b\\sc'\nlog-bin=x#y\n",
    );
    let of = |name: &str| {
        let one = found.model.settings.iter().find(|s| s.name == name);
        one.map(|s| s.value.to_string())
    };
    assert_eq!(of("innodb_doublewrite").as_deref(), Some("OFF"));
    assert_eq!(of("skip_name_resolve").as_deref(), Some("ON"));
    assert_eq!(of("sql_mode").as_deref(), Some("a b c"));
    assert_eq!(of("log_bin").as_deref(), Some("x"), "a comment needs no blank before it");
}

fn fpm(pool: &str) -> Configuration {
    let host = installed("php8.2-fpm", "8.2.36-1~deb12u1")
        .file("/etc/php/8.2/fpm/php-fpm.conf", &format!("[global]\n{pool}"))
        .file("/etc/passwd", "www-data:x:33:33::/:/bin/sh\n")
        .file("/etc/group", "www-data:x:33:\n")
        .dir("/run/php", 0o755, 0)
        .dir("/usr/bin", 0o755, 0)
        .dir("/var/log", 0o755, 0);
    read(&host, "php-fpm", "/usr/sbin/php-fpm8.2 --nodaemonize")
}

#[test]
fn pools_are_judged_entry_by_entry_and_then_as_a_whole() {
    let pool = |more: &str| {
        format!("[tickets]\nuser = www-data\nlisten = 9000\npm = static\npm.max_children = 5\n{more}")
    };
    let at = |line: &'static str| line;
    for (text, wanted) in [
        (pool("php_admin_value[memory_limit] = 64M\nenv[TIDE] = ebb\n"), &[][..]),
        (pool("pm.max_childrn = 5\n"), &[(Unknown, at("php-fpm.conf:7"))]),
        (pool("daemonize = no\n"), &[(Unknown, "php-fpm.conf:7")]),
        (pool("pm.max_requests = many\n"), &[(Bad, "php-fpm.conf:7")]),
        (pool("pm = dynamic\n"), &[(Bad, "php-fpm.conf:2")]),
        (
            pool("pm = dynamic\npm.min_spare_servers = 4\npm.max_spare_servers = 9\n"),
            &[(Bad, "php-fpm.conf:9")],
        ),
        (pool("ping.path = ping\n"), &[(Bad, "php-fpm.conf:7")]),
        (pool("request_slowlog_timeout = 5s\n"), &[(Conflict, "php-fpm.conf:7")]),
        (pool("access.log = /var/log/a.log\naccess.format = '%x'\n"), &[(Bad, "php-fpm.conf:8")]),
        (pool("chdir = quay\n"), &[(Missing, "php-fpm.conf:7")]),
        (pool("ping.response = a=b\n"), &[(Syntax, "php-fpm.conf:7")]),
        ("log_limit = 5\n".to_owned() + &pool(""), &[(Bad, "php-fpm.conf:2")]),
        ("[tickets]\nuser = www-data\n".to_owned(), &[(Bad, "php-fpm.conf:2")]),
        ("log_level = error\n".to_owned(), &[(Syntax, "-")]),
    ] {
        told(&fpm(&text), wanted, &text);
    }
}
