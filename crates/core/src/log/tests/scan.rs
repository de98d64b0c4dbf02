//! Long logs: what is passed over changes nothing in what is found.
use crate::kinds;
use crate::log::Grammar;
use crate::log::index::{Block, Hit, MOST, Search};
use crate::log::pieces::{BLOCK, Packing, Piece, Sink};
use crate::log::scan::{LogLine, Scan, Start, Taker, last_begins};
use crate::snapshot::Snapshot;
use crate::tests::TextHost;
use jiff::tz::TimeZone;

/// Numbers that look like chance and are the same each time.
struct Dice(u64);

impl Dice {
    fn roll(&mut self, sides: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % sides
    }
    fn up_to(&mut self, sides: usize) -> usize {
        usize::try_from(self.roll(sides as u64)).unwrap()
    }
}

fn grammar() -> &'static Grammar {
    kinds::kind("nginx").unwrap().grammar()
}

const MARKS: [&str; 4] = [
    "using the \"epoll\" event method",
    "start worker processes",
    "signal 15 (SIGTERM) received from 1, exiting",
    "[emerg] bind() failed",
];

fn stamp(second: u64) -> String {
    format!(
        "2031/04/{:02} {:02}:{:02}:{:02}",
        1 + second / 86_400,
        second / 3600 % 24,
        second / 60 % 60,
        second % 60
    )
}

/// A log of many blocks: lines of all lengths, some without a stamp, some longer than any line should be,
/// marks now and then, and some of them on the borders of blocks.
fn text(seed: u64, size: usize) -> Vec<u8> {
    let mut dice = Dice(seed);
    let mut text: Vec<u8> = Vec::new();
    let mut second = 0;
    while text.len() < size {
        second += dice.roll(3);
        let border = text.len() % BLOCK as usize > BLOCK as usize - 300;
        if dice.roll(200) == 0 || border && dice.roll(3) == 0 {
            let mark = MARKS[usize::try_from(dice.roll(4)).unwrap()];
            let before = "~".repeat(usize::try_from(dice.roll(120)).unwrap());
            text.extend(
                format!(
                    "{} [notice] 7#7: {before}{mark}{}",
                    stamp(second),
                    if dice.roll(5) == 0 { "\r\n" } else { "\n" }
                )
                .bytes(),
            );
        }
        match dice.roll(3000) {
            0 => text.extend([0, 0xff, b'\n', b'\n']),
            1 => text.extend(
                vec![b'y'; usize::try_from(10_000 + dice.roll(250_000)).unwrap()].into_iter().chain(*b"\n"),
            ),
            2 => text.extend(b"  a line that goes on without a stamp, using the same worker\n"),
            _ => text.extend(
                format!(
                    "{} [error] 8#8: *{second} no tide {}\n",
                    stamp(second),
                    "x".repeat(usize::try_from(dice.roll(150)).unwrap())
                )
                .bytes(),
            ),
        }
    }
    if dice.roll(2) == 0 {
        text.extend(b"2031/04/30 23:59:59 [notice] 7#7: start worker processes");
    }
    text
}

/// Keeps what it gets, and wants some lines behind each mark.
#[derive(Default)]
struct Keeper {
    lines: Vec<(Vec<u8>, u64, u64, Option<u32>)>,
    more: u32,
}

impl Taker for Keeper {
    fn line(&mut self, line: LogLine) {
        self.more = self.more.saturating_sub(1);
        let text = String::from_utf8_lossy(line.bytes);
        if grammar().mark(&text).is_some() {
            self.more = 1 + u32::try_from(text.len() % 40).unwrap() * u32::from(text.contains("epoll"));
        }
        self.lines.push((line.bytes.to_vec(), line.start, line.end, line.number));
    }
    fn wants_more(&self) -> bool {
        self.more > 0
    }
}

fn piece(text: &[u8]) -> Piece {
    Piece { path: "/log".into(), size: text.len() as u64, packing: Packing::Plain, modified: 1_935_000_000 }
}

/// What a scan finds that jumps from mark to mark.
fn picked(
    text: &[u8],
    from: u64,
    number: Option<u32>,
    spans: &[(i64, i64)],
    marks: Option<&[Hit]>,
) -> Keeper {
    let host = TextHost::new().bytes("/log", text);
    let (zone, mut keeper) = (TimeZone::UTC, Keeper::default());
    let scan = Scan::new(grammar(), &zone, spans, &mut keeper, from, number);
    scan.run(&Snapshot::new(&host), &piece(text), marks, &std::cell::Cell::new(u64::MAX)).unwrap();
    keeper
}

/// What one finds that gets every byte, in stretches of some length.
fn read_whole(text: &[u8], from: u64, number: Option<u32>, stretch: usize) -> Keeper {
    let (zone, mut keeper) = (TimeZone::UTC, Keeper::default());
    let mut scan = Scan::new(grammar(), &zone, &[], &mut keeper, from, number);
    let rest = &text[usize::try_from(from).unwrap()..];
    assert!(rest.chunks(stretch).all(|part| scan.take(part)));
    scan.finish();
    keeper
}

#[test]
fn lines_that_matter_are_the_same_whether_the_rest_is_read_or_not() {
    for (seed, size) in [(1, 300_000), (2, 1_000_000), (3, 5_000_000), (4, 400_000), (5, 2_500_000)] {
        let text = text(seed, size);
        let whole = read_whole(&text, 0, Some(1), 100_003);
        assert!(whole.lines.len() > 10, "{}", whole.lines.len());
        assert!(whole.lines == read_whole(&text, 0, Some(1), 997).lines, "seed {seed}: in other stretches");
        assert!(whole.lines == picked(&text, 0, Some(1), &[], None).lines, "seed {seed}: with jumps");
        // The numbers are those of the file.
        let (bytes, start, end, number) = whole.lines.last().unwrap();
        let line = &text[usize::try_from(*start).unwrap()..usize::try_from(*end).unwrap()];
        assert!(line.starts_with(bytes));
        let before = text[..usize::try_from(*start).unwrap()].iter().filter(|b| **b == b'\n').count();
        assert_eq!(*number, u32::try_from(before + 1).ok());
        // From the midst, and without numbers.
        let (_, from, _, number) = whole.lines[whole.lines.len() / 3];
        assert!(
            read_whole(&text, from, number, 4099).lines == picked(&text, from, number, &[], None).lines,
            "seed {seed}: from {from}"
        );
        assert!(
            read_whole(&text, from, None, 4099).lines == picked(&text, from, None, &[], None).lines,
            "seed {seed}: uncounted"
        );
    }
}

#[test]
fn marks_that_are_known_already_are_not_looked_for_again() {
    let text = text(6, 3_000_000);
    let begins = |line: &str, _: Option<&str>| line.contains("epoll");
    let host = TextHost::new().bytes("/log", &text);
    let lines_to = |at: u64| {
        u32::try_from(text[..usize::try_from(at).unwrap()].iter().filter(|b| **b == b'\n').count()).unwrap()
    };
    let all = String::from_utf8_lossy(&text).matches("epoll").count();
    for (wanted, counted) in [(1, false), (2, true), (9, false), (9, true), (all - 1, true)] {
        let Start::At(from, marks) =
            last_begins(&host, &piece(&text), grammar(), begins, wanted, (0, counted))
        else {
            panic!("there are enough")
        };
        let behind = &text[usize::try_from(from).unwrap()..];
        assert_eq!(String::from_utf8_lossy(behind).matches("epoll").count(), wanted);
        assert!(behind.starts_with(b"2031/") && marks[0].at >= from, "it begins with a whole line");
        let number = counted.then(|| 1 + lines_to(from));
        assert!(
            picked(&text, from, number, &[], Some(&marks)).lines
                == picked(&text, from, number, &[], None).lines,
            "{wanted} {counted}"
        );
    }
    for counted in [false, true] {
        let Start::Before(left, marks) =
            last_begins(&host, &piece(&text), grammar(), begins, 1_000_000, (0, counted))
        else {
            panic!("there are not so many")
        };
        assert_eq!(1_000_000 - left, all);
        let marks = marks.expect("the whole was searched");
        let number = counted.then_some(1);
        assert!(
            picked(&text, 0, number, &[], Some(&marks)).lines == picked(&text, 0, number, &[], None).lines
        );
    }
    // Beyond a bound nothing is looked for, and nothing is said to be known of it.
    let half = text.len() as u64 / 2;
    let Start::Before(left_behind, None) =
        last_begins(&host, &piece(&text), grammar(), begins, 1_000_000, (half, true))
    else {
        panic!("not all was searched")
    };
    assert!(left_behind < 1_000_000 && left_behind > 1_000_000 - all);
}

#[test]
fn every_line_of_a_span_of_time_is_delivered_and_no_other() {
    let mut dice = Dice(7);
    let lines: Vec<String> = (0..40_000)
        .map(|n| {
            format!(
                "{} [error] 8#8: *{n} no tide {}\n",
                stamp(n / 4),
                "x".repeat(usize::try_from(dice.roll(90)).unwrap())
            )
        })
        .collect();
    let text = lines.concat().into_bytes();
    let begin = "2031-04-01T00:00:00Z".parse::<jiff::Timestamp>().unwrap().as_microsecond();
    let span = |from: i64, to: i64| (begin + from * 1_000_000, begin + to * 1_000_000);
    for spans in [
        vec![span(0, 0)],
        vec![span(17, 40), span(41, 41), span(5000, 5100)],
        vec![span(9_990, 20_000)],
        vec![span(-50, -1), span(30_000, 40_000)],
    ] {
        let found: Vec<Vec<u8>> =
            picked(&text, 0, Some(1), &spans, None).lines.into_iter().map(|l| l.0).collect();
        let inside = |n: usize| {
            spans.iter().any(|(from, to)| {
                (*from..=*to).contains(&(begin + i64::try_from(n / 4).unwrap() * 1_000_000))
            })
        };
        let expected: Vec<&[u8]> = lines
            .iter()
            .enumerate()
            .filter(|(n, _)| inside(*n))
            .map(|(_, l)| l.trim_end_matches('\n').as_bytes())
            .collect();
        assert!(found == expected, "{spans:?}: {} lines instead of {}", found.len(), expected.len());
    }
}

#[test]
fn endless_lines_and_marks_in_every_line_are_borne() {
    // A mark far inside a line without an end, and one on the line behind it.
    let endless = [
        vec![b'z'; 900_000],
        b"start worker processes".to_vec(),
        vec![b'z'; 300_000],
        b"\n2031/04/01 00:00:01 [notice] 7#7: start worker processes\n".to_vec(),
    ]
    .concat();
    let found = picked(&endless, 0, Some(1), &[], None);
    assert_eq!(found.lines.last().map(|l| (l.0.len(), l.3)), Some((56, Some(2))));
    let every = format!("{} [notice] 7#7: start worker processes\n", stamp(1)).repeat(30_000);
    let found = picked(every.as_bytes(), 0, Some(1), &[], None);
    assert_eq!((found.lines.len(), found.lines[29_999].3), (30_000, Some(30_000)));
    // Without any end of a line at all.
    let found = picked(&vec![b'z'; 700_000], 0, Some(1), &[], None);
    assert!(found.lines.is_empty());
}

#[test]
fn blocks_come_in_order_from_all_threads_and_tell_what_they_hold() {
    let text = text(8, 6_000_000);
    let host = TextHost::new().bytes("/log", &text);
    let search = Search {
        host: &host,
        path: "/log",
        from: 1000,
        to: text.len() as u64,
        grammar: grammar(),
        counted: true,
        times: None,
        most: MOST,
    };
    let mut blocks: Vec<Block> = Vec::new();
    search.each(|block| {
        blocks.push(block);
        true
    });
    assert!(blocks.len() > 10 && blocks[0].start == 1000 && blocks.last().unwrap().end == text.len() as u64);
    assert!(blocks.windows(2).all(|w| w[0].end == w[1].start));
    let newlines: u32 = blocks.iter().map(|b| b.newlines).sum();
    assert_eq!(newlines as usize, text[1000..].iter().filter(|b| **b == b'\n').count());
    for hit in blocks.iter().flat_map(|b| &b.hits) {
        assert_eq!(grammar().find_mark(&text[usize::try_from(hit.at).unwrap()..]), Some(0), "at {}", hit.at);
    }
    let mut backwards: Vec<Block> = Vec::new();
    Search { most: usize::MAX, ..search }.each_backwards(|block| {
        backwards.push(block);
        true
    });
    let places = |blocks: &[Block]| {
        blocks.iter().flat_map(|b| &b.hits).map(|h| h.at).collect::<std::collections::BTreeSet<_>>()
    };
    assert_eq!(places(&blocks), places(&backwards));
    // Who has enough gets no more, and what cannot be read ends it.
    let mut taken = 0;
    search.each(|_| {
        taken += 1;
        taken < 3
    });
    assert_eq!(taken, 3);
    Search { to: text.len() as u64 + 1_000_000, ..search }.each(|block| {
        assert!(block.end <= text.len() as u64, "cut off meanwhile");
        true
    });
}

#[test]
fn marks_are_found_by_their_rare_parts_wherever_their_words_stand() {
    let mut dice = Dice(9);
    for kind in kinds::KINDS {
        let grammar = kind.grammar();
        let words = grammar.mark_words();
        for round in 0..200 {
            // Noise out of pieces of the words themselves: nearly a mark is none.
            let mut text = String::new();
            for _ in 0..dice.roll(30) {
                match words.get(usize::try_from(dice.roll(words.len().max(1) as u64)).unwrap()) {
                    Some(word) if dice.roll(4) == 0 => text += word,
                    Some(word) => {
                        text += &word
                            .chars()
                            .skip(usize::try_from(dice.roll(6)).unwrap())
                            .take(usize::try_from(dice.roll(9)).unwrap())
                            .collect::<String>()
                    }
                    None => text.push('~'),
                }
                text.push(if dice.roll(3) == 0 { '\n' } else { ' ' });
            }
            let expected = words.iter().filter_map(|w| text.find(w)).min();
            let found = grammar.find_mark(text.as_bytes());
            assert_eq!(found.is_some(), expected.is_some(), "{} {round}: {text:?}", kind.name());
            if let Some(at) = found {
                assert!(words.iter().any(|w| text[at..].starts_with(w)), "{}: {text:?} at {at}", kind.name());
            }
        }
    }
}

#[test]
fn a_users_own_words_are_found_however_short_they_are() {
    let own = |begin: &str, ready: &str| {
        let rules = crate::log::OwnRules {
            begin: vec![begin.into()],
            ready: vec![ready.into()],
            ..Default::default()
        };
        kinds::kind("program").unwrap().grammar().with(rules)
    };
    for (begin, ready) in
        [("up", "ok"), ("u", "the harbour is open"), ("öffnet", "läuft"), ("opens", "opens the harbour")]
    {
        let grammar = own(begin, ready);
        for (text, mark) in [
            (format!("~ {begin} ~"), true),
            (format!("~ {ready}"), true),
            ("~~~".to_owned(), false),
            (String::new(), false),
        ] {
            assert_eq!(grammar.find_mark(text.as_bytes()).is_some(), mark, "{begin:?} {ready:?} in {text:?}");
        }
    }
}

#[test]
fn a_catalogue_recognises_the_same_in_one_line_and_in_a_thousand() {
    let lines: Vec<String> = kinds::KINDS
        .iter()
        .flat_map(|k| k.catalogue().samples())
        .chain(crate::log::general().samples())
        .map(str::to_owned)
        .collect();
    assert!(lines.len() > 300, "{}", lines.len());
    for kind in kinds::KINDS {
        // A catalogue that has seen many lines finds its words in one pass.
        let slow: Vec<_> = lines.iter().map(|line| kind.catalogue().recognise_slowly(line)).collect();
        let quick: Vec<_> = lines.iter().map(|line| kind.catalogue().recognise_quickly(line)).collect();
        assert!(slow == quick, "{}", kind.name());
    }
}

#[test]
fn what_is_rare_in_a_log_finds_the_same_marks() {
    for (kind, line) in [
        ("mysql", "[Warning] Aborted connection 7 (Got an error reading communication packets), starting\n"),
        ("httpd", "AH01114: HTTP: failed to make connection to backend: 004, AH00, 489\n"),
        ("nginx", "[error] open() \"/srv/epoll/work\" failed, poll, emerg, (SIG\n"),
    ] {
        let grammar = kinds::kind(kind).unwrap().grammar();
        let mut dice = Dice(11);
        let words = grammar.mark_words();
        let text: String = (0..4000)
            .map(|n| {
                let word = words[dice.up_to(words.len())];
                let part = &word[..word.len() - dice.up_to(2) * dice.up_to(3)];
                if n % 50 == 0 { format!("{line}x{part}\n") } else { line.to_owned() }
            })
            .collect();
        let all = |find: &dyn Fn(&[u8]) -> Option<usize>| {
            let (mut found, mut from) = (Vec::new(), 0);
            while let Some(hit) = find(&text.as_bytes()[from..]) {
                found.push(from + hit);
                from += hit + 1;
            }
            found
        };
        let plain = all(&|bytes| grammar.find_mark(bytes));
        assert!(plain.len() > 30, "{kind}: {}", plain.len());
        for sample in [&text.as_bytes()[..30_000], b"", b"xx"] {
            let finder = grammar.finder_for(sample).unwrap();
            assert_eq!(all(&|bytes| finder.find(bytes)), plain, "{kind}");
        }
    }
}
