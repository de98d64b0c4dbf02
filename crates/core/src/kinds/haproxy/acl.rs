//! Lists that a request is compared with, and the conditions that are made of them (`acl.c`).
use super::samples::{Expression, Known, Reference, Refers, Sort};
use super::tokens::Words;
use super::values;
use std::collections::BTreeSet;

/// Lists that need not be defined.
const BUILT_IN: &[&str] = &[
    "TRUE",
    "FALSE",
    "LOCALHOST",
    "HTTP",
    "HTTP_1.0",
    "HTTP_1.1",
    "HTTP_2.0",
    "HTTP_3.0",
    "METH_CONNECT",
    "METH_DELETE",
    "METH_GET",
    "METH_HEAD",
    "METH_OPTIONS",
    "METH_POST",
    "METH_PUT",
    "METH_TRACE",
    "HTTP_URL_ABS",
    "HTTP_URL_SLASH",
    "HTTP_URL_STAR",
    "HTTP_CONTENT",
    "RDP_COOKIE",
    "REQ_CONTENT",
    "WAIT_END",
];

/// What a line is wrong by, and the word that is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Wrong {
    pub(super) at: usize,
    pub(super) why: String,
    /// Two things have one name.
    pub(super) twice: bool,
    /// What was likely meant.
    pub(super) near: Option<String>,
}

impl Wrong {
    pub(super) fn new(at: usize, why: impl Into<String>) -> Self {
        Self { at, why: why.into(), twice: false, near: None }
    }

    /// The same with what was likely meant.
    pub(super) fn meant(self, near: Option<&str>) -> Self {
        Self { near: near.map(str::to_owned), ..self }
    }

    /// Something has a name that something else has already.
    pub(super) fn twice(at: usize, why: impl Into<String>) -> Self {
        Self { twice: true, ..Self::new(at, why) }
    }
}

/// What a sample is compared by where nothing says so.
fn natural(expression: &Expression) -> Option<&'static str> {
    expression.compares.or(match expression.sort {
        Sort::Bool => Some("bool"),
        Sort::Int => Some("int"),
        Sort::Addr | Sort::Ip4 | Sort::Ip6 => Some("ip"),
        Sort::Str => Some("str"),
        Sort::Method => Some("method"),
        Sort::Any | Sort::Bin => None,
    })
}

/// What a method of comparing works on.
fn works_on(method: &str) -> Sort {
    match method {
        "bool" | "int" => Sort::Int,
        "ip" => Sort::Addr,
        "bin" => Sort::Bin,
        _ => Sort::Str,
    }
}

/// A sample with what it is compared with, in the words from one on until another; what it names.
pub(super) fn list(known: Known, words: Words, from: usize, to: usize) -> Result<Vec<Reference>, Wrong> {
    // What stands behind the end does not belong to it.
    let words = Words(&words.0[..to.min(words.len())]);
    let mut at = from;
    let wrong = |why| Wrong::new(from, why);
    let expression = known.expression(words, &mut at).map_err(wrong)?;
    let mut method = natural(&expression);
    let mut refers = expression.refers.clone();
    let mut loaded = false;
    while words.at(at).starts_with('-') {
        match words.at(at) {
            "-i" | "-n" | "-M" => {}
            "-u" => {
                at += 1;
                if !values::is_number(words.at(at)) {
                    return Err(Wrong::new(at, "-u takes a number"));
                }
            }
            "-f" => {
                at += 1;
                if method.is_none() {
                    return Err(unmatched(&expression, from));
                }
                if words.at(at).is_empty() {
                    return Err(Wrong::new(at - 1, "-f takes a file"));
                }
                refers.push(Reference { to: Refers::File, name: words.at(at).to_owned() });
                loaded = true;
            }
            "-m" => {
                at += 1;
                let name = words.at(at);
                if loaded {
                    return Err(Wrong::new(at - 1, "-m must come before patterns and files"));
                }
                if !values::is_method(name) {
                    return Err(Wrong::new(at, format!("\"{name}\" is not a matching method")));
                }
                if name != "found" && !expression.sort.becomes(works_on(name)) {
                    return Err(Wrong::new(at, format!("{} cannot be compared by {name}", expression.name)));
                }
                method = METHODS.iter().find(|m| **m == name).copied();
            }
            "--" => {
                at += 1;
                break;
            }
            other => {
                let why =
                    format!("{other} is not an option of a list; put -- before patterns that begin with -");
                return Err(Wrong::new(at, why));
            }
        }
        at += 1;
    }
    let Some(method) = method else { return Err(unmatched(&expression, from)) };
    patterns(method, &expression, words, at)?;
    Ok(refers)
}

const METHODS: &[&str] =
    &["found", "bool", "int", "ip", "bin", "len", "str", "beg", "sub", "dir", "dom", "end", "reg"];

fn unmatched(expression: &Expression, at: usize) -> Wrong {
    Wrong::new(at, format!("-m must say how {} is compared", expression.name))
}

fn patterns(method: &str, expression: &Expression, words: Words, from: usize) -> Result<(), Wrong> {
    let versions = expression.name.contains("ssl_ver");
    let operators = method == "int";
    let mut at = from;
    while at < words.len() {
        let text = words.at(at);
        let operator = operators && matches!(text, "eq" | "ge" | "gt" | "le" | "lt");
        if !operator && let Some(Err(why)) = values::pattern(method, text, versions) {
            return Err(Wrong::new(at, why));
        }
        at += 1;
    }
    Ok(())
}

/// The definition of a list: its name, then what is compared.
pub(super) fn definition(known: Known, words: Words) -> Result<Vec<Reference>, Wrong> {
    let name = words.at(1);
    if name.is_empty() {
        return Err(Wrong::new(0, "acl needs a name"));
    }
    if let Some(sign) = values::bad_sign(name) {
        return Err(Wrong::new(1, format!("\"{sign}\" is not allowed in the name of a list")));
    }
    if name.eq_ignore_ascii_case("or") {
        return Err(Wrong::new(1, "a list named \"or\" could never be used"));
    }
    list(known, words, 2, words.len())
}

/// A condition, whose first word is `if` or `unless`; what it names.
pub(super) fn condition(
    known: Known,
    defined: &BTreeSet<String>,
    words: Words,
    from: usize,
) -> Result<Vec<Reference>, Wrong> {
    let mut refers = Vec::new();
    let mut at = from + 1;
    while at < words.len() {
        let word = words.at(at).trim_start_matches('!');
        if word == "{" {
            let end = (at + 1..words.len())
                .find(|end| words.at(*end) == "}")
                .ok_or(Wrong::new(at, "a brace of the condition is not closed"))?;
            refers.extend(list(known, words, at + 1, end)?);
            at = end + 1;
            continue;
        }
        let joins = word.is_empty() || word == "||" || word.eq_ignore_ascii_case("or");
        if !joins && !defined.contains(word) && !BUILT_IN.contains(&word) {
            return Err(Wrong::new(at, format!("no list is named \"{word}\"")));
        }
        at += 1;
    }
    Ok(refers)
}

#[cfg(test)]
mod tests {
    use super::super::samples::Installed;
    use super::super::tokens::Word;
    use super::*;

    fn with<T>(line: &str, run: impl Fn(Words) -> T) -> T {
        let words: Vec<Word> = line
            .split(' ')
            .map(|raw| Word { value: raw.to_owned(), raw, open: false, masked: false })
            .collect();
        run(Words(&words))
    }

    #[test]
    fn lists_are_judged_by_what_they_compare() {
        let installed = Installed::default();
        let known = Known { release: &installed, scripts: false };
        let of = |line: &str| with(line, |words| definition(known, words).map(|_| ()).map_err(|w| w.at));
        for line in [
            "acl tide path_beg /ebb /flood",
            "acl tide src 10.0.0.0/8 ::1",
            "acl tide hdr(host) -i quay.example",
            "acl tide hdr(host) -m reg -i ^quay",
            "acl tide dst_port 80 8000:8010",
            "acl tide req.len gt 0",
            "acl tide ssl_fc",
            "acl tide var(txn.a) -m found",
            "acl tide req.ssl_ver 3.0:3.2",
            "acl tide path -- -x",
            "acl tide method GET HEAD",
        ] {
            assert_eq!(of(line), Ok(()), "{line}");
        }
        for (line, at) in [
            ("acl tide", 2),
            ("acl or src", 1),
            ("acl a/b src", 1),
            ("acl tide pathx /", 2),
            ("acl tide path -q /", 3),
            ("acl tide path -m tide /", 4),
            ("acl tide src 10.0.0.0/99", 3),
            ("acl tide dst_port http", 3),
            ("acl tide path_reg (", 3),
            ("acl tide var(txn.a) x", 2),
            ("acl tide path -f", 3),
            ("acl tide path -u x", 4),
        ] {
            assert_eq!(of(line), Err(at), "{line}");
        }
    }

    #[test]
    fn conditions_name_lists_that_exist() {
        let defined: BTreeSet<String> = ["tide".to_owned()].into();
        let installed = Installed::default();
        let known = Known { release: &installed, scripts: false };
        let of = |line: &str| {
            with(line, |words| condition(known, &defined, words, 0).map(|_| ()).map_err(|w| w.at))
        };
        for line in ["if tide", "if !tide or METH_GET", "unless { path / } tide || ! LOCALHOST", "if"] {
            assert_eq!(of(line), Ok(()), "{line}");
        }
        for (line, at) in [("if ebb", 1), ("if { path /", 1), ("if tide { quay }", 3)] {
            assert_eq!(of(line), Err(at), "{line}");
        }
    }
}
