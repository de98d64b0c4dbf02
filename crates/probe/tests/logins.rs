//! Logins at servers that mean ill or break off: the answer comes in its time, with what is true, and costs
//! no more than is taken of one server.
#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use jolly_core::host::{Engine, LoginAnswer, LoginOutcome, LoginRequest, Refusal, Secret};
use jolly_probe::login;
use std::io::{Read, Write};
use std::net::TcpListener;
use std::time::{Duration, Instant};

const PATIENCE: Duration = Duration::from_millis(600);

/// Logs in at a server that says these texts, each after it has heard something (the first one at once for
/// those that speak first), and then closes or says the last one without end.
fn answered(engine: Engine, says: &[Vec<u8>], without_end: bool) -> (LoginAnswer, Duration) {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    let says = says.to_vec();
    let server = std::thread::spawn(move || {
        let (mut stream, _) = listener.accept().unwrap();
        stream.set_read_timeout(Some(Duration::from_secs(2))).unwrap();
        let mut room = [0; 4096];
        for (at, words) in says.iter().enumerate() {
            if !(at == 0 && engine == Engine::Mysql) && stream.read(&mut room).unwrap_or(0) == 0 {
                return;
            }
            if stream.write_all(words).is_err() {
                return;
            }
        }
        let until = Instant::now() + Duration::from_secs(3);
        while without_end && Instant::now() < until {
            if stream.write_all(says.last().unwrap()).is_err() {
                return;
            }
        }
    });
    let request = LoginRequest {
        engine,
        address: "127.0.0.1".parse().unwrap(),
        port,
        socket: None,
        account: "desk".into(),
        secret: Some(Secret::new("ebb-tide-7")),
        database: Some("b".into()),
        peer: None,
        questions: vec!["SELECT 1".into()],
    };
    let began = Instant::now();
    let answer = login(&request, PATIENCE);
    let took = began.elapsed();
    drop(server);
    assert!(took < Duration::from_secs(2), "{engine:?}: {took:?}");
    assert!(!format!("{answer:?}").contains("ebb-tide-7"), "{answer:?}");
    (answer, took)
}

fn packet(number: u8, body: &[u8]) -> Vec<u8> {
    let length = u32::try_from(body.len()).unwrap().to_le_bytes();
    [&[length[0], length[1], length[2], number], body].concat()
}

fn greeting() -> Vec<u8> {
    let mut body = b"\x0a10.11-quay\0\x07\0\0\0abcdefgh\0\xfe\xf7\x2d\x02\0\xff\x81\x15".to_vec();
    // Without TLS.
    body[26] &= 0xf7;
    body.extend_from_slice(&[0; 10]);
    body.extend_from_slice(b"ijklmnopqrst\0mysql_native_password\0");
    packet(0, &body)
}

#[test]
fn mysql_is_asked_in_its_steps_and_breaks_off_anywhere() {
    let refusal = packet(2, b"\xff\x15\x04#28000Access denied for user 'desk'");
    let (answer, _) = answered(Engine::Mysql, &[greeting(), refusal.clone()], false);
    assert_eq!(answer.outcome, LoginOutcome::Refused(Refusal::AccountOrPassword), "{answer:?}");
    assert_eq!(answer.greeting.version.as_deref(), Some("10.11-quay"));
    let rows = [
        packet(1, &[1]),
        packet(2, b"column"),
        packet(3, &[0xfe, 0, 0, 2, 0]),
        packet(4, b"\x01\x31"),
        packet(5, &[0xfe, 0, 0, 2, 0]),
    ];
    let (answer, _) =
        answered(Engine::Mysql, &[greeting(), packet(2, &[0, 0, 0, 2, 0, 0, 0]), rows.concat()], false);
    assert_eq!(answer.outcome, LoginOutcome::Accepted, "{answer:?}");
    assert_eq!(answer.rows, [Some(vec![vec![Some("1".to_owned())]])]);
    let whole = greeting();
    for cut in (0..whole.len()).step_by(7) {
        let (answer, _) = answered(Engine::Mysql, &[whole[..cut].to_vec()], false);
        assert!(matches!(answer.outcome, LoginOutcome::NotSpoken(_)), "{cut}: {answer:?}");
    }
    for cut in 1..refusal.len().min(7) {
        let (answer, _) = answered(Engine::Mysql, &[greeting(), refusal[..cut].to_vec()], false);
        assert!(matches!(answer.outcome, LoginOutcome::NotSpoken(_)), "{cut}: {answer:?}");
    }
}

#[test]
fn mysql_that_floods_or_asks_for_what_is_not_spoken_is_no_login() {
    let flood = [greeting(), packet(2, &[0, 0, 0, 2, 0, 0, 0]), packet(1, &[1; 4000])];
    let (answer, _) = answered(Engine::Mysql, &flood, true);
    assert!(matches!(answer.outcome, LoginOutcome::NotSpoken(_)), "{answer:?}");
    // A password in plain words is not sent over an open line.
    let plain = packet(2, b"\xfemysql_clear_password\0");
    let (answer, _) = answered(Engine::Mysql, &[greeting(), plain], false);
    assert!(
        matches!(&answer.outcome, LoginOutcome::NotTried(why) if why.contains("mysql_clear_password")),
        "{answer:?}"
    );
    let whole =
        [greeting(), packet(2, b"\xfecaching_sha2_password\0abcdefghijklmnopqrst\0"), packet(4, &[1, 4])];
    let (answer, _) = answered(Engine::Mysql, &whole, false);
    assert!(matches!(&answer.outcome, LoginOutcome::NotTried(_)), "{answer:?}");
    // A circle of ways to prove oneself ends.
    let again = packet(2, b"\xfemysql_native_password\0abcdefghijklmnopqrst\0");
    let (answer, _) = answered(Engine::Mysql, &[greeting(), again], true);
    assert!(matches!(answer.outcome, LoginOutcome::NotSpoken(_)), "{answer:?}");
}

fn message(tag: u8, body: &[u8]) -> Vec<u8> {
    let length = u32::try_from(body.len() + 4).unwrap().to_be_bytes();
    [&[tag], &length[..], body].concat()
}

#[test]
fn postgresql_cannot_make_the_asking_long_or_large() {
    let no_tls = b"N".to_vec();
    let refusal = message(b'E', b"SFATAL\0C28P01\0Mpassword authentication failed\0Rauth_failed\0\0");
    let (answer, _) = answered(Engine::Postgresql, &[no_tls.clone(), refusal], false);
    assert_eq!(answer.outcome, LoginOutcome::Refused(Refusal::AccountOrPassword), "{answer:?}");
    // A plain password is not sent over an open line.
    let plain = message(b'R', &[0, 0, 0, 3]);
    let (answer, _) = answered(Engine::Postgresql, &[no_tls.clone(), plain], false);
    assert!(matches!(answer.outcome, LoginOutcome::NotTried(_)), "{answer:?}");
    // Hashing without end is not begun; the nonce is the server's, so it is refused for the rounds alone.
    let offer = message(b'R', b"\0\0\0\x0aSCRAM-SHA-256\0\0");
    let rounds = message(b'R', b"\0\0\0\x0br=abc,s=c2FsdA==,i=4000000000");
    let (answer, took) = answered(Engine::Postgresql, &[no_tls.clone(), offer, rounds], false);
    assert!(matches!(answer.outcome, LoginOutcome::NotSpoken(_)) && took < PATIENCE, "{answer:?} {took:?}");
    // A message that says that it is 2 GiB long makes no room of that size.
    let (answer, _) =
        answered(Engine::Postgresql, &[no_tls.clone(), b"R\x7f\xff\xff\xff....".to_vec()], false);
    assert!(matches!(answer.outcome, LoginOutcome::NotSpoken(_)), "{answer:?}");
    let notices = message(b'N', &[b'x'; 4000]);
    let (answer, _) = answered(Engine::Postgresql, &[no_tls, notices], true);
    assert!(matches!(answer.outcome, LoginOutcome::NotSpoken(_)), "{answer:?}");
}

#[test]
fn redis_that_never_ends_its_answer_is_not_waited_for() {
    let (answer, _) =
        answered(Engine::Redis, &[b"-WRONGPASS invalid username-password pair\r\n".to_vec()], false);
    assert_eq!(answer.outcome, LoginOutcome::Refused(Refusal::AccountOrPassword), "{answer:?}");
    for words in [&b"*1000000000\r\n"[..], b"$1000000000\r\n", b"+x"] {
        let (answer, _) = answered(Engine::Redis, &[words.to_vec()], true);
        assert!(matches!(answer.outcome, LoginOutcome::NotSpoken(_)), "{words:?} {answer:?}");
    }
    let silent = TcpListener::bind("127.0.0.1:0").unwrap();
    let (answer, took) = {
        let began = Instant::now();
        let request = LoginRequest {
            engine: Engine::Redis,
            address: "127.0.0.1".parse().unwrap(),
            port: silent.local_addr().unwrap().port(),
            socket: None,
            account: String::new(),
            secret: None,
            database: None,
            peer: None,
            questions: vec![],
        };
        (login(&request, PATIENCE), began.elapsed())
    };
    assert!(matches!(answer.outcome, LoginOutcome::NotSpoken(_)) && took < PATIENCE * 3, "{answer:?}");
}
