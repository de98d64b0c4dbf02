//! What belongs to a service: the directories and files that its unit, its package, the services file or its
//! configuration give it. A log line names nothing: whoever can write the log can write any line.
use super::Case;
use crate::accounts;
use crate::config::{NamedPath, Place};
use crate::path;
use crate::snapshot::Snapshot;
use crate::trust::{self, Last, Paths};
use std::cell::OnceCell;
use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};

/// Directories that many programs share: a name in one of them belongs to a service, never the directory
/// itself.
const SHARED: &[&str] = &[
    "/",
    "/data",
    "/dev/shm",
    "/etc",
    "/home",
    "/media",
    "/mnt",
    "/opt",
    "/run",
    "/srv",
    "/srv/www",
    "/tmp",
    "/usr",
    "/usr/local",
    "/usr/local/etc",
    "/usr/local/lib",
    "/usr/local/share",
    "/usr/local/var",
    "/usr/local/var/log",
    "/usr/local/var/run",
    "/usr/share",
    "/var",
    "/var/cache",
    "/var/lib",
    "/var/local",
    "/var/log",
    "/var/opt",
    "/var/run",
    "/var/spool",
    "/var/tmp",
    "/var/www",
];
/// Places of the system: no service's account is ever given anything below them, whoever names them.
const SYSTEM: &[&str] = &[
    "/bin",
    "/boot",
    "/dev",
    "/etc/cron.d",
    "/etc/cron.daily",
    "/etc/cron.hourly",
    "/etc/cron.monthly",
    "/etc/cron.weekly",
    "/etc/crontab",
    "/etc/environment",
    "/etc/group",
    "/etc/group-",
    "/etc/gshadow",
    "/etc/gshadow-",
    "/etc/hosts",
    "/etc/init.d",
    "/etc/krb5.keytab",
    "/etc/ld.so.cache",
    "/etc/ld.so.conf",
    "/etc/ld.so.conf.d",
    "/etc/ld.so.preload",
    "/etc/nsswitch.conf",
    "/etc/pam.d",
    "/etc/passwd",
    "/etc/passwd-",
    "/etc/polkit-1",
    "/etc/profile",
    "/etc/profile.d",
    "/etc/resolv.conf",
    "/etc/security",
    "/etc/shadow",
    "/etc/shadow-",
    "/etc/ssh",
    "/etc/subgid",
    "/etc/subuid",
    "/etc/ssl/private",
    "/etc/sudoers",
    "/etc/sudoers.d",
    "/etc/sysctl.d",
    "/etc/systemd",
    "/home",
    "/lib",
    "/lib32",
    "/lib64",
    "/libx32",
    "/proc",
    "/root",
    "/run/dbus",
    "/run/lock",
    "/run/log",
    "/run/sudo",
    "/run/systemd",
    "/run/udev",
    "/run/user",
    "/sbin",
    "/sys",
    "/usr/bin",
    "/usr/include",
    "/usr/lib",
    "/usr/lib32",
    "/usr/lib64",
    "/usr/libexec",
    "/usr/local/bin",
    "/usr/local/etc",
    "/usr/local/lib",
    "/usr/local/sbin",
    "/usr/local/share",
    "/usr/sbin",
    "/usr/share",
    "/usr/src",
    "/var/backups",
    "/var/lib/apt",
    "/var/lib/dbus",
    "/var/lib/dpkg",
    "/var/lib/jolly-sentinel",
    "/var/lib/pacman",
    "/var/lib/private",
    "/var/lib/rpm",
    "/var/lib/sudo",
    "/var/lib/systemd",
    "/var/log/audit",
    "/var/log/journal",
    "/var/mail",
    "/var/spool/at",
    "/var/spool/cron",
    "/var/spool/mail",
];
/// Where packages put what belongs to one program, in a directory of its name.
const HOMES: &[&str] = &[
    "/etc",
    "/opt",
    "/run",
    "/srv",
    "/usr/local",
    "/var/cache",
    "/var/lib",
    "/var/log",
    "/var/opt",
    "/var/run",
    "/var/spool",
];
/// Names of programs that run others; a directory of that name is nobody's in particular.
const GENERIC: &[&str] = &[
    "bash", "dash", "env", "java", "node", "perl", "php", "program", "python", "python3", "root", "ruby",
    "sh", "systemd",
];

/// Whether a path is one of the system's own, which are never opened to a service.
pub fn is_system(file: &str) -> bool {
    SYSTEM.iter().any(|s| below(file, s))
}

/// Whether a path is a directory, or something below it.
pub(crate) fn below(file: &str, dir: &str) -> bool {
    file == dir || file.strip_prefix(dir.trim_end_matches('/')).is_some_and(|rest| rest.starts_with('/'))
}

/// Whether nobody but root, and whoever runs this program, can write a file or put another one in its place.
/// What was judged once is remembered with the snapshot.
pub(super) fn by_root<'s>(snapshot: &'s Snapshot) -> impl Fn(&str) -> bool + 's {
    let judged = snapshot.derived("files that only root can write", Mutex::<HashMap<String, bool>>::default);
    let trusted = OnceCell::new();
    move |file| {
        let lock = || judged.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(known) = lock().get(file) {
            return *known;
        }
        let trusted = trusted.get_or_init(|| trust::trusted(snapshot, &[]));
        let found = trust::walk(&Paths(snapshot), file, Last::Followed, trusted).ok();
        let status = found.and_then(|f| snapshot.stat(&f.path).seen());
        let own = status.is_some_and(|s| trusted.account(s.uid) && trust::writer(&s, trusted).is_none());
        lock().insert(file.to_owned(), own);
        own
    }
}

impl Case<'_> {
    /// Numbers of the accounts that the service runs as, as far as they exist; root is none of them.
    pub fn accounts(&self, snapshot: &Snapshot) -> Vec<u32> {
        let named = [
            self.service.described.account.clone(),
            self.config.model.account.as_ref().map(|(name, _)| name.clone()),
        ];
        let unit = self.service.unit.as_ref().and_then(|u| u.value("Service", "User"));
        let numbers = named
            .into_iter()
            .flatten()
            .chain(unit)
            .filter_map(|name| accounts::account(snapshot, &name).seen())
            .map(|a| a.uid);
        let starter = accounts::account(snapshot, &self.starter.uid.to_string()).seen().map(|a| a.uid);
        let mut all: Vec<u32> = numbers.chain(starter).filter(|uid| *uid != 0).collect();
        all.sort_unstable();
        all.dedup();
        all
    }

    /// Whether somebody besides root has a say in what it is started with: by a file of variables that he can
    /// write, or because nothing but a process of his tells of the service. Then what command and
    /// configuration name is his word.
    pub(crate) fn is_steered(&self, snapshot: &Snapshot) -> bool {
        let by_root = by_root(snapshot);
        let instance = &self.service.instance;
        self.is_strangers(snapshot)
            || instance.variables.iter().any(|f| snapshot.exists(f) != Some(false) && !by_root(f))
    }

    /// Whether what a line says is the word of those alone who decide what is started: a built-in default, an
    /// argument, or a line of a file that nobody else can write.
    pub(crate) fn is_roots_word(&self, snapshot: &Snapshot, place: Option<&Place>) -> bool {
        !self.is_steered(snapshot)
            && place.is_none_or(|p| !p.file.starts_with('/') || by_root(snapshot)(&p.file))
    }

    /// Whether a port is the service's by more than a line that its own account could have written: by
    /// custom, by the services file, or by a word of root's.
    pub(crate) fn may_have(&self, snapshot: &Snapshot, port: u16) -> bool {
        let by_custom = !self.is_steered(snapshot) && self.service.kind.profile().ports.contains(&port);
        let described = &self.service.described.listen;
        by_custom
            || described.iter().filter_map(|l| l.rsplit(':').next()).any(|p| p.parse() == Ok(port))
            || self
                .wanted
                .iter()
                .any(|w| w.listen.port == port && self.is_roots_word(snapshot, w.place.as_ref()))
    }

    /// Whether nothing tells of the service but a process that somebody besides root and the caller started:
    /// even its name is his.
    fn is_strangers(&self, snapshot: &Snapshot) -> bool {
        let caller = snapshot.myself().seen().map_or(0, |m| m.uid);
        self.service.instance.by_process.is_some_and(|uid| uid != 0 && uid != caller)
    }

    /// Directories and files that belong to the service by its unit, its package or the services file, none
    /// of which its account can write.
    fn given(&self, snapshot: &Snapshot) -> Vec<String> {
        if self.is_strangers(snapshot) {
            return Vec::new();
        }
        let mut all: Vec<String> = self.service.instance.made_by_manager.clone();
        if let Some(unit) = &self.service.unit {
            for (key, base) in [
                ("RuntimeDirectory", "/run"),
                ("StateDirectory", "/var/lib"),
                ("LogsDirectory", "/var/log"),
                ("CacheDirectory", "/var/cache"),
                ("ConfigurationDirectory", "/etc"),
            ] {
                let words = unit.values("Service", key).join(" ");
                all.extend(
                    words
                        .split_whitespace()
                        .map(|name| path::join(base, name.split(':').next().unwrap_or(name))),
                );
            }
            all.extend(
                unit.value("Service", "WorkingDirectory").map(|d| d.trim_start_matches('-').to_owned()),
            );
            all.extend(unit.value("Service", "PIDFile"));
        }
        let described = &self.service.described;
        all.extend(described.data_dir.iter().chain(&described.runtime_dir).cloned());
        for file in described.log.iter().chain(&described.pid_file).chain(&described.config) {
            all.extend([file.clone(), path::parent(file).to_owned()]);
        }
        all.extend(
            described
                .listen
                .iter()
                .filter_map(|l| l.strip_prefix("unix:"))
                .flat_map(|s| [s.to_owned(), path::parent(s).to_owned()]),
        );
        let profile = self.service.kind.profile();
        let stem =
            |unit: &str| unit.trim_end_matches(".service").split('@').next().unwrap_or_default().to_owned();
        let account = accounts::user_name(snapshot, self.starter.uid);
        let mut names: Vec<String> = vec![self.service.name.clone(), stem(&self.service.name), account];
        names.extend(self.service.unit_name().map(stem));
        // Which program it is, and so which daemon, is theirs to say who decide what is started.
        if !self.is_steered(snapshot) {
            names.push(profile.name.to_owned());
            names.extend(self.service.program().map(|p| path::name(p).to_owned()));
            let kinds = profile.programs.iter().chain(profile.packages).chain(profile.flavours);
            names.extend(kinds.map(|n| (*n).to_owned()));
            names.extend(profile.units.iter().map(|u| stem(u)));
        }
        names.retain(|n| n.len() > 1 && !n.contains(['*', '/', '.']) && !GENERIC.contains(&n.as_str()));
        names.sort_unstable();
        names.dedup();
        all.extend(HOMES.iter().flat_map(|home| names.iter().map(move |name| format!("{home}/{name}"))));
        all
    }

    /// Paths that its configuration names, in files that its account cannot write: who can write the
    /// configuration can make it name anything.
    fn configured(&self, snapshot: &Snapshot) -> Vec<(String, bool)> {
        if self.is_steered(snapshot) {
            return Vec::new();
        }
        let by_root = by_root(snapshot);
        let honest = |place: &Option<Place>| {
            place.as_ref().is_none_or(|p| !p.file.starts_with('/') || by_root(&p.file))
        };
        let model = &self.config.model;
        let mut all = Vec::new();
        let mut add = |named: &NamedPath, keeps: bool| {
            if honest(&named.place) {
                all.push((named.path.clone(), keeps));
            }
        };
        model.data_dir.iter().for_each(|p| add(p, true));
        let kept = model
            .writes
            .iter()
            .chain(&model.error_logs)
            .chain(&model.access_logs)
            .chain(&model.pid_file)
            .chain(&model.locks);
        kept.for_each(|p| add(p, true));
        model.reads.iter().for_each(|p| add(p, false));
        for listen in &model.listens {
            if let Some(socket) = listen.listen.path.as_ref().filter(|_| honest(&listen.place)) {
                all.push((socket.clone(), true));
            }
        }
        all.extend(model.files.iter().filter(|f| self.may_edit(snapshot, f)).map(|f| (f.clone(), false)));
        all.retain(|(p, _)| p.starts_with('/'));
        all
    }

    /// Directories and files that belong to the service. What is below them, links resolved, may be given to
    /// its account.
    pub fn places(&self, snapshot: &Snapshot) -> Vec<String> {
        let mut all = self.given(snapshot);
        for (named, keeps) in self.configured(snapshot) {
            // What it keeps lies in a directory of its own, unless that is one that many share.
            if keeps {
                all.push(path::parent(&named).to_owned());
            }
            all.push(named);
        }
        // By its real name, too, where only root's links lead there: a link of the account's own names
        // nothing.
        let trusted = trust::trusted(snapshot, &self.accounts(snapshot));
        let walk = |p: &String| {
            trust::walk(&Paths(snapshot), p, Last::Followed, &trusted).ok().map(|found| found.path)
        };
        let real: Vec<String> = all.iter().filter_map(walk).collect();
        all.extend(real);
        all.iter_mut().for_each(|p| *p = path::clean(p));
        all.retain(|p| !SHARED.contains(&p.as_str()) && !is_system(p));
        all.sort_unstable();
        all.dedup();
        all
    }

    /// Whether a configuration file was named by somebody who is not the service's account: the unit, the
    /// package, or files that only root can write. A file that the account can write may include any other.
    pub fn may_edit(&self, snapshot: &Snapshot, file: &str) -> bool {
        let by_root = by_root(snapshot);
        let steered = self.is_steered(snapshot);
        if !steered && self.config.model.files.iter().all(|f| by_root(f)) {
            return true;
        }
        // Root's own unit, whatever it starts: no configuration leads there.
        let of_unit = |unit: &crate::manager::Unit| {
            unit.fragment == file || unit.drop_ins.iter().any(|drop_in| drop_in == file)
        };
        if self.service.unit.as_ref().is_some_and(of_unit) && by_root(file) {
            return true;
        }
        // What others have the service started with names no file of its own.
        let main = if steered { "" } else { self.service.instance.config.as_str() };
        let dir = if steered { "/" } else { path::parent(main) };
        let given = self.given(snapshot);
        let real = path::clean(&snapshot.resolve_links(file));
        let known = |p: &str| {
            file == main
                || (!SHARED.contains(&dir) && below(p, dir))
                || given.iter().any(|g| !SHARED.contains(&g.as_str()) && below(p, g))
        };
        known(&path::clean(file)) && known(&real)
    }

    /// Whether a path belongs to the service.
    pub fn owns(&self, snapshot: &Snapshot, file: &str) -> bool {
        let file = path::clean(file);
        !is_system(&file) && self.places(snapshot).iter().any(|p| below(&file, p))
    }

    /// Whether a path lies in a directory out of which the service is told to send pages, in files that
    /// nobody but root can write: its account may be let read there, and nothing more.
    pub fn serves(&self, snapshot: &Snapshot, file: &str) -> bool {
        let file = path::clean(file);
        if is_system(&file) || self.is_steered(snapshot) {
            return false;
        }
        let by_root = by_root(snapshot);
        let honest =
            |p: &NamedPath| p.place.as_ref().is_none_or(|p| !p.file.starts_with('/') || by_root(&p.file));
        let mut roots = self.config.model.serves.iter().filter(|p| honest(p)).map(|p| path::clean(&p.path));
        roots.any(|root| {
            !is_system(&root) && !SHARED.contains(&file.as_str()) && root != "/" && below(&file, &root)
        })
    }

    /// Whether a path is one that configuration, unit or package name, or lies below a directory of the
    /// service's own.
    pub fn keeps(&self, snapshot: &Snapshot, file: &str) -> bool {
        let file = path::clean(file);
        self.owns(snapshot, &file) || self.configured(snapshot).iter().any(|(p, _)| path::clean(p) == file)
    }

    /// Whether configuration, unit or package name a path, or a directory above it. What only a log names is
    /// testimony.
    pub fn names(&self, snapshot: &Snapshot, file: &str) -> bool {
        let file = path::clean(file);
        let real = snapshot.resolve_links(&file);
        let known = |p: &String| [&file, &real].into_iter().any(|f| below(f, p) || below(p, f));
        let configured: Vec<String> =
            self.configured(snapshot).into_iter().map(|(p, _)| path::clean(&p)).collect();
        let program = self.service.program().filter(|_| !self.is_steered(snapshot)).map(str::to_owned);
        self.places(snapshot).iter().chain(&configured).any(known) || program.into_iter().any(|p| p == file)
    }

    /// Whether a configuration file, one that only root can write unless `anybody` may, spells out a path, in
    /// a line that is no comment. It names a path also where the reader of its kind does not know what the
    /// directive means: enough to believe a line of the log about it, and not enough to change the path.
    pub fn spells(&self, snapshot: &Snapshot, file: &str, anybody: bool) -> bool {
        // A short path is part of many words.
        if !file.starts_with('/') || file.len() < 4 {
            return false;
        }
        let effect = |line: &str| {
            let end = line
                .match_indices('#')
                .find(|(at, _)| line[..*at].is_empty() || line[..*at].ends_with([' ', '\t']))
                .map_or(line.len(), |(at, _)| at);
            !line.trim_start().starts_with(';') && holds_word(&line[..end], file)
        };
        let by_root = by_root(snapshot);
        self.config.model.files.iter().filter(|f| anybody || by_root(f)).any(|f| {
            let text = snapshot.text(f).seen();
            text.is_some_and(|t| t.lines().any(effect))
        })
    }
}

/// Whether a line holds a path as a whole: neither the end nor the beginning of a longer one.
fn holds_word(line: &str, file: &str) -> bool {
    let part = |c: char| c.is_alphanumeric() || matches!(c, '/' | '.' | '_' | '-' | '~');
    line.match_indices(file)
        .any(|(at, _)| !line[..at].ends_with(part) && !line[at + file.len()..].starts_with(part))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_path_is_spelled_out_as_a_whole_word_only() {
        for line in ["bind *:443 ssl crt /etc/x/a.pem", "cert=\"/etc/x/a.pem\"", "/etc/x/a.pem"] {
            assert!(holds_word(line, "/etc/x/a.pem"), "{line}");
        }
        for line in ["crt /etc/x/a.pem.old", "crt /srv/etc/x/a.pem", "crt /etc/x/a.pem/b", ""] {
            assert!(!holds_word(line, "/etc/x/a.pem"), "{line}");
        }
    }

    #[test]
    fn below_is_by_whole_names() {
        assert!(
            below("/var/log/edge/a", "/var/log/edge")
                && below("/var/log/edge", "/var/log/edge")
                && below("/x", "/")
        );
        assert!(!below("/var/log/edges", "/var/log/edge") && !below("/var/log", "/var/log/edge"));
        for file in ["/root/.ssh/id", "/home/marta/x", "/dev/sda", "/usr/lib/x", "/etc/../root"] {
            assert_eq!(is_system(&path::clean(file)), !file.contains("/etc/x"), "{file}");
        }
        assert!(!is_system("/etc/edge/edge.conf") && !is_system("/var/lib/edge"));
    }
}
