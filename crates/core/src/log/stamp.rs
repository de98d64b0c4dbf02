//! Stamps of log lines, read without a general parser: most lines of a long log are looked at for nothing
//! else. What is not read here is left to the library.
use jiff::civil::DateTime;
use jiff::tz::TimeZone;
use std::cell::RefCell;

/// Part of a format, in the letters of `strftime`.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Item {
    Number { of: Field, padded_by_blank: bool },
    ShortYear,
    MonthName,
    Weekday,
    Fraction,
    Offset,
    Literal(u8),
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Field {
    Year,
    Month,
    Day,
    Hour,
    Minute,
    Second,
}

/// A format whose stamps can be read here.
#[derive(Debug)]
pub(super) struct Format(Vec<Item>);

const MONTHS: &[u8; 36] = b"JanFebMarAprMayJunJulAugSepOctNovDec";

/// Days of each month; one more of February is left to the library.
const DAYS: [i64; 12] = [31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31];

/// What a stamp says: microseconds since the epoch as if it were in UTC, and its own offset, in seconds.
type Written = (i64, Option<i64>);

impl Format {
    /// A format of `strftime`; `None` where it has a letter that is left to the library, or no year.
    pub(super) fn new(format: &str) -> Option<Self> {
        let mut items = Vec::new();
        let mut rest = format.as_bytes();
        while let Some((first, more)) = rest.split_first() {
            rest = more;
            if *first != b'%' {
                items.push(Item::Literal(*first));
                continue;
            }
            let (letter, more) = rest.split_first()?;
            rest = more;
            let number = |of| Item::Number { of, padded_by_blank: false };
            items.push(match letter {
                b'Y' => number(Field::Year),
                b'y' => Item::ShortYear,
                b'm' => number(Field::Month),
                b'b' => Item::MonthName,
                b'a' => Item::Weekday,
                b'd' => number(Field::Day),
                b'e' => Item::Number { of: Field::Day, padded_by_blank: true },
                b'H' => number(Field::Hour),
                b'k' => Item::Number { of: Field::Hour, padded_by_blank: true },
                b'M' => number(Field::Minute),
                b'S' => number(Field::Second),
                b'.' => {
                    rest = rest.strip_prefix(b"f")?;
                    Item::Fraction
                }
                b':' => {
                    rest = rest.strip_prefix(b"z")?;
                    Item::Offset
                }
                _ => return None,
            });
        }
        let year = |i: &Item| matches!(i, Item::Number { of: Field::Year, .. } | Item::ShortYear);
        items.iter().any(year).then_some(Self(items))
    }

    /// Reads a whole stamp; `None` where anything about it is odd.
    pub(super) fn read(&self, text: &[u8]) -> Option<Written> {
        let mut rest = text;
        let (mut year, mut month, mut day) = (0i64, 1i64, 1i64);
        let (mut hour, mut minute, mut second, mut micros) = (0i64, 0i64, 0i64, 0i64);
        let mut offset = None;
        for item in &self.0 {
            match item {
                Item::Literal(byte) => {
                    let (first, more) = rest.split_first()?;
                    (first == byte).then_some(())?;
                    rest = more;
                }
                Item::Number { of, padded_by_blank } => {
                    let width = if *of == Field::Year { 4 } else { 2 };
                    let mut digits = rest.get(..width)?;
                    rest = &rest[width..];
                    if *padded_by_blank {
                        digits = digits.strip_prefix(b" ").unwrap_or(digits);
                    }
                    let number = number(digits)?;
                    match of {
                        Field::Year => year = number,
                        Field::Month => month = number,
                        Field::Day => day = number,
                        Field::Hour => hour = number,
                        Field::Minute => minute = number,
                        Field::Second => second = number,
                    }
                }
                Item::ShortYear => {
                    year = number(rest.get(..2)?)?;
                    // As POSIX has it.
                    year += if year < 69 { 2000 } else { 1900 };
                    rest = &rest[2..];
                }
                Item::MonthName => {
                    let name = rest.get(..3)?;
                    let at = MONTHS.chunks_exact(3).position(|m| m == name)?;
                    month = i64::try_from(at).ok()? + 1;
                    rest = &rest[3..];
                }
                Item::Weekday => {
                    rest.get(..3)?.iter().all(u8::is_ascii_alphabetic).then_some(())?;
                    rest = &rest[3..];
                }
                Item::Fraction => {
                    let Some(digits) = rest.strip_prefix(b".").or(rest.strip_prefix(b",")) else { continue };
                    (micros, rest) = fraction(digits)?;
                }
                Item::Offset => {
                    let (told, more) = offset_of(rest)?;
                    (offset, rest) = (Some(told), more);
                }
            }
        }
        let sound = rest.is_empty()
            && (1970..=9998).contains(&year)
            && (1..=12).contains(&month)
            && (1..=DAYS[usize::try_from(month - 1).ok()?]).contains(&day)
            && hour < 24
            && minute < 60
            && second < 60;
        if !sound {
            return None;
        }
        let seconds = days(year, month, day) * 86_400 + hour * 3600 + minute * 60 + second;
        Some((seconds * 1_000_000 + micros, offset))
    }
}

/// The digits behind a second, in microseconds, and what follows them.
fn fraction(digits: &[u8]) -> Option<(i64, &[u8])> {
    let length = digits.iter().take_while(|b| b.is_ascii_digit()).count();
    (1..=9).contains(&length).then_some(())?;
    let mut scaled = number(&digits[..length.min(6)])?;
    for _ in length..6 {
        scaled *= 10;
    }
    Some((scaled, &digits[length..]))
}

/// An offset from UTC in seconds – `Z`, `+02:00`, `+0200` – and what follows it.
fn offset_of(text: &[u8]) -> Option<(i64, &[u8])> {
    let (sign, h1, h2, m1, m2, more) = match text {
        [b'Z', more @ ..] => return Some((0, more)),
        [sign, h1, h2, b':', m1, m2, more @ ..] | [sign, h1, h2, m1, m2, more @ ..] => {
            (sign, h1, h2, m1, m2, more)
        }
        _ => return None,
    };
    let seconds = number(&[*h1, *h2])? * 3600 + number(&[*m1, *m2])? * 60;
    match sign {
        b'+' => Some((seconds, more)),
        b'-' => Some((-seconds, more)),
        _ => None,
    }
}

fn number(digits: &[u8]) -> Option<i64> {
    (!digits.is_empty() && digits.iter().all(u8::is_ascii_digit)).then_some(())?;
    Some(digits.iter().fold(0, |sum, d| sum * 10 + i64::from(d - b'0')))
}

/// Days since the epoch (H. Hinnant's way of counting from March on).
fn days(year: i64, month: i64, day: i64) -> i64 {
    let year = if month <= 2 { year - 1 } else { year };
    let era = year.div_euclid(400);
    let of_era = year - era * 400;
    let of_year = (153 * (month + if month > 2 { -3 } else { 9 }) + 2) / 5 + day - 1;
    era * 146_097 + of_era * 365 + of_era / 4 - of_era / 100 + of_year - 719_468
}

const HOUR: i64 = 3_600_000_000;

thread_local! {
    /// The last hour that was asked for, its zone, and the offset in it, in seconds.
    static LAST: RefCell<Option<(i64, TimeZone, i64)>> = const { RefCell::new(None) };
}

/// The moment at which a clock of a zone shows this; `None` in an hour in which the clock is set.
pub(super) fn moment(civil: i64, zone: &TimeZone) -> Option<i64> {
    let hour = civil.div_euclid(HOUR);
    LAST.with_borrow_mut(|last| {
        if let Some((known, of, offset)) = last
            && *known == hour
            && of == zone
        {
            return Some(civil - *offset * 1_000_000);
        }
        let offset = |civil: i64| {
            let shown: DateTime =
                jiff::Timestamp::from_microsecond(civil).ok()?.to_zoned(TimeZone::UTC).datetime();
            let found = zone.to_ambiguous_timestamp(shown);
            (!found.is_ambiguous()).then_some(())?;
            let shown = found.compatible().ok()?.as_microsecond();
            Some((civil - shown) / 1_000_000)
        };
        let (begin, end) = (offset(hour * HOUR)?, offset(hour * HOUR + HOUR - 1_000_000)?);
        (begin == end).then_some(())?;
        *last = Some((hour, zone.clone(), begin));
        Some(civil - begin * 1_000_000)
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use jiff::fmt::strtime::BrokenDownTime;

    #[test]
    fn what_is_read_here_is_what_the_library_reads() {
        for (format, stamps) in [
            ("%Y/%m/%d %H:%M:%S", &["2031/04/02 06:10:11", "2031/13/02 06:10:11", "2032/02/29 06:10:11"][..]),
            (
                "%a %b %e %H:%M:%S%.f %Y",
                &["Wed Apr  2 06:10:11.5 2031", "Sat Apr 12 06:10:11.123456789 2031"],
            ),
            ("%Y-%m-%d %k:%M:%S", &["2031-04-02  6:10:11", "2031-04-02 16:10:11"]),
            (
                "%d-%b-%Y %H:%M:%S%.f",
                &["02-Apr-2031 06:10:11.123", "02-Apr-2031 06:10:11", "02-Abr-2031 06:10:11"],
            ),
            ("%y%m%d %k:%M:%S", &["310402  6:10:11"]),
            ("%Y-%m-%dT%H:%M:%S%.f%:z", &["2031-04-02T06:10:11.123456+05:30", "2031-04-02T06:10:11-03:00"]),
        ] {
            let quick = Format::new(format).expect(format);
            for stamp in stamps {
                let slow = BrokenDownTime::parse(format, stamp).ok().and_then(|parsed| {
                    let civil = parsed.to_datetime().ok()?.to_zoned(TimeZone::UTC).ok()?;
                    Some((
                        civil.timestamp().as_microsecond(),
                        parsed.offset().map(|o| i64::from(o.seconds())),
                    ))
                });
                if let Some(found) = quick.read(stamp.as_bytes()) {
                    assert_eq!(Some(found), slow, "{format} {stamp}");
                } else {
                    // Left to the library, which may or may not read it.
                    assert!(slow.is_none() || stamp.contains("02/29"), "{format} {stamp}");
                }
            }
        }
        assert!(Format::new("%b %e %H:%M:%S").is_none() && Format::new("%I").is_none());
    }

    #[test]
    fn an_hour_in_which_the_clock_is_set_is_left_to_those_who_look_around() {
        let zone = TimeZone::posix("CET-1CEST,M3.5.0,M10.5.0/3").unwrap();
        let civil = |text: &str| text.parse::<jiff::Timestamp>().unwrap().as_microsecond();
        let hour = |n: i64| n * HOUR;
        assert_eq!(
            moment(civil("2031-07-01T12:00:00Z"), &zone),
            Some(civil("2031-07-01T12:00:00Z") - hour(2))
        );
        assert_eq!(
            moment(civil("2031-07-01T12:59:59Z"), &zone),
            Some(civil("2031-07-01T12:59:59Z") - hour(2))
        );
        assert_eq!(
            moment(civil("2031-07-01T12:59:59Z"), &TimeZone::UTC),
            Some(civil("2031-07-01T12:59:59Z"))
        );
        assert_eq!(
            moment(civil("2031-12-01T12:00:00Z"), &zone),
            Some(civil("2031-12-01T12:00:00Z") - hour(1))
        );
        assert_eq!(moment(civil("2031-10-26T02:10:00Z"), &zone), None);
        assert_eq!(moment(civil("2031-03-30T02:10:00Z"), &zone), None);
    }
}
