//! nginx: braces and semicolons, one pass, first fault ends it.
mod conceal;
mod finish;
mod listen;
mod read;
mod route;
mod rules;
mod state;
mod tokens;
mod tree;
mod variables;

use super::{Instance, Kind, Profile, Stands, VersionMark, glob, strings_hold};
use crate::config::release::Release;
use crate::config::rows::{Directives, directives};
use crate::config::{Configuration, Place};
use crate::log::{Catalogue, Grammar};
use crate::route::{Files, Request, Route};
use crate::snapshot::Snapshot;

static DIRECTIVES: &Directives = directives!("kinds/nginx/directives.rs");
static GRAMMAR: Grammar = Grammar::new(crate::data!("kinds/nginx/log.json"));
static CATALOGUE: Catalogue = Catalogue::new(crate::data!("kinds/nginx/failures.json"));

static PROFILE: Profile = Profile {
    programs: &["nginx"],
    units: &["nginx.service"],
    configs: &[
        "/etc/nginx/nginx.conf",
        "/usr/local/nginx/conf/nginx.conf",
        "/usr/local/etc/nginx/nginx.conf",
        "/opt/nginx/conf/nginx.conf",
    ],
    packages: &["nginx", "nginx-full", "nginx-core", "nginx-light", "nginx-extras", "nginx-common"],
    version: Some(VersionMark { words: "nginx version: nginx/", stands: Stands::Behind, files: &[] }),
    logs: &["/var/log/nginx/error.log"],
    site_logs: true,
    http: true,
    listens_as_configured: true,
    comment: Some("#"),
    overwrites_pid_file: true,
    ports: &[80, 443],
    ..Profile::plain("nginx", &GRAMMAR, &CATALOGUE)
};

/// The kind `nginx`.
pub(super) struct Nginx;

/// How this build and this start of nginx differ from others.
pub(super) struct Options {
    /// Main file.
    config: String,
    /// Directory that relative paths of logs count from.
    prefix: String,
    /// Directory of dynamic modules.
    modules: String,
    /// Directives of `-g`.
    globals: Option<String>,
    /// The line that holds the start command.
    command_place: Option<Place>,
    /// Built-in error log; `None` is the standard error.
    error_log: Option<String>,
    /// Built-in pid file.
    pid: String,
    /// Built-in temporary paths, by directive.
    temp_paths: Vec<(String, String)>,
    /// The executable.
    program: String,
    start_uid: u32,
    made_by_manager: Vec<String>,
    keep_all: bool,
    instance: Instance,
    /// The release, looked for only where a row asks for it.
    release: std::cell::OnceCell<Option<Release>>,
}

/// Modules that distributions build as files of their own; a directive of another one is always there.
const DYNAMIC: &[(&str, &str)] = &[
    ("ngx_stream", "ngx_stream_module.so"),
    ("ngx_mail", "ngx_mail_module.so"),
    ("ngx_http_geoip_module", "ngx_http_geoip_module.so"),
    ("ngx_http_image_filter_module", "ngx_http_image_filter_module.so"),
    ("ngx_http_perl_module", "ngx_http_perl_module.so"),
    ("ngx_http_xslt_filter_module", "ngx_http_xslt_filter_module.so"),
];

/// The file that holds a module, where it is one of its own.
fn module_file(module: &str) -> Option<&'static str> {
    DYNAMIC.iter().find(|(stem, _)| module.starts_with(stem)).map(|(_, file)| *file)
}

impl Options {
    fn of(snapshot: &Snapshot, instance: &Instance) -> Self {
        let mut globals = None;
        let words = &instance.command;
        for pair in words.windows(2) {
            if pair[0] == "-g" {
                globals = Some(pair[1].clone());
            }
        }
        let program = words.first().cloned().unwrap_or_else(|| "/usr/sbin/nginx".into());
        let built = configure_line(snapshot, &program);
        let get = |name: &str| built.iter().find_map(|w| w.strip_prefix(name).map(str::to_owned));
        let prefix = get("--prefix=").unwrap_or_else(|| "/usr/share/nginx".into());
        let error_log = get("--error-log-path=").unwrap_or_else(|| "stderr".into());
        let temp = |name: &str| get(&format!("--http-{name}-temp-path="));
        let temp_paths = [
            ("client_body_temp_path", "client-body"),
            ("proxy_temp_path", "proxy"),
            ("fastcgi_temp_path", "fastcgi"),
            ("uwsgi_temp_path", "uwsgi"),
            ("scgi_temp_path", "scgi"),
        ]
        .into_iter()
        .filter_map(|(directive, name)| Some((directive.to_owned(), temp(name)?)))
        .collect();
        Self {
            config: instance.config.clone(),
            modules: get("--modules-path=").unwrap_or_else(|| "/usr/lib/nginx/modules".into()),
            globals,
            command_place: instance.command_place.clone(),
            error_log: (error_log != "stderr").then_some(error_log),
            pid: get("--pid-path=").unwrap_or_else(|| "/run/nginx.pid".into()),
            temp_paths,
            prefix,
            program,
            start_uid: instance.start_uid,
            made_by_manager: instance.made_by_manager.clone(),
            keep_all: instance.keep_all,
            instance: instance.clone(),
            release: std::cell::OnceCell::new(),
        }
    }

    /// The release that is installed, where anything tells.
    fn release(&self, snapshot: &Snapshot) -> Option<&Release> {
        self.release.get_or_init(|| Nginx.release(snapshot, &self.instance)).as_ref()
    }

    /// Whether the build, or a loaded file, has the module.
    fn has_module(&self, snapshot: &Snapshot, module: &str, loaded: &[String]) -> bool {
        // Most modules are always there; only these families can be files of their own.
        if !module.starts_with("ngx_stream")
            && !module.starts_with("ngx_mail")
            && !module.starts_with("ngx_http_")
        {
            return true;
        }
        let Some(file) = module_file(module) else { return true };
        if loaded.iter().any(|l| l.ends_with(file)) {
            return true;
        }
        let stem = file.trim_end_matches(".so");
        let known = snapshot.remember(&format!("nginx static {stem}"), || {
            strings_hold(snapshot, std::slice::from_ref(&self.program), stem).to_string()
        });
        known == "true"
    }

    /// Whether the executable or a loaded module knows a name that the table does not.
    fn binary_knows(&self, snapshot: &Snapshot, name: &str, loaded: &[String]) -> bool {
        let mut files = loaded.to_vec();
        files.push(self.program.clone());
        let plain =
            name.len() > 3 && name.bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'_');
        plain && name.contains('_') && strings_hold(snapshot, &files, name)
    }
}

/// The words of the configure line that the executable carries.
fn configure_line(snapshot: &Snapshot, program: &str) -> Vec<String> {
    let line = snapshot.remember(&format!("configure {program}"), || {
        snapshot.find_string(program, "--prefix=", false).seen().flatten().unwrap_or_default()
    });
    crate::manager::split_words(&line)
}

impl Kind for Nginx {
    fn profile(&self) -> &'static Profile {
        &PROFILE
    }
    fn statement(&self, text: &str, line: u32, directive: &str) -> Option<std::ops::Range<usize>> {
        tokens::Tokens::statement(text, line, directive)
    }
    fn directives(&self) -> Option<&'static Directives> {
        Some(DIRECTIVES)
    }
    fn conceal(&self, text: &str, _path: &str) -> Option<crate::secrets::Concealed> {
        Some(conceal::conceal(text))
    }
    fn locate(&self, snapshot: &Snapshot, instance: &mut Instance) {
        let words = instance.command.clone();
        let value = |flag: &str| words.windows(2).find(|w| w[0] == flag).map(|w| w[1].clone());
        if let Some(config) = value("-c") {
            instance.config = crate::path::join(&value("-p").unwrap_or_else(|| "/".into()), &config);
        } else if instance.config.is_empty() {
            let built = words.first().map(|p| configure_line(snapshot, p)).unwrap_or_default();
            let own = built.iter().find_map(|w| w.strip_prefix("--conf-path=")).map(str::to_owned);
            let known =
                PROFILE.configs.iter().find(|c| snapshot.exists(c) == Some(true)).map(|c| (*c).to_owned());
            instance.config = own.or(known).unwrap_or_else(|| PROFILE.configs[0].to_owned());
        }
    }
    fn read(&self, snapshot: &Snapshot, instance: &Instance) -> Configuration {
        read::read(snapshot, &Options::of(snapshot, instance))
    }
    fn route(&self, instance: &Instance, files: &Files, request: &Request) -> Option<Route> {
        let options = Options::of(files.snapshot, instance);
        let tree = read::read_tree(files.snapshot, &options);
        route::route(&options, &tree, files, request)
    }
    fn is_main(&self, arguments: &[String]) -> bool {
        let first = arguments.first().map_or("", String::as_str);
        !first.starts_with("nginx: worker")
            && !first.starts_with("nginx: cache")
            && !arguments.iter().any(|a| a == "-t" || a == "-s")
    }
}
