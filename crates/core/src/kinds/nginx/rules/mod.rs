//! What the table of directives cannot say: rules between directives, names, files and addresses.
pub(super) mod blocks;
pub(super) mod certificates;
mod common;
mod logs;
mod upstreams;
mod zones;

use super::listen;
use super::state::{Directive, Known, Reader};
use super::values;
use crate::accounts;
use crate::code::Code;
use crate::config::{DependsOn, NamedPath};
use crate::host::Look;
use crate::path;
use certificates::{certificate, session_cache};
use common::{check_regex, is_network, named, uses_variables};
use logs::{access_log, error_log};
use upstreams::{pass, split_host, upstream_server};
use zones::{cache_path, cache_valid, declare_zone, use_zone};

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

/// A directive that passed the table.
pub(super) fn directive(r: &mut Reader, d: &Directive, known: &Known) {
    let value = d.argument(0).to_owned();
    match d.name() {
        "user" => user(r, d),
        "daemon" => r.out.model.background = Some(value != "off"),
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
