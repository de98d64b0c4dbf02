//! Servers that mean ill: what they do costs a bounded time and a bounded memory, and is never told as well.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use jolly_core::host::{ProbeAnswer, ProbeProtocol, ProbeRequest};
use jolly_probe::probe;
use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream};
use std::time::{Duration, Instant};

const PATIENCE: Duration = Duration::from_millis(700);

/// Asks a server that does this with its one connection; the answer, and how long it took.
fn asked(tls: bool, ill: impl FnOnce(TcpStream) + Send + 'static) -> (ProbeAnswer, Duration) {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    std::thread::spawn(move || {
        let (mut stream, _) = listener.accept().unwrap();
        let _ = stream.read(&mut [0; 2048]);
        ill(stream);
    });
    let request = ProbeRequest {
        address: "127.0.0.1".parse().unwrap(),
        port,
        tls,
        host: "front.saltmarsh-ferries.example".into(),
        path: "/".into(),
        protocol: ProbeProtocol::Http,
        socket: None,
        peer: None,
    };
    let began = Instant::now();
    let answer = probe(&request, PATIENCE);
    (answer, began.elapsed())
}

/// Writes the same words until nobody listens any more.
fn without_end(mut stream: TcpStream, head: &[u8], words: &[u8], pause: Duration) {
    let until = Instant::now() + Duration::from_secs(20);
    let mut sent = stream.write_all(head);
    while sent.is_ok() && Instant::now() < until {
        sent = stream.write_all(words);
        std::thread::sleep(pause);
    }
}

#[track_caller]
fn bounded(what: &str, answer: &ProbeAnswer, took: Duration) {
    assert!(took < Duration::from_secs(5), "{what}: {took:?}");
    assert!(answer.body.len() <= 64 << 10, "{what}: {} bytes are kept", answer.body.len());
}

#[test]
fn headers_without_end_end_the_asking() {
    for (what, pause) in [("a flood", Duration::ZERO), ("drops", Duration::from_millis(40))] {
        let (answer, took) =
            asked(false, move |s| without_end(s, b"HTTP/1.1 200 OK\r\n", b"X-Tide: ebb\r\n", pause));
        bounded(what, &answer, took);
        assert!(answer.status.is_none() && answer.error.is_some(), "{what}: {answer:?}");
    }
    let (answer, took) = asked(false, |s| without_end(s, b"HTTP/1.1 200 ", b"x", Duration::ZERO));
    bounded("a first line", &answer, took);
    assert!(answer.status.is_none(), "{answer:?}");
}

#[test]
fn of_a_body_without_end_the_beginning_is_kept() {
    let (answer, took) = asked(false, |s| {
        without_end(
            s,
            b"HTTP/1.1 200 OK\r\nConnection: close\r\n\r\nTimetable",
            &[b'x'; 4096],
            Duration::ZERO,
        )
    });
    bounded("a flood", &answer, took);
    assert_eq!((answer.status, &answer.body[..9]), (Some(200), "Timetable"));
    let (answer, took) = asked(false, |s| {
        without_end(s, b"HTTP/1.1 200 OK\r\nConnection: close\r\n\r\nTide", b"s", Duration::from_millis(40))
    });
    bounded("drops", &answer, took);
    assert!(answer.status == Some(200) && answer.body.starts_with("Tides"), "{answer:?}");
    let chunk = b"1000\r\n".iter().chain(&[b'x'; 4096]).chain(b"\r\n").copied().collect::<Vec<u8>>();
    let (answer, took) = asked(false, move |s| {
        without_end(s, b"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n", &chunk, Duration::ZERO)
    });
    bounded("chunks", &answer, took);
    assert_eq!((answer.status, answer.body.is_empty()), (Some(200), false));
}

#[test]
fn what_breaks_off_is_told_by_what_came() {
    let (answer, took) = asked(false, |mut s| {
        let _ = s.write_all(b"HTTP/1.1 200 OK\r\nContent-Length: 4000\r\n\r\nTimetable");
    });
    bounded("half a body", &answer, took);
    assert_eq!((answer.status, answer.body.as_str()), (Some(200), "Timetable"));
    for words in [&b"HTTP/1.1 200 OK\r\nContent-Le"[..], b"HTTP/1.1", b""] {
        let (answer, took) = asked(false, move |mut s| {
            let _ = s.write_all(words);
        });
        bounded("half a head", &answer, took);
        assert!(answer.status.is_none() && answer.error.is_some(), "{answer:?}");
    }
    // Half open: nothing more comes, and nobody hangs up.
    let (answer, took) = asked(false, |mut s| {
        let _ = s.write_all(b"HTTP/1.1 200 OK\r\n");
        std::thread::sleep(Duration::from_secs(8));
    });
    bounded("half open", &answer, took);
    assert!(answer.status.is_none() && answer.error.is_some(), "{answer:?}");
}

#[test]
fn another_protocol_is_no_answer() {
    for words in [
        &b"SSH-2.0-quay\r\n"[..],
        b"-ERR unknown command\r\n",
        b"\x00\x00\x00\x00\xff\xff",
        b"HTTP/9.9 200 OK\r\n\r\n",
        b"HTTP/1.1 99999 OK\r\n\r\n",
        b"HTTP/1.1 abc OK\r\n\r\n",
        b"HTTP/1.1 200 OK\r\nContent-Length: -5\r\nContent-Length: 7\r\n\r\nx",
    ] {
        let (answer, took) = asked(false, move |mut s| {
            let _ = s.write_all(words);
        });
        bounded("nonsense", &answer, took);
        assert!(answer.status.is_none_or(|s| s == 200), "{answer:?}");
    }
    // TLS that is none, and a record that never ends.
    for words in
        [&b"HTTP/1.1 400 Bad Request\r\n\r\n"[..], b"\x16\x03\x03\xff\xff", b"\x15\x03\x03\x00\x02\x02\x28"]
    {
        let (answer, took) = asked(true, move |mut s| {
            let _ = s.write_all(words);
            std::thread::sleep(Duration::from_secs(6));
        });
        bounded("TLS", &answer, took);
        assert!(answer.status.is_none() && answer.error.is_some(), "{answer:?}");
    }
}
