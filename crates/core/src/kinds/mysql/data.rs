//! The data directory of MySQL and MariaDB: the system tables, the control file of Aria, the first page of
//! the system tablespace, the head of the redo log. Layouts as in the server's public sources, compared with
//! files that a server wrote: Aria sums the first 26 bytes with CRC-32; InnoDB closes a page and the log's
//! head with CRC-32C in network order.
use crate::code::Code;
use crate::host::Look;
use crate::kinds::DataFault;
use crate::path;
use crate::snapshot::Snapshot;

const CRC: crc::Crc<u32> = crc::Crc::<u32>::new(&crc::CRC_32_ISO_HDLC);
const CRC_C: crc::Crc<u32> = crc::Crc::<u32>::new(&crc::CRC_32_ISCSI);
/// First bytes of the control file of Aria.
const ARIA: &[u8] = &[0xfe, 0xfe, 0x0c];
/// Size of a page unless the server was built or set up otherwise.
const PAGE: u32 = 16 << 10;
/// Marks tablespaces whose pages end in one checksum over all before it (MariaDB from 10.5 on).
const FULL_CHECKSUM: u32 = 1 << 4;

/// Tells from a file's first bytes what is wrong with it.
type Check = fn(&[u8]) -> Option<String>;

fn number(bytes: &[u8], at: usize) -> Option<u32> {
    Some(u32::from_be_bytes(bytes.get(at..at + 4)?.try_into().ok()?))
}

/// What is wrong with the directory, first cause only.
pub(super) fn faults(snapshot: &Snapshot, dir: &str) -> Vec<DataFault> {
    let Some(entries) = snapshot.list(dir).seen() else { return vec![] };
    // A failed start in an empty directory leaves files behind: the sign is that the system tables are not
    // there.
    if !entries.iter().any(|e| e.name == "mysql" || e.name == "mysql.ibd") {
        let seen = if entries.is_empty() { "it is empty" } else { "it holds no system tables" };
        let message = format!("{dir} is not a data directory of a server: it was never initialised");
        return vec![DataFault { code: Code::DataMissing, path: dir.to_owned(), message, seen: seen.into() }];
    }
    let checks: [(&str, Check); 3] =
        [("aria_log_control", aria), ("ibdata1", tablespace), ("ib_logfile0", redo)];
    for (name, check) in checks {
        let file = path::join(dir, name);
        let Look::Seen(bytes) = snapshot.read_at(&file, 0, PAGE) else { continue };
        if let Some(seen) = check(&bytes) {
            return vec![DataFault {
                code: Code::DataDamaged,
                message: format!("{file} is damaged"),
                path: file,
                seen,
            }];
        }
    }
    vec![]
}

fn aria(bytes: &[u8]) -> Option<String> {
    if !bytes.starts_with(ARIA) {
        return Some("it does not begin like a control file".into());
    }
    if bytes.len() < 52 {
        return Some(format!("only {} bytes long", bytes.len()));
    }
    let stored = u32::from_le_bytes(bytes.get(26..30)?.try_into().ok()?);
    (stored != CRC.checksum(&bytes[..26])).then(|| "its checksum does not fit its content".into())
}

fn tablespace(bytes: &[u8]) -> Option<String> {
    if bytes.len() < PAGE as usize {
        return Some(format!("only {} bytes long", bytes.len()));
    }
    if bytes.iter().all(|b| *b == 0) {
        return Some("its first page is empty".into());
    }
    let flags = number(bytes, 54)?;
    // Older pages may have been summed in three ways; only the newer one is judged.
    if flags & FULL_CHECKSUM == 0 {
        return None;
    }
    let end = bytes.len() - 4;
    (number(bytes, end)? != CRC_C.checksum(&bytes[..end]))
        .then(|| "the checksum of its first page does not fit".into())
}

fn redo(bytes: &[u8]) -> Option<String> {
    // The head of the form with checksums; older and newer ones are left to the server.
    if !bytes.starts_with(b"Phys") {
        return if bytes.len() < 512 {
            None
        } else {
            (bytes[..4] != [0; 4] && bytes[0] > 0x20).then(|| "it does not begin like a redo log".into())
        };
    }
    (number(bytes, 508)? != CRC_C.checksum(&bytes[..508]))
        .then(|| "the checksum of its head does not fit".into())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tests::TextHost;

    const DIR: &str = "/var/lib/mysql";

    fn aria_file() -> Vec<u8> {
        let mut bytes = ARIA.to_vec();
        bytes.resize(26, 7);
        let sum = CRC.checksum(&bytes);
        bytes.extend(sum.to_le_bytes());
        bytes.resize(52, 0);
        bytes
    }

    fn page() -> Vec<u8> {
        let mut bytes = vec![0u8; PAGE as usize - 4];
        bytes[54..58].copy_from_slice(&(FULL_CHECKSUM | 5).to_be_bytes());
        bytes[100] = 9;
        let sum = CRC_C.checksum(&bytes);
        bytes.extend(sum.to_be_bytes());
        bytes
    }

    fn log() -> Vec<u8> {
        let mut bytes = b"Phys".to_vec();
        bytes.resize(508, 3);
        let sum = CRC_C.checksum(&bytes);
        bytes.extend(sum.to_be_bytes());
        bytes.resize(2048, 0);
        bytes
    }

    fn data(aria: &[u8], page: &[u8], log: &[u8]) -> TextHost {
        TextHost::new()
            .dir(&format!("{DIR}/mysql"), 0o700, 0)
            .bytes(&format!("{DIR}/aria_log_control"), aria)
            .bytes(&format!("{DIR}/ibdata1"), page)
            .bytes(&format!("{DIR}/ib_logfile0"), log)
    }

    #[track_caller]
    fn check(host: &TextHost, expected: Option<(Code, &str)>) {
        let found = faults(&Snapshot::new(host), DIR);
        assert_eq!(found.first().map(|f| (f.code, crate::path::name(&f.path))), expected, "{found:?}");
    }

    fn flipped(mut bytes: Vec<u8>, at: usize) -> Vec<u8> {
        bytes[at] ^= 0x40;
        bytes
    }

    #[test]
    fn whole_data_have_no_fault_and_each_damage_is_told() {
        check(&data(&aria_file(), &page(), &log()), None);
        check(&data(b"nonsense", &page(), &log()), Some((Code::DataDamaged, "aria_log_control")));
        check(
            &data(&flipped(aria_file(), 9), &page(), &log()),
            Some((Code::DataDamaged, "aria_log_control")),
        );
        check(&data(&aria_file()[..40], &page(), &log()), Some((Code::DataDamaged, "aria_log_control")));
        check(&data(&aria_file(), &flipped(page(), 100), &log()), Some((Code::DataDamaged, "ibdata1")));
        check(&data(&aria_file(), &vec![0; PAGE as usize], &log()), Some((Code::DataDamaged, "ibdata1")));
        check(&data(&aria_file(), &page(), &flipped(log(), 30)), Some((Code::DataDamaged, "ib_logfile0")));
    }

    #[test]
    fn a_directory_without_system_tables_was_never_initialised() {
        check(&TextHost::new().dir(DIR, 0o755, 0), Some((Code::DataMissing, "mysql")));
        check(&TextHost::new().bytes(&format!("{DIR}/ibdata1"), &page()), Some((Code::DataMissing, "mysql")));
        check(&TextHost::new(), None);
    }

    #[test]
    fn older_pages_are_not_judged() {
        let mut old = page();
        old[54..58].copy_from_slice(&0u32.to_be_bytes());
        check(&data(&aria_file(), &old, &log()), None);
    }
}
