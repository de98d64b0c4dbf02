//! Looks that may hang: files of network and user-space file systems, which answer when their server does.
//!
//! A host without such mounts pays one read of the mount table. Otherwise every look at a file runs in a
//! helper thread that is waited for no longer than the patience; a helper that hangs is left behind and a new
//! one takes its place.
use jolly_core::host::{Answer, Look, Unseen};
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel};
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

/// Types of file systems whose answers come from elsewhere.
const REMOTE: &[&str] = &[
    "nfs",
    "nfs4",
    "cifs",
    "smb3",
    "smbfs",
    "afs",
    "ceph",
    "9p",
    "glusterfs",
    "lustre",
    "ocfs2",
    "gfs2",
    "autofs",
    "coda",
];

type Work = Box<dyn FnOnce() -> Look<Answer> + Send>;

/// The helper thread: work goes in, answers come out.
struct Helper {
    work: Sender<Work>,
    answers: Receiver<Look<Answer>>,
}

impl Helper {
    fn new() -> Self {
        let (work, todo) = channel::<Work>();
        let (done, answers) = channel();
        std::thread::spawn(move || {
            for work in todo {
                if done.send(work()).is_err() {
                    break;
                }
            }
        });
        Self { work, answers }
    }
}

/// Bounds every look at a file.
pub(crate) struct Patience {
    limit: Duration,
    needed: bool,
    helper: Mutex<Option<Helper>>,
    /// Directories below which a look hung once; they are not asked again.
    hung: Mutex<Vec<String>>,
}

impl Patience {
    /// With the mount table's text (`mountinfo` of proc(5)).
    pub(crate) fn new(limit: Duration, mounts: &str) -> Self {
        Self { limit, needed: mounts.lines().any(remote), helper: Mutex::default(), hung: Mutex::default() }
    }

    /// Whether anything here can hang.
    pub(crate) fn is_needed(&self) -> bool {
        self.needed
    }

    /// The answer of a look at `path`, or that it did not come in time.
    pub(crate) fn look(
        &self,
        path: &str,
        look: impl FnOnce(&std::path::Path) -> Look<Answer> + Send + 'static,
    ) -> Look<Answer> {
        if !self.needed {
            return look(path.as_ref());
        }
        if self
            .hung
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
            .iter()
            .any(|h| path == h || path.strip_prefix(h.as_str()).is_some_and(|rest| rest.starts_with('/')))
        {
            return Look::NotSeen(Unseen::TimedOut);
        }
        let mut slot = self.helper.lock().unwrap_or_else(PoisonError::into_inner);
        let helper = slot.get_or_insert_with(Helper::new);
        let owned = path.to_owned();
        if helper.work.send(Box::new(move || look(owned.as_ref()))).is_err() {
            *slot = None;
            return Look::NotSeen(Unseen::Failed("the helper for files ended".into()));
        }
        match helper.answers.recv_timeout(self.limit) {
            Ok(answer) => answer,
            Err(RecvTimeoutError::Timeout) => {
                *slot = None;
                self.hung
                    .lock()
                    .unwrap_or_else(PoisonError::into_inner)
                    .push(path.trim_end_matches('/').to_owned());
                Look::NotSeen(Unseen::TimedOut)
            }
            Err(RecvTimeoutError::Disconnected) => {
                *slot = None;
                Look::NotSeen(Unseen::Failed("the helper for files ended".into()))
            }
        }
    }
}

impl std::fmt::Debug for Patience {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Patience")
            .field("limit", &self.limit)
            .field("needed", &self.needed)
            .finish_non_exhaustive()
    }
}

/// Whether a line of the mount table is of a file system that can hang. Those of FUSE that the system's own
/// services answer (portals, control files) count, too: nothing tells them apart for sure.
fn remote(line: &str) -> bool {
    let kind = line.split_once(" - ").and_then(|(_, right)| right.split(' ').next()).unwrap_or_default();
    REMOTE.contains(&kind) || kind == "fuse" || kind == "fuseblk" || kind.starts_with("fuse.")
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::time::Instant;

    const LOCAL: &str = "25 1 8:1 / / rw,relatime shared:1 - ext4 /dev/sda1 rw\n\
        30 25 0:26 / /sys/fs/fuse/connections rw - fusectl fusectl rw";
    const HARBOUR: &str =
        "25 1 8:1 / / rw - ext4 /dev/sda1 rw\n40 25 0:33 / /srv/tides rw - nfs4 192.0.2.5:/tides rw,hard";

    fn found() -> Look<Answer> {
        Look::Seen(Answer::Target("seen".into()))
    }

    #[test]
    fn only_mounts_that_can_hang_cost_a_helper() {
        assert!(!Patience::new(Duration::ZERO, LOCAL).needed);
        assert!(Patience::new(Duration::ZERO, HARBOUR).needed);
        assert!(Patience::new(Duration::ZERO, "1 1 0:1 / /mnt rw - fuse.gauge gauge rw").needed);
    }

    #[test]
    fn a_look_that_hangs_costs_its_time_once_and_the_rest_goes_on() {
        let patience = Patience::new(Duration::from_millis(60), HARBOUR);
        let (release, held) = channel::<()>();
        let began = Instant::now();
        let hung = patience.look("/srv/tides/", move |_| {
            let _ = held.recv();
            found()
        });
        assert_eq!(hung, Look::NotSeen(Unseen::TimedOut));
        assert!(began.elapsed() >= Duration::from_millis(60));
        assert_eq!(
            patience.look("/etc/hosts", |_| found()),
            found(),
            "another path is still answered, by a new helper"
        );
        let again = patience.look("/srv/tides/july", |_| panic!("a path below a hung one must not be asked"));
        assert_eq!(again, Look::NotSeen(Unseen::TimedOut));
        assert_eq!(
            patience.look("/srv/tidesmen", |_| found()),
            found(),
            "a name that only begins alike is another path"
        );
        drop(release);
    }
}
