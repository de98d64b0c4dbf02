//! The program that would really run: its shared libraries, and for Java the runtime that the service picks
//! up.
use crate::case::Case;
use crate::code::Code;
use crate::config::{About, Fault, Place, Severity, Span, edit_of_variable, nearest_file};
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

/// Where the variable that names the runtime is set, with a runtime that is there.
fn another_home(snapshot: &Snapshot, case: &Case) -> Option<(Span, String)> {
    let instance = &case.service.instance;
    let home = ["JAVA_HOME", "JRE_HOME"].into_iter().find_map(|key| instance.environment.get(key))?;
    let usual = "/usr/lib/jvm/default-java".to_owned();
    let all = java::installed(snapshot);
    let newest = all.iter().filter(|r| r.has_server).max_by_key(|r| r.version).map(|r| r.home.clone());
    let there = if snapshot.exists(&usual) == Some(true) { usual } else { newest? };
    edit_of_variable(snapshot, instance, home, &there)
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
        let title = format!("{launcher}, the runtime that {} would start, does not exist", case.service.name);
        let mut one = finding(Code::RuntimeWrong, &launcher, title, evidence);
        if let Some(edit) = another_home(snapshot, case) {
            let about = Some(About::Directory(path::parent(path::parent(&launcher)).to_owned()));
            let place = Some(Place::line(&edit.0.file, 0));
            one.subject.fault =
                Some(Box::new(Fault { place, directive: Some("JAVA_HOME".into()), about, edit: Some(edit) }));
            one.fixes = vec!["correct-directive"];
        }
        return vec![one];
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
