//! Further names of a site.
use super::super::state::{Rule, report};
use crate::code::Code;

pub(super) static RULE: Rule = Rule {
    names: &["ServerAlias"],
    check: |r, d, around| {
        if around.scope.host == 0 {
            report(r, d, Code::ConfigMisplacedDirective, "ServerAlias is for virtual hosts only").help =
                Some("move it into a <VirtualHost>".into());
            return;
        }
        for name in d.values.iter().filter(|n| !n.is_empty()) {
            r.out.model.site_names.push((name.to_ascii_lowercase(), 0));
        }
    },
};
