//! Where a service's log is, and what is odd about it: not there, empty, not writable, sent elsewhere, or
//! another daemon's.
use crate::access::{self, Right};
use crate::accounts::{self, Account};
use crate::config::{Configuration, LogSink, Place};
use crate::host::{FileKind, Look};
use crate::kinds;
use crate::log::{Around, RECEIVER_FILES};
use crate::path;
use crate::service::Service;
use crate::snapshot::Snapshot;
use jiff::tz::TimeZone;

/// Logs of one service that are looked at: hosts of many sites have one for each.
const LOGS: usize = 16;
/// How much of a log's end tells whose it is, in bytes.
const END: u32 = 16 << 10;

/// Earlier logs that count.
const NEIGHBOURS: usize = 16;
/// Neighbours of a log that are looked at: a directory may hold those of thousands of sites.
const LOOKED_AT: usize = 256;
/// How much of a neighbour's begin and end tells whose log it is, in bytes.
const GLANCE: u32 = 4 << 10;

/// Log files of a service.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Logs {
    /// Those of the whole service first, the one that is written now before those of earlier; then those of
    /// single sites.
    pub files: Vec<String>,
    /// How many of them are of the whole service.
    pub mains: usize,
}

impl Logs {
    fn add(&mut self, file: &str) {
        if !self.files.iter().any(|f| f == file) {
            self.files.push(file.to_owned());
        }
    }
}

/// Log files of a service that are written now: those of the services file first, then those of its
/// configuration, then those of the syslog receiver where the log is sent there.
pub fn log_files(snapshot: &Snapshot, service: &Service, config: &Configuration) -> Vec<String> {
    logs(snapshot, service, config, false).files
}

/// The same, and with `earlier` those that were written earlier, too: in the usual places, where the log has
/// been moved from, in further forms.
pub fn logs(snapshot: &Snapshot, service: &Service, config: &Configuration, earlier: bool) -> Logs {
    let mut logs = Logs { files: service.described.log.clone(), mains: 0 };
    let own_word = |file: &str| is_own_word(snapshot, service, config, file);
    let named: Vec<&str> =
        config.model.error_logs.iter().map(|log| log.path.as_str()).filter(|file| own_word(file)).collect();
    // A web server may have one for each site beside the main one.
    let profile = service.kind.profile();
    let own = if profile.site_logs { named.len().min(1) } else { named.len() };
    named[..own].iter().for_each(|file| logs.add(file));
    if config.model.log_sinks.iter().any(|(sink, _)| *sink == LogSink::Syslog) {
        let own = format!("/var/log/{}.log", service.kind.name());
        let there = |file: &&str| {
            snapshot.stat(file).seen().is_some_and(|s| s.kind == FileKind::Regular && s.size > 0)
        };
        std::iter::once(own.as_str())
            .chain(RECEIVER_FILES.iter().copied())
            .filter(there)
            .for_each(|f| logs.add(f));
    }
    // Where the manager puts what it says (systemd.exec(5)).
    for setting in ["StandardOutput", "StandardError"] {
        let value = service.unit.as_ref().and_then(|u| u.value("Service", setting)).unwrap_or_default();
        let file = ["file:", "append:", "truncate:"].iter().find_map(|how| value.strip_prefix(how));
        file.into_iter().for_each(|file| logs.add(file));
    }
    if service.described.log.is_empty() && service.kind.grammar().has_general_words() {
        let found = super::unknown_logs::find(snapshot, service);
        found.iter().filter(|file| own_word(file)).for_each(|file| logs.add(file));
    }
    if earlier && (service.unit.is_some() || service.described.log.is_empty()) {
        let found = snapshot.aside(|| earlier_logs(snapshot, service, config, &logs));
        found.iter().for_each(|file| logs.add(file));
    }
    logs.mains = logs.files.len();
    named[own..].iter().for_each(|file| logs.add(file));
    logs
}

/// Whether those who say that a file is a log of the service's could look into it themselves: whoever owns
/// its configuration may name any file of the host, and a log is shown. What root names is its log, whoever
/// may read it.
pub(crate) fn is_own_word(
    snapshot: &Snapshot,
    service: &Service,
    config: &Configuration,
    file: &str,
) -> bool {
    // What could not be seen of this is a matter of this question alone.
    let own = snapshot.aside(|| could_open(snapshot, service, config, file));
    if !own {
        snapshot.unseen(format!("{file}, which is named as a log by somebody who may not read it"));
    }
    own
}

fn could_open(snapshot: &Snapshot, service: &Service, config: &Configuration, file: &str) -> bool {
    let start = service.instance.start_uid;
    let of_no_kind = service.kind.grammar().has_general_words();
    let by_root = super::places::by_root(snapshot);
    // Who configures a server that runs as root is root already, unless it becomes another account at once.
    let others = start != 0 || of_no_kind || service.kind.profile().keeps_data;
    let of_program =
        if of_no_kind { kinds::files_of_a_program(snapshot, &service.instance) } else { Vec::new() };
    let of_program = of_program.iter().map(|(file, _)| file);
    let known = config.model.files.iter().chain(&service.instance.variables);
    let naming = known.chain(of_program).filter(|_| others);
    let owners = naming.filter(|f| !by_root(f)).filter_map(|f| snapshot.stat(f).seen()).map(|s| s.uid);
    let mut namers: Vec<u32> = owners.filter(|uid| *uid != 0).collect();
    if namers.is_empty() {
        return true;
    }
    let account = config.model.account.as_ref().map(|(name, _)| name);
    namers.extend(account.and_then(|name| accounts::account(snapshot, name).seen()).map(|a| a.uid));
    namers.extend(Some(start).filter(|uid| *uid != u32::MAX && *uid != 0));
    let may = |uid: &u32| {
        let who = accounts::of_uid(snapshot, *uid);
        // What is not there, or was not seen, shows nothing.
        let open = |right| !matches!(access::may(snapshot, &who, file, right), Look::Seen(Some(_)));
        open(Right::Read) || open(Right::Write)
    };
    namers.iter().any(may)
}

/// Logs of the kind's beside those that are known, in the usual places and in the data directory, that no
/// other service writes.
fn earlier_logs(snapshot: &Snapshot, service: &Service, config: &Configuration, known: &Logs) -> Vec<String> {
    let profile = service.kind.profile();
    if profile.programs.is_empty() {
        return Vec::new();
    }
    // The usual places are those of the installation of the distribution, and of no other.
    let is_usual = service.unit_name().is_some_and(|unit| profile.units.contains(&unit))
        || profile.configs.contains(&service.instance.config.as_str());
    let usual_logs: &[&str] = if is_usual { profile.logs } else { &[] };
    let parents = known.files.iter().map(String::as_str).chain(usual_logs.iter().copied()).map(path::parent);
    let mut dirs: Vec<String> = parents.map(str::to_owned).collect();
    let data = config.model.data_dir.as_ref();
    let below: Vec<String> =
        data.into_iter().flat_map(|d| profile.data_logs.iter().map(|p| path::join(&d.path, p))).collect();
    dirs.extend(below.iter().map(|pattern| path::parent(pattern).to_owned()));
    dirs.sort_unstable();
    dirs.dedup();
    // A directory of many programs' logs is not searched: only files of the usual names are this kind's
    // there.
    let shared = |dir: &str| matches!(dir, "/var/log" | "/" | "/tmp" | "/var/tmp" | "/run" | "/dev");
    let mut found: Vec<(i64, String)> = Vec::new();
    let mut left = LOOKED_AT;
    let of_data = |file: &str| {
        let lies = |pattern: &&String| path::parent(pattern) == path::parent(file);
        below.iter().filter(lies).any(|p| path::matches(path::name(p), path::name(file), false))
    };
    let in_data = |dir: &str| below.iter().any(|pattern| path::parent(pattern) == dir);
    let zone = super::log_zone(snapshot, service, config);
    let begun = known.files.iter().filter_map(|log| begun(snapshot, service, &zone, log)).min();
    let of_site = |file: &str| config.model.error_logs.iter().any(|log| log.path == file);
    for dir in &dirs {
        for entry in snapshot.list(dir).seen().unwrap_or_default() {
            let name = crate::log::unrotated(&entry.name);
            let file = path::join(dir, name);
            let usual = usual_logs.contains(&file.as_str());
            if ((shared(dir) || in_data(dir)) && !usual && !of_data(&file))
                || known.files.contains(&file)
                || of_site(&file)
                || left == 0
                || found.iter().any(|(_, f)| *f == file)
                || found.len() >= NEIGHBOURS
                || !could_be_log(name)
            {
                continue;
            }
            left -= 1;
            let real = path::join(dir, &entry.name);
            let Some(status) = snapshot.stat(&real).seen().filter(|s| s.kind == FileKind::Regular) else {
                continue;
            };
            let packed = entry.name != name && !entry.name.ends_with(|c: char| c.is_ascii_digit());
            // Another instance may write beside it. What was left when the log was moved is older than all
            // that the log has now; the further forms of one log share its name, or lie with the data.
            let own = usual
                || of_data(&file)
                || known.files.iter().any(|log| stem(log) == stem(&file))
                || begun.is_none_or(|begun| status.modified * 1_000_000 <= begun + MOVED);
            if status.size > 0 && own && (packed || is_of_kind(snapshot, service, &real, status.size)) {
                found.push((-status.modified, file));
            }
        }
    }
    if found.is_empty() {
        return Vec::new();
    }
    found.sort();
    let others = logs_of_others(snapshot, service);
    let base = |file: &String| snapshot.resolve_links(file);
    let known: Vec<String> = known.files.iter().map(base).collect();
    let mut files: Vec<String> = found.into_iter().map(|(_, file)| file).collect();
    files.retain(|file| !others.contains(file) && !known.contains(&snapshot.resolve_links(file)));
    // The pieces of one log, each of which carries its own day, are one log.
    let mut told: Vec<String> = known.iter().flat_map(|f| crate::log::files_of(snapshot, f)).collect();
    files.retain(|file| {
        let new = !told.contains(file);
        if new {
            told.extend(crate::log::files_of(snapshot, file));
        }
        new
    });
    files
}

/// For so long a log that was moved may still be written in its old place, in microseconds.
const MOVED: i64 = 120_000_000;

/// The first stamp of a log with its predecessors, where one of them that is not packed tells.
fn begun(snapshot: &Snapshot, service: &Service, zone: &TimeZone, log: &str) -> Option<i64> {
    let oldest = crate::log::files_of(snapshot, log);
    oldest.iter().rev().find_map(|file| {
        let block = snapshot.read_at(file, 0, GLANCE).seen()?;
        let around = Around { latest: Some(i64::MAX / 4), ..Around::zone(zone) };
        let text = String::from_utf8_lossy(&block);
        text.lines().find_map(|line| service.kind.grammar().own_head(line, around)).map(|head| head.time)
    })
}

/// A path without the ending of its name.
fn stem(file: &str) -> &str {
    file.rsplit_once('.').map_or(file, |(stem, _)| stem)
}

/// Whether a file of this name could be a log of a daemon's own, and not of its clients' requests.
fn could_be_log(name: &str) -> bool {
    let name = name.to_ascii_lowercase();
    let has = |words: &[&str]| words.iter().any(|w| name.contains(w));
    has(&["log", "err", ".out", ".csv", ".json"]) && !has(&["access", "slow", "query"])
}

/// Whether the lines of a file are of the kind's own form.
fn is_of_kind(snapshot: &Snapshot, service: &Service, file: &str, size: u64) -> bool {
    let universal = TimeZone::UTC;
    let around = Around { latest: Some(i64::MAX / 4), ..Around::zone(&universal) };
    let grammar = service.kind.grammar();
    let fits = |from: u64| {
        let block = snapshot.read_at(file, from, GLANCE).seen().unwrap_or_default();
        let text = String::from_utf8_lossy(&block);
        let lines = text.lines().skip(usize::from(from > 0));
        let (mut own, mut all) = (0usize, 0usize);
        for line in lines.filter(|l| !l.is_empty()).take(40) {
            all += 1;
            let record = line.starts_with('{') && grammar.head(line, around).is_some();
            own += usize::from(record || grammar.own_head(line, around).is_some());
        }
        own > 0 && own * 4 >= all
    };
    fits(0) || (size > u64::from(GLANCE) && fits(size - u64::from(GLANCE)))
}

/// Logs that the configurations of other services of the same kind name.
fn logs_of_others(snapshot: &Snapshot, service: &Service) -> Vec<String> {
    let kind = service.kind.name();
    let all = snapshot.derived(&format!("logs of {kind}"), || {
        let services = crate::service::find(snapshot, &crate::services_file::ServicesFile::default());
        let of_kind = services.into_iter().filter(|s| s.kind.name() == kind);
        of_kind
            .map(|s| {
                // Read for this alone, and not remembered: what could not be seen of it is told when it is
                // asked for in earnest.
                let config = s.kind.read(snapshot, &s.instance);
                let named = config.model.error_logs.into_iter().map(|log| log.path).collect();
                (s.name.clone(), s.unit_name().map(str::to_owned), named)
            })
            .collect::<Vec<(String, Option<String>, Vec<String>)>>()
    });
    let other = |name: &str, unit: Option<&str>| name != service.name && unit != service.unit_name();
    let others = all.iter().filter(|(name, unit, _)| other(name, unit.as_deref()));
    others.flat_map(|(_, _, logs)| logs.iter().cloned()).collect()
}

/// One thing to know about a log before it is searched in vain.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LogRemark {
    /// The file, where it is one.
    pub file: Option<String>,
    /// A sentence.
    pub text: String,
    /// The line that sends it there.
    pub place: Option<Place>,
    /// Whether lines are lost because of it.
    pub loses: bool,
}

/// What is odd about the logs of a service that `who` starts.
pub fn log_remarks(
    snapshot: &Snapshot,
    service: &Service,
    config: &Configuration,
    who: &Account,
) -> Vec<LogRemark> {
    let mut found = Vec::new();
    for (sink, place) in &config.model.log_sinks {
        let text = match sink {
            LogSink::Syslog => "the log is sent to the syslog receiver".to_owned(),
            LogSink::StandardError if service.unit.is_some() => {
                "the log is written to the standard error, which the manager keeps in the journal".to_owned()
            }
            LogSink::StandardError => {
                "the log is written to the standard error, and nobody is known to keep that".to_owned()
            }
            LogSink::Program => "the log is handed to another program".to_owned(),
        };
        let at = place.as_ref().map(|p| format!(" ({p})")).unwrap_or_default();
        found.push(LogRemark { file: None, text: text + &at, place: place.clone(), loses: false });
    }
    let named: Vec<(&str, Option<&Place>)> = (service.described.log.iter().map(|f| (f.as_str(), None)))
        .chain(config.model.error_logs.iter().map(|l| (l.path.as_str(), l.place.as_ref())))
        .take(LOGS)
        .collect();
    for (at, (file, place)) in named.iter().enumerate() {
        let remark = |text: String, loses: bool| LogRemark {
            file: Some((*file).to_owned()),
            text,
            place: place.cloned(),
            loses,
        };
        match snapshot.stat(file) {
            // Of the main log that matters; sites may never have had anything to say.
            Look::Absent if at == 0 => {
                found.push(remark(format!("{file} does not exist: nothing was written to it yet"), false))
            }
            Look::Seen(status) if status.kind == FileKind::Regular => {
                if status.size == 0 && at == 0 {
                    let kept = crate::log::predecessor(snapshot, file)
                        .map(|older| format!("; what was written before stands in {older}"))
                        .unwrap_or_default();
                    found.push(remark(format!("{file} is empty{kept}"), false));
                }
                if who.uid != 0
                    && let Look::Seen(Some(obstacle)) = access::may(snapshot, who, file, Right::Write)
                {
                    let owner = crate::accounts::user_name(snapshot, obstacle.status.uid);
                    let why =
                        format!("{} belongs to {owner}, mode {:04o}", obstacle.path, obstacle.status.mode);
                    found.push(remark(format!("{} may not write to {file}: {why}", who.name), true));
                }
                if let Some(other) = of_another_kind(snapshot, service, file) {
                    found.push(remark(format!("{file} looks like a log of {other}"), false));
                }
            }
            _ => {}
        }
    }
    found.extend(left_alone(snapshot, service, &named));
    found
}

/// Another log of the kind's in its usual place, which the configuration does not name: what stands in it is
/// older, or of another service.
fn left_alone(snapshot: &Snapshot, service: &Service, named: &[(&str, Option<&Place>)]) -> Option<LogRemark> {
    let real: Vec<String> = named.iter().map(|(file, _)| snapshot.resolve_links(file)).collect();
    // A log whose place nothing tells is not known to be elsewhere.
    let newest = real.iter().filter_map(|f| snapshot.stat(f).seen()).map(|s| s.modified).max()?;
    let mut usual = service
        .kind
        .profile()
        .logs
        .iter()
        .map(|file| snapshot.resolve_links(file))
        .filter(|file| !real.contains(file));
    let older = |file: &String| {
        snapshot
            .stat(file)
            .seen()
            .is_some_and(|s| s.kind == FileKind::Regular && s.size > 0 && s.modified < newest)
    };
    let file = usual.find(older)?;
    let now = named.first().map(|(file, _)| *file).unwrap_or_default();
    let text =
        format!("{file} lies in the usual place and is not the log of {}: that is {now}", service.name);
    Some(LogRemark {
        file: Some(file),
        text,
        place: named.first().and_then(|(_, place)| place.cloned()),
        loses: false,
    })
}

/// The kind whose log a file looks like, where it does not look like this one's.
fn of_another_kind(snapshot: &Snapshot, service: &Service, file: &str) -> Option<&'static str> {
    let own = service.described.log_format.as_deref().and_then(kinds::kind).unwrap_or(service.kind);
    if own.profile().programs.is_empty() || service.described.log_rules().ok().flatten().is_some() {
        return None;
    }
    let size = snapshot.stat(file).seen()?.size;
    let end = snapshot.read_at(file, size.saturating_sub(u64::from(END)), END).seen()?;
    let text = String::from_utf8_lossy(&end);
    let lines: Vec<&str> = text.lines().skip(usize::from(size > u64::from(END))).collect();
    let universal = TimeZone::UTC;
    let around = Around { latest: Some(i64::MAX / 4), ..Around::zone(&universal) };
    let fits = |kind: &dyn kinds::Kind, line: &&str| kind.grammar().own_head(line, around).is_some();
    if lines.len() < 3 || lines.iter().rev().any(|l| fits(own, l)) {
        return None;
    }
    let fitting = |kind: &dyn kinds::Kind| lines.iter().filter(|l| fits(kind, l)).count();
    let mut others =
        kinds::KINDS.iter().copied().filter(|k| !k.profile().programs.is_empty() && !k.profile().on_java);
    others.find(|k| fitting(*k) * 10 >= lines.len() * 8).map(|k| k.name())
}
