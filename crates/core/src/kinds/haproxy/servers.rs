//! Listeners and servers with their addresses, options and certificates (listener.c, server.c,
//! cfgparse-ssl.c).
use super::acl::Wrong;
use super::address::{Address, Allows, address};
use super::options::{Options, options};
use super::state::{At, Named, Reader, Tls};
use super::tokens::Words;
use super::values;

type Read = Result<(), Wrong>;

/// Options that name a file of certificates, and those that name one of authorities.
const CERTIFICATES: &[&str] = &["crt", "default-crt"];
const AUTHORITIES: &[&str] = &["ca-file", "ca-verify-file", "crl-file"];
const OTHER_FILES: &[&str] = &["ca-sign-file", "crt-list", "tls-ticket-keys"];

/// `bind ADDRESS… OPTIONS…`: what no listener of the model tells.
pub(super) fn bind(reader: &mut Reader, at: At) -> Read {
    let words = Words(at.words);
    let allows = Allows::LISTEN;
    for one in words.at(1).split(',') {
        let to = address(one, allows).map_err(|why| Wrong::new(1, why))?;
        must_resolve(reader, at, to);
    }
    let found = options(reader.known(), "bind", words, 2)?;
    for (name, value, word) in &found.all {
        let snapshot = reader.book.snapshot;
        let what = match *name {
            "user" if crate::accounts::account(snapshot, value).is_absent() => "account",
            "group" if crate::accounts::group(snapshot, value).is_absent() => "group",
            _ => continue,
        };
        return Err(Wrong::new(word + 1, format!("{what} {value} does not exist")));
    }
    files(reader, at, &found);
    let tls = Tls {
        place: at.place(0),
        shown: words.at(1).to_owned(),
        certificate: ["crt", "crt-list", "generate-certificates", "default-crt"].iter().any(|o| found.has(o)),
        verify: found.value("verify").map(str::to_owned),
        authority: found.has("ca-file"),
    };
    let protocol = protocol(at, &found);
    let Some(proxy) = reader.proxy() else { return Ok(()) };
    proxy.protocols.extend(protocol);
    proxy.binds.extend(found.has("ssl").then_some(tls));
    Ok(())
}

/// The protocol that options insist on.
fn protocol(at: At, found: &Options) -> Option<Named> {
    let name = found.value("proto").filter(|p| *p != "none")?;
    Some(Named { name: name.to_owned(), place: at.place(0) })
}

/// The files that options name must be there.
fn files(reader: &mut Reader, at: At, found: &Options) {
    for (name, value, word) in &found.all {
        let base = match *name {
            _ if value.starts_with('@') => continue,
            name if CERTIFICATES.contains(&name) => reader.certificates.clone(),
            name if AUTHORITIES.contains(&name) => reader.authorities.clone(),
            name if OTHER_FILES.contains(&name) => String::new(),
            _ => continue,
        };
        certificate(reader, at, word + 1, value, &base);
    }
}

/// A name that is looked up while the line is read must resolve.
pub(super) fn must_resolve(reader: &mut Reader, at: At, to: Address) {
    if let Address::Host { host, .. } = to
        && is_name(&host)
    {
        super::finish::unresolved(reader, &host, &at.place(1));
    }
}

/// A file of certificates or a directory of them must be there.
fn certificate(reader: &mut Reader, at: At, word: usize, name: &str, base: &str) {
    let whole =
        if name.starts_with('/') || base.is_empty() { name.to_owned() } else { format!("{base}/{name}") };
    // One name may stand for files of several kinds of keys.
    let bundle = |path: &String| {
        ["rsa", "ecdsa", "dsa"]
            .iter()
            .any(|k| reader.book.snapshot.exists(&format!("{path}.{k}")) != Some(false))
    };
    if !reader.paths(&whole).iter().any(bundle) {
        let directive = at.words.first().map_or("", |w| w.value.as_str()).to_owned();
        reader.file_must_be_there(&at.place(word), &directive, &whole);
    }
}

/// What the address of a server tells.
#[derive(Default)]
struct Begun {
    /// The host, where it must be looked up.
    host: Option<String>,
    /// It has no port of its own.
    portless: bool,
}

/// The name and the address of a server, and the word behind the address.
fn begun(words: Words) -> Result<(Begun, usize), Wrong> {
    let kind = words.at(0);
    let address_at = match kind {
        "default-server" => return Ok((Begun::default(), 1)),
        "server-template" => 3,
        _ => 2,
    };
    if words.at(address_at).is_empty() {
        return Err(Wrong::new(words.len() - 1, format!("{kind} needs a name and an address")));
    }
    if let Some(sign) = values::bad_sign(words.at(1)).filter(|s| kind == "server" || *s != ':') {
        return Err(Wrong::new(1, format!("\"{sign}\" is not allowed in the name of a server")));
    }
    if kind == "server-template" {
        let range = words.at(2);
        let (low, high) = range.split_once('-').unwrap_or(("1", range));
        let rises = values::leading(low) <= values::leading(high) && values::leading(high) > 0;
        if !values::is_number(low) || !values::is_number(high) || !rises {
            return Err(Wrong::new(2, format!("\"{range}\" is not a count or range of servers")));
        }
    }
    let allows = Allows::SERVER;
    let to = address(words.at(address_at), allows).map_err(|why| Wrong::new(address_at, why))?;
    let begun = match to {
        Address::Host { host, low, .. } => {
            Begun { portless: low == 0, host: Some(host).filter(|host| is_name(host)) }
        }
        _ => Begun::default(),
    };
    Ok((begun, address_at + 1))
}

/// `server NAME ADDRESS OPTIONS…`, `server-template PREFIX COUNT ADDRESS OPTIONS…`,
/// `default-server OPTIONS…`.
pub(super) fn server(reader: &mut Reader, at: At) -> Read {
    let words = Words(at.words);
    let (begun, from) = begun(words)?;
    let found = options(reader.known(), "server", words, from)?;
    files(reader, at, &found);
    reader.note(at, found.refers.clone());
    let place = at.place(0);
    let named = |value: Option<&str>| value.map(|name| Named { name: name.to_owned(), place: place.clone() });
    let protocol = protocol(at, &found);
    let Some(proxy) = reader.proxy() else { return Ok(()) };
    proxy.protocols.extend(protocol);
    proxy.resolvers.extend(named(found.value("resolvers")));
    proxy.tracks.extend(named(found.value("track")));
    if words.at(0) == "default-server" {
        if found.has("id") || found.has("usesrc") {
            return Err(Wrong::new(0, "id is not an option of default-server"));
        }
        proxy.server_defaults.extend(found.all.iter().map(|(name, value, _)| (*name, value.clone())));
        return Ok(());
    }
    let value = |name: &str| found.value(name).or(proxy.server_defaults.get(name).map(String::as_str));
    if found.has("track") && found.has("check") {
        return Err(Wrong::new(0, "a server cannot be checked and track another one"));
    }
    if found.has("agent-check") && value("agent-port").is_none() {
        return Err(Wrong::new(0, "agent-check needs an agent-port"));
    }
    // A name is looked up at the start, unless something else says how the first address is found.
    let looked_up = value("init-addr").is_none_or(|first| first.ends_with("libc"));
    let tls = Tls {
        place: place.clone(),
        shown: words.at(1).to_owned(),
        certificate: true,
        verify: value("verify").map(str::to_owned),
        authority: value("ca-file").is_some(),
    };
    proxy.hosts.extend(named(begun.host.as_deref().filter(|_| looked_up)));
    proxy.tls_servers.extend((found.has("ssl") || found.has("check-ssl")).then_some(tls));
    let checked = ["check", "agent-check", "track"].iter().any(|o| value(o).is_some());
    let portless = begun.portless && value("check").is_some() && value("port").is_none();
    proxy.portless.extend(named(Some(words.at(1)).filter(|_| portless)));
    if checked {
        proxy.checked.insert(words.at(1).to_owned());
    }
    if words.at(0) == "server-template" {
        proxy.templates = true;
        return Ok(());
    }
    let name = words.at(1).to_owned();
    if let Some(first) = proxy.servers.get(&name) {
        let why = format!("a server named {name} was defined at line {}", first.line);
        return Err(Wrong::twice(1, why));
    }
    proxy.servers.insert(name, place);
    Ok(())
}

/// Whether a host is a name that must be looked up; names of service records are looked up later.
fn is_name(host: &str) -> bool {
    let bare = host.trim_start_matches('[').trim_end_matches(']');
    !matches!(bare, "" | "*") && bare.parse::<std::net::IpAddr>().is_err() && !host.starts_with('_')
}
