//! What the configuration of a program that nobody knows seems to say of its listeners: files that its
//! command, its environment, or its layout names, in the usual forms – JSON, TOML, and lines of `name =
//! value` or `name: value` below sections or by indentation. What stands there can be somebody else's address
//! as well: like every guess it counts only beside what the log says.
use super::asked::{address, port, wanted};
use crate::access::{self, Right};
use crate::accounts;
use crate::config::{Place, WantedListen};
use crate::host::Look;
use crate::kinds::Instance;
use crate::net::Listen;
use crate::path;
use crate::snapshot::Snapshot;
use std::collections::BTreeMap;
use std::net::{IpAddr, Ipv4Addr};

/// Ends of names by which a file is configuration.
const ENDS: &[&str] =
    &[".cfg", ".cnf", ".conf", ".config", ".env", ".ini", ".json", ".properties", ".toml", ".yaml", ".yml"];
/// Options whose value is a file of configuration, whatever its name.
const OPTIONS: &[&str] =
    &["--conf", "--config", "--config-file", "--config.file", "--configFile", "-c", "-f", "-config"];
/// How many files are looked at, and how many bytes of each.
const FILES: usize = 8;
const BYTES: u32 = 64 << 10;
/// Names of settings, letters and digits only, that say where a program listens.
const PORTS: &[&str] = &["bindport", "httpport", "listener", "listenport", "port", "serverport", "tcpport"];
const ADDRESSES: &[&str] = &[
    "addr",
    "address",
    "bind",
    "bindaddr",
    "bindaddress",
    "host",
    "httpaddr",
    "httpaddress",
    "interface",
    "listen",
    "listenaddr",
    "listenaddress",
    "serveraddress",
];
const SOCKETS: &[&str] = &["listensocket", "socket", "socketpath", "unixsocket"];
/// Words in the name of a section whose address is that of somebody else.
const OTHERS: &[&str] = &[
    "amqp",
    "auth",
    "backend",
    "broker",
    "cache",
    "client",
    "database",
    "datasource",
    "db",
    "elastic",
    "kafka",
    "ldap",
    "log",
    "mail",
    "memcache",
    "mongo",
    "mqtt",
    "mysql",
    "peer",
    "postgres",
    "proxy",
    "queue",
    "rabbit",
    "redis",
    "remote",
    "replica",
    "smtp",
    "sql",
    "statsd",
    "syslog",
    "target",
    "upstream",
    "vault",
];

/// What a section says: an address without a port, and ports with their lines.
#[derive(Default)]
struct Section {
    address: Option<IpAddr>,
    ports: Vec<(u16, usize)>,
}

/// A setting: the names that lead to it, its value, its line.
struct Setting {
    names: Vec<String>,
    value: String,
    /// Where it stands, counted from 1; a document does not tell.
    line: Option<usize>,
}

/// Files that a command, its environment and its layout name as configuration.
pub(super) fn files(snapshot: &Snapshot, instance: &Instance) -> Vec<String> {
    let words = instance.command.get(1..).unwrap_or_default();
    let mut found: Vec<String> = Vec::new();
    let ends = |text: &str| ENDS.iter().any(|end| text.ends_with(end));
    let mut before = "";
    for word in words {
        let (name, value) =
            word.split_once('=').map_or((before, word.as_str()), |(name, value)| (name, value));
        let value = value.trim_start_matches("file:");
        if value.starts_with('/') && (OPTIONS.contains(&name) || ends(value)) {
            found.push(value.to_owned());
        }
        // What lies beside an archive of Java is read without being named.
        if before == "-jar" && word.starts_with('/') {
            let dir = path::parent(word);
            for folder in [dir.to_owned(), path::join(dir, "config")] {
                found.extend(
                    ["properties", "yml", "yaml"]
                        .map(|end| path::join(&folder, &format!("application.{end}"))),
                );
            }
        }
        before = word;
    }
    found.extend(instance.environment.values().filter(|v| v.starts_with('/') && ends(v)).cloned());
    if !instance.config.is_empty() {
        found.push(instance.config.clone());
    }
    found.retain(|file| snapshot.exists(file) == Some(true));
    // Who writes a script that is run on the way can name any file of the host: he must be able to read it.
    let owners = instance.variables.iter().filter_map(|f| snapshot.stat(f).seen()).map(|s| s.uid);
    for uid in owners.filter(|uid| *uid != 0) {
        let who = accounts::of_uid(snapshot, uid);
        found.retain(|file| access::may(snapshot, &who, file, Right::Read) == Look::Seen(None));
    }
    if found.is_empty() {
        found = usual(snapshot, instance);
    }
    found.sort();
    found.dedup();
    found.truncate(FILES);
    found
}

/// Files of configuration where most programs have theirs, if none is named: below their own name.
fn usual(snapshot: &Snapshot, instance: &Instance) -> Vec<String> {
    let Some(name) = instance.command.first().map(|program| path::name(program)) else { return Vec::new() };
    // An interpreter's own configuration says nothing of what it runs.
    if name.is_empty() || crate::manager::is_interpreter(name) || name == "java" {
        return Vec::new();
    }
    let plain = name.strip_suffix('d').filter(|n| n.len() > 2).unwrap_or(name);
    let mut all = Vec::new();
    for name in [name, plain] {
        let of = |end: &str| [format!("/etc/{name}{end}"), format!("/etc/{name}/{name}{end}")];
        all.extend([".conf", ".cfg", ".ini", ".toml", ".yaml", ".yml", ".json"].iter().flat_map(|e| of(e)));
        all.extend([format!("/etc/{name}/{plain}d_config"), format!("/etc/{name}/{plain}d.conf")]);
    }
    // Nobody says that they are there: that one could not be seen is not missed.
    snapshot.aside(|| all.retain(|file| snapshot.exists(file) == Some(true)));
    all
}

/// The settings of a JSON or TOML document, flat. Lines are found again by name and value.
fn flat(value: &serde_json::Value, names: &mut Vec<String>, out: &mut Vec<Setting>) {
    if let serde_json::Value::Object(map) = value {
        for (name, inner) in map {
            names.push(name.clone());
            flat(inner, names, out);
            names.pop();
        }
        return;
    }
    let value = match value {
        serde_json::Value::String(text) => text.clone(),
        serde_json::Value::Number(number) => number.to_string(),
        _ => return,
    };
    out.push(Setting { names: names.clone(), value, line: None });
}

/// The line of a document on which a setting stands, found again by its name and value.
fn line_of(text: &str, name: &str, value: &str) -> usize {
    text.lines().position(|l| l.contains(name) && l.contains(value)).map_or(1, |at| at + 1)
}

/// The settings of lines: `[section]` and indentation say below what they stand.
fn by_lines(text: &str) -> Vec<Setting> {
    let mut out = Vec::new();
    let mut section: Vec<String> = Vec::new();
    let mut above: Vec<(usize, String)> = Vec::new();
    for (at, line) in text.lines().enumerate() {
        let inner = line.trim();
        if inner.is_empty() || inner.starts_with(['#', ';', '!']) || inner.starts_with("//") {
            continue;
        }
        if let Some(name) = inner.strip_prefix('[').and_then(|rest| rest.strip_suffix(']')) {
            section = vec![name.trim_matches(['[', ']', '"', ' ']).to_owned()];
            above.clear();
            continue;
        }
        // `<name>value</name>`, `name = value`, `name: value`, and `name value`.
        let tagged = inner.strip_prefix('<').and_then(|rest| {
            let (name, rest) = rest.split_once('>')?;
            Some((name, rest.strip_suffix(&format!("</{name}>"))?))
        });
        let spaced = || {
            inner.split_once([' ', '\t']).filter(|(name, _)| *name != "-" && !name.contains(['=', ':', '<']))
        };
        let found = tagged
            .or_else(|| spaced().filter(|(_, value)| !value.trim_start().starts_with(['=', ':'])))
            .or_else(|| inner.split_once(['=', ':']));
        let Some((name, value)) = found else { continue };
        let indent = line.len() - line.trim_start().len();
        above.retain(|(i, _)| *i < indent);
        let name = name.trim_start_matches("- ").trim().trim_matches(['"', '\'']).to_owned();
        let value = value.split(" #").next().unwrap_or_default().trim().trim_end_matches([',', ';']);
        if value.is_empty() || value == "{" {
            above.push((indent, name));
            continue;
        }
        let mut names: Vec<String> =
            section.iter().cloned().chain(above.iter().map(|(_, n)| n.clone())).collect();
        names.extend(name.split('.').map(str::to_owned));
        out.push(Setting { names, value: value.trim_matches(['"', '\'']).to_owned(), line: Some(at + 1) });
    }
    out
}

/// What a file of options, as they would stand on the command line, seems to ask for, with its lines.
fn by_options(text: &str) -> Vec<(Listen, usize)> {
    let lines = || text.lines().filter(|l| l.starts_with('-') && !l.starts_with("- ") && *l != "---");
    let words: Vec<String> = lines().flat_map(crate::manager::split_words).collect();
    let asked = super::asked::of_options(&words, &BTreeMap::new());
    asked.into_iter().map(|l| (line_of(text, "-", &l.port.to_string()), l)).map(|(at, l)| (l, at)).collect()
}

fn settings(file: &str, text: &str) -> Vec<Setting> {
    let document = match file.rsplit('.').next() {
        Some("json") => serde_json::from_str::<serde_json::Value>(text).ok(),
        Some("toml") => toml::from_str::<serde_json::Value>(text).ok(),
        _ => None,
    };
    let Some(document) = document else { return by_lines(text) };
    let mut out = Vec::new();
    flat(&document, &mut Vec::new(), &mut out);
    out
}

/// A name as it is compared: letters and digits, in small letters.
fn plain(name: &str) -> String {
    name.chars().filter(|c| c.is_ascii_alphanumeric()).collect::<String>().to_ascii_lowercase()
}

/// Whether a name is one that says where a program listens.
pub(super) fn is_of_listener(name: &str) -> bool {
    [PORTS, ADDRESSES, SOCKETS].iter().any(|names| names.contains(&plain(name).as_str()))
}

/// Files and directories that settings with `log` in their names, or in that of their section, name.
pub(super) fn logs(snapshot: &Snapshot, instance: &Instance) -> Vec<String> {
    let mut found = Vec::new();
    for file in files(snapshot, instance) {
        let Some(bytes) = snapshot.read_at(&file, 0, BYTES).seen() else { continue };
        let all = settings(&file, &String::from_utf8_lossy(&bytes));
        let of_log = |s: &Setting| s.names.iter().any(|n| n.to_ascii_lowercase().contains("log"));
        found.extend(all.into_iter().filter(|s| s.value.starts_with('/') && of_log(s)).map(|s| s.value));
    }
    found
}

/// Listeners that the files of a program's configuration seem to ask for.
pub(super) fn guesses(snapshot: &Snapshot, instance: &Instance) -> Vec<WantedListen> {
    let mut found = Vec::new();
    for file in files(snapshot, instance) {
        let Some(bytes) = snapshot.read_at(&file, 0, BYTES).seen() else { continue };
        let text = String::from_utf8_lossy(&bytes).into_owned();
        found.extend(by_options(&text).into_iter().map(|(listen, line)| {
            wanted(listen, Some(Place::line(&file, u32::try_from(line).unwrap_or(0))))
        }));
        // An address and a port of one section belong together.
        let mut sections: BTreeMap<Vec<String>, Section> = BTreeMap::new();
        for Setting { names, value, line } in settings(&file, &text) {
            let Some((last, above)) = names.split_last() else { continue };
            let (name, above): (String, Vec<String>) =
                (plain(last), above.iter().map(|n| plain(n)).collect());
            if above.iter().any(|n| OTHERS.iter().any(|other| n.contains(other))) {
                continue;
            }
            if !is_of_listener(&name) {
                continue;
            }
            let line = line.unwrap_or_else(|| line_of(&text, last, &value));
            let place = Place::line(&file, u32::try_from(line).unwrap_or(0));
            let one = sections.entry(above).or_default();
            if SOCKETS.contains(&name.as_str()) && value.starts_with('/') {
                found.push(wanted(Listen::unix(&value), Some(place)));
            } else if PORTS.contains(&name.as_str()) {
                let first = value.split_whitespace().next().unwrap_or_default();
                one.ports.extend(port(first).map(|number| (number, line)));
            } else if ADDRESSES.contains(&name.as_str()) {
                match address(&value) {
                    Some((at, Some(number))) => {
                        found.push(wanted(Listen::tcp(at, number, false), Some(place)))
                    }
                    Some((at, None)) => one.address = Some(at),
                    None => one.ports.extend(port(&value).map(|number| (number, line))),
                }
            }
        }
        for Section { address: at, ports } in sections.into_values() {
            let at = at.unwrap_or(IpAddr::V4(Ipv4Addr::UNSPECIFIED));
            found.extend(ports.into_iter().map(|(number, line)| {
                let place = Place::line(&file, u32::try_from(line).unwrap_or(0));
                wanted(Listen::tcp(at, number, false), Some(place))
            }));
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tests::TextHost;

    fn of(file: &str, text: &str) -> String {
        let host = TextHost::new().file(file, text);
        let command = ["/opt/relay", "--config", file].map(str::to_owned).to_vec();
        let found = guesses(&Snapshot::new(&host), &Instance { command, ..Instance::default() });
        let shown = |w: &WantedListen| format!("{}@{}", w.listen, w.place.as_ref().map_or(0, |p| p.line));
        found.iter().map(shown).collect::<Vec<_>>().join(" ")
    }

    #[test]
    fn usual_forms_of_configuration_name_listeners() {
        for (file, text, expected) in [
            ("/etc/relay.ini", "[relay]\nport = 7400\n[database]\nport = 5432\n", "0.0.0.0:7400@2"),
            ("/etc/relay.conf", "# port = 1\nlisten = 127.0.0.1:7400\n", "127.0.0.1:7400@2"),
            (
                "/etc/relay.yml",
                "server:\n  host: 127.0.0.1\n  port: 7400\nredis:\n  port: 6379\n",
                "127.0.0.1:7400@3",
            ),
            ("/etc/relay.json", "{\"http\": {\n \"port\": 7400},\n \"db\": {\"port\": 1}}", "0.0.0.0:7400@2"),
            ("/etc/relay.toml", "[server]\nbind = \"[::1]:7400\"\n", "[::1]:7400@2"),
            (
                "/etc/app.properties",
                "server.port=7400\nserver.address=127.0.0.1\nspring.datasource.port=1\n",
                "127.0.0.1:7400@1",
            ),
            ("/etc/relay.cfg", "socket = /run/relay.sock\n", "/run/relay.sock@1"),
            ("/etc/relay.conf", "# -p 1\n-d\n-p 7400\n-l 127.0.0.1\n", "127.0.0.1:7400@3"),
            (
                "/etc/relay.conf",
                "Port 7400\nListen 127.0.0.1\nUpstream http 10.0.0.1:80\n",
                "127.0.0.1:7400@1",
            ),
            ("/etc/relay.conf", "listener 7400 127.0.0.1\n", "0.0.0.0:7400@1"),
            ("/etc/relay.conf", "<relay>\n  <port>7400</port>\n</relay>\n", "0.0.0.0:7400@2"),
            ("/etc/relay.yml", "listeners:\n  - port: 7400\n", "0.0.0.0:7400@2"),
            ("/etc/relay.conf", "port: 7400\ncluster {\n  note: none\n}\n", "0.0.0.0:7400@1"),
            ("/etc/relay.ini", "port = 70000\nreport = 80\nport_file = 3\n", ""),
            ("/etc/relay.json", "not JSON at all", ""),
        ] {
            assert_eq!(of(file, text), expected, "{file}: {text}");
        }
    }

    #[test]
    fn who_writes_a_script_on_the_way_names_only_what_he_may_read() {
        let host = TextHost::new()
            .file("/etc/passwd", "tide:x:71:71::/:/bin/sh\n")
            .owned("/opt/run.sh", 0o755, 71)
            .owned("/root/own.conf", 0o600, 0)
            .text("/root/own.conf", "port = 7400\n")
            .file("/etc/tides.conf", "port = 7401\n");
        let of = |script: &str, file: &str| {
            let command = ["/opt/relay", "--config", file].map(str::to_owned).to_vec();
            let variables = vec![script.to_owned()];
            let instance = Instance { command, variables, ..Instance::default() };
            files(&Snapshot::new(&host), &instance)
        };
        assert_eq!(of("/opt/run.sh", "/root/own.conf"), [""; 0]);
        assert_eq!(of("/opt/run.sh", "/etc/tides.conf"), ["/etc/tides.conf"]);
        assert_eq!(of("/etc/tides.conf", "/root/own.conf"), ["/root/own.conf"], "root's own script");
    }

    #[test]
    fn the_usual_place_counts_where_none_is_named() {
        let host = TextHost::new()
            .file("/etc/relay/relayd.conf", "port 1\n")
            .file("/etc/relayd.conf", "port 7400\n")
            .file("/etc/python3.conf", "port 7400\n");
        let of = |command: &str| {
            let command = command.split(' ').map(str::to_owned).collect();
            let found = guesses(&Snapshot::new(&host), &Instance { command, ..Instance::default() });
            found.iter().map(|w| w.listen.to_string()).collect::<Vec<_>>()
        };
        assert_eq!(of("/opt/relayd"), ["0.0.0.0:1", "0.0.0.0:7400"]);
        assert_eq!(of("/opt/relayd -f /etc/relay/relayd.conf"), ["0.0.0.0:1"]);
        assert_eq!(of("/usr/bin/python3 /opt/relayd.py"), [""; 0]);
    }

    #[test]
    fn what_lies_beside_an_archive_is_found_without_being_named() {
        let host = TextHost::new().file("/opt/app/application.yml", "server:\n  port: 7400\n");
        let command = ["/usr/bin/java", "-jar", "/opt/app/relay.jar"].map(str::to_owned).to_vec();
        let found = guesses(&Snapshot::new(&host), &Instance { command, ..Instance::default() });
        assert_eq!(found.iter().map(|w| w.listen.to_string()).collect::<Vec<_>>(), ["0.0.0.0:7400"]);
    }
}
