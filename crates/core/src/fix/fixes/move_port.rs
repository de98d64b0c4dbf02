//! Moving the service to a free port, in every place that belongs to it.
use super::{Ask, Fix, Needs};
use crate::case::{Depth, gather};
use crate::fix::clients::{Client, Pointer, client_reload, pointers};
use crate::fix::edits::client_edits;
use crate::fix::edits::edits;
use crate::fix::plan::{Parameter, Plan, Risk};
use crate::net::Listen;
use crate::ports::free_ports;

pub(super) static FIX: Fix = Fix {
    price: |cause| {
        format!("moves the service away from port {}; clients must follow", cause.port.unwrap_or(0))
    },
    parameters: &["port", "tls-port"],
    needs: Needs::Restart,
    moves: true,
    ..Fix::plain("move-port", move_port)
};

/// A port, and where it goes.
struct Move {
    old: u16,
    new: u16,
    /// The name by which a person gives a port of his own.
    name: &'static str,
}

fn move_port(ask: &Ask, mut plan: Plan) -> Result<Plan, String> {
    let &Ask { snapshot, case, .. } = ask;
    let moves = moves(ask)?;
    let model = &case.config.model;
    let mut spans = Vec::new();
    for Move { old, new, .. } in &moves {
        let before = spans.len();
        for listen in model.listens.iter().filter(|l| l.listen.port == *old) {
            match &listen.port_span {
                Some(span) => spans.push((span.clone(), new.to_string())),
                None => plan.remarks.push(format!(
                    "{} listens on {old} without writing the number; it cannot be moved there",
                    listen.place.as_ref().map_or_else(|| "by default it".to_owned(), ToString::to_string)
                )),
            }
        }
        if spans.len() == before {
            return Err(format!("no line that can be changed asks for port {old}"));
        }
        for mention in model.ports.iter().filter(|p| p.port == *old) {
            if mention.belongs {
                spans.push((mention.span.clone(), new.to_string()));
            } else {
                plan.remarks.push(format!(
                    "{} mentions {old} and was left alone: it points at another program ({})",
                    mention.place, mention.text
                ));
            }
        }
    }
    edits(snapshot, case, spans, &mut plan)?;
    follow(ask, &moves, &mut plan)?;
    let words: Vec<String> = moves.iter().map(|m| format!("from port {} to {}", m.old, m.new)).collect();
    plan.title = format!("move {} {}", case.service.name, words.join(" and "));
    plan.risk = Risk::Medium;
    let old: Vec<String> = moves.iter().map(|m| m.old.to_string()).collect();
    plan.remarks.push(format!("clients, links and proxies that use port {} must follow", old.join(" or ")));
    let parameters = moves.iter().filter(|m| !m.name.is_empty());
    plan.parameters.extend(parameters.map(|m| Parameter { name: m.name.into(), value: m.new.to_string() }));
    Ok(plan)
}

/// The port that the cause names, and with it every other one of the service's that the same holder keeps
/// from it: half of a pair of listeners is of no use.
fn moves(ask: &Ask) -> Result<Vec<Move>, String> {
    let &Ask { snapshot, case, all, cause, wishes } = ask;
    let first = cause.subject.port.ok_or("the cause names no port")?;
    let listens = &case.config.model.listens;
    let written = |port: u16| listens.iter().any(|l| l.listen.port == port && l.port_span.is_some());
    let mut old = vec![first];
    old.extend(cause.also.iter().filter_map(|s| s.port).filter(|p| *p != first && written(*p)));
    old.sort_unstable_by_key(|p| *p != first);
    old.dedup();
    let sockets = snapshot.listeners().seen().unwrap_or_default();
    let mut moves: Vec<Move> = Vec::new();
    for port in old {
        let tls = listens.iter().any(|l| l.listen.port == port && l.tls);
        let free_name = |name: &&str| moves.iter().all(|m: &Move| m.name != *name);
        let name = if port == first {
            "port"
        } else if tls {
            "tls-port"
        } else {
            ""
        };
        let name = Some(name).filter(free_name).unwrap_or("");
        let new = match wishes.values.get(name).filter(|_| !name.is_empty()) {
            Some(text) => text
                .parse::<u16>()
                .ok()
                .filter(|p| *p > 0)
                .ok_or_else(|| format!("\"{text}\" is not a port, expected 1 to 65535"))?,
            None => {
                let free = free_ports(snapshot, all, port, moves.len() + 1);
                let other = |p: &u16| moves.iter().all(|m| m.new != *p);
                free.into_iter().find(other).ok_or("no port is free")?
            }
        };
        if new != port && listens.iter().any(|l| l.listen.port == new) {
            return Err(format!("{} listens on {new} already", case.service.name));
        }
        if sockets.iter().any(|s| s.port == new) {
            return Err(format!("port {new} is held by another program"));
        }
        if moves.iter().any(|m| m.new == new) {
            return Err(format!("two listeners cannot both move to {new}"));
        }
        moves.push(Move { old: port, new, name });
    }
    Ok(moves)
}

/// Other services' lines that point at what moves: moved along where that is wished, and listed where not.
fn follow(ask: &Ask, moves: &[Move], plan: &mut Plan) -> Result<(), String> {
    let &Ask { snapshot, case, all, wishes, .. } = ask;
    let mut clients: Vec<Client> = Vec::new();
    let mut along: Vec<(String, &str)> = Vec::new();
    let mut left = 0;
    for Move { old, new, .. } in moves {
        let model = &case.config.model;
        let listens: Vec<&Listen> =
            model.listens.iter().map(|l| &l.listen).filter(|l| l.port == *old).collect();
        for Pointer { service, place, span } in pointers(snapshot, case.service, all, &listens) {
            let who = format!("{place} of {} points at {old}", service.name);
            match span {
                Some(span) if wishes.with_clients => {
                    along.push((who, &service.name));
                    let edit = (span, new.to_string());
                    match clients.iter_mut().find(|c| c.service.name == service.name) {
                        Some(client) => client.edits.push(edit),
                        None => clients.push(Client { service: service.clone(), edits: vec![edit] }),
                    }
                }
                Some(_) => {
                    left += 1;
                    plan.remarks.push(who);
                }
                None => plan.remarks.push(format!("{who} without writing the number; change it by hand")),
            }
        }
    }
    if left > 0 {
        plan.remarks.push("--with-clients moves these along".into());
    }
    // Anybody can run something that points here: what must not be edited is told, and holds nobody up.
    clients.retain(|client| match client_edits(snapshot, &[client]) {
        Ok((_, diff)) => {
            plan.diff.push_str(&diff);
            true
        }
        Err(why) => {
            plan.remarks.push(why);
            false
        }
    });
    for (who, of) in along {
        let moves = if clients.iter().any(|c| c.service.name == of) { " and moves along" } else { "" };
        plan.remarks.push(format!("{who}{moves}"));
    }
    for client in &clients {
        let step = client_reload(&gather(snapshot, &client.service, Depth::State));
        plan.remarks.push(match step {
            Some(step) => format!("afterwards: {}", step.spelled()),
            None => format!("{} reads it at its next start", client.service.name),
        });
    }
    plan.clients = clients;
    Ok(())
}
