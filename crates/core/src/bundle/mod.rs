//! The recorder around a host, the bundle it fills, and the replayer of a bundle.
mod earlier;
mod redact;

pub use earlier::Earlier;
pub use redact::{Known, Redacted, redact};

use crate::host::{Answer, Host, Look, Parts, Question, Unseen};
use crate::kinds::Kind;
use crate::services_file::ServicesFile;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, Mutex, PoisonError};

/// Name and version of the bundle's form.
pub const BUNDLE_SCHEMA: &str = "jolly-sentinel/bundle/1";

/// The most bytes of files that a bundle holds; what is longer is named as not recorded.
const RECORD_LIMIT: u64 = 48 << 20;

/// Captured evidence: everything that was asked of a host and what it answered, redacted.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Bundle {
    /// [`BUNDLE_SCHEMA`].
    pub schema: String,
    /// Which parts the host had.
    pub parts: Parts,
    /// What the services files said, secrets masked.
    #[serde(default)]
    pub services: Option<ServicesFile>,
    /// What could not be recorded, or was masked because nothing is known of it.
    #[serde(default)]
    pub not_seen: Vec<String>,
    /// Configuration files with the name of the kind whose grammar they have, and by which they were masked.
    #[serde(default)]
    pub configuration: BTreeMap<String, String>,
    /// Questions with their answers, in the questions' order.
    pub answers: Vec<(Question, Look<Answer>)>,
}

impl Bundle {
    /// Reads a bundle.
    ///
    /// # Errors
    /// A sentence where it is none, or one of another form.
    pub fn from_json(text: &[u8]) -> Result<Self, String> {
        let bundle: Self = serde_json::from_slice(text).map_err(|e| format!("not a bundle: {e}"))?;
        if bundle.schema == BUNDLE_SCHEMA {
            Ok(bundle)
        } else {
            Err(format!("a bundle of the form \"{}\"; this program reads \"{BUNDLE_SCHEMA}\"", bundle.schema))
        }
    }
}

/// Passes questions on and writes down every answer.
pub struct Recorder<'h> {
    host: &'h dyn Host,
    answers: Mutex<BTreeMap<Question, Look<Answer>>>,
    held: Mutex<u64>,
}

impl<'h> Recorder<'h> {
    /// A recorder around `host`.
    pub fn new(host: &'h dyn Host) -> Self {
        Self { host, answers: Mutex::default(), held: Mutex::default() }
    }

    /// What was recorded, with secrets redacted. `configuration` tells the kind of each configuration file.
    pub fn into_bundle(self, configuration: BTreeMap<String, &dyn Kind>, services: &ServicesFile) -> Bundle {
        let known = Known { configuration };
        let answers = self.answers.into_inner().unwrap_or_else(PoisonError::into_inner);
        let (mut out, mut not_seen) = (BTreeMap::new(), BTreeSet::new());
        let (stretches, rest): (Vec<_>, Vec<_>) = answers
            .into_iter()
            .partition(|(q, a)| matches!((q, a), (Question::ReadAt(..), Look::Seen(Answer::Bytes(_)))));
        let longer = put_together(&known, stretches, &mut out);
        for (question, answer) in rest {
            let redacted = redact(&known, question, answer);
            not_seen.extend(redacted.unknown);
            out.extend(redacted.answers);
        }
        // A file whose recorded text became shorter or longer by its masks has another size, too.
        for (path, by) in &longer {
            for question in [Question::Stat(path.clone()), Question::LinkStat(path.clone())] {
                if let Some(Look::Seen(Answer::Status(status))) = out.get_mut(&question)
                    && status.kind == crate::host::FileKind::Regular
                {
                    status.size = status.size.saturating_add_signed(*by);
                }
            }
        }
        for (question, answer) in &out {
            if let (Question::Read(path) | Question::ReadAt(path, ..), Look::NotSeen(Unseen::TooLarge(_))) =
                (question, answer)
            {
                not_seen.insert(format!(
                    "{path}: not recorded, a bundle holds {} MiB of files",
                    RECORD_LIMIT >> 20
                ));
            }
        }
        Bundle {
            schema: BUNDLE_SCHEMA.into(),
            parts: self.host.parts(),
            services: Some(services.masked()),
            not_seen: not_seen.into_iter().collect(),
            configuration: known
                .configuration
                .iter()
                .map(|(path, kind)| (path.clone(), kind.name().to_owned()))
                .collect(),
            answers: out.into_iter().collect(),
        }
    }
}

/// Stretches of files, those that meet put together before they are masked: a secret may stand across the
/// border of two. How much longer each file became comes back.
fn put_together(
    known: &Known,
    stretches: Vec<(Question, Look<Answer>)>,
    out: &mut BTreeMap<Question, Look<Answer>>,
) -> BTreeMap<String, i64> {
    let mut by_file: BTreeMap<String, BTreeMap<u64, Arc<[u8]>>> = BTreeMap::new();
    for (question, answer) in stretches {
        if let (Question::ReadAt(path, offset, _), Look::Seen(Answer::Bytes(bytes))) = (question, answer) {
            let held = by_file.entry(path).or_default().entry(offset).or_insert_with(|| bytes.clone());
            if held.len() < bytes.len() {
                *held = bytes;
            }
        }
    }
    let mut longer = BTreeMap::new();
    for (path, pieces) in by_file {
        let mut runs: Vec<(u64, Vec<u8>)> = Vec::new();
        for (offset, bytes) in pieces {
            match runs.last_mut().filter(|(start, run)| *start + run.len() as u64 >= offset) {
                Some((start, run)) => {
                    let known = usize::try_from(*start + run.len() as u64 - offset).unwrap_or(usize::MAX);
                    run.extend_from_slice(bytes.get(known..).unwrap_or_default());
                }
                None => runs.push((offset, bytes.to_vec())),
            }
        }
        let mut by = 0i64;
        for (start, mut run) in runs {
            let binary = run.iter().take(4096).any(|b| *b == 0);
            let before = run.len() as i64;
            let at = start.saturating_add_signed(by);
            if !binary && start > 0 {
                // Its first line may be the end of one that holds a secret.
                let cut = memchr::memchr(b'\n', &run).unwrap_or(run.len());
                run.splice(..cut, crate::secrets::MASK.bytes());
            }
            let bytes: Arc<[u8]> = run.into();
            let length = u32::try_from(bytes.len()).unwrap_or(u32::MAX);
            let masked = if binary {
                bytes
            } else {
                let whole = redact(
                    known,
                    Question::ReadAt(path.clone(), at, length),
                    Look::Seen(Answer::Bytes(bytes)),
                );
                match whole.answers.into_iter().next() {
                    Some((_, Look::Seen(Answer::Bytes(bytes)))) => bytes,
                    _ => continue,
                }
            };
            by += masked.len() as i64 - before;
            let length = u32::try_from(masked.len()).unwrap_or(u32::MAX);
            out.insert(Question::ReadAt(path.clone(), at, length), Look::Seen(Answer::Bytes(masked)));
        }
        if by != 0 {
            longer.insert(path, by);
        }
    }
    longer
}

impl Host for Recorder<'_> {
    fn ask(&self, question: &Question) -> Look<Answer> {
        let answer = self.host.ask(question);
        let mut written = answer.clone();
        if let Look::Seen(Answer::Bytes(bytes)) = &answer {
            let mut held = self.held.lock().unwrap_or_else(PoisonError::into_inner);
            let known = self.answers.lock().unwrap_or_else(PoisonError::into_inner).contains_key(question);
            if !known && *held + bytes.len() as u64 > RECORD_LIMIT {
                written = Look::NotSeen(Unseen::TooLarge(bytes.len() as u64));
            } else if !known {
                *held += bytes.len() as u64;
            }
        }
        self.answers.lock().unwrap_or_else(PoisonError::into_inner).insert(question.clone(), written);
        answer
    }
    fn is_record(&self) -> bool {
        self.host.is_record()
    }
    fn parts(&self) -> Parts {
        self.host.parts()
    }
}

/// A host made of captured evidence.
pub struct Replayer {
    parts: Parts,
    answers: BTreeMap<Question, Look<Answer>>,
    services: Option<ServicesFile>,
    not_seen: Vec<String>,
}

impl Replayer {
    /// Reads a bundle.
    ///
    /// # Errors
    /// A sentence when the text is no bundle, or of a form this program does not know.
    pub fn from_json(text: &[u8]) -> Result<Self, String> {
        Bundle::from_json(text).map(Self::of)
    }
    /// The host that a bundle recorded.
    pub fn of(bundle: Bundle) -> Self {
        Self {
            parts: bundle.parts,
            answers: bundle.answers.into_iter().collect(),
            services: bundle.services,
            not_seen: bundle.not_seen,
        }
    }
    /// What the services files of that host said; `None` in bundles that do not tell.
    pub fn services(&self) -> Option<&ServicesFile> {
        self.services.as_ref()
    }
    /// What could not be recorded.
    pub fn not_seen(&self) -> &[String] {
        &self.not_seen
    }
}

impl Replayer {
    /// Holders of sockets out of all that was recorded about holders.
    fn owners(&self, inodes: &[u64]) -> Option<Answer> {
        let (mut known, mut found) = (BTreeSet::new(), BTreeSet::new());
        for (question, answer) in &self.answers {
            if let (Question::SocketOwners(asked), Look::Seen(Answer::Owners(owners))) = (question, answer) {
                known.extend(asked.iter().copied());
                found.extend(owners.iter().copied().filter(|(inode, _)| inodes.contains(inode)));
            }
        }
        inodes.iter().all(|i| known.contains(i)).then(|| Answer::Owners(found.into_iter().collect()))
    }

    /// The newest entries out of a longer record of the same.
    fn entries(&self, same: impl Fn(&Question) -> bool, most: u32) -> Option<Look<Answer>> {
        let longest = self.answers.iter().filter(|(q, _)| same(q)).max_by_key(|(q, _)| match q {
            Question::Journal(_, n) | Question::JournalOf(_, n) => *n,
            _ => 0,
        })?;
        Some(longest.1.clone().map(|answer| match answer {
            Answer::Journal(mut entries) => {
                entries.truncate(most as usize);
                Answer::Journal(entries)
            }
            other => other,
        }))
    }

    /// Bytes of a file that was recorded whole, or what was recorded in their place.
    fn part(&self, path: &str, offset: u64, length: u32) -> Option<Look<Answer>> {
        Some(self.answers.get(&Question::Read(path.to_owned()))?.clone().map(|answer| match answer {
            Answer::Bytes(bytes) => {
                let from = usize::try_from(offset).unwrap_or(usize::MAX).min(bytes.len());
                Answer::Bytes(bytes[from..(from + length as usize).min(bytes.len())].into())
            }
            other => other,
        }))
    }

    /// Bytes of a file put together from the stretches that were recorded, up to the first gap.
    fn bytes(&self, path: &str, offset: u64, length: u32) -> Option<Answer> {
        let mut out: Vec<u8> = Vec::new();
        while out.len() < length as usize {
            let at = offset + out.len() as u64;
            let next = self.answers.iter().find_map(|(question, answer)| match (question, answer) {
                (Question::ReadAt(p, from, _), Look::Seen(Answer::Bytes(bytes))) if p == path => {
                    bytes.get(usize::try_from(at.checked_sub(*from)?).ok()?..).filter(|rest| !rest.is_empty())
                }
                _ => None,
            });
            match next {
                Some(rest) => out.extend_from_slice(rest),
                None => break,
            }
        }
        out.truncate(length as usize);
        // Nothing was there to be read, however much was asked for.
        let end = || {
            self.answers.iter().any(|(question, answer)| {
                matches!(question, Question::ReadAt(p, from, _) if p == path && *from == offset)
                    && matches!(answer, Look::Seen(Answer::Bytes(bytes)) if bytes.is_empty())
            })
        };
        (!out.is_empty() || end()).then(|| Answer::Bytes(out.into()))
    }
}

impl Host for Replayer {
    fn ask(&self, question: &Question) -> Look<Answer> {
        if let Some(answer) = self.answers.get(question) {
            return answer.clone();
        }
        // What was asked otherwise on the host itself can still be answered out of what was recorded.
        let derived = match question {
            Question::SocketOwners(inodes) => self.owners(inodes).map(Look::Seen),
            Question::Journal(unit, most) => {
                self.entries(|q| matches!(q, Question::Journal(u, _) if u == unit), *most)
            }
            Question::JournalOf(field, most) => {
                self.entries(|q| matches!(q, Question::JournalOf(f, _) if f == field), *most)
            }
            Question::ReadAt(path, offset, length) => self
                .bytes(path, *offset, *length)
                .map(Look::Seen)
                .or_else(|| self.part(path, *offset, *length)),
            _ => None,
        };
        derived.unwrap_or(Look::NotSeen(Unseen::NotRecorded))
    }
    fn is_record(&self) -> bool {
        true
    }
    fn parts(&self) -> Parts {
        self.parts
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::host::JournalEntry;

    fn replayer(answers: Vec<(Question, Look<Answer>)>) -> Replayer {
        let parts = Parts {
            files: true,
            processes: true,
            manager: true,
            interfaces: true,
            clock: true,
            probes: false,
        };
        let bundle = Bundle {
            schema: BUNDLE_SCHEMA.into(),
            parts,
            services: None,
            not_seen: vec![],
            configuration: BTreeMap::new(),
            answers,
        };
        Replayer::from_json(&serde_json::to_vec(&bundle).unwrap()).unwrap()
    }

    #[test]
    fn holders_are_answered_out_of_all_that_was_recorded_about_holders() {
        let one = |inodes: &[u64], owners: &[(u64, u32)]| {
            (Question::SocketOwners(inodes.to_vec()), Look::Seen(Answer::Owners(owners.to_vec())))
        };
        let host = replayer(vec![one(&[1, 2], &[(1, 10), (2, 20)]), one(&[3], &[])]);
        assert_eq!(host.ask(&Question::SocketOwners(vec![2, 3])), Look::Seen(Answer::Owners(vec![(2, 20)])));
        assert_eq!(
            host.ask(&Question::SocketOwners(vec![2, 4])),
            Look::NotSeen(Unseen::NotRecorded),
            "nobody asked about 4"
        );
    }

    #[test]
    fn a_longer_record_of_the_journal_answers_a_shorter_question() {
        let entries: Vec<JournalEntry> =
            (0..5).map(|n| JournalEntry { time: 100 - n, ..JournalEntry::default() }).collect();
        let host = replayer(vec![(
            Question::Journal("edge.service".into(), 400),
            Look::Seen(Answer::Journal(entries.clone())),
        )]);
        assert_eq!(
            host.ask(&Question::Journal("edge.service".into(), 2)),
            Look::Seen(Answer::Journal(entries[..2].to_vec()))
        );
        assert_eq!(
            host.ask(&Question::Journal("edge.service".into(), 9000)),
            Look::Seen(Answer::Journal(entries))
        );
        assert_eq!(
            host.ask(&Question::Journal("front.service".into(), 2)),
            Look::NotSeen(Unseen::NotRecorded)
        );
    }

    #[test]
    fn stretches_of_a_file_are_put_together_up_to_the_first_gap() {
        let stretch = |from: u64, text: &str| {
            let length = u32::try_from(text.len()).unwrap();
            (
                Question::ReadAt("/var/log/edge".into(), from, length),
                Look::Seen(Answer::Bytes(text.as_bytes().into())),
            )
        };
        let host = replayer(vec![stretch(0, "low "), stretch(4, "tide "), stretch(20, "late")]);
        let ask = |from, length| host.ask(&Question::ReadAt("/var/log/edge".into(), from, length));
        assert_eq!(ask(2, 5), Look::Seen(Answer::Bytes(b"w tid"[..].into())));
        assert_eq!(ask(4, 100), Look::Seen(Answer::Bytes(b"tide "[..].into())));
        assert_eq!(ask(12, 4), Look::NotSeen(Unseen::NotRecorded));
        // An empty file is one whatever was asked for.
        let empty = replayer(vec![stretch(0, "")]);
        assert_eq!(
            empty.ask(&Question::ReadAt("/var/log/edge".into(), 0, 4096)),
            Look::Seen(Answer::Bytes(b"".as_slice().into()))
        );
        assert_eq!(
            empty.ask(&Question::ReadAt("/var/log/edge".into(), 9, 4096)),
            Look::NotSeen(Unseen::NotRecorded)
        );
    }

    #[test]
    fn what_is_no_bundle_is_refused_with_a_word() {
        assert!(Replayer::from_json(b"low tide").is_err_and(|e| e.contains("not a bundle")));
        let other = br#"{"schema":"jolly-sentinel/bundle/9","parts":{"files":true,"processes":true,
            "manager":true,"interfaces":true,"clock":true,"probes":true},"answers":[]}"#;
        assert!(Replayer::from_json(other).is_err_and(|e| e.contains("bundle/9")));
    }
}
