//! Which application of a server an address belongs to, and why that one did not start, by what the server's
//! own log says of its last attempt.
use crate::code::Code;
use crate::finding::{Evidence, Source, Subject};
use crate::host::{FileKind, Look};
use crate::kinds::{Instance, PageFault, glob};
use crate::path;
use crate::snapshot::Snapshot;
use regex::Regex;
use std::sync::LazyLock;

/// Of a log the last stretch is looked at, in bytes.
const LOG: u32 = 4 << 20;
/// Applications that are looked through.
const APPLICATIONS: usize = 4096;
/// Lines that are shown.
const SHOWN: usize = 4;

/// The server begins with an application: a directory, an archive, or a descriptor.
static BEGINS: LazyLock<Option<Regex>> = LazyLock::new(|| {
    let text = concat!(
        r"(?:Deploying (?:web application (?:directory|archive)|deployment descriptor) \[([^\]]+)\]\s*$",
        r"|Reloading Context with name \[([^\]]*)\] has started)",
    );
    Regex::new(text).ok()
});
/// What an exception tells, with the class of it left out.
static THROWN: LazyLock<Option<Regex>> = LazyLock::new(|| {
    Regex::new(r"^\s*(?:Caused by: )?((?:[\w$]+\.)+[\w$]*(?:Exception|Error|Throwable)\b)(?:[:;] (.*))?$")
        .ok()
});
/// Where a parser stopped.
static PARSED: LazyLock<Option<Regex>> = LazyLock::new(|| {
    Regex::new(r"systemId: file:(?://)?(/[^;]+); lineNumber: (\d+); columnNumber: \d+; (.*)$").ok()
});
/// Folders and archives that a descriptor names.
static MAIN_SET: LazyLock<Option<Regex>> =
    LazyLock::new(|| Regex::new(r"The main resource set specified \[([^\]]+)\] is not").ok());

/// An application that the server knows of.
struct Application {
    /// The name, with `#` between the parts of its path; `ROOT` for the one without a path.
    name: String,
    /// The directory, archive or descriptor by which it is known.
    by: String,
}

/// All applications of a server, those with descriptors first; `None` where they could not be seen.
fn applications(snapshot: &Snapshot, base: &str) -> Option<Vec<Application>> {
    let mut all: Vec<Application> = Vec::new();
    let mut add = |name: &str, by: &str| {
        // A version of it stands behind two signs of number.
        let name = name.split("##").next().unwrap_or(name);
        if !name.is_empty() && !name.starts_with('.') && all.iter().all(|a| a.name != name) {
            all.push(Application { name: name.to_owned(), by: by.to_owned() });
        }
    };
    for descriptor in glob(snapshot, &format!("{base}/conf/*/*/*.xml")).iter().take(APPLICATIONS) {
        add(path::name(descriptor).trim_end_matches(".xml"), descriptor);
    }
    let webapps = format!("{base}/webapps");
    let entries = match snapshot.list(&webapps) {
        Look::Seen(entries) => entries,
        Look::Absent => Vec::new(),
        Look::NotSeen(_) => return None,
    };
    for entry in entries.iter().take(APPLICATIONS) {
        let by = path::join(&webapps, &entry.name);
        match entry.name.strip_suffix(".war") {
            Some(bare) => add(bare, &by),
            None if matches!(entry.kind, FileKind::Directory | FileKind::Link) => add(&entry.name, &by),
            None => {}
        }
    }
    Some(all)
}

/// The application that a path of a request belongs to: the one with the longest path that it begins with.
fn of_target<'a>(all: &'a [Application], target: &str) -> Option<&'a Application> {
    let bare = target.split(['?', ';']).next().unwrap_or_default();
    let wanted = bare.trim_matches('/').replace('/', "#");
    let begins = |a: &&Application| {
        wanted.strip_prefix(a.name.as_str()).is_some_and(|rest| rest.is_empty() || rest.starts_with('#'))
    };
    all.iter().filter(begins).max_by_key(|a| a.name.len()).or_else(|| all.iter().find(|a| a.name == "ROOT"))
}

/// The newest of the logs of one name, one for each day.
fn newest(snapshot: &Snapshot, base: &str, name: &str) -> Option<String> {
    let logs = glob(snapshot, &format!("{base}/logs/{name}.*.log"));
    // By its own name: what a link of an account leads to is read only where that account could.
    logs.into_iter().filter(|f| f.ends_with(".log")).max()
}

/// The end of a log.
fn end_of(snapshot: &Snapshot, log: &str) -> Option<String> {
    let size = snapshot.stat(log).seen()?.size;
    let bytes = snapshot.read_at(log, size.saturating_sub(u64::from(LOG)), LOG).seen()?;
    Some(String::from_utf8_lossy(&bytes).into_owned())
}

/// The lines of the last attempt to start an application, its first one included.
fn last_attempt<'l>(lines: &'l [&'l str], name: &str) -> Option<&'l [&'l str]> {
    let shown = if name == "ROOT" { String::new() } else { format!("/{}", name.replace('#', "/")) };
    let is_its = |line: &str| {
        let found = BEGINS.as_ref().and_then(|b| b.captures(line))?;
        let by_path = found.get(1).map(|m| {
            let file = path::name(m.as_str());
            let bare = file.strip_suffix(".xml").or_else(|| file.strip_suffix(".war")).unwrap_or(file);
            bare.split("##").next().unwrap_or(bare) == name
        });
        by_path.or_else(|| found.get(2).map(|m| m.as_str() == shown))
    };
    let from = lines.iter().rposition(|line| is_its(line) == Some(true))?;
    let rest = &lines[from..];
    // It ends where the server says so, or where it begins with the next one.
    let is_end = |line: &str| {
        line.contains("has finished in [")
            || line.contains("is completed")
            || BEGINS.as_ref().is_some_and(|b| b.is_match(line))
    };
    let length = rest.iter().skip(1).position(|line| is_end(line)).map_or(rest.len(), |n| n + 1);
    Some(&rest[..length])
}

/// The moment that a line of the log begins with, as it is written.
fn moment(line: &str) -> &str {
    line.get(..24).unwrap_or_default()
}

/// Why an address of this server brings no page: no application is there for it, or the one that is did not
/// start.
pub(super) fn fault(
    snapshot: &Snapshot,
    instance: &Instance,
    target: &str,
    status: u16,
) -> Option<PageFault> {
    if !matches!(status, 404 | 500 | 503) {
        return None;
    }
    let base = super::base(instance);
    let all = applications(snapshot, &base)?;
    let Some(one) = of_target(&all, target) else {
        return (status == 404 && !all.is_empty()).then(|| nobody(&base, &all, target));
    };
    let log = newest(snapshot, &base, "catalina")?;
    let text = end_of(snapshot, &log)?;
    let lines: Vec<&str> = text.lines().collect();
    let attempt = last_attempt(&lines, &one.name)?;
    let failed = |line: &&&str| {
        line.contains("startup failed due to previous error")
            || line.contains("Error deploying ")
            || line.contains("Marking this application unavailable")
    };
    let said = attempt.iter().find(failed)?;
    let mut evidence = vec![Evidence::new(Source::Log, crate::secrets::mask_text(said)).file(&log)];
    let mut reason = innermost(attempt);
    if reason.is_none() {
        reason = told_elsewhere(snapshot, &base, attempt, &mut evidence);
    }
    Some(because(snapshot, &base, one, reason, evidence))
}

/// No application of the server has this path.
fn nobody(base: &str, all: &[Application], target: &str) -> PageFault {
    let first = target.trim_start_matches('/').split(['/', '?', ';']).next().unwrap_or_default();
    let path = format!("{base}/webapps/{first}");
    let names: Vec<&str> = all.iter().map(|a| a.name.as_str()).collect();
    let near = crate::config::nearest(first, names.iter().copied());
    let there = names.iter().take(8).copied().collect::<Vec<_>>().join(", ");
    let mut evidence = vec![Evidence::new(Source::File, format!("its applications are {there}"))];
    evidence.extend(near.map(|n| Evidence::new(Source::File, format!("did you mean /{n}?"))));
    PageFault {
        code: Code::ConfigMissingFile,
        title: format!("no application of this server answers /{first}"),
        subject: Subject::path(&path),
        proven: true,
        evidence,
    }
}

/// What the last exception of an attempt tells: what lies innermost is the reason of the others.
fn innermost(lines: &[&str]) -> Option<(String, String)> {
    let thrown = THROWN.as_ref()?;
    let mut all = lines.iter().filter_map(|line| thrown.captures(line)).map(|c| {
        let of = |at: usize| c.get(at).map_or("", |m| m.as_str()).trim().to_owned();
        (of(1), of(2))
    });
    all.rfind(|(class, _)| {
        !class.ends_with("LifecycleException") && !class.ends_with("IllegalStateException")
    })
}

/// The server keeps what listeners, filters and servlets throw in a log of the host: the lines of the same
/// seconds there.
fn told_elsewhere(
    snapshot: &Snapshot,
    base: &str,
    attempt: &[&str],
    evidence: &mut Vec<Evidence>,
) -> Option<(String, String)> {
    let log = newest(snapshot, base, "localhost")?;
    let text = end_of(snapshot, &log)?;
    let (from, to) = (moment(attempt.first()?), moment(attempt.last()?));
    let dated = |line: &str| line.starts_with(|c: char| c.is_ascii_digit());
    let lines: Vec<&str> = text.lines().collect();
    let of_it = |line: &&str| dated(line) && moment(line) >= from && moment(line) <= to;
    let begin = lines.iter().position(|line| of_it(line) && line.contains(" SEVERE "))?;
    let rest = &lines[begin..];
    let length = rest.iter().skip(1).position(|line| dated(line)).map_or(rest.len(), |n| n + 1);
    evidence.push(Evidence::new(Source::Log, crate::secrets::mask_text(rest[0])).file(&log));
    innermost(&rest[..length])
}

/// The fault that a reason makes.
fn because(
    snapshot: &Snapshot,
    base: &str,
    one: &Application,
    reason: Option<(String, String)>,
    mut evidence: Vec<Evidence>,
) -> PageFault {
    let shown = if one.name == "ROOT" { "/".to_owned() } else { format!("/{}", one.name.replace('#', "/")) };
    let head = format!("the application {shown} did not start");
    let Some((class, words)) = reason else {
        let subject = Subject::path(&one.by);
        return PageFault { code: Code::ApplicationError, title: head, subject, proven: false, evidence };
    };
    let words = crate::secrets::mask_text(&words);
    evidence.push(Evidence::new(Source::Log, format!("{class}: {words}")));
    evidence.truncate(SHOWN);
    if let Some(found) = PARSED.as_ref().and_then(|p| p.captures(&words)) {
        let (file, line) = (&found[1], found[2].parse().ok());
        // The file itself is the proof, where it still does not parse.
        let own = [base, one.by.as_str()].iter().any(|dir| path::is_within(file, dir));
        let text = own.then(|| snapshot.read_at(file, 0, LOG).seen()).flatten();
        let broken = text.is_some_and(|bytes| {
            let text = String::from_utf8_lossy(&bytes).into_owned();
            text.len() < LOG as usize
                && super::costly(&text).is_none()
                && roxmltree::Document::parse(&text).is_err()
        });
        let title = format!("{head}: {file} does not parse: {}", &found[3]);
        let subject = Subject { file: Some(file.to_owned()), line, ..Subject::path(file) };
        return PageFault { code: Code::ApplicationConfig, title, subject, proven: broken, evidence };
    }
    if let Some(found) = MAIN_SET.as_ref().and_then(|m| m.captures(&words)) {
        let missing = found[1].to_owned();
        let title = format!("{head}: {missing}, which {} names, does not exist or may not be read", one.by);
        // The log alone could have made it up: the descriptor names it.
        let descriptor = snapshot.read_at(&one.by, 0, LOG).seen();
        let named = descriptor.is_some_and(|text| memchr::memmem::find(&text, missing.as_bytes()).is_some());
        let proven = named && snapshot.exists(&missing) == Some(false);
        let subject = Subject { file: Some(one.by.clone()), ..Subject::path(&missing) };
        return PageFault { code: Code::ApplicationConfig, title, subject, proven, evidence };
    }
    let last = class.rsplit('.').next().unwrap_or(&class);
    let why = match last {
        "ClassNotFoundException" | "NoClassDefFoundError" => {
            format!("the class {} is missing", words.replace('/', "."))
        }
        "ZipException" => format!("{} is damaged: {words}", one.by),
        "UnsupportedClassVersionError" => format!("it is compiled for a later runtime: {words}"),
        _ if words.is_empty() => class.clone(),
        _ => format!("{last}: {words}"),
    };
    let subject = Subject::path(&one.by);
    PageFault {
        code: Code::ApplicationError,
        title: format!("{head}: {why}"),
        subject,
        proven: false,
        evidence,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const LINES: &str = "\
10:40.490 INFO [main] HostConfig.deployWAR Deploying web application archive [/srv/cb/webapps/warped.war]
10:40.510 SEVERE [main] Error deploying web application archive [/srv/cb/webapps/warped.war]
\tjava.lang.IllegalStateException: Error starting child
\tCaused by: org.apache.catalina.LifecycleException: Failed to read the manifest from the archive [warped.war]
\tCaused by: java.util.zip.ZipException: zip END header not found
10:40.513 INFO [main] Deployment of web application archive [warped.war] has finished in [22] ms
10:40.514 INFO [main] Deploying web application directory [/srv/cb/webapps/boarding#desk##2]
10:42.202 SEVERE [main] Context [/boarding/desk] startup failed due to previous errors
";

    #[test]
    fn the_lines_of_one_application_are_told_from_those_of_others() {
        let lines: Vec<&str> = LINES.lines().collect();
        let warped = last_attempt(&lines, "warped").unwrap();
        assert_eq!(warped.len(), 5);
        assert_eq!(
            innermost(warped),
            Some(("java.util.zip.ZipException".into(), "zip END header not found".into()))
        );
        let desk = last_attempt(&lines, "boarding#desk").unwrap();
        assert!(desk.len() == 2 && innermost(desk).is_none());
        assert!(last_attempt(&lines, "boarding").is_none());
    }

    #[test]
    fn a_path_belongs_to_the_application_with_the_longest_one() {
        let of = |names: &[&str], target: &str| {
            let all: Vec<Application> =
                names.iter().map(|n| Application { name: (*n).into(), by: String::new() }).collect();
            of_target(&all, target).map(|a| a.name.clone())
        };
        let names = ["ROOT", "boarding", "boarding#desk"];
        assert_eq!(of(&names, "/boarding/desk/x?a=b").as_deref(), Some("boarding#desk"));
        assert_eq!(of(&names, "/boarding;s=1").as_deref(), Some("boarding"));
        assert_eq!(of(&names, "/boardings").as_deref(), Some("ROOT"));
        assert_eq!(of(&names[1..], "/other"), None);
    }
}
