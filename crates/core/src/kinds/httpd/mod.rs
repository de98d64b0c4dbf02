//! httpd: tagged sections, two passes, variables from the distribution's shell file.
mod closing;
mod conceal;
mod envvars;
mod finish;
mod guards;
mod lines;
mod macros;
mod read;
mod route;
mod rules;
mod state;
mod tree;
mod versions;
mod walk;

use super::{Instance, Kind, Profile, Stands, VersionMark};
use crate::config::layers::{Assignment, Combine};
use crate::config::release::Release;
use crate::config::rows::{Directives, Marks, Row, Type, directives};
use crate::config::{Configuration, NameMap, Place};
use crate::log::{Catalogue, Grammar};
use crate::path;
use crate::route::{Files, Request, Route};
use crate::snapshot::Snapshot;
use std::collections::BTreeMap;

static DIRECTIVES: &Directives = directives!("kinds/httpd/directives.rs");
static GRAMMAR: Grammar = Grammar::new(crate::data!("kinds/httpd/log.json"));
static CATALOGUE: Catalogue = Catalogue::new(crate::data!("kinds/httpd/failures.json"));

/// Modules that distributions build in.
const STATIC_MODULES: &[&str] = &[
    "core_module",
    "so_module",
    "watchdog_module",
    "http_module",
    "log_config_module",
    "logio_module",
    "version_module",
    "unixd_module",
];

static PROFILE: Profile = Profile {
    programs: &[
        "apache2",
        "httpd",
        "apachectl",
        "apache2ctl",
        "httpd-prefork",
        "httpd-worker",
        "start_apache2",
    ],
    units: &["apache2.service", "httpd.service"],
    configs: &[
        "/etc/apache2/apache2.conf",
        "/etc/httpd/conf/httpd.conf",
        "/etc/apache2/httpd.conf",
        "/usr/local/apache2/conf/httpd.conf",
        "/opt/httpd/conf/httpd.conf",
    ],
    packages: &["apache2-bin", "apache2", "httpd"],
    version: Some(VersionMark {
        words: "Apache/2.",
        stands: Stands::Behind,
        files: &["httpd", "apache2", "/usr/sbin/apache2", "/usr/sbin/httpd"],
    }),
    logs: &["/var/log/apache2/error.log", "/var/log/httpd/error_log", "/var/log/apache2/error_log"],
    site_logs: true,
    http: true,
    listens_as_configured: true,
    comment: Some("#"),
    replaces_sockets: true,
    ports: &[80, 443],
    ..Profile::plain("httpd", &GRAMMAR, &CATALOGUE)
};

/// The kind `httpd`.
pub(super) struct Httpd;

/// How this start of httpd differs from others.
pub(super) struct Options {
    config: String,
    server_root: String,
    environment: BTreeMap<String, String>,
    defines: NameMap<String, String>,
    /// Directives of `-C`, read before the main file.
    before: Vec<String>,
    /// Directives of `-c`, read behind it.
    after: Vec<String>,
    release: Option<Release>,
    needs_mpm: bool,
    made_by_manager: Vec<String>,
    /// Whether a control script starts it, which makes the runtime directories.
    by_script: bool,
    /// The line that holds the start command.
    command_place: Option<Place>,
    /// The executable.
    program: String,
    start_uid: u32,
    keep_all: bool,
}

impl Options {
    fn of(snapshot: &Snapshot, instance: &Instance) -> Self {
        let words = &instance.command;
        let values = |flag: &str| -> Vec<String> {
            let separate = words.windows(2).filter(|w| w[0] == flag).map(|w| w[1].clone());
            let joined = words
                .iter()
                .filter_map(|w| w.strip_prefix(flag).filter(|r| !r.is_empty()).map(str::to_owned));
            separate.chain(joined).collect()
        };
        let folder = path::parent(&instance.config);
        let by_script = words.first().is_none_or(|w| path::name(w).ends_with("ctl")) || words.is_empty();
        let mut environment = instance.environment.clone();
        if let Some(text) = snapshot.text(&path::join(folder, "envvars")).seen() {
            environment.entry("APACHE_CONFDIR".into()).or_insert_with(|| folder.to_owned());
            envvars::read(&text, snapshot, &mut environment);
        }
        let distribution = folder == "/etc/apache2" || folder == "/etc/httpd/conf" || folder == "/etc/httpd";
        let default_root = if folder.ends_with("/conf") { path::parent(folder) } else { folder };
        Self {
            config: instance.config.clone(),
            server_root: values("-d").pop().unwrap_or_else(|| default_root.to_owned()),
            defines: values("-D")
                .into_iter()
                .map(|d| {
                    d.split_once('=')
                        .map_or((d.clone(), String::new()), |(k, v)| (k.to_owned(), v.to_owned()))
                })
                .collect(),
            before: values("-C"),
            after: values("-c"),
            release: Httpd.release(snapshot, instance),
            needs_mpm: true,
            made_by_manager: instance.made_by_manager.clone(),
            by_script: by_script && distribution,
            command_place: instance.command_place.clone(),
            program: words.first().map(|p| Httpd.executable(p)).unwrap_or_default(),
            start_uid: instance.start_uid,
            keep_all: instance.keep_all,
            environment,
        }
    }

    /// The file of types that is built in: the executable tells it among its own settings (`-V`).
    fn types_config(&self, snapshot: &Snapshot) -> String {
        const MARK: &str = "AP_TYPES_CONFIG_FILE=\"";
        let tells = |program: &&str| {
            let line = snapshot.remember(&format!("types of {program}"), || {
                snapshot.find_string(program, MARK, false).seen().flatten().unwrap_or_default()
            });
            line.split(MARK).nth(1).and_then(|rest| rest.split('"').next()).map(str::to_owned)
        };
        [self.program.as_str(), "/usr/sbin/apache2", "/usr/sbin/httpd"]
            .iter()
            .filter(|p| p.starts_with('/'))
            .find_map(tells)
            .unwrap_or_else(|| "conf/mime.types".into())
    }

    /// Whether the manager or the control script makes this directory before the start.
    fn made(&self, dir: &str) -> bool {
        let script = self.by_script
            && ["APACHE_RUN_DIR", "APACHE_LOCK_DIR"]
                .iter()
                .any(|v| self.environment.get(*v).is_some_and(|d| path::clean(d) == path::clean(dir)));
        script || self.made_by_manager.iter().any(|d| path::is_within(dir, d))
    }
}

impl Kind for Httpd {
    fn profile(&self) -> &'static Profile {
        &PROFILE
    }
    fn statement(&self, text: &str, line: u32, directive: &str) -> Option<std::ops::Range<usize>> {
        lines::Lines::statement(text, line, directive)
    }
    fn combine(&self, one: &Assignment) -> Combine {
        // What takes one word or a switch is set anew by each line, but for what adds to a list.
        let single = |row: &Row| {
            let one = row.first() == Some(Type::Flag)
                || row.takes.iter().all(|form| form.len() == 1 && form[0].most == 1);
            let one = one && row.first() != Some(Type::Raw);
            one && !row.marks.has(Marks::LIST)
        };
        if DIRECTIVES.any_case(&one.name).iter().any(single) { Combine::Last } else { Combine::List }
    }
    fn directives(&self) -> Option<&'static Directives> {
        Some(DIRECTIVES)
    }
    fn keeps_out(&self, line: &str) -> bool {
        guards::keeps_out(line)
    }
    fn conceal(&self, text: &str, _path: &str) -> Option<crate::secrets::Concealed> {
        Some(conceal::conceal(text))
    }
    fn executable(&self, program: &str) -> String {
        // The control script stands beside the daemon and has its name with another ending; `apachectl`
        // starts `apache2`.
        program.strip_suffix("ctl").map_or_else(
            || program.to_owned(),
            |stem| if stem.ends_with("apache") { format!("{stem}2") } else { stem.to_owned() },
        )
    }
    fn locate(&self, snapshot: &Snapshot, instance: &mut Instance) {
        let words = instance.command.clone();
        if let Some(pair) = words.windows(2).find(|w| w[0] == "-f") {
            let root = words.windows(2).find(|w| w[0] == "-d").map_or("/etc/apache2", |w| w[1].as_str());
            instance.config = path::join(root, &pair[1]);
        } else if instance.config.is_empty() {
            let known = PROFILE.configs.iter().find(|c| snapshot.exists(c) == Some(true));
            let folder = instance.environment.get("APACHE_CONFDIR").map(|d| path::join(d, "apache2.conf"));
            instance.config = folder.unwrap_or_else(|| known.unwrap_or(&PROFILE.configs[0]).to_string());
        }
        instance.variables.push(path::join(path::parent(&instance.config), "envvars"));
    }
    fn read(&self, snapshot: &Snapshot, instance: &Instance) -> Configuration {
        let mut read = read::read(snapshot, &Options::of(snapshot, instance));
        let foreground = |w: &String| {
            matches!(w.as_str(), "FOREGROUND" | "-DFOREGROUND" | "NO_DETACH" | "-DNO_DETACH" | "-X")
        };
        read.model.background =
            (!instance.command.is_empty()).then(|| !instance.command.iter().any(foreground));
        read
    }
    fn route(&self, instance: &Instance, files: &Files, request: &Request) -> Option<Route> {
        let tree = read::read_tree(files.snapshot, &Options::of(files.snapshot, instance))?;
        route::route(&tree, files, request)
    }
    fn is_main(&self, arguments: &[String]) -> bool {
        !arguments.iter().any(|a| matches!(a.as_str(), "-t" | "-S" | "-M" | "-L" | "-v" | "-V"))
    }
}
