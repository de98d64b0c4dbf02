//! What the package manager changed, from its own log.
use crate::log::Tail;
use crate::snapshot::Snapshot;
use jiff::Timestamp;
use jiff::civil::DateTime;
use jiff::tz::TimeZone;

/// How much of such a log is read from its end, in bytes.
const BUDGET: u64 = 2 << 20;
/// Most changes that are told.
const MOST: usize = 50;

/// How a log writes its lines.
#[derive(Clone, Copy)]
enum Form {
    /// `2031-04-02 06:10:11 upgrade NAME:ARCH OLD NEW`, local time.
    Dpkg,
    /// `2031-04-02T06:10:11+0000 SUBDEBUG Upgraded: NAME-VERSION`.
    Rpm,
    /// `2031-04-02 06:10:11|install|NAME|VERSION|…`, local time.
    Zypp,
    /// `[2031-04-02T06:10:11+0000] [ALPM] upgraded NAME (OLD -> NEW)`.
    Alpm,
}

const LOGS: &[(&str, Form)] = &[
    ("/var/log/dpkg.log", Form::Dpkg),
    ("/var/log/dpkg.log.1", Form::Dpkg),
    ("/var/log/dnf.rpm.log", Form::Rpm),
    ("/var/log/zypp/history", Form::Zypp),
    ("/var/log/pacman.log", Form::Alpm),
];

/// Packages that changed since a moment (microseconds since the epoch), oldest first, as `NAME OLD → NEW`,
/// `NAME VERSION installed` or `NAME VERSION removed`; `None` where no such log can be read.
pub fn changed(snapshot: &Snapshot, since: i64, zone: &TimeZone) -> Option<Vec<String>> {
    let mut found: Vec<(i64, String)> = Vec::new();
    let mut readable = false;
    for (file, form) in LOGS {
        let Some(status) = snapshot.stat(file).seen() else { continue };
        readable = true;
        for line in Tail::new(snapshot, file, status.size, BUDGET) {
            match parse(&line.text, *form, zone) {
                Some((time, _)) if time < since => break,
                Some((time, Some(words))) => found.push((time, words)),
                _ => {}
            }
            if found.len() >= MOST {
                break;
            }
        }
    }
    found.reverse();
    found.sort_by_key(|(time, _)| *time);
    found.dedup_by(|a, b| a.1 == b.1);
    readable.then(|| found.into_iter().map(|(_, words)| words).collect())
}

fn local(text: &str, zone: &TimeZone) -> Option<i64> {
    let civil: DateTime = text.parse().ok()?;
    Some(zone.to_timestamp(civil).ok()?.as_microsecond())
}

fn stamped(text: &str) -> Option<i64> {
    let (main, offset) = text.split_at_checked(text.len().checked_sub(5)?)?;
    let colon = format!("{main}{}:{}", offset.get(..3)?, offset.get(3..)?);
    Some(colon.parse::<Timestamp>().ok()?.as_microsecond())
}

/// Time of a line, and the change it tells of, if any.
fn parse(line: &str, form: Form, zone: &TimeZone) -> Option<(i64, Option<String>)> {
    match form {
        Form::Dpkg => {
            let time = local(line.get(..19)?, zone)?;
            let words: Vec<&str> = line.get(20..)?.split_whitespace().collect();
            let told = match words.as_slice() {
                ["upgrade", name, old, new] if old != new => Some(format!("{} {old} → {new}", plain(name))),
                ["install", name, _, new] => Some(format!("{} {new} installed", plain(name))),
                ["remove" | "purge", name, old, _] if *old != "<none>" => {
                    Some(format!("{} {old} removed", plain(name)))
                }
                _ => None,
            };
            Some((time, told))
        }
        Form::Rpm => {
            let (stamp, rest) = line.split_once(' ')?;
            let (verb, name) = rest.split_once(' ')?.1.split_once(": ")?;
            let how = match verb {
                "Upgraded" | "Upgrade" => "upgraded",
                "Installed" => "installed",
                "Erase" | "Erased" | "Removed" => "removed",
                _ => return Some((stamped(stamp)?, None)),
            };
            Some((stamped(stamp)?, Some(format!("{} {how}", name.trim()))))
        }
        Form::Zypp => {
            let fields: Vec<&str> = line.split('|').collect();
            let time = local(fields.first()?, zone)?;
            let told = match fields.as_slice() {
                [_, "install", name, version, ..] => Some(format!("{name} {version} installed")),
                [_, "remove", name, version, ..] => Some(format!("{name} {version} removed")),
                _ => None,
            };
            Some((time, told))
        }
        Form::Alpm => {
            let (stamp, rest) = line.strip_prefix('[')?.split_once("] [ALPM] ")?;
            let time = stamped(stamp)?;
            let (verb, what) = rest.split_once(' ')?;
            let (name, versions) = what.split_once(" (").unwrap_or((what, ""));
            let versions = versions.trim_end_matches(')').replace("->", "→");
            let told = match verb {
                "upgraded" => Some(format!("{name} {versions}")),
                "installed" | "removed" => Some(format!("{name} {versions} {verb}")),
                _ => None,
            };
            Some((time, told))
        }
    }
}

fn plain(name: &str) -> &str {
    name.split(':').next().unwrap_or(name)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tests::TextHost;

    #[test]
    fn changes_since_a_moment_in_every_form() {
        for (file, text, expected) in [
            (
                "/var/log/dpkg.log",
                "2031-04-01 05:00:00 upgrade nginx:amd64 1.21-1 1.22-1\n\
                    2031-04-02 06:00:00 startup archives unpack\n\
                    2031-04-02 06:00:01 upgrade nginx:amd64 1.22-1 1.24-1\n\
                    2031-04-02 06:00:01 status half-configured nginx:amd64 1.24-1\n\
                    2031-04-02 06:00:02 install tidetables:all <none> 3.0\n\
                    2031-04-02 06:00:03 remove redis:amd64 7.0-1 <none>\n",
                vec!["nginx 1.22-1 → 1.24-1", "tidetables 3.0 installed", "redis 7.0-1 removed"],
            ),
            (
                "/var/log/dnf.rpm.log",
                "2031-04-02T05:59:00+0000 SUBDEBUG Upgraded: old-1\n\
                    2031-04-02T08:00:00+0200 SUBDEBUG Upgraded: nginx-1:1.24-1.el9.x86_64\n",
                vec!["nginx-1:1.24-1.el9.x86_64 upgraded"],
            ),
            (
                "/var/log/zypp/history",
                "# a comment\n2031-04-02 06:00:01|install|nginx|1.24-1|x86_64|root@quay1\n",
                vec!["nginx 1.24-1 installed"],
            ),
            (
                "/var/log/pacman.log",
                "[2031-04-02T06:00:01+0000] [ALPM] upgraded nginx (1.22-1 -> 1.24-1)\n\
                    [2031-04-02T06:00:02+0000] [PACMAN] done\n",
                vec!["nginx 1.22-1 → 1.24-1"],
            ),
        ] {
            let host = TextHost::new().file(file, text);
            let since = "2031-04-02T06:00:00Z".parse::<Timestamp>().expect("a time").as_microsecond();
            assert_eq!(
                changed(&Snapshot::new(&host), since, &TimeZone::UTC),
                Some(expected.into_iter().map(str::to_owned).collect()),
                "{file}"
            );
        }
        assert_eq!(changed(&Snapshot::new(&TextHost::new()), 0, &TimeZone::UTC), None);
    }
}
