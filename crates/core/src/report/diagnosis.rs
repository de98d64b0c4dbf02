//! `diagnose`: the causes of what is unwell.
use super::order::{Turn, order};
use super::schema;
use crate::case::{Case, Depth, Returns, State, gather};
use crate::chain::{Chain, Hop, Link};
use crate::checks;
use crate::code::{Ails, Code};
use crate::config::Severity;
use crate::finding::{Evidence, Finding, Proof, Subject, stage};
use crate::fix::{Fix, Wishes};
use crate::log::{Outcome, format_time};
use crate::not_seen::NotSeen;
use crate::rank::{Cause, Certainty, Relation, rank};
use crate::service::Service;
use crate::snapshot::Snapshot;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// Whether a service would come up.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Outlook {
    /// It would.
    WouldStart,
    /// It would be tried and fail.
    WouldFail,
    /// Nothing would try.
    WouldNot,
    /// Nothing tells.
    Unknown,
}

/// The document `diagnosis`.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct Diagnosis {
    /// Form.
    pub schema: String,
    /// Name of the host.
    pub host: Option<String>,
    /// When it was looked at.
    pub observed_at: Option<String>,
    /// Services, what blocks others first.
    pub services: Vec<ServiceEntry>,
    /// For a URL: the hops to the service.
    pub chain: Option<Vec<Link>>,
}

/// One service.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct ServiceEntry {
    /// Name.
    pub service: String,
    /// Kind.
    pub kind: String,
    /// State.
    pub state: State,
    /// Meant to run.
    pub wanted: bool,
    /// In this state since.
    pub since: Option<String>,
    /// Would it come up if it were restarted now?
    pub restart_outlook: Outlook,
    /// Would it come up at the next boot?
    pub boot_outlook: Outlook,
    /// Circumstances.
    pub context: Context,
    /// What keeps it from starting or answering.
    pub causes: Vec<CauseEntry>,
    /// What else was noticed.
    pub notes: Vec<NoteEntry>,
    /// Files that changed lately.
    pub changes: Vec<Changed>,
    /// What could not be seen.
    pub not_seen: Vec<NotSeen>,
}

/// Circumstances of a service.
#[derive(Clone, Debug, Default, Serialize, Deserialize, JsonSchema)]
pub struct Context {
    /// When it last became ready.
    pub last_good_start: Option<String>,
    /// When the host booted.
    pub booted: Option<String>,
    /// Packages that changed since the last good start; `null` where that was not looked at.
    pub packages_changed: Option<Vec<String>>,
    /// Connections on its ports now.
    pub clients: Option<u32>,
    /// The unit that listens for it and starts it at its first client, while it does not run.
    #[serde(default)]
    pub by_socket: Option<String>,
}

/// One cause.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct CauseEntry {
    /// From 1.
    pub rank: usize,
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
    /// Further listeners of the same origin.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub also: Vec<Subject>,
    /// Evidence.
    pub evidence: Vec<Evidence>,
    /// Fixes, least dangerous first.
    pub fixes: Vec<String>,
}

/// One note.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct NoteEntry {
    /// What.
    pub code: Code,
    /// How bad.
    pub severity: Severity,
    /// One sentence.
    pub title: String,
    /// About what.
    pub subject: Subject,
    /// Evidence.
    pub evidence: Vec<Evidence>,
    /// Fixes.
    pub fixes: Vec<String>,
}

/// A file that changed.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct Changed {
    /// The file.
    pub file: String,
    /// When its content, name, owner or mode changed last.
    pub modified: String,
    /// Whether that was after the last good start; `null` where there is none on record.
    pub since_last_good_start: Option<bool>,
    /// Earlier knowledge of its content that still holds: the id of a change or the name of a capture; `null`
    /// where there is none.
    #[serde(default)]
    pub same_as: Option<String>,
    /// Earlier knowledge of its content that does not hold any more.
    #[serde(default)]
    pub differs_from: Option<String>,
}

/// Diagnoses services; with `all` unset only those that are wanted and not well are kept.
pub fn diagnose(snapshot: &Snapshot, services: &[Service], all: bool) -> Diagnosis {
    let mut places = Vec::new();
    let mut told: Vec<Option<ServiceEntry>> = Vec::new();
    for service in services {
        let case = gather(snapshot, service, Depth::Diagnosis);
        let entry = diagnose_case(snapshot, &case).0;
        if all || is_unwell(&entry) {
            places.push(Turn::of(&case));
            told.push(Some(entry));
        }
    }
    // What others need comes first.
    let entries: Vec<ServiceEntry> = order(&places).into_iter().filter_map(|at| told[at].take()).collect();
    document(snapshot, entries, None)
}

/// Diagnoses the services that a request goes through, the one where it breaks first; those that are well are
/// left out.
pub fn diagnose_chain(snapshot: &Snapshot, services: &[Service], chain: &Chain) -> Diagnosis {
    let mut entries: Vec<ServiceEntry> = chain_cases(snapshot, services, chain)
        .iter()
        .map(|case| diagnose_case(snapshot, case).0)
        .filter(|entry| entry.standing().next().is_some() || is_unwell(entry))
        .collect();
    // Where nothing is known of why one does not run, the one that needs it says more.
    entries.sort_by_key(|entry| entry.standing().next().is_none());
    let mut links = chain.links.clone();
    // A daemon that listens may still be the one that fails.
    if !links.iter().any(|l| l.ok == Some(false) && l.hop != Hop::Name)
        && let Some(entry) = entries.first()
        && let Some(link) = links.iter_mut().rev().find(|l| {
            matches!(l.hop, Hop::Daemon | Hop::Listener) && l.service.as_ref() == Some(&entry.service)
        })
    {
        link.ok = Some(false);
        if let Some(cause) = entry.standing().next() {
            link.what = cause.title.clone();
        }
    }
    document(snapshot, entries, Some(links))
}

/// The services that a request goes through, with what it met there, the one furthest behind first.
pub fn chain_cases<'s>(snapshot: &Snapshot, services: &'s [Service], chain: &Chain) -> Vec<Case<'s>> {
    if chain.is_well() {
        return Vec::new();
    }
    let mut seen = BTreeSet::new();
    let mut ways: Vec<usize> = chain.through.iter().rev().copied().collect();
    ways.extend(chain.faults.iter().map(|(at, _)| *at));
    ways.retain(|at| seen.insert(*at));
    ways.into_iter()
        .map(|at| {
            let mut case = gather(snapshot, &services[at], Depth::Diagnosis);
            case.is_on_way = chain.routed.contains(&at);
            case.met =
                chain.faults.iter().filter(|(other, _)| *other == at).map(|(_, f)| f.clone()).collect();
            case
        })
        .collect()
}

fn document(snapshot: &Snapshot, entries: Vec<ServiceEntry>, chain: Option<Vec<Link>>) -> Diagnosis {
    let zone = crate::log::host_zone(snapshot);
    let clock = snapshot.clock().seen();
    Diagnosis {
        schema: schema("diagnosis"),
        host: clock
            .as_ref()
            .map(|c| c.host.clone())
            .or_else(|| snapshot.text("/etc/hostname").seen().map(|t| t.trim().to_owned())),
        observed_at: clock.map(|c| format_time(c.now, &zone)),
        services: entries,
        chain,
    }
}

impl ServiceEntry {
    /// Causes that stand now; what would only stop the next start is left out.
    pub fn standing(&self) -> impl Iterator<Item = &CauseEntry> {
        self.causes.iter().filter(|cause| cause.relation != Relation::Latent)
    }

    /// The first of the causes that would only stop the next start.
    pub fn latent(&self) -> Option<&CauseEntry> {
        self.causes.iter().find(|cause| cause.relation == Relation::Latent)
    }
}

/// Whether a service is wanted and not well.
pub fn is_unwell(entry: &ServiceEntry) -> bool {
    entry.wanted
        && (matches!(entry.state, State::Failed | State::Stopped | State::Degraded | State::Restarting)
            || entry.standing().next().is_some())
}

/// Diagnoses one gathered case; the causes come back in their full form, too.
pub fn diagnose_case(snapshot: &Snapshot, case: &Case) -> (ServiceEntry, Vec<Cause>) {
    let refused = snapshot.refusals();
    let findings = checks::run(snapshot, case);
    let hampered = snapshot.refusals() > refused;
    let up = matches!(case.state, State::Running);
    let (findings, off_way): (Vec<Finding>, Vec<Finding>) =
        findings.into_iter().partition(|f| !is_off_way(case, f));
    let (blocking, other): (Vec<Finding>, Vec<Finding>) = findings.into_iter().partition(|f| f.blocks);
    // What only happened says nothing of the next start.
    let happened = |f: &Finding| ails_the_run(f) || f.code.facts().is_past;
    let would_fail =
        blocking.iter().any(|f| matches!(f.proof, Proof::Inevitable | Proof::Now) && !happened(f));
    let boot_fails =
        blocking.iter().any(|f| f.proof == Proof::Inevitable && !happened(f) && !gone_at_boot(case, f));
    let blocking_proofs: Vec<Proof> = blocking.iter().filter(|f| !happened(f)).map(|f| f.proof).collect();
    let mut notes: Vec<NoteEntry> = other.into_iter().chain(off_way).map(note).collect();
    let mut latent = Vec::new();
    let causes = if up {
        let (now, later): (Vec<Finding>, Vec<Finding>) = blocking.into_iter().partition(ails_the_run);
        notes.extend(later.iter().cloned().map(latent_note));
        latent = rank(later);
        latent.iter_mut().for_each(|cause| cause.relation = Relation::Latent);
        rank(now)
    } else if case.state == State::Starting {
        Vec::new()
    } else {
        rank(blocking)
    };
    let masked = case.service.unit.as_ref().is_some_and(|u| u.masked);
    let enabled = case.service.boots().unwrap_or(true)
        || case.sockets.iter().any(|socket| socket.enabled)
        || case
            .manager
            .as_ref()
            .seen()
            .is_some_and(|m| m.unit_file_state.starts_with("enabled") || m.unit_file_state == "static");
    // What the last start failed of may well be so still, though nothing proves it.
    let doubtful = !up
        && blocking_proofs.iter().any(|proof| matches!(proof, Proof::Said | Proof::Echoed | Proof::Claimed));
    // Where a file that a start needs may not be looked at, nobody here can say that it would start.
    let judged = case.config.readable && !hampered && !doubtful;
    let outlook = |fails: bool, tried: bool| match (tried, fails, judged) {
        (false, ..) => Outlook::WouldNot,
        (_, true, _) => Outlook::WouldFail,
        (.., false) => Outlook::Unknown,
        _ => Outlook::WouldStart,
    };
    let time = |t: i64| format_time(t, &case.zone);
    let good = case.attempts.iter().find(|a| a.outcome == Outcome::Ready).and_then(|a| a.ready);
    let entry = ServiceEntry {
        service: case.service.name.clone(),
        kind: case.service.kind.name().into(),
        state: if up && !causes.is_empty() { State::Degraded } else { case.state },
        wanted: case.meant_to_run,
        since: case.since.map(time),
        restart_outlook: if masked { Outlook::WouldFail } else { outlook(would_fail, true) },
        boot_outlook: if masked {
            Outlook::WouldNot
        } else if case.service.unit.is_none() {
            Outlook::Unknown
        } else {
            outlook(boot_fails, enabled && case.service.unit.is_some())
        },
        context: Context {
            last_good_start: good.map(time),
            booted: snapshot.clock().seen().and_then(|c| c.booted).map(time),
            packages_changed: packages_changed(snapshot, case, good),
            clients: clients(snapshot, case),
            by_socket: case.waits_by().map(|socket| socket.name.clone()),
        },
        causes: causes.iter().chain(&latent).enumerate().map(|(at, c)| cause_entry(at + 1, c)).collect(),
        notes,
        changes: changes(snapshot, case, good),
        not_seen: snapshot.not_seen(),
    };
    (entry, causes)
}

/// Whether a finding is about what runs now; all others are about the next start.
fn ails_the_run(finding: &Finding) -> bool {
    if finding.stage == stage::REQUEST {
        return true;
    }
    match finding.code.facts().ails {
        Ails::Always => true,
        Ails::WhileItRuns => finding.stage == stage::RUN,
        Ails::Never => false,
    }
}

/// Whether a finding is about what other requests than the one that was followed are passed on to.
fn is_off_way(case: &Case, finding: &Finding) -> bool {
    case.is_on_way
        && finding.code == Code::DependencyDown
        && finding.stage != stage::REQUEST
        && !case.met.iter().any(|met| met.code == finding.code && met.subject.is_same(&finding.subject))
}

/// What stands in the way of the next start, whether the service runs now or not.
pub fn standing_causes(snapshot: &Snapshot, case: &Case) -> Vec<Cause> {
    rank(checks::run(snapshot, case).into_iter().filter(|f| f.blocks && !is_off_way(case, f)).collect())
}

/// What is only remarked on and has a fix that takes one of the values that a person gives.
pub fn wished_causes(snapshot: &Snapshot, case: &Case, wishes: &Wishes) -> Vec<Cause> {
    let takes = |id: &str| {
        Fix::of(id).is_some_and(|fix| fix.parameters.iter().any(|p| wishes.values.contains_key(*p)))
    };
    if !wishes.settings.is_empty() {
        let all: Vec<String> =
            wishes.settings.iter().map(|(name, value)| format!("{name} {value}")).collect();
        let wish = Finding {
            code: Code::ConfigWarning,
            severity: Severity::Hint,
            subject: Subject::path(&case.service.instance.config),
            title: format!("a change is wanted: {}", crate::secrets::mask_settings(&all.join(", "))),
            proof: Proof::Now,
            evidence: vec![],
            fixes: vec!["change-setting"],
            blocks: false,
            stage: stage::CONFIG,
        };
        return rank(vec![wish]);
    }
    let notes = checks::run(snapshot, case).into_iter().filter(|f| !f.blocks);
    rank(notes.filter(|f| f.fixes.iter().any(|id| takes(id))).collect())
}

/// A holder that does not come back at boot is no hindrance then.
fn gone_at_boot(case: &Case, finding: &Finding) -> bool {
    let Some(pid) = finding.subject.pid else { return false };
    case.wanted
        .iter()
        .flat_map(|w| &w.held_by)
        .any(|h| h.process.brief.pid == pid && h.returns == Returns::No)
}

fn clients(snapshot: &Snapshot, case: &Case) -> Option<u32> {
    let mut ports: Vec<u16> =
        case.wanted.iter().filter(|w| w.served).map(|w| w.listen.port).filter(|p| *p > 0).collect();
    ports.sort_unstable();
    ports.dedup();
    let mut sum = 0;
    for port in ports {
        sum = snapshot.clients(port).seen()?.saturating_add(sum);
    }
    Some(sum)
}

fn cause_entry(rank: usize, cause: &Cause) -> CauseEntry {
    CauseEntry {
        rank,
        code: cause.code,
        certainty: cause.certainty,
        relation: cause.relation,
        title: cause.title.clone(),
        subject: cause.subject.clone(),
        also: cause.also.clone(),
        evidence: cause.evidence.clone(),
        fixes: cause.fixes.iter().map(|f| (*f).to_owned()).collect(),
    }
}

fn note(finding: Finding) -> NoteEntry {
    NoteEntry {
        code: finding.code,
        severity: finding.severity,
        title: finding.title,
        subject: finding.subject,
        evidence: finding.evidence,
        fixes: finding.fixes.into_iter().map(str::to_owned).collect(),
    }
}

fn latent_note(finding: Finding) -> NoteEntry {
    let mut note = note(finding);
    note.title = format!("would not come back after a restart: {}", note.title);
    note.severity = Severity::Warning;
    note.code = Code::LatentFailure;
    note
}

/// Only of a service that is down: what the package manager did since its last good start, or in the last
/// days.
fn packages_changed(snapshot: &Snapshot, case: &Case, good: Option<i64>) -> Option<Vec<String>> {
    if case.state == State::Running {
        return None;
    }
    let since = good.or_else(|| case.now.map(|n| n - CHANGES * 1_000_000))?;
    crate::packages::changed(snapshot, since, &case.zone)
}

/// How far back changes are told where no good start is on record, in seconds.
const CHANGES: i64 = 7 * 86_400;

/// Files of the service that changed within the last days, newest first.
fn changes(snapshot: &Snapshot, case: &Case, good: Option<i64>) -> Vec<Changed> {
    let is_recent = |modified: i64| case.now.is_some_and(|now| now / 1_000_000 - modified < CHANGES);
    let unit = case.service.unit.iter().flat_map(|u| u.drop_ins.iter().chain(std::iter::once(&u.fragment)));
    let read: Vec<String> = case.config.model.reads.iter().map(|r| r.path.clone()).collect();
    let shared = ["/etc/passwd", "/etc/group", "/etc/hosts", "/etc/fstab"].map(str::to_owned);
    let files: BTreeSet<&String> = case
        .config
        .model
        .files
        .iter()
        .chain(unit)
        .chain(&read)
        .chain(shared.iter().filter(|_| good.is_some()))
        .collect();
    let entry = |file: &String| {
        let modified = snapshot.stat(file).seen()?.touched();
        let known = snapshot.is_same(file).map(|(same, origin)| (same, origin.to_owned()));
        let (same_as, differs_from) = match known {
            Some((true, origin)) => (Some(origin), None),
            Some((false, origin)) => (None, Some(origin)),
            None => (None, None),
        };
        // Content that is known to be another one counts, whatever its time says.
        (is_recent(modified) || differs_from.is_some()).then(|| {
            let since_last_good_start = good.map(|g| modified * 1_000_000 > g);
            (
                modified,
                Changed {
                    file: file.clone(),
                    modified: format_time(modified * 1_000_000, &case.zone),
                    since_last_good_start,
                    same_as,
                    differs_from,
                },
            )
        })
    };
    let mut found: Vec<(i64, Changed)> = files.into_iter().filter_map(entry).collect();
    found.sort_by(|(a, x), (b, y)| (b, &y.file).cmp(&(a, &x.file)));
    found.truncate(20);
    found.into_iter().map(|(_, changed)| changed).collect()
}
