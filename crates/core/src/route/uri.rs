//! Paths of requests.

/// Splits path and query of a request line; the fragment, if one was sent, is dropped.
pub fn split(target: &str) -> (&str, &str) {
    let target = target.split('#').next().unwrap_or_default();
    target.split_once('?').unwrap_or((target, ""))
}

/// Decodes `%XX`; `None` for an escape that is none. Bytes that are no UTF-8 are replaced.
pub fn decode(path: &str) -> Option<String> {
    if !path.contains('%') {
        return Some(path.to_owned());
    }
    let bytes = path.as_bytes();
    let mut out = Vec::with_capacity(bytes.len());
    let mut at = 0;
    while let Some(&byte) = bytes.get(at) {
        if byte == b'%' {
            let digits = path.get(at + 1..at + 3).filter(|d| d.bytes().all(|b| b.is_ascii_hexdigit()))?;
            out.push(u8::from_str_radix(digits, 16).ok()?);
            at += 3;
        } else {
            out.push(byte);
            at += 1;
        }
    }
    Some(String::from_utf8_lossy(&out).into_owned())
}

/// Encodes what may not stand in a path as it is sent.
pub fn encode(path: &str) -> String {
    let mut out = String::with_capacity(path.len());
    for byte in path.bytes() {
        match byte {
            0..=b' ' | b'#' | b'%' | b'?' | 0x7f.. => out.push_str(&format!("%{byte:02X}")),
            _ => out.push(char::from(byte)),
        }
    }
    out
}

/// Takes `.` and `..` out of a path, and slashes beside each other where they are merged; `None` where it
/// leads above its root.
pub fn normal(path: &str, merge_slashes: bool) -> Option<String> {
    let mut names: Vec<&str> = Vec::new();
    let body = path.strip_prefix('/')?;
    let parts: Vec<&str> = body.split('/').collect();
    for (number, part) in parts.iter().enumerate() {
        let last = number + 1 == parts.len();
        match *part {
            "." if last => names.push(""),
            "." => {}
            ".." => {
                names.pop()?;
                if last {
                    names.push("");
                }
            }
            "" if !last && merge_slashes => {}
            "" if last && merge_slashes && names.last().is_some_and(|n| n.is_empty()) => {}
            part => names.push(part),
        }
    }
    Some(format!("/{}", names.join("/")))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_are_taken_apart_and_straightened() {
        assert_eq!(split("/a?x=1?y#z"), ("/a", "x=1?y"));
        assert_eq!(split("/a"), ("/a", ""));
        assert_eq!(decode("/a%20b%2Fc").as_deref(), Some("/a b/c"));
        assert_eq!(encode("/a b?c#d%é"), "/a%20b%3Fc%23d%25%C3%A9");
        assert_eq!(decode("/a%2"), None);
        assert_eq!(decode("/a%zz"), None);
        for (path, merged, kept) in [
            ("/", "/", "/"),
            ("//", "/", "//"),
            ("/a//b", "/a/b", "/a//b"),
            ("/a/./b/", "/a/b/", "/a/b/"),
            ("/a/../b", "/b", "/b"),
            ("/a/b/..", "/a/", "/a/"),
            ("/a/.", "/a/", "/a/"),
        ] {
            assert_eq!(normal(path, true).as_deref(), Some(merged), "{path}");
            assert_eq!(normal(path, false).as_deref(), Some(kept), "{path}");
        }
        assert_eq!(normal("/..", true), None);
        assert_eq!(normal("/a/../../b", true), None);
        assert_eq!(normal("a", true), None);
    }
}
