//! MySQL and MariaDB: the rows of accounts and hosts, and the databases.
use super::{Said, Wish, column, literal};
use crate::host::{LoginAnswer, Refusal, Row};
use sha1::{Digest, Sha1};
use std::net::IpAddr;

pub(super) fn questions(wish: &Wish) -> Option<Vec<String>> {
    let account = literal(wish.account)?;
    let mut all = vec![
        format!(
            "SELECT user, host, plugin, authentication_string FROM mysql.user WHERE user IN ({account}, '')"
        ),
        // Only one of the two families answers each of these.
        format!(
            "SELECT host, JSON_VALUE(Priv, '$.account_locked'), JSON_VALUE(Priv, '$.password_last_changed'), \
             JSON_VALUE(Priv, '$.ssl_type') FROM mysql.global_priv WHERE user = {account}"
        ),
        format!(
            "SELECT host, account_locked, password_expired, ssl_type FROM mysql.user WHERE user = {account}"
        ),
    ];
    if let Some(database) = wish.database {
        let database = literal(database)?;
        all.push(format!(
            "SELECT SCHEMA_NAME FROM information_schema.SCHEMATA WHERE SCHEMA_NAME = {database}"
        ));
    }
    Some(all)
}

pub(super) fn judge(wish: &Wish, answer: &LoginAnswer) -> Said {
    let [Some(accounts), maria, mysql, rest @ ..] = answer.rows.as_slice() else { return Said::Unknown };
    let own: Vec<&Row> = accounts.iter().filter(|row| column(row, 0) == wish.account).collect();
    let anonymous = accounts.iter().any(|row| column(row, 0).is_empty());
    if own.is_empty() {
        // One without a name takes whom no other row is for.
        return match anonymous {
            true => Said::Unknown,
            false => {
                Said::Refused(Refusal::UnknownAccount, format!("the account {} does not exist", wish.account))
            }
        };
    }
    let fits: Vec<(&Row, Option<bool>)> =
        own.into_iter().map(|row| (row, host_fits(column(row, 1), wish.from))).collect();
    if fits.iter().all(|(_, fits)| *fits == Some(false)) {
        let hosts = fits.iter().map(|(row, _)| column(row, 1)).collect::<Vec<_>>().join(", ");
        let said = format!("the account {} may come from {hosts} alone", wish.account);
        return if anonymous { Said::Unknown } else { Said::Refused(Refusal::NoAccessRule, said) };
    }
    let [row] =
        fits.iter().filter(|(_, fits)| *fits != Some(false)).map(|(row, _)| *row).collect::<Vec<_>>()[..]
    else {
        return Said::Unknown;
    };
    if fits.iter().any(|(_, fits)| fits.is_none()) {
        return Said::Unknown;
    }
    let host = column(row, 1);
    let of_host = |rows: &Option<Vec<Row>>| {
        rows.as_ref().and_then(|rows| rows.iter().find(|row| column(row, 0) == host).cloned())
    };
    let (maria, mysql) = (of_host(maria), of_host(mysql));
    let locked = maria.as_ref().is_some_and(|r| matches!(column(r, 1), "1" | "true"))
        || mysql.as_ref().is_some_and(|r| column(r, 1) == "Y");
    let expired = maria.as_ref().is_some_and(|r| column(r, 2) == "0")
        || mysql.as_ref().is_some_and(|r| column(r, 2) == "Y");
    if locked {
        return Said::Refused(Refusal::LoginDisabled, "the account is locked".to_owned());
    }
    if let Some(secret) = wish.secret.filter(|s| !s.is_masked())
        && column(row, 2) == "mysql_native_password"
        && is_right(secret.reveal(), column(row, 3)) == Some(false)
    {
        return Said::Refused(Refusal::WrongPassword, "the password is another one".to_owned());
    }
    if expired {
        return Said::Refused(Refusal::PasswordExpired, "its password has expired".to_owned());
    }
    if let [Some(found)] = rest
        && found.is_empty()
        && let Some(database) = wish.database
    {
        return Said::Refused(Refusal::NoDatabase, format!("the database {database} does not exist"));
    }
    Said::Unknown
}

/// Whether a row's host is that from which a client comes; names are not looked up here, but for that of the
/// loopback, which the server itself knows as `localhost`.
fn host_fits(host: &str, from: Option<IpAddr>) -> Option<bool> {
    let host = host.to_ascii_lowercase();
    if host.is_empty() || host == "%" {
        return Some(true);
    }
    let Some(from) = from else { return Some(host == "localhost") };
    if let Ok(address) = host.parse::<IpAddr>() {
        return Some(address == from);
    }
    if host == "localhost" {
        // With names looked up the loopback is localhost; whether they are, the server decides.
        return if from.is_loopback() { None } else { Some(false) };
    }
    if let Some(front) = host.strip_suffix('%')
        && front.bytes().all(|b| b.is_ascii_digit() || b == b'.')
    {
        return Some(from.to_string().starts_with(front));
    }
    None
}

/// Whether a password is the one that a hash was made of (`mysql_native_password`).
fn is_right(secret: &str, hash: &str) -> Option<bool> {
    if hash.is_empty() {
        return Some(secret.is_empty());
    }
    let hash =
        hash.strip_prefix('*').filter(|h| h.len() == 40 && h.bytes().all(|b| b.is_ascii_hexdigit()))?;
    let own: String = Sha1::digest(Sha1::digest(secret)).iter().map(|b| format!("{b:02X}")).collect();
    Some(own.eq_ignore_ascii_case(hash))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::host::{LoginOutcome, Secret};

    fn rows(text: &str) -> Option<Vec<Row>> {
        let row = |line: &str| line.split('|').map(|c| Some(c.to_owned())).collect();
        Some(text.lines().map(row).collect())
    }

    fn said(accounts: &str, state: &str, databases: &str, secret: &str, from: Option<&str>) -> Said {
        let secret = Secret::new(secret);
        let wish = Wish {
            account: "desk",
            secret: Some(&secret),
            database: Some("sailings"),
            from: from.map(|f| f.parse().unwrap()),
        };
        assert_eq!(questions(&wish).unwrap().len(), 4);
        let mut answer = LoginAnswer::ended(LoginOutcome::Accepted);
        answer.rows = vec![rows(accounts), None, rows(state), rows(databases)];
        judge(&wish, &answer)
    }

    #[test]
    fn rows_say_why_an_account_is_refused() {
        // The hash of "gull" (SELECT PASSWORD('gull'), MariaDB 10.11).
        let gull = "desk|127.0.0.1|mysql_native_password|*9284DA91E398E715C0EE2CF03AE2A88BB8216B8E";
        let here = Some("127.0.0.1");
        let fine = "127.0.0.1|N|N|";
        for (accounts, state, databases, secret, from, wanted) in [
            (gull, fine, "sailings", "tern", here, Some(Refusal::WrongPassword)),
            ("", "", "sailings", "gull", here, Some(Refusal::UnknownAccount)),
            (gull, "127.0.0.1|Y|N|", "sailings", "gull", here, Some(Refusal::LoginDisabled)),
            (gull, "127.0.0.1|N|Y|", "sailings", "gull", here, Some(Refusal::PasswordExpired)),
            (gull, fine, "", "gull", here, Some(Refusal::NoDatabase)),
            (gull, fine, "sailings", "gull", Some("192.0.2.7"), Some(Refusal::NoAccessRule)),
            (gull, fine, "sailings", "gull", None, Some(Refusal::NoAccessRule)),
            (gull, fine, "sailings", "gull", here, None),
            // An account without a name may take it; a name may be looked up.
            ("|localhost|mysql_native_password|", "", "sailings", "gull", here, None),
            ("desk|quay2|x|", fine, "sailings", "gull", here, None),
            ("desk|localhost|mysql_native_password|*00", fine, "sailings", "gull", here, None),
        ] {
            let found = match said(accounts, state, databases, secret, from) {
                Said::Refused(reason, _) => Some(reason),
                _ => None,
            };
            assert_eq!(found, wanted, "{accounts} {state} {databases} {from:?}");
        }
    }
}
