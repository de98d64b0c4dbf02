//! What is odd about the logs, told beside a diagnosis: whoever searches them by hand should look in the
//! right place.
use crate::case::{Case, State, log_remarks};
use crate::code::Code;
use crate::config::Severity;
use crate::finding::{Evidence, Finding, Proof, Source, Subject, stage};
use crate::snapshot::Snapshot;

pub(super) fn check(snapshot: &Snapshot, case: &Case) -> Vec<Finding> {
    let remarks = log_remarks(snapshot, case.service, &case.config, &case.starter);
    let up = case.state == State::Running;
    // Of a service that is well only lines that are lost matter; one that is down may not open its log is a
    // cause of its own.
    let matter = remarks.into_iter().filter(|r| if up { r.loses } else { !r.loses });
    matter
        .map(|remark| {
            let evidence = Evidence::new(Source::Config, remark.text.clone());
            Finding {
                code: Code::LogElsewhere,
                severity: if up { Severity::Warning } else { Severity::Hint },
                subject: remark.file.as_deref().map(Subject::path).unwrap_or_default(),
                title: remark.text,
                proof: Proof::Now,
                evidence: vec![match &remark.place {
                    Some(place) => evidence.at(place),
                    None => evidence,
                }],
                fixes: vec![],
                blocks: false,
                stage: stage::RUN,
            }
        })
        .collect()
}
