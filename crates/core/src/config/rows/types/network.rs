//! Addresses and networks.
use std::net::{IpAddr, Ipv4Addr};

/// An address, alone or with the length of a prefix or a mask; or one of some words.
pub(super) fn holds(word: &str, more: &[&str]) -> bool {
    if more.iter().any(|m| word == *m || (m.ends_with(':') && word.starts_with(m))) {
        return true;
    }
    let (address, bits) = word.split_once('/').map_or((word, None), |(a, b)| (a, Some(b)));
    let most = if address.contains(':') { 128 } else { 32 };
    let fits =
        |b: &str| b.parse::<u8>().is_ok_and(|n| n <= most) || (most == 32 && b.parse::<Ipv4Addr>().is_ok());
    address.parse::<IpAddr>().is_ok() && bits.is_none_or(fits)
}

pub(super) fn expected(more: &[&str]) -> String {
    let words: Vec<&str> = std::iter::once("an address, a network").chain(more.iter().copied()).collect();
    super::words::listed(&words, "or")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn networks_are_addresses_with_a_length_or_a_mask() {
        for word in
            ["192.0.2.1", "192.0.2.0/24", "192.0.2.0/255.255.255.0", "2001:db8::/32", "::1", "all", "unix:/x"]
        {
            assert!(holds(word, &["all", "unix:"]), "{word}");
        }
        for word in ["192.0.2.0/33", "2001:db8::/129", "2001:db8::/255.0.0.0", "quay1", "", "192.0.2", "allx"]
        {
            assert!(!holds(word, &["all", "unix:"]), "{word}");
        }
        assert_eq!(expected(&["all"]), "an address, a network or all");
    }
}
