//! What a program that nobody knows seems to listen on, by its arguments and its environment. An option
//! that is called `--port` names its own listener nearly always, and somebody else's now and then: what is
//! found here is a guess, and counts only beside what the log says.
use crate::config::{Place, Speaks, WantedListen};
use crate::host::Protocol;
use crate::kinds::Instance;
use crate::net::{Listen, parse_listen};
use crate::path;
use std::collections::{BTreeMap, BTreeSet};
use std::net::{IpAddr, Ipv4Addr};

/// Options whose value is a port.
const PORTS: &[&str] = &[
    "--http-port",
    "--http.port",
    "--httpPort",
    "--listen-port",
    "--listen_port",
    "--port",
    "--server.port",
    "-Dserver.port",
    "-P",
    "-Port",
    "-p",
    "-port",
];
/// Options whose value is an address, with a port or without.
const ADDRESSES: &[&str] = &[
    "--addr",
    "--address",
    "--bind",
    "--bind-address",
    "--host",
    "--http-address",
    "--http.addr",
    "--listen",
    "--listen-address",
    "--server.address",
    "--web.listen-address",
    "-Dserver.address",
    "-a",
    "-addr",
    "-b",
    "-bind",
    "-l",
    "-listen",
];
/// Options whose value is the path of a socket.
const SOCKETS: &[&str] = &["--socket", "--uds", "--unix-socket", "-socket"];
/// Variables of the same three sorts.
const PORT_VARIABLES: &[&str] = &["HTTP_PORT", "LISTEN_PORT", "PORT", "SERVER_PORT"];
const ADDRESS_VARIABLES: &[&str] = &[
    "ADDR",
    "ADDRESS",
    "BIND",
    "BIND_ADDR",
    "BIND_ADDRESS",
    "HOST",
    "LISTEN",
    "LISTEN_ADDR",
    "LISTEN_ADDRESS",
];

/// The value of each option of some names, joined by `=` or as the next word.
fn values<'i>(words: &'i [String], names: &'static [&'static str]) -> impl Iterator<Item = &'i str> {
    words.iter().enumerate().filter_map(move |(at, word)| {
        let (name, value) = word.split_once('=').map_or((word.as_str(), None), |(n, v)| (n, Some(v)));
        let value = value.or_else(|| words.get(at + 1).map(String::as_str));
        value.filter(|_| names.contains(&name))
    })
}

pub(super) fn port(text: &str) -> Option<u16> {
    text.parse().ok().filter(|p| *p > 0)
}

/// An address, with a port or without.
pub(super) fn address(text: &str) -> Option<(IpAddr, Option<u16>)> {
    let text = ["tcp://", "http://", "https://"].iter().find_map(|s| text.strip_prefix(s)).unwrap_or(text);
    let known = |name: &str| match name {
        "localhost" => Some(IpAddr::V4(Ipv4Addr::LOCALHOST)),
        "*" => Some(IpAddr::V4(Ipv4Addr::UNSPECIFIED)),
        other => other.trim_start_matches('[').trim_end_matches(']').parse().ok(),
    };
    if let Some(alone) = known(text) {
        return Some((alone, None));
    }
    let (host, number) = text.rsplit_once(':')?;
    let number = port(number)?;
    let host = if host.is_empty() { Some(IpAddr::V4(Ipv4Addr::UNSPECIFIED)) } else { known(host) };
    host.map(|host| (host, Some(number)))
}

/// Listeners that a command and its environment seem to ask for.
pub(super) fn guesses(instance: &Instance) -> Vec<WantedListen> {
    let words = instance.command.get(1..).unwrap_or_default();
    if let Some(published) = published(&instance.command) {
        return published.into_iter().map(|l| wanted(l, instance.command_place.clone())).collect();
    }
    let asked = of_options(words, &instance.environment);
    asked.into_iter().map(|listen| wanted(listen, instance.command_place.clone())).collect()
}

/// Programs that start a container, with the options by which a port of the host leads into it. What is asked
/// for behind the image's name is asked for inside.
const CONTAINERS: &[(&str, &[&str])] = &[
    ("docker", &["-p", "--publish"]),
    ("nerdctl", &["-p", "--publish"]),
    ("podman", &["-p", "--publish"]),
    ("systemd-nspawn", &["-p", "--port"]),
];

/// Ports of the host that lead into a container which a command starts; `None` where it starts none.
fn published(command: &[String]) -> Option<Vec<Listen>> {
    let (program, words) = command.split_first()?;
    let (_, options) = CONTAINERS.iter().find(|(name, _)| path::name(program) == *name)?;
    let all = values(words, options).filter_map(|told| {
        // `[[ADDRESS:]PORT:]INSIDE[/PROTOCOL]`, or `[PROTOCOL:]PORT[:INSIDE]` of the manager's containers.
        let (told, suffix) = told.split_once('/').unwrap_or((told, ""));
        let (told, prefix) = match told.split_once(':') {
            Some((protocol @ ("tcp" | "udp"), rest)) => (rest, protocol),
            _ => (told, ""),
        };
        let protocol = if [suffix, prefix].contains(&"udp") { Protocol::Udp } else { Protocol::Tcp };
        let outside = match (told.rsplit_once(':'), path::name(program)) {
            (Some((outside, _)), _) => outside,
            (None, "systemd-nspawn") => told,
            // The port inside alone: any port of the host.
            (None, _) => return None,
        };
        let (host, number) = match outside.rsplit_once(':') {
            Some((host, number)) => (host.trim_matches(['[', ']']).parse().ok()?, number),
            None => (IpAddr::V4(Ipv4Addr::UNSPECIFIED), outside),
        };
        Some(Listen { protocol, ..Listen::tcp(host, port(number)?, false) })
    });
    Some(all.collect())
}

/// Listeners that options and an environment seem to ask for.
pub(super) fn of_options(words: &[String], environment: &BTreeMap<String, String>) -> Vec<Listen> {
    let variables = |names: &'static [&'static str]| {
        names.iter().filter_map(|name| environment.get(*name)).map(String::as_str)
    };
    let sockets = values(words, SOCKETS)
        .chain(values(words, ADDRESSES).filter_map(|v| v.strip_prefix("unix:")))
        .map(|path| path.trim_start_matches("//"))
        .filter(|path| path.starts_with('/'));
    let mut all: Vec<Listen> = sockets.map(Listen::unix).collect();
    let pairs: Vec<(IpAddr, Option<u16>)> =
        values(words, ADDRESSES).chain(variables(ADDRESS_VARIABLES)).filter_map(address).collect();
    let bare = pairs.iter().find(|(_, port)| port.is_none()).map(|(address, _)| *address);
    all.extend(pairs.iter().filter_map(|(address, port)| Some(Listen::tcp(*address, (*port)?, false))));
    let module = words
        .iter()
        .position(|w| w == "http.server")
        .map(|at| words.get(at + 1).and_then(|w| port(w)).unwrap_or(8000));
    let numbers = values(words, PORTS)
        .chain(values(words, ADDRESSES))
        .chain(variables(PORT_VARIABLES))
        .filter_map(port)
        .chain(module);
    let host = bare.unwrap_or(IpAddr::V4(Ipv4Addr::UNSPECIFIED));
    all.extend(numbers.map(|number| Listen::tcp(host, number, false)));
    // A lone word that is an address with its port.
    let lone = words.iter().filter(|w| !w.starts_with('-') && w.contains(':') && !w.contains('/'));
    all.extend(lone.filter_map(|w| parse_listen(w).ok()));
    let mut seen = BTreeSet::new();
    all.retain(|l| l.protocol == Protocol::Unix || seen.insert(l.port));
    all
}

pub(super) fn wanted(listen: Listen, place: Option<Place>) -> WantedListen {
    WantedListen { listen, place, port_span: None, tls: false, speaks: Speaks::Other, bound: true }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(command: &str, environment: &[(&str, &str)]) -> String {
        let command = command.split(' ').map(str::to_owned).collect();
        let environment = environment.iter().map(|(k, v)| ((*k).to_owned(), (*v).to_owned())).collect();
        let found = guesses(&Instance { command, environment, ..Instance::default() });
        found.iter().map(|w| w.listen.to_string()).collect::<Vec<_>>().join(" ")
    }

    #[test]
    fn options_and_variables_that_name_a_listener_are_found() {
        for (command, environment, expected) in [
            ("/opt/relay --port 7400", &[][..], "0.0.0.0:7400"),
            ("/opt/relay --port=7400 --host=127.0.0.1", &[], "127.0.0.1:7400"),
            ("/opt/relay -listen :7400 -v", &[], "0.0.0.0:7400"),
            ("/opt/relay --listen [::1]:7400", &[], "[::1]:7400"),
            ("/usr/bin/python3 -m http.server", &[], "0.0.0.0:8000"),
            ("/usr/bin/python3 -m http.server 81 --bind 127.0.0.1", &[], "127.0.0.1:81"),
            ("/usr/bin/gunicorn -b unix:/run/a/a.sock app", &[], "/run/a/a.sock"),
            ("/usr/bin/php -S 127.0.0.1:8080 -t /srv", &[], "127.0.0.1:8080"),
            ("/usr/bin/java -Dserver.port=81 -jar a.jar", &[], "0.0.0.0:81"),
            ("/opt/relay", &[("PORT", "7400"), ("HOST", "127.0.0.1")], "127.0.0.1:7400"),
            ("/opt/relay", &[("LISTEN", "127.0.0.1:7400")], "127.0.0.1:7400"),
            ("/opt/relay --db-port 5432 --upstream 127.0.0.1 -p pid", &[], ""),
            ("/opt/relay --port 0 --port 70000", &[], ""),
            ("/opt/relay -c /etc/a:7 12:34:56", &[], ""),
            (
                "/usr/bin/podman run --name edge -p 8088:80 -p=127.0.0.1:8443:443/tcp tides:3 -p 1:1",
                &[],
                "0.0.0.0:8088 127.0.0.1:8443 0.0.0.0:1",
            ),
            ("/usr/bin/docker run --publish [::1]:53:5353/udp -p 90 tides", &[], "[::1]:53"),
            ("/usr/bin/docker start tides --port 80", &[], ""),
            ("/usr/bin/systemd-nspawn -p tcp:8088:80 --port=81 -b", &[], "0.0.0.0:8088 0.0.0.0:81"),
        ] {
            assert_eq!(of(command, environment), expected, "{command}");
        }
    }
}
