//! HTTP/1.1: one GET without a body, to the one address that was asked for, whatever its host is called.
use jolly_core::host::{ProbeAnswer, ProbeRequest};
use std::io::Read;
use std::net::SocketAddr;
use std::time::Duration;
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

/// Asks for a page.
pub(crate) fn ask(request: &ProbeRequest, patience: Duration) -> ProbeAnswer {
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
                greeting: None,
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
