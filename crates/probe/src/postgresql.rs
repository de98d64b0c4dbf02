//! PostgreSQL: its messages and SCRAM by the codec of `postgres-protocol`, over our own connection
//! (PostgreSQL documentation, frontend/backend protocol).
use crate::connection::{Connection, Target};
use bytes::BytesMut;
use fallible_iterator::FallibleIterator;
use jolly_core::host::{Greeting, LoginAnswer, LoginOutcome, LoginRequest, Refusal, Row};
use postgres_protocol::authentication::md5_hash;
use postgres_protocol::authentication::sasl::{ChannelBinding, SCRAM_SHA_256, ScramSha256};
use postgres_protocol::message::backend::{ErrorResponseBody, Message};
use postgres_protocol::message::frontend;
use std::io::{Error, ErrorKind, Result};
use std::time::Duration;

/// How many rounds of hashing a server may ask for: the daemon's own default is 4096.
const ROUNDS: u64 = 1_000_000;
/// How many rows are taken of one answer.
const ROWS: usize = 10_000;

fn wrong() -> Error {
    Error::new(ErrorKind::InvalidData, "it does not speak the protocol of PostgreSQL")
}

/// What a server says when it refuses.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Fault {
    /// SQLSTATE.
    pub(crate) state: String,
    /// Its words, in its own language.
    pub(crate) words: String,
    /// The routine of the server that refuses, which no language changes.
    pub(crate) routine: String,
}

impl Fault {
    fn of(body: &ErrorResponseBody) -> Self {
        let mut fault = Self::default();
        let mut fields = body.fields();
        while let Ok(Some(field)) = fields.next() {
            let value = String::from_utf8_lossy(field.value_bytes()).into_owned();
            match field.type_() {
                b'C' => fault.state = value,
                b'M' => fault.words = value,
                b'R' => fault.routine = value,
                _ => {}
            }
        }
        fault
    }

    /// The class of a refusal (PostgreSQL documentation, appendix A).
    pub(crate) fn class(&self) -> Refusal {
        match (self.state.as_str(), self.routine.as_str()) {
            ("28P01", _) => Refusal::AccountOrPassword,
            ("3D000", _) => Refusal::NoDatabase,
            ("53300", _) => Refusal::TooManyConnections,
            ("57P03", _) => Refusal::WarmingUp,
            ("28000", "InitializeSessionUserId") if self.words.contains("not permitted to log in") => {
                Refusal::LoginDisabled
            }
            ("28000", "InitializeSessionUserId") if self.words.contains("does not exist") => {
                Refusal::UnknownAccount
            }
            ("28000", "InitializeSessionUserId") => Refusal::Other,
            ("28000" | "42501", _) => Refusal::NoAccessRule,
            _ => Refusal::Other,
        }
    }

    fn answer(self) -> LoginAnswer {
        let refusal = self.class();
        let mut answer = LoginAnswer::ended(LoginOutcome::Refused(refusal));
        match refusal {
            Refusal::TooManyConnections => answer.greeting.refusing = Some(self.words.clone()),
            Refusal::WarmingUp => answer.greeting.starting = Some(self.words.clone()),
            _ => {}
        }
        answer.words = Some(self.words);
        answer
    }
}

/// A client that is connected.
struct Client {
    connection: Connection,
    read: BytesMut,
}

impl Client {
    /// Connects, and encrypts where the server does over the network.
    fn open(target: Target, patience: Duration) -> Result<Self> {
        let mut connection = Connection::open(target, patience)?;
        if !connection.local {
            let mut request = BytesMut::new();
            frontend::ssl_request(&mut request);
            connection.send(&request)?;
            match connection.exactly(1)?.as_slice() {
                b"S" => connection.encrypt("localhost")?,
                // One that is too full to start a process for it says so without asking anything.
                b"N" | b"E" => {}
                _ => return Err(wrong()),
            }
        }
        Ok(Self { connection, read: BytesMut::new() })
    }

    fn next(&mut self) -> Result<Message> {
        loop {
            // Room is made for what a message says of its own length: so that is looked at first.
            if let Some(length) = self.read.get(1..5) {
                let length = length.iter().fold(0usize, |sum, b| (sum << 8) | usize::from(*b));
                if !(4..=jolly_core::bounds::ANSWER).contains(&length) {
                    return Err(wrong());
                }
            }
            if let Some(message) = Message::parse(&mut self.read).map_err(|_| wrong())? {
                return Ok(message);
            }
            let mut room = [0; 4096];
            match self.connection.take(&mut room)? {
                0 => return Err(self.connection.ended()),
                got => self.read.extend_from_slice(&room[..got]),
            }
        }
    }

    fn start(&mut self, account: &str, database: Option<&str>) -> Result<()> {
        let mut message = BytesMut::new();
        let mut pairs = vec![("user", account), ("application_name", "jolly-sentinel")];
        pairs.extend(database.map(|d| ("database", d)));
        frontend::startup_message(pairs, &mut message)?;
        self.connection.send(&message)
    }

    fn say(&mut self, write: impl FnOnce(&mut BytesMut) -> Result<()>) -> Result<()> {
        let mut message = BytesMut::new();
        write(&mut message)?;
        self.connection.send(&message)
    }

    /// Rows of a question in text; `None` where it is refused.
    fn question(&mut self, text: &str) -> Result<Option<Vec<Row>>> {
        self.say(|out| frontend::query(text, out))?;
        let mut rows = Some(Vec::new());
        loop {
            match self.next()? {
                Message::DataRow(body) => {
                    let Some(kept) = rows.as_mut().filter(|r| r.len() < ROWS) else { continue };
                    let bytes = body.buffer();
                    let mut row = Row::new();
                    let mut ranges = body.ranges();
                    while let Some(range) = ranges.next().map_err(|_| wrong())? {
                        row.push(
                            range.and_then(|r| Some(String::from_utf8_lossy(bytes.get(r)?).into_owned())),
                        );
                    }
                    kept.push(row);
                }
                Message::ErrorResponse(_) => rows = None,
                Message::ReadyForQuery(_) => return Ok(rows),
                _ => {}
            }
        }
    }
}

/// Whether it answers, and what it says of itself. A connection is begun only where the account of the server
/// itself makes it: any other may be refused, and every refusal is a line in the server's log. Else it is
/// asked whether it encrypts, which every server answers with one byte before anything else.
///
/// # Errors
/// It does not, or in another protocol.
pub(crate) fn greet(target: Target, peer: Option<u32>, patience: Duration) -> Result<Greeting> {
    let Some(uid) = peer else {
        let mut connection = Connection::open(target, patience)?;
        let mut request = BytesMut::new();
        frontend::ssl_request(&mut request);
        connection.send(&request)?;
        return match connection.exactly(1)?.as_slice() {
            b"S" | b"N" | b"E" => Ok(Greeting::default()),
            _ => Err(wrong()),
        };
    };
    // The account that every cluster has.
    let request = |client: &mut Client| {
        client.start("postgres", Some("postgres"))?;
        let mut greeting = Greeting::default();
        loop {
            match client.next()? {
                Message::ErrorResponse(body) => return Ok(Fault::of(&body).answer().greeting),
                Message::ParameterStatus(body) => report(&body, &mut greeting)?,
                Message::ReadyForQuery(_) => {
                    let told = client.question("SELECT pg_is_in_recovery()")?;
                    greeting.standby = told.and_then(|rows| Some(rows.first()?.first()?.as_deref()? == "t"));
                    client.say(|out| {
                        frontend::terminate(out);
                        Ok(())
                    })?;
                    return Ok(greeting);
                }
                Message::AuthenticationOk | Message::BackendKeyData(_) | Message::NoticeResponse(_) => {}
                // It asks for a proof: it is ready for clients.
                _ => return Ok(greeting),
            }
        }
    };
    crate::connection::as_peer(uid, || request(&mut Client::open(target, patience)?))?
}

fn report(
    body: &postgres_protocol::message::backend::ParameterStatusBody,
    greeting: &mut Greeting,
) -> Result<()> {
    match body.name().map_err(|_| wrong())? {
        "server_version" => greeting.version = body.value().ok().map(str::to_owned),
        "in_hot_standby" => greeting.standby = body.value().ok().map(|v| v == "on"),
        _ => {}
    }
    Ok(())
}

/// Asks to be let in.
///
/// # Errors
/// It does not answer, or in another protocol.
pub(crate) fn login(request: &LoginRequest, target: Target, patience: Duration) -> Result<LoginAnswer> {
    let mut client = Client::open(target, patience)?;
    client.start(&request.account, request.database.as_deref().filter(|d| !d.is_empty()))?;
    let mut answer = LoginAnswer::ended(LoginOutcome::Accepted);
    let mut scram: Option<ScramSha256> = None;
    let secret = request.secret.as_ref().map_or("", |s| s.reveal());
    loop {
        let message = client.next()?;
        match message {
            Message::ErrorResponse(body) => {
                let greeting = std::mem::take(&mut answer.greeting);
                answer = Fault::of(&body).answer();
                answer.greeting.version = answer.greeting.version.or(greeting.version);
                return Ok(answer);
            }
            Message::AuthenticationCleartextPassword if client.connection.is_private() => {
                client.say(|out| frontend::password_message(secret.as_bytes(), out))?;
            }
            Message::AuthenticationMd5Password(body) => {
                let hash = md5_hash(request.account.as_bytes(), secret.as_bytes(), body.salt());
                client.say(|out| frontend::password_message(hash.as_bytes(), out))?;
            }
            Message::AuthenticationSasl(body) => {
                let mut spoken = false;
                let mut ways = body.mechanisms();
                while let Some(way) = ways.next().map_err(|_| wrong())? {
                    spoken |= way == SCRAM_SHA_256;
                }
                if !spoken {
                    return Ok(not_tried("a way of SASL"));
                }
                let state = ScramSha256::new(secret.as_bytes(), ChannelBinding::unsupported());
                client.say(|out| frontend::sasl_initial_response(SCRAM_SHA_256, state.message(), out))?;
                scram = Some(state);
            }
            Message::AuthenticationSaslContinue(body) => {
                let state = scram.as_mut().ok_or_else(wrong)?;
                if rounds(body.data()).is_none_or(|n| n > ROUNDS) {
                    return Err(wrong());
                }
                state.update(body.data()).map_err(|_| wrong())?;
                let words = state.message().to_vec();
                client.say(|out| frontend::sasl_response(&words, out))?;
            }
            Message::AuthenticationSaslFinal(body) => {
                scram.as_mut().ok_or_else(wrong)?.finish(body.data()).map_err(|_| wrong())?;
            }
            Message::AuthenticationCleartextPassword => {
                return Ok(not_tried("the password without encryption"));
            }
            Message::AuthenticationGss | Message::AuthenticationSspi | Message::AuthenticationKerberosV5 => {
                return Ok(not_tried("a ticket"));
            }
            Message::ParameterStatus(body) => {
                report(&body, &mut answer.greeting)?;
            }
            Message::ReadyForQuery(_) => break,
            _ => {}
        }
    }
    for question in &request.questions {
        answer.rows.push(client.question(question)?);
    }
    client.say(|out| {
        frontend::terminate(out);
        Ok(())
    })?;
    Ok(answer)
}

/// The rounds of hashing that a server asks for (RFC 5802, `i=`).
pub(crate) fn rounds(data: &[u8]) -> Option<u64> {
    std::str::from_utf8(data).ok()?.split(',').find_map(|part| part.strip_prefix("i="))?.parse().ok()
}

fn not_tried(what: &str) -> LoginAnswer {
    LoginAnswer::ended(LoginOutcome::NotTried(format!("it asks for {what}, which is not spoken here")))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn refusals_are_told_by_what_no_language_changes() {
        let fault = |state: &str, routine: &str, words: &str| Fault {
            state: state.into(),
            words: words.into(),
            routine: routine.into(),
        };
        for (state, routine, words, wanted) in [
            ("28P01", "auth_failed", "…", Refusal::AccountOrPassword),
            ("28000", "ClientAuthentication", "…", Refusal::NoAccessRule),
            ("28000", "auth_failed", "…", Refusal::NoAccessRule),
            (
                "28000",
                "InitializeSessionUserId",
                "role \"x\" is not permitted to log in",
                Refusal::LoginDisabled,
            ),
            ("28000", "InitializeSessionUserId", "role \"x\" does not exist", Refusal::UnknownAccount),
            ("28000", "InitializeSessionUserId", "Rolle »x« existiert nicht", Refusal::Other),
            ("3D000", "InitPostgres", "…", Refusal::NoDatabase),
            ("53300", "ProcessStartupPacket", "…", Refusal::TooManyConnections),
            ("57P03", "ProcessStartupPacket", "…", Refusal::WarmingUp),
            ("42501", "CheckMyDatabase", "…", Refusal::NoAccessRule),
            ("XX000", "", "…", Refusal::Other),
        ] {
            assert_eq!(fault(state, routine, words).class(), wanted, "{state} {routine} {words}");
        }
    }

    #[test]
    fn a_server_cannot_ask_for_hashing_without_end() {
        assert_eq!(rounds(b"r=abc,s=c2FsdA==,i=4096"), Some(4096));
        assert_eq!(rounds(b"r=abc,s=c2FsdA=="), None);
        assert_eq!(rounds(b"i=99999999999999999999"), None);
        assert!(rounds(b"r=a,s=b,i=4294967295").is_some_and(|n| n > ROUNDS));
    }
}
