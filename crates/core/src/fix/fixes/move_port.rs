//! Moving the service to a free port, in every place that belongs to it.
use super::{Ask, Fix, Needs};
use crate::case::Case;
use crate::fix::edits::edits;
use crate::fix::plan::{Parameter, Plan, Risk};
use crate::ports::free_ports;
use crate::service::Service;
use crate::snapshot::Snapshot;

pub(super) static FIX: Fix = Fix {
    price: |cause| {
        format!("moves the service away from port {}; clients must follow", cause.port.unwrap_or(0))
    },
    parameters: &["port"],
    needs: Needs::Restart,
    moves: true,
    ..Fix::plain("move-port", move_port)
};

fn move_port(ask: &Ask, mut plan: Plan) -> Result<Plan, String> {
    let &Ask { snapshot, case, all, cause, given } = ask;
    let old = cause.subject.port.ok_or("the cause names no port")?;
    let new = match given.get("port") {
        Some(text) => text
            .parse::<u16>()
            .ok()
            .filter(|p| *p > 0)
            .ok_or_else(|| format!("{text:?} is not a port, expected 1 to 65535"))?,
        None => free_ports(snapshot, all, old, 1).first().copied().ok_or("no port is free")?,
    };
    let model = &case.config.model;
    if new != old && model.listens.iter().any(|l| l.listen.port == new) {
        return Err(format!("{} listens on {new} already", case.service.name));
    }
    let held = snapshot.listeners().seen().unwrap_or_default().iter().any(|s| s.port == new);
    if held {
        return Err(format!("port {new} is held by another program"));
    }
    let mut spans = Vec::new();
    for listen in model.listens.iter().filter(|l| l.listen.port == old) {
        match &listen.port_span {
            Some(span) => spans.push((span.clone(), new.to_string())),
            None => plan.remarks.push(format!(
                "{} listens on {old} without writing the number; it cannot be moved there",
                listen.place.as_ref().map_or_else(|| "by default it".to_owned(), ToString::to_string)
            )),
        }
    }
    if spans.is_empty() {
        return Err(format!("no line that can be changed asks for port {old}"));
    }
    for mention in model.ports.iter().filter(|p| p.port == old) {
        if mention.belongs {
            spans.push((mention.span.clone(), new.to_string()));
        } else {
            plan.remarks.push(format!(
                "{} mentions {old} and was left alone: it points at another program ({})",
                mention.place, mention.text
            ));
        }
    }
    edits(snapshot, case, spans, &mut plan)?;
    others_that_mention(snapshot, case, all, old, &mut plan);
    plan.title = format!("move {} from port {old} to {new}", case.service.name);
    plan.risk = Risk::Medium;
    plan.remarks.push(format!("clients, links and proxies that use port {old} must follow"));
    plan.parameters.push(Parameter { name: "port".into(), value: new.to_string() });
    Ok(plan)
}

/// Other services' lines that point at the port that moves.
fn others_that_mention(snapshot: &Snapshot, case: &Case, all: &[Service], port: u16, plan: &mut Plan) {
    for other in all.iter().filter(|s| s.name != case.service.name) {
        for mention in
            other.configuration(snapshot).model.ports.iter().filter(|p| p.port == port && !p.belongs)
        {
            plan.remarks
                .push(format!("{} of {} points at {port}: {}", mention.place, other.name, mention.text));
        }
    }
}
