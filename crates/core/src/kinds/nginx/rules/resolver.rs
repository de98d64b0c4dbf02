//! Servers that names are asked of.
use super::super::state::{Directive, MayBe, Reader, Rule};
use super::upstreams::{split_host, use_host};
use crate::code::Code;
use crate::config::rows::{Time, Type};

pub(super) static RULE: Rule = Rule { names: &["resolver"], check: |r, d, _| resolver(r, d) };

fn resolver(r: &mut Reader, d: &Directive) {
    let all: Vec<String> = d.arguments().map(str::to_owned).collect();
    for word in &all {
        if let Some(time) = word.strip_prefix("valid=") {
            if !Type::Time(Time::Seconds).holds(time) {
                r.find_of(d, time, Code::ConfigBadValue, format!("\"{time}\" is not a time"));
            }
        } else if !word.starts_with("ipv6=") && !word.starts_with("status_zone=") {
            let (host, _) = split_host(word);
            if host.parse::<std::net::IpAddr>().is_err() {
                use_host(r, d, host, MayBe::Host);
            }
        }
    }
}
