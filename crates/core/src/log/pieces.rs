//! A log with its rotated predecessors: which files belong to it, in which order, and their bytes, unpacked.
use crate::host::FileKind;
use crate::path;
use crate::snapshot::Snapshot;
use std::cell::Cell;
use std::io::Read;

/// How a file is packed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Packing {
    /// Not at all.
    Plain,
    /// gzip (RFC 1952).
    Gzip,
    /// Zstandard (RFC 8878).
    Zstandard,
    /// xz.
    Xz,
    /// bzip2.
    Bzip2,
}

/// One file of a log.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Piece {
    pub(super) path: String,
    pub(super) size: u64,
    pub(super) packing: Packing,
    /// Last change, seconds since the epoch.
    pub(super) modified: i64,
}

/// Most predecessors that are looked at.
const MOST: usize = 400;
/// How much is read at once, in bytes: what was just read is still in the cache when it is searched.
pub(super) const BLOCK: u32 = 128 << 10;

/// What stands behind a log's name when it was rotated: a smaller rank is newer.
fn rank(rest: &str) -> Option<(u8, i64)> {
    let digits = |t: &str| !t.is_empty() && t.bytes().all(|b| b.is_ascii_digit());
    if let Some(number) = rest.strip_prefix('.').filter(|n| digits(n) && n.len() < 6) {
        return Some((0, number.parse().ok()?));
    }
    // -20310402, -2031-04-02, -2031040206, -20310402-1932876611, and epoch seconds: the later one is the
    // newer.
    let date = rest.strip_prefix(['-', '.', '_'])?;
    let plain: String = date.chars().filter(|c| c.is_ascii_digit()).collect();
    let shaped = date.bytes().all(|b| b.is_ascii_digit() || b == b'-' || b == b'.') && plain.len() >= 8;
    let leading: String = plain.chars().take(18).collect();
    shaped.then_some(())?;
    Some((1, -leading.parse::<i64>().ok()?))
}

fn packing(name: &str) -> (&str, Packing) {
    for (ending, packing) in
        [(".gz", Packing::Gzip), (".zst", Packing::Zstandard), (".xz", Packing::Xz), (".bz2", Packing::Bzip2)]
    {
        if let Some(stem) = name.strip_suffix(ending) {
            return (stem, packing);
        }
    }
    (name, Packing::Plain)
}

/// The name of the log that a file is a predecessor of, by its name; its own where it is none.
pub fn unrotated(name: &str) -> &str {
    let (stem, _) = packing(name);
    let cut = stem.char_indices().filter(|(_, c)| matches!(c, '.' | '-' | '_')).map(|(at, _)| at);
    // The first place behind which nothing but a number or a date stands.
    let found = cut.into_iter().find(|at| *at > 0 && rank(&stem[*at..]).is_some());
    found.map_or(stem, |at| &stem[..at])
}

/// The files of a log, by their paths.
pub fn files_of(snapshot: &Snapshot, log: &str) -> Vec<String> {
    pieces(snapshot, log).into_iter().map(|p| p.path).collect()
}

/// A name that carries its own date, and perhaps a time behind it, split around them:
/// `catalina.2031-04-02.log`, `postgresql-2031-04-02_061011.log`.
fn around_date(name: &str) -> Option<(&str, &str)> {
    let at = name.as_bytes().windows(10).position(|w| {
        w.iter().enumerate().all(|(i, b)| if matches!(i, 4 | 7) { *b == b'-' } else { b.is_ascii_digit() })
    })?;
    let after = &name[at + 10..];
    let time = after.strip_prefix(['_', '-', 'T', '.']).unwrap_or_default();
    let digits = time.bytes().take_while(u8::is_ascii_digit).count();
    let after = if matches!(digits, 2 | 4 | 6) { &after[1 + digits..] } else { after };
    Some((&name[..at], after))
}

/// The digits of a name's own date and time.
fn own_date(name: &str, before: &str, after: &str) -> Option<String> {
    let inner = name.strip_prefix(before)?.strip_suffix(after)?;
    let shaped = inner.len() >= 10 && around_date(name) == Some((before, after));
    shaped.then(|| format!("-{}", inner.replace(['_', 'T'], "-")))
}

/// A name that ends in the second of the epoch at which the file was begun: `errors.1932768000`.
fn around_moment(name: &str) -> Option<(&str, i64)> {
    let (before, number) = name.rsplit_once('.')?;
    let shaped = number.len() >= 9 && number.bytes().all(|b| b.is_ascii_digit());
    shaped.then(|| number.parse().ok()).flatten().map(|number| (before, number))
}

/// The files of a log, the newest first; the log itself is the first one where it is there.
pub(super) fn pieces(snapshot: &Snapshot, log: &str) -> Vec<Piece> {
    let (dir, base) = (path::parent(log), path::name(log));
    let piece = |path: String, packing| {
        let status = snapshot.stat(&path).seen().filter(|s| s.kind == FileKind::Regular)?;
        Some(Piece { path, size: status.size, packing, modified: status.modified })
    };
    let mut found: Vec<Piece> = piece(log.to_owned(), Packing::Plain).into_iter().collect();
    let (stem, ending) = base.rsplit_once('.').unwrap_or((base, ""));
    let (dated, moment) = (around_date(base), around_moment(base));
    let mut older: Vec<((u8, i64), Piece)> = Vec::new();
    for entry in snapshot.list(dir).seen().unwrap_or_default() {
        let (name, packing) = packing(&entry.name);
        if name == base && packing == Packing::Plain {
            continue;
        }
        let behind = name.strip_prefix(base).and_then(rank);
        // Some keep the ending at the end: `error-20310401.log`.
        let inside = || {
            name.strip_prefix(stem)?
                .strip_suffix(ending)?
                .strip_suffix('.')
                .filter(|_| !ending.is_empty())
                .and_then(rank)
        };
        let of_day = || {
            let (before, after) = dated?;
            rank(&own_date(name, before, after)?)
        };
        let of_moment = || {
            let (before, own) = moment?;
            let (_, number) = around_moment(name).filter(|(b, n)| *b == before && *n < own)?;
            Some((1, -number))
        };
        if let Some(rank) = behind.or_else(inside).or_else(of_day).or_else(of_moment)
            && let Some(piece) = piece(path::join(dir, &entry.name), packing)
        {
            older.push((rank, piece));
        }
    }
    // The time of the last change orders what names leave open, such as numbers beside dates.
    older.sort_by(|(a, x), (b, y)| if a.0 == b.0 { a.1.cmp(&b.1) } else { y.modified.cmp(&x.modified) });
    // A change of the packing leaves two files of one number: the newer one is meant.
    older.dedup_by(|(a, x), (b, y)| {
        let same = a == b && a.0 == 0;
        if same && x.modified > y.modified {
            std::mem::swap(x, y);
        }
        same
    });
    found.extend(older.into_iter().take(MOST).map(|(_, p)| p));
    found
}

/// The newest predecessor of a log that holds anything.
pub fn predecessor(snapshot: &Snapshot, log: &str) -> Option<String> {
    pieces(snapshot, log).into_iter().find(|p| p.path != log && p.size > 0).map(|p| p.path)
}

/// Bytes of a file of a host, in order.
struct Bytes<'s, 'h> {
    snapshot: &'s Snapshot<'h>,
    path: &'s str,
    at: u64,
    block: std::sync::Arc<[u8]>,
    used: usize,
}

impl Read for Bytes<'_, '_> {
    fn read(&mut self, out: &mut [u8]) -> std::io::Result<usize> {
        if self.used == self.block.len() {
            let block = self.snapshot.read_at(self.path, self.at, BLOCK).seen();
            self.block = block.ok_or_else(|| std::io::Error::other("it cannot be read"))?;
            self.at += self.block.len() as u64;
            self.used = 0;
        }
        let rest = &self.block[self.used..];
        let length = rest.len().min(out.len());
        out[..length].copy_from_slice(&rest[..length]);
        self.used += length;
        Ok(length)
    }
}

/// Where unpacked bytes go, block by block. It says whether it wants more.
pub(super) trait Sink {
    /// Takes a block; `false` ends the reading.
    fn take(&mut self, block: &[u8]) -> bool;
}

/// Everything that is left of a reader, block by block.
fn drain(mut reader: impl Read, sink: &mut dyn Sink, left: &Cell<u64>) -> std::io::Result<()> {
    let mut block = vec![0u8; BLOCK as usize];
    loop {
        let mut filled = 0;
        while filled < block.len() {
            match reader.read(&mut block[filled..]) {
                Ok(0) => break,
                Ok(length) => filled += length,
                Err(error) => {
                    // What came before the damage is still good.
                    sink.take(&block[..filled]);
                    return Err(error);
                }
            }
        }
        // A small file can unpack without end.
        left.set(left.get().saturating_sub(filled as u64));
        if filled == 0 || !sink.take(&block[..filled]) || filled < block.len() || left.get() == 0 {
            return Ok(());
        }
    }
}

/// Feeds a piece's bytes from an offset (of plain files only) to a sink.
///
/// # Errors A sentence where the packing is damaged, or needs more memory than it may have; what came before
/// it was fed. `left` is what may still be unpacked, in bytes; at 0 the feeding has ended there.
pub(super) fn feed(
    snapshot: &Snapshot,
    piece: &Piece,
    from: u64,
    sink: &mut dyn Sink,
    left: &Cell<u64>,
) -> Result<(), String> {
    if piece.packing == Packing::Plain {
        let mut at = from;
        // What is written meanwhile is left for the next look.
        while at < piece.size {
            let length = u64::from(BLOCK).min(piece.size - at);
            let Some(block) =
                snapshot.read_at(&piece.path, at, u32::try_from(length).unwrap_or(BLOCK)).seen()
            else {
                break;
            };
            if block.is_empty() || !sink.take(&block) {
                break;
            }
            at += block.len() as u64;
        }
        return Ok(());
    }
    let bytes = Bytes { snapshot, path: &piece.path, at: 0, block: Vec::new().into(), used: 0 };
    let outcome = match piece.packing {
        Packing::Gzip => drain(flate2::read::MultiGzDecoder::new(bytes), sink, left),
        Packing::Zstandard => zstd::stream::read::Decoder::new(bytes).and_then(|mut d| {
            d.window_log_max(crate::bounds::WINDOW_LOG)?;
            drain(d, sink, left)
        }),
        Packing::Bzip2 => drain(bzip2::read::MultiBzDecoder::new(bytes), sink, left),
        Packing::Xz => drain(
            lzma_rust2::XzReader::new_mem_limit(bytes, true, (1 << crate::bounds::WINDOW_LOG >> 10) + 1024),
            sink,
            left,
        ),
        Packing::Plain => Ok(()),
    };
    outcome.map_err(|error| {
        format!("{}: the packing is damaged ({error}); what came before was read", piece.path)
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tests::TextHost;
    use std::io::Write;

    struct All(Vec<u8>);
    impl Sink for All {
        fn take(&mut self, block: &[u8]) -> bool {
            self.0.extend_from_slice(block);
            true
        }
    }

    #[test]
    fn predecessors_are_known_by_number_and_by_date_and_others_are_not() {
        let mut host = TextHost::new();
        for name in [
            "error.log",
            "error.log.1",
            "error.log.2.gz",
            "error.log.10.xz",
            "access.log.1",
            "error.log.old",
            "error.log.1.orig",
            "error.logs",
        ] {
            host = host.file(&format!("/var/log/a/{name}"), "x");
        }
        for name in [
            "b.log",
            "b.log-20310401.gz",
            "b.log-20310402",
            "b.log-2031-04-03",
            "b-20310330.log",
            "b.log-20310402-1932876611",
        ] {
            host = host.file(&format!("/var/log/b/{name}"), "x");
        }
        for name in [
            "catalina.2031-04-02.log",
            "catalina.2031-04-01.log",
            "catalina.2031-03-31.log.gz",
            "localhost.2031-04-01.log",
            "catalina.out",
        ] {
            host = host.file(&format!("/var/log/c/{name}"), "x");
        }
        for name in [
            "quay.1932768000",
            "quay.1932854400",
            "quay.1932681600.gz",
            "quay.1932940800",
            "quay.7",
            "pier.1932768000",
        ] {
            host = host.file(&format!("/var/log/d/{name}"), "x");
        }
        let snapshot = Snapshot::new(&host);
        let names = |log: &str| {
            pieces(&snapshot, log).iter().map(|p| path::name(&p.path).to_owned()).collect::<Vec<_>>()
        };
        assert_eq!(
            names("/var/log/a/error.log"),
            ["error.log", "error.log.1", "error.log.2.gz", "error.log.10.xz"]
        );
        assert_eq!(
            names("/var/log/b/b.log"),
            [
                "b.log",
                "b.log-20310402-1932876611",
                "b.log-2031-04-03",
                "b.log-20310402",
                "b.log-20310401.gz",
                "b-20310330.log"
            ]
        );
        assert_eq!(
            names("/var/log/c/catalina.2031-04-02.log"),
            ["catalina.2031-04-02.log", "catalina.2031-04-01.log", "catalina.2031-03-31.log.gz"]
        );
        assert_eq!(
            names("/var/log/d/quay.1932854400"),
            ["quay.1932854400", "quay.1932768000", "quay.1932681600.gz"]
        );
    }

    #[test]
    fn of_two_packings_of_one_number_the_newer_one_is_meant() {
        let host = TextHost::new()
            .file("/var/log/e.log", "x")
            .file("/var/log/e.log.2.gz", "old")
            .file("/var/log/e.log.2.zst", "new")
            .modified("/var/log/e.log.2.gz", 100)
            .modified("/var/log/e.log.2.zst", 200);
        let found = pieces(&Snapshot::new(&host), "/var/log/e.log");
        assert_eq!(
            found.iter().map(|p| p.path.as_str()).collect::<Vec<_>>(),
            ["/var/log/e.log", "/var/log/e.log.2.zst"]
        );
    }

    fn packed(packing: Packing, text: &[u8]) -> Vec<u8> {
        match packing {
            Packing::Plain => text.to_vec(),
            Packing::Gzip => {
                let mut out = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::default());
                out.write_all(text).unwrap();
                out.finish().unwrap()
            }
            Packing::Zstandard => zstd::encode_all(text, 1).unwrap(),
            Packing::Bzip2 => {
                let mut out = bzip2::write::BzEncoder::new(Vec::new(), bzip2::Compression::fast());
                out.write_all(text).unwrap();
                out.finish().unwrap()
            }
            Packing::Xz => {
                let mut out = Vec::new();
                lzma_rs::xz_compress(&mut std::io::BufReader::new(text), &mut out).unwrap();
                out
            }
        }
    }

    #[test]
    fn several_streams_in_one_file_are_read_and_what_unpacks_without_end_stops_at_its_bound() {
        for (ending, packing) in [
            (".gz", Packing::Gzip),
            (".zst", Packing::Zstandard),
            (".bz2", Packing::Bzip2),
            (".xz", Packing::Xz),
        ] {
            let bytes = [packed(packing, b"one\n"), packed(packing, b"two\n")].concat();
            let name = format!("/log.1{ending}");
            let host = TextHost::new().bytes(&name, &bytes);
            let piece = Piece { path: name.clone(), size: bytes.len() as u64, packing, modified: 0 };
            let mut all = All(Vec::new());
            let left = Cell::new(u64::MAX);
            feed(&Snapshot::new(&host), &piece, 0, &mut all, &left).unwrap();
            assert_eq!(all.0, b"one\ntwo\n", "{packing:?}");
            let bomb = packed(packing, &vec![b'x'; 8 << 20]);
            let host = TextHost::new().bytes(&name, &bomb);
            let piece = Piece { path: name, size: bomb.len() as u64, packing, modified: 0 };
            let (mut all, left) = (All(Vec::new()), Cell::new(1 << 20));
            feed(&Snapshot::new(&host), &piece, 0, &mut all, &left).unwrap();
            assert!(
                left.get() == 0 && all.0.len() <= (1 << 20) + BLOCK as usize,
                "{packing:?}: {}",
                all.0.len()
            );
        }
    }

    #[test]
    fn every_packing_is_undone_and_damage_keeps_what_came_before() {
        let text: Vec<u8> = (0..40_000)
            .flat_map(|n| format!("line {n} of the tide log, {}\n", n * 7919 % 1013).into_bytes())
            .collect();
        for (ending, packing) in [
            ("", Packing::Plain),
            (".gz", Packing::Gzip),
            (".zst", Packing::Zstandard),
            (".bz2", Packing::Bzip2),
            (".xz", Packing::Xz),
        ] {
            let bytes = packed(packing, &text);
            let name = format!("/log.1{ending}");
            let read = |bytes: &[u8]| {
                let host = TextHost::new().bytes(&name, bytes);
                let piece = Piece { path: name.clone(), size: bytes.len() as u64, packing, modified: 0 };
                let mut all = All(Vec::new());
                let outcome = feed(&Snapshot::new(&host), &piece, 0, &mut all, &Cell::new(u64::MAX));
                (outcome, all.0)
            };
            let (outcome, whole) = read(&bytes);
            assert!(outcome.is_ok() && whole == text, "{packing:?}: {outcome:?}, {} bytes", whole.len());
            if packing != Packing::Plain {
                let (outcome, part) = read(&bytes[..bytes.len() * 3 / 4]);
                assert!(outcome.is_err_and(|e| e.contains("damaged")), "{packing:?}");
                assert!(text.starts_with(&part), "{packing:?}");
                let (outcome, part) = read(b"no packing at all");
                assert!(outcome.is_err() && part.is_empty(), "{packing:?}");
            }
        }
    }
}
