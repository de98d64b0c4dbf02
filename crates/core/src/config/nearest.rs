//! The nearest known name to a misspelt one.

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
