//! The dump of Redis: five letters, four digits of its version, records, an end mark, a checksum (CRC-64 with
//! the polynomial of the server's public sources; all zero where it was switched off).
use crate::code::Code;
use crate::config::release::Release;
use crate::host::Look;
use crate::kinds::DataFault;
use crate::snapshot::Snapshot;

const CRC: crc::Crc<u64> = crc::Crc::<u64>::new(&crc::CRC_64_REDIS);
/// Larger dumps are not summed: that would cost more than the answer is worth, in bytes.
const SUMMED: u64 = 64 << 20;
/// The newest version of the dump that a release and those after it read, newest release first.
const READS: &[(&str, u32)] = &[("7.4", 12), ("7.2", 11), ("7.0", 10), ("5.0", 9)];
/// From this one on it is not known here.
const UNKNOWN: &str = "8.2";

/// What is wrong with the dump.
pub(super) fn faults(snapshot: &Snapshot, release: Option<&Release>, file: &str) -> Vec<DataFault> {
    let Some(status) = snapshot.stat(file).seen() else { return vec![] };
    let Look::Seen(head) = snapshot.read_at(file, 0, 9) else { return vec![] };
    let fault =
        |code, message: String, seen: String| vec![DataFault { code, path: file.to_owned(), message, seen }];
    let damaged =
        |seen: &str| fault(Code::DataDamaged, format!("the dump {file} is damaged"), seen.to_owned());
    if status.size == 0 {
        return vec![];
    }
    if !head.starts_with(b"REDIS") {
        return damaged("it does not begin like a dump");
    }
    let Some(version) = head.get(5..9).and_then(|d| std::str::from_utf8(d).ok()?.parse::<u32>().ok()) else {
        return damaged("its version is not a number");
    };
    let known = release.filter(|r| r.flavour == "redis" && !r.reaches(UNKNOWN));
    let newest = known.and_then(|r| READS.iter().find(|(from, _)| r.reaches(from))).map(|(_, v)| *v);
    if let Some(newest) = newest.filter(|n| version > *n) {
        let message = format!(
            "the dump {file} was written by a newer server: its version is {version}, and this server reads \
                up to {newest}"
        );
        return fault(Code::DataVersion, message, format!("version {version}"));
    }
    if version < 5 || status.size > SUMMED {
        return vec![];
    }
    let Look::Seen(bytes) = snapshot.read_at(file, 0, u32::try_from(status.size).unwrap_or(u32::MAX)) else {
        return vec![];
    };
    let Some((body, sum)) = bytes.len().checked_sub(8).map(|at| bytes.split_at(at)) else {
        return damaged("it is cut short");
    };
    let stored = sum.try_into().map(u64::from_le_bytes).unwrap_or(0);
    if body.last() != Some(&0xff) {
        return damaged("it has no end mark: it is cut short");
    }
    if stored != 0 && stored != CRC.checksum(body) {
        damaged("its checksum does not fit its content")
    } else {
        vec![]
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tests::TextHost;

    fn release(version: &str) -> Release {
        Release { flavour: "redis".into(), version: crate::config::release::Version::parse(version).unwrap() }
    }

    fn dump(version: &str) -> Vec<u8> {
        let mut bytes = format!("REDIS{version}").into_bytes();
        bytes.extend([0xfa, 1, b'a', 1, b'b', 0xff]);
        let sum = CRC.checksum(&bytes);
        bytes.extend(sum.to_le_bytes());
        bytes
    }

    #[track_caller]
    fn check(bytes: &[u8], expected: Option<(Code, &str)>) {
        let host = TextHost::new().bytes("/d.rdb", bytes);
        let found = faults(&Snapshot::new(&host), Some(&release("7.0.15")), "/d.rdb");
        assert_eq!(found.first().map(|f| (f.code, f.seen.as_str())), expected);
    }

    #[test]
    fn a_dump_is_whole_newer_cut_short_or_changed() {
        check(&dump("0010"), None);
        check(&dump("0099"), Some((Code::DataVersion, "version 99")));
        check(b"nonsense", Some((Code::DataDamaged, "it does not begin like a dump")));
        check(&dump("00x0"), Some((Code::DataDamaged, "its version is not a number")));
        check(&dump("0010")[..14], Some((Code::DataDamaged, "it has no end mark: it is cut short")));
        let mut changed = dump("0010");
        changed[11] ^= 1;
        check(&changed, Some((Code::DataDamaged, "its checksum does not fit its content")));
        let mut unsummed = dump("0010");
        let end = unsummed.len();
        unsummed[end - 8..].fill(0);
        check(&unsummed, None);
        check(b"", None);
    }
}
