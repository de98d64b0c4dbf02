//! Asks a server "are you well?" in its own protocol: HTTP and HTTPS, the greeting of a database, a ping.
//! What the kernel accepts is no answer; the first byte of the server itself is.
//!
//! Certificates are not verified: the question is whether the server answers, and its certificate is judged
//! elsewhere. Every probe has a deadline.
#![forbid(unsafe_code)]

use jolly_core::host::{ProbeAnswer, ProbeProtocol, ProbeRequest};
use std::io::{Read, Write};
use std::net::{SocketAddr, TcpStream};
use std::os::unix::net::UnixStream;
use std::time::{Duration, Instant};
use ureq::http::Uri;
use ureq::tls::TlsConfig;
use ureq::unversioned::resolver::{ResolvedSocketAddrs, Resolver};
use ureq::unversioned::transport::{DefaultConnector, NextTimeout};

/// How much of a body is kept, in bytes.
const BODY: u64 = 16 << 10;

/// Always the one address that the request names, whatever its host header says.
#[derive(Debug)]
struct Fixed(SocketAddr);

impl Resolver for Fixed {
    fn resolve(
        &self,
        _: &Uri,
        _: &ureq::config::Config,
        _: NextTimeout,
    ) -> Result<ResolvedSocketAddrs, ureq::Error> {
        let mut found = self.empty();
        found.push(self.0);
        Ok(found)
    }
}

/// Asks, and waits no longer than `patience`.
pub fn probe(request: &ProbeRequest, patience: Duration) -> ProbeAnswer {
    let began = Instant::now();
    let mut answer = match request.protocol {
        ProbeProtocol::Tcp => tcp(request, patience),
        ProbeProtocol::Http => http(request, patience),
        ProbeProtocol::Greeting => ask(request, patience, &[]),
        ProbeProtocol::Postgresql => ask(request, patience, SSL_REQUEST),
        ProbeProtocol::Redis => ask(request, patience, b"PING\r\n"),
        ProbeProtocol::FastCgi => ask(request, patience, GET_VALUES),
    };
    answer.took_ms = u64::try_from(began.elapsed().as_millis()).unwrap_or(u64::MAX);
    answer
}

/// PostgreSQL's SSLRequest: its length, then the code 80877103 (PostgreSQL documentation, message formats).
const SSL_REQUEST: &[u8] = &[0, 0, 0, 8, 0x04, 0xd2, 0x16, 0x2f];
/// FastCGI's FCGI_GET_VALUES without any name: version 1, type 9, request 0, no content.
const GET_VALUES: &[u8] = &[1, 9, 0, 0, 0, 0, 0, 0];

/// A connection of either sort.
trait Stream: Read + Write {
    fn patience(&self, limit: Duration) -> std::io::Result<()>;
}

impl Stream for TcpStream {
    fn patience(&self, limit: Duration) -> std::io::Result<()> {
        self.set_read_timeout(Some(limit)).and_then(|()| self.set_write_timeout(Some(limit)))
    }
}

impl Stream for UnixStream {
    fn patience(&self, limit: Duration) -> std::io::Result<()> {
        self.set_read_timeout(Some(limit)).and_then(|()| self.set_write_timeout(Some(limit)))
    }
}

/// Connects to a Unix socket. Where nobody takes connections any more and the queue is full, the system would
/// wait without end (unix(7)): it is asked again until the time is over.
fn unix(path: &str, patience: Duration) -> std::io::Result<UnixStream> {
    use rustix::net::{AddressFamily, SocketAddrUnix, SocketFlags, SocketType};
    let address = SocketAddrUnix::new(path)?;
    let flags = SocketFlags::CLOEXEC | SocketFlags::NONBLOCK;
    let socket = rustix::net::socket_with(AddressFamily::UNIX, SocketType::STREAM, flags, None)?;
    let began = Instant::now();
    loop {
        match rustix::net::connect(&socket, &address) {
            Ok(()) => break,
            Err(rustix::io::Errno::AGAIN | rustix::io::Errno::INTR) if began.elapsed() < patience => {
                std::thread::sleep(Duration::from_millis(20))
            }
            Err(rustix::io::Errno::AGAIN) => {
                return Err(std::io::Error::other("nobody takes its connections: the queue is full"));
            }
            Err(errno) => return Err(errno.into()),
        }
    }
    let stream = UnixStream::from(socket);
    stream.set_nonblocking(false)?;
    Ok(stream)
}

/// Says something harmless, or nothing, and waits for the first byte of an answer.
fn ask(request: &ProbeRequest, patience: Duration, words: &[u8]) -> ProbeAnswer {
    let connected: std::io::Result<Box<dyn Stream>> = match &request.socket {
        Some(path) => unix(path, patience).map(|s| Box::new(s) as Box<dyn Stream>),
        None => TcpStream::connect_timeout(&SocketAddr::new(request.address, request.port), patience)
            .map(|s| Box::new(s) as Box<dyn Stream>),
    };
    let mut stream = match connected {
        Ok(stream) => stream,
        Err(error) => return ProbeAnswer { error: Some(error.to_string()), ..ProbeAnswer::default() },
    };
    let mut first = [0u8; 1];
    let mut talk = || -> std::io::Result<usize> {
        stream.patience(patience.max(Duration::from_millis(1)))?;
        stream.write_all(words)?;
        stream.read(&mut first)
    };
    match talk() {
        Ok(1) => ProbeAnswer { connected: true, spoke: true, ..ProbeAnswer::default() },
        Ok(_) => ProbeAnswer {
            connected: true,
            hung_up: true,
            error: Some("it hung up without a word".into()),
            ..ProbeAnswer::default()
        },
        Err(error)
            if matches!(error.kind(), std::io::ErrorKind::WouldBlock | std::io::ErrorKind::TimedOut) =>
        {
            ProbeAnswer {
                connected: true,
                error: Some(format!("no answer in {} s", patience.as_secs_f32())),
                ..ProbeAnswer::default()
            }
        }
        Err(error) => {
            ProbeAnswer { connected: true, error: Some(error.to_string()), ..ProbeAnswer::default() }
        }
    }
}

fn tcp(request: &ProbeRequest, patience: Duration) -> ProbeAnswer {
    match TcpStream::connect_timeout(&SocketAddr::new(request.address, request.port), patience) {
        Ok(_) => ProbeAnswer { connected: true, ..ProbeAnswer::default() },
        Err(error) => ProbeAnswer { error: Some(error.to_string()), ..ProbeAnswer::default() },
    }
}

fn http(request: &ProbeRequest, patience: Duration) -> ProbeAnswer {
    let scheme = if request.tls { "https" } else { "http" };
    let host = if request.host.contains(':') && !request.host.starts_with('[') {
        format!("[{}]", request.host)
    } else {
        request.host.clone()
    };
    let address = format!("{scheme}://{host}:{}{}", request.port, request.path);
    let config = ureq::config::Config::builder()
        .timeout_global(Some(patience))
        .http_status_as_error(false)
        .max_redirects(0)
        .max_redirects_will_error(false)
        .tls_config(TlsConfig::builder().disable_verification(true).build())
        .proxy(None)
        .build();
    let agent = ureq::Agent::with_parts(
        config,
        DefaultConnector::default(),
        Fixed(SocketAddr::new(request.address, request.port)),
    );
    let mark = word();
    let name = format!("jolly-sentinel/{} ({mark})", env!("CARGO_PKG_VERSION"));
    match agent.get(&address).header("user-agent", &name).call() {
        Ok(mut response) => {
            let header =
                |name: &str| response.headers().get(name).and_then(|v| v.to_str().ok()).map(str::to_owned);
            let (server, location) = (header("server"), header("location"));
            let status = Some(response.status().as_u16());
            // The beginning of a long body is kept, and that of one that breaks off.
            let mut body = Vec::new();
            let _ = response.body_mut().as_reader().take(BODY).read_to_end(&mut body);
            let body = String::from_utf8_lossy(&body).into_owned();
            ProbeAnswer {
                connected: true,
                spoke: true,
                hung_up: false,
                status,
                server,
                location,
                body,
                error: None,
                took_ms: 0,
                mark: Some(mark),
            }
        }
        Err(error) => {
            let connected = !matches!(
                error,
                ureq::Error::Io(_) | ureq::Error::HostNotFound | ureq::Error::ConnectionFailed
            );
            // What cannot be read, or ends the handshake, was said by the server all the same.
            let spoke = matches!(
                error,
                ureq::Error::Rustls(_)
                    | ureq::Error::Tls(_)
                    | ureq::Error::Protocol(_)
                    | ureq::Error::Http(_)
            );
            let ended = |e: &std::io::Error| {
                matches!(
                    e.kind(),
                    std::io::ErrorKind::UnexpectedEof
                        | std::io::ErrorKind::ConnectionReset
                        | std::io::ErrorKind::ConnectionAborted
                )
            };
            let hung_up = matches!(&error, ureq::Error::Io(e) if ended(e));
            ProbeAnswer {
                connected: connected || hung_up,
                spoke,
                hung_up,
                error: Some(match &error {
                    ureq::Error::Timeout(_) => format!("no answer in {} s", patience.as_secs_f32()),
                    other => other.to_string(),
                }),
                mark: Some(mark),
                ..ProbeAnswer::default()
            }
        }
    }
}

/// A word that nobody else sends: by it the lines of logs about this very request are found.
fn word() -> String {
    let mut bytes = [0u8; 8];
    // Without a source of chance the clock must do.
    if rustix::rand::getrandom(&mut bytes, rustix::rand::GetRandomFlags::empty()).is_err() {
        let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default();
        bytes = now.as_nanos().to_le_bytes()[..8].try_into().unwrap_or_default();
    }
    bytes.iter().map(|b| char::from(b'a' + b % 26)).collect()
}
