//! The Java runtime that a service picks up: which one, of what version, complete or not, and what its program asks for.
use crate::host::Look;
use crate::kinds::{Instance, glob, java_class_path, java_program};
use crate::path;
use crate::snapshot::Snapshot;
use std::io::Read as _;

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
const PLACES: &[&str] = &["/usr/lib/jvm/*", "/usr/java/*", "/opt/java*", "/opt/jdk*", "/opt/jre*", "/usr/lib64/jvm/*", "/usr/local/openjdk*"];
/// What the manager searches for a program without a directory, where the unit does not say otherwise.
const SEARCH: &str = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin";
/// Class-file version of the first release that counts from 1 (Java Virtual Machine Specification, chapter 4).
const CLASS_BASE: u32 = 44;
/// How much of an archive is looked into, in bytes, and how many classes.
const ARCHIVE: u32 = 4 << 20;
const CLASSES: usize = 40;

/// A runtime by its directory, as its release file describes it.
pub fn runtime(snapshot: &Snapshot, home: &str) -> Option<Runtime> {
    snapshot.exists(&path::join(home, "bin/java")).filter(|there| *there)?;
    let release = snapshot.text(&path::join(home, "release")).seen().unwrap_or_default();
    let version = release.lines().find_map(|l| l.strip_prefix("JAVA_VERSION=")).and_then(|v| feature(v.trim_matches('"')));
    let has_server = ["lib/server/libjvm.so", "jre/lib/amd64/server/libjvm.so", "lib/amd64/server/libjvm.so", "jre/lib/aarch64/server/libjvm.so"]
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
    let mut homes: Vec<String> = PLACES.iter().flat_map(|p| glob(snapshot, p)).map(|h| snapshot.resolve_links(&h)).collect();
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
        let listed = entries.iter().flat_map(|e| if e.ends_with("/*") { glob(snapshot, &format!("{e}.jar")) } else { vec![e.clone()] });
        let judged = listed.filter(|e| e.ends_with(".jar")).filter_map(|e| Some((compiled_for(snapshot, &e)?, e)));
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
    let Look::Seen(bytes) = snapshot.read_at(archive, 0, ARCHIVE) else { return None };
    let mut at = 0;
    let mut highest = None;
    let mut looked_at = 0;
    while looked_at < CLASSES {
        let head = bytes.get(at..at + 30)?.to_vec();
        if !head.starts_with(b"PK\x03\x04") {
            break;
        }
        let number = |from: usize, width: usize| head[from..from + width].iter().rev().fold(0usize, |n, b| n << 8 | usize::from(*b));
        let (flags, method, size, name_length, extra) = (number(6, 2), number(8, 2), number(18, 4), number(26, 2), number(28, 2));
        let name = bytes.get(at + 30..at + 30 + name_length)?;
        let start = at + 30 + name_length + extra;
        let is_class = name.ends_with(b".class") && !name.starts_with(b"META-INF/versions/") && !name.ends_with(b"module-info.class");
        let data = bytes.get(start..)?;
        // A size that is told only behind the data leaves the decompressor to find the end.
        let streamed = flags & 8 != 0 && size == 0;
        let (class, used) = member(data, method, size, streamed)?;
        if let Some(version) = class_version(&class).filter(|_| is_class) {
            looked_at += 1;
            highest = highest.max(Some(version));
        }
        at = start + used;
        if streamed {
            let signed = bytes.get(at..at + 4).is_some_and(|b| b == b"PK\x07\x08");
            at += if signed { 16 } else { 12 };
        }
    }
    highest
}

/// First bytes of a member, and how long it is in the archive.
fn member(data: &[u8], method: usize, size: usize, streamed: bool) -> Option<(Vec<u8>, usize)> {
    let mut head = vec![0; 8];
    match method {
        0 if !streamed => Some((data.get(..size.min(8))?.to_vec(), size)),
        8 => {
            let mut reader = flate2::bufread::DeflateDecoder::new(if streamed { data } else { data.get(..size)? });
            let mut filled = 0;
            while filled < head.len() {
                match reader.read(&mut head[filled..]).ok()? {
                    0 => break,
                    n => filled += n,
                }
            }
            head.truncate(filled);
            if streamed {
                std::io::copy(&mut reader, &mut std::io::sink()).ok()?;
                return Some((head, usize::try_from(reader.total_in()).ok()?));
            }
            Some((head, size))
        }
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tests::TextHost;
    use std::io::Write as _;

    /// An archive of one text and one class, deflated.
    fn jar(major: u8) -> Vec<u8> {
        let mut out = Vec::new();
        for (name, content) in [
            ("META-INF/MANIFEST.MF", b"Main-Class: ferries.Boarding\n".to_vec()),
            ("ferries/Boarding.class", vec![0xca, 0xfe, 0xba, 0xbe, 0, 0, 0, major, 1, 2, 3]),
        ] {
            let mut encoder = flate2::write::DeflateEncoder::new(Vec::new(), flate2::Compression::default());
            encoder.write_all(&content).unwrap();
            let packed = encoder.finish().unwrap();
            out.extend(b"PK\x03\x04\x14\0\0\0\x08\0\0\0\0\0\0\0\0\0");
            out.extend(u32::try_from(packed.len()).unwrap().to_le_bytes());
            out.extend(u32::try_from(content.len()).unwrap().to_le_bytes());
            out.extend(u16::try_from(name.len()).unwrap().to_le_bytes());
            out.extend([0, 0]);
            out.extend(name.as_bytes());
            out.extend(packed);
        }
        out.extend(b"PK\x01\x02");
        out.resize(out.len() + 60, 0);
        out
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
        let found: Vec<(String, Option<u32>, bool)> = installed(&Snapshot::new(&host)).into_iter().map(|r| (r.home, r.version, r.has_server)).collect();
        assert_eq!(found, [("/opt/jdk8".into(), Some(8), false), ("/usr/lib/jvm/java-17".into(), Some(17), true)]);
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
        assert_eq!(picked("/opt/boarding/run.sh", &[("JAVA_HOME", "/opt/jdk8")]).as_deref(), Some("/opt/jdk8"));
        assert_eq!(picked("/opt/boarding/run.sh", &[("PATH", "/opt/jdk8/bin:/usr/bin")]).as_deref(), Some("/opt/jdk8"));
        assert_eq!(picked("/opt/jdk8/bin/java -jar x.jar", &[("JAVA_HOME", "/usr/lib/jvm/java-17")]).as_deref(), Some("/opt/jdk8"));
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
            let environment = [("CLASSPATH".to_owned(), class_path.to_owned())].into_iter().filter(|(_, v)| !v.is_empty()).collect();
            let instance = Instance { command: command.split(' ').map(str::to_owned).collect(), environment, ..Instance::default() };
            program(&Snapshot::new(&host), &instance)
        };
        let boarding = Some(("/opt/desk/ferries/Boarding.class".to_owned(), 21));
        assert_eq!(found("java -cp /opt/none:/opt/desk ferries.Boarding", ""), boarding);
        assert_eq!(found("java ferries.Boarding start", "/opt/desk"), boarding);
        assert_eq!(found("java -cp /opt/lib/* ferries.Other", ""), Some(("/opt/lib/b.jar".into(), 17)), "the newest of what may hold it");
        assert_eq!(found("java -cp /opt/lib/a.jar ferries.Other", "/opt/desk"), Some(("/opt/lib/a.jar".into(), 8)));
        assert_eq!(found("java -jar /opt/lib/a.jar", ""), Some(("/opt/lib/a.jar".into(), 8)));
        for none in ["java -cp /opt/desk Odd", "java -cp desk ferries.Boarding", "java -version"] {
            assert_eq!(found(none, ""), None, "{none}");
        }
    }

    #[test]
    fn classes_tell_what_they_were_compiled_for() {
        for (major, version) in [(52, 8), (61, 17), (65, 21)] {
            assert_eq!(compiled_for(&Snapshot::new(&TextHost::new().bytes("/x.jar", &jar(major))), "/x.jar"), Some(version));
        }
        for bytes in [vec![], b"PK".to_vec(), b"no archive at all, but long enough for a head".to_vec(), jar(61)[..70].to_vec()] {
            assert_eq!(compiled_for(&Snapshot::new(&TextHost::new().bytes("/x.jar", &bytes)), "/x.jar"), None);
        }
    }
}
