//! What the table of httpd's directives cannot say: values, files, listeners.
use super::read::Reader;
use super::walk::{Directive, Scope, report};
use crate::accounts;
use crate::code::Code;
use crate::config::{DependsOn, NamedPath, Place, PortMention, Severity, WantedListen};
use crate::host::Look;
use crate::net::Listen;
use crate::path;
use std::collections::BTreeMap;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// What is gathered over the second pass and judged at its end.
#[derive(Default)]
pub(super) struct Facts {
    /// Virtual hosts seen so far.
    pub(super) hosts: usize,
    pub(super) has_server_name: bool,
    pub(super) has_types_config: bool,
    pub(super) listens: Vec<(Option<IpAddr>, u16, Place)>,
    /// TLS facts by virtual host.
    pub(super) tls: BTreeMap<usize, Tls>,
    pub(super) first_host: Option<Place>,
}

/// TLS settings of one virtual host.
#[derive(Default)]
pub(super) struct Tls {
    pub(super) engine: Option<Place>,
    pub(super) certificate: bool,
    pub(super) files: Vec<(String, Place, bool)>,
}

fn bad(r: &mut Reader, d: &Directive, message: String) {
    report(r, d, Code::ConfigBadValue, message);
}

fn one_of(r: &mut Reader, d: &Directive, words: &[&str]) {
    let value = d.value(0);
    if !words.iter().any(|w| w.eq_ignore_ascii_case(value)) {
        bad(r, d, format!("{} is {value:?}, expected one of {}", d.name, words.join(", ")));
    }
}

/// A directive that passed the table.
pub(super) fn directive(r: &mut Reader, d: &Directive, scope: &Scope, facts: &mut Facts, previous: &str) {
    match d.lower().as_str() {
        "listen" => listen(r, d, facts),
        "<virtualhost" => virtual_host(r, d, facts),
        "servername" => {
            if scope.host == 0 {
                facts.has_server_name = true;
            }
            server_name(r, d, scope);
        }
        "serveralias" if scope.host == 0 => {
            report(r, d, Code::ConfigMisplacedDirective, "ServerAlias is for virtual hosts only").help = Some("move it into a <VirtualHost>".into());
        }
        "serveralias" => {
            for name in d.values.iter().filter(|n| !n.is_empty()) {
                r.out.model.site_names.push((name.to_ascii_lowercase(), 0));
            }
        }
        "documentroot" => document_root(r, d, scope),
        "errorlog" => error_log(r, d, scope),
        "customlog" | "transferlog" | "globallog" => custom_log(r, d),
        "pidfile" => {
            let file = log_path(r, d.value(0));
            r.out.model.pid_file = Some(NamedPath { path: file, place: Some(d.item.place()), directive: d.name.clone() });
        }
        "user" => r.out.model.account = Some((d.value(0).to_owned(), Some(d.item.place()))),
        "group" => r.out.model.group = Some(d.value(0).to_owned()),
        "options" => options(r, d),
        "allowoverride" => allow_override(r, d, scope),
        "loglevel" => log_level(r, d),
        "servertokens" => one_of(r, d, &["Prod", "ProductOnly", "Major", "Minor", "Min", "Minimal", "OS", "Full"]),
        "serversignature" => one_of(r, d, &["On", "Off", "EMail"]),
        "usecanonicalname" => one_of(r, d, &["On", "Off", "DNS"]),
        "hostnamelookups" => one_of(r, d, &["On", "Off", "Double"]),
        "traceenable" => one_of(r, d, &["on", "off", "extended"]),
        "acceptpathinfo" => one_of(r, d, &["on", "off", "default"]),
        "allowencodedslashes" => one_of(r, d, &["on", "off", "nodecode"]),
        "enablemmap" | "enablesendfile" | "contentdigest" => one_of(r, d, &["on", "off"]),
        "sslengine" => ssl_engine(r, d, scope, facts),
        "sslprotocol" | "sslproxyprotocol" => ssl_protocol(r, d),
        "sslverifyclient" | "sslproxyverify" => one_of(r, d, &["none", "0", "off", "optional", "1", "require", "2", "on", "optional_no_ca", "3"]),
        "sslcertificatefile" | "sslcertificatekeyfile" | "sslcertificatechainfile" | "sslcacertificatefile" => certificate(r, d, scope, facts),
        "order" => one_of(r, d, &["allow,deny", "deny,allow", "mutual-failure"]),
        "allow" | "deny" if !d.value(0).eq_ignore_ascii_case("from") => {
            bad(r, d, format!("{} is followed by {:?}, expected \"from\"", d.name, d.value(0)));
        }
        "satisfy" => one_of(r, d, &["all", "any"]),
        "require" => require(r, d, scope),
        "redirect" | "redirectmatch" => redirect(r, d, scope),
        "aliasmatch" | "scriptaliasmatch" => regex(r, d, 0),
        "rewriterule" => rewrite_rule(r, d),
        "rewritecond" => rewrite_cond(r, d),
        "errordocument" => {
            let code: Option<u32> = d.value(0).parse().ok();
            if !code.is_some_and(|c| (400..=599).contains(&c)) && d.values.len() > 1 {
                bad(r, d, format!("{:?} is no status code for an error document, expected 400 to 599", d.value(0)));
            } else if d.values.len() < 2 {
                bad(r, d, "ErrorDocument has 1 value, expected 2 values".into());
            }
        }
        "header" | "requestheader" => header(r, d),
        "proxypass" => proxy_pass(r, d, scope),
        "typesconfig" => {
            facts.has_types_config = true;
            let file = path::join(&r.server_root, d.value(0));
            if r.snapshot.exists(&file) == Some(false) {
                let found = report(r, d, Code::ConfigMissingFile, format!("{file} is not there"));
                found.depends_on = DependsOn::Files;
                found.object = Some(file);
            }
        }
        "<directory" | "<location" | "<files" | "<directorymatch" | "<locationmatch" | "<filesmatch" | "<proxy" => {
            if d.values.is_empty() || d.value(0).is_empty() {
                report(r, d, Code::ConfigSyntax, format!("{}> names nothing", d.name));
            } else if !d.item.text.contains('>') {
                report(r, d, Code::ConfigSyntax, format!("{}> is missing its closing >", d.name));
            } else if d.lower().ends_with("match") || d.value(0) == "~" {
                regex(r, d, usize::from(d.value(0) == "~"));
            }
        }
        "<else" | "<elseif" if !matches!(previous, "<if" | "<elseif") => {
            report(r, d, Code::ConfigMisplacedDirective, format!("{}> must follow an <If> of the same section", d.name));
        }
        "<limit" | "<limitexcept" if d.values.is_empty() => {
            report(r, d, Code::ConfigSyntax, format!("{}> names no method", d.name));
        }
        "namevirtualhost" => warn(r, d, "NameVirtualHost has no effect any more"),
        "alias" | "scriptalias" if d.values.len() == 1 && !scope.in_directory() => {
            bad(r, d, format!("{} has 1 value, expected 2 outside of <Location>", d.name));
        }
        "limitrequestbody" | "limitrequestfields" | "limitrequestfieldsize" | "limitrequestline" | "limitxmlrequestbody"
            if d.value(0).parse::<u64>().is_err() =>
        {
            bad(r, d, format!("{} is {:?}, expected a plain number", d.name, d.value(0)));
        }
        "deflatecompressionlevel" => range(r, d, 1, 9),
        "deflatememlevel" => range(r, d, 1, 9),
        "deflatewindowsize" => range(r, d, 1, 15),
        "httpprotocoloptions" => {
            const WORDS: &[&str] = &["strict", "unsafe", "registeredmethods", "lenientmethods", "allow0.9", "require1.0"];
            each_of(r, d, WORDS);
        }
        "fileetag" => {
            const WORDS: &[&str] = &["all", "none", "mtime", "size", "inode", "digest"];
            each_of(r, d, WORDS);
        }
        "indexoptions" => index_options(r, d),
        "expiresdefault" => expires(r, d, 0),
        "expiresbytype" => expires(r, d, 1),
        "sslsessioncache" | "sslstaplingcache" => session_cache(r, d),
        "mutex" => {
            let mechanism = d.value(0).split(':').next().unwrap_or_default().to_ascii_lowercase();
            let known = ["default", "none", "no", "yes", "file", "flock", "fcntl", "posixsem", "sysvsem", "sem", "pthread", "mutex"];
            if !known.contains(&mechanism.as_str()) {
                bad(r, d, format!("{:?} is no mechanism of Mutex", d.value(0)));
            }
        }
        "coredumpdirectory" => {
            let dir = path::join(&r.server_root, d.value(0));
            if r.snapshot.is_directory(&dir) == Some(false) {
                let found = report(r, d, Code::ConfigMissingFile, format!("CoreDumpDirectory {dir} is no directory"));
                found.depends_on = DependsOn::Files;
                found.object = Some(dir);
            }
        }
        "setenvif" | "setenvifnocase" if d.values.len() < 3 => {
            bad(r, d, format!("{} has {} values, expected 3 or more", d.name, d.values.len()));
        }
        "setenvif" | "setenvifnocase" => regex(r, d, 1),
        "browsermatch" | "browsermatchnocase" if d.values.len() < 2 => {
            bad(r, d, format!("{} has {} values, expected 2 or more", d.name, d.values.len()));
        }
        "browsermatch" | "browsermatchnocase" => regex(r, d, 0),
        "<if" | "<elseif" => expression(r, d),
        _ => {}
    }
}

fn each_of(r: &mut Reader, d: &Directive, words: &[&str]) {
    let wrong = d.values.iter().find(|v| !words.contains(&v.trim_start_matches(['+', '-']).to_ascii_lowercase().as_str())).cloned();
    if let Some(wrong) = wrong {
        bad(r, d, format!("{wrong:?} is no word of {}, expected some of {}", d.name, words.join(", ")));
    }
}

fn range(r: &mut Reader, d: &Directive, least: i64, most: i64) {
    if !d.value(0).parse::<i64>().is_ok_and(|n| (least..=most).contains(&n)) {
        bad(r, d, format!("{} is {:?}, expected {least} to {most}", d.name, d.value(0)));
    }
}

fn index_options(r: &mut Reader, d: &Directive) {
    const WORDS: &[&str] = &[
        "none",
        "addaltclass",
        "charset",
        "descriptionwidth",
        "fancyindexing",
        "foldersfirst",
        "htmltable",
        "iconsarelinks",
        "iconheight",
        "iconwidth",
        "ignorecase",
        "ignoreclient",
        "namewidth",
        "scanhtmltitles",
        "showforbidden",
        "suppresscolumnsorting",
        "suppressdescription",
        "suppresshtmlpreamble",
        "suppressicon",
        "suppresslastmodified",
        "suppressrules",
        "suppresssize",
        "trackmodified",
        "type",
        "useolddateformat",
        "versionsort",
        "xhtml",
    ];
    let wrong = d.values.iter().find(|v| {
        let bare = v.trim_start_matches(['+', '-']).split('=').next().unwrap_or_default().to_ascii_lowercase();
        !WORDS.contains(&bare.as_str())
    });
    if let Some(wrong) = wrong.cloned() {
        bad(r, d, format!("{wrong:?} is no option of IndexOptions"));
    }
}

/// `A3600`, or words such as "access plus 1 month 2 days".
fn expires(r: &mut Reader, d: &Directive, index: usize) {
    let value = d.value(index).to_ascii_lowercase();
    let code = value.strip_prefix(['a', 'm']).is_some_and(|n| !n.is_empty() && n.bytes().all(|b| b.is_ascii_digit()));
    let mut words = value.split_whitespace();
    let base = matches!(words.next(), Some("access" | "now" | "modification"));
    let mut rest: Vec<&str> = words.collect();
    if rest.first() == Some(&"plus") {
        rest.remove(0);
    }
    let units = ["year", "month", "week", "day", "hour", "minute", "second"];
    let pairs =
        rest.len().is_multiple_of(2) && rest.chunks(2).all(|p| p[0].parse::<i64>().is_ok() && units.iter().any(|u| p[1].trim_end_matches('s').starts_with(u)));
    let fine = code || (base && pairs);
    if !fine {
        bad(r, d, format!("{value:?} is no expiry, expected such as \"access plus 1 month\""));
    }
}

/// Session caches are modules of their own.
fn session_cache(r: &mut Reader, d: &Directive) {
    let kind = d.value(0).split(':').next().unwrap_or_default().to_ascii_lowercase();
    if matches!(kind.as_str(), "none" | "nonenotnull") {
        return;
    }
    let module = format!("socache_{}", if kind == "dbm" || kind == "shmcb" || kind == "memcache" || kind == "redis" { kind.clone() } else { "shmcb".into() });
    let known = matches!(kind.as_str(), "dbm" | "shmcb" | "memcache" | "redis" | "dc");
    if !known {
        bad(r, d, format!("{kind:?} is no session cache, expected none, shmcb, dbm or memcache"));
    } else if !r.module_loaded(&format!("{module}_module")) {
        let found = report(r, d, Code::ConfigMissingModule, format!("the session cache {kind:?} belongs to mod_{module}, which is not loaded"));
        found.object = Some(format!("{module}_module"));
    }
}

/// What is plainly no expression: an operator without its right side, brackets or quotes that do not close.
fn expression(r: &mut Reader, d: &Directive) {
    let text = d.values.join(" ");
    let text = text.trim();
    let operators = ["==", "!=", "<=", ">=", "=~", "!~", "&&", "||", "=", "<", ">"];
    let open = operators.iter().any(|o| text.ends_with(o) && !text.ends_with("'>")) || text.is_empty();
    let depth = text.chars().fold(0i32, |n, c| n + i32::from(c == '{') - i32::from(c == '}'));
    let quotes = text.matches('\'').count() % 2 == 1 && !text.contains("=~") && !text.contains("!~");
    if open || depth != 0 || quotes {
        bad(r, d, format!("{text:?} is no complete expression"));
    }
}

fn warn(r: &mut Reader, d: &Directive, message: &str) {
    report(r, d, Code::ConfigWarning, message).severity = Severity::Warning;
}

/// A section ended; `children` are what stood in it.
pub(super) fn section_ends(r: &mut Reader, d: &Directive, children: &[super::read::Item]) {
    if d.lower() == "<requireany" {
        let negative = children.iter().find(|c| {
            let text = c.text.to_ascii_lowercase();
            text.starts_with("<requirenone") || text.strip_prefix("require").is_some_and(|t| t.trim_start().starts_with("not "))
        });
        if let Some(child) = negative {
            let place = child.place();
            let name = child.name();
            let found = r.find_at(Some(place), Code::ConfigConflict, format!("{name} with a negation has no effect inside <RequireAny>, and is refused"));
            found.directive = Some(name);
        }
    }
}

fn log_path(r: &Reader, value: &str) -> String {
    path::join(&r.server_root, value)
}

/// An address and port as `Listen` and `<VirtualHost>` write them; the port may be `*`.
fn address_port(text: &str) -> Option<(Option<String>, Option<u16>)> {
    let (host, port) = if let Some(rest) = text.strip_prefix('[') {
        let (host, tail) = rest.split_once(']')?;
        (Some(host.to_owned()), tail.strip_prefix(':'))
    } else {
        match text.rsplit_once(':') {
            Some((host, port)) => (Some(host.to_owned()), Some(port)),
            None if text.bytes().all(|b| b.is_ascii_digit()) => (None, Some(text)),
            None => (Some(text.to_owned()), None),
        }
    };
    let port = match port {
        None | Some("*") => None,
        Some(digits) if !digits.is_empty() && digits.bytes().all(|b| b.is_ascii_digit()) => Some(digits.parse::<u16>().ok().filter(|p| *p > 0)?),
        Some(_) => return None,
    };
    Some((host, port))
}

fn listen(r: &mut Reader, d: &Directive, facts: &mut Facts) {
    if d.values.is_empty() || d.values.len() > 3 {
        return bad(r, d, format!("Listen has {} values, expected 1 to 3", d.values.len()));
    }
    let value = d.value(0).to_owned();
    let Some((host, port)) = address_port(&value) else {
        return bad(r, d, format!("{value:?} is no address and port, expected such as 80 or 192.0.2.1:80"));
    };
    let Some(port) = port else {
        return bad(r, d, format!("{value:?} names no port"));
    };
    let tls = d.value(1).eq_ignore_ascii_case("https") || (d.values.len() == 1 && port == 443);
    let place = d.item.place();
    let address = match host.as_deref() {
        None | Some("*") => None,
        Some("0.0.0.0") => Some(IpAddr::V4(Ipv4Addr::UNSPECIFIED)),
        Some(name) => match crate::names::lookup(r.snapshot, name) {
            Look::Seen(found) => found.first().copied(),
            Look::Absent => {
                let name = name.to_owned();
                let found = report(r, d, Code::NameUnresolved, format!("{name:?} in {value:?} does not resolve"));
                found.depends_on = DependsOn::Names;
                found.object = Some(name);
                return;
            }
            Look::NotSeen(_) => {
                r.out.not_seen.push(format!("whether {name} resolves ({place})"));
                return;
            }
        },
    };
    if let Some((.., first)) = facts.listens.iter().find(|(a, p, _)| *a == address && *p == port) {
        let message = format!("port {port} is already listened on by {first}");
        report(r, d, Code::ConfigConflict, message).object = Some(port.to_string());
        return;
    }
    facts.listens.push((address, port, place.clone()));
    // Without an address the daemon opens one socket for both families where the host has IPv6.
    let bound = address.unwrap_or(IpAddr::V6(Ipv6Addr::UNSPECIFIED));
    let offset = d.item.text.rfind(&port.to_string()).filter(|_| d.values.len() == 1);
    let offset = offset.or_else(|| d.item.text.find(&value).map(|at| at + value.len() - port.to_string().len()));
    let port_span = offset.and_then(|at| d.item.span(at, port.to_string().len()));
    r.out.model.listens.push(WantedListen { listen: Listen::tcp(bound, port, false), place, port_span, tls, bound: true });
}

fn virtual_host(r: &mut Reader, d: &Directive, facts: &mut Facts) {
    facts.first_host.get_or_insert_with(|| d.item.place());
    if !d.item.text.contains('>') {
        report(r, d, Code::ConfigSyntax, "<VirtualHost> is missing its closing >");
        return;
    }
    if d.values.is_empty() {
        report(r, d, Code::ConfigSyntax, "<VirtualHost> names no address");
        return;
    }
    for value in d.values.clone() {
        if value.bytes().all(|b| b.is_ascii_digit()) {
            return bad(r, d, format!("<VirtualHost {value}> has a number where an address belongs; write *:{value}"));
        }
        let (host, tail) = value.rsplit_once(':').unwrap_or((&value, ""));
        if !tail.is_empty() && tail.bytes().all(|b| b.is_ascii_digit()) && !host.ends_with(':') {
            match tail.parse::<u16>() {
                Ok(port) => {
                    let at = d.item.text.find(&value).map(|at| at + value.len() - tail.len());
                    if let Some(span) = at.and_then(|at| d.item.span(at, tail.len())) {
                        let text = d.item.text.to_string();
                        r.out.model.ports.push(PortMention { port, place: d.item.place(), span, belongs: true, text });
                    }
                }
                Err(_) => return bad(r, d, format!("{tail:?} in {value:?} is no port, expected 1 to 65535")),
            }
        }
    }
}

fn server_name(r: &mut Reader, d: &Directive, scope: &Scope) {
    let value = d.value(0).to_owned();
    let bare = value.split_once("://").map_or(value.as_str(), |(_, rest)| rest);
    let (name, port) = bare.rsplit_once(':').filter(|(n, _)| !n.contains(':')).unwrap_or((bare, ""));
    r.out.model.site_names.push((name.to_ascii_lowercase(), port.parse().unwrap_or(0)));
    if let Ok(port) = port.parse::<u16>() {
        let at = d.item.text.rfind(&port.to_string());
        if let Some(span) = at.and_then(|at| d.item.span(at, port.to_string().len())) {
            let text = d.item.text.to_string();
            r.out.model.ports.push(PortMention { port, place: d.item.place(), span, belongs: true, text });
        }
    }
    let _ = scope;
}

fn document_root(r: &mut Reader, d: &Directive, scope: &Scope) {
    let dir = path::join(&r.server_root, d.value(0));
    if r.snapshot.is_directory(&dir) != Some(false) {
        return;
    }
    let main = scope.host == 0;
    let message = format!("DocumentRoot {dir} is no directory");
    let found = report(r, d, if main { Code::ConfigMissingFile } else { Code::ConfigWarning }, message);
    found.depends_on = DependsOn::Files;
    found.object = Some(dir);
    if !main {
        found.severity = Severity::Warning;
    }
}

fn error_log(r: &mut Reader, d: &Directive, scope: &Scope) {
    let value = d.value(0).to_owned();
    if value.starts_with('|') {
        return piped(r, d, &value);
    }
    if value == "syslog" || value.starts_with("syslog:") {
        return;
    }
    // A virtual host's error log is blamed on the host's first line.
    let place = scope.host_place.clone().unwrap_or_else(|| d.item.place());
    let entry = NamedPath { path: log_path(r, &value), place: Some(place), directive: d.name.clone() };
    if scope.host == 0 {
        r.out.model.error_logs.insert(0, entry.clone());
    } else {
        r.out.model.error_logs.push(entry.clone());
    }
    r.out.model.writes.push(entry);
}

fn custom_log(r: &mut Reader, d: &Directive) {
    let value = d.value(0).to_owned();
    if value.starts_with('|') {
        return piped(r, d, &value);
    }
    if d.lower() == "customlog" && d.values.len() == 3 {
        let condition = d.value(2);
        if !condition.starts_with("env=") && !condition.starts_with("expr=") {
            return bad(r, d, format!("{condition:?} is no condition, expected env= or expr="));
        }
    }
    let entry = NamedPath { path: log_path(r, &value), place: Some(d.item.place()), directive: d.name.clone() };
    let dir = path::parent(&entry.path).to_owned();
    if r.snapshot.is_directory(&dir) == Some(false) {
        let found = report(r, d, Code::ConfigMissingFile, format!("directory {dir} for {} is not there", entry.path));
        found.depends_on = DependsOn::Files;
        found.object = Some(dir);
    }
    r.out.model.access_logs.push(entry.clone());
    r.out.model.writes.push(entry);
}

fn piped(r: &mut Reader, d: &Directive, value: &str) {
    let command = value.trim_start_matches(['|', '$']).trim();
    let program = command.split_whitespace().next().unwrap_or_default().to_owned();
    if program.starts_with('/') && r.snapshot.exists(&program) == Some(false) {
        let found = report(r, d, Code::ConfigMissingFile, format!("the program {program} of a piped log is not there"));
        found.depends_on = DependsOn::Files;
        found.object = Some(program);
    }
}

fn options(r: &mut Reader, d: &Directive) {
    const KNOWN: &[&str] = &["none", "all", "indexes", "includes", "includesnoexec", "followsymlinks", "symlinksifownermatch", "execcgi", "multiviews"];
    let (mut plain, mut signed) = (false, false);
    for word in &d.values {
        let bare = word.trim_start_matches(['+', '-']);
        if bare.len() == word.len() {
            plain = true;
        } else {
            signed = true;
        }
        if !KNOWN.contains(&bare.to_ascii_lowercase().as_str()) {
            return bad(r, d, format!("{bare:?} is no option of Options"));
        }
    }
    if plain && signed {
        bad(r, d, "Options mixes words with and without a sign: either all have + or -, or none".into());
    }
}

fn allow_override(r: &mut Reader, d: &Directive, scope: &Scope) {
    const KNOWN: &[&str] = &["limit", "options", "fileinfo", "authconfig", "indexes", "nonfatal", "none", "all"];
    if !scope.sections.iter().any(|s| s.starts_with("directory")) {
        warn(r, d, "AllowOverride has no use outside of <Directory>");
    }
    for word in &d.values {
        let bare = word.split('=').next().unwrap_or_default();
        if !KNOWN.contains(&bare.to_ascii_lowercase().as_str()) {
            return bad(r, d, format!("{bare:?} is no class of overrides, expected some of AuthConfig, FileInfo, Indexes, Limit, Options, All or None"));
        }
    }
}

fn log_level(r: &mut Reader, d: &Directive) {
    const LEVELS: &[&str] = &["emerg", "alert", "crit", "error", "warn", "notice", "info", "debug"];
    for word in d.values.clone() {
        let (module, level) = word.split_once(':').map_or((None, word.as_str()), |(m, l)| (Some(m), l));
        let trace = level.to_ascii_lowercase().strip_prefix("trace").is_some_and(|n| matches!(n.parse(), Ok(1..=8)));
        if !trace && !LEVELS.iter().any(|l| l.eq_ignore_ascii_case(level)) {
            return bad(r, d, format!("{level:?} is no log level, expected one of {} or trace1 to trace8", LEVELS.join(", ")));
        }
        if let Some(module) = module {
            let id = if module.ends_with("_module") || module.contains('.') { module.to_owned() } else { format!("{module}_module") };
            if !r.module_loaded(&id) && !matches!(module, "core" | "http" | "core_module" | "http_module") {
                return bad(r, d, format!("LogLevel names {module:?}, which is no loaded module"));
            }
        }
    }
}

fn ssl_engine(r: &mut Reader, d: &Directive, scope: &Scope, facts: &mut Facts) {
    one_of(r, d, &["on", "off", "optional"]);
    if d.value(0).eq_ignore_ascii_case("on") {
        facts.tls.entry(scope.host).or_default().engine = Some(d.item.place());
    }
}

fn ssl_protocol(r: &mut Reader, d: &Directive) {
    const KNOWN: &[&str] = &["sslv2", "sslv3", "tlsv1", "tlsv1.1", "tlsv1.2", "tlsv1.3", "all"];
    for word in &d.values {
        let bare = word.trim_start_matches(['+', '-']).to_ascii_lowercase();
        if bare == "sslv2" && !word.starts_with('-') {
            return bad(r, d, "SSLv2 is no longer supported".into());
        }
        if !KNOWN.contains(&bare.as_str()) {
            return bad(r, d, format!("{word:?} is no TLS protocol, expected some of TLSv1.2, TLSv1.3, all"));
        }
    }
}

fn certificate(r: &mut Reader, d: &Directive, scope: &Scope, facts: &mut Facts) {
    let file = path::join(&r.server_root, d.value(0));
    let is_key = d.lower() == "sslcertificatekeyfile";
    let place = d.item.place();
    match r.snapshot.stat(&file) {
        Look::Absent => {
            let found = report(r, d, Code::ConfigMissingFile, format!("{file} is not there"));
            found.depends_on = DependsOn::Files;
            found.object = Some(file);
        }
        Look::Seen(status) if status.size == 0 => {
            let found = report(r, d, Code::CertificateBad, format!("{file} is empty"));
            found.depends_on = DependsOn::Files;
            found.object = Some(file);
        }
        _ => {
            let tls = facts.tls.entry(scope.host).or_default();
            tls.certificate |= d.lower() == "sslcertificatefile";
            if matches!(d.lower().as_str(), "sslcertificatefile" | "sslcertificatekeyfile") {
                tls.files.push((file.clone(), place.clone(), is_key));
            }
            r.out.model.reads.push(NamedPath { path: file, place: Some(place), directive: d.name.clone() });
        }
    }
}

fn require(r: &mut Reader, d: &Directive, scope: &Scope) {
    let mut words = d.values.iter().map(|v| v.to_ascii_lowercase());
    let mut provider = words.next().unwrap_or_default();
    let negated = provider == "not";
    if negated {
        provider = words.next().unwrap_or_default();
    }
    if provider.is_empty() {
        return bad(r, d, "Require names no provider".into());
    }
    const KNOWN: &[(&str, &str)] = &[
        ("all", "authz_core"),
        ("env", "authz_core"),
        ("method", "authz_core"),
        ("expr", "authz_core"),
        ("ip", "authz_host"),
        ("host", "authz_host"),
        ("local", "authz_host"),
        ("forward-dns", "authz_host"),
        ("user", "authz_user"),
        ("valid-user", "authz_user"),
        ("group", "authz_groupfile"),
        ("file-group", "authz_owner"),
        ("file-owner", "authz_owner"),
        ("dbm-group", "authz_dbm"),
        ("dbm-file-group", "authz_dbm"),
        ("dbd-group", "authz_dbd"),
        ("dbd-login", "authz_dbd"),
        ("dbd-logout", "authz_dbd"),
        ("ldap-user", "authnz_ldap"),
        ("ldap-group", "authnz_ldap"),
        ("ldap-dn", "authnz_ldap"),
        ("ldap-attribute", "authnz_ldap"),
        ("ldap-filter", "authnz_ldap"),
        ("ldap-search", "authnz_ldap"),
        ("ssl", "ssl"),
        ("ssl-verify-client", "ssl"),
    ];
    match KNOWN.iter().find(|(name, _)| *name == provider) {
        Some((_, module)) if !r.has(module) => {
            let found = report(r, d, Code::ConfigMissingModule, format!("Require {provider} belongs to mod_{module}, which is not loaded"));
            found.object = Some(format!("{module}_module"));
        }
        Some(_) => {
            let rest = words.next();
            if rest.is_none()
                && !matches!(
                    provider.as_str(),
                    "local" | "valid-user" | "ssl" | "ssl-verify-client" | "all" | "file-owner" | "file-group" | "dbd-login" | "dbd-logout" | "dbm-file-group"
                )
            {
                bad(r, d, format!("Require {provider} names nothing"));
            } else if provider == "all" && !matches!(rest.as_deref(), Some("granted" | "denied")) {
                bad(r, d, "Require all is followed by neither granted nor denied".into());
            } else if provider == "ip" {
                let wrong = d.values.iter().skip(1 + usize::from(negated)).find(|v| !is_network(v));
                if let Some(wrong) = wrong.cloned() {
                    bad(r, d, format!("{wrong:?} is no address or network"));
                }
            }
            if negated && !scope.sections.last().is_some_and(|s| matches!(s.as_str(), "requireall" | "requireany" | "requirenone")) {
                report(r, d, Code::ConfigConflict, "a negated Require alone has no effect, and is refused");
            }
        }
        None => {
            let loaded_other = r.out.model.modules.iter().any(|m| {
                m.starts_with("authz_")
                    && ![
                        "authz_core_module",
                        "authz_host_module",
                        "authz_user_module",
                        "authz_groupfile_module",
                        "authz_owner_module",
                        "authz_dbm_module",
                        "authz_dbd_module",
                    ]
                    .contains(&m.as_str())
            });
            if !loaded_other {
                bad(r, d, format!("{provider:?} is no provider that Require knows"));
            }
        }
    }
}

fn is_network(text: &str) -> bool {
    let (address, bits) = text.split_once('/').map_or((text, None), |(a, b)| (a, Some(b)));
    let most = if address.contains(':') { 128 } else { 32 };
    let partial = address.split('.').count() <= 4 && !address.is_empty() && address.trim_end_matches('.').split('.').all(|p| p.parse::<u8>().is_ok());
    let whole = address.parse::<IpAddr>().is_ok() || partial;
    whole && bits.is_none_or(|b| b.parse::<u8>().is_ok_and(|n| n <= most) || b.parse::<Ipv4Addr>().is_ok())
}

fn redirect(r: &mut Reader, d: &Directive, scope: &Scope) {
    const WORDS: &[&str] = &["permanent", "temp", "seeother", "gone"];
    let first = d.value(0).to_owned();
    let status = WORDS.iter().any(|w| w.eq_ignore_ascii_case(&first)) || first.parse::<u16>().is_ok();
    if let Ok(code) = first.parse::<u16>() {
        let redirecting = (300..400).contains(&code);
        if !(300..=599).contains(&code) && !redirecting {
            return bad(r, d, format!("{code} is no status code of a redirect"));
        }
    }
    let in_location = scope.sections.iter().any(|s| s.starts_with("location") || s.starts_with("directory") || s == "if");
    let least = 1 + usize::from(!in_location);
    let gone = first.eq_ignore_ascii_case("gone") || matches!(first.parse::<u16>(), Ok(400..));
    let count = d.values.len() - usize::from(status);
    if count < least && !gone {
        return bad(r, d, format!("{} names no target", d.name));
    }
    if d.lower() == "redirectmatch" {
        regex(r, d, usize::from(status));
    }
}

fn regex(r: &mut Reader, d: &Directive, index: usize) {
    let pattern = d.value(index).to_owned();
    if let Some(fault) = crate::config::regex_fault(&pattern) {
        bad(r, d, format!("the pattern {pattern:?} does not compile: {fault}"));
    }
}

fn rewrite_rule(r: &mut Reader, d: &Directive) {
    if !(2..=3).contains(&d.values.len()) {
        return bad(r, d, format!("RewriteRule has {} values, expected 2 or 3", d.values.len()));
    }
    let pattern = d.value(0).trim_start_matches('!').to_owned();
    if let Some(fault) = crate::config::regex_fault(&pattern) {
        return bad(r, d, format!("the pattern {pattern:?} does not compile: {fault}"));
    }
    if d.values.len() == 3 {
        let flags = d.value(2).to_owned();
        let Some(inner) = flags.strip_prefix('[').and_then(|f| f.strip_suffix(']')) else {
            return bad(r, d, format!("the flags {flags:?} do not stand in brackets"));
        };
        const KNOWN: &[&str] = &[
            "b",
            "backrefnoplus",
            "bnp",
            "bctls",
            "bne",
            "c",
            "chain",
            "co",
            "cookie",
            "dpi",
            "discardpath",
            "e",
            "env",
            "end",
            "f",
            "forbidden",
            "g",
            "gone",
            "h",
            "handler",
            "l",
            "last",
            "n",
            "next",
            "nc",
            "nocase",
            "ne",
            "noescape",
            "ns",
            "nosubreq",
            "p",
            "proxy",
            "pt",
            "passthrough",
            "qsa",
            "qsappend",
            "qsd",
            "qsdiscard",
            "qslast",
            "qsl",
            "r",
            "redirect",
            "s",
            "skip",
            "t",
            "type",
            "unsafeallow3f",
            "unsafeprefixstat",
            "unc",
        ];
        let wrong = inner
            .split(',')
            .map(|f| f.trim().split('=').next().unwrap_or_default().to_ascii_lowercase())
            .find(|f| !f.is_empty() && !KNOWN.contains(&f.as_str()));
        if let Some(wrong) = wrong {
            bad(r, d, format!("{wrong:?} is no flag of RewriteRule"));
        }
    }
}

fn rewrite_cond(r: &mut Reader, d: &Directive) {
    if !(2..=3).contains(&d.values.len()) {
        return bad(r, d, format!("RewriteCond has {} values, expected 2 or 3", d.values.len()));
    }
    let pattern = d.value(1).trim_start_matches('!').to_owned();
    let test = pattern.starts_with(['-', '<', '>', '=']) || d.value(0).eq_ignore_ascii_case("expr");
    if !test && let Some(fault) = crate::config::regex_fault(&pattern) {
        return bad(r, d, format!("the pattern {pattern:?} does not compile: {fault}"));
    }
    if d.values.len() == 3 {
        let flags = d.value(2).to_owned();
        let inner = flags.strip_prefix('[').and_then(|f| f.strip_suffix(']'));
        let fine = inner
            .is_some_and(|i| i.split(',').all(|f| matches!(f.trim().to_ascii_lowercase().as_str(), "nc" | "nocase" | "or" | "ornext" | "nv" | "novary" | "")));
        if !fine {
            bad(r, d, format!("{flags:?} are no flags of RewriteCond"));
        }
    }
}

fn header(r: &mut Reader, d: &Directive) {
    let mut values = d.values.iter();
    let mut action = values.next().map(|v| v.to_ascii_lowercase()).unwrap_or_default();
    if matches!(action.as_str(), "onsuccess" | "always") && d.lower() == "header" {
        action = values.next().map(|v| v.to_ascii_lowercase()).unwrap_or_default();
    }
    let known = ["set", "setifempty", "add", "append", "merge", "unset", "echo", "edit", "edit*", "note"];
    if !known.contains(&action.as_str()) {
        return bad(r, d, format!("{action:?} is no action of {}, expected one of {}", d.name, known.join(", ")));
    }
    let rest = values.count();
    let needed = match action.as_str() {
        "unset" | "echo" => 1,
        "edit" | "edit*" => 3,
        _ => 2,
    };
    if rest < needed {
        bad(r, d, format!("{} {action} has {rest} values, expected {needed}", d.name));
    }
}

fn proxy_pass(r: &mut Reader, d: &Directive, scope: &Scope) {
    let in_location = scope.sections.iter().any(|s| s.starts_with("location") || s == "if");
    let target = if in_location { d.value(0) } else { d.value(1) }.to_owned();
    if target.is_empty() {
        return bad(r, d, "ProxyPass names no target, or no path where it stands outside of <Location>".into());
    }
    if let Some(socket) = target.strip_prefix("unix:") {
        let socket = socket.split('|').next().unwrap_or_default().to_owned();
        r.out.model.facts.insert(format!("upstream-socket {socket}"), d.item.place().to_string());
    }
    let digits: String = target.rsplit(':').next().unwrap_or_default().chars().take_while(char::is_ascii_digit).collect();
    if let Ok(port) = digits.parse::<u16>() {
        let at = d.item.text.find(&target).and_then(|t| target.rfind(&format!(":{digits}")).map(|n| t + n + 1));
        if let Some(span) = at.and_then(|at| d.item.span(at, digits.len())) {
            let text = d.item.text.to_string();
            r.out.model.ports.push(PortMention { port, place: d.item.place(), span, belongs: false, text });
        }
    }
    const KNOWN: &[&str] = &[
        "min",
        "max",
        "smax",
        "acquire",
        "connectiontimeout",
        "disablereuse",
        "enablereuse",
        "flushpackets",
        "flushwait",
        "iobuffersize",
        "responsefieldsize",
        "keepalive",
        "lbset",
        "ping",
        "receivebuffersize",
        "redirect",
        "retry",
        "route",
        "status",
        "timeout",
        "ttl",
        "flusher",
        "secret",
        "upgrade",
        "mapping",
        "loadfactor",
        "failonstatus",
        "failontimeout",
        "forcerecovery",
        "growth",
        "lbmethod",
        "maxattempts",
        "nofailover",
        "nonce",
        "stickysession",
        "stickysessionsep",
        "scolonpathdelim",
        "nocanon",
        "interpolate",
        "noquery",
        "addressttl",
        "hcmethod",
        "hcpasses",
        "hcfails",
        "hcinterval",
        "hcuri",
        "hctemplate",
        "hcexpr",
    ];
    let skip = 1 + usize::from(!in_location);
    let wrong = d.values.iter().skip(skip).map(|p| p.split('=').next().unwrap_or_default().to_ascii_lowercase()).find(|p| !KNOWN.contains(&p.as_str()));
    if let Some(wrong) = wrong {
        bad(r, d, format!("{wrong:?} is no parameter of ProxyPass"));
    }
}

/// The account names that the main server runs as.
pub(super) fn accounts(r: &mut Reader) {
    if r.options.start_uid != 0 {
        return;
    }
    if let Some((name, place)) = r.out.model.account.clone() {
        if name == "root" || name == "#0" {
            r.find_at(place, Code::ConfigBadValue, "User is root, which httpd refuses").directive = Some("User".into());
        } else if !name.starts_with('#') && missing(&accounts::account(r.snapshot, &name), |a| a.name == name) {
            absent(r, place, "User", &name, "account");
        }
    }
    if let Some(name) = r.out.model.group.clone() {
        let known = accounts::group(r.snapshot, &name);
        if !name.starts_with('#') && (known.is_absent() || name.parse::<u32>().is_ok()) {
            absent(r, None, "Group", &name, "group");
        }
    }
}

fn missing<T>(look: &Look<T>, same: impl Fn(&T) -> bool) -> bool {
    match look {
        Look::Seen(found) => !same(found),
        Look::Absent => true,
        Look::NotSeen(_) => false,
    }
}

fn absent(r: &mut Reader, place: Option<Place>, directive: &str, name: &str, what: &str) {
    let found = r.find_at(place, Code::AccountMissing, format!("{what} {name:?} does not exist on this host"));
    found.directive = Some(directive.into());
    found.depends_on = DependsOn::Accounts;
    found.object = Some(name.to_owned());
}
