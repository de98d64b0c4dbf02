//! An address of this host, as something is bound to it.
use std::net::{IpAddr, Ipv6Addr, SocketAddr};

/// An IP address, with a port or without; one of version 6 with a port stands in brackets.
pub(super) fn holds(word: &str) -> bool {
    let bracketed = word.strip_prefix('[').and_then(|w| w.strip_suffix(']'));
    word.parse::<IpAddr>().is_ok()
        || word.parse::<SocketAddr>().is_ok()
        || bracketed.is_some_and(|w| w.parse::<Ipv6Addr>().is_ok())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_are_numbers_with_a_port_or_without() {
        for word in ["192.0.2.1", "192.0.2.1:80", "::1", "[::1]", "[::1]:80"] {
            assert!(holds(word), "{word}");
        }
        for word in ["quay1", "", "192.0.2", "192.0.2.1:x", "192.0.2.1:70000", "[::1", "192.0.2.0/24"] {
            assert!(!holds(word), "{word}");
        }
    }
}
