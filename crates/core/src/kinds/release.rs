//! Which release of a daemon is installed: from the data bases of package managers, or from the daemon's own
//! binary, which is never run for that.
use super::{Instance, Profile};
use crate::config::release::{Release, Version};
use crate::path;
use crate::snapshot::Snapshot;

/// Where a version stands in a string.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Stands {
    /// Before the words.
    Before,
    /// Behind the words.
    Behind,
    /// The first one of the string.
    First,
}

/// Where a daemon's binary holds its own version.
#[derive(Clone, Copy, Debug)]
pub struct VersionMark {
    /// Words of a string in the binary, or of a text file that comes with it. Their last digits belong to the
    /// version.
    pub words: &'static str,
    /// Where in that string the version is.
    pub stands: Stands,
    /// Files that hold it, where the start command is a script; relative ones are looked for beside the
    /// command and above it.
    pub files: &'static [&'static str],
}

/// The release of a service's daemon, as packages or its own binary tell it. What was built below /usr/local
/// and /opt no package manager knows.
pub(super) fn release(snapshot: &Snapshot, profile: &Profile, instance: &Instance) -> Option<Release> {
    let program = instance.command.first().map_or("", String::as_str);
    let own_build = ["/usr/local/", "/opt/", "/srv/"].iter().any(|dir| program.starts_with(dir));
    let packaged = || {
        let (package, version) = of_packages(snapshot, profile)?;
        Some(Release { flavour: flavour(profile, &package), version: Version::parse(&version)? })
    };
    let built = || of_binary(snapshot, profile, program);
    if own_build { built().or_else(packaged) } else { packaged().or_else(built) }
}

/// A package's own name tells the flavour.
fn flavour(profile: &Profile, text: &str) -> String {
    let lower = text.to_ascii_lowercase();
    profile.flavours.iter().find(|f| lower.contains(**f)).map_or(profile.name, |f| *f).to_owned()
}

/// The first installed package of the profile, with its version.
pub(crate) fn of_packages(snapshot: &Snapshot, profile: &Profile) -> Option<(String, String)> {
    profile.packages.iter().find_map(|package| {
        let version = snapshot.remember(&format!("version {package}"), || {
            let found = dpkg(snapshot, package)
                .or_else(|| apk(snapshot, package))
                .or_else(|| pacman(snapshot, package));
            found.map(|full| plain(&full)).unwrap_or_default()
        });
        (!version.is_empty()).then(|| ((*package).to_owned(), version))
    })
}

/// Without epoch and revision.
fn plain(full: &str) -> String {
    let version = full.split_once(':').map_or(full, |(_, v)| v);
    version.rsplit_once('-').map_or(version, |(v, _)| v).to_owned()
}

/// Paragraphs of `Key: value` (deb-control(5)).
fn dpkg(snapshot: &Snapshot, package: &str) -> Option<String> {
    let status = snapshot.read("/var/lib/dpkg/status").seen()?;
    let entry = paragraph(&status, &format!("Package: {package}\n"))?;
    entry.contains("\nStatus: install ok installed").then_some(())?;
    entry.lines().find_map(|l| l.strip_prefix("Version: ")).map(str::to_owned)
}

/// Paragraphs of `K:value` (apk's installed data base).
fn apk(snapshot: &Snapshot, package: &str) -> Option<String> {
    let installed = snapshot.read("/lib/apk/db/installed").seen()?;
    let text = String::from_utf8_lossy(&installed);
    let mut paragraphs = text.split("\n\n");
    let entry = paragraphs.find(|p| p.lines().any(|l| l.strip_prefix("P:") == Some(package)))?;
    entry.lines().find_map(|l| l.strip_prefix("V:")).map(str::to_owned)
}

/// A directory `NAME-VERSION-REVISION` for each package.
fn pacman(snapshot: &Snapshot, package: &str) -> Option<String> {
    let all = snapshot.list("/var/lib/pacman/local").seen()?;
    all.iter().find_map(|entry| {
        let rest = entry.name.strip_prefix(package)?.strip_prefix('-')?;
        rest.starts_with(|c: char| c.is_ascii_digit()).then(|| rest.to_owned())
    })
}

fn paragraph(bytes: &[u8], head: &str) -> Option<String> {
    let mut from = 0;
    let at = loop {
        let at = from + memchr::memmem::find(&bytes[from..], head.as_bytes())?;
        if at == 0 || bytes[at - 1] == b'\n' {
            break at;
        }
        from = at + 1;
    };
    let rest = &bytes[at..];
    let end = memchr::memmem::find(rest, b"\n\n").unwrap_or(rest.len());
    Some(String::from_utf8_lossy(&rest[..end]).into_owned())
}

fn of_binary(snapshot: &Snapshot, profile: &Profile, program: &str) -> Option<Release> {
    let mark = profile.version?;
    let beside = [path::parent(program), path::parent(path::parent(program))];
    let named = mark.files.iter().flat_map(|file| {
        if file.starts_with('/') {
            vec![(*file).to_owned()]
        } else {
            beside.map(|dir| path::join(dir, file)).to_vec()
        }
    });
    std::iter::once(program.to_owned()).chain(named).filter(|f| f.starts_with('/')).find_map(|file| {
        let line = snapshot.remember(&format!("release in {file}"), || {
            snapshot.find_string(&file, mark.words, false).seen().flatten().unwrap_or_default()
        });
        let at = line.find(mark.words)?;
        let is_part = |c: char| c.is_ascii_digit() || c == '.';
        let behind = at + mark.words.trim_end_matches(is_part).len();
        let version = match mark.stands {
            Stands::Before => line[..at].rsplit(|c: char| !is_part(c)).next(),
            Stands::Behind => line[behind..].trim_start().split(|c: char| !is_part(c)).next(),
            Stands::First => line.split(|c: char| !is_part(c)).find(|w| w.contains('.')),
        };
        let version = version?.trim_matches('.');
        version.contains('.').then_some(())?;
        Some(Release { flavour: flavour(profile, &line), version: Version::parse(version)? })
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::kinds::kind;
    use crate::tests::TextHost;

    #[track_caller]
    fn check(host: &TextHost, name: &str, program: &str, expected: Option<&str>) {
        let instance = Instance { command: vec![program.to_owned()], ..Instance::default() };
        let found = kind(name).unwrap().release(&Snapshot::new(host), &instance);
        assert_eq!(found.map(|r| r.to_string()).as_deref(), expected, "{name} {program}");
    }

    #[test]
    fn package_data_bases_of_several_families_tell_it() {
        let status = "Package: nginx-common\nStatus: install ok installed\nVersion: 9\n\nPackage: nginx\n\
            Status: install ok installed\nVersion: 1:1.22.1-9+deb12u9\n\nPackage: redis\n\
            Status: deinstall ok config-files\nVersion: 7\n\nPackage: mariadb-server\n\
            Status: install ok installed\nVersion: 1:10.11.19-0+deb12u1\n";
        let debian = TextHost::new().file("/var/lib/dpkg/status", status);
        check(&debian, "nginx", "/usr/sbin/nginx", Some("nginx-1.22.1"));
        check(&debian, "mysql", "/usr/sbin/mariadbd", Some("mariadb-10.11.19"));
        check(&debian, "redis", "/usr/bin/redis-server", None);
        let alpine = TextHost::new().file(
            "/lib/apk/db/installed",
            "C:Q1\nP:nginx-mod-tide\nV:9\n\nC:Q2\nP:nginx\nV:1.26.2-r4\nA:x86_64\n",
        );
        check(&alpine, "nginx", "/usr/sbin/nginx", Some("nginx-1.26.2"));
        let arch = TextHost::new()
            .file("/var/lib/pacman/local/valkey-8.1.1-2/desc", "")
            .file("/var/lib/pacman/local/nginx-mainline-1.29.1-1/desc", "");
        check(&arch, "redis", "/usr/bin/valkey-server", Some("valkey-8.1.1"));
        check(&arch, "nginx", "/usr/sbin/nginx", None);
    }

    #[test]
    fn a_binary_is_asked_for_its_strings_where_no_package_is_its() {
        let status = "Package: nginx\nStatus: install ok installed\nVersion: 1.22.1-9\n\n\
            Package: apache2-bin\nStatus: install ok installed\nVersion: 2.4.71-1\n";
        let host = TextHost::new()
            .file("/var/lib/dpkg/status", status)
            .file("/usr/local/nginx/sbin/nginx", "\0junk\0nginx version: nginx/1.28.0\0more\0")
            .file("/usr/local/apache2/bin/httpd", "\0Apache/2\0Apache/2.4.66 (Unix)\0")
            .file(
                "/usr/local/pgsql/bin/postgres",
                "\0PostgreSQL 9.1.\0PostgreSQL 17.2 on \
                x86_64-pc-linux-gnu, compiled by gcc, 64-bit\0",
            )
            .file("/opt/mariadb/bin/mariadbd", "\0 11.8.2-MariaDB\0")
            .file(
                "/opt/tomcat/RELEASE-NOTES",
                "\n                     Apache Tomcat Version \
                10.1.60\n                        Release Notes\n",
            );
        check(&host, "nginx", "/usr/local/nginx/sbin/nginx", Some("nginx-1.28.0"));
        check(&host, "nginx", "/usr/sbin/nginx", Some("nginx-1.22.1"));
        check(&host, "httpd", "/usr/local/apache2/bin/httpd", Some("httpd-2.4.66"));
        check(&host, "httpd", "/usr/local/apache2/bin/apachectl", Some("httpd-2.4.66"));
        check(&host, "postgresql", "/usr/local/pgsql/bin/postgres", Some("postgresql-17.2"));
        check(&host, "mysql", "/opt/mariadb/bin/mariadbd", Some("mariadb-11.8.2"));
        check(&host, "tomcat", "/opt/tomcat/bin/catalina.sh", Some("tomcat-10.1.60"));
        check(&host, "haproxy", "/usr/local/sbin/haproxy", None);
    }
}
