//! The program that would really run: its shared libraries, and for Java the runtime that the service picks
//! up.
use crate::case::Case;
use crate::code::Code;
use crate::config::{Severity, nearest_file};
use crate::finding::{Evidence, Finding, Proof, Source, Subject, stage};
use crate::path;
use crate::runtime::{elf, java};
use crate::snapshot::Snapshot;

pub(super) fn check(snapshot: &Snapshot, case: &Case) -> Vec<Finding> {
    if !case.processes.is_empty() {
        return vec![];
    }
    let mut found = libraries(snapshot, case);
    if case.service.kind.profile().on_java {
        found.extend(java_runtime(snapshot, case));
        found.extend(archive(snapshot, case));
    }
    found
}

/// The archive that the runtime is told to run.
fn archive(snapshot: &Snapshot, case: &Case) -> Option<Finding> {
    let words = &case.service.instance.command;
    let file = words.get(words.iter().position(|w| w == "-jar")? + 1)?;
    if !file.starts_with('/') || snapshot.exists(file) != Some(false) {
        return None;
    }
    let unit = case.service.unit.as_ref();
    let direct = unit.is_some_and(|u| u.commands("ExecStart").first().is_some_and(|c| c.words == *words));
    let mut evidence = vec![Evidence::new(Source::File, "does not exist").file(file)];
    let near = nearest_file(snapshot, file);
    evidence.extend(near.map(|n| Evidence::new(Source::File, format!("did you mean {n}?"))));
    let title = format!("{file}, which {} runs, does not exist", case.service.name);
    let one = finding(Code::ProgramMissing, file, title, evidence);
    // A script may have told its own words of it another way.
    Some(if direct { one } else { Finding { proof: Proof::Now, ..one } })
}

fn finding(code: Code, path: &str, title: String, evidence: Vec<Evidence>) -> Finding {
    Finding {
        code,
        severity: Severity::Error,
        subject: Subject::path(path),
        title,
        proof: Proof::Inevitable,
        evidence,
        fixes: vec![],
        blocks: true,
        stage: stage::EXECUTE,
    }
}

fn libraries(snapshot: &Snapshot, case: &Case) -> Vec<Finding> {
    let Some(program) =
        case.service.program().map(|p| case.service.kind.executable(p)).filter(|p| p.starts_with('/'))
    else {
        return vec![];
    };
    let missing = elf::missing(snapshot, &program, &case.service.instance.environment);
    let one = |m: elf::Missing| {
        let evidence = vec![
            Evidence::new(Source::File, format!("it needs {}", m.library)).file(&m.needed_by),
            Evidence::new(Source::File, "not in any directory that the loader searches"),
        ];
        finding(
            Code::ProgramMissing,
            &m.library,
            format!("{}, a library that {} needs, does not exist", m.library, path::name(&program)),
            evidence,
        )
    };
    missing.into_iter().map(one).collect()
}

fn java_runtime(snapshot: &Snapshot, case: &Case) -> Vec<Finding> {
    let instance = &case.service.instance;
    let Some(launcher) = java::launcher(snapshot, instance) else { return vec![] };
    let others = || {
        let all = java::installed(snapshot);
        let shown: Vec<String> = all
            .iter()
            .map(|r| format!("{} in {}", r.version.map_or("one".into(), |v| v.to_string()), r.home))
            .collect();
        if shown.is_empty() {
            "no other runtime is installed".to_owned()
        } else {
            format!("installed: {}", shown.join(", "))
        }
    };
    if snapshot.exists(&launcher) == Some(false) {
        let evidence = vec![
            Evidence::new(Source::File, "not there").file(&launcher),
            Evidence::new(Source::File, others()),
        ];
        return vec![finding(
            Code::RuntimeWrong,
            &launcher,
            format!("{launcher}, the runtime that {} would start, does not exist", case.service.name),
            evidence,
        )];
    }
    let home = java::home_of(snapshot, &launcher);
    let Some(own) = java::runtime(snapshot, &home) else { return vec![] };
    if !own.has_server {
        let evidence = vec![
            Evidence::new(Source::File, "no lib/server/libjvm.so").file(&home),
            Evidence::new(Source::File, others()),
        ];
        return vec![finding(
            Code::RuntimeWrong,
            &home,
            format!("the runtime in {home} has no virtual machine for servers"),
            evidence,
        )];
    }
    let Some(((archive, needs), has)) = java::program(snapshot, instance).zip(own.version) else {
        return vec![];
    };
    if needs <= has {
        return vec![];
    }
    let evidence = vec![
        Evidence::new(Source::File, format!("its classes need version {needs}")).file(&archive),
        Evidence::new(Source::File, format!("version {has}")).file(&home),
        Evidence::new(Source::File, others()),
    ];
    vec![finding(
        Code::RuntimeWrong,
        &home,
        format!("{} needs Java {needs}, but picks up version {has} in {home}", path::name(&archive)),
        evidence,
    )]
}
