//! The recorder around a host, the bundle it fills, and the replayer of a bundle.
use super::{Answer, Host, Look, Parts, Question, Unseen, redact};
use serde::{Deserialize, Serialize};
use std::cell::RefCell;
use std::collections::BTreeMap;

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

/// Passes questions on and writes down every answer.
pub struct Recorder<'h> {
    host: &'h dyn Host,
    answers: RefCell<BTreeMap<Question, Look<Answer>>>,
}

impl<'h> Recorder<'h> {
    /// A recorder around `host`.
    pub fn new(host: &'h dyn Host) -> Self {
        Self { host, answers: RefCell::default() }
    }
    /// What was recorded, with secrets redacted.
    pub fn into_bundle(self) -> Bundle {
        let answers = self.answers.into_inner().into_iter().map(|(q, a)| redact(q, a)).collect();
        Bundle { schema: BUNDLE_SCHEMA.into(), parts: self.host.parts(), answers }
    }
}

impl Host for Recorder<'_> {
    fn ask(&self, question: &Question) -> Look<Answer> {
        let answer = self.host.ask(question);
        self.answers.borrow_mut().insert(question.clone(), answer.clone());
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
        let bundle: Bundle = serde_json::from_slice(text).map_err(|e| format!("not a bundle: {e}"))?;
        if bundle.schema != BUNDLE_SCHEMA {
            return Err(format!("a bundle of the form {:?}; this program reads {BUNDLE_SCHEMA:?}", bundle.schema));
        }
        Ok(Self { parts: bundle.parts, answers: bundle.answers.into_iter().collect() })
    }
}

impl Host for Replayer {
    fn ask(&self, question: &Question) -> Look<Answer> {
        self.answers.get(question).cloned().unwrap_or(Look::NotSeen(Unseen::NotRecorded))
    }
    fn parts(&self) -> Parts {
        self.parts
    }
}
