//! Certificates and what TLS may speak.
use super::super::state::Facts;
use super::super::state::{Directive, Reader, Rule, Scope, report};
use super::common::{bad, bad_word};
use crate::code::Code;
use crate::config::{About, DependsOn, NamedPath};
use crate::host::Look;
use crate::path;

pub(super) static ENGINE: Rule =
    Rule { names: &["SSLEngine"], check: |_, d, around| ssl_engine(d, around.scope, around.facts) };
pub(super) static PROTOCOL: Rule =
    Rule { names: &["SSLProtocol", "SSLProxyProtocol"], check: |r, d, _| ssl_protocol(r, d) };
pub(super) static FILES: Rule = Rule {
    names: &[
        "SSLCertificateFile",
        "SSLCertificateKeyFile",
        "SSLCertificateChainFile",
        "SSLCACertificateFile",
    ],
    check: |r, d, around| certificate(r, d, around.scope, around.facts),
};
/// What is looked at where it stands, whatever comes of it later (`ssl_cmd_check_file`, `ssl_cmd_check_dir`).
pub(super) static NEEDED: Rule = Rule {
    names: &[
        "SSLCACertificatePath",
        "SSLCADNRequestFile",
        "SSLCADNRequestPath",
        "SSLCARevocationFile",
        "SSLCARevocationPath",
        "SSLOCSPResponderCertificateFile",
        "SSLProxyCACertificateFile",
        "SSLProxyCACertificatePath",
        "SSLProxyCARevocationFile",
        "SSLProxyCARevocationPath",
        "SSLProxyMachineCertificateChainFile",
        "SSLProxyMachineCertificateFile",
        "SSLProxyMachineCertificatePath",
        "SSLSRPVerifierFile",
        "SSLSessionTicketKeyFile",
    ],
    check: |r, d, _| needed(r, d),
};
pub(super) static SESSIONS: Rule =
    Rule { names: &["SSLSessionCache", "SSLStaplingCache"], check: |r, d, _| session_cache(r, d) };

fn needed(r: &mut Reader, d: &Directive) {
    let path = path::join(&r.server_root, d.value(0));
    let wants_directory = d.lower().ends_with("path");
    let (there, message) = if wants_directory {
        (r.snapshot.is_directory(&path), format!("directory {path} does not exist"))
    } else {
        let filled = r.snapshot.stat(&path).map(|s| s.size > 0);
        let there = match filled {
            Look::Seen(filled) => Some(filled),
            Look::Absent => Some(false),
            Look::NotSeen(_) => None,
        };
        (there, format!("{path} does not exist or is empty"))
    };
    if there == Some(false) {
        let found = report(r, d, Code::ConfigMissingFile, message);
        found.depends_on = DependsOn::Files;
        found.about = Some(if wants_directory { About::Directory(path) } else { About::File(path) });
    }
}

/// Session caches are modules of their own.
fn session_cache(r: &mut Reader, d: &Directive) {
    let kind = d.value(0).split(':').next().unwrap_or_default().to_ascii_lowercase();
    if matches!(kind.as_str(), "none" | "nonenotnull") {
        return;
    }
    let module = format!(
        "socache_{}",
        if kind == "dbm" || kind == "shmcb" || kind == "memcache" || kind == "redis" {
            kind.clone()
        } else {
            "shmcb".into()
        }
    );
    let known = matches!(kind.as_str(), "dbm" | "shmcb" | "memcache" | "redis" | "dc");
    if !known {
        bad_word(
            r,
            d,
            &kind,
            format!("\"{kind}\" is not a session cache, expected none, shmcb, dbm or memcache"),
        );
    } else if !r.module_loaded(&format!("{module}_module")) {
        let found = report(
            r,
            d,
            Code::ConfigMissingModule,
            format!("the session cache \"{kind}\" belongs to mod_{module}, which is not loaded"),
        );
        found.about = Some(About::Module(format!("{module}_module")));
    }
}

fn ssl_engine(d: &Directive, scope: &Scope, facts: &mut Facts) {
    if d.value(0).eq_ignore_ascii_case("on") {
        facts.tls.entry(scope.host).or_default().engine = Some(d.item.place());
    }
}

fn ssl_protocol(r: &mut Reader, d: &Directive) {
    const KNOWN: &[&str] = &["sslv2", "sslv3", "tlsv1", "tlsv1.1", "tlsv1.2", "tlsv1.3", "all"];
    for word in &d.values {
        let bare = word.trim_start_matches(['+', '-']).to_ascii_lowercase();
        if bare == "sslv2" && !word.starts_with('-') {
            return bad(r, d, "SSLv2 is not supported any more".into());
        }
        if !KNOWN.contains(&bare.as_str()) {
            return bad_word(
                r,
                d,
                word,
                format!("\"{word}\" is not a TLS protocol, expected some of TLSv1.2, TLSv1.3, all"),
            );
        }
    }
}

fn certificate(r: &mut Reader, d: &Directive, scope: &Scope, facts: &mut Facts) {
    let file = path::join(&r.server_root, d.value(0));
    let is_key = d.lower() == "sslcertificatekeyfile";
    let place = d.item.place();
    // A token names it, and no file; its place in the row of certificates and keys stays.
    if d.value(0).starts_with("pkcs11:") {
        let tls = facts.tls.entry(scope.host).or_default();
        tls.certificate |= d.lower() == "sslcertificatefile";
        tls.files.push((String::new(), place, is_key));
        return;
    }
    match r.snapshot.stat(&file) {
        Look::Absent => {
            let found = report(r, d, Code::ConfigMissingFile, format!("{file} does not exist"));
            found.depends_on = DependsOn::Files;
            found.about = Some(About::File(file));
        }
        Look::Seen(status) if status.size == 0 => {
            let found = report(r, d, Code::CertificateBad, format!("{file} is empty"));
            found.depends_on = DependsOn::Files;
            found.about = Some(About::File(file));
        }
        _ => {
            let tls = facts.tls.entry(scope.host).or_default();
            tls.certificate |= d.lower() == "sslcertificatefile";
            if matches!(d.lower().as_str(), "sslcertificatefile" | "sslcertificatekeyfile") {
                tls.files.push((file.clone(), place.clone(), is_key));
            }
            r.out.model.reads.push(NamedPath {
                path: file,
                place: Some(place),
                directive: d.name.to_string(),
            });
        }
    }
}
