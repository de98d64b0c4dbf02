//! Who may have a page: `Require` and its blocks, and the older `Order`, `Allow`, `Deny`.
use super::state::Unknown;
use crate::route::{Node, Request};
use std::net::IpAddr;

/// What the rules of one block come to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Verdict {
    Granted,
    Denied,
    /// Somebody with a name and a password may.
    NeedsLogin,
    /// It says nothing either way.
    Neutral,
}

/// The rules of a block, where it has any; `None` where it has none.
pub(super) fn required(children: &[Node], request: &Request) -> Option<Result<Verdict, Unknown>> {
    let rules: Vec<&Node> = children.iter().filter(|n| is_rule(n)).collect();
    (!rules.is_empty()).then(|| any(&rules, request))
}

fn is_rule(node: &Node) -> bool {
    matches!(node.name.as_str(), "require" | "requireall" | "requireany" | "requirenone")
}

fn inside(block: &Node) -> Vec<&Node> {
    block.children.iter().filter(|n| is_rule(n)).collect()
}

fn one(node: &Node, request: &Request) -> Result<Verdict, Unknown> {
    match node.name.as_str() {
        "requireall" => all(&inside(node), request),
        "requireany" => any(&inside(node), request),
        "requirenone" => Ok(match any(&inside(node), request)? {
            Verdict::Granted => Verdict::Denied,
            _ => Verdict::Neutral,
        }),
        _ => {
            let (negated, words) = match node.words.split_first() {
                Some((not, rest)) if not.eq_ignore_ascii_case("not") => (true, rest),
                _ => (false, node.words.as_slice()),
            };
            let verdict = single(words, request)?;
            Ok(match (negated, verdict) {
                (true, Verdict::Granted) => Verdict::Denied,
                (true, _) => Verdict::Neutral,
                (false, verdict) => verdict,
            })
        }
    }
}

fn single(words: &[String], request: &Request) -> Result<Verdict, Unknown> {
    let word = |at: usize| words.get(at).map_or(String::new(), |w| w.to_ascii_lowercase());
    let granted = |yes: bool| if yes { Verdict::Granted } else { Verdict::Denied };
    Ok(match word(0).as_str() {
        "all" => granted(word(1) == "granted"),
        "ip" => granted(words.iter().skip(1).any(|n| from(request.client, n))),
        "local" => granted(request.client.is_loopback() || request.client == request.address),
        "method" => granted(words.iter().skip(1).any(|m| m.eq_ignore_ascii_case("GET"))),
        "valid-user" | "user" | "group" | "ldap-user" | "ldap-group" | "dbm-group" | "file-owner"
        | "file-group" => Verdict::NeedsLogin,
        other => return Err(Unknown(format!("Require {other}"))),
    })
}

/// Whether an address lies in what `Require ip` names: an address, its first bytes, or a network.
fn from(client: IpAddr, written: &str) -> bool {
    if crate::net::within(client, written).is_some() {
        return true;
    }
    let parts = written.trim_end_matches('.').split('.').count();
    let partial = written.bytes().all(|b| b.is_ascii_digit() || b == b'.') && parts < 4;
    partial && format!("{client}.").starts_with(&format!("{}.", written.trim_end_matches('.')))
}

fn any(rules: &[&Node], request: &Request) -> Result<Verdict, Unknown> {
    let mut found = Verdict::Neutral;
    let mut unknown = None;
    for rule in rules {
        match one(rule, request) {
            Ok(Verdict::Granted) => return Ok(Verdict::Granted),
            Ok(Verdict::NeedsLogin) => found = Verdict::NeedsLogin,
            Ok(Verdict::Denied) if found == Verdict::Neutral => found = Verdict::Denied,
            Ok(_) => {}
            Err(why) => unknown = Some(why),
        }
    }
    match unknown {
        Some(why) => Err(why),
        None => Ok(found),
    }
}

fn all(rules: &[&Node], request: &Request) -> Result<Verdict, Unknown> {
    let mut found = Verdict::Neutral;
    for rule in rules {
        match one(rule, request)? {
            Verdict::Denied => return Ok(Verdict::Denied),
            Verdict::NeedsLogin => found = Verdict::NeedsLogin,
            Verdict::Granted if found == Verdict::Neutral => found = Verdict::Granted,
            _ => {}
        }
    }
    Ok(found)
}

/// The older rules of a block: whether they let it pass; `None` where it has none.
pub(super) fn ordered(children: &[Node], request: &Request) -> Option<Result<bool, Unknown>> {
    let of = |name: &str| children.iter().filter(|n| n.name == name).collect::<Vec<_>>();
    let (order, allows, denies) = (of("order"), of("allow"), of("deny"));
    if order.is_empty() && allows.is_empty() && denies.is_empty() {
        return None;
    }
    let hits = |lines: &[&Node]| -> Result<bool, Unknown> {
        for written in lines.iter().flat_map(|n| n.words.iter().skip(1)) {
            if written.eq_ignore_ascii_case("all") || from(request.client, written) {
                return Ok(true);
            }
            if !written.bytes().all(|b| b.is_ascii_hexdigit() || b":./".contains(&b)) {
                return Err(Unknown(format!("from {written}")));
            }
        }
        Ok(false)
    };
    let allow_first = order.last().is_some_and(|n| n.word(0).to_ascii_lowercase().starts_with("allow"));
    let mutual = order.last().is_some_and(|n| n.word(0).eq_ignore_ascii_case("mutual-failure"));
    Some(hits(&allows).and_then(|allowed| {
        let denied = hits(&denies)?;
        Ok(if allow_first || mutual { allowed && !denied } else { allowed || !denied })
    }))
}
