//! The one judge of a directive's words, whatever the daemon: how many there are, and whether each is of its
//! type.
use super::{Row, Slot, Type};
use crate::secrets::MASK;

/// What is wrong with the words of a directive.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Fault {
    /// There are more or fewer than it takes.
    Count {
        /// How many there are.
        found: usize,
        /// How many it takes, in words.
        expected: String,
    },
    /// A word is not of its type.
    Word {
        /// Which one, counted from 0.
        at: usize,
        /// What may stand there, in words.
        expected: String,
    },
}

/// What is wrong with `count` words, of which `word` gives each; none where they are as the row has it.
///
/// A line that holds a mask is not judged: what stood there in the recorded configuration nobody here knows.
pub fn fault<'w>(row: &Row, count: usize, word: impl Fn(usize) -> &'w str) -> Option<Fault> {
    let found = wrong(row, count, &word)?;
    let is_masked = (0..count).any(|at| word(at) == MASK);
    (!is_masked).then_some(found)
}

fn wrong<'w>(row: &Row, count: usize, word: &impl Fn(usize) -> &'w str) -> Option<Fault> {
    let fits = |form: &[Slot]| least(form) <= count && most(form).is_none_or(|m| count <= m);
    let mut wrong: Option<(usize, Vec<String>)> = None;
    let mut counted = false;
    for form in row.takes.iter().filter(|f| fits(f)) {
        counted = true;
        let (at, expected) = first_wrong(form, count, word)?;
        match &mut wrong {
            // The list that held longest is the one that was meant.
            Some((furthest, all)) if *furthest == at => all.push(expected),
            Some((furthest, _)) if *furthest > at => {}
            _ => wrong = Some((at, vec![expected])),
        }
    }
    if !counted {
        return Some(Fault::Count { found: count, expected: counts(row) });
    }
    let (at, mut expected) = wrong?;
    expected.dedup();
    Some(Fault::Word { at, expected: expected.join(" or ") })
}

/// The slot of each of `count` words, in the first list that holds them.
pub fn slots_of<'w>(
    row: &Row,
    count: usize,
    word: impl Fn(usize) -> &'w str,
) -> impl Iterator<Item = &'static Slot> {
    let fits = |form: &&&'static [Slot]| {
        least(form) <= count
            && most(form).is_none_or(|m| count <= m)
            && first_wrong(form, count, &word).is_none()
    };
    let form: &'static [Slot] = row.takes.iter().find(fits).copied().unwrap_or_default();
    slots(form, count)
}

/// Which of `count` words are secrets. Where there are more or fewer than the row takes, whatever stands
/// where a secret may stand, or behind it, is one.
pub fn secrets<'w>(row: &Row, count: usize, word: impl Fn(usize) -> &'w str) -> Vec<usize> {
    if !row.has_secret() {
        return Vec::new();
    }
    let placed: Vec<&Slot> = slots_of(row, count, word).take(count).collect();
    if placed.len() == count {
        return placed
            .iter()
            .enumerate()
            .filter(|(_, slot)| slot.takes == Type::Secret)
            .map(|(at, _)| at)
            .collect();
    }
    let before = |form: &&'static [Slot]| {
        let at = form.iter().position(|slot| slot.takes == Type::Secret)?;
        Some(form[..at].iter().map(|slot| usize::from(slot.least)).sum::<usize>())
    };
    let first = row.takes.iter().filter_map(before).min().unwrap_or(0);
    (first..count).collect()
}

/// The slot of each word: every slot gets what it needs, and the first ones the rest.
fn slots(form: &'static [Slot], count: usize) -> impl Iterator<Item = &'static Slot> {
    let mut spare = count.saturating_sub(least(form));
    form.iter().flat_map(move |slot| {
        let more = spare.min(usize::from(slot.most - slot.least));
        spare -= more;
        std::iter::repeat_n(slot, usize::from(slot.least) + more)
    })
}

fn first_wrong<'w>(
    form: &'static [Slot],
    count: usize,
    word: &impl Fn(usize) -> &'w str,
) -> Option<(usize, String)> {
    slots(form, count)
        .take(count)
        .enumerate()
        .find(|(at, slot)| !slot.takes.holds(word(*at)))
        .map(|(at, slot)| (at, slot.takes.expected()))
}

fn least(form: &[Slot]) -> usize {
    form.iter().map(|s| usize::from(s.least)).sum()
}

fn most(form: &[Slot]) -> Option<usize> {
    form.iter().map(|s| (s.most < u16::MAX).then(|| usize::from(s.most))).sum()
}

/// How many words a row takes, in words.
fn counts(row: &Row) -> String {
    let one = |form: &&[Slot]| match (least(form), most(form)) {
        (0, Some(0)) => "none".to_owned(),
        (least, Some(most)) if least == most => least.to_string(),
        (least, Some(most)) if least + 1 == most => format!("{least} or {most}"),
        (least, Some(most)) => format!("{least} to {most}"),
        (least, None) => format!("{least} or more"),
    };
    let mut all: Vec<String> = row.takes.iter().map(one).collect();
    all.dedup();
    all.join(" or ")
}

#[cfg(test)]
mod tests {
    use super::super::{Int, Size};
    use super::*;

    const fn slot(takes: Type, least: u16, most: u16) -> Slot {
        Slot { takes, least, most }
    }
    const NUMBER: Type = Type::Int(Int { least: Some(2), most: None });
    const SIZE: Type = Type::Size(Size { units: "km", least: None });
    static BUFFERS: &[&[Slot]] =
        &[&[slot(NUMBER, 1, 1), slot(SIZE, 1, 1)], &[slot(Type::Exact(&["off"]), 1, 1)]];
    static CODES: &[&[Slot]] = &[&[slot(NUMBER, 1, u16::MAX), slot(Type::Str, 1, 1)]];

    fn check(takes: &'static [&'static [Slot]], words: &[&str]) -> Option<Fault> {
        let row = Row::sample(takes, "");
        let words: Vec<&str> = words.to_vec();
        fault(&row, words.len(), |at| words[at])
    }
    fn count(found: usize, expected: &str) -> Option<Fault> {
        Some(Fault::Count { found, expected: expected.into() })
    }
    fn word(at: usize, expected: &str) -> Option<Fault> {
        Some(Fault::Word { at, expected: expected.into() })
    }

    #[test]
    fn one_of_the_lists_must_hold() {
        assert_eq!(check(BUFFERS, &["8", "4k"]), None);
        assert_eq!(check(BUFFERS, &["off"]), None);
        assert_eq!(check(BUFFERS, &["on"]), word(0, "off"));
        assert_eq!(check(BUFFERS, &[MASK]), None, "nobody knows what stood there");
        assert_eq!(check(BUFFERS, &["8", MASK, "x"]), None);
        assert_eq!(check(BUFFERS, &["1", "4k"]), word(0, "a number of at least 2"));
        assert_eq!(check(BUFFERS, &["8", "4q"]), word(1, "a size such as 8k or 1m"));
        assert_eq!(check(BUFFERS, &[]), count(0, "2 or 1"));
        assert_eq!(check(BUFFERS, &["8", "4k", "x"]), count(3, "2 or 1"));
    }

    #[test]
    fn what_stands_where_a_secret_may_is_one_however_many_there_are() {
        static PAIR: &[&[Slot]] = &[&[slot(Type::Str, 1, 1), slot(Type::Secret, 0, 1)]];
        let row = Row::sample(PAIR, "");
        for (count, secret) in [(0, vec![]), (1, vec![]), (2, vec![1]), (4, vec![1, 2, 3])] {
            assert_eq!(secrets(&row, count, |_| "w"), secret, "{count}");
        }
    }

    #[test]
    fn the_first_slots_take_what_the_last_ones_leave() {
        assert_eq!(check(CODES, &["404", "503", "/x"]), None);
        assert_eq!(check(CODES, &["404", "x", "/x"]), word(1, "a number of at least 2"));
        assert_eq!(check(CODES, &["/x"]), count(1, "2 or more"));
    }
}
