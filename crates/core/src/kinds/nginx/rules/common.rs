//! What several rules need: findings beside a directive, patterns, variables, names of files.
use super::super::state::{Directive, Reader};
use super::super::variables;
use crate::code::Code;
use crate::config::{ConfigFinding, NamedPath, Place};
use crate::path;

pub(super) fn push(r: &mut Reader, code: Code, place: Option<Place>, directive: &str, message: String) {
    r.out.add(ConfigFinding {
        place,
        directive: Some(directive.to_owned()),
        ..ConfigFinding::error(code, message)
    });
}

pub(in super::super) fn check_regex(r: &mut Reader, d: &Directive, pattern: &str) {
    if let Some(fault) = crate::config::regex_fault(pattern) {
        r.find_of(
            d,
            pattern,
            Code::ConfigBadValue,
            format!("the pattern \"{pattern}\" does not compile: {fault}"),
        );
    }
    for name in variables::captures(pattern) {
        let name = r.known_here(&name);
        r.facts.variables.insert(name);
    }
}

/// A line that defines a variable: its name, unless it is one of the daemon's own.
pub(super) fn defines(r: &mut Reader, d: &Directive, name: &str) {
    if variables::fixed(name, r.context().starts_with("stream")) {
        r.find_of(
            d,
            &format!("${name}"),
            Code::ConfigConflict,
            format!("\"${name}\" is a variable of nginx itself"),
        );
        return;
    }
    let name = r.known_here(name);
    r.facts.variables.insert(name);
}

/// Notes the variables of a value; a lone `$` or an open brace is refused at once.
pub(in super::super) fn uses_variables(r: &mut Reader, d: &Directive, value: &str) {
    match variables::uses(value) {
        // What the daemon itself defines needs no second look.
        Ok(names) => {
            let own = names.into_iter().filter(|n| !variables::built_in(n));
            let own: Vec<_> = own.map(|n| (r.known_here(n), r.place_at(d, value))).collect();
            r.facts.variable_uses.extend(own);
        }
        Err(fault) => drop(r.find_of(d, value, Code::ConfigBadValue, format!("\"{value}\": {fault}"))),
    }
}

pub(in super::super) fn named(r: &Reader, d: &Directive, file: &str) -> NamedPath {
    NamedPath {
        path: path::join(&r.options.prefix, file),
        place: Some(r.place_at(d, file)),
        directive: d.name().to_owned(),
    }
}
