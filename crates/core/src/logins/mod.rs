//! What a server's own rows say of an account, read with the rights of its administrator: whether it is
//! there, may log in from where it comes, has the database, and whether a password is the right one. Nobody
//! logs in for that as the account itself, so nothing is counted against it.
mod mysql;
mod postgresql;

use crate::finding::Subject;
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

/// What a person has to do at the server so that it lets an account in, and the command of the server's own
/// client; nothing here is ever run.
pub(crate) fn remedy(subject: &Subject) -> Option<(String, String)> {
    // What a shell or SQL could read otherwise is left to the person.
    let plain = |name: &Option<String>| {
        name.clone().filter(|n| !n.is_empty() && n.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'_'))
    };
    let account = plain(&subject.account)?;
    let host = subject.address.map_or_else(|| "localhost".to_owned(), |a| a.to_string());
    let database = plain(&subject.database);
    let (what, command) = match (subject.engine?, subject.reason?, database) {
        (Engine::Postgresql, Refusal::LoginDisabled, _) => {
            ("Allow the role to log in.", format!("psql -c 'ALTER ROLE {account} LOGIN'"))
        }
        (Engine::Postgresql, Refusal::UnknownAccount, _) => {
            ("Create the role; its password is asked for.", format!("createuser --pwprompt {account}"))
        }
        (Engine::Postgresql, Refusal::WrongPassword | Refusal::AccountOrPassword, _) => (
            "Give the role the password of the application, or correct the application's.",
            format!("psql -c '\\password {account}'"),
        ),
        (Engine::Postgresql, Refusal::PasswordExpired, _) => (
            "Let the password be valid again.",
            format!("psql -c \"ALTER ROLE {account} VALID UNTIL 'infinity'\""),
        ),
        (Engine::Postgresql, Refusal::NoDatabase, Some(database)) => {
            ("Create the database.", format!("createdb --owner {account} {database}"))
        }
        (Engine::Mysql, Refusal::LoginDisabled, _) => {
            ("Unlock the account.", format!("mysql -e \"ALTER USER '{account}'@'{host}' ACCOUNT UNLOCK\""))
        }
        (Engine::Mysql, Refusal::PasswordExpired, _) => (
            "Let the password be valid again.",
            format!("mysql -e \"ALTER USER '{account}'@'{host}' PASSWORD EXPIRE NEVER\""),
        ),
        (Engine::Mysql, Refusal::NoDatabase, Some(database)) => {
            ("Create the database.", format!("mysql -e 'CREATE DATABASE {database}'"))
        }
        _ => return None,
    };
    let command = match subject.engine? {
        Engine::Postgresql => format!("sudo -u postgres {command}"),
        _ => format!("sudo {command}"),
    };
    Some((what.to_owned(), command))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn remedies_name_the_statement_and_never_what_could_be_read_otherwise() {
        let subject = Subject {
            engine: Some(Engine::Postgresql),
            reason: Some(Refusal::LoginDisabled),
            account: Some("desk".into()),
            ..Subject::default()
        };
        let command = remedy(&subject).map(|r| r.1);
        assert_eq!(command.as_deref(), Some("sudo -u postgres psql -c 'ALTER ROLE desk LOGIN'"));
        for account in ["o'x", "a b", "$(x)", ""] {
            assert_eq!(remedy(&Subject { account: Some(account.into()), ..subject.clone() }), None);
        }
        assert_eq!(remedy(&Subject { reason: Some(Refusal::Other), ..subject }), None);
    }
}
