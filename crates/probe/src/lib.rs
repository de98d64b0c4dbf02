//! Asks a server "are you well?" in its own protocol: a TCP connection, HTTP, HTTPS.
//!
//! Certificates are not verified: the question is whether the server answers, and its certificate is judged
//! elsewhere. Every probe has a deadline.
#![forbid(unsafe_code)]

use jolly_core::host::{ProbeAnswer, ProbeProtocol, ProbeRequest};
use std::net::{SocketAddr, TcpStream};
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
    fn resolve(&self, _: &Uri, _: &ureq::config::Config, _: NextTimeout) -> Result<ResolvedSocketAddrs, ureq::Error> {
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
    };
    answer.took_ms = u64::try_from(began.elapsed().as_millis()).unwrap_or(u64::MAX);
    answer
}

fn empty() -> ProbeAnswer {
    ProbeAnswer { connected: false, status: None, server: None, location: None, body: String::new(), error: None, took_ms: 0 }
}

fn tcp(request: &ProbeRequest, patience: Duration) -> ProbeAnswer {
    match TcpStream::connect_timeout(&SocketAddr::new(request.address, request.port), patience) {
        Ok(_) => ProbeAnswer { connected: true, ..empty() },
        Err(error) => ProbeAnswer { error: Some(error.to_string()), ..empty() },
    }
}

fn http(request: &ProbeRequest, patience: Duration) -> ProbeAnswer {
    let scheme = if request.tls { "https" } else { "http" };
    let host = if request.host.contains(':') && !request.host.starts_with('[') { format!("[{}]", request.host) } else { request.host.clone() };
    let address = format!("{scheme}://{host}:{}{}", request.port, request.path);
    let config = ureq::config::Config::builder()
        .timeout_global(Some(patience))
        .http_status_as_error(false)
        .max_redirects(0)
        .max_redirects_will_error(false)
        .tls_config(TlsConfig::builder().disable_verification(true).build())
        .proxy(None)
        .build();
    let agent = ureq::Agent::with_parts(config, DefaultConnector::default(), Fixed(SocketAddr::new(request.address, request.port)));
    match agent.get(&address).call() {
        Ok(mut response) => {
            let header = |name: &str| response.headers().get(name).and_then(|v| v.to_str().ok()).map(str::to_owned);
            let (server, location) = (header("server"), header("location"));
            let status = Some(response.status().as_u16());
            let body = response.body_mut().with_config().limit(BODY).lossy_utf8(true).read_to_string().unwrap_or_default();
            ProbeAnswer { connected: true, status, server, location, body, error: None, took_ms: 0 }
        }
        Err(error) => {
            let connected = !matches!(error, ureq::Error::Io(_) | ureq::Error::HostNotFound | ureq::Error::ConnectionFailed);
            ProbeAnswer { connected, error: Some(error.to_string()), ..empty() }
        }
    }
}
