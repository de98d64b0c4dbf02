mod certificates;
mod examples;
mod judged;
mod layouts;
mod settings;
mod starts;
mod words;

use super::KINDS;
use crate::code::Code;
use crate::config::{Configuration, Severity};
use crate::host::Protocol;
use crate::tests::{TextHost, read};
use proptest::prelude::*;

fn nginx(text: &str) -> Configuration {
    let host = TextHost::new()
        .file("/etc/nginx/nginx.conf", text)
        .dir("/var/log/nginx", 0o755, 0)
        .file("/etc/nginx/sites/a.conf", "server { listen 81; }\n")
        .file("/etc/nginx/sites/.hidden", "nonsense");
    read(&host, "nginx", "/etc/nginx/nginx.conf")
}

fn httpd(text: &str) -> Configuration {
    let head = "LoadModule mpm_event_module /m/mpm.so\nErrorLog /var/log/e.log\nPidFile /run/httpd.pid\n\
        ServerName quay1\n";
    let host = TextHost::new()
        .file("/etc/httpd/conf/httpd.conf", &format!("{head}{text}"))
        .file("/m/mpm.so", "\0mpm_event_module\0")
        .file("/m/alias.so", "\0alias_module\0")
        .file("/m/extra.so", "\0extra_module\0TideGauge\0")
        .file("/etc/httpd/sites/a.conf", "Listen 81\n")
        .dir("/srv", 0o755, 0);
    read(&host, "httpd", "/etc/httpd/conf/httpd.conf")
}

#[test]
fn every_kinds_data_are_sound_and_recognise_their_own_samples() {
    for kind in KINDS {
        assert_eq!(
            crate::log::data_faults(kind.grammar(), kind.log_owner()),
            Vec::<String>::new(),
            "{}",
            kind.name()
        );
    }
    assert_eq!(crate::log::of_manager().faults(), Vec::<String>::new());
    assert_eq!(crate::log::general().faults(), Vec::<String>::new());
}

fn errors(found: &Configuration) -> Vec<(Code, Option<u32>)> {
    found
        .findings
        .iter()
        .filter(|f| f.severity == Severity::Error)
        .map(|f| (f.code, f.place.as_ref().map(|p| p.line)))
        .collect()
}

#[test]
fn nginx_includes_follow_patterns_from_the_main_files_directory() {
    let found = nginx("events { }\nhttp {\n    include sites/*.conf;\n    include sites/none*.conf;\n}\n");
    assert_eq!(errors(&found), []);
    assert_eq!(found.model.files, ["/etc/nginx/nginx.conf", "/etc/nginx/sites/a.conf"]);
    assert_eq!(found.model.listens[0].listen.to_string(), "0.0.0.0:81");
    assert_eq!(
        errors(&nginx("events { }\ninclude sites/none.conf;\n")),
        [(Code::ConfigMissingFile, Some(2))]
    );
}

#[test]
fn nginx_blames_the_terminator_and_goes_on_after_a_fault() {
    let found = nginx(
        "events { }\nhttp {\n    gzip yes;\n    lisen 1;\n    server {\n        root /a\n        index \
            b;\n    }\n}\n",
    );
    assert_eq!(
        errors(&found),
        [
            (Code::ConfigBadValue, Some(3)),
            (Code::ConfigUnknownDirective, Some(4)),
            (Code::ConfigSyntax, Some(7))
        ]
    );
    assert_eq!(errors(&nginx("events { }\nhttp {\n")), [(Code::ConfigSyntax, Some(3))]);
    assert_eq!(errors(&nginx("http { }\n"))[0].0, Code::ConfigSyntax, "events is mandatory");
}

#[test]
fn nginx_wildcards_take_in_the_addresses_of_their_port() {
    let bound = |text: &str| nginx(text).model.listens.iter().map(|l| l.bound).collect::<Vec<_>>();
    assert_eq!(
        bound("events{} http { server { listen 80; } server { listen 192.0.2.7:80; } }"),
        [true, false]
    );
    assert_eq!(
        errors(&nginx("events{} http { server { listen 192.0.2.7:80; } }")),
        [(Code::AddressNotHere, Some(1))]
    );
}

#[test]
fn nginx_knows_variables_zones_formats_and_upstreams_across_files() {
    for (text, fine) in [
        ("map $host $tide { default 1; } server { return 200 $tide; }", true),
        ("server { set $tide 1; return 200 $tide; }", true),
        ("server { return 200 $no_tide; }", false),
        ("server { location ~ ^/(?<quay>[a-z]+)$ { return 200 $quay; } }", true),
        ("limit_req_zone $host zone=z:1m rate=1r/s; server { limit_req zone=z; }", true),
        ("server { limit_req zone=z; }", false),
        ("server { location / { proxy_pass http://up; } } upstream up { server 127.0.0.1:1; }", true),
        ("server { location / { proxy_pass http://up.invalid; } }", false),
        ("log_format f '$host'; access_log /var/log/nginx/a f;", true),
        ("access_log /var/log/nginx/a f;", false),
    ] {
        let found = nginx(&format!("events {{ }}\nhttp {{ {text} }}\n"));
        assert_eq!(errors(&found).is_empty(), fine, "{text}: {:?}", found.findings);
    }
}

#[test]
fn httpd_judges_what_steers_reading_before_anything_else() {
    let found = httpd("NoSuchWord\nListen 80\nInclude none.conf\n");
    assert_eq!(errors(&found), [(Code::ConfigMissingFile, Some(7)), (Code::ConfigUnknownDirective, Some(5))]);
    assert_eq!(errors(&httpd("Listen 80\n<Directory /srv>\n</Location>\n")), [(Code::ConfigSyntax, Some(7))]);
    assert_eq!(errors(&httpd("Listen 80\n<Directory /srv>\n")), [(Code::ConfigSyntax, Some(6))]);
    assert_eq!(errors(&httpd("Include sites\n")), [], "a directory takes every file below it");
}

#[test]
fn httpd_conditions_defines_and_macros_steer_what_is_read() {
    for (text, fine) in [
        ("<IfModule mod_alias.c>\nNoSuch\n</IfModule>\n", true),
        ("LoadModule alias_module /m/alias.so\n<IfModule alias_module>\nNoSuch\n</IfModule>\n", false),
        ("Define TIDE\n<IfDefine !TIDE>\nNoSuch\n</IfDefine>\n", true),
        ("<IfVersion < 2.0>\nNoSuch\n</IfVersion>\n", true),
        ("Define PORT 82\nListen ${PORT}\n", true),
        ("Listen ${NOPORT}\n", false),
        ("<Macro Quay $port>\nListen $port\n</Macro>\nUse Quay 83\n", true),
        ("<Macro Quay $port>\nListen $port\n</Macro>\nUse Quay\n", false),
        ("LoadModule extra_module /m/extra.so\nTideGauge on\n", true),
        ("TideGauge on\n", false),
        ("LoadModule wrong_module /m/alias.so\n", false),
    ] {
        let found = httpd(&format!("Listen 80\n{text}"));
        assert_eq!(errors(&found).is_empty(), fine, "{text}: {:?}", found.findings);
    }
}

#[test]
fn httpd_writes_its_errors_to_a_file_a_pipe_or_the_system_and_has_a_file_of_its_own_without() {
    let read = |text: &str| {
        let head = "ServerRoot /srv/httpd\nLoadModule mpm_event_module /m/mpm.so\nPidFile /run/httpd.pid\n\
            ServerName quay1\nListen 80\n";
        let mut host = TextHost::new()
            .file("/etc/httpd/conf/httpd.conf", &format!("{head}{text}"))
            .file("/m/mpm.so", "\0mpm_event_module\0")
            .dir("/srv/httpd", 0o755, 0);
        for (name, modified) in [
            ("errors.2031-03-31.log", 30),
            ("errors.2031-04-02.log", 50),
            ("errors.2031-04-01.log", 40),
            ("errors.2031-03-30.log", 20),
            ("access.2031-04-02.log", 60),
            ("e", 10),
            ("e.1932768000", 11),
            ("e.old", 12),
        ] {
            let path = format!("/var/log/quay/{name}");
            host = host.file(&path, "x").modified(&path, modified);
        }
        crate::tests::read(&host, "httpd", "/etc/httpd/conf/httpd.conf")
    };
    let logs = |text: &str| {
        let found = read(text);
        let names: Vec<String> =
            found.model.error_logs.iter().map(|l| l.path.rsplit_once('/').unwrap().1.to_owned()).collect();
        (names, errors(&found).len())
    };
    let none: [String; 0] = [];
    assert_eq!(logs("ErrorLog syslog\n"), (none.to_vec(), 0));
    assert_eq!(
        logs("ErrorLog \"|/bin/cat\"\n"),
        (none.to_vec(), 1),
        "the program does not exist, and that alone is wrong"
    );
    // Its own default is tried even where every virtual host has a log.
    assert_eq!(logs(""), (vec!["error_log".to_owned()], 1));
    assert_eq!(
        logs("<VirtualHost *:80>\nErrorLog /var/log/e.log\n</VirtualHost>\n").0,
        ["error_log", "e.log"]
    );
    let (split, _) = logs("ErrorLog \"|/usr/bin/rotatelogs -l /var/log/quay/errors.%Y-%m-%d.log 86400\"\n");
    assert_eq!(split, ["errors.2031-04-02.log"]);
    assert_eq!(logs("ErrorLog \"|$/usr/bin/rotatelogs /var/log/quay/e 86400\"\n").0, ["e.1932768000"]);
}

#[test]
fn httpd_names_the_module_that_is_not_loaded() {
    let found = httpd("Listen 80\nRewriteEngine On\n");
    assert_eq!(errors(&found), [(Code::ConfigMissingModule, Some(6))]);
    assert_eq!(found.findings[0].about, Some(crate::config::About::Module("rewrite_module".into())));
}

#[test]
fn edits_hit_the_very_bytes() {
    let text = "events { }\nhttp {\n\tserver { lisen 80; }\n}\n";
    let found = nginx(text);
    let (span, word) = found.findings[0].edit.clone().expect("a near name is known");
    assert_eq!((&text[span.start..span.end], word.as_str()), ("lisen", "listen"));
    let port = nginx("events { }\nhttp { server { listen [::]:8088 default_server; } }\n");
    let span = port.model.listens[0].port_span.clone().expect("the number stands there");
    assert_eq!(span.end - span.start, 4);
}

/// Words that stand in configurations of the two.
const PLAUSIBLE: &str = "(listen|server|location|return|set|if|proxy_pass|Listen|<VirtualHost|Require|Header|\
    RewriteRule|\\$[a-z]{0,4}|[0-9]{1,6}|\\(|\\)|~|\\[::|unix:|@x|;|\\{|\\}|\n|>)";

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, failure_persistence: None, ..ProptestConfig::default() })]

    /// Whatever stands in a file: a verdict with a place inside the file, never a panic.
    #[test]
    fn any_text_gets_a_verdict(text in "[ a-z{};#\"'\\\\$<>/=\n\r\t\u{e9}\u{feff}0-9~*()\\[\\]:.-]{0,200}") {
        for kind in KINDS.iter().filter(|k| k.name() != "program") {
            let host = TextHost::new().file("/c.conf", &text);
            let found = read(&host, kind.name(), "/c.conf");
            let lines = u32::try_from(text.matches('\n').count()).unwrap_or(0) + 1;
            for place in found.findings.iter().filter_map(|f| f.place.as_ref()) {
                prop_assert!(place.line >= 1 && place.line <= lines, "{place}");
            }
            for (span, _) in found.findings.iter().filter_map(|f| f.edit.as_ref()) {
                prop_assert!(span.start <= span.end && span.end <= text.len());
                prop_assert!(text.is_char_boundary(span.start));
            }
        }
    }

    /// Directives in plausible order: the reader and its rules stand any arguments.
    #[test]
    fn any_arguments_get_a_verdict(words in proptest::collection::vec(PLAUSIBLE, 0..40)) {
        let text = words.join(" ");
        let nginx = format!("events {{ }}\nhttp {{ {text}\n}}\n");
        for (kind, wrapped) in [("nginx", nginx), ("httpd", format!("Listen 80\n{text}\n"))] {
            let host = TextHost::new().file("/c.conf", &wrapped);
            read(&host, kind, "/c.conf");
        }
    }
}

#[test]
fn nginx_listeners_of_streams_and_mail_are_wanted_too() {
    let text = "load_module modules/ngx_stream_module.so;\nevents { }\nstream {\n    server { listen 53 \
        udp; listen \
        127.0.0.1:53; return x; }\n    server { listen 53 udp; return x; }\n    server { return x; }\n}\n";
    let host = TextHost::new()
        .file("/etc/nginx/nginx.conf", text)
        .file("/usr/share/nginx/modules/ngx_stream_module.so", "")
        .dir("/var/log/nginx", 0o755, 0);
    let found = read(&host, "nginx", "/etc/nginx/nginx.conf");
    let all: Vec<_> = found.model.listens.iter().map(|l| (l.listen.protocol, l.listen.to_string())).collect();
    assert_eq!(
        all,
        [(Protocol::Udp, "0.0.0.0:53".to_owned()), (Protocol::Tcp, "127.0.0.1:53".to_owned())],
        "each once, by its transport"
    );
    assert_eq!(errors(&found), [(Code::ConfigConflict, Some(5)), (Code::ConfigBadValue, Some(6))]);
}
