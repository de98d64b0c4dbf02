//! Modules that are files of their own.
use super::super::state::{Directive, Reader, Rule};
use crate::code::Code;
use crate::config::{About, DependsOn};
use crate::path;

pub(super) static RULE: Rule = Rule { names: &["load_module"], check: |r, d, _| load_module(r, d) };

fn load_module(r: &mut Reader, d: &Directive) {
    let file = path::join(&r.options.prefix, d.argument(0));
    let file = if d.argument(0).starts_with("modules/") && r.snapshot.exists(&file) == Some(false) {
        path::join(&r.options.modules, d.argument(0).trim_start_matches("modules/"))
    } else {
        file
    };
    if r.snapshot.exists(&file) == Some(false) {
        let found = r.find_word(d, 0, Code::ConfigMissingFile, format!("module file {file} does not exist"));
        found.depends_on = DependsOn::Files;
        found.about = Some(About::File(file));
        return;
    }
    if r.out.model.modules.contains(&file) {
        r.find_word(d, 0, Code::ConfigConflict, format!("module {} is already loaded", path::name(&file)));
        return;
    }
    if r.facts.has_events || r.facts.has_http {
        r.find(
            d,
            Code::ConfigMisplacedDirective,
            "\"load_module\" is specified too late: it belongs before events and http",
        );
    }
    r.out.model.modules.push(file);
}
