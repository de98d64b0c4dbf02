//! What is asked of a server of data beyond whether it answers: to let an account in, and what it says of
//! itself.
use schemars::JsonSchema;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use std::fmt;
use std::net::IpAddr;

/// A family of servers that speak one protocol.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Engine {
    /// MySQL and MariaDB.
    Mysql,
    /// PostgreSQL.
    Postgresql,
    /// Redis and its fork.
    Redis,
}

impl Engine {
    /// Its name in sentences.
    pub fn spelled(self) -> &'static str {
        match self {
            Self::Mysql => "MySQL",
            Self::Postgresql => "PostgreSQL",
            Self::Redis => "Redis",
        }
    }
    /// The port on which it listens unless it is told otherwise.
    pub fn port(self) -> u16 {
        match self {
            Self::Mysql => 3306,
            Self::Postgresql => 5432,
            Self::Redis => 6379,
        }
    }
    /// The kind of service.
    pub fn kind(self) -> &'static str {
        match self {
            Self::Mysql => "mysql",
            Self::Postgresql => "postgresql",
            Self::Redis => "redis",
        }
    }
}

/// A value that is never shown nor written: a record holds [`crate::secrets::MASK`] in its place, as it does
/// in the file that the value came from, so that both are the same question again.
#[derive(Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Secret(String);

impl Secret {
    /// Keeps a value.
    pub fn new(value: impl Into<String>) -> Self {
        Self(value.into())
    }
    /// The value, for who must send it.
    pub fn reveal(&self) -> &str {
        &self.0
    }
    /// Whether it is only the mask of one.
    pub fn is_masked(&self) -> bool {
        self.0.contains(crate::secrets::MASK)
    }
}

impl fmt::Debug for Secret {
    fn fmt(&self, f: &mut fmt::Formatter) -> fmt::Result {
        f.write_str(crate::secrets::MASK)
    }
}

impl Serialize for Secret {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(crate::secrets::MASK)
    }
}

impl<'de> Deserialize<'de> for Secret {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        String::deserialize(deserializer).map(Self)
    }
}

/// What to ask a server of data.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub struct LoginRequest {
    /// Its family.
    pub engine: Engine,
    /// Address to connect to.
    pub address: IpAddr,
    /// Port to connect to.
    pub port: u16,
    /// A Unix socket in place of address and port.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub socket: Option<String>,
    /// The account of the server; empty where it knows none.
    pub account: String,
    /// What lets it in.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub secret: Option<Secret>,
    /// The database to use.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub database: Option<String>,
    /// The account of the host under which the connection is made, for servers that ask who their peer is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub peer: Option<u32>,
    /// Questions that change nothing, asked once it is in.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub questions: Vec<String>,
}

/// Why a server did not let an account in.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Refusal {
    /// It knows no such account.
    UnknownAccount,
    /// The account is there, and the password is another one.
    WrongPassword,
    /// One of both; the server does not tell which.
    AccountOrPassword,
    /// The account may not log in at all.
    LoginDisabled,
    /// Its password has expired.
    PasswordExpired,
    /// No rule lets it in from there, or to that database.
    NoAccessRule,
    /// It has no such database.
    NoDatabase,
    /// All its connections are taken.
    TooManyConnections,
    /// It wants another sort of connection: with TLS, or without.
    Tls,
    /// It is still starting.
    WarmingUp,
    /// For another reason, which its own words tell.
    Other,
}

impl Refusal {
    /// In a sentence about an account.
    pub fn spelled(self) -> &'static str {
        match self {
            Self::UnknownAccount => "it knows no such account",
            Self::WrongPassword => "the password is wrong",
            Self::AccountOrPassword => "the account or the password is wrong",
            Self::LoginDisabled => "the account may not log in",
            Self::PasswordExpired => "the password has expired",
            Self::NoAccessRule => "no access rule lets it in",
            Self::NoDatabase => "the database does not exist",
            Self::TooManyConnections => "all its connections are taken",
            Self::Tls => "the encryption of the connection does not suit it",
            Self::WarmingUp => "it is still starting",
            Self::Other => "it gives another reason",
        }
    }
}

/// What a server of data says of itself.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Greeting {
    /// Its version, as it spells it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub version: Option<String>,
    /// It is not ready yet, in its own words.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub starting: Option<String>,
    /// It takes nobody now, in its own words.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub refusing: Option<String>,
    /// Whether it follows another server and takes no writes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub standby: Option<bool>,
}

/// How a login ended.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum LoginOutcome {
    /// It was let in.
    Accepted,
    /// It was not.
    Refused(Refusal),
    /// It was not tried: a way to prove oneself that is not spoken here, or a connection that could not be
    /// made under another account.
    NotTried(String),
    /// Nobody takes the connection.
    Unreachable(String),
    /// What answers speaks another protocol, or breaks off.
    NotSpoken(String),
}

/// What came of a login.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct LoginAnswer {
    /// How it ended.
    pub outcome: LoginOutcome,
    /// The server's own words about it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub words: Option<String>,
    /// What it says of itself.
    #[serde(default)]
    pub greeting: Greeting,
    /// Rows that came of each question; `None` where the server would not answer it.
    #[serde(default)]
    pub rows: Vec<Option<Vec<Row>>>,
}

/// A row of an answer: `None` is what the server has no value for.
pub type Row = Vec<Option<String>>;

impl LoginAnswer {
    /// An answer of nothing but its end.
    pub fn ended(outcome: LoginOutcome) -> Self {
        Self { outcome, words: None, greeting: Greeting::default(), rows: Vec::new() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_secret_is_neither_shown_nor_written() {
        let secret = Secret::new("ebb-tide-7");
        assert_eq!(format!("{secret:?}"), "MASKED");
        assert_eq!(serde_json::to_string(&secret).unwrap(), "\"MASKED\"");
        let back: Secret = serde_json::from_str("\"MASKED\"").unwrap();
        assert!(back.is_masked() && !secret.is_masked() && secret.reveal() == "ebb-tide-7");
    }
}
