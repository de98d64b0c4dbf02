//! Formats of log lines and headers: text with variables of the daemon and samples
//! (`parse_logformat_string` of log.c).
use super::samples::{Known, Reference};

/// Variables of log lines.
const VARIABLES: &[&str] = &[
    "o", "B", "CC", "CS", "H", "ID", "ST", "T", "Ta", "Tc", "Th", "Ti", "Tl", "Tq", "Tr", "TR", "Td", "Ts",
    "Tt", "Tu", "Tw", "U", "ac", "b", "bc", "bi", "bp", "bq", "ci", "cp", "f", "fc", "fi", "fp", "ft", "hr",
    "hrl", "hs", "hsl", "HM", "HP", "HPO", "HQ", "HU", "HV", "lc", "ms", "pid", "r", "rc", "rt", "s", "sc",
    "si", "sp", "sq", "sslc", "sslv", "t", "tr", "trg", "trl", "ts", "tsc",
];

/// What a format names.
///
/// # Errors
/// What is wrong with it, in words.
pub(super) fn format(known: Known, text: &str, places: u32) -> Result<Vec<Reference>, String> {
    let mut refers = Vec::new();
    let mut rest = text;
    while let Some(at) = rest.find('%') {
        rest = &rest[at + 1..];
        let mut argument = false;
        if let Some(inner) = rest.strip_prefix('{') {
            let end = inner.find('}').ok_or_else(|| format!("a brace is not closed in \"{text}\""))?;
            rest = &inner[end + 1..];
            argument = true;
        }
        let next = rest.chars().next();
        match next {
            Some('[') => {
                let inner = &rest[1..];
                let (expression, behind) = known.inner(inner)?;
                if expression.places & places == 0 {
                    return Err(format!("{} cannot be known here", expression.name));
                }
                refers.extend(expression.refers);
                rest = behind
                    .strip_prefix(']')
                    .ok_or_else(|| format!("a bracket is not closed after \"{}\"", head(inner, behind)))?;
            }
            Some(c) if c.is_ascii_alphabetic() || argument && c.is_ascii_digit() => {
                let length = rest.bytes().take_while(u8::is_ascii_alphanumeric).count();
                let name = &rest[..length];
                if !VARIABLES.contains(&name) {
                    return Err(format!("%{name} is not a variable of a format"));
                }
                rest = &rest[length..];
            }
            _ if argument => return Err("no variable follows the brace of a format".to_owned()),
            Some('%') => rest = &rest[1..],
            Some(c) if c.is_ascii_digit() || c == ' ' || c == '\t' => {
                return Err("a lone % must be written %%".to_owned());
            }
            None => return Err("a format ends in a lone %".to_owned()),
            Some(_) => {}
        }
    }
    Ok(refers)
}

fn head<'t>(whole: &'t str, behind: &str) -> &'t str {
    &whole[..whole.len() - behind.len()]
}

#[cfg(test)]
mod tests {
    use super::super::samples::{Installed, places};
    use super::*;

    #[test]
    fn formats_hold_variables_and_samples() {
        let of = |text: &str, places: u32| {
            format(Known { release: &Installed::default(), scripts: false }, text, places).is_ok()
        };
        for text in ["", "a", "%ci:%cp", "%{+Q}r", "%[src]", "%[hdr(host),lower]x", "100%%", "%{+X}o\\ %ci%-"]
        {
            assert!(of(text, u32::MAX), "{text}");
        }
        for text in
            ["%tide", "%{+Q}", "%{+Q", "%[tide]", "%[src", "%[src)]", "5% 6", "%5", "%", "%[src,tide]"]
        {
            assert!(!of(text, u32::MAX), "{text}");
        }
        assert!(of("%[res.hdr(a)]", places::BACK_RESPONSE) && !of("%[res.hdr(a)]", places::FRONT_REQUEST));
    }
}
