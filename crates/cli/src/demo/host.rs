//! The made-up host: files of `front` and `tide-relay` in one directory, on high loopback ports of its own.
use std::fs;
use std::io;
use std::os::unix::fs::symlink;
use std::path::{Path, PathBuf};

/// Port of the public site; it stands for 80.
pub(crate) const FRONT: u16 = 18080;
/// Port of the tide messages; it stands for 7400.
pub(crate) const RELAY: u16 = 17400;

/// Names under which the program becomes a stand-in daemon.
pub(crate) const NAMES: &[&str] = &["quay-httpd", "tide-relay", "gauge-sim"];

const MODULES: &[&str] = &["mpm_event", "authz_core", "dir", "alias"];

/// The laid-out host.
pub(crate) struct QuayHost {
    pub(crate) dir: PathBuf,
}

impl QuayHost {
    /// Lays the host out below `dir`, which must be new or empty.
    pub(crate) fn lay_out(dir: &Path) -> io::Result<Self> {
        let host = Self { dir: dir.to_path_buf() };
        for part in ["bin", "modules", "front/sites", "log", "run/tide-relay", "www", "state"] {
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
        host.front_config()?;
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
                    {dir}/www>\n        Require all granted\n    </Directory>\n</VirtualHost>\n"
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
                pid_file = \"{dir}/run/tide-relay/relay.pid\"\n"
        )
    }
}
