//! What the table of httpd's directives cannot say: values, files, listeners.
mod access;
mod certificates;
mod common;
mod files;
mod listeners;
mod rewriting;

use super::state::{Directive, Facts, Item, Reader, Scope, report};
use crate::accounts;
use crate::code::Code;
use crate::config::{DependsOn, NamedPath, Place};
use crate::host::Look;
use crate::path;
use access::{allow_override, options, require};
use certificates::{certificate, session_cache, ssl_engine, ssl_protocol};
use common::{bad, one_of, warn};
use files::{custom_log, document_root, error_log, log_path};
use listeners::{listen, server_name, virtual_host};
use rewriting::{header, proxy_pass, redirect, regex, rewrite_cond, rewrite_rule};

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
        "errorlog" => {
            facts.has_error_log |= scope.host == 0;
            error_log(r, d, scope);
        }
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
        "limitrequestbody" if d.value(0).parse::<u64>().is_err() => {
            bad(r, d, format!("{} is {:?}, expected a plain number", d.name, d.value(0)));
        }
        // These take the digits that a value begins with, and none for nothing.
        "limitrequestfields" | "limitrequestfieldsize" | "limitrequestline" | "limitxmlrequestbody" if d.value(0).starts_with('-') => {
            bad(r, d, format!("{} is {:?}, expected no negative number", d.name, d.value(0)));
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

/// A section ended; `children` are what stood in it.
pub(super) fn section_ends(r: &mut Reader, d: &Directive, children: &[Item]) {
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
