//! What a directive takes, as it is written: types with how often each may stand there.

/// A type in one place of a directive, and how many words of it may stand there.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Slot {
    /// Name of the type.
    pub name: String,
    /// What stands between its brackets, parted by commas.
    pub arguments: Vec<String>,
    /// At least so many words.
    pub least: u16,
    /// At most so many; none: without end.
    pub most: Option<u16>,
}

/// Alternatives, each a list of slots: `int(2..) size(k,m) | enum(off)`, `str{1,3}`, `str+`; `none` takes no
/// word at all.
///
/// # Errors
/// What cannot be read.
pub fn takes(text: &str) -> Result<Vec<Vec<Slot>>, String> {
    split(text, " | ")
        .into_iter()
        .map(
            |one| {
                if one == "none" { Ok(Vec::new()) } else { split(one, " ").into_iter().map(slot).collect() }
            },
        )
        .collect()
}

/// Splits at a sign outside of brackets.
fn split<'t>(text: &'t str, sign: &str) -> Vec<&'t str> {
    let (mut parts, mut depth, mut start, mut at) = (Vec::new(), 0i32, 0, 0);
    while at < text.len() {
        let rest = &text[at..];
        if depth == 0 && rest.starts_with(sign) {
            parts.push(text[start..at].trim());
            at += sign.len();
            start = at;
            continue;
        }
        depth += i32::from(rest.starts_with('(')) - i32::from(rest.starts_with(')'));
        at += rest.chars().next().map_or(1, char::len_utf8);
    }
    parts.push(text[start..].trim());
    parts
}

/// Arguments between commas; one that holds a comma stands in quotes.
fn words(text: &str) -> Vec<String> {
    let (mut all, mut quoted) = (vec![String::new()], false);
    for c in text.chars() {
        match c {
            '\'' => quoted = !quoted,
            ',' if !quoted => all.push(String::new()),
            c => all.last_mut().into_iter().for_each(|word| word.push(c)),
        }
    }
    all.into_iter().map(|word| word.trim().to_owned()).collect()
}

fn slot(text: &str) -> Result<Slot, String> {
    let wrong = || format!("{text:?} is not a type");
    let end = text.find(['(', '{', '?', '*', '+']).unwrap_or(text.len());
    let (name, mut rest) = text.split_at(end);
    if name.is_empty() || !name.bytes().all(|b| b.is_ascii_lowercase() || b == b'_') {
        return Err(wrong());
    }
    let mut arguments = Vec::new();
    if let Some(inner) = rest.strip_prefix('(') {
        let close = inner.rfind(')').ok_or_else(wrong)?;
        arguments = words(&inner[..close]);
        rest = &inner[close + 1..];
    }
    let number = |n: &str| n.parse::<u16>().map_err(|_| wrong());
    let (least, most) = match rest {
        "" => (1, Some(1)),
        "?" => (0, Some(1)),
        "*" => (0, None),
        "+" => (1, None),
        counted => {
            let inner = counted.strip_prefix('{').and_then(|c| c.strip_suffix('}')).ok_or_else(wrong)?;
            match inner.split_once(',') {
                None => (number(inner)?, Some(number(inner)?)),
                Some((least, "")) => (number(least)?, None),
                Some((least, most)) => (number(least)?, Some(number(most)?)),
            }
        }
    };
    Ok(Slot { name: name.to_owned(), arguments, least, most })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn types_come_with_their_arguments_and_counts() {
        let all = takes("int(2..) size(k,m) | enum(off, a|b)").unwrap();
        assert_eq!(all.len(), 2);
        assert_eq!((all[0][0].name.as_str(), all[0][0].arguments.clone()), ("int", vec!["2..".to_owned()]));
        assert_eq!(all[1][0].arguments, ["off", "a|b"]);
        for (text, least, most) in [
            ("str", 1, Some(1)),
            ("str?", 0, Some(1)),
            ("str*", 0, None),
            ("str+", 1, None),
            ("str{2}", 2, Some(2)),
            ("str{1,3}", 1, Some(3)),
            ("str{2,}", 2, None),
        ] {
            let slot = &takes(text).unwrap()[0][0];
            assert_eq!((slot.least, slot.most), (least, most), "{text}");
        }
        assert_eq!(takes("enum('allow,deny', x)").unwrap()[0][0].arguments, ["allow,deny", "x"]);
        assert_eq!(takes("none").unwrap(), [vec![]]);
        for wrong in ["", "Str", "str{x}", "int(", "str!"] {
            assert!(takes(wrong).is_err(), "{wrong}");
        }
    }
}
