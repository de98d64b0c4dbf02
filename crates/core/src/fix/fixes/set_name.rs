//! The server's own name, where it has none.
use super::Fix;
use crate::case::Case;
use crate::config::Span;
use crate::fix::edits::edits;
use crate::fix::plan::{Parameter, Plan};
use crate::host::Look;
use crate::snapshot::Snapshot;

pub(super) static FIX: Fix = Fix {
    price: |_| "gives the server its name".into(),
    parameters: &["name"],
    ..Fix::plain("set-name", |ask, plan| {
        set_name(ask.snapshot, ask.case, ask.wishes.values.get("name").map(String::as_str), plan)
    })
};

/// Whether a text is a name of a host (RFC 1123).
fn is_host_name(name: &str) -> bool {
    let label = |l: &str| {
        (1..=63).contains(&l.len())
            && !l.starts_with('-')
            && !l.ends_with('-')
            && l.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-')
    };
    name.len() <= 253 && name.split('.').all(label)
}

/// One line at the end of the main file, outside of every section.
fn set_name(snapshot: &Snapshot, case: &Case, wished: Option<&str>, mut plan: Plan) -> Result<Plan, String> {
    if case.config.model.named != Some(false) {
        return Err("it has a name already".into());
    }
    let host = snapshot.clock().seen().map(|c| c.host);
    let name = wished.or(host.as_deref()).ok_or("no name is given: --set name=NAME")?;
    if !is_host_name(name) {
        return Err(format!("\"{name}\" is not the name of a host"));
    }
    let file = &case.service.instance.config;
    let Look::Seen(bytes) = snapshot.read(file) else { return Err(format!("{file} cannot be read")) };
    let end = bytes.len();
    let line = if bytes.ends_with(b"\n") || bytes.is_empty() { "" } else { "\n" };
    plan.title = format!("give {} the name {name}", case.service.name);
    plan.parameters.push(Parameter { name: "name".into(), value: name.to_owned() });
    let span = Span { file: file.as_str().into(), start: end, end };
    edits(snapshot, case, vec![(span, format!("{line}ServerName {name}\n"))], &mut plan)?;
    Ok(plan)
}

#[cfg(test)]
mod tests {
    use super::is_host_name;

    #[test]
    fn names_of_hosts_are_told_from_others() {
        for name in ["quay1", "front.saltmarsh-ferries.example", "192.0.2.7", "a-1.b"] {
            assert!(is_host_name(name), "{name}");
        }
        for name in ["", "a..b", "-a", "a-", "a b", "a\nServerAdmin x", "a/b", "*.b", "a_b"] {
            assert!(!is_host_name(name), "{name:?}");
        }
    }
}
