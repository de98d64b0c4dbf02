//! What the last start attempt said, compared with what is true now.
use crate::case::{Case, State, Wanted};
use crate::code::{Code, Still};
use crate::config::{Place, Severity};
use crate::finding::{Evidence, Finding, Proof, Source, Subject};
use crate::log::{Attempt, Failure, Outcome};
use crate::snapshot::Snapshot;

pub(super) fn check(snapshot: &Snapshot, case: &Case) -> Vec<Finding> {
    if matches!(case.state, State::Running | State::Starting) {
        return vec![];
    }
    let mut found: Vec<Finding> = Vec::new();
    let telling = case.telling();
    for attempt in &telling {
        for failure in attempt.failures.iter().filter(|f| !f.found.aftermath) {
            found.push(of_failure(snapshot, case, failure));
        }
        if let Some(kill) = memory_kill(snapshot, case, attempt) {
            found.push(kill);
        } else if let Some(refused) = refused_call(case, attempt) {
            found.retain(|f| f.code != Code::Crashed);
            found.push(refused);
        } else if let Some(crash) = crashed_run(case, attempt) {
            found.push(crash);
        }
    }
    // The manager's refusal to try once more is not what the start before it said.
    let failed = telling.iter().find(|a| a.outcome == Outcome::Failed);
    if let Some(failed) = failed.filter(|_| found.iter().all(|f| f.code == Code::ManagerGaveUp)) {
        found.push(nothing_known(case, failed));
    }
    found
}

/// What was said against the last reload of a service that runs, unless its configuration changed since: it
/// goes on with what it had, and its next start would be refused, too.
pub(super) fn refused_reload(snapshot: &Snapshot, case: &Case) -> Option<Finding> {
    let run = case.attempts.iter().find(|a| a.goes_on())?;
    let failure = run.refused.first()?;
    let since = failure.time?.div_euclid(1_000_000);
    let changed = |f: &String| snapshot.stat(f).seen().is_none_or(|s| s.touched() > since + 1);
    if case.state != State::Running || case.config.model.files.iter().any(changed) {
        return None;
    }
    let mut one = of_failure(snapshot, case, failure);
    one.title = format!("the last reload was refused: {}", one.title);
    Some(one)
}

fn evidence(case: &Case, failure: &Failure) -> Evidence {
    Evidence {
        source: if failure.code == Code::ManagerGaveUp { Source::Manager } else { Source::Log },
        detail: crate::bounds::clip(&crate::secrets::mask_text(&failure.text)),
        file: Some(failure.file.clone()),
        line: failure.line,
        pid: None,
        time: None,
    }
    .time(failure.time, &case.zone)
}

fn of_failure(snapshot: &Snapshot, case: &Case, failure: &Failure) -> Finding {
    let object = |name: &str| failure.found.object(name);
    let address = object("address")
        .map(|a| a.trim_matches(['[', ']']))
        .and_then(|a| if a == "*" { "0.0.0.0".parse().ok() } else { a.parse().ok() });
    let port = object("port").and_then(|p| p.parse().ok());
    let mut subject = Subject {
        address,
        port,
        pid: object("pid").and_then(|p| p.parse().ok()),
        path: case.path_of(failure),
        account: object("account").map(str::to_owned),
        directive: object("directive").map(str::to_owned),
        file: object("file").map(str::to_owned),
        line: object("line").and_then(|l| l.parse().ok()),
        host: object("host").map(str::to_owned),
        unit: (failure.code == Code::ManagerGaveUp)
            .then(|| case.service.unit_name().unwrap_or_default().to_owned()),
        ..Subject::default()
    };
    // A line number without a file means the only file there is.
    if let (Some(_), None, [only]) = (subject.line, &subject.file, case.config.model.files.as_slice()) {
        subject.file = Some(only.clone());
    }
    let still = still_true(snapshot, case, failure, &subject);
    let title = match failure.code {
        Code::ManagerGaveUp => {
            format!("the service manager gave up on {} after too many failures", case.service.name)
        }
        Code::Crashed => format!("{} died of signal {}", case.service.name, object("signal").unwrap_or("?")),
        Code::StartTimeout => format!("{} did not become ready in time", case.service.name),
        Code::Unknown => {
            format!(
                "the log of the last start tells of a failure that no rule explains: {}",
                crate::bounds::clip(&crate::secrets::mask_text(&failure.text))
            )
        }
        code => {
            let mut about = subject.spelled();
            if let (Some(file), Some(line)) = (&subject.file, subject.line) {
                let place = format!("{file}:{line}");
                about = if about.is_empty() { place } else { format!("{about} at {place}") };
            }
            let words = || crate::bounds::clip(&crate::secrets::mask_text(&failure.text));
            match code {
                // What was refused is not always a path.
                Code::PermissionDenied if about.is_empty() => {
                    format!("the system refused something to its account: {}", words())
                }
                _ if about.is_empty() => format!("{}: {}", code.facts().title, words()),
                _ => format!("{}: {about}", code.facts().title),
            }
        }
    };
    let fixes = match failure.code {
        Code::ManagerGaveUp => vec!["reset-and-start"],
        Code::Crashed => vec!["start"],
        Code::StartTimeout => vec!["extend-timeout"],
        _ => vec![],
    };
    Finding {
        code: failure.code,
        severity: Severity::Error,
        title,
        proof: match still {
            Some(false) => Proof::Past,
            _ if !failure.trusted && !confirmed(snapshot, case, &subject) => {
                // Of a program that nobody knows, nothing that was read could speak against its word.
                let echoed = case.is_of_no_kind()
                    || subject.path.as_deref().is_some_and(|p| case.spells(snapshot, p, true));
                if echoed { Proof::Echoed } else { Proof::Claimed }
            }
            Some(true) => Proof::Now,
            None => Proof::Said,
        },
        evidence: vec![evidence(case, failure)],
        fixes,
        blocks: true,
        stage: failure.code.facts().stage,
        subject,
    }
}

/// Whether everything that a line names is named elsewhere, too: by the configuration, the unit, the package,
/// or the kernel's tables of this service's own processes and of who holds its addresses.
fn confirmed(snapshot: &Snapshot, case: &Case, subject: &Subject) -> bool {
    let model = &case.config.model;
    let holders = || case.wanted.iter().flat_map(|w| &w.held_by).map(|h| &h.process);
    let port = subject.port.is_none_or(|port| case.wanted.iter().any(|w| w.listen.port == port));
    // An address that nobody here has is the service's where it is known to ask for it.
    let address = subject.port.is_some()
        || subject.address.is_none_or(|address| {
            case.wanted.iter().chain(&case.guessed).any(|w| w.listen.address == Some(address))
        });
    let pid = subject.pid.is_none_or(|pid| {
        case.processes.iter().chain(&case.strays).chain(holders()).any(|p| p.brief.pid == pid)
    });
    let path = subject.path.as_deref().is_none_or(|path| {
        !path.starts_with('/') || case.names(snapshot, path) || case.spells(snapshot, path, false)
    });
    let account = subject.account.as_deref().is_none_or(|name| {
        let unit =
            ["User", "Group"].into_iter().filter_map(|key| case.service.unit.as_ref()?.value("Service", key));
        let own = model
            .account
            .iter()
            .map(|(a, _)| a.clone())
            .chain(model.group.clone())
            .chain(case.service.described.account.clone());
        unit.chain(own).chain([case.starter.name.clone()]).any(|a| a == name)
    });
    // A place in the configuration is confirmed by what stands there: in a file that is named as the
    // service's own, or that root alone can write. What not everybody may read must not show by how sure we
    // are.
    let place = subject.file.as_deref().is_none_or(|file| {
        let open = || snapshot.stat(file).seen().is_some_and(|s| s.mode & 0o004 != 0);
        let of_root = || case.is_roots_word(snapshot, Some(&Place::line(file, 1))) && open();
        let own = case.names(snapshot, file) || (case.is_of_no_kind() && of_root());
        if !own {
            return false;
        }
        let (Some(line), Some(directive)) = (subject.line, subject.directive.as_deref()) else { return true };
        let text = snapshot.text(file).seen().unwrap_or_default();
        let at = usize::try_from(line).unwrap_or(usize::MAX).saturating_sub(1);
        // The place is that of the end of a statement, which may begin some lines higher.
        text.lines()
            .skip(at.saturating_sub(20))
            .take(21.min(at + 1))
            .any(|l| l.to_ascii_lowercase().contains(&directive.to_ascii_lowercase()))
    });
    port && address && pid && path && account && place
}

/// Whether what the line says is still so; `None` where nothing on the host tells.
fn still_true(snapshot: &Snapshot, case: &Case, failure: &Failure, subject: &Subject) -> Option<bool> {
    match failure.code.facts().still {
        Still::Untold => None,
        Still::Holder => {
            if let Some(port) = subject.port {
                let all = [&case.wanted, &case.guessed, &case.recalled, &case.told].into_iter().flatten();
                let held = |w: &Wanted| !(w.held_by.is_empty() && w.held_unseen.is_empty());
                return Some(all.filter(|w| w.listen.port == port).any(held));
            }
            subject.pid.map(|pid| snapshot.process(pid).seen().is_some())
        }
        // The time that it is given is the same as then, unless somebody changed the unit.
        Still::Unit => Some(case.unit_changed(snapshot)? <= failure.time?.div_euclid(1_000_000)),
        Still::Outcome => Some(matches!(case.state, State::Failed | State::Stopped)),
        Still::Path => subject.path.as_deref().and_then(|p| snapshot.exists(p)).map(|there| !there),
        Still::Address => {
            let own = snapshot.addresses().seen()?;
            subject.address.map(|a| !own.contains(&a))
        }
        Still::Account => {
            let name = subject.account.as_deref()?;
            // A line does not always tell whether an account is meant or a group.
            let (account, group) = (
                crate::accounts::account(snapshot, name).is_absent(),
                crate::accounts::group(snapshot, name).is_absent(),
            );
            (account == group).then_some(account)
        }
        Still::Reading if case.service.kind.name() == "program" || !case.config.readable => None,
        Still::Reading => still_refused(snapshot, case, failure, subject),
    }
}

/// Our own reading decides, but only where it finds fault: silence may be our own gap unless a file changed.
fn still_refused(snapshot: &Snapshot, case: &Case, failure: &Failure, subject: &Subject) -> Option<bool> {
    let refused = case.config.first_error().is_some();
    let said = failure.time.or_else(|| case.attempts.first().map(|a| a.began))?;
    // Times of files are known to the second: one of the same second may be from before or from after. A file
    // that was renamed or given away since may hold the same as before, or a backup.
    let all: Vec<_> = case.config.model.files.iter().filter_map(|f| snapshot.stat(f).seen()).collect();
    let (newest, touched) =
        (all.iter().map(|s| s.modified).max()?, all.iter().map(crate::host::FileStatus::touched).max()?);
    let second = said.div_euclid(1_000_000);
    match (refused, newest > second) {
        (true, _) => Some(true),
        (false, true) => Some(false),
        (false, false) if touched >= second => None,
        // The daemon named the place, and nothing that it read has changed since: it would say so again.
        (false, false) => (subject.line.is_some() || subject.directive.is_some()).then_some(true),
    }
}

fn crashed_run(case: &Case, attempt: &Attempt) -> Option<Finding> {
    let down = matches!(case.state, State::Failed | State::Stopped | State::Restarting);
    let crashed = attempt.outcome == Outcome::Ready
        && matches!(
            attempt.afterwards,
            Some(crate::log::Afterwards::Crashed | crate::log::Afterwards::Killed)
        );
    if !down || !crashed || (attempt.exit.is_empty() && attempt.result.is_empty()) {
        return None;
    }
    let signal = attempt.exit.starts_with("killed") || attempt.exit.starts_with("dumped");
    let how = if attempt.exit.is_empty() {
        attempt.result.clone()
    } else {
        crate::manager::exit_words(&attempt.exit)
    };
    Some(Finding {
        code: if signal { Code::Crashed } else { Code::Unknown },
        severity: Severity::Error,
        subject: Subject::unit(case.service.unit_name().unwrap_or_default()),
        title: if signal {
            format!("{} ran and was ended by a signal ({how})", case.service.name)
        } else {
            format!("{} ran and ended by itself ({how})", case.service.name)
        },
        // The manager saw it in this run, and it is still down.
        proof: if signal { Proof::Inevitable } else { Proof::Now },
        evidence: vec![
            Evidence::new(Source::Manager, format!("its main process ended: {how}"))
                .file("journal")
                .time(attempt.ended, &case.zone),
        ],
        fixes: vec!["start"],
        blocks: true,
        stage: crate::finding::stage::RUN,
    })
}

/// Ended by the signal that the kernel sends for a system call that a filter does not allow, under a unit
/// that has such a filter. One that answers with an error number ends nothing.
fn refused_call(case: &Case, attempt: &Attempt) -> Option<Finding> {
    let by_filter = attempt.exit.rsplit('/').next().is_some_and(|signal| matches!(signal, "SYS" | "31"));
    let unit = case.service.unit.as_ref().filter(|_| by_filter && !attempt.exit.starts_with("exited"))?;
    let key = ["SystemCallFilter", "SystemCallArchitectures"]
        .into_iter()
        .find(|key| unit.value("Service", key).is_some_and(|v| !v.is_empty()))?;
    let value = unit.value("Service", key).unwrap_or_default();
    let mut setting = Evidence::new(Source::Manager, format!("{key}={value} in {}", unit.name));
    if let Some((file, line)) = unit.place("Service", key) {
        (setting.file, setting.line) = (Some(file), Some(line));
    }
    let ended = Evidence::new(Source::Manager, "its main process ended: signal SYS").file("journal");
    Some(Finding {
        code: Code::PolicyDenied,
        severity: Severity::Error,
        subject: Subject { directive: Some(key.into()), ..Subject::unit(&unit.name) },
        title: format!("{key}= of {} does not allow a system call that it made", unit.name),
        proof: Proof::Now,
        evidence: vec![setting, ended.time(attempt.ended, &case.zone)],
        fixes: vec![],
        blocks: true,
        stage: crate::finding::stage::EXECUTE,
    })
}

/// Killed by the kernel because memory ran out, in its start or later.
fn memory_kill(snapshot: &Snapshot, case: &Case, attempt: &Attempt) -> Option<Finding> {
    let killed =
        attempt.exit.starts_with("killed") || matches!(attempt.result.as_str(), "signal" | "oom-kill");
    let ended = attempt.ended.filter(|_| killed && case.processes.is_empty())?;
    let evidence =
        super::resources::killed_for_memory(snapshot, case, attempt.began, ended, &attempt.result)?;
    Some(Finding {
        code: Code::MemoryShort,
        severity: Severity::Error,
        subject: Subject::unit(case.service.unit_name().unwrap_or_default()),
        title: format!("{} was killed because memory ran out", case.service.name),
        proof: Proof::Inevitable,
        evidence: vec![evidence],
        fixes: vec!["start"],
        blocks: true,
        stage: crate::finding::stage::RUN,
    })
}

fn nothing_known(case: &Case, attempt: &Attempt) -> Finding {
    let how = match (attempt.exit.as_str(), attempt.result.as_str()) {
        ("", "") => "it ended by itself".to_owned(),
        ("", result) => result.to_owned(),
        (exit, _) => crate::manager::exit_words(exit),
    };
    let ended = Evidence::new(Source::Manager, how.clone()).file("journal").time(attempt.ended, &case.zone);
    let said = attempt.last_words.as_ref().map(|words| evidence(case, words));
    Finding {
        code: Code::Unknown,
        severity: Severity::Error,
        subject: Subject::unit(case.service.unit_name().unwrap_or_default()),
        title: match &said {
            Some(said) => format!("the last start failed: {how}; its last words were: {}", said.detail),
            None => format!("the last start failed, and left no line that tells why: {how}"),
        },
        proof: Proof::Said,
        evidence: said.into_iter().chain([ended]).collect(),
        fixes: vec![],
        blocks: true,
        stage: crate::finding::stage::OUTCOME,
    }
}
