//! Listening sockets and own addresses, asked of the kernel over netlink (sock_diag(7), rtnetlink(7)).
use jolly_core::host::{Protocol, Socket};
use rustix::net::{AddressFamily, RecvFlags, SendFlags, SocketFlags, SocketType, netlink};
use std::collections::HashMap;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::os::fd::OwnedFd;

const SOCK_DIAG_BY_FAMILY: u16 = 20;
const RTM_GETADDR: u16 = 22;
const NLMSG_ERROR: u16 = 2;
const NLMSG_DONE: u16 = 3;
const REQUEST_DUMP: u16 = 0x301;
const AF_UNIX: u8 = 1;
const AF_INET: u8 = 2;
const AF_INET6: u8 = 10;
const TCP: u8 = 6;
const UDP: u8 = 17;
const LISTEN: u32 = 1 << 10;
const ESTABLISHED: u32 = 1 << 1;
/// UDP sockets that are bound and not connected.
const CLOSE: u32 = 1 << 7;
const INET_DIAG_SKV6ONLY: u16 = 11;
const UNIX_DIAG_NAME: u16 = 0;
const IFA_ADDRESS: u16 = 1;
const IFA_LOCAL: u16 = 2;

/// One message's body with its type.
type Message = (u16, Vec<u8>);

fn dump(protocol: Option<rustix::net::Protocol>, kind: u16, body: &[u8], mut each: impl FnMut(&Message) -> bool) -> rustix::io::Result<()> {
    let socket: OwnedFd = rustix::net::socket_with(AddressFamily::NETLINK, SocketType::RAW, SocketFlags::CLOEXEC, protocol)?;
    rustix::net::sockopt::set_socket_timeout(&socket, rustix::net::sockopt::Timeout::Recv, Some(std::time::Duration::from_secs(5)))?;
    let length = u32::try_from(16 + body.len()).unwrap_or(0);
    let mut message = Vec::with_capacity(16 + body.len());
    message.extend(length.to_ne_bytes());
    message.extend(kind.to_ne_bytes());
    message.extend(REQUEST_DUMP.to_ne_bytes());
    message.extend([0; 8]);
    message.extend(body);
    rustix::net::sendto(&socket, &message, SendFlags::empty(), &netlink::SocketAddrNetlink::new(0, 0))?;
    let mut buffer = vec![0u8; 256 << 10];
    loop {
        let (read, _) = rustix::net::recv(&socket, &mut buffer[..], RecvFlags::empty())?;
        let mut rest = buffer.get(..read).unwrap_or_default();
        while rest.len() >= 16 {
            let size = u32_at(rest, 0) as usize;
            let kind = u16_at(rest, 4);
            if size < 16 || size > rest.len() {
                return Ok(());
            }
            match kind {
                NLMSG_DONE => return Ok(()),
                NLMSG_ERROR => return Err(rustix::io::Errno::NOSYS),
                _ => {
                    if !each(&(kind, rest[16..size].to_vec())) {
                        return Ok(());
                    }
                }
            }
            rest = rest.get((size + 3) & !3..).unwrap_or_default();
        }
        if read == 0 {
            return Ok(());
        }
    }
}

fn u32_at(bytes: &[u8], at: usize) -> u32 {
    bytes.get(at..at + 4).and_then(|b| b.try_into().ok()).map_or(0, u32::from_ne_bytes)
}

fn u16_at(bytes: &[u8], at: usize) -> u16 {
    bytes.get(at..at + 2).and_then(|b| b.try_into().ok()).map_or(0, u16::from_ne_bytes)
}

/// Attributes behind a fixed part: type and content.
fn attributes(mut rest: &[u8]) -> Vec<(u16, &[u8])> {
    let mut found = Vec::new();
    while rest.len() >= 4 {
        let size = usize::from(u16_at(rest, 0));
        if size < 4 || size > rest.len() {
            break;
        }
        found.push((u16_at(rest, 2) & 0x3fff, &rest[4..size]));
        rest = rest.get((size + 3) & !3..).unwrap_or_default();
    }
    found
}

fn inet_request(family: u8, protocol: u8, states: u32) -> Vec<u8> {
    // struct inet_diag_req_v2: family, protocol, extensions, pad, states, then the socket's identity (all zero).
    let mut body = vec![family, protocol, 0, 0];
    body.extend(states.to_ne_bytes());
    body.extend([0; 48]);
    body
}

fn address(family: u8, raw: &[u8]) -> Option<IpAddr> {
    if family == AF_INET {
        let four: [u8; 4] = raw.get(..4)?.try_into().ok()?;
        Some(IpAddr::V4(Ipv4Addr::from(four)))
    } else {
        let six: [u8; 16] = raw.get(..16)?.try_into().ok()?;
        Some(IpAddr::V6(Ipv6Addr::from(six)))
    }
}

/// All listening TCP, bound UDP and listening Unix sockets.
pub(crate) fn listeners() -> rustix::io::Result<Vec<Socket>> {
    let mut found = Vec::new();
    for (family, protocol, states) in [(AF_INET, TCP, LISTEN), (AF_INET6, TCP, LISTEN), (AF_INET, UDP, CLOSE), (AF_INET6, UDP, CLOSE)] {
        dump(Some(netlink::SOCK_DIAG), SOCK_DIAG_BY_FAMILY, &inet_request(family, protocol, states), |(_, body)| {
            // struct inet_diag_msg: family, state, timer, retrans; ports big-endian; addresses; …; uid and inode last.
            let port = body.get(4..6).map_or(0, |p| u16::from_be_bytes([p[0], p[1]]));
            let Some(own) = address(family, body.get(8..24).unwrap_or_default()) else { return true };
            let v6_only = attributes(body.get(72..).unwrap_or_default()).iter().any(|(k, v)| *k == INET_DIAG_SKV6ONLY && v.first() == Some(&1));
            found.push(Socket {
                protocol: if protocol == TCP { Protocol::Tcp } else { Protocol::Udp },
                address: Some(own),
                port,
                path: None,
                inode: u64::from(u32_at(body, 68)),
                uid: u32_at(body, 64),
                v6_only,
            });
            true
        })?;
    }
    // struct unix_diag_req: family, protocol, pad, states, inode, show (1 = name), cookie.
    let mut body = vec![AF_UNIX, 0, 0, 0];
    body.extend(LISTEN.to_ne_bytes());
    body.extend(0u32.to_ne_bytes());
    body.extend(1u32.to_ne_bytes());
    body.extend([0; 8]);
    dump(Some(netlink::SOCK_DIAG), SOCK_DIAG_BY_FAMILY, &body, |(_, body)| {
        let inode = u64::from(u32_at(body, 4));
        let name = attributes(body.get(16..).unwrap_or_default()).into_iter().find(|(k, _)| *k == UNIX_DIAG_NAME).map(|(_, v)| v);
        if let Some(name) = name {
            let text = String::from_utf8_lossy(name);
            let path = text.strip_prefix('\0').map_or_else(|| text.trim_end_matches('\0').to_owned(), |abstract_name| format!("@{abstract_name}"));
            found.push(Socket { protocol: Protocol::Unix, address: None, port: 0, path: Some(path), inode, uid: 0, v6_only: false });
        }
        true
    })?;
    Ok(found)
}

/// Established TCP connections by local port. The kernel goes through all of them whatever is asked, so one dump answers
/// for every port.
pub(crate) fn clients() -> rustix::io::Result<HashMap<u16, u32>> {
    let mut counts = HashMap::new();
    for family in [AF_INET, AF_INET6] {
        let body = inet_request(family, TCP, ESTABLISHED);
        dump(Some(netlink::SOCK_DIAG), SOCK_DIAG_BY_FAMILY, &body, |(_, body)| {
            let own = body.get(4..6).map_or(0, |p| u16::from_be_bytes([p[0], p[1]]));
            *counts.entry(own).or_insert(0) += 1;
            true
        })?;
    }
    Ok(counts)
}

/// Addresses of all interfaces.
pub(crate) fn addresses() -> rustix::io::Result<Vec<IpAddr>> {
    let mut found = Vec::new();
    dump(None, RTM_GETADDR, &[0; 8], |(_, body)| {
        let family = body.first().copied().unwrap_or(0);
        let all = attributes(body.get(8..).unwrap_or_default());
        let pick = |kind: u16| all.iter().find(|(k, _)| *k == kind).and_then(|(_, v)| address(family, v));
        found.extend(pick(IFA_LOCAL).or_else(|| pick(IFA_ADDRESS)));
        true
    })?;
    found.sort();
    Ok(found)
}
