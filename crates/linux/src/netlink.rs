//! Listening sockets and own addresses, asked of the kernel over netlink (sock_diag(7), rtnetlink(7)).
use jolly_core::host::{Protocol, Socket};
use rustix::net::{AddressFamily, RecvFlags, SendFlags, SocketFlags, SocketType, netlink};
use std::collections::{BTreeSet, HashMap};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::os::fd::OwnedFd;

const SOCK_DIAG_BY_FAMILY: u16 = 20;
const TCPDIAG_GETSOCK: u16 = 18;
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

/// Asks for a dump and gives the body of each message of the answer on.
fn dump(
    protocol: Option<rustix::net::Protocol>,
    kind: u16,
    body: &[u8],
    mut each: impl FnMut(&[u8]),
) -> rustix::io::Result<()> {
    let socket: OwnedFd =
        rustix::net::socket_with(AddressFamily::NETLINK, SocketType::RAW, SocketFlags::CLOEXEC, protocol)?;
    rustix::net::sockopt::set_socket_timeout(
        &socket,
        rustix::net::sockopt::Timeout::Recv,
        Some(std::time::Duration::from_secs(5)),
    )?;
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
                _ => each(&rest[16..size]),
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
    // struct inet_diag_req_v2: family, protocol, extensions, pad, states, then the socket's identity (all
    // zero).
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
    for (family, protocol, states) in
        [(AF_INET, TCP, LISTEN), (AF_INET6, TCP, LISTEN), (AF_INET, UDP, CLOSE), (AF_INET6, UDP, CLOSE)]
    {
        dump(
            Some(netlink::SOCK_DIAG),
            SOCK_DIAG_BY_FAMILY,
            &inet_request(family, protocol, states),
            |body| {
                // struct inet_diag_msg: family, state, timer, retrans; ports big-endian; addresses; …; uid
                // and inode last.
                let port = body.get(4..6).map_or(0, |p| u16::from_be_bytes([p[0], p[1]]));
                let Some(own) = address(family, body.get(8..24).unwrap_or_default()) else { return };
                let v6_only = attributes(body.get(72..).unwrap_or_default())
                    .iter()
                    .any(|(k, v)| *k == INET_DIAG_SKV6ONLY && v.first() == Some(&1));
                found.push(Socket {
                    protocol: if protocol == TCP { Protocol::Tcp } else { Protocol::Udp },
                    address: Some(own),
                    port,
                    path: None,
                    inode: u64::from(u32_at(body, 68)),
                    uid: u32_at(body, 64),
                    v6_only,
                });
            },
        )?;
    }
    // struct unix_diag_req: family, protocol, pad, states, inode, show (1 = name), cookie.
    let mut body = vec![AF_UNIX, 0, 0, 0];
    body.extend(LISTEN.to_ne_bytes());
    body.extend(0u32.to_ne_bytes());
    body.extend(1u32.to_ne_bytes());
    body.extend([0; 8]);
    dump(Some(netlink::SOCK_DIAG), SOCK_DIAG_BY_FAMILY, &body, |body| {
        let inode = u64::from(u32_at(body, 4));
        let name = attributes(body.get(16..).unwrap_or_default())
            .into_iter()
            .find(|(k, _)| *k == UNIX_DIAG_NAME)
            .map(|(_, v)| v);
        if let Some(name) = name {
            let text = String::from_utf8_lossy(name);
            let path = text.strip_prefix('\0').map_or_else(
                || text.trim_end_matches('\0').to_owned(),
                |abstract_name| format!("@{abstract_name}"),
            );
            found.push(Socket {
                protocol: Protocol::Unix,
                address: None,
                port: 0,
                path: Some(path),
                inode,
                uid: 0,
                v6_only: false,
            });
        }
    })?;
    Ok(found)
}

/// Steps of a program that the kernel runs for each socket (struct inet_diag_bc_op: code, bytes to go on by
/// when it holds, and when not; a port to compare with stands where the second number of the next step
/// would).
mod step {
    pub(super) const JUMP: u8 = 1;
    pub(super) const AT_LEAST: u8 = 2;
    pub(super) const AT_MOST: u8 = 3;
    /// Bytes of a jump.
    pub(super) const SHORT: usize = 4;
    /// Bytes of a comparison.
    pub(super) const LONG: usize = 8;
}

/// Most ports that are told apart by the kernel: a jump can be no longer than 64 KiB.
const PORTS: usize = 2_000;

/// Adds the steps that let sockets of these local ports through, by halving; `rest` are the bytes that will
/// follow them.
fn steps(ports: &[u16], rest: usize, out: &mut Vec<u8>) {
    fn compare(code: u8, port: u16, otherwise: usize, out: &mut Vec<u8>) {
        out.extend([code, 8]);
        out.extend(u16::try_from(otherwise).unwrap_or(u16::MAX).to_ne_bytes());
        out.extend([0, 0]);
        out.extend(port.to_ne_bytes());
    }
    let middle = ports.len() / 2;
    let (lower, upper) = ports.split_at(middle);
    match (lower, upper) {
        (_, []) => {}
        ([], [port, ..]) => {
            // Four bytes behind the end means: not this one. The end itself means: this one.
            let behind = step::SHORT + rest + 4;
            compare(step::AT_LEAST, *port, 2 * step::LONG + behind, out);
            compare(step::AT_MOST, *port, step::LONG + behind, out);
            out.extend([step::JUMP, 4]);
            out.extend(u16::try_from(step::SHORT + rest).unwrap_or(u16::MAX).to_ne_bytes());
        }
        (_, [port, ..]) => {
            let (below, above) = (size_of_steps(lower.len()), size_of_steps(upper.len()));
            compare(step::AT_LEAST, *port, step::LONG + above, out);
            steps(upper, below + rest, out);
            steps(lower, rest, out);
        }
    }
}

/// Bytes of the steps for that many ports.
fn size_of_steps(ports: usize) -> usize {
    match ports {
        0 => 0,
        _ => ports * (2 * step::LONG + step::SHORT) + (ports - 1) * step::LONG,
    }
}

/// The attribute that lets only sockets of these local ports into the answer; nothing where they are too
/// many.
fn of_ports(ports: &BTreeSet<u16>) -> Vec<u8> {
    const BYTECODE: u16 = 1;
    let ports: Vec<u16> = ports.iter().copied().collect();
    let Ok(length) = u16::try_from(4 + size_of_steps(ports.len())) else { return Vec::new() };
    if ports.is_empty() || ports.len() > PORTS {
        return Vec::new();
    }
    let mut attribute = Vec::with_capacity(length.into());
    attribute.extend(length.to_ne_bytes());
    attribute.extend(BYTECODE.to_ne_bytes());
    steps(&ports, 0, &mut attribute);
    attribute
}

/// Established TCP connections by local port: of these ports, or of all where none are named.
pub(crate) fn clients(ports: &BTreeSet<u16>) -> rustix::io::Result<HashMap<u16, u32>> {
    // struct inet_diag_req: the older question asks for both families at once, so that the kernel goes
    // through its table only once.
    let mut body = vec![0; 4 + 48];
    body.extend(ESTABLISHED.to_ne_bytes());
    body.extend([0; 4]);
    body.extend(of_ports(ports));
    let mut counts = HashMap::new();
    dump(Some(netlink::SOCK_DIAG), TCPDIAG_GETSOCK, &body, |body| {
        let own = body.get(4..6).map_or(0, |p| u16::from_be_bytes([p[0], p[1]]));
        *counts.entry(own).or_insert(0) += 1;
    })?;
    Ok(counts)
}

/// Addresses of all interfaces.
pub(crate) fn addresses() -> rustix::io::Result<Vec<IpAddr>> {
    let mut found = Vec::new();
    dump(None, RTM_GETADDR, &[0; 8], |body| {
        let family = body.first().copied().unwrap_or(0);
        let all = attributes(body.get(8..).unwrap_or_default());
        let pick = |kind: u16| all.iter().find(|(k, _)| *k == kind).and_then(|(_, v)| address(family, v));
        found.extend(pick(IFA_LOCAL).or_else(|| pick(IFA_ADDRESS)));
    })?;
    found.sort();
    Ok(found)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::net::{TcpListener, TcpStream};

    #[test]
    fn connections_of_one_port_are_those_that_the_count_of_all_has_for_it() {
        for local in ["127.0.0.1:0", "[::1]:0"] {
            let Ok(listener) = TcpListener::bind(local) else { continue };
            let port = listener.local_addr().unwrap().port();
            let of_port = |port: u16| clients(&BTreeSet::from([port])).unwrap();
            // On a busy host others may be connected from the same number to somewhere else.
            let before = of_port(port).get(&port).copied().unwrap_or(0);
            let held: Vec<(TcpStream, TcpStream)> = (0..7)
                .map(|_| {
                    (
                        TcpStream::connect(listener.local_addr().unwrap()).unwrap(),
                        listener.accept().unwrap().0,
                    )
                })
                .collect();
            assert_eq!(of_port(port), HashMap::from([(port, before + 7)]));
            let all = clients(&BTreeSet::new()).unwrap();
            for port in [port, held[0].0.local_addr().unwrap().port()] {
                assert_eq!((of_port(port).len(), of_port(port).get(&port)), (1, all.get(&port)));
            }
        }
    }

    #[test]
    fn the_kernel_lets_exactly_the_ports_through_that_were_named() {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        // The far ends have ports of their own, some of which are asked for.
        let held: Vec<(TcpStream, TcpStream)> = (0..40)
            .map(|_| {
                (TcpStream::connect(listener.local_addr().unwrap()).unwrap(), listener.accept().unwrap().0)
            })
            .collect();
        let far: Vec<u16> = held.iter().map(|(s, _)| s.local_addr().unwrap().port()).collect();
        let all = clients(&BTreeSet::new()).unwrap();
        for every in [1, 2, 3, 7, 39] {
            let wanted: BTreeSet<u16> = far.iter().copied().step_by(every).collect();
            let found = clients(&wanted).unwrap();
            assert_eq!(found.keys().copied().collect::<BTreeSet<_>>(), wanted, "every {every}");
            assert!(found.iter().all(|(port, count)| all.get(port) == Some(count)), "{found:?}");
        }
        // Neighbours that nobody is connected from change nothing, and so many that the kernel cannot tell
        // them apart neither.
        let around: BTreeSet<u16> =
            far.iter().flat_map(|p| [p - 1, *p, p.saturating_add(1), 1, u16::MAX]).collect();
        let expected: BTreeSet<u16> = around.iter().copied().filter(|p| all.contains_key(p)).collect();
        assert_eq!(clients(&around).unwrap().keys().copied().collect::<BTreeSet<_>>(), expected);
        let most: BTreeSet<u16> = (1..=u16::MAX).collect();
        assert!(of_ports(&most).is_empty());
        assert!(clients(&most).unwrap().len() >= expected.len());
        for ports in [1usize, 2, 3, 17, PORTS] {
            let named: BTreeSet<u16> = most.iter().copied().take(ports).collect();
            assert_eq!(of_ports(&named).len(), 4 + size_of_steps(ports));
        }
    }
}
