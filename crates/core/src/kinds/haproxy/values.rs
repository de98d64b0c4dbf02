//! Values as haproxy reads them by hand: spans of time, sizes, numbers, names, and what samples and
//! converters ask of their arguments beyond their types.
use super::samples::{Reference, Refers};
use crate::config::regex_fault;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// What a number of a span of time counts where no unit stands behind it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Unit {
    Milliseconds,
    Seconds,
}

/// A span of time: digits, then at most one unit; what follows the unit is only warned of
/// (`parse_time_err` of tools.c). An error says what is expected.
pub(super) fn time(word: &str, unit: Unit) -> Result<(), String> {
    let digits = word.bytes().take_while(u8::is_ascii_digit).count();
    let expected = || format!("\"{word}\" is not a time, expected one such as 30s or 500ms");
    if digits == 0 {
        return Err(expected());
    }
    let number = word[..digits].parse::<u128>().unwrap_or(u128::MAX >> 32);
    let rest = &word[digits..];
    let scale: u128 = match unit {
        Unit::Milliseconds => 1_000,
        Unit::Seconds => 1_000_000,
    };
    // In microseconds.
    let one: u128 = match rest.as_bytes() {
        [] => scale,
        [b'u', b's', ..] => 1,
        [b'm', b's', ..] => 1_000,
        [b's', ..] => 1_000_000,
        [b'm', ..] => 60_000_000,
        [b'h', ..] => 3_600_000_000,
        [b'd', ..] => 86_400_000_000,
        _ => return Err(expected()),
    };
    let counted = number.saturating_mul(one).div_ceil(scale);
    if counted >= 1 << 31 {
        return Err(format!("{word} is too long"));
    }
    Ok(())
}

/// A number of bytes with at most one letter behind it (`parse_size_err`).
pub(super) fn is_size(word: &str) -> bool {
    let digits = word.bytes().take_while(u8::is_ascii_digit).count();
    let shift = match &word[digits..] {
        "" => 0,
        "k" | "K" => 10,
        "m" | "M" => 20,
        "g" | "G" => 30,
        _ => return false,
    };
    word[..digits].parse::<u64>().is_ok_and(|n| n <= u64::from(u32::MAX) >> shift)
}

/// The number that a word begins with (`atol`).
pub(super) fn leading(word: &str) -> i64 {
    let text = word.trim_start();
    let (sign, digits) = match text.strip_prefix('-') {
        Some(rest) => (-1, rest),
        None => (1, text.strip_prefix('+').unwrap_or(text)),
    };
    let of = |n: i64, d: u8| n.saturating_mul(10).saturating_add(i64::from(d - b'0'));
    sign * digits.bytes().take_while(u8::is_ascii_digit).fold(0, of)
}

/// A whole number and nothing else.
pub(super) fn is_number(word: &str) -> bool {
    let digits = word.strip_prefix(['-', '+']).unwrap_or(word);
    !digits.is_empty() && digits.bytes().all(|b| b.is_ascii_digit())
}

/// A sign that may not stand in the name of a section, server or list (`invalid_char`).
pub(super) fn bad_sign(name: &str) -> Option<char> {
    name.chars().find(|c| !c.is_ascii_alphanumeric() && !matches!(c, '.' | ':' | '_' | '-'))
}

/// The name of a variable with its scope.
pub(super) fn variable(name: &str) -> Result<(), String> {
    let scoped = name.split_once('.');
    let known =
        scoped.is_some_and(|(scope, _)| matches!(scope, "proc" | "sess" | "txn" | "req" | "res" | "check"));
    let Some((_, rest)) = scoped.filter(|_| known) else {
        return Err(format!(
            "the name \"{name}\" has no scope in front: proc., sess., txn., req., res. or check."
        ));
    };
    match rest.chars().find(|c| !c.is_ascii_alphanumeric() && !matches!(c, '_' | '.')) {
        Some(sign) => Err(format!("{sign} is not allowed in the name of the variable {name}")),
        None if rest.is_empty() => Err(format!("{name} is not the name of a variable")),
        None => Ok(()),
    }
}

/// Whether an argument is of its type.
pub(super) fn is_of(of: &str, value: &str) -> bool {
    match of {
        "int" => is_number(value),
        "IPv4_address" | "ipv4" => value.parse::<Ipv4Addr>().is_ok(),
        "IPv6_address" | "ipv6" => value.parse::<Ipv6Addr>().is_ok(),
        "mask4" => value.parse::<Ipv4Addr>().is_ok() || value.parse::<u8>().is_ok_and(|bits| bits <= 32),
        "mask6" => value.parse::<Ipv6Addr>().is_ok() || value.parse::<u8>().is_ok_and(|bits| bits <= 128),
        "time" => time(value, Unit::Milliseconds).is_ok(),
        "size" => is_size(value),
        _ => true,
    }
}

/// A type of arguments in words.
pub(super) fn expected(of: &str) -> &'static str {
    match of {
        "int" => "number",
        "IPv4_address" | "ipv4" => "IPv4 address",
        "IPv6_address" | "ipv6" => "IPv6 address",
        "mask4" => "mask of IPv4",
        "mask6" => "mask of IPv6",
        "time" => "span of time",
        "size" => "size",
        _ => "value",
    }
}

/// What some samples ask of their arguments.
pub(super) fn of_sample(name: &str, values: &[String]) -> Result<(), String> {
    let value = |at: usize| values.get(at).map(String::as_str);
    let number = |at: usize| value(at).map(leading);
    match name {
        "var" => variable(value(0).unwrap_or_default()),
        "payload_lv" | "req.payload_lv" | "res.payload_lv" => match (number(0), number(1)) {
            (Some(from), _) if from < 0 => Err("the offset must not be negative".to_owned()),
            (_, Some(0)) => Err("the length must be greater than 0".to_owned()),
            _ => Ok(()),
        },
        "bool" => match value(0).map(str::to_ascii_lowercase).as_deref() {
            Some("true" | "false" | "1" | "0") => Ok(()),
            _ => Err("bool takes true or false".to_owned()),
        },
        "bin" => match value(0) {
            Some(text) if text.len().is_multiple_of(2) && text.bytes().all(|b| b.is_ascii_hexdigit()) => {
                Ok(())
            }
            _ => Err("bin takes pairs of hexadecimal digits".to_owned()),
        },
        "uuid" if number(0).is_some_and(|n| n != 4 && n != 7) => {
            Err("only version 4 of uuid is known".to_owned())
        }
        "date" if value(1).is_some_and(|u| !matches!(u, "s" | "ms" | "us" | "")) => {
            Err("date counts in s, ms or us".to_owned())
        }
        _ if name.contains("hdr") && number(1).is_some_and(|n| n < -10) => {
            Err("an occurrence of a header must be at least -10".to_owned())
        }
        _ => Ok(()),
    }
}

/// What some converters ask of their arguments; files and patterns are noted.
pub(super) fn of_converter(name: &str, values: &[String], refers: &mut Vec<Reference>) -> Result<(), String> {
    let value = |at: usize| values.get(at).map_or("", String::as_str);
    match name {
        "and" | "or" | "xor" | "add" | "sub" | "mul" | "div" | "mod" => {
            let of = value(0);
            match variable(of).is_ok() || is_number(of) || of.is_empty() {
                true => Ok(()),
                false => Err(format!("{name} takes a number or the name of a variable, not \"{of}\"")),
            }
        }
        "strcmp" | "secure_memcmp" => variable(value(0)),
        "concat" if !value(1).is_empty() => variable(value(1)),
        "field" | "word" if leading(value(0)) == 0 => Err(format!("{name} counts from 1")),
        "field" | "word" if value(1).is_empty() => Err(format!("{name} needs a sign that parts")),
        "regsub" => match value(2).chars().find(|c| !matches!(c, 'i' | 'g')) {
            Some(flag) => Err(format!("{flag} is not a flag of regsub, expected i or g")),
            None => Ok(()),
        },
        "json" => match value(0) {
            "" | "ascii" | "utf8" | "utf8s" | "utf8p" | "utf8ps" => Ok(()),
            other => Err(format!("{other} is not an encoding, expected ascii or utf8")),
        },
        "sha2" => match leading(value(0)) {
            0 | 224 | 256 | 384 | 512 => Ok(()),
            other => Err(format!("sha2 has 224, 256, 384 or 512 bits, not {other}")),
        },
        "url_dec" | "url_enc" | "debug" => Ok(()),
        _ if name == "map" || name.starts_with("map_") => {
            if name.contains("_ip") && name.ends_with("_ip") && !name.starts_with("map_") {
                return Ok(());
            }
            let file = value(0).to_owned();
            refers.push(Reference { to: Refers::File, name: file });
            Ok(())
        }
        _ => Ok(()),
    }
}

/// How the patterns of a list are compared, by the name of the method.
pub(super) fn is_method(name: &str) -> bool {
    matches!(
        name,
        "found"
            | "bool"
            | "int"
            | "ip"
            | "bin"
            | "len"
            | "str"
            | "beg"
            | "sub"
            | "dir"
            | "dom"
            | "end"
            | "reg"
    )
}

/// A network or an address.
fn is_network(text: &str) -> bool {
    let (address, mask) = match text.split_once('/') {
        Some((address, mask)) => (address, Some(mask)),
        None => (text, None),
    };
    // The last numbers of a short address are 0.
    let short = || {
        let parts: Vec<&str> = address.split('.').collect();
        parts.len() <= 4
            && parts.iter().all(|p| !p.is_empty() && p.parse::<u8>().is_ok())
            && !address.contains(':')
    };
    match address.trim_start_matches('[').trim_end_matches(']').parse::<IpAddr>() {
        Ok(IpAddr::V4(_)) => mask.is_none_or(|m| is_of("mask4", m)),
        Ok(IpAddr::V6(_)) => mask.is_none_or(|m| is_of("mask6", m)),
        Err(_) => short() && mask.is_none_or(|m| is_of("mask4", m)),
    }
}

/// A number or a range of numbers; `dots` are allowed in versions.
fn is_range(text: &str, dots: bool) -> bool {
    let one = |part: &str| {
        let digits = |t: &str| !t.is_empty() && t.bytes().all(|b| b.is_ascii_digit());
        match part.split_once('.') {
            Some((major, minor)) if dots => digits(major) && digits(minor),
            Some(_) => false,
            None => digits(part),
        }
    };
    let Some(at) = text.find([':', '-']) else { return one(text) };
    let (from, to) = (&text[..at], &text[at + 1..]);
    match (from.is_empty(), to.is_empty()) {
        (true, true) => false,
        (true, false) => one(to),
        (false, true) => one(from),
        (false, false) => one(from) && one(to) && (dots || leading(from) <= leading(to)),
    }
}

/// Whether a pattern can be compared by a method; `None` where that hangs on the host.
pub(super) fn pattern(method: &str, text: &str, versions: bool) -> Option<Result<(), String>> {
    let told = |good: bool, what: &str| {
        Some(if good { Ok(()) } else { Err(format!("\"{text}\" is not a valid {what}")) })
    };
    match method {
        "int" | "len" => told(
            is_range(text, versions),
            if versions { "version or range of them" } else { "number or range" },
        ),
        // The daemon looks names up.
        "ip" if text.starts_with(|c: char| c.is_ascii_alphabetic()) && !text.contains([':', '/']) => None,
        "ip" => told(is_network(text), "address or network"),
        "bin" => told(
            text.len().is_multiple_of(2) && text.bytes().all(|b| b.is_ascii_hexdigit()),
            "row of pairs of hexadecimal digits",
        ),
        "reg" => match regex_fault(text) {
            Some(why) => Some(Err(format!("the pattern \"{text}\" is broken: {why}"))),
            None => Some(Ok(())),
        },
        _ => Some(Ok(())),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn spans_of_time_have_one_unit_at_most() {
        for word in ["0", "30", "30s", "500ms", "5m", "1h", "2d", "1us", "30sec", "5min"] {
            assert!(time(word, Unit::Milliseconds).is_ok(), "{word}");
        }
        for word in ["", "s", "-1", "30x", "1.5s", "25d", "99999999999999999999"] {
            assert!(time(word, Unit::Milliseconds).is_err(), "{word}");
        }
        assert!(time("25d", Unit::Seconds).is_ok());
    }

    #[test]
    fn sizes_and_numbers() {
        assert!(["1", "1k", "100M", "3g"].iter().all(|w| is_size(w)));
        assert!(!["", "k", "1kb", "5g", "-1", "99999999999"].iter().any(|w| is_size(w)));
        assert_eq!((leading(" -12x"), leading("+3"), leading("x"), leading("")), (-12, 3, 0, 0));
        assert!(is_number("-1") && is_number("+1") && !is_number("-") && !is_number("1x"));
        assert_eq!((bad_sign("a.b:c_d-e"), bad_sign("a b"), bad_sign("a/b")), (None, Some(' '), Some('/')));
    }

    #[test]
    fn patterns_fit_their_method() {
        for (method, text, good) in [
            ("int", "80", true),
            ("int", "1:5", true),
            ("int", "5:1", false),
            ("int", ":5", true),
            ("int", "x", false),
            ("int", "", false),
            ("ip", "10.0.0.0/8", true),
            ("ip", "10.0/16", true),
            ("ip", "::1", true),
            ("ip", "10.0.0.0/33", false),
            ("ip", "300.1.1.1", false),
            ("bin", "0aff", true),
            ("bin", "0af", false),
            ("reg", "^/a(b|c)$", true),
            ("reg", "(", false),
            ("str", "", true),
        ] {
            assert_eq!(pattern(method, text, false).unwrap().is_ok(), good, "{method} {text}");
        }
        assert!(pattern("ip", "quay.example", false).is_none());
        assert!(pattern("int", "1.2:1.3", true).unwrap().is_ok());
        assert!(pattern("int", "1.2", false).unwrap().is_err());
    }

    #[test]
    fn variables_have_a_scope() {
        assert!(variable("txn.tide").is_ok() && variable("proc.a_b.c").is_ok());
        for name in ["tide", "quay.tide", "txn.", "txn.a-b"] {
            assert!(variable(name).is_err(), "{name}");
        }
    }
}
