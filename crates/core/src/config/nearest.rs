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
        let cost = distance(wrong.as_bytes(), name.to_ascii_lowercase().as_bytes());
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

/// Edits between two words: insert, delete, replace, and swap of neighbours.
fn distance(a: &[u8], b: &[u8]) -> usize {
    let mut before: Vec<usize> = Vec::new();
    let mut last: Vec<usize> = (0..=b.len()).collect();
    for i in 1..=a.len() {
        let mut row = vec![i];
        for j in 1..=b.len() {
            let mut least = (last[j] + 1).min(row[j - 1] + 1).min(last[j - 1] + usize::from(a[i - 1] != b[j - 1]));
            if i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1] {
                least = least.min(before[j - 2] + 1);
            }
            row.push(least);
        }
        before = std::mem::replace(&mut last, row);
    }
    last[b.len()]
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
