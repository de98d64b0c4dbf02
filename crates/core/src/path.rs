//! Paths as text, without touching a file system.

/// A path with the old name of the runtime directory, /var/run, as /run.
pub fn runtime(path: &str) -> String {
    path.strip_prefix("/var/run/").map_or_else(|| path.to_owned(), |rest| format!("/run/{rest}"))
}

/// `name` below `base`; an absolute `name` stands for itself.
pub fn join(base: &str, name: &str) -> String {
    if name.starts_with('/') {
        name.to_owned()
    } else if base.ends_with('/') {
        format!("{base}{name}")
    } else {
        format!("{base}/{name}")
    }
}

/// The directory that holds `path`; `/` for a top-level name.
pub fn parent(path: &str) -> &str {
    match path.trim_end_matches('/').rfind('/') {
        Some(0) | None => "/",
        Some(at) => &path[..at],
    }
}

/// The last part of `path`.
pub fn name(path: &str) -> &str {
    path.trim_end_matches('/').rsplit('/').next().unwrap_or(path)
}

/// Without `.`, `..` and doubled slashes, by text alone.
pub fn clean(path: &str) -> String {
    let mut parts: Vec<&str> = Vec::new();
    for part in path.split('/') {
        match part {
            "" | "." => {}
            ".." => drop(parts.pop()),
            other => parts.push(other),
        }
    }
    format!("/{}", parts.join("/"))
}

/// Every directory from `/` down to the one that holds `path`.
pub fn ancestors(path: &str) -> Vec<String> {
    let mut found = vec!["/".to_owned()];
    let clean = clean(path);
    for (at, _) in clean.match_indices('/').skip(1) {
        found.push(clean[..at].to_owned());
    }
    found
}

/// Whether `name` matches a shell pattern of `*`, `?` and `[…]`. A leading dot must be matched by a dot
/// when `hide_dots` is set.
pub fn matches(pattern: &str, name: &str, hide_dots: bool) -> bool {
    if hide_dots && name.starts_with('.') && !pattern.starts_with('.') {
        return false;
    }
    glob(pattern.as_bytes(), name.as_bytes())
}

fn glob(pattern: &[u8], name: &[u8]) -> bool {
    let (mut p, mut n) = (0, 0);
    let mut retry: Option<(usize, usize)> = None;
    while n < name.len() {
        let step = match pattern.get(p) {
            Some(b'*') => {
                retry = Some((p, n));
                p += 1;
                continue;
            }
            Some(b'?') => Some(p + 1),
            Some(b'[') => class(pattern, p, name[n]),
            Some(b'\\') if p + 1 < pattern.len() => (pattern[p + 1] == name[n]).then_some(p + 2),
            Some(&c) => (c == name[n]).then_some(p + 1),
            None => None,
        };
        if let Some(next) = step {
            p = next;
            n += 1;
        } else if let Some((star, at)) = retry {
            retry = Some((star, at + 1));
            p = star + 1;
            n = at + 1;
        } else {
            return false;
        }
    }
    pattern[p..].iter().all(|&c| c == b'*')
}

/// The place after a bracket class that takes `c`, `None` if it does not.
fn class(pattern: &[u8], open: usize, c: u8) -> Option<usize> {
    let mut i = open + 1;
    let negated = matches!(pattern.get(i), Some(b'!' | b'^'));
    i += usize::from(negated);
    let (mut hit, first) = (false, i);
    while i < pattern.len() && (pattern[i] != b']' || i == first) {
        if pattern.get(i + 1) == Some(&b'-') && pattern.get(i + 2).is_some_and(|&e| e != b']') {
            hit |= (pattern[i]..=pattern[i + 2]).contains(&c);
            i += 3;
        } else {
            hit |= pattern[i] == c;
            i += 1;
        }
    }
    if i >= pattern.len() {
        return (c == b'[').then_some(open + 1);
    }
    (hit != negated).then_some(i + 1)
}

/// Whether `text` holds a pattern character.
pub fn is_pattern(text: &str) -> bool {
    text.contains(['*', '?', '['])
}

/// Whether a path is a directory or lies below it; both are clean.
pub fn is_within(path: &str, dir: &str) -> bool {
    path.strip_prefix(dir).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn cleans_and_climbs() {
        assert_eq!(clean("/a//b/./../c/"), "/a/c");
        assert_eq!(ancestors("/var/log/x"), ["/", "/var", "/var/log"]);
        assert_eq!(parent("/x"), "/");
        assert_eq!(join("/etc/nginx", "conf.d"), "/etc/nginx/conf.d");
    }

    #[test]
    fn patterns_match_as_a_shell_does() {
        for (pattern, name, expected) in [
            ("*.conf", "front.conf", true),
            ("*.conf", ".hidden.conf", false),
            ("*", "x~", true),
            ("a?c", "abc", true),
            ("[0-9]*", "000-x", true),
            ("[!0-9]*", "000-x", false),
            ("a*b*c", "aXbYbZc", true),
            ("a[", "a[", true),
        ] {
            assert_eq!(matches(pattern, name, true), expected, "{pattern} {name}");
        }
    }
}
