//! MySQL and MariaDB: their greeting, their ways to prove who one is, and a question (client/server protocol,
//! as both document it).
use crate::connection::{Connection, Target};
use ed25519_dalek::hazmat::{ExpandedSecretKey, raw_sign};
use jolly_core::host::{Greeting, LoginAnswer, LoginOutcome, LoginRequest, Refusal, Row};
use sha1::Sha1;
use sha2::{Digest, Sha256, Sha512};
use std::io::{Error, ErrorKind, Result};
use std::time::Duration;

/// What a client says that it can do (`CLIENT_*` of the protocol).
const LONG_PASSWORD: u32 = 1;
const CONNECT_WITH_DB: u32 = 8;
const PROTOCOL_41: u32 = 0x200;
const SSL: u32 = 0x800;
const SECURE_CONNECTION: u32 = 0x8000;
const PLUGIN_AUTH: u32 = 0x8_0000;
/// The letters of what is sent and asked for: utf8mb4_general_ci.
const CHARSET: u8 = 45;
/// How many rows are taken of one answer.
const ROWS: usize = 10_000;

fn wrong() -> Error {
    Error::new(ErrorKind::InvalidData, "it does not speak the protocol of MySQL")
}

/// The greeting of a server.
#[derive(Debug, Default, PartialEq, Eq)]
pub(crate) struct Hello {
    pub(crate) version: String,
    capabilities: u32,
    nonce: Vec<u8>,
    plugin: String,
}

/// Why it refuses: its number and its words.
#[derive(Debug, PartialEq, Eq)]
pub(crate) struct Fault {
    pub(crate) code: u16,
    pub(crate) words: String,
}

/// A packet, read from its front.
struct Bytes<'a>(&'a [u8]);

impl<'a> Bytes<'a> {
    fn take(&mut self, count: usize) -> Option<&'a [u8]> {
        let (front, rest) = self.0.split_at_checked(count)?;
        self.0 = rest;
        Some(front)
    }
    fn number(&mut self, bytes: usize) -> Option<u64> {
        Some(self.take(bytes)?.iter().rev().fold(0, |sum, b| (sum << 8) | u64::from(*b)))
    }
    fn until_nul(&mut self) -> Option<&'a [u8]> {
        let end = self.0.iter().position(|b| *b == 0)?;
        let found = self.take(end)?;
        self.take(1)?;
        Some(found)
    }
    /// A text with its length before it; `None` inside is no value.
    fn counted(&mut self) -> Option<Option<&'a [u8]>> {
        let length = match self.number(1)? {
            0xfb => return Some(None),
            0xfc => self.number(2)?,
            0xfd => self.number(3)?,
            0xfe => self.number(8)?,
            small => small,
        };
        Some(Some(self.take(usize::try_from(length).ok()?)?))
    }
}

/// Reads the greeting, or the refusal that stands in its place.
pub(crate) fn hello(packet: &[u8]) -> Option<std::result::Result<Hello, Fault>> {
    let mut bytes = Bytes(packet);
    match bytes.number(1)? {
        0xff => return fault(packet).map(Err),
        10 => {}
        _ => return None,
    }
    let version = String::from_utf8_lossy(bytes.until_nul()?).into_owned();
    bytes.take(4)?;
    let mut nonce = bytes.take(8)?.to_vec();
    bytes.take(1)?;
    let low = bytes.number(2)?;
    bytes.take(3)?;
    let high = bytes.number(2)?;
    let capabilities = u32::try_from((high << 16) | low).ok()?;
    let length = usize::try_from(bytes.number(1)?).ok()?;
    bytes.take(10)?;
    if capabilities & SECURE_CONNECTION != 0 {
        let more = bytes.take(length.saturating_sub(8).max(13).min(bytes.0.len()))?;
        nonce.extend_from_slice(more.strip_suffix(&[0]).unwrap_or(more));
    }
    let plugin = if capabilities & PLUGIN_AUTH != 0 { bytes.until_nul().unwrap_or(bytes.0) } else { b"" };
    let plugin = String::from_utf8_lossy(plugin).into_owned();
    // MariaDB before 11 stands behind a version of the other one, for old clients.
    let version = version.strip_prefix("5.5.5-").map_or(version.clone(), str::to_owned);
    Some(Ok(Hello { version, capabilities, nonce, plugin }))
}

/// Reads a refusal.
pub(crate) fn fault(packet: &[u8]) -> Option<Fault> {
    let mut bytes = Bytes(packet);
    (bytes.number(1)? == 0xff).then_some(())?;
    let code = u16::try_from(bytes.number(2)?).ok()?;
    // Behind a hash stand the five signs of SQLSTATE.
    let words = if bytes.0.first() == Some(&b'#') { bytes.0.get(6..)? } else { bytes.0 };
    Some(Fault { code, words: String::from_utf8_lossy(words).into_owned() })
}

/// The class of a refusal (mysqld_error.h of both).
pub(crate) fn class(code: u16) -> Refusal {
    match code {
        1045 | 1698 => Refusal::AccountOrPassword,
        1049 => Refusal::NoDatabase,
        1044 | 1129 | 1130 | 1142 | 1227 => Refusal::NoAccessRule,
        1040 | 1203 | 1226 => Refusal::TooManyConnections,
        1820 | 1862 => Refusal::PasswordExpired,
        3118 | 4151 => Refusal::LoginDisabled,
        3159 | 1105 => Refusal::Tls,
        1053 | 3032 | 3169 => Refusal::WarmingUp,
        _ => Refusal::Other,
    }
}

/// What a way to prove oneself sends.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum Proof {
    /// These bytes.
    Bytes(Vec<u8>),
    /// It is not spoken here, or not on such a connection.
    NotSpoken,
}

/// The proof that an account's secret is known. `private`: nobody on the way can read along.
pub(crate) fn proof(plugin: &str, secret: &str, nonce: &[u8], private: bool) -> Proof {
    let xor = |a: &[u8], b: &[u8]| a.iter().zip(b).map(|(a, b)| a ^ b).collect::<Vec<u8>>();
    Proof::Bytes(match plugin {
        // Who its peer is, the server asks the kernel.
        "auth_socket" | "unix_socket" => vec![],
        _ if secret.is_empty() => vec![],
        "mysql_native_password" => {
            let once = Sha1::digest(secret);
            let twice = Sha1::digest(once);
            let salted =
                Sha1::new().chain_update(nonce.get(..20).unwrap_or(nonce)).chain_update(twice).finalize();
            xor(&once, &salted)
        }
        "caching_sha2_password" => {
            let once = Sha256::digest(secret);
            let twice = Sha256::digest(once);
            let salted =
                Sha256::new().chain_update(twice).chain_update(nonce.get(..20).unwrap_or(nonce)).finalize();
            xor(&once, &salted)
        }
        "client_ed25519" => {
            // The key is made of the secret itself, of any length (MariaDB, plugin auth_ed25519).
            let expanded: [u8; 64] = Sha512::digest(secret).into();
            let key = ExpandedSecretKey::from_bytes(&expanded);
            let public = ed25519_dalek::VerifyingKey::from(&key);
            raw_sign::<Sha512>(&key, nonce, &public).to_bytes().to_vec()
        }
        "mysql_clear_password" if private => [secret.as_bytes(), &[0]].concat(),
        _ => return Proof::NotSpoken,
    })
}

/// One row of an answer in text.
pub(crate) fn row(packet: &[u8]) -> Option<Row> {
    let mut bytes = Bytes(packet);
    let mut row = Row::new();
    while !bytes.0.is_empty() {
        row.push(bytes.counted()?.map(|value| String::from_utf8_lossy(value).into_owned()));
    }
    Some(row)
}

/// A client that is connected.
struct Client {
    connection: Connection,
    sequence: u8,
}

impl Client {
    fn packet(&mut self) -> Result<Vec<u8>> {
        let head = self.connection.exactly(4)?;
        self.sequence = head[3].wrapping_add(1);
        let length = usize::from(head[0]) | usize::from(head[1]) << 8 | usize::from(head[2]) << 16;
        self.connection.exactly(length)
    }
    fn send(&mut self, body: &[u8]) -> Result<()> {
        let length = u32::try_from(body.len()).map_err(|_| wrong())?.to_le_bytes();
        let head = [length[0], length[1], length[2], self.sequence];
        self.connection.send(&[&head[..], body].concat())
    }
    fn hello(&mut self) -> Result<std::result::Result<Hello, Fault>> {
        // What speaks another protocol is known by its first bytes: no greeting is that long.
        let head = self.connection.exactly(4)?;
        if head[2] != 0 || head[3] > 1 {
            return Err(wrong());
        }
        self.sequence = head[3].wrapping_add(1);
        let packet = self.connection.exactly(usize::from(head[0]) | usize::from(head[1]) << 8)?;
        hello(&packet).ok_or_else(wrong)
    }
    fn question(&mut self, text: &str) -> Result<std::result::Result<Vec<Row>, Fault>> {
        self.sequence = 0;
        self.send(&[&[3], text.as_bytes()].concat())?;
        let first = self.packet()?;
        match first.first() {
            Some(0xff) => return fault(&first).map(Err).ok_or_else(wrong),
            Some(0) => return Ok(Ok(vec![])),
            None => return Err(wrong()),
            _ => {}
        }
        // The columns, then their end, then the rows, then theirs.
        let is_end = |packet: &[u8]| packet.first() == Some(&0xfe) && packet.len() < 9;
        while !is_end(&self.packet()?) {}
        let mut rows = Vec::new();
        loop {
            let packet = self.packet()?;
            if is_end(&packet) {
                return Ok(Ok(rows));
            }
            if packet.first() == Some(&0xff) {
                return fault(&packet).map(Err).ok_or_else(wrong);
            }
            if rows.len() < ROWS {
                rows.push(row(&packet).ok_or_else(wrong)?);
            }
        }
    }
}

/// Whether it answers, and what it says of itself to everybody.
///
/// # Errors
/// It does not, or in another protocol.
pub(crate) fn greet(target: Target, patience: Duration) -> Result<Greeting> {
    let mut client = Client { connection: Connection::open(target, patience)?, sequence: 0 };
    Ok(match client.hello()? {
        Ok(hello) => Greeting { version: Some(hello.version), ..Greeting::default() },
        Err(fault) if class(fault.code) == Refusal::WarmingUp => {
            Greeting { starting: Some(fault.words), ..Greeting::default() }
        }
        Err(fault) => Greeting { refusing: Some(fault.words), ..Greeting::default() },
    })
}

fn refused(fault: Fault) -> LoginAnswer {
    let refusal = class(fault.code);
    let mut answer = LoginAnswer::ended(LoginOutcome::Refused(refusal));
    if refusal == Refusal::WarmingUp {
        answer.greeting.starting = Some(fault.words.clone());
    }
    answer.words = Some(fault.words);
    answer
}

/// Asks to be let in.
///
/// # Errors
/// It does not answer, or in another protocol.
pub(crate) fn login(request: &LoginRequest, target: Target, patience: Duration) -> Result<LoginAnswer> {
    let mut client = Client { connection: Connection::open(target, patience)?, sequence: 0 };
    let hello = match client.hello()? {
        Ok(hello) => hello,
        Err(fault) => return Ok(refused(fault)),
    };
    let greeting = Greeting { version: Some(hello.version.clone()), ..Greeting::default() };
    let mut answer = prove(&mut client, request, &hello)?;
    if answer.outcome == LoginOutcome::Accepted {
        for question in &request.questions {
            answer.rows.push(client.question(question)?.ok());
        }
        // Whoever's password has expired may be let in, and then do nothing but set another one.
        if request.questions.is_empty()
            && let Err(fault) = client.question("SELECT 1")?
            && class(fault.code) == Refusal::PasswordExpired
        {
            answer = refused(fault);
        }
        // What closes in good order is no aborted connection in the server's own count.
        client.sequence = 0;
        let _ = client.send(&[1]);
    }
    answer.greeting.version = greeting.version;
    Ok(answer)
}

fn prove(client: &mut Client, request: &LoginRequest, hello: &Hello) -> Result<LoginAnswer> {
    let database = request.database.as_deref().filter(|d| !d.is_empty());
    let mut flags = LONG_PASSWORD | PROTOCOL_41 | SECURE_CONNECTION | PLUGIN_AUTH;
    flags |= if database.is_some() { CONNECT_WITH_DB } else { 0 };
    let encrypts = hello.capabilities & SSL != 0 && !client.connection.local;
    flags |= if encrypts { SSL } else { 0 };
    let mut opening = flags.to_le_bytes().to_vec();
    opening.extend_from_slice(&(1u32 << 24).to_le_bytes());
    opening.push(CHARSET);
    opening.extend_from_slice(&[0; 23]);
    if encrypts {
        client.send(&opening)?;
        client.connection.encrypt("localhost")?;
        client.sequence = client.sequence.wrapping_add(1);
    }
    let secret = request.secret.as_ref().map_or("", |s| s.reveal());
    // What the server proposes may be another than the account's own: then it says so.
    let mut plugin =
        if hello.plugin.is_empty() { "mysql_native_password".to_owned() } else { hello.plugin.clone() };
    let first = match proof(&plugin, secret, &hello.nonce, client.connection.is_private()) {
        Proof::Bytes(bytes) => bytes,
        Proof::NotSpoken => vec![],
    };
    let mut body = opening;
    body.extend_from_slice(request.account.as_bytes());
    body.push(0);
    body.push(u8::try_from(first.len()).map_err(|_| wrong())?);
    body.extend_from_slice(&first);
    if let Some(database) = database {
        body.extend_from_slice(database.as_bytes());
        body.push(0);
    }
    body.extend_from_slice(plugin.as_bytes());
    body.push(0);
    client.send(&body)?;
    // No way to prove oneself takes more steps than these.
    for _ in 0..8 {
        let packet = client.packet()?;
        match (packet.first(), plugin.as_str()) {
            (Some(0), _) => return Ok(LoginAnswer::ended(LoginOutcome::Accepted)),
            (Some(0xff), _) => return fault(&packet).map(refused).ok_or_else(wrong),
            (Some(0xfe), _) => {
                let mut bytes = Bytes(&packet[1..]);
                let name = bytes.until_nul().ok_or_else(wrong)?;
                plugin = String::from_utf8_lossy(name).into_owned();
                let nonce = bytes.0.strip_suffix(&[0]).unwrap_or(bytes.0);
                match proof(&plugin, secret, nonce, client.connection.is_private()) {
                    Proof::Bytes(bytes) => client.send(&bytes)?,
                    Proof::NotSpoken => return Ok(not_tried(&plugin)),
                }
            }
            // Its short way did, or the whole secret is wanted.
            (Some(1), "caching_sha2_password") => match packet.get(1) {
                Some(3) => {}
                Some(4) if client.connection.is_private() => {
                    client.send(&[secret.as_bytes(), &[0]].concat())?;
                }
                _ => return Ok(not_tried("caching_sha2_password without encryption")),
            },
            (Some(1), _) => return Ok(not_tried(&plugin)),
            _ => return Err(wrong()),
        }
    }
    Err(wrong())
}

fn not_tried(plugin: &str) -> LoginAnswer {
    let plugin: String = plugin.chars().filter(|c| c.is_ascii_graphic() || *c == ' ').take(80).collect();
    LoginAnswer::ended(LoginOutcome::NotTried(format!("it asks for {plugin}, which is not spoken here")))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn greeting() -> Vec<u8> {
        let mut bytes = vec![10];
        bytes.extend_from_slice(b"5.5.5-10.11.6-MariaDB\0");
        bytes.extend_from_slice(&[7, 0, 0, 0]);
        bytes.extend_from_slice(b"abcdefgh\0");
        bytes.extend_from_slice(&[0xfe, 0xf7, CHARSET, 2, 0, 0xff, 0x81, 21]);
        bytes.extend_from_slice(&[0; 10]);
        bytes.extend_from_slice(b"ijklmnopqrst\0mysql_native_password\0");
        bytes
    }

    #[test]
    fn a_greeting_is_read_whole_and_at_no_other_length() {
        let whole = greeting();
        let read = hello(&whole).unwrap().unwrap();
        assert_eq!(
            (read.version.as_str(), read.plugin.as_str()),
            ("10.11.6-MariaDB", "mysql_native_password")
        );
        assert_eq!(read.nonce, b"abcdefghijklmnopqrst");
        // Without its last bytes it is no greeting, or one whose way to prove oneself is cut short.
        for cut in 0..whole.len() {
            match hello(&whole[..cut]) {
                Some(Ok(short)) => assert!(cut > 50 && read.plugin.starts_with(&short.plugin), "{cut}"),
                other => assert_eq!(other, None),
            }
        }
        let refusal = b"\xff\x10\x04Too many connections";
        assert_eq!(hello(refusal), Some(Err(Fault { code: 1040, words: "Too many connections".into() })));
        assert_eq!(class(1040), Refusal::TooManyConnections);
        for cut in 0..3 {
            assert_eq!(hello(&refusal[..cut]), None);
        }
    }

    #[test]
    fn refusals_carry_their_words_without_the_state() {
        let packet = b"\xff\x15\x04#28000Access denied for user";
        assert_eq!(fault(packet), Some(Fault { code: 1045, words: "Access denied for user".into() }));
        for (code, wanted) in [
            (1045, Refusal::AccountOrPassword),
            (1049, Refusal::NoDatabase),
            (1130, Refusal::NoAccessRule),
            (4151, Refusal::LoginDisabled),
            (1862, Refusal::PasswordExpired),
            (1, Refusal::Other),
        ] {
            assert_eq!(class(code), wanted, "{code}");
        }
    }

    #[test]
    fn rows_hold_values_of_every_length_and_none() {
        let long = "t".repeat(300);
        let mut packet = vec![3];
        packet.extend_from_slice(b"ebb\xfb\xfc\x2c\x01");
        packet.extend_from_slice(long.as_bytes());
        assert_eq!(row(&packet), Some(vec![Some("ebb".into()), None, Some(long)]));
        assert_eq!(row(&packet[..packet.len() - 1]), None);
        assert_eq!(row(b"\xfe\xff\xff\xff\xff\xff\xff\xff\xff"), None);
    }

    #[test]
    fn proofs_are_those_of_the_protocol() {
        let nonce: Vec<u8> = (1..=20).collect();
        let hex = |p: Proof| match p {
            Proof::Bytes(bytes) => bytes.iter().map(|b| format!("{b:02x}")).collect::<String>(),
            Proof::NotSpoken => "-".to_owned(),
        };
        // SHA1(secret) XOR SHA1(nonce, SHA1(SHA1(secret))), worked out with another program.
        assert_eq!(hex(proof("mysql_native_password", "tide", &nonce, false)), NATIVE);
        assert_eq!(hex(proof("caching_sha2_password", "tide", &nonce, false)), CACHING);
        assert_eq!(hex(proof("mysql_native_password", "", &nonce, false)), "");
        assert_eq!(hex(proof("auth_socket", "tide", &nonce, false)), "");
        assert_eq!(hex(proof("mysql_clear_password", "tide", &nonce, true)), "7469646500");
        for (plugin, private) in [("mysql_clear_password", false), ("parsec", true), ("dialog", true)] {
            assert_eq!(proof(plugin, "tide", &nonce, private), Proof::NotSpoken);
        }
        assert_eq!(hex(proof("client_ed25519", "tide", &nonce, false)).len(), 128);
    }

    const NATIVE: &str = "9abd29bf8bb95b19a23254f7d48fd3f0658557d6";
    const CACHING: &str = "a5d7df73e405dd09a8891c51961e1580ad2dc05c4282eb7db99e9b8978878a76";
}
