//! The nearest known name to a misspelt one.
use super::{About, Configuration};
use crate::code::Code;
use crate::path;
use crate::snapshot::Snapshot;

/// So many findings get a proposal: what is dear to find out need not be for the rest.
const PROPOSED: usize = 20;

/// What is there beside a path that is not, and has nearly its name.
pub fn nearest_file(snapshot: &Snapshot, wrong: &str) -> Option<String> {
    let parent = path::parent(wrong);
    let names = snapshot.aside(|| snapshot.list(parent)).seen()?;
    let near = nearest(path::name(wrong), names.iter().map(|entry| entry.name.as_str()))?;
    Some(path::join(parent, near))
}

/// Adds to findings about files that do not exist which one was likely meant.
pub fn propose_files(snapshot: &Snapshot, config: &mut Configuration) {
    let missing =
        config.findings.iter_mut().filter(|f| f.code == Code::ConfigMissingFile && f.help.is_none());
    for finding in missing.take(PROPOSED) {
        if let Some(About::File(path) | About::Directory(path)) = &finding.about {
            finding.help = nearest_file(snapshot, path).map(|near| format!("did you mean {near}?"));
        }
    }
}

/// The candidate that is most likely meant: few edits, fewer than a third of the letters, and no tie.
pub fn nearest<'a>(wrong: &str, known: impl Iterator<Item = &'a str>) -> Option<&'a str> {
    let wrong = wrong.to_ascii_lowercase();
    let most = match wrong.len() {
        0..=2 => return None,
        3..=5 => 1,
        6..=9 => 2,
        _ => 3,
    };
    let mut best: Option<(usize, &str)> = None;
    let mut tie = false;
    for name in known {
        if name.len().abs_diff(wrong.len()) > most {
            continue;
        }
        // Insert, delete, replace, and swap of neighbours count one each.
        let cost = strsim::osa_distance(&wrong, &name.to_ascii_lowercase());
        match best {
            Some((least, chosen)) if cost == least && chosen != name => tie = true,
            Some((least, _)) if cost >= least => {}
            _ if cost <= most => {
                best = Some((cost, name));
                tie = false;
            }
            _ => {}
        }
    }
    best.filter(|_| !tie).map(|(_, name)| name)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn proposes_one_near_name_or_none() {
        let known = ["worker_processes", "worker_priority", "listen", "DocumentRoot"];
        let near = |wrong| nearest(wrong, known.into_iter());
        assert_eq!(near("worker_proceses"), Some("worker_processes"));
        assert_eq!(near("lisetn"), Some("listen"), "a swap is one edit");
        assert_eq!(near("DocumentRooot"), Some("DocumentRoot"));
        assert_eq!(near("upstream"), None);
        assert_eq!(nearest("abd", ["abc", "abe"].into_iter()), None, "a tie proposes nothing");
    }
}
