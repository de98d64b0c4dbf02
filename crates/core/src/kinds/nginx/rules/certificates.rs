//! Certificates and their keys.
use super::super::state::Site;
use super::super::state::{Directive, Reader, Rule};
use super::common::push;
use crate::code::Code;
use crate::config::rows::{Int, Size, Type};
use crate::config::{About, DependsOn, NamedPath};
use crate::host::Look;
use crate::path;

pub(super) static PAIR: Rule = Rule {
    names: &["ssl_certificate", "ssl_certificate_key"],
    check: |r, d, row| {
        if row.from == "ngx_http_ssl_module" {
            certificate(r, d);
        }
    },
};
/// Opened only where a certificate is, of the site or of all of them (held against 1.22.1).
pub(super) static BESIDE: Rule = Rule {
    names: &["ssl_dhparam", "ssl_trusted_certificate", "ssl_client_certificate", "ssl_crl"],
    check: |r, d, row| {
        if row.from != "ngx_http_ssl_module" || d.argument(0).is_empty() {
            return;
        }
        let path = path::join(path::parent(&r.options.config), d.argument(0));
        let entry =
            NamedPath { path, place: Some(r.place_at(d, d.argument(0))), directive: d.name().to_owned() };
        match &mut r.block().site {
            Some(site) => site.files.push(entry),
            None => r.facts.http_files.push(entry),
        }
    },
};
pub(super) static SESSIONS: Rule =
    Rule { names: &["ssl_session_cache"], check: |r, d, _| session_cache(r, d) };
pub(super) static ON: Rule = Rule {
    names: &["ssl"],
    check: |r, d, row| {
        if row.from == "ngx_http_ssl_module" && d.argument(0).eq_ignore_ascii_case("on") {
            let place = d.place.clone();
            if let Some(site) = &mut r.block().site {
                site.ssl_on = Some(place);
            }
        }
    },
};

/// Memory for sessions that workers share, and a number of them.
const SHARED: Type = Type::Size(Size { units: "km", least: Some(32 << 10) });
const COUNT: Type = Type::Int(Int { least: None, most: None });

fn certificate(r: &mut Reader, d: &Directive) {
    let value = d.argument(0);
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
    let file = path::join(path::parent(&r.options.config), value);
    let entry = NamedPath { path: file, place: Some(r.place_at(d, value)), directive: d.name().to_owned() };
    match &mut r.block().site {
        Some(site) => site.pairs.push(entry.clone()),
        None => r.facts.http_pairs.push(entry.clone()),
    }
    r.out.model.reads.push(entry);
}

/// Certificates of a site: there where TLS is spoken, each with its key, and readable. The files are opened
/// even when no listener speaks TLS, as soon as both are named (observed with 1.22).
pub(in super::super) fn site_certificates(r: &mut Reader, site: &Site) {
    let speaks = site.ssl_listen.is_some() || site.ssl_on.is_some();
    let has = site.certificate || r.facts.http_certificate;
    let Some(opened) = &site.opened else { return };
    if has && !site.key && !r.facts.http_key {
        let place = r
            .out
            .model
            .reads
            .iter()
            .rev()
            .find(|n| n.directive == "ssl_certificate")
            .and_then(|n| n.place.clone());
        push(
            r,
            Code::CertificateBad,
            place,
            "ssl_certificate",
            "no ssl_certificate_key is given for this certificate".into(),
        );
        return;
    }
    if !speaks && !has {
        return;
    }
    if has {
        let shared = std::mem::take(&mut r.facts.http_files);
        r.out.model.reads.extend(shared.into_iter().chain(site.files.iter().cloned()));
    }
    if let Some(on) = site.ssl_on.clone().filter(|_| !has) {
        push(
            r,
            Code::CertificateBad,
            Some(on),
            "ssl",
            "no ssl_certificate is given for a server with \"ssl on\"".into(),
        );
        return;
    }
    if !has {
        let listen = site.ssl_listen.as_ref().map(ToString::to_string).unwrap_or_default();
        push(
            r,
            Code::CertificateBad,
            Some(opened.clone()),
            "listen",
            format!("no ssl_certificate is given for the listener with TLS in {listen}"),
        );
        return;
    }
    // What stands outside is for those that have nothing of their own, and is opened with the first of them.
    let files =
        if site.pairs.is_empty() { std::mem::take(&mut r.facts.http_pairs) } else { site.pairs.clone() };
    let before = r.out.findings.len();
    for NamedPath { path: file, place, directive } in &files {
        let message = match r.snapshot.certificates(file) {
            Look::Absent => (Code::ConfigMissingFile, format!("{file} does not exist")),
            Look::Seen(bytes) => match crate::keys::pem_fault(&bytes, directive.ends_with("_key")) {
                Some(fault) => (Code::CertificateBad, format!("{file}: {fault}")),
                None => continue,
            },
            Look::NotSeen(_) => continue,
        };
        push(r, message.0, place.clone(), directive, message.1);
        if let Some(last) = r.out.findings.last_mut() {
            last.depends_on = DependsOn::Files;
            last.about = Some(About::File(file.clone()));
        }
    }
    if r.out.findings.len() == before {
        unfit(r, &files);
    }
}

/// A key that is not that of its certificate ends the start, too: each key belongs to the certificate of the
/// same rank.
fn unfit(r: &mut Reader, files: &[NamedPath]) {
    let (keys, certificates): (Vec<&NamedPath>, Vec<&NamedPath>) =
        files.iter().partition(|n| n.directive.ends_with("_key"));
    for (certificate, NamedPath { path: key, place, .. }) in
        certificates.into_iter().map(|n| &n.path).zip(keys)
    {
        if r.snapshot.key_fits(certificate, key) != Some(false) {
            continue;
        }
        let place = place.clone();
        push(
            r,
            Code::CertificateBad,
            place,
            "ssl_certificate_key",
            format!("{key} is not the key of {certificate}"),
        );
        if let Some(last) = r.out.findings.last_mut() {
            last.depends_on = DependsOn::Files;
            last.about = Some(About::Key { key: key.clone(), certificate: certificate.clone() });
        }
    }
}

fn session_cache(r: &mut Reader, d: &Directive) {
    let wrong = d.arguments().map(str::to_owned).find(|a| {
        let shared = a.strip_prefix("shared:").map(|rest| {
            rest.split_once(':').is_some_and(|(name, size)| !name.is_empty() && SHARED.holds(size))
        });
        let own = a.strip_prefix("builtin:").map(|n| COUNT.holds(n));
        !shared.or(own).unwrap_or(matches!(a.as_str(), "off" | "none" | "builtin"))
    });
    if let Some(wrong) = wrong {
        r.find_of(
            d,
            &wrong,
            Code::ConfigBadValue,
            format!(
                "\"{wrong}\" is not a session cache, expected off, none, builtin or such as shared:TLS:10m"
            ),
        );
    }
}
