//! The Java runtime that a service picks up: which one, of what version, complete or not, and what its
//! program asks for.
use crate::kinds::{Instance, glob, java_class_path, java_program};
use crate::path;
use crate::snapshot::Snapshot;
use std::io::{Read, Seek, SeekFrom};

/// A runtime on this host.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Runtime {
    /// Its directory.
    pub home: String,
    /// Feature version, such as 17; `None` where its release file does not tell.
    pub version: Option<u32>,
    /// Whether the virtual machine for servers is there.
    pub has_server: bool,
}

/// Where distributions and people put runtimes.
const PLACES: &[&str] = &[
    "/usr/lib/jvm/*",
    "/usr/java/*",
    "/opt/java*",
    "/opt/jdk*",
    "/opt/jre*",
    "/usr/lib64/jvm/*",
    "/usr/local/openjdk*",
];
/// What the manager searches for a program without a directory, where the unit does not say otherwise.
const SEARCH: &str = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin";
/// Class-file version of the first release that counts from 1 (Java Virtual Machine Specification, chapter
/// 4).
const CLASS_BASE: u32 = 44;
/// How much of an archive is read, in bytes, and how many classes are looked at.
const ARCHIVE: u64 = 4 << 20;
const CLASSES: usize = 40;
/// What the large form of an archive has before its end (APPNOTE 4.3.15).
const LARGE: &[u8] = b"PK\x06\x07";

/// A runtime by its directory, as its release file describes it.
pub fn runtime(snapshot: &Snapshot, home: &str) -> Option<Runtime> {
    snapshot.exists(&path::join(home, "bin/java")).filter(|there| *there)?;
    let release = snapshot.text(&path::join(home, "release")).seen().unwrap_or_default();
    let version = release
        .lines()
        .find_map(|l| l.strip_prefix("JAVA_VERSION="))
        .and_then(|v| feature(v.trim_matches('"')));
    let has_server = [
        "lib/server/libjvm.so",
        "jre/lib/amd64/server/libjvm.so",
        "lib/amd64/server/libjvm.so",
        "jre/lib/aarch64/server/libjvm.so",
    ]
    .iter()
    .any(|f| snapshot.exists(&path::join(home, f)) != Some(false));
    Some(Runtime { home: home.to_owned(), version, has_server })
}

/// `17.0.21` is 17, `1.8.0_392` is 8.
fn feature(text: &str) -> Option<u32> {
    let mut parts = text.split(['.', '_', '-', '+']);
    match parts.next()?.parse().ok()? {
        1 => parts.next()?.parse().ok(),
        version => Some(version),
    }
}

/// The launcher that the service would run: of its command, of `JAVA_HOME`, or the first on its search path.
pub fn launcher(snapshot: &Snapshot, instance: &Instance) -> Option<String> {
    let first = instance.command.first().map_or("", String::as_str);
    if path::name(first) == "java" && first.contains('/') {
        return Some(first.to_owned());
    }
    for key in ["JAVA_HOME", "JRE_HOME"] {
        if let Some(home) = instance.environment.get(key) {
            return Some(path::join(home, "bin/java"));
        }
    }
    let search = instance.environment.get("PATH").map_or(SEARCH, String::as_str);
    search.split(':').map(|d| path::join(d, "java")).find(|f| snapshot.exists(f) == Some(true))
}

/// Directory of the runtime that a launcher belongs to, links resolved.
pub fn home_of(snapshot: &Snapshot, launcher: &str) -> String {
    let real = snapshot.resolve_links(launcher);
    let home = path::parent(path::parent(&real)).to_owned();
    // Older layouts keep the runtime inside the development kit.
    home.strip_suffix("/jre").map_or(home.clone(), str::to_owned)
}

/// Every runtime that is installed.
pub fn installed(snapshot: &Snapshot) -> Vec<Runtime> {
    let mut homes: Vec<String> =
        PLACES.iter().flat_map(|p| glob(snapshot, p)).map(|h| snapshot.resolve_links(&h)).collect();
    homes.sort();
    homes.dedup();
    homes.iter().filter_map(|h| runtime(snapshot, h)).collect()
}

/// The archive or class that a service's command runs, and the feature version that it was compiled for.
pub fn program(snapshot: &Snapshot, instance: &Instance) -> Option<(String, u32)> {
    let what = java_program(&instance.command)?;
    if what.ends_with(".jar") {
        let version = compiled_for(snapshot, &what)?;
        return Some((what, version));
    }
    // A module's main class stands behind its name.
    let class = format!("{}.class", what.rsplit('/').next()?.replace('.', "/"));
    let entries = java_class_path(instance);
    let file = entries.iter().map(|dir| path::join(dir, &class)).find_map(|file| {
        let head = snapshot.read_at(&file, 0, 8).seen()?;
        let version = class_version(&head)?;
        Some((file, version))
    });
    let archives = || {
        let listed = entries.iter().flat_map(|e| {
            if e.ends_with("/*") { glob(snapshot, &format!("{e}.jar")) } else { vec![e.clone()] }
        });
        let judged =
            listed.filter(|e| e.ends_with(".jar")).filter_map(|e| Some((compiled_for(snapshot, &e)?, e)));
        judged.max().map(|(version, archive)| (archive, version))
    };
    file.or_else(archives)
}

/// The feature version that a class file was compiled for, from its first eight bytes.
fn class_version(head: &[u8]) -> Option<u32> {
    head.starts_with(&[0xca, 0xfe, 0xba, 0xbe]).then_some(())?;
    (u32::from(*head.get(6)?) << 8 | u32::from(*head.get(7)?)).checked_sub(CLASS_BASE)
}

/// The feature version that an archive's classes were compiled for: the highest of those that are looked at.
pub fn compiled_for(snapshot: &Snapshot, archive: &str) -> Option<u32> {
    let size = snapshot.stat(archive).seen()?.size;
    // The large form may claim any number of members, and room is made for them before one is read; the plain
    // form cannot claim more than 65,535. What is read from the end cannot lie before this part of it.
    let tail = snapshot
        .read_at(archive, size.saturating_sub(ARCHIVE), u32::try_from(ARCHIVE).unwrap_or(u32::MAX))
        .seen()?;
    if memchr::memmem::find(&tail, LARGE).is_some() {
        return None;
    }
    let part = Part { snapshot, file: archive, at: 0, size, left: ARCHIVE };
    let mut archive = zip::ZipArchive::new(std::io::BufReader::new(part)).ok()?;
    let is_class = |name: &str| {
        name.ends_with(".class")
            && !name.starts_with("META-INF/versions/")
            && !name.ends_with("module-info.class")
    };
    let classes: Vec<String> =
        archive.file_names().flatten().filter(|n| is_class(n)).take(CLASSES).map(String::from).collect();
    let mut highest = None;
    for class in classes {
        let Ok(mut member) = archive.by_name(&class) else { break };
        let mut head = [0; 8];
        if member.read_exact(&mut head).is_ok() {
            highest = highest.max(class_version(&head));
        }
    }
    highest
}

/// A file of the host, read where it is asked for and no further than a bound: an archive may claim any
/// number of members.
struct Part<'r, 'h> {
    snapshot: &'r Snapshot<'h>,
    file: &'r str,
    at: u64,
    size: u64,
    left: u64,
}

impl Read for Part<'_, '_> {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        let wanted = u64::try_from(buffer.len()).unwrap_or(u64::MAX).min(self.size.saturating_sub(self.at));
        if wanted > self.left {
            return Err(std::io::Error::other("more of the archive would have to be read than is"));
        }
        let length = u32::try_from(wanted).unwrap_or(u32::MAX);
        let bytes =
            self.snapshot.read_at(self.file, self.at, length).seen().ok_or(std::io::ErrorKind::NotFound)?;
        let read = bytes.len().min(buffer.len());
        buffer[..read].copy_from_slice(&bytes[..read]);
        self.at += u64::try_from(read).unwrap_or_default();
        self.left = self.left.saturating_sub(wanted);
        Ok(read)
    }
}

impl Seek for Part<'_, '_> {
    fn seek(&mut self, to: SeekFrom) -> std::io::Result<u64> {
        let at = match to {
            SeekFrom::Start(at) => Some(at),
            SeekFrom::End(by) => self.size.checked_add_signed(by),
            SeekFrom::Current(by) => self.at.checked_add_signed(by),
        };
        self.at = at.ok_or(std::io::ErrorKind::InvalidInput)?;
        Ok(self.at)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tests::TextHost;
    use std::io::Write as _;

    /// An archive of one text and one class, deflated.
    fn jar(major: u8) -> Vec<u8> {
        let mut archive = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
        for (name, content) in [
            ("META-INF/MANIFEST.MF", b"Main-Class: ferries.Boarding\n".to_vec()),
            ("ferries/Boarding.class", vec![0xca, 0xfe, 0xba, 0xbe, 0, 0, 0, major, 1, 2, 3]),
        ] {
            archive.start_file(name, zip::write::SimpleFileOptions::default()).unwrap();
            archive.write_all(&content).unwrap();
        }
        archive.finish().unwrap().into_inner()
    }

    fn host() -> TextHost {
        TextHost::new()
            .program("/usr/lib/jvm/java-17/bin/java")
            .file("/usr/lib/jvm/java-17/release", "IMPLEMENTOR=\"x\"\nJAVA_VERSION=\"17.0.21\"\n")
            .file("/usr/lib/jvm/java-17/lib/server/libjvm.so", "")
            .program("/opt/jdk8/bin/java")
            .file("/opt/jdk8/release", "JAVA_VERSION=\"1.8.0_392\"\n")
            .link("/usr/bin/java", "/usr/lib/jvm/java-17/bin/java")
    }

    #[test]
    fn runtimes_are_known_by_their_release_file() {
        let host = host();
        let found: Vec<(String, Option<u32>, bool)> =
            installed(&Snapshot::new(&host)).into_iter().map(|r| (r.home, r.version, r.has_server)).collect();
        assert_eq!(
            found,
            [("/opt/jdk8".into(), Some(8), false), ("/usr/lib/jvm/java-17".into(), Some(17), true)]
        );
    }

    #[test]
    fn the_managers_environment_decides_which_one_is_picked_up() {
        let host = host();
        let snapshot = Snapshot::new(&host);
        let picked = |command: &str, environment: &[(&str, &str)]| {
            let instance = Instance {
                command: command.split(' ').map(str::to_owned).collect(),
                environment: environment.iter().map(|(k, v)| ((*k).to_owned(), (*v).to_owned())).collect(),
                ..Instance::default()
            };
            launcher(&snapshot, &instance).map(|l| home_of(&snapshot, &l))
        };
        assert_eq!(picked("/opt/boarding/run.sh", &[]).as_deref(), Some("/usr/lib/jvm/java-17"));
        assert_eq!(
            picked("/opt/boarding/run.sh", &[("JAVA_HOME", "/opt/jdk8")]).as_deref(),
            Some("/opt/jdk8")
        );
        assert_eq!(
            picked("/opt/boarding/run.sh", &[("PATH", "/opt/jdk8/bin:/usr/bin")]).as_deref(),
            Some("/opt/jdk8")
        );
        assert_eq!(
            picked("/opt/jdk8/bin/java -jar x.jar", &[("JAVA_HOME", "/usr/lib/jvm/java-17")]).as_deref(),
            Some("/opt/jdk8")
        );
    }

    #[test]
    fn the_main_class_is_found_along_the_class_path() {
        let class = |major: u8| [0xca, 0xfe, 0xba, 0xbe, 0, 0, 0, major].to_vec();
        let host = TextHost::new()
            .bytes("/opt/desk/ferries/Boarding.class", &class(65))
            .bytes("/opt/desk/Odd.class", b"no class")
            .bytes("/opt/lib/a.jar", &jar(52))
            .bytes("/opt/lib/b.jar", &jar(61));
        let found = |command: &str, class_path: &str| {
            let environment = [("CLASSPATH".to_owned(), class_path.to_owned())]
                .into_iter()
                .filter(|(_, v)| !v.is_empty())
                .collect();
            let instance = Instance {
                command: command.split(' ').map(str::to_owned).collect(),
                environment,
                ..Instance::default()
            };
            program(&Snapshot::new(&host), &instance)
        };
        let boarding = Some(("/opt/desk/ferries/Boarding.class".to_owned(), 21));
        assert_eq!(found("java -cp /opt/none:/opt/desk ferries.Boarding", ""), boarding);
        assert_eq!(found("java ferries.Boarding start", "/opt/desk"), boarding);
        assert_eq!(
            found("java -cp /opt/lib/* ferries.Other", ""),
            Some(("/opt/lib/b.jar".into(), 17)),
            "the newest of what may hold it"
        );
        assert_eq!(
            found("java -cp /opt/lib/a.jar ferries.Other", "/opt/desk"),
            Some(("/opt/lib/a.jar".into(), 8))
        );
        assert_eq!(found("java -jar /opt/lib/a.jar", ""), Some(("/opt/lib/a.jar".into(), 8)));
        for none in ["java -cp /opt/desk Odd", "java -cp desk ferries.Boarding", "java -version"] {
            assert_eq!(found(none, ""), None, "{none}");
        }
    }

    #[test]
    fn classes_tell_what_they_were_compiled_for() {
        for (major, version) in [(52, 8), (61, 17), (65, 21)] {
            assert_eq!(
                compiled_for(&Snapshot::new(&TextHost::new().bytes("/x.jar", &jar(major))), "/x.jar"),
                Some(version)
            );
        }
        // The large form, sound in itself: its claims are not looked into.
        let mut large = jar(61);
        let end = large.len() - 22;
        let number =
            |at: usize| u64::from(u32::from_le_bytes(large[end + at..end + at + 4].try_into().unwrap()));
        let (size, offset) = (number(12), number(16));
        let mut claim = b"PK\x06\x06".to_vec();
        claim.extend(44u64.to_le_bytes());
        claim.extend([45, 0, 45, 0, 0, 0, 0, 0, 0, 0, 0, 0]);
        [2, 2, size, offset].iter().for_each(|n| claim.extend(n.to_le_bytes()));
        claim.extend(b"PK\x06\x07\0\0\0\0");
        claim.extend((end as u64).to_le_bytes());
        claim.extend([1, 0, 0, 0]);
        large[end + 8..end + 12].fill(0xff);
        large.splice(end..end, claim);
        for bytes in [
            large,
            vec![],
            b"PK".to_vec(),
            b"no archive at all, but long enough for a head".to_vec(),
            jar(61)[..70].to_vec(),
        ] {
            assert_eq!(
                compiled_for(&Snapshot::new(&TextHost::new().bytes("/x.jar", &bytes)), "/x.jar"),
                None
            );
        }
    }
}
