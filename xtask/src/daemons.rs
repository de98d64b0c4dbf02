//! The daemons that the driver of `attempts` starts, stops and breaks.

/// One daemon with a way to break it whose reason is known.
pub(crate) struct Daemon {
    pub(crate) unit: &'static str,
    /// Shell commands that make its log tell more, or move it to a file.
    pub(crate) prepare: &'static str,
    pub(crate) process: &'static str,
    pub(crate) broken: &'static [(&'static str, &'static str, &'static str)],
    pub(crate) reload: bool,
    /// Whether its log says a word when it dies by itself.
    pub(crate) tells_crash: bool,
}

pub(crate) const DAEMONS: &[Daemon] = &[
    Daemon {
        unit: "nginx",
        prepare: "sed -i 's#error_log .*#error_log /var/log/nginx/error.log notice;#' /etc/nginx/nginx.conf; \
            sed -i 's/80 default/8081 default/' /etc/nginx/sites-enabled/default",
        process: "nginx",
        broken: &[
            (
                "echo 'tide on;' >> /etc/nginx/nginx.conf",
                "sed -i '/^tide on;/d' /etc/nginx/nginx.conf",
                "config-unknown-directive",
            ),
            ("hold-port 0.0.0.0 8081", "pkill -9 python3; sleep 0.1", "port-taken"),
            (
                "mv /etc/nginx/mime.types /etc/nginx/m",
                "mv /etc/nginx/m /etc/nginx/mime.types",
                "config-missing-file",
            ),
        ],
        reload: true,
        tells_crash: false,
    },
    Daemon {
        unit: "apache2",
        prepare: "sed -i 's/^Listen 80$/Listen 8082/' /etc/apache2/ports.conf; sed -i 's/:80>/:8082>/' \
            /etc/apache2/sites-enabled/000-default.conf",
        process: "apache2",
        broken: &[
            (
                "echo 'TideGauge On' >> /etc/apache2/apache2.conf",
                "sed -i '/^TideGauge/d' /etc/apache2/apache2.conf",
                "config-unknown-directive",
            ),
            ("hold-port 0.0.0.0 8082", "pkill -9 python3; sleep 0.1", "port-taken"),
        ],
        reload: true,
        tells_crash: true,
    },
    Daemon {
        unit: "redis-server",
        prepare: "true",
        process: "redis-server",
        broken: &[
            (
                "echo 'tide-gauge yes' >> /etc/redis/redis.conf",
                "sed -i '/^tide-gauge/d' /etc/redis/redis.conf",
                "config-unknown-directive",
            ),
            ("hold-port 0.0.0.0 6379", "pkill -9 python3; sleep 0.1", "port-taken"),
        ],
        reload: false,
        tells_crash: true,
    },
    Daemon {
        unit: "mariadb",
        prepare: "mkdir -p /var/log/mysql; chown mysql /var/log/mysql; printf \
            '[mysqld]\\nlog_error=/var/log/mysql/error.log\\n' > /etc/mysql/conf.d/log.cnf",
        process: "mariadbd",
        broken: &[
            (
                "printf '[mysqld]\\ntide_gauge=1\\n' > /etc/mysql/conf.d/tide.cnf",
                "rm /etc/mysql/conf.d/tide.cnf",
                "config-unknown-directive",
            ),
            ("hold-port 0.0.0.0 3306", "pkill -9 python3; sleep 0.1", "port-taken"),
        ],
        reload: false,
        tells_crash: true,
    },
    Daemon {
        unit: "postgresql@15-main",
        // One address alone, so that a held port ends the start.
        prepare: "echo \"listen_addresses = '127.0.0.1'\" > /etc/postgresql/15/main/conf.d/one.conf",
        process: "postgres",
        broken: &[
            (
                "echo 'tide_gauge = on' > /etc/postgresql/15/main/conf.d/tide.conf",
                "rm /etc/postgresql/15/main/conf.d/tide.conf",
                "config-unknown-directive",
            ),
            ("hold-port 0.0.0.0 5432", "pkill -9 python3; sleep 0.1", "port-taken"),
        ],
        reload: true,
        tells_crash: false,
    },
    Daemon {
        unit: "php8.2-fpm",
        prepare: "true",
        process: "php-fpm8.2",
        broken: &[
            (
                "echo 'tide = on' >> /etc/php/8.2/fpm/pool.d/www.conf",
                "sed -i '/^tide = on/d' /etc/php/8.2/fpm/pool.d/www.conf",
                "config-unknown-directive",
            ),
            (
                "sed -i 's/^user = .*/user = ferryman/' /etc/php/8.2/fpm/pool.d/www.conf",
                "sed -i 's/^user = .*/user = www-data/' /etc/php/8.2/fpm/pool.d/www.conf",
                "account-missing",
            ),
        ],
        reload: true,
        tells_crash: false,
    },
    Daemon {
        unit: "haproxy",
        prepare: "printf 'frontend f\\n  bind 127.0.0.1:8083\\n' >> /etc/haproxy/haproxy.cfg",
        process: "haproxy",
        broken: &[
            (
                "echo '  tide on' >> /etc/haproxy/haproxy.cfg",
                "sed -i '/tide on/d' /etc/haproxy/haproxy.cfg",
                "config-unknown-directive",
            ),
            ("hold-port 0.0.0.0 8083", "pkill -9 python3; sleep 0.1", "port-taken"),
        ],
        reload: true,
        tells_crash: false,
    },
    Daemon {
        unit: "tomcat10",
        prepare: "true",
        process: "java",
        broken: &[(
            "sed -i 's#</Server>#</Servor>#' /etc/tomcat10/server.xml",
            "sed -i 's#</Servor>#</Server>#' /etc/tomcat10/server.xml",
            "config-syntax",
        )],
        reload: false,
        tells_crash: false,
    },
];
