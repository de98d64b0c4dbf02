//! Redis and its fork: RESP, versions 2 and 3 (the protocol's own specification), as far as a few orders that
//! change nothing need it.
use crate::connection::{Connection, Target};
use jolly_core::host::{Greeting, LoginAnswer, LoginOutcome, LoginRequest, Refusal};
use std::io::{Error, ErrorKind, Result};
use std::time::Duration;

/// How deep lists may stand in lists.
const DEEP: usize = 8;

/// What a server answers.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Reply {
    /// A word or a text.
    Text(String),
    /// A refusal: its first word tells the class.
    Refused(String),
    /// Nothing.
    Nil,
    /// Several.
    List(Vec<Reply>),
}

/// A reply that begins at a byte, and where it ends; `None` where more must come.
///
/// # Errors
/// It is not RESP.
pub(crate) fn reply(bytes: &[u8], deep: usize) -> std::result::Result<Option<(Reply, usize)>, &'static str> {
    const WRONG: &str = "it does not speak the protocol of Redis";
    let Some(kind) = bytes.first() else { return Ok(None) };
    if deep > DEEP || !b"+-:$*_#,(!=%~>".contains(kind) {
        return Err(WRONG);
    }
    let Some(end) = bytes.windows(2).position(|w| w == b"\r\n") else {
        return if bytes.len() > 64 << 10 { Err(WRONG) } else { Ok(None) };
    };
    let line = String::from_utf8_lossy(&bytes[1..end]).into_owned();
    let mut at = end + 2;
    let count = || line.parse::<i64>().map_err(|_| WRONG);
    Ok(Some((
        match kind {
            b'+' | b':' | b'#' | b',' | b'(' => Reply::Text(line),
            b'-' => Reply::Refused(line),
            b'_' => Reply::Nil,
            b'$' | b'!' | b'=' => match usize::try_from(count()?) {
                Err(_) => Reply::Nil,
                Ok(length) => {
                    let Some(text) = at.checked_add(length).and_then(|end| bytes.get(at..end)) else {
                        return Ok(None);
                    };
                    at += length;
                    match bytes.get(at..at + 2) {
                        Some(b"\r\n") => at += 2,
                        Some(_) => return Err(WRONG),
                        None => return Ok(None),
                    }
                    let text = String::from_utf8_lossy(text).into_owned();
                    if *kind == b'!' { Reply::Refused(text) } else { Reply::Text(text) }
                }
            },
            _ => match usize::try_from(count()?) {
                Err(_) => Reply::Nil,
                Ok(length) => {
                    let length = if *kind == b'%' { length.saturating_mul(2) } else { length };
                    let mut list = Vec::new();
                    for _ in 0..length {
                        let Some((one, used)) = reply(&bytes[at..], deep + 1)? else { return Ok(None) };
                        list.push(one);
                        at += used;
                    }
                    Reply::List(list)
                }
            },
        },
        at,
    )))
}

/// An order as a server takes it.
pub(crate) fn order(words: &[&str]) -> Vec<u8> {
    let mut out = format!("*{}\r\n", words.len()).into_bytes();
    for word in words {
        out.extend_from_slice(format!("${}\r\n", word.len()).as_bytes());
        out.extend_from_slice(word.as_bytes());
        out.extend_from_slice(b"\r\n");
    }
    out
}

/// A client that is connected.
struct Client {
    connection: Connection,
    read: Vec<u8>,
}

impl Client {
    fn ask(&mut self, words: &[&str]) -> Result<Reply> {
        self.connection.send(&order(words))?;
        loop {
            let found = reply(&self.read, 0).map_err(|why| Error::new(ErrorKind::InvalidData, why))?;
            if let Some((one, used)) = found {
                self.read.drain(..used);
                return Ok(one);
            }
            let mut room = [0; 4096];
            match self.connection.take(&mut room)? {
                0 => return Err(self.connection.ended()),
                got => self.read.extend_from_slice(&room[..got]),
            }
        }
    }
}

/// What a refusal says of the server itself.
fn of_refusal(words: &str, greeting: &mut Greeting) {
    match words.split(' ').next().unwrap_or_default() {
        "LOADING" | "MASTERDOWN" => greeting.starting = Some(words.to_owned()),
        "DENIED" => greeting.refusing = Some(words.to_owned()),
        _ if words.contains("max number of clients") => greeting.refusing = Some(words.to_owned()),
        _ => {}
    }
}

/// What `INFO` says: a name and a value on each line.
pub(crate) fn of_info(text: &str, greeting: &mut Greeting) {
    for (name, value) in text.lines().filter_map(|line| line.split_once(':')) {
        match name {
            "valkey_version" => greeting.version = Some(value.trim().to_owned()),
            "redis_version" if greeting.version.is_none() => greeting.version = Some(value.trim().to_owned()),
            "role" => greeting.standby = Some(value.trim() == "slave"),
            "loading" if value.trim() == "1" => {
                greeting.starting.get_or_insert_with(|| "it loads its data".to_owned());
            }
            _ => {}
        }
    }
}

/// Whether it answers, and what it says of itself to who is not let in.
///
/// # Errors
/// It does not, or in another protocol.
pub(crate) fn greet(target: Target, patience: Duration) -> Result<Greeting> {
    let mut client = Client { connection: Connection::open(target, patience)?, read: Vec::new() };
    let mut greeting = Greeting::default();
    match client.ask(&["PING"])? {
        Reply::Refused(words) => of_refusal(&words, &mut greeting),
        _ => {
            if let Ok(Reply::Text(text)) = client.ask(&["INFO"]) {
                of_info(&text, &mut greeting);
            }
        }
    }
    Ok(greeting)
}

/// The class of a refusal.
pub(crate) fn class(words: &str) -> Refusal {
    match words.split(' ').next().unwrap_or_default() {
        "WRONGPASS" | "NOAUTH" => Refusal::AccountOrPassword,
        "LOADING" | "MASTERDOWN" => Refusal::WarmingUp,
        "DENIED" | "NOPERM" => Refusal::NoAccessRule,
        _ if words.contains("max number of clients") => Refusal::TooManyConnections,
        _ if words.contains("DB index is out of range") => Refusal::NoDatabase,
        _ if words.contains("invalid password") => Refusal::AccountOrPassword,
        _ => Refusal::Other,
    }
}

/// Asks to be let in.
///
/// # Errors
/// It does not answer, or in another protocol.
pub(crate) fn login(request: &LoginRequest, target: Target, patience: Duration) -> Result<LoginAnswer> {
    let mut client = Client { connection: Connection::open(target, patience)?, read: Vec::new() };
    let mut answer = LoginAnswer::ended(LoginOutcome::Accepted);
    let mut orders: Vec<Vec<&str>> = Vec::new();
    match (&request.secret, request.account.as_str()) {
        (Some(secret), "") => orders.push(vec!["AUTH", secret.reveal()]),
        (Some(secret), account) => orders.push(vec!["AUTH", account, secret.reveal()]),
        (None, _) => {}
    }
    orders.push(vec!["PING"]);
    if let Some(database) = request.database.as_deref().filter(|d| !d.is_empty() && *d != "0") {
        orders.push(vec!["SELECT", database]);
    }
    for one in orders {
        if let Reply::Refused(words) = client.ask(&one)? {
            of_refusal(&words, &mut answer.greeting);
            answer.outcome = LoginOutcome::Refused(class(&words));
            answer.words = Some(words);
            return Ok(answer);
        }
    }
    for question in &request.questions {
        let words: Vec<&str> = question.split(' ').collect();
        answer.rows.push(match client.ask(&words)? {
            Reply::Text(text) => {
                of_info(&text, &mut answer.greeting);
                Some(vec![vec![Some(text)]])
            }
            Reply::List(list) => Some(list.into_iter().map(|one| vec![plain(one)]).collect()),
            Reply::Nil => Some(vec![]),
            Reply::Refused(_) => None,
        });
    }
    Ok(answer)
}

fn plain(one: Reply) -> Option<String> {
    match one {
        Reply::Text(text) | Reply::Refused(text) => Some(text),
        Reply::Nil | Reply::List(_) => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn replies_are_whole_or_wait_at_every_length() {
        let text = Reply::Text("ebb".into());
        for (bytes, wanted) in [
            (&b"+PONG\r\n"[..], Reply::Text("PONG".into())),
            (
                b"-NOAUTH Authentication required.\r\n",
                Reply::Refused("NOAUTH Authentication required.".into()),
            ),
            (b"$3\r\nebb\r\n", text.clone()),
            (b"$-1\r\n", Reply::Nil),
            (b"_\r\n", Reply::Nil),
            (b"*2\r\n$3\r\nebb\r\n:7\r\n", Reply::List(vec![text.clone(), Reply::Text("7".into())])),
            (b"%1\r\n+a\r\n+b\r\n", Reply::List(vec![Reply::Text("a".into()), Reply::Text("b".into())])),
        ] {
            for cut in 0..bytes.len() {
                assert_eq!(reply(&bytes[..cut], 0), Ok(None), "{cut} bytes of {bytes:?}");
            }
            assert_eq!(reply(bytes, 0), Ok(Some((wanted, bytes.len()))));
        }
    }

    #[test]
    fn what_is_no_reply_is_refused_and_lists_do_not_grow_without_bytes() {
        for bytes in [&b"HTTP/1.1 400\r\n"[..], b"$x\r\n", b"$1\r\nab\r\n", b"*x\r\n"] {
            assert!(reply(bytes, 0).is_err(), "{bytes:?}");
        }
        assert_eq!(reply(b"*9223372036854775807\r\n+a\r\n", 0), Ok(None));
        assert_eq!(reply(b"$9223372036854775807\r\nab", 0), Ok(None));
        assert!(reply(&b"*1\r\n".repeat(20), 0).is_err(), "too deep");
        assert!(reply(&[b'+'; 70 << 10], 0).is_err(), "a line without end");
    }

    #[test]
    fn refusals_have_their_classes() {
        for (words, wanted) in [
            ("WRONGPASS invalid username-password pair or user is disabled.", Refusal::AccountOrPassword),
            ("LOADING Redis is loading the dataset in memory", Refusal::WarmingUp),
            ("ERR max number of clients reached", Refusal::TooManyConnections),
            ("ERR DB index is out of range", Refusal::NoDatabase),
            ("DENIED Redis is running in protected mode", Refusal::NoAccessRule),
            ("ERR tide", Refusal::Other),
        ] {
            assert_eq!(class(words), wanted, "{words}");
        }
        let mut greeting = Greeting::default();
        of_info("# Server\r\nredis_version:7.0.15\r\nrole:slave\r\nloading:1\r\n", &mut greeting);
        assert_eq!(greeting.version.as_deref(), Some("7.0.15"));
        assert!(greeting.standby == Some(true) && greeting.starting.is_some());
    }
}
