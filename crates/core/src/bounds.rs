//! Every bound of what is read and said, in one place. Whoever owns a file can make it endless, circular or
//! doubling; work and memory are bounded by counting, a bound that is reached is named in `not_seen`, and the
//! answer is then "not found out" (exit status 3, or 1 where a problem was found all the same). All of them
//! lie far above what real hosts have.

/// Longest line of a configuration, in bytes.
pub const LINE: usize = 16 << 20;
/// The most that is read of one configuration, each inclusion counted, in bytes.
pub const CONFIGURATION: u64 = 1 << 30;
/// The most that is read of whole files for one answer, in bytes: a configuration, and what it names.
pub const READ: u64 = CONFIGURATION + (256 << 20);
/// Largest file of certificates and keys, in bytes.
pub const PEM: u64 = 4 << 20;
/// Files of one configuration, each inclusion counted.
pub const FILES: usize = 100_000;
/// Symbolic links on the way to one file.
pub const LINKS: usize = 40;
/// Expansions of defines and macros in one configuration.
pub const EXPANSIONS: usize = 1_000_000;
/// The most that defines, macros and variables of one configuration make, in bytes.
pub const EXPANDED: usize = 128 << 20;
/// Longest value of a variable of scripts and environment files, in bytes: longer ones no program can be
/// given (`execve(2)`: `MAX_ARG_STRLEN`).
pub const VALUE: usize = 128 << 10;
/// The most that the variables of scripts and environment files hold in all, in bytes: more of them no
/// program can be given (`execve(2)`).
pub const ENVIRONMENT: usize = 6 << 20;
/// Elements and texts of one file of XML.
pub const NODES: u32 = 4_000_000;
/// Attributes of one element of XML.
pub const ATTRIBUTES: usize = 5_000;
/// Namespaces that one file of XML declares.
pub const NAMESPACES: usize = 1_000;
/// Comparisons of attributes in one file of XML, each with the others of its element.
pub const COMPARISONS: usize = 1_000_000_000;
/// The most that is read of one log with its predecessors, unpacked, in bytes.
pub const LOG: u64 = 16 << 30;
/// The longest answer, in bytes.
pub const OUTPUT: usize = 64 << 20;
/// Findings of one code that are told one by one; the rest is counted.
pub const FINDINGS: usize = 1_000;
/// Causes of one service for which fixes are planned, the first ones: each plan reads and shows whole files.
pub const PLANNED: usize = 10;
/// Letters of a line that are shown.
pub const SHOWN: usize = 500;
/// Failures, and unexplained lines, of one attempt that are kept.
pub const FAILURES: usize = 200;
/// Letters of a log line that are kept.
pub const LOG_TEXT: usize = 2_000;
/// Attempts beyond those that are asked for that are kept while a log is read.
pub const ATTEMPTS: usize = 1_000;
/// Marks that are looked at from the end of a log before it is read from its begin.
pub const MARKS: usize = 50_000;
/// The most that is read of a pid file or lock, in bytes.
pub const PID_FILE: u32 = 4 << 10;
/// Largest window of a packed log, as a power of two: what unpacking may hold in memory, in bytes.
pub const WINDOW_LOG: u32 = 25;

/// A compiled pattern of a request's way, in bytes.
pub const PATTERN: usize = 1 << 20;
/// How often such a pattern may go back on one text before it is given up.
pub const BACKTRACKS: usize = 20_000;
/// Patterns that are tried for one way through one daemon: whoever owns a folder writes rules for it.
pub const TRIES: usize = 10_000;
/// Largest file that overrides settings of its folder, in bytes.
pub const OVERRIDE: u64 = 1 << 20;
/// Files of an application that are looked at for what it depends on.
pub const APPLICATION_FILES: usize = 64;
/// Bytes that are read of each of them.
pub const APPLICATION: u32 = 1 << 20;
/// Servers of data that are taken of one file.
pub const FOUND: usize = 64;
/// Servers of data of one application that are asked.
pub const SOURCES: usize = 8;
/// Bytes that are taken of one server that is asked in its protocol.
pub const ANSWER: usize = 1 << 20;
/// Redirects that are followed.
pub const REDIRECTS: usize = 10;
/// Daemons that a request is followed through.
pub const DAEMONS: usize = 6;
/// Logs that are looked at for lines about a request.
pub const REQUEST_LOGS: usize = 12;
/// The most that is read of each of them, in bytes.
pub const REQUEST_LOG: u32 = 64 << 10;

/// The beginning of a text that is too long to be shown.
pub fn clip(text: &str) -> String {
    cut(text, SHOWN)
}

/// The first letters of a text; an ellipsis tells that there are more.
pub fn cut(text: &str, letters: usize) -> String {
    match text.char_indices().nth(letters) {
        Some((at, _)) => format!("{}…", &text[..at]),
        None => text.to_owned(),
    }
}

/// What one configuration has cost so far.
#[derive(Clone, Debug, Default)]
pub struct Cost {
    files: usize,
    bytes: u64,
    expansions: usize,
    expanded: usize,
    /// The bound that was reached, in a sentence.
    pub reached: Option<String>,
}

impl Cost {
    /// Counts a file, also one that was read before; `false` where that is one too many.
    pub fn file(&mut self, name: &str, bytes: usize) -> bool {
        self.files += 1;
        self.bytes += bytes as u64;
        if self.files > FILES {
            self.reach(format!("{name}: more than {FILES} inclusions are not followed"));
        } else if self.bytes > CONFIGURATION {
            self.reach(format!(
                "{name}: more than {} MiB of configuration are not read",
                CONFIGURATION >> 20
            ));
        }
        self.reached.is_none()
    }
    /// Counts an expansion of a define or macro, which makes so many bytes.
    pub fn expansion(&mut self, bytes: usize) -> bool {
        self.expansions += 1;
        if self.expansions > EXPANSIONS {
            self.reach(format!("more than {EXPANSIONS} expansions of defines and macros are not followed"));
        }
        self.made(bytes)
    }
    /// Counts the bytes of an expansion.
    pub fn made(&mut self, bytes: usize) -> bool {
        self.expanded = self.expanded.saturating_add(bytes);
        if self.expanded > EXPANDED {
            self.reach(format!(
                "defines, macros and variables make more than {} MiB, which are not read",
                EXPANDED >> 20
            ));
        }
        self.reached.is_none()
    }
    /// Whether a line is short enough.
    pub fn line(&mut self, name: &str, length: usize) -> bool {
        if length > LINE {
            self.reach(format!("{name}: a line of more than {} MiB is not read", LINE >> 20));
        }
        self.reached.is_none()
    }
    fn reach(&mut self, sentence: String) {
        self.reached.get_or_insert(sentence);
    }
}

/// A text with one piece of it replaced everywhere; `None` where that makes more than so many bytes, which is
/// found out before it is made.
pub(crate) fn replaced(text: &str, piece: &str, with: &str, most: usize) -> Option<String> {
    let made = text.matches(piece).count().saturating_mul(with.len()).saturating_add(text.len());
    (made <= most).then(|| text.replace(piece, with))
}

/// Adds steps to what tests count; costs nothing elsewhere.
#[inline]
pub(crate) fn step(_count: usize) {
    #[cfg(test)]
    work::step(_count);
}

#[cfg(test)]
pub(crate) mod work {
    //! Counts steps of loops that could grow faster than what they look at; growth is tested by these, not by
    //! a clock.
    use std::cell::Cell;

    thread_local! {
        static STEPS: Cell<u64> = const { Cell::new(0) };
    }

    /// Adds steps.
    pub(crate) fn step(count: usize) {
        STEPS.with(|s| s.set(s.get() + count as u64));
    }

    /// The steps of some work.
    pub(crate) fn of(work: impl FnOnce()) -> u64 {
        STEPS.with(|s| s.set(0));
        work();
        STEPS.with(Cell::get)
    }
}
