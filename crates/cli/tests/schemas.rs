//! The committed schemas are those of the report types. Run locally, this test writes them anew; it fails
//! when they differed.
use jolly_core::report;
use jolly_core::services_file::ServicesFile;
use schemars::{Schema, schema_for};
use std::path::Path;

fn all() -> Vec<(&'static str, Schema)> {
    vec![
        ("survey", schema_for!(report::SurveyReport)),
        ("diagnosis", schema_for!(report::Diagnosis)),
        ("ports", schema_for!(report::PortsReport)),
        ("lint", schema_for!(report::LintReport)),
        ("lint-all", schema_for!(report::LintOverview)),
        ("settings", schema_for!(report::SettingsReport)),
        ("attempt-line", schema_for!(report::FollowedLine)),
        ("attempts", schema_for!(report::AttemptsReport)),
        ("fix", schema_for!(report::FixReport)),
        ("undo", schema_for!(report::UndoReport)),
        ("verify", schema_for!(report::VerifyReport)),
        ("services-file", schema_for!(ServicesFile)),
    ]
}

#[test]
fn committed_schemas_are_current_and_none_is_an_orphan() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/schemas");
    std::fs::create_dir_all(&folder).expect("docs can be written");
    let mut stale = Vec::new();
    for (name, schema) in all() {
        let text = format!("{}\n", serde_json::to_string_pretty(&schema).expect("a schema is JSON"));
        let file = folder.join(format!("{name}.json"));
        if std::fs::read_to_string(&file).ok().as_deref() != Some(text.as_str()) {
            std::fs::write(&file, text).expect("docs can be written");
            stale.push(name);
        }
    }
    let known: Vec<String> = all().iter().map(|(n, _)| format!("{n}.json")).collect();
    let orphans: Vec<_> = std::fs::read_dir(&folder)
        .expect("the folder is there")
        .flatten()
        .map(|e| e.file_name())
        .filter(|n| !known.iter().any(|k| n == k.as_str()))
        .collect();
    assert!(stale.is_empty() && orphans.is_empty(), "written anew: {stale:?}; orphans: {orphans:?}");
}
