//! Joins findings about one thing into causes, and puts them in order.
use crate::code::{Code, Joins};
use crate::finding::{Evidence, Finding, Proof, Subject, stage};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// How sure a cause is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Certainty {
    /// Seen in this attempt and still true, or an inevitable failure of the next start.
    Certain,
    /// One witness.
    Likely,
    /// It was so once.
    Possible,
}

/// How a cause stands to the ones before it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Relation {
    /// It must go.
    Blocks,
    /// Either this or an earlier one.
    Alternative,
    /// It follows from an earlier one.
    Consequence,
    /// The service runs; this would stop its next start.
    Latent,
}

/// Why a service does not start or answer.
#[derive(Clone, Debug)]
pub struct Cause {
    /// What.
    pub code: Code,
    /// How sure.
    pub certainty: Certainty,
    /// How it stands to earlier ranks.
    pub relation: Relation,
    /// One sentence.
    pub title: String,
    /// About what.
    pub subject: Subject,
    /// Evidence, the most direct first.
    pub evidence: Vec<Evidence>,
    /// Fixes, least dangerous first.
    pub fixes: Vec<&'static str>,
    /// When in a start it strikes.
    pub stage: u8,
    proof: Proof,
    witnesses: u32,
    /// Further listeners that it is about, in the order of the configuration.
    pub also: Vec<Subject>,
}

/// The causes among blocking findings, in rank order.
pub fn rank(findings: Vec<Finding>) -> Vec<Cause> {
    let mut causes: Vec<Cause> = Vec::new();
    // What the host shows now comes first, so that log lines join it and not the other way round.
    let (now, told): (Vec<_>, Vec<_>) =
        findings.into_iter().partition(|f| matches!(f.proof, Proof::Now | Proof::Inevitable) && !is_told(f));
    for finding in now.into_iter().chain(told) {
        match causes.iter_mut().find(|c| joins(c, &finding)) {
            Some(cause) => join(cause, finding),
            None => causes.push(start(finding)),
        }
    }
    let solid = causes.iter().any(|c| c.certainty == Certainty::Certain && c.code != Code::ManagerGaveUp);
    if solid {
        causes.retain(|c| c.code != Code::Unknown && !c.proof.is_weak());
    }
    let explained =
        causes.iter().any(|c| c.code != Code::Unknown && c.code != Code::ManagerGaveUp && !c.proof.is_weak());
    if explained {
        causes.retain(|c| c.code != Code::Unknown);
    }
    // A line that nobody knows is a reason, too, and so is one that nothing speaks against: only where there
    // is none, or what it told of is gone, the giving up stands for itself.
    let explained = explained
        || causes.iter().any(|c| match c.code {
            Code::Unknown => c.evidence.iter().any(is_of_log),
            _ => c.proof == Proof::Echoed,
        });
    // A copy under another account makes the very files that are in the way: it goes first.
    let copy = causes.iter().any(|c| c.code == Code::AlreadyRunning && c.certainty == Certainty::Certain);
    let after = |c: &Cause| copy && c.code == Code::WrongOwner;
    causes
        .sort_by_key(|c| (late(c, explained), c.certainty, if after(c) { stage::BIND + 1 } else { c.stage }));
    // The manager's giving up is not a cause of its own beside what made it give up: it is evidence of that.
    // A start clears the record of it.
    if explained
        && let Some(at) = causes.iter().position(|c| c.code == Code::ManagerGaveUp).filter(|at| *at > 0)
    {
        let gave_up = causes.remove(at);
        if let Some(first) = causes.first_mut() {
            first.evidence.extend(gave_up.evidence);
        }
    }
    // Without its account every file is "of the wrong owner": that follows.
    let nobody =
        causes.first().is_some_and(|c| c.code == Code::AccountMissing && c.certainty == Certainty::Certain);
    for (at, cause) in causes.iter_mut().enumerate() {
        cause.relation = match (at, cause.code, cause.certainty) {
            (0, ..) => Relation::Blocks,
            (_, code, _) if nobody && code.facts().needs_account => Relation::Consequence,
            (_, _, Certainty::Certain) => Relation::Blocks,
            _ => Relation::Alternative,
        };
    }
    causes
}

/// Giving up is a consequence while its reason still stands.
fn late(cause: &Cause, explained: bool) -> bool {
    cause.code == Code::ManagerGaveUp && explained
}

fn is_of_log(evidence: &Evidence) -> bool {
    evidence.source == crate::finding::Source::Log
}

fn is_told(finding: &Finding) -> bool {
    finding.evidence.first().is_some_and(is_of_log)
}

fn start(finding: Finding) -> Cause {
    let told = is_told(&finding);
    let certainty = match finding.proof {
        Proof::Inevitable => Certainty::Certain,
        Proof::Now if told || finding.code == Code::ManagerGaveUp => Certainty::Certain,
        Proof::Now | Proof::Said => Certainty::Likely,
        Proof::Past | Proof::Claimed | Proof::Echoed => Certainty::Possible,
    };
    Cause {
        code: finding.code,
        certainty,
        relation: Relation::Blocks,
        title: finding.title,
        subject: finding.subject,
        evidence: finding.evidence,
        fixes: finding.fixes,
        stage: finding.stage,
        proof: finding.proof,
        witnesses: 1,
        also: Vec::new(),
    }
}

fn join(cause: &mut Cause, finding: Finding) {
    cause.witnesses += 1;
    // The same holder on another address or port is the same cause.
    let other = Subject::listener(
        finding.subject.address,
        finding.subject.port.unwrap_or(0),
        None,
        finding.subject.pid,
    );
    let (mine, theirs) = (&cause.subject, &finding.subject);
    if !is_told(&finding)
        && theirs.port.is_some()
        && mine.port.is_some()
        && (mine.port, mine.address) != (theirs.port, theirs.address)
        && !cause.also.contains(&other)
    {
        cause.also.push(other);
    }
    // The log of this start agrees with what is true now: that is certain.
    if is_told(&finding) && !finding.proof.is_weak() && matches!(cause.proof, Proof::Now | Proof::Inevitable)
    {
        cause.certainty = Certainty::Certain;
    }
    for evidence in finding.evidence {
        if !cause.evidence.contains(&evidence) {
            cause.evidence.push(evidence);
        }
    }
    for fix in finding.fixes {
        if !cause.fixes.contains(&fix) {
            cause.fixes.push(fix);
        }
    }
}

/// Whether a finding is about the same thing as a cause.
fn joins(cause: &Cause, finding: &Finding) -> bool {
    let facts = finding.code.facts();
    let same_code = cause.code == finding.code;
    if facts.joins == Joins::OnePerServer && same_code {
        return true;
    }
    let same_port = cause.subject.port.is_some() && cause.subject.port == finding.subject.port;
    let same_pid = cause.subject.pid.is_some() && cause.subject.pid == finding.subject.pid;
    let binds = |c: Code| c.facts().joins == Joins::Binding;
    if binds(cause.code) && binds(finding.code) {
        let bare = finding.subject.port.is_none() && is_told(finding);
        return same_port || same_pid || bare;
    }
    let configures = |c: Code, s: u8| s == stage::CONFIG && c != Code::Unknown;
    if configures(cause.code, cause.stage) && configures(finding.code, finding.stage) && is_told(finding) {
        // The daemon reports its first fault alone; our reader's first fault is that one.
        let same_line = cause.subject.line.is_some() && cause.subject.line == finding.subject.line;
        let same_word =
            cause.subject.directive.is_some() && cause.subject.directive == finding.subject.directive;
        let same_path = cause.subject.path.is_some() && cause.subject.path == finding.subject.path;
        let no_object = finding.subject == Subject::default();
        return same_line || same_word || same_path || no_object || same_code;
    }
    if cause.code.facts().is_of_file && facts.is_of_file && is_told(finding) {
        let (Some(mine), Some(theirs)) = (&cause.subject.path, &finding.subject.path) else {
            return finding.subject.path.is_none();
        };
        return crate::path::is_within(theirs, mine) || crate::path::is_within(mine, theirs);
    }
    // A unix socket that cannot be bound is a left-over file when nobody listens on it.
    if cause.code == Code::StaleFile && finding.code == Code::PortTaken && is_told(finding) {
        return finding.subject.port.is_none() || finding.subject.path == cause.subject.path;
    }
    // A refusal that names nothing is about the port that may not be bound.
    let refusal = matches!(finding.code, Code::PermissionDenied | Code::PortPrivileged);
    if cause.code == Code::PortPrivileged && refusal && is_told(finding) && !same_port {
        return finding.subject.path.is_none() && finding.subject.port.is_none();
    }
    same_code
        && match facts.joins {
            Joins::Always | Joins::OnePerServer => true,
            Joins::Remedy => {
                is_told(finding) || (cause.subject == finding.subject && cause.fixes == finding.fixes)
            }
            Joins::Port => same_port,
            Joins::ToldOrEqual => is_told(finding) || cause.subject == finding.subject,
            Joins::ToldWithoutSubject if is_told(finding) && finding.subject == Subject::default() => true,
            Joins::Subject | Joins::Binding | Joins::ToldWithoutSubject => {
                cause.subject.is_same(&finding.subject)
            }
        }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::config::Severity;
    use crate::finding::Source;

    fn finding(code: Code, proof: Proof, source: Source, subject: Subject) -> Finding {
        let stage = code.facts().stage;
        Finding {
            code,
            severity: Severity::Error,
            subject,
            title: code.to_string(),
            proof,
            evidence: vec![Evidence::new(source, format!("{proof:?}"))],
            fixes: vec![],
            blocks: true,
            stage,
        }
    }
    fn port(n: u16, pid: Option<u32>) -> Subject {
        Subject::listener(None, n, None, pid)
    }

    #[track_caller]
    fn check(findings: Vec<Finding>, expected: &[(Code, Certainty, usize)]) {
        let ranked = rank(findings);
        let got: Vec<_> = ranked.iter().map(|c| (c.code, c.certainty, c.evidence.len())).collect();
        assert_eq!(got, expected);
    }

    #[test]
    fn witnesses_of_one_thing_are_one_cause() {
        check(
            vec![
                finding(Code::PortTaken, Proof::Said, Source::Log, port(80, None)),
                finding(Code::AlreadyRunning, Proof::Inevitable, Source::Socket, port(80, Some(7))),
            ],
            &[(Code::AlreadyRunning, Certainty::Certain, 2)],
        );
    }

    #[test]
    fn one_holder_of_several_ports_is_one_cause() {
        let held = |n| finding(Code::PortTaken, Proof::Inevitable, Source::Socket, port(n, Some(7)));
        let other = finding(Code::PortTaken, Proof::Inevitable, Source::Socket, port(81, Some(8)));
        let ranked = rank(vec![held(80), held(443), other]);
        let got: Vec<_> = ranked
            .iter()
            .map(|c| (c.subject.port, c.also.iter().filter_map(|s| s.port).collect::<Vec<_>>()))
            .collect();
        assert_eq!(got, [(Some(80), vec![443]), (Some(81), vec![])]);
    }

    #[test]
    fn what_strikes_earlier_comes_first_and_the_past_goes() {
        check(
            vec![
                finding(Code::PortTaken, Proof::Inevitable, Source::Socket, port(80, Some(7))),
                finding(Code::ConfigSyntax, Proof::Inevitable, Source::Config, Subject::default()),
                finding(Code::DiskFull, Proof::Past, Source::Log, Subject::path("/x")),
            ],
            &[(Code::ConfigSyntax, Certainty::Certain, 1), (Code::PortTaken, Certainty::Certain, 1)],
        );
    }

    #[test]
    fn giving_up_is_first_only_when_its_reason_is_gone() {
        let gave_up =
            || finding(Code::ManagerGaveUp, Proof::Now, Source::Manager, Subject::unit("front.service"));
        check(
            vec![gave_up(), finding(Code::PortTaken, Proof::Past, Source::Log, port(80, None))],
            &[(Code::ManagerGaveUp, Certainty::Certain, 1), (Code::PortTaken, Certainty::Possible, 1)],
        );
        let ranked = rank(vec![
            gave_up(),
            finding(Code::PortTaken, Proof::Inevitable, Source::Socket, port(80, Some(1))),
        ]);
        assert_eq!((ranked[0].code, ranked.len()), (Code::PortTaken, 1), "it is not a cause of its own");
        assert_eq!(ranked[0].evidence.len(), 2, "but evidence");
    }

    #[test]
    fn giving_up_is_no_cause_beside_a_line_that_nobody_knows_and_the_first_before_silence() {
        let gave_up =
            || finding(Code::ManagerGaveUp, Proof::Now, Source::Manager, Subject::unit("front.service"));
        let unknown = |source| finding(Code::Unknown, Proof::Said, source, Subject::default());
        check(vec![gave_up(), unknown(Source::Log)], &[(Code::Unknown, Certainty::Likely, 2)]);
        check(
            vec![
                gave_up(),
                finding(Code::ConfigMissingFile, Proof::Echoed, Source::Log, Subject::path("/x")),
            ],
            &[(Code::ConfigMissingFile, Certainty::Possible, 2)],
        );
        check(
            vec![gave_up(), unknown(Source::Manager)],
            &[(Code::ManagerGaveUp, Certainty::Certain, 1), (Code::Unknown, Certainty::Likely, 1)],
        );
    }

    #[test]
    fn a_copy_goes_before_the_files_that_it_made() {
        check(
            vec![
                finding(
                    Code::WrongOwner,
                    Proof::Inevitable,
                    Source::File,
                    Subject::path("/var/log/seat-cache.log"),
                ),
                finding(Code::AlreadyRunning, Proof::Inevitable, Source::Socket, port(6379, Some(7))),
            ],
            &[(Code::AlreadyRunning, Certainty::Certain, 1), (Code::WrongOwner, Certainty::Certain, 1)],
        );
    }

    #[test]
    fn an_unexplained_line_gives_way_to_a_cause() {
        check(
            vec![
                finding(Code::Unknown, Proof::Said, Source::Log, Subject::default()),
                finding(
                    Code::PermissionDenied,
                    Proof::Inevitable,
                    Source::File,
                    Subject::path("/var/log/front"),
                ),
            ],
            &[(Code::PermissionDenied, Certainty::Certain, 1)],
        );
    }
}
