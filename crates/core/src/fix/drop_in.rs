//! Drop-ins: how the manager runs a service is changed beside the unit's files, which stay as they are.
use super::plan::{Plan, diff};
use super::target::{free, words};
use super::{Step, Target, digest};
use crate::case::Case;
use crate::fix::steps::{Create, Directory, ReloadManager};
use crate::manager::Unit;
use crate::snapshot::Snapshot;
use crate::trust::trusted;
use crate::trust::{self, Last, Paths};

/// Where an administrator's own settings of units stand (systemd.unit(5)).
const PLACE: &str = "/etc/systemd/system";

pub(super) fn unit_of<'c>(case: &'c Case) -> Result<&'c Unit, String> {
    case.service.unit.as_ref().ok_or_else(|| "it has no unit".to_owned())
}

/// Steps that put lines of `[Service]` into a drop-in, and make the manager read it.
pub(super) fn drop_in(
    snapshot: &Snapshot,
    case: &Case,
    what: &str,
    lines: &[String],
    mut plan: Plan,
) -> Result<Plan, String> {
    let unit = unit_of(case)?;
    let dir = format!("{PLACE}/{}.d", unit.name);
    // The manager applies drop-ins by name: this one comes after what people usually call theirs.
    let file = format!("{dir}/zz-{what}.conf");
    if snapshot.link_stat(&file).seen().is_some() {
        return Err(format!("{file} exists already"));
    }
    // The manager's directory is root's; only a name in it is taken.
    trust::walk(&Paths(snapshot), &dir, Last::Itself, &trusted(snapshot, &[]))
        .map_err(|r| words(snapshot, &r))?;
    if snapshot.exists(&dir) == Some(false) {
        plan.steps.push(Step::Directory(Directory {
            target: Target::free(&dir),
            mode: 0o755,
            owner: (0, 0),
        }));
    } else {
        free(snapshot, case, &file)?;
    }
    let content = format!(
        "# Put here by a fix of {}; undo removes it.\n[Service]\n{}\n",
        case.service.name,
        lines.join("\n")
    )
    .into_bytes();
    plan.diff = diff(None, &file, b"", &content);
    plan.steps.push(Step::Create(Create { target: Target::free(&file), after: digest(&content), content }));
    plan.steps.push(Step::ReloadManager(ReloadManager {}));
    Ok(plan)
}
