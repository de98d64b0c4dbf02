//! Servers asked over their own protocols, and what their answers say: an answer is a proof, a connection
//! that the kernel accepts is none.
use super::check::{CheckEntry, CheckOutcome, check};
use crate::case::{Case, Wanted};
use crate::config::Speaks;
use crate::host::{Greeting, Look, ProbeAnswer, ProbeProtocol, ProbeRequest, Protocol};
use crate::net::endpoint;
use crate::route::Url;
use crate::secrets::mask_text;
use crate::snapshot::Snapshot;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// The page that was complained about.
#[derive(Clone, Debug, Default)]
pub struct Complaint {
    /// Its address.
    pub url: Option<String>,
    /// Status it should answer with.
    pub status: Option<u16>,
    /// Text it should hold.
    pub expect: Option<String>,
}

/// An address to try for a listener.
fn reachable(address: IpAddr) -> IpAddr {
    match address {
        IpAddr::V4(four) if four.is_unspecified() => Ipv4Addr::LOCALHOST.into(),
        IpAddr::V6(six) if six.is_unspecified() => Ipv6Addr::LOCALHOST.into(),
        other => other,
    }
}

/// What came of asking a listener.
pub(super) struct Asked {
    pub(super) entry: CheckEntry,
    /// It stayed without an answer.
    pub(super) mute: bool,
    /// It says itself that it is still starting.
    pub(super) starting: bool,
}

/// Asks the listeners, and says of each what came of it.
pub(super) fn listeners(snapshot: &Snapshot, case: &Case) -> Vec<Asked> {
    if !snapshot.host().parts().probes {
        return vec![];
    }
    let mut found = Vec::new();
    for want in case
        .wanted
        .iter()
        .filter(|w| {
            w.served && !w.activates && w.listen.protocol != Protocol::Udp && w.speaks != Speaks::Orders
        })
        .take(8)
    {
        let Some((request, shown)) = question(snapshot, case, want) else { continue };
        let Look::Seen(answer) = snapshot.probe(&request) else { continue };
        let (mut entry, mute) = judged(&shown, &answer);
        entry.took_ms = Some(answer.took_ms);
        let starting = answer.greeting.as_ref().is_some_and(|g| g.starting.is_some());
        found.push(Asked { entry, mute, starting });
    }
    found
}

/// What to ask a listener, and how that is called; `None` where nothing can be asked.
fn question(snapshot: &Snapshot, case: &Case, want: &Wanted) -> Option<(ProbeRequest, String)> {
    let profile = case.service.kind.profile();
    let as_its_kind = want.speaks == Speaks::AsItsKind;
    let protocol = match (profile.http && as_its_kind, want.tls) {
        (true, _) => ProbeProtocol::Http,
        (false, false) if want.speaks == Speaks::Ajp => ProbeProtocol::Ajp,
        // Under TLS nothing but the handshake could be asked.
        (false, false) if as_its_kind => profile.asks,
        _ => ProbeProtocol::Tcp,
    };
    let socket = want.listen.path.clone();
    let spoken = !matches!(protocol, ProbeProtocol::Tcp | ProbeProtocol::Http);
    let target = match (want.listen.address, &socket) {
        // A socket for both families answers on the IPv4 loopback, too; that one is always there.
        (Some(address), _) if address == IpAddr::V6(Ipv6Addr::UNSPECIFIED) && !want.listen.v6_only => {
            Ipv4Addr::LOCALHOST.into()
        }
        (Some(address), _) => reachable(address),
        (None, Some(_)) if spoken => Ipv4Addr::LOCALHOST.into(),
        _ => return None,
    };
    let host = case
        .config
        .model
        .site_names
        .iter()
        .map(|(n, _)| n.as_str())
        .find(|n| !n.is_empty() && !n.contains(['*', '~', '_']))
        .unwrap_or("localhost");
    let place = socket.clone().unwrap_or_else(|| endpoint(target, want.listen.port));
    let request = ProbeRequest {
        address: target,
        port: want.listen.port,
        tls: want.tls,
        host: host.to_owned(),
        path: "/".into(),
        protocol,
        peer: peer(snapshot, protocol, socket.as_deref()),
        socket,
    };
    let shown = format!(
        "{} on {place}",
        if protocol == ProbeProtocol::Http && want.tls { "HTTPS" } else { protocol.spelled() }
    );
    Some((request, shown))
}

/// Under which account a server's socket is connected to: that of the server itself, where it asks the kernel
/// who its peer is. Only root can.
fn peer(snapshot: &Snapshot, protocol: ProbeProtocol, socket: Option<&str>) -> Option<u32> {
    let path = socket.filter(|_| protocol == ProbeProtocol::Postgresql)?;
    snapshot.myself().seen().filter(|me| me.uid == 0)?;
    snapshot.stat(path).seen().map(|s| s.uid).filter(|uid| *uid != 0)
}

/// What a server of data says of itself, in a few words.
fn told(greeting: &Greeting) -> String {
    let version = greeting.version.as_deref().map(|v| format!(" as version {}", mask_text(v)));
    let role = greeting.standby.filter(|standby| *standby).map(|_| ", a standby that takes no writes");
    format!("answers{}{}", version.unwrap_or_default(), role.unwrap_or_default())
}

/// What an answer says of a listener, and whether it is mute.
fn judged(shown: &str, answer: &ProbeAnswer) -> (CheckEntry, bool) {
    let why = answer.error.clone().unwrap_or_default();
    let (outcome, said, mute) = match (answer.status, answer.connected, &answer.error) {
        (Some(status), ..) => {
            let server = answer.server.as_deref().map(|s| format!(" from {s}")).unwrap_or_default();
            let outcome = if status >= 500 { CheckOutcome::Fail } else { CheckOutcome::Pass };
            (outcome, format!("answers {status}{server}"), false)
        }
        (None, true, None) if answer.spoke => match answer.greeting.clone().unwrap_or_default() {
            // It will be ready, or says when not: that is no failure.
            Greeting { starting: Some(words), .. } => {
                (CheckOutcome::Skip, format!("is still starting: {}", shown_words(&words)), false)
            }
            Greeting { refusing: Some(words), .. } => {
                (CheckOutcome::Fail, format!("takes nobody: {}", shown_words(&words)), false)
            }
            greeting => (CheckOutcome::Pass, told(&greeting), false),
        },
        // The kernel accepts whoever is behind it: that is no proof, and no fault.
        (None, true, None) => {
            (CheckOutcome::Skip, "accepts connections; whether it answers was not asked".to_owned(), false)
        }
        // Something was said, or the connection closed on purpose: it lives, and what it means is not
        // known.
        (None, true, Some(_)) if answer.spoke || answer.hung_up => {
            (CheckOutcome::Skip, format!("could not be asked: {why}"), false)
        }
        (None, true, _) => {
            (CheckOutcome::Fail, format!("accepts connections, but did not answer: {why}"), true)
        }
        (None, false, _) => (CheckOutcome::Fail, format!("does not answer: {why}"), true),
    };
    (check("protocol", outcome, format!("{shown} {said}")), mute)
}

/// A server's own words as they may be shown.
fn shown_words(words: &str) -> String {
    crate::bounds::clip(&mask_text(words))
}

/// Asks for the page that was complained about, or for the one that the services file names.
pub(super) fn page(snapshot: &Snapshot, case: &Case, page: &Complaint) -> Option<CheckEntry> {
    let url = page.url.clone().or_else(|| case.service.described.url.clone())?;
    let parts = Url::parse(&url);
    // Credentials and the query of an address are nobody's to read.
    let url = crate::secrets::mask_text(&url);
    let Url { tls, host, port, target: path, .. } = match parts {
        Ok(parts) => parts,
        Err(why) => return Some(check("page", CheckOutcome::Fail, format!("{url} cannot be asked: {why}"))),
    };
    let address = match crate::names::lookup(snapshot, &host) {
        Look::Seen(found) => found.first().copied(),
        // A name that only DNS knows is asked of this host itself: its sites are chosen by name.
        Look::NotSeen(_) => Some(Ipv4Addr::LOCALHOST.into()),
        Look::Absent => None,
    };
    let Some(address) = address else {
        return Some(check("page", CheckOutcome::Fail, format!("{host} does not resolve")));
    };
    let request = ProbeRequest {
        address,
        port,
        tls,
        host,
        path,
        protocol: ProbeProtocol::Http,
        socket: None,
        peer: None,
    };
    let Look::Seen(answer) = snapshot.probe(&request) else {
        return Some(check("page", CheckOutcome::Skip, "a directory tree has no running servers"));
    };
    let mut entry = match answer.status {
        None => check(
            "page",
            CheckOutcome::Fail,
            format!("{url} does not answer: {}", answer.error.unwrap_or_default()),
        ),
        Some(status) => {
            let right = page.status.map_or(status < 400, |wanted| wanted == status);
            let holds = page.expect.as_ref().is_none_or(|text| answer.body.contains(text.as_str()));
            let outcome = if right && holds { CheckOutcome::Pass } else { CheckOutcome::Fail };
            let wanted =
                page.status.filter(|_| !right).map(|s| format!(", expected {s}")).unwrap_or_default();
            let text = if holds {
                String::new()
            } else {
                format!(", without the text \"{}\"", page.expect.clone().unwrap_or_default())
            };
            check("page", outcome, format!("{url} answers {status}{wanted}{text}"))
        }
    };
    entry.took_ms = Some(answer.took_ms);
    Some(entry)
}
