//! Init scripts, read without running them: the header of the Linux Standard Base (insserv(8)), the variables
//! that scripts of the distributions set, and the links of the run levels.
use super::split_words;
use crate::bounds;
use crate::host::{FileKind, Look};
use crate::path;
use crate::snapshot::Snapshot;
use std::collections::{BTreeMap, HashSet};

/// Where the scripts stand.
const FOLDER: &str = "/etc/init.d";
/// Directories whose links start a service at boot: run levels 2 to 5 in their layouts, and named run levels.
const LEVELS: &[&str] = &[
    "/etc/rc2.d",
    "/etc/rc3.d",
    "/etc/rc5.d",
    "/etc/rc.d/rc3.d",
    "/etc/rc.d/rc5.d",
    "/etc/runlevels/default",
    "/etc/runlevels/boot",
];
/// Variables that name the daemon, likeliest first.
const PROGRAM: &[&str] = &[
    "DAEMON", "command", "PROG", "prog", "exec", "NGINX", "HTTPD", "httpd", "nginx", "EXEC", "APP_BIN",
    "BINARY",
];
/// Variables that hold its arguments.
const ARGUMENTS: &[&str] = &["DAEMON_OPTS", "DAEMON_ARGS", "command_args", "OPTIONS", "ARGS", "OPTS"];

/// What a script tells.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct InitScript {
    /// Name of the service.
    pub name: String,
    /// The script.
    pub file: String,
    /// The daemon's command line, as far as the script's variables tell it; empty when they do not.
    pub command: Vec<String>,
    /// Its pid file.
    pub pid_file: Option<String>,
    /// Account, where the script names one.
    pub account: Option<String>,
    /// Whether a link of a run level starts it at boot.
    pub enabled: bool,
    /// Whether it starts something that stays, as far as its words tell.
    pub daemon: bool,
    /// A line of its settings by which it starts nothing (`ENABLED=no`): the file, the line's number, and it.
    pub turned_off: Option<(String, u32, String)>,
    /// Whether it may be executed at all: without that the manager makes no unit of it.
    pub executable: bool,
}

impl InitScript {
    /// The process that its pid file names.
    pub fn pid(&self, snapshot: &Snapshot) -> Option<u32> {
        snapshot.small_text(self.pid_file.as_deref()?).seen()?.trim().parse().ok()
    }
}

/// Names of all scripts.
pub fn names(snapshot: &Snapshot) -> Vec<String> {
    let skip = |name: &str| {
        name.starts_with('.')
            || name.ends_with(".sh")
            || matches!(name, "README" | "skeleton" | "functions" | "rc" | "rcS")
    };
    let entries = snapshot.list(FOLDER).seen().unwrap_or_default();
    entries.into_iter().filter(|e| e.kind != FileKind::Directory && !skip(&e.name)).map(|e| e.name).collect()
}

/// Reads one script. `Absent` when there is none.
pub fn script(snapshot: &Snapshot, name: &str) -> Look<InitScript> {
    let file = path::join(FOLDER, name);
    let text = match snapshot.text(&file) {
        Look::Seen(text) => text,
        Look::Absent => return Look::Absent,
        Look::NotSeen(why) => return Look::NotSeen(why),
    };
    let mut variables = BTreeMap::new();
    variables.insert("NAME".to_owned(), name.to_owned());
    variables.insert("RC_SVCNAME".to_owned(), name.to_owned());
    assign(&text, &mut variables);
    // The administrator's own settings come after the script's: most scripts source them behind their
    // defaults.
    let mut turned_off = None;
    for own in
        [format!("/etc/default/{name}"), format!("/etc/sysconfig/{name}"), format!("/etc/conf.d/{name}")]
    {
        if let Some(settings) = snapshot.text(&own).seen() {
            assign(&settings, &mut variables);
            let off = off_line(&settings).map(|(line, text)| (own, line, text));
            // What the script never reads turns nothing off.
            let asks = |line: &str| {
                line.split_once('=').is_some_and(|(key, _)| {
                    text.contains(&format!("${key}")) || text.contains(&format!("${{{key}"))
                })
            };
            turned_off = turned_off.or(off.filter(|(.., line)| asks(line)));
        }
    }
    let get =
        |names: &[&str]| names.iter().find_map(|n| variables.get(*n)).filter(|v| !v.is_empty()).cloned();
    let mut command = get(PROGRAM)
        .filter(|p| p.starts_with('/'))
        .or_else(|| called(&text, &variables))
        .map(|p| split_words(&p))
        .unwrap_or_default();
    if !command.is_empty() {
        command.extend(get(ARGUMENTS).map(|a| split_words(&a)).unwrap_or_default());
    }
    let account = get(&["DAEMON_USER", "command_user", "DAEMONUSER", "RUNAS"])
        .map(|u| u.split(':').next().unwrap_or_default().to_owned());
    let pid_file = get(&["PIDFILE", "pidfile", "PID_FILE", "PID"]).filter(|p| p.starts_with('/'));
    Look::Seen(InitScript {
        name: name.to_owned(),
        file,
        command,
        pid_file,
        account,
        enabled: enabled(snapshot, name),
        daemon: DAEMON_WORDS.iter().any(|word| text.contains(word)),
        turned_off,
        executable: snapshot.stat(&path::join(FOLDER, name)).seen().is_none_or(|s| s.mode & 0o111 != 0),
    })
}

/// Words of scripts that start something which stays.
const DAEMON_WORDS: &[&str] = &["start-stop-daemon", "start_daemon", "daemon ", "daemonize", "startproc"];
/// Settings by which the packages' scripts start nothing, in the words of their files.
const SWITCHES: &[&str] = &["ENABLE", "ENABLED", "RUN", "RUN_DAEMON", "START", "START_DAEMON"];

/// The last line that turns a script off.
fn off_line(settings: &str) -> Option<(u32, String)> {
    let lines = (1u32..).zip(settings.lines()).filter_map(|(number, line)| {
        let (key, value) = line.trim().split_once('=')?;
        let value = value.trim().trim_matches(['"', '\'']).to_ascii_lowercase();
        SWITCHES.contains(&key).then_some((number, line.trim(), value))
    });
    let (number, line, value) = lines.last()?;
    matches!(value.as_str(), "0" | "false" | "n" | "no" | "off").then(|| (number, line.to_owned()))
}

/// `NAME=value` lines outside functions and conditions; the first plain value wins over what a condition sets
/// later.
pub(super) fn assign(text: &str, variables: &mut BTreeMap<String, String>) {
    let mut held: usize = variables.values().map(String::len).sum();
    let mut unknown = HashSet::new();
    for line in text.lines() {
        // Only unindented lines: what stands inside a block depends on its condition.
        let line = line.strip_prefix("export ").unwrap_or(line);
        let Some((name, value)) = line.split_once('=') else { continue };
        if name.is_empty() || !name.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'_') {
            continue;
        }
        // What holds a variable that cannot be told cannot be told either.
        let told = Some(value).filter(|v| !names_in(v).any(|n| unknown.contains(n)));
        let told = told.and_then(|value| value_of(value, variables));
        // No program could be given more.
        match told.filter(|value| held + value.len() <= bounds::ENVIRONMENT) {
            Some(value) => {
                held += value.len();
                unknown.remove(name);
                variables.insert(name.to_owned(), value);
            }
            None => {
                variables.remove(name);
                unknown.insert(name);
            }
        }
    }
}

/// A shell word with `$NAME`, `${NAME}` and `${NAME:-default}`; `None` where a command's output would be
/// needed, and where it becomes longer than a program can be given.
pub(super) fn value_of(text: &str, variables: &BTreeMap<String, String>) -> Option<String> {
    let text = text.trim();
    let (body, expands) = match text.as_bytes().first() {
        Some(b'\'') => (text.get(1..)?.split('\'').next()?, false),
        Some(b'"') => (text.get(1..)?.split('"').next()?, true),
        _ => (text.split([' ', '\t', ';', '#']).next()?, true),
    };
    if !expands {
        return Some(body.to_owned());
    }
    if body.contains('`') || body.contains("$(") {
        return None;
    }
    let mut out = String::new();
    let mut rest = body;
    while let Some(at) = rest.find('$') {
        if out.len() > bounds::VALUE {
            return None;
        }
        out.push_str(&rest[..at]);
        rest = &rest[at + 1..];
        if let Some(inner) = rest.strip_prefix('{') {
            let end = inner.find('}')?;
            let (name, default) =
                inner[..end].split_once(":-").map_or((&inner[..end], None), |(n, d)| (n, Some(d)));
            let known = variables.get(name).filter(|v| !v.is_empty()).map(String::as_str);
            out.push_str(known.or(default.map(|d| d.trim_matches(['"', '\'']))).unwrap_or_default());
            rest = &inner[end + 1..];
        } else {
            let end = rest.find(|c: char| !c.is_ascii_alphanumeric() && c != '_').unwrap_or(rest.len());
            out.push_str(variables.get(&rest[..end]).map(String::as_str).unwrap_or_default());
            rest = &rest[end..];
        }
    }
    out.push_str(rest);
    (out.len() <= bounds::VALUE).then_some(out)
}

/// Names of the variables in a word that have no default of their own.
pub(super) fn names_in(word: &str) -> impl Iterator<Item = &str> {
    word.match_indices('$').filter_map(|(at, _)| {
        let rest = word.get(at + 1..)?;
        let braced = rest.strip_prefix('{');
        let name = braced.unwrap_or(rest);
        let end = name.find(|c: char| !c.is_ascii_alphanumeric() && c != '_').unwrap_or(name.len());
        let default = braced.is_some() && name.get(end..).is_some_and(|tail| tail.starts_with(":-"));
        (!default).then_some(&name[..end])
    })
}

/// The program that `start-stop-daemon`, `daemon` or `exec` is told to start, where no variable of a known
/// name holds it.
fn called(text: &str, variables: &BTreeMap<String, String>) -> Option<String> {
    let joined = text.replace("\\\n", " ");
    let mut after = joined.lines().filter(|l| !l.trim_start().starts_with('#')).filter_map(|l| {
        let (_, rest) = l
            .split_once("--exec ")
            .or_else(|| l.split_once("--startas "))
            .or_else(|| l.trim_start().split_once("daemon "))?;
        value_of(rest.trim_start(), variables)
    });
    after.find(|p| p.starts_with('/'))
}

fn enabled(snapshot: &Snapshot, name: &str) -> bool {
    LEVELS.iter().any(|level| {
        let entries = snapshot.list(level).seen().unwrap_or_default();
        entries.iter().any(|e| e.name == name || (e.name.starts_with('S') && e.name.get(3..) == Some(name)))
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tests::TextHost;

    #[track_caller]
    fn read(host: TextHost, name: &str) -> InitScript {
        script(&Snapshot::new(&host), name).seen().expect("the script is read")
    }

    #[test]
    fn a_script_of_the_old_layout_tells_daemon_arguments_and_pid_file() {
        let text = "#!/bin/sh\n### BEGIN INIT INFO\n# Provides: edge\n### END INIT INFO\nNAME=edge\n\
            DAEMON=/usr/sbin/nginx\nDAEMON_OPTS=\"-c /etc/$NAME/nginx.conf\"\nPIDFILE=/run/${NAME}.pid\n\
            case \"$1\" in\n  start)\n    DAEMON=/opt/other\n    start-stop-daemon --start --exec $DAEMON -- \
            $DAEMON_OPTS ;;\nesac\n";
        let found = read(
            TextHost::new().file("/etc/init.d/edge", text).link("/etc/rc3.d/S20edge", "../init.d/edge"),
            "edge",
        );
        assert_eq!(found.command, ["/usr/sbin/nginx", "-c", "/etc/edge/nginx.conf"]);
        assert_eq!((found.pid_file.as_deref(), found.enabled), (Some("/run/edge.pid"), true));
    }

    #[test]
    fn the_administrators_settings_win_and_a_stop_link_is_no_start_link() {
        let host = TextHost::new()
            .file("/etc/init.d/front", "DAEMON=/usr/sbin/apache2\nDAEMON_ARGS='-k start'\n")
            .file("/etc/default/front", "DAEMON=/opt/front/httpd\n# DAEMON=/none\n")
            .link("/etc/rc3.d/K20front", "../init.d/front");
        let found = read(host, "front");
        assert_eq!(found.command, ["/opt/front/httpd", "-k", "start"]);
        assert!(!found.enabled);
    }

    #[test]
    fn a_script_for_named_run_levels() {
        let host = TextHost::new()
            .file(
                "/etc/init.d/nginx",
                "#!/sbin/openrc-run\ncommand=\"/usr/sbin/nginx\"\n\
                command_args=\"-c ${cfgfile:-/etc/nginx/nginx.conf}\"\npidfile=\"/run/${RC_SVCNAME}.pid\"\n\
                command_user=\"www-data:www-data\"\n",
            )
            .link("/etc/runlevels/default/nginx", "/etc/init.d/nginx");
        let found = read(host, "nginx");
        assert_eq!(found.command, ["/usr/sbin/nginx", "-c", "/etc/nginx/nginx.conf"]);
        assert_eq!(
            (found.pid_file.as_deref(), found.account.as_deref(), found.enabled),
            (Some("/run/nginx.pid"), Some("www-data"), true)
        );
    }

    #[test]
    fn what_only_running_the_script_would_tell_stays_unknown() {
        let found =
            read(TextHost::new().file("/etc/init.d/odd", "DAEMON=$(which nginx)\nPIDFILE=`mktemp`\n"), "odd");
        assert_eq!((found.command.len(), found.pid_file), (0, None));
        let called = read(
            TextHost::new().file("/etc/init.d/odd", "W=/opt/w\nstart() {\n  daemon $W/relay -d\n}\n"),
            "odd",
        );
        assert_eq!(called.command, ["/opt/w/relay"]);
        assert!(script(&Snapshot::new(&TextHost::new()), "none").is_absent());
    }

    #[test]
    fn helpers_of_the_folder_are_no_services() {
        let host = TextHost::new()
            .file("/etc/init.d/README", "")
            .file("/etc/init.d/functions", "")
            .file("/etc/init.d/edge", "");
        assert_eq!(names(&Snapshot::new(&host)), ["edge"]);
    }
}
