//! What httpd checks once everything is read, and what only a real start finds.
use super::rules;
use super::state::{Facts, Reader};
use crate::bounds;
use crate::code::Code;
use crate::config::{About, DependsOn, NameMap, NamedPath};
use crate::host::Look;
use crate::keys::pem_fault;
use crate::path;

pub(super) fn finish(r: &mut Reader, facts: Facts) {
    if r.resolved.get() > bounds::EXPANDED {
        r.cost.made(r.resolved.get());
        r.bounded();
    }
    r.out.model.named = Some(facts.has_server_name);
    processing_modules(r);
    rules::accounts(r);
    listeners(r, &facts);
    error_logs(r, &facts);
    runtime(r);
    if r.module_loaded("mime_module") && !facts.has_types_config {
        let built = r.options.types_config(r.snapshot);
        let file = path::join(&r.server_root, &built);
        if r.snapshot.exists(&file) == Some(false) {
            missing(r, file, "the default TypesConfig");
        }
    }
    tls(r, &facts);
}

fn missing(r: &mut Reader, file: String, what: &str) {
    let found = r.find_at(None, Code::ConfigMissingFile, format!("{what} {file} does not exist"));
    found.depends_on = DependsOn::Files;
    found.about = Some(About::File(file));
}

fn processing_modules(r: &mut Reader) {
    let loaded: Vec<String> = r.out.model.modules.iter().filter(|m| m.starts_with("mpm_")).cloned().collect();
    match loaded.as_slice() {
        [] if r.options.needs_mpm => drop(r.find_at(
            None,
            Code::ConfigMissingModule,
            "no MPM is loaded: one of mpm_event, mpm_worker, mpm_prefork must be",
        )),
        [_, _, ..] => drop(r.find_at(
            None,
            Code::ConfigConflict,
            format!("more than one MPM is loaded: {}", loaded.join(", ")),
        )),
        [mpm]
            if mpm != "mpm_prefork_module"
                && r.out.model.modules.iter().any(|m| m == "php_module" || m == "php7_module") =>
        {
            r.find_at(
                None,
                Code::ConfigConflict,
                format!("the PHP module needs mpm_prefork, but {mpm} is loaded"),
            );
        }
        _ => {}
    }
}

fn listeners(r: &mut Reader, facts: &Facts) {
    if facts.listens.is_empty() {
        r.find_at(
            None,
            Code::ConfigBadValue,
            "a Listen directive is missing: the server has no socket to open",
        );
    }
    let wide = |a: &Option<std::net::IpAddr>| a.is_none_or(|a| a.is_unspecified());
    // Of each port those before, and those of them that cover every address: only these can be in a single
    // one's way.
    let mut before: NameMap<u16, (Vec<usize>, Vec<usize>)> = NameMap::default();
    for (at, (address, port, place)) in facts.listens.iter().enumerate() {
        let (all, wides) = before.entry(*port).or_default();
        let near = if wide(address) { all.as_slice() } else { wides.as_slice() };
        for (other, _, first) in near.iter().filter_map(|n| facts.listens.get(*n)) {
            crate::bounds::step(1);
            // `Listen 80` beside `0.0.0.0:80` is tolerated; beside any other address it is not.
            let tolerated = match (address, other) {
                (None, Some(a)) | (Some(a), None) => a.is_unspecified() && a.is_ipv4(),
                (Some(a), Some(b)) => a.is_ipv4() != b.is_ipv4(),
                (None, None) => true,
            };
            if !tolerated && (wide(address) || wide(other)) {
                let message =
                    format!("port {port} has a listener already at {first}, which covers this address");
                let found = r.find_at(Some(place.clone()), Code::ConfigConflict, message);
                found.directive = Some("Listen".into());
            }
        }
        all.push(at);
        if wide(address) {
            wides.push(at);
        }
        let Some(address) = address else { continue };
        if address.is_unspecified() || address.is_loopback() {
            continue;
        }
        if let Look::Seen(own) = r.snapshot.addresses()
            && !own.contains(address)
            && !crate::names::may_bind_foreign(r.snapshot, *address)
        {
            let shown = crate::net::endpoint(*address, *port);
            let found = r.find_at(
                Some(place.clone()),
                Code::AddressNotHere,
                format!("no interface of this host has the address of {shown}"),
            );
            found.directive = Some("Listen".into());
            found.depends_on = DependsOn::Interfaces;
            found.about = Some(About::Listener(*address, *port));
        }
    }
}

fn error_logs(r: &mut Reader, facts: &Facts) {
    // The main server has one of its own whatever its virtual hosts say.
    if !facts.has_error_log {
        let file = path::join(&r.server_root, "logs/error_log");
        let entry = NamedPath { path: file, place: None, directive: "ErrorLog".into() };
        r.out.model.error_logs.insert(0, entry.clone());
        r.out.model.writes.push(entry);
    }
    for entry in r.out.model.error_logs.clone() {
        let dir = path::parent(&entry.path).to_owned();
        if r.snapshot.is_directory(&dir) == Some(false) && !r.options.made(&dir) {
            let found = r.find_at(
                entry.place.clone(),
                Code::ConfigMissingFile,
                format!("directory {dir} for {} does not exist", entry.path),
            );
            found.directive = Some(entry.directive.clone());
            found.depends_on = DependsOn::Files;
            found.about = Some(About::Directory(dir));
        }
    }
}

/// The pid file's directory; control scripts of distributions make it, so that is no fault then.
fn runtime(r: &mut Reader) {
    let default = r.runtime_dir.clone().unwrap_or_else(|| path::join(&r.server_root, "logs"));
    if r.out.model.pid_file.is_none() {
        r.out.model.pid_file = Some(NamedPath {
            path: path::join(&default, "httpd.pid"),
            place: None,
            directive: "PidFile".into(),
        });
    }
    let Some(pid) = r.out.model.pid_file.clone() else { return };
    let dir = path::parent(&pid.path).to_owned();
    if r.snapshot.is_directory(&dir) == Some(false) && !r.options.made(&dir) {
        let found = r.find_at(
            pid.place.clone(),
            Code::ConfigMissingFile,
            format!("directory {dir} for {} does not exist", pid.path),
        );
        found.directive = Some("PidFile".into());
        found.depends_on = DependsOn::Files;
        found.about = Some(About::Directory(dir));
    }
    r.out.model.writes.push(pid);
}

fn tls(r: &mut Reader, facts: &Facts) {
    let global = facts.tls.get(&0).is_some_and(|t| t.certificate);
    for (host, tls) in &facts.tls {
        let Some(place) = &tls.engine else { continue };
        let has = tls.certificate || (global && *host > 0) || r.module_loaded("md_module");
        if !has && r.module_loaded("ssl_module") {
            let found = r.find_at(
                Some(place.clone()),
                Code::CertificateBad,
                "SSLEngine is on, but no SSLCertificateFile is given",
            );
            found.directive = Some("SSLEngine".into());
            continue;
        }
        for (file, place, is_key) in &tls.files {
            let Look::Seen(bytes) = r.snapshot.certificates(file) else { continue };
            if let Some(fault) = pem_fault(&bytes, *is_key) {
                let found = r.find_at(Some(place.clone()), Code::CertificateBad, format!("{file}: {fault}"));
                found.directive =
                    Some(if *is_key { "SSLCertificateKeyFile" } else { "SSLCertificateFile" }.into());
                found.depends_on = DependsOn::Files;
                found.about = Some(About::File(file.clone()));
            }
        }
        let of = |wanted: bool| tls.files.iter().filter(move |(_, _, is_key)| *is_key == wanted);
        for ((certificate, ..), (key, place, _)) in of(false).zip(of(true)) {
            if r.snapshot.key_fits(certificate, key) == Some(false) {
                let found = r.find_at(
                    Some(place.clone()),
                    Code::CertificateBad,
                    format!("{key} is not the key of {certificate}"),
                );
                found.directive = Some("SSLCertificateKeyFile".into());
                found.depends_on = DependsOn::Files;
                found.about = Some(About::Key { key: key.clone(), certificate: certificate.clone() });
            }
        }
    }
}
