//! Addresses as haproxy reads them (`str2sa_range` of tools.c).
use std::net::{Ipv4Addr, Ipv6Addr};

/// What may stand in an address.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Allows {
    pub(super) port: bool,
    pub(super) port_needed: bool,
    pub(super) range: bool,
    pub(super) offset: bool,
    /// Only datagrams are sent there, or only a stream.
    pub(super) stream: bool,
    pub(super) datagram: bool,
    pub(super) descriptor: bool,
    /// A name that nobody knows now may be known later.
    pub(super) later: bool,
}

impl Allows {
    const NONE: Self = Self {
        port: false,
        port_needed: false,
        range: false,
        offset: false,
        stream: false,
        datagram: false,
        descriptor: false,
        later: false,
    };
    /// A single address that is listened on.
    pub(super) const SOCKET: Self =
        Self { port: true, port_needed: true, stream: true, descriptor: true, ..Self::NONE };
    /// Addresses that are listened on, with ranges of ports.
    pub(super) const LISTEN: Self = Self { range: true, ..Self::SOCKET };
    /// A server.
    pub(super) const SERVER: Self =
        Self { port: true, offset: true, stream: true, later: true, ..Self::NONE };
    /// Where log lines are sent.
    pub(super) const LOG: Self =
        Self { port: true, stream: true, datagram: true, descriptor: true, ..Self::NONE };
}

/// An address.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Address {
    /// A socket in the file system.
    Path(String),
    /// A socket without a file, or a descriptor that is handed over.
    Other,
    /// A host and its ports; the host may be a name.
    Host { host: String, low: u16, high: u16 },
}

/// Which protocol, which family, and what is left of the text.
fn prefix(text: &str) -> (Option<bool>, &'static str, &str) {
    let (datagram, text) = match text {
        _ if text.starts_with("stream+") => (Some(false), &text[7..]),
        _ if text.starts_with("dgram+") => (Some(true), &text[6..]),
        _ => (None, text),
    };
    let families: &[(&str, Option<bool>, &'static str)] = &[
        ("unix@", None, "unix"),
        ("uxdg@", Some(true), "unix"),
        ("uxst@", Some(false), "unix"),
        ("abns@", None, "other"),
        ("rhttp@", None, "other"),
        ("abnsz@", None, "other"),
        ("ip@", None, "ip"),
        ("ipv4@", None, "4"),
        ("ipv6@", None, "6"),
        ("tcp4@", Some(false), "4"),
        ("udp4@", Some(true), "4"),
        ("tcp6@", Some(false), "6"),
        ("udp6@", Some(true), "6"),
        ("tcp@", Some(false), "ip"),
        ("udp@", Some(true), "ip"),
        ("quic4@", Some(false), "4"),
        ("quic6@", Some(false), "6"),
        ("fd@", None, "fd"),
        ("sockpair@", None, "fd"),
    ];
    for (begin, of, family) in families {
        if let Some(rest) = text.strip_prefix(begin) {
            return (of.or(datagram), family, rest);
        }
    }
    let family = if text.starts_with('/') { "unix" } else { "ip" };
    (datagram, family, text)
}

/// Reads an address.
///
/// # Errors
/// What is wrong, in words.
pub(super) fn address(text: &str, allows: Allows) -> Result<Address, String> {
    if text.is_empty() {
        return Err("the address is empty".to_owned());
    }
    let (datagram, family, rest) = prefix(text);
    let datagram = datagram.unwrap_or(allows.datagram && !allows.stream);
    let found = match family {
        "unix" if rest.len() > 97 => return Err(format!("the path of the socket {rest} is too long")),
        "unix" => Address::Path(rest.to_owned()),
        "other" => Address::Other,
        "fd" if !rest.is_empty() && rest.bytes().all(|b| b.is_ascii_digit()) => match allows.descriptor {
            true => Address::Other,
            false => return Err("a descriptor is not allowed here".to_owned()),
        },
        "fd" => return Err(format!("\"{rest}\" is not the number of a descriptor")),
        _ => host(text, family, rest, allows)?,
    };
    match datagram {
        false if !allows.stream => Err("only an address for datagrams is allowed here".to_owned()),
        true if !allows.datagram => Err("an address for datagrams is not allowed here".to_owned()),
        _ => Ok(found),
    }
}

fn host(text: &str, family: &str, rest: &str, allows: Allows) -> Result<Address, String> {
    let split = rest.rfind([']', ':']).filter(|at| *at > 0 && rest.as_bytes()[*at] == b':');
    let (host, port) = match split {
        Some(_) if !allows.port => return Err(format!("a port is not allowed in \"{text}\"")),
        Some(at) => (&rest[..at], &rest[at + 1..]),
        // A lone colon in front is found, too.
        None if rest.starts_with(':') => match allows.port {
            true => ("", &rest[1..]),
            false => return Err(format!("a port is not allowed in \"{text}\"")),
        },
        None if allows.port_needed => return Err(format!("\"{text}\" has no port")),
        None => (rest, ""),
    };
    let (low, high) = ports(text, port, allows)?;
    let bare = host.trim_start_matches('[').trim_end_matches(']');
    let known = match family {
        "4" => matches!(bare, "" | "*") || bare.parse::<Ipv4Addr>().is_ok(),
        "6" => matches!(bare, "" | "*" | "::") || bare.parse::<Ipv6Addr>().is_ok(),
        _ => matches!(bare, "" | "*") || bare.parse::<Ipv4Addr>().is_ok() || bare.parse::<Ipv6Addr>().is_ok(),
    };
    let name = bare.bytes().all(|b| b.is_ascii_alphanumeric() || matches!(b, b'-' | b'.' | b'_'));
    let other_family = bare.parse::<Ipv4Addr>().is_ok() || bare.parse::<Ipv6Addr>().is_ok();
    if !known && (other_family || !name) && !allows.later {
        return Err(format!("\"{host}\" is not an address"));
    }
    Ok(Address::Host { host: host.to_owned(), low, high })
}

fn ports(text: &str, port: &str, allows: Allows) -> Result<(u16, u16), String> {
    let least = i64::from(allows.port_needed);
    let number = |digits: &str| {
        let number = super::values::leading(digits);
        match u16::try_from(number) {
            Ok(port) if number >= least => Ok(port),
            _ => Err(format!("{digits} is not a port")),
        }
    };
    match port.as_bytes().first() {
        Some(b) if b.is_ascii_digit() => {
            let (low, high) = match port.split_once('-') {
                Some(_) if !allows.range => {
                    return Err(format!("a range of ports is not allowed in \"{text}\""));
                }
                Some((low, high)) => (number(low)?, number(high)?),
                None => (number(port)?, number(port)?),
            };
            if low > high {
                return Err(format!("the range of ports {port} goes down"));
            }
            Ok((low, high))
        }
        Some(b'-' | b'+') if !allows.offset => Err(format!("{port} is not allowed as a port here")),
        Some(b'-' | b'+') => Ok((0, 0)),
        Some(_) => Err(format!("\"{port}\" is not a port")),
        None if allows.port_needed => Err(format!("\"{text}\" has no port")),
        None => Ok((0, 0)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_hold_what_they_may() {
        let bind = Allows::LISTEN;
        for text in [
            "*:80",
            ":80",
            "127.0.0.1:8000-8010",
            "[::1]:80",
            "::1:80",
            "/run/a.sock",
            "unix@a",
            "abns@a",
            "fd@3",
            "ipv6@:80",
            "quay.example:80",
        ] {
            assert!(address(text, bind).is_ok(), "{text}");
        }
        for text in
            ["", "80", "*", "*:0", "*:70000", "*:9-5", "*:x", "fd@x", "udp@*:80", "*:+5", "ipv4@::1:80"]
        {
            assert!(address(text, bind).is_err(), "{text}");
        }
        let server = Allows::SERVER;
        for text in ["10.0.0.1", "10.0.0.1:80", "10.0.0.1:+5", "quay.example", "/run/a.sock", "10.0.0.1:"] {
            assert!(address(text, server).is_ok(), "{text}");
        }
        for text in ["10.0.0.1:80-90", "10.0.0.1:http", "fd@3"] {
            assert!(address(text, server).is_err(), "{text}");
        }
        assert_eq!(
            address("10.0.0.1:80", server),
            Ok(Address::Host { host: "10.0.0.1".into(), low: 80, high: 80 })
        );
    }
}
