//! What a server's own rows say of an account, read with the rights of its administrator: whether it is
//! there, may log in from where it comes, has the database, and whether a password is the right one. Nobody
//! logs in for that as the account itself, so nothing is counted against it.
mod mysql;
mod postgresql;

use crate::host::{Engine, LoginAnswer, Refusal, Secret};
use std::net::IpAddr;

/// Who wants in, where to, and from where.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Wish<'a> {
    pub(crate) account: &'a str,
    pub(crate) secret: Option<&'a Secret>,
    pub(crate) database: Option<&'a str>,
    /// The address from which it comes; `None` over a Unix socket.
    pub(crate) from: Option<IpAddr>,
}

/// What the rows say.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Said {
    /// Nothing stands in its way.
    Well,
    /// It is refused, for this reason, in plain words.
    Refused(Refusal, String),
    /// The rows do not tell.
    Unknown,
}

/// A text as SQL writes one; `None` for one that could be read otherwise.
fn literal(text: &str) -> Option<String> {
    let plain = !text.is_empty() && text.len() < 256 && !text.chars().any(|c| c.is_control() || c == '\\');
    plain.then(|| format!("'{}'", text.replace('\'', "''")))
}

/// The questions to ask a server as its administrator; `None` where there are none.
pub(crate) fn questions(engine: Engine, wish: &Wish) -> Option<Vec<String>> {
    match engine {
        Engine::Postgresql => postgresql::questions(wish),
        Engine::Mysql => mysql::questions(wish),
        Engine::Redis => None,
    }
}

/// What the answers to these questions say.
pub(crate) fn judge(engine: Engine, wish: &Wish, answer: &LoginAnswer) -> Said {
    match engine {
        Engine::Postgresql => postgresql::judge(wish, answer),
        Engine::Mysql => mysql::judge(wish, answer),
        Engine::Redis => Said::Unknown,
    }
}

/// One column of a row.
fn column(row: &[Option<String>], at: usize) -> &str {
    row.get(at).and_then(Option::as_deref).unwrap_or_default()
}
