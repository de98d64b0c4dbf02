//! `verify`: has it really recovered?
use super::asking::{self, Complaint};
use super::check::{CheckEntry, CheckOutcome, check};
use super::schema;
use crate::case::{Case, Depth, State, gather};
use crate::chain::{Hop, Link};
use crate::code::Code;
use crate::host::Protocol;
use crate::log::{Afterwards, Attempt, Outcome};
use crate::net::endpoint;
use crate::not_seen::NotSeen;
use crate::service::Service;
use crate::snapshot::Snapshot;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// The verdict on a recovery.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Recovery {
    /// Every check passed.
    Recovered,
    /// It does not run, or does not hold its ports.
    NotRecovered,
    /// It runs, but something is still missing, or could not be looked at.
    Partly,
}

/// The document `verify`.
#[derive(Clone, Debug, Serialize, Deserialize, JsonSchema)]
pub struct VerifyReport {
    /// Form.
    pub schema: String,
    /// Service.
    pub service: String,
    /// State.
    pub state: State,
    /// Verdict.
    pub verdict: Recovery,
    /// Checks, in the order in which they matter.
    pub checks: Vec<CheckEntry>,
    /// What could not be seen.
    pub not_seen: Vec<NotSeen>,
    /// Main process, to see whether it stays the same.
    pub main_pid: Option<u32>,
    /// Whether one of its last starts or runs ended badly: only then there is something to recover from.
    #[serde(skip)]
    pub ended_badly: bool,
}

impl VerifyReport {
    /// Adds how the way to the page stands that was asked for.
    pub fn add_way(&mut self, links: &[Link]) {
        let broken = links.iter().find(|l| l.ok == Some(false) && l.hop != Hop::Name);
        let entry = match broken {
            Some(link) => {
                let detail = format!("breaks at the {}, {}", link.hop.word(), link.what);
                check("way", CheckOutcome::Fail, detail)
            }
            None => check("way", CheckOutcome::Pass, "no hop is seen to be broken"),
        };
        let at = self.checks.iter().position(|c| c.name == "page").map_or(self.checks.len(), |at| at + 1);
        self.checks.insert(at, entry);
    }

    /// Whether nothing failed, and yet too little could be seen for a verdict.
    pub fn is_unseen(&self) -> bool {
        self.verdict != Recovery::Recovered
            && self.state != State::Starting
            && !self.checks.iter().any(|c| c.outcome == CheckOutcome::Fail)
    }
}

/// One look. `before` is the main process of an earlier look, to see whether it stayed up.
pub fn verify(snapshot: &Snapshot, service: &Service, page: &Complaint, before: Option<u32>) -> VerifyReport {
    let case = gather(snapshot, service, Depth::Diagnosis);
    let mut checks = vec![process(snapshot, &case)];
    checks.extend(account(snapshot, &case));
    let main = case.processes.first().map(|p| p.brief.pid);
    if let Some(before) = before {
        checks.push(match main {
            Some(now) if now == before => check("stable", CheckOutcome::Pass, format!("still pid {now}")),
            Some(now) => check(
                "stable",
                CheckOutcome::Fail,
                format!("pid {before} became pid {now}: it was started again meanwhile"),
            ),
            None => check("stable", CheckOutcome::Fail, format!("process {before} has ended again")),
        });
    }
    checks.extend(ports(&case));
    checks.extend(let_go(snapshot, &case));
    let asked = asking::listeners(snapshot, &case);
    let mute = asked.iter().any(|a| a.mute);
    let starting = asked.iter().any(|a| a.starting);
    checks.extend(asked.into_iter().map(|a| a.entry));
    checks.extend(asking::page(snapshot, &case, page));
    checks.push(log(snapshot, &case));
    checks.extend(boot(&case));
    let failed = |names: &[&str]| {
        checks.iter().any(|c| c.outcome == CheckOutcome::Fail && names.contains(&c.name.as_str()))
    };
    let verdict = if mute || failed(&["process", "stable", "ports"]) {
        Recovery::NotRecovered
    } else if starting
        || checks.iter().any(|c| c.outcome == CheckOutcome::Fail)
        || checks
            .iter()
            .any(|c| c.outcome == CheckOutcome::Skip && matches!(c.name.as_str(), "process" | "ports"))
    {
        Recovery::Partly
    } else {
        Recovery::Recovered
    };
    let ended_badly = case.attempts.iter().any(badly);
    VerifyReport {
        schema: schema("verify"),
        service: service.name.clone(),
        // What fails its checks while it runs is no better off than a diagnosis calls it.
        state: match case.state {
            State::Running if starting => State::Starting,
            State::Running if checks.iter().any(|c| c.outcome == CheckOutcome::Fail) => State::Degraded,
            state => state,
        },
        verdict,
        checks,
        not_seen: snapshot.not_seen(),
        main_pid: main,
        ended_badly,
    }
}

/// Whether a start failed, or its run did not end as somebody wanted it.
fn badly(attempt: &Attempt) -> bool {
    matches!(attempt.outcome, Outcome::Failed | Outcome::Killed | Outcome::Refused)
        || matches!(attempt.afterwards, Some(Afterwards::Killed | Afterwards::Crashed))
}

fn process(snapshot: &Snapshot, case: &Case) -> CheckEntry {
    if !snapshot.host().parts().processes {
        return check("process", CheckOutcome::Skip, "a directory tree has no processes");
    }
    let frozen = case.manager.as_ref().seen().is_some_and(|m| {
        m.more.get("FreezerState").is_some_and(|f| f.starts_with("frozen") || f == "freezing")
    });
    match (case.processes.first(), case.state) {
        (Some(main), _) if matches!(main.brief.state, 'T' | 't') || frozen => check(
            "process",
            CheckOutcome::Fail,
            format!("{} (pid {}) is halted and answers nothing", main.brief.name, main.brief.pid),
        ),
        (Some(main), state) if state.is_up() => {
            check("process", CheckOutcome::Pass, format!("{} runs, pid {}", main.brief.name, main.brief.pid))
        }
        (_, State::Starting | State::Restarting) => {
            check("process", CheckOutcome::Fail, "it is still starting")
        }
        (Some(main), state) => check(
            "process",
            CheckOutcome::Fail,
            format!("pid {} is there, but the service is {}", main.brief.pid, state.word()),
        ),
        (None, _) if !snapshot.sees_processes() => {
            check("process", CheckOutcome::Skip, "processes of other accounts cannot be seen")
        }
        (None, state) if state.is_up() && case.waits_by().is_some() => {
            let socket = case.waits_by().map_or("", |socket| socket.name.as_str());
            check("process", CheckOutcome::Pass, format!("{socket} starts it at its first client"))
        }
        (None, _) => check("process", CheckOutcome::Fail, "no process of it runs"),
    }
}

fn account(snapshot: &Snapshot, case: &Case) -> Option<CheckEntry> {
    let main = case.processes.first()?;
    let wanted = case
        .service
        .unit
        .as_ref()
        .and_then(|u| u.value("Service", "User"))
        .or_else(|| case.service.described.account.clone());
    let workers = case.config.model.account.as_ref().map(|(a, _)| a.clone());
    let name = |uid| crate::accounts::user_name(snapshot, uid);
    if let Some(wanted) = wanted {
        let actual = name(main.brief.uid);
        let outcome = if actual == wanted { CheckOutcome::Pass } else { CheckOutcome::Fail };
        return Some(check("account", outcome, format!("runs as {actual}, should run as {wanted}")));
    }
    let workers = workers?;
    let own: Vec<String> = case.processes.iter().skip(1).map(|p| name(p.brief.uid)).collect();
    if main.brief.uid != 0 || own.is_empty() {
        return None;
    }
    let right = own.contains(&workers);
    let outcome = if right { CheckOutcome::Pass } else { CheckOutcome::Fail };
    Some(check(
        "account",
        outcome,
        if right { format!("workers run as {workers}") } else { format!("no worker runs as {workers}") },
    ))
}

fn ports(case: &Case) -> Vec<CheckEntry> {
    let wanted: Vec<_> = case.wanted.iter().filter(|w| w.bound).collect();
    let missing: Vec<String> = wanted.iter().filter(|w| !w.served).map(|w| w.listen.to_string()).collect();
    let held: Vec<String> = wanted.iter().filter(|w| w.served).map(|w| w.listen.to_string()).collect();
    // What is not there at all is missing; what has a holder out of sight may be its.
    let hidden: Vec<String> =
        wanted.iter().filter(|w| !w.served && w.unseen).map(|w| w.listen.to_string()).collect();
    match (wanted.is_empty(), missing.is_empty()) {
        (true, _) => vec![],
        _ if !hidden.is_empty() && hidden.len() == missing.len() => {
            vec![check(
                "ports",
                CheckOutcome::Skip,
                format!("who holds {} cannot be seen", hidden.join(", ")),
            )]
        }
        (_, true) => vec![check("ports", CheckOutcome::Pass, format!("holds {}", held.join(", ")))],
        _ => vec![check("ports", CheckOutcome::Fail, format!("does not hold {}", missing.join(", ")))],
    }
}

/// A port that its configuration no longer asks for must be let go. Judged for daemons that open no listeners
/// but those.
fn let_go(snapshot: &Snapshot, case: &Case) -> Option<CheckEntry> {
    if !case.service.kind.profile().listens_as_configured
        || !case.config.readable
        || case.config.first_error().is_some()
        || case.processes.is_empty()
    {
        return None;
    }
    let sockets = snapshot.listeners().seen()?;
    let extra: Vec<_> = sockets
        .iter()
        .filter(|s| {
            s.protocol == Protocol::Tcp
                && s.address.is_some()
                && !case.wanted.iter().any(|w| w.listen.conflicts_with(s))
        })
        .collect();
    let inodes: Vec<u64> = extra.iter().map(|s| s.inode).collect();
    let owners = if inodes.is_empty() { Vec::new() } else { snapshot.owners(&inodes).seen()? };
    let ours = |inode: u64| {
        owners.iter().any(|(i, pid)| *i == inode && case.processes.iter().any(|p| p.brief.pid == *pid))
    };
    let kept: Vec<String> =
        extra.iter().filter(|s| ours(s.inode)).filter_map(|s| Some(endpoint(s.address?, s.port))).collect();
    Some(if kept.is_empty() {
        check("let-go", CheckOutcome::Pass, "holds no port beyond those")
    } else {
        check(
            "let-go",
            CheckOutcome::Fail,
            format!(
                "still holds {}, which its configuration does not ask for: it needs a restart",
                kept.join(", ")
            ),
        )
    })
}

fn log(snapshot: &Snapshot, case: &Case) -> CheckEntry {
    // What was said of earlier starts says nothing of a host whose a directory tree has no processes.
    if !snapshot.host().parts().processes {
        return check("log", CheckOutcome::Skip, "a directory tree does not tell whether it runs now");
    }
    // What it said of a start before its socket unit listened says nothing of the next one.
    if case.waits_by().is_some() {
        return check("log", CheckOutcome::Skip, "it starts at its first client");
    }
    let Some(last) = case.attempts.first() else {
        let denied = snapshot.misses_a_journal() || snapshot.not_seen().iter().any(NotSeen::is_denied);
        return check(
            "log",
            CheckOutcome::Skip,
            if denied { "its starts could not be seen" } else { "no start is on record" },
        );
    };
    let failure = last.failures.iter().find(|f| !f.found.aftermath && f.code != Code::Unknown);
    match (last.outcome, failure) {
        (Outcome::Ready, None) => {
            check("log", CheckOutcome::Pass, "ready since this start, without complaint")
        }
        (Outcome::Ready, Some(f)) => check(
            "log",
            CheckOutcome::Fail,
            format!(
                "it runs, but the log says: {}",
                crate::bounds::clip(&crate::secrets::mask_text(&f.text))
            ),
        ),
        (_, Some(f)) => {
            check("log", CheckOutcome::Fail, crate::bounds::clip(&crate::secrets::mask_text(&f.text)))
        }
        // A copy that somebody else started leaves no record of its own.
        (outcome, None) if case.processes.is_empty() => {
            let end = match outcome {
                Outcome::Ready => "came to an end later",
                Outcome::Failed => "failed",
                Outcome::Killed => "was killed",
                Outcome::Stopped => "was stopped before it was ready",
                Outcome::Refused => "was refused by the manager",
                Outcome::Starting => "is not over",
                Outcome::Unknown => "has no known end",
            };
            check("log", CheckOutcome::Fail, format!("the last start on record {end}"))
        }
        _ => check("log", CheckOutcome::Skip, "the log does not tell of this start"),
    }
}

fn boot(case: &Case) -> Option<CheckEntry> {
    let boots = case.service.boots()?;
    let state = case.manager.as_ref().seen().map(|s| s.unit_file_state.clone()).unwrap_or_default();
    let enabled = boots || state.starts_with("enabled") || matches!(state.as_str(), "static" | "generated");
    let outcome = if enabled { CheckOutcome::Pass } else { CheckOutcome::Skip };
    Some(check("boot", outcome, if enabled { "is started at boot" } else { "is not started at boot" }))
}
