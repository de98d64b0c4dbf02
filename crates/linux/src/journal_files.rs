//! Where journal files lie, and their newest entries for a unit.
use crate::cage::Cage;
use crate::files;
use jolly_core::host::{Answer, Look, Unseen};
use jolly_core::log::journal::{ReadAt, newest, newest_with};

/// Most journal files that are looked into.
const FILES: usize = 400;

/// Entries of a unit, of the host below a cage.
pub(crate) fn entries(cage: &Cage, unit: &str, most: u32) -> Look<Answer> {
    readers(cage).map(|readers| Answer::Journal(newest(readers, unit, most as usize)))
}

/// Entries with a field of a value.
pub(crate) fn entries_of(cage: &Cage, field: &str, most: u32) -> Look<Answer> {
    readers(cage).map(|readers| Answer::Journal(newest_with(readers, &[field.to_owned()], most as usize)))
}

fn readers(cage: &Cage) -> Look<Vec<ReadAt<'static>>> {
    let mut found: Vec<String> = Vec::new();
    let mut denied = false;
    let mut names = |dir: &str, keep: fn(&str) -> bool| -> Vec<String> {
        match cage.look(dir, true, files::list) {
            Look::Seen(Answer::Names(names)) => {
                names.into_iter().filter(|e| keep(&e.name)).map(|e| format!("{dir}/{}", e.name)).collect()
            }
            Look::NotSeen(Unseen::Denied) => {
                denied = true;
                Vec::new()
            }
            _ => Vec::new(),
        }
    };
    for base in ["/var/log/journal", "/run/log/journal"] {
        for machine in names(base, |_| true) {
            found.extend(names(&machine, is_journal));
        }
    }
    // Of more than that the newest are looked into: those that are written to, then by when they were begun.
    found.sort();
    found.sort_by_key(|path| std::cmp::Reverse(begun(path)));
    found.truncate(FILES);
    let mut readers: Vec<ReadAt> = Vec::new();
    for path in &found {
        match cage.look(path, true, files::opened) {
            Look::Seen(file) => {
                readers.push(Box::new(move |offset, length| files::bytes_at(&file, offset, length).ok()))
            }
            Look::NotSeen(Unseen::Denied) => denied = true,
            _ => {}
        }
    }
    if readers.is_empty() {
        return if denied { Look::NotSeen(Unseen::Denied) } else { Look::Absent };
    }
    Look::Seen(readers)
}

/// When an archived file was begun, by its name (`…@SEQUENCE-NUMBER-TIME.journal`, all in hexadecimal); the
/// end of time for one that is still written to.
fn begun(path: &str) -> u64 {
    let name = path.rsplit('/').next().unwrap_or(path);
    let time = name.split_once('@').and_then(|(_, rest)| rest.split('.').next()?.rsplit('-').next());
    time.map_or(u64::MAX, |hex| u64::from_str_radix(hex, 16).unwrap_or(0))
}

fn is_journal(name: &str) -> bool {
    (name.ends_with(".journal") || name.ends_with(".journal~")) && !name.starts_with("user-")
}

#[cfg(test)]
mod tests {
    use super::begun;

    #[test]
    fn the_newest_files_come_first() {
        let mut all = [
            "/j/m/system@0a-0000000000000001-0005.journal",
            "/j/m/system@0b-0000000000000001-0009.journal",
            "/j/m/system@tide.journal~",
            "/j/m/system.journal",
        ];
        all.sort_by_key(|path| std::cmp::Reverse(begun(path)));
        assert!(all[0].ends_with("system.journal") && all[1].contains("0009") && all[3].contains("tide"));
    }
}
