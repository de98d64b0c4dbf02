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
