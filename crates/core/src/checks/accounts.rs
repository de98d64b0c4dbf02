//! Running under another account than it should.
use crate::accounts;
use crate::case::Case;
use crate::code::Code;
use crate::config::Severity;
use crate::finding::{Evidence, Finding, Proof, Source, Subject, stage};
use crate::snapshot::Snapshot;

pub(super) fn check(snapshot: &Snapshot, case: &Case) -> Vec<Finding> {
    let Some(main) = case.processes.first() else { return vec![] };
    // Between the manager's fork and the daemon's own start a process still has the manager's account.
    if !case.state.is_up() {
        return vec![];
    }
    let wanted = case
        .service
        .unit
        .as_ref()
        .and_then(|u| u.value("Service", "User"))
        .or_else(|| case.service.described.account.clone());
    let Some(wanted) = wanted else { return vec![] };
    let Some(account) = accounts::account(snapshot, &wanted).seen() else { return vec![] };
    if main.brief.uid == account.uid {
        return vec![];
    }
    let actual = accounts::user_name(snapshot, main.brief.uid);
    vec![Finding {
        code: Code::WrongAccount,
        severity: Severity::Error,
        subject: Subject { pid: Some(main.brief.pid), account: Some(wanted.clone()), ..Subject::default() },
        title: format!("{} runs as {actual}, but should run as {wanted}", case.service.name),
        proof: Proof::Inevitable,
        evidence: vec![
            Evidence::new(Source::Process, format!("{} runs as {actual}", main.brief.name))
                .pid(main.brief.pid),
        ],
        fixes: vec!["restart"],
        blocks: true,
        stage: stage::RUN,
    }]
}
