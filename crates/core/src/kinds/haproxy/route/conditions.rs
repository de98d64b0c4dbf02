//! Whether a condition holds for a request, as far as the request alone decides it.
use super::super::samples::name_at;
use super::super::values::leading;
use crate::route::{Files, Groups, Node, Request};
use std::collections::BTreeMap;
use std::net::IpAddr;

/// What is known of a request where rules look at it.
pub(super) struct Seen<'a, 'h> {
    pub(super) files: &'a Files<'a, 'h>,
    pub(super) request: &'a Request,
    /// Path and query, as rules have made them so far; `None` once nobody here knows them.
    pub(super) path: Option<String>,
    /// `None` where no question mark was sent.
    pub(super) query: Option<String>,
    /// The `Host` header.
    pub(super) host: Option<String>,
    /// Definitions of the section's lists, by name.
    pub(super) lists: BTreeMap<&'a str, Vec<&'a Node>>,
}

/// What a sample holds.
enum Sample {
    Text(String),
    Number(i64),
    Address(IpAddr),
    Truth(bool),
    Missing,
}

/// Either of two, where what is not known stays so.
fn or(one: Option<bool>, other: Option<bool>) -> Option<bool> {
    match (one, other) {
        (Some(true), _) | (_, Some(true)) => Some(true),
        (Some(false), Some(false)) => Some(false),
        _ => None,
    }
}

fn and(one: Option<bool>, other: Option<bool>) -> Option<bool> {
    or(one.map(|b| !b), other.map(|b| !b)).map(|b| !b)
}

impl Seen<'_, '_> {
    /// Whether a condition holds, whose first word is `if` or `unless`; one of no words always does.
    pub(super) fn holds(&self, words: &[String]) -> Option<bool> {
        let Some((first, rest)) = words.split_first() else { return Some(true) };
        let found = self.any(rest);
        if first == "unless" { found.map(|b| !b) } else { found }
    }

    /// The query with its question mark.
    pub(super) fn asked(&self) -> String {
        self.query.as_ref().map_or(String::new(), |query| format!("?{query}"))
    }

    fn any(&self, words: &[String]) -> Option<bool> {
        let mut whole = Some(false);
        let mut part: Option<Option<bool>> = None;
        let mut negated = false;
        let mut at = 0;
        while at < words.len() {
            let bare = words[at].trim_start_matches('!');
            negated ^= (words[at].len() - bare.len()) % 2 == 1;
            at += 1;
            if bare.is_empty() {
                continue;
            }
            if bare == "||" || bare.eq_ignore_ascii_case("or") {
                whole = or(whole, part.take().unwrap_or(Some(true)));
                negated = false;
                continue;
            }
            let term = if bare == "{" {
                let end = words[at..].iter().position(|w| w == "}").map_or(words.len(), |e| at + e);
                let inner = &words[at..end];
                at = end + 1;
                self.list(inner)
            } else {
                self.named(bare)
            };
            let term = if negated { term.map(|b| !b) } else { term };
            part = Some(and(part.unwrap_or(Some(true)), term));
            negated = false;
        }
        or(whole, part.unwrap_or(Some(words.is_empty())))
    }

    /// A list by its name: of several definitions one must hold.
    fn named(&self, name: &str) -> Option<bool> {
        if let Some(all) = self.lists.get(name) {
            let each = all.iter().map(|node| self.list(node.words.get(1..).unwrap_or_default()));
            return each.fold(Some(false), or);
        }
        let path = self.path.as_deref();
        Some(match name {
            "TRUE" | "HTTP" | "HTTP_1.1" | "METH_GET" | "WAIT_END" | "REQ_CONTENT" => true,
            "FALSE" | "HTTP_1.0" | "HTTP_2.0" | "HTTP_3.0" | "HTTP_CONTENT" | "HTTP_URL_ABS"
            | "HTTP_URL_STAR" | "RDP_COOKIE" => false,
            "LOCALHOST" => self.request.client.is_loopback(),
            "HTTP_URL_SLASH" => path?.starts_with('/'),
            name if name.starts_with("METH_") => false,
            _ => return None,
        })
    }

    /// A sample with what it is compared with.
    fn list(&self, words: &[String]) -> Option<bool> {
        let expression = words.first()?;
        let name = name_at(expression);
        let (sample, mut method) = self.sample(expression, name)?;
        let (mut caseless, mut at) = (false, 1);
        while let Some(flag) = words.get(at).filter(|w| w.starts_with('-')) {
            at += 1;
            match flag.as_str() {
                "-i" => caseless = true,
                "-m" => {
                    method = words.get(at)?.as_str();
                    at += 1;
                }
                "-n" => {}
                "--" => break,
                // Lists in files are not read here.
                _ => return None,
            }
        }
        self.compare(&sample, method, caseless, words.get(at..).unwrap_or_default())
    }

    /// The sample of an expression, and how it is compared where nothing says so.
    fn sample<'e>(&self, expression: &'e str, name: &'e str) -> Option<(Sample, &'e str)> {
        let rest = &expression[name.len()..];
        let (argument, converters) = match rest.strip_prefix('(') {
            Some(inner) => inner.split_once(')')?,
            None => ("", rest),
        };
        let (base, method) = split_method(name);
        let path = || self.path.clone();
        let whole = || Some(format!("{}{}", path()?, self.asked()));
        let text = |t: Option<String>| t.map(Sample::Text);
        let found = match base {
            "path" => text(path())?,
            "pathq" | "url" | "capture.req.uri" => text(whole())?,
            "query" => self.query.clone().map_or(Sample::Missing, Sample::Text),
            "method" | "capture.req.method" => Sample::Text("GET".to_owned()),
            "hdr" | "req.hdr" | "req.fhdr" | "hdr_dom" => self.header(argument)?,
            "url_param" | "urlp" => {
                let mut all = self
                    .query
                    .as_deref()
                    .unwrap_or("")
                    .split('&')
                    .map(|pair| pair.split_once('=').unwrap_or((pair, "")));
                all.find(|(n, _)| *n == argument).map_or(Sample::Missing, |(_, v)| Sample::Text(v.to_owned()))
            }
            "base" => Sample::Text(format!("{}{}", self.host.clone()?, path()?)),
            "src" => Sample::Address(self.request.client),
            "dst" => Sample::Address(self.request.address),
            "dst_port" => Sample::Number(i64::from(self.request.port)),
            "ssl_fc" => Sample::Truth(self.request.tls),
            "always_true" => Sample::Truth(true),
            "always_false" => Sample::Truth(false),
            _ => return None,
        };
        let natural = match &found {
            Sample::Number(_) => "int",
            Sample::Address(_) => "ip",
            Sample::Truth(_) => "bool",
            Sample::Text(_) | Sample::Missing => "str",
        };
        let mut sample = found;
        for converter in converters.split(',').filter(|c| !c.is_empty()) {
            let Sample::Text(text) = sample else { return None };
            sample = match converter {
                "lower" => Sample::Text(text.to_ascii_lowercase()),
                "upper" => Sample::Text(text.to_ascii_uppercase()),
                "length" => Sample::Number(i64::try_from(text.len()).ok()?),
                "host_only" => Sample::Text(text.split(':').next().unwrap_or("").to_owned()),
                _ => return None,
            };
        }
        let method = if method.is_empty() { natural } else { method };
        Some(match &sample {
            Sample::Number(_) if natural == "str" => (sample, "int"),
            _ => (sample, method),
        })
    }

    fn header(&self, name: &str) -> Option<Sample> {
        Some(match name.split(',').next().unwrap_or("").to_ascii_lowercase().as_str() {
            "host" => Sample::Text(self.host.clone()?),
            "user-agent" => Sample::Text(self.request.agent.clone()),
            // What else a request brings nobody here knows.
            _ => return None,
        })
    }

    fn compare(&self, sample: &Sample, method: &str, caseless: bool, patterns: &[String]) -> Option<bool> {
        if method == "found" {
            return Some(!matches!(sample, Sample::Missing));
        }
        match sample {
            Sample::Missing => Some(false),
            Sample::Truth(truth) => Some(*truth),
            Sample::Number(number) => numbers(*number, patterns),
            Sample::Address(address) => Some(patterns.iter().any(|p| within(*address, p))),
            Sample::Text(text) if method == "len" || method == "int" => {
                let number = if method == "len" { i64::try_from(text.len()).ok()? } else { leading(text) };
                numbers(number, patterns)
            }
            Sample::Text(text) => {
                let folded = |t: &str| if caseless { t.to_ascii_lowercase() } else { t.to_owned() };
                let own = folded(text);
                let one = |pattern: &String| {
                    let wanted = folded(pattern);
                    Some(match method {
                        "str" => own == wanted,
                        "beg" => own.starts_with(&wanted),
                        "end" => own.ends_with(&wanted),
                        "sub" => own.contains(&wanted),
                        "dir" => parted(&own, &wanted, &['/', '?']),
                        "dom" => parted(&own, &wanted, &['/', '?', '.', ':']),
                        "reg" => {
                            return self.files.fits(pattern, caseless, text, &mut Groups::default());
                        }
                        _ => return None,
                    })
                };
                patterns.iter().map(one).fold(Some(false), or)
            }
        }
    }
}

/// A name with the way of comparing behind it: `path_beg`, `hdr_end`.
fn split_method(name: &str) -> (&str, &'static str) {
    const METHODS: &[&str] = &["beg", "end", "sub", "dir", "dom", "reg", "len"];
    for method in METHODS {
        if let Some(base) = name.strip_suffix(method).and_then(|b| b.strip_suffix('_')) {
            return (base, method);
        }
    }
    (name, "")
}

/// Whether a text holds another one between signs that part it, at its beginning or its end.
fn parted(text: &str, wanted: &str, signs: &[char]) -> bool {
    let wanted = wanted.trim_matches(signs);
    if wanted.is_empty() {
        return false;
    }
    let mut from = 0;
    while let Some(at) = text[from..].find(wanted).map(|at| from + at) {
        let before = text[..at].chars().next_back().is_none_or(|c| signs.contains(&c));
        let behind = text[at + wanted.len()..].chars().next().is_none_or(|c| signs.contains(&c));
        if before && behind {
            return true;
        }
        from = at + text[at..].chars().next().map_or(1, char::len_utf8);
    }
    false
}

fn numbers(number: i64, patterns: &[String]) -> Option<bool> {
    let mut operator = "eq";
    for pattern in patterns {
        if matches!(pattern.as_str(), "eq" | "ge" | "gt" | "le" | "lt") {
            operator = pattern;
            continue;
        }
        let (low, high) = match pattern.find([':', '-']) {
            Some(at) => (&pattern[..at], &pattern[at + 1..]),
            None => (pattern.as_str(), pattern.as_str()),
        };
        let fits = match operator {
            "eq" => {
                (low.is_empty() || leading(low) <= number) && (high.is_empty() || number <= leading(high))
            }
            "ge" => number >= leading(low),
            "gt" => number > leading(low),
            "le" => number <= leading(low),
            _ => number < leading(low),
        };
        if fits {
            return Some(true);
        }
    }
    Some(false)
}

/// Whether an address lies in a network.
fn within(address: IpAddr, network: &str) -> bool {
    let (base, mask) = network.split_once('/').map_or((network, None), |(b, m)| (b, Some(m)));
    let mut base = base.to_owned();
    // The last numbers of a short address are 0.
    while !base.contains(':') && base.matches('.').count() < 3 {
        base.push_str(".0");
    }
    match (address, base.parse::<IpAddr>()) {
        (IpAddr::V4(own), Ok(IpAddr::V4(base))) => {
            let bits = mask.map_or(Some(32), |m| m.parse::<u32>().ok()).filter(|b| *b <= 32);
            bits.is_some_and(|bits| {
                let mask = u32::MAX.checked_shl(32 - bits).unwrap_or(0);
                u32::from(own) & mask == u32::from(base) & mask
            })
        }
        (IpAddr::V6(own), Ok(IpAddr::V6(base))) => {
            let bits = mask.map_or(Some(128), |m| m.parse::<u32>().ok()).filter(|b| *b <= 128);
            bits.is_some_and(|bits| {
                let mask = u128::MAX.checked_shl(128 - bits).unwrap_or(0);
                u128::from(own) & mask == u128::from(base) & mask
            })
        }
        _ => false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn networks_numbers_and_names_are_compared_as_the_daemon_does() {
        let at = |text: &str| text.parse::<IpAddr>().unwrap();
        for (network, inside) in [
            ("127.0.0.0/8", true),
            ("127/8", true),
            ("10.0.0.0/8", false),
            ("127.0.0.1", true),
            ("::1", false),
        ] {
            assert_eq!(within(at("127.0.0.1"), network), inside, "{network}");
        }
        assert!(within(at("2001:db8::1"), "2001:db8::/32") && !within(at("2001:db9::1"), "2001:db8::/32"));
        let of = |number: i64, patterns: &[&str]| {
            numbers(number, &patterns.iter().map(|p| (*p).to_owned()).collect::<Vec<_>>()).unwrap()
        };
        assert!(of(80, &["80"]) && of(80, &["1:100"]) && of(5, &["gt", "4"]) && !of(5, &["lt", "4", "3"]));
        assert!(parted("/a/b/c", "b", &['/']) && !parted("/a/bc", "b", &['/']) && !parted("/a", "", &['/']));
        assert_eq!((split_method("path_beg"), split_method("path")), (("path", "beg"), ("path", "")));
        assert_eq!(
            (or(None, Some(true)), or(None, Some(false)), and(None, Some(false))),
            (Some(true), None, Some(false))
        );
    }
}
