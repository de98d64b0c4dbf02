//! Where bodies are kept while they pass.
use super::super::state::Rule;
use super::common::named;

pub(super) static RULE: Rule = Rule {
    names: &[
        "client_body_temp_path",
        "proxy_temp_path",
        "fastcgi_temp_path",
        "uwsgi_temp_path",
        "scgi_temp_path",
    ],
    check: |r, d, _| {
        let file = d.argument(0).to_owned();
        let entry = named(r, d, &file);
        r.facts.temp_paths.insert(d.name().to_owned());
        r.out.model.writes.push(entry);
    },
};
