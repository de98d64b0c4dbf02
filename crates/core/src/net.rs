//! Addresses, ports, and which of them exclude each other: the kernel's rules of binding.
use crate::host::{Protocol, Socket};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// An address and port that a daemon wants.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Listen {
    /// Transport.
    pub protocol: Protocol,
    /// Address; `None` only for Unix sockets.
    pub address: Option<IpAddr>,
    /// Port; 0 for Unix sockets.
    pub port: u16,
    /// Path of a Unix socket.
    pub path: Option<String>,
    /// An IPv6 listener that takes IPv6 alone.
    pub v6_only: bool,
}

impl Listen {
    /// A TCP listener.
    pub fn tcp(address: IpAddr, port: u16, v6_only: bool) -> Self {
        Self { protocol: Protocol::Tcp, address: Some(address), port, path: None, v6_only }
    }
    /// A Unix socket.
    pub fn unix(path: &str) -> Self {
        Self { protocol: Protocol::Unix, address: None, port: 0, path: Some(path.into()), v6_only: false }
    }
    /// Whether the kernel would refuse this while `held` listens.
    pub fn conflicts_with(&self, held: &Socket) -> bool {
        if self.protocol != held.protocol {
            return false;
        }
        if self.protocol == Protocol::Unix {
            let same = |p: &String| crate::path::runtime(p);
            return self.path.is_some() && self.path.as_ref().map(same) == held.path.as_ref().map(same);
        }
        let (Some(mine), Some(theirs)) = (self.address, held.address) else { return false };
        self.port == held.port && overlap(mine, self.v6_only, theirs, held.v6_only)
    }
    /// Whether `held` is what this asks for, or covers it.
    pub fn served_by(&self, held: &Socket) -> bool {
        self.conflicts_with(held)
    }
}

impl From<&Socket> for Listen {
    fn from(socket: &Socket) -> Self {
        Self {
            protocol: socket.protocol,
            address: socket.address,
            port: socket.port,
            path: socket.path.clone(),
            v6_only: socket.v6_only,
        }
    }
}

impl std::fmt::Display for Listen {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match (self.address, &self.path) {
            (Some(address), _) => f.write_str(&endpoint(address, self.port)),
            (None, Some(path)) => f.write_str(path),
            (None, None) => write!(f, "port {}", self.port),
        }
    }
}

/// `address:port`, IPv6 in brackets.
pub fn endpoint(address: IpAddr, port: u16) -> String {
    std::net::SocketAddr::new(address, port).to_string()
}

/// An IPv4 address inside IPv6 is an IPv4 address.
pub fn normal(address: IpAddr) -> IpAddr {
    match address {
        IpAddr::V6(six) => six.to_ipv4_mapped().map_or(address, IpAddr::V4),
        four => four,
    }
}

/// Whether an address lies in a network, written `ADDRESS` or `ADDRESS/LENGTH` or `ADDRESS/MASK`: the length
/// of the network's prefix, in bits.
pub fn within(address: IpAddr, network: &str) -> Option<u8> {
    let (base, length) =
        network.split_once('/').map_or((network, None), |(base, length)| (base, Some(length)));
    let (base, address) = (normal(base.parse().ok()?), normal(address));
    let bits = |a: IpAddr| match a {
        IpAddr::V4(four) => (u128::from(four.to_bits()) << 96, 32),
        IpAddr::V6(six) => (six.to_bits(), 128),
    };
    let ((base_bits, width), (bits_of, _)) = (bits(base), bits(address));
    let length: u8 = match length {
        None => width,
        Some(text) => match text.parse::<u8>() {
            Ok(length) => length,
            Err(_) => u8::try_from(text.parse::<Ipv4Addr>().ok()?.to_bits().leading_ones()).ok()?,
        },
    };
    let mask = if length == 0 { 0 } else { u128::MAX << (128 - u32::from(length.min(width))) };
    (base.is_ipv4() == address.is_ipv4() && length <= width && base_bits & mask == bits_of & mask)
        .then_some(length)
}

fn overlap(a: IpAddr, a_v6_only: bool, b: IpAddr, b_v6_only: bool) -> bool {
    match (normal(a), normal(b)) {
        (IpAddr::V4(x), IpAddr::V4(y)) => x == y || x.is_unspecified() || y.is_unspecified(),
        (IpAddr::V6(x), IpAddr::V6(y)) => x == y || x.is_unspecified() || y.is_unspecified(),
        (IpAddr::V4(_), IpAddr::V6(six)) => six.is_unspecified() && !b_v6_only,
        (IpAddr::V6(six), IpAddr::V4(_)) => six.is_unspecified() && !a_v6_only,
    }
}

/// Reads `ADDRESS:PORT`, `[V6]:PORT`, `*:PORT`, `PORT` or `unix:PATH`, as the services file writes them.
///
/// # Errors
/// A sentence that says what was expected.
pub fn parse_listen(text: &str) -> Result<Listen, String> {
    let expected = || format!("\"{text}\" is not an address: ADDRESS:PORT, PORT or unix:PATH");
    if let Some(path) = text.strip_prefix("unix:") {
        return if path.starts_with('/') { Ok(Listen::unix(path)) } else { Err(expected()) };
    }
    let (address, port) = match text.rsplit_once(':') {
        Some((address, port)) => (address, port),
        None => ("", text),
    };
    let port: u16 = port.parse().ok().filter(|&p| p > 0).ok_or_else(expected)?;
    let address = match address.trim_start_matches('[').trim_end_matches(']') {
        "" | "*" => IpAddr::V4(Ipv4Addr::UNSPECIFIED),
        "::" => IpAddr::V6(Ipv6Addr::UNSPECIFIED),
        other => other.parse().map_err(|_| expected())?,
    };
    Ok(Listen::tcp(address, port, false))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn held(address: &str, port: u16, v6_only: bool) -> Socket {
        Socket {
            protocol: Protocol::Tcp,
            address: Some(address.parse().unwrap()),
            port,
            path: None,
            inode: 1,
            uid: 0,
            v6_only,
        }
    }

    #[test]
    fn wildcards_and_both_families_exclude_each_other_as_in_the_kernel() {
        for (want, v6_only, hold, hold_v6_only, expected) in [
            ("0.0.0.0", false, "127.0.0.1", false, true),
            ("127.0.0.1", false, "0.0.0.0", false, true),
            ("127.0.0.1", false, "127.0.0.2", false, false),
            ("0.0.0.0", false, "::", false, true),
            ("0.0.0.0", false, "::", true, false),
            ("::", false, "127.0.0.1", false, true),
            ("::", true, "127.0.0.1", false, false),
            ("::", true, "::1", false, true),
            ("127.0.0.1", false, "::ffff:127.0.0.1", false, true),
            ("::1", false, "0.0.0.0", false, false),
        ] {
            let want_listen = Listen::tcp(want.parse().unwrap(), 80, v6_only);
            assert_eq!(
                want_listen.conflicts_with(&held(hold, 80, hold_v6_only)),
                expected,
                "{want} against {hold}"
            );
            assert!(!want_listen.conflicts_with(&held(hold, 81, hold_v6_only)));
        }
    }

    #[test]
    fn an_address_lies_in_its_networks() {
        for (address, network, expected) in [
            ("127.0.0.1", "127.0.0.0/8", Some(8)),
            ("127.0.0.1", "127.0.0.1", Some(32)),
            ("127.0.0.1", "0.0.0.0/0", Some(0)),
            ("127.0.0.1", "10.0.0.0/8", None),
            ("192.0.2.9", "192.0.2.0/255.255.255.0", Some(24)),
            ("::1", "::/0", Some(0)),
            ("::1", "127.0.0.0/8", None),
            ("2001:db8::5", "2001:db8::/32", Some(32)),
            ("::ffff:127.0.0.1", "127.0.0.0/8", Some(8)),
            ("127.0.0.1", "127.0.0.0/33", None),
            ("127.0.0.1", "front", None),
        ] {
            assert_eq!(within(address.parse().unwrap(), network), expected, "{address} in {network}");
        }
    }

    #[test]
    fn reads_the_three_written_forms() {
        assert_eq!(parse_listen("7400").unwrap().to_string(), "0.0.0.0:7400");
        assert_eq!(parse_listen("[::1]:80").unwrap().to_string(), "[::1]:80");
        assert_eq!(parse_listen("unix:/run/tide.sock").unwrap().to_string(), "/run/tide.sock");
        for bad in ["", "0", "70000", "front:80", "unix:tide"] {
            assert!(parse_listen(bad).is_err(), "{bad}");
        }
    }
}
