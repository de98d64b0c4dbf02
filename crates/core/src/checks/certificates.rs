//! Certificates that the daemon takes and clients refuse: those that are not valid at this time.
use crate::case::Case;
use crate::code::Code;
use crate::config::Severity;
use crate::finding::{Evidence, Finding, Proof, Source, Subject, stage};
use crate::host::Look;
use crate::log::format_time;
use crate::snapshot::Snapshot;

/// Less time left than this is told, in days.
const SOON: i64 = 7;
const DAY: i64 = 86_400_000_000;

pub(super) fn check(snapshot: &Snapshot, case: &Case) -> Vec<Finding> {
    let Some(now) = case.now else { return vec![] };
    let named = case.config.model.reads.iter().filter(|r| {
        let directive = r.directive.to_ascii_lowercase();
        directive.contains("cert") && !directive.contains("key")
    });
    let mut found: Vec<Finding> = Vec::new();
    for entry in named {
        if found.iter().any(|f| f.subject.path.as_deref() == Some(&entry.path)) {
            continue;
        }
        let Look::Seen(bytes) = snapshot.certificates(&entry.path) else { continue };
        let Some(one) = crate::keys::certificate(&bytes) else { continue };
        let day = |t: i64| format_time(t, &case.zone).chars().take(10).collect::<String>();
        let title = if now > one.not_after {
            format!("the certificate {} expired on {}: clients refuse it", entry.path, day(one.not_after))
        } else if now < one.not_before {
            format!(
                "the certificate {} is valid only from {} on: clients refuse it",
                entry.path,
                day(one.not_before)
            )
        } else if one.not_after - now < SOON * DAY {
            format!("the certificate {} expires on {}", entry.path, day(one.not_after))
        } else {
            continue;
        };
        let mut evidence = Evidence::new(Source::Config, format!("{} names it", entry.directive));
        if let Some(place) = &entry.place {
            evidence = evidence.at(place);
        }
        found.push(Finding {
            code: Code::CertificateExpired,
            severity: Severity::Warning,
            subject: Subject::path(&entry.path),
            title,
            proof: Proof::Now,
            evidence: vec![
                evidence,
                Evidence::new(
                    Source::File,
                    format!("valid from {} to {}", day(one.not_before), day(one.not_after)),
                )
                .file(&entry.path),
            ],
            fixes: vec![],
            blocks: false,
            stage: stage::RUN,
        });
    }
    found
}
