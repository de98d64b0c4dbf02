//! Variables in values: which are used, which exist.
use crate::config::NameSet;
use std::sync::LazyLock;

static NAMES: &str = include_str!("variables.txt");
/// The same, to be looked up; made when the first variable is met.
static KNOWN: LazyLock<NameSet<&'static str>> = LazyLock::new(|| NAMES.lines().collect());

/// Names that a value uses.
///
/// # Errors
/// A lone `$` or an unclosed `${`.
pub(super) fn uses(value: &str) -> Result<Vec<&str>, &'static str> {
    let mut found = Vec::new();
    let mut rest = value;
    while let Some(at) = rest.find('$') {
        rest = &rest[at + 1..];
        let braced = rest.starts_with('{');
        if braced {
            rest = &rest[1..];
        }
        let length = rest.bytes().take_while(|b| b.is_ascii_alphanumeric() || *b == b'_').count();
        let digit = rest.starts_with(|c: char| c.is_ascii_digit());
        let length = if digit && !braced { 1 } else { length };
        if length == 0 {
            return Err("a $ must begin the name of a variable");
        }
        let (name, tail) = rest.split_at(length);
        rest = tail;
        if braced {
            rest = rest.strip_prefix('}').ok_or("the brace of a variable is not closed")?;
        }
        if !digit {
            found.push(name);
        }
    }
    Ok(found)
}

/// Variables of the core that nobody may define again (`NGX_HTTP_VAR_NOCHANGEABLE` is not set where one may);
/// asked of the daemon, 1.22.1.
const FIXED: &[&str] = &[
    "binary_remote_addr",
    "body_bytes_sent",
    "bytes_sent",
    "connection",
    "connection_requests",
    "connection_time",
    "content_length",
    "content_type",
    "date_gmt",
    "date_local",
    "document_root",
    "document_uri",
    "host",
    "hostname",
    "http_cookie",
    "http_host",
    "http_referer",
    "http_user_agent",
    "http_via",
    "http_x_forwarded_for",
    "https",
    "is_args",
    "msec",
    "nginx_version",
    "pid",
    "pipe",
    "query_string",
    "realpath_root",
    "remote_addr",
    "remote_port",
    "remote_user",
    "request",
    "request_body",
    "request_body_file",
    "request_completion",
    "request_filename",
    "request_id",
    "request_length",
    "request_method",
    "request_time",
    "request_uri",
    "scheme",
    "server_addr",
    "server_name",
    "server_port",
    "server_protocol",
    "status",
    "time_iso8601",
    "time_local",
    "uri",
];
/// The same in streams.
const FIXED_IN_STREAMS: &[&str] = &[
    "binary_remote_addr",
    "bytes_received",
    "bytes_sent",
    "connection",
    "hostname",
    "msec",
    "nginx_version",
    "pid",
    "protocol",
    "remote_addr",
    "remote_port",
    "server_addr",
    "server_port",
    "session_time",
    "status",
    "time_iso8601",
    "time_local",
];

/// Whether a variable is the daemon's alone.
pub(super) fn fixed(name: &str, in_streams: bool) -> bool {
    let all = if in_streams { FIXED_IN_STREAMS } else { FIXED };
    all.binary_search(&name).is_ok()
}

/// Whether the daemon defines a variable of that name by itself.
pub(super) fn built_in(name: &str) -> bool {
    const FAMILIES: &[&str] = &[
        "http_",
        "sent_http_",
        "sent_trailer_",
        "upstream_http_",
        "upstream_trailer_",
        "upstream_cookie_",
        "arg_",
        "cookie_",
    ];
    FAMILIES.iter().any(|f| name.starts_with(f))
        || KNOWN.contains(name)
        || matches!(name, "args" | "geoip_country_code" | "memcached_key")
}

/// Adds the named groups of a pattern.
pub(super) fn captures(pattern: &str) -> Vec<String> {
    let mut known = Vec::new();
    for marker in ["(?<", "(?P<", "(?'"] {
        for (at, _) in pattern.match_indices(marker) {
            let name: String = pattern[at + marker.len()..]
                .chars()
                .take_while(|c| c.is_ascii_alphanumeric() || *c == '_')
                .collect();
            if !name.is_empty() {
                known.push(name);
            }
        }
    }
    known
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn finds_names_and_refuses_a_lone_sign() {
        assert_eq!(uses("$host/a${uri}b$1").unwrap(), ["host", "uri"]);
        assert!(uses("50$").is_err());
        assert!(uses("${open").is_err());
        assert!(fixed("remote_addr", false) && !fixed("args", false) && !fixed("uri", true));
        assert!(FIXED.is_sorted() && FIXED_IN_STREAMS.is_sorted());
        assert!(built_in("request_uri") && built_in("http_x_tide") && !built_in("tide"));
    }
}
