//! Which pieces of a log are read, and from where, so that the last attempts are in it.
use super::Attempt;
use super::index::Hit;
use super::pieces::{Packing, Piece};
use super::request::{Request, is_begin};
use super::scan::{Start, last_begins, offset_of_time};
use crate::bounds;
use crate::snapshot::Snapshot;

/// Histories shorter than this are read from their end, and no more than is needed of them.
const WHOLE: usize = 2000;

/// What is read of a log.
#[derive(Default)]
pub(super) struct Chosen {
    /// Newest first.
    pub(super) pieces: Vec<Piece>,
    /// Where to begin in the oldest of them.
    pub(super) offset: u64,
    /// The marks from there on, where they are known, with their lines counted from there where all are.
    pub(super) marks: Option<Vec<Hit>>,
}

/// Chooses the pieces of a log, and where to begin in them, so that the attempts that are asked for are in
/// it.
pub(super) fn choose(
    snapshot: &Snapshot,
    request: &Request,
    all: Vec<Piece>,
    known: &[Attempt],
    shift: i64,
) -> Chosen {
    // What the manager does not remember may be told before its record begins.
    if request.most >= WHOLE || (request.count_all && !known.is_empty() && known.len() < request.most) {
        return Chosen { pieces: all, ..Chosen::default() };
    }
    let grammar = request.grammar;
    let mut chosen = Vec::new();
    if !known.is_empty() {
        let since = known.iter().rev().take(request.most.max(1)).map(|a| a.began).min().unwrap_or(0)
            - 5_000_000
            - shift;
        // Where the clock was put back, stamps of before are later ones.
        let since = since - super::zone::put_back(since, since, request.zone).map_or(0, |by| 2 * by);
        for piece in all {
            // A predecessor that was last written before is of older attempts alone.
            if !chosen.is_empty() && piece.modified > 0 && (piece.modified + 2) * 1_000_000 < since {
                break;
            }
            if piece.packing != Packing::Plain {
                chosen.push(piece);
                continue;
            }
            let offset = offset_of_time(snapshot, &piece, grammar, request.zone, since);
            chosen.push(piece);
            if offset > 0 {
                return Chosen { pieces: chosen, offset, marks: None };
            }
        }
        return Chosen { pieces: chosen, ..Chosen::default() };
    }
    let mut wanted = request.most.max(1);
    let (mut read, mut known_marks) = (0u64, None);
    for piece in all {
        if piece.packing != Packing::Plain {
            // What is packed cannot be read from its end; it is read whole, and its attempts are counted
            // afterwards.
            chosen.push(piece);
            known_marks = None;
            wanted = wanted.saturating_sub(1);
            if wanted == 0 {
                break;
            }
            continue;
        }
        let begins = |line: &str, earlier: Option<&str>| is_begin(request, line, earlier);
        // What lies beyond the bound is not read afterwards either.
        let floor = piece.size.saturating_sub(bounds::LOG.saturating_sub(read));
        read = read.saturating_add(piece.size);
        match last_begins(snapshot.host(), &piece, grammar, begins, wanted, (floor, request.count_all)) {
            Start::At(offset, marks) => {
                chosen.push(piece);
                return Chosen { pieces: chosen, offset, marks: Some(marks) };
            }
            Start::Before(left, marks) => {
                chosen.push(piece);
                (wanted, known_marks) = (left, marks);
                if floor > 0 {
                    break;
                }
            }
        }
    }
    // The oldest was searched whole: it need not be a second time.
    Chosen { pieces: chosen, offset: 0, marks: known_marks }
}
