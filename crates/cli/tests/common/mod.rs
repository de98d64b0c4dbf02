//! A made-up host in a temporary directory, and the built program run on it with nothing of this machine in
//! sight.
#![allow(
    dead_code,
    clippy::unwrap_used,
    clippy::panic,
    reason = "each test file uses its own part, and a test fails by panicking"
)]

use serde_json::Value;
use std::fs;
use std::os::unix::fs::symlink;
use std::path::{Path, PathBuf};
use tempfile::TempDir;

/// What a call gave back.
pub(crate) struct Answer {
    pub(crate) status: i32,
    pub(crate) out: String,
    pub(crate) err: String,
}

impl Answer {
    /// The answer as JSON.
    #[track_caller]
    pub(crate) fn json(&self) -> Value {
        serde_json::from_str(&self.out)
            .unwrap_or_else(|e| panic!("no JSON ({e}); status {}, {}{}", self.status, self.out, self.err))
    }
}

/// Runs the program with a cleared environment.
pub(crate) fn run(dir: &Path, arguments: &[&str]) -> Answer {
    run_with(dir, arguments, &[])
}

pub(crate) fn run_with(dir: &Path, arguments: &[&str], variables: &[(&str, &str)]) -> Answer {
    let output = assert_cmd::Command::cargo_bin("jolly-sentinel")
        .expect("the program is built")
        .env_clear()
        .env("HOME", dir)
        .env("COLUMNS", "80")
        .envs(variables.iter().copied())
        .current_dir(dir)
        .args(arguments)
        .output()
        .expect("it runs");
    Answer {
        status: output.status.code().unwrap_or(-1),
        out: String::from_utf8_lossy(&output.stdout).into_owned(),
        err: String::from_utf8_lossy(&output.stderr).into_owned(),
    }
}

/// A tree that stands for a host: `--root` reads it.
pub(crate) struct Tree {
    pub(crate) dir: TempDir,
}

impl Tree {
    /// The Debian layout of httpd and nginx, as far as their configurations need it.
    pub(crate) fn new() -> Self {
        let tree = Self { dir: tempfile::tempdir().expect("a temporary directory") };
        for dir in [
            "var/log/nginx",
            "var/log/apache2",
            "var/lib/nginx",
            "var/cache",
            "run",
            "var/run/apache2",
            "var/www/html",
            "srv/www",
            "etc/ssl",
            "tmp",
            "proc",
            "usr/bin",
        ] {
            fs::create_dir_all(tree.dir.path().join(dir)).unwrap();
        }
        tree.write(
            "etc/passwd",
            "root:x:0:0::/root:/bin/sh\nwww-data:x:33:33::/var/www:/bin/false\n\
                nobody:x:65534:65534::/:/bin/false\nmarta:x:1000:1000::/home/marta:/bin/sh\n",
        );
        tree.write("etc/group", "root:x:0:\nwww-data:x:33:\nnogroup:x:65534:\nmarta:x:1000:\n");
        tree.write("usr/bin/cat", "");
        tree.write("etc/hosts", "127.0.0.1 localhost\n");
        tree.write("etc/mime.types", "text/html html\n");
        tree.write("etc/nginx/mime.types", "types {\n    text/html html;\n}\n");
        tree.write("etc/nginx/fastcgi_params", "fastcgi_param QUERY_STRING $query_string;\n");
        tree.write(
            "etc/nginx/fastcgi.conf",
            "fastcgi_param SCRIPT_FILENAME $document_root$fastcgi_script_name;\n",
        );
        tree.write(
            "etc/nginx/snippets/fastcgi-php.conf",
            "fastcgi_split_path_info ^(.+?\\.php)(/.*)$;\n\
            try_files $fastcgi_script_name =404;\nset $path_info $fastcgi_path_info;\n\
            fastcgi_param PATH_INFO $path_info;\nfastcgi_index index.php;\ninclude fastcgi.conf;\n",
        );
        tree.write("etc/apache2/ports.conf", "Listen 80\n");
        tree.write("etc/apache2/conf-available/charset.conf", "#AddDefaultCharset UTF-8\n");
        for module in [
            "socache_shmcb",
            "dav",
            "dav_fs",
            "dumpio",
            "mpm_event",
            "mpm_worker",
            "authz_core",
            "authz_host",
            "authn_core",
            "dir",
            "alias",
            "setenvif",
            "env",
            "rewrite",
            "headers",
            "ssl",
            "proxy",
            "mime",
            "expires",
            "deflate",
            "autoindex",
            "status",
            "access_compat",
        ] {
            tree.write(&format!("usr/lib/apache2/modules/mod_{module}.so"), &format!("\0{module}_module\0"));
        }
        // Directives that no table knows stand as strings in their modules.
        for (module, strings) in [("macro", "MacroIgnoreEmptyArgs"), ("case_filter", "CaseFilter")] {
            tree.write(
                &format!("usr/lib/apache2/modules/mod_{module}.so"),
                &format!("\0{module}_module\0{strings}\0"),
            );
        }
        tree
    }

    /// The configuration that httpd's package brings, in small.
    pub(crate) fn with_httpd(self) -> Self {
        self.write(
            "lib/systemd/system/apache2.service",
            "[Unit]\nDescription=web\n[Service]\nType=forking\nExecStart=/usr/sbin/apachectl start\n\
                [Install]\nWantedBy=multi-user.target\n",
        );
        self.link(
            "etc/systemd/system/multi-user.target.wants/apache2.service",
            "/lib/systemd/system/apache2.service",
        );
        self.write("usr/sbin/apachectl", "#!/bin/sh\n");
        self.mode("usr/sbin/apachectl", 0o755);
        self.write("bin/sh", "");
        self.write(
            "etc/apache2/envvars",
            "export APACHE_RUN_USER=www-data\n\
            export APACHE_RUN_GROUP=www-data\nexport APACHE_PID_FILE=/var/run/apache2/apache2.pid\n\
            export APACHE_RUN_DIR=/var/run/apache2\nexport APACHE_LOG_DIR=/var/log/apache2\n",
        );
        self.write(
            "etc/apache2/apache2.conf",
            "DefaultRuntimeDir ${APACHE_RUN_DIR}\n\
            PidFile ${APACHE_PID_FILE}\nUser ${APACHE_RUN_USER}\nGroup ${APACHE_RUN_GROUP}\n\
            ErrorLog ${APACHE_LOG_DIR}/error.log\nServerName front.saltmarsh-ferries.example\n\
            LoadModule mpm_event_module /usr/lib/apache2/modules/mod_mpm_event.so\n\
            LoadModule authz_core_module /usr/lib/apache2/modules/mod_authz_core.so\nInclude ports.conf\n\
            IncludeOptional sites-enabled/*.conf\n",
        );
        self.write(
            "etc/apache2/sites-available/front.conf",
            "<VirtualHost *:80>\n    ServerName front.saltmarsh-ferries.example\n    DocumentRoot \
                /var/www/html\n</VirtualHost>\n",
        );
        self.link("etc/apache2/sites-enabled/front.conf", "../sites-available/front.conf");
        self
    }

    pub(crate) fn path(&self) -> &Path {
        self.dir.path()
    }

    pub(crate) fn write(&self, name: &str, text: &str) {
        let path = self.path().join(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    }

    pub(crate) fn read(&self, name: &str) -> String {
        fs::read_to_string(self.path().join(name)).unwrap()
    }

    pub(crate) fn link(&self, name: &str, target: &str) {
        let path = self.path().join(name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        symlink(target, path).unwrap();
    }

    pub(crate) fn mode(&self, name: &str, mode: u32) {
        use std::os::unix::fs::PermissionsExt;
        fs::set_permissions(self.path().join(name), fs::Permissions::from_mode(mode)).unwrap();
    }

    /// Makes a file look as if nobody had changed it for so many days.
    pub(crate) fn age(&self, name: &str, days: u64) {
        let then = std::time::SystemTime::now() - std::time::Duration::from_secs(days * 86_400);
        fs::File::options().append(true).open(self.path().join(name)).unwrap().set_modified(then).unwrap();
    }

    /// Runs a command with `--root` on this tree, its journal beside it.
    pub(crate) fn run(&self, arguments: &[&str]) -> Answer {
        self.run_with(arguments, &[])
    }

    /// The same with variables in the environment.
    pub(crate) fn run_with(&self, arguments: &[&str], variables: &[(&str, &str)]) -> Answer {
        let state = self.state();
        let mut all = vec!["--root", self.path().to_str().unwrap(), "--state-dir", state.to_str().unwrap()];
        all.extend(arguments);
        run_with(self.path(), &all, variables)
    }

    pub(crate) fn state(&self) -> PathBuf {
        self.path().join("jolly-state")
    }
}

/// A recorded incident, its evidence laid out as a bundle in a directory of its own.
pub(crate) struct Recorded {
    /// Name of its file, without the ending.
    pub(crate) file: String,
    pub(crate) incident: String,
    pub(crate) expected: Value,
    pub(crate) bundle: PathBuf,
    pub(crate) dir: TempDir,
}

/// All recorded incidents, in the order of their names.
pub(crate) fn recorded() -> Vec<Recorded> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/incidents");
    let mut files: Vec<PathBuf> = fs::read_dir(folder).unwrap().flatten().map(|e| e.path()).collect();
    files.sort();
    let lay = |file: PathBuf| {
        let record: Value = serde_json::from_slice(&fs::read(&file).unwrap()).unwrap();
        let dir = tempfile::tempdir().unwrap();
        let bundle = dir.path().join("evidence.json");
        fs::write(&bundle, record["bundle"].to_string()).unwrap();
        Recorded {
            file: file.file_stem().unwrap().to_string_lossy().into_owned(),
            incident: record["incident"].as_str().unwrap().to_owned(),
            expected: record["expected"].clone(),
            bundle,
            dir,
        }
    };
    files.into_iter().map(lay).collect()
}
