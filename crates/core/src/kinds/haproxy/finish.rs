//! What shows once everything is read: names that are not there, servers that cannot be reached, certificates
//! that were not named (`check_config_validity` of cfgparse.c, ssl_sock.c).
use super::logs::formats;
use super::samples::{Reference, Refers};
use super::state::{Named, Reader, Role, Tls};
use crate::code::Code;
use crate::config::{About, DependsOn, Place, regex_fault};

/// Judges what is left.
pub(super) fn finish(reader: &mut Reader) {
    users(reader);
    programs(reader);
    for n in 0..reader.proxies.len() {
        if reader.proxies[n].role == Role::Defaults {
            references(reader, n);
            continue;
        }
        if reader.proxies[n].disabled {
            continue;
        }
        listeners(reader, n);
        protocols(reader, n);
        backends(reader, n);
        names(reader, n);
        if reader.proxies[n].role.front() {
            formats(reader, n);
        }
        servers(reader, n);
    }
}

fn is_http(reader: &Reader, n: usize) -> bool {
    reader.proxies[n].http.unwrap_or(false)
}

fn users(reader: &mut Reader) {
    let mut missing: Vec<(Place, String)> = Vec::new();
    for list in reader.lists_of_users.values() {
        for one in list.wants_groups.iter().filter(|one| !list.groups.contains(&one.name)) {
            missing.push((one.place.clone(), format!("no group is named \"{}\" in this list", one.name)));
        }
        for one in list.wants_users.iter().filter(|one| !list.users.contains(&one.name)) {
            missing.push((one.place.clone(), format!("no user is named \"{}\" in this list", one.name)));
        }
    }
    for (place, why) in missing {
        reader.late(&place, "user", why);
    }
}

/// Programs of its own are started by a master.
fn programs(reader: &mut Reader) {
    let first =
        reader.sections.iter().find(|((kind, _), _)| *kind == "program").map(|(_, place)| place.clone());
    if let Some(place) = first.filter(|_| reader.is_alone) {
        reader.late(
            &place,
            "program",
            "a program is only started by a master (-W, or master-worker)".to_owned(),
        );
    }
}

fn listeners(reader: &mut Reader, n: usize) {
    let binds = reader.proxies[n].binds.clone();
    for Tls { place, shown, certificate, verify, authority } in binds {
        if !certificate {
            let why = format!("{shown} speaks TLS, and no certificate is named (crt)");
            reader.book.find(&place, "bind", Code::CertificateBad, why);
        } else if verify.is_some_and(|v| v != "none") && !authority {
            let why = format!("{shown} asks clients for certificates, and no authority is named (ca-file)");
            reader.late(&place, "bind", why);
        }
    }
}

/// What forwards bytes speaks no protocol of requests.
fn protocols(reader: &mut Reader, n: usize) {
    if is_http(reader, n) {
        return;
    }
    for Named { name, place } in reader.proxies[n].protocols.clone() {
        if matches!(name.as_str(), "h1" | "h2" | "fcgi") {
            reader.late(&place, "", format!("{name} cannot be spoken in mode tcp"));
        }
    }
}

/// Backends that requests are passed on to.
fn backends(reader: &mut Reader, n: usize) {
    let default = reader.proxies[n].default_backend.clone();
    let uses = reader.proxies[n].uses.clone();
    let http = is_http(reader, n);
    let mut all: Vec<(&str, Named)> = default.into_iter().map(|one| ("default_backend", one)).collect();
    all.extend(uses.into_iter().filter(|u| !u.name.contains('%')).map(|one| ("use_backend", one)));
    for (directive, one) in all {
        match reader.backs.get(&one.name) {
            None => {
                let near = crate::config::nearest(&one.name, reader.backs.keys().map(String::as_str));
                let near = near.map(str::to_owned);
                let why = format!("no backend is named \"{}\"", one.name);
                let found = reader.book.find(&one.place, directive, Code::ConfigBadValue, why);
                found.about = Some(About::Name(one.name.clone()));
                found.instead = near.map(|name| (one.name.clone(), name));
            }
            Some(to) if *to == n => {
                reader.late(&one.place, directive, format!("{} passes requests on to itself", one.name));
            }
            // What reads requests may not pass them on to what forwards bytes.
            Some(to) if http != is_http(reader, *to) && http => {
                let of = |http: bool| if http { "http" } else { "tcp" };
                let why = format!(
                    "{} is in mode {}, and {} in mode {}",
                    reader.proxies[n].name,
                    of(http),
                    one.name,
                    of(!http)
                );
                let section = reader.proxies[n].place.clone();
                reader.late(&section, directive, why);
            }
            Some(_) => {}
        }
    }
}

/// What rules of a section name.
fn references(reader: &mut Reader, n: usize) {
    for (reference, place) in std::mem::take(&mut reader.proxies[n].refers) {
        if let Some(why) = missing(reader, n, &reference, &place) {
            reader.late(&place, "", why);
        }
    }
}

/// Names of tables, sections and servers that lines use.
fn names(reader: &mut Reader, n: usize) {
    references(reader, n);
    let find = |reader: &Reader, kind: &'static str, one: &Named| {
        reader.sections.contains_key(&(kind, one.name.clone()))
    };
    let proxy = reader.proxies[n].clone();
    let mut lost: Vec<(&Named, &str)> = Vec::new();
    lost.extend(
        proxy.peers.iter().filter(|one| !find(reader, "peers", one)).map(|one| (one, "section of peers")),
    );
    lost.extend(
        proxy
            .mailers
            .iter()
            .filter(|one| !find(reader, "mailers", one))
            .map(|one| (one, "section of mailers")),
    );
    lost.extend(
        proxy
            .resolvers
            .iter()
            .filter(|one| one.name != "default" && !find(reader, "resolvers", one))
            .map(|one| (one, "section of resolvers")),
    );
    lost.extend(proxy.caches.iter().filter(|one| !find(reader, "cache", one)).map(|one| (one, "cache")));
    for (one, what) in lost {
        reader.late(&one.place, "", format!("no {what} is named \"{}\"", one.name));
    }
    for one in &proxy.use_servers {
        if !one.name.contains('%') && !proxy.servers.contains_key(&one.name) && !proxy.templates {
            reader.late(
                &one.place,
                "use-server",
                format!("no server is named \"{}\" in this section", one.name),
            );
        }
    }
    for one in &proxy.tracks {
        let (section, server) = match one.name.split_once('/') {
            Some((section, server)) => (reader.backs.get(section).copied(), server),
            None => (Some(n), one.name.as_str()),
        };
        let there = section
            .is_some_and(|s| reader.proxies[s].servers.contains_key(server) || reader.proxies[s].templates);
        if there
            && section
                .is_some_and(|s| !reader.proxies[s].templates && !reader.proxies[s].checked.contains(server))
        {
            let why = format!("server {} is not checked, and cannot be tracked", one.name);
            reader.late(&one.place, "server", why);
        }
        if !there {
            reader.late(&one.place, "server", format!("no server is named \"{}\" to track", one.name));
        }
    }
}

/// What a name should stand for, where it stands for nothing.
fn missing(reader: &mut Reader, n: usize, reference: &Reference, place: &Place) -> Option<String> {
    let name = reference.name.as_str();
    let own = &reader.proxies[n];
    match reference.to {
        Refers::Table => {
            let there = match name {
                "" => own.table,
                name => {
                    let section = reader.backs.get(name).or_else(|| reader.fronts.get(name));
                    section.is_some_and(|s| reader.proxies[*s].table)
                        || reader.sections.contains_key(&("table", name.to_owned()))
                }
            };
            let shown = if name.is_empty() { own.name.as_str() } else { name };
            (!there).then(|| format!("no table is named \"{shown}\""))
        }
        Refers::Frontend => {
            let there = if name.is_empty() { own.role.front() } else { reader.fronts.contains_key(name) };
            (!there).then(|| format!("no frontend is named \"{name}\""))
        }
        Refers::Backend => {
            let there = if name.is_empty() { own.role.back() } else { reader.backs.contains_key(name) };
            (!there).then(|| format!("no backend is named \"{name}\""))
        }
        Refers::Server => {
            let (section, server) = match name.split_once('/') {
                Some((section, server)) => (reader.backs.get(section).copied(), server),
                None => (Some(n), name),
            };
            let there = section.is_some_and(|s| {
                reader.proxies[s].servers.contains_key(server) || reader.proxies[s].templates
            });
            (!there).then(|| format!("no server is named \"{name}\""))
        }
        Refers::Users => (!reader.sections.contains_key(&("userlist", name.to_owned())))
            .then(|| format!("no list of users is named \"{name}\"")),
        Refers::Pattern => regex_fault(name).map(|why| format!("the pattern \"{name}\" is broken: {why}")),
        Refers::File => {
            // Later releases keep lists that no file holds.
            if !name.starts_with("virt@") && !name.starts_with("opt@") {
                reader.file_must_be_there(place, "", name.trim_start_matches("file@"));
            }
            None
        }
    }
}

/// Servers that speak TLS need somebody whose word counts; names must resolve.
fn servers(reader: &mut Reader, n: usize) {
    if !reader.proxies[n].role.back() {
        return;
    }
    if !reader.proxies[n].check_ports {
        for Named { name, place } in std::mem::take(&mut reader.proxies[n].portless) {
            let why = format!("server {name} is checked, and neither it nor its check has a port");
            reader.late(&place, "server", why);
        }
    }
    for Named { name, place } in reader.proxies[n].hosts.clone() {
        unresolved(reader, &name, &place);
    }
    let tls = reader.proxies[n].tls_servers.clone();
    for Tls { place, shown, verify, authority, .. } in tls {
        let checked = match verify.as_deref() {
            Some("none") => false,
            Some(_) => true,
            None => reader.server_verify,
        };
        if checked && !authority {
            let why = format!(
                "the certificate of {shown} is checked, and no authority is named (ca-file, or verify none)"
            );
            reader.late(&place, "server", why);
        }
    }
}

/// Hosts of servers that lead nowhere.
pub(super) fn unresolved(reader: &mut Reader, host: &str, place: &Place) {
    match crate::names::lookup(reader.book.snapshot, host) {
        crate::host::Look::Seen(found) if !found.is_empty() => {}
        crate::host::Look::NotSeen(_) => {
            reader.book.out.not_seen.push(format!("whether {host} resolves ({place})").into());
        }
        _ => {
            let why = format!("host \"{host}\" does not resolve");
            let found = reader.book.find(place, "server", Code::NameUnresolved, why);
            found.depends_on = DependsOn::Names;
            found.about = Some(About::Host(host.to_owned()));
        }
    }
}
