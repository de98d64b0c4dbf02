//! The made-up host: files of `front` and `tide-relay` in one directory, on high loopback ports of its own.
use std::fs;
use std::io;
use std::os::unix::fs::symlink;
use std::path::{Path, PathBuf};

/// Port of the public site; it stands for 80.
pub(crate) const FRONT: u16 = 18080;
/// Port of the tide messages; it stands for 7400.
pub(crate) const RELAY: u16 = 17400;

/// Port of the front that passes on to the ticket shop; it stands for 8088.
pub(crate) const EDGE: u16 = 18088;
/// Port of the boarding-pass application; it stands for 8080.
pub(crate) const BOARDING: u16 = 18082;
/// Port of the database of bookings; it stands for 5432.
pub(crate) const BOOKINGS: u16 = 15432;

/// Names under which the program becomes a stand-in daemon.
pub(crate) const NAMES: &[&str] =
    &["quay-httpd", "tide-relay", "gauge-sim", "quay-edge", "quay-pool", "quay-boarding", "quay-bookings"];

const MODULES: &[&str] = &["mpm_event", "authz_core", "dir", "alias"];

/// The laid-out host.
pub(crate) struct QuayHost {
    pub(crate) dir: PathBuf,
}

impl QuayHost {
    /// Lays the host out below `dir`, which must be new or empty.
    pub(crate) fn lay_out(dir: &Path) -> io::Result<Self> {
        let host = Self { dir: dir.to_path_buf() };
        for part in [
            "bin",
            "modules",
            "front/sites",
            "log",
            "run/tide-relay",
            "www/tickets",
            "state",
            "edge",
            "boarding",
        ] {
            fs::create_dir_all(dir.join(part))?;
        }
        let program = std::env::current_exe()?;
        for name in NAMES {
            symlink(&program, dir.join("bin").join(name))?;
        }
        for module in MODULES {
            // A stand-in for a module file: only its name can be found in it.
            fs::write(dir.join(format!("modules/mod_{module}.so")), format!("\0{module}_module\0"))?;
        }
        fs::write(
            dir.join("www/index.html"),
            "<!doctype html><title>Saltmarsh Ferries</title><h1>Timetable</h1><p>Upper Mere – Gullholm – \
                Reedness</p>\n",
        )?;
        fs::write(dir.join("www/tickets/index.html"), "<!doctype html><h1>Tickets</h1>\n")?;
        host.front_config()?;
        host.behind()?;
        host.write("services.toml", &host.services())?;
        Ok(host)
    }

    pub(crate) fn path(&self, name: &str) -> String {
        self.dir.join(name).to_string_lossy().into_owned()
    }

    pub(crate) fn write(&self, name: &str, text: &str) -> io::Result<()> {
        fs::write(self.dir.join(name), text)
    }

    /// The sound configuration of `front`.
    pub(crate) fn front_config(&self) -> io::Result<()> {
        let dir = self.dir.display();
        let modules: String =
            MODULES.iter().map(|m| format!("LoadModule {m}_module {dir}/modules/mod_{m}.so\n")).collect();
        self.write(
            "front/front.conf",
            &format!(
                "# The public site of Saltmarsh Ferries\nServerRoot {dir}/front\n\
                    PidFile {dir}/run/front.pid\nErrorLog {dir}/log/front-error.log\n{modules}\n\
                    Include ports.conf\n\nServerName front.saltmarsh-ferries.example\n\
                    DocumentRoot {dir}/www\nTimeout 60\nKeepAlive On\n\nInclude sites/*.conf\n"
            ),
        )?;
        self.write(
            "front/ports.conf",
            &format!(
                "# Where front listens; sites repeat the number in <VirtualHost>.\nListen 127.0.0.1:{FRONT}\n"
            ),
        )?;
        self.write(
            "front/sites/timetable.conf",
            &format!(
                "<VirtualHost *:{FRONT}>\n    ServerName front.saltmarsh-ferries.example\n    ServerAlias \
                    timetable.saltmarsh-ferries.example\n    DocumentRoot {dir}/www\n    <Directory \
                    {dir}/www>\n        Require all granted\n        AllowOverride All\n    \
                    </Directory>\n</VirtualHost>\n"
            ),
        )
    }

    /// What answers behind a page: a front that names the socket of a release that is gone, and an
    /// application
    /// whose database does not let it in.
    fn behind(&self) -> io::Result<()> {
        let dir = self.dir.display();
        self.write(
            "edge/edge.conf",
            &format!(
                "# Passes the ticket shop on to its pool\npid {dir}/edge/edge.pid;\n\
                 error_log {dir}/log/edge-error.log;\nevents {{\n}}\nhttp {{\n    server {{\n\
                 \x20       listen 127.0.0.1:{EDGE};\n\
                 \x20       server_name edge.saltmarsh-ferries.example;\n        location /book {{\n\
                 \x20           fastcgi_param SCRIPT_FILENAME {dir}/www/book.php;\n\
                 \x20           fastcgi_pass unix:{dir}/run/ticket-pages-1.sock;\n        }}\n    }}\n}}\n"
            ),
        )?;
        self.write("www/book.php", "<?php // The ticket shop\n")?;
        self.write("boarding/roles", "postgres\n")?;
        self.write(
            "boarding/boarding.properties",
            &format!(
                "# The boarding-pass application\nserver.port={BOARDING}\n\
                 datasource.url=jdbc:postgresql://127.0.0.1:{BOOKINGS}/bookings\n\
                 datasource.username=boarding\ndatasource.password=ebb-and-flood-made-up\n"
            ),
        )
    }

    fn services(&self) -> String {
        let dir = self.dir.display();
        format!(
            "# What no service manager owns here is described for jolly-sentinel, and the demo shows nothing \
                else.\nhost_name = \"quay1\"\nonly_these = true\n\n[service.front]\nkind = \"httpd\"\n\
                start = \"{dir}/bin/quay-httpd -f {dir}/front/front.conf -k start\"\n\
                stop = \"{dir}/bin/quay-httpd -f {dir}/front/front.conf -k stop\"\n\
                reload = \"{dir}/bin/quay-httpd -f {dir}/front/front.conf -k graceful\"\n\
                config = \"{dir}/front/front.conf\"\npid_file = \"{dir}/run/front.pid\"\n\
                url = \"http://127.0.0.1:{FRONT}/\"\n\n[service.tide-relay]\nkind = \"program\"\n\
                start = \"{dir}/bin/tide-relay {dir}/run/tide-relay {dir}/log/tide-relay.log start\"\n\
                stop = \"{dir}/bin/tide-relay {dir}/run/tide-relay {dir}/log/tide-relay.log stop\"\n\
                listen = [\"unix:{dir}/run/tide-relay/relay.sock\", \"127.0.0.1:{RELAY}\"]\n\
                log = \"{dir}/log/tide-relay.log\"\nruntime_dir = \"{dir}/run/tide-relay\"\n\
                pid_file = \"{dir}/run/tide-relay/relay.pid\"\n\n[service.edge]\nkind = \"nginx\"\n\
                start = \"{dir}/bin/quay-edge -c {dir}/edge/edge.conf\"\n\
                stop = \"{dir}/bin/quay-edge -c {dir}/edge/edge.conf -s stop\"\n\
                reload = \"{dir}/bin/quay-edge -c {dir}/edge/edge.conf -s reload\"\n\
                config = \"{dir}/edge/edge.conf\"\npid_file = \"{dir}/edge/edge.pid\"\n\n\
                [service.ticket-pages]\nkind = \"program\"\n\
                start = \"{dir}/bin/quay-pool {dir}/run/ticket-pages-2.sock run\"\n\
                listen = [\"unix:{dir}/run/ticket-pages-2.sock\"]\n\n[service.boarding]\nkind = \"program\"\n\
                start = \"{dir}/bin/quay-boarding {dir}/boarding/boarding.properties start\"\n\
                stop = \"{dir}/bin/quay-boarding {dir}/boarding/boarding.properties stop\"\n\
                config = \"{dir}/boarding/boarding.properties\"\nlisten = [\"127.0.0.1:{BOARDING}\"]\n\
                pid_file = \"{dir}/boarding/boarding.pid\"\n\n[service.bookings]\nkind = \"program\"\n\
                start = \"{dir}/bin/quay-bookings {dir}/boarding/roles run\"\n\
                listen = [\"127.0.0.1:{BOOKINGS}\"]\n"
        )
    }
}
