//! What the start asks the kernel for, against what the unit, the kernel and the host allow.
use crate::case::Case;
use crate::code::Code;
use crate::config::{Demand, Fault, Resource, Severity, Span, edit_at, edit_of_variable};
use crate::finding::{Evidence, Finding, Proof, Source, Subject, stage};
use crate::manager::UNLIMITED;
use crate::snapshot::Snapshot;

/// Hard limit on open files that the manager gives where a unit sets none (systemd.exec(5)).
const FILES: u64 = 524_288;

pub(super) fn check(snapshot: &Snapshot, case: &Case) -> Vec<Finding> {
    if !case.processes.is_empty() {
        return vec![];
    }
    let memory = Memory::of(snapshot);
    let mut found: Vec<Finding> =
        case.config.model.demands.iter().filter_map(|d| demand(snapshot, case, &memory, d)).collect();
    found.extend(processes(snapshot, case));
    if found.is_empty() {
        found.extend(complained(snapshot, case));
    }
    found
}

/// The kernel's own figures, in bytes.
struct Memory {
    total: Option<u64>,
    swap: u64,
    /// What may still be promised where the kernel promises no more than it has.
    promised_left: Option<u64>,
    huge_free: Option<u64>,
    huge_size: u64,
    overcommit: u64,
}

impl Memory {
    fn of(snapshot: &Snapshot) -> Self {
        let text = snapshot.text("/proc/meminfo").seen().unwrap_or_default();
        let number = |name: &str| -> Option<u64> {
            let rest = text.lines().find_map(|l| l.strip_prefix(name)?.strip_prefix(':'))?;
            let mut words = rest.split_whitespace();
            let number: u64 = words.next()?.parse().ok()?;
            Some(if words.next() == Some("kB") { number << 10 } else { number })
        };
        let promised_left = number("CommitLimit")
            .zip(number("Committed_AS"))
            .map(|(limit, given)| limit.saturating_sub(given));
        Self {
            total: number("MemTotal"),
            swap: number("SwapTotal").unwrap_or(0),
            promised_left,
            huge_free: number("HugePages_Free"),
            huge_size: number("Hugepagesize").unwrap_or(2 << 20),
            overcommit: kernel(snapshot, "/proc/sys/vm/overcommit_memory").unwrap_or(0),
        }
    }
}

fn kernel(snapshot: &Snapshot, file: &str) -> Option<u64> {
    snapshot.text(file).seen()?.trim().parse().ok()
}

/// Bytes for people.
fn bytes(amount: u64) -> String {
    let (unit, name) = [(1u64 << 40, "TiB"), (1 << 30, "GiB"), (1 << 20, "MiB"), (1 << 10, "KiB")]
        .into_iter()
        .find(|(u, _)| amount >= *u)
        .unwrap_or((1, "bytes"));
    let tenths = amount / (unit / 10).max(1) % 10;
    if unit == 1 || tenths == 0 {
        format!("{} {name}", amount / unit)
    } else {
        format!("{}.{tenths} {name}", amount / unit)
    }
}

fn asked(demand: &Demand, what: &str) -> Evidence {
    let evidence = Evidence::new(Source::Config, format!("{} asks for {what}", demand.directive));
    match &demand.place {
        Some(place) => evidence.at(place),
        None => evidence,
    }
}

fn finding(code: Code, demand: &Demand, title: String, evidence: Vec<Evidence>) -> Finding {
    let subject = Subject {
        directive: Some(demand.directive.clone()),
        file: demand.place.as_ref().map(|p| p.file.to_string()),
        line: demand.place.as_ref().map(|p| p.line),
        ..Subject::default()
    };
    Finding::inevitable(code, stage::FILES, subject, title, evidence)
}

/// The limit that a unit sets, with its place, where it is below what is asked for.
fn limited(case: &Case, key: &str, amount: u64) -> Option<(u64, Evidence)> {
    let unit = case.service.unit.as_ref()?;
    let limit = unit.hard_limit(key).filter(|l| *l < amount)?;
    let mut evidence = Evidence::new(
        Source::Manager,
        format!("{key}={} in {}", unit.value("Service", key).unwrap_or_default(), unit.name),
    );
    if let Some((file, line)) = unit.place("Service", key) {
        evidence.file = Some(file);
        evidence.line = Some(line);
    }
    Some((limit, evidence))
}

fn demand(snapshot: &Snapshot, case: &Case, memory: &Memory, demand: &Demand) -> Option<Finding> {
    let amount = demand.amount;
    let name = &case.service.name;
    match demand.resource {
        Resource::Memory | Resource::AddressSpace => memory_demand(snapshot, case, memory, demand),
        Resource::HugePages => huge_pages(case, memory, demand),
        Resource::SharedMemory => {
            let most = kernel(snapshot, "/proc/sys/kernel/shmmax")?;
            (amount > most).then(|| {
                let title = format!(
                    "{name} asks for a shared memory segment of {}, but the kernel allows {}",
                    bytes(amount),
                    bytes(most)
                );
                finding(
                    Code::LimitReached,
                    demand,
                    title,
                    vec![
                        asked(demand, &bytes(amount)),
                        Evidence::new(Source::Process, format!("kernel.shmmax is {most}"))
                            .file("/proc/sys/kernel/shmmax"),
                    ],
                )
            })
        }
        Resource::Files => files(snapshot, case, demand),
    }
}

/// Memory that is more than the unit allows, or than the kernel gives as one piece.
fn memory_demand(snapshot: &Snapshot, case: &Case, memory: &Memory, demand: &Demand) -> Option<Finding> {
    let (amount, name) = (demand.amount, &case.service.name);
    if let Some((limit, evidence)) = limited(case, "LimitAS", amount) {
        let title =
            format!("{name} asks for {} of memory, but its unit allows {}", bytes(amount), bytes(limit));
        return Some(Finding {
            fixes: vec!["raise-limit"],
            ..finding(Code::MemoryShort, demand, title, vec![asked(demand, &bytes(amount)), evidence])
        });
    }
    if demand.resource == Resource::AddressSpace {
        return None;
    }
    let there = match memory.overcommit {
        // The kernel's rule of thumb refuses one piece that is larger than all memory and swap
        // together.
        0 => memory.total?.saturating_add(memory.swap),
        2 => memory.promised_left?,
        _ => return None,
    };
    if amount <= there {
        return over_group(case, demand);
    }
    let what = if memory.overcommit == 2 { "can still be promised here" } else { "of memory and swap exist" };
    let title = format!("{name} asks for {} of memory, but only {} {what}", bytes(amount), bytes(there));
    let evidence = vec![
        asked(demand, &bytes(amount)),
        Evidence::new(Source::Process, format!("{} {what}", bytes(there))).file("/proc/meminfo"),
    ];
    let mut one = finding(Code::MemoryShort, demand, title, evidence);
    if let Some(edit) = lowered(snapshot, case, demand, there) {
        let (place, directive) = (demand.place.clone(), Some(demand.directive.clone()));
        one.subject.fault = Some(Box::new(Fault { place, directive, about: None, edit: Some(edit) }));
        one.fixes = vec!["correct-directive"];
    }
    Some(one)
}

/// A quarter of the memory that is there, in place of what is asked for: what databases and the virtual
/// machine of Java take by their own rule of thumb.
fn lowered(snapshot: &Snapshot, case: &Case, demand: &Demand, there: u64) -> Option<(Span, String)> {
    let quarter = ((there / 4) >> 20).max(1);
    let megabytes = 1u64 << quarter.ilog2();
    let Some(place) = &demand.place else {
        // An option of the virtual machine: `-Xms900g`.
        let name = demand.directive.trim_end_matches(|c: char| c.is_ascii_alphabetic());
        let name = name.trim_end_matches(|c: char| c.is_ascii_digit());
        let right = format!("{name}{megabytes}m");
        return edit_of_variable(snapshot, &case.service.instance, &demand.directive, &right);
    };
    let text = snapshot.text(&place.file).seen()?;
    let line = text.lines().nth(usize::try_from(place.line).ok()?.checked_sub(1)?)?;
    let value = line.split(['#', ';']).next()?.rsplit(['=', ' ', '\t']).find(|w| !w.is_empty())?;
    let value = value.trim_matches(['\'', '"']);
    if !value.starts_with(|c: char| c.is_ascii_digit()) {
        return None;
    }
    let right = case.service.kind.megabytes(megabytes);
    edit_at(snapshot, &place.file, place.line, value, &right)
}

/// Huge pages that are not free.
fn huge_pages(case: &Case, memory: &Memory, demand: &Demand) -> Option<Finding> {
    let (amount, name) = (demand.amount, &case.service.name);
    let there = memory.huge_free?.saturating_mul(memory.huge_size);
    (amount > there).then(|| {
        let title = format!(
            "{name} asks for {} in huge pages, but only {} of them are free",
            bytes(amount),
            bytes(there)
        );
        let evidence = vec![
            asked(demand, &bytes(amount)),
            Evidence::new(
                Source::Process,
                format!(
                    "{} huge pages of {} are free",
                    memory.huge_free.unwrap_or(0),
                    bytes(memory.huge_size)
                ),
            )
            .file("/proc/meminfo"),
        ];
        finding(Code::MemoryShort, demand, title, evidence)
    })
}

/// A control group kills when the memory is touched, not when it is asked for: that is no certainty.
fn over_group(case: &Case, demand: &Demand) -> Option<Finding> {
    let (limit, evidence) =
        limited(case, "MemoryMax", demand.amount).or_else(|| limited(case, "MemoryLimit", demand.amount))?;
    let title = format!(
        "{} asks for {} of memory, but is killed when it uses more than {}",
        case.service.name,
        bytes(demand.amount),
        bytes(limit)
    );
    let one = finding(Code::MemoryShort, demand, title, vec![asked(demand, &bytes(demand.amount)), evidence]);
    Some(Finding { proof: Proof::Said, fixes: vec!["raise-limit"], ..one })
}

fn files(snapshot: &Snapshot, case: &Case, demand: &Demand) -> Option<Finding> {
    let unit = case.service.unit.as_ref()?;
    // Root raises its own limit up to the kernel's bound, unless its unit takes that power away.
    let may_raise = case.starter.uid == 0 && unit.keeps_capability("CAP_SYS_RESOURCE");
    let own = unit.hard_limit("LimitNOFILE").unwrap_or(FILES);
    let limit = if may_raise { kernel(snapshot, "/proc/sys/fs/nr_open")? } else { own };
    if demand.amount <= limit {
        return None;
    }
    let title = format!("{} asks for {} open files, but may have {limit}", case.service.name, demand.amount);
    let evidence = match limited(case, "LimitNOFILE", demand.amount) {
        Some((_, evidence)) => evidence,
        None => Evidence::new(Source::Process, format!("the bound is {limit}")),
    };
    let fixes = if may_raise { vec![] } else { vec!["raise-limit"] };
    Some(Finding {
        fixes,
        ..finding(
            Code::LimitReached,
            demand,
            title,
            vec![asked(demand, &format!("{} open files", demand.amount)), evidence],
        )
    })
}

/// The number of processes of the account against the unit's limit; root is not limited (getrlimit(2)).
fn processes(snapshot: &Snapshot, case: &Case) -> Option<Finding> {
    let unit = case.service.unit.as_ref()?;
    let limit = unit.hard_limit("LimitNPROC").filter(|l| *l != UNLIMITED)?;
    let uid = case.starter.uid;
    if uid == 0 {
        return None;
    }
    // One of its own that is just starting is not in its way.
    let own = |pid: u32| case.processes.iter().any(|p| p.brief.pid == pid);
    let there = snapshot.processes().seen()?.iter().filter(|p| p.uid == uid && !own(p.pid)).count() as u64;
    if there < limit {
        return None;
    }
    let (_, evidence) = limited(case, "LimitNPROC", UNLIMITED)?;
    Some(Finding {
        code: Code::LimitReached,
        severity: Severity::Error,
        subject: Subject {
            account: Some(case.starter.name.clone()),
            directive: Some("LimitNPROC".into()),
            ..Subject::default()
        },
        title: format!("{} may have {limit} processes, and has {there} already", case.starter.name),
        // A daemon that needs no further process or thread gets along.
        proof: Proof::Now,
        evidence: vec![
            evidence,
            Evidence::new(Source::Process, format!("{there} processes of {}", case.starter.name)),
        ],
        fixes: vec!["raise-limit"],
        blocks: true,
        stage: stage::EXECUTE,
    })
}

/// Limits of a unit that a complaint of its daemon can be about.
fn limits_of(code: Code, words: &str) -> &'static [&'static str] {
    let words = words.to_ascii_lowercase();
    let files = ["open file", "file descriptor", "ulimit -n", "fd limit"].iter().any(|w| words.contains(w));
    match code {
        Code::MemoryShort => &["LimitAS", "LimitDATA", "LimitRSS", "MemoryMax", "MemoryLimit"],
        Code::LimitReached if files => &["LimitNOFILE"],
        Code::LimitReached => &["LimitNPROC", "TasksMax", "LimitNOFILE"],
        _ => &[],
    }
}

/// What the last start complained of, where its unit sets a limit on that and nobody changed the unit since.
fn complained(snapshot: &Snapshot, case: &Case) -> Option<Finding> {
    let unit = case.service.unit.as_ref().filter(|_| case.processes.is_empty())?;
    let failures = case.telling().into_iter().flat_map(|a| &a.failures);
    let (failure, key) = failures.filter(|f| !f.found.aftermath).find_map(|f| {
        let key = limits_of(f.code, &f.text)
            .iter()
            .find(|key| unit.hard_limit(key).is_some_and(|l| l != UNLIMITED))?;
        Some((f, *key))
    })?;
    let changed = case.unit_changed(snapshot)?;
    let (_, evidence) = limited(case, key, UNLIMITED)?;
    (changed <= failure.time?.div_euclid(1_000_000)).then(|| Finding {
        code: failure.code,
        severity: Severity::Error,
        subject: Subject { directive: Some(key.into()), ..Subject::default() },
        title: format!(
            "{} needs more than its unit allows: {key}={}",
            case.service.name,
            unit.value("Service", key).unwrap_or_default()
        ),
        proof: Proof::Now,
        evidence: vec![evidence],
        fixes: vec!["raise-limit"],
        blocks: true,
        stage: stage::EXECUTE,
    })
}

/// What the kernel says when it ends a process for want of memory (`mm/oom_kill.c`).
struct MemoryKill<'l> {
    pid: &'l str,
    /// Name of the process, cut to 15 bytes.
    name: &'l str,
    /// Its account; kernels before 5.3 do not say.
    uid: Option<u32>,
}

impl<'l> MemoryKill<'l> {
    /// Reads `… Killed process PID (NAME) total-vm:…, …, UID:N …`.
    fn read(line: &'l str) -> Option<Self> {
        let (_, rest) = line.split_once("Killed process ")?;
        let (pid, rest) = rest.split_once(" (")?;
        let (name, rest) = rest.rsplit_once(')')?;
        let uid = rest.split_once("UID:").and_then(|(_, u)| u.split([' ', ',']).next()?.parse().ok());
        Some(Self { pid, name, uid })
    }
}

/// The control group in the line that goes before such a kill:
/// `oom-kill:…,task_memcg=GROUP,task=NAME,pid=PID,uid=N`. Names may hold anything, commas among it, so it is
/// read from its ends.
fn control_group_of<'l>(line: &'l str, pid: &str) -> Option<&'l str> {
    let (_, rest) = line.strip_prefix("oom-kill:")?.split_once(",task_memcg=")?;
    let (rest, _) = rest.rsplit_once(",uid=")?;
    let (rest, of) = rest.rsplit_once(",pid=")?;
    let (group, _) = rest.split_once(",task=")?;
    (of == pid).then_some(group)
}

/// The kernel's or the manager's word that a run was ended because memory ran out.
pub(super) fn killed_for_memory(
    snapshot: &Snapshot,
    case: &Case,
    began: i64,
    ended: i64,
    result: &str,
) -> Option<Evidence> {
    let entries = snapshot.journal_of("_TRANSPORT=kernel", 400).seen().unwrap_or_default();
    let accounts = case.accounts(snapshot);
    // A kill long before the end was that of a process that the daemon lives without.
    let from = began.max(ended - 10_000_000);
    let kill = entries.iter().find(|e| {
        let time = i64::try_from(e.time).unwrap_or(0);
        let Some(kill) = MemoryKill::read(&e.message) else { return false };
        if time < from || time > ended + 2_000_000 || !case.service.has_name(kill.name) {
            return false;
        }
        // Anybody can give a process that name: whose it was, its control group tells, or its account.
        let group = entries.iter().find_map(|e| control_group_of(&e.message, kill.pid));
        let owner = group.and_then(|group| crate::case::owner_of(snapshot, group));
        match (owner, case.service.unit_name()) {
            (Some(owner), Some(unit)) => owner == unit,
            // The group is nobody's in particular.
            _ => kill.uid.is_none_or(|uid| uid == 0 || accounts.contains(&uid)),
        }
    });
    match kill {
        Some(entry) => Some(
            Evidence::new(Source::Log, entry.message.clone())
                .file("journal")
                .time(i64::try_from(entry.time).ok(), &case.zone),
        ),
        None => (result == "oom-kill").then(|| {
            Evidence::new(Source::Manager, "the manager saw it killed for memory")
                .file("journal")
                .time(Some(ended), &case.zone)
        }),
    }
}

#[cfg(test)]
mod tests {
    use super::{MemoryKill, bytes, control_group_of};

    #[test]
    fn a_kill_for_memory_is_read_from_its_ends() {
        let line = "oom-kill:constraint=CONSTRAINT_MEMCG,nodemask=(null),cpuset=/,mems_allowed=0,\
            oom_memcg=/user.slice,task_memcg=/user.slice/a,task=x,pid=7,uid=0,pid=500,uid=1000";
        assert_eq!(control_group_of(line, "500"), Some("/user.slice/a"));
        assert_eq!(control_group_of(line, "7"), None);
        let line = "Memory cgroup out of memory: Killed process 500 (tide) (x) total-vm:9kB, anon-rss:8kB, \
            UID:1000 pgtables:9kB oom_score_adj:0";
        let kill = MemoryKill::read(line).expect("a kill");
        assert_eq!((kill.pid, kill.name, kill.uid), ("500", "tide) (x", Some(1000)));
        assert_eq!(MemoryKill::read("Killed process 5 (nginx)").expect("a kill").uid, None);
        assert!(MemoryKill::read("Killed process").is_none());
    }

    #[test]
    fn amounts_for_people() {
        for (amount, expected) in
            [(512, "512 bytes"), (2048, "2 KiB"), (1536 << 20, "1.5 GiB"), (128 << 20, "128 MiB")]
        {
            assert_eq!(bytes(amount), expected);
        }
    }
}
