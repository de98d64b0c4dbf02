//! The probe against servers of the test's own on loopback: well, unwell, silent, and no server at all.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use jolly_core::host::{ProbeProtocol, ProbeRequest};
use jolly_probe::probe;
use std::io::{Read, Write};
use std::net::TcpListener;
use std::time::{Duration, Instant};

/// A server that gives one answer to each of `times` connections and says what it was asked.
fn server(answer: &'static str, times: usize) -> (u16, std::thread::JoinHandle<String>) {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    let handle = std::thread::spawn(move || {
        let mut asked = String::new();
        for _ in 0..times {
            let (mut stream, _) = listener.accept().unwrap();
            let mut buffer = [0; 2048];
            let read = stream.read(&mut buffer).unwrap_or(0);
            asked.push_str(&String::from_utf8_lossy(&buffer[..read]));
            let _ = stream.write_all(answer.as_bytes());
        }
        asked
    });
    (port, handle)
}

fn request(port: u16, path: &str, protocol: ProbeProtocol) -> ProbeRequest {
    ProbeRequest {
        address: "127.0.0.1".parse().unwrap(),
        port,
        tls: false,
        host: "front.saltmarsh-ferries.example".into(),
        path: path.into(),
        protocol,
        socket: None,
        peer: None,
    }
}

#[test]
fn an_answer_brings_status_server_and_body_from_the_address_that_was_asked() {
    let (port, server) = server(
        "HTTP/1.1 200 OK\r\nServer: quay\r\nContent-Length: 9\r\nConnection: close\r\n\r\nTimetable",
        1,
    );
    let answer = probe(&request(port, "/tides?today", ProbeProtocol::Http), Duration::from_secs(5));
    assert_eq!(
        (answer.status, answer.server.as_deref(), answer.body.as_str()),
        (Some(200), Some("quay"), "Timetable")
    );
    let asked = server.join().unwrap();
    assert!(asked.starts_with("GET /tides?today HTTP/1.1\r\n"), "{asked}");
    assert!(
        asked.to_ascii_lowercase().contains(&format!("host: front.saltmarsh-ferries.example:{port}")),
        "{asked}"
    );
}

#[test]
fn an_error_status_and_a_redirect_are_answers_and_nothing_is_followed() {
    let (port, _server) =
        server("HTTP/1.1 502 Bad Gateway\r\nContent-Length: 0\r\nConnection: close\r\n\r\n", 1);
    assert_eq!(probe(&request(port, "/", ProbeProtocol::Http), Duration::from_secs(5)).status, Some(502));
    let (port, _server) = server_redirect();
    let answer = probe(&request(port, "/", ProbeProtocol::Http), Duration::from_secs(5));
    assert_eq!((answer.status, answer.location.as_deref()), (Some(301), Some("http://elsewhere.invalid/")));
}

fn server_redirect() -> (u16, std::thread::JoinHandle<String>) {
    server(
        "HTTP/1.1 301 Moved\r\nLocation: http://elsewhere.invalid/\r\nContent-Length: 0\r\n\
            Connection: close\r\n\r\n",
        1,
    )
}

#[test]
fn a_silent_server_costs_its_time_out_and_no_more() {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    let began = Instant::now();
    let answer = probe(&request(port, "/", ProbeProtocol::Http), Duration::from_millis(300));
    assert!(answer.status.is_none() && answer.error.is_some());
    assert!(began.elapsed() < Duration::from_secs(3), "{:?}", began.elapsed());
    drop(listener);
}

#[test]
fn nobody_there_and_nonsense_are_told_apart_from_an_answer() {
    let port = {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        listener.local_addr().unwrap().port()
    };
    let nobody = probe(&request(port, "/", ProbeProtocol::Http), Duration::from_secs(2));
    assert!(!nobody.connected && nobody.status.is_none() && nobody.error.is_some());
    let nobody = probe(&request(port, "/", ProbeProtocol::Tcp), Duration::from_secs(2));
    assert!(!nobody.connected);
    let (port, _server) = server("GAUGE 2.41 m\n", 1);
    let nonsense = probe(&request(port, "/", ProbeProtocol::Http), Duration::from_secs(2));
    assert!(nonsense.status.is_none() && nonsense.error.is_some());
    let (port, _server) = server("", 1);
    assert!(probe(&request(port, "/", ProbeProtocol::Tcp), Duration::from_secs(2)).connected);
}

#[test]
fn a_server_that_says_what_its_protocol_says_is_alive_and_one_that_only_accepts_is_not() {
    for (protocol, said) in [
        (ProbeProtocol::Greeting, "5.5-quay"),
        (ProbeProtocol::Postgresql, "N"),
        (ProbeProtocol::Redis, "+PONG\r\n-NOPERM\r\n"),
        (ProbeProtocol::FastCgi, "\u{1}\u{b}\0\0\0\0\0\0"),
        (ProbeProtocol::Ajp, "AB\0\u{1}\u{9}"),
        (ProbeProtocol::Mysql, "\u{17}\0\0\0\u{7f}"),
    ] {
        let whole = !said.ends_with('\u{7f}');
        let (port, server) = greeter(said);
        let answer = probe(&request(port, "/", protocol), Duration::from_secs(5));
        assert!(answer.connected && answer.spoke, "{protocol:?}: {answer:?}");
        // A packet that does not come whole is told as what it is.
        assert_eq!(answer.error.is_none(), whole, "{protocol:?}: {answer:?}");
        server.join().unwrap();
        let mute = TcpListener::bind("127.0.0.1:0").unwrap();
        let answer =
            probe(&request(mute.local_addr().unwrap().port(), "/", protocol), Duration::from_millis(200));
        assert!(
            answer.connected && !answer.spoke && answer.error.is_some(),
            "{protocol:?}: the kernel accepts for it: {answer:?}"
        );
    }
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("s");
    let listener = std::os::unix::net::UnixListener::bind(&path).unwrap();
    let handle = std::thread::spawn(move || listener.accept().unwrap().0.write_all(b"N"));
    let socket = Some(path.to_string_lossy().into_owned());
    let answer =
        probe(&ProbeRequest { socket, ..request(1, "/", ProbeProtocol::Postgresql) }, Duration::from_secs(5));
    assert!(answer.spoke, "{answer:?}");
    handle.join().unwrap().unwrap();
}

/// A server that says a few bytes to its first client, whatever that says.
fn greeter(words: &'static str) -> (u16, std::thread::JoinHandle<()>) {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    let handle = std::thread::spawn(move || {
        let (mut stream, _) = listener.accept().unwrap();
        stream.write_all(words.as_bytes()).unwrap();
        // Who has heard enough may be gone by now.
        let _ = stream.shutdown(std::net::Shutdown::Write);
        // What is not read before the end would break the connection off.
        let _ = stream.set_read_timeout(Some(Duration::from_millis(300)));
        while stream.read(&mut [0; 64]).is_ok_and(|got| got > 0) {}
    });
    (port, handle)
}

#[test]
fn a_socket_whose_queue_is_full_is_not_waited_for_without_end() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("s");
    let _listener = std::os::unix::net::UnixListener::bind(&path).unwrap();
    // Nobody accepts. One thread fills the queue, which is as long as the system allows, and stays behind in
    // its last call.
    let filled = path.clone();
    let (sender, receiver) = std::sync::mpsc::channel();
    std::thread::spawn(move || {
        let mut held = Vec::new();
        while let Ok(stream) = std::os::unix::net::UnixStream::connect(&filled) {
            held.push(stream);
            let _ = sender.send(());
        }
    });
    while receiver.recv_timeout(Duration::from_secs(1)).is_ok() {}
    let asked =
        ProbeRequest { socket: Some(path.display().to_string()), ..request(1, "/", ProbeProtocol::Redis) };
    let answer = probe(&asked, Duration::from_millis(300));
    assert!(
        !answer.spoke && answer.error.as_deref().is_some_and(|e| e.contains("queue is full")),
        "{answer:?}"
    );
}
