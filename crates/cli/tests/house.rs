//! What holds for the sources as a whole.
use std::path::{Path, PathBuf};

fn sources(dir: &Path, found: &mut Vec<PathBuf>) {
    for entry in std::fs::read_dir(dir).expect("a folder of the sources").flatten() {
        let path = entry.path();
        if path.is_dir() && !path.ends_with("target") {
            sources(&path, found);
        } else if path.extension().is_some_and(|e| e == "rs") {
            found.push(path);
        }
    }
}

#[test]
fn lines_are_at_most_110_characters_wide() {
    let top = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let mut files = Vec::new();
    ["crates", "xtask"].iter().for_each(|part| sources(&top.join(part), &mut files));
    assert!(files.len() > 200, "the sources are looked at: {}", files.len());
    let mut wide = Vec::new();
    for file in files {
        let text = std::fs::read_to_string(&file).expect("a source is text");
        let of = |(at, line): (usize, &str)| {
            (line.chars().count() > 110).then(|| format!("{}:{}", file.display(), at + 1))
        };
        wide.extend(text.lines().enumerate().filter_map(of));
    }
    assert!(wide.is_empty(), "{wide:#?}");
}
