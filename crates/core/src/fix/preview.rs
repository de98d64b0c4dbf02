//! A host as it would be after the file steps of a plan: the configuration is checked on it before anything
//! changes.
use super::Step;
use crate::bounds;
use crate::host::{Answer, DirectoryEntry, FileKind, FileStatus, Host, Look, Parts, Question};
use crate::path;
use std::collections::BTreeMap;

/// What the steps of a plan leave in the place of what is there.
#[derive(Default)]
pub(super) struct Laid {
    /// Files with their new content.
    pub(super) files: BTreeMap<String, Vec<u8>>,
    /// Links, and where they lead; `None` where one is removed.
    pub(super) links: BTreeMap<String, Option<String>>,
    /// Directories that are made.
    pub(super) directories: Vec<String>,
    /// Names that are free then.
    pub(super) gone: Vec<String>,
    /// New names, with the names that they had.
    pub(super) renamed: BTreeMap<String, String>,
    /// Permission bits, and owner and group, that are set.
    pub(super) modes: BTreeMap<String, u32>,
    pub(super) owners: BTreeMap<String, (u32, u32)>,
}

/// A host with the files of a plan laid over it.
pub struct Preview<'h> {
    host: &'h dyn Host,
    laid: Laid,
}

impl<'h> Preview<'h> {
    /// The host with `steps` done.
    pub fn new(host: &'h dyn Host, steps: &[Step]) -> Self {
        let mut laid = Laid::default();
        steps.iter().for_each(|step| step.act().preview(&mut laid));
        Self { host, laid }
    }

    /// The path behind new links, and behind those that were there before, on the way as at the end.
    fn real(&self, name: &str) -> String {
        let mut rest: Vec<String> = parts(name);
        let mut at = String::from("/");
        let mut links = 0;
        while let Some(part) = rest.pop() {
            let next = path::join(&at, &part);
            let target = match self.laid.links.get(&next) {
                Some(Some(target)) => Some(target.clone()),
                Some(None) => None,
                None => match self.host.ask(&Question::ReadLink(next.clone())) {
                    Look::Seen(Answer::Target(target)) => Some(target),
                    _ => None,
                },
            };
            match target {
                Some(target) if links < bounds::LINKS => {
                    links += 1;
                    rest.extend(parts(&path::clean(&path::join(&at, &target))));
                    at = "/".into();
                }
                _ => at = next,
            }
        }
        at
    }

    /// What the host has in a directory; nothing yet, where the plan makes the directory.
    fn listed(&self, question: &Question, dir: &str) -> Look<Answer> {
        let made = self.laid.directories.iter().any(|d| path::clean(d) == path::clean(dir));
        match self.host.ask(question) {
            Look::Absent if made => Look::Seen(Answer::Names(Vec::new())),
            other => other,
        }
    }

    /// What the host says of a file, with what the plan sets of it.
    fn with_rights(&self, real: &str, said: Look<Answer>) -> Look<Answer> {
        said.map(|answer| match answer {
            Answer::Status(mut status) => {
                status.mode = self.laid.modes.get(real).copied().unwrap_or(status.mode);
                if let Some((uid, gid)) = self.laid.owners.get(real) {
                    (status.uid, status.gid) = (*uid, *gid);
                }
                Answer::Status(status)
            }
            other => other,
        })
    }

    fn status(kind: FileKind, size: usize) -> Look<Answer> {
        Look::Seen(Answer::Status(FileStatus::plain(kind, 0o755, 0, 0, size as u64)))
    }
}

/// The parts of a path, the last one first.
fn parts(path: &str) -> Vec<String> {
    path.split('/').filter(|part| !part.is_empty()).rev().map(str::to_owned).collect()
}

impl Host for Preview<'_> {
    fn ask(&self, question: &Question) -> Look<Answer> {
        // What has another name then is what it was.
        let before = |name: &String| self.laid.renamed.get(name).cloned();
        match question {
            Question::Read(name) if let Some(old) = before(name) => self.host.ask(&Question::Read(old)),
            Question::Stat(name) if let Some(old) = before(name) => self.host.ask(&Question::Stat(old)),
            Question::LinkStat(name) if let Some(old) = before(name) => {
                self.host.ask(&Question::LinkStat(old))
            }
            Question::Read(name)
            | Question::Stat(name)
            | Question::LinkStat(name)
            | Question::ReadLink(name)
                if self.laid.gone.contains(name) =>
            {
                Look::Absent
            }
            Question::Read(name) => match self.laid.files.get(&self.real(name)) {
                Some(bytes) => Look::Seen(Answer::Bytes(bytes.clone().into())),
                None => self.host.ask(&Question::Read(self.real(name))),
            },
            Question::Stat(name) => {
                let real = self.real(name);
                match self.laid.files.get(&real) {
                    _ if self.laid.directories.contains(&real) => Self::status(FileKind::Directory, 0),
                    Some(bytes) => Self::status(FileKind::Regular, bytes.len()),
                    None => self.with_rights(&real, self.host.ask(&Question::Stat(real.clone()))),
                }
            }
            Question::LinkStat(name) => match self.laid.links.get(name) {
                Some(Some(_)) => Self::status(FileKind::Link, 0),
                Some(None) => Look::Absent,
                None => self.with_rights(name, self.host.ask(question)),
            },
            Question::ReadLink(name) => match self.laid.links.get(name) {
                Some(Some(target)) => Look::Seen(Answer::Target(target.clone())),
                Some(None) => Look::Absent,
                None => self.host.ask(question),
            },
            Question::List(dir) => self.listed(question, dir).map(|answer| match answer {
                Answer::Names(mut names) => {
                    let made = self
                        .laid
                        .files
                        .keys()
                        .map(|f| (f, FileKind::Regular))
                        .chain(self.laid.directories.iter().map(|d| (d, FileKind::Directory)));
                    for (file, kind) in made.filter(|(f, _)| path::parent(f) == path::clean(dir)) {
                        if names.iter().all(|e| e.name != path::name(file)) {
                            names.push(DirectoryEntry { name: path::name(file).to_owned(), kind });
                        }
                    }
                    for (link, target) in
                        self.laid.links.iter().filter(|(l, _)| path::parent(l) == path::clean(dir))
                    {
                        let name = path::name(link).to_owned();
                        names.retain(|e| e.name != name);
                        if target.is_some() {
                            names.push(DirectoryEntry { name, kind: FileKind::Link });
                        }
                    }
                    names.sort_by(|a, b| a.name.cmp(&b.name));
                    Answer::Names(names)
                }
                other => other,
            }),
            _ => self.host.ask(question),
        }
    }

    fn parts(&self) -> Parts {
        self.host.parts()
    }
}
