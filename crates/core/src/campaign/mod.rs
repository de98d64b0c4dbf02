//! A campaign: fixes are offered for the causes at hand, chosen, carried out under the journal, judged by a
//! fresh look, and kept or put back. It changes the machine through a [`HostWriter`] alone, and waits by a
//! clock that is given to it.
mod judge;
mod settle;

pub use settle::{Patience, settled};

use crate::bounds::PLANNED;
use crate::case::{Case, Depth, State, gather};
use crate::code::Code;
use crate::finding::Finding;
use crate::fix::steps::{Job, ResetFailed};
use crate::fix::{
    self, Commands, HostWriter, Needs, Plan, Preview, Purpose, Record, Step, Wishes, WriteError,
};
use crate::manager::SocketUnit;
use crate::rank::{Cause, Relation};
use crate::report::{self, Complaint, NextCause, Recovery, Unavailable, VerifyReport};
use crate::service::Service;
use crate::snapshot::Snapshot;
use std::time::Duration;

/// Time as a campaign sees it.
pub trait Clock {
    /// How long it goes on already.
    fn elapsed(&self) -> Duration;
    /// Waits.
    fn sleep(&self, time: Duration);
}

/// Where a campaign takes place.
pub trait Ground: Clock + Commands {
    /// A fresh look at the host.
    fn look(&self) -> Snapshot<'_>;
    /// A service by its name, as the host has it now.
    ///
    /// # Errors
    /// That there is none.
    fn service(&self, snapshot: &Snapshot, name: &str) -> Result<Service, String>;
    /// Whether it is the running machine: in a tree of files nothing is started, and nothing proven.
    fn is_live(&self) -> bool;
    /// The page that was complained about, where that is what the fix is for.
    fn complaint(&self) -> Complaint {
        Complaint::default()
    }
    /// What a request for that page meets in a service now.
    fn met(&self, _: &Snapshot, _service: &str) -> Vec<Finding> {
        Vec::new()
    }
    /// Tells whoever waits why.
    fn say(&self, text: &str);
}

/// A plan with the cause it is for.
#[derive(Clone, Debug)]
pub struct Offer {
    /// What would be done.
    pub plan: Plan,
    /// Why.
    pub cause: Cause,
    /// Rank of the cause, from 0.
    pub rank: usize,
}

/// Everything that could be done, and what could not.
#[derive(Clone, Debug, Default)]
pub struct Offers {
    /// Plans, those for the first cause first.
    pub offers: Vec<Offer>,
    /// Fixes that do not apply here, with the reason.
    pub unavailable: Vec<Unavailable>,
}

/// How a campaign is led.
#[derive(Clone, Copy, Debug)]
pub struct Orders {
    /// Change files only; start and reload nothing.
    pub no_start: bool,
    /// How long a start may take, and how long the service must stay up.
    pub patience: Patience,
}

/// Why nothing was changed, or why it could not be put back.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum Refusal {
    /// There is no fix of this id.
    #[error("fix {id} is not offered for this")]
    NoSuchFix {
        /// The id.
        id: String,
        /// Those that are offered.
        offered: Vec<String>,
    },
    /// The fix does not apply here.
    #[error("{id} is not possible here: {reason}")]
    NotPossible {
        /// The id.
        id: String,
        /// Why.
        reason: String,
    },
    /// Something stands in the way; the message says what became of the change.
    #[error("{0}")]
    InTheWay(String),
}

impl From<WriteError> for Refusal {
    fn from(error: WriteError) -> Self {
        Self::InTheWay(error.to_string())
    }
}

/// What came of a campaign.
#[derive(Clone, Debug)]
pub struct Outcome {
    /// Id for `undo`.
    pub id: String,
    /// Ids that were carried out.
    pub applied: Vec<String>,
    /// What became of it.
    pub fate: Fate,
    /// Whether the service is well again; `None` where that was not to be found out.
    pub verified: Option<Recovery>,
    /// The checks behind that.
    pub verification: Option<VerifyReport>,
    /// The next cause, where one is left.
    pub next_cause: Option<NextCause>,
}

/// What became of a change.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Fate {
    /// It stands, and the service is as well as it can be.
    Helped,
    /// It stands, and something is left.
    Kept,
    /// It stands; whether it helps nobody looked.
    Unproven,
    /// It did not help, and was put back; what could not be is told.
    PutBack {
        /// What was left alone, or could not be put back, in words.
        left: Vec<String>,
        /// Whether everything is back that can be.
        whole: bool,
    },
}

/// Plans for every cause that is sure enough; their ids are unique.
pub fn offers(
    snapshot: &Snapshot,
    case: &Case,
    all: &[Service],
    causes: &[Cause],
    wishes: &Wishes,
) -> Offers {
    let mut found = Offers::default();
    // What follows from an earlier cause goes with it: nothing is offered for that.
    let apart: Vec<_> =
        causes.iter().enumerate().filter(|(_, c)| c.relation != Relation::Consequence).collect();
    if let Some(more @ 1..) = apart.len().checked_sub(PLANNED) {
        snapshot.unseen(format!("fixes for {more} more causes: those of the first {PLANNED} are planned"));
    }
    for (rank, cause) in apart.into_iter().take(PLANNED) {
        for (at, outcome) in fix::plans(snapshot, case, all, cause, wishes).into_iter().enumerate() {
            let id = cause.fixes.get(at).copied().unwrap_or_default();
            let unique = if found.offers.iter().any(|o| o.plan.id == id) {
                format!("{id}-{}", rank + 1)
            } else {
                id.to_owned()
            };
            match outcome.and_then(|plan| sound(snapshot, case, plan)) {
                Ok(mut plan) => {
                    // One plan can put several causes right; it is offered once.
                    let changes = !(plan.steps.is_empty() && plan.edits.is_empty());
                    if found
                        .offers
                        .iter()
                        .any(|o| changes && o.plan.steps == plan.steps && o.plan.edits == plan.edits)
                    {
                        continue;
                    }
                    plan.id = unique;
                    found.offers.push(Offer { plan, cause: cause.clone(), rank });
                }
                Err(reason) => found.unavailable.push(Unavailable { id: unique, reason }),
            }
        }
    }
    // What only a person chooses comes after what does not need one.
    found.offers.sort_by_key(|o| (o.rank, o.plan.by_choice));
    found
}

/// A plan whose edits leave a configuration that can still be read: a section that would be open or closed
/// twice is refused before anything is written.
fn sound(snapshot: &Snapshot, case: &Case, plan: Plan) -> Result<Plan, String> {
    if plan.edits.is_empty() {
        return Ok(plan);
    }
    let steps = fix::combined(snapshot, case, &[&plan])?;
    let preview = Preview::new(snapshot.host(), &steps);
    let (_, read) =
        report::lint_configuration(&Snapshot::new(&preview), case.service.kind, &case.service.instance);
    let broken = |config: &crate::config::Configuration| {
        config.first_error().filter(|f| f.code == Code::ConfigSyntax).map(|f| f.message.clone())
    };
    match broken(&read) {
        Some(after) if broken(&case.config).is_none_or(|before| before != after) => {
            Err(format!("the configuration could not be read afterwards: {after}"))
        }
        _ if case.config.readable && !read.readable => {
            Err("the configuration could not be read afterwards".into())
        }
        _ => Ok(plan),
    }
}

impl Offers {
    /// The offers of these ids, in their order; without any, the first one for the first cause that is not a
    /// person's choice: the others may follow from that.
    ///
    /// # Errors
    /// The id that is not offered, and why.
    pub fn choose(&self, picks: &[String]) -> Result<Vec<&Offer>, Refusal> {
        if picks.is_empty() {
            return Ok(self.offers.iter().find(|o| o.rank == 0 && !o.plan.by_choice).into_iter().collect());
        }
        let one = |id: &String| {
            if let Some(no) = self.unavailable.iter().find(|u| u.id == *id) {
                return Err(Refusal::NotPossible { id: id.clone(), reason: no.reason.clone() });
            }
            let offered = || self.offers.iter().map(|o| o.plan.id.clone()).collect();
            self.offers
                .iter()
                .find(|o| o.plan.id == *id)
                .ok_or_else(|| Refusal::NoSuchFix { id: id.clone(), offered: offered() })
        };
        picks.iter().map(one).collect()
    }
}

/// Carries the chosen fixes out as one change, and keeps it or puts it back.
///
/// # Errors
/// Why nothing was changed; or that it was not put back as a whole, with the id for `undo`.
pub fn carry_out(
    ground: &dyn Ground,
    writer: &mut dyn HostWriter,
    snapshot: &Snapshot,
    case: &Case,
    chosen: &[&Offer],
    orders: Orders,
) -> Result<Outcome, Refusal> {
    let picked: Vec<&Plan> = chosen.iter().map(|o| &o.plan).collect();
    let mut steps = fix::combined(snapshot, case, &picked).map_err(Refusal::InTheWay)?;
    // Check, then change: the configuration as it would be is read before anything is touched.
    let preview = Preview::new(snapshot.host(), &steps);
    let (_, read) =
        report::lint_configuration(&Snapshot::new(&preview), case.service.kind, &case.service.instance);
    let before = case.config.first_error().map(|f| (f.code, f.place.clone()));
    let after = read.first_error();
    if let Some(fault) = after {
        let same = before.as_ref().is_some_and(|(c, p)| *c == fault.code && *p == fault.place)
            && chosen.iter().any(|o| o.cause.code == fault.code);
        if before.is_none() || same {
            return Err(Refusal::InTheWay(format!(
                "the configuration would be refused afterwards: {}; nothing was changed",
                fault.message
            )));
        }
    }
    // What nobody can judge is no reason against a start: whether the change is kept rests on the service
    // then.
    let may_start = after.is_none() && read.readable && read.bounded.is_none();
    let clients = clients(snapshot, &picked);
    if let Some(why) = clients.iter().find_map(|c| refusal(c, &preview)) {
        return Err(Refusal::InTheWay(why));
    }
    let start =
        if orders.no_start || !ground.is_live() || !may_start { vec![] } else { start_steps(case, chosen) };
    let starts = !start.is_empty();
    steps.extend(start);
    // Nobody is sent to a port before the service is there.
    if starts {
        steps.extend(clients.iter().filter_map(|c| fix::client_reload(c)));
    }
    let causes = report::standing_causes(snapshot, case);
    let record = fix::apply(writer, record(snapshot, case, chosen, steps), ground)?;
    let mut outcome = Outcome {
        id: record.id.clone(),
        applied: chosen.iter().map(|o| o.plan.id.clone()).collect(),
        fate: Fate::Unproven,
        verified: None,
        verification: None,
        next_cause: None,
    };
    if !starts && (orders.no_start || !ground.is_live()) {
        outcome.verified = (!ground.is_live()).then_some(Recovery::Partly);
        outcome.next_cause = after.map(|f| NextCause { code: f.code, title: f.message.clone() });
        return Ok(outcome);
    }
    judge::judge(
        ground,
        writer,
        case,
        chosen,
        judge::Done { record, started: starts, causes, clients },
        orders.patience,
        outcome,
    )
}

/// The other services whose configuration changes along, as they are before.
fn clients<'p>(snapshot: &Snapshot, picked: &[&'p Plan]) -> Vec<Case<'p>> {
    let all = picked.iter().flat_map(|p| &p.clients);
    all.map(|c| gather(snapshot, &c.service, Depth::State)).collect()
}

/// Why the configuration of a client would be refused, where it is not already.
fn refusal(client: &Case, preview: &Preview) -> Option<String> {
    let service = client.service;
    let over = Snapshot::new(preview);
    let (_, read) = report::lint_configuration(&over, service.kind, &service.instance);
    let fault = read.first_error().filter(|_| client.config.first_error().is_none())?;
    Some(format!(
        "the configuration of {} would be refused afterwards: {}; nothing was changed",
        service.name, fault.message
    ))
}

/// Whether a client ran before, and does not any more.
fn went_down(client: &Case, now: &Snapshot) -> bool {
    client.state.is_up() && !gather(now, client.service, Depth::State).state.is_up()
}

/// The steps that bring the service up with what was changed.
fn start_steps(case: &Case, chosen: &[&Offer]) -> Vec<Step> {
    let running = case.state.is_up();
    let restart = chosen.iter().any(|o| o.plan.needs == Needs::Restart);
    let edits = chosen
        .iter()
        .any(|o| !o.plan.edits.is_empty() || o.plan.steps.iter().any(|s| matches!(s, Step::SymbolicLink(_))));
    if let Some(unit) = case.service.unit_name() {
        let unit = unit.to_owned();
        let state = case.manager.as_ref().seen();
        // The manager counts what its script left nothing of as active: a start would do nothing.
        let counted = state.is_some_and(|m| m.active_state == "active");
        let verb = match (running, restart || case.state == State::Degraded, edits) {
            (false, ..) if counted => "restart",
            (false, ..) => "start",
            (true, true, _) => "restart",
            (true, false, true) => "reload",
            (true, false, false) => return vec![],
        };
        let mut steps = Vec::new();
        let sockets: Vec<&SocketUnit> = case.sockets.iter().filter(|s| s.has_failed()).collect();
        for socket in &sockets {
            steps.push(Step::ResetFailed(ResetFailed { unit: socket.name.clone() }));
            steps.push(Step::Job(Job { verb: "start".into(), unit: socket.name.clone() }));
        }
        // What its first client starts, and what never failed itself, waits for that.
        if !running && !sockets.is_empty() && state.is_some_and(|m| m.active_state == "inactive") {
            return steps;
        }
        // The manager counts the starts of the last seconds, whatever state they led to.
        if !running && state.is_some() {
            steps.push(Step::ResetFailed(ResetFailed { unit: unit.clone() }));
        }
        steps.push(Step::Job(Job { verb: verb.into(), unit }));
        return steps;
    }
    let purposes: &[Purpose] = match running {
        false => &[Purpose::Start],
        true if restart => &[Purpose::Stop, Purpose::Start],
        true if edits => &[Purpose::Reload],
        true => &[],
    };
    purposes.iter().filter_map(|purpose| Step::described(case.service, *purpose)).collect()
}

/// The record of a change that is about to begin.
fn record(snapshot: &Snapshot, case: &Case, chosen: &[&Offer], steps: Vec<Step>) -> Record {
    let now = snapshot.now().unwrap_or_else(|| jiff::Timestamp::now().as_microsecond());
    let stamp = jiff::Timestamp::from_microsecond(now).unwrap_or(jiff::Timestamp::UNIX_EPOCH);
    let name: String = case
        .service
        .name
        .chars()
        .map(|c| if c.is_ascii_alphanumeric() || c == '-' { c } else { '-' })
        .collect();
    Record {
        schema: report::schema("change"),
        id: format!("{}-{name}", stamp.strftime("%Y%m%d-%H%M%S-%3f")),
        service: case.service.name.clone(),
        fixes: chosen.iter().map(|o| o.plan.id.clone()).collect(),
        title: chosen.iter().map(|o| o.plan.title.clone()).collect::<Vec<_>>().join("; "),
        began: crate::log::format_time(now, &case.zone),
        outcome: "begun".into(),
        was_running: match case.state {
            state if state.is_up() => Some(true),
            State::Unknown => None,
            _ => Some(false),
        },
        started: None,
        steps: steps.into_iter().map(Into::into).collect(),
    }
}

#[cfg(test)]
mod tests;
