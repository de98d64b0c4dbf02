//! Numbers as the C library reads them, with a unit behind them where the setting has one (`parse_int` and
//! `parse_real` of PostgreSQL's guc.c).

/// A number in a unit of its own, which may be written in others of the same sort.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Amount {
    /// What it counts: `B`, `kB`, `8kB`, `MB`, `ms`, `s`, `min`; empty for a plain number.
    pub unit: &'static str,
    /// It is rounded to a whole number.
    pub whole: bool,
    /// The least that is taken, as a number is written.
    pub least: &'static str,
    /// The most.
    pub most: &'static str,
}

/// Units of memory in bytes, and of time in microseconds, the largest first. Their letters count.
const MEMORY: &[(&str, f64)] =
    &[("TB", 1_099_511_627_776.0), ("GB", 1_073_741_824.0), ("MB", 1_048_576.0), ("kB", 1024.0), ("B", 1.0)];
const TIME: &[(&str, f64)] = &[
    ("d", 86_400_000_000.0),
    ("h", 3_600_000_000.0),
    ("min", 60_000_000.0),
    ("s", 1_000_000.0),
    ("ms", 1000.0),
    ("us", 1.0),
];

impl Amount {
    /// Units that it may be written in, and how much of the smallest one its own is.
    fn units(self) -> Option<(&'static [(&'static str, f64)], f64)> {
        if self.unit == "8kB" {
            return Some((MEMORY, 8192.0));
        }
        [MEMORY, TIME].into_iter().find_map(|all| {
            let own = all.iter().find(|(name, _)| *name == self.unit)?;
            Some((all, own.1))
        })
    }

    /// Its value in its own unit; none where a word is not such a number.
    pub fn value(self, word: &str) -> Option<f64> {
        let text = word.trim_start_matches(is_space);
        let (number, rest) = if self.whole { whole(text) } else { real(text) }?;
        let rest = rest.trim_start_matches(is_space);
        let number = if rest.is_empty() {
            number
        } else {
            let (all, own) = self.units()?;
            let name = rest.trim_end_matches(is_space);
            number * all.iter().find(|(unit, _)| *unit == name)?.1 / own
        };
        let number = if self.whole { number.round_ties_even() } else { number };
        let fits = !self.whole || (f64::from(i32::MIN)..=f64::from(i32::MAX)).contains(&number);
        fits.then_some(number)
    }

    /// What was likely meant by a word that does not fit: its unit spelt right, or the border that it is
    /// beyond.
    pub(in crate::config::rows) fn near(self, word: &str) -> Option<String> {
        if let Some(number) = self.value(word) {
            let end = |text: &str| text.parse::<f64>().ok();
            let least = end(self.least).filter(|least| number < *least).map(|_| self.least);
            let most = || end(self.most).filter(|most| number > *most).map(|_| self.most);
            return least.or_else(most).map(str::to_owned);
        }
        let text = word.trim();
        let digits = text.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(text.len());
        let (number, unit) = (&text[..digits], text[digits..].trim());
        let (all, _) = self.units()?;
        let same =
            |known: &str| known.eq_ignore_ascii_case(unit) || known.eq_ignore_ascii_case(&format!("{unit}B"));
        let known = all.iter().find(|(known, _)| !unit.is_empty() && same(known))?.0;
        let near = format!("{number}{known}");
        self.holds(&near).then_some(near)
    }

    pub(super) fn holds(self, word: &str) -> bool {
        let end = |text: &str, none: f64| text.parse().unwrap_or(none);
        let range = end(self.least, f64::MIN)..=end(self.most, f64::MAX);
        self.value(word).is_some_and(|number| range.contains(&number))
    }

    pub(super) fn expected(self) -> String {
        let what = if self.whole { "a whole number" } else { "a number" };
        let unit = match self.unit {
            "" => String::new(),
            "8kB" => " (in units of 8kB, or with a unit such as 64MB)".to_owned(),
            "B" | "kB" | "MB" => format!(" (in {}, or with a unit such as 64MB)", self.unit),
            unit => format!(" (in {unit}, or with a unit such as 5min)"),
        };
        match (self.least, self.most) {
            ("", "") => format!("{what}{unit}"),
            (least, "") => format!("{what} of at least {least}{unit}"),
            ("", most) => format!("{what} of at most {most}{unit}"),
            (least, most) => format!("{what} from {least} to {most}{unit}"),
        }
    }
}

/// What the C library takes for a blank.
fn is_space(c: char) -> bool {
    matches!(c, ' ' | '\t' | '\n' | '\r' | '\u{b}' | '\u{c}')
}

/// A number as `strtol` reads it with any base, or a fraction where one follows.
fn whole(text: &str) -> Option<(f64, &str)> {
    let unsigned = text.strip_prefix(['-', '+']).unwrap_or(text);
    let negative = text.starts_with('-');
    let (base, digits) = match unsigned.as_bytes() {
        [b'0', b'x' | b'X', next, ..] if next.is_ascii_hexdigit() => (16, &unsigned[2..]),
        [b'0', ..] => (8, unsigned),
        _ => (10, unsigned),
    };
    let end = digits.find(|c: char| !c.is_digit(base)).unwrap_or(digits.len());
    let (own, rest) = digits.split_at(end);
    // A fraction, an exponent, or more than fits: it is read anew.
    let parsed = i64::from_str_radix(if own.is_empty() { "0" } else { own }, base);
    let Ok(number) = parsed else { return real(text) };
    if rest.starts_with(['.', 'e', 'E']) {
        return real(text);
    }
    #[expect(clippy::cast_precision_loss, reason = "a number beyond 2^53 is out of every range")]
    let number = number as f64;
    (!own.is_empty()).then_some((if negative { -number } else { number }, rest))
}

/// A number as `strtod` reads it; infinity is one.
fn real(text: &str) -> Option<(f64, &str)> {
    let unsigned = text.strip_prefix(['-', '+']).unwrap_or(text);
    let sign = if text.starts_with('-') { -1.0 } else { 1.0 };
    for (name, value) in [("infinity", f64::INFINITY), ("inf", f64::INFINITY)] {
        if let Some(begin) = unsigned.get(..name.len())
            && begin.eq_ignore_ascii_case(name)
        {
            return Some((sign * value, &unsigned[name.len()..]));
        }
    }
    if let [b'0', b'x' | b'X', next, ..] = unsigned.as_bytes()
        && (next.is_ascii_hexdigit() || *next == b'.')
    {
        return hexadecimal(&unsigned[2..]).map(|(number, rest)| (sign * number, rest));
    }
    let digits = |t: &str| t.bytes().take_while(u8::is_ascii_digit).count();
    let mut end = digits(unsigned);
    let mut count = end;
    if unsigned[end..].starts_with('.') {
        let more = digits(&unsigned[end + 1..]);
        count += more;
        end += if count > 0 { 1 + more } else { 0 };
    }
    if count == 0 {
        return None;
    }
    let exponent = &unsigned[end..];
    if exponent.starts_with(['e', 'E']) {
        let power = exponent[1..].strip_prefix(['-', '+']).unwrap_or(&exponent[1..]);
        let count = digits(power);
        end += if count > 0 { exponent.len() - power.len() + count } else { 0 };
    }
    let number: f64 = unsigned[..end].parse().ok()?;
    // Too large a number is an error of its own (ERANGE).
    number.is_finite().then_some((sign * number, &unsigned[end..]))
}

/// The digits behind `0x`, with a fraction and a power of two.
fn hexadecimal(text: &str) -> Option<(f64, &str)> {
    let (mut number, mut scale, mut at, mut seen) = (0.0f64, 1.0f64, 0, 0);
    let mut fraction = false;
    for c in text.chars() {
        match (c.to_digit(16), c) {
            (Some(digit), _) => {
                seen += 1;
                if fraction {
                    scale /= 16.0;
                    number += f64::from(digit) * scale;
                } else {
                    number = number.mul_add(16.0, f64::from(digit));
                }
            }
            (None, '.') if !fraction => fraction = true,
            _ => break,
        }
        at += 1;
    }
    let mut rest = &text[at..];
    if let Some(power) = rest.strip_prefix(['p', 'P']) {
        let digits = power.strip_prefix(['-', '+']).unwrap_or(power);
        let end = digits.find(|c: char| !c.is_ascii_digit()).unwrap_or(digits.len());
        if end > 0 {
            let size = power.len() - digits.len() + end;
            number *= power[..size].parse::<i32>().map_or(f64::INFINITY, |p| 2.0f64.powi(p));
            rest = &power[size..];
        }
    }
    (seen > 0 && number.is_finite()).then_some((number, rest))
}

#[cfg(test)]
mod tests {
    use super::*;

    const fn amount(unit: &'static str, whole: bool, least: &'static str, most: &'static str) -> Amount {
        Amount { unit, whole, least, most }
    }

    /// Every expectation was asked of PostgreSQL 15.
    #[test]
    fn numbers_with_units_are_read_as_the_daemon_reads_them() {
        let buffers = amount("8kB", true, "16", "1073741823");
        for (word, value) in [
            ("16", Some(16.0)),
            (" 128MB", Some(16384.0)),
            ("128 MB ", Some(16384.0)),
            ("0x10", Some(16.0)),
            ("020", Some(16.0)),
            ("1.5MB", Some(192.0)),
            ("1e2", Some(100.0)),
            ("128mb", None),
            ("128M", None),
            ("128K", None),
            ("", None),
            ("MB", None),
            ("-", None),
            ("08", None),
            ("12 s", None),
            ("1 2", None),
            ("nan", None),
            ("infinity", None),
            ("99999999999999999999", None),
        ] {
            assert_eq!(buffers.value(word), value, "{word}");
        }
        let delay = amount("ms", false, "0", "100");
        for (word, holds) in [
            ("2", true),
            ("2.5ms", true),
            ("1500us", true),
            ("0.1s", true),
            ("1s", false),
            ("inf", false),
            ("1e400", false),
            ("-0.5", false),
            ("0x1.8p1", true),
            ("0x", false),
            (".5", true),
            (".", false),
            ("5 e", false),
        ] {
            assert_eq!(delay.holds(word), holds, "{word}");
        }
        assert!(!amount("", true, "0", "10").holds("1kB"));
        assert!(!amount("", false, "0", "").holds("infinity"));
    }

    #[test]
    fn what_is_expected_is_said_with_its_bounds() {
        assert_eq!(
            amount("s", true, "1", "600").expected(),
            "a whole number from 1 to 600 (in s, or with a unit such as 5min)"
        );
        assert_eq!(amount("", false, "", "1").expected(), "a number of at most 1");
        assert_eq!(amount("", false, "0", "").expected(), "a number of at least 0");
    }
}
