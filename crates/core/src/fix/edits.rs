//! Edits of files: spans that plans change, put together file by file.
use super::clients::Client;
use super::plan::{Plan, diff};
use super::target::existing;
use super::{Step, Target, digest};
use crate::case::{Case, Depth, gather};
use crate::config::Span;
use crate::fix::steps::Edit;
use crate::host::{FileKind, FileStatus, Look};
use crate::snapshot::Snapshot;
use crate::trust::trusted;
use crate::trust::{self, Last};
use std::collections::BTreeMap;

/// A file to be edited, as it is now, with the spans that are replaced.
type EditedFile = (Target, FileStatus, Vec<(Span, String)>);

/// Notes the edits of a plan, with their diff.
pub(super) fn edits(
    snapshot: &Snapshot,
    case: &Case,
    spans: Vec<(Span, String)>,
    plan: &mut Plan,
) -> Result<(), String> {
    plan.diff = edit_steps(snapshot, case, &spans)?.1;
    plan.edits.extend(spans);
    Ok(())
}

/// All steps of several plans: their own, then one edit for each file with everything that they change there.
///
/// # Errors
/// When two plans change the same place, or a file cannot be read.
pub fn combined(snapshot: &Snapshot, case: &Case, plans: &[&Plan]) -> Result<Vec<Step>, String> {
    let mut steps: Vec<Step> = plans.iter().flat_map(|p| p.steps.clone()).collect();
    let spans: Vec<(Span, String)> = plans.iter().flat_map(|p| p.edits.clone()).collect();
    steps.extend(edit_steps(snapshot, case, &spans)?.0);
    // The manager reads its files when all of them are written.
    let (last, mut steps): (Vec<Step>, Vec<Step>) =
        steps.into_iter().partition(|step| matches!(step, Step::ReloadManager(_)));
    steps.extend(last.into_iter().take(1));
    let clients: Vec<&Client> = plans.iter().flat_map(|p| &p.clients).collect();
    steps.extend(client_edits(snapshot, &clients)?.0);
    Ok(steps)
}

/// Edits of spans, file by file, as one step each, and their diff.
pub(super) fn edit_steps(
    snapshot: &Snapshot,
    case: &Case,
    spans: &[(Span, String)],
) -> Result<(Vec<Step>, String), String> {
    let (mut steps, mut shown) = (Vec::new(), String::new());
    let mut by_file: BTreeMap<String, EditedFile> = BTreeMap::new();
    for (span, text) in spans {
        if !case.may_edit(snapshot, &span.file) {
            return Err(format!(
                "{} is read because a file says so that the service's account can write; edit it by hand",
                span.file
            ));
        }
        let (target, status, parent) = existing(snapshot, case, &span.file, Last::Followed)?;
        if status.kind != FileKind::Regular {
            return Err(format!("{} is not a regular file", target.path));
        }
        if let Some(who) = others_could_link(snapshot, &status, &parent) {
            return Err(format!(
                "{} has {} names (hard links), and {who} could have made one of them",
                target.path, status.links
            ));
        }
        by_file
            .entry(target.path.clone())
            .or_insert((target, status, Vec::new()))
            .2
            .push((span.clone(), text.clone()));
    }
    for (file, (target, _, mut spans)) in by_file {
        let Look::Seen(before) = snapshot.read(&file) else { return Err(format!("{file} cannot be read")) };
        spans.sort_by_key(|(s, _)| (s.start, s.end));
        spans.dedup();
        if spans.windows(2).any(|w| w[0].0.end > w[1].0.start) {
            return Err(format!("two changes meet in one place of {file}: carry them out one after another"));
        }
        let mut after = before.to_vec();
        for (span, text) in spans.iter().rev() {
            if span.end > after.len() || span.start > span.end {
                return Err(format!("{file} is shorter than it was"));
            }
            after.splice(span.start..span.end, text.bytes());
        }
        shown.push_str(&diff(Some(case.service.kind), &file, &before, &after));
        steps.push(Step::Edit(Edit {
            target,
            before: digest(&before),
            after: digest(&after),
            content: after,
        }));
    }
    Ok((steps, shown))
}

/// The edits of clients as steps, and their diff.
pub(super) fn client_edits(snapshot: &Snapshot, clients: &[&Client]) -> Result<(Vec<Step>, String), String> {
    let (mut steps, mut shown) = (Vec::new(), String::new());
    for client in clients {
        let case = gather(snapshot, &client.service, Depth::State);
        let (more, diff) = edit_steps(snapshot, &case, &client.edits)
            .map_err(|why| format!("{} points here, too: {why}", client.service.name))?;
        steps.extend(more);
        shown.push_str(&diff);
    }
    Ok((steps, shown))
}

/// Who besides root could have made another name for a file in its directory, where it has several.
fn others_could_link(snapshot: &Snapshot, status: &FileStatus, parent: &FileStatus) -> Option<String> {
    let by = trust::replacer(parent, None, &trusted(snapshot, &[])).filter(|_| status.links > 1)?;
    Some(by.spelled(
        |uid| crate::accounts::user_name(snapshot, uid),
        |gid| crate::accounts::group_name(snapshot, gid),
    ))
}
