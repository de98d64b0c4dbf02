//! Asks a server "are you well?" in its own protocol, and whether it lets an account in: one file for each
//! protocol, what is said apart from how it is sent. What the kernel accepts is no answer; what the server
//! itself says is.
//!
//! Certificates are not verified: the question is whether the server answers, and its certificate is judged
//! elsewhere. Every question ends at a time and takes a bounded number of bytes; none changes anything on the
//! server.
#![forbid(unsafe_code)]

mod ajp;
mod connection;
mod fastcgi;
mod http;
mod mysql;
mod postgresql;
mod redis;
mod tls;

use connection::{Connection, Target};
use jolly_core::host::{
    Engine, Greeting, LoginAnswer, LoginOutcome, LoginRequest, ProbeAnswer, ProbeProtocol, ProbeRequest,
};
use std::io::{Error, ErrorKind, Result};
use std::time::{Duration, Instant};

/// Asks, and waits no longer than `patience`.
pub fn probe(request: &ProbeRequest, patience: Duration) -> ProbeAnswer {
    let began = Instant::now();
    let target = Target { address: request.address, port: request.port, socket: request.socket.as_deref() };
    let plain = |()| Greeting::default();
    let said = match request.protocol {
        ProbeProtocol::Http => None,
        ProbeProtocol::Tcp => Some(Connection::open(target, patience).map(|_| None)),
        ProbeProtocol::Greeting => Some(first_byte(target, patience).map(plain).map(Some)),
        ProbeProtocol::Mysql => Some(mysql::greet(target, patience).map(Some)),
        ProbeProtocol::Postgresql => Some(postgresql::greet(target, request.peer, patience).map(Some)),
        ProbeProtocol::Redis => Some(redis::greet(target, patience).map(Some)),
        ProbeProtocol::FastCgi => Some(fastcgi::greet(target, patience).map(plain).map(Some)),
        ProbeProtocol::Ajp => Some(ajp::greet(target, patience).map(plain).map(Some)),
    };
    let mut answer = match said {
        None => http::ask(request, patience),
        Some(Ok(greeting)) => {
            ProbeAnswer { connected: true, spoke: greeting.is_some(), greeting, ..ProbeAnswer::default() }
        }
        Some(Err(error)) => failed(&error, patience),
    };
    answer.took_ms = u64::try_from(began.elapsed().as_millis()).unwrap_or(u64::MAX);
    answer
}

/// What a failure says of the server.
fn failed(error: &Error, patience: Duration) -> ProbeAnswer {
    let none = ProbeAnswer::default();
    match error.kind() {
        ErrorKind::TimedOut => ProbeAnswer {
            connected: true,
            error: Some(format!("no answer in {} s", patience.as_secs_f32())),
            ..none
        },
        ErrorKind::UnexpectedEof => ProbeAnswer {
            connected: true,
            hung_up: true,
            error: Some("it hung up without a word".into()),
            ..none
        },
        // It said something, which is not of that protocol.
        ErrorKind::InvalidData => {
            ProbeAnswer { connected: true, spoke: true, error: Some(error.to_string()), ..none }
        }
        ErrorKind::ConnectionReset | ErrorKind::ConnectionAborted | ErrorKind::BrokenPipe => {
            ProbeAnswer { connected: true, hung_up: true, error: Some(error.to_string()), ..none }
        }
        _ => ProbeAnswer { error: Some(error.to_string()), ..none },
    }
}

/// Waits for the first byte of a server that speaks first.
fn first_byte(target: Target, patience: Duration) -> Result<()> {
    let mut connection = Connection::open(target, patience)?;
    match connection.take(&mut [0])? {
        0 => Err(connection.ended()),
        _ => Ok(()),
    }
}

/// Asks a server of data to let an account in, and waits no longer than `patience`. A connection under
/// another account of the host is made by a thread that has become it.
pub fn login(request: &LoginRequest, patience: Duration) -> LoginAnswer {
    let target = Target { address: request.address, port: request.port, socket: request.socket.as_deref() };
    let work = || match request.engine {
        Engine::Mysql => mysql::login(request, target, patience),
        Engine::Postgresql => postgresql::login(request, target, patience),
        Engine::Redis => redis::login(request, target, patience),
    };
    let said = match request.peer {
        None => work(),
        Some(uid) => match connection::as_peer(uid, work) {
            Ok(said) => said,
            Err(error) => {
                let why = format!("the connection could not be made as user {uid}: {error}");
                return LoginAnswer::ended(LoginOutcome::NotTried(why));
            }
        },
    };
    said.unwrap_or_else(|error| {
        let answer = failed(&error, patience);
        let why = answer.error.unwrap_or_default();
        LoginAnswer::ended(match answer.connected {
            true => LoginOutcome::NotSpoken(why),
            false => LoginOutcome::Unreachable(why),
        })
    })
}
