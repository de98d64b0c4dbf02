//! Where in a long log the words of marks stand, found out before a line of it is read: the rest is passed
//! over. The search is spread over the processors, because nothing of it depends on what came before; what it
//! found is taken in order.
use super::grammar::{Around, Finder, Grammar};
use super::pieces::BLOCK;
use crate::host::{Host, Look};
use jiff::tz::TimeZone;
use memchr::{memchr, memchr_iter};
use std::collections::BTreeMap;
use std::num::NonZero;
use std::sync::{Condvar, Mutex, MutexGuard, PoisonError};

/// Words of a mark.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Hit {
    /// Where they begin in the file.
    pub(super) at: u64,
    /// Ends of lines between the block's begin and them, where lines are counted.
    pub(super) newlines: u32,
}

/// What one block holds.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Block {
    pub(super) start: u64,
    pub(super) end: u64,
    /// Ends of lines in it, where they are counted.
    pub(super) newlines: u32,
    /// Words of marks that begin in it, one a line.
    pub(super) hits: Vec<Hit>,
    /// Whether it holds more of them than are kept.
    pub(super) dense: bool,
    /// The stamp of the first line that begins in it, where times were asked for and one has a stamp.
    pub(super) stamp: Option<i64>,
}

/// What is looked for in which part of a file.
#[derive(Clone, Copy)]
pub(super) struct Search<'d> {
    pub(super) host: &'d dyn Host,
    pub(super) path: &'d str,
    pub(super) from: u64,
    pub(super) to: u64,
    pub(super) grammar: &'d Grammar,
    /// Whether lines are counted.
    pub(super) counted: bool,
    /// Zone and last change, where the times of blocks matter.
    pub(super) times: Option<(&'d TimeZone, Option<i64>)>,
    /// Most words of a block that are kept.
    pub(super) most: usize,
}

/// Most words of a block that are kept one by one; of more the block is read whole.
pub(super) const MOST: usize = 2048;
/// So many blocks are worth another thread.
const SHARED: usize = 4;
/// Blocks at the end that one thread searches, when the search goes backwards.
const NEAR: usize = 16;
/// Blocks that are searched before what comes ahead of them is taken.
const AHEAD: usize = 32;
/// Size of the blocks that are searched, in bytes: they fit into a processor's own memory, and the threads
/// seldom meet.
const STRETCH: u64 = 4 * BLOCK as u64;
/// How much is looked at of each of the places from which a sample is taken, in bytes.
const SAMPLE: usize = 8 << 10;

/// What the threads of a search share.
#[derive(Default)]
struct State {
    /// The next block that nobody searches yet.
    next: usize,
    /// The next block to be taken.
    taken: usize,
    found: BTreeMap<usize, Option<Block>>,
    ended: bool,
}

/// A search on several threads.
struct Crew<'d> {
    search: &'d Search<'d>,
    /// What finds the marks.
    finder: Option<Finder>,
    /// Whether the last block is the first one.
    backwards: bool,
    state: Mutex<State>,
    news: Condvar,
}

/// Ends the helpers' work, however the search ends.
struct End<'c, 'd>(&'c Crew<'d>);

impl Drop for End<'_, '_> {
    fn drop(&mut self) {
        self.0.state().ended = true;
        self.0.news.notify_all();
    }
}

/// A block that is being searched: it comes to an end whatever happens, so that nobody waits for it in vain.
struct Slot<'c, 'd> {
    crew: &'c Crew<'d>,
    at: usize,
    block: Option<Block>,
}

impl Drop for Slot<'_, '_> {
    fn drop(&mut self) {
        self.crew.state().found.insert(self.at, self.block.take());
        self.crew.news.notify_all();
    }
}

impl Crew<'_> {
    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Searches the next block that is free; gives the lock back where none is for now.
    fn step<'s>(
        &'s self,
        mut state: MutexGuard<'s, State>,
        room: &mut Vec<u8>,
    ) -> Result<(), MutexGuard<'s, State>> {
        let at = state.next;
        let count = self.search.count();
        if at >= count || at >= state.taken + AHEAD {
            return Err(state);
        }
        state.next += 1;
        drop(state);
        let mut slot = Slot { crew: self, at, block: None };
        let number = if self.backwards { count - 1 - at } else { at };
        let mark = |bytes: &[u8]| self.finder.as_ref()?.find(bytes);
        slot.block = self.search.block(number, mark, room);
        Ok(())
    }

    fn help(&self) {
        let mut room = Vec::new();
        loop {
            let state = self.state();
            if state.ended || state.next >= self.search.count() {
                return;
            }
            if let Err(state) = self.step(state, &mut room) {
                drop(self.news.wait(state));
            }
        }
    }

    /// A block's turn has come.
    fn take(&self, at: usize, room: &mut Vec<u8>) -> Option<Block> {
        loop {
            let mut state = self.state();
            if let Some(block) = state.found.remove(&at) {
                state.taken = at + 1;
                self.news.notify_all();
                return block;
            }
            if let Err(state) = self.step(state, room) {
                drop(self.news.wait(state));
            }
        }
    }
}

impl Search<'_> {
    /// Number of blocks.
    fn count(&self) -> usize {
        usize::try_from((self.to.saturating_sub(self.from)).div_ceil(STRETCH)).unwrap_or(usize::MAX)
    }

    /// Gives every block on, in order, until it is said that there were enough, or one cannot be read.
    pub(super) fn each(&self, take: impl FnMut(Block) -> bool) {
        self.spread(false, take);
    }

    fn spread(&self, backwards: bool, mut take: impl FnMut(Block) -> bool) {
        let count = self.count();
        let helpers = if count < SHARED {
            0
        } else {
            std::thread::available_parallelism().map_or(1, NonZero::get).min(4) - 1
        };
        let crew = Crew {
            search: self,
            finder: self.finder(),
            backwards,
            state: Mutex::default(),
            news: Condvar::new(),
        };
        std::thread::scope(|scope| {
            let _end = End(&crew);
            for _ in 0..helpers {
                // Without another thread the work is done all the same.
                let _ = std::thread::Builder::new().spawn_scoped(scope, || crew.help());
            }
            let mut room = Vec::new();
            for at in 0..count {
                if !crew.take(at, &mut room).is_some_and(&mut take) {
                    break;
                }
            }
        });
    }

    /// The same from the end. What is looked for is mostly near, and one thread finds it; what is far is
    /// looked for on all processors.
    pub(super) fn each_backwards(&self, mut take: impl FnMut(Block) -> bool) {
        let mut room = Vec::new();
        let mut end = self.to;
        let mark = |bytes: &[u8]| self.grammar.find_mark(bytes);
        for _ in 0..NEAR {
            let start = end.saturating_sub(u64::from(BLOCK)).max(self.from);
            if start == end || !self.stretch(start, end, mark, &mut room).is_some_and(&mut take) {
                return;
            }
            end = start;
        }
        Self { to: end, ..*self }.spread(true, take);
    }

    /// By what is rare in this part of the file.
    fn finder(&self) -> Option<Finder> {
        let mut sample = vec![0; 4 * SAMPLE];
        let mut filled = 0;
        // A short one is read before a sample is.
        for n in (1..=4).filter(|_| self.count() >= 16) {
            let at = self.from + (self.to - self.from) / 5 * n;
            if let Look::Seen(read) = self.host.read_into(self.path, at, &mut sample[filled..filled + SAMPLE])
            {
                filled += read;
            }
        }
        self.grammar.finder_for(&sample[..filled])
    }

    fn block(&self, at: usize, mark: impl Fn(&[u8]) -> Option<usize>, room: &mut Vec<u8>) -> Option<Block> {
        let start = self.from + at as u64 * STRETCH;
        self.stretch(start, (start + STRETCH).min(self.to), mark, room)
    }

    /// What stands between two places; `None` where it cannot be read, or was cut off meanwhile.
    fn stretch(
        &self,
        start: u64,
        end: u64,
        mark: impl Fn(&[u8]) -> Option<usize>,
        room: &mut Vec<u8>,
    ) -> Option<Block> {
        let own = usize::try_from(end - start).ok()?;
        // Words that begin here may end behind it.
        let overlap = self.grammar.longest_mark().saturating_sub(1) as u64;
        let whole = usize::try_from((end + overlap).min(self.to) - start).ok()?;
        room.resize(room.len().max(whole), 0);
        let Look::Seen(read) = self.host.read_into(self.path, start, &mut room[..whole]) else { return None };
        if read < own {
            return None;
        }
        let bytes = &room[..read];
        let mut block = Block { start, end, ..Block::default() };
        // Words that begin where a line has been told to have some already are not kept.
        let (mut from, mut counted) = (0, 0);
        while let Some(hit) = mark(&bytes[from..]).map(|hit| from + hit).filter(|hit| *hit < own) {
            if block.hits.len() == self.most {
                block.dense = true;
                break;
            }
            if self.counted {
                block.newlines += count(&bytes[counted..hit])?;
                counted = hit;
            }
            block.hits.push(Hit { at: start + hit as u64, newlines: block.newlines });
            from = memchr(b'\n', &bytes[hit..]).map_or(read, |n| hit + n + 1);
        }
        if self.counted {
            block.newlines += count(&bytes[counted..own])?;
        }
        if let Some((zone, latest)) = self.times {
            let around = Around { zone, before: None, latest };
            let lines = bytes[..own].split(|b| *b == b'\n').skip(usize::from(start > 0)).take(64);
            block.stamp =
                lines.filter_map(|line| self.grammar.head_of_bytes(line, around)).map(|h| h.time).next();
        }
        Some(block)
    }
}

/// Ends of lines.
fn count(bytes: &[u8]) -> Option<u32> {
    u32::try_from(memchr_iter(b'\n', bytes).count()).ok()
}
