//! Names of sites.
use super::super::state::{Directive, Reader, Rule};
use super::common::check_regex;
use crate::code::Code;

pub(super) static RULE: Rule = Rule { names: &["server_name"], check: |r, d, _| server_name(r, d) };

fn server_name(r: &mut Reader, d: &Directive) {
    let names: Vec<String> = d.arguments().map(str::to_owned).collect();
    for name in names {
        if let Some(pattern) = name.strip_prefix('~') {
            if pattern.is_empty() {
                r.find_of(d, &name, Code::ConfigBadValue, format!("\"{name}\" holds an empty pattern"));
            } else {
                check_regex(r, d, pattern);
            }
        } else {
            let stars = name.matches('*').count();
            let inner = name.trim_start_matches("*.").trim_end_matches(".*");
            if inner.contains('*')
                || stars > 1
                || (stars == 1 && name.starts_with('*') && !name.starts_with("*."))
            {
                // Refused only where several servers share the listener; that is known at the end.
                let entry = (name.clone(), r.place_at(d, &name));
                r.facts.odd_names.push(entry);
            } else if name.contains('/') {
                r.warn(d, format!("server name \"{name}\" has suspicious symbols"));
            }
        }
        if let Some(site) = &mut r.block().site {
            site.names.push(name.to_ascii_lowercase());
        }
    }
}
