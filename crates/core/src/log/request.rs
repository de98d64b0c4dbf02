//! What to read of a service's history, and which of its lines begin an attempt.
use super::grammar::{Around, Grammar, Head};
use super::{Catalogue, Mark};
use jiff::tz::TimeZone;

/// Whose log it is, as far as reading it goes.
#[derive(Clone, Copy)]
pub struct LogOwner {
    /// Name of its kind.
    pub name: &'static str,
    /// Names of its programs; they may hold `*`. None where only the services file tells of it.
    pub programs: &'static [&'static str],
    /// How its log lines begin, and which mark a start.
    pub grammar: &'static Grammar,
    /// What its failures look like.
    pub catalogue: &'static Catalogue,
}

impl LogOwner {
    /// Whether a program of this name is one of its own.
    fn runs(&self, program: &str) -> bool {
        !program.is_empty() && self.programs.iter().any(|p| crate::path::matches(p, program, false))
    }
}

/// What to read of a service's history.
pub struct Request<'r> {
    /// Whose log it is.
    pub owner: LogOwner,
    /// How its log lines begin, and which mark a start.
    pub grammar: &'r Grammar,
    /// Unit in the journal, if there is one.
    pub unit: Option<&'r str>,
    /// What the unit says of itself.
    pub description: Option<&'r str>,
    /// Names under which its processes write to the receiver of syslog messages; they may hold `*`.
    pub names: &'r [&'r str],
    /// The host's own zone.
    pub host_zone: &'r TimeZone,
    /// Whether the manager's "started" means that it is ready (`Type=notify`, or a start command that ends
    /// when it is).
    pub reports_ready: bool,
    /// Own log files, the main one first.
    pub files: &'r [String],
    /// How many of them, from the first on, are of the whole service; the rest are those of single sites.
    pub mains: usize,
    /// Zone of the daemon's stamps.
    pub zone: &'r TimeZone,
    /// When that zone may have been set: last changes of files that set one, microseconds since the epoch.
    pub zone_set: &'r [i64],
    /// How many attempts are wanted at most.
    pub most: usize,
    /// Count lines even in long files.
    pub count_all: bool,
    /// Whether it runs now.
    pub running: bool,
    /// Whether it is known what runs now.
    pub live: bool,
}

impl<'r> Request<'r> {
    /// What log files alone tell of a daemon that no manager starts.
    pub fn of_files(owner: LogOwner, files: &'r [String], zone: &'r TimeZone, most: usize) -> Self {
        Self {
            owner,
            grammar: owner.grammar,
            unit: None,
            description: None,
            names: &[],
            host_zone: zone,
            reports_ready: false,
            files,
            mains: 1,
            zone,
            zone_set: &[],
            most,
            count_all: true,
            running: false,
            live: false,
        }
    }
}

/// Whether a line with a mark begins an attempt; `earlier` is the line with the mark before it.
pub(super) fn is_begin(request: &Request, line: &str, earlier: Option<&str>) -> bool {
    let grammar = request.grammar;
    let around = Around { latest: Some(i64::MAX / 4), ..Around::zone(request.zone) };
    let Some(head) = grammar.head(line, around).filter(|h| is_ours(request, h)) else { return false };
    let mark_of = |l: &str| grammar.mark(l);
    let reload = earlier.is_some_and(|e| mark_of(e) == Some(Mark::Reload));
    match mark_of(line) {
        Some(Mark::Begin) => !reload,
        Some(Mark::Ready) => !grammar.tells_begin() && !reload,
        // Several lines of one failure are one attempt.
        Some(Mark::Fail) => {
            let same = |e: &str| {
                mark_of(e) == Some(Mark::Fail)
                    && grammar
                        .head(e, around)
                        .is_some_and(|h| h.pid == head.pid && head.time - h.time < 5_000_000)
            };
            !earlier.is_some_and(same) && !earlier.is_some_and(|e| mark_of(e) == Some(Mark::Begin))
        }
        _ => false,
    }
}

/// Whether a line was written by the daemon itself, and not by a client's hand or another program.
pub(super) fn is_ours(request: &Request, head: &Head) -> bool {
    if head.of_client {
        return false;
    }
    let Some(program) = &head.program else { return true };
    let unit = request.unit.map(|u| u.trim_end_matches(".service"));
    request.owner.runs(program) || Some(program.as_str()) == unit || request.owner.name == program
}
