//! How the daemon runs: in the background or not, and where it writes its process number.
use super::super::state::Rule;
use super::common::named;

pub(super) static DAEMON: Rule =
    Rule { names: &["daemon"], check: |r, d, _| r.out.model.background = Some(d.argument(0) != "off") };

pub(super) static PID: Rule = Rule {
    names: &["pid"],
    check: |r, d, _| {
        let file = d.argument(0).to_owned();
        r.out.model.pid_file = Some(named(r, d, &file)).filter(|_| !file.is_empty());
    },
};
