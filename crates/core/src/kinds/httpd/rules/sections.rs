//! Heads of sections, and what must not stand in one.
use super::super::state::{Directive, Item, Reader, Rule, report};
use super::rewriting::regex;
use crate::code::Code;

pub(super) static HEAD: Rule = Rule {
    names: &[
        "<Directory",
        "<Location",
        "<Files",
        "<DirectoryMatch",
        "<LocationMatch",
        "<FilesMatch",
        "<Proxy",
    ],
    check: |r, d, _| {
        let tilde = d.value(0) == "~";
        if d.value(0).is_empty() {
            report(r, d, Code::ConfigSyntax, format!("{}> needs a name", d.name));
        } else if !d.item.text().contains('>') {
            report(r, d, Code::ConfigSyntax, format!("{}> is missing its closing >", d.name));
        } else if tilde || d.lower().ends_with("match") {
            regex(r, d, usize::from(tilde));
        }
    },
};
pub(super) static METHODS: Rule = Rule {
    names: &["<Limit", "<LimitExcept"],
    check: |r, d, _| {
        if d.values.is_empty() {
            report(r, d, Code::ConfigSyntax, format!("{}> names no method", d.name));
        }
    },
};

/// A section ended; `children` are what stood in it.
pub(in super::super) fn section_ends(r: &mut Reader, d: &Directive, children: &[Item]) {
    if d.lower() == "<requireany" {
        let negative = children.iter().find(|c| {
            let text = c.text().to_ascii_lowercase();
            text.starts_with("<requirenone")
                || text.strip_prefix("require").is_some_and(|t| t.trim_start().starts_with("not "))
        });
        if let Some(child) = negative {
            let place = child.place();
            let name = child.name().into_owned();
            let found = r.find_at(
                Some(place),
                Code::ConfigConflict,
                format!("{name} with a negation has no effect inside <RequireAny>, and is refused"),
            );
            found.directive = Some(name);
        }
    }
}
