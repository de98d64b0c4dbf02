//! Keys and certificates as each kind names them: a key must be that of its certificate where the daemon
//! insists on it.
use crate::code::Code;
use crate::config::{Configuration, Severity};
use crate::kinds::{Instance, kind};
use crate::snapshot::Snapshot;
use crate::tests::TextHost;

const PEM: &str = include_str!("../../keys/samples/rsa.pem");
const KEY: &str = include_str!("../../keys/samples/rsa.key");
const OTHER: &str = include_str!("../../keys/samples/curve.key");

/// A host with the certificate, its key, and the key of another one.
fn host() -> TextHost {
    TextHost::new()
        .file("/etc/ssl/a.pem", PEM)
        .file("/etc/ssl/a.key", KEY)
        .file("/etc/ssl/b.key", OTHER)
        .file("/etc/ssl/locked.key", &KEY.replace("BEGIN PRIVATE", "BEGIN ENCRYPTED PRIVATE"))
}

fn read(host: &TextHost, name: &str, config: &str, command: &str) -> Configuration {
    let instance = Instance {
        config: config.into(),
        command: crate::manager::split_words(command),
        ..Instance::default()
    };
    kind(name).unwrap().read(&Snapshot::new(host), &instance)
}

/// Line of the complaint about the key; `None` where there is none.
fn complaint(found: &Configuration) -> Option<u32> {
    let bad = |f: &&crate::config::ConfigFinding| {
        f.code == Code::CertificateBad
            && f.severity == Severity::Error
            && f.message.contains("is not the key of")
    };
    found.findings.iter().find(bad).map(|f| f.place.as_ref().map_or(0, |p| p.line))
}

#[test]
fn nginx_takes_each_key_with_the_certificate_of_its_rank() {
    let site = |lines: &str| {
        let text = format!("events {{ }}\nhttp {{\nserver {{\nlisten 8443 ssl;\n{lines}\n}}\n}}\n");
        complaint(&read(
            &host().file("/etc/nginx/nginx.conf", &text),
            "nginx",
            "/etc/nginx/nginx.conf",
            "/usr/sbin/nginx",
        ))
    };
    assert_eq!(site("ssl_certificate /etc/ssl/a.pem;\nssl_certificate_key /etc/ssl/a.key;"), None);
    assert_eq!(site("ssl_certificate /etc/ssl/a.pem;\nssl_certificate_key /etc/ssl/b.key;"), Some(6));
    assert_eq!(site("ssl_certificate_key /etc/ssl/b.key;\nssl_certificate /etc/ssl/a.pem;"), Some(5));
    assert_eq!(
        site("ssl_certificate /etc/ssl/$ssl_server_name.pem;\nssl_certificate_key /etc/ssl/b.key;"),
        None,
        "a variable is known only at a request"
    );
}

#[test]
fn httpd_judges_each_site_by_itself() {
    let sites = |first: &str, second: &str| {
        let one = |key: &str| {
            format!(
                "<VirtualHost *:8443>\nSSLEngine on\nSSLCertificateFile /etc/ssl/a.pem\n\
                    SSLCertificateKeyFile {key}\n</VirtualHost>\n"
            )
        };
        let text = format!(
            "ServerName front\nLoadModule mpm_event_module /m/mod_mpm_event.so\n\
                LoadModule ssl_module /m/mod_ssl.so\nListen 8443\n{}{}",
            one(first),
            one(second)
        );
        let host = host()
            .file("/m/mod_mpm_event.so", "mpm_event_module")
            .file("/m/mod_ssl.so", "ssl_module")
            .file("/etc/apache2/apache2.conf", &text);
        let found = read(&host, "httpd", "/etc/apache2/apache2.conf", "/usr/sbin/apachectl start");
        let missing = |f: &crate::config::ConfigFinding| {
            f.code == Code::ConfigMissingFile && f.directive.as_deref() == Some("SSLCertificateKeyFile")
        };
        assert!(!found.findings.iter().any(missing), "{:?}", found.findings);
        complaint(&found)
    };
    let (fits, other) = ("/etc/ssl/a.key", "/etc/ssl/b.key");
    assert_eq!(sites(fits, fits), None);
    assert_eq!(sites(other, fits), Some(8));
    assert_eq!(sites(fits, other), Some(13));
    // A token names it, and no file; those of other sites are judged all the same.
    let token = "\"pkcs11:token=tide;object=front?pin-value=none\"";
    assert_eq!((sites(token, fits), sites(token, other)), (None, Some(13)));
}

#[test]
fn databases_insist_on_it_where_they_speak_tls() {
    let postgres = |tls: &str, key: &str| {
        let text =
            format!("ssl = {tls}\nssl_cert_file = '/etc/ssl/a.pem'\nssl_key_file = '/etc/ssl/{key}'\n");
        complaint(&read(
            &host().file("/srv/b/postgresql.conf", &text),
            "postgresql",
            "/srv/b/postgresql.conf",
            "/usr/lib/postgresql/15/bin/postgres -D /srv/b",
        ))
    };
    assert_eq!(
        (postgres("on", "a.key"), postgres("on", "b.key"), postgres("off", "b.key")),
        (None, Some(3), None)
    );
    let redis = |port: &str, key: &str| {
        let text = format!("tls-port {port}\ntls-cert-file /etc/ssl/a.pem\ntls-key-file /etc/ssl/{key}\n");
        complaint(&read(
            &host().file("/etc/redis.conf", &text),
            "redis",
            "/etc/redis.conf",
            "/usr/bin/redis-server /etc/redis.conf",
        ))
    };
    assert_eq!((redis("6380", "a.key"), redis("6380", "b.key"), redis("0", "b.key")), (None, Some(3), None));
}

#[test]
fn a_key_that_cannot_be_looked_into_is_not_called_wrong() {
    let text = "tls-port 6380\ntls-cert-file /etc/ssl/a.pem\ntls-key-file /etc/ssl/locked.key\n";
    let found = read(
        &host().file("/etc/redis.conf", text),
        "redis",
        "/etc/redis.conf",
        "/usr/bin/redis-server /etc/redis.conf",
    );
    assert_eq!(complaint(&found), None);
}
