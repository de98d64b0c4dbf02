//! Work grows as what is looked at does: steps of loops are counted at 1,000, 10,000 and 100,000 pieces, not
//! time.
use super::TextHost;
use crate::bounds::work;
use crate::case::{Depth, gather};
use crate::kinds::Instance;
use crate::service::Service;
use crate::services_file::Described;
use crate::snapshot::Snapshot;

fn steps(kind: &str, text: &str, whole_case: bool) -> u64 {
    let host = TextHost::new().file("/c", text).listens("0.0.0.0", 1025, &[]);
    let kind = crate::kinds::kind(kind).expect("a kind");
    let instance = Instance { config: "/c".into(), ..Instance::default() };
    work::of(|| {
        let snapshot = Snapshot::new(&host);
        if whole_case {
            let described = Described::default();
            let service = Service {
                name: "edge".into(),
                aliases: vec![],
                kind,
                unit: None,
                script: None,
                described,
                instance: instance.clone(),
            };
            drop(gather(&snapshot, &service, Depth::State));
        } else {
            drop(kind.read(&snapshot, &instance));
        }
    })
}

#[track_caller]
fn linear(kind: &str, whole_case: bool, text: impl Fn(usize) -> String) {
    let counts = [1_000, 10_000, 100_000].map(|n| steps(kind, &text(n), whole_case));
    assert!(counts[0] > 100, "{kind}: nothing is counted: {counts:?}");
    for pair in counts.windows(2) {
        // Ten times as much may cost ten times as much, and a little more for longer numbers.
        assert!(pair[1] <= pair[0] * 14, "{kind}: {counts:?}");
    }
}

fn lines(count: usize, one: impl Fn(usize) -> String) -> String {
    (0..count).map(one).collect()
}

#[test]
fn many_listeners_cost_as_much_as_there_are() {
    linear("nginx", true, |n| {
        format!(
            "events {{ }}\nhttp {{\n{}}}\n",
            lines(n, |i| format!("server {{ listen {}; }}\n", 1024 + i % 60_000))
        )
    });
    let address =
        |i: usize| format!("Listen 127.{}.{}.{}:{}\n", i / 65_536, i / 256 % 256, i % 256, 80 + i % 20);
    linear("httpd", true, |n| lines(n, address));
    linear("haproxy", true, |n| {
        format!(
            "defaults\n mode tcp\n{}",
            lines(n, |i| format!("frontend f{i}\n bind 127.0.0.1:{}\n", 1024 + i % 60_000))
        )
    });
}

#[test]
fn many_directives_on_one_line_cost_as_much_as_there_are() {
    linear("nginx", false, |n| {
        format!("events {{ }} http {{ server {{ {} }} }}\n", lines(n, |i| format!("add_header X{i} y; ")))
    });
    linear("tomcat", false, |n| {
        format!("<Server>{}</Server>", lines(n, |i| format!("<Connector port=\"{}\"/>", 1024 + i % 60_000)))
    });
}

#[test]
fn many_pools_and_hosts_and_nested_tags_cost_as_much_as_there_are() {
    let pool = |i: usize| format!("[p{i}]\nuser = www-data\nlisten = /run/p{i}.sock\n");
    linear("php-fpm", true, |n| format!("[global]\n{}", lines(n, pool)));
    linear("tomcat", false, |n| {
        format!("<Server>{}</Server>", lines(n, |i| format!("<Host name=\"h{i}\"/>\n")))
    });
    linear("tomcat", false, |n| format!("<Server>{}{}</Server>", "<A b=\"1\">".repeat(n), "</A>".repeat(n)));
}

#[test]
fn what_includes_itself_twice_at_each_step_ends_at_its_bound() {
    // Thirty files, each of which includes the next one twice: a billion readings.
    let mut host = TextHost::new();
    for at in 0..30 {
        host = host
            .file(&format!("/n{at}"), &format!("include /n{0};\ninclude /n{0};\n", at + 1))
            .file(&format!("/h{at}"), &format!("Include /h{0}\nInclude /h{0}\n", at + 1));
        host = host.file(&format!("/r{at}"), &format!("include /r{0}\ninclude /r{0}\n", at + 1));
    }
    host = host.file("/n30", "\n").file("/h30", "\n").file("/r30", "\n");
    let defines: String = (0..60).map(|n| format!("Define a{} ${{a{n}}}${{a{n}}}\n", n + 1)).collect();
    host = host.file("/d", &format!("Define a0 xxxxxxxxxxxxxxxx\n{defines}"));
    for (kind, file) in [("nginx", "/n0"), ("httpd", "/h0"), ("httpd", "/d"), ("redis", "/r0")] {
        let snapshot = Snapshot::new(&host);
        let read = crate::kinds::kind(kind)
            .expect("a kind")
            .read(&snapshot, &Instance { config: file.into(), ..Instance::default() });
        // What nests too deep for its daemon is refused before that.
        let refused = read.first_error().is_some();
        assert!(read.bounded.is_some() || refused, "{kind} {file}: {:?}", read.not_seen);
        assert!(kind != "httpd" || file != "/d" || read.bounded.is_some(), "{:?}", read.findings);
    }
}

#[test]
fn looking_for_secrets_costs_as_much_as_there_is_to_look_at() {
    for (what, piece, end) in [
        ("accounts without rules", "user x >a ", ""),
        ("accounts with a rule at the end", "user x >a ", "on"),
        ("a path of many names", "password=/a/", ".pem"),
        ("values that are none", "password=$", ""),
        ("quotes that stay open", "password='", ""),
        ("headers", "authorization ", ""),
    ] {
        let of = |n: usize| {
            let line = piece.repeat(n) + end;
            work::of(|| drop(crate::secrets::mask_settings(&line)))
        };
        let (small, large) = (of(1_000).max(1_000), of(10_000));
        assert!(large < small * 30, "{what}: {small} steps of a thousand, {large} of ten thousand");
    }
}

/// What reading a file of this text came to: the bound that was reached.
fn bound_of(kind: &str, text: &str) -> Option<String> {
    let host = TextHost::new().file("/c", text);
    let instance = Instance { config: "/c".into(), ..Instance::default() };
    crate::kinds::kind(kind).expect("a kind").read(&Snapshot::new(&host), &instance).bounded.map(String::from)
}

#[test]
fn what_the_values_of_a_macro_or_the_name_of_a_pool_make_is_counted_before_it_is_made() {
    let nested = |body: &str| {
        let all: String = (0..60)
            .map(|n| body.replace("NEXT", &format!("m{}", n + 1)).replace("OWN", &format!("m{n}")))
            .collect();
        format!("ServerName x\n{all}<Macro m60 $a>\nDefine x $a\n</Macro>\nUse m0 yyyyyyyyyyyyyyyy\n")
    };
    let doubling = nested("<Macro OWN $a>\nUse NEXT $a$a\n</Macro>\n");
    assert!(bound_of("httpd", &doubling).is_some_and(|b| b.contains("16 MiB")), "one value doubles");
    // A value that stands in many lines makes much of each of them.
    let many = format!(
        "ServerName x\n<Macro m $a>\n{}</Macro>\nUse m {}\n",
        "Define x $a\n".repeat(3_000),
        "y".repeat(100_000)
    );
    assert!(bound_of("httpd", &many).is_some_and(|b| b.contains("128 MiB")), "many lines");
    let many =
        format!("ServerName x\nDefine a {}\nServerAdmin {}\n", "y".repeat(100_000), "${a}".repeat(3_000));
    assert!(bound_of("httpd", &many).is_some_and(|b| b.contains("128 MiB")), "many uses in one line");
    let pool = format!("[global]\n[{}]\n{}", "p".repeat(100_000), "env[x] = $pool\n".repeat(3_000));
    assert!(bound_of("php-fpm", &pool).is_some_and(|b| b.contains("128 MiB")), "a name of a pool");
    assert_eq!(bound_of("php-fpm", "[global]\n[p]\nuser = $pool\n"), None);
}

#[test]
fn xml_that_costs_more_than_its_length_tells_is_not_read() {
    let server = |inner: &str| format!("<Server port=\"-1\" shutdown=\"x\">{inner}</Server>");
    let attributes =
        |n: usize| format!("<a {}/>", (0..n).map(|i| format!("a{i} = '1' ")).collect::<String>());
    let entity = |text: &str, times: usize| {
        format!("<!DOCTYPE s [<!ENTITY e \"{text}\">]>{}", server(&"&e;".repeat(times)))
    };
    let nested: String =
        (1..9).map(|n| format!("<!ENTITY e{n} '{}'>", format!("&e{};", n - 1).repeat(60))).collect();
    for (what, text, words) in [
        ("attributes", server(&attributes(5_001)), "5000 attributes"),
        ("hidden by a quote", server(&format!("'{}'", attributes(5_001))), "5000 attributes"),
        (
            "namespaces",
            server(&(0..1_001).map(|n| format!("<a xmlns:n{n}='u'/>")).collect::<String>()),
            "namespaces",
        ),
        ("an entity", entity(&"<a/>".repeat(20_000), 5_000), "entities"),
        ("attributes of an entity", entity(&attributes(4_000), 200), "entities"),
        (
            "nested entities",
            format!("<!DOCTYPE s [<!ENTITY e0 'xxxxxxxx'>{nested}]>{}", server(&"&e8;".repeat(100))),
            "entities",
        ),
    ] {
        assert!(
            bound_of("tomcat", &text).is_some_and(|b| b.contains(words)),
            "{what}: {:?}",
            bound_of("tomcat", &text)
        );
    }
    assert_eq!(bound_of("tomcat", &server(&attributes(1_000))), None);
    assert_eq!(bound_of("tomcat", &entity("<a b='1'/>", 20)), None);
}

#[test]
fn variables_of_scripts_that_double_are_no_longer_than_a_program_can_be_given() {
    let doubling: String = (0..60).map(|n| format!("A{}=\"$A{n}$A{n}\"\n", n + 1)).collect();
    let script = format!("#!/bin/sh\nA0=xxxxxxxxxxxxxxxx\n{doubling}exec /usr/sbin/nginx -c \"$A60\"\n");
    // As many variables of the longest value, and a command that names one of them again and again.
    let wide: String = (0..600).map(|n| format!("B{n}=\"$A13\"\n")).collect();
    let repeated =
        format!("#!/bin/sh\nA0=xxxxxxxxxxxxxxxx\n{doubling}{wide}exec /opt/x {}\n", "$A13 ".repeat(9_000));
    let host = TextHost::new()
        .file("/opt/double.sh", &script)
        .file("/opt/wide.sh", &repeated)
        .file("/etc/init.d/edge", &script.replace("exec /usr/sbin/nginx", "DAEMON=/usr/sbin/nginx #"))
        .file("/etc/profile.d/x.sh", &format!("export A0=xxxxxxxxxxxxxxxx\n{doubling}"))
        .file("/etc/apache2/envvars", &format!("export A0=xxxxxxxxxxxxxxxx\n{doubling}"))
        .file("/etc/apache2/apache2.conf", "ServerName x\nServerAdmin ${A60}\n");
    let snapshot = Snapshot::new(&host);
    for file in ["/opt/double.sh", "/opt/wide.sh"] {
        let (words, _) = crate::manager::launched(&snapshot, &[file.to_owned()], &Default::default());
        assert_eq!(words, [file], "what it runs is not known");
    }
    let read = crate::manager::script(&snapshot, "edge").seen().expect("it is there");
    assert!(read.command.iter().map(String::len).sum::<usize>() < 1 << 20);
    let login = crate::runtime::shell::login(&snapshot);
    assert!(login.values().all(|(value, ..)| value.len() <= crate::bounds::VALUE), "{}", login.len());
    let instance = Instance {
        config: "/etc/apache2/apache2.conf".into(),
        command: vec!["/usr/sbin/apachectl".into(), "start".into()],
        ..Instance::default()
    };
    let read = crate::kinds::kind("httpd").expect("a kind").read(&snapshot, &instance);
    assert!(read.model.settings.iter().all(|s| format!("{:?}", s.value).len() < 1 << 20));
}

#[test]
fn findings_of_one_code_are_counted_beyond_a_thousand_and_the_first_one_stays_the_daemons() {
    let text = format!("events {{ }}\nhttp {{\n{}}}\n", lines(5_000, |i| format!("tide{i} x;\n")));
    let host = TextHost::new().file("/c", &text);
    let read = crate::kinds::kind("nginx")
        .expect("a kind")
        .read(&Snapshot::new(&host), &Instance { config: "/c".into(), ..Instance::default() });
    let unknown = |c: &crate::config::ConfigFinding| c.code == crate::code::Code::ConfigUnknownDirective;
    assert_eq!(read.findings.iter().filter(|f| unknown(f)).count(), 1_000);
    assert_eq!(read.more.get(&crate::code::Code::ConfigUnknownDirective), Some(&4_000));
    assert_eq!(read.first_error().and_then(|f| f.place.as_ref()).map(|p| p.line), Some(3));
    let long = format!("events {{ }}\n{} x;\n", "t".repeat(3 << 20));
    let host = TextHost::new().file("/c", &long);
    let read = crate::kinds::kind("nginx")
        .expect("a kind")
        .read(&Snapshot::new(&host), &Instance { config: "/c".into(), ..Instance::default() });
    assert!(
        read.findings
            .iter()
            .all(|f| f.message.len() < 2_100 && f.directive.as_ref().is_none_or(|d| d.len() < 2_100)),
        "a long word is told by its beginning"
    );
}

#[test]
fn a_file_of_certificates_that_none_can_be_is_not_read() {
    let text = "events { }\nhttp { server { listen 443 ssl; ssl_certificate /c.pem; ssl_certificate_key \
        /c.pem; } }\n";
    let told = |size: usize| {
        let host = TextHost::new().file("/c", text).file("/c.pem", &"x".repeat(size));
        let snapshot = Snapshot::new(&host);
        let instance = Instance { config: "/c".into(), ..Instance::default() };
        drop(crate::kinds::kind("nginx").expect("a kind").read(&snapshot, &instance));
        (snapshot.is_bounded(), snapshot.not_seen())
    };
    let (bounded, named) = told(5 << 20);
    assert!(
        bounded && named.iter().any(|l| l.text().contains("/c.pem: certificates of more than 4 MiB")),
        "{named:?}"
    );
    assert!(!told(1 << 20).0);
}
