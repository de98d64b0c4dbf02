//! What files held earlier, as the journal of changes and captures know it: their times can lie, their
//! content cannot.
use super::{Bundle, Known, Replayer, redact};
use crate::host::{Answer, Host, Look, Question, Remembered};
use sha2::{Digest as _, Sha256};
use std::collections::BTreeMap;
use std::sync::Arc;

/// A file's content at an earlier time.
#[derive(Clone, Debug)]
enum Content {
    /// All bytes by their SHA-256, in hexadecimal.
    Whole(String),
    /// The bytes with their secrets masked, as captures keep them, and the kind by whose grammar they were
    /// masked.
    Masked(Arc<[u8]>, Option<String>),
}

/// What is known of files from earlier; of each the latest knowledge.
#[derive(Default)]
pub struct Earlier {
    files: BTreeMap<String, (Content, String)>,
    captured: Option<Replayer>,
}

impl Earlier {
    /// Adds what a file held, by its SHA-256 in hexadecimal; `origin` says who knows it.
    pub fn add(&mut self, path: &str, sha256: &str, origin: &str) {
        self.files.insert(path.to_owned(), (Content::Whole(sha256.to_owned()), origin.to_owned()));
    }

    /// Adds what a capture holds: of files that are not known yet, because other knowledge is of every byte;
    /// and the host as it was.
    pub fn add_capture(&mut self, bundle: Bundle, origin: &str) {
        for (question, answer) in &bundle.answers {
            if let (Question::Read(path), Look::Seen(Answer::Bytes(bytes))) = (question, answer) {
                self.files.entry(path.clone()).or_insert_with(|| {
                    (
                        Content::Masked(bytes.clone(), bundle.configuration.get(path).cloned()),
                        origin.to_owned(),
                    )
                });
            }
        }
        self.captured = Some(Replayer::of(bundle));
    }
}

impl Remembered for Earlier {
    fn host(&self) -> Option<&dyn Host> {
        self.captured.as_ref().map(|host| host as &dyn Host)
    }

    fn is_empty(&self) -> bool {
        self.files.is_empty()
    }

    fn knows(&self, path: &str) -> bool {
        self.files.contains_key(path)
    }

    fn is_same(&self, path: &str, now: &Arc<[u8]>) -> Option<(bool, &str)> {
        let (content, origin) = self.files.get(path)?;
        let same = match content {
            Content::Whole(known) => {
                Sha256::digest(now).iter().map(|b| format!("{b:02x}")).collect::<String>() == *known
            }
            Content::Masked(known, kind) => {
                let kind = kind.as_deref().and_then(crate::kinds::kind);
                let by = Known { configuration: kind.into_iter().map(|k| (path.to_owned(), k)).collect() };
                let masked =
                    redact(&by, Question::Read(path.to_owned()), Look::Seen(Answer::Bytes(now.clone())));
                let first = masked.answers.first().map(|(_, answer)| answer);
                matches!(first, Some(Look::Seen(Answer::Bytes(bytes))) if bytes == known)
            }
        };
        Some((same, origin))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::bundle::Recorder;
    use crate::snapshot::Snapshot;
    use crate::tests::TextHost;

    #[test]
    fn content_tells_what_times_do_not() {
        let text = |t: &str| -> Arc<[u8]> { t.as_bytes().into() };
        let mut earlier = Earlier::default();
        // SHA-256 of "abc", as its standard gives it.
        earlier.add(
            "/etc/edge.conf",
            "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad",
            "change 1",
        );
        assert_eq!(earlier.is_same("/etc/edge.conf", &text("abc")), Some((true, "change 1")));
        assert_eq!(earlier.is_same("/etc/edge.conf", &text("abd")), Some((false, "change 1")));
        assert_eq!(earlier.is_same("/etc/other.conf", &text("abc")), None);
        assert!(earlier.knows("/etc/edge.conf") && !earlier.knows("/etc/other.conf"));
    }

    #[test]
    fn a_capture_is_compared_with_its_secrets_masked() {
        let secret = "listen 80\nrequirepass tide-71\n";
        let host = TextHost::new().file("/etc/ledger.conf", secret).file("/etc/edge.conf", "abc");
        let recorder = Recorder::new(&host);
        let snapshot = Snapshot::new(&recorder);
        let _ = (
            snapshot.read("/etc/ledger.conf"),
            snapshot.read("/etc/edge.conf"),
            snapshot.read("/etc/none.conf"),
        );
        let mut earlier = Earlier::default();
        earlier.add("/etc/edge.conf", "of another time", "change 1");
        earlier.add_capture(
            recorder.into_bundle(BTreeMap::new(), &crate::services_file::ServicesFile::default()),
            "capture a",
        );
        let is_same = |path: &str, now: &str| {
            earlier.is_same(path, &now.as_bytes().into()).map(|(same, origin)| (same, origin.to_owned()))
        };
        assert_eq!(is_same("/etc/ledger.conf", secret), Some((true, "capture a".into())));
        assert_eq!(
            is_same("/etc/ledger.conf", &secret.replace("80", "81")),
            Some((false, "capture a".into()))
        );
        assert_eq!(
            is_same("/etc/edge.conf", "abc"),
            Some((false, "change 1".into())),
            "the journal knows better"
        );
        assert_eq!(is_same("/etc/none.conf", ""), None);
    }
}
