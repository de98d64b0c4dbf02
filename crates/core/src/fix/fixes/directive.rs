//! One directive: corrected where it is known what was meant, or put behind a comment sign.
use super::Fix;
use crate::case::Case;
use crate::code::Code;
use crate::config::Span;
use crate::fix::edits::edits;
use crate::fix::plan::{Plan, Risk};
use crate::fix::target::existing;
use crate::host::Look;
use crate::kinds::{NotAlone, lines_alone};
use crate::rank::Cause;
use crate::snapshot::Snapshot;
use crate::trust::Last;
use std::ops::Range;

pub(super) static CORRECT: Fix = Fix {
    price: |_| "corrects the one word".into(),
    ..Fix::plain("correct-directive", |ask, plan| correct(ask.snapshot, ask.case, ask.cause, plan))
};

pub(super) static COMMENT_OUT: Fix = Fix {
    price: |_| "comments the line out".into(),
    ..Fix::plain("comment-out", |ask, plan| comment_out(ask.snapshot, ask.case, ask.cause, plan))
};

fn correct(snapshot: &Snapshot, case: &Case, cause: &Cause, mut plan: Plan) -> Result<Plan, String> {
    let fault = cause.subject.fault.as_deref().ok_or("the place is not known")?;
    let (span, text) = fault.edit.clone().ok_or("it is not known what was meant")?;
    let whole = snapshot.text(&span.file).seen().unwrap_or_default();
    let old = whole.get(span.start..span.end).unwrap_or_default();
    let shown =
        |word: &str| crate::secrets::mask_value(fault.directive.as_deref().unwrap_or_default(), word.trim());
    plan.title = match (old.is_empty(), text.trim().is_empty()) {
        (_, true) => "take out what does not belong there".into(),
        (true, _) => {
            format!("write {} where it is missing", text.split_whitespace().collect::<Vec<_>>().join(" "))
        }
        (false, _) => format!("write {} instead of {}", shown(&text), shown(old)),
    };
    if cause.code == Code::AddressNotHere {
        plan.risk = Risk::Medium;
        plan.remarks.push(match text.parse::<std::net::IpAddr>() {
            Ok(address) if address.is_loopback() => "only this host itself reaches it then".into(),
            _ => "this is the one address that this host has".into(),
        });
    }
    edits(snapshot, case, vec![(span, text)], &mut plan)?;
    Ok(plan)
}

/// Puts the whole directive behind comment signs, over all its lines, and nothing else: the place is that of
/// our own reading, never one that only a log line suggests.
fn comment_out(snapshot: &Snapshot, case: &Case, cause: &Cause, mut plan: Plan) -> Result<Plan, String> {
    let sign = case
        .service
        .kind
        .profile()
        .comment
        .ok_or("this kind of file has no comment for a line; edit it by hand")?;
    let fault = cause
        .subject
        .fault
        .as_deref()
        .ok_or("our own reading finds no fault at that place; edit it by hand")?;
    let place = fault.place.as_ref().ok_or("the place is not known")?;
    let directive = fault.directive.clone().unwrap_or_default();
    let (file, line) = (place.file.to_string(), place.line);
    let (target, ..) = existing(snapshot, case, &file, Last::Followed)?;
    let Look::Seen(bytes) = snapshot.read(&target.path) else {
        return Err(format!("{} cannot be read", target.path));
    };
    let text =
        std::str::from_utf8(&bytes).map_err(|_| format!("{file} is not text in UTF-8; edit it by hand"))?;
    let Range { start, end } =
        lines_alone(case.service.kind, text, line, &directive).map_err(|why| match why {
            NotAlone::NoStatement => format!("{file}:{line} is not a statement of its own; edit it by hand"),
            NotAlone::MoreOnTheLine => {
                format!("{file}:{line} holds more than this directive; edit it by hand")
            }
        })?;
    let starts =
        std::iter::once(start).chain(text[start..end].match_indices('\n').map(|(n, _)| start + n + 1));
    let spans = starts
        .map(|at| (Span { file: place.file.clone(), start: at, end: at }, format!("{sign} ")))
        .collect();
    edits(snapshot, case, spans, &mut plan)?;
    plan.title = format!("comment out {directive} at {file}:{line}");
    plan.risk = Risk::Medium;
    plan.remarks.push("whatever it configured is off from then on".into());
    Ok(plan)
}
