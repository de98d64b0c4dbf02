//! The account and group that workers run as.
use super::super::state::{Directive, Reader, Rule};
use crate::accounts;
use crate::code::Code;
use crate::config::{About, DependsOn};
use crate::host::Look;

pub(super) static RULE: Rule = Rule { names: &["user"], check: |r, d, _| user(r, d) };

fn user(r: &mut Reader, d: &Directive) {
    let name = d.argument(0).to_owned();
    r.out.model.account = Some((name.clone(), Some(r.place_at(d, &name))));
    r.out.model.group = Some(if d.words.len() > 2 { d.argument(1).to_owned() } else { name.clone() });
    // Numbers are names here. Only a start as root looks the account up.
    if r.options.start_uid != 0 {
        return;
    }
    let account = accounts::account(r.snapshot, &name);
    let unseen = account == Look::NotSeen(crate::host::Unseen::PartMissing);
    if !unseen && account.seen().is_none_or(|a| a.name != name) {
        let found = r.find_of(
            d,
            &name,
            Code::AccountMissing,
            format!("account \"{name}\" does not exist on this host"),
        );
        found.depends_on = DependsOn::Accounts;
        found.about = Some(About::Account(name));
        return;
    }
    let group = r.out.model.group.clone().unwrap_or_default();
    if accounts::group(r.snapshot, &group).is_absent() {
        let found = r.find_of(
            d,
            &group,
            Code::AccountMissing,
            format!("group \"{group}\" does not exist on this host"),
        );
        found.depends_on = DependsOn::Accounts;
        found.about = Some(About::Group(group));
    }
}
