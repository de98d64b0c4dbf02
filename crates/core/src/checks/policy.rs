//! Refusals by a mandatory access policy, from the records that such policies leave: the audit log and the
//! kernel's messages.
use crate::case::Case;
use crate::code::Code;
use crate::config::Severity;
use crate::finding::{Evidence, Finding, Proof, Source, Subject, stage};
use crate::host::Look;
use crate::log::Tail;
use crate::snapshot::Snapshot;

/// Where refusals are written, the most direct one first.
const FILES: &[&str] = &[AUDIT, "/var/log/kern.log"];
/// The kernel's record, written by a daemon that takes nothing from others; what a receiver of messages
/// writes anybody may have sent.
const AUDIT: &str = "/var/log/audit/audit.log";
/// How much of such a file is read from its end, in bytes.
const BUDGET: u64 = 4 << 20;

pub(super) fn check(snapshot: &Snapshot, case: &Case) -> Vec<Finding> {
    if !case.processes.is_empty() {
        return vec![];
    }
    let Some(last) = case.attempts.first() else { return vec![] };
    let (from, to) = (last.began - 2_000_000, last.ended.unwrap_or(i64::MAX - 5_000_000) + 5_000_000);
    let mut found: Vec<Finding> = Vec::new();
    let mut accounts = None;
    for (refusal, evidence) in records(snapshot) {
        if refusal.time < from || refusal.time > to || !case.service.has_name(&refusal.program) {
            continue;
        }
        // Anybody can give a process that name, or run that program: what it ran as must be the service's.
        let accounts = accounts.get_or_insert_with(|| case.accounts(snapshot));
        if refusal.by_person || refusal.uid.is_some_and(|uid| uid != 0 && !accounts.contains(&uid)) {
            continue;
        }
        let one = finding(case, &refusal, evidence);
        if found.iter().all(|f| f.subject != one.subject) {
            found.push(one);
        }
    }
    found.reverse();
    found
}

/// One refusal.
#[derive(Debug, PartialEq, Eq)]
struct Refusal {
    /// Microseconds since the epoch.
    time: i64,
    /// Name of the process, cut to 15 bytes.
    program: String,
    /// What it wanted: `open`, `name_bind`, …
    wanted: String,
    /// Path, where there is one.
    path: Option<String>,
    /// Port, where there is one.
    port: Option<u16>,
    /// The profile or the label that refuses.
    by: String,
    /// The account that it opened a file as, where that is told.
    uid: Option<u32>,
    /// Whether its label is that of somebody who is logged in, and not of a service.
    by_person: bool,
    /// Whether it stands where anybody can have a line written.
    told_by_anybody: bool,
}

/// All refusals, newest first, each with the record it was read from.
fn records(snapshot: &Snapshot) -> Vec<(Refusal, Evidence)> {
    let mut all = Vec::new();
    for file in FILES {
        let Look::Seen(status) = snapshot.stat(file) else { continue };
        for line in Tail::new(snapshot, file, status.size, BUDGET) {
            if let Some(mut refusal) = parse(&line.text, None) {
                refusal.told_by_anybody = *file != AUDIT;
                all.push((refusal, Evidence::new(Source::Log, line.text).file(file)));
            }
        }
    }
    for entry in snapshot.journal_of("_TRANSPORT=kernel", 400).seen().unwrap_or_default() {
        if let Some(refusal) = parse(&entry.message, i64::try_from(entry.time).ok()) {
            all.push((refusal, Evidence::new(Source::Log, entry.message).file("journal")));
        }
    }
    all
}

/// Reads one record: `type=AVC msg=audit(SECONDS.MILLIS:SERIAL): avc:  denied  { … } …` or `…
/// apparmor="DENIED" …`.
fn parse(line: &str, received: Option<i64>) -> Option<Refusal> {
    let labelled = line.contains("avc:") && line.contains("denied");
    let profiled = line.contains("apparmor=\"DENIED\"");
    if !labelled && !profiled {
        return None;
    }
    let stamp =
        line.split_once("audit(").and_then(|(_, rest)| rest.split_once(':')).and_then(|(seconds, _)| {
            let (whole, rest) = seconds.split_once('.').unwrap_or((seconds, "0"));
            let millis: i64 = rest.parse().ok()?;
            whole.parse::<i64>().ok()?.checked_mul(1_000_000)?.checked_add(millis.checked_mul(1000)?)
        });
    let time = stamp.or(received)?;
    let word = |key: &str| -> Option<String> {
        let at = line.find(&format!(" {key}="))? + key.len() + 2;
        let rest = &line[at..];
        match rest.strip_prefix('"') {
            Some(quoted) => Some(quoted.split('"').next()?.to_owned()),
            None => Some(rest.split_whitespace().next()?.to_owned()),
        }
    };
    let path = word("name")
        .or_else(|| word("path"))
        .filter(|p| p.starts_with('/'))
        .or_else(|| word("path").filter(|p| p.starts_with('/')));
    let wanted = if labelled {
        line.split_once('{').and_then(|(_, rest)| rest.split_once('}')).map(|(w, _)| w.trim().to_owned())
    } else {
        word("operation")
    };
    Some(Refusal {
        time,
        program: word("comm")?,
        wanted: wanted.unwrap_or_default(),
        path,
        port: word("src").and_then(|p| p.parse().ok()),
        uid: word("fsuid").and_then(|u| u.parse().ok()),
        by_person: word("scontext")
            .is_some_and(|c| c.split(':').nth(1).is_some_and(|role| role != "system_r")),
        told_by_anybody: false,
        by: if labelled { word("tcontext").unwrap_or_default() } else { word("profile").unwrap_or_default() },
    })
}

fn finding(case: &Case, refusal: &Refusal, evidence: Evidence) -> Finding {
    let subject = match (&refusal.path, refusal.port) {
        (Some(path), _) => Subject::path(path),
        (None, Some(port)) => Subject { port: Some(port), ..Subject::default() },
        _ => Subject::default(),
    };
    let on = if subject.spelled().is_empty() { String::new() } else { format!(" on {}", subject.spelled()) };
    Finding {
        code: Code::PolicyDenied,
        severity: Severity::Error,
        subject,
        title: format!(
            "the access policy refuses {} \"{}\"{on} ({})",
            case.service.name, refusal.wanted, refusal.by
        ),
        proof: if refusal.told_by_anybody { Proof::Claimed } else { Proof::Now },
        evidence: vec![evidence.time(Some(refusal.time), &case.zone)],
        fixes: vec![],
        blocks: true,
        stage: stage::FILES,
    }
}

#[cfg(test)]
mod tests {
    use super::parse;

    #[test]
    fn records_of_both_sorts_of_policy() {
        let label = concat!(
            "type=AVC msg=audit(1932876511.250:812): avc:  denied  { name_bind } for  ",
            r#"pid=4711 comm="httpd" src=8081 "#,
            "scontext=system_u:system_r:httpd_t:s0 tcontext=system_u:object_r:tide_port_t:s0 ",
            "tclass=tcp_socket permissive=0"
        );
        let refusal = parse(label, None).unwrap();
        assert_eq!(
            (refusal.time, refusal.program.as_str(), refusal.wanted.as_str(), refusal.port),
            (1_932_876_511_250_000, "httpd", "name_bind", Some(8081))
        );
        let profile = concat!(
            r#"[12.5] audit: type=1400 audit(1932876511.250:9): apparmor="DENIED" operation="open" "#,
            r#"profile="/usr/sbin/mariadbd" name="/srv/tide/ibdata1" pid=812 comm="mariadbd" "#,
            r#"requested_mask="rw" denied_mask="rw" fsuid=71 ouid=71"#
        );
        let refusal = parse(profile, None).unwrap();
        assert_eq!(
            (refusal.path.as_deref(), refusal.by.as_str(), refusal.wanted.as_str()),
            (Some("/srv/tide/ibdata1"), "/usr/sbin/mariadbd", "open")
        );
        assert_eq!((refusal.uid, refusal.by_person), (Some(71), false));
        let person = label.replace("system_u:system_r:httpd_t", "unconfined_u:unconfined_r:unconfined_t");
        assert!(parse(&person, None).unwrap().by_person && !parse(label, None).unwrap().by_person);
        assert_eq!(parse("type=AVC msg=audit(x): avc:  granted  { read }", None), None);
        assert_eq!(
            parse(r#"avc:  denied  { read } for pid=1 comm="nginx""#, Some(5)).map(|r| r.time),
            Some(5),
            "the journal's own time serves"
        );
    }
}
