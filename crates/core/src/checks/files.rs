//! Files that the daemon writes or reads at start: owner, mode, space, and pid files of others.
use crate::access::{self, Right};
use crate::accounts::{self, Account};
use crate::case::Case;
use crate::code::Code;
use crate::config::{NamedPath, Severity};
use crate::finding::{Evidence, Finding, Proof, Source, Subject, stage};
use crate::host::{FileKind, FileStatus, Look};
use crate::path;
use crate::snapshot::Snapshot;

/// Less free space than this is none for a daemon that must write at start, in bytes.
const NO_SPACE: u64 = 4096;

pub(super) fn check(snapshot: &Snapshot, case: &Case) -> Vec<Finding> {
    let mut found = Vec::new();
    let running = !case.processes.is_empty();
    let mut seen = std::collections::HashSet::new();
    for entry in written(case) {
        if made(case, &entry.path) || !seen.insert(entry.path.clone()) {
            continue;
        }
        found.extend(directory_in_place(snapshot, case, &entry));
        found.extend(unwritable(snapshot, case, &entry));
        found.extend(no_room(snapshot, case, &entry));
    }
    for entry in &case.config.model.reads {
        found.extend(unreadable(snapshot, case, entry));
    }
    for file in case.config.model.files.clone() {
        let entry = NamedPath { path: file, place: None, directive: String::new() };
        found.extend(unreadable(snapshot, case, &entry));
    }
    if !running {
        found.extend(pid_file(snapshot, case));
    }
    found
}

/// Everything that is written at start, the services file's paths included.
fn written(case: &Case) -> Vec<NamedPath> {
    let mut all = case.config.model.writes.clone();
    let described = &case.service.described;
    let plain =
        |path: &String, what: &str| NamedPath { path: path.clone(), place: None, directive: what.into() };
    all.extend(described.log.iter().map(|p| plain(p, "log")));
    all.extend(described.pid_file.iter().map(|p| plain(p, "pid_file")));
    all
}

fn made(case: &Case, file: &str) -> bool {
    case.service.instance.made_by_manager.iter().any(|d| file.starts_with(&format!("{d}/")))
}

fn finding(
    code: Code,
    subject: Subject,
    title: String,
    evidence: Vec<Evidence>,
    fixes: Vec<&'static str>,
) -> Finding {
    Finding { fixes, ..Finding::inevitable(code, stage::FILES, subject, title, evidence) }
}

fn named(entry: &NamedPath, what: String) -> Evidence {
    let evidence = Evidence::new(Source::Config, what);
    match &entry.place {
        Some(place) => evidence.at(place),
        None => evidence,
    }
}

/// A directory stands where a file is to be written.
fn directory_in_place(snapshot: &Snapshot, case: &Case, entry: &NamedPath) -> Option<Finding> {
    let file = entry.directive.to_ascii_lowercase().contains("log")
        || entry.directive.to_ascii_lowercase().contains("pid");
    (file && snapshot.is_directory(&entry.path) == Some(true)).then(|| {
        finding(
            Code::ConfigBadValue,
            Subject::path(&entry.path),
            format!("{} is a directory, but {} writes a file there", entry.path, case.service.name),
            vec![
                named(entry, format!("{} names it", entry.directive)),
                Evidence::new(Source::File, "a directory").file(&entry.path),
            ],
            vec!["move-aside"],
        )
    })
}

fn unwritable(snapshot: &Snapshot, case: &Case, entry: &NamedPath) -> Option<Finding> {
    let who = &case.starter;
    let exists = snapshot.stat(&entry.path).seen();
    let target = if exists.is_some() { entry.path.clone() } else { path::parent(&entry.path).to_owned() };
    let Look::Seen(obstacle) = access::may(snapshot, who, &target, Right::Write) else { return None };
    let obstacle = obstacle?;
    let owner = accounts::user_name(snapshot, obstacle.status.uid);
    let own_file = exists.is_some() && obstacle.path == snapshot.resolve_links(&entry.path);
    let named_as = own_file.then_some(entry.path.as_str());
    let parent_is_ours = own_file && may_write_directory(snapshot, who, &entry.path);
    let evidence = vec![
        owned(snapshot, case, kind_word(obstacle.status.kind), &obstacle.path, &obstacle.status),
        named(entry, format!("{} writes {}", case.service.name, entry.path)),
    ];
    if parent_is_ours && obstacle.status.uid != who.uid {
        let title = format!(
            "{} belongs to {owner}, but {} writes it as {}",
            obstacle.path, case.service.name, who.name
        );
        let subject = Subject::obstacle(&obstacle, &who.name, named_as);
        return Some(finding(Code::WrongOwner, subject, title, evidence, vec!["give-back", "move-aside"]));
    }
    let subject = Subject::obstacle(&obstacle, &who.name, named_as);
    if obstacle.by == access::Refusal::Immutable {
        // Somebody set that on purpose: it is told, and not taken away.
        let title = format!(
            "{} is held against every change (immutable), so {} may not write it",
            obstacle.path, case.service.name
        );
        return Some(finding(Code::PermissionDenied, subject, title, evidence, vec![]));
    }
    let title = format!("{} may not {} {}", who.name, obstacle.right.verb(), obstacle.path);
    Some(finding(Code::PermissionDenied, subject, title, evidence, vec!["grant-access"]))
}

/// Whose a file is, its mode, and when anything of it changed last; `what` names the file's sort and may be
/// empty.
pub(super) fn owned(
    snapshot: &Snapshot,
    case: &Case,
    what: &str,
    file: &str,
    status: &FileStatus,
) -> Evidence {
    let owner = accounts::user_name(snapshot, status.uid);
    let detail = format!("{what} of {owner}, mode {:04o}", status.mode);
    Evidence::new(Source::File, detail.trim_start())
        .file(file)
        .time(Some(status.touched() * 1_000_000), &case.zone)
}

pub(super) fn kind_word(kind: FileKind) -> &'static str {
    match kind {
        FileKind::Directory => "a directory",
        FileKind::Socket => "a socket",
        _ => "a file",
    }
}

fn may_write_directory(snapshot: &Snapshot, who: &Account, file: &str) -> bool {
    access::may(snapshot, who, path::parent(file), Right::Write) == Look::Seen(None)
}

fn unreadable(snapshot: &Snapshot, case: &Case, entry: &NamedPath) -> Option<Finding> {
    let who = &case.starter;
    let Look::Seen(obstacle) = access::may(snapshot, who, &entry.path, Right::Read) else { return None };
    let obstacle = obstacle?;
    let owner = accounts::user_name(snapshot, obstacle.status.uid);
    let detail = format!("{} of {owner}, mode {:04o}", kind_word(obstacle.status.kind), obstacle.status.mode);
    let title = format!("{} may not {} {}", who.name, obstacle.right.verb(), obstacle.path);
    let evidence = vec![
        Evidence::new(Source::File, detail).file(&obstacle.path),
        named(entry, format!("{} reads {}", case.service.name, entry.path)),
    ];
    let own_file = obstacle.path == snapshot.resolve_links(&entry.path);
    let subject = Subject::obstacle(&obstacle, &who.name, own_file.then_some(entry.path.as_str()));
    // What keeps the data belongs to their server: another owner there is the fault, not the missing right.
    if case.holds_data(&obstacle.path) && obstacle.status.uid != who.uid && who.uid != 0 {
        let title =
            format!("{} belongs to {owner}, but {} runs as {}", obstacle.path, case.service.name, who.name);
        return Some(finding(Code::WrongOwner, subject, title, evidence, vec!["give-back"]));
    }
    Some(finding(Code::PermissionDenied, subject, title, evidence, vec!["grant-access"]))
}

fn no_room(snapshot: &Snapshot, case: &Case, entry: &NamedPath) -> Option<Finding> {
    let Look::Seen(space) = snapshot.space(path::parent(&entry.path)) else { return None };
    let evidence = |what: String| {
        vec![
            Evidence::new(Source::File, what).file(&entry.path),
            named(entry, format!("{} writes {}", case.service.name, entry.path)),
        ]
    };
    if space.read_only {
        let title = format!("{} lies on a file system that is mounted read-only", entry.path);
        return Some(finding(
            Code::ReadOnly,
            Subject::path(&entry.path),
            title,
            evidence("mounted read-only".into()),
            vec![],
        ));
    }
    let inodes = space.free_inodes == Some(0);
    if (space.free_bytes < NO_SPACE || inodes) && (case.starter.uid != 0 || space.free_bytes == 0 || inodes) {
        let what = if inodes { "inodes" } else { "space" };
        let title = format!("no {what} left where {} is written", entry.path);
        return Some(finding(
            Code::DiskFull,
            Subject::path(&entry.path),
            title,
            evidence(format!("no {what} left")),
            vec![],
        ));
    }
    None
}

/// A pid file that names a living process stops daemons that ask it first.
fn pid_file(snapshot: &Snapshot, case: &Case) -> Option<Finding> {
    let file = case
        .service
        .described
        .pid_file
        .clone()
        .or_else(|| case.config.model.pid_file.as_ref().map(|p| p.path.clone()))?;
    let text = snapshot.small_text(&file).seen()?;
    let pid: u32 = text.trim().parse().ok()?;
    let process = snapshot.process(pid);
    if let Look::Seen(process) = &process
        && case.service.runs_as(process)
    {
        return None;
    }
    let alive = match &process {
        Look::Seen(p) => Some(p.brief.name.clone()),
        _ => None,
    };
    let unseen = matches!(process, Look::NotSeen(_));
    let blocks = !case.service.kind.profile().overwrites_pid_file && alive.is_some();
    let title = match &alive {
        Some(name) => format!("{file} names pid {pid}, which is now {name} and not {}", case.service.name),
        None => format!("{file} names pid {pid}, which has ended"),
    };
    let evidence = vec![
        Evidence::new(Source::File, format!("it holds {pid}")).file(&file),
        match &alive {
            Some(name) => Evidence::new(Source::Process, format!("that is {name}")).pid(pid),
            None => Evidence::new(Source::Process, format!("no process {pid}")),
        },
    ];
    (!unseen).then(|| Finding {
        code: if blocks { Code::StaleFile } else { Code::StrayFile },
        severity: if blocks { Severity::Error } else { Severity::Hint },
        subject: Subject { pid: Some(pid), ..Subject::path(&file) },
        title,
        proof: if blocks { Proof::Inevitable } else { Proof::Now },
        evidence,
        fixes: vec!["move-aside"],
        blocks,
        stage: stage::FILES,
    })
}
