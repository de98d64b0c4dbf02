//! Keep or put back: the cause must be gone, and the service no worse than it was.
use super::{Fate, Ground, Offer, Outcome, Patience, Refusal, settled, went_down};
use crate::case::{Case, Depth, gather};
use crate::code::Code;
use crate::finding::{Source, stage};
use crate::fix::steps::Edit;
use crate::fix::{self, HostWriter, Record, RunMark, Step, Way};
use crate::rank::{Cause, Certainty, Relation};
use crate::report::{self, NextCause, Recovery};

/// What was carried out, and what stood in the way before.
pub(super) struct Done<'p> {
    pub(super) record: Record,
    pub(super) started: bool,
    pub(super) causes: Vec<Cause>,
    pub(super) clients: Vec<Case<'p>>,
}

impl Done<'_> {
    /// Whether it edited a file.
    fn edited(&self, file: &str) -> bool {
        self.record
            .steps
            .iter()
            .any(|s| matches!(&s.step, Step::Edit(Edit { target, .. }) if target.path == file))
    }
}

/// Looks again, and keeps the change or puts it back.
pub(super) fn judge(
    ground: &dyn Ground,
    writer: &mut dyn HostWriter,
    case: &Case,
    chosen: &[&Offer],
    done: Done,
    patience: Patience,
    mut outcome: Outcome,
) -> Result<Outcome, Refusal> {
    let service = ground.service(&ground.look(), &case.service.name).map_err(Refusal::InTheWay)?;
    let verification = settled(ground, &service, &ground.complaint(), patience);
    let snapshot = ground.look();
    let mut now = gather(&snapshot, &service, Depth::Diagnosis);
    now.met = ground.met(&snapshot, &service.name);
    // Where nothing was started the logs still speak of the time before: only what the host shows counts.
    let stands = |cause: &Cause| done.started || cause.evidence.iter().any(|e| e.source != Source::Log);
    let left: Vec<Cause> = report::standing_causes(&snapshot, &now).into_iter().filter(stands).collect();
    let still = |o: &&&Offer| left.iter().any(|c| c.code == o.cause.code && same_thing(c, &o.cause));
    let persists = chosen.iter().any(|o| still(&o));
    // What only a request meets does not show in how the service stands.
    let met_again = chosen.iter().filter(still).any(|o| o.cause.stage == stage::REQUEST);
    let was_up = case.state.is_up();
    let still_down = verification.verdict == Recovery::NotRecovered;
    let took_down = done.clients.iter().any(|c| went_down(c, &snapshot));
    let worse = took_down || still_down && (was_up || is_worse(case, &now, &left, &done));
    outcome.verified = Some(verification.verdict);
    outcome.verification = Some(verification);
    if (persists && still_down) || met_again || worse {
        let undone = fix::undo(writer, &outcome.id, Way::RollBack, ground).map_err(|e| {
            Refusal::InTheWay(format!(
                "the fix did not help, and putting it back failed: {e}; see undo {}",
                outcome.id
            ))
        })?;
        outcome.fate = Fate::PutBack {
            whole: undone.failed.is_empty(),
            left: undone.left.into_iter().chain(undone.failed).collect(),
        };
        return Ok(outcome);
    }
    let main = now.processes.first().filter(|_| service.unit.is_none());
    fix::keep(
        writer,
        done.record,
        main.map(|p| RunMark { pid: p.brief.pid, start_ticks: p.brief.start_ticks }),
    );
    // Clients still ask the port that everybody knows.
    let moved_away = chosen.iter().any(|o| o.plan.moves && o.cause.subject.port.is_some_and(|p| p < 1024));
    if outcome.verified == Some(Recovery::Recovered) && moved_away {
        outcome.verified = Some(Recovery::Partly);
    }
    if outcome.verified != Some(Recovery::Recovered) {
        outcome.next_cause = left.first().map(|c| NextCause { code: c.code, title: c.title.clone() });
    }
    let well = outcome.verified == Some(Recovery::Recovered)
        || (moved_away && !still_down && outcome.next_cause.is_none());
    outcome.fate = if well { Fate::Helped } else { Fate::Kept };
    Ok(outcome)
}

/// Whether the change made it worse: the configuration cannot be read any more, there is a cause at a file
/// that it just edited, or more stands in the way than before.
fn is_worse(case: &Case, now: &Case, left: &[Cause], done: &Done) -> bool {
    let known = |c: &Cause| done.causes.iter().any(|b| b.code == c.code && same_thing(b, c));
    let sure = |all: &[Cause]| {
        all.iter()
            .filter(|c| c.certainty == Certainty::Certain && c.relation != Relation::Consequence)
            .count()
    };
    let unreadable = case.config.readable && !now.config.readable;
    let broken = left.iter().any(|c| c.code == Code::ConfigSyntax && !known(c));
    let at_edit = left.iter().any(|c| !known(c) && c.subject.file.as_ref().is_some_and(|f| done.edited(f)));
    unreadable || broken || at_edit || sure(left) > sure(&done.causes)
}

/// The same cause about the same thing; a holder that came back counts, too.
fn same_thing(a: &Cause, b: &Cause) -> bool {
    match (a.subject.port, b.subject.port) {
        (Some(x), Some(y)) => x == y,
        _ => {
            a.subject.path == b.subject.path
                && a.subject.file == b.subject.file
                && a.subject.line == b.subject.line
        }
    }
}
