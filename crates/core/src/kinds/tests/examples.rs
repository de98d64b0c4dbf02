//! `lint` against the real daemons, row by row: an accepted and a refused line of each row, as the daemon
//! judged them (`cargo xtask sweep`).
use crate::config::Severity;
use crate::config::rows::{Directives, Fate, Row};
use crate::kinds::{Instance, kind};
use crate::snapshot::Snapshot;
use crate::tests::{TextHost, read};
use std::collections::BTreeSet;

/// A kind's examples.
struct Set {
    kind: &'static str,
    template: &'static str,
    lines: &'static str,
    /// What the package manager has on record: the release that judged them.
    package: (&'static str, &'static str),
    /// Modules that the daemon was not asked with, and why.
    unasked: &'static [&'static str],
    /// Rows without an accepted line (`+`), or without a refused one (`-`), each for a reason that stands
    /// beside it.
    without: &'static [(&'static str, &'static str)],
}

impl Set {
    fn examples(&self) -> impl Iterator<Item = (&'static str, &'static str, bool, Option<u32>)> {
        self.lines.lines().filter(|l| !l.starts_with('#')).map(|line| {
            let columns: Vec<&str> = line.split('\t').collect();
            let [place, snippet, verdict, at] = columns[..] else { panic!("not four columns: {line}") };
            assert!(matches!(verdict, "accepted" | "rejected"), "{line}");
            (place, snippet, verdict == "accepted", at.parse().ok())
        })
    }

    /// A host on which the daemon would find what it found when it was asked.
    fn host(&self, config: &str) -> TextHost {
        let mut host = TextHost::new();
        for line in self.template.lines() {
            let mut words = line.split_whitespace();
            if words.next() == Some("LoadModule")
                && let (Some(name), Some(file)) = (words.next(), words.next())
            {
                host = host.file(file, &format!("\0{name}\0"));
            } else if let Some(file) = line.strip_prefix("load_module ") {
                host = host.file(&format!("/usr/share/nginx/{}", file.trim_end_matches(';')), "");
                host = host.file(&format!("/usr/lib/nginx/{}", file.trim_end_matches(';')), "");
            }
        }
        let (package, version) = self.package;
        for dir in [
            "/var/log/nginx",
            "/var/log/apache2",
            "/var/run/apache2",
            "/var/www/html",
            "/srv/www",
            "/etc/apache2",
            "/var/lib/nginx",
            "/run",
        ] {
            host = host.dir(dir, 0o755, 0);
        }
        let accounts = "root:x:0:0:root:/root:/bin/sh\nwww-data:x:33:33::/var/www:/bin/false\n";
        // What the lines themselves made while they were asked about.
        host = if self.kind == "nginx" { host.file("/srv/www", "") } else { host.dir("/srv/www", 0o755, 0) };
        host.file(&format!("/corpus/{}.conf", self.kind), config)
            .file("/corpus/file", "x\n")
            .file("/etc/passwd", accounts)
            .file("/etc/group", "root:x:0:\nwww-data:x:33:\n")
            .file(
                "/var/lib/dpkg/status",
                &format!("Package: {package}\nStatus: install ok installed\nVersion: {version}\n"),
            )
    }

    fn fill(&self, place: &str, snippet: &str) -> String {
        let snippet = snippet.replace("\\n", "\n");
        let lines = self.template.lines().filter_map(|line| match line.strip_prefix('@') {
            Some(name) if name == place => Some(snippet.as_str()),
            Some(_) => None,
            None => Some(line),
        });
        lines.map(|l| format!("{l}\n")).collect()
    }

    fn check(&self) {
        let file = format!("/corpus/{}.conf", self.kind);
        let mut wrong = Vec::new();
        for (place, snippet, accepted, at) in self.examples() {
            let found = read(&self.host(&self.fill(place, snippet)), self.kind, &file);
            let error = found.findings.iter().find(|f| f.severity == Severity::Error);
            let line = error.and_then(|e| e.place.as_ref()).map(|p| p.line);
            if error.is_none() != accepted || (at.is_some() && line != at) {
                wrong.push(format!(
                    "{place} | {snippet} | {accepted} {at:?} | ours {:?}",
                    error.map(|e| &e.message)
                ));
            }
        }
        assert!(wrong.is_empty(), "{} differ:\n{}", wrong.len(), wrong.join("\n"));
    }

    fn is_complete(&self) {
        let directives: &'static Directives = kind(self.kind).and_then(|k| k.directives()).unwrap();
        let host = self.host("");
        let instance = Instance::default();
        let release = kind(self.kind).unwrap().release(&Snapshot::new(&host), &instance);
        let named = |row: &Row, snippet: &str| {
            let statements = snippet.split([';', '\n']).flat_map(|s| s.split("\\n"));
            let mut firsts =
                statements.filter_map(|s| s.trim_start().split([' ', '>', '{']).find(|w| !w.is_empty()));
            firsts.any(|first| first.eq_ignore_ascii_case(row.name))
        };
        let mut lacking = BTreeSet::new();
        for row in directives.all() {
            let known = directives.fate(row, release.as_ref()) == Fate::Gone;
            if self.unasked.contains(&row.from) {
                continue;
            }
            for (sort, accepted) in [("+", true), ("-", false)] {
                // What the release does not have is refused, whatever is said.
                let needed = !(known && accepted);
                // The template stands around everything that was accepted.
                let around = accepted && self.template.lines().any(|line| named(row, line));
                let there = self
                    .examples()
                    .any(|(_, snippet, verdict, _)| verdict == accepted && named(row, snippet));
                if needed && !there && !around {
                    lacking.insert((row.name, sort));
                }
            }
        }
        let known: BTreeSet<_> = self.without.iter().copied().collect();
        let missing: Vec<_> = lacking.difference(&known).collect();
        let there: Vec<_> = known.difference(&lacking).collect();
        assert!(missing.is_empty(), "{} rows lack an example: {missing:?}", missing.len());
        assert!(there.is_empty(), "these have one by now: {there:?}");
    }
}

static NGINX: Set = Set {
    kind: "nginx",
    template: include_str!("../nginx/examples.template"),
    lines: include_str!("../nginx/examples.tsv"),
    package: ("nginx", "1.22.1-9+deb12u11"),
    unasked: &[],
    without: &[
        // Not built into any package.
        ("degradation", "+"),
        ("degrade", "+"),
        // They name a data base, an engine, a module of Perl or a stylesheet that nobody has here.
        ("geoip_city", "+"),
        ("geoip_country", "+"),
        ("geoip_org", "+"),
        ("perl_require", "+"),
        ("ssl_engine", "+"),
        ("xslt_stylesheet", "+"),
        // A whole configuration would have to be included.
        ("include", "+"),
    ],
};

static HTTPD: Set = Set {
    kind: "httpd",
    template: include_str!("../httpd/examples.template"),
    lines: include_str!("../httpd/examples.tsv"),
    package: ("apache2-bin", "2.4.71-1~deb12u1"),
    // Of other systems, of another way to run workers or scripts, or not loaded for what they do at once.
    unasked: &[
        "isapi",
        "privileges",
        "win32",
        "mpm_prefork",
        "mpm_worker",
        "cgi",
        "echo",
        "suexec",
        "heartbeat",
    ],
    without: &[
        // What they take needs a driver, a script, a store or a section that is not here.
        ("<RequireNotAll", "+"),
        ("AuthDigestNonceFormat", "+"),
        ("BalancerMember", "+"),
        ("CharsetOptions", "+"),
        ("DBDriver", "+"),
        ("EnableExceptionHook", "+"),
        ("Error", "+"),
        ("FancyIndexing", "+"),
        ("FilterProtocol", "+"),
        ("GprofDir", "+"),
        ("HeartbeatListen", "+"),
        ("LDAPTrustedClientCert", "+"),
        ("LoadFile", "+"),
        ("LuaHookAccessChecker", "+"),
        ("LuaHookAuthChecker", "+"),
        ("LuaHookInsertFilter", "+"),
        ("LuaHookTranslateName", "+"),
        ("Lua_____ByteCodeHack", "+"),
        ("MDCertificateFile", "+"),
        ("MDCertificateKeyFile", "+"),
        ("MDMember", "+"),
        ("MDMembers", "+"),
        ("MDPortMap", "+"),
        ("Port", "+"),
        ("ProxyHCExpr", "+"),
        ("ProxySet", "+"),
        ("RedirectMatch", "+"),
        ("RemoteIPInternalProxyList", "+"),
        ("RemoteIPTrustedProxyList", "+"),
        ("SSLLog", "+"),
        ("SSLLogLevel", "+"),
        ("SSLOpenSSLConfCmd", "+"),
        ("SSLProxyCARevocationCheck", "+"),
        ("SessionCryptoPassphraseFile", "+"),
        ("UNCList", "+"),
        ("allow", "+"),
        ("deny", "+"),
        // Releases before the one that was asked take no word at all.
        ("AddOutputFilterByType", "-"),
        ("DirectoryIndex", "-"),
        ("FilterChain", "-"),
        ("IndexIgnore", "-"),
        ("LanguagePriority", "-"),
        ("PassEnv", "-"),
        ("ProxyHTMLEvents", "-"),
        ("ProxyHTMLFixups", "-"),
        ("RemoveCharset", "-"),
        ("RemoveEncoding", "-"),
        ("RemoveHandler", "-"),
        ("RemoveInputFilter", "-"),
        ("RemoveLanguage", "-"),
        ("RemoveOutputFilter", "-"),
        ("RemoveType", "-"),
        ("UnsetEnv", "-"),
        ("xml2StartParse", "-"),
        // Their words are not judged yet.
        ("<IfVersion", "-"),
        ("<LuaHookAccessChecker", "-"),
        ("<LuaHookAuthChecker", "-"),
        ("<LuaHookCheckUserID", "-"),
        ("<LuaHookFixups", "-"),
        ("<LuaHookMapToStorage", "-"),
        ("<LuaHookPreTranslateName", "-"),
        ("<LuaHookTranslateName", "-"),
        ("<LuaHookTypeChecker", "-"),
        ("<LuaQuickHandler", "-"),
        ("AuthnzFcgiCheckAuthnProvider", "-"),
        ("BalancerMember", "-"),
        ("CharsetOptions", "-"),
        ("FancyIndexing", "-"),
        ("LoadFile", "-"),
        ("Lua_____ByteCodeHack", "-"),
        ("ProxyHCExpr", "-"),
        ("ProxyHCTemplate", "-"),
        ("ProxyHTMLURLMap", "-"),
        ("ProxyPassMatch", "-"),
        ("ProxySet", "-"),
        ("SSLLog", "-"),
        ("SSLLogLevel", "-"),
        ("SessionCookieName", "-"),
        ("SessionCookieName2", "-"),
        ("SessionDBDCookieName", "-"),
        ("SessionDBDCookieName2", "-"),
        ("SetEnvIfExpr", "-"),
        ("UnDefine", "-"),
        ("Use", "-"),
    ],
};

#[test]
fn lines_of_nginx_are_judged_as_the_daemon_judged_them() {
    NGINX.check();
}

#[test]
fn lines_of_httpd_are_judged_as_the_daemon_judged_them() {
    HTTPD.check();
}

#[test]
fn every_row_of_nginx_has_an_accepted_and_a_refused_line() {
    NGINX.is_complete();
}

#[test]
fn every_row_of_httpd_has_an_accepted_and_a_refused_line() {
    HTTPD.is_complete();
}
