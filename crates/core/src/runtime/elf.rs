//! Shared libraries that an executable needs (elf(5)), looked for where the loader looks (ld.so(8)).
use crate::host::Look;
use crate::path;
use crate::snapshot::Snapshot;
use object::Endianness;
use object::elf::{self, Dyn64, FileHeader64, ProgramHeader64};
use object::pod::Pod;
use object::read::elf::{Dyn as _, FileHeader as _, ProgramHeader as _};
use std::collections::{BTreeMap, HashSet, VecDeque};

/// What an executable or library asks for.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Needs {
    /// The loader.
    pub interpreter: Option<String>,
    /// Names of libraries.
    pub libraries: Vec<String>,
    /// Directories that it wants searched.
    pub search: Vec<String>,
}

/// A library that is nowhere to be found.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Missing {
    /// Its name.
    pub library: String,
    /// Who needs it.
    pub needed_by: String,
}

/// Most files that are looked into for one program.
const FILES: usize = 200;
/// Most bytes of a table that are read.
const TABLE: u64 = 1 << 20;

struct Reader<'r, 'h> {
    snapshot: &'r Snapshot<'h>,
    file: &'r str,
}

impl Reader<'_, '_> {
    fn bytes(&self, at: u64, length: u64) -> Option<Vec<u8>> {
        let length = u32::try_from(length.min(TABLE)).ok()?;
        self.snapshot.read_at(self.file, at, length).seen().map(|b| b.to_vec())
    }
    /// As many rows of a table as its bytes hold.
    fn table<T: Pod>(&self, at: u64, length: u64) -> Option<Vec<T>> {
        let bytes = self.bytes(at, length)?;
        let count = bytes.len() / size_of::<T>();
        object::pod::slice_from_bytes(&bytes, count).ok().map(|(rows, _)| rows.to_vec())
    }
}

/// The text up to the first zero.
fn text(bytes: &[u8]) -> Option<String> {
    Some(String::from_utf8_lossy(bytes.split(|b| *b == 0).next()?).into_owned())
}

/// Reads what a 64-bit executable asks for; `None` for anything else.
pub fn needs(snapshot: &Snapshot, file: &str) -> Option<Needs> {
    let reader = Reader { snapshot, file };
    let head = reader.bytes(0, 64)?;
    let (header, _) = object::pod::from_bytes::<FileHeader64<Endianness>>(&head).ok()?;
    let order = header.is_supported().then(|| header.endian().ok())??;
    let length =
        u64::from(header.e_phnum(order)) * u64::try_from(size_of::<ProgramHeader64<Endianness>>()).ok()?;
    let segments: Vec<ProgramHeader64<Endianness>> = reader.table(header.e_phoff(order), length)?;
    let mut found = Needs::default();
    if let Some(loader) = segments.iter().find(|s| s.p_type(order) == elf::PT_INTERP) {
        found.interpreter = text(&reader.bytes(loader.p_offset(order), loader.p_filesz(order).min(4096))?);
    }
    let Some(dynamic) = segments.iter().find(|s| s.p_type(order) == elf::PT_DYNAMIC) else {
        return Some(found);
    };
    let rows: Vec<Dyn64<Endianness>> = reader.table(dynamic.p_offset(order), dynamic.p_filesz(order))?;
    let pairs: Vec<_> = rows
        .iter()
        .map(|r| (r.d_tag(order), r.d_val(order)))
        .take_while(|(tag, _)| *tag != elf::DT_NULL)
        .collect();
    let value = |wanted| pairs.iter().find(|(tag, _)| *tag == wanted).map(|(_, v)| *v);
    let (strings, size) = (value(elf::DT_STRTAB)?, value(elf::DT_STRSZ)?);
    let holds = |s: &&ProgramHeader64<Endianness>| {
        let start = s.p_vaddr(order);
        s.p_type(order) == elf::PT_LOAD
            && strings >= start
            && strings < start.saturating_add(s.p_filesz(order))
    };
    let segment = segments.iter().find(holds)?;
    let strings =
        reader.bytes((strings - segment.p_vaddr(order)).checked_add(segment.p_offset(order))?, size)?;
    let named = |at: u64| text(strings.get(usize::try_from(at).ok()?..)?);
    let origin = path::parent(file).to_owned();
    for (tag, at) in &pairs {
        match *tag {
            elf::DT_NEEDED => found.libraries.extend(named(*at)),
            elf::DT_RPATH | elf::DT_RUNPATH => {
                let list =
                    named(*at).unwrap_or_default().replace("${ORIGIN}", &origin).replace("$ORIGIN", &origin);
                found.search.extend(list.split(':').filter(|d| !d.is_empty()).map(str::to_owned));
            }
            _ => {}
        }
    }
    Some(found)
}

/// Directories that the loader searches for every program of this host.
fn system_directories(snapshot: &Snapshot) -> Vec<String> {
    let mut all = Vec::new();
    let mut files: VecDeque<String> = VecDeque::from(["/etc/ld.so.conf".to_owned()]);
    for _ in 0..64 {
        let Some(file) = files.pop_front() else { break };
        for line in snapshot.text(&file).seen().unwrap_or_default().lines() {
            let line = line.split('#').next().unwrap_or_default().trim();
            if let Some(pattern) = line.strip_prefix("include ") {
                files.extend(crate::kinds::glob(snapshot, &path::join(path::parent(&file), pattern.trim())));
            } else if line.starts_with('/') {
                all.push(line.to_owned());
            }
        }
    }
    all.extend(["/lib64", "/usr/lib64", "/lib", "/usr/lib"].map(str::to_owned));
    all
}

/// Libraries that the program or one of its libraries needs and that are nowhere. Empty where all are there,
/// and where the program is no such executable.
pub fn missing(snapshot: &Snapshot, program: &str, environment: &BTreeMap<String, String>) -> Vec<Missing> {
    let program = snapshot.resolve_links(program);
    let Some(own) = needs(snapshot, &program) else { return vec![] };
    // Another C library has a loader of its own, with other rules.
    if own.interpreter.as_deref().is_some_and(|i| path::name(i).starts_with("ld-musl")) {
        return vec![];
    }
    let extra: Vec<String> = environment
        .get("LD_LIBRARY_PATH")
        .map(|l| l.split(':').map(str::to_owned).collect())
        .unwrap_or_default();
    let system = system_directories(snapshot);
    let mut seen: HashSet<String> = HashSet::new();
    let mut queue: VecDeque<(String, Needs)> = VecDeque::from([(program, own)]);
    let mut inherited: Vec<String> = Vec::new();
    let mut found = Vec::new();
    while let Some((file, needs)) = queue.pop_front() {
        if seen.len() > FILES {
            break;
        }
        inherited.extend(needs.search.iter().cloned());
        for library in &needs.libraries {
            if library.contains('/') || !seen.insert(library.clone()) {
                continue;
            }
            let place = needs
                .search
                .iter()
                .chain(&inherited)
                .chain(&extra)
                .chain(&system)
                .map(|d| path::join(d, library))
                .find(|f| {
                    // What cannot be seen may be there.
                    snapshot.exists(f) != Some(false)
                });
            match place {
                Some(place) => queue.extend(self::needs(snapshot, &place).map(|n| (place, n))),
                None => found.push(Missing { library: library.clone(), needed_by: file.clone() }),
            }
        }
    }
    found
}

/// Whether a file can be looked at, so that silence about its libraries means something.
pub fn readable(snapshot: &Snapshot, file: &str) -> bool {
    matches!(snapshot.read_at(file, 0, 4), Look::Seen(_))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tests::TextHost;

    /// A small executable: two segments, a dynamic table, a table of strings.
    fn executable(libraries: &[&str], search: Option<&str>) -> Vec<u8> {
        let mut strings = vec![0u8];
        let mut add = |text: &str| {
            let at = strings.len() as u64;
            strings.extend(text.as_bytes());
            strings.push(0);
            at
        };
        let mut dynamic: Vec<(u64, u64)> = libraries.iter().map(|l| (1, add(l))).collect();
        dynamic.extend(search.map(|s| (29, add(s))));
        let (base, strings_at) = (0x1000u64, 512u64);
        dynamic.extend([(5, base + strings_at), (10, strings.len() as u64), (0, 0)]);
        let mut file = b"\x7fELF\x02\x01\x01".to_vec();
        file.resize(64, 0);
        file[32..40].copy_from_slice(&64u64.to_le_bytes());
        file[54..56].copy_from_slice(&56u16.to_le_bytes());
        file[56..58].copy_from_slice(&2u16.to_le_bytes());
        for (kind, offset, address, length) in
            [(1u32, 0u64, base, 4096u64), (2, 256, base + 256, 16 * dynamic.len() as u64)]
        {
            file.extend(kind.to_le_bytes());
            file.extend([0; 4]);
            for n in [offset, address, address, length, length, 8] {
                file.extend(n.to_le_bytes());
            }
        }
        file.resize(256, 0);
        for (tag, value) in dynamic {
            file.extend(tag.to_le_bytes());
            file.extend(value.to_le_bytes());
        }
        file.resize(512, 0);
        file.extend(strings);
        file
    }

    fn lost(host: &TextHost, environment: &[(&str, &str)]) -> Vec<(String, String)> {
        let environment = environment.iter().map(|(k, v)| ((*k).to_owned(), (*v).to_owned())).collect();
        missing(&Snapshot::new(host), "/opt/edge/edge", &environment)
            .into_iter()
            .map(|m| (m.library, m.needed_by))
            .collect()
    }

    #[test]
    fn a_library_is_looked_for_where_the_loader_looks() {
        let host = |search| TextHost::new().bytes("/opt/edge/edge", &executable(&["libtide.so.1"], search));
        assert_eq!(lost(&host(None), &[]), [("libtide.so.1".to_owned(), "/opt/edge/edge".to_owned())]);
        for (place, search, environment) in [
            ("/usr/lib/libtide.so.1", None, vec![]),
            ("/opt/edge/lib/libtide.so.1", Some("$ORIGIN/lib"), vec![]),
            ("/srv/lib/libtide.so.1", None, vec![("LD_LIBRARY_PATH", "/nowhere:/srv/lib")]),
            ("/usr/lib/x86_64-linux-gnu/libtide.so.1", None, vec![]),
        ] {
            let host = host(search)
                .file(place, "no library, but there")
                .file("/etc/ld.so.conf", "include /etc/ld.so.conf.d/*.conf\n")
                .file("/etc/ld.so.conf.d/x86_64-linux-gnu.conf", "# Multiarch\n/usr/lib/x86_64-linux-gnu\n");
            assert_eq!(lost(&host, &environment), [], "{place}");
        }
    }

    #[test]
    fn a_library_of_a_library_counts_and_circles_end() {
        let host = TextHost::new()
            .bytes("/opt/edge/edge", &executable(&["liba.so"], None))
            .bytes("/usr/lib/liba.so", &executable(&["libb.so"], None))
            .bytes("/usr/lib/libb.so", &executable(&["liba.so", "libc.so"], None));
        assert_eq!(lost(&host, &[]), [("libc.so".to_owned(), "/usr/lib/libb.so".to_owned())]);
    }

    #[test]
    fn scripts_and_broken_files_are_no_executables() {
        let whole = executable(&["liba.so"], None);
        for bytes in
            [b"#!/bin/sh\n".to_vec(), b"\x7fELF".to_vec(), whole[..100].to_vec(), whole[..300].to_vec()]
        {
            assert_eq!(lost(&TextHost::new().bytes("/opt/edge/edge", &bytes), &[]), []);
        }
        for at in 0..whole.len() {
            let mut damaged = whole.clone();
            damaged[at] ^= 0xff;
            let _ = lost(&TextHost::new().bytes("/opt/edge/edge", &damaged), &[]);
        }
    }
}
