//! The data directory of PostgreSQL: `PG_VERSION`, the control file with its checksum, the transaction log.
//! The layout is that of the server's public headers (`catalog/pg_control.h`): the checksum (CRC-32C) is the
//! last field and covers all before it.
use crate::code::Code;
use crate::host::Look;
use crate::kinds::DataFault;
use crate::path;
use crate::snapshot::Snapshot;

const CRC: crc::Crc<u32> = crc::Crc::<u32>::new(&crc::CRC_32_ISCSI);
/// Where the checksum stood in the releases from 9.6 on, generously.
const CHECKSUM_AT: std::ops::Range<usize> = 200..400;

fn fault(code: Code, path: String, message: String, seen: String) -> Vec<DataFault> {
    vec![DataFault { code, path, message, seen }]
}

/// What is wrong with the directory, first cause only.
pub(super) fn faults(snapshot: &Snapshot, server: Option<&str>, dir: &str) -> Vec<DataFault> {
    let version_file = path::join(dir, "PG_VERSION");
    let version = match snapshot.text(&version_file) {
        Look::Seen(text) => text.trim().to_owned(),
        Look::Absent => {
            let empty = snapshot.list(dir).seen().is_some_and(|l| l.is_empty());
            let seen = if empty { "it is empty" } else { "it holds no PG_VERSION" };
            return fault(
                Code::DataMissing,
                dir.to_owned(),
                format!("{dir} is not a data directory of PostgreSQL: it was never initialised"),
                seen.into(),
            );
        }
        Look::NotSeen(_) => return vec![],
    };
    if let Some(server) = server.filter(|s| *s != version && !version.is_empty()) {
        let message =
            format!("the data in {dir} were written by PostgreSQL {version}, but the server is {server}");
        return fault(Code::DataVersion, dir.to_owned(), message, format!("PG_VERSION says {version}"));
    }
    let mode = snapshot.stat(dir).seen().map_or(0, |s| s.mode & 0o7777);
    if mode & 0o027 != 0 {
        let message = format!(
            "{dir} is open to others, and the server refuses that: only its owner, and at most its group for \
                reading, may enter"
        );
        return fault(
            Code::PermissionDenied,
            dir.to_owned(),
            message,
            format!("mode {mode:04o}, expected 0700 or 0750"),
        );
    }
    let mut found = control(snapshot, dir);
    if found.is_empty() {
        found = log(snapshot, dir);
    }
    found
}

/// Size of a segment of the log, in bytes, as the control file has it: it stands behind the sizes of a
/// block, of
/// a file of a table and of a block of the log, which nobody builds otherwise.
pub(super) fn segment(snapshot: &Snapshot, dir: &str) -> Option<u64> {
    let bytes = snapshot.read_at(&path::join(dir, "global/pg_control"), 0, 512).seen()?;
    let mark: Vec<u8> = [8192u32, 131_072, 8192].iter().flat_map(|n| n.to_le_bytes()).collect();
    let at = bytes.windows(mark.len()).position(|w| w == mark)? + mark.len();
    let size = u32::from_le_bytes(bytes.get(at..at + 4)?.try_into().ok()?);
    size.is_power_of_two().then_some(u64::from(size))
}

fn control(snapshot: &Snapshot, dir: &str) -> Vec<DataFault> {
    let file = path::join(dir, "global/pg_control");
    let damaged = |seen: String| {
        fault(Code::DataDamaged, file.clone(), format!("the control file {file} is damaged"), seen)
    };
    match snapshot.read_at(&file, 0, 512) {
        Look::Absent => fault(
            Code::DataDamaged,
            file.clone(),
            format!("the control file {file} does not exist"),
            "not there".into(),
        ),
        Look::NotSeen(_) => vec![],
        Look::Seen(bytes) if bytes.len() < CHECKSUM_AT.end => {
            damaged(format!("only {} bytes long", bytes.len()))
        }
        Look::Seen(bytes) => {
            let right = CHECKSUM_AT.step_by(4).any(|at| {
                let stored = bytes.get(at..at + 4).and_then(|b| b.try_into().ok()).map(u32::from_le_bytes);
                stored == bytes.get(..at).map(|b| CRC.checksum(b))
            });
            if right { vec![] } else { damaged("its checksum does not fit its content".into()) }
        }
    }
}

fn log(snapshot: &Snapshot, dir: &str) -> Vec<DataFault> {
    let wal = path::join(dir, "pg_wal");
    let Some(entries) = snapshot.list(&wal).seen() else { return vec![] };
    let segments = entries
        .iter()
        .filter(|e| e.name.len() == 24 && e.name.bytes().all(|b| b.is_ascii_hexdigit()))
        .count();
    if segments > 0 {
        return vec![];
    }
    fault(
        Code::DataDamaged,
        wal.clone(),
        format!("the transaction log in {wal} no longer exists"),
        "no segment exists".into(),
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tests::TextHost;

    const DIR: &str = "/var/lib/postgresql/15/main";

    /// A control file with a right checksum behind its content.
    fn control_file() -> Vec<u8> {
        let mut bytes: Vec<u8> = (0..288u32).map(|n| u8::try_from(n % 251).unwrap()).collect();
        let sum = CRC.checksum(&bytes);
        bytes.extend(sum.to_le_bytes());
        bytes.resize(8192, 0);
        bytes
    }

    fn cluster(control: &[u8]) -> TextHost {
        TextHost::new()
            .dir(DIR, 0o700, 0)
            .file(&format!("{DIR}/PG_VERSION"), "15\n")
            .bytes(&format!("{DIR}/global/pg_control"), control)
            .file(&format!("{DIR}/pg_wal/000000010000000000000001"), "")
    }

    #[track_caller]
    fn check(host: &TextHost, expected: Option<(Code, &str)>) {
        let found = faults(&Snapshot::new(host), Some("15"), DIR);
        assert_eq!(found.first().map(|f| (f.code, f.seen.as_str())), expected, "{found:?}");
    }

    #[test]
    fn a_whole_cluster_has_no_fault_and_each_damage_is_told() {
        check(&cluster(&control_file()), None);
        let mut flipped = control_file();
        flipped[40] ^= 1;
        check(&cluster(&flipped), Some((Code::DataDamaged, "its checksum does not fit its content")));
        check(&cluster(&control_file()[..100]), Some((Code::DataDamaged, "only 100 bytes long")));
        check(
            &cluster(&control_file()).without(&format!("{DIR}/global/pg_control")),
            Some((Code::DataDamaged, "not there")),
        );
        check(
            &cluster(&control_file()).without(&format!("{DIR}/pg_wal/000000010000000000000001")),
            Some((Code::DataDamaged, "no segment exists")),
        );
    }

    #[test]
    fn an_empty_foreign_or_open_directory_is_told_before_its_content() {
        check(&TextHost::new().dir(DIR, 0o700, 0), Some((Code::DataMissing, "it is empty")));
        check(
            &cluster(&control_file()).file(&format!("{DIR}/PG_VERSION"), "14\n"),
            Some((Code::DataVersion, "PG_VERSION says 14")),
        );
        check(
            &cluster(&control_file()).dir(DIR, 0o777, 0),
            Some((Code::PermissionDenied, "mode 0777, expected 0700 or 0750")),
        );
        check(&cluster(&control_file()).dir(DIR, 0o750, 0), None);
    }
}
