//! The account and group that the server runs as.
use super::super::state::{Reader, Rule};
use crate::accounts;
use crate::code::Code;
use crate::config::{About, DependsOn, Place};
use crate::host::Look;

pub(super) static USER: Rule = Rule {
    names: &["User"],
    check: |r, d, _| r.out.model.account = Some((d.value(0).to_owned(), Some(d.item.place()))),
};
pub(super) static GROUP: Rule =
    Rule { names: &["Group"], check: |r, d, _| r.out.model.group = Some(d.value(0).to_owned()) };

/// The account names that the main server runs as.
pub(in super::super) fn accounts(r: &mut Reader) {
    if r.options.start_uid != 0 {
        return;
    }
    if let Some((name, place)) = r.out.model.account.clone() {
        if name == "root" || name == "#0" {
            r.find_at(place, Code::ConfigBadValue, "User is root, which httpd refuses").directive =
                Some("User".into());
        } else if !name.starts_with('#') && missing(&accounts::account(r.snapshot, &name), |a| a.name == name)
        {
            absent(r, place, "User", About::Account(name));
        }
    }
    if let Some(name) = r.out.model.group.clone() {
        let known = accounts::group(r.snapshot, &name);
        if !name.starts_with('#') && (known.is_absent() || name.parse::<u32>().is_ok()) {
            absent(r, None, "Group", About::Group(name));
        }
    }
}

fn missing<T>(look: &Look<T>, same: impl Fn(&T) -> bool) -> bool {
    match look {
        Look::Seen(found) => !same(found),
        Look::Absent => true,
        Look::NotSeen(_) => false,
    }
}

fn absent(r: &mut Reader, place: Option<Place>, directive: &str, about: About) {
    let (what, name) = match &about {
        About::Group(name) => ("group", name),
        About::Account(name) => ("account", name),
        _ => return,
    };
    let found =
        r.find_at(place, Code::AccountMissing, format!("{what} \"{name}\" does not exist on this host"));
    found.directive = Some(directive.into());
    found.depends_on = DependsOn::Accounts;
    found.about = Some(about);
}
