//! The method by which an upstream chooses.
use super::super::state::Rule;

pub(super) static RULE: Rule = Rule {
    names: &["ip_hash", "hash", "random"],
    check: |r, d, _| {
        if matches!(r.context(), "upstream" | "stream-upstream") {
            let method = d.name().to_owned();
            r.block().prefix = Some(method);
        }
    },
};
