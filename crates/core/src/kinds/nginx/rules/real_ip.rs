//! Networks whose word about a client is believed.
use super::super::state::{Directive, Reader, Rule};
use crate::code::Code;
use crate::config::rows::Type;

pub(super) static RULE: Rule = Rule { names: &["set_real_ip_from"], check: |r, d, _| network(r, d) };

fn network(r: &mut Reader, d: &Directive) {
    let value = d.argument(0);
    let (address, _) = value.split_once('/').unwrap_or((value, ""));
    // What is no address is a name, which is looked up.
    let name = address.parse::<std::net::IpAddr>().is_err();
    if !name && !Type::Network(&[]).holds(value) {
        r.find_of(d, value, Code::ConfigBadValue, format!("\"{value}\" is not an address or a network"));
    }
}
