//! Enabling, disabling, masking a unit.
use super::{Act, Back, Doing, Identity, Target};
use crate::fix::way_back::Undo;
use crate::fix::{HostWriter, Slot, UnitLink, WriteError};
use crate::host::FileKind;
use serde::{Deserialize, Serialize};

/// Tells the manager about a unit file.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct UnitFile {
    /// `enable`, `disable`, `mask`, `unmask`.
    pub verb: String,
    /// Unit.
    pub unit: String,
    /// Units that its `Also=` names: their links change along with its own.
    #[serde(default)]
    pub also: Vec<String>,
}

impl UnitFile {
    /// The unit and those that the verb touches with it.
    fn touched(&self) -> Vec<String> {
        std::iter::once(self.unit.clone()).chain(self.also.iter().cloned()).collect()
    }
}

impl Act for UnitFile {
    fn spelled(&self) -> String {
        format!("{} {}", self.verb, self.unit)
    }
    fn reloads(&self) -> bool {
        true
    }
    fn prepare(&self, writer: &mut dyn HostWriter, _: Slot) -> Result<Undo, WriteError> {
        Ok(Undo { links_before: Some(writer.unit_links(&self.touched())), ..Undo::default() })
    }
    fn carry_out(&self, doing: &mut Doing) -> Result<(), WriteError> {
        doing.writer.unit_file(&self.verb, &self.unit)?;
        doing.undo.links_after = Some(doing.writer.unit_links(&self.touched()));
        doing.writer.reload_manager()
    }
    fn put_back(&self, back: &mut Back) -> Result<(), WriteError> {
        let Some(before) = &back.undo.links_before else { return Ok(()) };
        let now = back.writer.unit_links(&self.touched());
        let after = back.undo.links_after.as_ref().unwrap_or(&now);
        let made: Vec<&UnitLink> = after.iter().filter(|l| !before.contains(l)).collect();
        let gone: Vec<&UnitLink> = before.iter().filter(|l| !after.contains(l)).collect();
        let removed = unlink(back, &made, &now)?;
        if relink(back, &gone)? || removed {
            back.undone.done.push(format!("undid \"{} {}\"", self.verb, self.unit));
        }
        Ok(())
    }
}

/// Whether an entry is a directory of links, which has no target.
fn is_directory(link: &UnitLink) -> bool {
    link.1.is_empty()
}

/// Removes the links that the verb made, and then the directories. Whether there were any links.
fn unlink(back: &mut Back, made: &[&UnitLink], now: &[UnitLink]) -> Result<bool, WriteError> {
    let mut any = false;
    for (path, target) in made.iter().filter(|l| !is_directory(l) && now.contains(l)) {
        back.writer.set_link(&Target::free(path), Some(target), None)?;
        any = true;
    }
    for (path, _) in made.iter().filter(|l| is_directory(l)) {
        if let Some(status) =
            back.writer.status(&Target::free(path))?.filter(|s| s.kind == FileKind::Directory)
        {
            let there = Target { was: Some(Identity::of(&status)), ..Target::free(path) };
            back.writer.remove_directory(&there, back.slot)?;
        }
    }
    Ok(any)
}

/// Makes the directories that the verb removed, and then the links. Whether any link had to be made.
fn relink(back: &mut Back, gone: &[&UnitLink]) -> Result<bool, WriteError> {
    for (path, _) in gone.iter().filter(|l| is_directory(l)) {
        let free = Target::free(path);
        if back.writer.status(&free)?.is_none() {
            back.writer.prepare_directory(&free, 0o755, 0, 0, back.slot)?;
            back.writer.place_directory(&free, back.slot)?;
        }
    }
    let mut any = false;
    for (path, target) in gone.iter().filter(|l| !is_directory(l)) {
        match back.writer.link(&Target::free(path))? {
            None => {
                back.writer.set_link(&Target::free(path), None, Some(target))?;
                any = true;
            }
            Some(now) if now == *target => {}
            Some(_) => back.undone.left.push(format!("the link {path} now points elsewhere")),
        }
    }
    Ok(any)
}
