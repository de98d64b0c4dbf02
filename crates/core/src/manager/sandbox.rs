//! What the sandbox of a unit takes away although file modes would allow it (systemd.exec(5)).
use super::Unit;
use crate::access::Right;
use crate::path;

/// A setting that refuses a path.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Barrier {
    /// Its name.
    pub key: &'static str,
    /// The part of its value that refuses.
    pub value: String,
}

impl std::fmt::Display for Barrier {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}={}", self.key, self.value)
    }
}

fn below(file: &str, dir: &str) -> bool {
    let dir = dir.trim_start_matches(['-', '+']).trim_end_matches('/');
    file == dir || file.strip_prefix(dir).is_some_and(|rest| rest.starts_with('/'))
}

/// Whether a value of the manager's means yes.
pub fn on(value: &str) -> bool {
    matches!(value, "yes" | "true" | "on" | "1" | "y" | "t")
}

/// Directories that the manager makes for a unit, and that stay open to it.
const OWN: [(&str, &str); 4] = [
    ("RuntimeDirectory", "/run"),
    ("StateDirectory", "/var/lib"),
    ("LogsDirectory", "/var/log"),
    ("CacheDirectory", "/var/cache"),
];

impl Unit {
    /// Directories that the manager makes for the unit before it starts.
    pub fn own_directories(&self) -> Vec<String> {
        OWN.iter()
            .flat_map(|(key, base)| {
                self.paths(&[key]).into_iter().map(|d| path::join(base, &d)).collect::<Vec<_>>()
            })
            .collect()
    }

    fn paths(&self, keys: &[&str]) -> Vec<String> {
        keys.iter()
            .flat_map(|k| self.values("Service", k))
            .flat_map(|v| v.split_whitespace().map(str::to_owned).collect::<Vec<_>>())
            .collect()
    }

    fn switched(&self, key: &str) -> bool {
        self.value("Service", key).is_some_and(|v| on(&v))
    }

    /// The setting that takes a right on a path away; the most specific path wins. `None` where nothing does.
    pub fn barrier(&self, file: &str, right: Right) -> Option<Barrier> {
        let longest = |paths: &[String]| {
            paths
                .iter()
                .filter(|p| below(file, p))
                .map(|p| p.trim_start_matches(['-', '+']).trim_end_matches('/').len())
                .max()
        };
        let named = |paths: &[String]| {
            paths.iter().filter(|p| below(file, p)).max_by_key(|p| p.len()).cloned().unwrap_or_default()
        };
        let mut open = self.paths(&["ReadWritePaths", "ReadWriteDirectories"]);
        open.extend(self.own_directories());
        let targets = |keys: &[&str]| -> Vec<String> {
            self.paths(keys).iter().filter_map(|b| b.rsplit(':').next().map(str::to_owned)).collect()
        };
        open.extend(targets(&["BindPaths"]));
        let bound = targets(&["BindPaths", "BindReadOnlyPaths"]);
        let writable = longest(&open).unwrap_or(0);
        let readable = writable
            .max(longest(&self.paths(&["ReadOnlyPaths", "ReadOnlyDirectories"])).unwrap_or(0))
            .max(longest(&bound).unwrap_or(0));
        let closed = self.paths(&["InaccessiblePaths", "InaccessibleDirectories"]);
        // What is made inaccessible has nothing below it any more.
        if longest(&closed).is_some() && longest(&bound).is_none() {
            return Some(Barrier { key: "InaccessiblePaths", value: named(&closed) });
        }
        if right == Right::Execute {
            let (no, yes) = (self.paths(&["NoExecPaths"]), self.paths(&["ExecPaths"]));
            return match (longest(&no), longest(&yes)) {
                (Some(n), y) if y.is_none_or(|y| n >= y) => {
                    Some(Barrier { key: "NoExecPaths", value: named(&no) })
                }
                // What cannot be seen cannot be started either.
                _ => self.of_home(file, Right::Read, writable, readable),
            };
        }
        if right == Right::Write {
            let paths = self.paths(&["ReadOnlyPaths", "ReadOnlyDirectories"]);
            if longest(&paths).is_some_and(|l| l >= writable && !open.contains(&named(&paths))) {
                return Some(Barrier { key: "ReadOnlyPaths", value: named(&paths) });
            }
        }
        self.of_home(file, right, writable, readable).or_else(|| self.of_system(file, right, writable))
    }

    fn of_home(&self, file: &str, right: Right, writable: usize, readable: usize) -> Option<Barrier> {
        if !["/home", "/root", "/run/user"].iter().any(|d| below(file, d)) {
            return None;
        }
        let dynamic = self.switched("DynamicUser");
        let value = self
            .value("Service", "ProtectHome")
            .filter(|v| v != "no" && v != "false")
            .or(dynamic.then(|| "read-only".to_owned()))?;
        let hidden = value == "tmpfs" || on(&value);
        let refused = match right {
            Right::Write => writable == 0,
            _ => hidden && readable == 0,
        };
        (refused && (hidden || value == "read-only")).then_some(Barrier { key: "ProtectHome", value })
    }

    fn of_system(&self, file: &str, right: Right, writable: usize) -> Option<Barrier> {
        let always_open = ["/dev", "/proc", "/sys"].iter().any(|d| below(file, d));
        if right != Right::Write || writable > 0 || always_open {
            return None;
        }
        let dynamic = self.switched("DynamicUser");
        let temporary = ["/tmp", "/var/tmp"].iter().any(|d| below(file, d));
        if temporary
            && (dynamic || self.value("Service", "PrivateTmp").is_some_and(|v| on(&v) || v == "disconnected"))
        {
            return None;
        }
        let value = if dynamic { Some("strict".to_owned()) } else { self.value("Service", "ProtectSystem") }?;
        let system: &[&str] = match value.as_str() {
            "strict" => &["/"],
            "full" => &["/usr", "/boot", "/efi", "/etc"],
            other if on(other) => &["/usr", "/boot", "/efi"],
            _ => &[],
        };
        let refused = system.iter().any(|d| *d == "/" || below(file, d));
        refused.then(|| {
            if dynamic {
                Barrier { key: "DynamicUser", value: "yes".into() }
            } else {
                Barrier { key: "ProtectSystem", value }
            }
        })
    }

    /// The setting that forbids sockets of a family, `AF_INET`, `AF_INET6` or `AF_UNIX`; `None` where nothing
    /// does.
    pub fn barrier_of_family(&self, family: &str) -> Option<Barrier> {
        let lines = self.values("Service", "RestrictAddressFamilies");
        let first = lines.first()?;
        let mut allowed = first.starts_with('~');
        for line in &lines {
            let (words, gives) = line.strip_prefix('~').map_or((line.as_str(), true), |rest| (rest, false));
            if words.split_whitespace().any(|w| w == family) {
                allowed = gives;
            }
        }
        (!allowed).then(|| Barrier { key: "RestrictAddressFamilies", value: lines.join(" ") })
    }

    /// Lines of a drop-in that take a barrier away for one path alone, as narrow as the settings allow.
    pub fn opening(&self, barrier: &Barrier, file: &str, right: Right) -> Vec<String> {
        let kept = |keys: &[&str]| -> Vec<String> {
            let all = self.paths(keys);
            let others: Vec<String> = all.iter().filter(|p| **p != barrier.value).cloned().collect();
            let key = keys.first().copied().unwrap_or_default();
            std::iter::once(format!("{key}="))
                .chain((!others.is_empty()).then(|| format!("{key}={}", others.join(" "))))
                .collect()
        };
        match (barrier.key, right) {
            ("InaccessiblePaths", _) => kept(&["InaccessiblePaths", "InaccessibleDirectories"]),
            ("NoExecPaths", _) if barrier.value.trim_start_matches(['-', '+']) == file => {
                kept(&["NoExecPaths"])
            }
            ("NoExecPaths", _) => vec![format!("ExecPaths={file}")],
            ("ReadOnlyPaths", _) if barrier.value.trim_start_matches(['-', '+']) == file => {
                let mut lines = kept(&["ReadOnlyPaths", "ReadOnlyDirectories"]);
                // What stands behind it may refuse the same.
                let behind = self.of_home(file, right, 0, 0).or_else(|| self.of_system(file, right, 0));
                let opened =
                    self.paths(&["ReadWritePaths", "ReadWriteDirectories"]).iter().any(|p| below(file, p));
                lines.extend(
                    behind
                        .filter(|_| right == Right::Write && !opened)
                        .map(|_| format!("ReadWritePaths={file}")),
                );
                lines
            }
            ("ProtectHome", Right::Write) if barrier.value != "read-only" => {
                vec!["ProtectHome=tmpfs".into(), format!("BindPaths={file}")]
            }
            ("ProtectHome", _) if barrier.value != "read-only" => {
                vec!["ProtectHome=tmpfs".into(), format!("BindReadOnlyPaths={file}")]
            }
            _ => vec![format!("ReadWritePaths={file}")],
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn unit(settings: &str) -> Unit {
        let mut unit = Unit::named("edge.service");
        unit.read("a", &format!("[Service]\n{settings}\n"));
        unit
    }

    #[track_caller]
    fn refused(settings: &str, file: &str, right: Right, expected: Option<&str>) {
        assert_eq!(
            unit(settings).barrier(file, right).map(|b| b.to_string()).as_deref(),
            expected,
            "{settings} on {file}"
        );
    }

    #[test]
    fn writing_is_refused_by_the_most_specific_setting() {
        let log = "/var/log/edge/error.log";
        refused("", log, Right::Write, None);
        refused("ProtectSystem=strict", log, Right::Write, Some("ProtectSystem=strict"));
        refused("ProtectSystem=strict\nReadWriteDirectories=/var/log", log, Right::Write, None);
        refused("ProtectSystem=strict\nLogsDirectory=edge", log, Right::Write, None);
        refused("ProtectSystem=full", log, Right::Write, None);
        refused("ReadOnlyDirectories=/var", log, Right::Write, Some("ReadOnlyPaths=/var"));
        refused("ReadOnlyPaths=/var\nReadWritePaths=/var/log/edge", log, Right::Write, None);
        refused("DynamicUser=yes", log, Right::Write, Some("DynamicUser=yes"));
        refused("DynamicUser=yes", "/tmp/edge", Right::Write, None);
        refused("ProtectSystem=strict\nPrivateTmp=yes", "/tmp/edge", Right::Write, None);
        refused("ProtectSystem=strict", "/dev/shm/edge", Right::Write, None);
    }

    #[test]
    fn reading_and_executing_have_barriers_of_their_own() {
        refused("ProtectHome=yes", "/home/marta/site", Right::Read, Some("ProtectHome=yes"));
        refused("ProtectHome=read-only", "/home/marta/site", Right::Read, None);
        refused("ProtectHome=read-only", "/home/marta/site", Right::Write, Some("ProtectHome=read-only"));
        refused(
            "ProtectHome=tmpfs\nBindReadOnlyPaths=/home/marta/site",
            "/home/marta/site/index",
            Right::Read,
            None,
        );
        refused("ProtectSystem=strict", "/etc/edge.conf", Right::Read, None);
        refused(
            "InaccessibleDirectories=-/etc/edge",
            "/etc/edge/key.pem",
            Right::Read,
            Some("InaccessiblePaths=-/etc/edge"),
        );
        refused("NoExecPaths=/\nExecPaths=/usr", "/opt/edge", Right::Execute, Some("NoExecPaths=/"));
        refused("NoExecPaths=/\nExecPaths=/usr", "/usr/sbin/edge", Right::Execute, None);
    }

    #[test]
    fn families_of_sockets() {
        assert!(unit("").barrier_of_family("AF_INET").is_none());
        assert!(unit("RestrictAddressFamilies=AF_UNIX").barrier_of_family("AF_INET").is_some());
        assert!(
            unit("RestrictAddressFamilies=AF_UNIX\nRestrictAddressFamilies=AF_INET")
                .barrier_of_family("AF_INET")
                .is_none()
        );
        assert!(unit("RestrictAddressFamilies=~AF_INET6").barrier_of_family("AF_INET6").is_some());
        assert!(unit("RestrictAddressFamilies=~AF_INET6").barrier_of_family("AF_INET").is_none());
    }

    #[test]
    fn what_opens_a_barrier_takes_it_away() {
        for (settings, file, right) in [
            ("ProtectSystem=strict", "/var/log/edge", Right::Write),
            ("ReadOnlyPaths=/var/log/edge /srv", "/var/log/edge", Right::Write),
            ("ReadOnlyPaths=/var/log", "/var/log/edge", Right::Write),
            ("ReadOnlyPaths=/var/log/edge\nProtectSystem=strict", "/var/log/edge", Right::Write),
            ("InaccessiblePaths=/var/log/edge", "/var/log/edge", Right::Write),
            ("ProtectHome=yes", "/home/marta/site", Right::Write),
            ("ProtectHome=yes", "/home/marta/site", Right::Read),
            ("ProtectHome=read-only", "/home/marta/site", Right::Write),
            ("NoExecPaths=/opt", "/opt/edge", Right::Execute),
            ("NoExecPaths=/opt/edge /srv", "/opt/edge", Right::Execute),
            ("DynamicUser=yes", "/var/log/edge", Right::Write),
        ] {
            let mut one = unit(settings);
            let barrier = one.barrier(file, right).expect(settings);
            let lines = one.opening(&barrier, file, right);
            one.read("b", &format!("[Service]\n{}\n", lines.join("\n")));
            assert_eq!(one.barrier(file, right), None, "{settings}: {lines:?}");
        }
    }
}
