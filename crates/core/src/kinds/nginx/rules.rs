//! What the table of directives cannot say: rules between directives, names, files and addresses.
use super::listen;
use super::read::{Block, Directive, Known, Reader};
use super::values;
use super::variables;
use crate::accounts;
use crate::code::Code;
use crate::config::{ConfigFinding, DependsOn, NamedPath, Place, PortMention, Severity};
use crate::host::Look;
use crate::path;
use std::collections::{HashMap, HashSet};

/// What is gathered over all files and judged at the end.
#[derive(Default)]
pub(super) struct Facts {
    pub(super) upstreams: HashMap<String, Place>,
    /// Hosts that must be an upstream or resolve: name, place, directive.
    pub(super) upstream_uses: Vec<(String, Place, String)>,
    pub(super) formats: HashSet<String>,
    pub(super) zones: HashMap<String, Place>,
    pub(super) zone_uses: Vec<(String, Place, String)>,
    pub(super) variables: HashSet<String>,
    pub(super) variable_uses: Vec<(String, Place)>,
    pub(super) listens: listen::Book,
    pub(super) has_events: bool,
    pub(super) has_http: bool,
    pub(super) has_error_log: bool,

    pub(super) sites: Vec<Site>,
    /// Server names with a misplaced wildcard.
    pub(super) odd_names: Vec<(String, Place)>,
    http_certificate: bool,
    http_key: bool,
    /// Where the `http` block ends: merges are blamed on it.
    pub(super) http_end: Option<Place>,
}

/// Facts of one `server` block.
#[derive(Clone, Debug, Default)]
pub(super) struct Site {
    pub(super) opened: Option<Place>,
    pub(super) names: Vec<String>,
    pub(super) listens: Vec<listen::Own>,
    pub(super) ssl_listen: Option<Place>,
    /// The obsolete `ssl on`.
    pub(super) ssl_on: Option<Place>,
    pub(super) certificate: bool,
    pub(super) key: bool,
}

/// Names that may stand several times in one block although their setter is a shared one, or that judge
/// repetition themselves.
pub(super) fn may_repeat(name: &str) -> bool {
    matches!(
        name,
        "limit_conn"
            | "limit_req"
            | "proxy_cookie_domain"
            | "proxy_cookie_path"
            | "proxy_cookie_flags"
            | "proxy_redirect"
            | "return"
            | "resolver"
            | "server_name"
            | "location"
            | "server"
            | "upstream"
            | "error_page"
            | "limit_except"
            | "mirror"
            | "xslt_stylesheet"
            | "debug_connection"
            | "env"
            | "load_module"
            | "ssl_certificate"
            | "ssl_certificate_key"
            | "perl_modules"
            | "perl_require"
            | "real_ip_header"
            | "keepalive"
            | "proxy_pass_header"
    )
}

/// Blocks whose lines are data, not directives.
pub(super) fn is_free_block(context: &str) -> bool {
    matches!(context, "types" | "map" | "geo" | "split_clients" | "charset_map")
}

/// The context inside the block that a directive opens.
pub(super) fn inner_context(name: &str, outer: &'static str) -> &'static str {
    match (name, outer) {
        ("events", _) => "events",
        ("http", _) => "http",
        ("stream", _) => "stream",
        ("mail", _) => "mail",
        ("server", "stream") => "stream-server",
        ("server", "mail") => "mail-server",
        ("server", _) => "server",
        ("upstream", "stream") => "stream-upstream",
        ("upstream", _) => "upstream",
        ("location", _) => "location",
        ("if", "server") => "server-if",
        ("if", _) => "location-if",
        ("limit_except", _) => "limit",
        ("types", _) => "types",
        ("map", _) => "map",
        ("geo", _) => "geo",
        ("split_clients", _) => "split_clients",
        ("charset_map", _) => "charset_map",
        _ => "any",
    }
}

/// A line of a data block.
pub(super) fn free_entry(r: &mut Reader, d: &Directive) {
    let count = d.words.len();
    match r.context() {
        "map" if d.name() == "include" && count == 2 => include_data(r, d),
        "map" if count == 1 && !matches!(d.name(), "hostnames" | "volatile") => {
            r.find(d, Code::ConfigBadValue, format!("\"{}\" has no value behind it", d.name()));
        }
        "map" if count > 2 => {
            r.find(d, Code::ConfigBadValue, format!("{count} words where a map takes two: a pattern and its value"));
        }
        "map" if count == 2 => {
            if let Some(pattern) = d.name().strip_prefix('~') {
                check_regex(r, d, pattern.trim_start_matches('*'));
            }
            let value = d.argument(0).to_owned();
            uses_variables(r, d, &value);
        }
        "geo" if d.name() == "include" && count == 2 => include_data(r, d),
        "geo" if count != 2 && !(count == 1 && matches!(d.name(), "ranges" | "proxy_recursive" | "volatile")) => {
            r.find(d, Code::ConfigBadValue, format!("{count} words where geo takes two: a network and its value"));
        }
        "geo" if count == 2 && !matches!(d.name(), "default" | "delete" | "proxy" | "include") && !d.name().contains('-') && !is_network(d.name()) => {
            r.find(d, Code::ConfigBadValue, format!("\"{}\" is no address or network", d.name()));
        }
        "split_clients" if count == 2 && d.name() != "*" => {
            let share = d.name().strip_suffix('%').and_then(|n| n.parse::<f64>().ok());
            if share.is_none_or(|s| !(0.0..=100.0).contains(&s)) {
                r.find(d, Code::ConfigBadValue, format!("\"{}\" is no share, expected such as 50%", d.name()));
            }
        }
        "split_clients" if count != 2 => {
            r.find(d, Code::ConfigBadValue, format!("{count} words where split_clients takes two: a share and its value"));
        }
        _ => {}
    }
}

fn include_data(r: &mut Reader, d: &Directive) {
    let target = path::join(path::parent(&r.options.config), d.argument(0));
    if !path::is_pattern(&target) && r.snapshot.exists(&target) == Some(false) {
        let found = r.find(d, Code::ConfigMissingFile, format!("{target} is not there"));
        found.depends_on = DependsOn::Files;
        found.object = Some(target);
    }
}

/// Called when a block begins, before its content.
pub(super) fn opened(r: &mut Reader, d: &Directive, block: &mut Block) {
    match (d.name(), block.context) {
        ("events", _) => r.facts.has_events = true,
        ("http", _) => r.facts.has_http = true,
        ("server", "server") => {
            block.site = Some(Site { opened: Some(d.place.clone()), ..Site::default() });
        }
        ("upstream", _) => {
            let name = d.argument(0).to_ascii_lowercase();
            let place = d.place.clone();
            if let Some(first) = r.facts.upstreams.insert(name.clone(), place) {
                r.find(d, Code::ConfigConflict, format!("upstream \"{name}\" is already declared in {first}"));
            }
        }
        ("location", _) => location(r, d, block),
        ("if", _) => {
            block.no_uri = true;
            condition(r, d);
        }
        ("limit_except", _) => {
            block.no_uri = true;
            const METHODS: &[&str] =
                &["GET", "HEAD", "POST", "PUT", "DELETE", "MKCOL", "COPY", "MOVE", "OPTIONS", "PROPFIND", "PROPPATCH", "LOCK", "UNLOCK", "PATCH"];
            let wrong = d.arguments().find(|a| !METHODS.iter().any(|m| m.eq_ignore_ascii_case(a))).map(str::to_owned);
            if let Some(wrong) = wrong {
                r.find(d, Code::ConfigBadValue, format!("\"{wrong}\" is no method that limit_except knows"));
            }
        }
        ("map" | "geo" | "split_clients" | "perl_set", _) => {
            let name = d.words.last().map_or("", |w| w.value.as_ref()).to_owned();
            match name.strip_prefix('$') {
                Some(variable) => drop(r.facts.variables.insert(variable.to_owned())),
                None => drop(r.find(d, Code::ConfigBadValue, format!("\"{name}\" is no variable name: it must begin with $"))),
            }
            if d.words.len() > 2 {
                let source = d.argument(0).to_owned();
                uses_variables(r, d, &source);
            }
        }
        _ => {}
    }
}

/// Called when a block ends.
pub(super) fn close(r: &mut Reader, line: u32) {
    let Some(block) = r.blocks.pop() else { return };
    match block.context {
        "http" => r.facts.http_end = Some(r.here(line)),
        "server" => {
            if let Some(site) = block.site {
                listen::site_ends(r, site);
            }
        }
        "upstream" | "stream-upstream" if block.members == 0 => {
            let place = r.here(line);
            push(r, Code::ConfigBadValue, Some(place), "upstream", "no server stands inside this upstream".into());
        }
        _ => {}
    }
}

fn push(r: &mut Reader, code: Code, place: Option<Place>, directive: &str, message: String) {
    r.out.findings.push(ConfigFinding {
        code,
        severity: Severity::Error,
        place,
        directive: Some(directive.to_owned()),
        depends_on: DependsOn::Text,
        message,
        help: None,
        object: None,
        edit: None,
    });
}

fn location(r: &mut Reader, d: &Directive, block: &mut Block) {
    let first = d.argument(0).to_owned();
    let (kind, name) = if d.words.len() == 3 {
        (first.clone(), d.argument(1).to_owned())
    } else if let Some(rest) = first.strip_prefix("^~") {
        ("^~".into(), rest.to_owned())
    } else if let Some(rest) = first.strip_prefix('=') {
        ("=".into(), rest.to_owned())
    } else if let Some(rest) = first.strip_prefix("~*").filter(|r| !r.is_empty()) {
        ("~*".into(), rest.to_owned())
    } else if let Some(rest) = first.strip_prefix('~').filter(|r| !r.is_empty()) {
        ("~".into(), rest.to_owned())
    } else {
        (String::new(), first.clone())
    };
    match kind.as_str() {
        "" | "=" | "^~" => {}
        "~" | "~*" => check_regex(r, d, &name),
        other => {
            r.find(d, Code::ConfigBadValue, format!("\"{other}\" is no location modifier, expected =, ~, ~* or ^~"));
            return;
        }
    }
    let regex = kind.starts_with('~');
    let named = name.starts_with('@');
    block.no_uri = regex || named;
    if let Some(outer) = r.block().prefix.clone() {
        if named {
            r.find(d, Code::ConfigMisplacedDirective, format!("named location \"{name}\" stands inside another location"));
        } else if !regex && !name.starts_with(&outer) {
            r.find(d, Code::ConfigMisplacedDirective, format!("location \"{name}\" is outside location \"{outer}\""));
        }
    }
    if !regex && !named {
        block.prefix = Some(name.clone());
        // An exact and a prefix location of one path live side by side; `^~` and plain are both prefixes.
        let key = format!("{}{name}", if kind == "=" { "=" } else { "" });
        if !r.block().declared.insert(key) {
            r.find(d, Code::ConfigConflict, format!("location \"{name}\" is declared twice in one block"));
        }
    }
}

fn condition(r: &mut Reader, d: &Directive) {
    let words: Vec<&str> = d.arguments().collect();
    let text = words.join(" ");
    let Some(inner) = text.strip_prefix('(').and_then(|t| t.strip_suffix(')')) else {
        r.find(d, Code::ConfigBadValue, format!("\"{text}\" is no condition in parentheses"));
        return;
    };
    let parts: Vec<&str> = inner.split_whitespace().collect();
    let fault = match parts.as_slice() {
        [one] if one.starts_with('$') && one.len() > 1 => {
            // Everything behind the sign is the name, an operator without blanks too.
            r.facts.variable_uses.push((one[1..].to_owned(), d.place.clone()));
            return;
        }
        [one] => Some(format!("\"{one}\" is no variable")),
        [test, _] if test.starts_with(['-', '!']) => {
            let known = ["-f", "!-f", "-d", "!-d", "-e", "!-e", "-x", "!-x"].contains(test);
            (!known).then(|| format!("\"{test}\" is no test of a file"))
        }
        [left, operator, right @ ..] if left.starts_with('$') => match *operator {
            "=" | "!=" => (right.len() != 1 && words.len() > 3).then(|| "more than one condition".to_owned()),
            "~" | "~*" | "!~" | "!~*" => {
                let pattern = right.join(" ");
                check_regex(r, d, &pattern);
                None
            }
            other => Some(format!("\"{other}\" is no operator of a condition, expected =, !=, ~, ~*, !~ or !~*")),
        },
        _ => Some(format!("\"{inner}\" is no condition")),
    };
    uses_variables(r, d, inner.split(['~', '^']).next().unwrap_or_default().trim_end());
    if let Some(message) = fault {
        r.find(d, Code::ConfigBadValue, message);
    }
}

fn check_regex(r: &mut Reader, d: &Directive, pattern: &str) {
    if let Some(fault) = crate::config::regex_fault(pattern) {
        r.find(d, Code::ConfigBadValue, format!("the pattern \"{pattern}\" does not compile: {fault}"));
    }
    variables::captures(pattern, &mut r.facts.variables);
}

/// Notes the variables of a value; a lone `$` or an open brace is refused at once.
fn uses_variables(r: &mut Reader, d: &Directive, value: &str) {
    match variables::uses(value) {
        Ok(names) => r.facts.variable_uses.extend(names.into_iter().map(|n| (n, d.place.clone()))),
        Err(fault) => drop(r.find(d, Code::ConfigBadValue, format!("\"{value}\": {fault}"))),
    }
}

fn named(r: &Reader, d: &Directive, file: &str) -> NamedPath {
    NamedPath { path: path::join(&r.options.prefix, file), place: Some(d.place.clone()), directive: d.name().to_owned() }
}

/// A directive that passed the table.
pub(super) fn directive(r: &mut Reader, d: &Directive, known: &Known) {
    let value = d.argument(0).to_owned();
    match d.name() {
        "user" => user(r, d),
        "pid" => r.out.model.pid_file = Some(named(r, d, &value)),
        "load_module" => load_module(r, d),
        "worker_processes" if value != "auto" && values::count(&value).is_none() => {
            r.find(d, Code::ConfigBadValue, format!("\"{value}\" is no number of processes, expected a number or auto"));
        }
        "worker_connections" if values::count(&value).is_none() => {
            r.find(d, Code::ConfigBadValue, format!("\"{value}\" is no number of connections"));
        }
        "use" if !matches!(value.as_str(), "epoll" | "poll" | "select") => {
            r.find(d, Code::ConfigBadValue, format!("\"{value}\" is no event method of this system"));
        }
        "error_log" => error_log(r, d),
        "access_log" => access_log(r, d),
        "log_format" => {
            if !r.facts.formats.insert(value.clone()) {
                r.find(d, Code::ConfigConflict, format!("log format \"{value}\" is declared twice"));
            }
            let parts: Vec<String> = d.arguments().skip(1).filter(|a| !a.starts_with("escape=")).map(str::to_owned).collect();
            parts.iter().for_each(|p| uses_variables(r, d, p));
        }
        "listen" if known.module == "ngx_http_core_module" => listen::listen(r, d),
        "server_name" => server_name(r, d),
        "server" if matches!(r.context(), "upstream" | "stream-upstream") => upstream_server(r, d),
        "proxy_pass" | "fastcgi_pass" | "uwsgi_pass" | "scgi_pass" | "grpc_pass" | "memcached_pass" => pass(r, d),
        "ssl_certificate" | "ssl_certificate_key" if known.module == "ngx_http_ssl_module" => certificate(r, d),
        "ssl" if known.module == "ngx_http_ssl_module" && value.eq_ignore_ascii_case("on") => {
            r.warn(d, "\"ssl on\" is obsolete: write \"listen … ssl\"");
            let place = d.place.clone();
            if let Some(site) = &mut r.block().site {
                site.ssl_on = Some(place);
            }
        }
        "return" if known.module == "ngx_http_rewrite_module" => returns(r, d),
        "error_page" => error_page(r, d),
        "rewrite" => rewrite(r, d),
        "set" => match value.strip_prefix('$').filter(|n| !n.is_empty()) {
            Some(name) => {
                r.facts.variables.insert(name.to_owned());
                let set_to = d.argument(1).to_owned();
                uses_variables(r, d, &set_to);
            }
            None => drop(r.find(d, Code::ConfigBadValue, format!("\"{value}\" is no variable name: it must begin with $"))),
        },
        "auth_request_set" => drop(r.facts.variables.insert(value.trim_start_matches('$').to_owned())),
        "limit_req_zone" | "limit_conn_zone" => declare_zone(r, d),
        "proxy_cache_path" | "fastcgi_cache_path" | "uwsgi_cache_path" | "scgi_cache_path" => cache_path(r, d),
        "limit_req" => use_zone(r, d, d.arguments().find_map(|a| a.strip_prefix("zone=")).map(str::to_owned)),
        "limit_conn" => {
            if values::count(d.argument(1)).is_none_or(|n| n == 0) {
                r.find(d, Code::ConfigBadValue, format!("\"{}\" is no number of connections", d.argument(1)));
            }
            use_zone(r, d, Some(value));
        }
        "proxy_cache" | "fastcgi_cache" | "uwsgi_cache" | "scgi_cache" if value != "off" && !value.contains('$') => use_zone(r, d, Some(value)),
        "allow" | "deny" | "set_real_ip_from" => network(r, d),
        "aio" if !matches!(value.as_str(), "on" | "off" | "threads") && !value.starts_with("threads=") => {
            r.find(d, Code::ConfigBadValue, format!("\"{value}\" is no value for \"aio\", expected on, off or threads"));
        }
        "proxy_cache_valid" | "fastcgi_cache_valid" | "uwsgi_cache_valid" | "scgi_cache_valid" => cache_valid(r, d),
        "ssl_session_cache" => session_cache(r, d),
        "open_file_cache" if value != "off" && !d.arguments().any(|a| a.starts_with("max=")) => {
            r.find(d, Code::ConfigBadValue, "\"open_file_cache\" must have the \"max\" parameter");
        }
        "ip_hash" | "hash" | "random" if matches!(r.context(), "upstream" | "stream-upstream") => {
            let method = d.name().to_owned();
            r.block().prefix = Some(method);
        }
        "resolver" => resolver(r, d),
        "root" | "alias" => root_or_alias(r, d),
        "expires" | "keepalive_timeout" | "limit_rate" | "limit_rate_after" => number_like(r, d),
        "try_files" | "add_header" | "add_trailer" | "proxy_set_header" | "fastcgi_param" | "index" | "auth_basic" | "proxy_redirect" | "sub_filter"
        | "proxy_cache_key" | "fastcgi_cache_key" | "uwsgi_param" | "scgi_param" | "hash" => {
            let all: Vec<String> = d.arguments().map(str::to_owned).collect();
            all.iter().for_each(|a| uses_variables(r, d, a));
        }
        "client_body_temp_path" | "proxy_temp_path" | "fastcgi_temp_path" | "uwsgi_temp_path" | "scgi_temp_path" => {
            let entry = named(r, d, &value);
            r.facts.variables.insert(format!("\0{}", d.name()));
            r.out.model.writes.push(entry);
        }
        "ssl_dhparam" | "ssl_password_file" | "ssl_trusted_certificate" | "ssl_client_certificate" | "ssl_crl" => {
            let entry = NamedPath { path: path::join(path::parent(&r.options.config), &value), place: Some(d.place.clone()), directive: d.name().to_owned() };
            r.out.model.reads.push(entry);
        }
        _ => {}
    }
}

fn user(r: &mut Reader, d: &Directive) {
    let name = d.argument(0).to_owned();
    r.out.model.account = Some((name.clone(), Some(d.place.clone())));
    r.out.model.group = Some(if d.words.len() > 2 { d.argument(1).to_owned() } else { name.clone() });
    // Numbers are names here. Only a start as root looks the account up.
    if r.options.start_uid != 0 {
        return;
    }
    let missing = |look: bool| look;
    if missing(
        accounts::account(r.snapshot, &name).seen().is_none_or(|a| a.name != name)
            && accounts::account(r.snapshot, &name) != Look::NotSeen(crate::host::Unseen::PartMissing),
    ) {
        let found = r.find(d, Code::AccountMissing, format!("account \"{name}\" does not exist on this host"));
        found.depends_on = DependsOn::Accounts;
        found.object = Some(name);
        return;
    }
    let group = r.out.model.group.clone().unwrap_or_default();
    if accounts::group(r.snapshot, &group).is_absent() {
        let found = r.find(d, Code::AccountMissing, format!("group \"{group}\" does not exist on this host"));
        found.depends_on = DependsOn::Accounts;
        found.object = Some(group);
    }
}

fn load_module(r: &mut Reader, d: &Directive) {
    let file = path::join(&r.options.prefix, d.argument(0));
    let file = if d.argument(0).starts_with("modules/") && r.snapshot.exists(&file) == Some(false) {
        path::join(&r.options.modules, d.argument(0).trim_start_matches("modules/"))
    } else {
        file
    };
    if r.snapshot.exists(&file) == Some(false) {
        let found = r.find(d, Code::ConfigMissingFile, format!("module file {file} is not there"));
        found.depends_on = DependsOn::Files;
        found.object = Some(file);
        return;
    }
    if r.out.model.modules.contains(&file) {
        r.find(d, Code::ConfigConflict, format!("module {} is already loaded", path::name(&file)));
        return;
    }
    if r.facts.has_events || r.facts.has_http {
        r.find(d, Code::ConfigMisplacedDirective, "\"load_module\" is specified too late: it belongs before events and http");
    }
    r.out.model.modules.push(file);
}

fn error_log(r: &mut Reader, d: &Directive) {
    let value = d.argument(0).to_owned();
    if r.context() == "main" {
        r.facts.has_error_log = true;
    }
    const LEVELS: &[&str] = &[
        "emerg",
        "alert",
        "crit",
        "error",
        "warn",
        "notice",
        "info",
        "debug",
        "debug_core",
        "debug_alloc",
        "debug_mutex",
        "debug_event",
        "debug_http",
        "debug_mail",
        "debug_stream",
    ];
    if let Some(wrong) = d.arguments().skip(1).find(|a| !LEVELS.contains(a)) {
        let wrong = wrong.to_owned();
        r.find(d, Code::ConfigBadValue, format!("\"{wrong}\" is no log level, expected one of {}", LEVELS[..8].join(", ")));
        return;
    }
    if value == "stderr" || value.starts_with("syslog:") || value.starts_with("memory:") {
        return;
    }
    let entry = named(r, d, &value);
    r.out.model.writes.push(entry.clone());
    if r.context() == "main" {
        r.out.model.error_logs.insert(0, entry);
    } else {
        r.out.model.error_logs.push(entry);
    }
}

fn access_log(r: &mut Reader, d: &Directive) {
    let value = d.argument(0).to_owned();
    if value == "off" {
        if d.words.len() > 2 {
            let extra = d.argument(1).to_owned();
            r.find(d, Code::ConfigBadValue, format!("\"{extra}\" stands behind \"off\", which takes nothing more"));
        }
        return;
    }
    if d.words.len() > 2 && !d.argument(1).contains('=') {
        let format = d.argument(1).to_owned();
        if format != "combined" && !r.facts.formats.contains(&format) {
            r.find(d, Code::ConfigBadValue, format!("log format \"{format}\" is not declared before this line"));
            return;
        }
    }
    if let Some(wrong) = d.arguments().skip(2).find(|a| !["buffer=", "flush=", "gzip", "if="].iter().any(|p| a.starts_with(p))) {
        let wrong = wrong.to_owned();
        r.find(d, Code::ConfigBadValue, format!("\"{wrong}\" is no parameter of access_log"));
        return;
    }
    uses_variables(r, d, &value);
    if !value.contains('$') && !value.starts_with("syslog:") {
        let entry = named(r, d, &value);
        r.out.model.writes.push(entry.clone());
        r.out.model.access_logs.push(entry);
    }
}

fn server_name(r: &mut Reader, d: &Directive) {
    let names: Vec<String> = d.arguments().map(str::to_owned).collect();
    for name in names {
        if let Some(pattern) = name.strip_prefix('~') {
            if pattern.is_empty() {
                r.find(d, Code::ConfigBadValue, format!("\"{name}\" holds an empty pattern"));
            } else {
                check_regex(r, d, pattern);
            }
        } else {
            let stars = name.matches('*').count();
            let inner = name.trim_start_matches("*.").trim_end_matches(".*");
            if inner.contains('*') || stars > 1 || (stars == 1 && name.starts_with('*') && !name.starts_with("*.")) {
                // Refused only where several servers share the listener; that is known at the end.
                let entry = (name.clone(), d.place.clone());
                r.facts.odd_names.push(entry);
            } else if name.contains('/') {
                r.warn(d, format!("server name \"{name}\" has suspicious symbols"));
            }
        }
        if let Some(site) = &mut r.block().site {
            site.names.push(name.to_ascii_lowercase());
        }
    }
}

fn upstream_server(r: &mut Reader, d: &Directive) {
    r.block().members += 1;
    let wrong = d.arguments().skip(1).find(|a| {
        let number = |prefix: &str| a.strip_prefix(prefix).map(|n| values::count(n).is_some());
        let weight = a.strip_prefix("weight=").map(|n| values::count(n).is_some_and(|n| n > 0));
        let time = a.strip_prefix("fail_timeout=").map(|t| values::is_time(t, true));
        let ok = weight.or(number("max_fails=")).or(number("max_conns=")).or(time);
        !ok.unwrap_or(matches!(*a, "backup" | "down"))
    });
    if let Some(wrong) = wrong {
        let wrong = wrong.to_owned();
        r.find(d, Code::ConfigBadValue, format!("\"{wrong}\" is no parameter of an upstream server"));
        return;
    }
    if let Some(method) = r.block().prefix.clone().filter(|_| d.arguments().any(|a| a == "backup")) {
        r.find(d, Code::ConfigBadValue, format!("\"backup\" is not for the balancing method \"{method}\""));
        return;
    }
    let address = d.argument(0).to_owned();
    if !address.starts_with("unix:") {
        reaches(r, d, &address, false);
    }
}

/// An address that is looked up at start; names wait until all upstreams are known.
fn reaches(r: &mut Reader, d: &Directive, address: &str, may_be_upstream: bool) {
    if address.contains('@') {
        // A password may stand there: it is not repeated in the message.
        r.find(d, Code::ConfigBadValue, "the address holds an @, which nginx takes for a part of the port");
        return;
    }
    let (host, port) = split_host(address);
    if let Some(port) = port {
        match port.parse::<u32>() {
            Ok(1..=65535) => {}
            _ => {
                r.find(d, Code::ConfigBadValue, format!("\"{port}\" in \"{address}\" is no port, expected 1 to 65535"));
                return;
            }
        }
    }
    if host.is_empty() {
        r.find(d, Code::ConfigBadValue, format!("\"{address}\" names no host"));
        return;
    }
    if host.parse::<std::net::IpAddr>().is_ok() {
        if let Some(number) = port.and_then(|p| p.parse().ok()) {
            mention(r, d, number, address);
        }
        return;
    }
    if may_be_upstream {
        r.facts.upstream_uses.push((host.to_ascii_lowercase(), d.place.clone(), d.name().to_owned()));
        return;
    }
    // A member of an upstream is looked up while it is read.
    let host = host.to_owned();
    match crate::names::lookup(r.snapshot, &host) {
        Look::Seen(_) => {}
        Look::Absent => {
            let found = r.find(d, Code::NameUnresolved, format!("host \"{host}\" of \"{}\" does not resolve", d.name()));
            found.depends_on = DependsOn::Names;
            found.object = Some(host);
        }
        Look::NotSeen(_) => {
            let line = format!("whether {host} resolves ({})", d.place);
            r.out.not_seen.push(line);
        }
    }
}

/// Remembers where a port number stands that is not this server's own listener.
fn mention(r: &mut Reader, d: &Directive, port: u16, text: &str) {
    let digits = port.to_string();
    let Some(word) = d.words.iter().skip(1).find(|w| w.value.contains(text)) else { return };
    let Some(at) = word.value.find(text).and_then(|t| word.value[t..].rfind(&digits).map(|n| t + n)) else { return };
    let span = r.span(word.start + at, word.start + at + digits.len());
    let text = d.words.iter().map(|w| w.value.as_ref()).collect::<Vec<_>>().join(" ");
    r.out.model.ports.push(PortMention { port, place: d.place.clone(), span, belongs: false, text });
}

fn split_host(address: &str) -> (&str, Option<&str>) {
    if let Some(rest) = address.strip_prefix('[') {
        let (host, tail) = rest.split_once(']').unwrap_or((rest, ""));
        return (host, tail.strip_prefix(':'));
    }
    address.split_once(':').map_or((address, None), |(h, p)| (h, Some(p)))
}

fn pass(r: &mut Reader, d: &Directive) {
    let value = d.argument(0).to_owned();
    if value.contains('$') {
        return uses_variables(r, d, &value);
    }
    let mut address = value.as_str();
    let mut implied = false;
    if matches!(d.name(), "proxy_pass" | "grpc_pass") && r.context() != "stream-server" {
        let schemes: &[&str] = if d.name() == "proxy_pass" { &["http://", "https://"] } else { &["grpc://", "grpcs://"] };
        match schemes.iter().find_map(|s| value.get(..s.len()).filter(|v| v.eq_ignore_ascii_case(s)).map(|_| &value[s.len()..])) {
            Some(rest) => address = rest,
            None if d.name() == "grpc_pass" => {}
            None => {
                r.find(d, Code::ConfigBadValue, format!("\"{value}\" has no scheme, expected http:// or https:// in front"));
                return;
            }
        }
        implied = true;
    }
    if let Some(rest) = address.strip_prefix("unix:") {
        let socket = rest.split(':').next().unwrap_or_default().to_owned();
        r.out.model.facts.insert(format!("upstream-socket {socket}"), d.place.to_string());
        return;
    }
    let (authority, uri) = address.find('/').map_or((address, ""), |at| address.split_at(at));
    if implied && d.name() == "proxy_pass" && !uri.is_empty() && r.block().no_uri {
        r.find(d, Code::ConfigBadValue, "\"proxy_pass\" cannot have a URI part in a regex or named location, in \"if\" or in \"limit_except\"").help =
            Some(format!("leave out \"{uri}\""));
        return;
    }
    let (host, port) = split_host(authority);
    if !implied && port.is_none() {
        // Without a port only the name of an upstream will do.
        let key = format!("\u{1}{}", host.to_ascii_lowercase());
        r.facts.upstream_uses.push((key, d.place.clone(), d.name().to_owned()));
        return;
    }
    let authority = authority.to_owned();
    reaches(r, d, &authority, true);
}

fn certificate(r: &mut Reader, d: &Directive) {
    let value = d.argument(0).to_owned();
    let is_key = d.name() == "ssl_certificate_key";
    let site = r.block().site.as_mut();
    match site {
        Some(site) if is_key => site.key = true,
        Some(site) => site.certificate = true,
        None if is_key => r.facts.http_key = true,
        None => r.facts.http_certificate = true,
    }
    if value.contains('$') || value.starts_with("data:") || value.starts_with("engine:") {
        return;
    }
    let file = path::join(path::parent(&r.options.config), &value);
    let entry = NamedPath { path: file, place: Some(d.place.clone()), directive: d.name().to_owned() };
    let key = format!("certificate-of {}", r.blocks.len());
    let site = r.block().site.as_ref().and_then(|s| s.opened.clone()).map_or(String::from("http"), |p| p.to_string());
    r.out.model.facts.insert(format!("{key} {site} {}", entry.path), d.place.to_string());
    r.out.model.reads.push(entry);
}

/// Certificates of a site: there where TLS is spoken, each with its key, and readable. The files are opened even when no
/// listener speaks TLS, as soon as both are named (observed with 1.22).
pub(super) fn site_certificates(r: &mut Reader, site: &Site) {
    let speaks = site.ssl_listen.is_some() || site.ssl_on.is_some();
    let has = site.certificate || r.facts.http_certificate;
    let Some(opened) = &site.opened else { return };
    if has && !site.key && !r.facts.http_key {
        let place = r.out.model.reads.iter().rev().find(|n| n.directive == "ssl_certificate").and_then(|n| n.place.clone());
        push(r, Code::CertificateBad, place, "ssl_certificate", "no ssl_certificate_key is given for this certificate".into());
        return;
    }
    if !speaks && !has {
        return;
    }
    if let Some(on) = site.ssl_on.clone().filter(|_| !has) {
        push(r, Code::CertificateBad, Some(on), "ssl", "no ssl_certificate is given for a server with \"ssl on\"".into());
        return;
    }
    if !has {
        let listen = site.ssl_listen.as_ref().map(ToString::to_string).unwrap_or_default();
        push(r, Code::CertificateBad, Some(opened.clone()), "listen", format!("no ssl_certificate is given for the listener with TLS in {listen}"));
        return;
    }
    let mark = format!(" {opened} ");
    let files: Vec<String> =
        r.out.model.facts.keys().filter(|k| k.starts_with("certificate-of") && (k.contains(&mark) || k.contains(" http "))).cloned().collect();
    for key in files {
        let Some(file) = key.splitn(4, ' ').nth(3).map(str::to_owned) else { continue };
        let place = r.out.model.reads.iter().rev().find(|n| n.path == file).and_then(|n| n.place.clone());
        let directive = r.out.model.reads.iter().rev().find(|n| n.path == file).map_or("ssl_certificate", |n| n.directive.as_str()).to_owned();
        let message = match r.snapshot.read(&file) {
            Look::Absent => (Code::ConfigMissingFile, format!("{file} is not there")),
            Look::Seen(bytes) => match crate::config::pem_fault(&bytes, directive.ends_with("_key")) {
                Some(fault) => (Code::CertificateBad, format!("{file}: {fault}")),
                None => continue,
            },
            Look::NotSeen(_) => continue,
        };
        push(r, message.0, place, &directive, message.1);
        if let Some(last) = r.out.findings.last_mut() {
            last.depends_on = DependsOn::Files;
            last.object = Some(file);
        }
    }
}

fn returns(r: &mut Reader, d: &Directive) {
    let code = d.argument(0).to_owned();
    let text = d.argument(1).to_owned();
    if d.words.len() == 2 && (code.starts_with("http://") || code.starts_with("https://") || code.starts_with('$')) {
        return uses_variables(r, d, &code);
    }
    match values::count(&code) {
        Some(n) if n <= 999 => uses_variables(r, d, &text),
        _ => drop(r.find(d, Code::ConfigBadValue, format!("\"{code}\" is no status code, expected 0 to 999"))),
    }
}

fn error_page(r: &mut Reader, d: &Directive) {
    let all: Vec<String> = d.arguments().map(str::to_owned).collect();
    let Some((uri, rest)) = all.split_last() else { return };
    let codes = if rest.last().is_some_and(|l| l.starts_with('=')) { &rest[..rest.len() - 1] } else { rest };
    for code in codes {
        match values::count(code) {
            Some(300..=599) if code != "499" => {}
            _ => {
                r.find(d, Code::ConfigBadValue, format!("\"{code}\" is no status code for an error page, expected 300 to 599"));
                return;
            }
        }
    }
    uses_variables(r, d, uri);
}

fn rewrite(r: &mut Reader, d: &Directive) {
    let pattern = d.argument(0).to_owned();
    check_regex(r, d, &pattern);
    let to = d.argument(1).to_owned();
    uses_variables(r, d, &to);
    let flag = d.argument(2).to_owned();
    if d.words.len() > 3 && !["last", "break", "redirect", "permanent"].contains(&flag.as_str()) {
        r.find(d, Code::ConfigBadValue, format!("\"{flag}\" is no flag of rewrite, expected last, break, redirect or permanent"));
    }
}

fn declare_zone(r: &mut Reader, d: &Directive) {
    let key = d.argument(0).to_owned();
    uses_variables(r, d, &key);
    let Some(zone) = d.arguments().find_map(|a| a.strip_prefix("zone=")).map(str::to_owned) else {
        r.find(d, Code::ConfigBadValue, format!("\"{}\" must have a \"zone\" parameter", d.name()));
        return;
    };
    let (name, size) = zone.split_once(':').unwrap_or((&zone, ""));
    if name.is_empty() || values::size(size, false).is_none_or(|n| n < 32 << 10) {
        r.find(d, Code::ConfigBadValue, format!("zone \"{zone}\" needs a name and a size of at least 32k, such as seats:10m"));
        return;
    }
    if let Some(rate) = d.arguments().find_map(|a| a.strip_prefix("rate=")) {
        let ok = values::count(rate.strip_suffix("r/s").or(rate.strip_suffix("r/m")).unwrap_or(rate)).is_some_and(|n| n > 0);
        if !ok {
            let rate = rate.to_owned();
            r.find(d, Code::ConfigBadValue, format!("rate \"{rate}\" is none, expected such as 5r/s or 30r/m"));
            return;
        }
    }
    let place = d.place.clone();
    if let Some(first) = r.facts.zones.insert(name.to_owned(), place) {
        r.find(d, Code::ConfigConflict, format!("zone \"{name}\" is already declared in {first}"));
    }
}

fn cache_path(r: &mut Reader, d: &Directive) {
    let entry = named(r, d, d.argument(0));
    let Some(zone) = d.arguments().find_map(|a| a.strip_prefix("keys_zone=")).map(str::to_owned) else {
        r.find(d, Code::ConfigBadValue, format!("\"{}\" must have a \"keys_zone\" parameter", d.name()));
        return;
    };
    let (name, size) = zone.split_once(':').unwrap_or((&zone, ""));
    if values::size(size, false).is_none_or(|n| n < 8192) {
        r.find(d, Code::ConfigBadValue, format!("keys zone \"{zone}\" needs a name and a size, such as pages:10m"));
        return;
    }
    let place = d.place.clone();
    r.facts.zones.insert(name.to_owned(), place);
    r.facts.variables.insert(format!("\0cache {}", entry.path));
    r.out.model.writes.push(entry);
}

fn use_zone(r: &mut Reader, d: &Directive, name: Option<String>) {
    match name {
        Some(name) => r.facts.zone_uses.push((name, d.place.clone(), d.name().to_owned())),
        None => drop(r.find(d, Code::ConfigBadValue, format!("\"{}\" must have a \"zone\" parameter", d.name()))),
    }
}

/// An address, alone or with the length of a prefix or a mask.
fn is_network(value: &str) -> bool {
    let (address, bits) = value.split_once('/').map_or((value, None), |(a, b)| (a, Some(b)));
    let most = if address.contains(':') { 128 } else { 32 };
    let fits = |b: &str| b.parse::<u8>().is_ok_and(|n| n <= most) || b.parse::<std::net::Ipv4Addr>().is_ok();
    address.parse::<std::net::IpAddr>().is_ok() && bits.is_none_or(fits)
}

fn network(r: &mut Reader, d: &Directive) {
    let value = d.argument(0).to_owned();
    let (address, bits) = value.split_once('/').map_or((value.as_str(), None), |(a, b)| (a, Some(b)));
    let most = if address.contains(':') { 128 } else { 32 };
    let plain =
        is_network(&value) || value == "all" || value.starts_with("unix:") || (d.name() == "set_real_ip_from" && address.parse::<std::net::IpAddr>().is_err());
    let fits =
        address.parse::<std::net::IpAddr>().is_ok() && bits.is_none_or(|b| b.parse::<u8>().is_ok_and(|n| n <= most) || b.parse::<std::net::Ipv4Addr>().is_ok());
    if !plain && !fits {
        r.find(d, Code::ConfigBadValue, format!("\"{value}\" is no address or network"));
    }
}

fn cache_valid(r: &mut Reader, d: &Directive) {
    let all: Vec<String> = d.arguments().map(str::to_owned).collect();
    let Some((time, codes)) = all.split_last() else { return };
    if !values::is_time(time, true) {
        r.find(d, Code::ConfigBadValue, format!("\"{time}\" is no time"));
        return;
    }
    let wrong = codes.iter().find(|c| *c != "any" && !matches!(values::count(c), Some(100..=599)));
    if let Some(wrong) = wrong {
        r.find(d, Code::ConfigBadValue, format!("\"{wrong}\" is no status code, expected 100 to 599 or any"));
    }
}

fn session_cache(r: &mut Reader, d: &Directive) {
    let wrong = d.arguments().map(str::to_owned).find(|a| {
        let shared = a
            .strip_prefix("shared:")
            .map(|rest| rest.split_once(':').is_some_and(|(name, size)| !name.is_empty() && values::size(size, false).is_some_and(|n| n >= 32 << 10)));
        let own = a.strip_prefix("builtin:").map(|n| values::count(n).is_some());
        !shared.or(own).unwrap_or(matches!(a.as_str(), "off" | "none" | "builtin"))
    });
    if let Some(wrong) = wrong {
        r.find(d, Code::ConfigBadValue, format!("\"{wrong}\" is no session cache, expected off, none, builtin or such as shared:TLS:10m"));
    }
}

fn resolver(r: &mut Reader, d: &Directive) {
    let all: Vec<String> = d.arguments().map(str::to_owned).collect();
    for word in &all {
        if let Some(time) = word.strip_prefix("valid=") {
            if !values::is_time(time, true) {
                r.find(d, Code::ConfigBadValue, format!("\"{time}\" is no time"));
            }
        } else if !word.starts_with("ipv6=") && !word.starts_with("status_zone=") {
            let (host, _) = split_host(word);
            if host.parse::<std::net::IpAddr>().is_err() {
                let key = format!("\0{}", host.to_ascii_lowercase());
                r.facts.upstream_uses.push((key, d.place.clone(), "resolver".into()));
            }
        }
    }
}

fn root_or_alias(r: &mut Reader, d: &Directive) {
    let value = d.argument(0).to_owned();
    uses_variables(r, d, &value);
    let other = if d.name() == "root" { "alias" } else { "root" };
    let mine = d.name().to_owned();
    if r.context() == "location" {
        r.block().declared.insert(format!("\0{mine}"));
        if r.block().declared.contains(&format!("\0{other}")) {
            r.find(d, Code::ConfigConflict, format!("\"{mine}\" stands beside \"{other}\" in one location"));
        }
    }
}

fn number_like(r: &mut Reader, d: &Directive) {
    let value = d.argument(0).to_owned();
    if value.contains('$') {
        return uses_variables(r, d, &value);
    }
    let fine = match d.name() {
        "expires" => {
            let words: Vec<&str> = d.arguments().collect();
            let time = words.last().copied().unwrap_or_default();
            ["off", "epoch", "max"].contains(&time) || values::is_time(time.trim_start_matches(['@', '-', '+']), true) || time.starts_with('@')
        }
        "keepalive_timeout" => d.arguments().all(|a| values::is_time(a, false) || values::is_time(a, true)),
        _ => values::size(&value, true).is_some(),
    };
    if !fine {
        r.find(d, Code::ConfigBadValue, format!("\"{value}\" is no value for \"{}\"", d.name()));
    }
}

/// What only the whole configuration tells.
pub(super) fn finish(r: &mut Reader) {
    super::finish::finish(r);
}
