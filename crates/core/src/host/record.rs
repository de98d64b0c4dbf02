//! The recorder around a host, the bundle it fills, and the replayer of a bundle.
use super::{Answer, Host, Look, Parts, Question, Unseen, redact};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Mutex, PoisonError};

/// Name and version of the bundle's form.
pub const BUNDLE_SCHEMA: &str = "jolly-sentinel/bundle/1";

/// Captured evidence: everything that was asked of a host and what it answered, redacted.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Bundle {
    /// [`BUNDLE_SCHEMA`].
    pub schema: String,
    /// Which parts the host had.
    pub parts: Parts,
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
        if bundle.schema == BUNDLE_SCHEMA { Ok(bundle) } else { Err(format!("a bundle of the form {:?}; this program reads {BUNDLE_SCHEMA:?}", bundle.schema)) }
    }
}

/// Passes questions on and writes down every answer.
pub struct Recorder<'h> {
    host: &'h dyn Host,
    answers: Mutex<BTreeMap<Question, Look<Answer>>>,
}

impl<'h> Recorder<'h> {
    /// A recorder around `host`.
    pub fn new(host: &'h dyn Host) -> Self {
        Self { host, answers: Mutex::default() }
    }
    /// What was recorded, with secrets redacted.
    pub fn into_bundle(self) -> Bundle {
        let answers = self.answers.into_inner().unwrap_or_else(PoisonError::into_inner).into_iter().map(|(q, a)| redact(q, a)).collect();
        Bundle { schema: BUNDLE_SCHEMA.into(), parts: self.host.parts(), answers }
    }
}

impl Host for Recorder<'_> {
    fn ask(&self, question: &Question) -> Look<Answer> {
        let answer = self.host.ask(question);
        self.answers.lock().unwrap_or_else(PoisonError::into_inner).insert(question.clone(), answer.clone());
        answer
    }
    fn parts(&self) -> Parts {
        self.host.parts()
    }
}

/// A host made of captured evidence.
pub struct Replayer {
    parts: Parts,
    answers: BTreeMap<Question, Look<Answer>>,
}

impl Replayer {
    /// Reads a bundle.
    ///
    /// # Errors
    /// A sentence when the text is no bundle, or of a form this program does not know.
    pub fn from_json(text: &[u8]) -> Result<Self, String> {
        let bundle = Bundle::from_json(text)?;
        Ok(Self { parts: bundle.parts, answers: bundle.answers.into_iter().collect() })
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
        (!out.is_empty()).then(|| Answer::Bytes(out.into()))
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
            Question::Journal(unit, most) => self.entries(|q| matches!(q, Question::Journal(u, _) if u == unit), *most),
            Question::JournalOf(field, most) => self.entries(|q| matches!(q, Question::JournalOf(f, _) if f == field), *most),
            Question::ReadAt(path, offset, length) => self.bytes(path, *offset, *length).map(Look::Seen),
            _ => None,
        };
        derived.unwrap_or(Look::NotSeen(Unseen::NotRecorded))
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
        let parts = Parts { files: true, processes: true, manager: true, interfaces: true, clock: true, probes: false };
        let bundle = Bundle { schema: BUNDLE_SCHEMA.into(), parts, answers };
        Replayer::from_json(&serde_json::to_vec(&bundle).unwrap()).unwrap()
    }

    #[test]
    fn holders_are_answered_out_of_all_that_was_recorded_about_holders() {
        let one = |inodes: &[u64], owners: &[(u64, u32)]| (Question::SocketOwners(inodes.to_vec()), Look::Seen(Answer::Owners(owners.to_vec())));
        let host = replayer(vec![one(&[1, 2], &[(1, 10), (2, 20)]), one(&[3], &[])]);
        assert_eq!(host.ask(&Question::SocketOwners(vec![2, 3])), Look::Seen(Answer::Owners(vec![(2, 20)])));
        assert_eq!(host.ask(&Question::SocketOwners(vec![2, 4])), Look::NotSeen(Unseen::NotRecorded), "nobody asked about 4");
    }

    #[test]
    fn a_longer_record_of_the_journal_answers_a_shorter_question() {
        let entries: Vec<JournalEntry> = (0..5).map(|n| JournalEntry { time: 100 - n, ..JournalEntry::default() }).collect();
        let host = replayer(vec![(Question::Journal("edge.service".into(), 400), Look::Seen(Answer::Journal(entries.clone())))]);
        assert_eq!(host.ask(&Question::Journal("edge.service".into(), 2)), Look::Seen(Answer::Journal(entries[..2].to_vec())));
        assert_eq!(host.ask(&Question::Journal("edge.service".into(), 9000)), Look::Seen(Answer::Journal(entries)));
        assert_eq!(host.ask(&Question::Journal("front.service".into(), 2)), Look::NotSeen(Unseen::NotRecorded));
    }

    #[test]
    fn stretches_of_a_file_are_put_together_up_to_the_first_gap() {
        let stretch = |from: u64, text: &str| {
            let length = u32::try_from(text.len()).unwrap();
            (Question::ReadAt("/var/log/edge".into(), from, length), Look::Seen(Answer::Bytes(text.as_bytes().into())))
        };
        let host = replayer(vec![stretch(0, "low "), stretch(4, "tide "), stretch(20, "late")]);
        let ask = |from, length| host.ask(&Question::ReadAt("/var/log/edge".into(), from, length));
        assert_eq!(ask(2, 5), Look::Seen(Answer::Bytes(b"w tid"[..].into())));
        assert_eq!(ask(4, 100), Look::Seen(Answer::Bytes(b"tide "[..].into())));
        assert_eq!(ask(12, 4), Look::NotSeen(Unseen::NotRecorded));
    }

    #[test]
    fn what_is_no_bundle_is_refused_with_a_word() {
        assert!(Replayer::from_json(b"low tide").is_err_and(|e| e.contains("not a bundle")));
        let other = br#"{"schema":"jolly-sentinel/bundle/9","parts":{"files":true,"processes":true,"manager":true,"interfaces":true,"clock":true,"probes":true},"answers":[]}"#;
        assert!(Replayer::from_json(other).is_err_and(|e| e.contains("bundle/9")));
    }
}
