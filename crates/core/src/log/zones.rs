//! By how much the stamps of a log are to be moved: its process may have another zone than it has now, or
//! than anything tells.
use super::{Attempt, Outcome};

/// Zones differ by quarters of an hour, in microseconds.
const QUARTER: i64 = 900_000_000;
/// No two zones differ by more, in quarters of an hour.
const APART: i64 = 26 * 4;
/// Starts, the newest ones, by which two clocks are compared.
const COMPARED: usize = 300;
/// How long the first line of a start may stand before the one that says that it begins, in microseconds.
const FIRST_WORDS: i64 = 10_000_000;
/// Steps of a clock that are kept.
const STEPS: usize = 200;
/// How far the words of a start may lie from the manager's, in microseconds.
const NEAR: i64 = 3_000_000;
/// How far the last line of a file is stamped from when it was written, at most, in microseconds: that time
/// has whole seconds. Few zones differ by a quarter of an hour from others, so that only half hours count.
const WRITTEN: i64 = 1_200_000;

/// A place in a log: its piece, the oldest one is 0, and the byte.
pub(super) type Spot = (usize, u64);

/// What is added to the stamps of a log, in microseconds, from which place on.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Shifts(Vec<(Spot, i64)>);

impl Shifts {
    /// Spot a place.
    pub(super) fn at(&self, piece: usize, offset: u64) -> i64 {
        let later = self.0.partition_point(|(place, _)| *place <= (piece, offset));
        later.checked_sub(1).map_or(0, |at| self.0[at].1)
    }

    /// Every shift that occurs; 0 where nothing is moved.
    pub(super) fn all(&self) -> Vec<i64> {
        let mut all: Vec<i64> = self.0.iter().map(|(_, shift)| *shift).collect();
        all.dedup();
        if all.is_empty() {
            all.push(0);
        }
        all
    }

    /// Of a list of places in order; `None` where nothing would be moved.
    fn of(mut steps: Vec<(Spot, i64)>) -> Option<Self> {
        steps.dedup_by_key(|(_, shift)| *shift);
        if let Some(first) = steps.first_mut() {
            first.0 = (0, 0);
        }
        steps.iter().any(|(_, shift)| *shift != 0).then_some(Self(steps))
    }
}

/// What a log's stamps tell of its clock.
#[derive(Clone, Debug, Default)]
pub(super) struct Seen {
    /// Stamps of starts, of when they began or were ready.
    starts: Vec<(Spot, i64)>,
    /// Starts whose first word is stamped earlier than the line before it, or much later: place, stamp
    /// before, stamp.
    steps: Vec<(Spot, i64, i64)>,
    /// The last such step, of a start or not.
    step: Option<(Spot, i64, i64)>,
    /// The last stamp of each piece.
    ends: Vec<(usize, i64)>,
}

impl Seen {
    /// One more stamp, and the one of the line before; `begins` where it is the first word of a start.
    pub(super) fn stamp(&mut self, at: Spot, before: Option<i64>, time: i64, begins: bool) {
        match self.ends.last_mut() {
            Some((piece, end)) if *piece == at.0 => *end = time,
            _ => self.ends.push((at.0, time)),
        }
        // A clock that was put back by less than a zone can be was set; that is no change of the zone.
        if let Some(before) = before.filter(|b| *b > time + QUARTER / 3 || *b < time - QUARTER) {
            self.step = Some((at, before, time));
        }
        // The first line of a start need not be the one that says that it begins.
        if begins
            && let Some(step) = self.step.take()
            && (0..=FIRST_WORDS).contains(&(time - step.2))
        {
            if self.steps.len() >= STEPS {
                self.steps.remove(0);
            }
            self.steps.push(step);
        }
    }

    /// A start began, or was ready.
    pub(super) fn start(&mut self, at: Spot, time: i64) {
        if self.starts.len() >= 4 * COMPARED {
            self.starts.drain(..COMPARED);
        }
        self.starts.push((at, time));
    }

    /// How the stamps lie over the manager's record: with as few changes of the zone as can be, as many
    /// starts as can be are where the manager knows of one. `None` where nothing is to be moved, or nothing
    /// shows by how much.
    pub(super) fn over_record(&self, record: &[Attempt]) -> Option<Shifts> {
        let starts = &self.starts[self.starts.len().saturating_sub(COMPARED)..];
        let mut known: Vec<i64> = record
            .iter()
            .rev()
            .take(COMPARED)
            .filter(|a| a.outcome != Outcome::Refused)
            .flat_map(|a| [Some(a.began), a.ready, a.started])
            .flatten()
            .collect();
        known.sort_unstable();
        if starts.is_empty() || known.is_empty() {
            return None;
        }
        let fits = |time: i64| {
            let at = known.partition_point(|k| *k < time - NEAR);
            known.get(at).is_some_and(|k| *k <= time + NEAR)
        };
        let mut shifts: Vec<i64> = starts
            .iter()
            .flat_map(|(_, t)| known.iter().map(move |k| round(k - t)))
            .filter(|s| s.abs() <= APART * QUARTER)
            .collect();
        shifts.sort_unstable();
        shifts.dedup();
        // A single start could meet another one by chance.
        shifts.retain(|s| *s == 0 || starts.iter().filter(|(_, t)| fits(t + s)).count() >= 2);
        if shifts.iter().all(|s| *s == 0) {
            return None;
        }
        if !shifts.contains(&0) {
            shifts.push(0);
        }
        let path = cheapest(starts.len(), shifts.len(), |at, shift| !fits(starts[at].1 + shifts[shift]));
        let matched = (0..starts.len()).filter(|at| fits(starts[*at].1 + shifts[path[*at]])).count();
        if matched < 2 || matched * 10 < starts.len() * 8 {
            return None;
        }
        Shifts::of(starts.iter().zip(&path).map(|((place, _), shift)| (*place, shifts[*shift])).collect())
    }

    /// Whether a start lies where the manager knows of one.
    pub(super) fn is_confirmed(&self, record: &[Attempt]) -> bool {
        let known = |time: i64| {
            record.iter().any(|a| {
                [Some(a.began), a.ready, a.started].into_iter().flatten().any(|k| (k - time).abs() <= NEAR)
            })
        };
        self.starts.iter().any(|(_, time)| known(*time))
    }

    /// Without a record: a file was last written when its last line was; and a clock that goes back or
    /// ahead by a zone's difference, at a start right after somebody set the zone, is that of another zone.
    /// Without that it was the clock that was set. `known` where the newest stamps are right, `written`
    /// tells when a piece was last written, `set` when a zone may have been set, all in microseconds.
    pub(super) fn over_files(
        &self,
        known: bool,
        written: impl Fn(usize) -> Option<i64>,
        set: &[i64],
    ) -> Option<Shifts> {
        let anchor = |piece: usize, end: i64| {
            let apart = written(piece)? - end;
            let whole = round(apart);
            let near = (apart - whole).abs() <= WRITTEN;
            (near && whole % (2 * QUARTER) == 0 && whole.abs() <= APART * QUARTER).then_some(whole)
        };
        // Newest first: where each stretch begins, and what moves it.
        let mut stretches: Vec<(Spot, i64)> = Vec::new();
        let mut shift = 0;
        for (piece, end) in self.ends.iter().rev() {
            if !(known && stretches.is_empty()) {
                shift = anchor(*piece, *end).unwrap_or(shift);
            }
            for (at, before, time) in self.steps.iter().rev().filter(|(at, ..)| at.0 == *piece) {
                let apart = time - before;
                let began = time + shift;
                let rest = apart.rem_euclid(QUARTER);
                let just_set = set.iter().any(|s| *s <= began + 1_000_000 && *s >= began - rest - 1_000_000);
                if rest <= QUARTER / 4 && apart.abs() <= APART * QUARTER && just_set {
                    stretches.push((*at, shift));
                    // It was earlier all the same.
                    shift += apart - rest;
                }
            }
            stretches.push(((*piece, 0), shift));
        }
        stretches.reverse();
        Shifts::of(stretches)
    }
}

fn round(micros: i64) -> i64 {
    (micros + QUARTER / 2).div_euclid(QUARTER) * QUARTER
}

/// The cheapest way through `steps` with a choice of `choices` at each: a choice that misses costs 2, another
/// choice than at the step before 3.
fn cheapest(steps: usize, choices: usize, misses: impl Fn(usize, usize) -> bool) -> Vec<usize> {
    let mut cost = vec![0u32; choices];
    let mut from: Vec<Vec<usize>> = Vec::with_capacity(steps);
    for step in 0..steps {
        let cheap = (0..choices).min_by_key(|c| cost[*c]).unwrap_or(0);
        let least = cost[cheap];
        let mut back = Vec::with_capacity(choices);
        for (choice, cost) in cost.iter_mut().enumerate() {
            let changed = step > 0 && least + 3 < *cost;
            back.push(if changed { cheap } else { choice });
            if changed {
                *cost = least + 3;
            }
            *cost += 2 * u32::from(misses(step, choice));
        }
        from.push(back);
    }
    let mut at = (0..choices).min_by_key(|c| cost[*c]).unwrap_or(0);
    let mut path = vec![0; steps];
    for step in (0..steps).rev() {
        path[step] = at;
        at = from[step][at];
    }
    path
}

#[cfg(test)]
mod tests {
    use super::*;

    const HOUR: i64 = 4 * QUARTER;

    #[test]
    fn a_stretch_is_moved_by_when_its_file_was_written_or_by_how_far_the_clock_went_back() {
        let mut seen = Seen::default();
        for (offset, before, time) in [
            (0, None, 100 * HOUR),
            (50, Some(100 * HOUR), 100 * HOUR + 60_000_000),
            // Another zone, three hours and a half further west, and two minutes later.
            (100, Some(100 * HOUR + 60_000_000), 96 * HOUR + 2 * QUARTER + 180_000_000),
        ] {
            seen.stamp((0, offset), before, time, true);
        }
        let end = 96 * HOUR + 2 * QUARTER + 180_000_000;
        let set = [end - 60_000_000];
        let shifts = seen.over_files(false, |_| Some(end + 1_000_000), &set).unwrap();
        assert_eq!((shifts.at(0, 0), shifts.at(0, 99), shifts.at(0, 100)), (-14 * QUARTER, -14 * QUARTER, 0));
        // Where nobody set a zone, somebody set the clock.
        assert_eq!(seen.over_files(false, |_| Some(end + 1_000_000), &[]), None);
        // An older piece tells by itself.
        let mut older = Seen::default();
        older.stamp((0, 0), None, 100 * HOUR, true);
        older.stamp((1, 0), Some(100 * HOUR), 200 * HOUR, true);
        let shifts = older.over_files(false, |piece| Some([103 * HOUR, 200 * HOUR][piece]), &[]).unwrap();
        assert_eq!((shifts.at(0, 0), shifts.at(1, 0)), (3 * HOUR, 0));
        // Now nothing is right any more: the last stretch is in another zone, too.
        let later = [set[0] + 2 * HOUR];
        let shifts = seen.over_files(false, |_| Some(end + 2 * HOUR), &later).unwrap();
        assert_eq!((shifts.at(0, 0), shifts.at(0, 100)), (-6 * QUARTER, 2 * HOUR));
        // A file that was touched later tells nothing.
        let shifts = seen.over_files(false, |_| Some(end + 2 * HOUR + 400_000_000), &set).unwrap();
        assert_eq!((shifts.at(0, 0), shifts.at(0, 100)), (-14 * QUARTER, 0));
        let mut still = Seen::default();
        still.stamp((0, 0), None, 100 * HOUR, true);
        assert_eq!(still.over_files(false, |_| Some(100 * HOUR + 500_000), &[]), None);
        assert_eq!(still.over_files(false, |_| Some(105 * HOUR), &[]).map(|s| s.all()), Some(vec![5 * HOUR]));
        assert_eq!(still.over_files(true, |_| Some(105 * HOUR), &[]), None);
        // Further east: ahead by five hours, and a minute later.
        let (before, time) = (100 * HOUR, 105 * HOUR + 60_000_000);
        still.stamp((0, 50), Some(before), time, true);
        let moved = |set: i64| still.over_files(false, |_| Some(time), &[set]).map(|s| s.all());
        assert_eq!(moved(time - 20_000_000), Some(vec![5 * HOUR, 0]));
        assert_eq!(moved(time - HOUR), None);
    }

    #[test]
    fn the_cheapest_way_changes_only_where_it_pays() {
        let path = |fits: &[&[usize]]| cheapest(fits.len(), 3, |at, choice| !fits[at].contains(&choice));
        assert_eq!(path(&[&[1], &[1], &[0], &[0], &[0]]), [1, 1, 0, 0, 0]);
        assert_eq!(path(&[&[1], &[1], &[0], &[1], &[1]]), [1, 1, 1, 1, 1]);
        assert_eq!(path(&[&[], &[], &[2]]), [2, 2, 2]);
    }
}
